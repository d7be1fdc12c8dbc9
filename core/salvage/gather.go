package salvage

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"

	"crosswind/core/sqlitefile"
)

// gathering collects findings and tells them.
type gathering struct {
	batch
	s        *Survey
	sc       *scanner
	patterns patterns
	cand     candidate // scratch
	buf      Row       // the same
	at       int       // 1 + the index of the image that was read last, 0 if none
	fault    error     // of this package, on the finding that was read last
}

// merge adds a batch.
func (g *gathering) merge(b *batch) {
	n, at := int32(len(g.found)), uint32(len(g.types))
	for _, f := range b.found {
		f.types += at
		g.found = append(g.found, f)
	}
	g.types = append(g.types, b.types...)
	for _, k := range b.partial {
		g.partial = append(g.partial, findingKey{k.key, k.n + n})
	}
	for k, v := range b.rivals {
		if g.rivals == nil {
			g.rivals = map[int32][]*shape{}
		}
		g.rivals[k+n] = v
	}
	for k, v := range b.parts {
		if g.parts == nil {
			g.parts = map[int32][]byte{}
		}
		g.parts[k+n] = v
	}
	for t := range b.tables {
		if g.tables == nil {
			g.tables = map[*sqlitefile.Table]bool{}
		}
		g.tables[t] = true
	}
}

func (g *gathering) link(at, n int32) {
	g.found[n].other = at + 1
	g.found[n].next = g.found[at].first
	g.found[at].first = n + 1
}

// emit tells what was found, each row version once, and forgets it.
func (g *gathering) emit(yield func(*Row, error) bool) bool {
	defer func() {
		g.batch = batch{found: g.found[:0], types: g.types[:0], partial: g.partial[:0]}
	}()
	g.unite()
	slices.SortFunc(g.partial, func(a, b findingKey) int { return cmp.Or(cmp.Compare(a.key, b.key), cmp.Compare(a.n, b.n)) })
	for t := range g.tables {
		for row, err := range g.s.f.Rows(t) {
			if err == nil && t.Root != 0 {
				g.cover(&Row{Table: t, Values: row.Values, Lost: make([]bool, len(row.Values)), RowID: row.RowID, HasRowID: !t.WithoutRowID}, -1)
			}
		}
	}
	var rest []int32
	for i := range g.found {
		if g.found[i].flags&partial != 0 {
			rest = append(rest, int32(i))
		}
	}
	for _, withID := range []bool{true, false} {
		for i := range g.found {
			f := &g.found[i]
			if f.flags&partial == 0 && f.other == 0 && f.shape >= 0 && (f.flags&hasRowID != 0) == withID && len(g.patterns.of[g.s.shapes[f.shape].Table]) > 0 {
				if row := g.row(int32(i)); row != nil {
					g.cover(row, int32(i))
				}
			}
		}
	}
	for i := range g.found {
		if f := &g.found[i]; f.other == 0 && f.flags&partial == 0 {
			if !g.tell(int32(i), yield) {
				return false
			}
		}
	}
	// Of the partial ones the fullest first: it may cover others.
	survive := func(i int32) int { return int(g.found[i].sure) }
	slices.SortStableFunc(rest, func(a, b int32) int { return cmp.Compare(survive(b), survive(a)) })
	for _, i := range rest {
		if g.found[i].flags&covered != 0 || g.found[i].other != 0 {
			continue
		}
		if row := g.row(i); row != nil && row.Table != nil {
			g.cover(row, i)
		}
		if !g.tell(i, yield) {
			return false
		}
	}
	return true
}

// unite finds the findings that are the same row version: equal in all values, and
// in the row id where it is known.
func (g *gathering) unite() {
	byKey := make([]findingKey, 0, len(g.found))
	for i := range g.found {
		if f := &g.found[i]; f.flags&partial == 0 {
			byKey = append(byKey, findingKey{f.key, int32(i)})
		}
	}
	slices.SortFunc(byKey, func(a, b findingKey) int { return cmp.Compare(a.key, b.key) })
	better := func(a, b findingKey) int {
		x, y := &g.found[a.n], &g.found[b.n]
		return cmp.Or(cmp.Compare(y.flags&hasRowID, x.flags&hasRowID), cmp.Compare(min(y.shape, 0), min(x.shape, 0)), cmp.Compare(y.sure, x.sure), cmp.Compare(a.n, b.n))
	}
	type version struct {
		shape int32
		rowID int64
		known bool
	}
	known := map[version]int32{}
	for i := 0; i < len(byKey); {
		j := i + 1
		for j < len(byKey) && byKey[j].key == byKey[i].key {
			j++
		}
		if same := byKey[i:j]; len(same) > 1 {
			slices.SortFunc(same, better)
			clear(known)
			for _, k := range same {
				n, f := k.n, &g.found[k.n]
				v := version{f.shape, f.rowID, f.flags&hasRowID != 0}
				at, ok := known[v]
				if !ok && (f.shape < 0 || f.flags&hasRowID == 0) {
					// Nothing tells it from one that is known better.
					for _, other := range same {
						m, p := other.n, &g.found[other.n]
						if m == n {
							break
						}
						if p.other == 0 && (p.shape == f.shape || f.shape < 0) && (f.flags&hasRowID == 0 && g.idWidth(n) == g.idWidth(m) || f.flags&hasRowID != 0 && p.rowID == f.rowID) {
							at, ok = m, true
							break
						}
					}
				}
				if ok {
					g.link(at, n)
				} else {
					known[v] = n
				}
			}
		}
		i = j
	}
}

