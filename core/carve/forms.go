package carve

import (
	"bytes"
	"compress/lzw"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"slices"

	"crosswind/core/volume"
)

// readPNG follows the chunks of a PNG file (W3C Portable Network Graphics section 5), each with its checksum, to
// the one that ends it. One whose checksum does not hold may go on in a second run, which the checksum proves.
func readPNG(s *source, start int64) Verdict {
	at := start + 8
	for n := 0; ; n++ {
		h := s.get(at, 8)
		if len(h) < 8 {
			return cutOff(n, at-start)
		}
		length, name := int64(binary.BigEndian.Uint32(h)), string(h[4:8])
		if !letters(name) || length > 1<<31-1 || n == 0 && (name != "IHDR" || length != 13) || at+12+length > s.size {
			if n > 0 && s.unit > 0 && s.runs == nil {
				for _, unit := range s.units {
					if v := secondPNG(s, start, at, unit); v.Size > 0 {
						return v
					}
				}
			}
			return cutOff(n, at-start)
		}
		if !holds(s, at, length) {
			if n == 0 {
				return Verdict{}
			}
			if s.unit > 0 && s.runs == nil {
				for _, unit := range s.units {
					if v := secondPNG(s, start, at, unit); v.Size > 0 {
						return v
					}
				}
			}
			return Verdict{at - start, volume.Part, "the checksum of a chunk does not hold"}
		}
		if at += 12 + length; name == "IEND" {
			return Verdict{at - start, volume.Whole, byChecksums}
		}
	}
}

func cutOff(n int, size int64) Verdict {
	if n == 0 {
		return Verdict{}
	}
	return Verdict{size, volume.Part, ends}
}

func letters(s string) bool {
	return len(s) == 4 && !slices.ContainsFunc([]byte(s), func(c byte) bool { return c|0x20 < 'a' || c|0x20 > 'z' })
}

// holds reports whether the checksum of a chunk does.
func holds(s *source, at, length int64) bool {
	sum := crc32.NewIEEE()
	for from, end := at+4, at+8+length; from < end; {
		b := s.get(from, int(min(end-from, windowSize)))
		if len(b) == 0 {
			return false
		}
		sum.Write(b)
		from += int64(len(b))
	}
	return int64(sum.Sum32()) == s.u32(at+8+length)
}

// secondPNG looks for the second run of a file of which a chunk that begins at broken does not hold: the chunk must
// with it, and all that follow to the last.
func secondPNG(s *source, start, broken, unit int64) Verdict {
	defer func() { s.cut(0, 0); s.small = false }()
	h := s.get(broken, 8)
	if len(h) < 8 {
		return Verdict{}
	}
	length := min(int64(binary.BigEndian.Uint32(h)), 1<<22)
	first := s.space.border(broken, unit)
	if !letters(string(h[4:8])) { // which itself lies in the second run
		first, length = s.space.border(broken-12, unit), 0
	}
	for split := first + unit; split <= broken+12+length; split += unit {
		for gap := int64(1); gap <= maxGap && split+gap*unit < s.size; gap++ {
			if s.left -= length + 1<<11; s.left < 0 { // bytes that are summed
				return Verdict{}
			}
			s.cut(split, gap*unit)
			h := s.get(broken, 8)
			if len(h) < 8 || !letters(string(h[4:8])) || int64(binary.BigEndian.Uint32(h)) > 1<<22 || !holds(s, broken, int64(binary.BigEndian.Uint32(h))) {
				continue
			}
			s.runs = []span{}
			v := readPNG(s, start)
			if s.runs = nil; v.Complete == volume.Whole {
				s.runs = []span{{start, split}, {split + gap*unit, start + v.Size + gap*unit}}
				v.Why += ", in two runs"
				return v
			}
		}
	}
	return Verdict{}
}

