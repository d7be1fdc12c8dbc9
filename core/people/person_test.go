package people

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

func gathered(handles []string, cards []Card, rulings []Ruling) string {
	var out []string
	for _, p := range Gather(handles, cards, rulings) {
		out = append(out, fmt.Sprintf("%s: %s (%d)", p.Name(), strings.Join(p.Handles, " "), len(p.Grounds)))
	}
	return strings.Join(out, "; ")
}

// Cards bring handles together, and rulings go before them, either way; taking one back gives
// what was.
func TestGather(t *testing.T) {
	handles := []string{"+1", "+2", "+3", "a@b", "c"}
	cards := []Card{{"x", "Ketil", []string{"+1", "a@b"}}, {"y", "K.", []string{"a@b", "+2"}}, {"z", "Maren", []string{"+3"}}, {"e", "Nobody", nil}}
	plain := "Ketil: +1 +2 a@b (2); Maren: +3 (1); c: c (0)"
	apart := Ruling{Apart: true, Card: "y", Handle: Digest("a@b")}
	together := Ruling{Handle: Digest("c"), Other: Digest("+3")}
	for _, c := range []struct {
		rulings []Ruling
		want    string
	}{
		{nil, plain},
		{[]Ruling{apart}, "Ketil: +1 a@b (1); K.: +2 (1); Maren: +3 (1); c: c (0)"},
		{[]Ruling{together}, "Ketil: +1 +2 a@b (2); Maren: +3 c (2)"},
		{[]Ruling{apart, together}, "Ketil: +1 a@b (1); K.: +2 (1); Maren: +3 c (2)"},
		{[]Ruling{{Handle: Digest("gone"), Other: Digest("+3")}, {Apart: true, Card: "gone", Handle: Digest("+1")}}, plain},
	} {
		if got := gathered(handles, cards, c.rulings); got != c.want {
			t.Errorf("%+v: %s, want %s", c.rulings, got, c.want)
		}
	}
	back := slices.Clone(handles)
	slices.Reverse(back)
	if got := gathered(back, cards, nil); got != plain {
		t.Errorf("in another order: %s", got)
	}
	if p := Gather(nil, cards, []Ruling{apart}); len(p[1].Apart) != 1 {
		t.Errorf("the ruling is not told with the card's person: %+v", p[1])
	}
}