// idWidth is how many bytes the row id of the n-th finding takes.
func (g *gathering) idWidth(n int32) int {
	f := &g.found[n]
	c := candidate{layout: layout{header: int(f.header)}, kind: sqlitefile.LeafIndex, size: int64(f.body)}
	if f.flags&table != 0 {
		c.kind = sqlitefile.LeafTable
	}
	types := g.types[f.types:]
	for range f.count {
		t, k := sqlitefile.Varint(types)
		types = types[k:]
		if t > 0 {
			c.size += sqlitefile.SerialType(t - 1).Size()
		}
	}
	return c.idWidth()
}

// row finds the n-th finding again, or returns nil.
func (g *gathering) row(n int32) (row *Row) {
	// One hostile page must not cost the others, nor the process.
	defer func() {
		if r := recover(); r != nil {
			row, g.fault = nil, fmt.Errorf("%w: page %d: %v", ErrInternal, g.s.image(int(g.found[n].image)).Page, r)
		}
	}()
	c := g.candidate(n)
	if c == nil {
		return nil
	}
	row = g.s.row(g.sc, c, &g.buf)
	row.Confidence = float64(g.found[n].sure) / 100
	return row
}

// candidate reads the n-th finding again, as it was chosen.
func (g *gathering) candidate(n int32) *candidate {
	f := &g.found[n]
	sc := g.sc
	if g.at != int(f.image)+1 {
		g.at = 0
		if sc.read(g.s.image(int(f.image))) != nil {
			return nil
		}
		g.at = int(f.image) + 1
	}
	c := &g.cand
	*c = candidate{layout: layout{start: int(f.start), types: c.types[:0]}, origin: Origins[f.origin], rowID: f.rowID, hasRowID: f.flags&hasRowID != 0,
		run: int(f.run), kind: sqlitefile.LeafIndex, rivals: g.rivals[n]}
	c.header = c.start + int(f.header)
	c.body, c.end = c.header+int(f.body), c.start+int(f.length)
	if f.flags&table != 0 {
		c.kind = sqlitefile.LeafTable
	}
	if f.shape >= 0 {
		c.shape = g.s.shapes[f.shape]
	}
	if f.flags&headless != 0 {
		c.overwritten = freedHead
	}
	types, at := g.types[f.types:], c.body
	for range f.count {
		t, k := sqlitefile.Varint(types)
		types = types[k:]
		c.types = append(c.types, typeAt{sqlitefile.SerialType(t - 1), 0, 0})
	}
	for i := len(c.types) - 1; i >= 0; i-- { // they stand before the first value, unless they are overwritten
		if t := &c.types[i]; t.t != unknown {
			k := sqlitefile.VarintLen(int64(t.t))
			if at -= k; at >= c.start+c.overwritten && at > c.header {
				t.at, t.len = at, k
			}
		}
	}
	c.size = int64(f.body)
	for k := range c.types {
		c.size += c.width(k)
	}
	c.payload = sc.data[c.header:max(c.end, c.header)]
	if local := sqlitefile.LocalPayload(c.kind, len(sc.data), c.size); int64(local) < c.size && c.header+local+4 <= c.end {
		if c.payload = c.payload[:local]; f.flags&cut != 0 {
			return c
		}
		cell := sqlitefile.Cell{Local: sc.data[c.header : c.header+local], PayloadSize: c.size, Overflow: binary.BigEndian.Uint32(sc.data[c.header+local:])}
		c.payload, _ = g.s.chain(sc.im, cell, nil)
	}
	return c
}

func (g *gathering) tell(n int32, yield func(*Row, error) bool) bool {
	row := g.row(n)
	if row == nil {
		fault := g.fault
		g.fault = nil
		return fault == nil || yield(nil, fault)
	}
	for o := g.found[n].first; o != 0; o = g.found[o-1].next {
		f := &g.found[o-1]
		im := g.s.image(int(f.image))
		p := placeOf(im, int(f.start), int(f.length))
		p.Origin = Origins[f.origin]
		if f.flags&inIndex != 0 {
			p.Origin = InIndex
		}
		row.Others = append(row.Others, p)
	}
	if sh := row.shape; sh != nil && row.HasRowID && !sh.dropped && !sh.WithoutRowID {
		_, row.Earlier = g.s.f.Find(sh.Table.Root, row.RowID)
	}
	slices.SortFunc(row.Others, func(a, b Place) int { return cmp.Or(cmp.Compare(a.Part, b.Part), cmp.Compare(a.Offset, b.Offset)) })
	return yield(row, nil)
}
