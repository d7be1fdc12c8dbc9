package sqlitefile

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// sqlite3 runs the sqlite3 program, the reference reader and writer.
func sqlite3(t testing.TB, db string, script string) string {
	t.Helper()
	cmd := exec.Command("sqlite3", "-batch", db)
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("sqlite3: %v\n%s", err, out)
	}
	return string(out)
}

func open(t testing.TB, path string) *File {
	t.Helper()
	r, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	st, err := r.Stat()
	if err != nil {
		t.Fatal(err)
	}
	f, err := Open(r, st.Size())
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// "Database File Format" §1.6 (varint) and §2.1 (serial type codes).
func TestVarintAndSerialTypeTables(t *testing.T) {
	for in, want := range map[string]int64{
		"00": 0, "7f": 127, "8100": 128, "ff7f": 16383, "818000": 16384,
		"bfffffffffffffffff": 1<<63 - 1, "ffffffffffffffffff": -1, "80": 0, "": 0,
	} {
		b, _ := hex.DecodeString(in)
		got, n := Varint(b)
		if in == "80" || in == "" {
			if n != 0 {
				t.Errorf("%q: cut off, but %d bytes read", in, n)
			}
			continue
		}
		if n != len(b) || got != want {
			t.Errorf("%s: %d in %d bytes, want %d", in, got, n, want)
		}
		if VarintLen(got) != len(b) {
			t.Errorf("%s: VarintLen %d", in, VarintLen(got))
		}
	}
	for typ, want := range map[SerialType]struct {
		size  int64
		class Class
	}{0: {0, Null}, 1: {1, Integer}, 2: {2, Integer}, 3: {3, Integer}, 4: {4, Integer}, 5: {6, Integer}, 6: {8, Integer},
		7: {8, Real}, 8: {0, Integer}, 9: {0, Integer}, 10: {-1, Integer}, 11: {-1, Integer}, 12: {0, Blob}, 13: {0, Text}, 18: {3, Blob}, 19: {3, Text}} {
		if typ.Size() != want.size || typ.Class() != want.class {
			t.Errorf("type %d: size %d class %d", typ, typ.Size(), typ.Class())
		}
	}
}

const fixture = `
CREATE TABLE plain(id INTEGER PRIMARY KEY, a, b TEXT DEFAULT 'x,)', "c d" REAL, e BLOB, f NUMERIC(10,2) NOT NULL DEFAULT -7, CHECK (a <> ')'));
CREATE TABLE noalias(id INTEGER PRIMARY KEY DESC, v TEXT, gen AS (v || 'z') VIRTUAL, st TEXT GENERATED ALWAYS AS (v || 'y') STORED);
CREATE TABLE pair(k1 TEXT, v1, k2 INT, v2 TEXT, PRIMARY KEY(k2 DESC, k1)) WITHOUT ROWID;
CREATE TABLE [odd "name](x /* , */ INTEGER, -- comment )
  y VARCHAR(20) COLLATE NOCASE, CONSTRAINT u UNIQUE (x, y));
CREATE INDEX pi ON plain(a, b);
CREATE TABLE later(id INTEGER PRIMARY KEY, a TEXT);
INSERT INTO later(a) VALUES ('old'),('older');
ALTER TABLE later ADD COLUMN z INTEGER DEFAULT 42;
ALTER TABLE later ADD COLUMN w TEXT DEFAULT 'it''s';
INSERT INTO later(a,z,w) VALUES ('new',1,'n');
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d)
 INSERT INTO plain SELECT i*3, CASE i%%7 WHEN 0 THEN NULL WHEN 1 THEN i WHEN 2 THEN -i*100003 WHEN 3 THEN i*1.25 WHEN 4 THEN 'text '||i WHEN 5 THEN i*4294967297 ELSE x'00ff'||i END,
  'Grüße '||i||' '||char(0x1F30A,0x4e2d), i/2.0, zeroblob(i%%50), i FROM n;
INSERT INTO plain VALUES (-5, 9223372036854775807, '', 1, NULL, 0),(1000000000000, -9223372036854775808, NULL, -0.0, x'', 1),(7,0,'0',1e300,x'01',2),(8,1,'1',3,x'02',-129);
INSERT INTO plain SELECT 2000000+value, hex(zeroblob(value*61)), printf('%%.*c', value*97, 'q'), value, zeroblob(value*211), value FROM generate_series(1,60);
INSERT INTO noalias(id,v) VALUES (5,'five'),(6,'six');
INSERT INTO pair SELECT 'k'||i, i*2, i, printf('%%.*c', i%%90*40, 'w') FROM (SELECT value AS i FROM generate_series(1,400));
INSERT INTO [odd "name] SELECT value, 'v'||value FROM generate_series(1,100);
`

// Every live row equals what the sqlite3 program reads from the same file.
func TestLiveRowsAgainstSQLite3(t *testing.T) {
	for pageSize := 512; pageSize <= 65536; pageSize *= 2 {
		for _, enc := range []string{"UTF-8", "UTF-16le", "UTF-16be"} {
			for _, mode := range []string{"DELETE", "WAL"} {
				if mode == "WAL" && pageSize != 1024 {
					continue
				}
				t.Run(fmt.Sprintf("%d %s %s", pageSize, enc, mode), func(t *testing.T) {
					path := filepath.Join(t.TempDir(), "t.db")
					// A 512-byte page needs thousands of rows for a tree of four levels.
					sqlite3(t, path, fmt.Sprintf("PRAGMA page_size=%d; PRAGMA encoding='%s'; PRAGMA auto_vacuum=%d;\n", pageSize, enc, pageSize/512%2)+fmt.Sprintf(fixture, 3000))
					if mode == "WAL" {
						// A reader that stays keeps the log from being removed.
						sqlite3(t, path, "PRAGMA journal_mode=WAL;\n.filectrl persist_wal 1\nPRAGMA wal_autocheckpoint=0; UPDATE plain SET b='changed' WHERE id%2; DELETE FROM pair WHERE k2<50;\n.shell cp "+path+" "+path+".copy\n.shell cp "+path+"-wal "+path+".copy-wal\n")
						path += ".copy"
					}
					f := open(t, path)
					if mode == "WAL" {
						w, err := os.Open(path + "-wal")
						if err != nil {
							t.Fatal(err)
						}
						defer w.Close()
						st, _ := w.Stat()
						if err := f.OpenLog(w, st.Size()); err != nil {
							t.Fatal(err)
						}
					}
					compareAll(t, f, path)
				})
			}
		}
	}
}

func compareAll(t *testing.T, f *File, path string) {
	tables, err := f.Tables()
	if err != nil || len(tables) != 6 {
		t.Fatalf("%d tables, %v", len(tables), err)
	}
	for _, tab := range tables[1:] {
		var cols []string
		for _, c := range tab.Columns {
			if c.Virtual {
				continue
			}
			q := `"` + strings.ReplaceAll(c.Name, `"`, `""`) + `"`
			cols = append(cols, fmt.Sprintf("typeof(%s)||'='||CASE typeof(%s) WHEN 'real' THEN printf('%%!.17g',%s) WHEN 'integer' THEN %s WHEN 'null' THEN '' ELSE hex(CAST(%s AS BLOB)) END", q, q, q, q, q))
		}
		id, order := "rowid", "rowid"
		if tab.WithoutRowID {
			id, order = "''", "k2 DESC, k1"
		}
		want := strings.Split(sqlite3(t, path, fmt.Sprintf("SELECT %s||' '||%s FROM \"%s\" ORDER BY %s;", id, strings.Join(cols, "||' '||"), strings.ReplaceAll(tab.Name, `"`, `""`), order)), "\n")
		i := 0
		for row, err := range f.Rows(tab) {
			if err != nil {
				t.Fatalf("%s: %v", tab.Name, err)
			}
			ref := strings.Split(want[min(i, len(want)-1)], " ")
			i++
			if !tab.WithoutRowID && ref[0] != fmt.Sprint(row.RowID) {
				t.Fatalf("%s: row id %d, sqlite3 says %s", tab.Name, row.RowID, ref[0])
			}
			k := 0
			for j, v := range row.Values {
				if tab.Columns[j].Virtual {
					continue
				}
				k++
				if !same(v, ref[k]) {
					t.Fatalf("%s row %d column %s: %+v, sqlite3 says %s", tab.Name, row.RowID, tab.Columns[j].Name, v, ref[k])
				}
			}
		}
		if i != len(want)-1 {
			t.Errorf("%s: %d rows, sqlite3 says %d", tab.Name, i, len(want)-1)
		}
	}
}

func same(v Value, ref string) bool {
	typ, text, _ := strings.Cut(ref, "=")
	switch typ {
	case "null":
		return v.Class() == Null
	case "integer":
		return v.Class() == Integer && fmt.Sprint(v.Int()) == text
	case "real":
		x, err := strconv.ParseFloat(text, 64)
		return err == nil && v.Class() == Real && v.Float() == x
	case "text", "blob":
		return (v.Class() == Text) == (typ == "text") && strings.EqualFold(hex.EncodeToString(v.Bytes()), text)
	}
	return false
}

func TestFreeListAgainstSQLite3(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	out := sqlite3(t, path, "PRAGMA page_size=512;"+fmt.Sprintf(fixture, 2000)+"DELETE FROM plain; DROP TABLE pair; PRAGMA freelist_count;")
	n := 0
	for _, err := range open(t, path).FreeList {
		if err != nil {
			t.Fatal(err)
		}
		n++
	}
	if strings.TrimSpace(out) != fmt.Sprint(n) {
		t.Errorf("%d free pages, sqlite3 says %s", n, out)
	}
}

func TestDamage(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA page_size=512;"+fmt.Sprintf(fixture, 300)+"DELETE FROM plain WHERE id<400;")
	good, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(bytes.NewReader([]byte("no database")), 11); !errors.Is(err, ErrNotDatabase) {
		t.Errorf("a text file: %v", err)
	}
	for name, damage := range map[string]func(b []byte) []byte{
		"cut in half":     func(b []byte) []byte { return b[:len(b)/2] },
		"free list cycle": func(b []byte) []byte { p := b[32:36]; copy(b[(int(p[2])<<8|int(p[3])-1)*512:], p); return b },
		"zeroed middle":   func(b []byte) []byte { clear(b[len(b)/3 : len(b)/2]); return b },
		"page count":      func(b []byte) []byte { copy(b[28:], "\xff\xff\xff\xff"); return b },
	} {
		b := damage(bytes.Clone(good))
		f, err := Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		rows, faults := readAll(f)
		if rows == 0 || (faults == 0 && name != "page count") {
			t.Errorf("%s: %d rows and %d faults", name, rows, faults)
		}
	}
}

func readAll(f *File) (rows, faults int) {
	ts, err := f.Tables()
	if err != nil {
		faults++
	}
	for _, t := range ts {
		for _, err := range f.Rows(t) {
			if err != nil {
				faults++
			} else {
				rows++
			}
		}
	}
	for _, err := range f.FreeList {
		if err != nil {
			faults++
		}
	}
	return rows, faults
}

func FuzzOpen(f *testing.F) {
	path := filepath.Join(f.TempDir(), "t.db")
	sqlite3(f, path, "PRAGMA page_size=512;CREATE TABLE t(a INTEGER PRIMARY KEY, b); INSERT INTO t SELECT value, hex(zeroblob(value*9)) FROM generate_series(1,40); CREATE TABLE w(a,b,PRIMARY KEY(b)) WITHOUT ROWID; INSERT INTO w SELECT * FROM t; DELETE FROM t WHERE a%3=1;")
	b, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b, 100, byte(3))
	f.Add(b[:700], 28, byte(255))
	f.Fuzz(func(t *testing.T, b []byte, at int, x byte) {
		b = bytes.Clone(b)
		if at >= 0 && at < len(b) {
			b[at] ^= x
		}
		db, err := Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		db.OpenLog(bytes.NewReader(b), int64(len(b)))
		readAll(db)
	})
}

