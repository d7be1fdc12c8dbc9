package salvage

import (
	"bytes"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"crosswind/core/sqlitefile"
)

func sqlite3(t testing.TB, db, script string) {
	t.Helper()
	cmd := exec.Command("sqlite3", "-batch", db)
	cmd.Stdin = strings.NewReader(script)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("sqlite3: %v\n%s", err, out)
	}
}

func load(t testing.TB, path string) (*sqlitefile.File, []byte) {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	f, err := sqlitefile.Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	return f, b
}

// written is a row version as it stood in the file before the deletion.
type written struct {
	table string
	rowID int64
	cell  []byte // its bytes in its page
	text  string // its values
	over  bool   // it has overflow pages
}

func render(values []sqlitefile.Value, lost []bool, skip int) string {
	var b []byte
	for i, v := range values {
		if i == skip || lost != nil && lost[i] {
			b = append(b, "?|"...)
			continue
		}
		b = append(strconv.AppendInt(b, int64(v.Class()), 10), ':')
		b = append(strconv.AppendInt(b, v.Int(), 10), ':')
		b = append(hex.AppendEncode(b, v.Bytes()), '|')
	}
	return string(b)
}

func allWritten(t testing.TB, path string) (out []written) {
	f, b := load(t, path)
	tables, err := f.Tables()
	if err != nil {
		t.Fatal(err)
	}
	for _, tab := range tables[1:] {
		for row, err := range f.Rows(tab) {
			if err != nil {
				t.Fatal(err)
			}
			at := f.PageOffset(row.Page) + int64(row.Offset)
			out = append(out, written{tab.Name, row.RowID, bytes.Clone(b[at : at+int64(row.Length)]), render(row.Values, nil, tab.RowIDColumn), row.Overflow != 0})
		}
	}
	return out
}

const schema = `
CREATE TABLE note(id INTEGER PRIMARY KEY AUTOINCREMENT, thread INTEGER NOT NULL, who TEXT, at INTEGER NOT NULL, body TEXT, seen INTEGER);
CREATE TABLE ring(id INTEGER PRIMARY KEY, number TEXT NOT NULL, began INTEGER, secs INTEGER, level REAL);
CREATE INDEX byat ON note(at);
`

func fill(n int) string {
	return fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d)
