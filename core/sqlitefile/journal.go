package sqlitefile

import (
	"encoding/binary"
	"fmt"
	"io"
)

const (
	journalMagic  = "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7"
	journalHeader = 28
)

// OpenJournal reads a rollback journal (§3): pages as they were before a
// transaction. A hot journal, one whose transaction was neither committed nor
// undone, is laid over the database, since that is what a reader would do first.
// Pages of a journal that is over, its header zeroed or overwritten, are told by
// Versions alone. A fault is returned beside what could be read.
func (f *File) OpenJournal(r io.ReaderAt, size int64) error {
	f.parts[Journal] = r
	j := journalReader{f: f, r: r, size: size, rec: make([]byte, f.PageSize+8)}
	var h [journalHeader]byte
	if size < int64(len(h)) {
		return nil
	}
	if _, err := r.ReadAt(h[:], 0); err != nil {
		return fmt.Errorf("reading the journal's header: %w", err)
	}
	if string(h[:8]) != journalMagic {
		return j.hunt(0)
	}
	if n := binary.BigEndian.Uint32(h[24:]); n != uint32(f.PageSize) {
		return fmt.Errorf("the journal's pages have %d bytes, the database's %d", n, f.PageSize)
	}
	sector, before := int64(binary.BigEndian.Uint32(h[20:])), binary.BigEndian.Uint32(h[16:])
	if sector < 512 || sector > 65536 || sector&(sector-1) != 0 {
		return &FormatError{Offset: 20, What: fmt.Sprintf("journal with sectors of %d bytes", sector)}
	}
	over := map[uint32]Version{}
	hot := true
	for at := int64(0); hot && at+sector <= size; {
		if _, err := r.ReadAt(h[:], at); err != nil || string(h[:8]) != journalMagic {
			break
		}
		count, nonce := int64(binary.BigEndian.Uint32(h[8:])), binary.BigEndian.Uint32(h[12:])
		at += sector
		room := (size - at) / int64(len(j.rec))
		if count == 1<<32-1 {
			count = room
		}
		i := int64(0)
		for ; i < min(count, room); i++ {
			v, got, err := j.record(at + i*int64(len(j.rec)))
			if err != nil {
				return err
			}
			if v.Page == 0 || got != nonce {
				hot = false // a reader stops here
				break
			}
			if _, twice := over[v.Page]; !twice {
				over[v.Page] = v
			}
		}
		if i == 0 {
			break
		}
		at += i * int64(len(j.rec))
		if rest := at % sector; rest != 0 {
			at += sector - rest
		}
		j.end = at
	}
	if len(over) == 0 {
		return j.hunt(0)
	}
	if err := j.hunt(j.end); err != nil {
		return err
	}
	for n, v := range over {
		f.over[n] = v
	}
	if before > 0 && before <= f.Stored() {
		f.Pages = before
	}
	return f.readHeader()
}

type journalReader struct {
	f     *File
	r     io.ReaderAt
	size  int64
	rec   []byte
	count int
	end   int64
}

// record reads the record at offset at; nonce is what its checksum starts from.
func (j *journalReader) record(at int64) (v Version, nonce uint32, err error) {
	if _, err := j.r.ReadAt(j.rec, at); err != nil {
		return v, 0, fmt.Errorf("reading the journal at offset %d: %w", at, err)
	}
	j.count++
	v = Version{Page: binary.BigEndian.Uint32(j.rec), Place: Place{Journal, at + 4}, Frame: j.count, Generation: 1}
	if v.Page > 1<<31 {
		v.Page = 0
	}
	data := j.rec[4 : 4+j.f.PageSize]
	nonce = binary.BigEndian.Uint32(j.rec[4+j.f.PageSize:])
	for i := j.f.PageSize - 200; i > 0; i -= 200 {
		nonce -= uint32(data[i])
	}
	return v, nonce, nil
}

// hunt looks for records where no header leads to them, from offset from on: after
// each size that a sector may have. Records of one transaction lie side by side and
// start their checksums from one nonce; behind those of the last one, records of
// earlier ones may be left.
func (j *journalReader) hunt(from int64) error {
	for sector := int64(512); sector <= 65536; sector *= 2 {
		var found, run []Version
		var nonce uint32
		generation := 1
		if from > 0 {
			generation++ // behind those of a hot journal
		}
		keep := func() {
			// One record alone proves nothing by its nonce; its page must look like one.
			if len(run) > 1 || len(run) == 1 && j.looksLikePage(run[0]) {
				found = append(found, run...)
			}
			run = run[:0]
		}
		j.count = 0
		for at := max(sector, from); at+int64(len(j.rec)) <= j.size; {
			v, n, err := j.record(at)
			if err != nil {
				return err
			}
			if v.Page == 0 || v.Page > j.f.Stored()+1<<16 {
				keep() // a further header, at the next sector
				if at = (at/sector + 1) * sector; len(found) == 0 {
					break
				}
				continue
			}
			if n != nonce {
				if keep(); len(found) > 0 {
					generation++
				}
			}
			nonce, v.Generation = n, generation
			run = append(run, v)
			at += int64(len(j.rec))
		}
		if keep(); len(found) > 0 {
			j.f.versions = append(j.f.versions, found...)
			return nil
		}
	}
	return nil
}

func (j *journalReader) looksLikePage(v Version) bool {
	buf := make([]byte, j.f.PageSize)
	if j.f.ReadVersion(v.Place, buf) != nil {
		return false
	}
	_, err := ParsePage(v.Page, buf[:j.f.Usable()])
	return err == nil
}
