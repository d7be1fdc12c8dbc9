package examine

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// shownPeople bounds the persons of the list; the rest are found by words.
const shownPeople = 200

type peoplePage struct {
	Words   string
	Lines   []personLine
	All     int
	One     *personLine // who is looked at
	Contact map[string]store.Card
	Records map[string]int64
	Grounds []ground
}

type personLine struct {
	*people.Person
	N   int64 // records that name one of the handles, each handle counted by itself
	all *store.People
}

// Why says what brings the handles together, in words.
func (l personLine) Why() string {
	cards, rulings := map[record.Kind]int{}, 0
	for _, g := range l.Grounds {
		if g.Card != nil {
			cards[l.all.Cards[g.Card.ID].Kind]++
		} else {
			rulings++
		}
	}
	var parts []string
	add := func(n int, one, many string) {
		if n == 1 {
			parts = append(parts, "1 "+strings.ToLower(one))
		} else if n > 1 {
			parts = append(parts, fmt.Sprint(n, " ", strings.ToLower(many)))
		}
	}
	for _, k := range record.Cards() {
		add(cards[k], k.Title(), k.Plural())
	}
	add(rulings, "ruling", "rulings")
	return strings.Join(parts, ", ")
}

// ground is why handles are one person's, for the page.
type ground struct {
	people.Ground
	Contact *store.Card
}

func (a pages) people(c *gin.Context, fault error) error {
	p, err := a.Page(c, "People", "Examine")
	if err != nil {
		return err
	}
	p.Refuse(fault)
	all, err := a.Store.People(c.Request.Context(), p.Case.ID)
	if err != nil {
		return err
	}
	v := &peoplePage{Words: strings.TrimSpace(c.Query("named")), All: len(all.Persons), Contact: all.Cards, Records: all.Records}
	for _, x := range all.Persons {
		l := personLine{Person: x, all: all}
		for _, h := range x.Handles {
			l.N += all.Records[h]
		}
		if v.Words == "" || matches(x, v.Words) {
			v.Lines = append(v.Lines, l)
		}
		if of := c.Query("of"); of != "" && slices.Contains(x.Handles, of) {
			v.One = &l
			for _, g := range x.Grounds {
				k := ground{Ground: g}
				if g.Card != nil {
					r := all.Cards[g.Card.ID]
					k.Contact = &r
				}
				v.Grounds = append(v.Grounds, k)
			}
		}
	}
	if c.Query("of") != "" && v.One == nil && fault == nil {
		p.Fault = "No record of this case names " + c.Query("of") + "."
	}
	slices.SortStableFunc(v.Lines, func(x, y personLine) int { return int(min(max(y.N-x.N, -1), 1)) })
	v.Lines = v.Lines[:min(len(v.Lines), shownPeople)]
	p.Content, p.Views = v, views(p, "people")
	return a.Render(c, files, p, "people.html")
}

// matches reports whether a person has a name or a handle that contains some text.
func matches(x *people.Person, text string) bool {
	has := func(s string) bool { return strings.Contains(strings.ToLower(s), strings.ToLower(text)) }
	return slices.ContainsFunc(x.Names, has) || slices.ContainsFunc(x.Handles, has)
}

// rule keeps a ruling on persons, or takes one back.
func (a pages) rule(c *gin.Context) error {
	ctx := c.Request.Context()
	cs := frame.CaseOf(c)
	post := func(name string) string { return strings.TrimSpace(c.PostForm(name)) }
	of, reason := post("of"), post("reason")
	err := func() error {
		if reason == "" {
			return errors.New("a ruling needs its reason: the ledger keeps it")
		}
		if id := post("undo"); id != "" {
			n, err := strconv.ParseInt(id, 10, 64)
			if err != nil {
				return fmt.Errorf("ruling %q: %w", id, store.ErrNotFound)
			}
			return a.Store.Unrule(ctx, cs, n, frame.By(c), reason)
		}
		all, err := a.Store.People(ctx, cs.ID)
		if err != nil {
			return err
		}
		one := all.Of(of)
		if one == nil {
			return fmt.Errorf("%q is nobody's handle in this case", of)
		}
		r := people.Ruling{Card: post("card"), Handle: people.Digest(post("handle")), By: frame.By(c), Reason: reason}
		if r.Apart = r.Card != ""; r.Apart {
			if !slices.ContainsFunc(one.Grounds, func(g people.Ground) bool {
				return g.Card != nil && g.Card.ID == r.Card && slices.Contains(g.Handles, post("handle"))
			}) {
				return fmt.Errorf("%q is not on that contact", post("handle"))
			}
			return a.Store.Rule(ctx, cs, r)
		}
		other := all.Of(post("other"))
		if other == nil {
			return fmt.Errorf("%q is nobody's handle in this case: write it as the list does", post("other"))
		}
		if other == one {
			return fmt.Errorf("%s and %s are one person's already", of, post("other"))
		}
		r.Handle, r.Other = people.Digest(of), people.Digest(post("other"))
		return a.Store.Rule(ctx, cs, r)
	}()
	if errors.Is(err, store.ErrSent) {
		err = nil
	}
	if err != nil {
		c.Request.URL.RawQuery = url.Values{"of": {of}}.Encode()
		return a.people(c, err)
	}
	c.Redirect(http.StatusSeeOther, frame.Address("/case/"+cs.Reference+"/people", url.Values{}, "of", of))
	return nil
}
