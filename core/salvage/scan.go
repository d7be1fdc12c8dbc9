package salvage

import (
	"encoding/binary"

	"crosswind/core/sqlitefile"
)

// scanner looks for cells in the unused bytes of one page.
type scanner struct {
	s      *surveyed
	n      uint32
	data   []byte
	own    *shape // whose page it is; nil for a free one
	origin Origin
	region int // which region of the page candidates are found in
	found  []*candidate
	types  []typeAt // scratch
}

// freedHead is how many bytes of a cell are overwritten when it is freed: the
// head of a free block, its successor and its size (§1.6).
const freedHead = 4

// livePage scans the free blocks and the gap of a table page in use.
func (sc *scanner) livePage() {
	p, err := sqlitefile.ParsePage(sc.n, sc.data)
	if err != nil {
		return // the survey has told of it
	}
	sc.origin = Unallocated
	sc.scan(p.PointersEnd(), sc.belowInteriorCells(p))
	if p.Kind == sqlitefile.LeafTable {
		sc.blocks(p, FreeBlock)
	}
}

// belowInteriorCells is where the gap's scan ends. A root page that was split
// keeps copies of the table's first rows, but its interior cells, once written
// from the end of the page downwards, took the tails of some; after the table
// is emptied nothing else tells of that. So the scan stays below what still
// reads as such cells: a page of this file and a rising row id.
func (sc *scanner) belowInteriorCells(p *sqlitefile.Page) int {
	if p.N != sc.own.Root || p.Cells > 0 {
		return p.Content
	}
	end, last := p.Content, int64(-1<<63)
next:
	for {
		for n := 5; n <= 13 && end-n >= p.PointersEnd(); n++ {
			cell := sc.data[end-n : end]
			id, k := sqlitefile.Varint(cell[4:])
			if child := binary.BigEndian.Uint32(cell); k == n-4 && child > 1 && child <= sc.s.f.Pages && id > last {
				end, last = end-n, id
				continue next
			}
		}
		return end
	}
}

func (sc *scanner) blocks(p *sqlitefile.Page, o Origin) {
	for b, err := range p.FreeBlocks() {
		if err != nil {
			return // a broken chain: what lies beyond is not known to be free
		}
		sc.origin = o
		sc.scan(b.Start, b.End)
	}
}

// freePage scans a page of which everything is free but its first used bytes.
// If the b-tree page that it was is whole, its own pointers lead.
func (sc *scanner) freePage(used int) {
	p, err := sqlitefile.ParsePage(sc.n, sc.data)
	if used > 0 || err != nil {
		sc.scan(used, len(sc.data))
		return
	}
	if p.Kind != sqlitefile.LeafTable {
		if p.Kind == sqlitefile.InteriorTable {
			sc.scan(p.PointersEnd(), p.Content)
		}
		return
	}
	sc.region++
	for i := range p.Cells {
		off, err := p.Pointer(i)
		if err != nil {
			continue
		}
		if c := sc.whole(off, len(sc.data)); c != nil {
			c.pointed = true
			sc.keep(c)
		}
	}
	sc.scan(p.PointersEnd(), p.Content)
	sc.blocks(p, sc.origin)
}

func (sc *scanner) keep(c *candidate) {
	c.page, c.origin = sc.n, sc.origin
	sc.found = append(sc.found, c)
}

// scan looks at every offset of a free region of the page for a cell that is
// whole, or one whose head was overwritten when it was freed.
func (sc *scanner) scan(from, to int) {
	sc.region++
	for at := from; at+freedHead < to; at++ {
		if c := sc.whole(at, to); c != nil {
			sc.keep(c)
		}
		// The head of a free block, current or merged since, is how we know
		// that a cell began here. In the gap it must be one, too: the library
		// frees a cell into a block before the block joins the gap.
		next, size := int(binary.BigEndian.Uint16(sc.data[at:])), int(binary.BigEndian.Uint16(sc.data[at+2:]))
		if size < freedHead || at+size > len(sc.data) || next != 0 && (next < at+size || next+freedHead > len(sc.data)) {
			continue
		}
		if c := sc.headless(at, size, to, at == from && sc.origin == FreeBlock); c != nil {
			sc.keep(c)
		}
	}
}

