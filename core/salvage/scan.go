package salvage

import (
	"bytes"
	"encoding/binary"
	"slices"

	"crosswind/core/sqlitefile"
)

// scanner looks for cells in one version of a page after the other.
type scanner struct {
	s       *Survey
	only    *shape    // the only one to look for, if not nil
	lengths [256]bool // what a byte that gives a header's length may be
	now     []byte    // the current version of a page, to compare an older one with
	pageReader
	ownership
	space
	readings
}

func newScanner(s *Survey) *scanner {
	sc := &scanner{s: s, pageReader: pageReader{f: s.f}}
	for i := range sc.lengths {
		sc.lengths[i] = i >= 2 && i <= s.longest || i >= 0x80 && s.longest >= 0x80
	}
	return sc
}

// freedHead is how many bytes of a cell are overwritten when it is freed: the
// head of a free block, its successor and its size (§1.6).
const freedHead = 4

// maxFragment is how many bytes between two cells are too few for a free block: a cell
// that took the place of a slightly longer one leaves them (§1.6).
const maxFragment = 3

// scan looks for cells in the page that was read, and returns those that stand, in
// order. They are valid until the next call.
func (sc *scanner) scan() []*candidate {
	sc.spare = append(sc.spare, sc.found...)
	sc.found = sc.found[:0]
	s, n := sc.s, sc.im.Page
	sc.ownership = ownership{}
	if !sc.im.current {
		if n <= s.f.Pages && sc.im.origin != LostPage {
			// A version with the same bytes as the current one says nothing.
			if sc.now == nil {
				sc.now = make([]byte, s.f.PageSize)
			}
			if s.f.ReadPage(n, sc.now) == nil && bytes.Equal(sc.now, sc.buf) && s.use[n] != Lost {
				return nil
			}
		}
		if sc.own = s.base[n]; sc.own == nil || sc.im.Part != sqlitefile.Main {
			if o := s.ownerOf(n); o != nil {
				sc.own = o
			}
		}
		sc.wholePage()
		return sc.choose()
	}
	switch s.use[n] {
	case TableInterior, TableLeaf, IndexInterior, IndexLeaf:
		sc.own, sc.sure = s.ownerOf(n), true
		sc.livePage()
	case Overflow:
		if used := int(s.used[n]); used > 0 {
			sc.region(used, len(sc.data), false)
		}
	case FreeTrunk:
		sc.own = s.base[n]
		sc.region(int(s.used[n]), len(sc.data), false)
	case FreeLeaf, Lost:
		sc.own = s.base[n]
		sc.wholePage()
	}
	return sc.choose()
}

// livePage scans the free blocks and the gap of a b-tree page in use.
func (sc *scanner) livePage() {
	p, err := sqlitefile.ParsePage(sc.im.Page, sc.data)
	if err != nil {
		return // the survey has told of it
	}
	sc.kind = p.Kind
	sc.region(p.PointersEnd(), sc.belowInteriorCells(p), false)
	sc.blocks(p)
}

// childAt reports whether the cells of an index's interior page, which are read from
// their payload on, leave no room for a cell that ends at offset at+4: the number of
// a child page stands there.
func (sc *scanner) childAt(at int) bool {
	if sc.kind != sqlitefile.InteriorIndex {
		return false
	}
	child := binary.BigEndian.Uint32(sc.data[at:])
	return child > 1 && child <= sc.s.f.Pages
}

// belowInteriorCells is where the gap's scan ends. A root page that was split
// keeps copies of the tree's first rows, but its interior cells, once written
// from the end of the page downwards, took the tails of some; after the tree
// has shrunk nothing else tells of that. So the scan stays below what still
// reads as such cells: a page of this file, and a rising row id or an index entry.
func (sc *scanner) belowInteriorCells(p *sqlitefile.Page) int {
	if sc.own == nil || p.N != sc.own.root && p.Kind.Leaf() || p.Cells > 0 && p.Kind.Leaf() {
		return p.Content
	}
	end := p.Content
	for {
		below, n := sc.interiorCells(p, end, func(uint32) {})
		// What was there before the cells that are there now is told from chance by
		// its number.
		if n == 0 || end < p.Content && n < 3 {
			return end
		}
		end = below
	}
}

