// Package volume reads the volumes of a storage image: partition tables (MBR and GPT), FAT12, FAT16, FAT32,
// exFAT and ext4, with the files that their trees lead to and those that were deleted and of which the volume
// still knows where they lay.
//
// Everything is read from an [io.ReaderAt] and nothing is trusted: chains and trees are followed once, sizes
// are cut to what the image has, and of what is damaged the rest is read. Offsets are in bytes from the start of
// the image, so that every file leads to the bytes that it came from.
package volume

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
	"time"
	"unicode"
)

// Extent is a run of bytes of an image.
type Extent struct {
	Offset int64 // from the start of the image; Hole for zeros that are not stored
	Length int64
}

// Hole is the offset of what is not stored: a hole of a sparse file, or what lies past the length up to which
// a file was written.
const Hole = -1

// Format is what a volume is formatted as.
type Format string

// The formats that are read.
const (
	FAT12 Format = "FAT12"
	FAT16 Format = "FAT16"
	FAT32 Format = "FAT32"
	ExFAT Format = "exFAT"
	Ext4  Format = "ext4" // and ext2 and ext3, whose forms it has kept
)

// Completeness says whether the bytes of a file are whole and in order.
type Completeness string

// How complete a file can be.
const (
	Whole      Completeness = "whole"      // the volume's own tables say which bytes they are
	Part       Completeness = "part"       // some are gone: overwritten, or outside the image
	Unverified Completeness = "unverified" // read where they should lie, and not proven by any table
)

// Stamp is a time of a file. Of a local time whose zone is not stored At is nil.
type Stamp struct {
	At    *time.Time
	Local string // ISO 8601 without an offset; "" if At says it
}

// Zero reports whether there is no time.
func (s Stamp) Zero() bool { return s.At == nil && s.Local == "" }

// File is a file or a folder of a volume.
type File struct {
	Path     string // from the root of the volume, with slashes
	Dir      bool
	Deleted  bool
	Size     int64 // bytes
	Extents  []Extent
	Reused   []Extent // of a deleted one: what it had, as far as is known, and is in use again
	Complete Completeness
	Why      string // of a deleted one: what says that it was there, and what is assumed
	Modified Stamp
	Created  Stamp
	Accessed Stamp
	Removed  Stamp // when it was deleted, which ext4 says
	Hidden   bool
	System   bool
	Entry    Extent // of its directory entry or its inode: what says all this
}

// Reader reads the content of f from its image.
func (f *File) Reader(image io.ReaderAt) *io.SectionReader {
	return io.NewSectionReader(&content{image, f.Extents}, 0, f.Size)
}

// content is what extents hold, one behind the other.
type content struct {
	image   io.ReaderAt
	extents []Extent
}

func (c *content) ReadAt(b []byte, at int64) (n int, err error) {
	for _, e := range c.extents {
		if at >= e.Length {
			at -= e.Length
			continue
		}
		part := b[n:min(len(b), n+int(min(e.Length-at, int64(len(b)-n))))]
		if e.Offset == Hole {
			clear(part)
		} else if got, err := c.image.ReadAt(part, e.Offset+at); got < len(part) {
			return n + got, err
		}
		if n, at = n+len(part), 0; n == len(b) {
			return n, nil
		}
	}
	return n, io.EOF
}

// Volume is a formatted volume of an image.
type Volume struct {
	Format  Format
	Label   string
	ID      string // serial number or UUID
	Offset  int64  // in the image
	Size    int64  // bytes, as the volume says, and no more than there are
	Cluster int64  // bytes of its unit of allocation
	system
}

// system is what each format does.
type system interface {
	files(full bool, yield func(*File, error) bool)
	unallocated(yield func(Extent) bool)
}

// ErrFormat is of bytes that begin no volume of a known format.
var ErrFormat = errors.New("volume: no file system of a known format")

// Error is a fault of a volume at a place of the image.
type Error struct {
	Offset int64
	What   string
}

func (e *Error) Error() string { return fmt.Sprintf("volume: at offset %d: %s", e.Offset, e.What) }

// Open opens the volume that lies in an image of size bytes from offset on, in at most length bytes.
func Open(image io.ReaderAt, offset, length int64) (*Volume, error) {
	in := &window{image: image, offset: offset, length: length}
	for _, open := range []func(*window) (*Volume, error){openExFAT, openFAT, openExt} {
		v, err := open(in)
		if errors.Is(err, ErrFormat) {
			continue
		}
		if v != nil {
			v.Offset, v.Size = offset, min(v.Size, length)
		}
		return v, err
	}
	return nil, ErrFormat
}

