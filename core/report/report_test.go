package report

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

var all, must = []string{"a", "b", "c", "d"}, []string{"c"}

func TestArrange(t *testing.T) {
	for _, x := range []struct {
		c    Composition
		want string
	}{
		{Composition{}, "a b c d"},
		{Composition{Order: []string{"d", "a"}}, "d a b c"}, // what is new stands behind what it usually follows
		{Composition{Order: []string{"c"}}, "a b c d"},
		{Composition{Out: []string{"b", "c"}}, "a c d"}, // what must be there is
		{Composition{Order: []string{"gone", "d", "c", "b", "a"}}, "d c b a"},
	} {
		if got := strings.Join(x.c.Arrange(all, must), " "); got != x.want {
			t.Errorf("%+v: %s, want %s", x.c, got, x.want)
		}
	}
	c := Composition{Out: []string{"b"}}
	c.Move("c", true, all, must)
	c.Move("d", false, all, must) // which is the last
	c.Move("nothing", true, all, must)
	if got := c.Arrange(all, must); !slices.Equal(got, []string{"c", "a", "d"}) {
		t.Error(got)
	}
}

func TestTimeline(t *testing.T) {
	day := func(year int) time.Time { return time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC) }
	c := Clock{time.UTC}
	x := NewTimeline(c, 10, 3, []time.Time{day(9999), day(1), day(4900), day(1)}, []bool{false, true, false, false})
	if fmt.Sprint(x.Above, x.Below) != "[1 0 0 0 1 0 0 0 0 1] [1 0 0 0 0 0 0 0 0 0]" || len(x.Ticks) != 3 || x.Ticks[0].UTC != "0001-01-01 00:00Z" || x.Ticks[2].UTC != "9999-01-01 00:00Z" {
		t.Errorf("%+v", x)
	}
	if x = NewTimeline(c, 4, 3, []time.Time{day(2026), day(2026)}, []bool{true, true}); fmt.Sprint(x.Above, x.Below, len(x.Ticks)) != "[0 0 0 0] [2 0 0 0] 1" {
		t.Errorf("of one instant: %+v", x)
	}
	if NewTimeline(c, 4, 3, nil, nil) != nil {
		t.Error("of nothing")
	}
}

func TestCheck(t *testing.T) {
	good := Composition{Questions: []Question{{"Who?", "Counsel"}}, Findings: []Finding{{"One", "It was so.", []Cite{{"1-A", 1, "x", "y"}}}}, Order: []string{"d"}}
	if err := good.Check(all); err != nil {
		t.Error(err)
	}
	for _, x := range []struct {
		says string
		c    Composition
	}{
		{`no part "e"`, Composition{Out: []string{"e"}}},
		{"title of finding 1: it says nothing", Composition{Findings: []Finding{{Title: " "}}}},
		{"question 2", Composition{Questions: []Question{{Text: "x"}, {}}}},
		{"20001 characters", Composition{Summary: strings.Repeat("é", MostText+1)}},
		{"is not text", Composition{Declaration: "a\x00"}},
		{"twice", Composition{Findings: []Finding{{"One", "", []Cite{{"1-A", 1, "x", "y"}, {"1-A", 1, "x", "z"}}}}}},
	} {
		if err := x.c.Check(all); err == nil || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%v, want %s", err, x.says)
		}
	}
}

func TestKept(t *testing.T) {
	was := Composition{Summary: "s", Findings: []Finding{{"One", "x", nil}, {"Two", "", []Cite{{"1-A", 1, "u", "d"}}}, {"Three", "", nil}}}
	b, err := was.Encode()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Decode(b)
	if err != nil || len(again.Changes(&was)) > 0 {
		t.Errorf("%+v, %v", again, err)
	}
	again.Findings = []Finding{{"One", "y", nil}, {"Four", "", nil}, {"Two", "", nil}}
	again.Out = []string{"a"}
	var got []string
	for _, x := range again.Changes(&was) {
		got = append(got, fmt.Sprintf("%s [%s > %s]", x.What, x.Was, x.Now))
	}
	want := []string{"which parts are left out [ > a]", "the words of: One [x > y]", "new: Four [ > ]", "the records of: Two (0, there were 1) [ > ]", "moved: Two [ > ]", "taken away: Three [ > ]"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if _, err := Decode([]byte("{")); err == nil {
		t.Error("what is no composition is read")
	}
}

func ExampleClock() {
	c := Clock{time.FixedZone("", 3600)}
	fmt.Println(c.At(time.Date(2026, 9, 11, 20, 58, 12, 0, time.UTC)).Words)
	// Output: 11 Sep 2026 21:58:12 +01:00 = 2026-09-11 20:58:12Z
}