// whole reads a cell with its head intact at offset at.
func (sc *scanner) whole(at, to int) *candidate {
	if d := sc.data; d[at] == 0 || d[at] == 1 {
		return nil // no record is shorter than two bytes
	}
	cell, err := sqlitefile.ParseCell(sc.n, sqlitefile.LeafTable, sc.data, at)
	if err != nil || at+cell.Length > to {
		return nil
	}
	lay, ok := intactLayout(cell.Local, at, cell.PayloadAt)
	if !ok || len(lay.types) == 0 {
		return nil
	}
	sum := int64(lay.body - lay.header)
	for _, t := range lay.types {
		n := t.t.Size()
		if n < 0 || sum+n < sum {
			return nil
		}
		sum += n
	}
	if sum != cell.PayloadSize {
		return nil
	}
	payload, broken := cell.Local, false
	if cell.Overflow != 0 {
		payload, broken = sc.s.chain(cell)
	}
	c := &candidate{layout: lay, rowID: cell.RowID, hasRowID: true, broken: broken}
	c.layout.end = at + cell.Length
	c.raw, c.lost = readValues(lay.types, payload, lay.body-lay.header)
	return sc.attribute(c)
}

// headless reads a cell whose first four bytes are overwritten: the length of
// its payload, its row id and perhaps the record header's length and first
// type. They follow from the columns of a table, if exactly one reading fits
// best. size is what the overwritten head says of the block; first tells that
// the block is a current one, whose tail may have been taken by a newer cell.
func (sc *scanner) headless(at, size, to int, first bool) *candidate {
	var best *candidate
	tie := false
	for _, sh := range sc.s.shapes {
		if sh.WithoutRowID || sh.Root == 1 || sc.own != nil && sh != sc.own {
			continue
		}
		for idLen := 1; idLen <= min(9, sqlitefile.VarintLen(sh.maxRowID)+1); idLen++ {
			for sizeLen := 1; sizeLen <= 3; sizeLen++ {
				c := sc.headlessAs(sh, at, size, to, sizeLen, idLen, first)
				switch {
				case c == nil:
				case best == nil || c.weight() > best.weight():
					best, tie = c, false
				case c.weight() == best.weight() && !sameValues(c, best):
					tie = true
				}
			}
		}
	}
	if tie {
		return nil
	}
	return best
}

func (sc *scanner) headlessAs(sh *shape, at, size, to, sizeLen, idLen int, first bool) *candidate {
	lay := layout{start: at, header: at + sizeLen + idLen, overwritten: freedHead}
	n := len(sh.Stored())
	typesAt := lay.header + 1 // one byte of header length: up to 126 bytes of types
	lostTypes := max(0, at+freedHead-typesAt)
	if lostTypes > 1 || lostTypes == 1 && (n == 0 || sh.Stored()[0] != sh.RowIDColumn) {
		return nil
	}
	sc.types = sc.types[:0]
	if lostTypes == 1 {
		sc.types = append(sc.types, typeAt{0, typesAt, 0}) // the row id's column is always NULL
	}
	p := typesAt + lostTypes
	want := n
	if lay.header >= at+freedHead { // the header's length survives, and says how many columns
		if h := int(sc.data[lay.header]); h < 2 || h > 127 || lay.header+h > to {
			return nil
		} else {
			want = -1
			lay.body = lay.header + h
		}
	}
	for len(sc.types) < n && (want < 0 && p < lay.body || want >= 0 && len(sc.types) < want) {
		t, k := sqlitefile.Varint(sc.data[p:to])
		if k == 0 || sqlitefile.SerialType(t).Size() < 0 || t > int64(len(sc.data))*2+13 {
			return nil // too long for a cell without overflow
		}
		sc.types = append(sc.types, typeAt{sqlitefile.SerialType(t), p, k})
		p += k
	}
	if want < 0 && p != lay.body {
		return nil
	}
	lay.body = p
	if lay.body-lay.header > 127 {
		return nil
	}
	penalty, ok := sh.fit(sc.types)
	if !ok {
		return nil
	}
	payload := int64(lay.body - lay.header)
	for _, t := range sc.types {
		payload += t.t.Size()
	}
	if sqlitefile.VarintLen(payload) != sizeLen || sqlitefile.LocalPayload(sqlitefile.LeafTable, len(sc.data), payload) != int(payload) {
		return nil
	}
	end := max(lay.header+int(payload), at+4)
	c := &candidate{shape: sh, penalty: penalty, exact: end == at+size || end == to}
	if end > to {
		if !first || end > len(sc.data) {
			return nil
		}
		c.truncated = true
		end = to
	}
	lay.end = end
	lay.types = append([]typeAt(nil), sc.types...)
	c.layout = lay
	c.raw, c.lost = readValues(lay.types, sc.data[lay.header:min(end, to)], lay.body-lay.header)
	return sc.settle(c, sh)
}

