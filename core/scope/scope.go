// Package scope is the one gate through which values and bytes of evidence pass on
// their way to a page, an event, an export or a package: what may be seen of a
// record, a file, a page or a range, under the authorities as they are now.
//
// What is not known is withheld: a record without a time where dates are limited, one
// whose party did not survive where people are, and every byte that no reading
// accounts for where anything is. The gate decides; it keeps nothing.
package scope

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
)

// Why says why something is withheld. The words are for counts on pages and in
// reports.
type Why string

// The reasons. A privileged person comes first.
const (
	Admitted       Why = ""
	PrivilegedWith Why = "with a privileged person"
	OtherKind      Why = "of a kind not covered"
	OtherTime      Why = "outside the dates covered"
	TimeUnknown    Why = "without a time, where dates are limited"
	OtherPeople    Why = "with people not covered"
	PartyUnknown   Why = "with an unknown party or conversation, where people are limited or privileged"
	NotAskedFor    Why = "deleted, where live records only were chosen"
)

// Authority is what one legal authority covers.
type Authority struct {
	ID         int64
	Number     string
	From, To   time.Time     // in force, To not included
	Kinds      []record.Kind // that may be looked at; none: no kind
	Begin, End time.Time     // of a record's time, End not included; the zero time is not a bound
	Covered    []string      // handles of the people covered; none: everybody
	Privileged []string      // handles of people whose records are withheld whatever else is covered
}

// Gate is the authorities of a case at a moment.
type Gate struct {
	covering   []Authority // that have begun
	privileged []string    // under any, begun or not: to withhold needs no date
}

// New makes the gate of the authorities at a moment. One that has not begun covers
// nothing yet. One that has ended goes on covering what was acquired while it was in
// force; InForce says whether anything new may be read.
func New(all []Authority, now time.Time) *Gate {
	g := &Gate{}
	for _, a := range all {
		a.Covered = normal(a.Covered)
		g.privileged = append(g.privileged, normal(a.Privileged)...)
		if !now.Before(a.From) {
			g.covering = append(g.covering, a)
		}
	}
	return g
}

// AsOf is the gate as it was for a reading: coverage by the authorities up to last
// that had begun at a moment, privilege as it is now. Narrowing acts at once, and
// widening waits for the next reading.
func AsOf(all []Authority, last int64, at time.Time) *Gate {
	g := New(all, at)
	g.covering = slices.DeleteFunc(g.covering, func(a Authority) bool { return a.ID > last })
	return g
}

func normal(handles []string) (out []string) {
	for _, h := range handles {
		if n := people.Normal(h, ""); n != "" {
			out = append(out, n)
		}
	}
	return out
}

// ErrNoAuthority is wrapped where nothing may be read because no authority is in
// force.
var ErrNoAuthority = errors.New("no authority is in force")

// ErrWithheld is wrapped where what was made before may not be handed out any more.
var ErrWithheld = errors.New("withheld")

// InForce says why nothing new may be acquired or recovered at a moment, nil if an
// authority is in force.
func InForce(all []Authority, now time.Time) error {
	var said []string
	for _, a := range all {
		switch {
		case now.Before(a.From):
			said = append(said, fmt.Sprintf("%s begins on %s", a.Number, a.From.UTC().Format(time.RFC3339)))
		case !now.Before(a.To):
			said = append(said, fmt.Sprintf("%s ended on %s", a.Number, a.To.UTC().Format(time.RFC3339)))
		default:
			return nil
		}
	}
	if len(said) == 0 {
		said = []string{"the case has none"}
	}
	return fmt.Errorf("%w: %s", ErrNoAuthority, strings.Join(said, ", "))
}

// Subject is what the gate asks of a record. Parties and members are handles in the
// normal form of package people.
type Subject struct {
	Kind    record.Kind
	At      *time.Time
	Parties []string
	Members []string // of its conversation, as far as any reading knows
	Lost    bool     // which conversation it was of did not survive
	Place   string   // where it was found: see package record
}

// alone reports whether it is of a kind that names nobody, or of one that needs nobody, and its
// bytes are whole, so that nobody was lost.
func (s Subject) alone() bool {
	return s.Kind.About().Nobody || s.Kind.About().Alone && (s.Place == "live" || s.Place == record.PlacePart)
}

// SubjectOf is what the gate asks of r, whose database has the members of each of its conversations.
func SubjectOf(r *record.Record, members map[string][]string) Subject {
	s := Subject{Kind: r.Kind, At: r.At(), Parties: r.Handles(), Lost: r.ThreadLost(), Place: r.Origin().Place}
	if k := r.Thread(); k != "" {
		s.Members = members[k]
	}
	return s
}

// Record says why a record is withheld.
func (g *Gate) Record(s Subject) Why {
	if g.Privileged(s.Parties) || g.Privileged(s.Members) {
		return PrivilegedWith
	}
	parties := s.Parties
	if len(parties) == 0 {
		parties = s.Members
	}
	unknown := len(parties) == 0 && !s.alone() || s.Lost
	why := OtherKind // no authority: nothing is covered
	for i := range g.covering {
		switch w := g.covering[i].admits(s, parties); {
		case w == Admitted:
			if unknown && len(g.privileged) > 0 {
				return PartyUnknown
			}
			return Admitted
		case i == 0:
			why = w
		}
	}
	return why
}

func (a *Authority) admits(s Subject, parties []string) Why {
	limited := !a.Begin.IsZero() || !a.End.IsZero()
	switch {
	case !slices.Contains(a.Kinds, s.Kind):
		return OtherKind
	case limited && s.At == nil:
		return TimeUnknown
	case limited && (!a.Begin.IsZero() && s.At.Before(a.Begin) || !a.End.IsZero() && !s.At.Before(a.End)):
		return OtherTime
	case len(a.Covered) > 0 && len(parties) == 0:
		return PartyUnknown
	case len(a.Covered) > 0 && !among(parties, a.Covered, people.Same):
		return OtherPeople
	}
	return Admitted
}

// Privileged reports whether any of the handles is of a privileged person, or may be. What
// is covered must be certain, and what is withheld need not be.
func (g *Gate) Privileged(handles []string) bool { return among(handles, g.privileged, people.MayBe) }

func among(hs, list []string, one func(a, b string) bool) bool {
	return slices.ContainsFunc(list, func(l string) bool {
		return slices.ContainsFunc(hs, func(h string) bool { return one(h, l) })
	})
}

// Limits says what is limited, in words; nothing if everything may be seen.
func (g *Gate) Limits() []string {
	if len(g.covering) == 0 {
		return []string{"everything, since no authority has begun"}
	}
	var least []string
	for i := range g.covering {
		if l := g.covering[i].limits(); i == 0 || len(l) < len(least) {
			least = l
		}
	}
	if len(g.privileged) > 0 {
		least = append(slices.Clone(least), "privileged people")
	}
	return least
}

func (a *Authority) limits() (out []string) {
	if slices.ContainsFunc(record.Kinds(), func(k record.Kind) bool { return !slices.Contains(a.Kinds, k) }) {
		out = append(out, "kinds")
	}
	if !a.Begin.IsZero() || !a.End.IsZero() {
		out = append(out, "dates")
	}
	if len(a.Covered) > 0 {
		out = append(out, "people")
	}
	return out
}
