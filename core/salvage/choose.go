package salvage

import (
	"bytes"
	"cmp"
	"slices"
	"sort"

	"crosswind/core/sqlitefile"
)

// candidate is one reading of some bytes as a row.
type candidate struct {
	layout
	kind      sqlitefile.PageKind // LeafTable or LeafIndex: how the cell is built
	origin    Origin
	shape     *shape   // nil if none fits, or several do
	rivals    []*shape // the shapes that fit equally well, if several do
	payload   []byte   // what there is of it, from the record header on
	size      int64    // of the whole payload
	local     int      // how much of the payload is in the page, if the rest is not; else 0
	run       int      // bytes of the values whose types are unknown
	rowID     int64
	hasRowID  bool
	against   weighed // what speaks against the reading
	values    int     // numbers and texts of it that survive
	empty     int     // and NULLs and constants
	first     bool    // it begins the free block
	exact     bool    // it ends just where the space it lay in ends
	near      bool    // it ends up to three bytes before, where a fragment follows, or where the rest of another cell begins
	gap       bool    // it lies where pages are rebuilt all the time
	loose     bool    // it lies in the gap or in a free block, and no pointer leads to it
	pointed   bool    // a cell pointer of a whole page leads to it
	truncated bool    // its tail is overwritten
	broken    bool    // its overflow chain does not hold
	doubtful  bool    // what its chain leads to cannot be its own
	solved    bool    // a lost type was worked out from where it ends
	vague     bool    // there are others that fit as well
	stale     bool    // the same row version is alive
	key       uint64  // of its content, 0 unless it is whole
}

// width is how many bytes the k-th value takes.
func (c *candidate) width(k int) int64 {
	if t := c.types[k].t; t != unknown {
		return t.Size()
	}
	if k == 0 {
		return int64(c.run)
	}
	return 0
}

// idWidth is how many bytes the row id takes, which is known where the id itself is lost.
func (c *candidate) idWidth() int {
	if c.kind != sqlitefile.LeafTable {
		return 0
	}
	return c.header - c.start - sqlitefile.VarintLen(c.size)
}

// idWidth is how many bytes a row id takes in a cell of a page of kind k.
func idWidth(k sqlitefile.PageKind, id int64) int {
	if k != sqlitefile.LeafTable {
		return 0
	}
	return sqlitefile.VarintLen(id)
}

// liveKey is what the key of a live row's content is mixed with: two rows of the same
// content are told apart by their tables and the widths of their ids.
func liveKey(sh *shape, idWidth int) uint64 { return uint64(sh.id)<<4 | uint64(idWidth) }

// whole reports whether all values survive.
func (c *candidate) whole() bool {
	for _, t := range c.types {
		if t.t == unknown {
			return false
		}
	}
	return !c.truncated && !c.broken
}

// weight is how much a reading explains: bytes, by how sure it is. A copy of a
// live row is certain.
func (c *candidate) weight() float64 {
	w := float64(c.end - c.start)
	if c.stale {
		return w * 1.5
	}
	if c.overwritten > 0 && !c.exact && !c.first || c.truncated {
		w /= 2
	}
	return w * c.confidence()
}

// choose picks the readings to report: of those that overlap the set that
// explains most, without copies of live rows.
func (sc *scanner) choose() []*candidate {
	if len(sc.found) == 0 {
		return nil
	}
	for _, c := range sc.found {
		sc.compare(c)
	}
	// Where cells end is known better when all are, but not what they hold.
	sc.neat()
	for _, c := range sc.found {
		if c.loose && !c.truncated && !c.broken && c.shape != nil {
			sc.tail(c)
		}
	}
	sc.alone()
	likely := sc.cutOff(sc.found)
	if sc.s.weighing == nil {
		likely = slices.DeleteFunc(likely, func(c *candidate) bool { return c.overwritten == 0 && !c.stale && !c.firm() })
	}
	picked := sc.schedule(likely)
	if sc.s.weighing != nil {
		for _, c := range picked {
			if !c.stale {
				sc.s.weighing(sc, c)
			}
		}
	}
	return slices.DeleteFunc(picked, func(c *candidate) bool { return c.stale || !c.firm() })
}

