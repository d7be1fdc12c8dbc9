package store_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"crosswind/core/gap"
	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
)

// line is a message of a source: its row, minutes after the beginning, its state, and what it says.
type line struct {
	row   int64
	after int
	state record.State
	says  string
}

// elsewhere is the number of a line of another conversation.
const elsewhere = 1000

var morning = time.Date(2026, 9, 11, 6, 0, 0, 0, time.UTC)

// source keeps messages as those of a new acquisition of an exhibit.
func source(t *testing.T, s *store.Store, c *store.Case, e *store.Exhibit, thread string, lines ...line) *store.Acquisition {
	t.Helper()
	ctx := context.Background()
	_, err := s.QueueRun(ctx, c, store.Run{Kind: "k", Subject: []byte("{}"), Title: "t", By: "x"})
	var r *store.Run
	if err == nil {
		r, err = s.TakeRun(ctx, &store.Process{ID: "p"}, time.Minute)
	}
	var a *store.Acquisition
	if err == nil {
		a, err = s.AcquisitionForRun(ctx, c, r, store.Acquisition{ExhibitID: e.ID, Facts: []byte("{}"), StartedAt: morning})
	}
	var v *store.Recovery
	if err == nil {
		v, _, err = s.RecoveryForRun(ctx, c, r, store.Recovery{AcquisitionID: a.ID, StartedAt: morning, FullPass: true})
	}
	if err == nil {
		_, err = s.SaveDatabase(ctx, c, r, a, &store.RecoveredDatabase{RecoveryID: v.ID, Path: "/x", ByOrigin: []byte("{}"), Withheld: []byte("{}"), Whole: true, Gaps: []*gap.Numbers{gap.Of("said", slices.Values([]int64{1, 4}), gap.Known{}, 0)}},
			func(yield func(*record.Record, error) bool) {
				for i, l := range lines {
					at, row := morning.Add(time.Duration(l.after)*time.Minute), record.Int(l.row)
					x := &record.Record{UID: fmt.Sprint(i), Kind: record.Message, State: l.state, Times: []record.Time{{Role: "sent", At: &at}}, Text: l.says, Direction: "in", Parties: []record.Party{{Normal: "+447700900417"}},
						Conversation: &record.Conversation{Key: thread}, Origins: []record.Origin{{Table: "said", RowID: &row, Place: "live"}}}
					if l.row == elsewhere {
						x.Conversation.Key += " and another"
					}
					if strings.HasPrefix(l.says, "here") {
						x.Place = &record.Place{Latitude: 38.5, Longitude: -24}
					}
					if !yield(x, nil) {
						return
					}
				}
			})
	}
	if err == nil {
		err = s.EndRecovery(ctx, r, v, store.Act{Book: c.Book(), By: "x", What: "records.recovered"})
	}
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// What is counted by months that the database keeps is what is counted record by record, whatever the window. A filter by
// an app that all have counts these.
func TestMonthsAreTheirRecords(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, e := newCase(t, s)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range 2 {
		var lines []line
		for row := range 300 {
			l := line{int64(row + 1), r.IntN(5 * 30 * 24 * 60), record.Intact, fmt.Sprint("here", row)}
			if l.state = record.Intact; r.IntN(4) == 0 {
				l.state = record.Recovered
			}
			if r.IntN(3) == 0 {
				l.row = elsewhere
			}
			lines = append(lines, l)
		}
		source(t, s, c, e, fmt.Sprint(i), lines...)
	}
	for _, q := range []string{"DELETE FROM record WHERE id % 7 = 0", "UPDATE record SET at = at + interval '20 days', direction = 'out' WHERE id % 5 = 0",
		"UPDATE record SET kind = 'call' WHERE id % 11 = 0", "UPDATE record SET thread = '' WHERE id % 13 = 0"} {
		if _, err := s.DB().ExecContext(ctx, q); err != nil {
			t.Fatal(err)
		}
	}
	at := func(days float64) time.Time { return morning.Add(time.Duration(days * 24 * float64(time.Hour))) }
	type contacts struct {
		f      store.Filter
		had    []store.Contacts
		placed string
		listed string
		talks  string
	}
	talks := func(f store.Filter) (out string) {
		all, err := s.Talks(ctx, f, 3)
		if err != nil {
			t.Fatal(err)
		}
		for _, k := range all {
			if first, err := s.RecordByID(ctx, c.ID, k.Record); err != nil || !k.Of(first) {
				t.Errorf("%+v is not of %+v: %v", first, k, err)
			}
			out += fmt.Sprint(k.AcquisitionID, k.ExhibitID, k.DB, k.Thread, k.Kind, k.N, k.Below, k.First.UTC(), k.Last.UTC(), "; ")
		}
		return out
	}
	// The list page by page, forwards and backwards.
	listed := func(f store.Filter) (out string) {
		for _, down := range []bool{false, true} {
			for after := (&store.After{Order: store.Order{Down: down}}); after != nil; {
				page, next, err := s.Records(ctx, f, *after, 60)
				if err != nil {
					t.Fatal(err)
				}
				for _, r := range page {
					out += fmt.Sprint(r.ID, " ")
				}
				out, after = out+"; ", next
			}
		}
		return out
	}
	var asked []contacts
	placed := func(f store.Filter) (out string) {
		all, err := s.Placed(ctx, f, 1000)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range all {
			out += fmt.Sprint(x.ID, x.At.UTC(), x.Latitude, x.Longitude, x.Accuracy, x.Kind, x.State, x.ExhibitRef, "; ")
		}
		return out
	}
	kept := 0
	for i := range 40 {
		f := store.Filter{CaseID: c.ID, From: at(r.Float64() * 60), To: at(60 + r.Float64()*110), State: []string{"", "below", "recovered"}[i%3]}
		if i == 0 { // whole months
			f.From, f.To = time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC), time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
		}
		one := f
		one.App = "x"
		had, err := s.Contacts(ctx, f)
		want, err2 := s.Contacts(ctx, one)
		if err != nil || err2 != nil || fmt.Sprint(had) != fmt.Sprint(want) {
			t.Errorf("contacts of %v to %v: %v, %v; want %v", f.From, f.To, had, err, want)
		}
		word := f
		word.Words = []string{"here7", "here2*"}[i%2]
		had, err = s.Contacts(ctx, word)
		if err != nil || i == 0 && len(had) == 0 {
			t.Errorf("contacts of what has %s: %v, %v", word.Words, had, err)
		}
		asked = append(asked, contacts{f, want, placed(one), "", talks(one)}, contacts{one, want, placed(f), "", talks(f)}, contacts{word, had, placed(word), "", talks(word)})
		for k := len(asked) - 3; k < len(asked) && i%8 < 2; k++ {
			asked[k].listed = listed(asked[k].f)
		}
		if counted := asked[len(asked)-3].talks; counted != asked[len(asked)-2].talks || strings.Count(counted, "; ") < 2 {
			t.Errorf("conversations of %v to %v: %s; want %s", f.From, f.To, asked[len(asked)-2].talks, counted)
		}
		kept += len(want)
	}
	if kept < 40 {
		t.Errorf("only %d contacts were counted", kept)
	}
	// While times are being held what is there first is the answer, wherever it comes from.
	for i, x := range asked {
		if store.Expect(s, x.f); x.listed != "" && i%2 == 0 && listed(x.f) != x.listed {
			t.Errorf("the list of %+v is not the same while it is being held", x.f)
		}
	}
	// And the same once more from what is held in memory.
	if err := store.HoldAll(ctx, s, c.ID); err != nil {
		t.Fatal(err)
	}
	for _, x := range asked {
		if err := store.Hold(ctx, s, x.f); err != nil {
			t.Fatal(err)
		}
		if x.listed == "" {
		} else if got := listed(x.f); got != x.listed || x.f.Words == "" && len(got) < 50 {
			t.Errorf("held list of %+v: %s; want %s", x.f, got, x.listed)
		}
		if had, err := s.Contacts(ctx, x.f); err != nil || !reflect.DeepEqual(had, x.had) {
			t.Errorf("held contacts of %+v: %v, %v; want %v", x.f, had, err, x.had)
		}
		if got := talks(x.f); got != x.talks {
			t.Errorf("held conversations of %+v: %s; want %s", x.f, got, x.talks)
		}
		if got := placed(x.f); got != x.placed || !strings.Contains(x.placed, "38.5 -24") {
			t.Errorf("held fixes of %+v: %s; want %s", x.f, got, x.placed)
		}
	}
	if _, err := s.DB().ExecContext(ctx, "DELETE FROM record WHERE id % 2 = 0"); err != nil {
		t.Fatal(err)
	}
	if had, err := s.Contacts(ctx, asked[0].f); err != nil || reflect.DeepEqual(had, asked[0].had) {
		t.Errorf("what is held is not given up when records go: %v", err)
	}
	if placed(asked[0].f) == asked[0].placed {
		t.Error("fixes that are held are not given up when records go")
	}
	// What cannot be held is found without.
	store.FailToHold(s, asked[0].f)
	if got := listed(asked[0].f); got == "" || got == asked[0].listed {
		t.Errorf("without what could not be held: %q", got)
	}
}

