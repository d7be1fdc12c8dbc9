// Package salvage finds rows in a SQLite database where its b-trees lead to
// none: in free pages, free blocks, the gap before the cell content area, pages
// that nothing refers to, and earlier versions of pages in a write-ahead log, a
// rollback journal, or the database file below its log.
//
// It reports what the bytes say and no more. A row id that was overwritten is
// absent, a value that did not survive whole is named as lost, and a copy of a
// row that is still alive is not a finding. It does not know what rows mean.
//
// The way from bytes to rows, and where each step is written down:
//
//   - Survey (survey.go, trees.go): all live trees are walked once. The walk says what each page is
//     used for and whose it is, and learns of each table what its live rows look like (shape.go).
//   - Lineage (lineage.go): what is left of older trees says whose a page was at other times.
//   - Scan (scan.go, stages.go): each version of a page is divided into what is in use and what is free;
//     in what is free, every offset at which a cell may begin is looked at.
//   - Read (read.go, headless.go): a cell with its head, or behind the head of a free block, is
//     read as far as its bytes tell, as a row of each table that its types fit.
//   - Weigh (evidence.go): what speaks for and against each reading is added up.
//   - Choose (choose.go): of readings that overlap those are kept that together explain most, and of
//     these those that are believed.
//   - Attribute (scan.go, read.go): the cells of a page elect its table, where nothing else tells it.
//   - Compare (choose.go, gather.go, partial.go): copies of live rows are left out, and the same row
//     version found in several places becomes one Row.
package salvage

import (
	"fmt"

	"crosswind/core/sqlitefile"
)

// Origin says where in a database a recovered row lay. The words are those of
// the command line's output.
type Origin string

const (
	FreeList    Origin = "freelist"    // in a page of the free list
	FreeBlock   Origin = "freeblock"   // in a free block of a page in use
	Unallocated Origin = "unallocated" // in a page in use, before its cell content area or behind an overflow's end
	LostPage    Origin = "lostpage"    // in a page that neither a tree nor the free list reaches
	Dropped     Origin = "dropped"     // in such a page, or a free one, and of a table that was dropped
	InLog       Origin = "wal"         // in a frame of the write-ahead log that is not current
	InJournal   Origin = "journal"     // in a page as it was before a transaction
	Superseded  Origin = "superseded"  // in a page of the database file that its log or journal replaces
	InIndex     Origin = "index"       // in an entry of an index: only the indexed columns survive
)

// Row is a row, live or recovered.
type Row struct {
	Table      *sqlitefile.Table  // nil if it cannot be told
	Candidates []string           // the tables that it may be of, if Table is nil and some are known
	Values     []sqlitefile.Value // in the order of the table's columns, or of the record if Table is nil
	Lost       []bool             // for each value: it did not survive whole
	RowID      int64
	HasRowID   bool
	Live       bool
	Place
	Earlier bool // a row of the same id is alive, with other content
	// Uncommitted rows were written by a transaction that was never committed.
	Uncommitted bool
	// Unproven rows lie in a frame of a log whose checksum does not hold.
	Unproven   bool
	Confidence float64
	Others     []Place // where else the same row version lies

	layout layout
	shape  *shape
}

// Place is where a row's cell lies.
type Place struct {
	Origin Origin // "" for a live row
	Part   sqlitefile.Part
	Page   uint32
	Frame  int   // of the log, or record of the journal, from 1; 0 in the database file
	Offset int64 // of the cell, in the part's file
	Length int   // bytes of the cell in its page
}

// Field is a part of a row's cell, for marking its bytes.
type Field struct {
	Name   string `json:"name"`
	Offset int64  `json:"offset"` // in the file
	Length int    `json:"length"`
	Role   string `json:"role"` // head, type, value or overwritten
}

// Fields names the parts of the row's cell.
func (r *Row) Fields() []Field { return r.layout.fields(r.shape, r.Offset-int64(r.layout.start)) }

// Options choose what to look for.
type Options struct {
	Live bool // live rows, too
	Full bool // also hunt for pages that nothing refers to
	// Seen, if not nil, is called with how many bytes more have been scanned. If it
	// returns false, nothing more is scanned or told.
	Seen func(n int64) bool
}

// Origins lists every origin.
var Origins = []Origin{FreeList, FreeBlock, Unallocated, LostPage, InLog, InJournal, Superseded, Dropped, InIndex}

// String says where the place is, in words.
func (p Place) String() string {
	where := fmt.Sprintf("page %d, offset %d, %d bytes", p.Page, p.Offset, p.Length)
	switch p.Part {
	case sqlitefile.Log:
		return fmt.Sprintf("frame %d of the log, %s", p.Frame, where)
	case sqlitefile.Journal:
		return fmt.Sprintf("record %d of the rollback journal, %s", p.Frame, where)
	}
	return where
}
