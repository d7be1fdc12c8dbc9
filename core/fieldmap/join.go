package fieldmap

import (
	"slices"
	"strings"

	"crosswind/core/salvage"
)

// joins holds the lookup tables of one database, recovered rows beside live ones,
// so that a row finds its people and its conversation even when those were deleted,
// too: by table and key, the values in the order in which they were found, live
// ones first.
type joins map[[2]string][]string

// join reads the lookup tables.
func (m *Map) join(s *salvage.Survey, opt salvage.Options) joins {
	j := joins{}
	if len(m.Lookups) == 0 {
		return j
	}
	for row, err := range s.Rows(opt) {
		if err != nil || row.Table == nil {
			continue // the caller comes upon the damage again
		}
		for _, l := range m.Lookups {
			if l.Table != row.Table.Name {
				continue
			}
			c := columns{row, s.File().Encoding}
			k, ok1 := c.text(l.Key)
			v, ok2 := c.text(l.Value)
			if at := [2]string{l.Table, k}; ok1 && ok2 && !slices.Contains(j[at], v) {
				j[at] = append(j[at], v)
			}
		}
	}
	return j
}

// find gives all values that the key has in a table.
func (j joins) find(table, key string) string {
	return strings.Join(j[[2]string{table, key}], ", ")
}
