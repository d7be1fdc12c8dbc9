package volume

import (
	"encoding/binary"
	"strings"
	"time"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"
)

// shortName reports whether eleven bytes can be a short name (section 6.1 of the specification).
func shortName(b []byte) bool {
	if string(b[:11]) == ".          " || string(b[:11]) == "..         " {
		return true
	}
	for i, c := range b[:11] {
		if c < 0x20 && !(i == 0 && c == 0x05) || c == 0x7f || strings.IndexByte("\"*+,./:;<=>?[\\]|", c) >= 0 || c >= 'a' && c <= 'z' || i == 0 && c == ' ' {
			return false
		}
	}
	return true
}

func dosName(b []byte) string {
	s, err := charmap.CodePage437.NewDecoder().String(string(b))
	if err != nil {
		return strings.ToValidUTF8(string(b), "_")
	}
	return s
}

// checksum is that of a short name, which each part of its long name has.
func checksum(b []byte) (sum byte) {
	for _, c := range b[:11] {
		sum = sum>>1 | sum<<7
		sum += c
	}
	return sum
}

// firstByte is the first byte of a short name by its checksum: there is one that gives it.
func firstByte(b []byte, sum byte) byte {
	for i := 10; i > 0; i-- {
		sum -= b[i]
		sum = sum<<1 | sum>>7
	}
	return sum
}

// longName joins the parts of a long name, the last of which stands first, and says where they begin.
func longName(long []longPart, sum byte, deleted bool) (string, int64) {
	var units []uint16
	from, n := int64(0), 0
	for i := len(long) - 1; i >= 0; i-- {
		b := long[i].b
		n++
		if b[13] != sum || (b[0] == 0xe5) != deleted || !deleted && int(b[0]&0x3f) != n {
			if deleted {
				break // of another name
			}
			return "", 0
		}
		var part []uint16
		ended := false
		for _, span := range [][2]int{{1, 11}, {14, 26}, {28, 32}} {
			for j := span[0]; j < span[1]; j += 2 {
				c := binary.LittleEndian.Uint16(b[j:])
				if ended = ended || c == 0 || c == 0xffff; !ended {
					part = append(part, c)
				}
			}
		}
		units, from = append(units, part...), long[i].at
		if ended || !deleted && b[0]&0x40 != 0 {
			break
		}
	}
	return string(utf16.Decode(units)), from
}

// dosTime writes a date and time as ISO 8601; "" if there is none.
func dosTime(date, clock uint16, hundredths byte) string {
	if date == 0 {
		return ""
	}
	at := time.Date(1980+int(date>>9), time.Month(date>>5&15), int(date&31), int(clock>>11), int(clock>>5&63), int(clock&31)*2, 0, time.UTC)
	if at.Day() != int(date&31) || at.Month() != time.Month(date>>5&15) || clock>>11 > 23 || clock>>5&63 > 59 {
		return ""
	}
	if hundredths > 199 {
		hundredths = 0
	}
	return at.Add(time.Duration(hundredths) * 10 * time.Millisecond).Format("2006-01-02T15:04:05.99")
}
