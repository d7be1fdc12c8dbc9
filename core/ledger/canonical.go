package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Canonical returns the JSON Canonicalization Scheme form (RFC 8785) of the
// JSON text src: no white space, members sorted by UTF-16 code units, numbers
// as ECMAScript writes them. Duplicate member names, invalid UTF-8, lone
// surrogates and numbers outside IEEE 754 double range are errors.
func Canonical(src []byte) ([]byte, error) {
	if !utf8.Valid(src) {
		return nil, errors.New("canonical JSON: text is not UTF-8")
	}
	if i := loneSurrogate(src); i >= 0 {
		return nil, fmt.Errorf("canonical JSON: lone surrogate at byte %d", i)
	}
	d := json.NewDecoder(bytes.NewReader(src))
	d.UseNumber()
	var b bytes.Buffer
	if err := canonValue(&b, d, 0); err != nil {
		return nil, fmt.Errorf("canonical JSON: %w", err)
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, errors.New("canonical JSON: text goes on after the value")
	}
	return b.Bytes(), nil
}

// maxDepth bounds nesting, so that hostile text cannot exhaust the stack.
const maxDepth = 200

func canonValue(b *bytes.Buffer, d *json.Decoder, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("nested deeper than %d", maxDepth)
	}
	tok, err := d.Token()
	if err != nil {
		return err
	}
	switch v := tok.(type) {
	case json.Delim:
		if v == '[' {
			return canonArray(b, d, depth)
		}
		return canonObject(b, d, depth)
	case string:
		canonString(b, v)
	case json.Number:
		f, err := v.Float64()
		if err != nil {
			return fmt.Errorf("number %s: %w", v, err)
		}
		if n, err := v.Int64(); err == nil && (math.Abs(f) >= 1<<63 || int64(f) != n) {
			return fmt.Errorf("the integer %s is none that a number holds exactly: it is written as a string", v)
		}
		b.WriteString(ecmaNumber(f))
	case bool:
		b.WriteString(strconv.FormatBool(v))
	case nil:
		b.WriteString("null")
	}
	return nil
}

func canonArray(b *bytes.Buffer, d *json.Decoder, depth int) error {
	b.WriteByte('[')
	for first := true; d.More(); first = false {
		if !first {
			b.WriteByte(',')
		}
		if err := canonValue(b, d, depth+1); err != nil {
			return err
		}
	}
	b.WriteByte(']')
	_, err := d.Token()
	return err
}

func canonObject(b *bytes.Buffer, d *json.Decoder, depth int) error {
	type member struct {
		name  string
		key   []uint16
		value []byte
	}
	var ms []member
	seen := map[string]bool{}
	for d.More() {
		tok, err := d.Token()
		if err != nil {
			return err
		}
		name := tok.(string) // the decoder allows nothing else here
		if seen[name] {
			return fmt.Errorf("member %q appears twice", name)
		}
		seen[name] = true
		var v bytes.Buffer
		if err := canonValue(&v, d, depth+1); err != nil {
			return err
		}
		ms = append(ms, member{name, utf16.Encode([]rune(name)), v.Bytes()})
	}
	if _, err := d.Token(); err != nil {
		return err
	}
	slices.SortFunc(ms, func(a, b member) int { return slices.Compare(a.key, b.key) })
	b.WriteByte('{')
	for i, m := range ms {
		if i > 0 {
			b.WriteByte(',')
		}
		canonString(b, m.name)
		b.WriteByte(':')
		b.Write(m.value)
	}
	b.WriteByte('}')
	return nil
}

// canonString writes s as RFC 8785 section 3.2.2.2 asks.
func canonString(b *bytes.Buffer, s string) {
	b.WriteByte('"')
	for _, r := range s {
		if i := strings.IndexRune("\b\t\n\f\r\"\\", r); i >= 0 {
			b.WriteByte('\\')
			b.WriteByte("btnfr\"\\"[i])
		} else if r < 0x20 {
			fmt.Fprintf(b, `\u%04x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
}

// ecmaNumber writes f as ECMAScript's Number.prototype.toString does
// (ECMA-262, Number::toString, radix 10), which RFC 8785 3.2.2.3 refers to.
func ecmaNumber(f float64) string {
	if f == 0 {
		return "0" // -0 too
	}
	if a := math.Abs(f); a >= 1e-6 && a < 1e21 {
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	s := strconv.FormatFloat(f, 'e', -1, 64)
	mant, exp, _ := strings.Cut(s, "e")
	return mant + "e" + exp[:1] + strings.TrimLeft(exp[1:], "0")
}

// loneSurrogate gives the place of a \u escape that is half of a pair, which
// the standard library's decoder would silently replace, or -1.
func loneSurrogate(src []byte) int {
	unit := func(i int) rune {
		if i+6 > len(src) || src[i] != '\\' || src[i+1] != 'u' {
			return -1
		}
		n, err := strconv.ParseUint(string(src[i+2:i+6]), 16, 16)
		if err != nil {
			return -1
		}
		return rune(n)
	}
	for i := 0; i < len(src); i++ {
		if src[i] != '\\' {
			continue
		}
		switch u := unit(i); {
		case utf16.IsSurrogate(u):
			if utf16.DecodeRune(u, unit(i+6)) == utf8.RuneError {
				return i
			}
			i += 11
		case u >= 0:
			i += 5
		default:
			i++
		}
	}
	return -1
}
