package record

import (
	"testing"
	"time"
)

func TestScope(t *testing.T) {
	day := func(d int) time.Time { return time.Date(2026, 9, d, 0, 0, 0, 0, time.UTC) }
	s := Scope{Kinds: []Kind{Message, Call}, From: day(1), To: day(3), Covered: []string{"+44 7700 900417"}, Privileged: []string{"+44 7700 900551"}}
	rec := func(k Kind, d int, handle string) *Record {
		r := &Record{Kind: k, Handle: handle}
		if d > 0 {
			at := day(d)
			r.At = &at
		}
		return r
	}
	for _, c := range []struct {
		r    *Record
		want Why
	}{
		{rec(Message, 1, "+44 7700 900417"), Admitted},
		{rec(Message, 2, "+44 (7700) 900-417"), Admitted}, // E.123 separators
		{rec(Message, 3, "+44 7700 900417"), OtherTime},
		{rec(Message, 0, "+44 7700 900417"), TimeUnknown},
		{rec(Contact, 1, "+44 7700 900417"), OtherKind},
		{rec(Call, 1, "+44 7700 900418"), OtherPeople},
		{rec(Call, 1, "+44 7700 900417, +44 7700 900551"), PrivilegedWith},
		{rec(Call, 9, "+447700900551"), PrivilegedWith},
		{rec(Call, 1, ""), OtherPeople},
	} {
		if got := s.Admits(c.r); got != c.want {
			t.Errorf("%s %v %q: %q, want %q", c.r.Kind, c.r.At, c.r.Handle, got, c.want)
		}
	}
	wide := Scope{Kinds: Kinds}
	if got := Admits([]Scope{s, wide}, rec(Contact, 20, "x")); got != Admitted {
		t.Errorf("a further authority: %q", got)
	}
	if got := Admits([]Scope{wide, s}, rec(Call, 1, "+44 7700 900551")); got != PrivilegedWith {
		t.Errorf("privilege under any authority: %q", got)
	}
	if got := Admits([]Scope{s, {Kinds: []Kind{Contact}, From: day(1), To: day(2)}}, rec(Message, 9, "+44 7700 900417")); got != OtherTime {
		t.Errorf("the first scope's reason: %q", got)
	}
	if got := Admits(nil, rec(Call, 1, "")); got != OtherKind {
		t.Errorf("no authority: %q", got)
	}
}