// longerFile is how many pages a file may have had before it was made shorter.
const longerFile = 1 << 12

// interiorCells is where cells of an interior page begin that end at offset end, one
// below the other and with at most a fragment between (§1.6), and their number. visit
// is called with the child of each.
func (sc *scanner) interiorCells(p *sqlitefile.Page, end int, visit func(child uint32)) (begin, n int) {
	last := int64(-1 << 63)
	table := sc.own.kind == sqlitefile.LeafTable
	most := sc.s.f.Pages
	if sc.s.f.LargestRoot != 0 { // with auto_vacuum the file may have been longer
		most = max(most, longerFile)
	}
	longest := 13
	if !table {
		longest = 4 + sqlitefile.LocalPayload(sqlitefile.InteriorIndex, len(sc.data), 1<<20) + 9
	}
next:
	for {
		for gap := range 4 {
			if gap > 0 && sc.data[end-gap] != 0 {
				break
			}
			for k := 5; k <= longest && end-gap-k >= p.PointersEnd(); k++ {
				cell := sc.data[end-gap-k : end-gap]
				child := binary.BigEndian.Uint32(cell)
				if child <= 1 || child > most {
					continue
				}
				v, l := sqlitefile.Varint(cell[4:])
				if table && l == k-4 && v > last || !table && l > 0 && v >= 3 && v == int64(k-4-l) && sc.entry(cell[4+l:]) {
					end, last = end-gap-k, v
					n++
					visit(child)
					continue next
				}
			}
		}
		return end, n
	}
}

// entry reports whether b is a record of the page's owner.
func (sc *scanner) entry(b []byte) bool {
	types, body, sum, ok := recordTypes(b, 0, sc.types[:0], int64(len(b)))
	sc.types = types
	if !ok || int64(body)+sum != int64(len(b)) {
		return false
	}
	_, ok = sc.own.fit(types)
	return ok
}

// blocks scans the free blocks of a page, current or not.
func (sc *scanner) blocks(p *sqlitefile.Page) {
	for b, err := range p.FreeBlocks() {
		if err != nil {
			return // a broken chain: what lies beyond is not known to be free
		}
		sc.region(b.Start, b.End, true)
	}
}

// wholePage scans a page version that is free, lost or replaced as a whole. If the
// b-tree page that it was is whole, its own pointers lead.
func (sc *scanner) wholePage() {
	p, err := sqlitefile.ParsePage(sc.im.Page, sc.data)
	if err != nil {
		if sc.im.origin == FreeList || sc.im.origin == LostPage {
			sc.region(0, len(sc.data), false)
		}
		return
	}
	sc.kind, sc.block = p.Kind, false
	if then := sc.s.ownerThen(sc.im, leafKind(p.Kind)); then != nil && (sc.only == nil || sc.only == then) {
		sc.own, sc.known = then, true
	} else if sc.only == nil && sc.s.f.LargestRoot != 0 && sc.im.Part != sqlitefile.Main {
		sc.own = nil // with auto_vacuum pages move: whose it is now says nothing
	}
	if p.Kind != sqlitefile.InteriorTable {
		sc.pointed(p)
	}
	sc.region(p.PointersEnd(), p.Content, false)
	sc.blocks(p)
}

// leafKind is the kind of leaf page whose cells are built as those of pages of
// kind k.
func leafKind(k sqlitefile.PageKind) sqlitefile.PageKind {
	if k == sqlitefile.InteriorIndex || k == sqlitefile.LeafIndex {
		return sqlitefile.LeafIndex
	}
	return sqlitefile.LeafTable
}

