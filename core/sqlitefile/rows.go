package sqlitefile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
)

// Row is one live row of a table. Values are in the order of the table's
// columns. It is valid until the iteration goes on; Clone keeps it.
type Row struct {
	Cell
	Values []Value
	// Payload is the whole payload, overflow pages included.
	Payload []byte
}

// maxDepth bounds the height of a b-tree: one of SQLite's own constants.
const maxDepth = 20

// Rows walks the b-tree of t from its root and yields its rows in order. A
// page or cell that cannot be read yields an error, and the walk goes on with
// the next, so that damage costs only what it touches.
func (f *File) Rows(t *Table) iter.Seq2[*Row, error] {
	return func(yield func(*Row, error) bool) {
		w := walker{f: f, t: t, yield: yield, seen: newPageSet(f.Pages)}
		w.page(t.Root, 0)
	}
}

// Tree walks the pages of the b-tree whose root is given, parents first. The
// Page is valid until the iteration goes on.
func (f *File) Tree(root uint32) iter.Seq2[*Page, error] {
	return func(yield func(*Page, error) bool) {
		w := walker{f: f, seen: newPageSet(f.Pages), pages: yield}
		w.page(root, 0)
	}
}

type walker struct {
	f     *File
	t     *Table
	seen  pageSet
	yield func(*Row, error) bool
	pages func(*Page, error) bool
	bufs  [maxDepth][]byte
	row   Row
	raw   []Value
	cells []Value
	spill []byte
}

func (w *walker) fail(err error) bool {
	if w.pages != nil {
		return w.pages(nil, err)
	}
	return w.yield(nil, err)
}

// page visits page n and what is below it; false ends the walk.
func (w *walker) page(n uint32, depth int) bool {
	if depth == maxDepth {
		return w.fail(&FormatError{Page: n, What: "b-tree is deeper than any can be"})
	}
	if n == 0 || n > w.f.Pages || !w.seen.add(n) {
		return w.fail(&FormatError{Page: n, What: "a b-tree leads to a page twice, or out of the file"})
	}
	if w.bufs[depth] == nil {
		w.bufs[depth] = make([]byte, w.f.PageSize)
	}
	if err := w.f.ReadPage(n, w.bufs[depth]); err != nil {
		return w.fail(err)
	}
	p, err := ParsePage(n, w.bufs[depth][:w.f.Usable()])
	if err != nil {
		return w.fail(err)
	}
	if w.pages != nil && !w.pages(p, nil) {
		return false
	}
	if w.pages != nil && p.Kind.Leaf() {
		return true
	}
	for i := range p.Cells {
		off, err := p.Pointer(i)
		var c Cell
		if err == nil {
			c, err = ParseCell(n, p.Kind, p.Data, off)
		}
		if err != nil {
			if !w.fail(err) {
				return false
			}
			continue
		}
		if !p.Kind.Leaf() && !w.page(c.Left, depth+1) {
			return false
		}
		// Interior cells of an index tree are entries too (§1.6).
		if w.pages == nil && p.Kind != InteriorTable && !w.cell(c) {
			return false
		}
	}
	if !p.Kind.Leaf() {
		return w.page(p.Right, depth+1)
	}
	return true
}

func (w *walker) cell(c Cell) bool {
	payload := c.Local
	if c.Overflow != 0 {
		var err error
		if w.spill, err = w.f.Payload(c, w.spill[:0]); err != nil {
			return w.fail(err)
		}
		payload = w.spill
	}
	raw, err := Record(payload, w.raw)
	if err != nil {
		return w.fail(&FormatError{c.Page, c.Offset, err.Error()})
	}
	w.raw = raw
	w.row.Cell, w.row.Payload = c, payload
	if w.t.stored == nil {
		w.row.Values = raw // no columns known: as they come
	} else {
		w.cells = w.t.Arrange(raw, c.RowID, w.cells)
		w.row.Values = w.cells
	}
	return w.yield(&w.row, nil)
}

