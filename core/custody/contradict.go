package custody

import "time"

// Use is something that is known to have been done with an exhibit from elsewhere than its chain of custody: it was
// photographed, a backup was made on it.
type Use struct {
	What string
	At   time.Time
}

// Contradiction is a use at a time when the exhibit, by its chain, was under a closed seal, or in nobody's custody.
type Contradiction struct {
	Use
	Seal  string     // that was closed, "" if nobody had custody
	Since *time.Time // since when it was so, nil if from before the chain
	Until *time.Time // until when, nil if to its end
}

// Contradictions holds uses against a chain of custody, in its order. What was done at the very moment of an event
// contradicts nothing.
func Contradictions(chain []Event, uses []Use) (out []Contradiction) {
	states := make([]Chain, len(chain)+1) // after so many events
	for i, e := range chain {
		states[i+1] = states[i]
		states[i+1].Add(e)
	}
	closed := func(c Chain) (seal string, so bool) {
		if c.Holder == "" {
			return "", true
		}
		return c.Seal, c.Seal != "" && !c.Open
	}
	for _, u := range uses {
		n := 0
		for n < len(chain) && !chain[n].At.After(u.At) {
			n++
		}
		seal, so := closed(states[n])
		if !so || n > 0 && chain[n-1].At.Equal(u.At) {
			continue
		}
		same := func(c Chain) bool {
			s, so := closed(c)
			return so && s == seal
		}
		x := Contradiction{Use: u, Seal: seal}
		first, end := n, n+1
		for first > 0 && same(states[first-1]) {
			first--
		}
		for end < len(states) && same(states[end]) {
			end++
		}
		if first > 0 {
			x.Since = &chain[first-1].At
		}
		if end < len(states) {
			x.Until = &chain[end-1].At
		}
		out = append(out, x)
	}
	return out
}
