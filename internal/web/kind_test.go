package web

import (
	"archive/zip"
	"bytes"
	"database/sql"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/fieldmap"
	"crosswind/core/record"
)

// A kind that nothing but this test knows goes through map, store, chart, list, search,
// scope, CSV, report and package. It runs in a process of its own, since the table of kinds
// is one for a process.
func TestAKindThatOnlyATestKnows(t *testing.T) {
	if os.Getenv("CROSSWIND_NEW_KIND") == "" {
		cmd := exec.Command(os.Args[0], "-test.run=^TestAKindThatOnlyATestKnows$", "-test.v")
		cmd.Env = append(os.Environ(), "CROSSWIND_NEW_KIND=1")
		if out, err := cmd.CombinedOutput(); err != nil || bytes.Contains(out, []byte("--- SKIP")) && os.Getenv("CROSSWIND_TEST_DATABASE") != "" {
			t.Fatalf("%v\n%s", err, out)
		}
		return
	}
	record.Register(record.About{Kind: "sounding", Title: "Sounding", Plural: "Soundings", Group: record.Device, Time: "taken", Party: "Taken by", Columns: []string{"Depth"}})
	m, err := fieldmap.Parse("lead.toml", []byte(`name = "lead"
version = 1
path = "/data/lead/lead.db"
[tables]
cast = ["id", "who", "at", "found", "depth"]
[[reading]]
table = "cast"
kind = "sounding"
time = { column = "at", epoch = "seconds since 1970" }
handle = { column = "who" }
text = { column = "found" }
facts = [{ name = "Depth", column = "depth", unit = "metres", per = 100 }]
`))
	if err != nil {
		t.Fatal(err)
	}
	fieldmap.Add(m)
	path := filepath.Join(t.TempDir(), "lead.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"PRAGMA secure_delete=OFF", "CREATE TABLE cast(id INTEGER PRIMARY KEY, who TEXT, at INTEGER, found TEXT, depth INTEGER)",
		`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30) INSERT INTO cast SELECT i, '+44 7700 900417', 1770000000 + i * 600, 'by the mark ' || i || ', shell and sand', 3475 FROM n`,
		"DELETE FROM cast WHERE id IN (7, 19)"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	db.Close()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	w := newScene(t, map[string][]byte{"/data/lead/lead.db": b})
	page := func(path string, wants ...string) {
		t.Helper()
		code, b := w.get(path)
		for _, want := range wants {
			if hidden := strings.TrimPrefix(want, "!"); code != http.StatusOK || bytes.Contains(b, []byte(hidden)) != (hidden == want) {
				t.Errorf("GET %s: %d; %q is not as it should be", path, code, want)
			}
		}
	}
	const examine = "/case/T-1/examine"
	w.recover(true)
	page(examine, "!shell and sand") // the authority covers another kind
	page("/cases/new", `value="sounding"`, "Soundings")
	w.authority("2", []string{"sounding"}, "")
	w.recover(true)
	page(examine, "by the mark 30, shell", "Leave out Soundings", "28 above", "2 below", "Depth</th>", ">34.75 m</td>")
	page(examine+"?q=mark+19", "by the mark 19, shell", "!by the mark 20,")
	page(examine+"?q=kind:soundings+mark+7", "by the mark 7, shell")
	page(examine+"?q=kind:message", "!by the mark 7, shell")
	page(examine+"?q=kind:message,sounding+mark+7", "by the mark 7, shell")
	page(examine+"?kind=sounding&state=recovered", "by the mark 19, shell", "!by the mark 18,")
	id := w.column("SELECT id FROM record WHERE summary LIKE '%mark 19,%'")
	page(examine+"?o=1&r="+id, "Taken by", "free block", "bytes, read again now, have it")
	if code, said := w.post(examine+"/mark/"+id, "reason", "the depth on that night", "back", ""); code != http.StatusOK {
		t.Fatal(code, said)
	}
	page("/case/T-1/report", "1. Sounding", "Taken by")
	if r := w.bench.Do("package", map[string]any{}); r.State != "done" {
		t.Fatal(r.Error)
	}
	all, err := w.s.Packages(t.Context(), w.cs.ID)
	if err != nil {
		t.Fatal(err)
	}
	path = filepath.Join(w.app.Packages, all[0].Name)
	fieldmap.Maps = nil // the package brings its own
	if res, err := casefile.VerifyPath(t.Context(), path, casefile.Options{Now: time.Now()}); err != nil || len(res.Faults) != 0 || res.Records != 1 {
		t.Errorf("%+v, %v", res, err)
	}
	z, err := zip.OpenReader(path)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	for _, e := range z.File {
		if strings.HasSuffix(e.Name, casefile.TablesDir+"sounding.csv") {
			in, err := e.Open()
			if err != nil {
				t.Fatal(err)
			}
			if b, _ := io.ReadAll(in); !bytes.Contains(b, []byte(`,sounding,recovered,free block,`)) || !bytes.Contains(b, []byte(",text,depth_m,mark,")) || !bytes.Contains(b, []byte(",\"by the mark 19, shell and sand\",34.75,")) {
				t.Errorf("%s: %s", e.Name, b)
			}
		}
	}
}

// Nothing outside the table of kinds names a kind: no page, query or export, in Go, in a
// template, a statement or a script.
func TestOnlyTheTableNamesKinds(t *testing.T) {
	names := map[string]bool{}
	words := []string{}
	// These have other meanings, too: they name a kind where a kind is spoken of.
	everyday := regexp.MustCompile(`^["'` + "`" + `]?(?i:place|notes?|accounts?|zone|search|start|apps?|fix|download|network|photograph|video|music|recordings?|mail|documents?|thumbnail)["'` + "`" + `]?$`)
	ofKind := regexp.MustCompile(`(?i)(record\.kind|\bkinds?) *([=!<]=|=|<>|:|\(|in\b|any\b)|(eq|ne) \.kind`)
	line := func(b []byte, at int) string { // without attributes of markup, and what is of exhibits, which have kinds, too
		if at > 0 && b[at-1] == '=' {
			return ""
		}
		from, to := bytes.LastIndexByte(b[:at], '\n')+1, bytes.IndexByte(b[at:], '\n')
		if s := string(b[from : at+max(to, 0)]); !strings.Contains(s, "xhibit") {
			return s
		}
		return ""
	}
	for _, k := range record.Kinds() {
		for _, s := range []string{string(k), k.Title(), k.Plural(), strings.ToLower(k.Plural())} {
			names[s] = true
			words = append(words, regexp.QuoteMeta(s))
		}
	}
	quoted := regexp.MustCompile(`["'](` + strings.Join(words, "|") + `)["']`)
	// The cloud service's own words for what it keeps, and for its files; and readers, which make records of a kind as maps do.
	others := map[string]bool{"../acquire/cloud.go": true, "../../core/reading/vcard.go": true, "../../core/reading/icalendar.go": true, "../../core/reading/photograph.go": true,
		"../../core/reading/clip.go": true, "../../core/reading/document.go": true, "../../core/reading/mbox.go": true}
	for _, root := range []string{"../../core", "../../cmd", ".."} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case d.IsDir() && (path == "../standin" || path == "../../core/record" || path == "../store/migrations"): // which bring up to date what kinds there were
				return fs.SkipDir
			case strings.HasSuffix(path, "_test.go") || others[path]:
			case strings.HasSuffix(path, ".go"):
				set := token.NewFileSet()
				source, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				f, err := parser.ParseFile(set, path, source, 0)
				if err != nil {
					return err
				}
				other := func(s string, at token.Pos) bool {
					return everyday.MatchString(s) && !ofKind.MatchString(line(source, set.Position(at).Offset))
				}
				ast.Inspect(f, func(n ast.Node) bool {
					switch x := n.(type) {
					case *ast.BasicLit:
						if s, err := strconv.Unquote(x.Value); err == nil && (names[s] && !other(s, x.Pos()) || x.Kind == token.STRING && quoted.MatchString(s) && !other(quoted.FindString(s), x.Pos())) {
							t.Errorf("%s: %s names a kind", set.Position(x.Pos()), x.Value)
						}
					case *ast.SelectorExpr:
						if p, ok := x.X.(*ast.Ident); ok && p.Name == "record" && names[x.Sel.Name] && !other(x.Sel.Name, x.Pos()) {
							t.Errorf("%s: record.%s names a kind", set.Position(x.Pos()), x.Sel.Name)
						}
					}
					return true
				})
			case strings.HasSuffix(path, ".html") || strings.HasSuffix(path, ".sql") || strings.HasSuffix(path, "crosswind.js") || strings.HasSuffix(path, "chart.js"):
				b, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				for _, at := range quoted.FindAllIndex(b, -1) {
					if found := string(b[at[0]:at[1]]); !everyday.MatchString(found) || ofKind.MatchString(line(b, at[0])) {
						t.Errorf("%s: %s names a kind", path, found)
					}
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}
