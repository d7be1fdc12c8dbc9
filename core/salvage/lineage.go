package salvage

import (
	"encoding/binary"

	"crosswind/core/sqlitefile"
)

// lineage tells whose pages were that no live tree holds, or held other content:
// from the interior pages of older trees that are still to be seen, in the log, the
// journal, or free pages, and from pointer maps.
type lineage struct {
	roots   map[uint32][]*shape
	parents map[uint32][]parent
	room    int // links that are still taken
}

// parent is a page that led to another.
type parent struct {
	page  uint32
	frame int32               // in which it did; 0 in the database file
	kind  sqlitefile.PageKind // of the leaves below it, 0 if that is not known
	shape *shape              // whose live tree most of the other pages it led to are in, nil if none
}

// maxLinks bounds what is kept of older trees: some 24 bytes each.
const maxLinks = 1 << 20

// link takes in what a page version says of other pages. data is its usable part.
func (s *Survey) link(im image, data []byte) {
	add := func(child uint32, p parent) {
		if child > 1 && child <= s.f.Stored() && s.line.room > 0 {
			s.line.parents[child] = append(s.line.parents[child], p)
			s.line.room--
		}
	}
	if int(im.Page) < len(s.use) && s.use[im.Page] == PointerMap {
		const node = 5 // a page of a tree, but not its root (§1.8)
		for i := 0; i+5 <= len(data); i += 5 {
			if data[i] == node {
				add(im.Page+1+uint32(i/5), parent{page: binary.BigEndian.Uint32(data[i+1:]), frame: int32(im.Frame)})
			}
		}
		return
	}
	p, err := sqlitefile.ParsePage(im.Page, data)
	if err != nil || p.Kind.Leaf() || p.Cells == 0 {
		return
	}
	children := []uint32{p.Right}
	for i := range p.Cells {
		off, err := p.Pointer(i)
		if err != nil {
			return
		}
		children = append(children, binary.BigEndian.Uint32(data[off:]))
	}
	kind, of, most := leafKind(p.Kind), map[*shape]int{}, parent{page: im.Page, frame: int32(im.Frame), kind: leafKind(p.Kind)}
	for _, c := range children {
		if c < 2 || c > s.f.Stored() {
			return // no interior page: bytes that look like one
		}
		if sh := s.ownerOf(c); sh != nil && sh.kind == kind {
			if of[sh]++; of[sh]*2 > len(children) {
				most.shape = sh
			}
		}
	}
	for _, c := range children {
		add(c, most)
	}
}

// ownerThen is the shape whose page n was in the given frame, nil if nothing tells.
// With auto_vacuum a page may have been something else before it was a root (§1.8).
func (s *Survey) ownerThen(n uint32, frame int, kind sqlitefile.PageKind) *shape {
	at, still := int32(frame), s.f.LargestRoot == 0
	for depth := range 20 { // no tree is deeper
		var best *parent
		far := func(p *parent) int32 { return max(p.frame-at, at-p.frame) }
		for i := range s.line.parents[n] {
			if p := &s.line.parents[n][i]; (p.kind == kind || p.kind == 0) && (best == nil || far(p) < far(best)) {
				best = p
			}
		}
		var root *shape
		for _, sh := range s.line.roots[n] {
			if sh.kind == kind {
				if root != nil && root.Name != sh.Name {
					return nil // two tables had their root there
				}
				root = sh
			}
		}
		switch {
		case root != nil && still:
			return root
		case best == nil:
			if sh := s.ownerOf(n); sh != nil && sh.kind == kind && depth > 0 && still {
				return sh // by a parent that is in a live tree
			}
			return nil
		case best.shape != nil:
			return best.shape
		}
		n, at = best.page, best.frame
	}
	return nil
}

// movedHere reports whether page n may have been another table's before it became
// the root that it is.
func (s *Survey) movedHere(n uint32) bool { return s.f.LargestRoot != 0 && len(s.line.roots[n]) > 0 }
