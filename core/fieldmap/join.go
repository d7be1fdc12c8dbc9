package fieldmap

import (
	"slices"
	"strings"

	"crosswind/core/people"
	"crosswind/core/salvage"
)

// joins holds the lookup tables of one database, recovered rows beside live ones,
// so that a row finds its people and its conversation even when those were deleted,
// too: by lookup and key, the values in the order in which they were found, live
// ones first.
type joins map[[2]string][]string

// join reads the lookup tables, and who is seen in which conversation.
func (m *Map) join(s *salvage.Survey, forms *people.Normals, opt salvage.Options) (joins, Members) {
	j, seen := joins{}, Members{}
	talks := slices.ContainsFunc(m.Readings, func(r Reading) bool { return r.Conversation != nil })
	if len(m.Lookups) == 0 && !talks {
		return j, seen
	}
	type reference struct{ thread, lookup, key string }
	var later []reference // handles that are known when all lookups are
	asked := map[reference]bool{}
	for row, err := range s.Rows(opt) {
		if err != nil || row.Table == nil {
			continue // the caller comes upon the damage again
		}
		c := columns{row, s.File().Encoding}
		for _, l := range m.Lookups {
			if l.Table != row.Table.Name {
				continue
			}
			k, ok1 := c.text(l.Key)
			v, ok2 := c.text(l.Value)
			if at := [2]string{l.Name, k}; ok1 && ok2 && !slices.Contains(j[at], v) {
				j[at] = append(j[at], v)
			}
		}
		if rd := m.reading(row, c.enc); rd != nil && rd.Conversation != nil && rd.Handle != nil {
			k, ok1 := rd.Conversation.value(c.get, c.enc)
			h, ok2 := rd.Handle.value(c.get, c.enc)
			switch {
			case !ok1 || !ok2:
			case rd.Handle.Lookup != "":
				if r := (reference{k, rd.Handle.Lookup, h}); !asked[r] {
					asked[r], later = true, append(later, r)
				}
			default:
				seen.add(k, forms.List(h))
			}
		}
	}
	for _, r := range later {
		seen.add(r.thread, forms.List(j.find(r.lookup, r.key)))
	}
	return j, seen
}

func (m Members) add(thread string, handles []string) {
	for _, h := range handles {
		if !slices.Contains(m[thread], h) {
			m[thread] = append(m[thread], h)
		}
	}
}

// find gives all values that the key has in a lookup.
func (j joins) find(lookup, key string) string {
	return strings.Join(j[[2]string{lookup, key}], ", ")
}