// Files yields the files and folders of v: those that its tree leads to, each before what lies in it, then
// the deleted ones. If full is set, what is not in use is read for folders to which nothing leads any more, as
// after a volume was formatted anew. Errors are of the volume and do not end it.
func (v *Volume) Files(full bool) iter.Seq2[*File, error] {
	return func(yield func(*File, error) bool) { v.files(full, yield) }
}

// Unallocated yields the runs of bytes that no table says are used, in order.
func (v *Volume) Unallocated() iter.Seq[Extent] { return v.unallocated }

// window is a volume's part of an image.
type window struct {
	image          io.ReaderAt
	offset, length int64
	spent          int64 // bytes of folders and tables that were gone through
}

// spend reports whether n more bytes of folders or tables may be gone through: each a few times, however many of
// them share the same bytes.
func (w *window) spend(n int64) bool {
	w.spent += n
	return w.spent <= 8*w.length+maxFolder
}

// read reads n bytes of the volume, fewer where it ends, none where they cannot be read.
func (w *window) read(at int64, n int) []byte {
	if at < 0 || at >= w.length || n <= 0 {
		return nil
	}
	b := make([]byte, min(int64(n), w.length-at))
	got, _ := w.image.ReadAt(b, w.offset+at)
	return b[:got]
}

// cached reads a table in pieces, of which it keeps a few.
type cached struct {
	*window
	pieces map[int64][]byte
	order  []int64
}

const (
	pieceSize = 1 << 16
	maxPieces = 64
)

func (c *cached) read(at int64, n int) []byte {
	k := at / pieceSize
	if at < 0 || (at+int64(n)-1)/pieceSize != k {
		return c.window.read(at, n)
	}
	p, has := c.pieces[k]
	if !has {
		if c.pieces == nil {
			c.pieces = map[int64][]byte{}
		}
		if len(c.order) == maxPieces {
			delete(c.pieces, c.order[0])
			c.order = c.order[1:]
		}
		p = c.window.read(k*pieceSize, pieceSize)
		c.pieces[k], c.order = p, append(c.order, k)
	}
	from := int(at - k*pieceSize)
	if from >= len(p) {
		return nil
	}
	return p[from:min(len(p), from+n)]
}

// What bounds what is kept of a volume while it is read.
const (
	maxExtents = 1 << 20 // of one file
	maxDeleted = 1 << 20 // deleted entries
	maxDepth   = 128     // of folders in folders
	maxFolder  = 64 << 20
)

// bits is a set of units of allocation.
type bits []uint64

func newBits(n int64) bits      { return make(bits, n/64+1) }
func (b bits) has(i int64) bool { return i>>6 < int64(len(b)) && b[i>>6]>>(i&63)&1 == 1 }
func (b bits) set(i int64)      { b[i>>6] |= 1 << (i & 63) }
func (b bits) take(i int64) (ok bool) { // false if it was taken
	if b.has(i) {
		return false
	}
	b.set(i)
	return true
}

// join puts an extent behind others.
func join(all []Extent, e Extent) []Extent {
	if n := len(all); n > 0 && (e.Offset == Hole && all[n-1].Offset == Hole || e.Offset != Hole && all[n-1].Offset != Hole && all[n-1].Offset+all[n-1].Length == e.Offset) {
		all[n-1].Length += e.Length
		return all
	}
	return append(all, e)
}

// cut is as much of extents as a file of size bytes has, and how much that is.
func cut(all []Extent, size int64) (out []Extent, has int64) {
	for _, e := range all {
		if e.Length = min(e.Length, size-has); e.Length <= 0 {
			break
		}
		out, has = append(out, e), has+e.Length
	}
	return out, has
}

// name makes a name of a volume one that is part of a path: what no name can have is written _.
func name(s string) string {
	s = strings.Map(func(c rune) rune {
		if c == '/' || c == 0 || unicode.IsControl(c) || c == unicode.ReplacementChar {
			return '_'
		}
		return c
	}, strings.ToValidUTF8(s, "_"))
	if s == "" || s == "." || s == ".." {
		return strings.Repeat("_", len(s)+1)
	}
	return s
}
