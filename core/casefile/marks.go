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
type Mark struct{ Label, Reason, By, At string }

// SourceName names an acquisition as the ledger does.
func SourceName(exhibit string, acquisition int) string {
	return fmt.Sprintf("%s acquisition %d", exhibit, acquisition)
}

// Add takes in the next entry. A mark is of a record, by its ID, from one source.
func (m *Marks) Add(e *ledger.Entry) {
	if m.is == nil {
		m.is = map[[2]string]Mark{}
	}
	source := e.Detail["source"]
	switch e.What {
	case "record.marked":
		m.drop(e.On, source)
		m.drop(e.On, "")
		m.is[[2]string{e.On, source}] = Mark{e.Detail["label"], e.Detail["reason"], e.By, e.At}
	case "record.unmarked":
		m.drop(e.On, source)
		m.drop(e.On, "")
		for o := range m.is {
			if source == "" && slices.Contains(names(e.On), o[0]) {
				delete(m.is, o)
			}
		}
	}
}

// shortID is how many digits of a record's ID entries of earlier versions give; those of
// still earlier ones name no source.
const shortID = 16

// names are what entries call a record.
func names(uid string) []string { return []string{uid, uid[:min(len(uid), shortID)]} }

func (m *Marks) drop(uid, source string) {
	for _, n := range names(uid) {
		delete(m.is, [2]string{n, source})
	}
}

// Take gives the mark of a record, and whether there is one; it is not given again.
func (m *Marks) Take(uid, source string) (Mark, bool) {
	for _, n := range names(uid) {
		for _, k := range [][2]string{{n, source}, {n, ""}} {
			if x, ok := m.is[k]; ok {
				delete(m.is, k)
				return x, true
			}
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
