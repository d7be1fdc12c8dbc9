// Package salvage finds rows in a SQLite database where its b-trees lead to
// none: in free pages, free blocks, the gap before the cell content area, and
// pages that nothing refers to.
//
// It reports what the bytes say and no more. A row id that was overwritten is
// absent, a value that did not survive whole is named as lost, and a copy of a
// row that is still alive is no finding. It does not know what rows mean.
package salvage

import (
	"errors"
	"iter"
	"slices"

	"crosswind/core/sqlitefile"
)

// Origin says where in a database a recovered row lay. The words are those of
// the command line's output.
type Origin string

const (
	FreeList    Origin = "freelist"    // in a page of the free list
	FreeBlock   Origin = "freeblock"   // in a free block of a page in use
	Unallocated Origin = "unallocated" // in a page in use, before its cell content area
	LostPage    Origin = "lostpage"    // in a page that neither a tree nor the free list reaches
)

// Row is a row, live or recovered.
type Row struct {
	Table      *sqlitefile.Table  // nil if it cannot be told
	Values     []sqlitefile.Value // in the order of the table's columns, or of the record if Table is nil
	Lost       []bool             // for each value: it did not survive whole
	RowID      int64
	HasRowID   bool
	Live       bool
	Origin     Origin // "" for a live row
	Page       uint32
	InLog      bool  // offsets are in the write-ahead log, not the database
	Offset     int64 // of the cell, in the file
	Length     int   // bytes of the cell in its page
	Confidence float64
	Fields     []Field
}

// Field is a part of a row's cell, for marking its bytes.
type Field struct {
	Name   string `json:"name"`
	Offset int64  `json:"offset"` // in the file
	Length int    `json:"length"`
	Role   string `json:"role"` // head, type, value or overwritten
}

// Options choose what to look for.
type Options struct {
	Live bool // live rows, too
	Full bool // also hunt for pages that nothing refers to
}

// Rows reads f and yields live rows first, if asked for, by table and row id;
// then recovered ones by page and offset. Damage is yielded as errors and does
// not end the iteration. A live Row is valid until the iteration goes on.
func Rows(f *sqlitefile.File, opt Options) iter.Seq2[*Row, error] {
	return func(yield func(*Row, error) bool) {
		s, err := survey(f)
		if err != nil && !yield(nil, err) {
			return
		}
		if opt.Live {
			for _, t := range s.shapes {
				if t.Root == 1 {
					continue
				}
				for row, err := range f.Rows(t.Table) {
					if err != nil {
						continue // the survey has yielded it
					}
					if !yield(liveRow(f, t.Table, row), nil) {
						return
					}
				}
			}
		}
		if err := s.collect(opt); err != nil && !yield(nil, err) {
			return
		}
		for _, c := range s.choose() {
			if !yield(s.row(c), nil) {
				return
			}
		}
	}
}

func liveRow(f *sqlitefile.File, t *sqlitefile.Table, r *sqlitefile.Row) *Row {
	base, inLog := f.InLog(r.Page)
	if !inLog {
		base = f.PageOffset(r.Page)
	}
	row := &Row{Table: t, Values: r.Values, Lost: make([]bool, len(r.Values)), RowID: r.RowID, HasRowID: !t.WithoutRowID,
		Live: true, Page: r.Page, InLog: inLog, Offset: base + int64(r.Offset), Length: r.Length, Confidence: 1}
	if l, ok := intactLayout(r.Local, r.Offset, r.PayloadAt); ok {
		row.Fields = l.fields(t, base)
	}
	return row
}

// shape is what is known of a table's rows: its columns, and the ranges that
// its live rows show.
type shape struct {
	*sqlitefile.Table
	live     int64
	maxRowID int64
	numbers  []span // by column
	lengths  []span // of texts, in bytes, by column
}

// span is a range of numbers that grows with what it sees.
type span struct {
	low, high float64
	seen      bool
}

func (s *span) see(x float64) {
	if !s.seen {
		s.low, s.high, s.seen = x, x, true
	}
	s.low, s.high = min(s.low, x), max(s.high, x)
}

// near reports whether x lies in the range, widened by half its own width and
// by slack.
func (s *span) near(x, slack float64) bool {
	w := max((s.high-s.low)/2, slack)
	return !s.seen || x >= s.low-w && x <= s.high+w
}

// survey walks every live tree once.
type surveyed struct {
	f      *sqlitefile.File
	shapes []*shape
	owner  map[uint32]*shape // live pages of table trees
	used   map[uint32]bool   // live pages of any tree
	free   map[uint32]sqlitefile.FreePage
	order  []uint32 // free pages
	cands  []*candidate
}

