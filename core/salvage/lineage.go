package salvage

import (
	"encoding/binary"
	"sort"

	"crosswind/core/sqlitefile"
)

// lineage tells whose pages were that no live tree holds, or held other content:
// from the interior pages of older trees that are still to be seen, in the log, the
// journal, or free pages, and from pointer maps.
type lineage struct {
	roots   map[uint32][]*shape
	schemas []schemaAt // versions of the schema, by their time
	parents map[uint32][]parent
	room    int    // links that are still taken
	highest uint32 // page of which there is a version
	end     int    // the last frame of the log that is current; behind it are those of earlier generations
	over    bool   // there is a journal, and it is over
}

// era is when a page version was current, in commits of the log; the database file
// below it is from 0 on. Of other times nothing is known but which go together.
type era struct {
	from, to int
	class    int // timed, or one of other times
}

const (
	timed    = iota
	timeless // of a page that is free, and holds what it once held
	earlier  // of an earlier generation of the log
	journal  // of a journal's generation, counted from here
)

// meets reports whether a page of one era may have led to one of the other.
func (e era) meets(o era) bool {
	return e.class == o.class && (e.class != timed || max(e.from, o.from) < min(e.to, o.to))
}

// parent is a page that led to another.
type parent struct {
	page uint32
	era
	frame int                 // in which it did; 0 in the database file
	kind  sqlitefile.PageKind // of the leaves below it, 0 if that is not known
	shape *shape              // whose live tree most of the other pages it led to are in, nil if none
}

// schemaAt is where the roots of trees were at a time.
type schemaAt struct {
	era
	objects []sqlitefile.Object
	roots   map[uint32]*shape
}

// eraOf is when a page version was current. A rollback journal that is over holds pages
// as they were before the last transaction, -1 to 0.
func (s *Survey) eraOf(v sqlitefile.Version) era {
	commit := func(v sqlitefile.Version) int { return max(v.Commit, v.Frame) }
	var e era
	switch {
	case v.Part == sqlitefile.Journal && (v.Generation > 1 || !s.line.over):
		return era{class: journal + v.Generation}
	case v.Part == sqlitefile.Journal:
		return era{-1, 0, timed}
	case v.Part == sqlitefile.Log && v.Frame > s.line.end:
		return era{class: earlier}
	case v.Part == sqlitefile.Log:
		e = era{commit(v), 1 << 30, timed}
	case s.line.over:
		e = era{-1, 1 << 30, timed}
	default:
		e = era{0, 1 << 30, timed}
	}
	see := func(o sqlitefile.Version) {
		switch c := commit(o); {
		case o.Part == sqlitefile.Log && o.Frame <= s.line.end && c > e.from:
			e.to = min(e.to, c)
		case o.Part == sqlitefile.Journal && o.Generation == 1 && s.line.over && e.from < 0:
			e.from = 0
		}
	}
	// Versions come by part and frame, so the next one ends it.
	list := s.older[v.Page]
	next := sort.Search(len(list), func(k int) bool {
		o := &s.extra[list[k]]
		return o.Part > sqlitefile.Log || o.Part == sqlitefile.Log && o.Frame > v.Frame
	})
	for _, k := range list[next:] {
		if see(s.extra[k].Version); e.to < 1<<30 {
			break
		}
	}
	if v.Page <= s.f.Pages {
		see(s.f.Current(v.Page))
	}
	return e
}

// schemaOf takes in a version of the schema's page, if it holds all of it. It is in
// sc.
func (s *Survey) schemaOf(sc *scanner) {
	p, err := sqlitefile.ParsePage(1, sc.data)
	if err != nil || !p.Kind.Leaf() || len(s.line.schemas) == 1000 {
		return
	}
	at := schemaAt{era: s.eraOf(sc.im.Version), roots: map[uint32]*shape{}}
	for i := range p.Cells {
		off, err := p.Pointer(i)
		if err != nil {
			return
		}
		if c := sc.cell(off, len(sc.data), sqlitefile.LeafTable, len(sc.data)); c != nil {
			if o, ok := s.object(sc, c); ok {
				at.objects = append(at.objects, o)
			}
		}
	}
	if at.class == timed {
		s.line.schemas = append(s.line.schemas, at)
	}
}

// object reads a row of the schema.
func (s *Survey) object(sc *scanner, c *candidate) (o sqlitefile.Object, ok bool) {
	values, lost := sc.values(c)
	if len(values) != 5 || lost[0] || lost[2] || lost[4] {
		return o, false
	}
	text := func(i int) string { return values[i].String(s.f.Encoding) }
	o = sqlitefile.Object{Type: text(0), Name: text(1), Table: text(2), SQL: text(4)}
	if n := values[3].Int(); !lost[3] && n > 1 && n <= int64(s.line.highest) {
		o.Root = uint32(n)
	}
	return o, true
}

// settleRoots finds the shapes of all roots, now and then.
func (s *Survey) settleRoots() {
	for _, sh := range s.shapes {
		if sh.root > 1 {
			s.line.roots[sh.root] = append(s.line.roots[sh.root], sh)
		}
	}
	for _, at := range s.line.schemas {
		for _, o := range at.objects {
			if o.Type == "table" {
				if t, err := sqlitefile.ParseTable(o.SQL); err == nil {
					t.Name = o.Name
					at.roots[o.Root] = s.sameTable(t)
				}
				continue
			}
			for _, sh := range s.shapes {
				if sh.index == o.Name && sh.Name == o.Table {
					at.roots[o.Root] = sh
				}
			}
		}
	}
}

// maxLinks bounds what is kept of older trees, some 64 bytes each, and maxParents what
// is kept of one page.
const (
	maxLinks   = 1 << 19
	maxParents = 256
)

