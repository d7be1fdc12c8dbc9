package frame

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/internal/store"

	"github.com/gin-gonic/gin"
)

// AuthorityForm is a legal authority with its scope, as a form gives it.
type AuthorityForm struct {
	Kind, IssuedBy, Number, ValidFrom, ValidTo, ScopeFrom, ScopeTo, People, Covered, Excluded, Privileged string
	Kinds                                                                                                 []string
}

// ReadAuthorityForm reads the form's fields.
func ReadAuthorityForm(c *gin.Context) AuthorityForm {
	post := func(name string) string { return strings.TrimSpace(c.PostForm(name)) }
	return AuthorityForm{post("kind"), post("issued_by"), post("number"), post("valid_from"), post("valid_to"), post("scope_from"), post("scope_to"),
		post("people"), post("covered"), post("excluded"), post("privileged"), c.PostFormArray("kinds")}
}

// Has reports whether a kind is ticked.
func (f AuthorityForm) Has(k record.Kind) bool { return slices.Contains(f.Kinds, string(k)) }

// AllKinds are the kinds that scope can name.
func (f AuthorityForm) AllKinds() []record.Kind { return record.Kinds() }

// Authority checks the form. Days are those of zone, the last one included.
func (f AuthorityForm) Authority(zone *time.Location) (store.Authority, error) {
	a := store.Authority{Kind: f.Kind, IssuedBy: f.IssuedBy, Number: f.Number, ScopeKinds: f.Kinds, ScopePeople: f.People, Excluded: f.Excluded,
		Covered: handles(f.Covered), Privileged: handles(f.Privileged)}
	switch {
	case f.Kind == "" || f.IssuedBy == "" || f.Number == "":
		return a, errors.New("the authority needs its kind, who issued it, and its number")
	case len(f.Kinds) == 0:
		return a, errors.New("the authority's scope needs at least one kind of record")
	case f.Excluded != "" && len(a.Privileged) == 0:
		return a, fmt.Errorf("name the numbers or addresses of %s: records are withheld by them", f.Excluded)
	}
	for _, k := range f.Kinds {
		if !record.Kind(k).Known() {
			return a, fmt.Errorf("%q is not a kind of record", k)
		}
	}
	for _, d := range []struct {
		name, s  string
		after    int
		optional bool
		set      func(time.Time)
	}{
		{"valid from", f.ValidFrom, 0, false, func(t time.Time) { a.ValidFrom = t }},
		{"valid to", f.ValidTo, 1, false, func(t time.Time) { a.ValidTo = t }},
		{"records from", f.ScopeFrom, 0, true, func(t time.Time) { a.ScopeFrom = &t }},
		{"records to", f.ScopeTo, 1, true, func(t time.Time) { a.ScopeTo = &t }},
	} {
		if d.optional && d.s == "" {
			continue
		}
		t, err := time.ParseInLocation("2006-01-02", d.s, zone)
		if err != nil {
			return a, fmt.Errorf("%s: %q is not a date such as 2026-09-24", d.name, d.s)
		}
		d.set(t.AddDate(0, 0, d.after))
	}
	if !a.ValidFrom.Before(a.ValidTo) {
		return a, errors.New("the authority ends before it begins")
	}
	if a.ScopeFrom != nil && a.ScopeTo != nil && !a.ScopeFrom.Before(*a.ScopeTo) {
		return a, errors.New("the dates covered end before they begin")
	}
	return a, nil
}

// handles splits a list of numbers and addresses.
func handles(s string) []string { return people.List(s, "") }
