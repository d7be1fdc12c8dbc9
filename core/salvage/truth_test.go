package salvage

import (
	"bytes"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	_ "modernc.org/sqlite"

	"crosswind/core/sqlitefile"
)

// Truth by construction: the SQLite library writes, changes and deletes rows, and
// after each transaction all rows are read together with the bytes of their cells.
// What is not alive at the end but has its bytes in one of the files must come
// back; whatever comes back must have been written.

// files are a database and what lies beside it.
type files struct{ main, log, journal []byte }

func readFiles(t testing.TB, path string) (f files) {
	t.Helper()
	var err error
	if f.main, err = os.ReadFile(path); err != nil {
		t.Fatal(err)
	}
	f.log, _ = os.ReadFile(path + "-wal")
	f.journal, _ = os.ReadFile(path + "-journal")
	return f
}

func (f files) open(t testing.TB) *sqlitefile.File {
	t.Helper()
	db, err := sqlitefile.Open(bytes.NewReader(f.main), int64(len(f.main)))
	if err != nil {
		t.Fatal(err)
	}
	if err := db.OpenLog(bytes.NewReader(f.log), int64(len(f.log))); err != nil {
		t.Fatal(err)
	}
	if err := db.OpenJournal(bytes.NewReader(f.journal), int64(len(f.journal))); err != nil {
		t.Fatal(err)
	}
	return db
}

func (f files) part(p sqlitefile.Part) []byte { return [][]byte{f.main, f.log, f.journal}[p] }

func (f files) contains(b []byte) bool {
	return bytes.Contains(f.main, b) || bytes.Contains(f.log, b) || bytes.Contains(f.journal, b)
}

// version is a row version as it was written.
type version struct {
	table  string
	rowID  int64
	noID   bool // of a table without row ids
	values []sqlitefile.Value
	alias  int
	cell   []byte // nil if its bytes were never seen, or do not lie in one page
	known  string // its key, once it was asked for
}

func (v *version) key() string {
	if v.known == "" {
		v.known = v.table + " " + strconv.FormatInt(v.rowID, 10) + " " + render(v.values, nil, v.alias)
	}
	return v.known
}

// history is all that was ever written to a database.
type history struct {
	versions map[string]*version
	byTable  map[string][]*version
}

func (h *history) add(v *version) {
	if old, ok := h.versions[v.key()]; ok {
		if old.cell == nil {
			old.cell = v.cell
		}
		return
	}
	h.versions[v.key()] = v
	h.byTable[v.table] = append(h.byTable[v.table], v)
}

// see adds all rows that are alive in f, and returns their keys.
func (h *history) see(t testing.TB, f files) map[string]bool {
	t.Helper()
	db := f.open(t)
	tables, err := db.Tables()
	if err != nil {
		t.Fatal(err)
	}
	alive := map[string]bool{}
	for _, tab := range tables {
		for row, err := range db.Rows(tab) {
			if err != nil {
				t.Fatal(err)
			}
			v := &version{table: tab.Name, rowID: row.RowID, noID: tab.WithoutRowID, alias: tab.RowIDColumn, values: row.Values}
			if old := h.versions[v.key()]; old != nil && old.cell != nil {
				alive[v.key()] = true
				continue
			}
			v.values = nil
			for _, x := range row.Values {
				v.values = append(v.values, x.Clone())
			}
			if row.Overflow == 0 && tab.Root != 1 {
				at := db.Current(row.Page)
				v.cell = bytes.Clone(f.part(at.Part)[at.Offset+int64(row.Offset):][:row.Length])
			}
			h.add(v)
			alive[v.key()] = true
		}
	}
	return alive
}

// tally counts what came back.
type tally struct{ invented, whole, wholeSeen, headless, headlessSeen, rows, wrongTable, unattributed, copies, sure, sureRight int }

func (a *tally) add(b tally) {
	a.invented += b.invented
	a.whole, a.wholeSeen, a.headless, a.headlessSeen = a.whole+b.whole, a.wholeSeen+b.wholeSeen, a.headless+b.headless, a.headlessSeen+b.headlessSeen
	a.copies += b.copies
	a.rows, a.wrongTable, a.unattributed, a.sure, a.sureRight = a.rows+b.rows, a.wrongTable+b.wrongTable, a.unattributed+b.unattributed, a.sure+b.sure, a.sureRight+b.sureRight
}

