package salvage

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"

	"crosswind/core/sqlitefile"
)

// Use is what a page is used for.
type Use byte

const (
	Lost Use = iota // neither a tree nor the free list reaches it
	TableInterior
	TableLeaf
	IndexInterior
	IndexLeaf
	Overflow
	FreeTrunk
	FreeLeaf
	PointerMap
	LockByte // where the library's file locks lie; never used
)

// Survey is what a walk over all that is alive in a database says of it.
type Survey struct {
	f      *sqlitefile.File
	shapes []*shape
	use    []Use
	owner  []int32  // of each page in a tree: 1 + the id of its shape, 0 if none is known
	used   []uint16 // bytes at the start of an overflow's last page, or of a trunk page, that are in use
	base   map[uint32]*shape
	extra  []image
	older  map[uint32][]int // of each page, the indexes of its versions in extra
	line   lineage
	keys   keys
	live   *keySet
	fault  error

	spills  *atomic.Int64 // overflow pages that may still be read for rows that are not alive
	full    bool          // live has no room left
	longest int           // bytes that a record header has at most

	// weighing, if not nil, sees every reading that is chosen, before those that are not
	// believed are left out: for measuring how often such readings are right.
	weighing func(*scanner, *candidate)
}

// image is a version of a page.
type image struct {
	sqlitefile.Version
	origin  Origin
	current bool
}

const (
	maxLive  = 14 << 20 // live rows and index entries that are known by their keys
	maxNotes = 20       // faults of one file that are told
)

// New surveys f: it reads every live page once. Damage does not end it; Fault
// tells of it.
func New(f *sqlitefile.File) *Survey { return survey(f, nil) }

// NewLike surveys f, which adopted the schema of another database: what rows look like is learned from that one's.
func NewLike(f *sqlitefile.File, other *Survey) *Survey { return survey(f, other) }

func survey(f *sqlitefile.File, other *Survey) *Survey {
	s := &Survey{f: f, keys: newKeys(), base: map[uint32]*shape{}, older: map[uint32][]int{},
		line: lineage{map[uint32][]*shape{}, nil, map[uint32][]parent{}, maxLinks, max(f.Pages, f.Stored()), 0, false},
		use:  make([]Use, f.Pages+1), owner: make([]int32, f.Pages+1), used: make([]uint16, f.Pages+1)}
	s.spills = &atomic.Int64{}
	s.spills.Store(1<<16 + 32*int64(s.images())) // hostile chains must end
	s.reserved()
	tables, err := f.Tables()
	s.note(err)
	objs, _ := f.Objects() // its fault is already among Tables'
	s.live = newKeySet(min(int(f.Pages)*8, maxLive), maxLive)
	byName := map[string]*shape{}
	var trees []tree
	for _, t := range tables {
		sh := s.addShape(tableShape(t))
		byName[t.Name] = sh
		sh.root = t.Root
		trees = append(trees, tree{t.Root, sh})
	}
	auto := map[string]int{}
	for _, o := range objs {
		if o.Type == "index" && o.Root != 0 {
			sh := s.addShape(indexOf(o, byName[o.Table], auto))
			if sh != nil { // else of a table that is not there
				sh.root = o.Root
			}
			trees = append(trees, tree{o.Root, sh})
		}
	}
	if f.Adopted() {
		s.likeOf(other)
	} else {
		s.walk(trees)
	}
	s.freeList()
	s.versions()
	s.dropped()
	alike := map[string]int{} // the first of those with the same columns
	for i, sh := range s.shapes {
		k := fmt.Sprint(sh.kind, sh.index == "", sh.rules)
		if _, there := alike[k]; !there {
			alike[k] = i
		}
		sh.like = alike[k]
	}
	s.settleRoots()
	return s
}

// File is the database that was surveyed.
func (s *Survey) File() *sqlitefile.File { return s.f }

// Fault is the damage that the survey came upon, nil if none.
func (s *Survey) Fault() error { return s.fault }

func (s *Survey) note(err error) {
	if err == nil {
		return
	}
	n := 0
	if j, ok := s.fault.(interface{ Unwrap() []error }); ok {
		n = len(j.Unwrap())
	}
	if n < maxNotes {
		all := []error{err}
		if j, ok := s.fault.(interface{ Unwrap() []error }); ok {
			all = append(slices.Clone(j.Unwrap()), err)
		}
		s.fault = errors.Join(all...)
	}
}

func (s *Survey) addShape(sh *shape) *shape {
	if sh != nil {
		sh.id = len(s.shapes)
		s.longest = max(s.longest, 2+5*len(sh.rules))
		s.shapes = append(s.shapes, sh)
	}
	return sh
}

