package timeline

import (
	"slices"
	"testing"
	"time"

	"crosswind/core/record"
)

// The IANA time zone database (file europe): in Europe/Lisbon clocks went from
// 01:00 to 02:00 on 29 March 2026 and go back at 02:00 on 25 October 2026 (the
// European Union's rule: last Sunday, 01:00 UTC).
func TestTicksOverClockChanges(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	day := func(m time.Month, d int) time.Time { return time.Date(2026, m, d, 0, 0, 0, 0, zone) }
	for _, c := range []struct {
		from, to time.Time
		hours    []time.Duration
	}{
		{day(3, 28), day(3, 31), []time.Duration{24, 23}},
		{day(10, 24), day(10, 27), []time.Duration{24, 25}},
	} {
		ts := Ticks(Window{c.from, c.to}, zone, 4)
		if len(ts) != 3 {
			t.Fatalf("%d ticks: %v", len(ts), ts)
		}
		for i, h := range c.hours {
			if got := ts[i+1].At.Sub(ts[i].At); got != h*time.Hour {
				t.Errorf("from %s: %v, want %d h", ts[i].At, got, h)
			}
			if ts[i+1].At.Hour() != 0 {
				t.Errorf("a day begins at %s", ts[i+1].At)
			}
		}
	}
}

func TestTicksAreFewAndInOrder(t *testing.T) {
	from := time.Date(2025, 12, 30, 22, 17, 3, 0, time.UTC)
	for span := time.Minute; span < 80*365*24*time.Hour; span = span * 3 / 2 {
		w := Window{from, from.Add(span)}
		ts := Ticks(w, time.UTC, 9)
		if len(ts) > 12 || !slices.IsSortedFunc(ts, func(a, b Tick) int { return a.At.Compare(b.At) }) {
			t.Errorf("span %v: %d ticks %v", span, len(ts), ts)
		}
		for _, k := range ts {
			if k.At.Before(w.From) || !k.At.Before(w.To) {
				t.Errorf("span %v: tick %v outside", span, k)
			}
		}
	}
}

func TestLanesCountEveryEventOnce(t *testing.T) {
	w := Window{time.Unix(0, 0), time.Unix(1000, 0)}
	var events []Event
	for s := int64(-10); s < 1010; s++ {
		st := record.Intact
		if s%5 == 0 {
			st = record.Recovered
		}
		events = append(events, Event{time.Unix(s, 0), record.Call, st})
	}
	lanes := Lanes(slices.Values(events), w, 7, []record.Kind{record.Message, record.Call})
	sum := 0
	for _, b := range lanes[1].Bins {
		sum += b.Above + b.Below
	}
	if lanes[1].Above != 800 || lanes[1].Below != 200 || sum != 1000 || lanes[0].Above != 0 {
		t.Errorf("%d above, %d below, %d in bins", lanes[1].Above, lanes[1].Below, sum)
	}
}
