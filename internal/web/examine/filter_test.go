package examine

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// Spans of time as they are typed. The forms of moments are those of ISO 8601-1, sections 5.4.2 and 5.5.2; the days of Lisbon's
// clock changes of 2026 are those of the IANA time zone database.
func TestReadSpan(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	for in, want := range map[string]string{
		"week/2026-09-14":                           "2026-09-06T23:00:00Z 2026-09-13T23:00:00Z",
		"day/2026-03-30":                            "2026-03-29T00:00:00Z 2026-03-29T23:00:00Z", // of 23 hours
		"month/2026-09-14T18:00Z":                   "2026-08-14T18:00:00Z 2026-09-14T18:00:00Z",
		"year/2026-09-14T18:00:00+02:00":            "2025-09-14T16:00:00Z 2026-09-14T16:00:00Z",
		"2026-09-11T18:00/2026-09-12":               "2026-09-11T17:00:00Z 2026-09-11T23:00:00Z",
		"2026-09-12/2026-09-11":                     "",
		"week":                                      "",
		"week/":                                     "",
		"fortnight/2026-09-14":                      "",
		"day/0000-01-01":                            "",
		"2026-02-30/2026-03-01":                     "",
		"2026-09-11T18:00:00Z/2026-09-11T18:00:00Z": "",
	} {
		from, to, err := readSpan(in, lisbon)
		got := from.UTC().Format(time.RFC3339) + " " + to.UTC().Format(time.RFC3339)
		if (err != nil) != (want == "") || err == nil && got != want {
			t.Errorf("%s: %s, %v", in, got, err)
		}
	}
}

// A place in a list is read as it was written, and what was written of no list, or of one in another order, is refused.
func TestPlacesInLists(t *testing.T) {
	at := time.Date(2026, 9, 11, 20, 58, 12, 345678000, time.UTC)
	for _, a := range []store.After{{At: at, ID: 7}, {Order: store.Order{By: "what", Down: true}, Key: "naïve ", At: at, ID: 1 << 40}, {Order: store.Order{By: "what"}, At: at, ID: 1}} {
		got, untimed, err := readAfter(writeAfter(a), a.Order)
		if err != nil || untimed != 0 || got.Order != a.Order || got.Compare(a) != 0 {
			t.Errorf("%+v: %+v, %v", a, got, err)
		}
	}
	for _, x := range []struct{ s, by string }{
		{"1.2.YQ", ""}, {"1.2", "what"}, {"1", ""}, {".", ""}, {"1.-2", ""}, {"1.2.!", "what"}, {"1.2.AA", "what"}, {"1.2._w", "what"}, {"9223372036854775807.1", ""}, {"none.0", ""}, {"none.x", ""}, {"1.2.YQ.YQ", "what"},
	} {
		if got, untimed, err := readAfter(x.s, store.Order{By: x.by}); err == nil {
			t.Errorf("%q by %q: %+v, %d", x.s, x.by, got, untimed)
		}
	}
}

