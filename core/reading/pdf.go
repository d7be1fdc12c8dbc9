package reading

import (
	"bytes"
	"compress/zlib"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

var (
	infoRef   = regexp.MustCompile(`/Info\s+(\d{1,8})\s+(\d{1,5})\s+R`)
	encrypted = regexp.MustCompile(`/Encrypt\s*(?:\d|<<)`)
	objStream = regexp.MustCompile(`/Type\s*/ObjStm\b`)
)

const maxInflated = 4 << 20

// pdf reads the properties of a PDF: its document information dictionary (ISO 32000-1 section 14.3.3), the last
// one of several.
func pdf(b []byte) (p properties, err error) {
	refs := infoRef.FindAllSubmatch(b, -1)
	if encrypted.Match(b) {
		p.locked = "it is encrypted"
		return p, nil
	}
	if len(refs) == 0 {
		return p, nil
	}
	ref := refs[len(refs)-1]
	head := regexp.MustCompile(`(?:^|[^\d])` + string(ref[1]) + `\s+` + string(ref[2]) + `\s+obj\b`)
	var dict []byte
	if all := head.FindAllIndex(b, -1); len(all) > 0 {
		dict = b[all[len(all)-1][1]:]
	} else {
		n, _ := strconv.Atoi(string(ref[1])) // of digits
		dict = packed(b, n)
	}
	if dict == nil {
		return p, errors.New("what it says of itself is not where it says that it is")
	}
	for key, s := range dictionary(dict) {
		switch key {
		case "Title":
			p.title = s
		case "Author":
			p.author = s
		case "Creator":
			p.program = s
		case "CreationDate":
			p.made = pdfTime("made", s)
		case "ModDate":
			p.changed = pdfTime("changed", s)
		}
	}
	return p, nil
}

// packed finds an object in the streams of objects: section 7.5.7.
func packed(b []byte, number int) []byte {
	budget := int64(maxInflated)
	var found []byte
	for _, at := range objStream.FindAllIndex(b, 1000) {
		from := max(0, bytes.LastIndex(b[:at[0]], []byte("obj")))
		i := bytes.Index(b[at[1]:], []byte("stream"))
		if i < 0 || i > 2000 {
			continue
		}
		head, data := b[from:at[1]+i], b[at[1]+i+len("stream"):]
		first, ok := entry(head, "First")
		if !ok {
			continue
		}
		data = bytes.TrimPrefix(bytes.TrimPrefix(data, []byte("\r")), []byte("\n"))
		z, err := zlib.NewReader(bytes.NewReader(data))
		if err != nil {
			continue
		}
		out, _ := io.ReadAll(io.LimitReader(z, budget)) // what could be unpacked of it
		if budget -= int64(len(out)); budget <= 0 {
			return found
		}
		if first > len(out) {
			continue
		}
		pairs := strings.Fields(string(out[:first]))
		for i := 0; i+1 < len(pairs); i += 2 {
			n, err1 := strconv.Atoi(pairs[i])
			off, err2 := strconv.Atoi(pairs[i+1])
			if err1 == nil && err2 == nil && n == number && off >= 0 && off <= len(out)-first {
				found = out[first+off:]
			}
		}
	}
	return found
}

// entry is a number of a dictionary.
func entry(b []byte, name string) (int, bool) {
	m := regexp.MustCompile(`/` + name + `\s+(\d{1,9})\b`).FindSubmatch(b)
	if m == nil {
		return 0, false
	}
	n, err := strconv.Atoi(string(m[1]))
	return n, err == nil
}

// dictionary reads the texts of a dictionary that b begins with; other values are passed over.
func dictionary(b []byte) map[string]string {
	out := map[string]string{}
	b = bytes.TrimLeft(b, " \t\r\n\f\x00")
	if !bytes.HasPrefix(b, []byte("<<")) {
		return out
	}
	key := ""
	for i := 2; i < len(b) && i < maxSaid; {
		switch c := b[i]; {
		case bytes.HasPrefix(b[i:], []byte(">>")):
			return out
		case c == '/':
			end := i + 1
			for end < len(b) && !strings.ContainsRune(" \t\r\n\f\x00/()<>[]{}%", rune(b[end])) {
				end++
			}
			key, i = string(b[i+1:end]), end
		case c == '(':
			s, n := literal(b[i:])
			out[key], i = pdfText(s), i+n
		case c == '<':
			end := bytes.IndexByte(b[i:], '>')
			if end < 0 {
				return out
			}
			out[key], i = pdfText(hexadecimal(b[i+1:i+end])), i+end+1
		default:
			i++
		}
	}
	return out
}

// literal reads a text in parentheses, and says how long it is: section 7.3.4.2.
func literal(b []byte) (out []byte, n int) {
	depth := 0
	for i := 0; i < len(b); i++ {
		c := b[i]
		switch {
		case c == '(':
			if depth++; depth == 1 {
				continue
			}
		case c == ')':
			if depth--; depth == 0 {
				return out, i + 1
			}
		case c == '\\' && i+1 < len(b):
			i++
			c = b[i]
			if k := strings.IndexByte("nrtbf", c); k >= 0 {
				c = "\n\r\t\b\f"[k]
			} else if c == '\r' || c == '\n' {
				if c == '\r' && i+1 < len(b) && b[i+1] == '\n' {
					i++
				}
				continue
			} else if c >= '0' && c <= '7' {
				v := 0
				for k := 0; k < 3 && i < len(b) && b[i] >= '0' && b[i] <= '7'; k++ {
					v, i = v*8+int(b[i]-'0'), i+1
				}
				i--
				c = byte(v)
			}
		}
		out = append(out, c)
	}
	return out, len(b)
}

func hexadecimal(b []byte) (out []byte) {
	var digits []byte
	for _, c := range b {
		if k := strings.IndexByte("0123456789abcdef", c|0x20); k >= 0 && c > ' ' {
			digits = append(digits, byte(k))
		}
	}
	if len(digits)%2 == 1 {
		digits = append(digits, 0)
	}
	for i := 0; i < len(digits); i += 2 {
		out = append(out, digits[i]<<4|digits[i+1])
	}
	return out
}

// pdfText reads a text string: UTF-16 or UTF-8 with their marks, or of one byte a character, of which those are
// read that ISO 8859-1 has, too (section 7.9.2.2).
func pdfText(b []byte) string {
	switch {
	case bytes.HasPrefix(b, []byte("\xfe\xff")):
		var units []uint16
		for b = b[2:]; len(b) >= 2; b = b[2:] {
			units = append(units, uint16(b[0])<<8|uint16(b[1]))
		}
		return string(utf16.Decode(units))
	case bytes.HasPrefix(b, []byte("\xef\xbb\xbf")) && utf8.Valid(b):
		return string(b[3:])
	}
	var out strings.Builder
	for _, c := range b {
		out.WriteRune(rune(c))
	}
	return out.String()
}
