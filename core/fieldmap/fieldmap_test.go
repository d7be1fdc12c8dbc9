package fieldmap

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

// members are those of the database that was read last.
var members Members

// read makes a database with the sqlite3 program and reads it with a map.
func read(t *testing.T, path, sql string, wal bool, names Names) (rs []*record.Record, raw map[string][]byte) {
	t.Helper()
	db := filepath.Join(t.TempDir(), "t.db")
	cmd := exec.Command("sqlite3", "-batch", db)
	cmd.Stdin = strings.NewReader(strings.ReplaceAll(sql, "%DB%", db))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("sqlite3: %v\n%s", err, out)
	}
	raw = map[string][]byte{}
	source := func(name, suffix string) *Source {
		b, err := os.ReadFile(db + suffix)
		if err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(b)
		raw[name] = b
		return &Source{Path: name, Stored: name, SHA256: hex.EncodeToString(sum[:]), Bytes: bytes.NewReader(b)}
	}
	suffix := ""
	if wal {
		suffix = ".copy"
	}
	src := source(path, suffix)
	src.File = func(path string) (string, bool) { return "sum of a.jpg", path == "/data/word/kept/a.jpg" }
	f, err := sqlitefile.Open(src.Bytes, int64(len(raw[path])))
	if err != nil {
		t.Fatal(err)
	}
	if wal {
		src.Log = source(path+"-wal", ".copy-wal")
		if err := f.OpenLog(src.Log.Bytes, int64(len(raw[path+"-wal"]))); err != nil {
			t.Fatal(err)
		}
	}
	for r, err := range For(path).Records(salvage.New(f), src, names, salvage.Options{Full: true}, func(ms Members) { members = ms }, func(*salvage.Row) {}) {
		if err != nil {
			t.Fatal(err)
		}
		// The origin leads to the bytes it speaks of.
		o := r.Origin()
		sum := sha256.Sum256(raw[o.Stored][o.Offset : o.Offset+int64(o.Length)])
		if hex.EncodeToString(sum[:]) != o.Digest {
			t.Errorf("the digest of %s at %d is not that of its bytes", o.Stored, o.Offset)
		}
		rs = append(rs, r)
	}
	return rs, raw
}

const talkSchema = `PRAGMA secure_delete=0;
CREATE TABLE circle(id INTEGER PRIMARY KEY, title TEXT NOT NULL, opened INTEGER NOT NULL);
CREATE TABLE line(id INTEGER PRIMARY KEY AUTOINCREMENT, circle INTEGER NOT NULL, peer TEXT NOT NULL, mine INTEGER NOT NULL, sent INTEGER NOT NULL, body TEXT, seen INTEGER NOT NULL);
CREATE TABLE binned(id INTEGER PRIMARY KEY, circle INTEGER NOT NULL, peer TEXT NOT NULL, mine INTEGER NOT NULL, sent INTEGER NOT NULL, body TEXT, seen INTEGER NOT NULL, gone INTEGER NOT NULL, purge INTEGER NOT NULL);
INSERT INTO circle VALUES (1, 'One and owner', 0);
`

