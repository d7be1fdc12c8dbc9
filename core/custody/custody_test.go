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
