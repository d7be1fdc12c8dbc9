package sqlitefile

import "math"

// Numbering finds the number of the first of pages that lie one behind the other, of a database of which no more is
// known. It is told by interior pages of tables: the row ids below a child lie between the keys beside its number
// (§1.6).
type Numbering struct {
	pages []ids
	links []link
}

// ids are the row ids of a page of a table; none of any other.
type ids struct {
	low, high int64
	table     bool
}

// link is a child's number, and where the row ids below it lie: above one key, and up to the other.
type link struct {
	child, from int
	above, to   int64
}

const (
	maxLinks = 256     // children that are looked for
	maxHits  = 1 << 16 // numbers that the first page may have by them: of real pages they are few
)

// Add adds the next page, as [Sound] reads it; nil if it is no page of a tree.
func (n *Numbering) Add(p *Page, cells []Cell) {
	from := len(n.pages)
	n.pages = append(n.pages, ids{})
	if p == nil || p.Kind != LeafTable && p.Kind != InteriorTable {
		return
	}
	above := int64(math.MinInt64)
	for _, c := range cells {
		if c.RowID < above {
			return // its keys do not rise
		}
		if p.Kind == InteriorTable && len(n.links) < maxLinks {
			n.links = append(n.links, link{int(c.Left), from, above, c.RowID})
		}
		above = c.RowID
	}
	if p.Kind == InteriorTable && len(n.links) < maxLinks {
		n.links = append(n.links, link{int(p.Right), from, above, math.MaxInt64})
	}
	n.pages[from] = ids{cells[0].RowID, above, true}
}

// First is the number of the first page; false if nothing tells it, or two are as likely.
func (n *Numbering) First() (uint32, bool) {
	hits := map[int]int{}
	for _, l := range n.links {
		for i := range n.pages {
			if p := &n.pages[i]; p.table && p.low > l.above && p.high <= l.to && i != l.from && l.child > i {
				if hits[l.child-i]++; len(hits) > maxHits {
					return 0, false
				}
			}
		}
	}
	first, most, rival := 0, 1, 0
	for number, k := range hits {
		switch {
		case k > most:
			first, most, rival = number, k, 0
		case k == most:
			rival++
		}
	}
	return uint32(first), first > 0 && rival == 0
}
