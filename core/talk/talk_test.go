package talk

import (
	"fmt"
	"testing"
	"time"
)

func at(s string) time.Time {
	t, err := time.Parse("2006-01-02 15:04:05", "2026-09-"+s)
	if err != nil {
		panic(err)
	}
	return t
}

// Three sources of two devices: what was deleted on one and is kept on the other stands on one line with a gap, an edit
// stands with its row, and what a source could not have yet is not said to have gone. Common practice; the case is made up.
func TestAlign(t *testing.T) {
	older := Source{Device: "A", Made: at("12 03:10:00"), Said: []Said{{At: at("11 22:01:21"), Row: "1", What: "you are late", Alive: true}, {At: at("11 22:03:46"), Row: "2", What: "the side gate", Alive: true}}}
	now := Source{Device: "A", Made: at("24 20:40:00"), Said: []Said{{At: at("11 22:01:21"), Row: "1", What: "you are late, again", Alive: true}, {At: at("11 22:01:21"), Row: "1", What: "you are late", Older: true},
		{At: at("13 08:00:00"), Row: "9", What: "morning", Alive: true}}}
	other := Source{Device: "B", Made: at("22 22:12:00"), Said: []Said{{At: at("11 22:01:24"), Row: "70", What: "you are late", Alive: true}, {At: at("11 22:03:49"), Row: "71", What: "the side gate", Alive: true},
		{At: at("11 22:07:39"), Row: "72", What: "and the brass one", Alive: true}, {At: at("13 08:00:02"), Row: "73", What: "morning", Alive: true}}}
	sources := []Source{now, older, other}
	lines := Align(sources)
	want := "22:01:21[0 0 0] 22:03:46[-1 1 1] 22:07:39[-1 -1 2] 08:00:00[2 -1 3] "
	got := ""
	for _, l := range lines {
		got += l.At.Format("15:04:05") + fmt.Sprint(l.Has) + " "
	}
	if got != want {
		t.Fatalf("%s, not %s", got, want)
	}
	if fmt.Sprint(lines[0].Older) != "[[1] [] []]" {
		t.Errorf("earlier versions %v", lines[0].Older)
	}
	if from, to, ok := lines[1].Gone(sources, 0); !ok || !from.Equal(older.Made) || !to.Equal(now.Made) {
		t.Errorf("the side gate went between %s and %s, %t", from, to, ok)
	}
	if _, _, ok := lines[2].Gone(sources, 0); ok {
		t.Error("what no source of the device has is said to have gone from it")
	}
	if _, _, ok := lines[3].Gone(sources, 1); ok {
		t.Error("what came after a source was made is said to have gone from it")
	}
}

// Words that are often the same pair with those next to them, each once; others stay apart.
func TestAlignTheSameWords(t *testing.T) {
	var a, b Source
	a.Device, b.Device = "A", "B"
	for i := range 5 {
		x := at("11 20:00:00").Add(time.Duration(i) * time.Minute)
		a.Said = append(a.Said, Said{At: x, What: "ok", Alive: true})
		if i != 2 {
			b.Said = append(b.Said, Said{At: x.Add(4 * time.Second), What: "ok", Alive: true})
		}
	}
	b.Said = append(b.Said, Said{At: at("11 20:20:00"), What: "ok", Alive: true}, Said{At: at("11 20:21:00")})
	lines := Align([]Source{a, b})
	got := ""
	for _, l := range lines {
		got += fmt.Sprint(l.Has)
	}
	if got != "[0 0][1 1][2 -1][3 2][4 3][-1 4][-1 5]" {
		t.Error(got)
	}
}
