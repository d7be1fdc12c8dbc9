// Package validate measures, on the build that runs, how often what is read is right. It makes databases, storage images,
// backups, photographs, films and sounds whose content is known, reads them by the code that reads evidence, and compares.
package validate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"crosswind/core/volume"
)

// Result is what a validation measured.
type Result struct {
	Tool  string    `json:"tool"`
	Build string    `json:"build"` // SHA-256 of the program that ran, hex
	Go    string    `json:"go"`    // the version of its compiler
	Seed  uint64    `json:"seed"`  // by which what has the same content is made again
	At    time.Time `json:"at"`
	Sets  []Set     `json:"sets"`
}

// Set is what was measured of one sort of things that were made.
type Set struct {
	Name    string    `json:"name"` // in the plural, in words
	Made    int       `json:"made"`
	Library string    `json:"library"` // that made them, with its version
	Counts  []Counted `json:"counts"`  // of what they are known to hold
	Places  []Place   `json:"places"`  // of what was told of what is not there as it was, by where it lay
	Wrong   []string  `json:"wrong,omitempty"`
}

// Counted is how many there are of something, and how many of them were found.
type Counted struct {
	What     string `json:"what"`
	Expected int    `json:"expected"`
	Found    int    `json:"found"`
	All      bool   `json:"all"` // less than all of them is a fault
}

// Place is what was told of rows that are not live, or of files that are not there, by where they lay: right if all that
// survives of it was once so.
type Place struct {
	Place    string `json:"place"`
	Told     int    `json:"told"`
	Wrong    int    `json:"wrong"`
	Unproven bool   `json:"unproven,omitempty"` // it was not told to be whole, which something proves
}

// Bound is an upper bound of a place's error rate with a confidence of 95 %.
func (p Place) Bound() float64 { return UpperBound(p.Wrong, p.Told) }

// Total is all places of all sets together.
func (r *Result) Total() Place {
	t := Place{Place: "all places"}
	for _, s := range r.Sets {
		for _, p := range s.Places {
			t.Told, t.Wrong = t.Told+p.Told, t.Wrong+p.Wrong
		}
	}
	return t
}

// Failed reports whether something was told to be so that was not, though something proves it, or something of which all is to be found was not.
func (r *Result) Failed() bool {
	return slices.ContainsFunc(r.Sets, func(s Set) bool {
		return slices.ContainsFunc(s.Counts, func(c Counted) bool { return c.All && c.Found < c.Expected }) ||
			slices.ContainsFunc(s.Places, func(p Place) bool { return p.Wrong > 0 && !p.Unproven })
	})
}

// UpperBound is the one-sided upper bound, with a confidence of 95 %, of a rate of which wrong of n were seen, by Clopper and
// Pearson: the rate at which wrong or fewer are seen once in twenty times. It is 1 for an n of 0.
func UpperBound(wrong, n int) float64 {
	if wrong >= n {
		return 1
	}
	logGamma := func(x int) float64 {
		g, _ := math.Lgamma(float64(x + 1))
		return g
	}
	atMost := func(p float64) (sum float64) { // the probability of wrong or fewer
		for k := 0; k <= wrong; k++ {
			sum += math.Exp(logGamma(n) - logGamma(k) - logGamma(n-k) + float64(k)*math.Log(p) + float64(n-k)*math.Log1p(-p))
		}
		return sum
	}
	low, high := 0.0, 1.0
	for range 60 {
		if mid := (low + high) / 2; atMost(mid) > 0.05 {
			low = mid
		} else {
			high = mid
		}
	}
	return high
}

// Encode writes a result as it is kept and signed for: JSON, indented.
func (r *Result) Encode() ([]byte, error) { return json.MarshalIndent(r, "", "  ") }