// Arrange puts the values of a record into the order of t's columns: the row
// id in its place, reals as reals, defaults where the record is from before a
// column was added. dst is grown and returned.
func (t *Table) Arrange(raw []Value, rowID int64, dst []Value) []Value {
	if cap(dst) < len(t.Columns) {
		dst = make([]Value, len(t.Columns))
	}
	dst = dst[:len(t.Columns)]
	for i := range dst {
		dst[i] = Value{At: -1}
	}
	for k, i := range t.stored {
		c := &t.Columns[i]
		switch {
		case k >= len(raw):
			dst[i] = c.defaultValue(t.encoding)
		case i == t.RowIDColumn:
			dst[i] = IntValue(rowID)
		case c.Affinity == AffReal:
			dst[i] = raw[k].AsReal()
		default:
			dst[i] = raw[k]
		}
	}
	return dst
}

// Payload follows c's overflow chain and returns the whole payload, in dst grown.
func (f *File) Payload(c Cell, dst []byte) ([]byte, error) {
	dst = append(dst, c.Local...)
	err := f.Chain(c, func(_ uint32, part []byte) error {
		dst = append(dst, part...)
		return nil
	})
	return dst, err
}

// Chain follows c's overflow chain (§1.6): visit is called with each page and the
// part of the payload that it holds, until it returns an error.
func (f *File) Chain(c Cell, visit func(page uint32, part []byte) error) error {
	per, left := int64(f.Usable()-4), c.PayloadSize-int64(len(c.Local))
	if left > int64(f.Pages)*per {
		return &FormatError{c.Page, c.Offset, fmt.Sprintf("a payload of %d bytes is more than the file holds", c.PayloadSize)}
	}
	if f.spill == nil {
		f.spill = make([]byte, f.PageSize)
	}
	for n := c.Overflow; left > 0; n = binary.BigEndian.Uint32(f.spill) {
		err := f.ReadPage(n, f.spill)
		k := min(per, left)
		if err == nil {
			err = visit(n, f.spill[4:4+k])
		}
		if err != nil {
			return fmt.Errorf("overflow chain of the cell on page %d, offset %d: %w", c.Page, c.Offset, err)
		}
		left -= k
	}
	return nil
}

// Find looks for the row with the given id in the table tree below root. The
// Cell's bytes are valid until the next call. It reads few pages, and remembers
// those it read last.
func (f *File) Find(root uint32, id int64) (Cell, bool) {
	for depth := 0; depth < maxDepth; depth++ {
		p := f.recent(root)
		if p == nil || p.Kind != LeafTable && p.Kind != InteriorTable {
			return Cell{}, false
		}
		low, high := 0, p.Cells
		for low < high {
			mid := (low + high) / 2
			if p.rowID(mid) < id {
				low = mid + 1
			} else {
				high = mid
			}
		}
		var at Cell
		if low < p.Cells {
			off, err := p.Pointer(low)
			if err == nil {
				at, err = ParseCell(p.N, p.Kind, p.Data, off)
			}
			if err != nil {
				return Cell{}, false
			}
		}
		if p.Kind == LeafTable {
			return at, low < p.Cells && at.RowID == id
		}
		if root = p.Right; low < p.Cells {
			root = at.Left
		}
	}
	return Cell{}, false
}

// rowID is the row id of cell i of a table page, 0 if it cannot be read.
func (p *Page) rowID(i int) int64 {
	off, err := p.Pointer(i)
	if err != nil {
		return 0
	}
	if p.Kind == LeafTable {
		_, k := Varint(p.Data[off:])
		off += k
	} else {
		off += 4
	}
	id, _ := Varint(p.Data[min(off, len(p.Data)):])
	return id
}

// recentPages is how many pages Find remembers.
const recentPages = 64

func (f *File) recent(n uint32) *Page {
	slot := &f.cache[n%recentPages]
	if *slot != nil && (*slot).N == n {
		return *slot
	}
	buf := make([]byte, f.PageSize)
	if *slot != nil {
		buf = (*slot).Data[:f.PageSize]
		*slot = nil
	}
	if f.ReadPage(n, buf) != nil {
		return nil
	}
	p, err := ParsePage(n, buf[:f.Usable()])
	if err != nil {
		return nil
	}
	*slot = p
	return p
}

// ErrNoTable is returned when a table is asked for that the schema lacks.
var ErrNoTable = errors.New("no such table")

// Table finds a table by name.
func (f *File) Table(name string) (*Table, error) {
	ts, err := f.Tables()
	for _, t := range ts {
		if t.Name == name {
			return t, nil
		}
	}
	return nil, errors.Join(fmt.Errorf("%w: %s", ErrNoTable, name), err)
}