// fits reports whether a recovered row says of v nothing that is wrong.
func (v *version) fits(row *Row) bool {
	if row.HasRowID && !v.noID && row.RowID != v.rowID {
		return false
	}
	if row.Table == nil { // in the order of the record
		return len(row.Values) <= len(v.values)
	}
	if len(row.Values) != len(v.values) {
		return false
	}
	for i, x := range row.Values {
		if i == v.alias {
			continue
		}
		if row.Lost[i] {
			if p := x.Bytes(); len(p) > 0 && i > 0 && !bytes.HasPrefix(v.values[i].Bytes(), p) {
				return false
			}
			continue
		}
		if x.Class() != v.values[i].Class() || x.Float() != v.values[i].Float() || x.Int() != v.values[i].Int() || !bytes.Equal(x.Bytes(), v.values[i].Bytes()) {
			return false
		}
	}
	return true
}

// check recovers f and compares with what was written.
func (h *history) check(t *testing.T, what string, f files, alive map[string]bool) (sum tally) {
	t.Helper()
	whole, part := map[string]bool{}, map[string]bool{}
	same := map[string]bool{} // what live rows hold, without their ids
	for k := range alive {
		v := h.versions[k]
		same[v.table+render(v.values, nil, v.alias)] = true
	}
	tails := map[string]int{}
	for _, v := range h.versions {
		if len(v.cell) > 8 {
			tails[string(v.cell[4:])]++
		}
	}
	for row, err := range Rows(f.open(t), Options{Full: true}) {
		if err != nil {
			t.Errorf("%s: %v", what, err)
			continue
		}
		sum.rows++
		if row.Offset < 0 || row.Offset+int64(row.Length) > int64(len(f.part(row.Part))) {
			t.Errorf("%s: a row beyond the end of its file: %+v", what, row)
		}
		right := false
		if row.Table == nil {
			sum.unattributed++
			for _, v := range h.versions {
				right = right || v.loosely(row)
			}
		} else {
			for _, v := range h.byTable[row.Table.Name] {
				if !v.fits(row) {
					continue
				}
				right = true
				if alive[v.key()] && row.HasRowID && !slices.ContainsFunc(row.Lost, func(l bool) bool { return l }) {
					sum.copies++
					t.Logf("%s: %s is alive and was reported (%s, page %d)", what, v.key(), row.Origin, row.Page)
				}
				if full(row, v.alias) || v.noID && !row.Lost[len(row.Lost)-1] { // the head of such a cell takes two types along
					part[v.key()] = true
				}
				if full(row, v.alias) {
					if row.HasRowID || v.noID {
						whole[v.key()] = true
					}
				}
			}
		}
		if row.Confidence >= 0.9 {
			sum.sure++
			if right {
				sum.sureRight++
			}
		}
		if !right {
			sum.invented++
			elsewhere := ""
			for n, vs := range h.byTable {
				for _, v := range vs {
					if v.fits(row) {
						elsewhere = ", but of " + n
					}
				}
			}
			if elsewhere != "" {
				sum.wrongTable++
			}
			name := "?"
			if row.Table != nil {
				name = row.Table.Name
			}
			t.Logf("%s: invented %s %d %v, page %d offset %d+%d of %s, %s, %v%s: %s", what, name, row.RowID, row.HasRowID, row.Page, row.Offset, row.Length, row.Part.Suffix(), row.Origin, row.Confidence, elsewhere, render(row.Values, row.Lost, -1))
		}
	}
	for _, key := range slices.Sorted(func(yield func(string) bool) {
		for k := range h.versions {
			if !yield(k) {
				return
			}
		}
	}) {
		v := h.versions[key]
		switch {
		case alive[key] || len(v.cell) <= 8:
		case f.contains(v.cell):
			sum.whole++
			if whole[key] {
				sum.wholeSeen++
			} else {
				t.Logf("%s: missed whole %s %x", what, key, v.cell[:8])
			}
		case v.noID && len(v.values) < 3 || !v.noID && same[v.table+render(v.values, nil, v.alias)]:
			// Where its two values meet cannot be told, or that it is not the live row.
		case f.contains(v.cell[4:]) && tails[string(v.cell[4:])] == 1:
			sum.headless++
			if part[key] {
				sum.headlessSeen++
			} else if os.Getenv("MISSED") != "" {
				t.Logf("%s: missed headless %s %x", what, key, v.cell[:8])
			}
		}
	}
	return sum
}

