// Package timeline puts records in order of time: into bins for a chart, and
// onto an axis whose ticks fall on the calendar's own boundaries in a zone.
package timeline

import (
	"time"

	"crosswind/core/record"
)

// Window is a span of time, From included, To not.
type Window struct{ From, To time.Time }

// Seconds is the length of w, of any length: a time.Duration ends at 292 years.
func (w Window) Seconds() float64 { return between(w.From, w.To) }

// Place is where t lies in w: 0 at its beginning, 1 at its end.
func (w Window) Place(t time.Time) float64 { return between(w.From, t) / w.Seconds() }

// between is the time from a to b, in seconds.
func between(a, b time.Time) float64 {
	return float64(b.Unix()-a.Unix()) + float64(b.Nanosecond()-a.Nanosecond())/1e9
}

// Count is how many records of a kind and state lie in one of a window's bins.
type Count struct {
	Bin   int // from 0
	Kind  record.Kind
	State record.State
	N     int
}

// Bin counts the records of one lane in one stretch of time.
type Bin struct {
	Above, Below  int
	Held, Earlier int // of those below
}

// Lane holds the bins of one kind, in order of time, and their sums.
type Lane struct {
	Kinds        []record.Kind
	Bins         []Bin
	Above, Below int
}

// Max is the largest count above and below in any bin.
func (l *Lane) Max() (above, below int) {
	for _, b := range l.Bins {
		above, below = max(above, b.Above), max(below, b.Below)
	}
	return above, below
}

// Lanes puts counts into lanes of n bins, each of some kinds. A count beyond the bins is of
// an edge that was rounded, and comes into the nearest.
func Lanes(counts []Count, n int, of [][]record.Kind) []Lane {
	lanes := make([]Lane, len(of))
	at := map[record.Kind]*Lane{}
	for i, kinds := range of {
		lanes[i] = Lane{Kinds: kinds, Bins: make([]Bin, n)}
		for _, k := range kinds {
			at[k] = &lanes[i]
		}
	}
	for _, c := range counts {
		l := at[c.Kind]
		if l == nil || n <= 0 {
			continue
		}
		b := &l.Bins[min(max(c.Bin, 0), n-1)]
		switch c.State {
		case record.Held:
			b.Held += c.N
		case record.Earlier:
			b.Earlier += c.N
		}
		if c.State.Below() {
			b.Below += c.N
			l.Below += c.N
		} else {
			b.Above += c.N
			l.Above += c.N
		}
	}
	return lanes
}

// Nights are the nights of w in a zone, from nine in the evening to six in the morning.
func Nights(w Window, zone *time.Location) []Window {
	return spells(w, zone, func(y int, m time.Month, d int) (from, to time.Time) {
		return time.Date(y, m, d, 21, 0, 0, 0, zone), time.Date(y, m, d+1, 6, 0, 0, 0, zone)
	})
}

// Weekends are the Saturdays and Sundays of w in a zone.
func Weekends(w Window, zone *time.Location) []Window {
	return spells(w, zone, func(y int, m time.Month, d int) (from, to time.Time) {
		if time.Date(y, m, d, 12, 0, 0, 0, time.UTC).Weekday() == time.Saturday {
			from, to = dayStart(y, m, d, zone), dayStart(y, m, d+2, zone)
		}
		return from, to
	})
}

// maxSpells bounds what is told of a window's days.
const maxSpells = 4000

// spells gives what on tells of each day, within w.
func spells(w Window, zone *time.Location, on func(y int, m time.Month, d int) (from, to time.Time)) (out []Window) {
	for t := w.From.In(zone).AddDate(0, 0, -2); t.Before(w.To) && len(out) < maxSpells; t = t.AddDate(0, 0, 1) {
		from, to := on(t.Date())
		if from.Before(w.From) {
			from = w.From
		}
		if to.After(w.To) {
			to = w.To
		}
		if !to.IsZero() && from.Before(to) {
			out = append(out, Window{from, to})
		}
	}
	return out
}

// Tick is a mark on the axis.
type Tick struct {
	At    time.Time
	Label string
}

// step is a calendar distance between ticks.
type step struct {
	months, days int
	clock        time.Duration
	label, first string // formats: usual, and where a larger unit begins
}

// approx is about how long it is, in seconds.
func (s step) approx() float64 {
	const day = 24 * 60 * 60
	return float64(s.months)*30*day + float64(s.days)*day + s.clock.Seconds()
}

var steps = []step{
	{clock: time.Minute, label: "15:04", first: "2 Jan 15:04"},
	{clock: 5 * time.Minute, label: "15:04", first: "2 Jan 15:04"},
	{clock: 15 * time.Minute, label: "15:04", first: "2 Jan 15:04"},
	{clock: time.Hour, label: "15:04", first: "2 Jan"},
	{clock: 3 * time.Hour, label: "15:04", first: "2 Jan"},
	{clock: 6 * time.Hour, label: "15:04", first: "2 Jan"},
	{days: 1, label: "2 Jan", first: "2 Jan 2006"},
	{days: 2, label: "2 Jan", first: "2 Jan 2006"},
	{days: 7, label: "2 Jan", first: "2 Jan 2006"},
	{months: 1, label: "Jan", first: "Jan 2006"},
	{months: 3, label: "Jan", first: "Jan 2006"},
	{months: 12, label: "2006", first: "2006"},
	{months: 120, label: "2006", first: "2006"},
	{months: 1200, label: "2006", first: "2006"},
	{months: 12000, label: "2006", first: "2006"},
}