// Who is privileged is told of nowhere, held or not, even if records of theirs are still there, as a narrowing leaves them that has
// not come to them yet.
func TestWhoIsPrivilegedIsNowhere(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, e := newCase(t, s)
	a := source(t, s, c, e, "7", line{1, 0, record.Intact, "you are late"}, line{2, 10, record.Intact, "here I am"}, line{3, 20, record.Intact, "here again"}, line{4, 30, record.Intact, "a card"})
	if err := s.AddAuthority(ctx, c, store.Authority{Kind: "order", IssuedBy: "x", Number: "2", ValidFrom: morning, ValidTo: morning.Add(time.Hour), ScopeKinds: []string{"message"}, Privileged: []string{"+44 7700 900551"}}, "x"); err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"UPDATE record SET parties = '{+447700900551}', handle = '+44 7700 900551' WHERE row_id = '2'", "UPDATE record SET kind = 'contact' WHERE row_id = '4'"} {
		if _, err := s.DB().ExecContext(ctx, q); err != nil {
			t.Fatal(err)
		}
	}
	f := store.Filter{CaseID: c.ID}
	for _, how := range []string{"asked", "held"} {
		had, err := s.Contacts(ctx, f)
		if err != nil || len(had) != 1 || had[0].Handle != "+447700900417" || had[0].N != 2 {
			t.Errorf("%s: contacts: %+v, %v", how, had, err)
		}
		if at, err := s.Placed(ctx, f, 10); err != nil || len(at) != 1 || !at[0].At.Equal(morning.Add(20*time.Minute)) {
			t.Errorf("%s: fixes: %+v, %v", how, at, err)
		}
		if all, err := s.People(ctx, c.ID); err != nil || len(all.Records) != 1 || all.Records["+447700900417"] == 0 || len(all.Cards) != 0 {
			t.Errorf("%s: people: %+v, %v", how, all, err)
		}
		if cells, err := s.RecordCells(ctx, c.ID, a.ID, "/x"); err != nil || len(cells) != 2 {
			t.Errorf("%s: cells: %+v, %v", how, cells, err)
		}
		if rs, _, err := s.Records(ctx, f, store.After{}, 10); err != nil || len(rs) != 2 {
			t.Errorf("%s: records: %+v, %v", how, rs, err)
		}
		if err := store.HoldAll(ctx, s, c.ID); err != nil {
			t.Fatal(err)
		}
		if err := store.Hold(ctx, s, f); err != nil {
			t.Fatal(err)
		}
	}
}

