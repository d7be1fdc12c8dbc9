package timeline_test

import (
	"fmt"
	"time"

	"crosswind/core/timeline"
)

func ExampleTicks() {
	w := timeline.Window{From: time.Date(2026, 9, 11, 19, 0, 0, 0, time.UTC), To: time.Date(2026, 9, 11, 23, 0, 0, 0, time.UTC)}
	for _, t := range timeline.Ticks(w, time.UTC, 6) {
		fmt.Println(t.Label)
	}
	// Output:
	// 11 Sep 19:00
	// 20:00
	// 21:00
	// 22:00
}