// likeOf takes over what the rows of another database with the same schema look like.
func (s *Survey) likeOf(other *Survey) {
	if other == nil {
		return
	}
	for _, sh := range s.shapes {
		for _, o := range other.shapes {
			if o.Name == sh.Name && o.index == sh.index && len(o.rules) == len(sh.rules) {
				sh.learned = o.learned
				break
			}
		}
	}
}

// Likeness is the part of the pages of f, a database without a schema of its own, of which all rows can be those of one
// table of another database.
func Likeness(f, other *sqlitefile.File) float64 {
	const looks = 200
	tables, _ := other.Tables()
	var shapes []*shape
	for _, t := range tables {
		if t.Root > 1 && !t.WithoutRowID && t.Name != "sqlite_sequence" {
			shapes = append(shapes, tableShape(t))
		}
	}
	buf := make([]byte, f.PageSize)
	alike, seen := 0, 0
	for n, step := uint32(2), max(1, f.Pages/looks); n <= f.Pages; n += step {
		if f.ReadPage(n, buf) != nil {
			continue
		}
		p, cells := sqlitefile.Sound(n, buf)
		if p == nil || p.Kind != sqlitefile.LeafTable {
			continue
		}
		seen++
		if slices.ContainsFunc(shapes, func(sh *shape) bool {
			return !slices.ContainsFunc(cells, func(c sqlitefile.Cell) bool {
				types, _, _, ok := recordTypes(c.Local, 0, nil, c.PayloadSize)
				if ok {
					_, ok = sh.fit(types)
				}
				return !ok
			})
		}) {
			alike++
		}
	}
	return float64(alike) / float64(max(seen, 1))
}

// indexOf makes the shape of an index of the schema. auto counts the automatic
// indexes of each table.
func indexOf(o sqlitefile.Object, of *shape, auto map[string]int) *shape {
	if of == nil {
		return nil
	}
	if o.SQL != "" {
		ix, err := sqlitefile.ParseIndex(o.SQL)
		if err != nil {
			return opaqueIndex(of.Table, o.Name)
		}
		return indexShape(of.Table, o.Name, ix.Columns)
	}
	auto[o.Table]++
	n := auto[o.Table] - 1
	if of.WithoutRowID {
		n++ // its first is the table itself
	}
	if n >= len(of.Unique) {
		return opaqueIndex(of.Table, o.Name)
	}
	return indexShape(of.Table, o.Name, of.Unique[n])
}

// reserved marks the pages that hold no content by their place (§1.8, §1.10).
func (s *Survey) reserved() {
	if n := 1<<30/int64(s.f.PageSize) + 1; n <= int64(s.f.Pages) {
		s.use[n] = LockByte
	}
	if s.f.LargestRoot == 0 {
		return
	}
	for n := int64(2); n <= int64(s.f.Pages); n += int64(s.f.Usable()/5) + 1 {
		if s.use[n] == LockByte {
			n++
			if n > int64(s.f.Pages) {
				break
			}
		}
		s.use[n] = PointerMap
	}
}

func useOf(k sqlitefile.PageKind) Use {
	switch k {
	case sqlitefile.InteriorTable:
		return TableInterior
	case sqlitefile.LeafTable:
		return TableLeaf
	case sqlitefile.InteriorIndex:
		return IndexInterior
	}
	return IndexLeaf
}

func (s *Survey) freeList() {
	for fp, err := range s.f.FreeList {
		switch {
		case err != nil:
			s.note(err)
		case s.use[fp.N] != Lost:
			s.note(&sqlitefile.FormatError{Page: fp.N, What: "the free list names a page in use"})
		case fp.Trunk:
			s.use[fp.N], s.used[fp.N] = FreeTrunk, uint16(min(fp.Used, 65535))
		default:
			s.use[fp.N] = FreeLeaf
		}
	}
}

