package salvage

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"iter"
	"math"
	"runtime"
	"slices"
	"sync"

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
		g := gathering{s: s, sc: newScanner(s), patterns: patterns{of: map[*sqlitefile.Table][]*pattern{}}}
		// Room for all at once: growing would hold them twice for a while.
		room := min(maxFindings+1<<12, s.images()*s.f.PageSize/32)
		g.found, g.types = make([]finding, 0, room), make([]byte, 0, 8*room)
		for b := range s.batches(opt, &g.patterns) {
			for _, err := range b.faults {
				if !yield(nil, err) {
					return
				}
			}
			if opt.Seen != nil {
				opt.Seen(b.bytes)
			}
			if g.merge(b); len(g.found) > maxFindings && !g.emit(yield) {
				return
			}
		}
		g.emit(yield)
	}
}

// maxFindings bounds the findings that are compared with each other, for memory's
// sake. In a file with more, a row version may come out once for each so many.
const maxFindings = 1 << 20

func (s *Survey) liveRow(sh *shape, r *sqlitefile.Row) *Row {
	v := s.f.Current(r.Page)
	row := &Row{Table: sh.Table, Values: r.Values, Lost: make([]bool, len(r.Values)), RowID: r.RowID, HasRowID: !sh.WithoutRowID, Live: true, Confidence: 1,
		Place: Place{Part: v.Part, Page: r.Page, Frame: v.Frame, Offset: v.Offset + int64(r.Offset), Length: r.Length}}
	types, body, _, ok := recordTypes(r.Local, r.PayloadAt, nil, r.PayloadSize)
	if ok {
		row.layout = layout{start: r.Offset, header: r.PayloadAt, body: r.PayloadAt + body, end: r.PayloadAt + len(r.Local), types: types}
		row.shape = sh
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
	c.Lost, c.Others = slices.Clone(r.Lost), slices.Clone(r.Others)
	c.layout.types = slices.Clone(r.layout.types)
	return &c
}

// finding is what is kept of a chosen reading until it is told: enough to compare
// it with others, and to read it again.
type finding struct {
	key    uint64
	rowID  int64
	image  int32
	length uint32
	types  uint32 // where its serial types begin in gathering.types
	other  int32  // the finding that it is told under, plus 1; 0 if it stands itself
	next   int32  // the next that is told under the same, plus 1
	first  int32  // the first that is told under it, plus 1
	start  uint16
	header uint16 // from start
	body   uint16 // from header
	count  uint16 // of types
	shape  int16  // -1 if not known
	run    uint8
	sure   uint8 // confidence, in hundredths
	origin uint8 // an index into Origins
	flags  uint8
}

const (
	hasRowID = 1 << iota
	partial
	covered // a partial one that says nothing that another does not say
	inIndex
	headless
	table // its cell is built as those of table pages
)

// pattern is a set of columns that survive in a partial finding.
type pattern struct {
	lost   []bool
	withID bool
}

// findingKey is a key of the n-th finding, or of what survives in it.
type findingKey struct {
	key uint64
	n   int32
}

// batch is what some page versions, one after the other, gave.
type batch struct {
	found   []finding
	types   []byte             // serial types of the findings, as varints
	rivals  map[int32][]*shape // of findings of no certain table
	partial []findingKey       // partial findings by the values that survive in them
	parts   map[int32][]byte   // of partial findings, the beginning of a value that is cut off
	tables  map[*sqlitefile.Table]bool
	faults  []error
	bytes   int64
}

// batchImages is how many page versions make a batch.
const batchImages = 256

// batches scans all page versions, several batches at a time, and yields what they
// gave in their order.
func (s *Survey) batches(opt Options, ps *patterns) iter.Seq[*batch] {
	return func(yield func(*batch) bool) {
		workers := runtime.GOMAXPROCS(0)
		type job struct {
			from int
			done chan *batch
		}
		jobs, order, quit := make(chan job), make(chan job, 2*workers), make(chan struct{})
		var wg sync.WaitGroup
		defer wg.Wait()
		defer close(quit)
		for range workers {
			wg.Go(func() {
				c := collector{s: s.fork(), patterns: ps}
				c.sc = newScanner(c.s)
				c.sc.inOrder = true
				for j := range jobs {
					j.done <- c.collect(j.from, min(j.from+batchImages, s.images()), opt)
				}
			})
		}
		wg.Go(func() {
			defer close(jobs)
			defer close(order)
			for from := 0; from < s.images(); from += batchImages {
				j := job{from, make(chan *batch, 1)}
				select {
				case order <- j:
				case <-quit:
					return
				}
				select {
				case jobs <- j:
				case <-quit:
					return
				}
			}
		})
		for j := range order {
			if !yield(<-j.done) {
				return
			}
		}
	}
}

// fork makes a survey that can be used beside s.
func (s *Survey) fork() *Survey {
	c := *s
	c.f = s.f.Fork()
	return &c
}

// collector makes batches.
type collector struct {
	s        *Survey
	sc       *scanner
	patterns *patterns
	buf      Row // scratch
	b        *batch
}

func (g *collector) collect(from, to int, opt Options) *batch {
	g.b = &batch{bytes: int64(to-from) * int64(g.s.f.PageSize)}
	at := from
	// One hostile page must not cost the others, nor the process.
	defer func() {
		if r := recover(); r != nil {
			g.b.faults = append(g.b.faults, fmt.Errorf("%w: page %d and the next: %v", ErrInternal, g.s.image(at).Page, r))
		}
	}()
	for i := from; i < to; i++ {
		at = i
		if im := g.s.image(i); opt.Full || im.origin != LostPage {
			if err := g.take(i); err != nil {
				g.b.faults = append(g.b.faults, err)
			}
		}
	}
	return g.b
}

// ErrInternal is a fault of this package, not of the file: a page that it fails on.
var ErrInternal = errors.New("this reader failed")

// take scans a page version.
func (g *collector) take(i int) error {
	im, b := g.s.image(i), g.b
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
	if err := g.sc.read(im); err != nil {
		return err
	}
	for _, c := range g.sc.scan() {
		f := finding{key: c.key, rowID: c.rowID, image: int32(i), start: uint16(c.start), length: uint32(c.end - c.start), shape: -1,
			types: uint32(len(b.types)), header: uint16(c.header - c.start), body: uint16(c.body - c.header), count: uint16(len(c.types)),
			run: uint8(c.run), sure: uint8(c.confidence()*100 + 0.5), origin: uint8(slices.Index(Origins, c.origin))}
		for _, t := range c.types {
			b.types = sqlitefile.AppendVarint(b.types, int64(t.t)+1)
		}
		if c.hasRowID {
			f.flags |= hasRowID
		}
		if c.overwritten > 0 {
			f.flags |= headless
		}
		if c.kind == sqlitefile.LeafTable {
			f.flags |= table
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
		n := int32(len(b.found))
		if c.shape == nil && len(c.rivals) > 0 {
			if b.rivals == nil {
				b.rivals = map[int32][]*shape{}
			}
			b.rivals[n] = slices.Clone(c.rivals)
		}
		if f.flags&partial != 0 && c.shape != nil {
			g.addPartial(c, n)
		}
		b.found = append(b.found, f)
	}
	return nil
}

// addPartial files a finding by the values that survive in it.
func (g *collector) addPartial(c *candidate, n int32) {
	row, b := g.s.row(g.sc, c, &g.buf), g.b
	p := g.patterns.pattern(row)
	if p == nil {
		return
	}
	b.partial = append(b.partial, findingKey{g.s.keys.project(p, row, p.withID), n})
	if p.withID {
		b.partial = append(b.partial, findingKey{g.s.keys.project(p, row, false), n})
	}
	for i, l := range row.Lost {
		if part := row.Values[i].Bytes(); l && len(part) > 0 {
			if b.parts == nil {
				b.parts = map[int32][]byte{}
			}
			b.parts[n] = slices.Clone(part[:min(len(part), 64)])
		}
	}
	if c.shape.index == "" {
		if b.tables == nil {
			b.tables = map[*sqlitefile.Table]bool{}
		}
		b.tables[c.shape.Table] = true
	}
}

// gathering collects findings and tells them.
type gathering struct {
	batch
	s        *Survey
	sc       *scanner
	patterns patterns
	cand     candidate // scratch
	buf      Row       // the same
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

// maxPatterns bounds the sets of surviving columns of one table.
const maxPatterns = 64

// patterns are the patterns of each table. More are added while batches are made.
type patterns struct {
	sync.RWMutex
	of map[*sqlitefile.Table][]*pattern
}

func (all *patterns) pattern(row *Row) *pattern {
	find := func() *pattern {
		for _, p := range all.of[row.Table] {
			if p.withID == row.HasRowID && slices.Equal(p.lost, row.Lost) {
				return p
			}
		}
		return nil
	}
	all.RLock()
	p := find()
	all.RUnlock()
	if p != nil {
		return p
	}
	all.Lock()
	defer all.Unlock()
	if p = find(); p != nil || len(all.of[row.Table]) == maxPatterns {
		return p
	}
	p = &pattern{lost: slices.Clone(row.Lost), withID: row.HasRowID}
	all.of[row.Table] = append(all.of[row.Table], p)
	return p
}

// project is the key of those values of a row that survive in p, with or without
// the row id.
func (k keys) project(p *pattern, row *Row, withID bool) uint64 {
	var h maphash.Hash
	h.SetSeed(k.body)
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
	for _, p := range g.patterns.of[row.Table] {
		if len(p.lost) != len(row.Values) || !covers(p.lost, row.Lost, row.Table.RowIDColumn) {
			continue
		}
		key := g.s.keys.project(p, row, p.withID && row.HasRowID)
		i, _ := slices.BinarySearchFunc(g.partial, key, func(k findingKey, key uint64) int { return cmp.Compare(k.key, key) })
		for ; i < len(g.partial) && g.partial[i].key == key; i++ {
			n := g.partial[i].n
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
		shape int16
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
	row := g.s.row(g.sc, c, &g.buf)
	row.Confidence = float64(g.found[n].sure) / 100
	return row
}

// candidate reads the n-th finding again, as it was chosen.
func (g *gathering) candidate(n int32) *candidate {
	f := &g.found[n]
	sc := g.sc
	if sc.at != int(f.image)+1 {
		sc.at = 0
		if sc.read(g.s.image(int(f.image))) != nil {
			return nil
		}
		sc.at = int(f.image) + 1
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
		cell := sqlitefile.Cell{Local: sc.data[c.header : c.header+local], PayloadSize: c.size, Overflow: binary.BigEndian.Uint32(sc.data[c.header+local:])}
		c.payload, _ = g.s.chain(sc.im, cell, nil)
	}
	return c
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

// row turns a chosen candidate into a Row, which it makes of r.
func (s *Survey) row(sc *scanner, c *candidate, r *Row) *Row {
	im := sc.im
	*r = Row{Values: r.Values, Lost: r.Lost, Others: r.Others[:0], Place: placeOf(im, c.start, c.end-c.start), RowID: c.rowID, HasRowID: c.hasRowID, Confidence: c.confidence(),
		Uncommitted: im.State == sqlitefile.Unfinished}
	r.Origin = c.origin
	raw, lost := sc.values(c)
	r.layout, r.shape = c.layout, c.shape
	sh := c.shape
	if sh == nil {
		r.Values, r.Lost = append(r.Values[:0], raw...), append(r.Lost[:0], lost...)
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
		r.Values, r.Lost = grow(r.Values, len(sh.Columns)), grow(r.Lost, len(sh.Columns))
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
	r.Values = sh.Arrange(raw, c.rowID, r.Values)
	r.Lost = grow(r.Lost, len(r.Values))
	clear(r.Lost)
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
