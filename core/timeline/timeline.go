// Package timeline puts records in order of time: into bins for a chart, and
// onto an axis whose ticks fall on the calendar's own boundaries in a zone.
package timeline

import (
	"iter"
	"time"

	"crosswind/core/record"
)

// Window is a span of time, From included, To not.
type Window struct{ From, To time.Time }

// Span is the length of w.
func (w Window) Span() time.Duration { return w.To.Sub(w.From) }

// Event is what a chart needs of a record.
type Event struct {
	At   time.Time
	Kind record.Kind
	record.State
}

// Bin counts the records of one kind in one stretch of time.
type Bin struct{ Above, Below int }

// Lane holds the bins of one kind, in order of time, and their sums.
type Lane struct {
	Kind         record.Kind
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

// Lanes sorts events into n bins of equal length over w, a lane for each of
// kinds. Events outside w are left out.
func Lanes(events iter.Seq[Event], w Window, n int, kinds []record.Kind) []Lane {
	lanes := make([]Lane, len(kinds))
	at := map[record.Kind]*Lane{}
	for i, k := range kinds {
		lanes[i] = Lane{Kind: k, Bins: make([]Bin, n)}
		at[k] = &lanes[i]
	}
	span := w.Span()
	for e := range events {
		l := at[e.Kind]
		if l == nil || span <= 0 || e.At.Before(w.From) || !e.At.Before(w.To) {
			continue
		}
		b := &l.Bins[int(float64(e.At.Sub(w.From))/float64(span)*float64(n))]
		if e.Below() {
			b.Below++
			l.Below++
		} else {
			b.Above++
			l.Above++
		}
	}
	return lanes
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

func (s step) approx() time.Duration {
	return time.Duration(s.months)*30*24*time.Hour + time.Duration(s.days)*24*time.Hour + s.clock
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
}

// Ticks places at most limit ticks over w on calendar boundaries of zone, with
// labels; the first carries its date in full.
func Ticks(w Window, zone *time.Location, limit int) []Tick {
	s := steps[len(steps)-1]
	for _, c := range steps {
		if w.Span() <= c.approx()*time.Duration(limit) {
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
		return time.Date(y-y%(s.months/12), 1, 1, 0, 0, 0, 0, t.Location())
	case s.months > 0:
		return time.Date(y, m-(m-1)%time.Month(s.months), 1, 0, 0, 0, 0, t.Location())
	case s.days == 7: // Monday, ISO 8601
		return time.Date(y, m, d-(int(t.Weekday())+6)%7, 0, 0, 0, 0, t.Location())
	case s.days > 0:
		return time.Date(y, m, d-(t.YearDay()-1)%s.days, 0, 0, 0, 0, t.Location())
	}
	midnight := time.Date(y, m, d, 0, 0, 0, 0, t.Location())
	return midnight.Add(t.Sub(midnight) / s.clock * s.clock)
}

// next is the boundary after t. Days and months are the calendar's, so a day
// of 23 or 25 hours is one day; hours follow the wall clock from midnight.
func (s step) next(t time.Time) time.Time {
	if s.clock == 0 {
		return t.AddDate(0, s.months, s.days)
	}
	y, m, d := t.Date()
	n := t.Add(s.clock)
	if n.Day() != d { // start again at midnight, whatever the clocks did
		return time.Date(y, m, d+1, 0, 0, 0, 0, t.Location())
	}
	return n
}
