package validate

import (
	"context"
	"math"
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

// What is measured is measured: of the databases that are made each live row is read as SQL gives it, most of what was
// deleted comes back, hardly anything is told that was not so; and the same seed measures the same.
func TestRun(t *testing.T) {
	a, err := Run(context.Background(), "test", 1, nil)
	if err != nil {
		t.Fatal(err)
	}
	total := a.Total()
	if a.Databases != len(layouts()) || a.Live.Expected < 2000 || a.Live.Found != a.Live.Expected || a.Deleted.Expected < 1000 || a.Deleted.Found*100 < a.Deleted.Expected*80 || total.Told < 1000 || total.Wrong*200 > total.Told {
		t.Errorf("%+v", a)
	}
	t.Logf("%+v", a)
	b, err := a.Encode()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Decode(b)
	if err != nil || len(again.Places) != len(a.Places) || again.Total() != total {
		t.Errorf("%+v, %v", again, err)
	}
}

// A row that was never written is counted as wrong.
func TestWrongRowsAreCounted(t *testing.T) {
	l := layouts()[0]
	x, err := l.live(context.Background(), t.TempDir(), 7)
	if err != nil {
		t.Fatal(err)
	}
	r := &Result{}
	if err := r.read(l, x); err != nil {
		t.Fatal(err)
	}
	for _, of := range x.ever { // as if SQL had given other values
		for _, v := range of {
			v.id++
			v.values[len(v.values)-1] = "another"
		}
	}
	wrong := &Result{}
	if err := wrong.read(l, x); err != nil {
		t.Fatal(err)
	}
	if a, b := r.Total(), wrong.Total(); a.Told == 0 || a.Wrong != 0 || b.Wrong != b.Told || b.Told != a.Told || wrong.Live.Found != 0 {
		t.Errorf("%+v, then %+v", r, wrong)
	}
}