// What one source has alone is listed by pages, each side by itself, and all of it is counted whichever page is asked for.
func TestComparisonsGoOn(t *testing.T) {
	s := storetest.Open(t)
	c, e := newCase(t, s)
	var lines []line
	for row := range store.ComparedPage + 50 {
		lines = append(lines, line{int64(row + 1), row, record.Intact, fmt.Sprint("line ", row)})
	}
	older, newer := source(t, s, c, e, "7", lines...), source(t, s, c, e, "7", lines[:10]...)
	f := store.Filter{CaseID: c.ID, From: morning.Add(-time.Hour), To: morning.Add(24 * time.Hour)}
	ctx := context.Background()
	pages := map[int64][2]string{0: {"40", "line 10"}, store.ComparedPage: {"40", "line 50"}, 2 * store.ComparedPage: {"0", ""}}
	var bins []store.ComparedBin
	for i := range 6 { // and once more from what is held in memory
		after := int64(i%3) * store.ComparedPage
		want := pages[after]
		x, err := s.Compare(ctx, f, older, newer, 4, [2]int64{after, 0})
		if err != nil {
			t.Fatal(err)
		}
		if i == 0 {
			bins = x.Bins
		}
		if !reflect.DeepEqual(x.Bins, bins) {
			t.Errorf("bins %v, were %v", x.Bins, bins)
		}
		first := ""
		if err == nil && len(x.OnlyA) > 0 {
			first = x.OnlyA[0].Summary
		}
		if err != nil || x.A != 80 || x.B != 0 || x.Both != 10 || fmt.Sprint(len(x.OnlyA)) != want[0] || first != want[1] {
			t.Errorf("after %d: %d of %d, from %q, %v; want %v", after, len(x.OnlyA), x.A, first, err, want)
		}
	}
}