// pointed reads the cells that a whole page's own pointers lead to. All are of one
// table: which, is told by all of them together.
func (sc *scanner) pointed(p *sqlitefile.Page) {
	kind := leafKind(p.Kind)
	var cells []*candidate
	fits := make([]bool, len(sc.s.shapes))
	against := make([]float64, len(sc.s.shapes))
	for i := range fits {
		fits[i] = sc.s.shapes[i].kind == kind && (sc.only == nil || sc.only == sc.s.shapes[i])
	}
	for i := range p.Cells {
		off, err := p.Pointer(i)
		if err != nil {
			continue
		}
		if p.Kind == sqlitefile.InteriorIndex {
			off += 4 // the child's page number
		}
		c := sc.cell(off, len(sc.data), kind, len(sc.data))
		if c == nil || c.truncated {
			continue
		}
		c.pointed = true
		cells = append(cells, c)
		for i, sh := range sc.s.shapes {
			if !fits[i] {
				continue
			}
			w, ok := sh.fit(c.types)
			if ok {
				sc.judge(c, sh, &w)
			}
			if fits[i] = ok && w.sum <= hopeless; ok {
				against[i] += w.sum
			}
		}
	}
	if len(cells) == 0 {
		return
	}
	// They are of one time, too: what sets them apart from live rows is seen in all.
	for i := range against {
		against[i] *= min(1, together/float64(len(cells)))
	}
	best, rivals := sc.elect(fits, against)
	if best != nil {
		if sc.own = best; len(rivals) > 0 {
			sc.own = nil
		}
	}
	for _, c := range cells {
		switch {
		case best != nil && len(rivals) == 0:
			if !sc.telling(c, best) {
				continue
			}
			c.shape = best
			c.against, _ = best.fit(c.types)
			sc.judge(c, best, &c.against)
		case best != nil:
			c.rivals = append(append(c.rivals[:0], best), rivals...)
			_, c.values, c.empty = sc.content(c, best)
		case !sc.attribute(c): // no table fits all: each cell for itself
			if kind == sqlitefile.LeafIndex || len(cells)*10 < p.Cells*9 || sc.only != nil || len(c.types) < 2 {
				continue
			}
		}
		if kind == sqlitefile.LeafIndex && c.shape == nil {
			continue // an index entry of what is not known is not a row
		}
		if c.shape == nil && best == nil {
			_, c.values, c.empty = sc.content(c, nil)
		}
		sc.keep(c)
	}
}

// elect finds the shape that most speaks for among those that fit. Others of which
// as much does are its rivals.
func (sc *scanner) elect(fits []bool, against []float64) (best *shape, rivals []*shape) {
	for i, sh := range sc.s.shapes {
		switch {
		case !fits[i]:
		case best != nil && best.like == sh.like && best.Name != sh.Name:
			if against[i] < against[best.id] {
				best, sh = sh, best
			}
			rivals = append(rivals, sh)
		case best == nil || prefer(sh, best, against[i], against[best.id]) > 0:
			best, rivals = sh, nil
		case prefer(sh, best, against[i], against[best.id]) == 0 && sh.Name != best.Name:
			rivals = append(rivals, sh)
		}
	}
	if own := sc.own; own != nil && fits[own.id] && (own.like == best.like || against[own.id] <= against[best.id]+weights[otherOwner] || sc.known && against[own.id] <= against[best.id]+lineageSays) {
		return own, nil
	}
	return best, rivals
}

