package people

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"
)

// Card is a contact: the handles on it are those of one person.
type Card struct {
	ID, Name string
	Handles  []string // in normal form
}

// Ruling is what somebody decided about handles against the cards, or beyond them. Handles
// are told by their digests, so that it can be kept where they may not be.
type Ruling struct {
	ID    int64
	Apart bool   // Handle on Card is not that person's; else Handle and Other are one person's
	Card  string // its ID, "" of handles that are brought together
	Handle, Other,
	By, Reason string
}

// Digest is what a ruling tells a handle by: SHA-256, hex.
func Digest(handle string) string {
	sum := sha256.Sum256([]byte(handle))
	return hex.EncodeToString(sum[:])
}

// Ground is why handles are one person's, and what the person is called.
type Ground struct {
	Card    *Card   // nil if it is a ruling
	Ruling  *Ruling // nil if it is a card
	Handles []string
}

// Person is somebody, as far as cards and rulings tell: one handle at least.
type Person struct {
	Handles []string // sorted
	Names   []string // that cards have, each once
	Grounds []Ground // cards in their order, then rulings
	Apart   []Ruling // by which handles of these cards are not the person's
}

// Name is what p is called: the first name, else the first handle.
func (p *Person) Name() string {
	if len(p.Names) > 0 {
		return p.Names[0]
	}
	return p.Handles[0]
}

// Gather brings handles together: those on a card, but for those that a ruling takes from it,
// and those that a ruling brings together. What shares a handle is one person; a handle that
// nothing brings to others is a person of its own. Persons come by their first handle.
func Gather(handles []string, cards []Card, rulings []Ruling) []*Person {
	up := map[string]string{}
	root := func(h string) string {
		for up[h] != h {
			up[h] = up[up[h]]
			h = up[h]
		}
		return h
	}
	add := func(h string) {
		if _, known := up[h]; h != "" && !known {
			up[h] = h
		}
	}
	join := func(hs []string) {
		for _, h := range hs[min(1, len(hs)):] {
			up[root(h)] = root(hs[0])
		}
	}
	apart := map[[2]string]*Ruling{}
	for i := range rulings {
		if r := &rulings[i]; r.Apart {
			apart[[2]string{r.Card, r.Handle}] = r
		}
	}
	for _, h := range handles {
		add(h)
	}
	var grounds []Ground
	taken := map[*Card][]Ruling{}
	for i := range cards {
		c := &cards[i]
		g := Ground{Card: c}
		for _, h := range c.Handles {
			if add(h); h == "" {
				continue
			}
			if r := apart[[2]string{c.ID, Digest(h)}]; r != nil {
				taken[c] = append(taken[c], *r)
				continue
			}
			g.Handles = append(g.Handles, h)
		}
		if join(g.Handles); len(g.Handles) > 0 {
			grounds = append(grounds, g)
		}
	}
	of := map[string]string{} // of a digest, the handle
	if len(rulings) > 0 {
		for h := range up {
			of[Digest(h)] = h
		}
	}
	for i := range rulings {
		r := &rulings[i]
		a, b := of[r.Handle], of[r.Other]
		if !r.Apart && a != "" && b != "" {
			join([]string{a, b})
			grounds = append(grounds, Ground{Ruling: r, Handles: []string{a, b}})
		}
	}
	people := map[string]*Person{}
	var out []*Person
	for h := range up {
		p := people[root(h)]
		if p == nil {
			p = &Person{}
			people[root(h)] = p
			out = append(out, p)
		}
		p.Handles = append(p.Handles, h)
	}
	for _, g := range grounds {
		p := people[root(g.Handles[0])]
		p.Grounds = append(p.Grounds, g)
		if g.Card == nil {
			continue
		}
		p.Apart = append(p.Apart, taken[g.Card]...)
		if n := g.Card.Name; n != "" && !slices.Contains(p.Names, n) {
			p.Names = append(p.Names, n)
		}
	}
	for _, p := range out {
		slices.Sort(p.Handles)
	}
	slices.SortFunc(out, func(a, b *Person) int { return strings.Compare(a.Handles[0], b.Handles[0]) })
	return out
}
