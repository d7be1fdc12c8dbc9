package gap

import (
	"fmt"
	"testing"
	"time"
)

// Steps of made-up rows, in minutes: which of them are jumps of the clock.
func TestJumps(t *testing.T) {
	for _, x := range []struct {
		at   []int
		want string
	}{
		{[]int{0, 10, 20, 30, 40, 50, 60}, ""},
		{[]int{0, 10, 20, 30, 5, 40, 50, 60}, ""},             // one came late
		{[]int{0, 10, 20, 5000, 30, 40, 50, 60}, ""},          // one bears a time to come
		{[]int{0, 10, 20, 30, 27, 28, 31, 40}, ""},            // by three minutes
		{[]int{100, 110, 120, 20, 30, 40, 50}, "2-3 1h40m0s"}, // set back
		{[]int{0, 10, 5000, 5010, 5020, 30, 40, 50}, "4-5 83h10m0s"},
		{[]int{0, 10, 5000, 5010, 25, 30, 40, 50}, "3-4 83h5m0s"},
		{[]int{300, 310, 320, 200, 210, 220, 100, 110, 120}, "2-3 2h0m0s, 5-6 2h0m0s"},
	} {
		var rows []Row
		for i, m := range x.at {
			rows = append(rows, Row{int64(i), time.Unix(0, 0).Add(time.Duration(m) * time.Minute)})
		}
		got := ""
		for i, j := range Jumps(rows) {
			if i > 0 {
				got += ", "
			}
			got += fmt.Sprintf("%d-%d %v", j.Before, j.After, j.Back)
		}
		if got != x.want {
			t.Errorf("%v: %q, want %q", x.at, got, x.want)
		}
	}
}