func TestMessagesInEveryState(t *testing.T) {
	rs, _ := read(t, "/data/talk/talk.db", talkSchema+`
INSERT INTO line VALUES (1, 1, '+44 7700 900417', 0, 0, 'first', 1), (2, 1, '+44 7700 900417', 1, 86400000, 'thrown away', 1), (3, 9, '+44 7700 900288', 0, 86400001, NULL, 0);
INSERT INTO binned VALUES (4, 1, '+44 7700 900417', 0, 5000, 'kept for a while', 1, 6000, 2592006000);
DELETE FROM line WHERE id = 2;`, false, Names{"+447700900417": {Text: "One"}})
	var said []string
	for _, r := range rs {
		at := ""
		if r.At() != nil {
			at = r.At().Format("2006-01-02T15:04:05.000Z")
		}
		id := "lost"
		if r.Origin().RowID != nil {
			id = fmt.Sprint(*r.Origin().RowID)
		}
		said = append(said, fmt.Sprintf("%s|%s|%s|%s|%s|%s|%s|%s|row %s", r.State, r.PlaceWords(), at, r.ThreadTitle(), r.Person(), r.Direction, r.Text, r.Time().Stored, id))
	}
	want := []string{
		"intact|live row|2001-01-01T00:00:00.000Z|One and owner|One|in|first|0 milliseconds since 2001-01-01|row 1",
		"intact|live row|2001-01-02T00:00:00.001Z||||in||86400001 milliseconds since 2001-01-01|row 3",
		"held|holding area|2001-01-01T00:00:05.000Z|One and owner|One|in|kept for a while|5000 milliseconds since 2001-01-01|row 4",
		"recovered|free block|2001-01-02T00:00:00.000Z|One and owner|One|out|thrown away|86400000 milliseconds since 2001-01-01|row lost",
	}
	want[1] = strings.Replace(want[1], "||||in", "|||in", 1)
	if strings.Join(said, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(said, "\n"), strings.Join(want, "\n"))
	}
	if o := rs[2].Others(); len(o) != 2 || o[0].Role != "deleted" || o[1].Role != "purged" || o[1].At.Sub(*o[0].At).Hours() != 720 { // about 30 days, common practice
		t.Errorf("%v", o)
	}
	if lost := rs[3].Origin().Lost; len(lost) != 1 || lost[0] != "id" {
		t.Errorf("lost %v", lost)
	}
	if rs[0].UID == rs[1].UID || len(rs[0].UID) != 64 {
		t.Errorf("uid %q, %q", rs[0].UID, rs[1].UID)
	}
}

// A row whose current version lies in the write-ahead log has its origin there.
func TestOriginInTheLog(t *testing.T) {
	rs, raw := read(t, "/data/ring/ring.db", `CREATE TABLE ring(id INTEGER PRIMARY KEY, number TEXT NOT NULL, way INTEGER NOT NULL, began INTEGER NOT NULL, secs INTEGER NOT NULL, took INTEGER NOT NULL);
PRAGMA journal_mode=WAL;
.filectrl persist_wal 1
PRAGMA wal_autocheckpoint=0;
INSERT INTO ring VALUES (1, '+44 7700 900417', 2, 1000000000, 61, 1), (2, '+44 7700 900288', 1, 1000000000, 0, 0);
.shell cp %DB% %DB%.copy; cp %DB%-wal %DB%.copy-wal
`, true, nil)
	if len(rs) != 2 || rs[0].Origin().Stored != "/data/ring/ring.db-wal" || rs[0].Summary() != "1 min 01 s" || rs[0].Fact(record.Duration).Value != "61" || rs[1].Summary() != "not answered" || rs[0].Direction != "out" || rs[1].Direction != "in" {
		t.Fatalf("%d records, %+v", len(rs), rs)
	}
	o := rs[0].Origin()
	if !bytes.Contains(raw[o.Stored][o.Offset:o.Offset+int64(o.Length)], []byte("+44 7700 900417")) {
		t.Error("the bytes are not the row's")
	}
}

func TestContactsAndNames(t *testing.T) {
	rs, _ := read(t, "/data/people/people.db", `PRAGMA secure_delete=0;
CREATE TABLE card(id INTEGER PRIMARY KEY, name TEXT NOT NULL, note TEXT, added INTEGER NOT NULL);
CREATE TABLE reach(card INTEGER NOT NULL, sort TEXT NOT NULL, value TEXT NOT NULL);
INSERT INTO card VALUES (1, 'One', 'a note', 0), (2, 'Two', NULL, 10);
INSERT INTO reach VALUES (1, 'mobile', '+44 7700 900417'), (1, 'work', '+44 1632 960117'), (2, 'mobile', '+44 7700 900288');
DELETE FROM card WHERE id = 2; DELETE FROM reach WHERE card = 2;`, false, nil)
	if len(rs) != 2 || rs[0].Text != "One" || rs[0].Handle() != "+44 7700 900417, +44 1632 960117" || rs[1].State != record.Recovered || rs[1].Text != "Two" {
		t.Fatalf("%+v", rs)
	}
	names := Names{}
	for _, r := range rs {
		names.Learn(r)
	}
	if names["+441632960117"].Text != "One" || names["+447700900417"].Text != "One" {
		t.Errorf("%v", names)
	}
}

