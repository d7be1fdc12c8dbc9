package salvage

import (
	"cmp"
	"encoding/binary"
	"hash/maphash"
	"iter"
	"math"
	"slices"

	"crosswind/core/sqlitefile"
)

// Rows surveys f and yields its rows: see Survey.Rows.
func Rows(f *sqlitefile.File, opt Options) iter.Seq2[*Row, error] {
	return func(yield func(*Row, error) bool) {
		s := New(f)
		if err := s.Fault(); err != nil && !yield(nil, err) {
			return
		}
		s.Rows(opt)(yield)
	}
}

// Rows yields live rows first, if asked for, by table and row id; then recovered
// ones by page and offset, those of page versions that are not current after all
// others, and last those of which values are lost. Damage is yielded as errors and
// does not end the iteration. A Row is valid until the iteration goes on; Clone keeps it.
func (s *Survey) Rows(opt Options) iter.Seq2[*Row, error] {
	return func(yield func(*Row, error) bool) {
		if opt.Live {
			for _, sh := range s.shapes {
				if sh.Root == 1 || sh.index != "" || sh.dropped {
					continue
				}
				for row, err := range s.f.Rows(sh.Table) {
					if err != nil {
						continue // the survey has told of it
					}
					if !yield(s.liveRow(sh, row), nil) {
						return
					}
				}
			}
		}
		g := gathering{s: s, sc: newScanner(s), patterns: map[*sqlitefile.Table][]*pattern{}, partial: map[uint64][]int32{}}
		for i := range s.images() {
			if im := s.image(i); !opt.Full && im.origin == LostPage {
				continue
			}
			if err := g.take(i); err != nil && !yield(nil, err) {
				return
			}
			if len(g.found) > maxFindings {
				if !g.emit(yield) {
					return
				}
			}
		}
		g.emit(yield)
	}
}

// maxFindings bounds the findings that are compared with each other, for memory's
// sake. In a file with more, a row version may come out once for each so many.
const maxFindings = 2 << 20

func (s *Survey) liveRow(sh *shape, r *sqlitefile.Row) *Row {
	v := s.f.Current(r.Page)
	row := &Row{Table: sh.Table, Values: r.Values, Lost: make([]bool, len(r.Values)), RowID: r.RowID, HasRowID: !sh.WithoutRowID, Live: true, Confidence: 1,
		Place: Place{Part: v.Part, Page: r.Page, Frame: v.Frame, Offset: v.Offset + int64(r.Offset), Length: r.Length}}
	types, body, _, ok := recordTypes(r.Local, r.PayloadAt, nil)
	if ok {
		l := layout{start: r.Offset, header: r.PayloadAt, body: r.PayloadAt + body, end: r.PayloadAt + len(r.Local), types: types}
		row.Fields = l.fields(sh, v.Offset)
	}
	return row
}

// Clone makes a copy of r that stays valid.
func (r *Row) Clone() *Row {
	c := *r
	c.Values = make([]sqlitefile.Value, len(r.Values))
	for i, v := range r.Values {
		c.Values[i] = v.Clone()
	}
	c.Lost = slices.Clone(r.Lost)
	return &c
}

// finding is what is kept of a chosen reading until it is told: enough to compare
// it with others, and to find it again.
type finding struct {
	key    uint64
	rowID  int64
	image  int32
	length uint32
	other  int32 // the finding that it is told under, plus 1; 0 if it stands itself
	next   int32 // the next that is told under the same, plus 1
	first  int32 // the first that is told under it, plus 1
	start  uint16
	shape  int16 // -1 if not known
	sure   uint8 // confidence, in hundredths
	flags  uint8
}

const (
	hasRowID = 1 << iota
	partial
	covered // a partial one that says nothing that another does not say
	inIndex
)

// pattern is a set of columns that survive in a partial finding.
type pattern struct {
	lost   []bool
	withID bool
	n      int // values that survive
}

