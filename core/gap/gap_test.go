package gap

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"crosswind/core/sqlitefile"

	_ "modernc.org/sqlite"
)

// What a database says of itself, written by SQLite: rows deleted from the middle and from the end of a table with
// AUTOINCREMENT and of one without, whose last numbers SQLite gives again ("Autoincrement", sections 2 and 3).
func TestTables(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"CREATE TABLE counted(id INTEGER PRIMARY KEY AUTOINCREMENT, body TEXT)", "CREATE TABLE plain(id INTEGER PRIMARY KEY, body TEXT)", "CREATE TABLE named(name TEXT PRIMARY KEY) WITHOUT ROWID",
		"CREATE TABLE apart(id INTEGER PRIMARY KEY)", "INSERT INTO apart VALUES (1), (170000000), (180000000)",
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 2000) INSERT INTO counted(body) SELECT 'row ' || i FROM n", "INSERT INTO plain SELECT * FROM counted",
		"DELETE FROM counted WHERE id IN (5, 6, 7, 900) OR id > 1990", "DELETE FROM plain WHERE id IN (5, 6, 7, 900) OR id > 1990"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	db.Close()
	in, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil {
		t.Fatal(err)
	}
	f, err := sqlitefile.Open(in, st.Size())
	if err != nil {
		t.Fatal(err)
	}
	all, err := Tables(f, []string{"counted", "plain", "named", "apart", "not there"}, map[string]Known{"counted": {Recovered: []int64{6, 1995, 6, 12}, Unnumbered: 2}, "plain": {Elsewhere: []int64{900, 1990, 5000}}})
	if err != nil || len(all) != 3 {
		t.Fatal(len(all), err)
	}
	for i, want := range []string{"counted 1 to 2000: 1986 live, 2 recovered, 12 missing, counted to 2000 [{5 5} {7 7} {900 900} {1991 1994} {1996 2000}] false", "plain 1 to 1990: 1986 live, 1 recovered, 3 missing, counted to 0 [{5 7}] false",
		"apart 1 to 180000000: 3 live, 0 recovered, 179999997 missing, counted to 0 [] true"} {
		n := all[i]
		if got := fmt.Sprintf("%s %d to %d: %d live, %d recovered, %d missing, counted to %d %v %t", n.Table, n.First, n.Last, n.Live, n.Recovered, n.Missing, n.Counter, n.Runs, n.Sparse); got != want {
			t.Errorf("%s\nnot %s", got, want)
		}
	}
}

// Numbers that no database gives: out of order, twice, negative, none at all.
func TestOfHostileNumbers(t *testing.T) {
	for _, live := range [][]int64{nil, {-5, 0, 1}, {3, 3, 2, 9}, {1 << 62, 1<<63 - 1}, {1<<63 - 1}} {
		n := Of("t", slices.Values(live), Known{Recovered: []int64{-1, 0, 4, 4}, Elsewhere: []int64{-9, 3, 1<<63 - 1}}, 1<<63-1)
		if n.Missing < 0 || n.Live < 0 || len(n.Runs) > MaxRuns {
			t.Errorf("%v: %+v", live, n)
		}
	}
}

func ExampleOf() {
	n := Of("line", slices.Values([]int64{1, 2, 5, 6}), Known{Recovered: []int64{4}}, 8)
	fmt.Println(n.Missing, n.Runs)
	// Output: 3 [{3 3} {7 8}]
}
