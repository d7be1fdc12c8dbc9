// Package gap tells from the numbers that a database gave its rows which rows are not there any more. SQLite numbers a row
// with one more than the largest number that its table has, or, of a table with AUTOINCREMENT, ever had (SQLite,
// "Autoincrement", sections 2 and 3): where rows are numbered by it, a number that no row has was one's that is gone, and
// rows of which neither number nor bytes survive are counted, too.
//
// It does not say who or what took a row away. An app takes rows away itself, a transaction that was undone leaves numbers
// of AUTOINCREMENT unused, and a restored backup brings numbers of another device.
package gap

import (
	"fmt"
	"iter"
	"math"
	"slices"

	"crosswind/core/sqlitefile"
)

// Run is a run of numbers that no row has, both ends included.
type Run struct {
	From int64 `json:"from"`
	To   int64 `json:"to"`
}

// N is how many they are.
func (r Run) N() int64 { return r.To - r.From + 1 }

// Numbers is what the numbers of a table's rows say.
type Numbers struct {
	Table     string `json:"table"`
	First     int64  `json:"first"` // the least and the largest number that a row has, or that is known to have been given
	Last      int64  `json:"last"`
	Live      int64  `json:"live"`      // rows that are there
	Recovered int64  `json:"recovered"` // further numbers of which there are rows elsewhere: recovered, or held
	Missing   int64  `json:"missing"`   // numbers of which there is nothing
	Counter   int64  `json:"counter"`   // the largest number ever given, as the database counts; 0 if it does not
	// Unnumbered are rows that were recovered without their numbers, which may be among those that are missing.
	Unnumbered int64 `json:"unnumbered"`
	Runs       []Run `json:"runs"`   // of what is missing, in order; the first [MaxRuns] of them
	Sparse     bool  `json:"sparse"` // the numbers are not counted up, and what is between them means nothing
}

const (
	// MaxRuns bounds the runs that are told of a table.
	MaxRuns = 2000
	// sparse is how many times more numbers than rows there may be.
	sparse = 20
)

// Known is what is known of rows of a table that are not there.
type Known struct {
	Recovered  []int64 // their numbers
	Unnumbered int64   // how many were recovered without one
	// Elsewhere are numbers of rows that lie elsewhere, as in a holding area, which may have been this table's: they say
	// nothing of how far it was numbered.
	Elsewhere []int64
}

// Of works out what the numbers of a table's rows say. live yields those of the rows that are there, in order, as often as
// it is asked. The counter is 0 if there is none.
func Of(table string, live iter.Seq[int64], known Known, counter int64) *Numbers {
	n := &Numbers{Table: table, Counter: counter, Unnumbered: known.Unnumbered}
	gone := slices.Clone(known.Recovered)
	first, last := int64(math.MaxInt64), counter
	for x := range live {
		first, last = min(first, x), max(last, x)
	}
	for _, x := range gone {
		first, last = min(first, x), max(last, x)
	}
	for _, x := range known.Elsewhere {
		if x > first && x < last {
			gone = append(gone, x)
		}
	}
	slices.Sort(gone)
	gone = slices.DeleteFunc(slices.Compact(gone), func(x int64) bool { return x < 1 })
	begun := false
	step := func(x int64) {
		if begun && x > n.Last+1 {
			n.miss(Run{n.Last + 1, x - 1})
		}
		if !begun {
			n.First, begun = x, true
		}
		n.Last = x
	}
	k := 0
	for x := range live {
		if x < 1 { // which SQLite gives to no row by itself
			continue
		}
		for ; k < len(gone) && gone[k] < x; k++ {
			step(gone[k])
			n.Recovered++
		}
		if k < len(gone) && gone[k] == x {
			k++
		}
		if begun && x <= n.Last {
			continue // damage: not in order
		}
		step(x)
		n.Live++
	}
	for ; k < len(gone); k++ {
		step(gone[k])
		n.Recovered++
	}
	if counter > n.Last && begun {
		step(counter + 1)
		n.Last = counter
	}
	if n.Missing > sparse*(n.Live+n.Recovered)+1000 {
		n.Sparse, n.Runs = true, nil
	}
	return n
}

func (n *Numbers) miss(r Run) {
	n.Missing += r.N()
	if len(n.Runs) < MaxRuns {
		n.Runs = append(n.Runs, r)
	}
}

// Tables works out the numbers of those tables of a database that are named and number their rows. known tells of each what is
// not there. What could be read comes beside an error.
func Tables(f *sqlitefile.File, names []string, known map[string]Known) (out []*Numbers, err error) {
	tables, err := f.Tables()
	counters := map[string]int64{}
	for _, t := range tables {
		if t.Name != "sqlite_sequence" || len(t.Columns) != 2 {
			continue
		}
		for r, fault := range f.Rows(t) {
			if fault == nil && len(r.Values) == 2 && r.Values[0].Class() == sqlitefile.Text && r.Values[1].Class() == sqlitefile.Integer {
				counters[r.Values[0].String(f.Encoding)] = r.Values[1].Int()
			}
		}
	}
	for _, t := range tables {
		if !slices.Contains(names, t.Name) || t.WithoutRowID || t.RowIDColumn < 0 {
			continue
		}
		var fault error
		live := func(yield func(int64) bool) {
			for p, bad := range f.Tree(t.Root) {
				if bad != nil {
					fault = bad
					continue
				}
				if p.Kind != sqlitefile.LeafTable {
					continue
				}
				for i := range p.Cells {
					off, bad := p.Pointer(i)
					var c sqlitefile.Cell
					if bad == nil {
						c, bad = sqlitefile.ParseCell(p.N, p.Kind, p.Data, off)
					}
					if bad != nil {
						fault = bad
						continue
					}
					if !yield(c.RowID) {
						return
					}
				}
			}
		}
		n := Of(t.Name, live, known[t.Name], counters[t.Name])
		if fault != nil { // what lies on a page that cannot be read is not missing
			if err == nil {
				err = fmt.Errorf("gap: the numbers of %s are not told: %w", t.Name, fault)
			}
			continue
		}
		out = append(out, n)
	}
	return out, err
}