func TestMergeTellsAHeldItemOnce(t *testing.T) {
	rs, _ := read(t, "/data/talk/talk.db", talkSchema+`
INSERT INTO line VALUES (1, 1, '+44 7700 900417', 0, 0, 'moved', 1), (2, 1, '+44 7700 900417', 0, 1, 'stays', 1), (3, 1, '+44 7700 900417', 0, 2, 'deleted', 1);
INSERT INTO binned SELECT id, circle, peer, mine, sent, body, seen, 10, 20 FROM line WHERE id = 1; DELETE FROM line WHERE id IN (1, 3);`, false, nil)
	merged := 0
	states := map[record.State]int{}
	for r, err := range Merge(func(yield func(*record.Record, error) bool) {
		for _, r := range rs {
			if !yield(r, nil) {
				return
			}
		}
	}) {
		if err != nil {
			t.Fatal(err)
		}
		merged++
		states[r.State]++
		if d := r.Further(); r.State == record.Held && (len(d) != 2 || d[1].Gives != "the same, from before it was moved" || d[1].Place != "freeblock" || len(d[1].Digest) != 64) {
			t.Errorf("%+v", d)
		}
	}
	if merged != len(rs)-1 || states[record.Held] != 1 || states[record.Recovered] != 1 || states[record.Intact] != 1 {
		t.Errorf("%d of %d, %v", merged, len(rs), states)
	}
}

