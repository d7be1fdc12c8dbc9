package custody

import (
	"strings"
	"testing"
	"time"
)

// The rules are common practice: whoever holds an exhibit is named without a
// gap, and a seal that is opened is closed again before the exhibit goes on.
func TestChain(t *testing.T) {
	at := func(h int) time.Time { return time.Date(2026, 9, 24, h, 0, 0, 0, time.UTC) }
	good := []Event{
		{Received, at(1), "patrol", "A", "s1"}, {Opened, at(2), "", "", "s1"}, {Examined, at(3), "", "", ""}, {Sealed, at(4), "", "", "s2"},
		{HandedOver, at(5), "A", "B", ""}, {Moved, at(6), "", "", ""}, {Returned, at(7), "B", "owner", ""}, {Received, at(8), "owner", "C", "s3"}, {Disposed, at(9), "C", "", ""},
	}
	c, faults := Follow(good)
	if len(faults) > 0 || c.Holder != "" || !c.Ended {
		t.Fatal(c, faults)
	}
	for name, x := range map[string]struct {
		upTo int
		e    Event
		want string
	}{
		"not begun":                {0, Event{Sealed, at(1), "", "", "s"}, "must begin"},
		"nobody":                   {0, Event{Received, at(1), "", "", ""}, "somebody must have"},
		"received while held":      {1, Event{Received, at(2), "", "X", ""}, "held by A"},
		"given by a stranger":      {1, Event{HandedOver, at(2), "X", "B", ""}, "X does not hold"},
		"given to oneself":         {1, Event{HandedOver, at(2), "A", "A", ""}, "both are A"},
		"one side":                 {1, Event{HandedOver, at(2), "A", "", ""}, "both sides"},
		"backwards":                {2, Event{Examined, at(1), "", "", ""}, "before the last"},
		"sealed over a seal":       {1, Event{Sealed, at(2), "", "", "s9"}, "opened first"},
		"the old seal again":       {3, Event{Sealed, at(4), "", "", "s1"}, "new number"},
		"a seal without number":    {3, Event{Sealed, at(4), "", "", ""}, "its number"},
		"opened twice":             {3, Event{Opened, at(4), "", "", ""}, "no closed seal"},
		"another seal opened":      {1, Event{Opened, at(4), "", "", "s9"}, "under seal s1, not s9"},
		"handed over open":         {3, Event{HandedOver, at(4), "A", "B", ""}, "not sealed again"},
		"returned open":            {3, Event{Returned, at(4), "A", "x", ""}, "not sealed again"},
		"nobody is responsible":    {7, Event{Examined, at(8), "", "", ""}, "nobody is responsible"},
		"after disposal":           {9, Event{Received, at(10), "", "D", ""}, "disposed of"},
		"an event of another sort": {1, Event{"lost", at(2), "", "", ""}, "not an event"},
	} {
		c, _ := Follow(good[:x.upTo])
		if err := c.Check(x.e); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, faults := Follow([]Event{good[0], {HandedOver, at(2), "X", "B", ""}, {HandedOver, at(3), "B", "A", ""}}); len(faults) != 1 || !strings.Contains(faults[0].Error(), "event 2") {
		t.Errorf("%v", faults)
	}
}

// What is done with an exhibit while it is sealed, or in nobody's custody, contradicts its chain (common practice: a seal is
// opened, and that is noted, before what is in it is handled).
func TestContradictions(t *testing.T) {
	at := func(h, m int) time.Time { return time.Date(2026, 9, 24, h, m, 0, 0, time.UTC) }
	chain := []Event{{Received, at(20, 0), "patrol", "A", ""}, {Sealed, at(20, 15), "", "", "s1"}, {Moved, at(20, 50), "", "", ""}, {Opened, at(21, 0), "", "", "s1"}, {Sealed, at(22, 0), "", "", "s2"}, {Returned, at(23, 0), "A", "x", ""}}
	for _, x := range []struct {
		h, m         int
		seal         string
		since, until string
		none         bool
	}{
		{19, 0, "", "", "20:00", false}, {20, 5, "", "", "", true}, {20, 20, "s1", "20:15", "21:00", false}, {20, 55, "s1", "20:15", "21:00", false}, {20, 15, "", "", "", true},
		{21, 30, "", "", "", true}, {22, 30, "s2", "22:00", "23:00", false}, {23, 30, "", "23:00", "", false},
	} {
		got := Contradictions(chain, []Use{{"photographed", at(x.h, x.m)}})
		if x.none {
			if len(got) > 0 {
				t.Errorf("%02d:%02d: %+v", x.h, x.m, got)
			}
			continue
		}
		clock := func(t *time.Time) string {
			if t == nil {
				return ""
			}
			return t.Format("15:04")
		}
		if len(got) != 1 || got[0].Seal != x.seal || clock(got[0].Since) != x.since || clock(got[0].Until) != x.until || got[0].What != "photographed" {
			t.Errorf("%02d:%02d: %+v", x.h, x.m, got)
		}
	}
	if got := Contradictions(nil, []Use{{"photographed", at(1, 0)}}); len(got) != 1 || got[0].Since != nil || got[0].Until != nil {
		t.Errorf("%+v", got)
	}
}
