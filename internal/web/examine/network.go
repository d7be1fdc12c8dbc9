package examine

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"net/url"
	"slices"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// The measures of the network.
const (
	netWidth  = 888
	netHeight = 536
	netPeople = 28 // persons that are drawn: those with most in the whole case
	netThick  = 16.0
)

// network is who had contact with whom, in what the chart shows.
type network struct {
	Width, Height int
	Phones        []netNode
	People        []netNode
	Lines         []netLine
	Further       []netFurther // persons who are not drawn and have something here
	N             int64
	Person        *netPerson
}

type netNode struct {
	X, Y     float64
	Name     string
	Sub      string // below the name
	Address  string
	Anchor   string  // of the name: start, middle or end
	DX, DY   float64 // from the mark to the name
	N, Below int64
	Chosen   bool
}

// TextX and TextY are where the name stands, and SubY where the line below it.
func (x netNode) TextX() float64 { return round1(x.X + x.DX) }
func (x netNode) TextY() float64 { return round1(x.Y + x.DY) }
func (x netNode) SubY() float64  { return x.TextY() + 12 }

// netLine is a half of a line: what went one way, and how much of that lies below.
type netLine struct {
	D, Below string
	Words    string
	Quiet    bool // somebody else is chosen
}

type netFurther struct {
	Name, Address string
	N             int64
}

// netPerson is who is chosen.
type netPerson struct {
	*people.Person
	In, Out, Neither, Below int64
	First, Last             *time.Time
	Hours                   []netHour
	Page, List              string // addresses
}

type netHour struct {
	X, Y  int
	Shade int
	Words string
}

func (a pages) network(ctx context.Context, p *frame.Page, v *content) (*network, error) {
	g := &network{Width: netWidth, Height: netHeight}
	all, err := a.Store.People(ctx, p.Case.ID)
	if err != nil {
		return nil, err
	}
	f := v.Filter
	f.Parties = nil // whoever is chosen is seen among the others
	var had []store.Contacts
	for _, k := range v.clocks {
		some, err := a.Store.Contacts(ctx, k.filter(f))
		if err != nil {
			return nil, err
		}
		had = append(had, some...)
	}
	persons := slices.Clone(all.Persons)
	total := func(x *people.Person) (n int64) {
		for _, h := range x.Handles {
			n += all.Records[h]
		}
		return n
	}
	// By what they have in the whole case, so that nobody moves when the chart does.
	slices.SortStableFunc(persons, func(x, y *people.Person) int { return cmp.Compare(total(y), total(x)) })
	of := map[string]int{}
	for i, x := range persons {
		for _, h := range x.Handles {
			of[h] = i
		}
	}
	phones := map[int64]int{}
	for _, e := range p.Exhibits {
		if id := v.Filter.Exhibit; id != 0 && id != e.ID || !slices.ContainsFunc(had, func(c store.Contacts) bool { return c.ExhibitID == e.ID }) {
			continue
		}
		phones[e.ID] = len(g.Phones)
		g.Phones = append(g.Phones, netNode{Name: e.Reference, Sub: e.Kind, Anchor: "middle", DY: 4})
	}
	for i := range g.Phones {
		g.Phones[i].X, g.Phones[i].Y = netWidth*float64(i+1)/float64(len(g.Phones)+1), netHeight/2
	}
	type way struct {
		phone, person int
		direction     string
	}
	ways := map[way]*store.Contacts{}
	var order []way
	more := map[int]int64{}
	most := int64(1)
	for _, c := range had {
		i, known := of[c.Handle]
		if !known {
			continue
		}
		g.N += c.N
		if i >= netPeople {
			more[i] += c.N
			continue
		}
		k := way{phones[c.ExhibitID], i, c.Direction}
		if ways[k] == nil {
			ways[k] = &store.Contacts{Direction: c.Direction}
			order = append(order, k)
		}
		ways[k].N, ways[k].Below = ways[k].N+c.N, ways[k].Below+c.Below
		most = max(most, ways[k].N)
	}
	n := min(len(persons), netPeople)
	for i, x := range persons[:n] {
		node := netNode{Name: x.Name(), Address: p.Keep("person", x.Handles[0], "after", "", "r", "", "o", "")}
		if len(x.Names) > 0 {
			node.Sub = x.Handles[0]
			if len(x.Handles) > 1 {
				node.Sub += fmt.Sprintf(" and %d more", len(x.Handles)-1)
			}
		}
		node.place(i, n)
		node.Chosen = v.Person != nil && slices.Contains(v.Person.Handles, x.Handles[0])
		g.People = append(g.People, node)
	}
	slices.SortFunc(order, func(a, b way) int {
		return cmp.Or(cmp.Compare(a.phone, b.phone), cmp.Compare(a.person, b.person), cmp.Compare(a.direction, b.direction))
	})
	for _, k := range order {
		c, from, to := ways[k], g.Phones[k.phone], &g.People[k.person]
		to.N, to.Below = to.N+c.N, to.Below+c.Below
		l := half(from, *to, c, netThick*math.Sqrt(float64(c.N)/float64(most)))
		l.Words = fmt.Sprintf("%s, %s: %d %s", from.Name, to.Name, c.N, map[string]string{"in": "came in", "out": "went out", "": "of no known direction"}[c.Direction])
		if c.Below > 0 {
			l.Words += fmt.Sprintf(", %d below", c.Below)
		}
		l.Quiet = v.Person != nil && !to.Chosen
		g.Lines = append(g.Lines, l)
	}
	for i, n := range more {
		g.Further = append(g.Further, netFurther{persons[i].Name(), p.Keep("person", persons[i].Handles[0], "after", "", "r", "", "o", ""), n})
	}
	slices.SortFunc(g.Further, func(a, b netFurther) int { return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(a.Name, b.Name)) })
	if v.Person != nil {
		g.Person, err = a.habits(ctx, p, v, had)
	}
	return g, err
}

