package store_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"crosswind/core/record"
	"crosswind/core/search"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
)

// What the sets of a case tell of a filter is what the database finds, whatever is asked for together; what they do not tell
// is left to it.
func TestSetsTellWhatTheDatabaseFinds(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, e := newCase(t, s)
	r := rand.New(rand.NewPCG(3, 4))
	texts := []string{"the ketch lay off", "The KETCHES, all of them", "tide and time", "tidy up", "ti", "東京 harbour", "東京都 harbour", "naïveté", "naïve | odd", "", "ketch ketch 417", "a|b tide", "tide " + strings.Repeat("o", 5000)}
	for i := range 2 {
		var lines []line
		for row := range 120 {
			lines = append(lines, line{int64(row + 1), r.IntN(5000), []record.State{record.Intact, record.Recovered}[r.IntN(2)], "x"})
		}
		a := source(t, s, c, e, fmt.Sprint(i), lines...)
		for row := range 120 {
			if _, err := s.DB().ExecContext(ctx, "UPDATE record SET words = $3, db = $4, attached = $5, latitude = $6, longitude = $6 WHERE acquisition_id = $1 AND uid = $2", a.ID, fmt.Sprint(row),
				search.Index(texts[r.IntN(len(texts))]), []string{"/data/Quay/talk.db", "/data/quayside.db", "/DATA/ÄRGER.db", ""}[r.IntN(4)], r.IntN(2) == 0, []any{nil, 38.5}[r.IntN(2)]); err != nil {
				t.Fatal(err)
			}
		}
	}
	var asked []store.Filter
	for _, words := range []string{"", "ketch", `"ketch"`, "tid", "tide", strings.Repeat("o", 20), `"tide"`, `"ti"`, "harb ketch", `"東京"`, "naïv", "naiv", `"odd"`} {
		for i := range 12 {
			f := store.Filter{CaseID: c.ID, Words: words, App: []string{"", "", "quay", "ärger", "", "nowhere"}[i%6], Source: []int{0, 1, 2, 9}[r.IntN(4)], Attached: r.IntN(3) == 0, Placed: r.IntN(3) == 0}
			f.State, f.From, f.To = []string{"", "below"}[i%2], morning, morning.AddDate(0, 0, 3)
			asked = append(asked, f)
		}
	}
	answer := func(f store.Filter) string {
		counts, err := s.Counts(ctx, f, 5)
		list, _, err2 := s.Records(ctx, f, store.After{}, 500)
		if err != nil || err2 != nil {
			t.Fatal(err, err2)
		}
		bins, out := [5][2]int{}, ""
		for _, k := range counts {
			bins[k.Bin][strings.Count("intact", string(k.State))] += k.N
		}
		for _, x := range list {
			out += fmt.Sprint(x.ID, " ")
		}
		return fmt.Sprint(bins, out)
	}
	before, some := make([]string, len(asked)), 0
	for i, f := range asked {
		if before[i] = answer(f); !strings.HasSuffix(before[i], "]]") {
			some++
		}
	}
	if some < len(asked)/4 {
		t.Fatalf("only %d of %d questions find something", some, len(asked))
	}
	untold := []store.Filter{{Words: `"the ketch"`}, {Words: "東京都"}, {Words: "07700 900417"}, {Words: "ti*"}, {Words: strings.Repeat("o", 40)}, {Words: "sloop"}, {Words: "!", Attached: true}, {Words: "ketch", Marked: true}, {Words: "ketch", Larger: 1}, {Attached: true, Parties: [][]string{{"+447700900417"}}},
		{Placed: true, Near: &store.Near{Latitude: 38.5, Longitude: 38.5, Metres: 5}}, {App: "quay", Hidden: true}, {Source: 1, Type: "image"}, {Words: "ketch", Talk: 1}, {Words: "ketch", Missing: true}, {Words: "ketch", Label: "x"}, {App: "quay", Titled: "x"}}
	if store.Holds(ctx, s, asked[1]) {
		t.Error("what was not held is told")
	}
	if err := store.HoldAll(ctx, s, c.ID); err != nil {
		t.Fatal(err)
	}
	if err := store.Hold(ctx, s, store.Filter{CaseID: c.ID}); err != nil {
		t.Fatal(err)
	}
	for i, f := range asked {
		if now := answer(f); now != before[i] || !store.Holds(ctx, s, f) {
			t.Errorf("%+v: the sets tell %s; want %s", f, now, before[i])
		}
	}
	for _, f := range untold {
		if f.CaseID = c.ID; store.Holds(ctx, s, f) {
			t.Errorf("%+v: told by sets that do not know it", f)
		}
	}
	// A conversation is that of one source, and its title is found in any case.
	if _, err := s.DB().ExecContext(ctx, "UPDATE record SET thread_title = 'Quay, old', db = '/one' WHERE acquisition_id = (SELECT max(acquisition_id) FROM record)"); err != nil {
		t.Fatal(err)
	}
	one, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Titled: "quay,"}, store.After{}, 1)
	if err != nil || len(one) != 1 {
		t.Fatal(one, err)
	}
	both := [][]string{{"+447700900417", "x"}, {"y", "+447700900417"}}
	for i, want := range map[*store.Filter]int64{{Talk: one[0].ID}: 120, {Talk: -1}: 0, {Titled: "qUAY"}: 120, {Parties: both}: 240, {Parties: append(both, []string{"x"})}: 0} {
		f := *i
		if f.CaseID = c.ID; storetest.Count(t, s, f) != want {
			t.Errorf("%+v: %d records", f, storetest.Count(t, s, f))
		}
	}
	if _, err := s.DB().ExecContext(ctx, "UPDATE record SET words = 'sloop' WHERE id % 2 = 0"); err != nil {
		t.Fatal(err)
	}
	if store.Holds(ctx, s, store.Filter{CaseID: c.ID, Words: "tide"}) {
		t.Error("what records had is told after they have changed")
	}
}
