package salvage

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"crosswind/core/sqlitefile"
)

// told runs recovery and lists what came back, a line each: table, origin, row id
// and values.
func told(t *testing.T, f *sqlitefile.File, opt Options) (lines []string) {
	t.Helper()
	for row, err := range Rows(f, opt) {
		if err != nil {
			continue
		}
		var b strings.Builder
		if row.Table != nil {
			b.WriteString(row.Table.Name)
		}
		fmt.Fprintf(&b, " %s", row.Origin)
		if row.Uncommitted {
			b.WriteString(" uncommitted")
		}
		for i, v := range row.Values {
			switch {
			case row.Lost[i]:
				b.WriteString(" ?")
			case v.Class() == sqlitefile.Text:
				fmt.Fprintf(&b, " %s", v.String(f.Encoding))
			default:
				fmt.Fprintf(&b, " %v", v.Float())
			}
		}
		lines = append(lines, b.String())
	}
	slices.Sort(lines)
	return lines
}

const items = "CREATE TABLE item(id INTEGER PRIMARY KEY, name TEXT NOT NULL, at INTEGER, w REAL); INSERT INTO item SELECT value, 'name '||value, 1700000000+value, value*0.5 FROM generate_series(1,%d);"

func withPrefix(lines []string, prefix string) int {
	n := 0
	for _, l := range lines {
		if strings.HasPrefix(l, prefix) {
			n++
		}
	}
	return n
}

// The rows of a dropped table come back under its name, since its CREATE text does.
func TestDroppedTable(t *testing.T) {
	for _, kind := range []string{"", "PRAGMA auto_vacuum=1;"} {
		path := filepath.Join(t.TempDir(), "t.db")
		sqlite3(t, path, "PRAGMA secure_delete=0;"+kind+fmt.Sprintf(items, 300)+"CREATE TABLE keep(x); INSERT INTO keep VALUES ('a');"+
			"CREATE TABLE pair(k TEXT PRIMARY KEY, v INTEGER) WITHOUT ROWID; INSERT INTO pair SELECT 'key '||value, value*1000 FROM generate_series(1,100); DROP TABLE item; DROP TABLE pair;")
		f, b := load(t, path)
		lines := told(t, f, Options{Full: true})
		// With auto_vacuum the file is cut: only what is still there can come back.
		want, prefix := 300, "item dropped"
		if kind != "" {
			want, prefix = bytes.Count(b, []byte("name "))-2, "item "
		}
		if n := withPrefix(lines, prefix); n < want {
			t.Errorf("%s: %d rows of the dropped table, want %d", kind, n, want)
		}
		if n := withPrefix(lines, "pair dropped"); kind == "" && n != 100 {
			t.Errorf("%d rows of the dropped table without row ids, want 100", n)
		}
	}
}

// A file without its header, without page 1, or without a tree's root still gives
// its rows; a truncated one those that are there.
func TestDamagedFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, fmt.Sprintf(items, 5000))
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name       string
		zero, from int
		size       int
		prefix     string
		want       int
	}{
		{"header gone", 100, 0, len(whole), "item ", 5000},
		{"page 1 gone", 4096, 0, len(whole), " lostpage", 5000},
		{"root gone", 4096, 4096, len(whole), "item lostpage", 5000},
		{"half the file", 0, 0, len(whole) / 2, "item ", bytes.Count(whole[:len(whole)/2], []byte("name ")) - 1},
	} {
		b := bytes.Clone(whole[:c.size])
		clear(b[c.from : c.from+c.zero])
		f, err := sqlitefile.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			if f, err = sqlitefile.OpenDamaged(bytes.NewReader(b), int64(len(b))); err != nil {
				t.Fatalf("%s: %v", c.name, err)
			}
		}
		if n := withPrefix(told(t, f, Options{Full: true, Live: true}), c.prefix); n < c.want {
			t.Errorf("%s: %d rows, want %d", c.name, n, c.want)
		}
	}
}