// readGIF follows the blocks of a GIF file (GIF89a specification) to its trailer. It is whole if the codes of each picture
// give as many pixels as it says.
func readGIF(s *source, start int64) Verdict {
	h := s.get(start, 13)
	if len(h) < 13 || binary.LittleEndian.Uint16(h[6:]) == 0 || binary.LittleEndian.Uint16(h[8:]) == 0 {
		return Verdict{}
	}
	table := func(flags byte) int64 {
		if flags&0x80 == 0 {
			return 0
		}
		return 3 << (flags&7 + 1)
	}
	whole := Verdict{Complete: volume.Whole, Why: byCodes}
	at := start + 13 + table(h[10])
	for images := 0; at-start < maxFile; {
		b := s.get(at, 10)
		if len(b) == 0 {
			return cutOff(images, at-start)
		}
		switch {
		case b[0] == 0x3b:
			if images == 0 {
				return Verdict{}
			}
			whole.Size = at + 1 - start
			return whole
		case b[0] == 0x21:
			d := subBlocks{s: s, at: at + 2}
			for !d.ended && d.skip() {
			}
			if at = d.at; !d.ended {
				return cutOff(images, min(at, s.size)-start)
			}
		case b[0] == 0x2c && len(b) == 10:
			pixels := int64(binary.LittleEndian.Uint16(b[5:])) * int64(binary.LittleEndian.Uint16(b[7:]))
			at += 10 + table(b[9])
			width := s.get(at, 1)
			if len(width) == 0 || width[0] > 8 || width[0] < 2 {
				return cutOff(images, min(at, s.size)-start)
			}
			d := subBlocks{s: s, at: at + 1}
			v := d.decode(int(width[0]), pixels)
			for !d.ended && d.skip() {
			}
			if at = d.at; !d.ended {
				return cutOff(images, min(at, s.size)-start)
			}
			if images++; v.Complete == volume.Part || v.Complete == volume.Unverified && whole.Complete == volume.Whole {
				whole = v
			}
		default:
			return cutOff(images, at-start)
		}
	}
	return Verdict{}
}

// subBlocks are the data sub-blocks of a GIF (GIF89a section 15), read as one.
type subBlocks struct {
	s     *source
	at    int64
	rest  int64 // of the sub-block that is read
	ended bool  // the block terminator was read
}

// skip goes on behind the sub-block that is read, and reports whether there is more of the file.
func (d *subBlocks) skip() bool {
	b := d.s.get(d.at+d.rest, 1)
	if len(b) == 0 {
		d.at, d.rest = d.at+d.rest, 0
		return false
	}
	d.at, d.rest = d.at+d.rest+1, int64(b[0])
	d.ended = d.rest == 0
	return true
}

func (d *subBlocks) ReadByte() (byte, error) {
	for d.rest == 0 {
		if d.ended || !d.skip() || d.ended {
			return 0, io.EOF
		}
	}
	b := d.s.get(d.at, 1)
	if len(b) == 0 {
		return 0, io.EOF
	}
	d.at, d.rest = d.at+1, d.rest-1
	return b[0], nil
}

