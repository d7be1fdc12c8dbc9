package examine

import (
	"strings"
	"testing"

	"crosswind/core/timeline"
)

// What was deleted in an evening is seen as depth, however much more there is above the line.
func TestDepthHasAScaleOfItsOwn(t *testing.T) {
	l := timeline.Lane{Bins: []timeline.Bin{{Above: 5000, Below: 1}, {Above: 20, Below: 40}}}
	none := &timeline.Lane{Bins: make([]timeline.Bin, 2)}
	var d lane
	d.draw(&l, none, 100, room{20, 14})
	if d.High != 5000 || d.Deep != 40 {
		t.Errorf("full bars stand for %d and %d", d.High, d.Deep)
	}
	if !strings.Contains(d.Up, "v-14.0h") || !strings.Contains(d.Down, "v11.0h") || !strings.Contains(d.Down, "v3.0h") {
		t.Errorf("bars are %s above, %s below", d.Up, d.Down)
	}
	l = timeline.Lane{Bins: []timeline.Bin{{Above: 1, Below: 1}}}
	if d.draw(&l, none, 100, room{20, 14}); d.High != fewInBar || d.Deep != fewInBar {
		t.Errorf("full bars of single records stand for %d and %d", d.High, d.Deep)
	}
	// What is missing later hangs below the rest, and counts for the depth.
	l = timeline.Lane{Bins: []timeline.Bin{{Above: 30, Below: 10}}}
	if d.draw(&l, &timeline.Lane{Bins: []timeline.Bin{{Above: 30}}}, 100, room{20, 14}); d.Deep != 40 || !strings.Contains(d.Down, "M190 101.0v2.8") || !strings.Contains(d.Later, "M190 103.8v8.2") {
		t.Errorf("a bar of %d: %s, and missing later %s", d.Deep, d.Down, d.Later)
	}
}
