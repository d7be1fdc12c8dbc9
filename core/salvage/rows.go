package salvage

import (
	"iter"
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
		g := gathering{s: s, sc: newScanner(s), patterns: patterns{of: map[*sqlitefile.Table][]*pattern{}}}
		for b := range s.batches(opt, &g.patterns) {
			for _, err := range b.faults {
				if !yield(nil, err) {
					return
				}
			}
			if opt.Seen != nil && !opt.Seen(b.bytes) {
				return
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

func placeOf(im image, start, length int) Place {
	return Place{Origin: im.origin, Part: im.Part, Page: im.Page, Frame: im.Frame, Offset: im.Offset + int64(start), Length: length}
}

// row turns a chosen candidate into a Row, which it makes of r.
func (s *Survey) row(sc *scanner, c *candidate, r *Row) *Row {
	im := sc.im
	*r = Row{Values: r.Values, Lost: r.Lost, Others: r.Others[:0], Place: placeOf(im, c.start, c.end-c.start), RowID: c.rowID, HasRowID: c.hasRowID, Confidence: c.confidence(),
		Uncommitted: im.State == sqlitefile.Unfinished, Unproven: im.State == sqlitefile.Unproven}
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
			case k >= len(raw), i == expression:
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
