package salvage

import (
	"errors"
	"fmt"
	"iter"
	"slices"

	"crosswind/core/sqlitefile"
)

// finding is what is kept of a chosen reading until it is told: enough to compare
// it with others, and to read it again.
type finding struct {
	key    uint64
	rowID  int64
	image  int32
	length uint32
	types  uint32 // where its serial types begin in gathering.types
	other  int32  // the finding that it is told under, plus 1; 0 if it stands itself
	next   int32  // the next that is told under the same, plus 1
	first  int32  // the first that is told under it, plus 1
	start  uint16
	header uint16 // from start
	body   uint16 // from header
	count  uint16 // of types
	shape  int32  // -1 if not known
	run    uint8
	sure   uint8 // confidence, in hundredths
	origin uint8 // an index into Origins
	flags  uint8
}

const (
	hasRowID = 1 << iota
	partial
	covered // a partial one that says nothing that another does not say
	inIndex
	headless
	table // its cell is built as those of table pages
	cut   // what its overflow chain leads to is not its own
)

// findingKey is a key of the n-th finding, or of what survives in it.
type findingKey struct {
	key uint64
	n   int32
}

// batch is what some page versions, one after the other, gave.
type batch struct {
	found   []finding
	types   []byte             // serial types of the findings, as varints
	rivals  map[int32][]*shape // of findings of no certain table
	partial []findingKey       // partial findings by the values that survive in them
	parts   map[int32][]byte   // of partial findings, the beginning of a value that is cut off
	tables  map[*sqlitefile.Table]bool
	faults  []error
	bytes   int64
}

// batchImages is how many page versions make a batch.
const batchImages = 256

// batches scans all page versions, several batches at a time, and yields what they
// gave in their order.
func (s *Survey) batches(opt Options, ps *patterns) iter.Seq[*batch] {
	return inOrder(func(yield func(int) bool) {
		for from := 0; from < s.images() && yield(from); from += batchImages {
		}
	}, func() func(int) *batch {
		c := collector{s: s.fork(), patterns: ps}
		c.sc = newScanner(c.s)
		c.sc.inOrder = true
		return func(from int) *batch { return c.collect(from, min(from+batchImages, s.images()), opt) }
	})
}

// fork makes a survey that can be used beside s.
func (s *Survey) fork() *Survey {
	c := *s
	c.f = s.f.Fork()
	return &c
}

// collector makes batches.
type collector struct {
	s        *Survey
	sc       *scanner
	patterns *patterns
	buf      Row // scratch
	b        *batch
}

func (g *collector) collect(from, to int, opt Options) *batch {
	g.b = &batch{bytes: int64(to-from) * int64(g.s.f.PageSize)}
	at := from
	// One hostile page must not cost the others, nor the process.
	defer func() {
		if r := recover(); r != nil {
			g.b.faults = append(g.b.faults, fmt.Errorf("%w: page %d and the next: %v", ErrInternal, g.s.image(at).Page, r))
		}
	}()
	for i := from; i < to; i++ {
		at = i
		if im := g.s.image(i); opt.Full || im.origin != LostPage {
			if err := g.take(i); err != nil {
				g.b.faults = append(g.b.faults, err)
			}
		}
	}
	return g.b
}

// ErrInternal is a fault of this package, not of the file: a page that it fails on.
var ErrInternal = errors.New("this reader failed")

// take scans a page version.
func (g *collector) take(i int) error {
	im, b := g.s.image(i), g.b
	if im.current {
		switch use := g.s.use[im.Page]; use {
		case PointerMap, LockByte:
			return nil
		case Overflow:
			if g.s.used[im.Page] == 0 {
				return nil
			}
		}
	}
	if err := g.sc.read(im); err != nil {
		return err
	}
	for _, c := range g.sc.scan() {
		f := finding{key: c.key, rowID: c.rowID, image: int32(i), start: uint16(c.start), length: uint32(c.end - c.start), shape: -1,
			types: uint32(len(b.types)), header: uint16(c.header - c.start), body: uint16(c.body - c.header), count: uint16(len(c.types)),
			run: uint8(c.run), sure: uint8(c.confidence()*100 + 0.5), origin: uint8(slices.Index(Origins, c.origin))}
		for _, t := range c.types {
			b.types = sqlitefile.AppendVarint(b.types, int64(t.t)+1)
		}
		if c.hasRowID {
			f.flags |= hasRowID
		}
		if c.overwritten > 0 {
			f.flags |= headless
		}
		if c.kind == sqlitefile.LeafTable {
			f.flags |= table
		}
		if c.shape != nil {
			f.shape = int32(c.shape.id)
			if c.shape.index != "" {
				f.flags |= inIndex | partial
			}
		}
		if c.doubtful {
			f.flags |= cut
		}
		if c.key == 0 {
			f.flags |= partial
		}
		n := int32(len(b.found))
		if c.shape == nil && len(c.rivals) > 0 {
			if b.rivals == nil {
				b.rivals = map[int32][]*shape{}
			}
			b.rivals[n] = slices.Clone(c.rivals)
		}
		if f.flags&partial != 0 && c.shape != nil {
			g.addPartial(c, n)
		}
		b.found = append(b.found, f)
	}
	return nil
}

// addPartial files a finding by the values that survive in it.
func (g *collector) addPartial(c *candidate, n int32) {
	row, b := g.s.row(g.sc, c, &g.buf), g.b
	p := g.patterns.pattern(row)
	if p == nil {
		return
	}
	b.partial = append(b.partial, findingKey{g.s.keys.project(p, row, p.withID), n})
	if p.withID {
		b.partial = append(b.partial, findingKey{g.s.keys.project(p, row, false), n})
	}
	for i, l := range row.Lost {
		if part := row.Values[i].Bytes(); l && len(part) > 0 {
			if b.parts == nil {
				b.parts = map[int32][]byte{}
			}
			b.parts[n] = slices.Clone(part[:min(len(part), 64)])
		}
	}
	if c.shape.index == "" {
		if b.tables == nil {
			b.tables = map[*sqlitefile.Table]bool{}
		}
		b.tables[c.shape.Table] = true
	}
}
