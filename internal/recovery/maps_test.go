package recovery

import (
	"context"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"crosswind/core/fieldmap"
	"crosswind/internal/store"
)

// A map of the laboratory's own goes before the built-in one: what is read by it names it,
// the ledger has its digest, and reading again replaces what the earlier map gave.
func TestMapsOfOnesOwn(t *testing.T) {
	ctx := context.Background()
	s, q, c, a, _, bench := start(t)
	sub := Subject{Exhibit: a.ExhibitID, Acquisition: a.ID, Name: "014-A acquisition 1"}
	bench.Do("recover", sub)
	b, err := os.ReadFile("../../core/fieldmap/maps/talk.toml")
	if err != nil {
		t.Fatal(err)
	}
	own, err := fieldmap.Parse("own.toml", []byte(strings.ReplaceAll(strings.Replace(string(b), "version = 5", "version = 6", 1), `0 = "in", 1 = "out"`, `0 = "out", 1 = "in"`)))
	if err != nil {
		t.Fatal(err)
	}
	before := slices.Clone(fieldmap.Maps)
	t.Cleanup(func() { fieldmap.Maps = before })
	direction := func() (uid, way, by string) {
		t.Helper()
		got, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Kinds: []string{"message"}, State: "intact"}, store.After{}, 1)
		if err != nil || len(got) != 1 {
			t.Fatal(len(got), err)
		}
		w, err := got[0].Whole()
		if err != nil {
			t.Fatal(err)
		}
		return w.UID, w.Direction, w.Origin().FieldMap
	}
	uid, way, by := direction()
	if n := records(t, s, c); by != "talk 5" || n == 0 {
		t.Fatal(by, n)
	}
	fieldmap.Add(own)
	bench.Do("recover", sub)
	if again, now, by := direction(); again != uid || now == way || by != "talk 6" {
		t.Errorf("%s %s by %s, was %s %s", again, now, by, uid, way)
	}
	entries, err := s.LedgerPage(ctx, c.Book(), store.LedgerFilter{}, 1<<40, 5)
	if err != nil || !slices.ContainsFunc(entries, func(e store.LedgerEntry) bool {
		return strings.Contains(e.Detail["field_maps"], "talk 6 "+own.SHA256) && e.Detail["records_changed"] != ""
	}) {
		t.Errorf("the ledger does not tell of the map: %v", err)
	}
	// A map that was made in the case goes before both from the next pass on; what was read by another is read again by that.
	made := func(version, kind string) *fieldmap.Map {
		m, err := fieldmap.Parse("made.toml", []byte("name = \"mine\"\nversion = "+version+"\npath = \"/data/habits/habits.db\"\n[tables]\nentry = [\"id\", \"at\", \"mood\"]\n[[reading]]\ntable = \"entry\"\nkind = \""+kind+
			"\"\ntime = { column = \"at\", epoch = \"seconds since 2001\" }\ntext = { column = \"mood\" }\n"))
		if err != nil || s.SaveOwnMap(ctx, c, "/data/habits/habits.db", m, "x") != nil {
			t.Fatal(err)
		}
		return m
	}
	kinds := func() (all map[string]int) {
		t.Helper()
		all = map[string]int{}
		rec, err := s.LatestRecovery(ctx, a.ID)
		if err != nil {
			t.Fatal(err)
		}
		for r, err := range q.Reread(ctx, c, a, rec, []string{"/data/habits/habits.db"}) {
			if err != nil {
				t.Fatal(err)
			}
			all[string(r.Kind)+" by "+r.Origin().FieldMap+" "+r.Origin().MapSHA256]++
		}
		return all
	}
	one := made("1", "note")
	bench.Do("recover", sub)
	first := kinds()
	if len(first) != 1 || first["note by mine 1 "+one.SHA256] == 0 {
		t.Fatal(first)
	}
	two := made("2", "search")
	if again := kinds(); !maps.Equal(again, first) {
		t.Errorf("read again by another map: %v, was %v", again, first)
	}
	bench.Do("recover", sub)
	if now := kinds(); now["search by mine 2 "+two.SHA256] != first["note by mine 1 "+one.SHA256] || len(now) != 1 {
		t.Errorf("%v", now)
	}
}