// BenchmarkLiveRows reads every live row and value of a table of messages.
func BenchmarkLiveRows(b *testing.B) {
	path := filepath.Join(b.TempDir(), "t.db")
	sqlite3(b, path, "CREATE TABLE m(id INTEGER PRIMARY KEY, at INTEGER, who TEXT, body TEXT); INSERT INTO m SELECT value, 1700000000000+value, '+44 7700 900'||(value%1000), printf('message number %d: %.*c', value, value%160, 'm') FROM generate_series(1,600000);")
	f := open(b, path)
	b.SetBytes(f.size)
	t, err := f.Table("m")
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		for row, err := range f.Rows(t) {
			if err != nil {
				b.Fatal(err)
			}
			if len(row.Values) != 4 {
				b.Fatal("a row without its columns")
			}
		}
	}
}

// Every page is taken apart without a gap or an overlap, and what is unused of it is
// what the dbstat virtual table of the sqlite3 program says (dbstat documentation).
func TestAnatomyAgainstDbstat(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA page_size=1024;"+fmt.Sprintf(fixture, 2000)+"DELETE FROM plain WHERE id%7=3; DELETE FROM pair WHERE k2%5=1;")
	f := open(t, path)
	page := make([]byte, f.PageSize)
	n := 0
	for line := range strings.Lines(sqlite3(t, path, "SELECT pageno||' '||ncell||' '||unused FROM dbstat WHERE pagetype IN ('leaf','internal');")) {
		var no, cells, unused int
		if _, err := fmt.Sscan(line, &no, &cells, &unused); err != nil {
			t.Fatal(err)
		}
		if err := f.ReadPage(uint32(no), page); err != nil {
			t.Fatal(err)
		}
		at, gotCells, free := 0, 0, 0
		for _, r := range Anatomy(uint32(no), page, f.Usable()) {
			if r.From != at {
				t.Errorf("page %d: %s begins at %d, not at %d", no, r.Name, r.From, at)
			}
			at = r.To
			switch r.Role {
			case "cell":
				gotCells++
			case "gap", "free", "slack":
				free += r.To - r.From
			}
		}
		if at != f.PageSize || gotCells != cells || free != unused {
			t.Errorf("page %d: %d cells and %d bytes free, dbstat says %d and %d; it ends at %d", no, gotCells, free, cells, unused, at)
		}
		n++
	}
	if n < 100 {
		t.Errorf("%d pages looked at", n)
	}
}

