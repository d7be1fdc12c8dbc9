package timeline

import (
	"fmt"
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

func TestLanesCountEveryRecordOnce(t *testing.T) {
	var counts []Count
	for b := -1; b < 8; b++ { // the first and the last are rounded edges
		counts = append(counts, Count{b, record.Call, record.Intact, 80}, Count{b, record.Call, record.Recovered, 9}, Count{b, record.Call, record.Held, 8}, Count{b, record.Call, record.Earlier, 3})
	}
	lanes := Lanes(append(counts, Count{0, "another", record.Intact, 5}), 7, [][]record.Kind{{record.Message}, {record.Call}})
	sum := 0
	for _, b := range lanes[1].Bins {
		sum += b.Above + b.Below
	}
	if lanes[1].Above != 720 || lanes[1].Below != 180 || sum != 900 || lanes[0].Above != 0 || lanes[1].Bins[0].Above != 160 || lanes[1].Bins[6].Below != 40 || lanes[1].Bins[6].Held != 16 || lanes[1].Bins[3].Earlier != 3 {
		t.Errorf("%d above, %d below, %d in bins", lanes[1].Above, lanes[1].Below, sum)
	}
}

// A week over which clocks are put back (IANA tz database, Europe/Lisbon, 25 October 2026): seven nights, of which one has an
// hour more, and one weekend of 49 hours.
func TestNightsAndWeekends(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	w := Window{time.Date(2026, 10, 21, 12, 0, 0, 0, zone), time.Date(2026, 10, 28, 12, 0, 0, 0, zone)}
	var hours []float64
	for _, n := range Nights(w, zone) {
		hours = append(hours, n.Seconds()/3600)
	}
	if fmt.Sprint(hours) != "[9 9 9 10 9 9 9]" {
		t.Error(hours)
	}
	if all := Weekends(w, zone); len(all) != 1 || all[0].Seconds() != 49*3600 || all[0].From.In(zone).Weekday() != time.Saturday {
		t.Error(all)
	}
	if all := Nights(Window{w.From, w.From.AddDate(5000, 0, 0)}, zone); len(all) > maxSpells {
		t.Error(len(all))
	}
}

// Spans of any length: no tick is written twice. The longest
// time.Duration is 292 years.
func TestSpansOfAnyLength(t *testing.T) {
	long := Window{time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)}
	if ticks := Ticks(long, time.UTC, 9); len(ticks) < 3 || len(ticks) > 12 {
		t.Errorf("%d ticks", len(ticks))
	}
}

// Days that begin at one o'clock, since the clocks are set forward at midnight: each has
// one tick (IANA tz: Brazil 2018-11-04, Cuba 2024-03-10, Lebanon 2022-03-27, Chile
// 2022-09-11), and so have those on which midnight comes twice.
func TestDaysThatBeginAtOne(t *testing.T) {
	for zone, days := range map[string][]string{"America/Sao_Paulo": {"2018-11-04", "2018-02-18"}, "America/Havana": {"2024-03-10", "2024-11-03"}, "Asia/Beirut": {"2022-03-27", "2022-10-30"}, "America/Santiago": {"2022-09-11", "2022-04-03"}} {
		loc, err := time.LoadLocation(zone)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range days {
			at, _ := time.ParseInLocation("2006-01-02 15", d+" 12", loc)
			for _, span := range []time.Duration{24 * time.Hour, 10 * 24 * time.Hour, 70 * 24 * time.Hour} {
				seen := map[string]bool{}
				last := time.Time{}
				for _, k := range Ticks(Window{at.Add(-span / 2), at.Add(span / 2)}, loc, 9) {
					key := k.At.Format("2006-01-02 15:04")
					if span > 5*24*time.Hour {
						key = k.At.Format("2006-01-02")
					}
					if seen[key] || !k.At.After(last) && !last.IsZero() {
						t.Errorf("%s, %v around %s: %s twice", zone, span, d, key)
					}
					if h := k.At.Hour(); span > 5*24*time.Hour && h > 1 {
						t.Errorf("%s: a day's tick at %v", zone, k.At)
					}
					seen[key], last = true, k.At
				}
			}
		}
	}
}

// A row with a zero time in an epoch of 1601 does not decide where the chart is.
func TestWhere(t *testing.T) {
	month := func(y, m int, n int64) Month { return Month{time.Date(y, time.Month(m), 1, 0, 0, 0, 0, time.UTC), n} }
	from, to, before, after := Where([]Month{month(1601, 1, 1), month(2025, 12, 40), month(2026, 3, 2), month(2027, 1, 9), month(9999, 12, 3)})
	if from.Year() != 2025 || !to.Equal(time.Date(2027, 2, 1, 0, 0, 0, 0, time.UTC)) || before != 1 || after != 3 {
		t.Error(from, to, before, after)
	}
	if from, _, _, _ := Where(nil); !from.IsZero() {
		t.Error(from)
	}
}
