// Package validate measures, on the build that runs, how often what is read of databases is right. It makes databases whose
// content is known, by another program's library, reads them by the code that reads evidence, and compares.
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
)

// Result is what a validation measured.
type Result struct {
	Tool      string    `json:"tool"`
	Build     string    `json:"build"`   // SHA-256 of the program that ran, hex
	Go        string    `json:"go"`      // the version of its compiler
	Library   string    `json:"library"` // that made the reference databases, with its version
	Seed      uint64    `json:"seed"`    // by which the same databases are made again
	At        time.Time `json:"at"`
	Databases int       `json:"databases"`
	Live      Count     `json:"live"`    // rows that SQL gives, and those that were read the same
	Deleted   Count     `json:"deleted"` // rows that SQL gives no more and whose text is still in the files, and those that came back
	Places    []Place   `json:"places"`  // what was told of old rows, by where it lay
	Wrong     []string  `json:"wrong,omitempty"`
}

// Count is how many there are, and how many of them were found.
type Count struct {
	Expected int `json:"expected"`
	Found    int `json:"found"`
}

// Place is what was told of rows that are not live, by where they lay: right if all that survives of it was once so in one row.
type Place struct {
	Place string `json:"place"`
	Told  int    `json:"told"`
	Wrong int    `json:"wrong"`
}

// Bound is an upper bound of a place's error rate with a confidence of 95 %.
func (p Place) Bound() float64 { return UpperBound(p.Wrong, p.Told) }

// Total is all places together.
func (r *Result) Total() Place {
	t := Place{Place: "all places"}
	for _, p := range r.Places {
		t.Told, t.Wrong = t.Told+p.Told, t.Wrong+p.Wrong
	}
	return t
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

// Decode reads a result that was kept.
func Decode(b []byte) (*Result, error) {
	r := &Result{}
	if err := json.Unmarshal(b, r); err != nil {
		return nil, fmt.Errorf("validate: reading a result: %w", err)
	}
	return r, nil
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

// library names the SQLite library that makes the reference databases.
func library() string {
	const name = "modernc.org/sqlite"
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, d := range info.Deps {
			if d.Path == name {
				return name + " " + d.Version
			}
		}
	}
	return name
}

// mostWrong bounds the wrong rows that are listed.
const mostWrong = 20

// Run makes databases in a folder of its own, and measures. The same seed makes the same databases. told, if not nil, is told
// how many of them were read.
func Run(ctx context.Context, tool string, seed uint64, told func(done, of int)) (*Result, error) {
	build, err := Build()
	if err != nil {
		return nil, err
	}
	r := &Result{Tool: tool, Build: build, Go: runtime.Version(), Library: library(), Seed: seed, At: time.Now().UTC().Truncate(time.Second)}
	dir, err := os.MkdirTemp("", "validate-")
	if err != nil {
		return nil, fmt.Errorf("validate: %w", err)
	}
	defer os.RemoveAll(dir)
	all := layouts()
	for i, l := range all {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		life, err := l.live(ctx, dir, seed+uint64(i))
		if err == nil {
			err = r.read(l, life)
		}
		if err != nil {
			return nil, fmt.Errorf("validate: %s: %w", l, err)
		}
		if r.Databases++; told != nil {
			told(i+1, len(all))
		}
	}
	slices.SortFunc(r.Places, func(a, b Place) int { return strings.Compare(a.Place, b.Place) })
	return r, nil
}

// say counts an old row that was told.
func (r *Result) say(place string, right bool, what string) {
	i := slices.IndexFunc(r.Places, func(p Place) bool { return p.Place == place })
	if i < 0 {
		i = len(r.Places)
		r.Places = append(r.Places, Place{Place: place})
	}
	if r.Places[i].Told++; !right {
		r.Places[i].Wrong++
		if len(r.Wrong) < mostWrong {
			r.Wrong = append(r.Wrong, place+": "+what)
		}
	}
}