// The map of docs/fieldmaps.md reads its database as the page says.
func TestWorkedExample(t *testing.T) {
	page, err := os.ReadFile("../../docs/fieldmaps.md")
	if err != nil {
		t.Fatal(err)
	}
	block := func(kind string) string {
		_, after, found := strings.Cut(string(page), "```"+kind+"\n")
		b, _, closed := strings.Cut(after, "```")
		if !found || !closed {
			t.Fatalf("the page has no block of %s", kind)
		}
		return b
	}
	m, err := Parse("habits.toml", []byte(block("toml")))
	if err != nil {
		t.Fatal(err)
	}
	before := slices.Clone(Maps)
	Add(m)
	defer func() { Maps = before }()
	rs, _ := read(t, "/data/any/habits.db", block("sql"), false, nil)
	if want := "+447700900417"; !slices.Equal(members["1"], []string{want}) || len(members["2"]) != 0 {
		t.Errorf("members %v", members)
	}
	var said []string
	for _, r := range rs {
		said = append(said, fmt.Sprintf("%s|%s|%s|%s|%s|%v|%s", r.At().Format("2006-01-02T15:04:05.0"), r.ThreadTitle(), r.Handle(), r.Text, r.Time().Stored, r.Facts, r.Origin().FieldMap))
	}
	want := `2025-09-19T18:40:00.5|Row before breakfast|+44 7700 900417|fog, 4 km|780000000.5 seconds since 2001-01-01|[{Mood well done } {First tag boat }]|habits 1
2025-09-20T18:40:00.0|Row before breakfast|+44 7700 900417||780086400 seconds since 2001-01-01|[{Mood missed }]|habits 1
2025-09-20T19:40:00.0|No sugar||tea only|780090000 seconds since 2001-01-01|[{Mood well done }]|habits 1`
	if got := strings.Join(said, "\n"); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// The second map of docs/fieldmaps.md: the members of a group, pictures in a table of their own,
// some of them deleted, and where somebody was. Places that are none are told as they are stored.
func TestGroupsPicturesPlaces(t *testing.T) {
	page, err := os.ReadFile("../../docs/fieldmaps.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := strings.Split(string(page), "```toml\n")
	text, _, _ := strings.Cut(blocks[len(blocks)-1], "```")
	m, err := Parse("word.toml", []byte("name = 'word'\nversion = 1\npath = '/data/word/word.db'\n"+text))
	if err != nil {
		t.Fatal(err)
	}
	before := slices.Clone(Maps)
	Add(m)
	defer func() { Maps = before }()
	rs, raw := read(t, "/data/word/word.db", `PRAGMA secure_delete=0;
CREATE TABLE word(id INTEGER PRIMARY KEY, room INTEGER, who TEXT, mine INTEGER, at INTEGER, said TEXT, lat INTEGER, lon INTEGER, near REAL);
CREATE TABLE seat(room INTEGER, who TEXT);
CREATE TABLE picture(id INTEGER PRIMARY KEY, word INTEGER, sort INTEGER, bytes INTEGER, file TEXT);
INSERT INTO seat VALUES (1, '+44 7700 900417'), (1, '+44 7700 900288');
INSERT INTO word VALUES (1, 1, '+44 7700 900417', 0, 1770000000000, 'look', 473000001, -391234567, 12.5), (2, 1, '+44 7700 900288', 1, 1770000001000, 'where', 910000000, 0, NULL);
INSERT INTO picture VALUES (1, 1, 1, 2048, 'a.jpg'), (2, 1, 2, -1, '../../../etc/b'), (3, 1, 1, 77, 'deleted.jpg');
DELETE FROM picture WHERE id = 3;`, false, nil)
	if len(rs) != 2 || !slices.Equal(members["1"], []string{"+447700900417", "+447700900288"}) {
		t.Fatalf("%d records, members %v", len(rs), members)
	}
	var said []string
	for _, r := range rs {
		for _, p := range r.Parties {
			said = append(said, p.Role+" "+p.Normal)
		}
		if r.Place != nil {
			said = append(said, r.Place.String()+" as "+r.Place.Stored)
		}
		for _, a := range r.Attachments {
			size := "?"
			if a.Size != nil {
				size = fmt.Sprint(*a.Size)
			}
			said = append(said, fmt.Sprintf("%s|%s|%s|%s|%s", a.Title(), a.Type, size, a.Path, a.Missing+a.SHA256))
		}
		for _, f := range r.Facts {
			said = append(said, f.Name+" "+f.Value)
		}
		for _, o := range r.Further() {
			sum := sha256.Sum256(raw[o.Stored][o.Offset : o.Offset+int64(o.Length)])
			said = append(said, fmt.Sprintf("%s: %s %s %t", o.Gives, o.Table, o.Place, hex.EncodeToString(sum[:]) == o.Digest))
		}
	}
	want := `from +447700900417
member +447700900417
member +447700900288
47.300000, -39.123457 ± 12.5 m as 473000001, -391234567
a.jpg|image/jpeg|2048|/data/word/kept/a.jpg|sum of a.jpg
b|audio/amr|?|/etc/b|not in the source
deleted.jpg|image/jpeg|77|/data/word/kept/deleted.jpg|not in the source
a handle: seat live true
a handle: seat live true
an attachment: picture live true
an attachment: picture live true
an attachment: picture unallocated true
from +447700900288
member +447700900417
member +447700900288
No such place 910000000, 0
a handle: seat live true
a handle: seat live true`
	if got := strings.Join(said, "\n"); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	// What the row's own bytes give is compared with the record; what others give is not.
	o := rs[0].Origin()
	cell := raw[o.Stored][o.Offset : o.Offset+int64(o.Length)]
	if d, known := m.Again(rs[0], cell); !known || len(d) > 0 {
		t.Errorf("%v, %t", d, known)
	}
	rs[0].Place.Latitude++
	if d, _ := m.Again(rs[0], cell); len(d) != 1 || d[0].Part != "place" {
		t.Errorf("a changed place: %v", d)
	}
}

// A file that is not a map says where and why.
func TestMapsAreRefused(t *testing.T) {
	whole := "name = \"a\"\nversion = 1\npath = \"/a\"\n\n[[reading]]\ntable = \"t\"\nkind = \"message\"\ntext = { column = \"x\" }\n"
	if _, err := Parse("a.toml", []byte(whole)); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ from, to, want string }{
		{"name = \"a\"\n", "", "a.toml: the map has no name"},
		{"version = 1", "version = 0", "a.toml: the map has no version, a number from 1 on"},
		{"version = 1", "version = \"x\"", "a.toml, line 2: cannot decode TOML string into struct field fieldmap.Map.Version of type int"},
		{"path = \"/a\"", "path = \"/[\"", `a.toml, line 3: the path "/[" is not a pattern`},
		{"path = \"/a\"", "path = /a", "a.toml, line 3: "},
		{"version = 1", "versoin = 1", `a.toml, line 2: "versoin" is not a part of a map`},
		{"kind = \"message\"", "kind = \"post\"", `a.toml, line 7: "post" is not a kind of record`},
		{"kind = \"message\"", "kind = \"message\"\nstate = \"recovered\"", `a.toml, line 8: a live row is "intact" or "held", not "recovered"`},
		{"text = { column = \"x\" }", "", "a.toml, line 5: the reading does not say where its text is"},
		{"text =", "time = { column = \"y\", epoch = \"seconds since 1999\" }\ntext =", `a.toml, line 8: "seconds since 1999" is not an epoch`},
		{"text =", "time = { column = \"y\" }\ntext =", "a.toml, line 8: time does not say from when on and in what it counts"},
		{"text =", "direction = { column = \"y\", words = { 1 = \"inward\" } }\ntext =", `a.toml, line 8: a direction is "in" or "out", not "inward"`},
		{"text =", "handle = { column = \"y\", lookup = \"who\" }\ntext =", `a.toml, line 8: there is no lookup of the name "who"`},
		{"text = { column = \"x\" }", "text = { column = \"x\" }\nfacts = [{ name = \"a\", column = \"y\", unit = \"weeks\" }]", `a.toml, line 9: "weeks" is not a unit`},
		{"text = { column = \"x\" }", "text = { column = \"x\", json = \"a..b\" }", `a.toml, line 8: "a..b" is not a path`},
		{"text =", "time = { column = \"y\", epoch = \"seconds since 1970\", lookup = \"a\" }\ntext =", `a.toml, line 8: time cannot have "lookup"`},
		{"text = { column = \"x\" }", "text = { column = \"x\", lookup = \"who\" }", `a.toml, line 8: text cannot have "lookup"`},
		{"text = { column = \"x\" }", "text = { column = \"x\" }\nfacts = [{ name = \"a\", column = \"y\", words = { 1 = \"a\" }, unit = \"seconds\" }]", "a.toml, line 9: facts is a time, a number of a unit, or has words"},
		{"text =", "facts = [{ column = \"y\" }]\ntext =", "a.toml, line 8: the 1. of the facts has no name"},
		{"text =", "facts = [{ name = \"Duration\", column = \"y\" }]\ntext =", `a.toml, line 8: a fact of the name "Duration" is told in "s"`},
		{"text =", "facts = [{ name = \"Note\", column = \"y\", unit = \"bytes\" }]\ntext =", `a.toml, line 8: a fact of the name "Note" is told in "words"`},
		{"text =", "facts = [{ name = \"a\", column = \"y\", unit = \"bytes\", per = -2.0 }]\ntext =", "a.toml, line 8: facts: per is how many make one"},
		{"text =", "parties = [{ role = \"friend\", column = \"y\" }]\ntext =", `a.toml, line 8: "friend" is not the role of a party`},
		{"kind = \"message\"", "kind = \"visit\"\nhandle = { column = \"y\" }", `a.toml, line 8: records of the kind "visit" name nobody`},
		{"kind = \"message\"", "kind = \"fix\"\nparties = [{ role = \"with\", column = \"y\" }]", `a.toml, line 8: records of the kind "fix" name nobody`},
		{"text =", "place = { latitude = { column = \"y\" } }\ntext =", "a.toml, line 5: a place needs latitude and longitude"},
		{"text =", "attachments = [{ table = \"u\", path = { column = \"y\" } }]\ntext =", "a.toml, line 8: the 1. of the attachments needs table, key and of"},
		{"text =", "attachments = [{ size = { column = \"y\" } }]\ntext =", "a.toml, line 5: the 1. of the attachments needs a name, a path, a type or data"},
		{"text =", "text = { column = \"z\", prefix = \"/\" }\n#", `a.toml, line 8: text cannot have "prefix"`},
		{"text =", "where = { column = \"y\" }\ntext =", "a.toml, line 5: a condition needs a column"},
	} {
		_, err := Parse("a.toml", []byte(strings.Replace(whole, c.from, c.to, 1)))
		if err == nil || !strings.HasPrefix(err.Error(), "fieldmap: "+c.want) {
			t.Errorf("%s: got %v, want %s", c.to, err, c.want)
		}
	}
}

// Of two layouts of an app that is used whose tables are there.
func TestLayoutsSideBySide(t *testing.T) {
	layout := func(version int, column string) *Map {
		m, err := Parse("a.toml", fmt.Appendf(nil, "name='a'\nversion=%d\npath='/a/?.db'\n[tables]\nt=['id','%s']\n[[reading]]\ntable='t'\nkind='message'\ntext={column='%[2]s'}", version, column))
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	maps := []*Map{layout(1, "body"), layout(2, "said")}
	table := func(sql string) []*sqlitefile.Table {
		tab, err := sqlitefile.ParseTable(sql)
		if err != nil {
			t.Fatal(err)
		}
		tab.Name = "t"
		return []*sqlitefile.Table{tab}
	}
	old := table("CREATE TABLE t(id, body)")
	for _, c := range []struct {
		path   string
		tables []*sqlitefile.Table
		want   int
	}{{"/a/x.db", old, 1}, {"/a/x.db", table("CREATE TABLE t(id, said)"), 2}, {"/a/x.db", nil, 2}, {"/a/xx.db", old, 0}} {
		if m := Choose(maps, c.path, c.tables); m == nil && c.want > 0 || m != nil && m.Version != c.want {
			t.Errorf("%s: %v, want version %d", c.path, m, c.want)
		}
	}
	if err := maps[1].Check(old); err == nil || err.Error() != `fieldmap: a.toml, line 5: the table "t" has no column "said"` {
		t.Errorf("%v", err)
	}
}

// A time may lie within JSON, as a number or a text, in every encoding of a database's texts.
func TestATimeWithinJSON(t *testing.T) {
	const text = `{"t": [{"at": 810853426}, 1.5], "s": "2026-09-11 20:58:12", "none": null}`
	for enc, b := range map[sqlitefile.Encoding][]byte{sqlitefile.UTF8: []byte(text), sqlitefile.UTF16LE: []byte(strings.Join(strings.Split(text, ""), "\x00") + "\x00")} {
		v, ok := sqlitefile.ReadValue(sqlitefile.SerialType(13+2*len(b)), b, 0)
		if !ok {
			t.Fatal("no value")
		}
		get := func(string) (sqlitefile.Value, bool) { return v, true }
		var rd Reading
		for role, p := range map[string]Part{"sent": {Column: "x", JSON: "t.0.at", Epoch: "seconds since 2001"}, "read": {Column: "x", JSON: "t.1", Epoch: "seconds since 2001"},
			"edited": {Column: "x", JSON: "s", Epoch: "text in UTC"}, "made": {Column: "x", JSON: "none", Epoch: "text in UTC"}, "deleted": {Column: "x", JSON: "t.9", Epoch: "seconds since 1970"}} {
			p.epoch, _ = ParseEpoch(p.Epoch)
			rd.Times = append(rd.Times, Moment{role, p})
		}
		rd.Text = &Part{Column: "x", JSON: "s"}
		r := &record.Record{}
		rd.read(r, get, enc)
		got := map[string]string{}
		for _, x := range r.Times {
			got[x.Role] = x.At.UTC().Format(time.RFC3339Nano)
		}
		want := map[string]string{"sent": "2026-09-11T21:03:46Z", "read": "2001-01-01T00:00:01.5Z", "edited": "2026-09-11T20:58:12Z"}
		if !maps.Equal(got, want) || r.Text != "2026-09-11 20:58:12" {
			t.Errorf("%v: %v, text %q", enc, got, r.Text)
		}
	}
}

// The bytes of a file that a row has itself lie where the record says: in its cell and in overflow pages, in the
// database and in its log; and where they are not whole that is said. The bytes are those that sqlite3 reads.
func TestFilesWithinRows(t *testing.T) {
	m, err := Parse("held.toml", []byte("name = \"held\"\nversion = 1\npath = \"/h.db\"\n[tables]\np = [\"id\", \"of\", \"b\"]\n[[reading]]\ntable = \"p\"\nkind = \"thumbnail\"\nfacts = [{ name = \"Of the file\", column = \"of\" }]\nattachments = [{ data = { column = \"b\" } }]\n"))
	if err != nil {
		t.Fatal(err)
	}
	before := Maps
	Add(m)
	defer func() { Maps = before }()
	script := "PRAGMA page_size=1024; PRAGMA secure_delete=0; CREATE TABLE p(id INTEGER PRIMARY KEY, of TEXT, b BLOB);\n"
	want := map[string][]byte{}
	r := rand.New(rand.NewPCG(1, 2))
	add := func(i, size int) string {
		b := make([]byte, size)
		for k := range b {
			b[k] = byte(r.Uint32())
		}
		want[fmt.Sprint("f", i)] = b
		return fmt.Sprintf("INSERT INTO p VALUES (%d, 'f%d', x'%x');\n", i, i, b)
	}
	for i, size := range []int{1, 40, 900, 1000, 1500, 3000, 10_000, 60_000, 2000, 2000, 2000} {
		script += add(i, size)
	}
	script += "DELETE FROM p WHERE id IN (4, 6, 8);\n"
	for _, wal := range []bool{false, true} {
		sql := script
		if wal {
			sql = "PRAGMA journal_mode=WAL; PRAGMA wal_autocheckpoint=0;\n" + script + "PRAGMA wal_checkpoint;\n" + add(20, 5000) + "UPDATE p SET of = 'f9' WHERE id = 9;\n.shell cp %DB% %DB%.copy\n.shell cp %DB%-wal %DB%.copy-wal\n"
		}
		rs, raw := read(t, "/h.db", sql, wal, Names{})
		whole := 0
		for _, x := range rs {
			name := x.Fact(record.OfFile).Value
			if len(x.Attachments) != 1 || name == "" {
				continue
			}
			a := x.Attachments[0]
			if a.SHA256 == "" {
				if x.State == record.Intact {
					t.Errorf("%s %s: %+v", name, x.State, a)
				}
				continue
			}
			var got []byte
			for _, s := range a.Parts {
				stored, _ := s.In(x)
				got = append(got, raw[stored][s.Offset:s.Offset+int64(s.Length)]...)
			}
			if sum := sha256.Sum256(got); !bytes.Equal(got, want[name]) || hex.EncodeToString(sum[:]) != a.SHA256 || int(*a.Size) != len(got) {
				t.Errorf("%s %s: %d bytes of %d in %d parts", name, x.State, len(got), len(want[name]), len(a.Parts))
			}
			if whole++; x.State == record.Intact && len(got) > 4100 && len(a.Parts) < 2 {
				t.Errorf("%s lies in %d parts", name, len(a.Parts))
			}
		}
		if whole < 8 {
			t.Errorf("log %t: %d of %d are whole", wal, whole, len(rs))
		}
	}
}
