package examine

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"crosswind/core/record"
	"crosswind/internal/web/frame"
)

// filterWord is a part of what is filtered, in words, and the address without it.
type filterWord struct{ Words, Off string }

// readFilter reads what is filtered from the address. In the line of words, those with a colon narrow, and the rest is
// looked for.
func (a pages) readFilter(ctx context.Context, p *frame.Page, v *content) error {
	f := &v.Filter
	f.CaseID, f.Exhibit, f.Marked, f.State, f.Near = p.Case.ID, p.ExhibitID(), p.Query.Get("marked") != "", p.Query.Get("state"), readNear(p.Query.Get("near"))
	f.Kinds = slices.DeleteFunc(strings.Split(p.Query.Get("kind"), ","), func(s string) bool { return s == "" })
	if len(f.Kinds) > 0 {
		v.Words = append(v.Words, filterWord{kindWords(f.Kinds), p.Keep("kind", "", "after", "")})
	}
	if f.State != "" {
		v.Words = append(v.Words, filterWord{strings.ToLower(stateWords(f.State)), p.Keep("state", "", "after", "")})
	}
	if f.Marked {
		v.Words = append(v.Words, filterWord{"marked", p.Keep("marked", "", "after", "")})
	}
	if n := f.Near; n != nil {
		v.Words = append(v.Words, filterWord{fmt.Sprintf("within about %.0f m of %.5f, %.5f", n.Metres, n.Latitude, n.Longitude), p.Keep("near", "", "after", "")})
	}
	if f.App = p.Query.Get("in"); f.App != "" {
		v.Words = append(v.Words, filterWord{"in " + f.App, p.Keep("in", "", "after", "")})
	}
	all := strings.Fields(p.Query.Get("q"))
	without := func(i int) string {
		return p.Keep("q", strings.Join(slices.Delete(slices.Clone(all), i, i+1), " "), "after", "")
	}
	var words, rest []string
	for i, w := range all {
		name, value, _ := strings.Cut(w, ":")
		said := ""
		switch {
		case value == "":
		case name == "kind":
			if kind, err := record.ParseKind(value); err == nil {
				value = string(kind)
			}
			f.Kinds = append(f.Kinds, value)
			said = kindWords([]string{value})
		case name == "state":
			f.State, said = value, strings.ToLower(stateWords(value))
		case w == "is:marked":
			f.Marked, said = true, "marked"
		case w == "is:noted":
			f.Noted, said = true, "with a working note"
		case w == "has:place":
			f.Placed, said = true, "with a place"
		case w == "has:attachment":
			f.Attached, said = true, "with an attachment"
		case name == "app":
			f.App, said = value, "in a file of "+value
		case name == "source":
			if n, err := strconv.Atoi(value); err == nil && n > 0 {
				f.Source, said = n, "of acquisition "+value
			}
		case name == "with":
			people, err := a.Store.People(ctx, p.Case.ID)
			if err != nil {
				return err
			}
			f.Parties = []string{value} // which nobody has
			for _, x := range people.Persons {
				if matches(x, value) {
					f.Parties = append(f.Parties, x.Handles...)
				}
			}
			said = "with somebody called " + value
		}
		if said == "" {
			words, rest = append(words, w), append(rest, w)
			continue
		}
		v.Words = append(v.Words, filterWord{said, without(i)})
	}
	f.Words = strings.Join(words, " ")
	if f.Words != "" {
		keep := slices.DeleteFunc(slices.Clone(all), func(w string) bool { return slices.Contains(rest, w) })
		v.Words = append(v.Words, filterWord{"the words " + f.Words, p.Keep("q", strings.Join(keep, " "), "after", "")})
	}
	return nil
}

func kindWords(kinds []string) string {
	if len(kinds) > 4 {
		return fmt.Sprintf("%d kinds", len(kinds))
	}
	var out []string
	for _, k := range kinds {
		out = append(out, strings.ToLower(record.Kind(k).Plural()))
	}
	return strings.Join(out, " and ")
}

func stateWords(s string) string {
	if s == "below" {
		return "Below"
	}
	return record.State(s).Title()
}
