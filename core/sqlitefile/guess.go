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

// likely looks at pages spread over the file and gives the part of them whose cells
// are all sound and fill the page to its end; visit is called with the cells of leaf
// table pages.
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
		p, err := ParsePage(uint32(min(n+1, 1<<32-1)), buf)
		if err != nil || p.Cells == 0 {
			continue
		}
		least, most, ok := pageSize, 0, true
		for i := 0; i < p.Cells && ok; i++ {
			off, err := p.Pointer(i)
			if err != nil {
				ok = false
				break
			}
			c, err := ParseCell(p.N, p.Kind, buf, off)
			ok = err == nil
			if ok && p.Kind == LeafTable && c.Overflow == 0 {
				_, err = Record(c.Local, nil)
				ok = err == nil
			}
			least, most = min(least, off), max(most, off+c.Length)
		}
		for b, err := range p.FreeBlocks() {
			if err == nil {
				most = max(most, b.End)
			}
		}
		// The content area begins at the first cell, and up to 255 bytes may be
		// reserved at the page's end.
		if ok && most >= pageSize-255 && int(binary.BigEndian.Uint16(buf[p.Start+5:])) <= least {
			sound++
			for i := 0; i < min(p.Cells, 20) && p.Kind == LeafTable; i++ {
				off, _ := p.Pointer(i)
				if c, err := ParseCell(p.N, p.Kind, buf, off); err == nil && c.Overflow == 0 {
					visit(buf, c)
				}
			}
		}
	}
	return float64(sound) / float64(max(seen, 1))
}