// loosely compares a row without a table: its values in the order of some table's.
func (v *version) loosely(row *Row) bool {
	if len(row.Values) > len(v.values) || row.HasRowID && row.RowID != v.rowID {
		return false
	}
	for i, x := range row.Values {
		if i == v.alias || row.Lost[i] {
			continue
		}
		if x.Float() != v.values[i].Float() || !bytes.Equal(x.Bytes(), v.values[i].Bytes()) {
			return false
		}
	}
	return true
}

func full(row *Row, alias int) bool {
	for i, l := range row.Lost {
		if l && i != alias {
			return false
		}
	}
	return true
}

// schemas are tables to write to: each name stands in for a kind of layout.
var schemas = []struct{ create, insert string }{
	{"CREATE TABLE note(id INTEGER PRIMARY KEY, thread INTEGER NOT NULL, who TEXT, at INTEGER NOT NULL, body TEXT, seen INTEGER); CREATE INDEX note_at ON note(at); CREATE INDEX note_who ON note(who, thread)",
		"INSERT INTO note VALUES(%[1]d, %[2]d%%9, '+44 7700 900%[3]d', 780000000000+%[2]d*61007, 'token-%[1]d-%[4]s', %[2]d%%2)"},
	{"CREATE TABLE ring(id INTEGER PRIMARY KEY AUTOINCREMENT, number TEXT NOT NULL, began INTEGER, secs INTEGER, level REAL)",
		"INSERT INTO ring(number, began, secs, level) VALUES('+44 7700 900%[3]d', 1700000000+%[2]d*977, %[2]d%%300, %[2]d*0.37)"},
	{"CREATE TABLE tag(label TEXT NOT NULL, weight REAL, n INTEGER, raw BLOB)",
		"INSERT INTO tag VALUES('label %[1]d %[4]s', %[2]d/3.0, %[2]d, x'ff0%[3]d')"},
	{"CREATE TABLE pair(k TEXT, v INTEGER, w TEXT, PRIMARY KEY(k, v)) WITHOUT ROWID",
		"INSERT OR IGNORE INTO pair VALUES('key %[2]d', %[1]d, 'value %[2]d %[4]s')"},
	{"CREATE TABLE place(id INTEGER PRIMARY KEY, lat REAL, lon REAL, acc INTEGER, at INTEGER)",
		"INSERT INTO place VALUES(%[1]d, 56.0+%[2]d*0.0001, 3.0-%[2]d*0.0002, %[2]d%%40, 700000000+%[2]d*13)"},
	{"CREATE TABLE visit(url TEXT, title TEXT, at INTEGER, n INTEGER DEFAULT 1); CREATE UNIQUE INDEX visit_url ON visit(url, at)",
		"INSERT INTO visit(url, title, at) VALUES('https://harbour.example/%[1]d/%[4]s', 'Page %[2]d', 1600000000000000+%[2]d*1000003)"},
}

// life is one random life of a database.
type life struct {
	t    *testing.T
	r    *rand.Rand
	db   *sql.DB
	path string
	h    history
	ids  int
	at   int64
}

func (l *life) exec(q string) {
	l.t.Helper()
	if _, err := l.db.Exec(q); err != nil {
		l.t.Fatalf("%v: %.300s", err, q)
	}
}

func newLife(t *testing.T, seed uint64, pragmas string) *life {
	l := &life{t: t, r: rand.New(rand.NewPCG(seed, 1)), path: filepath.Join(t.TempDir(), "t.db"), h: history{map[string]*version{}, map[string][]*version{}}}
	var err error
	if l.db, err = sql.Open("sqlite", l.path); err != nil {
		t.Fatal(err)
	}
	l.db.SetMaxOpenConns(1)
	t.Cleanup(func() { l.db.Close() })
	l.exec("PRAGMA secure_delete=0; PRAGMA synchronous=OFF; " + pragmas)
	return l
}

