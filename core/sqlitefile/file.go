// Package sqlitefile reads the SQLite database file format, version 3, as its
// specification writes it ("Database File Format", sections cited as §).
//
// It opens nothing but the io.ReaderAt it is given, writes nothing, trusts no
// length and follows no pointer twice. It knows pages and their versions, the
// b-trees that the schema leads to, the free list, a write-ahead log and a
// rollback journal. What deleted content is left is package salvage's to say.
package sqlitefile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Encoding is the text encoding of a database (§1.3.13).
type Encoding uint32

const (
	UTF8    Encoding = 1
	UTF16LE Encoding = 2
	UTF16BE Encoding = 3
)

// Header is the database header, the first 100 bytes of the file (§1.3).
// All numbers are big-endian in the file.
type Header struct {
	PageSize      int // bytes, 512 to 65536
	WriteVersion  byte
	ReadVersion   byte
	Reserved      int // unused bytes at the end of each page
	ChangeCounter uint32
	PageCount     uint32 // as the header says; File.Pages is what there is
	FirstTrunk    uint32
	FreePages     uint32
	SchemaCookie  uint32
	SchemaFormat  uint32
	LargestRoot   uint32 // not 0: auto_vacuum or incremental_vacuum
	Encoding      Encoding
	UserVersion   uint32
	ApplicationID uint32
	VersionValid  uint32
	WriterVersion uint32 // SQLITE_VERSION_NUMBER of the last writer
}

// Magic is how every database file begins (§1.3.1).
const Magic = "SQLite format 3\x00"

// ErrNotDatabase is returned for a file that does not begin with a database
// header.
var ErrNotDatabase = errors.New("not a SQLite database, version 3")

// FormatError says where a file breaks the format.
type FormatError struct {
	Page   uint32 // from 1; 0 if no page is concerned
	Offset int    // in the page, or in the file if Page is 0
	What   string
}

func (e *FormatError) Error() string {
	if e.Page == 0 {
		return fmt.Sprintf("offset %d: %s", e.Offset, e.What)
	}
	return fmt.Sprintf("page %d, offset %d: %s", e.Page, e.Offset, e.What)
}

// File is a database open for reading. It is not safe for concurrent use.
type File struct {
	Header
	Pages uint32 // pages that are there whole, in the file or its log

	// Unnumbered says that a page's number is only that of its place: what leads to a page by its number leads nowhere.
	Unnumbered bool

	parts    [3]io.ReaderAt // by Part; nil if there is none
	size     int64
	over     map[uint32]Version // current versions that lie outside of the database file
	versions []Version          // others
	adopted  []Object           // the schema of another database, if its own is gone
	spill    []byte             // scratch for overflow pages
	cache    [recentPages]*Page // see Find
}

// Open reads the header of the database in r, which is size bytes long.
func Open(r io.ReaderAt, size int64) (*File, error) {
	var b [100]byte
	if size < int64(len(b)) {
		return nil, fmt.Errorf("%w: %d bytes are too few", ErrNotDatabase, size)
	}
	if _, err := r.ReadAt(b[:], 0); err != nil {
		return nil, fmt.Errorf("reading the database header: %w", err)
	}
	if string(b[:16]) != Magic {
		return nil, ErrNotDatabase
	}
	f := &File{size: size, over: map[uint32]Version{}}
	f.parts[Main] = r
	f.Header = parseHeader(&b)
	if f.PageSize == 1 {
		f.PageSize = 65536 // §1.3.2
	}
	if f.PageSize < 512 || f.PageSize > 65536 || f.PageSize&(f.PageSize-1) != 0 {
		return nil, &FormatError{Offset: 16, What: fmt.Sprintf("page size %d is not a power of two from 512 to 65536", f.PageSize)}
	}
	if f.Usable() < 480 {
		return nil, &FormatError{Offset: 20, What: fmt.Sprintf("%d reserved bytes leave less than 480 of each page", f.Reserved)}
	}
	if f.Encoding == 0 {
		f.Encoding = UTF8 // an empty database has none yet
	}
	if f.Encoding > UTF16BE {
		return nil, &FormatError{Offset: 56, What: fmt.Sprintf("unknown text encoding %d", f.Encoding)}
	}
	f.Pages = f.Stored()
	// §1.3.7: the header's count is to be believed only if the change counter
	// agrees with the version-valid-for number.
	if f.PageCount > 0 && f.ChangeCounter == f.VersionValid && f.PageCount < f.Pages {
		f.Pages = f.PageCount
	}
	return f, nil
}

