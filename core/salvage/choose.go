package salvage

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"hash/maphash"
	"math"
	"slices"
	"sort"

	"crosswind/core/sqlitefile"
)

// weight is how much a reading explains: bytes, by how sure it is. A copy of a
// live row is certain.
func (c *candidate) weight() float64 {
	w := float64(c.end - c.start)
	if c.stale {
		return w * 1.5
	}
	if c.overwritten > 0 && !c.exact {
		w /= 2
	}
	return w * c.confidence()
}

// choose picks the readings to report: of those that overlap in a page the set
// that explains most, without copies of live rows, each row version once.
func (s *surveyed) choose() []*candidate {
	s.markStale()
	var picked []*candidate
	for i := 0; i < len(s.cands); {
		j := i
		for j < len(s.cands) && s.cands[j].page == s.cands[i].page {
			j++
		}
		picked = append(picked, schedule(s.cands[i:j])...)
		i = j
	}
	picked = slices.DeleteFunc(picked, func(c *candidate) bool { return c.stale || !c.firm() })
	return s.once(picked)
}

// firm reports whether the reading stands on enough to be told. A cell whose
// head is overwritten must end where the space that it lay in ends, or where
// the next one begins; what lies where pages are rebuilt all the time, in the
// gap, must look like the table's other rows in nearly every value.
func (c *candidate) firm() bool {
	if c.overwritten > 0 && !c.exact && !c.truncated {
		return false
	}
	return c.pointed || c.origin != Unallocated && c.overwritten == 0 || c.penalty < outOfRange
}

