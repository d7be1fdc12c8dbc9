package sqlitefile

import (
	"encoding/binary"
	"fmt"
	"io"
)

// wal is the committed part of a write-ahead log (§4).
type wal struct {
	r     io.ReaderAt
	pages map[uint32]int64 // page to the offset of its newest committed content
}

const (
	walHeader   = 32
	frameHeader = 24
)

// OpenLog lays the committed frames of a write-ahead log over the database, as
// a reader of the database would see them. A log that is empty, or of another
// generation, changes nothing. It reads the log once.
func (f *File) OpenLog(r io.ReaderAt, size int64) error {
	if size < walHeader {
		return nil
	}
	h := make([]byte, walHeader)
	if _, err := r.ReadAt(h, 0); err != nil {
		return fmt.Errorf("reading the log's header: %w", err)
	}
	magic := binary.BigEndian.Uint32(h)
	if magic&^1 != 0x377f0682 {
		return fmt.Errorf("the log begins with %08x, which is no write-ahead log", magic)
	}
	var order binary.ByteOrder = binary.LittleEndian
	if magic&1 == 1 {
		order = binary.BigEndian
	}
	pageSize := int64(binary.BigEndian.Uint32(h[8:]))
	if pageSize != int64(f.PageSize) {
		return fmt.Errorf("the log's pages have %d bytes, the database's %d", pageSize, f.PageSize)
	}
	var s [2]uint32
	walSum(order, h[:24], &s)
	if s[0] != binary.BigEndian.Uint32(h[24:]) || s[1] != binary.BigEndian.Uint32(h[28:]) {
		return nil // §4.1: a log whose header does not check has no valid frame
	}
	log := &wal{r: r, pages: map[uint32]int64{}}
	pending := map[uint32]int64{}
	pages := f.Pages
	frame := make([]byte, frameHeader+pageSize)
	for off := int64(walHeader); off+int64(len(frame)) <= size; off += int64(len(frame)) {
		if _, err := r.ReadAt(frame, off); err != nil {
			return fmt.Errorf("reading the log at offset %d: %w", off, err)
		}
		if string(frame[8:16]) != string(h[16:24]) {
			break // salts of an earlier generation
		}
		walSum(order, frame[:8], &s)
		walSum(order, frame[frameHeader:], &s)
		if s[0] != binary.BigEndian.Uint32(frame[16:]) || s[1] != binary.BigEndian.Uint32(frame[20:]) {
			break
		}
		pending[binary.BigEndian.Uint32(frame)] = off + frameHeader
		if n := binary.BigEndian.Uint32(frame[4:]); n != 0 { // a commit
			for p, o := range pending {
				log.pages[p] = o
			}
			clear(pending)
			pages = n
		}
	}
	if len(log.pages) == 0 {
		return nil
	}
	f.log = log
	// A page beyond the file's end must be in the log to be there.
	for pages > f.Pages && log.pages[pages] == 0 {
		pages--
	}
	f.Pages = pages
	if o, ok := log.pages[1]; ok {
		page1 := make([]byte, 100)
		if _, err := r.ReadAt(page1, o); err != nil {
			return fmt.Errorf("reading page 1 in the log: %w", err)
		}
		f.FirstTrunk = binary.BigEndian.Uint32(page1[32:])
		f.FreePages = binary.BigEndian.Uint32(page1[36:])
	}
	return nil
}

// walSum is the log's checksum (§4.2) over b, carried on in s.
func walSum(order binary.ByteOrder, b []byte, s *[2]uint32) {
	for i := 0; i+8 <= len(b); i += 8 {
		s[0] += order.Uint32(b[i:]) + s[1]
		s[1] += order.Uint32(b[i+4:]) + s[0]
	}
}