// region looks at every offset of a free part of the page for a cell that is
// whole, or one whose head was overwritten when it was freed. block says that the
// part is a free block, so that a freed cell begins it.
func (sc *scanner) region(from, to int, block bool) {
	sc.enter(len(sc.data), to, block)
	first := len(sc.found)
	kind := leafKind(sc.kind)
	begin := from
	if block {
		begin += freedHead // its first bytes are the block's own
	}
	asTable, asIndex := kind == sqlitefile.LeafTable || !block, kind == sqlitefile.LeafIndex || sc.kind == 0
	for at := begin; at+freedHead < to; at++ {
		b := sc.data[at]
		if b < 2 { // no record is shorter than two bytes
			if b == 0 && at+8 < to && binary.LittleEndian.Uint64(sc.data[at:]) == 0 {
				at += 7
			}
			continue
		}
		// Most of what is no cell is seen at once: where its header's length would
		// stand is no such length.
		p := at + 1
		if b >= 0x80 {
			p = sc.behindVarint(at)
		}
		if asIndex && p < to && sc.lengths[sc.data[p]] {
			sc.try(sc.cell(at, to, sqlitefile.LeafIndex, sc.s.longest))
		}
		if !asTable || p >= to {
			continue
		}
		if sc.data[p] < 0x80 {
			p++
		} else {
			p = sc.behindVarint(p)
		}
		if p < to && sc.lengths[sc.data[p]] && (b >= 0x80 || sc.data[p] <= b) {
			sc.try(sc.cell(at, to, sqlitefile.LeafTable, sc.s.longest))
		}
	}
	for _, c := range sc.found[first:] {
		sc.begins = append(sc.begins, c.start)
		sc.bounds[c.start], sc.bounds[c.end] = sc.number, sc.number
	}
	for _, c := range sc.found[first:] {
		_, next := slices.BinarySearch(sc.begins, c.end)
		c.exact = next && !sc.childAt(c.end-4) || c.end == to && !c.truncated
	}
	if sc.kind == 0 {
		// Of a trunk of the free list the header is gone, and with it what page it was.
		if sc.guess(first); sc.kind == 0 {
			return // a free block's head says nothing
		}
		defer func() { sc.kind = 0 }()
	}
	// From the end to the beginning: where one cell begins, that before it ends.
	free, high := sc.data[:to], byte((len(sc.data)-1)>>8)
	for at := to - freedHead - 1; at >= from; at-- {
		if free[at] > high { // no offset in the page begins so
			continue
		}
		// The head of a free block, current or merged since, is how we know
		// that a cell began here. In the gap it must be one, too: the library
		// frees a cell into a block before the block joins the gap.
		head := binary.BigEndian.Uint32(sc.data[at:])
		next, size := int(head>>16), int(head&0xffff)
		if size < freedHead || at+size > len(sc.data) || next != 0 && (next < at+size || next+freedHead > len(sc.data)) {
			continue
		}
		if sc.kind == sqlitefile.InteriorIndex {
			// The child's page number is what was overwritten.
			sc.try(sc.cell(at+freedHead, to, kind, sc.s.longest))
			continue
		}
		n := len(sc.found)
		sc.headless(at, size, to, at == from && block)
		// Of a cell that was cut off by a newer one little may be left; but a
		// block that ends where another begins has begun here.
		if sc.bounded(at+size) || slices.ContainsFunc(sc.found[n:], func(c *candidate) bool { return c.exact || c.near && c.firm() }) {
			sc.freed = append(sc.freed, at)
			sc.bounds[at] = sc.number
			for _, c := range sc.found[n:] {
				if c.exact {
					sc.bounds[c.end] = sc.number
				}
			}
		}
	}
}

// guess says what page it was of which the header is gone, by the whole cells that were
// found in it from the first on, if all are of one table.
func (sc *scanner) guess(first int) {
	var one *shape
	for _, c := range sc.found[first:] {
		if c.shape == nil || c.shape.index != "" || !c.exact && !(c.end+freedHead <= len(sc.data) && sc.freedAt(c.end)) {
			continue
		}
		if one != nil && c.shape != one {
			return
		}
		one = c.shape
	}
	if one != nil && (sc.own == nil || sc.own == one) {
		sc.own, sc.kind = one, one.kind
	}
}

// behindVarint is the offset behind the varint at offset p, or the page's end.
func (sc *scanner) behindVarint(p int) int {
	end := min(p+8, len(sc.data))
	for p < end && sc.data[p] >= 0x80 {
		p++
	}
	return min(p+1, len(sc.data))
}
