package sqlitefile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

const (
	walHeader   = 32
	frameHeader = 24
)

// OpenLog lays the committed frames of a write-ahead log (§4) over the database,
// as a reader of the database would see them. A log that is empty, or of another
// generation, changes nothing of what is current. All other frames that hold a
// page are told by Versions. It reads the log once. A fault is returned beside
// what could be read, also where checksums do not hold: such frames are not current.
func (f *File) OpenLog(r io.ReaderAt, size int64) error {
	f.parts[Log] = r
	if size < walHeader {
		return nil
	}
	h := make([]byte, walHeader)
	if _, err := r.ReadAt(h, 0); err != nil {
		return fmt.Errorf("reading the log's header: %w", err)
	}
	l := logReader{f: f, order: binary.LittleEndian, over: map[uint32]Version{}, pending: map[uint32]Version{}}
	magic := binary.BigEndian.Uint32(h)
	if magic&1 == 1 {
		l.order = binary.BigEndian
	}
	var fault error
	switch pageSize := int64(binary.BigEndian.Uint32(h[8:])); {
	case magic&^1 != 0x377f0682:
		fault = fmt.Errorf("the log begins with %08x, which is not a write-ahead log", magic)
	case pageSize != int64(f.PageSize):
		return fmt.Errorf("the log's pages have %d bytes, the database's %d", pageSize, f.PageSize)
	default:
		walSum(l.order, h[:24], &l.sum)
		// §4.1: a log whose header does not check has no valid frame.
		if l.valid = l.sum == storedSum(h[24:]); !l.valid {
			fault = errors.New("the checksum of the log's header does not hold: none of its frames is current")
		}
		l.salts = [8]byte(h[16:24])
	}
	pages := f.Pages
	frame := make([]byte, frameHeader+f.PageSize)
	for i, off := 1, int64(walHeader); off+int64(len(frame)) <= size; i, off = i+1, off+int64(len(frame)) {
		if _, err := r.ReadAt(frame, off); err != nil {
			return fmt.Errorf("reading the log at offset %d: %w", off, err)
		}
		if n := l.frame(frame, Version{Page: binary.BigEndian.Uint32(frame), Place: Place{Log, off + frameHeader}, Frame: i}); n != 0 {
			pages = n
		}
	}
	l.endRun()
	// A page beyond the file's end was written to the log since: the database cannot have
	// more pages than the file and the frames have, whatever a frame says.
	most := f.Stored() + uint32(min((size-walHeader)/int64(len(frame)), 1<<31))
	pages = min(pages, max(most, f.Pages))
	for n, v := range l.over {
		if n > most {
			v.State = Unproven
			l.others = append(l.others, v)
			delete(l.over, n)
		}
	}
	f.versions = append(f.versions, l.others...)
	if err := unproven(l.others); err != nil {
		fault = errors.Join(fault, err)
	}
	if len(l.over) == 0 {
		return fault
	}
	for n, v := range l.over {
		f.over[n] = v
	}
	// A page beyond the file's end must be in the log to be there.
	for pages > f.Pages {
		if _, ok := l.over[pages]; ok {
			break
		}
		pages--
	}
	f.Pages = pages
	return errors.Join(fault, f.readHeader())
}

// unproven names the frames whose checksums do not hold.
func unproven(frames []Version) error {
	n, first := 0, 0
	for _, v := range frames {
		if v.State == Unproven {
			if n++; n == 1 || v.Frame < first {
				first = v.Frame
			}
		}
	}
	if n == 0 {
		return nil
	}
	if n == 1 {
		return fmt.Errorf("the checksum of frame %d of the log does not hold: what is found in it says so", first)
	}
	return fmt.Errorf("the checksums of %d frames of the log do not hold, of frame %d first: what is found in them says so", n, first)
}

// readHeader takes over the header of page 1 where that lies outside of the
// database file. The size of pages stays.
func (f *File) readHeader() error {
	v, ok := f.over[1]
	if !ok {
		return nil
	}
	var page1 [100]byte
	if _, err := f.parts[v.Part].ReadAt(page1[:], v.Offset); err != nil {
		return fmt.Errorf("reading the current page 1: %w", err)
	}
	h := parseHeader(&page1)
	h.PageSize, h.Reserved = f.PageSize, f.Reserved
	if h.Encoding == 0 || h.Encoding > UTF16BE {
		h.Encoding = f.Encoding
	}
	f.Header = h
	return nil
}

