package scope

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
)

func day(d int) time.Time { return time.Date(2026, 9, d, 0, 0, 0, 0, time.UTC) }

// sub is a record with the parties of a list, under the home country GB.
func sub(k record.Kind, d int, handles string) Subject {
	s := Subject{Kind: k, Parties: people.List(handles, "GB")}
	if d > 0 {
		at := day(d)
		s.At = &at
	}
	return s
}

func TestRecord(t *testing.T) {
	narrow := Authority{ID: 1, From: day(1), To: day(30), Kinds: []record.Kind{record.Message, record.Call}, Begin: day(1), End: day(3),
		Covered: []string{"+44 7700 900417"}, Privileged: []string{"+44 7700 900551"}}
	wide := Authority{ID: 2, From: day(1), To: day(30), Kinds: record.Kinds()}
	members := func(s Subject, handles string) Subject { s.Members = people.List(handles, "GB"); return s }
	lost := sub(record.Message, 1, "+44 7700 900417")
	lost.Lost = true
	for _, c := range []struct {
		all  []Authority
		s    Subject
		want Why
	}{
		{[]Authority{narrow}, sub(record.Message, 1, "+44 7700 900417"), Admitted},
		{[]Authority{narrow}, sub(record.Message, 2, "+44 (7700) 900-417"), Admitted},
		{[]Authority{narrow}, sub(record.Message, 2, "07700 900417"), Admitted},
		{[]Authority{narrow}, sub(record.Message, 3, "+44 7700 900417"), OtherTime},
		{[]Authority{narrow}, sub(record.Message, 0, "+44 7700 900417"), TimeUnknown},
		{[]Authority{narrow}, sub(record.Contact, 1, "+44 7700 900417"), OtherKind},
		{[]Authority{narrow}, sub(record.Call, 1, "+44 7700 900418"), OtherPeople},
		{[]Authority{narrow}, sub(record.Call, 1, ""), PartyUnknown},
		{[]Authority{narrow}, lost, PartyUnknown},
		{[]Authority{narrow}, members(sub(record.Message, 1, ""), "+44 7700 900417"), Admitted},
		{[]Authority{narrow}, sub(record.Message, 1, "900417"), OtherPeople}, // which others end with, too
		{[]Authority{narrow}, sub(record.Message, 1, "900551"), PrivilegedWith},
		{[]Authority{narrow}, sub(record.Message, 1, "447700900551@chat.example"), PrivilegedWith},
		// Privilege, in every form of the number, and of the conversation as a whole.
		{[]Authority{narrow}, sub(record.Call, 1, "+44 7700 900417, +44 7700 900551"), PrivilegedWith},
		{[]Authority{narrow}, sub(record.Call, 9, "0044 7700 900551"), PrivilegedWith},
		{[]Authority{narrow}, sub(record.Call, 1, "07700 900551"), PrivilegedWith},
		{[]Authority{narrow}, sub(record.Call, 1, "\u202a+44 7700\u2011900551\u202c"), PrivilegedWith},
		{[]Authority{narrow}, members(sub(record.Message, 1, "+44 7700 900417"), "+44 7700 900551"), PrivilegedWith},
		{[]Authority{narrow}, members(sub(record.Message, 1, ""), "+44 7700 900417, 07700 900551"), PrivilegedWith},
		{[]Authority{narrow, wide}, sub(record.Contact, 20, "x"), Admitted},
		{[]Authority{wide, narrow}, sub(record.Call, 1, "+44 7700 900551"), PrivilegedWith},
		{[]Authority{wide, narrow}, sub(record.Call, 20, ""), PartyUnknown}, // somebody is privileged
		{[]Authority{wide}, sub(record.Call, 20, ""), Admitted},
		{nil, sub(record.Call, 1, "x"), OtherKind},
	} {
		if got := New(c.all, day(10)).Record(c.s); got != c.want {
			t.Errorf("%s %v %q in %q: %q, want %q", c.s.Kind, c.s.At, c.s.Parties, c.s.Members, got, c.want)
		}
	}
}

// An authority that has not begun covers nothing, and privileges at once; one that has
// ended lets nothing new be read.
func TestMoments(t *testing.T) {
	now := Authority{ID: 1, Number: "N 1", From: day(1), To: day(5), Kinds: []record.Kind{record.Call}}
	later := Authority{ID: 2, Number: "N 2", From: day(20), To: day(30), Kinds: record.Kinds(), Privileged: []string{"+44 7700 900551"}}
	all := []Authority{now, later}
	if w := New(all, day(2)).Record(sub(record.Message, 1, "x")); w != OtherKind {
		t.Error("covered before it begins: ", w)
	}
	if w := New(all, day(2)).Record(sub(record.Call, 1, "07700 900551")); w != PrivilegedWith {
		t.Error("not privileged before it begins: ", w)
	}
	if w := New(all, day(21)).Record(sub(record.Message, 1, "x")); w != Admitted {
		t.Error(w)
	}
	// A reading that knew the first alone does not widen by the second.
	if w := AsOf(all, 1, day(21)).Record(sub(record.Message, 1, "x")); w != OtherKind {
		t.Error(w)
	}
	for d, want := range map[int]bool{2: true, 5: false, 10: false, 20: true, 30: false} {
		if err := InForce(all, day(d)); (err == nil) != want || err != nil && !errors.Is(err, ErrNoAuthority) {
			t.Errorf("day %d: %v", d, err)
		}
	}
}

func TestView(t *testing.T) {
	open := New([]Authority{{From: day(1), Kinds: record.Kinds()}}, day(2))
	limited := New([]Authority{{From: day(1), Kinds: record.Kinds(), Begin: day(1)}}, day(2))
	for name, c := range map[string]struct {
		g    *Gate
		r    Reading
		want string
	}{
		"nothing limited": {open, Reading{}, "0123456789"}, "live only": {open, Reading{Full: true, LiveOnly: true}, "\x00\x0023\x00\x00\x0078\x00"},
		"read fully": {limited, Reading{Full: true}, "\x00\x0023\x00\x00\x0078\x00"}, "light pass": {limited, Reading{}, "\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"},
		"no authority": {New(nil, day(2)), Reading{Full: true}, "\x00\x0023\x00\x00\x0078\x00"},
	} {
		b := []byte("0123456789")
		v := c.g.View(c.r, []Range{{107, 109}, {102, 104}, {104, 104}, {-5, 1}})
		hidden := v.Hidden(b, 100)
		if string(b) != c.want || v.Whole() != (hidden == nil) || slices.Contains(hidden, true) == (v.Why() == "") {
			t.Errorf("%s: %q, %v, %q", name, b, hidden, v.Why())
		}
	}
}

// A reading changes nothing of why a whole file is withheld.
func TestWhole(t *testing.T) {
	open := New([]Authority{{From: day(1), Kinds: record.Kinds()}}, day(2))
	limited := New([]Authority{{From: day(1), Kinds: record.Kinds()[:1]}}, day(2))
	if open.Whole(false) != "" || open.Whole(true) == "" || limited.Whole(false) == "" || strings.Contains(limited.Whole(false), "full pass") {
		t.Errorf("%q, %q, %q", open.Whole(false), open.Whole(true), limited.Whole(false))
	}
}

func ExampleGate_Record() {
	begun := time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)
	g := New([]Authority{{From: begun, Kinds: record.Kinds(), Privileged: []string{"+44 7700 900551"}}}, begun)
	fmt.Println(g.Record(Subject{Kind: record.Call, At: &begun, Parties: people.List("07700 900551", "GB")}))
	// Output: with a privileged person
}