// Decode reads a result that was kept. Earlier versions measured databases alone, and kept what is now their set.
func Decode(b []byte) (*Result, error) {
	var kept struct {
		Result
		Set
		Databases     int
		Live, Deleted Counted
	}
	if err := json.Unmarshal(b, &kept); err != nil {
		return nil, fmt.Errorf("validate: reading a result: %w", err)
	}
	if kept.Databases > 0 {
		kept.Set.Name, kept.Set.Made = sets[0].name, kept.Databases
		kept.Live.What, kept.Live.All, kept.Deleted.What = liveRows, true, oldRows
		kept.Set.Counts = []Counted{kept.Live, kept.Deleted}
		kept.Sets = []Set{kept.Set}
	}
	return &kept.Result, nil
}

// Build is the SHA-256 of the program that runs, hex: what is measured is measured of it.
var Build = sync.OnceValues(func() (string, error) {
	path, err := os.Executable()
	if err != nil {
		return "", fmt.Errorf("validate: finding the program that runs: %w", err)
	}
	f, err := os.Open(path)
	if err != nil {
		return "", fmt.Errorf("validate: reading the program that runs: %w", err)
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", fmt.Errorf("validate: reading the program that runs: %w", err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
})

// library names a library that makes things, with its version.
func library(name string) string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, d := range info.Deps {
			if d.Path == name {
				return name + " " + d.Version
			}
		}
	}
	return name
}

// mostWrong bounds what is listed of what is wrong, in each set.
const mostWrong = 20

// sets are all that is made, with the functions that make it, read it and compare.
var sets = []struct {
	name    string
	measure func(ctx context.Context, s *Set, dir string, seed uint64) error
}{{"databases", databases}, {"storage images", images}, {"storage areas without a file system", carved}, {"backups", backups}, {"photographs, films and sounds", media}}

// Run makes all sets in a folder of its own, and measures. The same seed makes the same content. told, if not nil, is told
// what is measured next.
func Run(ctx context.Context, tool string, seed uint64, told func(set string)) (*Result, error) {
	build, err := Build()
	if err != nil {
		return nil, err
	}
	r := &Result{Tool: tool, Build: build, Go: runtime.Version(), Seed: seed, At: time.Now().UTC().Truncate(time.Second)}
	for _, x := range sets {
		if told != nil {
			told(x.name)
		}
		s := Set{Name: x.name}
		if err := s.measure(ctx, seed, x.measure); err != nil {
			return nil, fmt.Errorf("validate: %s: %w", x.name, err)
		}
		r.Sets = append(r.Sets, s)
	}
	return r, nil
}

func (s *Set) measure(ctx context.Context, seed uint64, by func(context.Context, *Set, string, uint64) error) error {
	dir, err := os.MkdirTemp("", "validate-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	err = by(ctx, s, dir, seed)
	slices.SortFunc(s.Places, func(a, b Place) int { return strings.Compare(a.Place, b.Place) })
	return err
}

// count counts something that is known to be there.
func (s *Set) count(what string, all, found bool) {
	i := slices.IndexFunc(s.Counts, func(c Counted) bool { return c.What == what })
	if i < 0 {
		i = len(s.Counts)
		s.Counts = append(s.Counts, Counted{What: what, All: all})
	}
	if s.Counts[i].Expected++; found {
		s.Counts[i].Found++
	} else if all {
		s.wrong("not found: " + what)
	}
}

// tell counts a file that was told to be as complete as it was said to be.
func (s *Set) tell(place string, complete volume.Completeness, right bool, what string) {
	place += ", " + string(complete)
	s.say(place, right, what)
	for i := range s.Places {
		if s.Places[i].Place == place {
			s.Places[i].Unproven = complete != volume.Whole
		}
	}
}

// say counts something that was told of what is not there.
func (s *Set) say(place string, right bool, what string) {
	i := slices.IndexFunc(s.Places, func(p Place) bool { return p.Place == place })
	if i < 0 {
		i = len(s.Places)
		s.Places = append(s.Places, Place{Place: place})
	}
	if s.Places[i].Told++; !right {
		s.Places[i].Wrong++
		s.wrong(place + ": " + what)
	}
}

func (s *Set) wrong(what string) {
	if len(s.Wrong) < mostWrong {
		s.Wrong = append(s.Wrong, what)
	}
}
