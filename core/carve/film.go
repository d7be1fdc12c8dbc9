package carve

import (
	"bytes"
	"encoding/binary"

	"crosswind/core/volume"
)

// sample is a piece of a film's pictures: where its index says that it lies, from the file's start.
type sample struct {
	at, size int64
}

// pictures are the samples of a film's first track of pictures whose form can be told: each is a row of units with
// their lengths (H.264 and H.265 as ISO/IEC 14496-15 has them), or begins with a start code (MPEG-4 Visual).
type pictures struct {
	samples []sample
	length  int64    // bytes of a unit's length, 0 for start codes
	sounds  []sample // of a track of AAC, whose frames begin and end as few others do
}

const (
	soundOfAAC = 100 // in the place of a length

	maxIndex   = 64 << 20
	maxSamples = 1 << 20
)

// picturesOf reads the index of a film, which lies in s from at to end (ISO/IEC 14496-12 section 8); nil if nothing
// of it can be checked.
func picturesOf(s *source, at, end int64) *pictures {
	if end-at > maxIndex {
		return nil
	}
	var found *pictures
	var sounds []sample
	walk(s, at+8, end, func(name string, from, to int64) {
		if name != "trak" {
			return
		}
		p, stbl := &pictures{length: -1}, [4]span{}
		var kind string
		var inside func(name string, from, to int64)
		inside = func(name string, from, to int64) {
			switch name {
			case "mdia", "minf", "stbl":
				walk(s, from, to, inside)
			case "hdlr":
				if kind == "" {
					kind = string(s.get(from+8, 4))
				}
			case "stsd":
				p.coding(s, from, to)
			case "stsz":
				stbl[0] = span{from, to}
			case "stsc":
				stbl[1] = span{from, to}
			case "stco":
				stbl[2] = span{from, to}
			case "co64":
				stbl[3] = span{from, to}
			}
		}
		walk(s, from, to, inside)
		switch {
		case kind == "vide" && found == nil && p.length >= 0 && p.index(s, stbl):
			found = p
		case kind == "soun" && sounds == nil && p.length == soundOfAAC && p.index(s, stbl):
			sounds = p.samples
		}
	})
	if found != nil {
		found.sounds = sounds
	}
	return found
}

// walk calls do for each box from at to end, with where its content lies.
func walk(s *source, at, end int64, do func(name string, from, to int64)) {
	for n := 0; at+8 <= end && n < 10_000; n++ {
		h := s.get(at, 8)
		if len(h) < 8 {
			return
		}
		size, name := int64(binary.BigEndian.Uint32(h)), string(h[4:8])
		if size < 8 || size > end-at {
			return
		}
		do(name, at+8, at+size)
		at += size
	}
}

// coding says how samples can be told.
func (p *pictures) coding(s *source, from, to int64) {
	h := s.get(from+8, 8)
	if len(h) < 8 {
		return
	}
	switch string(h[4:8]) {
	case "avc1", "avc3":
		walk(s, from+8+86, to, func(name string, from, _ int64) {
			if b := s.get(from, 5); name == "avcC" && len(b) == 5 {
				p.length = int64(b[4]&3) + 1
			}
		})
	case "hvc1", "hev1":
		walk(s, from+8+86, to, func(name string, from, _ int64) {
			if b := s.get(from, 22); name == "hvcC" && len(b) == 22 {
				p.length = int64(b[21]&3) + 1
			}
		})
	case "mp4v":
		p.length = 0
	case "mp4a":
		p.length = soundOfAAC
	}
}

// index reads where the samples lie: their sizes, how many a chunk has, and where the chunks begin.
func (p *pictures) index(s *source, t [4]span) bool {
	u32 := func(at int64) int64 { return s.u32(at) }
	count, each := u32(t[0].from+8), u32(t[0].from+4)
	if t[0].to == 0 || t[1].to == 0 || count <= 0 || count > maxSamples {
		return false
	}
	width, chunks := int64(4), t[2]
	if chunks.to == 0 {
		width, chunks = 8, t[3]
	}
	n, runs := u32(chunks.from+4), u32(t[1].from+4)
	if chunks.to == 0 || n <= 0 || n > maxSamples || runs <= 0 || runs > n {
		return false
	}
	run, per, k := int64(0), int64(0), int64(0)
	for c := int64(0); c < n && k < count; c++ {
		if run < runs && u32(t[1].from+8+12*run) == c+1 {
			per = u32(t[1].from + 8 + 12*run + 4)
			run++
		}
		at := u32(chunks.from + 8 + width*c)
		if width == 8 {
			at = u32(chunks.from+8+width*c)<<32 | u32(chunks.from+8+width*c+4)
		}
		for i := int64(0); i < per && k < count; i++ {
			size := each
			if each == 0 {
				size = u32(t[0].from + 12 + 4*k)
			}
			if size < 0 || at < 0 {
				return false
			}
			p.samples = append(p.samples, sample{at, size})
			at, k = at+size, k+1
		}
	}
	return k == count
}

// holds reports whether a sample lies at a place, and behind which byte nothing more of it is checked.
func (p *pictures) holds(s *source, at, size int64) (ok bool, checked int64) {
	if size == 0 {
		return true, at
	}
	if p.length == 0 {
		b := s.get(at, 4)
		return len(b) == 4 && b[0] == 0 && b[1] == 0 && b[2] == 1 && b[3] >= 0xb0 && b[3] <= 0xb6, at + 4
	}
	for end := at + size; at < end; {
		b := s.get(at, int(p.length)+1)
		if int64(len(b)) <= p.length || b[p.length]&0x80 != 0 { // the forbidden bit
			return false, at
		}
		n := int64(0)
		for _, c := range b[:p.length] {
			n = n<<8 | int64(c)
		}
		checked = at + p.length + 1
		if at += p.length + n; n == 0 || at > end {
			return false, checked
		}
	}
	return true, checked
}