// A hot journal is undone first, as the library does it: what the broken
// transaction wrote was never committed, and is told so.
func TestHotJournal(t *testing.T) {
	l := newLife(t, 1, "PRAGMA journal_mode=DELETE; PRAGMA cache_size=1; PRAGMA cache_spill=1")
	l.exec("CREATE TABLE item(id INTEGER PRIMARY KEY, name TEXT NOT NULL, at INTEGER)")
	l.exec("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<2000) INSERT INTO item SELECT i, 'name '||i, 1700000000+i FROM n")
	l.exec("BEGIN; DELETE FROM item WHERE id%3=0; UPDATE item SET name='never '||id WHERE id%5=1;")
	f := readFiles(t, l.path)
	l.exec("ROLLBACK")
	if len(f.journal) < 512 {
		t.Fatal("the journal was not spilled")
	}
	copied := filepath.Join(t.TempDir(), "c.db")
	db := f.open(t)
	live := 0
	tab, err := db.Table("item")
	if err != nil {
		t.Fatal(err)
	}
	for row, err := range db.Rows(tab) {
		if err != nil {
			t.Fatal(err)
		}
		live++
		if s := row.Values[1].String(db.Encoding); !strings.HasPrefix(s, "name ") {
			t.Fatalf("live row %q", s)
		}
	}
	if live != 2000 {
		t.Errorf("%d live rows, want 2000", live)
	}
	lines := told(t, db, Options{Full: true})
	if n := withPrefix(lines, "item superseded uncommitted"); n == 0 || n != len(lines) {
		t.Errorf("%d of %d rows are told as never committed: %s", n, len(lines), copied)
	}
}

// Of a log, each version of a changed row comes out once, with its frame, and what
// a transaction wrote that was rolled back is told as that.
func TestLogOfManyVersions(t *testing.T) {
	l := newLife(t, 2, "PRAGMA journal_mode=WAL; PRAGMA wal_autocheckpoint=0; PRAGMA cache_size=1")
	l.exec("CREATE TABLE item(id INTEGER PRIMARY KEY, name TEXT NOT NULL, n INTEGER)")
	for i := range 30 {
		l.exec(fmt.Sprintf("INSERT INTO item VALUES(%d, 'item %d', %d)", i, i, i*1000))
	}
	for v := range 9 {
		l.exec(fmt.Sprintf("UPDATE item SET name='version %d of 7' WHERE id=7", v))
	}
	l.exec("DELETE FROM item WHERE id=12")
	l.exec("BEGIN; WITH RECURSIVE n(i) AS (SELECT 100 UNION ALL SELECT i+1 FROM n WHERE i<3000) INSERT INTO item SELECT i, 'never '||i, i FROM n; ROLLBACK")
	f := readFiles(t, l.path)
	lines := told(t, f.open(t), Options{})
	for v := range 8 {
		if n := withPrefix(lines, fmt.Sprintf("item wal 7 version %d of 7 7000", v)); n != 1 {
			t.Errorf("version %d came out %d times", v, n)
		}
	}
	if withPrefix(lines, "item wal 12 item 12 12000") != 1 || withPrefix(lines, "item wal 7 item 7 7000") != 1 {
		t.Error("the deleted row, or the first version of the changed one, is missing")
	}
	never := 0
	for _, line := range lines {
		if strings.Contains(line, "never") {
			if never++; !strings.HasPrefix(line, "item wal uncommitted") {
				t.Errorf("%s was never committed", line)
			}
		}
	}
	if never < 1000 {
		t.Errorf("%d rows of the rolled-back transaction", never)
	}
}

// A log whose checksums do not hold is named, and what is found in it says so.
func TestLogWhoseSumsDoNotHold(t *testing.T) {
	l := newLife(t, 3, "PRAGMA journal_mode=WAL; PRAGMA wal_autocheckpoint=0")
	l.exec("CREATE TABLE item(id INTEGER PRIMARY KEY, name TEXT NOT NULL, n INTEGER)")
	for i := range 12 {
		l.exec(fmt.Sprintf("INSERT INTO item VALUES(%d, 'item %d', %d)", i, i, i*1000))
	}
	f := readFiles(t, l.path)
	const frame = 24 + 4096
	for name, c := range map[string]struct {
		at   int
		said string
	}{
		"its header": {28, "the checksum of the log's header does not hold"},
		"a frame":    {32 + 9*frame + 20, "frame 10 "},
	} {
		log := bytes.Clone(f.log)
		log[c.at] ^= 1
		db, err := sqlitefile.Open(bytes.NewReader(f.main), int64(len(f.main)))
		if err != nil {
			t.Fatal(err)
		}
		if err := db.OpenLog(bytes.NewReader(log), int64(len(log))); err == nil || !strings.Contains(err.Error(), c.said) {
			t.Errorf("%s: %v", name, err)
		}
		unproven := 0
		for row, err := range Rows(db, Options{}) {
			if err == nil && row.Unproven {
				unproven++
			}
		}
		if name == "a frame" && unproven == 0 {
			t.Errorf("%s: no row says that its frame's checksum does not hold", name)
		}
	}
}

