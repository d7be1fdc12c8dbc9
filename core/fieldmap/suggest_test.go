package fieldmap

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/core/sqlitefile"
)

// What a map says that was written is what is read of it, whatever its names are.
func TestWrite(t *testing.T) {
	for _, odd := range []string{"plain", `quo"ted \ 'names'`, "line\nfeed, tab\t", "кость, 骨, \u202e\x7f", "= [table]\n[[reading]]"} {
		part := func() *Part { return &Part{Column: odd} }
		m := &Map{Name: odd + "x", Version: 3, Path: "/data/" + literalOf(odd), Tables: map[string][]string{odd: {odd, "b"}, "c": nil}, Lookups: []Lookup{{odd, odd, "k", odd}}, Readings: []Reading{{Table: odd, Kind: record.Message,
			Time: &Part{Column: odd, Epoch: "milliseconds since 2001"}, Handle: &Part{Column: "b", JSON: "a.0"}, Conversation: part(), Text: part(),
			Direction: &Part{Column: "d", Words: map[string]string{"0": "in", odd: "out"}},
			Facts:     []Fact{{Name: odd + " fact", Part: Part{Column: "x, y", JSON: "note"}}, {Name: "When", Part: Part{Column: "z", Epoch: "seconds since 1970"}}}},
			{Table: "d", Kind: record.Message, Handle: &Part{Column: "e", Lookup: odd}, Attachments: []Attachments{{Name: part(), Data: &Part{Column: "f"}}, {Table: odd, Key: odd, Of: "b", Path: &Part{Column: "g", Prefix: odd}, Type: part()}}},
			{Table: "c", Kind: "fix", Place: &Position{Latitude: part(), Longitude: &Part{Column: "lon"}}}}}
		got, err := Parse("written", []byte(Write(m)))
		if err != nil {
			t.Errorf("%q: %v\n%s", odd, err, Write(m))
			continue
		}
		if !Writes(got) {
			t.Errorf("%q is said not to be written whole", odd)
		}
		if again := Write(got); again != Write(m) || !reflect.DeepEqual(got.Tables[odd], m.Tables[odd]) || got.Name != m.Name || got.Readings[0].Facts[0].Column != "x, y" || !maps.Equal(got.Readings[0].Direction.Words, m.Readings[0].Direction.Words) {
			t.Errorf("%q is read as\n%s\nfrom\n%s", odd, again, Write(m))
		}
	}
}

// Of what was written by hand all is kept, or it is said that it would not be.
func TestWritesByHand(t *testing.T) {
	for _, m := range Maps {
		again, err := Parse(m.Name, []byte(Write(m)))
		same := err == nil && len(again.Lookups) == len(m.Lookups) && len(again.Backups) == len(m.Backups) && reflect.DeepEqual(again.Readings, m.Readings)
		if Writes(m) != (same && reflect.DeepEqual(again.Tables, m.Tables)) {
			t.Errorf("%s: written whole %t, which is said to be %t", m.ID(), same, Writes(m))
		}
	}
}

func literalOf(s string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(s)
}

