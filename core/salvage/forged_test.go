package salvage

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"crosswind/core/sqlitefile"
)

// frameLog makes a write-ahead log of valid frames (SQLite's file format document, §4.1 and
// §4.2): the numbers of their pages and the sizes that they commit are whatever they say.
func frameLog(page []byte, frames [][2]uint32) []byte {
	var s0, s1 uint32
	sum := func(b []byte) {
		for ; len(b) >= 8; b = b[8:] {
			s0 += binary.BigEndian.Uint32(b) + s1
			s1 += binary.BigEndian.Uint32(b[4:]) + s0
		}
	}
	var out []byte
	u32 := func(all ...uint32) {
		for _, v := range all {
			out = binary.BigEndian.AppendUint32(out, v)
		}
	}
	u32(0x377f0683, 3007000, uint32(len(page)), 0, 7, 9)
	sum(out)
	u32(s0, s1)
	for _, f := range frames {
		at := len(out)
		u32(f[0], f[1], 7, 9)
		sum(out[at : at+8])
		sum(page)
		u32(s0, s1)
		out = append(out, page...)
	}
	return out
}

// A log whose frames are valid and name pages that cannot be: it costs no more time and
// memory than the bytes that are there.
func TestForgedLog(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, "PRAGMA secure_delete=0;"+fmt.Sprintf(items, 300)+"DELETE FROM item WHERE id%7=3;")
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	stored := uint32(len(whole) / 4096)
	leaf := whole[2*4096 : 3*4096]
	for name, frames := range map[string][][2]uint32{
		"two thousand million": {{1 << 31, 1 << 31}}, "four thousand million": {{1<<32 - 1, 1<<32 - 1}}, "a million": {{1 << 20, 1 << 20}},
		"many":        {{1 << 30, 0}, {1 << 29, 0}, {1<<31 - 5, 1<<32 - 1}},
		"a large end": {{3, 1<<32 - 1}},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		f, err := sqlitefile.Open(bytes.NewReader(whole), int64(len(whole)))
		if err != nil {
			t.Fatal(err)
		}
		log := frameLog(leaf, frames)
		f.OpenLog(bytes.NewReader(log), int64(len(log))) // which names the frames
		if most := stored + uint32(len(frames)); f.Pages > most {
			t.Errorf("%s: %d pages, the file and its log have %d", name, f.Pages, most)
		}
		if n := withPrefix(told(t, f, Options{Live: true, Full: true}), "item"); n < 290 {
			t.Errorf("%s: %d rows", name, n)
		}
		runtime.ReadMemStats(&after)
		if n := after.TotalAlloc - before.TotalAlloc; n > 256<<20 {
			t.Errorf("%s: %d MB were allocated", name, n>>20)
		}
	}
}

// Of more tables than 16 bits count, a row is given to its own.
func TestManyTables(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	sqlite3(t, path, `PRAGMA secure_delete=0; CREATE TABLE a(x);
PRAGMA writable_schema=ON;
INSERT INTO sqlite_schema WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 65600) SELECT 'table', 't'||i, 't'||i, 2, 'CREATE TABLE t'||i||'(a, b, c, d, e, f, g)' FROM n;`)
	sqlite3(t, path, `PRAGMA secure_delete=0; CREATE TABLE item(id INTEGER PRIMARY KEY, who TEXT, what TEXT, at REAL);
INSERT INTO item VALUES (1, 'Ketil', 'the side gate, not the quay', 1.5), (2, 'Tor', 'how many fit in there', 2.5), (3, 'Ketil', 'leave the brass one alone', 3.5); DELETE FROM item WHERE id = 2;`)
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	f, err := sqlitefile.Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	lines := told(t, f, Options{Full: true})
	if len(lines) != 1 || !strings.HasPrefix(lines[0], "item") {
		t.Errorf("%q", lines)
	}
}

// A panic in a job that runs beside the consumer comes out where it can be recovered from.
func TestPanicOfAJob(t *testing.T) {
	defer func() {
		if v := recover(); v != "odd" {
			t.Errorf("recovered %v", v)
		}
	}()
	for range inOrder(func(yield func(int) bool) {
		for i := 0; i < 100 && yield(i); i++ {
		}
	}, func() func(int) int {
		return func(i int) int {
			if i == 57 {
				panic("odd")
			}
			return i
		}
	}) {
	}
	t.Error("no panic")
}