// smallPage is up to what size few bytes of a page pass for a free block's head by chance.
const smallPage = 8192

// neat looks, for cells that no pointer leads to, at what lies where they end. Such cells
// lie side by side: if no other begins there, the cell's tail may be another's.
func (sc *scanner) neat() {
	var starts map[int]bool
	for _, c := range sc.found {
		if !c.loose || c.truncated || c.exact {
			continue
		}
		if c.overwritten > 0 {
			c.near = c.near || c.end < len(sc.data) && sc.headAt(c.end, 1)
			continue
		}
		if starts == nil {
			starts = make(map[int]bool, len(sc.found))
			for _, b := range sc.found {
				starts[b.start] = true
			}
		}
		if !starts[c.end] && sc.taken(c) {
			c.against.add(headInText, 1)
			continue
		}
		c.exact = (starts[c.end] || sc.headAt(c.end, 1) || len(sc.data) <= smallPage && c.end+freedHead <= len(sc.data) && sc.freedAt(c.end)) && !sc.childAt(c.end-4)
	}
}

// tail looks at whether the last bytes of c are still its own.
func (sc *scanner) tail(c *candidate) {
	odd := sc.endsOddly(c, c.shape)
	if odd && (c.solved || !c.exact) { // else its length says where it ends, and the space does, too
		c.against.add(oddEnding, 1)
	}
	if least := 2; sc.outlived(c, least) || odd && sc.outlived(c, least-1) {
		c.against.add(outlived, 1)
	} else if sc.taken(c) {
		c.against.add(headInText, 1)
	}
}

// outlived reports whether the last bytes of c are the head of an older version of the
// cell that follows: one that took them, was replaced by one a little shorter, and left
// them as a fragment. least is how many bytes must be the same: a size, and what follows it.
func (sc *scanner) outlived(c *candidate, least int) bool {
	const most = 6 // bytes by which the older version was longer
	d := sc.data
	for e := c.end; e <= c.end+maxFragment && e+most < len(d); e++ {
		for k := max(least, e-c.end+1); k <= most && e-k > c.body; k++ {
			if d[e] >= freedHead && int(d[e-k]) == int(d[e])+k && bytes.Equal(d[e-k+1:e], d[e+1:e+k]) {
				return true
			}
		}
	}
	return false
}

// taken reports whether a cell begins among the last bytes of c: then these are lost. A
// head of few types is found in any bytes.
func (sc *scanner) taken(c *candidate) bool {
	const longest, least = 8, 3 // bytes of a number, and types of a head
	for at := c.end - 1; at >= max(c.end-longest, c.body); at-- {
		if sc.data[at] >= freedHead && sc.headAt(at, least) {
			return true
		}
	}
	return false
}

// alone drops, of cells that are of another table than their page and that no pointer
// leads to, those without one of the same table beside them: pages that are used
// again keep several, and bytes that read as one are found by chance.
func (sc *scanner) alone() {
	foreign := func(c *candidate) bool {
		return c.loose && c.overwritten == 0 && c.shape != nil && sc.own != nil && c.shape != sc.own
	}
	if !slices.ContainsFunc(sc.found, foreign) {
		return
	}
	begins, ends := map[int]*shape{}, map[int]*shape{}
	for _, c := range sc.found {
		if foreign(c) {
			begins[c.start], ends[c.end] = c.shape, c.shape
		}
	}
	sc.found = slices.DeleteFunc(sc.found, func(c *candidate) bool {
		return foreign(c) && begins[c.end] != c.shape && ends[c.start] != c.shape
	})
}

// headAt reports whether a cell's head with that many types or more stands at offset at,
// whatever has become of the rest of the cell.
func (sc *scanner) headAt(at, least int) bool {
	d := sc.data
	for _, kind := range []sqlitefile.PageKind{sqlitefile.LeafTable, sqlitefile.LeafIndex} {
		size, k := sqlitefile.Varint(d[at:])
		if k == 0 || size < 2 || size > maxPayload {
			return false
		}
		p := at + k
		if kind == sqlitefile.LeafTable {
			if _, k = sqlitefile.Varint(d[p:]); k == 0 {
				continue
			}
			p += k
		}
		if p >= len(d) || !sc.lengths[d[p]] || !addsUp(d[p:], size) {
			continue
		}
		types, body, sum, ok := recordTypes(d[p:], p, sc.types[:0], size)
		sc.types = types
		if !ok || int64(body)+sum != size || len(types) < least {
			continue
		}
		for _, sh := range sc.s.shapes {
			if _, ok := sh.fit(types); ok && sh.kind == kind {
				return true
			}
		}
	}
	return false
}

