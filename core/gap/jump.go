package gap

import (
	"slices"
	"time"
)

// Row is a row with its number, which tells the order in which rows were written, and the time that it was written with.
type Row struct {
	Number int64
	At     time.Time
}

// Jump is a place in the rows of a table at which their times go back.
type Jump struct {
	Before, After int           // indexes of the rows on either side
	Back          time.Duration // from the one to the other
}

// LeastJump is the least step back that is told: clocks are set right by seconds as a matter of course.
const LeastJump = 5 * time.Minute

// Jumps finds where the times of rows, which are given in the order of their numbers, go back by [LeastJump] or more, and
// stay back: the median of the three rows before is later than that of the three after, so that a single row which came
// late, or bears another's time, is none. A clock that was set back does that, and one that had been ahead and was set
// right; when it was set forward cannot be told from a time in which nothing was written. Tables whose rows do not follow
// time are not for it (common practice).
func Jumps(rows []Row) (out []Jump) {
	median := func(some []Row) time.Time {
		var at []time.Time
		for _, r := range some {
			at = append(at, r.At)
		}
		slices.SortFunc(at, time.Time.Compare)
		return at[len(at)/2]
	}
	const side = 3
	for i := side; i+side <= len(rows); i++ {
		if median(rows[i-side:i]).Sub(median(rows[i:i+side])) < LeastJump {
			continue
		}
		// The step itself is the largest one nearby.
		best := i
		for k := i - side + 1; k < i+side; k++ {
			if rows[k-1].At.Sub(rows[k].At) > rows[best-1].At.Sub(rows[best].At) {
				best = k
			}
		}
		if back := rows[best-1].At.Sub(rows[best].At); back >= LeastJump && (len(out) == 0 || out[len(out)-1].After != best) {
			out = append(out, Jump{best - 1, best, back})
		}
	}
	return out
}