// versions gathers the page versions that are not current, and the pages beyond
// the end that the header gives.
func (s *Survey) versions() {
	older := false
	for _, v := range s.f.Versions() {
		o := Superseded
		switch v.Part {
		case sqlitefile.Log:
			o = InLog
		case sqlitefile.Journal:
			o = InJournal
		default:
			older = true
		}
		s.line.highest = max(s.line.highest, v.Page)
		s.older[v.Page] = append(s.older[v.Page], len(s.extra))
		s.extra = append(s.extra, image{v, o, false})
	}
	for n := s.f.Pages + 1; n <= s.f.Stored(); n++ {
		if s.f.Current(n).Part == sqlitefile.Main {
			v := sqlitefile.Version{Page: n, Place: sqlitefile.Place{Offset: s.f.PageOffset(n)}}
			s.extra = append(s.extra, image{v, LostPage, false})
		}
	}
	if older {
		s.baseOwners()
	}
	hot := false
	for n := uint32(1); len(s.extra) > 0 && n <= s.f.Pages; n++ {
		switch v := s.f.Current(n); v.Part {
		case sqlitefile.Log:
			s.line.end = max(s.line.end, v.Frame, v.Commit)
		case sqlitefile.Journal:
			hot = true
		}
	}
	s.line.over = !hot && slices.ContainsFunc(s.extra, func(im image) bool { return im.Part == sqlitefile.Journal })
}

// baseOwners walks the trees of the database file as they are below its log, to
// tell whose the pages were that the log replaces or leaves free.
func (s *Survey) baseOwners() {
	base := s.f.Base()
	if base == nil {
		return
	}
	mark := func(root uint32, sh *shape) {
		for p, err := range base.Tree(root) {
			if err == nil {
				s.base[p.N] = sh
			}
		}
	}
	tables, _ := base.Tables()
	for _, t := range tables {
		sh := s.sameTable(t)
		if sh == nil {
			sh = tableShape(t)
			sh.dropped, sh.root = true, t.Root
			s.addShape(sh)
		}
		mark(t.Root, sh)
	}
	objs, _ := base.Objects()
	for _, o := range objs {
		for _, sh := range s.shapes {
			if o.Type == "index" && sh.index == o.Name && sh.Name == o.Table {
				mark(o.Root, sh)
			}
		}
	}
}

// sameTable finds the shape of a table's rows by its name and columns. A table that had
// fewer is the same: columns are added behind the others.
func (s *Survey) sameTable(t *sqlitefile.Table) *shape {
	for _, sh := range s.shapes {
		if sh.index == "" && sh.Name == t.Name && sh.WithoutRowID == t.WithoutRowID && sh.RowIDColumn == t.RowIDColumn &&
			len(sh.Columns) >= len(t.Columns) && slices.EqualFunc(sh.Columns[:len(t.Columns)], t.Columns, func(a, b sqlitefile.Column) bool { return a.Name == b.Name && a.Affinity == b.Affinity }) {
			return sh
		}
	}
	return nil
}

// maxShapes bounds the tables and indexes that are looked for: a hostile file may name many.
const maxShapes = 1000

// dropped reads all pages that are in no live tree, and hunts for CREATE texts of
// tables that are not in the schema any more: they give the columns of rows that
// belong to no live table.
func (s *Survey) dropped() {
	if len(s.shapes) == 0 {
		return
	}
	schema := s.shapes[0]
	word := []byte("CREATE")
	switch s.f.Encoding {
	case sqlitefile.UTF16LE:
		word = []byte("C\x00R\x00E\x00")
	case sqlitefile.UTF16BE:
		word = []byte("\x00C\x00R\x00E")
	}
	sc := newScanner(s)
	sc.only = schema
	var texts []sqlitefile.Object
	for _, sh := range s.shapes {
		if sh.root > 1 && sh.root <= s.f.Pages && sc.read(s.image(int(sh.root)-1)) == nil {
			s.linkRemains(sc, sh)
		}
	}
	for i := range s.images() {
		im := s.image(i)
		owned := im.current && s.ownerOf(im.Page) == schema
		use := Lost
		if int(im.Page) < len(s.use) {
			use = s.use[im.Page]
		}
		// Where pages move, the live trees tell, too, whose they were.
		interior := (use == TableInterior || use == IndexInterior) && s.f.LargestRoot != 0 && len(s.extra) > 0
		if im.current && !owned && !interior && use != FreeLeaf && use != FreeTrunk && use != Lost && use != PointerMap || sc.read(im) != nil {
			continue
		}
		if im.Page == 1 {
			s.schemaOf(sc)
		}
		if !owned || !im.current {
			s.link(im, sc.data)
		}
		if use == PointerMap || im.current && interior && !owned || !bytes.Contains(sc.data, word) {
			continue
		}
		for _, c := range sc.scan() {
			if o, ok := s.object(sc, c); ok {
				texts = append(texts, o)
			}
		}
	}
	byName := map[string]*shape{}
	for _, o := range texts {
		if o.Type != "table" || len(s.shapes) > maxShapes {
			continue
		}
		t, err := sqlitefile.ParseTable(o.SQL)
		if err != nil {
			continue
		}
		t.Name = o.Name
		if sh := s.sameTable(t); sh != nil {
			continue
		}
		t.SetEncoding(s.f.Encoding)
		sh := tableShape(t)
		sh.dropped, sh.root = true, o.Root
		byName[t.Name] = s.addShape(sh)
	}
	auto := map[string]int{}
	for _, o := range texts {
		if of := byName[o.Table]; o.Type == "index" && of != nil && len(s.shapes) < maxShapes {
			if sh := indexOf(o, of, auto); sh != nil {
				sh.dropped, sh.root = true, o.Root
				s.addShape(sh)
			}
		}
	}
}