INSERT INTO note SELECT i, i%%9, '+44 7700 900'||(100+i%%7), 780000000000+i*61007, 'token-'||i||' '||printf('%%.*c', i*7%%120, 'abcdefgh'), i%%2 FROM n;
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d)
INSERT INTO ring SELECT i*2, '+44 7700 900'||(100+i%%11), 1700000000+i*977, i%%300, i*0.37 FROM n;`, n, n/2)
}

// Truth by construction: rows are written and deleted by the sqlite3 program.
// A deleted row whose bytes are all still in the file must come back whole;
// one of which only the first four bytes are overwritten, which is what the
// library does when it frees a cell (format document §1.6), must come back
// with every surviving value in 95 of 100 cases; and whatever comes back must
// have been written.
func TestTruthByConstruction(t *testing.T) {
	deletions := map[string]string{
		"single rows":      "DELETE FROM note WHERE id%13=5; DELETE FROM ring WHERE id%22=4;",
		"neighbours":       "DELETE FROM note WHERE id%40 BETWEEN 10 AND 14; DELETE FROM ring WHERE id%60 BETWEEN 20 AND 30;",
		"a conversation":   "DELETE FROM note WHERE thread=3;",
		"a long run":       "DELETE FROM note WHERE id BETWEEN 200 AND 800;",
		"everything":       "DELETE FROM note; DELETE FROM ring;",
		"one by one, back": "DELETE FROM note WHERE id=900;DELETE FROM note WHERE id=899;DELETE FROM note WHERE id=898;DELETE FROM note WHERE id=897;",
		"partly reused":    "DELETE FROM note WHERE id%10=3; INSERT INTO note(thread,who,at,body,seen) SELECT 1,'+44 7700 900999',781000000000+value,'newer '||value,0 FROM generate_series(1,30);",
		"the newest":       "DELETE FROM note WHERE id>950;",
		"overflow":         "INSERT INTO note SELECT 5000+value,1,'+44 7700 900100',780000001000+value,'long-'||value||printf('%.*c', 9000,'x'),1 FROM generate_series(1,20); DELETE FROM note WHERE id BETWEEN 5005 AND 5015;",
	}
	total, wholeSeen, headless, headlessSeen := 0, 0, 0, 0
	for pageSize := 512; pageSize <= 65536; pageSize *= 2 {
		for _, enc := range []string{"UTF-8", "UTF-16le", "UTF-16be"} {
			if enc != "UTF-8" && pageSize != 512 && pageSize != 4096 && pageSize != 32768 {
				continue
			}
			for name, del := range deletions {
				path := filepath.Join(t.TempDir(), "t.db")
				sqlite3(t, path, fmt.Sprintf("PRAGMA secure_delete=0; PRAGMA page_size=%d; PRAGMA encoding='%s';", pageSize, enc)+schema+fill(1000))
				before := allWritten(t, path)
				if pre, post, ok := strings.Cut(del, "; DELETE FROM note WHERE id BETWEEN 5005"); ok {
					sqlite3(t, path, "PRAGMA secure_delete=0;"+pre)
					before, del = allWritten(t, path), "DELETE FROM note WHERE id BETWEEN 5005"+post
				}
				sqlite3(t, path, "PRAGMA secure_delete=0;"+del)
				after := allWritten(t, path)
				what := fmt.Sprintf("%s, page size %d, %s", name, pageSize, enc)
				w, ws, h, hs := compare(t, what, path, before, after)
				total, wholeSeen, headless, headlessSeen = total+w, wholeSeen+ws, headless+h, headlessSeen+hs
			}
		}
	}
	t.Logf("whole %d of %d, first four bytes overwritten %d of %d", wholeSeen, total, headlessSeen, headless)
	if wholeSeen*1000 < total*999 {
		t.Errorf("%d of %d rows whose bytes are whole came back", wholeSeen, total)
	}
	if headlessSeen*100 < headless*95 {
		t.Errorf("%d of %d rows without their first four bytes came back", headlessSeen, headless)
	}
}

func compare(t *testing.T, what, path string, before, after []written) (whole, wholeSeen, headless, headlessSeen int) {
	f, b := load(t, path)
	alive, ever := map[string]bool{}, map[string]bool{}
	for _, r := range after {
		alive[fmt.Sprint(r.table, r.rowID, r.text)] = true
		ever[r.table+r.text] = true
	}
	for _, r := range before {
		ever[r.table+r.text] = true
	}
	found, foundWithID := map[string]bool{}, map[string]bool{}
	for row, err := range Rows(f, Options{Full: true}) {
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if row.Table == nil {
			t.Errorf("%s: unattributed row at page %d offset %d: %s", what, row.Page, row.Offset, render(row.Values, row.Lost, -1))
			continue
		}
		partial := false
		for i, l := range row.Lost {
			partial = partial || l && i != row.Table.RowIDColumn
		}
		text := render(row.Values, row.Lost, row.Table.RowIDColumn)
		if !partial && !ever[row.Table.Name+text] || partial && !everPart(ever, row.Table.Name+text) {
			t.Errorf("%s: invented %s %d at page %d, %v, confidence %v: %s", what, row.Table.Name, row.RowID, row.Page, row.Origin, row.Confidence, text)
		}
		found[row.Table.Name+text] = true
		if row.HasRowID {
			foundWithID[fmt.Sprint(row.Table.Name, row.RowID, text)] = true
			if alive[fmt.Sprint(row.Table.Name, row.RowID, text)] {
				t.Errorf("%s: row %d of %s is alive and was reported", what, row.RowID, row.Table.Name)
			}
		}
	}
	for _, r := range before {
		switch key := fmt.Sprint(r.table, r.rowID, r.text); {
		case alive[key]:
		case bytes.Contains(b, r.cell):
			whole++
			if foundWithID[key] || r.over && found[r.table+r.text] {
				wholeSeen++
			} else if !r.over {
				t.Logf("%s: missed whole %s", what, key)
			} else {
				whole-- // its overflow pages may have been reused: another test's matter
			}
		case bytes.Contains(b, r.cell[4:]) && !r.over:
			headless++
			if found[r.table+r.text] {
				headlessSeen++
			}
		}
	}
	return
}

// everPart reports whether the surviving values are those of a written row.
func everPart(ever map[string]bool, text string) bool {
	parts := strings.Split(text, "|")
next:
	for e := range ever {
		ps := strings.Split(e, "|")
		if len(ps) != len(parts) {
			continue
		}
		for i := range ps {
			if parts[i] != "?" && parts[i] != ps[i] {
				continue next
			}
		}
		return true
	}
	return false
}

func count(t *testing.T, script string) int {
	t.Helper()
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, script)
	f, _ := load(t, path)
	n := 0
	for row, err := range Rows(f, Options{Full: true}) {
		if err != nil {
			t.Fatal(err)
		}
		t.Logf("found %s at page %d offset %d (%s, %v)", render(row.Values, row.Lost, -1), row.Page, row.Offset, row.Origin, row.Confidence)
		n++
	}
	return n
}

// Nothing may be found where nothing was deleted, after VACUUM, or under
// secure_delete (PRAGMA documentation: deleted content is overwritten with
// zeros).
func TestNothingIsInvented(t *testing.T) {
	for name, script := range map[string]string{
		"undeleted":             schema + fill(3000),
		"undeleted, small page": "PRAGMA page_size=512;" + schema + fill(3000),
		"shuffled inserts":      schema + "INSERT INTO ring SELECT (value*7919)%5003, '+44 7700 900'||value%900, value, value%60, value*0.5 FROM generate_series(1,5002);",
		"vacuumed":              "PRAGMA secure_delete=0;" + schema + fill(2000) + "DELETE FROM note WHERE id%3=1; VACUUM;",
		"secure_delete":         "PRAGMA secure_delete=1;" + schema + fill(2000) + "DELETE FROM note WHERE id%3=1; DELETE FROM ring WHERE id>500;",
		"blobs of noise":        "CREATE TABLE b(id INTEGER PRIMARY KEY, x BLOB, n INT); INSERT INTO b SELECT value, randomblob(300), value FROM generate_series(1,2000);",
	} {
		if n := count(t, script); n != 0 {
			t.Errorf("%s: %d rows found where there are none", name, n)
		}
	}
}

func TestSameBytesSameRows(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA secure_delete=0;"+schema+fill(1000)+"DELETE FROM note WHERE id%5=1;")
	list := func() string {
		f, _ := load(t, path)
		var b strings.Builder
		for row := range Rows(f, Options{Full: true}) {
			fmt.Fprintln(&b, row.Page, row.Offset, row.Length, row.Confidence, row.RowID, render(row.Values, row.Lost, -1), row.Fields())
		}
		return b.String()
	}
	if a, b := list(), list(); a != b || a == "" {
		t.Error("two readings of the same bytes differ")
	}
}

func FuzzRows(f *testing.F) {
	path := filepath.Join(f.TempDir(), "t.db")
	sqlite3(f, path, "PRAGMA secure_delete=0; PRAGMA page_size=512;"+schema+fill(60)+"DELETE FROM note WHERE id%3=1; DELETE FROM ring WHERE id>20;")
	b, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b, 100, byte(3))
	f.Add(b, 517, byte(255))
	f.Fuzz(func(t *testing.T, b []byte, at int, x byte) {
		b = bytes.Clone(b)
		if at >= 0 && at < len(b) {
			b[at] ^= x
		}
		db, err := sqlitefile.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		stands(t, New(db), files{main: b})
	})
}

// FuzzPages reads pages without their first one by the schema of a database.
func FuzzPages(f *testing.F) {
	path := filepath.Join(f.TempDir(), "t.db")
	sqlite3(f, path, "PRAGMA page_size=512;"+schema+fill(60)+"UPDATE note SET body = printf('%.900c', 'x') WHERE id%7=1;")
	whole, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole[512:], 100, byte(3))
	f.Add(whole[3*512:], 517, byte(255))
	f.Fuzz(func(t *testing.T, b []byte, at int, x byte) {
		b = append(make([]byte, 512), b...)
		if at >= 0 && at < len(b) {
			b[at] ^= x
		}
		like, err := sqlitefile.Open(bytes.NewReader(whole), int64(len(whole)))
		if err != nil {
			t.Fatal(err)
		}
		db, err := sqlitefile.OpenDamaged(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		if l := Likeness(db, like); l < 0 || l > 1 {
			t.Errorf("a likeness of %v", l)
		}
		if err := db.Adopt(like); err != nil {
			t.Fatal(err)
		}
		stands(t, NewLike(db, New(like)), files{main: b})
	})
}

// stands recovers a hostile file: whatever comes of it lies within its bytes.
func stands(t *testing.T, s *Survey, f files) {
	for row, err := range s.Rows(Options{Live: true, Full: true}) {
		if errors.Is(err, ErrInternal) {
			t.Error(err)
		}
		if row != nil && (row.Offset < 0 || row.Length < 0 || row.Offset+int64(row.Length) > int64(len(f.part(row.Part)))) {
			t.Errorf("row at %d, %d bytes, in a file of %d", row.Offset, row.Length, len(f.part(row.Part)))
		}
	}
}

// besides makes a database with a log, or with a rollback journal, beside it.
func besides(f *testing.F, mode string) files {
	path := filepath.Join(f.TempDir(), "t.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		f.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, q := range []string{"PRAGMA page_size=512; PRAGMA journal_mode=" + mode + "; PRAGMA wal_autocheckpoint=0", schema, fill(40), "DELETE FROM note WHERE id%3=1; UPDATE ring SET secs=9 WHERE id<9", "DELETE FROM ring WHERE id>20"} {
		if _, err := db.Exec(q); err != nil {
			f.Fatal(err)
		}
	}
	return readFiles(f, path)
}

// fuzzBeside changes one byte of what lies beside a database; what is wrong with it is
// told, but is not the matter here.
func fuzzBeside(f *testing.F, mode string, part sqlitefile.Part, places ...int) {
	whole := besides(f, mode)
	for _, at := range places {
		f.Add(whole.part(part), at, byte(0x80))
	}
	f.Fuzz(func(t *testing.T, b []byte, at int, x byte) {
		if b = bytes.Clone(b); at >= 0 && at < len(b) {
			b[at] ^= x
		}
		fs := files{main: whole.main}
		db, err := sqlitefile.Open(bytes.NewReader(fs.main), int64(len(fs.main)))
		if err != nil {
			t.Fatal(err)
		}
		if part == sqlitefile.Log {
			fs.log = b
			db.OpenLog(bytes.NewReader(b), int64(len(b)))
		} else {
			fs.journal = b
			db.OpenJournal(bytes.NewReader(b), int64(len(b)))
		}
		stands(t, New(db), fs)
	})
}

// Headers, checksums, page numbers and content.
func FuzzLog(f *testing.F)     { fuzzBeside(f, "WAL", sqlitefile.Log, 0, 8, 32, 40, 600) }
func FuzzJournal(f *testing.F) { fuzzBeside(f, "PERSIST", sqlitefile.Journal, 0, 12, 512, 520, 900) }