// An older and a newer source of one handset, and one of another: what is missing later, added and changed, the other side of a
// conversation, contacts, places near one, and the times beside a gap. The case is made up.
func TestSourcesBesideEachOther(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, one := newCase(t, s)
	if err := s.AddExhibit(ctx, c, store.Exhibit{Reference: "1-B", Kind: "handset", ModelMark: "m", Serial: "t"}, store.Custody{What: "received", At: time.Now(), ToWhom: "tester", Seal: "2", Place: "here"}, "tester"); err != nil {
		t.Fatal(err)
	}
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		t.Fatal(err)
	}
	older := source(t, s, c, one, "7", line{1, 0, record.Intact, "you are late"}, line{2, 1, record.Intact, "the side gate"}, line{3, 2, record.Intact, "as it was"})
	newer := source(t, s, c, one, "7", line{1, 0, record.Intact, "you are late"}, line{2, 1, record.Recovered, "the side gate"}, line{3, 2, record.Intact, "as it is"}, line{4, 90, record.Intact, "here I am"})
	other := source(t, s, c, &es[1], "31", line{70, 0, record.Intact, "you are late"}, line{71, 3, record.Intact, "the side gate"}, line{72, 5, record.Intact, "and the brass one"})
	f := store.Filter{CaseID: c.ID, From: morning.Add(-time.Hour), To: morning.Add(3 * time.Hour)}
	said := func(rs []store.Record) (out []string) {
		for _, r := range rs {
			out = append(out, r.Summary)
		}
		return out
	}
	x, err := s.Compare(ctx, f, older, newer, 4, [2]int64{})
	if err != nil || fmt.Sprint(x.A, x.Both, x.B, said(x.OnlyA), said(x.OnlyB), len(x.Bins)) != "2 1 2 [the side gate as it was] [as it is here I am] 2" {
		t.Fatalf("%+v, %v", x, err)
	}
	if kinds, err := s.CompareKinds(ctx, older, newer); err != nil || len(kinds) != 1 || kinds[0] != (store.ComparedKind{Kind: record.Message, A: 2, B: 2, Both: 1}) {
		t.Errorf("by kind: %+v, %v", kinds, err)
	}
	// The same record in the other source of its exhibit, and not what says something else there.
	rs, _, err := s.Records(ctx, f, store.After{}, 20)
	if err != nil {
		t.Fatal(err)
	}
	present, err := s.Present(ctx, c.ID, rs...)
	for _, r := range rs {
		want := 0
		if r.ExhibitID == one.ID && (r.Summary == "you are late" || r.Summary == "the side gate") {
			want = 1
		}
		if p := present[r.ID]; err != nil || p == nil || len(p.Elsewhere) != want || want > 0 && (p.Elsewhere[0].Summary != r.Summary || p.Elsewhere[0].AcquisitionID == r.AcquisitionID) {
			t.Errorf("%s of acquisition %d: %+v, %v; want %d", r.Summary, r.AcquisitionID, p, err, want)
		}
	}
	// What both have meets a filter if either does, and a change of one of the two is a change of what both have.
	both := f
	both.Larger = 5
	words := f
	words.Words = "gate"
	for _, x := range []struct {
		change, want string
		f            store.Filter
	}{
		{fmt.Sprintf("UPDATE record SET bytes = 9 WHERE acquisition_id = %d AND summary = 'you are late'", newer.ID), "0 1 0", both},
		{"SELECT", "1 0 0", words},
		{fmt.Sprintf("UPDATE record SET summary = 'you were late' WHERE acquisition_id = %d AND summary = 'you are late'", newer.ID), "0 0 1", both},
		{fmt.Sprintf("UPDATE record SET summary = 'you are late' WHERE acquisition_id = %d AND summary = 'you were late'", newer.ID), "2 1 2", f},
	} {
		if _, err := s.DB().ExecContext(ctx, x.change); err != nil {
			t.Fatal(err)
		}
		if got, err := s.Compare(ctx, x.f, older, newer, 4, [2]int64{}); err != nil || fmt.Sprint(got.A, got.Both, got.B) != x.want {
			t.Errorf("%s: %+v, %v; want %s", x.change, got, err, x.want)
		}
	}
	seen, err := s.SeenIn(ctx, c.ID, []int64{x.OnlyA[0].ID, x.OnlyA[1].ID})
	if err != nil || len(seen) != 2 || seen[0].State != record.Recovered || !seen[0].Same || seen[1].State != record.Intact || seen[1].Same || seen[1].AcquisitionID != newer.ID {
		t.Errorf("%+v, %v", seen, err)
	}
	if x, err = s.Compare(ctx, f, older, other, 4, [2]int64{}); err != nil || fmt.Sprint(x.A, x.Both, x.B, said(x.OnlyA), said(x.OnlyB)) != "1 2 1 [as it was] [and the brass one]" {
		t.Errorf("of two handsets: %+v, %v", x, err)
	}
	sources, err := s.Sources(ctx, c.ID, []record.Kind{record.Call, record.Message})
	if err != nil || len(sources) != 3 || fmt.Sprint(sources[0].Kinds) != "[message]" || !sources[0].Full || sources[0].Authority == 0 || sources[0].Authority != sources[2].Authority {
		t.Errorf("%+v, %v", sources, err)
	}
	talks, err := s.Talks(ctx, f, 10)
	if err != nil || len(talks) != 3 || talks[0].AcquisitionID != newer.ID || talks[0].Below != 1 || talks[0].N != 4 {
		t.Fatalf("%+v, %v", talks, err)
	}
	r, err := s.RecordByID(ctx, c.ID, talks[0].Record)
	if err != nil {
		t.Fatal(err)
	}
	sides, err := s.Beside(ctx, r, f.From, f.To)
	if err != nil || len(sides) != 2 || sides[0].Shared != 2 || sides[1].Shared != 2 {
		t.Errorf("%+v, %v", sides, err)
	}
	had, err := s.Contacts(ctx, f)
	n := int64(0)
	for _, h := range had {
		n += h.N
	}
	if err != nil || len(had) != 2 || n != 10 {
		t.Errorf("%+v, %v", had, err)
	}
	f.Near = &store.Near{Latitude: 38.5004, Longitude: -24, Metres: 50} // some 44 m (PROJ's geod: 44.4)
	if rs, _, err := s.Records(ctx, f, store.After{}, 10); err != nil || len(rs) != 1 || rs[0].Summary != "here I am" {
		t.Errorf("%v, %v", said(rs), err)
	}
	f.Near.Metres = 44
	if rs, err := s.Placed(ctx, f, 10); err != nil || len(rs) != 0 {
		t.Errorf("%v, %v", rs, err)
	}
	gaps, err := s.Gaps(ctx, c.ID, one.ID)
	if err != nil || len(gaps) != 2 || gaps[1].Missing != 2 || !gaps[1].Times[1].Equal(morning) || !gaps[1].Times[4].Equal(morning.Add(90*time.Minute)) {
		t.Errorf("%+v, %v", gaps, err)
	}
	// Of two conversations in which the same was said once, by chance, nothing is said.
	chance := source(t, s, c, &es[1], "40", line{1, 0, record.Intact, "you are late"}, line{2, 30, record.Intact, "bread, two"}, line{3, 31, record.Intact, "and milk"}, line{4, 40, record.Intact, "good"})
	f.Near = nil
	if x, err = s.Compare(ctx, f, older, chance, 4, [2]int64{}); err != nil || x.A+x.Both+x.B != 0 {
		t.Errorf("of two conversations: %+v, %v", x, err)
	}
	// What was said in two conversations at once is missing in one of them.
	twice := source(t, s, c, one, "8", line{1, 0, record.Intact, "come now"}, line{elsewhere, 0, record.Intact, "come now"})
	once := source(t, s, c, one, "8", line{1, 0, record.Intact, "come now"})
	if x, err = s.Compare(ctx, f, twice, once, 4, [2]int64{}); err != nil || fmt.Sprint(x.A, x.Both, x.B) != "1 1 0" {
		t.Errorf("of what was said twice: %+v, %v", x, err)
	} else if seen, err = s.SeenIn(ctx, c.ID, []int64{x.OnlyA[0].ID}); err != nil || len(seen) != 0 {
		t.Errorf("of what was said twice: %+v, %v", seen, err)
	}
	// What lies beside gaps is told as far as the authorities admit it.
	if err := s.AddAuthority(ctx, c, store.Authority{Kind: "order", IssuedBy: "x", Number: "2", ValidFrom: morning, ValidTo: morning.Add(time.Hour), ScopeKinds: []string{"message"}, Privileged: []string{"+44 7700 900551"}}, "x"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.DB().ExecContext(ctx, "UPDATE record SET parties = NULL, handle = '0044 7700 900551' WHERE acquisition_id = $1 AND row_id = '4'", newer.ID); err != nil {
		t.Fatal(err)
	}
	gaps, err = s.Gaps(ctx, c.ID, one.ID)
	if err != nil || len(gaps) < 2 || !gaps[1].Times[1].Equal(morning) || !gaps[1].Times[4].IsZero() || gaps[1].Record[4] != 0 {
		t.Errorf("beside gaps, where one row is privileged: %+v, %v", gaps, err)
	}
}

