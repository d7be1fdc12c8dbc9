package gap

import (
	"cmp"
	"iter"
	"slices"
	"time"
)

// Hour is an hour in which a source recorded so much. At is its beginning, a whole hour of UTC.
type Hour struct {
	At time.Time
	N  int64
}

// Silence is a run of hours in which a source recorded nothing, though it does so in the same hours of other weeks.
type Silence struct {
	From, To time.Time
	Weeks    int     // other weeks in which the same hours lie within what was recorded: in none they were all silent
	Usual    float64 // what was recorded in these hours of another week, on average
	Expected float64 // how many such silences there would be by chance, if hours were silent apart from each other
}

// Hours is how long the silence is.
func (s Silence) Hours() int { return int(s.To.Sub(s.From) / time.Hour) }

const (
	leastWeeks = 8    // other weeks that are enough to speak of a habit
	leastUsual = 10.0 // records that are usual in the hours
	mostChance = 0.05 // of such silences in all that was recorded
	maxSilent  = 14 * 24
)

// Silences finds the runs of hours, from the first hour in which anything was recorded to the last, in which nothing was,
// against the habit: in no other week were the same hours, by the clock of zone, silent from the first to the last, ten
// records or more are usual in them, and by the share of weeks in which each of the hours is silent less than 0.05 such
// silences would be expected anywhere in what was recorded (Bonferroni's correction). The hours are given in order, those without anything left out or with N 0. What was most usual comes first.
//
// Nothing is assumed of how records spread over an hour: weeks are counted (common practice).
func Silences(hours []Hour, zone *time.Location) (out []Silence) {
	n := map[int64]int64{}
	first, last := int64(0), int64(-1)
	for _, h := range hours {
		if at := h.At.Unix() / 3600; h.N > 0 {
			if n[at] += h.N; last < first {
				first, last = at, at
			}
			first, last = min(first, at), max(last, at)
		}
	}
	var weeks, silences [7 * 24]float64
	hour := func(at int64) int {
		l := time.Unix(at*3600, 0).In(zone)
		return int(l.Weekday())*24 + l.Hour()
	}
	for at := first; at <= last; at++ {
		if weeks[hour(at)]++; n[at] == 0 {
			silences[hour(at)]++
		}
	}
	for at := first; at <= last; at++ {
		if n[at] > 0 {
			continue
		}
		from := at
		for n[at] == 0 {
			at++
		}
		if at-from > maxSilent {
			continue // no habit is told by weeks of which nothing is known
		}
		silent := false
		s := Silence{From: time.Unix(from*3600, 0).UTC(), To: time.Unix(at*3600, 0).UTC()}
		var sum int64
		for begin, end := range sameHours(s, first, last, zone) {
			all := int64(0)
			for h := begin; h < end; h++ {
				all += n[h]
			}
			s.Weeks++
			sum, silent = sum+all, silent || all == 0
		}
		if silent || s.Weeks < leastWeeks {
			continue
		}
		s.Expected = float64(last - first + 1)
		for h := from; h < at; h++ {
			s.Expected *= (silences[hour(h)] + 1) / (weeks[hour(h)] + 2) // Laplace's rule of succession
		}
		if s.Usual = float64(sum) / float64(s.Weeks); s.Usual >= leastUsual && s.Expected < mostChance {
			out = append(out, s)
		}
	}
	slices.SortStableFunc(out, func(a, b Silence) int { return cmp.Or(cmp.Compare(b.Usual, a.Usual), a.From.Compare(b.From)) })
	return out
}

// sameHours yields the first hour of the silence in other weeks, and the one behind the last, by the clock of zone, as far as
// they lie within first and last.
func sameHours(s Silence, first, last int64, zone *time.Location) iter.Seq2[int64, int64] {
	return func(yield func(int64, int64) bool) {
		for _, step := range []int{-7, 7} {
			for week := 1; ; week++ {
				begin := s.From.In(zone).AddDate(0, 0, step*week).Unix() / 3600
				end := s.To.In(zone).AddDate(0, 0, step*week).Unix() / 3600
				if begin < first || end-1 > last {
					break
				}
				if !yield(begin, end) {
					return
				}
			}
		}
	}
}
