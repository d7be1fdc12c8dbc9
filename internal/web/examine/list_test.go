package examine

import (
	"net/url"
	"slices"
	"testing"

	"crosswind/internal/web/frame"
)

// A list in parts has every row once, in its order, whatever the address asks for.
func TestPart(t *testing.T) {
	all := make([]int, 300)
	for i := range all {
		all[i] = i
	}
	var got []int
	next := "/x?table=line"
	for n := 0; next != ""; n++ {
		at, err := url.Parse(next)
		if err != nil || n > 20 {
			t.Fatal(next, err)
		}
		var some []int
		some, next = part(&frame.Page{Path: at.Path, Query: at.Query(), Tall: 843}, all, 0, underViews)
		if n == 0 && len(some) != 22 || at.Query().Get("table") != "line" {
			t.Errorf("part %d of %q has %d rows", n, at, len(some))
		}
		got = append(got, some...)
	}
	if !slices.Equal(got, all) {
		t.Errorf("in parts it has %d rows", len(got))
	}
	for _, skip := range []string{"", "-1", "0", "x", "299", "300", "9223372036854775807", "9223372036854775808"} {
		some, next := part(&frame.Page{Path: "/x", Query: url.Values{"skip": {skip}}}, all, 50, underMap)
		if want := map[string]int{"299": 1, "300": 0, "9223372036854775807": 0}; len(some) != 50 && len(some) != want[skip] || (len(some) == 50) != (next != "") {
			t.Errorf("skip=%s: %d rows, then %q", skip, len(some), next)
		}
	}
}
