package democase

import (
	"bytes"
	"database/sql"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// rowsOf are the rows of a database, by table and row number.
func rowsOf(t *testing.T, file []byte) map[string]string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "db")
	if err := os.WriteFile(path, file, 0o600); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	each := func(q string, do func([]any)) {
		rows, err := db.Query(q)
		if err != nil {
			t.Fatalf("%s: %v", q, err)
		}
		defer rows.Close()
		cols, _ := rows.Columns()
		for rows.Next() {
			v, p := make([]any, len(cols)), make([]any, len(cols))
			for i := range v {
				p[i] = &v[i]
			}
			if err := rows.Scan(p...); err != nil {
				t.Fatal(err)
			}
			do(v)
		}
	}
	var tables []string
	each("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'", func(v []any) { tables = append(tables, v[0].(string)) })
	all := map[string]string{}
	for _, name := range tables {
		each("SELECT rowid, * FROM "+name, func(v []any) { all[fmt.Sprint(name, " ", v[0])] = fmt.Sprintf("%v", v[1:]) })
	}
	return all
}

// What an older backup holds the newer one holds too, under the same numbers and at the same
// paths, unless it was deleted or changed between the two: both are of one handset. So are
// the files that an app makes of itself.
func TestBackupsAreOneHistory(t *testing.T) {
	day := func(month time.Month, day, hour int) time.Time {
		return time.Date(2026, month, day, hour, 37, 0, 0, time.UTC)
	}
	for _, family := range []struct {
		device  string
		files   func(string, time.Time, bool) ([]content, *Truth, error)
		moments []time.Time
	}{
		{"Orlop", handsetFiles, []time.Time{day(8, 2, 19), day(9, 21, 3), last}},
		{"Tarn", galleyFiles, []time.Time{day(9, 8, 20), last}},
	} {
		type held struct {
			at   time.Time
			path string
			rows map[string]string
		}
		var databases []held
		files := map[string][]byte{}
		for _, b := range ownBackups {
			if b.family == family.device {
				db, err := b.database()
				if err != nil {
					t.Fatal(err)
				}
				databases = append(databases, held{b.at, b.of.path, rowsOf(t, db)})
			}
		}
		for _, at := range family.moments {
			all, truth, err := family.files(t.TempDir(), at, false)
			if err != nil {
				t.Fatal(err)
			}
			told, lost := map[string]bool{}, map[string]bool{}
			for _, d := range truth.Deleted {
				told[fmt.Sprint(d.Database, d.Table, " ", d.RowID)] = true
				for _, v := range d.Values {
					lost[fmt.Sprint(v)] = true // if it is a path
				}
			}
			now, rows := map[string][]byte{}, map[string]map[string]string{}
			for _, f := range all {
				if bytes.HasPrefix(f.data, []byte("SQLite format 3")) {
					rows[f.path] = rowsOf(t, f.data)
				} else if !strings.HasSuffix(f.path, "-wal") {
					now[f.path] = f.data
				}
			}
			for _, h := range databases {
				if at.Before(h.at) {
					continue
				}
				others, example := 0, ""
				for row, was := range h.rows {
					if is := rows[h.path][row]; is != was && !told[h.path+row] {
						others, example = others+1, fmt.Sprintf("%s: %s is %s", row, was, is)
					}
				}
				if others > 0 {
					t.Errorf("%d of %d rows of %s as of %s are others on %s, and nobody deleted or changed them: %s", others, len(h.rows), h.path, h.at, at, example)
				}
			}
			for _, path := range slices.Sorted(maps.Keys(files)) {
				if b, ok := now[path]; !lost[path] && (!ok || !bytes.Equal(b, files[path])) {
					t.Errorf("%s is another or missing (%v) on %s", path, ok, at)
				}
			}
			files = now
			for path, r := range rows {
				databases = append(databases, held{at, path, r})
			}
		}
	}
}