// logReader sorts the frames of a log.
type logReader struct {
	f       *File
	order   binary.ByteOrder
	salts   [8]byte
	sum     [2]uint32
	valid   bool // the chain from the header holds so far
	over    map[uint32]Version
	pending map[uint32]Version // of the transaction that is being read, in the valid part
	others  []Version
	run     []Version // frames beyond the valid part that may be of one transaction
	last    [2]uint32 // sum stored in the frame before
	lastIn  [8]byte   // its salts
	first   bool      // the frame is the first of its run: nothing before it to check it by
}

// frame takes the next frame; for the commit of a valid transaction it returns how
// many pages the database has then.
func (l *logReader) frame(b []byte, v Version) uint32 {
	commit, salts, stored := binary.BigEndian.Uint32(b[4:]), [8]byte(b[8:16]), storedSum(b[16:])
	if l.valid && salts == l.salts {
		s := l.sum
		walSum(l.order, b[:8], &s)
		walSum(l.order, b[frameHeader:], &s)
		if s == stored {
			l.sum, l.last, l.lastIn = s, stored, salts
			if old, ok := l.pending[v.Page]; ok {
				l.others = append(l.others, old)
			}
			l.pending[v.Page] = v
			if commit == 0 {
				return 0
			}
			frame := v.Frame
			for n, v := range l.pending {
				if old, ok := l.over[n]; ok {
					l.others = append(l.others, old)
				}
				v.State, v.Commit = Older, frame
				l.over[n] = v
			}
			clear(l.pending)
			return commit
		}
	}
	if l.valid { // the valid part ends here; what was not committed never was
		l.valid = false
		for _, v := range l.pending {
			v.State = Unfinished
			l.others = append(l.others, v)
		}
		clear(l.pending)
		l.first = true
		if salts == l.salts { // of the same generation, but its sum does not follow
			v.State = Unproven
		}
	}
	if v.Page == 0 || v.Page > 1<<31 {
		l.endRun()
		return 0
	}
	// Frames of one generation follow from each other's sums.
	s := l.last
	walSum(l.order, b[:8], &s)
	walSum(l.order, b[frameHeader:], &s)
	if salts != l.lastIn || l.first {
		l.endRun()
	} else if s != stored {
		l.endRun()
		v.State = Unproven
	}
	l.first = false
	l.last, l.lastIn = stored, salts
	l.run = append(l.run, v)
	if commit != 0 {
		for i := range l.run {
			if l.run[i].State != Unproven {
				l.run[i].State, l.run[i].Commit = Older, v.Frame
			}
		}
		l.others = append(l.others, l.run...)
		l.run = l.run[:0]
	}
	return 0
}

// endRun keeps the frames that no commit followed.
func (l *logReader) endRun() {
	for _, v := range l.run {
		if v.State != Unproven {
			v.State = Unfinished
		}
		l.others = append(l.others, v)
	}
	l.run = l.run[:0]
	if l.valid {
		for _, v := range l.pending {
			v.State = Unfinished
			l.others = append(l.others, v)
		}
		clear(l.pending)
	}
}

func storedSum(b []byte) [2]uint32 {
	return [2]uint32{binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])}
}

// walSum is the log's checksum (§4.2) over b, carried on in s.
func walSum(order binary.ByteOrder, b []byte, s *[2]uint32) {
	if order == binary.ByteOrder(binary.LittleEndian) {
		s0, s1 := s[0], s[1]
		for ; len(b) >= 8; b = b[8:] {
			s0 += binary.LittleEndian.Uint32(b) + s1
			s1 += binary.LittleEndian.Uint32(b[4:]) + s0
		}
		s[0], s[1] = s0, s1
		return
	}
	for ; len(b) >= 8; b = b[8:] {
		s[0] += order.Uint32(b) + s[1]
		s[1] += order.Uint32(b[4:]) + s[0]
	}
}
