package validate

import (
	"context"
	"math"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"reflect"
	"testing"
)

// The bound is that of Clopper and Pearson (Biometrika 26, 1934), one-sided: for nothing wrong of n it is 1 - 0.05^(1/n),
// which the rule of three (Hanley and Lippman-Hand, JAMA 249, 1983) gives as 3/n; 1 of 10 gives 0.3942.
func TestUpperBound(t *testing.T) {
	for _, x := range []struct {
		wrong, n int
		want     float64
	}{{0, 1, 0.95}, {0, 100, 0.0295}, {0, 1000, 0.002991}, {1, 10, 0.3942}, {10, 10, 1}, {0, 0, 1}} {
		if got := UpperBound(x.wrong, x.n); math.Abs(got-x.want) > 5e-5 {
			t.Errorf("%d of %d: %.5f, want %.5f", x.wrong, x.n, got, x.want)
		}
	}
}

// What is measured is measured: what is there is read as it was made, most of what was deleted comes back, hardly anything is
// told that was not so; and the same seed measures the same.
func TestRun(t *testing.T) {
	a, err := Run(context.Background(), "test", 1, nil)
	if err != nil {
		t.Fatal(err)
	}
	least := map[string][2]int{ // how many there are at least, and how many of a hundred are found
		liveRows:                                {2000, 100},
		oldRows:                                 {1000, 80},
		"files that are there, with every byte": {150, 100},
		"deleted files whose bytes are still in the image":             {30, 80},
		"files that lie in one run, with every byte":                   {30, 100},
		"pictures that lie in two runs, with every byte":               {3, 60},
		"files, with every byte":                                       {160, 100},
		"backups of which nothing is said to be wrong, and nothing is": {4, 100},
		"wrong passwords that are refused":                             {2, 100},
		"changes of one byte that are told":                            {32, 100},
		saidTime + saidBy:                                              {60, 100}, saidPlace + saidBy: {40, 100}, saidDevice + saidBy: {40, 100}, saidSize + saidBy: {60, 100}, saidTurn + saidBy: {30, 100},
		saidLength + saidBy: {18, 100}, saidTitle + saidBy: {18, 100}, saidArtist + saidBy: {12, 100},
	}
	for _, s := range a.Sets {
		for _, c := range s.Counts {
			if w := least[c.What]; w[0] == 0 || c.Expected < w[0] || c.Found*100 < c.Expected*w[1] || c.All != (w[1] == 100) {
				t.Errorf("%s: %+v", s.Name, c)
			}
			delete(least, c.What)
		}
	}
	if total := a.Total(); len(least) > 0 || total.Told < 1500 || total.Wrong*200 > total.Told || a.Failed() {
		t.Errorf("%v is missing of %+v", least, a)
	}
	t.Logf("%+v", a)
	b, err := a.Encode()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Decode(b)
	if err != nil || !reflect.DeepEqual(again, a) {
		t.Errorf("%+v, %v", again, err)
	}
}

// A result of an earlier version is read as the set of databases.
func TestEarlierResults(t *testing.T) {
	r, err := Decode([]byte(`{"tool":"t","build":"b","go":"g","library":"l","seed":7,"at":"2026-11-01T00:00:00Z","databases":24,"live":{"expected":5,"found":5},"deleted":{"expected":3,"found":2},"places":[{"place":"free block","told":9,"wrong":1}],"wrong":["x"]}`))
	want := []Set{{"databases", 24, "l", []Counted{{liveRows, 5, 5, true}, {oldRows, 3, 2, false}}, []Place{{"free block", 9, 1, false}}, []string{"x"}}}
	if err != nil || r.Tool != "t" || r.Seed != 7 || !reflect.DeepEqual(r.Sets, want) {
		t.Errorf("%+v, %v", r, err)
	}
}

// The reference volume of ext4 is sound by another program: e2fsck of Debian's e2fsprogs.
func TestReferenceVolume(t *testing.T) {
	x := &madeVolume{r: rand.New(rand.NewPCG(1, 2)), there: map[string][]byte{}}
	path := filepath.Join(t.TempDir(), "v")
	if err := x.make(volumeMakers[len(volumeMakers)-1], path); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("e2fsck", "-fn", path).CombinedOutput(); err != nil {
		t.Errorf("%v: %s", err, out)
	}
}

// A row that was never written is counted as wrong.
func TestWrongRowsAreCounted(t *testing.T) {
	l := layouts()[0]
	x, err := l.live(context.Background(), t.TempDir(), 7)
	if err != nil {
		t.Fatal(err)
	}
	r := &Set{}
	if err := r.read(l, x); err != nil {
		t.Fatal(err)
	}
	for _, of := range x.ever { // as if SQL had given other values
		for _, v := range of {
			v.id++
			v.values[len(v.values)-1] = "another"
		}
	}
	wrong := &Set{}
	if err := wrong.read(l, x); err != nil {
		t.Fatal(err)
	}
	a, b := (&Result{Sets: []Set{*r}}), (&Result{Sets: []Set{*wrong}})
	if x, y := a.Total(), b.Total(); x.Told == 0 || x.Wrong != 0 || y.Wrong != y.Told || y.Told != x.Told || wrong.Counts[0].Found != 0 || a.Failed() || !b.Failed() {
		t.Errorf("%+v, then %+v", r, wrong)
	}
}