// gathering collects findings and tells them.
type gathering struct {
	s        *Survey
	sc       *scanner
	found    []finding
	patterns map[*sqlitefile.Table][]*pattern
	partial  map[uint64][]int32 // partial findings by the values that survive in them
	anyLive  map[*sqlitefile.Table]bool
	parts    map[int32][]byte // of partial findings, the beginning of a value that is cut off
}

// take scans a page version.
func (g *gathering) take(i int) error {
	im := g.s.image(i)
	if im.current {
		switch use := g.s.use[im.Page]; use {
		case PointerMap, LockByte:
			return nil
		case Overflow:
			if g.s.used[im.Page] == 0 {
				return nil
			}
		}
	}
	g.sc.at = 0
	if err := g.sc.read(im); err != nil {
		return err
	}
	for _, c := range g.sc.scan() {
		f := finding{key: c.key, rowID: c.rowID, image: int32(i), start: uint16(c.start), length: uint32(c.end - c.start), shape: -1,
			sure: uint8(c.confidence()*100 + 0.5)}
		if c.hasRowID {
			f.flags |= hasRowID
		}
		if c.shape != nil {
			f.shape = int16(c.shape.id)
			if c.shape.index != "" {
				f.flags |= inIndex | partial
			}
		}
		if c.key == 0 {
			f.flags |= partial
		}
		n := int32(len(g.found))
		if f.flags&partial != 0 && c.shape != nil {
			g.addPartial(c, n)
		}
		g.found = append(g.found, f)
	}
	return nil
}

// addPartial files a finding by the values that survive in it.
func (g *gathering) addPartial(c *candidate, n int32) {
	row := g.s.row(g.sc, c)
	p := g.pattern(row)
	if p == nil {
		return
	}
	k := g.project(p, row, p.withID)
	g.partial[k] = append(g.partial[k], n)
	if p.withID {
		k = g.project(p, row, false)
		g.partial[k] = append(g.partial[k], n)
	}
	for i, l := range row.Lost {
		if b := row.Values[i].Bytes(); l && len(b) > 0 {
			if g.parts == nil {
				g.parts = map[int32][]byte{}
			}
			g.parts[n] = slices.Clone(b[:min(len(b), 64)])
		}
	}
	if c.shape.index == "" {
		if g.anyLive == nil {
			g.anyLive = map[*sqlitefile.Table]bool{}
		}
		g.anyLive[c.shape.Table] = true
	}
}

// maxPatterns bounds the sets of surviving columns of one table.
const maxPatterns = 64

func (g *gathering) pattern(row *Row) *pattern {
	ps := g.patterns[row.Table]
	for _, p := range ps {
		if p.withID == row.HasRowID && slices.Equal(p.lost, row.Lost) {
			return p
		}
	}
	if len(ps) == maxPatterns {
		return nil
	}
	p := &pattern{lost: row.Lost, withID: row.HasRowID}
	for _, l := range row.Lost {
		if !l {
			p.n++
		}
	}
	g.patterns[row.Table] = append(ps, p)
	return p
}

// project is the key of those values of a row that survive in p, with or without
// the row id.
func (g *gathering) project(p *pattern, row *Row, withID bool) uint64 {
	var h maphash.Hash
	h.SetSeed(g.s.keys.body)
	var b [9]byte
	if withID {
		binary.LittleEndian.PutUint64(b[:], uint64(row.RowID))
		h.Write(b[:8])
	}
	for i, v := range row.Values {
		if p.lost[i] || i == row.Table.RowIDColumn {
			continue
		}
		b[0] = byte(v.Class())
		n := uint64(len(v.Bytes()))
		switch v.Class() {
		case sqlitefile.Integer:
			n = uint64(v.Int())
		case sqlitefile.Real:
			n = math.Float64bits(v.Float())
		}
		binary.LittleEndian.PutUint64(b[1:], n)
		h.Write(b[:])
		h.Write(v.Bytes())
	}
	return h.Sum64()
}