// sound reports whether a frame of AAC lies at a place: it begins with an element that may come first, and ends with
// the mark of the end and zeros to the next byte (ISO/IEC 14496-3 section 4.4.2.1). One of sixteen others does, too.
func (p *pictures) sound(s *source, at, size int64) bool {
	first, last := s.get(at, 1), byte(0)
	if len(first) == 0 || first[0]>>5 != 0 && first[0]>>5 != 1 && first[0]>>5 != 4 && first[0]>>5 != 6 {
		return false
	}
	b := s.get(at+size-2, 2)
	if len(b) < 2 {
		return false
	}
	if last = b[1]; last == 0 {
		return false
	}
	bits := uint16(b[0])<<8 | uint16(last)
	for bits&1 == 0 {
		bits >>= 1
	}
	return bits&7 == 7
}

// film says of a film whose index lies from moov to its end whether its pictures lie where it says, and, if they
// go on further behind, of what two runs it is. boxes is where the film ends by its boxes.
func film(s *source, start, moov, moovEnd, boxes int64) (v Verdict, known bool) {
	p := picturesOf(s, moov, moovEnd)
	if p == nil {
		return Verdict{}, false
	}
	for _, x := range p.samples {
		if ok, _ := p.holds(s, start+x.at, x.size); !ok {
			return Verdict{boxes - start, volume.Part, "its pictures do not lie where its index says"}, true
		}
	}
	return Verdict{boxes - start, volume.Unverified, "its pictures lie where its index says"}, true
}

// secondFilm looks for the second run of a film. Its index is known; where it lies itself is not moved by the gap if
// it stands before the pictures, else it begins at the end of its first box with pictures, and shift bytes further.
func secondFilm(s *source, start int64, p *pictures, size, shift, unit int64, first int64) Verdict {
	begin, broken := int64(0), -1
	for i, x := range p.samples { // in the order of the track, which is that of the file as a rule
		ok, checked := p.holds(s, start+x.at, x.size)
		if !ok {
			broken = i
			break
		}
		begin = max(begin, checked-start)
	}
	fits := func(gap int64) bool {
		if broken < 0 {
			return true
		}
		n := 0
		for i := min(broken+1, len(p.samples)-1); i < len(p.samples) && n < 8; i++ { // the one that breaks off may lie in both
			if ok, _ := p.holds(s, start+p.samples[i].at+gap, p.samples[i].size); !ok {
				return false
			}
			n++
		}
		return true
	}
	from, to := int64(1), int64(maxGap)
	if shift > 0 {
		if shift%unit != 0 {
			return Verdict{}
		}
		from, to = shift/unit, shift/unit
	}
	for gap := from; gap <= to && start+size+gap*unit <= s.size; gap++ {
		if s.left -= 1 << 11; s.left < 0 {
			return Verdict{}
		}
		if !fits(gap * unit) {
			continue
		}
		// It breaks off at a unit's end behind what holds, and before what holds only with the gap. Where a picture is
		// longer than a unit there may be several: that is taken with which the most of its sound holds, and the least
		// of what cannot be in coded pictures.
		split := s.space.border(start+max(begin, first)-1, unit) + unit
		best, fewest := int64(0), 1<<30
		for end := start + size; split < end; split += unit {
			s.cut(split, gap*unit)
			whole := true
			for _, x := range p.samples[max(0, broken):] {
				if whole, _ = p.holds(s, start+x.at, x.size); !whole {
					break
				}
			}
			if s.left -= int64(len(p.samples)) << 6; s.left < 0 {
				s.cut(0, 0)
				return Verdict{}
			}
			if !whole && best > 0 {
				break
			}
			if whole {
				if n := p.odd(s, start, split, 64*unit); n < fewest {
					best, fewest = split, n
				}
			}
		}
		if s.cut(0, 0); best > 0 {
			s.runs = []span{{start, best}, {best + gap*unit, start + size + gap*unit}}
			return Verdict{size, volume.Unverified, "its pictures lie where its index says, in two runs"}
		}
	}
	return Verdict{}
}

// odd counts what speaks against a film's being split at a place: around it, sounds that do not hold, and bytes that
// cannot be in pictures coded as units.
func (p *pictures) odd(s *source, start, split, around int64) (n int) {
	for _, x := range p.sounds {
		if at := start + x.at; at > split-around && at < split+around && !p.sound(s, at, x.size) {
			n += 4
		}
	}
	for _, x := range p.samples {
		at := start + x.at
		if at+x.size < split-around || at > split+around {
			continue
		}
		for o := int64(0); o < x.size; o += 512 {
			b := s.get(at+o, int(min(512, x.size-o)))
			if len(b) > 256 && (text(b) || bytes.Count(b, b[:1]) == len(b)) {
				n += 64
			}
			for i := 4; i+2 < len(b) && p.length > 0; i++ {
				if b[i] == 0 && b[i+1] == 0 && b[i+2] < 3 { // what an emulation prevention byte would have broken
					n++
				}
			}
		}
	}
	return n
}
