package sqlitefile

import (
	"encoding/binary"
	"fmt"
	"iter"
)

// PageKind is the flag byte of a b-tree page (§1.6).
type PageKind byte

const (
	InteriorIndex PageKind = 0x02
	InteriorTable PageKind = 0x05
	LeafIndex     PageKind = 0x0a
	LeafTable     PageKind = 0x0d
)

// Valid reports whether k is one of the four kinds.
func (k PageKind) Valid() bool {
	return k == InteriorIndex || k == InteriorTable || k == LeafIndex || k == LeafTable
}

// Leaf reports whether pages of kind k have no children.
func (k PageKind) Leaf() bool { return k == LeafIndex || k == LeafTable }

// Page is a b-tree page and its header (§1.6). Data is the usable part of the
// page: reserved bytes at its end are left out.
type Page struct {
	N          uint32
	Data       []byte
	Start      int // of the page header: 100 on page 1, else 0
	Kind       PageKind
	FirstBlock int // offset of the first free block, or 0
	Cells      int // number of cells
	Content    int // start of the cell content area
	Fragmented int // free bytes in fragments
	Right      uint32
}

// ParsePage reads the b-tree page header of page n from data, the usable part
// of that page.
func ParsePage(n uint32, data []byte) (*Page, error) {
	p := &Page{N: n, Data: data}
	if n == 1 {
		p.Start = 100
	}
	h := data[p.Start:]
	p.Kind = PageKind(h[0])
	if !p.Kind.Valid() {
		return nil, &FormatError{n, p.Start, fmt.Sprintf("0x%02x is not a kind of b-tree page", h[0])}
	}
	p.FirstBlock = int(binary.BigEndian.Uint16(h[1:]))
	p.Cells = int(binary.BigEndian.Uint16(h[3:]))
	p.Content = int(binary.BigEndian.Uint16(h[5:]))
	if p.Content == 0 {
		p.Content = 65536
	}
	p.Fragmented = int(h[7])
	if !p.Kind.Leaf() {
		p.Right = binary.BigEndian.Uint32(h[8:])
	}
	if p.PointersEnd() > len(data) {
		return nil, &FormatError{n, p.Start + 3, fmt.Sprintf("%d cell pointers do not fit", p.Cells)}
	}
	if p.Content > len(data) && p.Content != 65536 || p.Content < p.PointersEnd() {
		return nil, &FormatError{n, p.Start + 5, fmt.Sprintf("cell content area at %d", p.Content)}
	}
	p.Content = min(p.Content, len(data))
	return p, nil
}

// HeaderSize is 8 bytes for a leaf and 12 for an interior page.
func (p *Page) HeaderSize() int {
	if p.Kind.Leaf() {
		return 8
	}
	return 12
}

// PointersEnd is the offset of the first byte after the cell pointer array.
func (p *Page) PointersEnd() int { return p.Start + p.HeaderSize() + 2*p.Cells }

// Pointer returns the offset of cell i in the page.
func (p *Page) Pointer(i int) (int, error) {
	at := p.Start + p.HeaderSize() + 2*i
	off := int(binary.BigEndian.Uint16(p.Data[at:]))
	if off < p.PointersEnd() || off+4 > len(p.Data) {
		return 0, &FormatError{p.N, at, fmt.Sprintf("cell pointer %d points to %d", i, off)}
	}
	return off, nil
}

// Span is a run of bytes in a page.
type Span struct{ Start, End int }

// FreeBlocks walks the chain of free blocks (§1.6). Blocks are in order of
// their offsets; a chain that runs backwards or leaves the page is an error.
func (p *Page) FreeBlocks() iter.Seq2[Span, error] {
	return func(yield func(Span, error) bool) {
		last := p.PointersEnd()
		for at := p.FirstBlock; at != 0; {
			if at < last || at+4 > len(p.Data) {
				yield(Span{}, &FormatError{p.N, at, "free block out of order or out of the page"})
				return
			}
			size := int(binary.BigEndian.Uint16(p.Data[at+2:]))
			if size < 4 || at+size > len(p.Data) {
				yield(Span{}, &FormatError{p.N, at, fmt.Sprintf("free block of %d bytes", size)})
				return
			}
			if !yield(Span{at, at + size}, nil) {
				return
			}
			last = at + size
			at = int(binary.BigEndian.Uint16(p.Data[at:]))
		}
	}
}

// Cell is one cell of a b-tree page (§1.6).
type Cell struct {
	Page        uint32
	Offset      int    // in the page
	Length      int    // bytes in the page, with the overflow page number
	Left        uint32 // child page, in interior pages
	RowID       int64  // in table pages
	PayloadSize int64
	PayloadAt   int    // offset in the page of the payload's local part
	Local       []byte // local part of the payload
	Overflow    uint32 // first overflow page, or 0
}

// ParseCell reads the cell at offset off of a b-tree page of the given kind.
// data is the usable part of the page. Table interior cells have no payload.
func ParseCell(n uint32, kind PageKind, data []byte, off int) (c Cell, err error) {
	bad := func(what string) (Cell, error) { return Cell{}, &FormatError{n, off, what} }
	c = Cell{Page: n, Offset: off}
	p := off
	if !kind.Leaf() {
		if p+4 > len(data) {
			return bad("cell runs out of the page")
		}
		c.Left = binary.BigEndian.Uint32(data[p:])
		p += 4
	}
	if kind != InteriorTable {
		size, k := Varint(data[p:])
		if k == 0 || size < 0 || size > maxPayload {
			return bad("payload length is cut off or out of range")
		}
		c.PayloadSize = size
		p += k
	}
	if kind == LeafTable || kind == InteriorTable {
		id, k := Varint(data[p:])
		if k == 0 {
			return bad("row id is cut off")
		}
		c.RowID = id
		p += k
	}
	if kind == InteriorTable {
		c.Length = p - off
		return c, nil
	}
	local := LocalPayload(kind, len(data), c.PayloadSize)
	c.PayloadAt = p
	if p+local > len(data) {
		return bad(fmt.Sprintf("payload of %d bytes runs out of the page", c.PayloadSize))
	}
	c.Local = data[p : p+local : p+local]
	p += local
	if int64(local) < c.PayloadSize {
		if p+4 > len(data) {
			return bad("overflow page number runs out of the page")
		}
		c.Overflow = binary.BigEndian.Uint32(data[p:])
		p += 4
	}
	c.Length = max(p-off, 4) // a cell never takes less: it must hold a free block's head
	return c, nil
}

// LocalPayload is how many of a payload's size bytes are kept in the page
// itself, for a page with usable bytes (§1.6, "the amount of payload").
func LocalPayload(kind PageKind, usable int, size int64) int {
	maxLocal := (usable-12)*64/255 - 23
	if kind == LeafTable {
		maxLocal = usable - 35
	}
	if size <= int64(maxLocal) {
		return int(size)
	}
	minLocal := (usable-12)*32/255 - 23
	k := minLocal + int((size-int64(minLocal))%int64(usable-4))
	if k > maxLocal {
		return minLocal
	}
	return k
}
