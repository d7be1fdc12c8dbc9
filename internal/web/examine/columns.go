package examine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// listColumn is a column of the list. Those with a name of Crosswind's own are in lower case; others are columns of kinds,
// see [record.Record.Column].
type listColumn struct {
	Name, Title, Width string
	Sort               string // address of the list in its order, "" if it has none
	Sorted             string // ascending or descending, if the list is in it
	On                 bool   // it is shown
}

// ownColumns are those that a list of any kind can have. The first is always there.
var ownColumns = []listColumn{
	{Name: "time", Title: "Time"},
	{Name: "utc", Title: "UTC"},
	{Name: "kind", Title: "Kind"},
	{Name: "people", Title: "People"},
	{Name: "handle", Title: "Handle"},
	{Name: "conversation", Title: "Conversation"},
	{Name: "what", Title: "What"},
	{Name: "file", Title: "Read from"},
	{Name: "bytes", Title: "Bytes"},
	{Name: "types", Title: "File types"},
	{Name: "mark", Title: "Marked because"},
	{Name: "state", Title: "State"},
	{Name: "source", Title: "Source"},
	{Name: "exhibit", Title: "Exhibit"},
}

// Where the columns of kinds stand: behind people, whatever else is chosen.
var beforeKinds = []string{"time", "utc", "kind", "people", "handle", "conversation"}

// ownWidth is the width of the columns of kinds.
const ownWidth = "w-[100px]"

// columnWidths are the widths of columns in pixels; what has none shares what is left.
var columnWidths = map[string]string{"time": "w-[184px]", "utc": "w-[94px]", "kind": "w-[100px]", "people": "w-[124px]", "handle": "w-[140px]", "conversation": "w-[128px]", "file": "w-[190px]", "bytes": "w-[92px]",
	"types": "w-[120px]", "mark": "w-[150px]", "state": "w-[142px]", "source": "w-[104px]", "exhibit": "w-[60px]", record.AtPlace: "w-[190px]"}