// Ticks places at most limit ticks over w on calendar boundaries of zone, with
// labels; the first carries its date in full.
func Ticks(w Window, zone *time.Location, limit int) []Tick {
	s := steps[len(steps)-1]
	for _, c := range steps {
		if w.Seconds() <= c.approx()*float64(limit) {
			s = c
			break
		}
	}
	var out []Tick
	for t := s.floor(w.From.In(zone)); t.Before(w.To) && len(out) < 4*limit; t = s.next(t) {
		if t.Before(w.From) {
			continue
		}
		label := t.Format(s.label)
		if larger := s.startsLarger(t); larger || len(out) == 0 {
			label = t.Format(s.first)
			if !larger && s.clock > 0 {
				label = t.Format("2 Jan 15:04")
			}
		}
		out = append(out, Tick{t, label})
	}
	return out
}

func (s step) startsLarger(t time.Time) bool {
	switch {
	case s.clock > 0:
		return t.Hour() == 0 && t.Minute() == 0
	case s.months > 0:
		return t.Month() == time.January
	}
	return t.YearDay() <= s.days
}

// floor is the last boundary at or before t.
func (s step) floor(t time.Time) time.Time {
	y, m, d := t.Date()
	switch {
	case s.months >= 12:
		return dayStart(y-y%(s.months/12), 1, 1, t.Location())
	case s.months > 0:
		return dayStart(y, m-(m-1)%time.Month(s.months), 1, t.Location())
	case s.days == 7: // Monday, ISO 8601
		return dayStart(y, m, d-(int(t.Weekday())+6)%7, t.Location())
	case s.days > 0:
		return dayStart(y, m, d-(t.YearDay()-1)%s.days, t.Location())
	}
	midnight := dayStart(y, m, d, t.Location())
	return midnight.Add(t.Sub(midnight) / s.clock * s.clock)
}

// dayStart is the first instant of a day: midnight, or later where the clocks are set
// forward at midnight.
func dayStart(y int, m time.Month, d int, zone *time.Location) time.Time {
	noon := time.Date(y, m, d, 12, 0, 0, 0, zone)
	_, offset := noon.Zone()
	t := time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Add(-time.Duration(offset) * time.Second).In(zone)
	if changed, _ := noon.ZoneBounds(); changed.After(t) {
		if u := time.Date(y, m, d, 0, 0, 0, 0, zone); u.Before(changed) && u.Day() == noon.Day() {
			return u // by the offset that held in the morning
		}
		return changed
	}
	return t
}

// next is the boundary after t. Days and months are the calendar's, so a day
// of 23 or 25 hours is one day; hours follow the wall clock from midnight.
func (s step) next(t time.Time) time.Time {
	y, m, d := t.Date()
	switch {
	case s.months > 0:
		return dayStart(y, m+time.Month(s.months), 1, t.Location())
	case s.days > 0:
		return dayStart(y, m, d+s.days, t.Location())
	}
	n := t.Add(s.clock)
	if n.Day() != d { // start again at midnight, whatever the clocks did
		return dayStart(y, m, d+1, t.Location())
	}
	return n
}

// Month counts the records of a month.
type Month struct {
	At time.Time // its beginning
	N  int64
}

// apart is how far a group of records lies from the others to be told apart from them.
const apart = 5 * 365 * 24 * 60 * 60

// group is months that lie near each other.
type group struct {
	first, last int
	n           int64
}

func groups(months []Month) (all []group) {
	for i, m := range months {
		if i == 0 || between(months[i-1].At, m.At) > apart {
			all = append(all, group{i, i, 0})
		}
		g := &all[len(all)-1]
		g.last, g.n = i, g.n+m.N
	}
	return all
}

// Apart reports whether some of the months lie years away from the others, so that it
// matters how many records each has.
func Apart(months []Month) bool { return len(groups(months)) > 1 }

// Where says where most of the records are, from months in order of time: not counting
// groups that lie years away, as those of a clock that was never set, or of times that
// were misread. before and after count what lies so.
func Where(months []Month) (from, to time.Time, before, after int64) {
	all := groups(months)
	if len(all) == 0 {
		return from, to, 0, 0
	}
	most := 0
	for i, g := range all {
		if g.n > all[most].n {
			most = i
		}
	}
	for i, g := range all {
		switch {
		case i < most:
			before += g.n
		case i > most:
			after += g.n
		}
	}
	return months[all[most].first].At, months[all[most].last].At.AddDate(0, 1, 0), before, after
}
