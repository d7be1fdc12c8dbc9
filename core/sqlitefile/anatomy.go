package sqlitefile

import (
	"encoding/binary"
	"fmt"
	"slices"
)

// Region is a part of a page, for showing what its bytes are for. Offsets are in
// the page.
type Region struct {
	Name     string
	Role     string // header, pointers, gap, cell, free, reserved, content, slack or odd
	From, To int
	Cell     int // which cell, from 0; -1 if it is none
}

// Anatomy takes a b-tree page apart; page has all its bytes, of which usable may
// hold content. Bytes that belong to nothing, fragments of up to three, have the
// role slack. A page that is not a b-tree page is one region of content.
func Anatomy(n uint32, page []byte, usable int) []Region {
	tail := []Region{}
	if usable < len(page) {
		tail = append(tail, Region{"reserved", "reserved", usable, len(page), -1})
	}
	p, err := ParsePage(n, page[:usable])
	if err != nil {
		return append([]Region{{"content", "content", 0, usable, -1}}, tail...)
	}
	var out []Region
	if p.Start > 0 {
		out = append(out, Region{"database header", "header", 0, p.Start, -1})
	}
	out = append(out, Region{"page header", "header", p.Start, p.Start + p.HeaderSize(), -1},
		Region{"cell pointers", "pointers", p.Start + p.HeaderSize(), p.PointersEnd(), -1},
		Region{"gap", "gap", p.PointersEnd(), p.Content, -1})
	for i := range p.Cells {
		off, err := p.Pointer(i)
		if err != nil {
			continue
		}
		c, err := ParseCell(n, p.Kind, p.Data, off)
		if err != nil {
			out = append(out, Region{fmt.Sprintf("cell %d, not readable", i), "odd", off, min(off+4, usable), i})
			continue
		}
		out = append(out, Region{fmt.Sprintf("cell %d", i), "cell", off, off + c.Length, i})
	}
	for b, err := range p.FreeBlocks() {
		if err != nil {
			break
		}
		out = append(out, Region{"free block", "free", b.Start, b.End, -1})
	}
	slices.SortStableFunc(out, func(a, b Region) int { return a.From - b.From })
	// What is left over between them.
	var all []Region
	at := 0
	for _, r := range out {
		if r.From > at {
			all = append(all, Region{"fragment", "slack", at, r.From, -1})
		}
		if r.To > r.From {
			all = append(all, r)
		}
		at = max(at, r.To)
	}
	if at < usable {
		all = append(all, Region{"fragment", "slack", at, usable, -1})
	}
	return append(all, tail...)
}

// AnatomyOfTrunk takes a trunk page of the free list apart (§1.5).
func AnatomyOfTrunk(page []byte, usable int) []Region {
	count := min(int64(binary.BigEndian.Uint32(page[4:])), int64(usable/4-2))
	used := 8 + 4*int(count)
	out := []Region{{"next trunk page, number of free pages", "header", 0, 8, -1}}
	if count > 0 {
		out = append(out, Region{"numbers of free pages", "pointers", 8, used, -1})
	}
	out = append(out, Region{"what was there before", "content", used, usable, -1})
	if usable < len(page) {
		out = append(out, Region{"reserved", "reserved", usable, len(page), -1})
	}
	return out
}
