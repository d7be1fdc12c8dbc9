package salvage

import (
	"encoding/binary"
	"fmt"
	"math"
	"unicode/utf8"

	"crosswind/core/sqlitefile"
)

// layout is where the parts of a cell lie, as offsets in its page.
type layout struct {
	start       int // of the cell
	header      int // of the record header
	body        int // of the first value
	end         int // of the cell, or of what survives of it
	overwritten int // bytes at start that are no longer the cell's
	types       []typeAt
}

// typeAt is a serial type and where it stands; len is 0 if its bytes are
// overwritten, and the type is known otherwise or unknown.
type typeAt struct {
	t       sqlitefile.SerialType
	at, len int
}

// Serial types (§2.1), and how many bytes they take in a header.
const (
	emptyBlob  sqlitefile.SerialType = 12
	emptyText  sqlitefile.SerialType = 13
	twoBytes   sqlitefile.SerialType = 128 // the least that takes two bytes
	shortTypes                       = 125 // types of a header whose length takes one byte, if each takes one
	shortText                        = int((twoBytes - emptyText) / 2)
)

// maxPayload is more than any payload has (§1.6).
const maxPayload = 1<<31 - 1

// unknown is the type of a value whose length cannot be told.
const unknown sqlitefile.SerialType = -1

// recordTypes reads the serial types of a whole record header into dst; body is
// where the values begin, and size how many bytes they claim. It gives up once the
// record is longer than most.
func recordTypes(record []byte, at int, dst []typeAt, most int64) (types []typeAt, body int, size int64, ok bool) {
	h, k := sqlitefile.Varint(record)
	if k == 0 || h <= int64(k) || h > int64(len(record)) {
		return dst, 0, 0, false
	}
	for p := k; p < int(h); {
		t, n := int64(record[p]), 1
		if t >= 0x80 {
			if t, n = sqlitefile.Varint(record[p:h]); n == 0 {
				return dst, 0, 0, false
			}
		}
		l := sqlitefile.SerialType(t).Size()
		if l < 0 || size+l < size || size+l+h > most {
			return dst, 0, 0, false
		}
		size += l
		dst = append(dst, typeAt{sqlitefile.SerialType(t), at + p, n})
		p += n
	}
	return dst, int(h), size, true
}

// fields names the parts of the cell. base is the page's offset in the file.
func (l *layout) fields(sh *shape, base int64) []Field {
	out := make([]Field, 0, 4+2*len(l.types))
	add := func(name, role string, from, to int) {
		if from, to = max(from, l.start+l.overwritten), min(to, l.end); to > from {
			out = append(out, Field{name, base + int64(from), to - from, role})
		}
	}
	if l.overwritten > 0 {
		out = append(out, Field{"overwritten when freed", base + int64(l.start), l.overwritten, "overwritten"})
	}
	head := "payload length and row id"
	if sh != nil && sh.kind == sqlitefile.LeafIndex {
		head = "payload length"
	}
	add(head, "head", l.start, l.header)
	first := l.body
	for _, ty := range l.types {
		if ty.len > 0 {
			first = min(first, ty.at)
		}
	}
	add("record header length", "head", l.header, first)
	for k, ty := range l.types {
		if ty.len > 0 {
			add("type of "+sh.columnName(k), "type", ty.at, ty.at+ty.len)
		}
	}
	p := l.body
	for k, ty := range l.types {
		if ty.t == unknown {
			continue
		}
		n := int(min(ty.t.Size(), 1<<30))
		add(sh.columnName(k), "value", p, p+n)
		p = min(p+n, l.end)
	}
	return out
}

// columnName names the k-th value of a record.
func (s *shape) columnName(k int) string {
	if s != nil && k < len(s.columns) {
		switch s.columns[k] {
		case rowIDValue:
			return "row id"
		case expression:
			return "expression"
		}
		return s.Columns[s.columns[k]].Name
	}
	return fmt.Sprintf("c%d", k)
}

// plausibleText reports whether b is valid in its encoding and holds no
// control characters but white space.
func plausibleText(b []byte, enc sqlitefile.Encoding) bool {
	if enc == sqlitefile.UTF8 {
		ascii := true
		for _, c := range b {
			if c < 0x20 && c != '\n' && c != '\t' && c != '\r' {
				return false
			}
			ascii = ascii && c < 0x80
		}
		return ascii || utf8.Valid(b)
	}
	if len(b)%2 != 0 {
		return false
	}
	var order binary.ByteOrder = binary.LittleEndian
	if enc == sqlitefile.UTF16BE {
		order = binary.BigEndian
	}
	high := false
	for i := 0; i < len(b); i += 2 {
		u := order.Uint16(b[i:])
		isLow := u >= 0xdc00 && u < 0xe000
		if high != isLow || u < 0x20 && u != '\n' && u != '\t' && u != '\r' || u >= 0xfffe {
			return false
		}
		high = u >= 0xd800 && u < 0xdc00
	}
	return !high
}

// mixedScripts reports whether a UTF-16 text is Latin for the most part, with some
// units that such texts do not hold, or of several rare scripts: the trace of bytes that
// are not its own.
func mixedScripts(b []byte, enc sqlitefile.Encoding) bool {
	odd := oddUnits(b, enc)
	if odd > 0 && len(b)/2 >= 4*odd {
		return true
	}
	var scripts byteSet
	for i := 0; i+1 < len(b); i += 2 {
		high := b[i+1]
		if enc == sqlitefile.UTF16BE {
			high = b[i]
		}
		if high >= 0x05 && high < 0x1e { // between Cyrillic and Latin Extended Additional
			scripts.add(high)
		}
	}
	return scripts.len() > 1
}

// oddUnits counts the units of a UTF-16 text that Latin texts do not hold.
func oddUnits(b []byte, enc sqlitefile.Encoding) (odd int) {
	var order binary.ByteOrder = binary.LittleEndian
	if enc == sqlitefile.UTF16BE {
		order = binary.BigEndian
	}
	for i := 0; i+1 < len(b); i += 2 {
		switch u := order.Uint16(b[i:]); {
		case u < 0x250, u >= 0x2000 && u < 0x2800, u >= 0x3000 && u < 0x3040, u >= 0xd800 && u < 0xe000, u >= 0xfe00 && u < 0xfe10:
			// letters, punctuation, signs and pictures
		default:
			odd++
		}
	}
	return odd
}

// looksLikeText reports whether a long number is more likely a piece of text: all
// printable, or a real of a size that none has. The bytes of a decimal fraction repeat
// themselves, as in 62.4.
func looksLikeText(b []byte, v sqlitefile.Value) bool {
	if v.Class() == sqlitefile.Real && len(b) == 8 && b[3] == b[4] && b[4] == b[5] && b[5] == b[6] {
		return false
	}
	if x := math.Abs(v.Float()); v.Class() == sqlitefile.Real && x != 0 && (x < 1e-30 || x > 1e30) {
		return true
	}
	for _, c := range b {
		if c < 0x20 || c > 0x7e {
			return false
		}
	}
	return true
}