func (d *subBlocks) Read(p []byte) (n int, err error) {
	for n < len(p) {
		if p[n], err = d.ReadByte(); err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}

// decode follows the codes of a picture (appendix F), which are to give so many pixels and no more.
func (d *subBlocks) decode(width int, pixels int64) Verdict {
	r := lzw.NewReader(d, lzw.LSB, width)
	defer r.Close()
	most := min(pixels, max(d.s.left, 0))
	n, err := io.Copy(io.Discard, io.LimitReader(r, most+1))
	if d.s.left -= n; n > most && most < pixels {
		return Verdict{Complete: volume.Unverified, Why: byChain}
	}
	for n == pixels && !d.ended && d.rest == 0 && d.skip() {
	}
	switch {
	case n < pixels:
		return Verdict{Complete: volume.Part, Why: "the codes of a picture break off before its pixels do"}
	case n == pixels && (err == nil || errors.Is(err, io.ErrUnexpectedEOF)) && d.ended: // a last code is often left out
		return Verdict{Complete: volume.Whole}
	}
	return Verdict{Complete: volume.Unverified, Why: byChain + "; the codes of a picture give more than its pixels"}
}

// readRIFF follows the chunks of a WAV or a WebP file (RIFF; RFC 9649).
func readRIFF(s *source, start int64) (Kind, Verdict) {
	h := s.get(start, 16)
	if len(h) < 16 {
		return Other, Verdict{}
	}
	size, form := int64(binary.LittleEndian.Uint32(h[4:]))+8, string(h[8:12])
	kind := WAV
	if form == "WEBP" {
		kind = WebP
	} else if form != "WAVE" {
		return Other, Verdict{}
	}
	at, seen := start+12, false
	for at+8 <= start+size {
		c := s.get(at, 8)
		if len(c) < 8 || slices.ContainsFunc(c[:4], func(c byte) bool { return c < 0x20 || c > 0x7e }) {
			break
		}
		n := int64(binary.LittleEndian.Uint32(c[4:]))
		seen = seen || string(c[:4]) == "fmt " || string(c[:3]) == "VP8"
		if at+8+n > start+size {
			break
		}
		at += 8 + n + n&1
	}
	if !seen {
		return Other, Verdict{}
	}
	if end := at - start; end != size && end != size+1 || start+size > s.size {
		return kind, Verdict{min(at, s.size) - start, volume.Part, ends}
	}
	return kind, Verdict{size, volume.Unverified, bySizes}
}

// readBoxes follows the boxes of an ISO base media file: films, sounds and pictures (ISO/IEC 14496-12).
func readBoxes(s *source, start int64) (Kind, Verdict) {
	kind, at := MP4, start
	old, most := string(s.get(start+4, 4)) != "ftyp", 100_000
	if old {
		most = 64 // one that is in pieces says what it is
	}
	var index, data bool
	var moov span
	var boxes []span // of media data
	for n := 0; n < most && at-start < maxFile; n++ {
		h := s.get(at, 16)
		if len(h) < 8 {
			break
		}
		size, name := int64(binary.BigEndian.Uint32(h)), string(h[4:8])
		head := int64(8)
		if size == 1 && len(h) == 16 {
			size, head = int64(binary.BigEndian.Uint64(h[8:])), 16
		}
		known := topBoxes[name]
		if !known || size < head || size > maxFile || at+size > s.size || name == "ftyp" && (n > 0 || size > 1024) {
			break
		}
		switch name {
		case "ftyp":
			switch b := s.get(at+8, 4); string(b) {
			case "heic", "heix", "mif1", "msf1", "avif":
				kind = HEIC
			case "qt  ":
			default:
				if !printable(b) {
					return Other, Verdict{}
				}
			}
		case "moov":
			index, moov = true, span{at, at + size}
		case "meta":
			index = index || kind == HEIC
		case "mdat":
			boxes, data = append(boxes, span{at + head, at + size}), true
		}
		at += size
	}
	switch {
	case !index && !data || old && !begins(s, start, moov, boxes):
		return Other, Verdict{}
	case kind == MP4 && moov.to == 0 && len(boxes) > 0 && boxes[0].from > start: // it may stand behind the second run
		for _, unit := range s.units {
			if v := behindGap(s, start, boxes, unit); v.Size > 0 {
				return kind, v
			}
		}
		return kind, Verdict{at - start, volume.Part, "it has no index"}
	case !index || !data:
		return kind, Verdict{at - start, volume.Part, "it has no index, or nothing that its index is of"}
	case moov.to == 0:
		return kind, Verdict{at - start, volume.Unverified, bySizes}
	}
	v, known := film(s, start, moov.from, moov.to, at)
	if !known {
		return kind, Verdict{at - start, volume.Unverified, bySizes}
	}
	if p := picturesOf(s, moov.from, moov.to); v.Complete == volume.Part {
		for _, unit := range s.units {
			if w := secondFilm(s, start, p, at-start, 0, unit, 1); w.Size > 0 {
				return kind, w
			}
		}
	}
	return kind, v
}

// begins reports whether the index of a film that does not say what it is, as those from before ISO/IEC 14496-12 do
// not, shows where the film begins: all that its index leads to lies, counted from there, in its media data, and the
// first of it where those begin.
func begins(s *source, start int64, moov span, boxes []span) bool {
	first, all := int64(maxFile), moov.to > 0
	var inside func(name string, from, to int64)
	inside = func(name string, from, to int64) {
		width := map[string]int64{"stco": 4, "co64": 8}[name]
		switch {
		case name == "trak" || name == "mdia" || name == "minf" || name == "stbl":
			walk(s, from, to, inside)
		case width > 0:
			for i, count := int64(0), s.u32(from+4); i < count && from+8+(i+1)*width <= to && all; i++ {
				if s.left -= 8; s.left < 0 {
					all = false
					break
				}
				at := start + s.u32(from+8+(i+1)*width-4)
				if width == 8 {
					at += s.u32(from+8+i*width) << 32
				}
				all = slices.ContainsFunc(boxes, func(b span) bool { return at >= b.from && at < b.to })
				first = min(first, at-start)
			}
		}
	}
	if all {
		walk(s, moov.from+8, moov.to, inside)
	}
	return all && slices.ContainsFunc(boxes, func(b span) bool { return b.from == start+first })
}

// behindGap looks for the index of a film behind its second run: at the end of its pictures, and some units further.
func behindGap(s *source, start int64, boxes []span, unit int64) Verdict {
	expected := boxes[len(boxes)-1].to
	for gap := int64(1); gap <= maxGap && expected+gap*unit+8 <= s.size; gap++ {
		if s.left -= 1 << 9; s.left < 0 {
			return Verdict{}
		}
		at := expected + gap*unit
		if h := s.get(at, 8); len(h) < 8 || string(h[4:]) != "moov" {
			continue
		}
		end := at
		walk(s, at, s.size, func(name string, from, to int64) { // and what follows it
			if topBoxes[name] && from-8 == end && name != "ftyp" {
				end = to
			}
		})
		size := s.u32(at)
		p := picturesOf(s, at, at+size)
		if p == nil || end <= at {
			continue
		}
		if v := secondFilm(s, start, p, end-gap*unit-start, gap*unit, unit, boxes[0].from-start+1); v.Size > 0 {
			return v
		}
	}
	return Verdict{}
}

func printable(b []byte) bool {
	return len(b) == 4 && !slices.ContainsFunc(b, func(c byte) bool { return c < 0x20 || c > 0x7e })
}

var topBoxes = map[string]bool{"ftyp": true, "moov": true, "mdat": true, "free": true, "skip": true, "wide": true, "moof": true, "mfra": true, "sidx": true, "styp": true, "meta": true, "uuid": true, "pdin": true, "emsg": true, "prft": true, "udta": true}

// readAMR follows the frames of an AMR file (RFC 4867 section 5).
func readAMR(s *source, start int64) Verdict {
	sizes, at := []int64{12, 13, 15, 17, 19, 20, 26, 31, 5, -1, -1, -1, -1, -1, -1, 0}, start+6
	if string(s.get(start, 8)) == "#!AMR-WB" {
		sizes, at = []int64{17, 23, 32, 36, 40, 46, 50, 58, 60, 5, -1, -1, -1, -1, 0, 0}, start+9
	}
	n, usual, end := 0, byte(0), int64(0)
	for ; n < 10_000_000; n++ {
		b := s.get(at, 1)
		if len(b) == 0 || b[0]&0x83 != 0 || b[0] == 0 || sizes[b[0]>>3&15] < 0 || at+1+sizes[b[0]>>3&15] > s.size {
			break
		}
		if at += 1 + sizes[b[0]>>3&15]; n == 0 {
			usual = b[0]
		}
		if b[0] == usual { // it ends with one as it began: what looks like one of another mode may be chance
			end = at
		}
	}
	if n == 0 {
		return Verdict{}
	}
	return Verdict{end - start, volume.Unverified, "its frames follow one another; how many there were it does not say"}
}

// readMP3 follows the frames of a sound (ISO/IEC 11172-3, 13818-3) behind its tag, if it has one.
func readMP3(s *source, start int64) Verdict {
	at := start
	if h := s.get(at, 10); len(h) == 10 && string(h[:3]) == "ID3" {
		if h[3] < 2 || h[3] > 4 || (h[6]|h[7]|h[8]|h[9])&0x80 != 0 {
			return Verdict{}
		}
		at += 10 + int64(h[6])<<21 + int64(h[7])<<14 + int64(h[8])<<7 + int64(h[9])
	}
	n, told, first := 0, int64(-1), int64(0)
	for ; n < 10_000_000; n++ {
		h := s.get(at, 4)
		if len(h) < 4 {
			break
		}
		x := int64(binary.BigEndian.Uint32(h))
		size := frameSize(x)
		if size == 0 || n > 0 && (x^first)&0xfffe0c00 != 0 || at+size > s.size {
			break
		}
		if n == 0 {
			first = x
			b := s.get(at, int(min(size, 200)))
			for _, tag := range []string{"Xing", "Info"} {
				if i := bytes.Index(b, []byte(tag)); i >= 0 && i+12 <= len(b) && b[i+7]&1 != 0 {
					told = int64(binary.BigEndian.Uint32(b[i+8:])) + 1
				}
			}
		}
		at += size
	}
	if n < 8 {
		return Verdict{}
	}
	v := Verdict{at - start, volume.Unverified, "its frames follow one another; how many there were it does not say"}
	if string(s.get(at, 3)) == "TAG" && at+128 <= s.size {
		v.Size += 128
	}
	switch {
	case told == int64(n) || told == int64(n)+1:
		v.Complete, v.Why = volume.Unverified, "it has as many frames as it says"
	case told > int64(n):
		v.Complete, v.Why = volume.Part, ends
	}
	return v
}

// frameSize is the size of the frame of layer III that a head begins, 0 if it is none.
func frameSize(h int64) int64 {
	version, layer, rate, freq, pad := h>>19&3, h>>17&3, h>>12&15, h>>10&3, h>>9&1
	if h>>21 != 0x7ff || version == 1 || layer != 1 || rate == 0 || rate == 15 || freq == 3 {
		return 0
	}
	if version == 3 {
		return 144*[]int64{0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320}[rate]*1000/[]int64{44100, 48000, 32000}[freq] + pad
	}
	hz := []int64{22050, 24000, 16000}[freq]
	if version == 0 {
		hz /= 2
	}
	return 72*[]int64{0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}[rate]*1000/hz + pad
}

// oggTable is of the checksum of pages: RFC 3533 section 6, field 7.
var oggTable = func() (t [256]uint32) {
	for i := range t {
		r := uint32(i) << 24
		for range 8 {
			if r&0x80000000 != 0 {
				r = r<<1 ^ 0x04c11db7
			} else {
				r <<= 1
			}
		}
		t[i] = r
	}
	return t
}()

// readOgg follows the pages of an Ogg file, each with its checksum, to the last of every stream (RFC 3533).
func readOgg(s *source, start int64) Verdict {
	at, open, closed := start, map[uint32]uint32{}, 0
	for n := 0; n < 10_000_000; n++ {
		h := s.get(at, 27)
		if len(h) < 27 || string(h[:5]) != "OggS\x00" {
			break
		}
		segments, flags, serial, number, want := int(h[26]), h[5], binary.LittleEndian.Uint32(h[14:]), binary.LittleEndian.Uint32(h[18:]), binary.LittleEndian.Uint32(h[22:])
		size := 27 + segments
		lacing := s.get(at, size)
		if len(lacing) < size {
			break
		}
		for _, l := range lacing[27:] {
			size += int(l)
		}
		page := s.get(at, size)
		if len(page) < size {
			break
		}
		sum := uint32(0)
		for i, c := range page {
			if i >= 22 && i < 26 {
				c = 0
			}
			sum = sum<<8 ^ oggTable[byte(sum>>24)^c]
		}
		last, known := open[serial]
		if sum != want || known && number != last+1 || !known && (flags&2 == 0 || closed > 0 && len(open) == 0) {
			break
		}
		open[serial] = number
		at += int64(size)
		if flags&4 != 0 {
			delete(open, serial)
			if closed++; len(open) == 0 {
				return Verdict{at - start, volume.Whole, byChecksums}
			}
		}
	}
	if at == start {
		return Verdict{}
	}
	return Verdict{at - start, volume.Part, ends}
}
