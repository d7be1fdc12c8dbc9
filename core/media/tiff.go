package media

import (
	"bytes"
	"encoding/binary"
	"io"
	"iter"
	"strconv"
	"strings"
)

// A window reads small parts of a file, near one another as a rule, and holds no more than a block of it.
type window struct {
	r    io.ReaderAt
	size int64
	at   int64 // of the block
	b    []byte
}

const blockSize = 1 << 16

// get gives n bytes, a block at most, from an offset on; nil if the file does not have them.
func (w *window) get(at int64, n int) []byte {
	if at < 0 || n < 0 || n > blockSize || at > w.size-int64(n) {
		return nil
	}
	if at < w.at || at+int64(n) > w.at+int64(len(w.b)) {
		b := make([]byte, min(blockSize, w.size-at))
		got, _ := w.r.ReadAt(b, at)
		if w.at, w.b = at, b[:got]; got < n {
			return nil
		}
	}
	return w.b[at-w.at:][:n]
}

// find is where some bytes first lie before an end, -1 if nowhere.
func (w *window) find(what string, end int64) int64 {
	for at := int64(0); at < min(end, w.size); at += blockSize - int64(len(what)) {
		b := w.get(at, int(min(blockSize, min(end, w.size)-at)))
		if i := bytes.Index(b, []byte(what)); i >= 0 {
			return at + int64(i)
		}
	}
	return -1
}

// A tiff is the structure that Exif lies in (TIFF 6.0 section 2; CIPA DC-008 section 4.5.2). What the library gives is
// read by the library; this reads what it leaves out: where the thumbnail lies, and fractions of seconds with their zeros.
type tiff struct {
	*window
	base, end int64 // where it lies in the picture
	order     binary.ByteOrder
}

// chunks goes through the chunks of a PNG file (ISO/IEC 15948 section 5.3) or of a WebP file (RFC 9649 section 2.3): names,
// and where their content lies, [from, to).
func (w *window) chunks(media string) iter.Seq2[string, [2]int64] {
	return func(yield func(string, [2]int64) bool) {
		at, order, after := int64(8), binary.ByteOrder(binary.BigEndian), int64(4) // a CRC
		if media == "image/webp" {
			at, order, after = 12, binary.LittleEndian, 0
		}
		for range maxChunks {
			head := w.get(at, 8)
			if head == nil {
				return
			}
			name, length := head[4:], head[:4]
			if media == "image/webp" {
				name, length = length, name
			}
			n := int64(order.Uint32(length))
			if at += 8; n > w.size-at || !yield(string(name), [2]int64{at, at + n}) {
				return
			}
			if at += n + after; after == 0 {
				at += n % 2
			}
		}
	}
}

const (
	maxChunks = 100_000
	maxPacket = blockSize // of XMP that PNG has: as much as a segment of JPEG has room for
)

// xmpIn is the packet of XMP in a PNG file (XMP part 3, section 1.1.5: text without compression), which the library does not
// look for, within a WebP file of nothing else, where it does; nil if there is none.
func xmpIn(w *window) []byte {
	for name, at := range w.chunks("image/png") {
		if name != "iTXt" {
			continue
		}
		keyword, rest, _ := bytes.Cut(w.get(at[0], int(min(at[1]-at[0], maxPacket))), []byte{0})
		if !bytes.HasPrefix(keyword, []byte("XML:")) || !bytes.HasSuffix(keyword, []byte(".xmp")) || len(rest) < 4 || rest[0] != 0 {
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

// tiffIn finds the structure in a picture; one of no length if it has none.
func tiffIn(w *window, media string) tiff {
	at, end := int64(-1), w.size
	switch media {
	case "image/tiff":
		at = 0
	case "image/jpeg":
		if at = w.find("Exif\x00\x00", 1<<16); at >= 0 {
			at += 6
			end = min(end, at+1<<16) // of one segment
		}
	case "image/png", "image/webp":
		for name, where := range w.chunks(media) {
			if strings.EqualFold(name, "exif") {
				at, end = where[0], where[1]
				break
			}
		}
	default: // an item; its first directory follows at once, as a rule
		at = w.find("II*\x00\x08\x00\x00\x00", w.size)
		if n := w.find("MM\x00*\x00\x00\x00\x08", w.size); at < 0 || n >= 0 && n < at {
			at = n
		}
	}
	head := w.get(at, 8)
	if head == nil {
		return tiff{w, 0, 0, binary.LittleEndian}
	}
	t := tiff{w, at, end, binary.LittleEndian}
	if head[0] == 'M' {
		t.order = binary.BigEndian
	}
	return t
}

// part gives n bytes of the structure; nil if it does not have them.
func (t tiff) part(at, n int) []byte {
	if at < 0 || n < 0 || t.base+int64(at)+int64(n) > t.end {
		return nil
	}
	return t.get(t.base+int64(at), n)
}

func (t tiff) u16(at int) int {
	if b := t.part(at, 2); b != nil {
		return int(t.order.Uint16(b))
	}
	return -1
}

func (t tiff) u32(at int) int {
	if b := t.part(at, 4); b != nil {
		return int(t.order.Uint32(b))
	}
	return -1
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
	if begin := t.part(from, 2); from <= 0 || length <= 4 || t.base+int64(from)+int64(length) > t.end || string(begin) != "\xff\xd8" {
		return where
	}
	return [2]int{int(t.base) + from, int(t.base) + from + length}
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
	if n < 1 || n > 16 {
		return ""
	}
	s := strings.TrimRight(string(t.part(at, n)), "\x00 ")
	if n, err := strconv.Atoi(s); err != nil || float64(n) != number || strings.Trim(s, "0123456789") != "" {
		return ""
	}
	return s[:min(len(s), 9)]
}
