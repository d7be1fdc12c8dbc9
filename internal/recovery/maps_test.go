package recovery

import (
	"context"
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
	s, _, c, a, _, bench := start(t)
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
	entries, err := s.LedgerPage(ctx, c.Book(), 1<<40, 5)
	if err != nil || !slices.ContainsFunc(entries, func(e store.LedgerEntry) bool {
		return strings.Contains(e.Detail["field_maps"], "talk 6 "+own.SHA256) && e.Detail["records_changed"] != ""
	}) {
		t.Errorf("the ledger does not tell of the map: %v", err)
	}
}
