// Package accord compares what two records say of one moment: a message's time on two handsets, a call's length on both,
// a photograph's place and the handset's.
package accord

import (
	"cmp"
	"slices"
	"time"

	"crosswind/core/geo"
)

// Verdict is whether two records can both be true.
type Verdict int

const (
	Apart       Verdict = iota // they differ, and that can be so
	Agrees                     // they say the same, as far as either can tell
	Contradicts                // not both are true
)

// What is taken for the same. None of these is a standard's: they are common practice, and each page that uses one says
// what was found, too.
const (
	SameTime   = time.Minute     // of two clocks whose measured offsets are taken off: a network delays what it carries
	SameShot   = 2 * time.Minute // of a picture and its file, which is written when that has been worked out
	SameLength = 5.0             // seconds of a call: one side may count from ringing, the other from answering
	SamePlace  = 100.0           // metres beyond what the accuracies allow
	Walking    = 2.0             // metres a second within which who carries a handset may have moved meanwhile
)

// Times compares two times of one event.
func Times(a, b time.Time) Verdict {
	if a.Sub(b).Abs() <= SameTime {
		return Agrees
	}
	return Apart
}

// Taken compares the time of a picture with that which its file says of itself.
func Taken(a, itself time.Time) Verdict {
	if a.Sub(itself).Abs() <= SameShot {
		return Agrees
	}
	return Contradicts
}

// The offsets from UTC that clocks are set to, in steps of Quarter: all of IANA's time zone database since 1980 are such ones.
const (
	WestMost = -12 * time.Hour
	EastMost = 14 * time.Hour
	Quarter  = 15 * time.Minute
)

// TakenLocal compares the time of a picture with a local one without a zone, given as if it were UTC: they agree if that is
// here off UTC, and contradict each other if no zone's clock could have shown it. off is the offset that it would be of.
func TakenLocal(a, itself time.Time, here time.Duration) (v Verdict, off time.Duration) {
	d := itself.Sub(a)
	off = d.Round(Quarter)
	switch {
	case (d-off).Abs() > SameShot || off < WestMost || off > EastMost:
		return Contradicts, off
	case off == here:
		return Agrees, off
	}
	return Apart, off
}

// Lengths compares two lengths of one call, in seconds.
func Lengths(a, b float64) Verdict {
	if d := a - b; d <= SameLength && -d <= SameLength {
		return Agrees
	}
	return Contradicts
}

// Places compares where two records put one handset: they agree if it need not have moved more than somebody walks, and
// contradict each other if it would have moved faster than anything that carries people, see [geo.Between].
func Places(a, b geo.Fix) (Verdict, geo.Leg) {
	if b.At.Before(a.At) {
		a, b = b, a
	}
	leg := geo.Between(a, b)
	switch {
	case leg.TooFast:
		return Contradicts, leg
	case leg.Metres <= a.Accuracy+b.Accuracy+SamePlace+Walking*b.At.Sub(a.At).Seconds():
		return Agrees, leg
	}
	return Apart, leg
}

// Call is a call as one of two handsets has it.
type Call struct {
	At      time.Time // when it began, with what is known of the clock taken off
	Out     bool      // the handset called
	Handle  string    // of the other side
	Seconds float64   // that it lasted, negative if that is not known
	Missed  bool      // it was not answered
}

// Pair is one call as both handsets have it, by the indexes of their lists.
type Pair struct{ A, B int }

// Calls finds the calls between two handsets in the lists of both. ownA and ownB are their own handles, as far as these are
// known. If they are not, two handles are those of the two handsets if three calls or more with one coincide with calls with
// the other, and with no other handle more. Calls coincide if one handset called and the other was called, two minutes apart
// at most; of several the nearest is taken. aloneA and aloneB are calls with the other handset that it does not have.
func Calls(a, b []Call, ownA, ownB []string) (both []Pair, aloneA, aloneB []int) {
	const near = 2 * time.Minute
	type ends struct{ a, b string }
	order := make([]int, len(b))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(x, y int) int { return b[x].At.Compare(b[y].At) })
	candidates := func(i int, yield func(k int)) {
		from, _ := slices.BinarySearchFunc(order, a[i].At.Add(-near), func(k int, t time.Time) int { return b[k].At.Compare(t) })
		for _, k := range order[from:] {
			if b[k].At.After(a[i].At.Add(near)) {
				return
			}
			if a[i].Out != b[k].Out {
				yield(k)
			}
		}
	}
	n := map[ends]int{}
	for i := range a {
		candidates(i, func(k int) { n[ends{a[i].Handle, b[k].Handle}]++ })
	}
	most := map[string]int{}
	for e, k := range n {
		most["a"+e.a], most["b"+e.b] = max(most["a"+e.a], k), max(most["b"+e.b], k)
	}
	const enough = 3
	accepted := map[ends]bool{}
	toB, toA := map[string]bool{}, map[string]bool{} // the handles under which each knows the other
	for _, h := range ownB {
		toB[h] = true
	}
	for _, h := range ownA {
		toA[h] = true
	}
	for e, k := range n {
		byA, byB := toA[e.b], toB[e.a]
		if counted := k >= enough && k == most["a"+e.a] && k == most["b"+e.b]; (byB || len(ownB) == 0) && (byA || len(ownA) == 0) && (byA && byB || counted) {
			accepted[e] = true
		}
	}
	for e := range accepted {
		toB[e.a], toA[e.b] = true, true
	}
	type found struct {
		Pair
		apart time.Duration
	}
	var all []found
	for i := range a {
		candidates(i, func(k int) {
			if accepted[ends{a[i].Handle, b[k].Handle}] {
				all = append(all, found{Pair{i, k}, a[i].At.Sub(b[k].At).Abs()})
			}
		})
	}
	slices.SortStableFunc(all, func(x, y found) int { return cmp.Compare(x.apart, y.apart) })
	pairA, pairB := map[int]bool{}, map[int]bool{}
	for _, f := range all {
		if !pairA[f.A] && !pairB[f.B] {
			pairA[f.A], pairB[f.B] = true, true
			both = append(both, f.Pair)
		}
	}
	slices.SortFunc(both, func(x, y Pair) int { return cmp.Compare(x.A, y.A) })
	for i := range a {
		if !pairA[i] && toB[a[i].Handle] {
			aloneA = append(aloneA, i)
		}
	}
	for i := range b {
		if !pairB[i] && toA[b[i].Handle] {
			aloneB = append(aloneB, i)
		}
	}
	return both, aloneA, aloneB
}