// When records were deleted, by the dates of all sources of their exhibit. The case is made up.
func TestWhenRecordsWent(t *testing.T) {
	s, owner := storetest.OpenWithOwner(t)
	ctx := context.Background()
	c, one := newCase(t, s)
	date := func(day int) time.Time { return morning.AddDate(0, 0, day) }
	made := func(day int, thread string, lines ...line) {
		a := source(t, s, c, one, thread, lines...)
		if _, err := owner.ExecContext(ctx, `UPDATE acquisition SET facts = jsonb_build_object('made', $2::text) WHERE id = $1`, a.ID, date(day).Format(time.RFC3339)); err != nil {
			t.Fatal(err)
		}
	}
	const day = 24 * 60
	kept := line{1, 0, record.Intact, "kept"}
	made(2, "7", kept, line{2, 1, record.Intact, "went before the 5th"}, line{3, 2, record.Intact, "went before the 9th"}, line{4, 3, record.Intact, "as it was"})
	made(5, "7", kept, line{3, 2, record.Intact, "went before the 9th"}, line{4, 3, record.Intact, "as it is"})
	made(9, "7", kept, line{4, 3, record.Intact, "as it is"}, line{3, 2, record.Recovered, "went before the 9th"}, line{5, 7 * day, record.Recovered, "came on the 7th"})
	all, _, err := s.Records(ctx, store.Filter{CaseID: c.ID}, store.After{}, 50)
	var ids []int64
	for _, r := range all {
		ids = append(ids, r.ID)
	}
	if err != nil || len(ids) != 11 {
		t.Fatal(len(ids), err)
	}
	found, err := s.Went(ctx, c.ID, ids...)
	if err == nil {
		err = s.Prepare(ctx, c.ID)
	}
	if kept, err2 := s.Went(ctx, c.ID, ids...); err != nil || err2 != nil || len(found) != 4 || !reflect.DeepEqual(kept, found) {
		t.Errorf("as it is found %v, %v; as it is kept %v, %v", found, err, kept, err2)
	}
	for _, x := range []struct {
		from, to int
		perhaps  bool
		want     string
	}{
		{2, 5, false, "went before the 5th"},
		{5, 9, false, "went before the 9th, went before the 9th, came on the 7th"}, // the one that was there, and the recovered one
		{5, 8, false, ""},
		{7, 9, false, "came on the 7th"},
		{8, 9, false, ""},
		{8, 9, true, "went before the 9th, went before the 9th, came on the 7th"},
		{0, 9, false, "went before the 5th, went before the 9th, went before the 9th, came on the 7th"},
	} {
		f := store.Filter{CaseID: c.ID, Gone: &store.Gone{From: date(x.from), To: date(x.to), Perhaps: x.perhaps}}
		rs, _, err := s.Records(ctx, f, store.After{}, 20)
		var said []string
		for _, r := range rs {
			said = append(said, r.Summary)
			if w, err := s.Went(ctx, c.ID, r.ID); err != nil || w[r.ID] == nil || w[r.ID].First == nil || (w[r.ID].Last == nil) != (r.Summary == "came on the 7th") {
				t.Errorf("%s: %+v, %v", r.Summary, w[r.ID], err)
			}
		}
		if got := strings.Join(said, ", "); err != nil || got != x.want {
			t.Errorf("from the %dth to the %dth: %q, %v", x.from, x.to, got, err)
		}
	}
	// Those that are live in an older source are missing later: they are counted by the same filters, listed, and told one by one.
	told, err := s.Missing(ctx, c.ID, ids)
	for _, x := range []struct {
		f    store.Filter
		want int
	}{{store.Filter{}, 2}, {store.Filter{Words: "5th"}, 1}, {store.Filter{Source: 2}, 1}, {store.Filter{State: "recovered"}, 0}, {store.Filter{State: "intact", Kinds: []string{"call"}}, 0}, {store.Filter{State: "intact", Words: "went"}, 2}} {
		x.f.CaseID, x.f.From, x.f.To = c.ID, date(0), date(9)
		counts, known, err := s.MissingCounts(ctx, x.f, 90)
		n := 0
		for _, k := range counts {
			n += k.N
		}
		x.f.Missing = true
		rs, _, err2 := s.Records(ctx, x.f, store.After{}, 20)
		if err != nil || err2 != nil || !known || n != x.want || len(rs) != x.want {
			t.Errorf("%+v: %d are counted, %d listed, %t, %v, %v", x.f, n, len(rs), known, err, err2)
		}
		for _, r := range rs {
			if !told[r.ID] || !strings.HasPrefix(r.Summary, "went before") || r.State != record.Intact {
				t.Errorf("%s, %s, is missing later", r.State, r.Summary)
			}
		}
	}
	if err != nil || len(told) != 2 {
		t.Errorf("%v, %v", told, err)
	}
	// What a source withheld, it may have.
	if _, err := owner.ExecContext(ctx, `UPDATE recovered_database SET withheld = '{"kind":1}'; UPDATE recovery SET scope_epoch = scope_epoch - 1`); err != nil {
		t.Fatal(err)
	}
	f := store.Filter{CaseID: c.ID, Gone: &store.Gone{From: date(0), To: date(9)}}
	if rs, _, err := s.Records(ctx, f, store.After{}, 20); err != nil || len(rs) != 2 || rs[0].State.Below() == false || rs[1].State.Below() == false {
		t.Errorf("%+v, %v", rs, err)
	}
}

