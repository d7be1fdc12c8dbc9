package salvage

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"crosswind/core/sqlitefile"
)

// Two tables with the same columns: only whose page it was tells their rows apart.
// Each text begins with its table's name.
func TestTwinsAreToldApart(t *testing.T) {
	all := 0
	for _, mode := range []string{"WAL", "PERSIST", "DELETE"} {
		for vacuum := range 3 {
			for _, last := range []string{
				"DELETE FROM two; DELETE FROM one WHERE n%3=0",
				"DELETE FROM two WHERE n>40; DELETE FROM one WHERE n<600; INSERT INTO one SELECT 'one again '||value, value FROM generate_series(1,300)",
				"DROP TABLE two; INSERT INTO one SELECT 'one more '||value, value FROM generate_series(1,60)",
				"UPDATE one SET n=n+1000000; UPDATE two SET s=s||' changed'",
			} {
				l := newLife(t, 1, fmt.Sprintf("PRAGMA page_size=1024; PRAGMA auto_vacuum=%d; PRAGMA journal_mode=%s; PRAGMA wal_autocheckpoint=0", vacuum, mode))
				l.exec("CREATE TABLE one(s TEXT, n INTEGER); CREATE TABLE two(s TEXT, n INTEGER)")
				for i := range 40 { // side by side, so that their pages alternate
					l.exec(fmt.Sprintf("WITH RECURSIVE c(i) AS (SELECT %d UNION ALL SELECT i+1 FROM c WHERE i<%d) INSERT INTO one SELECT 'one '||i, i FROM c", 20*i, 20*i+19))
					l.exec(fmt.Sprintf("WITH RECURSIVE c(i) AS (SELECT %d UNION ALL SELECT i+1 FROM c WHERE i<%d) INSERT INTO two SELECT 'two '||i, i FROM c", 20*i, 20*i+19))
				}
				for _, q := range strings.Split(last, "; ") {
					l.exec(series(q))
				}
				f := readFiles(t, l.path).open(t)
				right, wrong, open := 0, 0, 0
				for row, err := range Rows(f, Options{Full: true}) {
					if err != nil || len(row.Values) != 2 || row.Lost[0] {
						continue
					}
					switch text := row.Values[0].String(sqlitefile.UTF8); {
					case row.Table == nil:
						open++
						if !slices.Equal(row.Candidates, []string{"one", "two"}) {
							t.Errorf("%s, auto_vacuum %d, %s: %q may be of %v", mode, vacuum, last, text, row.Candidates)
						}
					case strings.HasPrefix(text, row.Table.Name):
						right++
					default:
						wrong++
					}
				}
				// A log holds the older trees whole.
				if wrong > 0 || mode == "WAL" && (open > 0 || right < 600) {
					t.Errorf("%s, auto_vacuum %d, %s: %d of the right table, %d wrong, %d open", mode, vacuum, last, right, wrong, open)
				}
				all += right + wrong + open
				l.db.Close()
			}
		}
	}
	if all < 20000 {
		t.Errorf("%d rows came back in all", all)
	}
}

// series spells out generate_series, which the library does not have.
func series(q string) string {
	var n int
	if _, rest, ok := strings.Cut(q, "generate_series(1,"); ok {
		fmt.Sscan(rest, &n)
		q, _, _ = strings.Cut(q, " FROM generate_series")
		return fmt.Sprintf("WITH RECURSIVE g(value) AS (SELECT 1 UNION ALL SELECT value+1 FROM g WHERE value<%d) %s FROM g", n, q)
	}
	return q
}