// cover marks the partial findings that say nothing that row does not say, and
// lists them under it. at tells where row is found, -1 for a live one. A row whose
// id is lost stands for one finding of each pattern at most: the ids of others
// could not be its own, too.
func (g *gathering) cover(row *Row, at int32) {
	for _, p := range g.patterns[row.Table] {
		if len(p.lost) != len(row.Values) || !covers(p.lost, row.Lost, row.Table.RowIDColumn) {
			continue
		}
		for _, n := range g.partial[g.project(p, row, p.withID && row.HasRowID)] {
			f := &g.found[n]
			if n == at || f.flags&covered != 0 || g.s.shapes[f.shape].Table != row.Table || !g.begins(n, row) {
				continue
			}
			f.flags |= covered
			if at >= 0 {
				g.link(at, n)
			}
			if p.withID && !row.HasRowID {
				break
			}
		}
	}
}

// begins reports whether the part of a value that survives in the n-th finding is
// the beginning of one that row has where the finding lost it.
func (g *gathering) begins(n int32, row *Row) bool {
	part := g.parts[n]
	if len(part) == 0 {
		return true
	}
	for _, v := range row.Values {
		if b := v.Bytes(); len(b) >= len(part) && string(b[:len(part)]) == string(part) {
			return true
		}
	}
	return false
}

// covers reports whether every column lost in b is lost in a, but for the column
// that stands for the row id.
func covers(a, b []bool, alias int) bool {
	for i := range b {
		if b[i] && !a[i] && i != alias {
			return false
		}
	}
	return true
}

func (g *gathering) link(at, n int32) {
	g.found[n].other = at + 1
	g.found[n].next = g.found[at].first
	g.found[at].first = n + 1
}

