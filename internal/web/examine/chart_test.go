package examine

import (
	"strings"
	"testing"

	"crosswind/core/timeline"
)

// What was deleted in an evening is seen as depth, however much more there is above the line.
func TestDepthHasAScaleOfItsOwn(t *testing.T) {
	l := timeline.Lane{Bins: []timeline.Bin{{Above: 5000, Below: 1}, {Above: 20, Below: 40}}}
	var d lane
	d.bars(&l, 100, room{20, 14})
	if d.High != 5000 || d.Deep != 40 {
		t.Errorf("full bars stand for %d and %d", d.High, d.Deep)
	}
	if !strings.Contains(d.Up, "v-14.0h") || !strings.Contains(d.Down, "v11.0h") || !strings.Contains(d.Down, "v3.0h") {
		t.Errorf("bars are %s above, %s below", d.Up, d.Down)
	}
	l = timeline.Lane{Bins: []timeline.Bin{{Above: 1, Below: 1}}}
	if d.bars(&l, 100, room{20, 14}); d.High != fewInBar || d.Deep != fewInBar {
		t.Errorf("full bars of single records stand for %d and %d", d.High, d.Deep)
	}
}