// place puts the i-th of n persons on one of two arcs, from above; names stand outside.
func (x *netNode) place(i, n int) {
	const margin = 30.0
	rows := float64((n + 1) / 2)
	down := (float64(i/2) + 0.5) / rows // of its arc
	x.Y = round1(margin + down*(netHeight-2*margin))
	out := math.Sqrt(1 - math.Pow((down-0.5)*1.7, 2))
	x.DY = 1
	if x.X, x.Anchor, x.DX = round1(netWidth/2+40+out*(netWidth/2-210)), "start", 9; i%2 == 1 {
		x.X, x.Anchor, x.DX = netWidth-x.X, "end", -9
	}
}

// cut shortens a name to what there is room for.
func cut(s string) string {
	if r := []rune(s); len(r) > 22 {
		return string(r[:21]) + "…"
	}
	return s
}

// half draws what went one way: in on the person's half of the line, out on the phone's, and what has no direction in its
// middle. What lies below is the part of it that begins where the line's middle is.
func half(phone, person netNode, c *store.Contacts, thick float64) netLine {
	thick = max(thick, 1)
	from, to := 0.0, 0.5
	switch c.Direction {
	case "in":
		from, to = 1, 0.5
	case "":
		from, to = 0.4, 0.6
	}
	dx, dy := person.X-phone.X, person.Y-phone.Y
	long := math.Max(1, math.Hypot(dx, dy))
	ox, oy := -dy/long*thick/2, dx/long*thick/2
	bar := func(a, b float64) string {
		x1, y1, x2, y2 := phone.X+a*dx, phone.Y+a*dy, phone.X+b*dx, phone.Y+b*dy
		return fmt.Sprintf("M%.1f %.1fL%.1f %.1fL%.1f %.1fL%.1f %.1fz", x1+ox, y1+oy, x2+ox, y2+oy, x2-ox, y2-oy, x1-ox, y1-oy)
	}
	l := netLine{D: bar(from, to)}
	if c.Below > 0 {
		l.Below = bar(to-(to-from)*max(0.06, float64(c.Below)/float64(c.N)), to)
	}
	return l
}

// Short is the name as it is drawn.
func (x netNode) Short() string { return cut(x.Name) }

// habits says of the chosen person how much there was, when first and last, and at which hours of the week.
func (a pages) habits(ctx context.Context, p *frame.Page, v *content, had []store.Contacts) (*netPerson, error) {
	x := &netPerson{Person: v.Person, Page: "/case/" + p.Case.Reference + "/people?of=" + url.QueryEscape(v.Person.Handles[0]), List: p.Keep("view", "", "after", "")}
	for _, c := range had {
		if !slices.Contains(v.Person.Handles, c.Handle) {
			continue
		}
		switch c.Direction {
		case "in":
			x.In += c.N
		case "out":
			x.Out += c.N
		default:
			x.Neither += c.N
		}
		x.Below += c.Below
	}
	f := v.Filter
	if len(f.Kinds) == 0 {
		f.Kinds = record.KindsOf(func(a record.About) bool { return a.Group == record.Talk })
	}
	var err error
	if x.First, x.Last, err = a.extent(ctx, v.clocks, f); err != nil {
		return nil, err
	}
	hours, most := map[[2]int]int64{}, int64(1)
	for _, k := range v.clocks {
		hs, err := a.Store.Habits(ctx, k.filter(v.Filter), p.Zone)
		if err != nil {
			return nil, err
		}
		for _, h := range hs {
			at := [2]int{h.Weekday, h.Hour}
			hours[at] += h.N
			most = max(most, hours[at])
		}
	}
	days := []string{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"}
	for d := range days {
		for h := range 24 {
			n := hours[[2]int{d + 1, h}]
			shade := 0
			if n > 0 {
				shade = 1 + int(3*math.Sqrt(float64(n)/float64(most))+0.5)
			}
			x.Hours = append(x.Hours, netHour{h * 13, d * 13, shade, fmt.Sprintf("%s %02d:00 to %02d:00: %d", days[d], h, h+1, n)})
		}
	}
	return x, nil
}
