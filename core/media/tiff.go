package media

import (
	"bytes"
	"encoding/binary"
	"iter"
	"strconv"
	"strings"
)

// A tiff is the structure that Exif lies in (TIFF 6.0 section 2; CIPA DC-008 section 4.5.2). What the library gives is
// read by the library; this reads what it leaves out: where the thumbnail lies, and fractions of seconds with their zeros.
type tiff struct {
	b     []byte
	base  int // where it begins in the picture
	order binary.ByteOrder
}

// chunks goes through the chunks of a PNG file (ISO/IEC 15948 section 5.3) or of a WebP file (RFC 9649 section 2.3): names,
// and where their content lies, [from, to).
func chunks(content []byte, media string) iter.Seq2[string, [2]int] {
	return func(yield func(string, [2]int) bool) {
		at, order, after := 8, binary.ByteOrder(binary.BigEndian), 4 // a CRC
		if media == "image/webp" {
			at, order, after = 12, binary.LittleEndian, 0
		}
		for at <= len(content)-8 {
			name, length := content[at+4:at+8], content[at:at+4]
			if media == "image/webp" {
				name, length = length, name
			}
			n := int(order.Uint32(length))
			if at += 8; n > len(content)-at || !yield(string(name), [2]int{at, at + n}) {
				return
			}
			if at += n + after; after == 0 {
				at += n % 2
			}
		}
	}
}

// xmpIn is the packet of XMP in a PNG file (XMP part 3, section 1.1.5: text without compression), which the library does not
// look for, within a WebP file of nothing else, where it does; nil if there is none.
func xmpIn(content []byte) []byte {
	for name, at := range chunks(content, "image/png") {
		keyword, rest, _ := bytes.Cut(content[at[0]:at[1]], []byte{0})
		if name != "iTXt" || !bytes.HasPrefix(keyword, []byte("XML:")) || !bytes.HasSuffix(keyword, []byte(".xmp")) || len(rest) < 4 || rest[0] != 0 {
			continue
		}
		_, rest, _ = bytes.Cut(rest[2:], []byte{0})                                                             // language
		_, packet, _ := bytes.Cut(rest, []byte{0})                                                              // keyword in it
		b := []byte("RIFF\x00\x00\x00\x00WEBPVP8X\x0a\x00\x00\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00XMP ") // the flag of XMP
		b = append(binary.LittleEndian.AppendUint32(b, uint32(len(packet))), packet...)
		binary.LittleEndian.PutUint32(b[4:], uint32(len(b)-8))
		return b
	}
	return nil
}

// tiffIn finds the structure in a picture; one without bytes if it has none.
func tiffIn(content []byte, media string) tiff {
	at := -1
	switch media {
	case "image/tiff":
		at = 0
	case "image/jpeg":
		if at = bytes.Index(content[:min(len(content), 1<<16)], []byte("Exif\x00\x00")); at >= 0 {
			at += 6
		}
	case "image/png", "image/webp":
		for name, where := range chunks(content, media) {
			if strings.EqualFold(name, "exif") {
				at = where[0]
				break
			}
		}
	default: // an item; its first directory follows at once, as a rule
		at = bytes.Index(content, []byte("II*\x00\x08\x00\x00\x00"))
		if n := bytes.Index(content, []byte("MM\x00*\x00\x00\x00\x08")); at < 0 || n >= 0 && n < at {
			at = n
		}
	}
	if at < 0 || len(content) < at+8 {
		return tiff{}
	}
	t := tiff{content[at:], at, binary.LittleEndian}
	if media == "image/jpeg" {
		t.b = t.b[:min(len(t.b), 1<<16)] // of one segment
	}
	if t.b[0] == 'M' {
		t.order = binary.BigEndian
	}
	return t
}

func (t tiff) u16(at int) int {
	if at < 0 || at > len(t.b)-2 {
		return -1
	}
	return int(t.order.Uint16(t.b[at:]))
}

func (t tiff) u32(at int) int {
	if at < 0 || at > len(t.b)-4 {
		return -1
	}
	return int(t.order.Uint32(t.b[at:]))
}

// entry finds a tag in the directory at dir; -1 if it is not there.
func (t tiff) entry(dir, tag int) int {
	if dir <= 0 {
		return -1
	}
	for i := range max(0, t.u16(dir)) {
		if e := dir + 2 + 12*i; t.u16(e) == tag {
			return e
		}
	}
	return -1
}

// long is a tag's value as a number, -1 if it has none.
func (t tiff) long(dir, tag int) int {
	if e := t.entry(dir, tag); e >= 0 {
		return t.u32(e + 8)
	}
	return -1
}

// thumbnail is where the picture in the second directory lies in the file (CIPA DC-008 section 4.5.7), [from, to).
func (t tiff) thumbnail() (where [2]int) {
	first := t.u32(4)
	n := t.u16(first)
	if n < 0 {
		return where
	}
	second := t.u32(first + 2 + 12*n)
	from, length := t.long(second, 0x0201), t.long(second, 0x0202)
	if from <= 0 || length <= 4 || from > len(t.b)-length || t.b[from] != 0xff || t.b[from+1] != 0xd8 {
		return where
	}
	return [2]int{t.base + from, t.base + from + length}
}

// fraction is what a tag of Exif says of parts of a second: digits after the point (CIPA DC-008 section 4.6.5.D). The
// library makes a number of them, which they have to be: what else has led here is not Exif's.
func (t tiff) fraction(tag int, number float64) string {
	exif := t.long(t.u32(4), 0x8769)
	e := t.entry(exif, tag)
	if e < 0 || t.u16(e+2) != 2 { // ASCII
		return ""
	}
	n, at := t.u32(e+4), e+8
	if n > 4 {
		at = t.u32(e + 8)
	}
	if n < 1 || n > 16 || at < 0 || at > len(t.b)-n {
		return ""
	}
	s := strings.TrimRight(string(t.b[at:at+n]), "\x00 ")
	if n, err := strconv.Atoi(s); err != nil || float64(n) != number || strings.Trim(s, "0123456789") != "" {
		return ""
	}
	return s[:min(len(s), 9)]
}