// emit tells what was found, each row version once, and forgets it.
func (g *gathering) emit(yield func(*Row, error) bool) bool {
	defer func() {
		g.found = g.found[:0]
		clear(g.patterns)
		clear(g.partial)
		clear(g.parts)
		clear(g.anyLive)
	}()
	g.unite()
	for t := range g.anyLive {
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
			if f.flags&partial == 0 && f.other == 0 && f.shape >= 0 && (f.flags&hasRowID != 0) == withID && len(g.patterns[g.s.shapes[f.shape].Table]) > 0 {
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
	order := make([]int32, 0, len(g.found))
	for i, f := range g.found {
		if f.flags&partial == 0 {
			order = append(order, int32(i))
		}
	}
	slices.SortFunc(order, func(a, b int32) int {
		x, y := &g.found[a], &g.found[b]
		return cmp.Or(cmp.Compare(x.key, y.key), cmp.Compare(y.flags&hasRowID, x.flags&hasRowID), cmp.Compare(min(y.shape, 0), min(x.shape, 0)),
			cmp.Compare(y.sure, x.sure), cmp.Compare(a, b))
	})
	type version struct {
		shape int16
		rowID int64
		known bool
	}
	known := map[version]int32{}
	for i := 0; i < len(order); {
		j := i + 1
		for j < len(order) && g.found[order[j]].key == g.found[order[i]].key {
			j++
		}
		if j > i+1 {
			clear(known)
			for _, n := range order[i:j] {
				f := &g.found[n]
				v := version{f.shape, f.rowID, f.flags&hasRowID != 0}
				at, ok := known[v]
				if !ok && (f.shape < 0 || f.flags&hasRowID == 0) {
					// Nothing tells it from one that is known better.
					for _, m := range order[i:j] {
						p := &g.found[m]
						if m == n {
							break
						}
						if p.other == 0 && (p.shape == f.shape || f.shape < 0) && (f.flags&hasRowID == 0 || p.rowID == f.rowID) {
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

// row finds the n-th finding again.
func (g *gathering) row(n int32) *Row {
	c := g.candidate(n)
	if c == nil {
		return nil
	}
	return g.s.row(g.sc, c)
}

func (g *gathering) candidate(n int32) *candidate {
	f := &g.found[n]
	if g.sc.at != int(f.image)+1 {
		if g.sc.read(g.s.image(int(f.image))) != nil {
			return nil
		}
		g.sc.chosen = g.sc.scan()
		g.sc.at = int(f.image) + 1
	}
	for _, c := range g.sc.chosen {
		if c.start == int(f.start) && uint32(c.end-c.start) == f.length && (c.shape == nil && f.shape < 0 || c.shape != nil && int16(c.shape.id) == f.shape) {
			return c
		}
	}
	return nil
}

func (g *gathering) tell(n int32, yield func(*Row, error) bool) bool {
	row := g.row(n)
	if row == nil {
		return true
	}
	for o := g.found[n].first; o != 0; o = g.found[o-1].next {
		f := &g.found[o-1]
		im := g.s.image(int(f.image))
		p := placeOf(im, int(f.start), int(f.length))
		if f.flags&inIndex != 0 {
			p.Origin = InIndex
		}
		row.Others = append(row.Others, p)
	}
	slices.SortFunc(row.Others, func(a, b Place) int { return cmp.Or(cmp.Compare(a.Part, b.Part), cmp.Compare(a.Offset, b.Offset)) })
	return yield(row, nil)
}

func placeOf(im image, start, length int) Place {
	return Place{Origin: im.origin, Part: im.Part, Page: im.Page, Frame: im.Frame, Offset: im.Offset + int64(start), Length: length}
}

// row turns a chosen candidate into a Row.
func (s *Survey) row(sc *scanner, c *candidate) *Row {
	im := sc.im
	r := &Row{Place: placeOf(im, c.start, c.end-c.start), RowID: c.rowID, HasRowID: c.hasRowID, Confidence: c.confidence(),
		Uncommitted: im.State == sqlitefile.Unfinished}
	r.Origin = c.origin
	raw, lost := sc.values(c)
	r.Fields = c.layout.fields(c.shape, im.Offset)
	sh := c.shape
	if sh == nil {
		r.Values, r.Lost = raw, lost
		for _, x := range c.rivals {
			r.Candidates = append(r.Candidates, x.Name)
		}
		slices.Sort(r.Candidates)
		return r
	}
	r.Table = sh.Table
	defer func() {
		if r.HasRowID && !sh.dropped && !sh.WithoutRowID {
			_, r.Earlier = s.f.Find(sh.Table.Root, r.RowID)
		}
	}()
	if sh.dropped && (r.Origin == FreeList || r.Origin == LostPage) {
		r.Origin = Dropped
	}
	if sh.index != "" {
		r.Origin = InIndex
		r.Values, r.Lost = make([]sqlitefile.Value, len(sh.Columns)), make([]bool, len(sh.Columns))
		for i := range r.Values {
			r.Values[i], r.Lost[i] = sqlitefile.Value{At: -1}, true
		}
		for k, i := range sh.columns {
			switch {
			case k >= len(raw):
			case i != rowIDValue:
				r.Values[i], r.Lost[i] = raw[k], lost[k]
			case !lost[k]:
				r.RowID, r.HasRowID = raw[k].Int(), true
			}
		}
		if i := sh.RowIDColumn; i >= 0 && r.HasRowID {
			r.Values[i], r.Lost[i] = sqlitefile.IntValue(r.RowID), false
		}
		return r
	}
	r.Values = sh.Arrange(raw, c.rowID, nil)
	r.Lost = make([]bool, len(r.Values))
	for k, i := range sh.columns {
		if k < len(lost) {
			r.Lost[i] = lost[k]
			if lost[k] {
				r.Values[i] = raw[k]
			}
		}
	}
	if i := sh.RowIDColumn; i >= 0 && !c.hasRowID {
		r.Values[i], r.Lost[i] = sqlitefile.Value{At: -1}, true
	}
	return r
}
