// Package talk lays a conversation, as several sources have it, side by side: what one of them lacks leaves a gap, and
// between which of their dates it went is worked out from all of them.
package talk

import (
	"cmp"
	"slices"
	"time"
)

// Said is one thing that was said, as a source has it.
type Said struct {
	At    time.Time
	Row   string // its row in its database, the same in all sources of a device that have the same row; "" if not known
	What  string // what was said, or what stands for it; "" is like nothing else
	Alive bool   // it is there to be read on the device: not among what was deleted
	Older bool   // an earlier version of its row
}

// Source is a conversation as one source has it.
type Source struct {
	Device string    // sources of one device have the same: their clocks agree
	Made   time.Time // when the source was made; zero if that is not known
	Lives  bool      // it gives what is alive only
	Said   []Said    // in order of time
}

// Line is one thing that was said, over all sources.
type Line struct {
	At    time.Time
	Has   []int   // of each source its index in Said, -1 if the source does not have it
	Older [][]int // of each source the earlier versions of it
}

// Apart is how far the clocks of two devices may differ for the same words to be the same message: a message that is
// under way for longer is a line of its own for each of them.
const Apart = 10 * time.Minute

// Align gives the lines of a conversation in order of time: by the first source that has each.
func Align(sources []Source) []Line {
	var lines []Line
	for s, src := range sources {
		taken := map[int]bool{} // lines that this source has already
		var older []int
		for i, x := range src.Said {
			if x.Older {
				older = append(older, i)
				continue
			}
			best, least := -1, time.Duration(0)
			for n := range lines {
				if l := &lines[n]; !taken[n] {
					if d, same := like(sources, l, s, x); same && (best < 0 || d < least) {
						best, least = n, d
					}
				}
			}
			if best < 0 {
				lines = append(lines, line(len(sources), x.At))
				best = len(lines) - 1
			}
			taken[best] = true
			lines[best].Has[s] = i
		}
		for _, i := range older {
			x := src.Said[i]
			n := slices.IndexFunc(lines, func(l Line) bool { return l.Has[s] >= 0 && x.Row != "" && src.Said[l.Has[s]].Row == x.Row })
			if n < 0 { // its row itself is gone
				lines = append(lines, line(len(sources), x.At))
				n = len(lines) - 1
				lines[n].Has[s] = i
				continue
			}
			lines[n].Older[s] = append(lines[n].Older[s], i)
		}
	}
	slices.SortStableFunc(lines, func(a, b Line) int { return a.At.Compare(b.At) })
	return lines
}

func line(n int, at time.Time) Line {
	l := Line{At: at, Has: slices.Repeat([]int{-1}, n), Older: make([][]int, n)}
	return l
}

// like reports whether x, of source s, is what a line is, and how far apart they are.
func like(sources []Source, l *Line, s int, x Said) (time.Duration, bool) {
	for k, i := range l.Has[:s] {
		if i < 0 {
			continue
		}
		y := sources[k].Said[i]
		d := x.At.Sub(y.At).Abs()
		one := sources[k].Device == sources[s].Device
		switch {
		case one && x.Row != "" && x.Row == y.Row && (x.What == y.What || d < time.Second):
			return 0, true
		case x.What == "" || x.What != y.What:
		case one && d < time.Second, !one && d <= Apart:
			return d, true
		}
	}
	return 0, false
}

// Gone says between which dates what a line holds went from the device of source s, which does not have it alive: the last
// source of the device that has it so and was made before, and the first after that one that does not. ok is false if no
// source shows that it was there.
func (l *Line) Gone(sources []Source, s int) (from, to time.Time, ok bool) {
	made := sources[s].Made
	if made.IsZero() {
		return from, to, false
	}
	alive := func(k int) bool { return l.Has[k] >= 0 && sources[k].Said[l.Has[k]].Alive }
	var all []int // of the device, by their dates
	for k, src := range sources {
		if src.Device == sources[s].Device && !src.Made.IsZero() {
			all = append(all, k)
		}
	}
	slices.SortStableFunc(all, func(a, b int) int { return cmp.Or(sources[a].Made.Compare(sources[b].Made), cmp.Compare(a, b)) })
	for _, k := range all {
		switch m := sources[k].Made; {
		case m.After(made):
		case alive(k):
			from, to, ok = m, time.Time{}, true
		case ok && to.IsZero():
			to = m
		}
	}
	return from, to, ok && !to.IsZero()
}
