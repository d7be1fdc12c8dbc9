package casefile

import (
	"fmt"
	"slices"
	"strings"

	"crosswind/core/ledger"
)

// Marks follows a ledger's entries and knows which records are marked by them, and why.
type Marks struct{ is map[[2]string]Mark }

// Mark is a mark as the ledger tells of it.
type Mark struct{ Reason, By, At string }

// SourceName names an acquisition as the ledger does.
func SourceName(exhibit string, acquisition int) string {
	return fmt.Sprintf("%s acquisition %d", exhibit, acquisition)
}

// Add takes in the next entry. A mark is of a record, by its ID, from one source.
func (m *Marks) Add(e *ledger.Entry) {
	if m.is == nil {
		m.is = map[[2]string]Mark{}
	}
	k := [2]string{e.On, e.Detail["source"]}
	switch e.What {
	case "record.marked":
		delete(m.is, [2]string{e.On, ""}) // an entry of an earlier version named no source
		m.is[k] = Mark{e.Detail["reason"], e.By, e.At}
	case "record.unmarked":
		delete(m.is, k)
		delete(m.is, [2]string{e.On, ""})
		if k[1] == "" {
			for o := range m.is {
				if o[0] == e.On {
					delete(m.is, o)
				}
			}
		}
	}
}

// Take gives the mark of a record, and whether there is one; it is not given again.
func (m *Marks) Take(uid, source string) (Mark, bool) {
	for _, k := range [][2]string{{uid, source}, {uid, ""}} {
		if x, ok := m.is[k]; ok {
			delete(m.is, k)
			return x, true
		}
	}
	return Mark{}, false
}

// Left names the records whose marks were not taken.
func (m *Marks) Left() []string {
	var out []string
	for k := range m.is {
		out = append(out, strings.TrimSpace(k[0]+" "+k[1]))
	}
	slices.Sort(out)
	return out
}