// columns says what the list has: what the address says, else what all kinds have, or of one kind its own.
func (a pages) columns(ctx context.Context, p *frame.Page, v *content) error {
	kinds, err := a.Store.Kinds(ctx, v.Filter.CaseID)
	if err != nil {
		return err
	}
	if len(v.Filter.Kinds) > 0 {
		kinds = slices.DeleteFunc(kinds, func(k record.Kind) bool { return !slices.Contains(v.Filter.Kinds, string(k)) })
	}
	usual := []string{"time", "utc", "kind", "people", "what", "state", "exhibit"}
	if len(kinds) == 1 {
		about := kinds[0].About()
		usual = slices.Concat([]string{"time", "utc", "people"}, about.Columns, usual[4:])
		usual = slices.DeleteFunc(usual, func(s string) bool { return s == "people" && about.Nobody || s == "what" && about.Wordless })
	}
	chosen := usual
	if asked := p.Query["cols"]; len(asked) > 0 {
		chosen = append(strings.Split(strings.Join(asked, ","), ","), "time")
	}
	offered := slices.Clone(ownColumns)
	at := len(beforeKinds)
	for _, k := range kinds {
		for _, name := range slices.Concat(k.About().Columns, k.About().Further) {
			if !slices.ContainsFunc(offered, func(c listColumn) bool { return c.Name == name }) && name != record.InConversation {
				offered = slices.Insert(offered, at, listColumn{Name: name, Title: strings.ToUpper(name[:1]) + name[1:]})
				at++
			}
		}
	}
	if sort, down := strings.CutPrefix(p.Query.Get("sort"), "-"); sort == "time" || store.Orders[sort] != "" {
		v.Order = store.Order{By: sort, Down: down}
	}
	if v.Order.By == "time" {
		v.Order.By = ""
	}
	for _, c := range offered {
		c.On = slices.Contains(chosen, c.Name)
		if c.Width = columnWidths[c.Name]; c.Width == "" && c.Name != "what" {
			c.Width = ownWidth
		}
		if by := c.order(); by != nil {
			next := c.Name
			if *by == v.Order.By {
				if c.Sorted = "ascending"; v.Order.Down {
					c.Sorted = "descending"
				} else {
					next = "-" + next
				}
			}
			if next == "time" {
				next = ""
			}
			c.Sort = p.Keep("sort", next, "after", "", "o", "")
		}
		v.Offered = append(v.Offered, c)
		if c.On {
			v.Columns = append(v.Columns, c)
		}
	}
	own := func(c listColumn) int {
		if slices.ContainsFunc(ownColumns, func(o listColumn) bool { return o.Name == c.Name }) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(v.Offered, func(a, b listColumn) int { return own(a) - own(b) })
	return nil
}

// order is by what the list is in the order of a column, nil if there is none.
func (c listColumn) order() *string {
	name := c.Name
	if name == "time" {
		name = ""
	} else if store.Orders[name] == "" {
		return nil
	}
	return &name
}

// Spread reports whether the list is wider than the page, and moves sideways.
func (v *content) Spread() bool { return len(v.Columns) > 9 }

// Span is how many columns the list has, with the one that shows the depth.
func (v *content) Span() int { return len(v.Columns) + 1 }

// Flag is the column before whose text marks and notes are shown.
func (v *content) Flag() string {
	for _, name := range []string{"what", "state"} {
		if slices.ContainsFunc(v.Columns, func(c listColumn) bool { return c.Name == name }) {
			return name
		}
	}
	return "time"
}

// Class is of the cells of the column.
func (c listColumn) Class() string {
	return map[string]string{"utc": "mono quiet utc", "bytes": "mono num", "handle": "mono", "file": "mono"}[c.Name]
}

// Ours tells columns whose words are Crosswind's own, and short: they run from left to right, and are never cut off.
func (c listColumn) Ours() bool {
	return slices.Contains([]string{"utc", "kind", "bytes", "source", "exhibit"}, c.Name)
}

// labelled is the reason of a mark behind its label.
func labelled(label, reason string) string {
	if label == "" {
		return reason
	}
	return label + ": " + reason
}

// Cell is what a record has in a column, as text.
func (c listColumn) Cell(r store.Record, zone *time.Location) (string, error) {
	switch c.Name {
	case "utc":
		if r.At != nil {
			return r.At.UTC().Format("15:04:05Z"), nil
		}
		return "", nil
	case "kind":
		return r.Kind.Title(), nil
	case "people":
		said := r.Person
		if said == "" {
			said = r.Handle
		}
		if r.Direction != "" {
			said = r.Direction + ", " + said
		}
		return said, nil
	case "handle":
		return r.Handle, nil
	case "conversation":
		if r.ThreadTitle != "" {
			return r.ThreadTitle, nil
		}
		return r.Thread, nil
	case "what":
		return r.Summary, nil
	case "file":
		return r.DB, nil
	case "bytes":
		if r.Bytes == nil {
			return "", nil
		}
		return frame.Num(*r.Bytes), nil
	case "types":
		return strings.Join(r.Types, " "), nil
	case "mark":
		if r.MarkReason == nil {
			return "", nil
		}
		return labelled(r.MarkLabel, *r.MarkReason), nil
	case "state":
		return r.State.Title() + ", " + record.PlaceWords(r.State, r.Place), nil
	case "source":
		return fmt.Sprintf("acquisition %d", r.AcqNo), nil
	case "exhibit":
		return r.ExhibitRef, nil
	}
	if r.Body == "" {
		return "", nil
	}
	w, err := r.Whole()
	if err != nil {
		return "", err
	}
	f := w.Column(c.Name)
	if at, err := time.Parse(time.RFC3339, f.Value); err == nil && slices.Contains(record.Roles, c.Name) {
		if r.At != nil && frame.Day(*r.At, zone) == frame.Day(at, zone) {
			return at.In(zone).Format("15:04:05"), nil
		}
		return frame.Clock(at, zone), nil
	}
	return f.Words(), nil
}