// What files of records are narrows them, of records of an earlier version, too; and each order lists all records once, page by
// page, either way. The case is made up.
func TestFilesAndOrders(t *testing.T) {
	s, owner := storetest.OpenWithOwner(t)
	ctx := context.Background()
	c, one := newCase(t, s)
	var lines []line
	for i := range 40 {
		lines = append(lines, line{int64(i + 1), i * 7 % 11, []record.State{record.Intact, record.Recovered}[i%2], fmt.Sprint("File ", i*13%40)})
	}
	source(t, s, c, one, "7", lines...)
	// Names and texts that are longer than an index takes do not get in the way.
	if _, err := owner.ExecContext(ctx, "UPDATE record SET person = x.long, handle = x.long FROM (SELECT string_agg(md5(i::text), '') AS long FROM generate_series(1, 500) i) x"); err != nil {
		t.Fatal(err)
	}
	list := func(f store.Filter, o store.Order) (said []string) {
		f.CaseID = c.ID
		for after := (&store.After{Order: o}); after != nil; {
			rs, next, err := s.Records(ctx, f, *after, 7)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range rs {
				said = append(said, r.Summary)
			}
			after = next
		}
		return said
	}
	for by := range store.Orders {
		up, down := list(store.Filter{}, store.Order{By: by}), list(store.Filter{}, store.Order{By: by, Down: true})
		slices.Reverse(down)
		if !slices.Equal(up, down) || len(slices.Compact(slices.Sorted(slices.Values(up)))) != 40 {
			t.Errorf("by %s: %v; the other way %v", by, up, down)
		}
		if by == "what" && !slices.IsSorted(up) {
			t.Errorf("by %s: %v", by, up)
		}
	}
	if _, err := owner.ExecContext(ctx, `UPDATE record_whole w SET body = (w.body::jsonb || '{"attachments":[{"type":"image/JPEG; q=1","size":5000,"path":"/data/.kept/f.JPG"},{"name":"a.pdf","size":70}]}')::text FROM record r WHERE r.id = w.record_id AND r.summary = 'File 3';
UPDATE record_whole w SET body = (w.body::jsonb || '{"attachments":[{"path":"/data/g.png","size":4999}]}')::text FROM record r WHERE r.id = w.record_id AND r.summary = 'File 4';
UPDATE record_whole w SET body = regexp_replace(body, '"attachments": ', '"attachments":') WHERE body LIKE '%"attachments": %'`); err != nil {
		t.Fatal(err)
	}
	earlier, err := os.ReadFile("migrations/00031_files_of_records.sql")
	if err != nil {
		t.Fatal(err)
	}
	fill, _, _ := strings.Cut(string(earlier[strings.Index(string(earlier), "UPDATE"):]), "-- +goose Down")
	if _, err := owner.ExecContext(ctx, fill); err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		f    store.Filter
		want string
	}{
		{store.Filter{Larger: 5000}, "File 3"},
		{store.Filter{Smaller: 4999}, "File 4"},
		{store.Filter{Larger: 5001}, ""},
		{store.Filter{Type: "image"}, "File 3"},
		{store.Filter{Type: "image/jpeg"}, "File 3"},
		{store.Filter{Type: "imag"}, ""},
		{store.Filter{Type: "PDF"}, "File 3"},
		{store.Filter{Type: ".png"}, "File 4"},
		{store.Filter{Hidden: true}, "File 3"},
		{store.Filter{System: true}, ""},
	} {
		if got := strings.Join(list(x.f, store.Order{}), ", "); got != x.want {
			t.Errorf("%+v: %q", x.f, got)
		}
	}
}