// settle arranges c's values as a row of sh and judges them.
func (sc *scanner) settle(c *candidate, sh *shape) *candidate {
	c.shape = sh
	lost := c.lost
	c.values = sh.Arrange(c.raw, c.rowID, nil)
	c.lost = make([]bool, len(c.values))
	for k, i := range sh.Stored() {
		if k < len(lost) {
			c.lost[i] = lost[k]
		}
	}
	if i := sh.RowIDColumn; i >= 0 && !c.hasRowID {
		c.values[i], c.lost[i] = sqlitefile.Value{At: -1}, true
	}
	c.penalty += sh.judge(c.values, c.lost, sc.s.f.Encoding)
	if c.penalty > maxPenalty || !c.telling() {
		return nil
	}
	return c
}

// telling reports whether enough survives to say anything: a row of nothing
// but NULLs and constants can be read out of almost any bytes.
func (c *candidate) telling() bool {
	bytes, values := 0, 0
	for i, v := range c.values {
		if v.At >= 0 && !c.lost[i] && v.Type.Size() > 0 {
			values++
			bytes += int(min(v.Type.Size(), 64))
		}
	}
	if c.overwritten > 0 || c.truncated {
		return bytes >= 4 && (values >= 2 || c.exact)
	}
	return bytes >= 2 || c.pointed
}

// attribute finds the table that a whole cell belongs to.
func (sc *scanner) attribute(c *candidate) *candidate {
	var best *candidate
	for _, sh := range sc.s.shapes {
		if sh.WithoutRowID || sh.Root == 1 && sc.own != sh {
			continue
		}
		penalty, ok := sh.fit(c.types)
		if !ok {
			continue
		}
		try := *c
		try.penalty = penalty
		if sc.own != nil && sh != sc.own {
			try.penalty += 0.1 // an earlier owner of the page is possible, but not likely
		}
		got := sc.settle(&try, sh)
		switch {
		case got == nil:
		case best == nil || got.penalty < best.penalty:
			best = got
		case got.penalty == best.penalty:
			best.rivals++
		}
	}
	if best == nil {
		return sc.orphan(c)
	}
	if best.rivals > 0 {
		best.shape, best.values, best.lost = nil, best.raw, c.lost
	}
	return best
}

// orphan keeps a cell that no table of the schema fits only if a whole free
// page's own pointer leads to it; whole asks again through freePage.
func (sc *scanner) orphan(c *candidate) *candidate {
	if sc.own != nil || sc.origin == Unallocated {
		return nil
	}
	c.values = c.raw
	text, ok := 0, true
	for i, v := range c.raw {
		if v.Class() == sqlitefile.Text && !c.lost[i] {
			ok = ok && plausibleText(v.Bytes(), sc.s.f.Encoding)
			text += len(v.Bytes())
		}
	}
	if !ok || text < 4 || len(c.raw) < 2 {
		return nil
	}
	return c
}

// readValues reads values of the given types from payload, the body of which
// starts at body. A value that runs out of the payload is lost; what is left of
// a text or blob is kept.
func readValues(types []typeAt, payload []byte, body int) ([]sqlitefile.Value, []bool) {
	values, lost := make([]sqlitefile.Value, len(types)), make([]bool, len(types))
	at := int64(body)
	for k, t := range types {
		n := t.t.Size()
		v, ok := sqlitefile.ReadValue(t.t, payload[min(at, int64(len(payload))):], int(min(at, int64(len(payload)))))
		if !ok {
			lost[k] = true
			v = sqlitefile.Value{At: -1}
			if t.t >= 12 && at < int64(len(payload)) {
				v = sqlitefile.PartialText(t.t, payload[at:], int(at))
			}
		}
		values[k] = v
		at += n
	}
	return values, lost
}

// chain follows the overflow chain of a freed cell through free pages. It
// returns what of the payload is there, and whether that is not all.
func (s *surveyed) chain(cell sqlitefile.Cell) (payload []byte, broken bool) {
	payload = append(payload, cell.Local...)
	per := s.f.Usable() - 4
	buf := make([]byte, s.f.PageSize)
	n := cell.Overflow
	for steps := 0; int64(len(payload)) < cell.PayloadSize; steps++ {
		fp, free := s.free[n]
		if !free || fp.Trunk || steps > len(s.free) || s.f.ReadPage(n, buf) != nil {
			return payload, true
		}
		k := min(int64(per), cell.PayloadSize-int64(len(payload)))
		payload = append(payload, buf[4:4+k]...)
		n = binary.BigEndian.Uint32(buf)
	}
	return payload, n != 0
}
