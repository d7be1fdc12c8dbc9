package salvage

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"crosswind/core/sqlitefile"
)

// Files of general-purpose programs of Debian's packages, which keep what they do in SQLite
// and are made to write it here: the working copy of a version control system, and the
// cache of a feed reader. From these rows are deleted, by age and at random.
var programs = []struct {
	name, program, packaged string
	write                   func(t *testing.T, dir string) (path string)
	table, age              string // what is deleted from, and what is the older the smaller it is
}{
	{"working copy", "svn", "subversion", workingCopy, "NODES", "local_relpath"},
	{"feed reader", "newsboat", "newsboat", feedReader, "rss_item", "pubDate"},
}

func do(t *testing.T, dir, program string, args ...string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "HOME="+dir, "LC_ALL=C.UTF-8")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s %v: %v\n%s", program, args, err, out)
	}
}

func workingCopy(t *testing.T, dir string) string {
	do(t, dir, "svnadmin", "create", "repository")
	do(t, dir, "svn", "checkout", "-q", "file://"+filepath.Join(dir, "repository"), "copy")
	r := rand.New(rand.NewPCG(1, 1))
	for d := range 12 {
		at := filepath.Join(dir, "copy", fmt.Sprintf("folder-%02d", d))
		if err := os.Mkdir(at, 0o755); err != nil {
			t.Fatal(err)
		}
		for n := range 60 {
			if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("%s-%d.txt", strings.ReplaceAll(words(r, 9), " ", "-"), n)), []byte(words(r, 40)), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		do(t, filepath.Join(dir, "copy"), "svn", "add", "-q", at)
		do(t, filepath.Join(dir, "copy"), "svn", "commit", "-q", "-m", "more")
	}
	return filepath.Join(dir, "copy", ".svn", "wc.db")
}

func feedReader(t *testing.T, dir string) string {
	var feed strings.Builder
	r := rand.New(rand.NewPCG(2, 2))
	feed.WriteString(`<?xml version="1.0"?><rss version="2.0"><channel><title>Harbour</title><link>https://harbour.example/</link><description>d</description>`)
	for n := range 700 {
		fmt.Fprintf(&feed, `<item><title>%s</title><link>https://harbour.example/%d</link><guid>item-%d</guid><description>%s</description><pubDate>%s</pubDate></item>`,
			words(r, 20), n, n, words(r, 30+r.IntN(300)), fmt.Sprintf("Tue, %02d Sep 2026 %02d:%02d:00 +0000", 1+n/24%28, n%24, n%60))
	}
	feed.WriteString(`</channel></rss>`)
	for name, text := range map[string]string{"feed.xml": feed.String(), "urls": "file://" + filepath.Join(dir, "feed.xml") + "\n", "config": "max-items 0\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	do(t, dir, "newsboat", "-u", "urls", "-c", "cache.db", "-C", "config", "-x", "reload")
	return filepath.Join(dir, "cache.db")
}

// What was deleted from the files of such programs comes back, under the right table and
// with nothing invented; what is alive is read as the SQLite library reads it.
func TestFilesOfPrograms(t *testing.T) {
	for _, p := range programs {
		t.Run(p.name, func(t *testing.T) {
			if _, err := exec.LookPath(p.program); err != nil {
				t.Skipf("%s is not there: Debian's package %s has it", p.program, p.packaged)
			}
			t.Parallel()
			path := p.write(t, t.TempDir())
			whole, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			var all tally
			for how, delete_ := range map[string]string{
				"by age":    fmt.Sprintf("DELETE FROM %[1]s WHERE %[2]s <= (SELECT %[2]s FROM %[1]s ORDER BY %[2]s LIMIT 1 OFFSET (SELECT count(*)*6/10 FROM %[1]s))", p.table, p.age),
				"at random": fmt.Sprintf("DELETE FROM %s WHERE %s%%7 IN (1, 4)", p.table, map[bool]string{true: "length(local_relpath)", false: "id"}[p.table == "NODES"]),
			} {
				l := newLife(t, 0, "") // for its history
				if err := os.WriteFile(l.path, whole, 0o644); err != nil {
					t.Fatal(err)
				}
				before := l.see()
				asTheLibrary(t, l.path)
				// What the program itself has deleted and changed before cannot be known here.
				own := l.h.check(t, p.name, readFiles(t, l.path), before).invented
				l.exec("PRAGMA secure_delete=0; " + delete_)
				alive := l.see()
				if len(before)-len(alive) < 100 {
					t.Fatalf("%s: %d rows were deleted", how, len(before)-len(alive))
				}
				asTheLibrary(t, l.path)
				sum := l.h.check(t, p.name+", "+how, readFiles(t, l.path), alive)
				t.Logf("%s: %d rows deleted; whole %d of %d, without their first four bytes %d of %d; %d rows, %d wrong, %d unattributed, %d copies",
					how, len(before)-len(alive), sum.wholeSeen, sum.whole, sum.headlessSeen, sum.headless, sum.rows, sum.invented-own, sum.unattributed, sum.copies)
				sum.invented -= own
				all.add(sum)
			}
			// What the program writes is not the same from run to run, and a page more or less of it counts.
			if all.wholeSeen*100 < all.whole*97 || all.headlessSeen*100 < all.headless*97 || all.invented*200 > all.rows || all.unattributed+all.copies > 0 {
				t.Errorf("that is less than it must be: %+v", all)
			}
		})
	}
}

// asTheLibrary compares the live rows of every table with those that the SQLite library reads.
func asTheLibrary(t *testing.T, path string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	f := readFiles(t, path).open(t)
	tables, err := f.Tables()
	if err != nil {
		t.Fatal(err)
	}
	for _, tab := range tables {
		if tab.Root == 1 {
			continue
		}
		var ours, theirs []string
		for row, err := range f.Rows(tab) {
			if err != nil {
				t.Fatal(err)
			}
			var b strings.Builder
			for _, v := range row.Values {
				switch v.Class() {
				case sqlitefile.Text, sqlitefile.Blob:
					fmt.Fprintf(&b, "%x|", v.Bytes())
				case sqlitefile.Integer:
					fmt.Fprintf(&b, "%d|", v.Int())
				case sqlitefile.Real:
					fmt.Fprintf(&b, "%g|", v.Float())
				default:
					b.WriteString("null|")
				}
			}
			ours = append(ours, b.String())
		}
		rows, err := db.Query(fmt.Sprintf("SELECT * FROM %q", tab.Name))
		if err != nil {
			t.Fatal(err)
		}
		names, _ := rows.Columns()
		for rows.Next() {
			vals := make([]any, len(names))
			to := make([]any, len(names))
			for i := range vals {
				to[i] = &vals[i]
			}
			if err := rows.Scan(to...); err != nil {
				t.Fatal(err)
			}
			var b strings.Builder
			for _, v := range vals {
				switch v := v.(type) {
				case nil:
					b.WriteString("null|")
				case string:
					fmt.Fprintf(&b, "%x|", v)
				case []byte:
					fmt.Fprintf(&b, "%x|", v)
				case float64:
					fmt.Fprintf(&b, "%g|", v)
				default:
					fmt.Fprintf(&b, "%d|", v)
				}
			}
			theirs = append(theirs, b.String())
		}
		slices.Sort(ours)
		slices.Sort(theirs)
		if err := rows.Err(); err != nil || !slices.Equal(ours, theirs) {
			t.Errorf("table %s: %d live rows, the library reads %d, %v", tab.Name, len(ours), len(theirs), err)
		}
	}
}
