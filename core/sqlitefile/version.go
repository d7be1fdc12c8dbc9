package sqlitefile

import (
	"cmp"
	"fmt"
	"slices"
)

// Part is one of the files that make up a database.
type Part byte

const (
	Main    Part = iota // the database file itself
	Log                 // its write-ahead log
	Journal             // its rollback journal
)

// Suffix is what the part's name adds to the database's.
func (p Part) Suffix() string { return [...]string{"", "-wal", "-journal"}[p] }

// Place is where the content of a page starts.
type Place struct {
	Part   Part
	Offset int64
}

// State says what is known of the transaction that wrote a page version.
type State byte

const (
	Older      State = iota // committed, and replaced since
	Unfinished              // never committed
	Unproven                // nothing tells: its checksum does not hold
)

// Version is a version of a page.
type Version struct {
	Page uint32
	Place
	Frame  int // from 1, of the log, or the record of the journal; 0 in the database file
	Commit int // the frame that ends its transaction, 0 if none does or it is not known
	State  State
	// Generation counts the transactions whose records a journal holds, from the last,
	// 1, to the first: behind its own records those of earlier ones may be left.
	Generation int
}

// Current is the current version of page n.
func (f *File) Current(n uint32) Version {
	if v, ok := f.over[n]; ok {
		return v
	}
	return Version{Page: n, Place: Place{Main, f.PageOffset(n)}}
}

// Stored is the number of pages that the database file has room for, whatever its
// header says.
func (f *File) Stored() uint32 { return uint32(min(f.size/int64(f.PageSize), 1<<32-2)) }

// Versions returns the versions of pages that are not current: pages of the
// database file that its log or a hot journal replaces, frames of the log, and
// records of the journal. They come by part and offset.
func (f *File) Versions() []Version {
	out := slices.Clone(f.versions)
	for n, v := range f.over {
		if n > f.Pages { // the database has shrunk since
			v.State = Older
			out = append(out, v)
		}
		if n <= f.Stored() {
			state := Older
			if v.Part == Journal { // what a hot journal undoes was never committed
				state = Unfinished
			}
			out = append(out, Version{Page: n, Place: Place{Main, f.PageOffset(n)}, State: state})
		}
	}
	slices.SortFunc(out, func(a, b Version) int {
		return cmp.Or(cmp.Compare(a.Part, b.Part), cmp.Compare(a.Offset, b.Offset))
	})
	return out
}

// ReadVersion reads the page at pl into buf, which must hold PageSize bytes.
func (f *File) ReadVersion(pl Place, buf []byte) error {
	r := f.parts[pl.Part]
	if r == nil {
		return fmt.Errorf("there is no %s beside the database", pl.Part.Suffix())
	}
	if _, err := r.ReadAt(buf[:f.PageSize], pl.Offset); err != nil {
		return fmt.Errorf("reading the page at offset %d: %w", pl.Offset, err)
	}
	return nil
}

// ReadAhead reads the database file from offset on into buf, which it cuts to what
// there is.
func (f *File) ReadAhead(offset int64, buf *[]byte) error {
	n, err := f.parts[Main].ReadAt((*buf)[:min(int64(len(*buf)), max(0, f.size-offset))], offset)
	*buf = (*buf)[:n]
	return err
}

// Base is the database without its log and journal, nil if it has neither or does
// not open so.
func (f *File) Base() *File {
	if len(f.over) == 0 {
		return nil
	}
	b, err := Open(f.parts[Main], f.size)
	if err != nil {
		return nil
	}
	return b
}