// Find finds every row that there is, and no other.
func TestFindEveryRow(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA page_size=512;"+fmt.Sprintf(fixture, 3000))
	f := open(t, path)
	tab, err := f.Table("plain")
	if err != nil {
		t.Fatal(err)
	}
	ids := map[int64]bool{}
	for row, err := range f.Rows(tab) {
		if err != nil {
			t.Fatal(err)
		}
		ids[row.RowID] = true
	}
	for id := int64(-10); id < 9100; id++ {
		if c, ok := f.Find(tab.Root, id); ok != ids[id] || ok && c.RowID != id {
			t.Fatalf("row %d: found %v, is there %v", id, ok, ids[id])
		}
	}
}

// What a persisted rollback journal holds are the pages as the file had them before
// (format document §3); each is found, and its checksums hold.
func TestPersistedJournal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA page_size=1024;"+fmt.Sprintf(fixture, 500))
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	sqlite3(t, path, "PRAGMA journal_mode=PERSIST; UPDATE plain SET b='other' WHERE id%9=0;")
	journal, err := os.Open(path + "-journal")
	if err != nil {
		t.Fatal(err)
	}
	defer journal.Close()
	st, err := journal.Stat()
	if err != nil {
		t.Fatal(err)
	}
	f := open(t, path)
	if err := f.OpenJournal(journal, st.Size()); err != nil {
		t.Fatal(err)
	}
	page := make([]byte, f.PageSize)
	vs := f.Versions()
	for _, v := range vs {
		if err := f.ReadVersion(v.Place, page); err != nil {
			t.Fatal(err)
		}
		if v.Part != Journal || string(page) != string(before[f.PageOffset(v.Page):][:f.PageSize]) {
			t.Errorf("record %d is not page %d as it was", v.Frame, v.Page)
		}
	}
	if len(vs) < 20 {
		t.Errorf("%d pages in the journal", len(vs))
	}
}

// Pages that all hold the same row ids tell nothing, and take no memory to say so.
func TestNumberingOfPagesAlike(t *testing.T) {
	var n Numbering
	for range 100 {
		n.Add(&Page{Kind: InteriorTable, Right: 1 << 30}, []Cell{{RowID: 5, Left: 1 << 31}, {RowID: 6, Left: 7 << 20}})
	}
	for range 200_000 {
		n.Add(&Page{Kind: LeafTable}, []Cell{{RowID: 2}, {RowID: 3}})
	}
	if first, ok := n.First(); ok {
		t.Errorf("the first is told to be %d", first)
	}
}
