package carve

import (
	"encoding/binary"
	"fmt"

	"crosswind/core/sqlitefile"
	"crosswind/core/volume"
)

const (
	leastRows   = 4       // cells of rows that pages hold at least to be told
	maxPages    = 1 << 20 // that are taken as one file's
	maxOverflow = 1 << 14 // that are looked for at a time
	maxBefore   = 64 << 20
)

// readPages follows pages of an SQLite database (file format section 1.6) whose first page is gone, from one on all of
// whose cells are sound. Pages of no tree between them are theirs as far as their cells have need of overflow pages,
// or each leads to the next. What number they have is told by those that lead to others: as many pages lie before them
// that are not there.
func readPages(s *source, start int64) Verdict {
	if start < s.pages {
		return Verdict{}
	}
	size := treePage(s, start)
	if size == 0 {
		return Verdict{}
	}
	var numbers sqlitefile.Numbering
	var end, rows, overflow int64 // behind the last page of a tree; overflow pages that are still needed
	var other int64               // pages of no tree that nothing leads to
	var last uint32               // the page to which the one before leads, if that is of no tree
	for n := range int64(maxPages) {
		b := s.get(start+n*size, int(size))
		if int64(len(b)) < size {
			break
		}
		p, cells := sqlitefile.Sound(2, b)
		if p == nil {
			next := binary.BigEndian.Uint32(b)
			if last == 0 || next != last+1 && next != 0 {
				other++
			}
			if last = next; other > overflow+maxOther || isHead(b) {
				break
			}
			numbers.Add(nil, nil)
			continue
		}
		overflow, other, last = max(0, overflow-(n-end)), 0, 0
		for _, c := range cells {
			if c.Overflow != 0 {
				overflow += (c.PayloadSize-int64(len(c.Local))-1)/(size-4) + 1
			}
		}
		if overflow = min(overflow, maxOverflow); p.Kind == sqlitefile.LeafTable {
			rows += int64(len(cells))
		}
		numbers.Add(p, cells)
		end = n + 1
	}
	s.pages = start + end*size
	if rows < leastRows {
		return Verdict{}
	}
	why := "their numbers are told by those that lead to others"
	first, ok := numbers.First()
	if before := (int64(first) - 1) * size; !ok || before <= 0 || before > maxBefore {
		first, why = 2, "nothing tells their numbers"
	}
	for ; overflow > 0; overflow-- { // the rest of the last rows
		b := s.get(start+end*size, int(size))
		if int64(len(b)) < size || isHead(b) || int64(binary.BigEndian.Uint32(b)) > int64(first)+end+overflow {
			break
		}
		end++
	}
	s.before = (int64(first) - 1) * size
	return Verdict{end * size, volume.Part, fmt.Sprintf("pages of %d bytes of a database of which those before them are not there; %s", size, why)}
}

// maxOther is how many pages of neither a tree nor overflow may lie between a database's others: of its free list, or of
// its pointer map.
const maxOther = 4

// treePage is the size of the page at a place if it is a sound one of a tree, else 0.
func treePage(s *source, at int64) int64 {
	h := s.get(at, 12)
	if len(h) < 12 || !sqlitefile.PageKind(h[0]).Valid() || h[7] > 60 { // no page has more bytes in fragments
		return 0
	}
	cells := int(binary.BigEndian.Uint16(h[3:]))
	p := s.get(at, 12+2*cells)
	if cells == 0 || len(p) < 12+2*cells {
		return 0
	}
	most := binary.BigEndian.Uint16(p[5:])
	for i := 8; i < 8+2*cells; i += 2 {
		if sqlitefile.PageKind(p[0]).Leaf() {
			most = max(most, binary.BigEndian.Uint16(p[i:]))
		} else {
			most = max(most, binary.BigEndian.Uint16(p[i+4:]))
		}
	}
	for size := int64(512); size <= 65536; size *= 2 {
		if int64(most) >= size {
			continue
		}
		if b := s.get(at, int(size)); int64(len(b)) == size {
			if page, _ := sqlitefile.Sound(2, b); page != nil {
				return size
			}
		}
	}
	return 0
}

// isHead reports whether a file of another form begins here.
func isHead(b []byte) bool {
	for _, f := range forms {
		if len(b) >= int(f.back)+len(f.begin) && string(b[f.back:int(f.back)+len(f.begin)]) == f.begin {
			return true
		}
	}
	return false
}
