package salvage

import (
	"bytes"
	"slices"

	"crosswind/core/sqlitefile"
)

// The parts of a scanner, one for each stage of its work.

// pageReader reads versions of pages.
type pageReader struct {
	f       *sqlitefile.File
	im      image
	buf     []byte // the page
	data    []byte // the usable part of it
	page    []byte // room for one
	ahead   []byte // pages of the database file from aheadAt on
	aheadAt int64
	inOrder bool // pages are read in order
}

const (
	aheadPages = 64       // pages of the database file that are read at a time
	aheadMost  = 16 << 10 // bytes of a page up to which that is done
)

// read reads a page version.
func (p *pageReader) read(im image) error {
	p.im = im
	size := p.f.PageSize
	current := im.Part == sqlitefile.Main && im.current
	if at := im.Offset - p.aheadAt; !current || at < 0 || at+int64(size) > int64(len(p.ahead)) {
		if p.ahead = p.ahead[:0]; current && p.inOrder && size <= aheadMost {
			p.ahead = grow(p.ahead, aheadPages*size)
			if p.f.ReadAhead(im.Offset, &p.ahead) != nil || len(p.ahead) < size {
				p.ahead = p.ahead[:0]
			}
			p.aheadAt = im.Offset
		}
	}
	if len(p.ahead) > 0 {
		at := im.Offset - p.aheadAt
		p.buf = p.ahead[at : at+int64(size)]
	} else {
		if p.page == nil {
			p.page = make([]byte, size)
		}
		p.buf = p.page
		if err := p.f.ReadVersion(im.Place, p.buf); err != nil {
			return err
		}
	}
	p.data = p.buf[:p.f.Usable():p.f.Usable()]
	return nil
}

// ownership is whose a page is, as far as that is known.
type ownership struct {
	own   *shape // nil if it is not known
	sure  bool   // no other table's rows are where the page is current
	known bool   // it was own's then, as older trees tell
	kind  sqlitefile.PageKind
}

// space is a free part of a page, and what is known of where cells in it begin and end.
type space struct {
	block  bool  // it is a free block
	bound  bool  // the freed cell that is looked at ends where a cell can
	begins []int // where whole cells begin, in order
	freed  []int // and freed ones, from the last to the first
	ends   []int // scratch for cellEnds
	number uint32
	bounds []uint32 // for each offset, the number of the last space in which a cell began or ended there
	claims []claim  // for each offset, the last free block's head that says that its block ends there
}

// claim is where a head was found, and in the space of which number.
type claim struct {
	number uint32
	at     int
}

// enter begins a space of a page of size bytes that ends at to.
func (s *space) enter(size, to int, block bool) {
	if s.bounds == nil {
		s.bounds, s.claims = make([]uint32, size+1), make([]claim, size+1)
	}
	s.begins, s.freed, s.block = s.begins[:0], s.freed[:0], block
	s.number++
	s.bounds[to] = s.number
}

// bounded reports whether a cell is known to begin or end at offset at.
func (s *space) bounded(at int) bool { return s.bounds[at] == s.number }

// cellEnds lists where a cell freed at offset at may end: where its block of size bytes
// does, and where another begins that the block was joined with. A block that is joined
// with the one behind it takes over its end and its successor (§1.6), so of two heads that
// agree in both the first tells where the second begins.
func (s *space) cellEnds(data []byte, at, size int) []int {
	const nearest = 8 // of each sort: a hostile page may have thousands
	ends := append(s.ends[:0], at+size)
	s.bound = s.bounded(at + size)
	if behind := s.claims[at+size]; behind.number == s.number && behind.at >= at+freedHead && bytes.Equal(data[at:at+2], data[behind.at:behind.at+2]) {
		ends, s.bound = append(ends, behind.at), true
	}
	s.claims[at+size] = claim{s.number, at}
	i, _ := slices.BinarySearch(s.begins, at+freedHead+1)
	for _, e := range s.begins[i:min(i+nearest, len(s.begins))] {
		if e < at+size {
			ends = append(ends, e)
		}
	}
	for _, e := range s.freed[max(0, len(s.freed)-nearest):] {
		if e > at+freedHead && e < at+size {
			ends = append(ends, e)
		}
	}
	s.ends = ends
	return ends
}

// readings are what was found in a page.
type readings struct {
	found []*candidate
	spare []*candidate // to be used again
	types []typeAt     // scratch
	vals  []sqlitefile.Value
	gone  []bool
}

// candidate gives a clean candidate.
func (r *readings) candidate() *candidate {
	if n := len(r.spare); n > 0 {
		c := r.spare[n-1]
		r.spare = r.spare[:n-1]
		*c = candidate{layout: layout{types: c.types[:0]}, rivals: c.rivals[:0]}
		return c
	}
	return &candidate{}
}

// drop gives a candidate back.
func (r *readings) drop(c *candidate) { r.spare = append(r.spare, c) }

// grow makes a slice of n elements, of s if it has the room.
func grow[T any](s []T, n int) []T {
	if cap(s) < n {
		return make([]T, n)
	}
	return s[:n]
}
