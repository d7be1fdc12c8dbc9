package salvage

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"crosswind/core/sqlitefile"
)

// The databases with which SQLite's own tests attack it, more than 10,000, as Debian's
// source package carries them: most lie as blobs in a table db of a few others. PUBLISHED
// names the folder; scripts/fuzz.sh fetches them.
func TestPublishedDatabases(t *testing.T) {
	dir := os.Getenv("PUBLISHED")
	if dir == "" {
		t.Skip("PUBLISHED names no folder of databases")
	}
	const mostTime, mostMemory = 2 * time.Second, 100 << 20
	paths, _ := filepath.Glob(filepath.Join(dir, "*.db"))
	files, rows := 0, 0
	var slowest time.Duration
	read := func(name string, r io.ReaderAt, size int64) {
		began := time.Now()
		f, err := sqlitefile.Open(r, size)
		if err != nil {
			f, err = sqlitefile.OpenDamaged(r, size)
		}
		files++
		if err == nil {
			for _, err := range Rows(f, Options{Full: true, Live: true}) {
				if err == nil {
					rows++
				}
			}
		}
		took := time.Since(began)
		if slowest = max(slowest, took); took > mostTime {
			t.Errorf("%s of %d bytes took %v", name, size, took)
		}
	}
	for _, path := range paths {
		r, err := os.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		st, err := r.Stat()
		if err != nil {
			t.Fatal(err)
		}
		read(filepath.Base(path), r, st.Size())
		f, err := sqlitefile.Open(r, st.Size())
		if err != nil {
			continue
		}
		tables, err := f.Tables()
		if err != nil {
			continue
		}
		for _, table := range tables {
			if table.Name != "db" {
				continue
			}
			for row, err := range f.Rows(table) {
				if err != nil {
					t.Fatalf("%s: %v", path, err)
				}
				for _, v := range row.Values {
					if b := bytes.Clone(v.Bytes()); len(b) >= 100 {
						read(filepath.Base(path), bytes.NewReader(b), int64(len(b)))
					}
				}
			}
		}
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	t.Logf("%d databases, %d rows; the slowest took %v; %d MB of heap at most", files, rows, slowest, m.HeapSys>>20)
	if files < 1000 {
		t.Error("these are too few: are they there?")
	}
	if m.HeapSys > mostMemory {
		t.Errorf("%d MB of heap", m.HeapSys>>20)
	}
}