// schedule solves weighted interval scheduling: the readings of one page that
// do not overlap and weigh most together, in order of offset.
func schedule(cs []*candidate) []*candidate {
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
		if i > 0 && out[i-1].start == c.end && (out[i-1].firm() || out[i-1].stale) {
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
	out := cs[:0]
	for _, c := range cs {
		inside := sort.SearchInts(starts, c.start+freedHead)
		if c.overwritten > 0 && !c.exact && firstEnd[inside] <= c.end {
			continue
		}
		out = append(out, c)
	}
	return out
}

// matcher finds readings by the values that survive in them. Readings of one
// table that lost the same columns form a group with one set of hashes, so
// that a row is looked up once a group, not once a reading.
type matcher struct {
	seed   maphash.Seed
	groups map[*shape][]*group
}

type group struct {
	lost     []bool
	hasRowID bool
	by       map[uint64][]*candidate
}

func newMatcher() *matcher {
	return &matcher{seed: maphash.MakeSeed(), groups: map[*shape][]*group{}}
}

func (m *matcher) add(c *candidate) {
	var g *group
	for _, x := range m.groups[c.shape] {
		if x.hasRowID == c.hasRowID && slices.Equal(x.lost, c.lost) {
			g = x
		}
	}
	if g == nil {
		g = &group{lost: c.lost, hasRowID: c.hasRowID, by: map[uint64][]*candidate{}}
		m.groups[c.shape] = append(m.groups[c.shape], g)
	}
	k := m.hash(g, c.rowID, c.values)
	g.by[k] = append(g.by[k], c)
}

// matches calls visit with each reading all of whose surviving values are those
// of the given row.
func (m *matcher) matches(sh *shape, rowID int64, hasRowID bool, values []sqlitefile.Value, lost []bool, visit func(*candidate)) {
	for _, g := range m.groups[sh] {
		if len(g.lost) != len(values) || g.hasRowID && !hasRowID || lost != nil && !covers(g.lost, lost) {
			continue
		}
		for _, c := range g.by[m.hash(g, rowID, values)] {
			if (!g.hasRowID || c.rowID == rowID) && agree(c, values) {
				visit(c)
			}
		}
	}
}

// covers reports whether every column lost in b is lost in a.
func covers(a, b []bool) bool {
	for i := range b {
		if b[i] && !a[i] {
			return false
		}
	}
	return true
}

func (m *matcher) hash(g *group, rowID int64, values []sqlitefile.Value) uint64 {
	var h maphash.Hash
	h.SetSeed(m.seed)
	var b [9]byte
	if g.hasRowID {
		binary.LittleEndian.PutUint64(b[:], uint64(rowID))
		h.Write(b[:8])
	}
	for i, v := range values {
		if g.lost[i] {
			continue
		}
		b[0] = byte(v.Class())
		binary.LittleEndian.PutUint64(b[1:], uint64(bits(v)))
		h.Write(b[:])
		h.Write(v.Bytes())
	}
	return h.Sum64()
}

func bits(v sqlitefile.Value) int64 {
	switch v.Class() {
	case sqlitefile.Integer:
		return v.Int()
	case sqlitefile.Real:
		return int64(math.Float64bits(v.Float()))
	}
	return int64(len(v.Bytes()))
}

// agree reports whether every surviving value of c is that of the row. Of a
// text that survives in part, the part must be the text's beginning.
func agree(c *candidate, values []sqlitefile.Value) bool {
	for i, v := range values {
		if c.lost[i] {
			if part := c.values[i].Bytes(); len(part) > 0 && !bytes.HasPrefix(v.Bytes(), part) {
				return false
			}
			continue
		}
		if !sameValue(v, c.values[i]) {
			return false
		}
	}
	return true
}

func sameValue(a, b sqlitefile.Value) bool {
	if a.Class() != b.Class() {
		return false
	}
	switch a.Class() {
	case sqlitefile.Integer:
		return a.Int() == b.Int()
	case sqlitefile.Real:
		return a.Float() == b.Float()
	}
	return bytes.Equal(a.Bytes(), b.Bytes())
}

func sameValues(a, b *candidate) bool {
	if a.shape != b.shape || !slices.Equal(a.lost, b.lost) {
		return false
	}
	for i := range a.values {
		if !sameValue(a.values[i], b.values[i]) {
			return false
		}
	}
	return true
}

// markStale reads the live rows once more and marks the readings that only
// repeat one of them. A reading without a table is tried against every table.
func (s *surveyed) markStale() {
	m := newMatcher()
	loose := newMatcher() // readings without a table, by their raw values
	for _, c := range s.cands {
		if c.shape != nil {
			m.add(c)
		} else {
			loose.add(c)
		}
	}
	mark := func(c *candidate) { c.stale = true }
	frayed := newFrayed(s.cands)
	var raw []sqlitefile.Value
	for _, sh := range s.shapes {
		if len(m.groups[sh]) == 0 && len(loose.groups) == 0 {
			continue
		}
		for row, err := range s.f.Rows(sh.Table) {
			if err != nil {
				continue
			}
			m.matches(sh, row.RowID, !sh.WithoutRowID, row.Values, nil, mark)
			frayed.matches(sh, row.RowID, row.Values, nil, mark)
			if len(loose.groups) > 0 {
				if raw, err = sqlitefile.Record(row.Payload, raw); err == nil {
					loose.matches(nil, row.RowID, true, raw, nil, mark)
				}
			}
		}
	}
}

// frayed finds copies in the gap whose head is whole and whose tail is not.
// Pages are rebuilt by copying cells, and a later cell may take the end of a
// copy; what is there then still parses. Such a copy has the row id and the
// first values of the row it was copied from, and other values up to its last.
// A changed row does not leave this behind: a change that keeps the length is
// written in place, and one that does not frees the old cell, head first.
type frayed map[*shape]map[int64][]*candidate

func newFrayed(cs []*candidate) frayed {
	m := frayed{}
	for _, c := range cs {
		if c.shape != nil && c.origin == Unallocated && c.hasRowID {
			if m[c.shape] == nil {
				m[c.shape] = map[int64][]*candidate{}
			}
			m[c.shape][c.rowID] = append(m[c.shape][c.rowID], c)
		}
	}
	return m
}

func (m frayed) matches(sh *shape, rowID int64, values []sqlitefile.Value, self *candidate, visit func(*candidate)) {
	for _, c := range m[sh][rowID] {
		if c == self || len(c.values) != len(values) {
			continue
		}
		same, last := 0, true
		for i, v := range values {
			if c.values[i].Type != v.Type && i != sh.RowIDColumn {
				same = -len(values)
			}
			if v.Type.Size() > 0 && i != sh.RowIDColumn {
				if last = sameValue(v, c.values[i]); last {
					same++
				}
			}
		}
		if same > 0 && !last {
			visit(c)
		}
	}
}

// once drops readings that say nothing another, fuller one does not say.
func (s *surveyed) once(cs []*candidate) []*candidate {
	order := slices.Clone(cs)
	slices.SortStableFunc(order, func(a, b *candidate) int {
		return cmp.Or(cmp.Compare(b.survives(), a.survives()), cmp.Compare(b.confidence(), a.confidence()))
	})
	m := newMatcher()
	for _, c := range order {
		m.add(c)
	}
	gone := map[*candidate]bool{}
	frayed := newFrayed(order)
	for _, c := range order {
		if gone[c] {
			continue
		}
		if c.hasRowID && c.shape != nil && c.origin != Unallocated {
			frayed.matches(c.shape, c.rowID, c.values, c, func(d *candidate) { gone[d] = true })
		}
		m.matches(c.shape, c.rowID, c.hasRowID, c.values, c.lost, func(d *candidate) {
			if d != c {
				gone[d] = true
			}
		})
	}
	return slices.DeleteFunc(cs, func(c *candidate) bool { return gone[c] })
}

// survives counts the values that are whole, and the row id.
func (c *candidate) survives() int {
	n := 0
	for _, l := range c.lost {
		if !l {
			n++
		}
	}
	if c.hasRowID {
		n++
	}
	return n
}