func (s *Survey) addLink(child uint32, p parent) {
	list := s.line.parents[child]
	if child < 2 || child > s.line.highest || s.line.room == 0 || len(list) == maxParents {
		return
	}
	if n := len(list) - 1; n >= 0 {
		// The next version of the same parent, which still leads there.
		if last := &list[n]; last.page == p.page && last.kind == p.kind && last.class == timed && p.class == timed && last.to == p.from {
			last.to = p.to
			return
		}
	}
	s.line.parents[child] = append(list, p)
	s.line.room--
}

// link takes in what a page version says of other pages. data is its usable part.
func (s *Survey) link(im image, data []byte) {
	if int(im.Page) < len(s.use) && s.use[im.Page] == PointerMap {
		const node = 5 // a page of a tree, but not its root (§1.8)
		at := s.eraOf(im.Version)
		for i := 0; i+5 <= len(data); i += 5 {
			if data[i] == node {
				s.addLink(im.Page+1+uint32(i/5), parent{page: binary.BigEndian.Uint32(data[i+1:]), era: at, frame: im.Frame})
			}
		}
		return
	}
	p, err := sqlitefile.ParsePage(im.Page, data)
	if err != nil || p.Kind.Leaf() || p.Cells == 0 || s.f.Unnumbered {
		return
	}
	from := parent{page: im.Page, era: s.eraOf(im.Version), frame: im.Frame, kind: leafKind(p.Kind)}
	if im.current && s.ownerOf(im.Page) == nil {
		from.era = era{class: timeless}
	}
	children := []uint32{p.Right}
	for i := range p.Cells {
		off, err := p.Pointer(i)
		if err != nil {
			return
		}
		children = append(children, binary.BigEndian.Uint32(data[off:]))
	}
	of := map[*shape]int{}
	for _, c := range children {
		if c < 2 || c > s.line.highest {
			return // no interior page: bytes that look like one
		}
		if sh := s.ownerOf(c); sh != nil && sh.kind == from.kind {
			if of[sh]++; of[sh]*2 > len(children) {
				from.shape = sh
			}
		}
	}
	for _, c := range children {
		s.addLink(c, from)
	}
}

// linkRemains takes in the children of a root page whose tree was emptied at once: what
// is left of its interior cells, and the last child's number behind its header. The
// page is in sc.
func (s *Survey) linkRemains(sc *scanner, sh *shape) {
	p, err := sqlitefile.ParsePage(sc.im.Page, sc.data)
	if err != nil || !p.Kind.Leaf() || p.Cells > 0 || s.f.LargestRoot != 0 {
		return
	}
	sc.own = sh
	from := parent{page: sc.im.Page, era: era{class: timeless}, kind: sh.kind, shape: sh}
	_, n := sc.interiorCells(p, p.Content, func(child uint32) { s.addLink(child, from) })
	if n > 0 {
		s.addLink(binary.BigEndian.Uint32(sc.data[p.Start+8:]), from)
	}
}

// ownerThen is the shape whose page a version was, nil if nothing tells.
func (s *Survey) ownerThen(im image, kind sqlitefile.PageKind) *shape {
	steps := 200 // no tree is deep; a hostile one may branch
	return s.upwards(im.Page, im.Frame, s.eraOf(im.Version), kind, im, &steps)
}

// upwards follows page n to the root of its tree.
func (s *Survey) upwards(n uint32, frame int, at era, kind sqlitefile.PageKind, from image, steps *int) *shape {
	if *steps--; *steps < 0 {
		return nil
	}
	if sh := s.rootAt(n, at, kind); sh != nil {
		return sh
	}
	// With auto_vacuum pages move (§1.8): only what was at the same time counts.
	still, nearest := s.f.LargestRoot == 0, 1<<30
	far := func(p *parent) int { return max(p.frame-frame, frame-p.frame) }
	may := func(p *parent) bool {
		return (p.kind == kind || p.kind == 0) && (p.meets(at) || from.current && p.class == timeless)
	}
	for i := range s.line.parents[n] {
		p := &s.line.parents[n][i]
		if !may(p) {
			continue
		}
		if p.class == timed {
			return s.upwards(p.page, p.frame, era{max(p.from, at.from), min(p.to, at.to), timed}, kind, from, steps)
		}
		nearest = min(nearest, far(p))
	}
	if !still {
		return nil
	}
	var owner *shape
	for i := range s.line.parents[n] {
		p := &s.line.parents[n][i]
		if !may(p) || far(p) > nearest {
			continue
		}
		sh := p.shape
		if sh == nil {
			sh = s.upwards(p.page, p.frame, p.era, kind, from, steps)
		}
		if owner != nil && sh != nil && sh != owner {
			return nil // it was of both, one after the other
		}
		if sh != nil {
			owner = sh
		}
	}
	if sh := s.ownerOf(n); owner == nil && sh != nil && sh.kind == kind && n != from.Page {
		return sh // by a parent that is in a live tree
	}
	return owner
}

// rootAt is the shape whose root page n was, nil if it was none or nothing tells.
func (s *Survey) rootAt(n uint32, at era, kind sqlitefile.PageKind) (root *shape) {
	for _, sc := range s.line.schemas {
		if sc.meets(at) {
			if sh := sc.roots[n]; sh != nil && sh.kind == kind {
				return sh
			}
		}
	}
	if s.f.LargestRoot != 0 {
		return nil
	}
	for _, sh := range s.line.roots[n] {
		if sh.kind == kind {
			if root != nil && root.Name != sh.Name {
				return nil // two tables had their root there
			}
			root = sh
		}
	}
	return root
}