func (l *life) insert(schema, n int) {
	var q strings.Builder
	for range n {
		l.ids++
		x := l.r.IntN(100000)
		fmt.Fprintf(&q, schemas[schema].insert+";", l.ids, x, 100+x%900, strings.Repeat("abcdefghij", 7)[:l.r.IntN(70)])
	}
	l.exec("BEGIN;" + q.String() + "COMMIT")
}

func (l *life) see() map[string]bool { return l.h.see(l.t, readFiles(l.t, l.path)) }

var tableNames = []string{"note", "ring", "tag", "pair", "place", "visit"}

// step does one thing that may remove row versions.
func (l *life) step(schema int) {
	name := tableNames[schema]
	key := map[string]string{"note": "id", "ring": "id", "tag": "n", "pair": "v", "place": "id", "visit": "at/1000003"}[name]
	m := 2 + l.r.IntN(15)
	switch l.r.IntN(7) {
	case 0, 1:
		l.exec(fmt.Sprintf("DELETE FROM %s WHERE %s%%%d=%d", name, key, m, l.r.IntN(m)))
	case 2:
		at := l.r.IntN(max(l.ids, 1))
		l.exec(fmt.Sprintf("DELETE FROM %s WHERE %s BETWEEN %d AND %d", name, key, at, at+l.r.IntN(40)))
	case 3:
		set := map[string]string{"note": "body='changed '||body", "ring": "secs=secs+1", "tag": "label=label||'!'", "pair": "w=substr(w,1,9)", "place": "acc=acc+1000", "visit": "n=n+1"}[name]
		l.exec(fmt.Sprintf("UPDATE %s SET %s WHERE %s%%%d=1", name, set, key, m))
	case 4:
		l.insert(schema, 1+l.r.IntN(25))
	case 5:
		l.exec(fmt.Sprintf("DELETE FROM %s WHERE %s%%%d<>0", name, key, m))
	case 6:
		l.insert(schema, 1+l.r.IntN(80))
	}
	l.see()
}

func TestLives(t *testing.T) {
	lives := 240
	if testing.Short() {
		lives = 40
	}
	if s := os.Getenv("LIVES"); s != "" {
		fmt.Sscan(s, &lives)
	}
	var sum tally
	for seed := range uint64(lives) {
		r := rand.New(rand.NewPCG(seed, 2))
		pageSize := 512 << r.IntN(8)
		enc := []string{"UTF-8", "UTF-8", "UTF-16le", "UTF-16be"}[r.IntN(4)]
		mode := []string{"DELETE", "WAL", "PERSIST", "WAL", "TRUNCATE"}[r.IntN(5)]
		vacuum := r.IntN(3)
		what := fmt.Sprintf("life %d (%d, %s, %s, auto_vacuum %d)", seed, pageSize, enc, mode, vacuum)
		l := newLife(t, seed, fmt.Sprintf("PRAGMA page_size=%d; PRAGMA encoding='%s'; PRAGMA auto_vacuum=%d; PRAGMA journal_mode=%s; PRAGMA wal_autocheckpoint=%d", pageSize, enc, vacuum, mode, []int{1000, 20, 1 << 20}[r.IntN(3)]))
		var in []int
		for s := range schemas {
			if r.IntN(2) == 0 || s == len(schemas)-1 && in == nil {
				l.exec(schemas[s].create)
				l.insert(s, 20+r.IntN(300))
				in = append(in, s)
			}
		}
		l.see()
		for range 3 + r.IntN(12) {
			l.step(in[r.IntN(len(in))])
		}
		f := readFiles(t, l.path)
		alive := l.h.see(t, f)
		l.h.dump(t, "random", f)
		sum.add(l.h.check(t, what, f, alive))
		l.db.Close()
	}
	if sum.judge(t, 995, 975, 20000); sum.wrongTable*100 > sum.rows*2 {
		t.Error("too many rows of a wrong table")
	}
}