// A clock that was ahead for some rows, and was set right: of two tables one follows time and tells it, with the records on
// either side. The case is made up.
func TestClockSteps(t *testing.T) {
	s, owner := storetest.OpenWithOwner(t)
	ctx := context.Background()
	c, one := newCase(t, s)
	var lines []line
	for i := range 60 {
		l := line{int64(i + 1), 20 * i, record.Intact, fmt.Sprint("line ", i)}
		if i >= 30 && i < 40 {
			l.after += 3000 // two days and two hours
		}
		lines = append(lines, l)
	}
	lines[50].after -= 400 // came late
	source(t, s, c, one, "7", lines...)
	source(t, s, c, one, "7", line{1, 50, record.Intact, "a"}, line{2, 40, record.Intact, "b"}, line{3, 30, record.Intact, "c"}, line{4, 20, record.Intact, "d"}, line{5, 10, record.Intact, "e"}, line{6, 5, record.Intact, "f"})
	want := func(n int) {
		t.Helper()
		steps, err := s.ClockSteps(ctx, c.ID, one.ID)
		if err != nil || len(steps) != n || n == 1 && (steps[0].Before.Summary != "line 39" || steps[0].After.Summary != "line 40" || steps[0].Back != 2980*time.Minute) {
			t.Errorf("%+v, %v", steps, err)
		}
	}
	want(1)
	// The answer is kept while the case is as it was, and found anew when it is not.
	if _, err := owner.ExecContext(ctx, "UPDATE kept_answer SET body = '[]'"); err != nil {
		t.Fatal(err)
	}
	want(0)
	source(t, s, c, one, "8", line{1, 50, record.Intact, "g"})
	want(1)
}