// sqliteFile opens a database that the program sqlite3 makes by a script.
func sqliteFile(t *testing.T, script string) *sqlitefile.File {
	t.Helper()
	db := filepath.Join(t.TempDir(), "t.db")
	if out, err := exec.Command("sqlite3", db, script).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	b, err := os.ReadFile(db)
	if err != nil {
		t.Fatal(err)
	}
	f, err := sqlitefile.Open(strings.NewReader(string(b)), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// Columns of a table that the program sqlite3 made are told for what they were filled as, whichever epoch they count
// from; of numbers that are no times nothing is said.
func TestSuggest(t *testing.T) {
	from, to := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 12, 31, 0, 0, 0, 0, time.UTC)
	for _, e := range Epochs() {
		column := "strftime('%Y-%m-%d %H:%M:%S', 1735689600 + value*60000, 'unixepoch')"
		if !e.text {
			per, since := e.Unit.Seconds(), float64(1735689600-e.Since.Unix())
			column = fmt.Sprintf("CAST((%f + value*60000) / %.9f AS INTEGER)", since, per)
		}
		script := `CREATE TABLE word(id INTEGER PRIMARY KEY, when_ , who TEXT, mine INTEGER, said TEXT, size INTEGER, lat REAL, lon REAL, hash TEXT);
INSERT INTO word SELECT value, ` + column + `, CASE value%3 WHEN 0 THEN 'maren@example.org' ELSE '+44 7700 90041'||(value%10) END, value%2, 'the tide is in at '||value, value*value, 38.5+value/1000.0, -24.25-value/1000.0, hex(value*7919) FROM generate_series(1,400);`
		f := sqliteFile(t, script)
		table, err := f.Table("word")
		if err != nil {
			t.Fatal(err)
		}
		c := NewColumns(table, f.Encoding, "GB", from, to)
		for row, err := range f.Rows(table) {
			if err != nil {
				t.Fatal(err)
			}
			c.See(row.Values)
		}
		got := map[string]string{}
		for _, s := range c.Suggest() {
			got[s.Column] = strings.TrimSpace(string(s.Meaning) + " " + s.Epoch)
			if s.Reason == "" {
				t.Errorf("%s: no reason is given for %s", e.Name(), s.Column)
			}
		}
		want := map[string]string{"when_": "time " + e.Name(), "who": "handle", "mine": "direction", "said": "text", "lat": "latitude", "lon": "longitude"}
		if !maps.Equal(got, want) {
			t.Errorf("%s: %v, want %v", e.Name(), got, want)
		}
	}
}

func ExampleWrite() {
	m := &Map{Name: "tide", Version: 1, Path: "/data/tide/tide.db", Tables: map[string][]string{"line": {"at", "said"}},
		Readings: []Reading{{Table: "line", Kind: record.Jotting, Time: &Part{Column: "at", Epoch: "seconds since 1970"}, Text: &Part{Column: "said"}}}}
	fmt.Print(Write(m))
	// Output:
	// name = "tide"
	// version = 1
	// path = "/data/tide/tide.db"
	//
	// [tables]
	// "line" = ["at", "said"]
	//
	// [[reading]]
	// table = "line"
	// kind = "note"
	// time = { column = "at", epoch = "seconds since 1970" }
	// text = { column = "said" }
}

// A column that is called after another table, and has its keys, refers to it; one that has them by chance does not, nor one that is called so alone.
func TestSuggestReferences(t *testing.T) {
	f := sqliteFile(t, `CREATE TABLE circles(id INTEGER PRIMARY KEY, opened INTEGER, title TEXT); INSERT INTO circles SELECT value, 0, 'Circle '||value FROM generate_series(1,9);
CREATE TABLE person(handle TEXT, name TEXT); INSERT INTO person SELECT 'p'||value, 'x' FROM generate_series(1,9);
CREATE TABLE word(id INTEGER PRIMARY KEY, circle_id INTEGER, person TEXT, rating INTEGER, circle INTEGER);
INSERT INTO word SELECT value, 1+value%9, 'p'||(1+value%9), 1+value%5, value FROM generate_series(1,400);`)
	tables, err := f.Tables()
	if err != nil {
		t.Fatal(err)
	}
	var keys []*Key
	for _, other := range tables[:len(tables)-1] {
		k, ok := KeyOf(other)
		if !ok { // the schema's own
			continue
		}
		for row := range f.Rows(other) {
			k.See(row.Values, f.Encoding)
		}
		keys = append(keys, k)
	}
	word := tables[len(tables)-1]
	c := NewColumns(word, f.Encoding, "GB", time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
	c.Refer(keys)
	for row := range f.Rows(word) {
		c.See(row.Values)
	}
	got := map[string]string{}
	for _, s := range c.Suggest() {
		if s.Meaning == MeansReference {
			got[s.Column] = s.To.Table + "." + s.To.Column + " " + s.To.Value
		}
	}
	if want := map[string]string{"circle_id": "circles.id title", "person": "person.handle name"}; !maps.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}