func survey(f *sqlitefile.File) (*surveyed, error) {
	s := &surveyed{f: f, owner: map[uint32]*shape{}, used: map[uint32]bool{}, free: map[uint32]sqlitefile.FreePage{}}
	var fault error
	note := func(err error) {
		if err != nil && countErrors(fault) < maxNotes {
			fault = errors.Join(fault, err)
		}
	}
	tables, err := f.Tables()
	note(err)
	for _, t := range tables {
		if t.Name == "sqlite_sequence" && len(t.Columns) == 2 { // §2.6.2: declared without types, written with these
			t.Columns[0].Affinity, t.Columns[1].Affinity = sqlitefile.AffText, sqlitefile.AffInteger
		}
		sh := &shape{Table: t, numbers: make([]span, len(t.Columns)), lengths: make([]span, len(t.Columns))}
		s.shapes = append(s.shapes, sh)
		for p, err := range f.Tree(t.Root) {
			if err != nil {
				note(err)
				continue
			}
			s.used[p.N] = true
			if !t.WithoutRowID {
				s.owner[p.N] = sh
			}
		}
		for row, err := range f.Rows(t) {
			if err == nil {
				sh.learn(row)
			}
		}
	}
	objs, _ := f.Objects() // its fault is already among Tables'
	for _, o := range objs {
		if o.Type != "index" || o.Root == 0 {
			continue
		}
		for p, err := range f.Tree(o.Root) {
			if err != nil {
				note(err)
				continue
			}
			s.used[p.N] = true
		}
	}
	for fp, err := range f.FreeList {
		if err != nil {
			note(err)
			continue
		}
		if !s.used[fp.N] {
			s.free[fp.N] = fp
			s.order = append(s.order, fp.N)
		}
	}
	slices.Sort(s.order)
	return s, fault
}

// maxNotes bounds how many faults of one file are told.
const maxNotes = 20

func countErrors(err error) int {
	n := 0
	for err != nil {
		j, ok := err.(interface{ Unwrap() []error })
		if !ok || len(j.Unwrap()) == 0 {
			break
		}
		n += len(j.Unwrap()) - 1
		err = j.Unwrap()[0]
	}
	return n
}

func (s *shape) learn(r *sqlitefile.Row) {
	s.live++
	s.maxRowID = max(s.maxRowID, r.RowID)
	for i, v := range r.Values {
		if i == len(s.numbers) {
			break
		}
		switch v.Class() {
		case sqlitefile.Integer, sqlitefile.Real:
			s.numbers[i].see(v.Float())
		case sqlitefile.Text:
			s.lengths[i].see(float64(len(v.Bytes())))
		}
	}
}

// collect scans every place where no live row is.
func (s *surveyed) collect(opt Options) error {
	var fault error
	buf := make([]byte, s.f.PageSize)
	for n := uint32(1); n <= s.f.Pages; n++ {
		own := s.owner[n]
		fp, free := s.free[n]
		if own == nil && !free && (s.used[n] || !opt.Full) {
			continue
		}
		if err := s.f.ReadPage(n, buf); err != nil {
			fault = errors.Join(fault, err)
			continue
		}
		// Values alias the page, so a page that yields something is kept.
		data := buf[:s.f.Usable()]
		sc := &scanner{s: s, n: n, data: data, own: own}
		switch {
		case own != nil:
			sc.livePage()
		case free:
			sc.origin = FreeList
			sc.freePage(fp.Used)
		default:
			if p, err := sqlitefile.ParsePage(n, data); err == nil && p.Kind == sqlitefile.LeafTable {
				sc.origin = LostPage
				sc.freePage(0)
			}
		}
		if len(sc.found) > 0 {
			s.cands = append(s.cands, sc.found...)
			buf = make([]byte, s.f.PageSize)
		}
	}
	return fault
}

// row turns a chosen candidate into a Row.
func (s *surveyed) row(c *candidate) *Row {
	base, inLog := s.f.InLog(c.page)
	if !inLog {
		base = s.f.PageOffset(c.page)
	}
	r := &Row{Origin: c.origin, Page: c.page, InLog: inLog, Offset: base + int64(c.start), Length: c.end - c.start,
		RowID: c.rowID, HasRowID: c.hasRowID, Values: c.values, Lost: c.lost, Confidence: c.confidence()}
	if c.shape != nil {
		r.Table = c.shape.Table
	}
	r.Fields = c.layout.fields(r.Table, base)
	return r
}
