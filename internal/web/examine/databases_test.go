package examine

import (
	"fmt"
	"os/exec"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
	"crosswind/internal/evidence"
)

func value(x any) sqlitefile.Value {
	switch x := x.(type) {
	case int:
		return sqlitefile.IntValue(int64(x))
	case float64:
		return sqlitefile.IntValue(int64(x)).AsReal()
	case string:
		return sqlitefile.PartialText(sqlitefile.SerialType(13+2*len(x)), []byte(x), 0)
	case []byte:
		return sqlitefile.PartialText(sqlitefile.SerialType(12+2*len(x)), x, 0)
	}
	return sqlitefile.Value{}
}

// Values are in the order in which the program sqlite3 sorts them.
func TestValuesInOrder(t *testing.T) {
	mixed := []any{"b", 7, []byte{2}, nil, "", 7.0, "B", -3, []byte{}, "аб", 1 << 40, "10", nil, []byte("b"), "9", 0}
	script := "CREATE TABLE t(n, x);"
	for i, x := range mixed {
		written := "NULL"
		switch x := x.(type) {
		case int:
			written = fmt.Sprint(x)
		case float64:
			written = fmt.Sprintf("%.1f", x)
		case string:
			written = "'" + x + "'"
		case []byte:
			written = fmt.Sprintf("x'%x'", x)
		}
		script += fmt.Sprintf("INSERT INTO t VALUES(%d, %s);", i, written)
	}
	out, err := exec.Command("sqlite3", ":memory:", script+"SELECT n FROM t ORDER BY x, n").CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	order := make([]int, len(mixed))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return compareValues([]sqlitefile.Value{value(mixed[a])}, []sqlitefile.Value{value(mixed[b])}, 0, sqlitefile.UTF8)
	})
	if got := strings.Trim(fmt.Sprint(order), "[]"); got != strings.Join(strings.Fields(string(out)), " ") {
		t.Errorf("%s, sqlite3 says %q", got, out)
	}
	if compareValues(nil, []sqlitefile.Value{value(1)}, 0, sqlitefile.UTF8) >= 0 {
		t.Error("a value that is not there comes behind a number")
	}
}