// What other records tell of the same: a message and the calls of another handset, and a fix near a picture. The case is made up.
func TestToldTwice(t *testing.T) {
	s, owner := storetest.OpenWithOwner(t)
	ctx := context.Background()
	c, one := newCase(t, s)
	if err := s.AddExhibit(ctx, c, store.Exhibit{Reference: "1-B", Kind: "handset", ModelMark: "m", Serial: "t", Numbers: "+44 7700 900417"}, store.Custody{What: "received", At: time.Now(), ToWhom: "tester", Seal: "2", Place: "here"}, "tester"); err != nil {
		t.Fatal(err)
	}
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		t.Fatal(err)
	}
	source(t, s, c, one, "7", line{1, 0, record.Intact, "you are late"}, line{2, 1, record.Intact, "the side gate"}, line{3, 3, record.Intact, "here by the gate"}, line{4, 11, record.Intact, "here in the boat"}, line{5, 20, record.Intact, "on the 20th minute"})
	source(t, s, c, &es[1], "31", line{70, 0, record.Intact, "you are late"}, line{71, 2, record.Recovered, "the side gate"})
	source(t, s, c, &es[1], "32", line{80, 20, record.Intact, "on the 20th minute"}) // by chance
	all, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Exhibit: one.ID}, store.After{}, 10)
	if err != nil || len(all) != 5 {
		t.Fatal(all, err)
	}
	for i, want := range []string{"you are late", "the side gate", "", "", ""} {
		same, err := s.SameSaid(ctx, &all[i])
		if err != nil || (len(same) == 1) != (want != "") || want != "" && (same[0].Summary != want || same[0].ExhibitID != es[1].ID) {
			t.Errorf("%s: %+v, %v", all[i].Summary, same, err)
		}
	}
	if _, err := owner.ExecContext(ctx, "UPDATE record SET kind = 'fix' WHERE summary = 'here in the boat'; UPDATE authority SET scope_kinds = '{message,fix}'"); err != nil {
		t.Fatal(err)
	}
	fixes, err := s.FixesNear(ctx, c.ID, []int64{all[0].ID, all[1].ID, all[2].ID})
	if err != nil || len(fixes) != 2 || fixes[all[2].ID] == nil || fixes[all[2].ID].ID != all[3].ID { // eight and ten minutes before
		t.Errorf("%v, %v", fixes, err)
	}
	if own, err := s.Own(ctx, &es[1]); err != nil || fmt.Sprint(own) != "[+447700900417]" {
		t.Errorf("%v, %v", own, err)
	}
}
