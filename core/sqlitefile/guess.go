package sqlitefile

import (
	"encoding/binary"
	"io"
)

// OpenDamaged opens a database whose header is gone or broken. The page size and
// the text encoding are those under which most of the pages that it looks at are
// b-tree pages with cells; it fails with ErrNotDatabase if none are. The free list
// is not known then, and page 1 may hold no schema.
func OpenDamaged(r io.ReaderAt, size int64) (*File, error) {
	best, score := 0, 0.0
	for ps := 512; ps <= 65536; ps *= 2 {
		if n := likely(r, size, ps, func([]byte, Cell) {}); n > score {
			best, score = ps, n
		}
	}
	if best == 0 {
		return nil, ErrNotDatabase
	}
	f := &File{size: size, over: map[uint32]Version{}}
	f.parts[Main] = r
	f.PageSize, f.Encoding = best, UTF8
	f.Pages = f.Stored()
	var wide [2]int // zero bytes at even and odd places of texts
	narrow := 0
	likely(r, size, best, func(_ []byte, c Cell) {
		values, err := Record(c.Local, nil)
		if err != nil {
			return
		}
		for _, v := range values {
			if v.Class() != Text {
				continue
			}
			for i, b := range v.Bytes() {
				if b == 0 {
					wide[i%2]++
				} else {
					narrow++
				}
			}
		}
	})
	if n := wide[0] + wide[1]; n*4 > narrow {
		f.Encoding = UTF16LE
		if wide[0] > wide[1] {
			f.Encoding = UTF16BE
		}
	}
	return f, nil
}

// likely looks at pages spread over the file and gives the part of them that are sound; visit is called with the
// cells of leaf table pages.
func likely(r io.ReaderAt, size int64, pageSize int, visit func([]byte, Cell)) float64 {
	const looks = 400
	pages := size / int64(pageSize)
	buf := make([]byte, pageSize)
	step := max(1, pages/looks)
	sound, seen := 0, 0
	for n := int64(0); n < pages; n += step {
		if _, err := r.ReadAt(buf, n*int64(pageSize)); err != nil {
			continue
		}
		seen++
		p, cells := Sound(uint32(min(n+1, 1<<32-1)), buf)
		if p == nil {
			continue
		}
		sound++
		for _, c := range cells[:min(len(cells), 20)] {
			if p.Kind == LeafTable && c.Overflow == 0 {
				visit(buf, c)
			}
		}
	}
	return float64(sound) / float64(max(seen, 1))
}

// Sound reads a b-tree page of which all cells are sound and fill it to its end, but for at most 255 bytes that may be
// reserved. It gives nil of what is none. page is all of page n, whatever the database's header says.
func Sound(n uint32, page []byte) (*Page, []Cell) {
	p, err := ParsePage(n, page)
	if err != nil || p.Cells == 0 {
		return nil, nil
	}
	least, most := len(page), 0
	cells := make([]Cell, 0, p.Cells)
	for i := range p.Cells {
		off, err := p.Pointer(i)
		if err != nil {
			return nil, nil
		}
		c, err := ParseCell(p.N, p.Kind, page, off)
		if err == nil && p.Kind == LeafTable && c.Overflow == 0 {
			_, err = Record(c.Local, nil)
		}
		if err != nil {
			return nil, nil
		}
		cells = append(cells, c)
		least, most = min(least, off), max(most, off+c.Length)
	}
	for b, err := range p.FreeBlocks() {
		if err == nil {
			most = max(most, b.End)
		}
	}
	// The content area begins at the first cell.
	if most < len(page)-255 || int(binary.BigEndian.Uint16(page[p.Start+5:])) > least {
		return nil, nil
	}
	return p, cells
}

// PagesEnding ends the name of a file of a database's pages that were found without its first one.
const PagesEnding = ".sqlite-pages"

// Adopt gives f, whose own first page is gone, the schema of another database, and what its header says of texts and
// pages. Where the trees of f begin stays unknown: the tables have no root. If its pages do not tell that their numbers
// are those of their places, f is Unnumbered.
func (f *File) Adopt(of *File) error {
	objs, err := of.Objects()
	if len(objs) == 0 {
		return err
	}
	f.adopted = nil
	for _, o := range objs {
		if o.Root != 0 {
			o.Root = 0
			f.adopted = append(f.adopted, o)
		}
	}
	f.Reserved, f.Encoding, f.SchemaFormat = of.Reserved, of.Encoding, of.SchemaFormat
	var numbers Numbering
	buf := make([]byte, f.PageSize)
	for n := uint32(1); n <= f.Pages; n++ {
		if err := f.ReadPage(n, buf); err != nil {
			return err
		}
		numbers.Add(Sound(n, buf))
	}
	if first, ok := numbers.First(); ok && first == 1 {
		f.LargestRoot = of.LargestRoot
	} else {
		f.Unnumbered = true
	}
	return nil
}

// Adopted reports whether f has the schema of another database.
func (f *File) Adopted() bool { return f.adopted != nil }
