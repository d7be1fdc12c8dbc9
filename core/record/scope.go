package record

import (
	"slices"
	"strings"
	"time"
)

// Scope is what one authority covers. It is a rule: a record outside is
// withheld and counted, not shown.
type Scope struct {
	Kinds      []Kind    // that may be looked at; none: no kind
	From, To   time.Time // of a record's time, To not included; the zero time is no bound
	Covered    []string  // handles of the people covered; none: everybody
	Privileged []string  // handles of people whose records are withheld whatever else is covered
}

// Why says why a record is withheld. The words are for counts on pages and in
// reports.
type Why string

const (
	Admitted       Why = ""
	PrivilegedWith Why = "with a privileged person"
	OtherKind      Why = "of a kind not covered"
	OtherTime      Why = "outside the dates covered"
	TimeUnknown    Why = "without a time, where dates are limited"
	OtherPeople    Why = "with people not covered"
	NotAskedFor    Why = "deleted, where live records only were chosen"
)

// Handle brings a number or address into the form in which handles are
// compared: without white space, brackets, dots and dashes in numbers (E.123
// section 6 allows these as separators), addresses in lower case.
func Handle(s string) string {
	s = strings.TrimSpace(s)
	if strings.Contains(s, "@") {
		return strings.ToLower(s)
	}
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(" \t\u00a0\u202f().-/", r) {
			return -1
		}
		return r
	}, s)
}

// handles are those of a record: a contact may have several.
func (r *Record) handles() []string {
	var out []string
	for h := range strings.SplitSeq(r.Handle, ",") {
		if h = Handle(h); h != "" {
			out = append(out, h)
		}
	}
	return out
}

func among(hs, list []string) bool {
	return slices.ContainsFunc(list, func(l string) bool { return slices.Contains(hs, Handle(l)) })
}

// Admits says whether s covers r, and if not, why.
func (s *Scope) Admits(r *Record) Why {
	hs := r.handles()
	limited := !s.From.IsZero() || !s.To.IsZero()
	switch {
	case among(hs, s.Privileged):
		return PrivilegedWith
	case !slices.Contains(s.Kinds, r.Kind):
		return OtherKind
	case limited && r.At == nil:
		return TimeUnknown
	case limited && (!s.From.IsZero() && r.At.Before(s.From) || !s.To.IsZero() && !r.At.Before(s.To)):
		return OtherTime
	case len(s.Covered) > 0 && !among(hs, s.Covered):
		return OtherPeople
	}
	return Admitted
}

// Admits says whether any of the scopes covers r. A person who is privileged
// under one authority is so under all: a later one does not lift it unseen. If
// none covers r, the reason is the first scope's.
func Admits(scopes []Scope, r *Record) Why {
	why := OtherKind // no authority: nothing is covered
	for i := range scopes {
		switch w := scopes[i].Admits(r); {
		case w == PrivilegedWith:
			return w
		case i == 0, w == Admitted:
			why = w
		}
	}
	return why
}