// Rows from before a column was added, rows with overflow pages, and rows of which
// only an index entry is left.
func TestSpecialRows(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "short.db")
	sqlite3(t, path, "PRAGMA secure_delete=0; CREATE TABLE t(id INTEGER PRIMARY KEY, a TEXT, b INTEGER); INSERT INTO t SELECT value, 'word '||value, 1000+value FROM generate_series(1,40);"+
		"ALTER TABLE t ADD COLUMN c TEXT DEFAULT 'dd'; ALTER TABLE t ADD COLUMN d REAL; INSERT INTO t SELECT value, 'word '||value, 1000+value, 'c '||value, 0.5 FROM generate_series(41,60); DELETE FROM t WHERE id%9=2;")
	f, _ := load(t, path)
	if lines := told(t, f, Options{}); !slices.Contains(lines, "t freeblock ? word 38 1038 dd 0") || !slices.Contains(lines, "t freeblock ? word 56 1056 c 56 0.5") {
		t.Errorf("short records: %q", lines)
	}
	path = filepath.Join(dir, "long.db")
	sqlite3(t, path, "PRAGMA secure_delete=0; CREATE TABLE t(id INTEGER PRIMARY KEY, body TEXT, at INTEGER); INSERT INTO t SELECT value, 'long '||value||' '||printf('%.*c',4500+value*10,'x')||'end', 1700000000+value FROM generate_series(1,60); DELETE FROM t WHERE id%5=1;")
	f, _ = load(t, path)
	whole := 0
	for _, l := range told(t, f, Options{}) {
		if strings.HasPrefix(l, "t ") && strings.Contains(l, "xend 1.7") {
			whole++
		}
	}
	if whole < 9 {
		t.Errorf("%d rows with their overflow pages, want 9 of 12 or more", whole)
	}
	// Reserved bytes at the end of each page are no content.
	path = filepath.Join(dir, "reserved.db")
	sqlite3(t, path, ".filectrl reserve_bytes 40\nPRAGMA secure_delete=0; VACUUM; "+fmt.Sprintf(items, 800)+" DELETE FROM item WHERE id%9=4;")
	f, b := load(t, path)
	there := 0
	for id := 4; id <= 800; id += 9 { // each ends with its time, so that no longer name is taken for it
		if bytes.Contains(b, binary.BigEndian.AppendUint32(fmt.Appendf(nil, "name %d", id), uint32(1700000000+id))) {
			there++
		}
	}
	if n := withPrefix(told(t, f, Options{}), "item "); f.Reserved != 40 || there < 50 || n < there-1 {
		t.Errorf("%d bytes reserved, %d rows of %d that are there", f.Reserved, n, there)
	}
	path = filepath.Join(dir, "index.db")
	sqlite3(t, path, "PRAGMA secure_delete=0; CREATE TABLE t(id INTEGER PRIMARY KEY, who TEXT, body TEXT); CREATE INDEX by_who ON t(who); INSERT INTO t SELECT value, 'person '||value, printf('%.*c',300,'b') FROM generate_series(1,50); DELETE FROM t WHERE id BETWEEN 20 AND 29; INSERT INTO t SELECT value, 'another '||value, printf('%.*c',320,'n') FROM generate_series(101,160);")
	f, b = load(t, path)
	lines := told(t, f, Options{})
	for id := 20; id < 30; id++ {
		entry := fmt.Sprintf("person %d", id)
		if bytes.Contains(b, []byte(entry)) && !slices.ContainsFunc(lines, func(l string) bool { return strings.Contains(l, entry) }) {
			t.Errorf("%s is in the file and did not come back: %q", entry, lines)
		}
	}
}

// secure_delete=FAST leaves freed pages as they are (PRAGMA documentation).
func TestSecureDeleteFast(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA secure_delete=FAST;"+fmt.Sprintf(items, 4000)+"DELETE FROM item WHERE id>100;")
	f, _ := load(t, path)
	if n := withPrefix(told(t, f, Options{}), "item freelist"); n < 3800 {
		t.Errorf("%d rows of free pages, want 3800 of 3900 or more", n)
	}
}