// headWithin reports whether the head of another cell stands among the values of c:
// then what follows is no longer its own.
func (sc *scanner) headWithin(c *candidate) bool {
	for at := c.body; at < min(c.end, len(sc.data)-freedHead); at++ {
		if sc.data[at] >= 2 && sc.headAt(at, 1) {
			return true
		}
	}
	return false
}

// maxOverlaps is how many readings behind one's start are compared with it: a hostile
// page may have thousands.
const maxOverlaps = 256

// cutOff finds cells whose tails were taken by others: a cell whose whole head lies
// in the body of another was written later. What is left of the earlier one is
// kept if it still tells something.
func (sc *scanner) cutOff(found []*candidate) []*candidate {
	cs := slices.Clone(found)
	slices.SortStableFunc(cs, func(a, b *candidate) int { return cmp.Compare(a.start, b.start) })
	out := make([]*candidate, 0, len(cs))
	for i, c := range cs {
		cut := 0
		if c.overwritten == 0 && !c.pointed && !c.stale {
			for _, b := range cs[i+1 : min(i+1+maxOverlaps, len(cs))] {
				if b.start >= c.end {
					break
				}
				if b.start > c.header && b.overwritten == 0 && (b.exact || b.stale || b.pointed) {
					cut = b.start
					break
				}
			}
		}
		if cut == 0 {
			out = append(out, c)
			continue
		}
		if cut <= c.body || c.broken || c.shape == nil {
			continue
		}
		c.end, c.truncated, c.exact, c.key = cut, true, false, 0
		c.payload = sc.data[c.header:cut]
		foreign := sc.own != nil && c.shape != sc.own
		c.against, _ = c.shape.fit(c.types)
		if sc.judge(c, c.shape, &c.against); foreign {
			c.against.add(otherOwner, 1)
		}
		if c.against.sum < unusual && sc.telling(c, c.shape) {
			sc.compare(c)
			out = append(out, c)
		}
	}
	return out
}

// compare marks c as stale if it only repeats a live row, or the beginning of one.
func (sc *scanner) compare(c *candidate) {
	s := sc.s
	whole := c.whole()
	if whole {
		c.key = s.keys.record(c.headerTypes(), c.payload[c.body-c.header:])
	}
	same := func(sh *shape) bool {
		if whole && s.live.has(mix(c.key, liveKey(sh, c.idWidth()))) {
			if !c.hasRowID {
				return true
			}
			live, ok := s.f.Find(sh.Root, c.rowID)
			if ok && live.PayloadSize == c.size && bytes.HasPrefix(c.payload, live.Local) {
				return true
			}
		}
		if !c.hasRowID || sh.kind != sqlitefile.LeafTable {
			return false
		}
		// What is left of a copy whose tail is overwritten: the live row of the
		// same id begins as it does.
		if !whole && c.overwritten == 0 {
			live, ok := s.f.Find(sh.Root, c.rowID)
			n := min(len(live.Local), len(c.payload))
			return ok && n > 0 && bytes.Equal(live.Local[:n], c.payload[:n])
		}
		return c.gap && whole && c.overwritten == 0 && sc.frayed(c, sh)
	}
	if c.shape != nil {
		c.stale = !c.shape.dropped && same(c.shape)
		return
	}
	among := c.rivals
	if len(among) == 0 {
		among = s.shapes
	}
	c.stale = slices.ContainsFunc(among, func(sh *shape) bool { return sh.kind == c.kind && !sh.dropped && same(sh) })
}

