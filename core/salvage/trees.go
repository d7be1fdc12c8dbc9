package salvage

import (
	"errors"
	"fmt"
	"iter"
	"sync"
	"sync/atomic"

	"crosswind/core/sqlitefile"
)

// tree is a live tree and what its rows are; shape may be nil.
type tree struct {
	root  uint32
	shape *shape
}

// treePage is a page of a live tree, or why it cannot be read.
type treePage struct {
	n     uint32
	kind  sqlitefile.PageKind
	shape *shape
	learn bool
	err   error
}

// treePages are some pages of live trees, one after the other.
type treePages struct {
	pages []treePage
	data  []byte // the usable parts of those that were read
}

// treeRows is what the cells of some pages say.
type treeRows struct {
	*treePages
	keys   []uint64
	chains []uint32 // overflow pages, each chain ended by 0 and the bytes in use of its last page
	faults []error
}

// errChains ends chains that lead through the same pages again.
var errChains = errors.New("the overflow chains are longer than the file")

// treeBytes is how much is read of trees at a time.
const treeBytes = 1 << 18

const (
	treePagesMost = 1024   // pages of a part
	learnRows     = 20_000 // rows of a large table whose ranges are learned,
	learnEach     = 8      // and of the pages behind them one in so many
)

// walk reads all pages of live trees once: it marks them, and learns their rows.
func (s *Survey) walk(trees []tree) {
	var room sync.Pool
	var readers []*treeReader
	var budget atomic.Int64 // a page is in one chain at most: hostile ones must end
	budget.Store(int64(s.f.Pages))
	rows := inOrder(s.treePages(trees, &room), func() func(*treePages) *treeRows {
		r := &treeReader{s: s, f: s.f.Fork(), learned: make([]*learned, len(s.shapes)), budget: &budget}
		readers = append(readers, r)
		return r.read
	})
	for r := range rows {
		for _, p := range r.pages {
			if p.err != nil {
				s.note(p.err)
				continue
			}
			s.use[p.n] = useOf(p.kind)
			if p.shape != nil {
				s.owner[p.n] = int32(p.shape.id + 1)
			}
		}
		s.overflow(r.chains)
		for _, err := range r.faults {
			s.note(err)
		}
		for _, k := range r.keys {
			if !s.live.add(k) && !s.full {
				s.full = true
				s.note(fmt.Errorf("there are more than %d live rows and index entries: copies of those beyond may be told as recovered", maxLive))
			}
		}
		room.Put(r.treePages)
	}
	for _, r := range readers {
		for id, l := range r.learned {
			if l != nil {
				s.shapes[id].join(l)
			}
		}
	}
}

// overflow marks the pages of overflow chains.
func (s *Survey) overflow(chains []uint32) {
	last := uint32(0)
	for i := 0; i < len(chains); i++ {
		n := chains[i]
		if n != 0 {
			if last = n; s.use[n] == Lost {
				s.use[n] = Overflow
			}
			continue
		}
		if i++; chains[i] > 0 && s.use[last] == Overflow {
			s.used[last] = uint16(min(chains[i], 65535))
		}
	}
}

// treePages reads the pages of trees.
func (s *Survey) treePages(trees []tree, room *sync.Pool) iter.Seq[*treePages] {
	return func(yield func(*treePages) bool) {
		var b *treePages
		fresh := func() {
			if b, _ = room.Get().(*treePages); b == nil {
				b = &treePages{data: make([]byte, 0, treeBytes)}
			}
			b.pages, b.data = b.pages[:0], b.data[:0]
		}
		fresh()
		ended := false
		defer func() {
			if r := recover(); r != nil {
				b.pages = append(b.pages, treePage{err: fmt.Errorf("%w: the trees: %v", ErrInternal, r)})
			}
			if !ended {
				yield(b)
			}
		}()
		f := s.f.Fork()
		for _, t := range trees {
			rows, pages := 0, 0
			for p, err := range f.Tree(t.root) {
				if err != nil {
					b.pages = append(b.pages, treePage{err: err})
				} else {
					b.pages = append(b.pages, treePage{n: p.N, kind: p.Kind, shape: t.shape, learn: rows < learnRows || pages%learnEach == 0})
					b.data = append(b.data, p.Data...)
					rows, pages = rows+p.Cells, pages+1
				}
				if len(b.data)+f.PageSize > treeBytes || len(b.pages) >= treePagesMost {
					if ended = !yield(b); ended {
						return
					}
					fresh()
				}
			}
		}
	}
}

// treeReader reads the cells of tree pages.
type treeReader struct {
	s       *Survey
	f       *sqlitefile.File
	learned []*learned    // by the ids of shapes
	types   []typeAt      // scratch
	spill   []byte        // the same
	budget  *atomic.Int64 // overflow pages that are still followed
}

func (r *treeReader) read(b *treePages) (out *treeRows) {
	out = &treeRows{treePages: b, keys: make([]uint64, 0, 16*len(b.pages))}
	at, rest := uint32(0), b.data
	// One hostile page must not cost the others, nor the process.
	defer func() {
		if x := recover(); x != nil {
			out.faults = append(out.faults, fmt.Errorf("%w: page %d and the next: %v", ErrInternal, at, x))
		}
	}()
	for _, p := range b.pages {
		if p.err != nil {
			continue
		}
		at = p.n
		data := rest[:r.f.Usable()]
		rest = rest[len(data):]
		page, err := sqlitefile.ParsePage(p.n, data)
		if err != nil || p.kind == sqlitefile.InteriorTable {
			continue // the walk has told of it
		}
		for i := range page.Cells {
			if err := r.cell(out, page, i, p); err != nil {
				out.faults = append(out.faults, err)
			}
		}
	}
	return out
}

func (r *treeReader) cell(out *treeRows, page *sqlitefile.Page, i int, p treePage) error {
	off, err := page.Pointer(i)
	if err != nil {
		return err
	}
	c, err := sqlitefile.ParseCell(p.n, p.kind, page.Data, off)
	if err != nil {
		return err
	}
	payload := c.Local
	if c.Overflow != 0 {
		payload = append(r.spill[:0], c.Local...)
		used := 0
		err = r.f.Chain(c, func(page uint32, part []byte) error {
			if r.budget.Add(-1) < 0 {
				return errChains
			}
			out.chains = append(out.chains, page)
			if used = 4 + len(part); len(payload) < maxSpill {
				payload = append(payload, part...)
			}
			return nil
		})
		if r.spill = payload; err != nil {
			used = 0
		}
		out.chains = append(out.chains, 0, uint32(used))
		if err != nil || c.PayloadSize > maxSpill {
			return err
		}
	}
	if p.shape == nil {
		return nil
	}
	types, body, size, ok := recordTypes(payload, 0, r.types[:0], int64(len(payload)))
	if r.types = types; !ok || int64(body)+size > int64(len(payload)) {
		return &sqlitefile.FormatError{Page: c.Page, Offset: c.Offset, What: "a record's header runs out of its payload"}
	}
	l := r.learned[p.shape.id]
	if l == nil {
		l = newLearned(len(p.shape.rules))
		r.learned[p.shape.id] = l
	}
	l.fewest = min(l.fewest, len(types))
	if p.kind == sqlitefile.LeafTable {
		l.ids.see(float64(c.RowID))
	}
	if l.live++; p.learn {
		l.see(types, payload[body:], r.f.Encoding)
	}
	_, k := sqlitefile.Varint(payload)
	out.keys = append(out.keys, mix(r.s.keys.record(payload[k:body], payload[body:]), liveKey(p.shape, idWidth(p.kind, c.RowID))))
	return nil
}