// Words of the query line narrow as they say; what is none of them is looked for, and what cannot be read is refused.
func TestWordsThatNarrow(t *testing.T) {
	p := &frame.Page{Zone: time.UTC, Exhibits: []store.Exhibit{{ID: 3, Reference: "014-A"}, {ID: 5, Reference: "014-B"}}}
	for w, want := range map[string]struct {
		f    store.Filter
		said string
	}{
		"kind:call":         {store.Filter{Kinds: []string{"call"}}, "calls"},
		"kind:call,message": {store.Filter{Kinds: []string{"call", "message"}}, "calls and messages"},
		"kind:Calls":        {store.Filter{Kinds: []string{"call"}}, "calls"},
		"state:below":       {store.Filter{State: "below"}, "below"},
		"state:Recovered":   {store.Filter{State: "recovered"}, "recovered"},
		"is:marked":         {store.Filter{Marked: true}, "marked"},
		"is:noted":          {store.Filter{Noted: true}, "with a working note"},
		"is:hidden":         {store.Filter{Hidden: true}, "of hidden files"},
		"is:system":         {store.Filter{System: true}, "of the system's files"},
		"has:place":         {store.Filter{Placed: true}, "with a place"},
		"has:attachment":    {store.Filter{Attached: true}, "with an attachment"},
		"app:talk":          {store.Filter{App: "talk"}, "in a file of talk"},
		"type:image":        {store.Filter{Type: "image"}, "with a file of type image"},
		"larger:200kB":      {store.Filter{Larger: 200_000}, "with a file of 200\u202f000 bytes or more"},
		"smaller:4MiB":      {store.Filter{Smaller: 4 << 20}, "with files of 4\u202f194\u202f304 bytes or less"},
		"source:2":          {store.Filter{Source: 2}, "of acquisition 2"},
		"exhibit:014-b":     {store.Filter{Exhibit: 5}, "of exhibit 014-B"},
		"conversation:Quay": {store.Filter{Titled: "Quay"}, "of conversations called Quay"},
		`conversation:"7 "`: {store.Filter{Titled: "7"}, "of conversations called 7"},
		`app:"/My files"`:   {store.Filter{App: "/My files"}, "in a file of /My files"},
		`label:"long case"`: {store.Filter{Label: "long case"}, "marked long case"},
		"state:missing":     {store.Filter{Missing: true}, "missing later"},
		"near:44.5,-31,500": {store.Filter{Near: &store.Near{Latitude: 44.5, Longitude: -31, Metres: 500}}, "within about 500 m of 44.50000, -31.00000"},
		"deleted:2026-09-11T18:00/2026-09-12": {store.Filter{Gone: &store.Gone{From: time.Date(2026, 9, 11, 18, 0, 0, 0, time.UTC), To: time.Date(2026, 9, 12, 0, 0, 0, 0, time.UTC)}},
			"deleted between 11 Sep 2026 18:00 +00:00 and 12 Sep 2026 00:00 +00:00"},
		`kind:""`: {}, "kind:": {}, "lamp": {}, "18:40": {}, ":": {}, `"kind:call"`: {},
	} {
		var f store.Filter
		if said, err := (pages{}).filterBy(t.Context(), p, &f, w); err != nil || said != want.said || !reflect.DeepEqual(f, want.f) {
			t.Errorf("%s: %q, %+v, %v", w, said, f, err)
		}
	}
	for _, w := range []string{"kind:lamp", "kind:call,", "kind:call,lamp", "state:lost", "larger:much", "smaller:0", "larger:99999999999GB", "deleted:yesterday", "source:0", "source:-1", "exhibit:014-C", "is:lit", "has:call", "near:44.5,-31", "near:91,0,5"} {
		var f store.Filter
		if said, err := (pages{}).filterBy(t.Context(), p, &f, w); !errors.Is(err, errUnread) || said != "" || fmt.Sprint(f) != fmt.Sprint(store.Filter{}) {
			t.Errorf("%s: %q, %+v, %v", w, said, f, err)
		}
	}
	// What narrows to one thing does so once, and is not overwritten.
	f := store.Filter{State: "recovered", App: "talk", Source: 2, Exhibit: 3, Titled: "Quay", Near: &store.Near{Metres: 1}, Label: "x", Larger: 1, Smaller: 9, Type: "image", Gone: &store.Gone{}}
	for _, w := range []string{"state:held", "state:missing", "label:y", "app:map", "source:3", "exhibit:014-B", "conversation:81", "near:44.5,-31,500", "larger:2", "smaller:3", "type:jpg", "deleted:day/2026-09-14"} {
		if said, err := (pages{}).filterBy(t.Context(), p, &f, w); !errors.Is(err, errUnread) || !strings.Contains(err.Error(), "beside another") {
			t.Errorf("%s: %q, %v", w, said, err)
		}
	}
	for w, want := range map[string]string{"exibit:014-B": "exibit:", "18:40": "", "https://example.org": "", `"kind:x"`: "", "Re:lamp": "", "to:": ""} {
		if name, is := misnamed(w); is != (want != "") || is && name != want {
			t.Errorf("%s: %s, %t", w, name, is)
		}
	}
}