// images is how many page versions there are; image gives each.
func (s *Survey) images() int { return int(s.f.Pages) + len(s.extra) }

func (s *Survey) image(i int) image {
	if n := uint32(i) + 1; n <= s.f.Pages {
		im := image{Version: s.f.Current(n), current: true}
		switch s.use[n] {
		case Lost:
			im.origin = LostPage
		case FreeLeaf, FreeTrunk:
			im.origin = FreeList
		default:
			im.origin = Unallocated
		}
		return im
	}
	return s.extra[i-int(s.f.Pages)]
}

// ownerOf is the shape of the live tree that page n is part of, nil if none.
func (s *Survey) ownerOf(n uint32) *shape {
	if int(n) < len(s.owner) && s.owner[n] > 0 {
		return s.shapes[s.owner[n]-1]
	}
	return nil
}

// Page says what page n is used for, and the table whose it is, "" if none or
// not known.
func (s *Survey) Page(n uint32) (Use, string) {
	if n == 0 || int(n) >= len(s.use) {
		return Lost, ""
	}
	if sh := s.ownerOf(n); sh != nil {
		return s.use[n], sh.Name
	}
	return s.use[n], ""
}

// maxSpill is how much of a row that is not alive is followed through overflow
// pages, in bytes; of a longer one that much is there.
const maxSpill = 32 << 20

// chain follows the overflow chain of a cell that is not alive. It returns what
// of the payload is there, and whether that is not all. Of a page in the free
// list the chain may lead through free and lost pages only; a page version takes
// the pages as they were then.
func (s *Survey) chain(im image, cell sqlitefile.Cell, dst []byte) (payload []byte, broken bool) {
	payload = append(dst, cell.Local...)
	if s.f.Unnumbered {
		return payload, true
	}
	per := s.f.Usable() - 4
	limit := int64(s.images())
	if cell.PayloadSize > limit*int64(per) {
		return payload, true
	}
	buf := make([]byte, s.f.PageSize)
	n := cell.Overflow
	for steps := int64(0); int64(len(payload)) < cell.PayloadSize; steps++ {
		if steps > limit || len(payload) > maxSpill || s.spills.Add(-1) < 0 || !s.overflowPage(im, n, buf) {
			return payload, true
		}
		k := min(int64(per), cell.PayloadSize-int64(len(payload)))
		payload = append(payload, buf[4:4+k]...)
		n = binary.BigEndian.Uint32(buf)
	}
	return payload, n != 0
}

// largest is how many bytes a record of the database may take.
func (s *Survey) largest() int64 { return int64(s.images()) * int64(s.f.Usable()) }

func (s *Survey) overflowPage(im image, n uint32, buf []byte) bool {
	if n == 0 {
		return false
	}
	if im.current || im.origin == LostPage {
		if n <= s.f.Pages {
			return (s.use[n] == FreeLeaf || s.use[n] == Lost) && s.f.ReadPage(n, buf) == nil
		}
		return n <= s.f.Stored() && s.f.ReadVersion(sqlitefile.Place{Offset: s.f.PageOffset(n)}, buf) == nil
	}
	// The newest version that is not newer than the cell's transaction.
	last := max(im.Frame, im.Commit)
	best := sqlitefile.Version{Page: n, Place: sqlitefile.Place{Offset: s.f.PageOffset(n)}}
	see := func(v sqlitefile.Version) {
		switch {
		case v.Part != im.Part:
		case im.Part == sqlitefile.Journal && v.Generation == im.Generation, im.Part == sqlitefile.Log && v.Frame <= last && v.Frame >= best.Frame:
			best = v
		}
	}
	for _, i := range s.older[n] {
		see(s.extra[i].Version)
	}
	if n <= s.f.Pages {
		see(s.f.Current(n))
	}
	if best.Part == sqlitefile.Main && (n > s.f.Stored() || im.Generation > 1) {
		return false // what it was before an earlier transaction is not known
	}
	return s.f.ReadVersion(best.Place, buf) == nil
}
