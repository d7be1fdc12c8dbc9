package sqlitefile

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"unicode/utf16"
)

// Varint reads a variable-length integer (§1.6): big-endian, seven bits a
// byte, eight in the ninth. It returns the value and its length in bytes, or
// a length of 0 if b is too short.
func Varint(b []byte) (int64, int) {
	if len(b) > 0 && b[0] < 0x80 {
		return int64(b[0]), 1
	}
	var v uint64
	for i := range min(len(b), 8) {
		v = v<<7 | uint64(b[i]&0x7f)
		if b[i] < 0x80 {
			return int64(v), i + 1
		}
	}
	if len(b) < 9 {
		return 0, 0
	}
	return int64(v<<8 | uint64(b[8])), 9
}

// VarintLen is the number of bytes that v takes as a varint.
func VarintLen(v int64) int {
	n := 1
	for u := uint64(v); u > 0x7f && n < 9; n++ {
		u >>= 7
	}
	return n
}

// AppendVarint appends v as a varint.
func AppendVarint(b []byte, v int64) []byte {
	n := VarintLen(v)
	u := uint64(v)
	if n == 9 {
		b = append(b, make([]byte, 9)...)
		b[len(b)-1] = byte(u)
		u >>= 8
		for i := 2; i <= 9; i++ {
			b[len(b)-i] = byte(u) | 0x80
			u >>= 7
		}
		return b
	}
	for i := n - 1; i > 0; i-- {
		b = append(b, byte(u>>(7*i))|0x80)
	}
	return append(b, byte(u)&0x7f)
}

// SerialType says what a value is and how long (§2.1).
type SerialType int64

// Class is the storage class of a value.
type Class byte

const (
	Null Class = iota
	Integer
	Real
	Text
	Blob
)

// Class gives the storage class of values of type t.
func (t SerialType) Class() Class {
	switch {
	case t == 0:
		return Null
	case t == 7:
		return Real
	case t < 12:
		return Integer
	case t%2 == 1:
		return Text
	}
	return Blob
}

// Size gives the length in bytes of values of type t, or -1 for the types 10
// and 11, which are reserved, and for negative numbers.
func (t SerialType) Size() int64 {
	switch {
	case t < 0 || t == 10 || t == 11:
		return -1
	case t >= 12:
		return int64(t-12) / 2
	}
	return int64([...]int8{0, 1, 2, 3, 4, 6, 8, 8, 0, 0}[t])
}

// Value is one value of a record. Bytes of text and blobs alias the page or
// payload that they were read from.
type Value struct {
	Type SerialType
	num  int64 // integer, or bits of a real
	b    []byte
	// At is where the value's bytes start in the record's payload.
	At int
}

// Class is the value's storage class.
func (v Value) Class() Class { return v.Type.Class() }

// Int returns an integer value.
func (v Value) Int() int64 { return v.num }

// Float returns a real value, or an integer one as a real.
func (v Value) Float() float64 {
	if v.Type == 7 {
		return math.Float64frombits(uint64(v.num))
	}
	return float64(v.num)
}

// Bytes returns the bytes of a text or blob as stored.
func (v Value) Bytes() []byte { return v.b }

// String decodes a text value stored in encoding e. Text that is not valid in
// e has U+FFFD where it is broken.
func (v Value) String(e Encoding) string { return DecodeText(v.b, e) }

// Clone returns a value with bytes of its own.
func (v Value) Clone() Value {
	v.b = slices.Clone(v.b)
	return v
}

// AsReal returns v as a value of a column with REAL affinity: the format
// stores whole numbers of such columns as integers (§2.1, note).
func (v Value) AsReal() Value {
	if v.Class() == Integer {
		v.num, v.Type = int64(math.Float64bits(float64(v.num))), 7
	}
	return v
}

// IntValue makes an integer value that stands nowhere in a record, such as a
// row id that takes the place of its column.
func IntValue(n int64) Value { return Value{Type: 6, num: n, At: -1} }

// PartialText makes a value from the part of a text or blob that survives.
func PartialText(t SerialType, b []byte, at int) Value { return Value{Type: t, b: b, At: at} }

// DecodeText decodes text stored in encoding e.
func DecodeText(b []byte, e Encoding) string {
	if e == UTF8 {
		return string(b)
	}
	var order binary.ByteOrder = binary.LittleEndian
	if e == UTF16BE {
		order = binary.BigEndian
	}
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = order.Uint16(b[2*i:])
	}
	return string(utf16.Decode(u))
}

// ReadValue reads a value of type t from the start of b.
func ReadValue(t SerialType, b []byte, at int) (Value, bool) {
	n := t.Size()
	if n < 0 || n > int64(len(b)) {
		return Value{}, false
	}
	v := Value{Type: t, At: at}
	switch {
	case t >= 12:
		v.b = b[:n:n]
	case t == 9:
		v.num = 1
	case n > 0:
		v.num = int64(int8(b[0]))
		for _, c := range b[1:n] {
			v.num = v.num<<8 | int64(c)
		}
		if t == 7 && math.IsNaN(math.Float64frombits(uint64(v.num))) {
			v.Type = 0 // the library reads a stored NaN as NULL
		}
	}
	return v, true
}

// encodeText is the reverse of DecodeText.
func encodeText(s string, e Encoding) []byte {
	if e != UTF16LE && e != UTF16BE {
		return []byte(s)
	}
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		if e == UTF16LE {
			b = binary.LittleEndian.AppendUint16(b, u)
		} else {
			b = binary.BigEndian.AppendUint16(b, u)
		}
	}
	return b
}

// maxColumns is SQLite's own upper limit on the columns of a table.
const maxColumns = 32767

// Record reads a record (§2.1) from payload into dst, which it returns grown.
// It fails unless every value fits the payload.
func Record(payload []byte, dst []Value) ([]Value, error) {
	h, k := Varint(payload)
	if k == 0 || h < int64(k) || h > int64(len(payload)) {
		return nil, fmt.Errorf("record header of %d bytes in a payload of %d", h, len(payload))
	}
	dst = dst[:0]
	body := int(h)
	for p := k; p < int(h); {
		t, n := Varint(payload[p:h])
		if n == 0 || len(dst) == maxColumns {
			return nil, fmt.Errorf("record header is cut off in column %d", len(dst))
		}
		p += n
		v, ok := ReadValue(SerialType(t), payload[body:], body)
		if !ok {
			return nil, fmt.Errorf("column %d, of serial type %d, runs out of the payload", len(dst), t)
		}
		body += int(SerialType(t).Size())
		dst = append(dst, v)
	}
	return dst, nil
}
