package reading

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

// Pages of a database whose first one is not there give the rows that the program sqlite3 wrote into it, by the schema of
// another database of the same source; long rows only where the pages' numbers are told.
func TestPagesWithoutFirst(t *testing.T) {
	dir := t.TempDir()
	sqlite := func(name, sql string) (path string, out string) {
		path = filepath.Join(dir, name)
		b, err := exec.Command("sqlite3", path, sql).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, b)
		}
		return path, string(b)
	}
	const schema = `CREATE TABLE berth(id INTEGER PRIMARY KEY, quay TEXT NOT NULL, at INTEGER, note TEXT); CREATE INDEX by_at ON berth(at); CREATE TABLE keeper(name TEXT, lamp REAL);`
	fill := func(from, n, every int) string {
		return fmt.Sprintf(`WITH RECURSIVE c(n) AS (SELECT %d UNION ALL SELECT n+1 FROM c WHERE n<%d) INSERT INTO berth SELECT n, 'quay '||hex(n*n), 1700000000000+n*977, CASE n%%%d WHEN 0 THEN printf('%%.9000c', char(97+n%%26)) ELSE 'held '||n END FROM c;`, from, from+n-1, every)
	}
	file := func(path, onHandset, gone string, blank int) *File {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		clear(b[:blank])
		return &File{Path: onHandset, Stored: onHandset, Size: int64(len(b)), Gone: gone, Open: func() (Bytes, error) { return inMemory{bytes.NewReader(b)}, nil }}
	}
	live, _ := sqlite("live.db", schema+fill(9000, 700, 100))
	other, _ := sqlite("other.db", `CREATE TABLE keeper(id INTEGER PRIMARY KEY, name TEXT, lamp TEXT, at INTEGER NOT NULL, x BLOB NOT NULL); WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c WHERE n<400) INSERT INTO keeper SELECT n, 'k', 'lit', n, x'00' FROM c;`)
	others := []*File{file(other, "/a.db", "", 0), file(live, "/z.db", "", 0)}
	for _, c := range []struct {
		name  string
		blank int
		long  bool
	}{{"numbered", 1, true}, {"without their root", 2, false}} {
		old, _ := sqlite(c.name+".db", schema+fill(1, 3000, 50))
		_, out := sqlite(c.name+".db", "SELECT id, quay, at, note FROM berth")
		want := map[string]bool{}
		for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
			want[line] = true
		}
		f := file(old, "/x/carved/sqlite at 8192"+sqlitefile.PagesEnding, "carved", c.blank*4096)
		var notes []string
		db, err := OpenDatabase(f, func(string) *File { return nil }, others, func(err error) { notes = append(notes, err.Error()) })
		if err != nil || db.File == nil || !db.Adopted() {
			t.Fatalf("%s: %v, %q", c.name, err, notes)
		}
		if !strings.HasSuffix(db.From.Gone, "taken to be those of /z.db") {
			t.Errorf("%s: its records say %q", c.name, db.From.Gone)
		}
		if m := strings.Join(notes, "\n"); !strings.Contains(m, "taken to be those of /z.db") || db.Unnumbered == c.long {
			t.Errorf("%s: %s, unnumbered %t", c.name, m, db.Unnumbered)
		}
		short, long := 0, 0
		for row, err := range db.Survey().Rows(salvage.Options{Live: true, Full: true}) {
			if err != nil {
				t.Fatal(err)
			}
			if row.Table == nil || row.Table.Name != "berth" || row.Origin != salvage.LostPage {
				continue
			}
			var line []string
			for i, v := range row.Values {
				if row.Lost[i] {
					line = append(line, "?")
				} else if v.Class() == sqlitefile.Text {
					line = append(line, v.String(sqlitefile.UTF8))
				} else {
					line = append(line, fmt.Sprint(v.Int()))
				}
			}
			whole := strings.Join(line, "|")
			switch {
			case want[whole] && len(whole) > 9000:
				long++
			case want[whole]:
				short++
			case c.long || line[3] != "?":
				t.Errorf("%s: %.80s is no row of it", c.name, whole)
			}
			delete(want, whole)
		}
		if short < 2940*99/100 || c.long && long < 59 || !c.long && long > 0 {
			t.Errorf("%s: %d of 2940 short rows and %d of 60 long ones", c.name, short, long)
		}
		t.Logf("%s: %d of 2940 short rows and %d of 60 long ones", c.name, short, long)
		if err := db.Close(); err != nil {
			t.Error(err)
		}
	}
}