// Evidence is hostile: each of these ends, and gives what can be read.
func TestHostileFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA secure_delete=0;"+fmt.Sprintf(items, 3000)+"DELETE FROM item WHERE id%7=3; DELETE FROM item WHERE id>2500;")
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	u32 := binary.BigEndian.PutUint32
	trunk := int(binary.BigEndian.Uint32(whole[32:])) - 1
	r := rand.New(rand.NewPCG(1, 1))
	for name, spoil := range map[string]func(b []byte){
		"four billion pages":    func(b []byte) { u32(b[28:], 1<<32-1) },
		"free list in a circle": func(b []byte) { u32(b[trunk*4096:], uint32(trunk+1)) },
		"free list of a tree":   func(b []byte) { u32(b[trunk*4096+8:], 2) },
		"huge free list count":  func(b []byte) { u32(b[trunk*4096+4:], 1<<31) },
		"tree in a circle":      func(b []byte) { u32(b[4096+8:], 2) },
		"pointers out of range": func(b []byte) { copy(b[2*4096+8:], bytes.Repeat([]byte{0xff}, 200)) },
		"huge varints":          func(b []byte) { copy(b[2*4096+2000:], bytes.Repeat([]byte{0xff}, 2000)) },
		"noise after the header": func(b []byte) {
			fill := b[100:]
			for i := range fill {
				fill[i] = byte(r.Uint32())
			}
		},
		"noise in every page": func(b []byte) {
			for i := 4096; i < len(b); i += 97 {
				b[i] = byte(r.Uint32())
			}
		},
		"every page a free trunk": func(b []byte) {
			for p := 4096; p < len(b); p += 4096 {
				u32(b[p:], uint32(p/4096))
			}
		},
	} {
		b := bytes.Clone(whole)
		spoil(b)
		f, err := sqlitefile.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		noise := make([]byte, 20000)
		for i := range noise {
			noise[i] = byte(r.Uint32())
		}
		copy(noise, "\x37\x7f\x06\x82\x00\x2d\xe2\x18\x00\x00\x10\x00")
		f.OpenLog(bytes.NewReader(noise), int64(len(noise))) // its fault is not the matter
		f.OpenJournal(bytes.NewReader(noise), int64(len(noise)))
		n := 0
		for row, err := range Rows(f, Options{Live: true, Full: true}) {
			if err == nil && row != nil {
				n++
			}
		}
		if n < 500 && !strings.HasPrefix(name, "noise") {
			t.Errorf("%s: only %d rows", name, n)
		}
	}
	for name, spoil := range map[string]func(b []byte){
		"page size 0":      func(b []byte) { b[16], b[17] = 0, 0 },
		"too much reserve": func(b []byte) { b[20] = 255; b[16], b[17] = 2, 0 },
	} {
		b := bytes.Clone(whole)
		spoil(b)
		if _, err := sqlitefile.Open(bytes.NewReader(b), int64(len(b))); err == nil {
			t.Errorf("%s is opened", name)
		}
		if f, err := sqlitefile.OpenDamaged(bytes.NewReader(b), int64(len(b))); err != nil || withPrefix(told(t, f, Options{Live: true, Full: true}), "item") < 2000 {
			t.Errorf("%s: its pages are not read: %v", name, err)
		}
	}
}

// Overflow chains of which all lead through the same pages: a good file has each page
// in one chain at most, so the survey follows no more pages than there are.
func TestChainsThatMeet(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA page_size=512; CREATE TABLE long(id INTEGER PRIMARY KEY, body TEXT); INSERT INTO long SELECT value, printf('%.*c', 40000, 'x') FROM generate_series(1,100);")
	f, b := load(t, path)
	if err := New(f).Fault(); err != nil {
		t.Fatal(err)
	}
	first := uint32(0)
	for row, err := range f.Rows(&sqlitefile.Table{Name: "long", Root: 2, RowIDColumn: -1}) {
		if err != nil {
			t.Fatal(err)
		}
		cell := b[f.PageOffset(row.Page)+int64(row.Offset):][:row.Length]
		if first == 0 { // its chain goes round
			first = row.Overflow
			for n := first; ; {
				at := b[f.PageOffset(n):]
				if n = binary.BigEndian.Uint32(at); n == 0 {
					binary.BigEndian.PutUint32(at, first)
					break
				}
			}
		}
		copy(cell, sqlitefile.AppendVarint(nil, row.PayloadSize+160*508)) // as much of it in the page
		binary.BigEndian.PutUint32(cell[len(cell)-4:], first)
	}
	s := New(f)
	if err := s.Fault(); err == nil || !strings.Contains(err.Error(), errChains.Error()) {
		t.Errorf("100 chains through the same 79 pages: %v", err)
	}
}

func TestInOrder(t *testing.T) {
	jobs := func(yield func(int) bool) {
		for i := 0; yield(i) && i < 999; i++ {
		}
	}
	square := func() func(int) int {
		r := rand.New(rand.NewPCG(1, 2))
		return func(i int) int {
			for range r.IntN(2000) { // some take longer
			}
			return i * i
		}
	}
	var got []int
	for n := range inOrder(jobs, square) {
		got = append(got, n)
	}
	for i, n := range got {
		if n != i*i {
			t.Fatalf("at %d: %d", i, n)
		}
	}
	if len(got) != 1000 {
		t.Errorf("%d results", len(got))
	}
	n := 0
	for range inOrder(jobs, square) { // one who has seen enough
		if n++; n == 10 {
			break
		}
	}
}