func parseHeader(b *[100]byte) Header {
	u32 := func(o int) uint32 { return binary.BigEndian.Uint32(b[o:]) }
	return Header{
		PageSize: int(binary.BigEndian.Uint16(b[16:])), WriteVersion: b[18], ReadVersion: b[19], Reserved: int(b[20]),
		ChangeCounter: u32(24), PageCount: u32(28), FirstTrunk: u32(32), FreePages: u32(36),
		SchemaCookie: u32(40), SchemaFormat: u32(44), LargestRoot: u32(52), Encoding: Encoding(u32(56)),
		UserVersion: u32(60), ApplicationID: u32(68), VersionValid: u32(92), WriterVersion: u32(96),
	}
}

// Fork returns a File on the same bytes that can be used beside f.
func (f *File) Fork() *File {
	c := *f
	c.spill, c.cache = nil, [recentPages]*Page{}
	return &c
}

// Usable is the number of bytes of each page that hold content.
func (f *File) Usable() int { return f.PageSize - f.Reserved }

// PageOffset is where page n begins, in bytes from the start of the file.
func (f *File) PageOffset(n uint32) int64 { return int64(n-1) * int64(f.PageSize) }

// ReadPage reads the current version of page n into buf, which must hold
// PageSize bytes.
func (f *File) ReadPage(n uint32, buf []byte) error {
	if n == 0 || n > f.Pages {
		return &FormatError{Page: n, What: fmt.Sprintf("there is no such page; the last is %d", f.Pages)}
	}
	if err := f.ReadVersion(f.Current(n).Place, buf); err != nil {
		return fmt.Errorf("page %d: %w", n, err)
	}
	return nil
}

// maxPayload bounds what one row may claim: SQLite's own hard limit on the
// length of a row, in bytes.
const maxPayload = 1<<31 - 1

// FreePage is a page that the free list names (§1.5).
type FreePage struct {
	N     uint32
	Trunk bool
	Used  int // bytes at the start of a trunk page that the list itself uses
}

// FreeList walks the free list. A cycle, or a number out of range, ends the
// walk with an error.
func (f *File) FreeList(yield func(FreePage, error) bool) {
	buf := make([]byte, f.PageSize)
	seen := newPageSet(f.Pages)
	for n := f.FirstTrunk; n != 0; {
		if n > f.Pages || !seen.add(n) {
			yield(FreePage{}, &FormatError{Page: n, What: "the free list leads to a page twice, or out of the file"})
			return
		}
		if err := f.ReadPage(n, buf); err != nil {
			yield(FreePage{}, err)
			return
		}
		next, count := binary.BigEndian.Uint32(buf), binary.BigEndian.Uint32(buf[4:])
		if int64(count) > int64(f.Usable()/4-2) {
			yield(FreePage{}, &FormatError{Page: n, Offset: 4, What: fmt.Sprintf("a free list trunk cannot name %d pages", count)})
			return
		}
		if !yield(FreePage{N: n, Trunk: true, Used: 8 + 4*int(count)}, nil) {
			return
		}
		for i := range int(count) {
			leaf := binary.BigEndian.Uint32(buf[8+4*i:])
			if leaf == 0 || leaf > f.Pages || !seen.add(leaf) {
				if !yield(FreePage{}, &FormatError{Page: n, Offset: 8 + 4*i, What: fmt.Sprintf("free page %d is out of the file or named twice", leaf)}) {
					return
				}
				continue
			}
			if !yield(FreePage{N: leaf}, nil) {
				return
			}
		}
		n = next
	}
}

// pageSet remembers pages already visited: one bit a page.
type pageSet []uint64

func newPageSet(pages uint32) pageSet { return make(pageSet, pages/64+1) }

func (s pageSet) add(n uint32) bool {
	if int(n/64) >= len(s) || s[n/64]&(1<<(n%64)) != 0 {
		return false
	}
	s[n/64] |= 1 << (n % 64)
	return true
}
