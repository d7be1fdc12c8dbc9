package examine

import (
	"fmt"
	"testing"
	"time"

	"crosswind/core/gap"
	"crosswind/internal/store"
)

// Runs that are one in the drawing are one path, however many there are; what is there and what is missing do not overlap.
func TestBarOfGaps(t *testing.T) {
	for _, x := range []struct {
		last       int64
		runs       []gap.Run
		bar, holes string
	}{
		{10, []gap.Run{{From: 3, To: 4}, {From: 9, To: 10}}, "M0.0 0H128.0V10H0.0zM256.0 0H512.0V10H256.0z", "M128.0 0H256.0V10H128.0zM512.0 0H640.0V10H512.0z"},
		{10, []gap.Run{{From: 1, To: 5}}, "M320.0 0H640.0V10H320.0z", "M0.0 0H320.0V10H0.0z"},
		{64000, []gap.Run{{From: 32001, To: 32001}, {From: 32011, To: 32011}, {From: 32101, To: 32101}}, "M0.0 0H320.0V10H0.0zM320.9 0H321.0V10H320.9zM321.8 0H640.0V10H321.8z", "M320.0 0H320.9V10H320.0zM321.0 0H321.8V10H321.0z"},
	} {
		g := gapTable{Gaps: store.Gaps{Numbers: &gap.Numbers{First: 1, Last: x.last, Runs: x.runs}}}
		if bar, holes := g.draw(); bar != x.bar || holes != x.holes {
			t.Errorf("of %v:\n%s\n%s\nwant\n%s\n%s", x.runs, bar, holes, x.bar, x.holes)
		}
	}
}

// Of many steps those within the chart are told, and the largest of others.
func TestStepsOfClocksThatAreTold(t *testing.T) {
	var all []clockStep
	for i, back := range []time.Duration{3, 1, 9, 2, 7} {
		at := time.Date(2026, 9, 1+i, 0, 0, 0, 0, time.UTC)
		all = append(all, clockStep{ClockStep: store.ClockStep{Before: store.Record{At: &at}, Back: back * time.Hour}, In: back == 1})
	}
	for most, want := range map[int]string{0: "", 1: "1 ", 3: "1 9 7 ", 5: "1 3 9 2 7 ", 9: "1 3 9 2 7 "} {
		got := ""
		for _, s := range toldSteps(append([]clockStep{}, all...), most) {
			got += fmt.Sprint(int(s.Back.Hours()), " ")
		}
		if got != want {
			t.Errorf("of five, %d at most: %s; want %s", most, got, want)
		}
	}
}

// Rows on either side of what is missing tell of which conversation it may be.
func TestNeighbours(t *testing.T) {
	for _, c := range [][3]string{{"", "", ""}, {"A", "A", "between rows of A"}, {"A", "B", "after a row of A, before one of B"}, {"A", "", "after a row of A"}, {"", "B", "before a row of B"}} {
		if got := neighbours(c[0], c[1]); got != c[2] {
			t.Errorf("%q and %q: %s", c[0], c[1], got)
		}
	}
}