// frayed finds copies in the gap whose head is whole and whose tail is not.
// Pages are rebuilt by copying cells, and a later cell may take the end of a
// copy; what is there then still parses. Such a copy has the row id, the types and
// the first values of the live row that it was copied from, and another last one.
func (sc *scanner) frayed(c *candidate, sh *shape) bool {
	live, ok := sc.s.f.Find(sh.Root, c.rowID)
	head := c.body - c.header
	if !ok || live.PayloadSize != c.size || len(live.Local) < head || !bytes.Equal(live.Local[:head], c.payload[:head]) {
		return false
	}
	at, same, last := head, 0, true
	for k := range c.types {
		n := int(c.width(k))
		if n == 0 {
			continue
		}
		if at+n > len(live.Local) || at+n > len(c.payload) {
			break
		}
		if last = bytes.Equal(live.Local[at:at+n], c.payload[at:at+n]); last {
			same++
		}
		at += n
	}
	return same > 0 && !last
}

// headerTypes gives the serial types of c as a record header holds them.
func (c *candidate) headerTypes() []byte {
	if c.overwritten == 0 {
		_, k := sqlitefile.Varint(c.payload)
		return c.payload[k : c.body-c.header]
	}
	var b []byte
	for _, t := range c.types {
		b = sqlitefile.AppendVarint(b, int64(t.t))
	}
	return b
}

// schedule solves weighted interval scheduling: the readings of one page that
// do not overlap and weigh most together, in order of offset.
func (sc *scanner) schedule(cs []*candidate) []*candidate {
	if len(cs) == 0 {
		return nil
	}
	if len(cs) == 1 {
		return slices.Clone(cs)
	}
	cs = withoutContainers(cs)
	slices.SortStableFunc(cs, func(a, b *candidate) int { return cmp.Or(cmp.Compare(a.end, b.end), cmp.Compare(a.start, b.start)) })
	best := make([]float64, len(cs)+1)
	before := make([]int, len(cs))
	for i, c := range cs {
		before[i] = sort.Search(i, func(k int) bool { return cs[k].end > c.start })
		best[i+1] = max(best[i], best[before[i]]+c.weight())
	}
	var out []*candidate
	for i := len(cs); i > 0; {
		if best[i] == best[i-1] {
			i--
			continue
		}
		out = append(out, cs[i-1])
		i = before[i-1]
	}
	// From the last to the first: a cell that ends where a firm one begins is
	// as sure of its end as that one.
	for i, c := range out {
		if i > 0 && out[i-1].start == c.end && (out[i-1].firm() || out[i-1].stale) && !sc.childAt(c.end-4) {
			c.exact = true
		}
	}
	slices.Reverse(out)
	return out
}

// withoutContainers leaves out readings of an uncertain end that reach over
// cells whose own head is whole: a free block's head read by chance in the
// middle of a text can claim thousands of bytes.
func withoutContainers(cs []*candidate) []*candidate {
	cs = slices.Clone(cs)
	if !slices.ContainsFunc(cs, func(c *candidate) bool { return c.overwritten > 0 }) {
		return cs
	}
	slices.SortStableFunc(cs, func(a, b *candidate) int { return cmp.Compare(a.start, b.start) })
	firstEnd := make([]int, len(cs)+1) // of whole cells from here on, the least end
	firstEnd[len(cs)] = 1 << 30
	for i := len(cs) - 1; i >= 0; i-- {
		firstEnd[i] = firstEnd[i+1]
		if cs[i].overwritten == 0 {
			firstEnd[i] = min(firstEnd[i], cs[i].end)
		}
	}
	starts := make([]int, len(cs))
	for i, c := range cs {
		starts[i] = c.start
	}
	wholeAt := map[int]bool{} // where the record headers of whole cells are
	for _, c := range cs {
		if c.overwritten == 0 {
			wholeAt[c.header] = true
		}
	}
	out := make([]*candidate, 0, len(cs))
	for _, c := range cs {
		if c.overwritten > 0 && wholeAt[c.header] {
			continue // another reading of the same record, which is better proved
		}
		inside := sort.SearchInts(starts, c.start+freedHead)
		if c.solved && slices.ContainsFunc(cs[inside:min(inside+maxOverlaps, len(cs))], func(b *candidate) bool { return b.exact && b.end <= c.end && b.start < c.end }) {
			continue
		}
		if c.overwritten > 0 && firstEnd[inside] <= c.end {
			continue
		}
		out = append(out, c)
	}
	return out
}
