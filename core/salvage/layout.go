package salvage

import (
	"fmt"

	"crosswind/core/sqlitefile"
)

// layout is where the parts of a cell lie, as offsets in its page.
type layout struct {
	start       int // of the cell
	header      int // of the record header
	body        int // of the first value
	end         int // of the local payload
	overwritten int // bytes at start that are no longer the cell's
	types       []typeAt
}

// typeAt is a serial type and where it stands; len is 0 if its bytes are
// overwritten and it is known otherwise.
type typeAt struct {
	t       sqlitefile.SerialType
	at, len int
}

// intactLayout reads the layout of a cell whose head is whole. local is the
// local part of its payload, which begins at payloadAt.
func intactLayout(local []byte, start, payloadAt int) (layout, bool) {
	l := layout{start: start, header: payloadAt, end: payloadAt + len(local)}
	h, k := sqlitefile.Varint(local)
	if k == 0 || h < int64(k) || h > int64(len(local)) {
		return l, false
	}
	l.body = payloadAt + int(h)
	for p := k; p < int(h); {
		t, n := sqlitefile.Varint(local[p:h])
		if n == 0 {
			return l, false
		}
		l.types = append(l.types, typeAt{sqlitefile.SerialType(t), payloadAt + p, n})
		p += n
	}
	return l, true
}

// fields names the parts of the cell. base is the page's offset in the file.
func (l *layout) fields(t *sqlitefile.Table, base int64) []Field {
	out := make([]Field, 0, 4+2*len(l.types))
	add := func(name, role string, from, to int) {
		if from = max(from, l.start+l.overwritten); to > from {
			out = append(out, Field{name, base + int64(from), to - from, role})
		}
	}
	if l.overwritten > 0 {
		out = append(out, Field{"overwritten when freed", base + int64(l.start), l.overwritten, "overwritten"})
	}
	add("payload length and row id", "head", l.start, l.header)
	first := l.body
	for _, ty := range l.types {
		if ty.len > 0 {
			first = min(first, ty.at)
		}
	}
	add("record header length", "head", l.header, first)
	for k, ty := range l.types {
		if ty.len > 0 {
			add("type of "+columnName(t, k), "type", ty.at, ty.at+ty.len)
		}
	}
	p := l.body
	for k, ty := range l.types {
		n := int(min(ty.t.Size(), 1<<30))
		add(columnName(t, k), "value", p, min(p+n, l.end))
		p = min(p+n, l.end)
	}
	return out
}

// columnName names the k-th value of a record.
func columnName(t *sqlitefile.Table, k int) string {
	if t != nil && k < len(t.Stored()) {
		return t.Columns[t.Stored()[k]].Name
	}
	return fmt.Sprintf("c%d", k)
}