// A cell says what it is, and no more than fits on a page.
func TestOpenedCells(t *testing.T) {
	from, to := time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	open := func(x any, lost bool) openCell {
		return openedCell("c", "ANY", value(x), lost, sqlitefile.UTF8, from, to)
	}
	// 1784853501 is 2026-07-24T00:38:21Z by date(1) of GNU coreutils; 2001 began at 978307200.
	for stored, epoch := range map[int]string{1784853501: "seconds since 1970", 1784853501000: "milliseconds since 1970", 806546301: "seconds since 2001"} {
		c := open(stored, false)
		if len(c.Times) != 1 || c.Times[0].Epoch != epoch || c.Times[0].At.Format(time.RFC3339) != "2026-07-24T00:38:21Z" || c.Class != "integer" {
			t.Errorf("%d: %+v", stored, c)
		}
	}
	if c := open(`{"a":[1,{"b":"<i>"}]}`, false); len(c.Nested) != 1 || !strings.Contains(c.Nested[0].Text, "\n    1,\n") || len(c.Times) > 0 {
		t.Errorf("%+v", c)
	}
	if c := open(strings.Repeat("[", 100_000), false); c.Nested != nil || len(c.Value) != openBytes || c.Cut != 100_000-openBytes {
		t.Errorf("%d bytes of %v, %d more", len(c.Value), c.Nested, c.Cut)
	}
	if c := open([]byte("plain text"), false); c.Value != "plain text" || c.Class != "BLOB, 10 bytes" {
		t.Errorf("%+v", c)
	}
	if c := open(slices.Repeat([]byte{0xff, 0}, 5000), false); len(c.Hex) == 0 || c.Value != "" || c.Cut != 10_000-512 {
		t.Errorf("%d rows, %q, %d more", len(c.Hex), c.Value, c.Cut)
	}
	if c := open(nil, true); c.Class != "NULL" || !c.Lost {
		t.Errorf("%+v", c)
	}
	row := &evidence.Row{Row: &salvage.Row{Values: []sqlitefile.Value{value(nil), value("cut o"), value(strings.Repeat("ы", 200))}, Lost: []bool{true, true, false}}}
	for i, want := range []string{"lost", "cut o … lost", strings.Repeat("ы", cellRunes) + "…", ""} {
		if got := shortValue(row, i, sqlitefile.UTF8); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
}

// A map that is made for a database fits its path, whatever that is, and no other.
func TestLiteralPaths(t *testing.T) {
	for _, at := range []string{"/data/talk/talk.db", "/data/[a-z]*/x?.db", `/a\b/*`, "/x.img!/volume-1/carved/sqlite at 7.sqlite-pages", "/ключ/[.db"} {
		if ok, err := path.Match(literal(at), at); !ok || err != nil {
			t.Errorf("%q does not fit itself: %v", at, err)
		}
		if ok, _ := path.Match(literal(at), strings.Replace(at, "a", "b", 1)+"x"); ok {
			t.Errorf("%q fits another", at)
		}
		if mapName(at) == "" {
			t.Errorf("%q gives no name", at)
		}
	}
}

// Texts within texts, by the examples of RFC 4648 (section 10), RFC 8259 (section 13) and XML 1.0 (section 2.1), and texts
// that only look like one.
func TestTextsWithinTexts(t *testing.T) {
	for in, want := range map[string]string{
		`[116, 943, 234, 38793]`:                                          "JSON",
		`<?xml version="1.0"?><greeting>Hello, world!</greeting>`:         "XML",
		`<a:b xmlns:a="u" a:c='1'><d/>x</a:b>`:                            "XML",
		`"eyJsYW1wIjogImxpdCJ9"`:                                          "JSON text, Base64, JSON",
		`Zm9vYmFyZm9vYmFyZm9v`:                                            "Base64",
		`to=%2B44+7700+900417&said=the+lamp`:                              "form fields",
		`<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><x>&b;</x>`: "",
		`{"a":`:                   "",
		`<3 you`:                  "",
		`thelampislittonightokay`: "",
		`a=b`:                     "",
		`9007199254740993`:        "",
	} {
		var forms []string
		for _, n := range nested(in) {
			forms = append(forms, n.Form)
		}
		if got := strings.Join(forms, ", "); got != want {
			t.Errorf("%s: %q, want %q: %v", in, got, want, nested(in))
		}
	}
	if n := nested(`<a:b xmlns:a="u" a:c='1'><d/>x</a:b>`); n[0].Text != "<a:b xmlns:a=\"u\" a:c=\"1\">\n  <d></d>x\n</a:b>" && !strings.Contains(n[0].Text, `a:c="1"`) {
		t.Errorf("%q", n[0].Text)
	}
}

// A map that is pointed at looks values up in another table, and takes files from its own row and from another table; files of
// which two columns are of different tables are refused.
func TestPointedMap(t *testing.T) {
	word := &sqlitefile.Table{Name: "word", RowIDColumn: 0, Columns: []sqlitefile.Column{{Name: "id"}, {Name: "room"}, {Name: "said"}, {Name: "face"}}}
	tables := []*sqlitefile.Table{{Name: "sqlite_schema", Columns: make([]sqlitefile.Column, 5)}, word,
		{Name: "room", RowIDColumn: 0, Columns: []sqlitefile.Column{{Name: "key"}, {Name: "title", Type: "TEXT"}}}, {Name: "piece", RowIDColumn: -1, Columns: []sqlitefile.Column{{Name: "n"}, {Name: "word"}, {Name: "file"}}}}
	m := &maker{Table: "word", Kind: record.Message, Columns: []madeColumn{{Name: "id"}, {Name: "room", Means: "conversation", Lookup: "room.key, giving title"}, {Name: "said", Means: "text"}, {Name: "face", Means: "data"}},
		Files: madeFiles{Key: "piece.word", Of: "id", Path: "piece.file"}}
	m.others(tables)
	source, err := m.written("/data/tern.db", nil)
	if err != nil {
		t.Fatal(err)
	}
	got, err := fieldmap.Parse("made", []byte(source))
	if err == nil {
		err = got.Check(tables)
	}
	if err != nil || len(got.Lookups) != 1 || got.Lookups[0] != (fieldmap.Lookup{Name: "room title", Table: "room", Key: "key", Value: "title"}) || got.Readings[0].Conversation.Lookup != "room title" {
		t.Fatalf("%v\n%s", err, source)
	}
	if a := got.Readings[0].Attachments; len(a) != 2 || a[0].Data.Column != "face" || a[1].Table != "piece" || a[1].Key != "word" || a[1].Of != "id" || a[1].Path.Column != "file" {
		t.Errorf("%s", source)
	}
	m.Files.Name = "room.title"
	if _, err := m.written("/data/tern.db", nil); err == nil || !strings.Contains(err.Error(), "room.title is not of these") {
		t.Error(err)
	}
}
