package carve

import (
	"io"
	"slices"

	"crosswind/core/volume"
)

// A JPEG file (ITU-T T.81) is followed through its segments and, of the sequential and progressive forms of Huffman's
// codes, through every code of its scans: one that is no code, a block of more than 64 coefficients, or a marker that
// cannot stand there shows that what lies there is not its own. Of other forms the markers alone are followed.
type scan struct {
	s      *source
	tables [2][4]*huffman
	parts  []component
	width  int
	height int
	hmax   int
	vmax   int
	every  int // MCUs between restarts
	kind   byte
	chosen []*component // of the scan
	blind  bool         // there is a scan whose codes are not followed

	// Of a scan of a progressive picture: its band of coefficients, whether it refines what earlier ones gave, and
	// which coefficients were not zero before it.
	from, to int
	refines  bool
	before   []uint64

	seam *seam // if not nil, what is recorded of a sequential picture

	// Where it is: a copy of these is all that is needed to go on.
	place
}

type place struct {
	at    int64
	bits  uint32
	n     int
	unit  int // MCU
	reset int // until the next restart
	count int // restarts
	zeros int // blocks in which nothing more comes, of a progressive scan
}

type component struct {
	id, h, v byte
	dc, ac   byte
	mean     int      // the DC coefficient of the block that was read last
	set      []uint64 // of a progressive picture's blocks, which coefficients are not zero
}

// huffman is a table of codes: Annex C, with the decoding procedure of Annex F.2.2.3.
type huffman struct {
	most, first [17]int32 // by length, the largest code, -1 for none, and the index of the first
	least       [17]int32
	values      []byte
	quick       [256]uint16 // by eight bits: the value, and its length plus one in the upper byte
}

func newHuffman(counts []byte, values []byte) *huffman {
	h := &huffman{values: append([]byte(nil), values...)}
	code, k := int32(0), int32(0)
	for n := 1; n <= 16; n++ {
		h.least[n], h.first[n] = code, k
		c := int32(counts[n-1])
		for i := int32(0); i < c && n <= 8; i++ {
			for j := int32(0); j < 1<<(8-n); j++ {
				if x := (code+i)<<(8-n) | j; x < 256 {
					h.quick[x] = uint16(values[k+i]) | uint16(n+1)<<8
				}
			}
		}
		code, k = code+c, k+c
		if h.most[n] = code - 1; c == 0 {
			h.most[n] = -1
		}
		code <<= 1
	}
	return h
}

const (
	maxHeader   = 1 << 20 // bytes before the first scan, in segments
	maxSegments = 4000
	maxBlocks   = 1 << 22 // of a component of a progressive picture that is followed: one of 268 million samples
)

func readJPEG(s *source, at int64) Verdict {
	d := &scan{s: s}
	v, broken := d.file(at)
	if v.Size == 0 || v.Complete == volume.Whole || s.unit == 0 || broken == nil {
		return v
	}
	var its []span // the runs of what is not proven
	for _, unit := range s.units {
		if w := d.second(at, broken, unit); w.Complete == volume.Whole {
			return w
		} else if w.Size > 0 && its == nil {
			v, its = w, s.runs
		}
	}
	s.runs = its
	return v
}

// file follows a file from at on. Of one that breaks off broken are the places at which a second run may begin.
func (d *scan) file(at int64) (v Verdict, broken []place) {
	return d.follow(at, at+2, 0)
}

// follow follows a file that begins at start through what stands from at on, behind so many scans.
func (d *scan) follow(start, at int64, scans int) (v Verdict, broken []place) {
	breaks := func(at int64) Verdict {
		if scans == 0 {
			return Verdict{}
		}
		return Verdict{at - start, volume.Part, ends}
	}
	for n := 0; n < maxSegments; n++ {
		m := d.s.u16(at)
		for m == 0xffff { // fill
			at++
			m = d.s.u16(at)
		}
		switch {
		case m < 0xffc0 || m >= 0xffd0 && m <= 0xffd8 || m >= 0xfff0 && m < 0xfffe || m == 0xffc8:
			return breaks(at), nil
		case m == 0xffd9 && scans == 0:
			return Verdict{}, nil
		case m == 0xffd9 && d.blind:
			return Verdict{at + 2 - start, volume.Unverified, "its segments follow one another; the codes of a picture of its form are not followed"}, nil
		case m == 0xffd9:
			return Verdict{at + 2 - start, volume.Whole, byCodes}, nil
		}
		length := int64(d.s.u16(at + 2))
		if length < 2 || scans == 0 && at-start > maxHeader<<6 {
			return breaks(at), nil
		}
		b := d.s.get(at+4, int(length)-2)
		if int64(len(b)) < length-2 {
			return breaks(d.s.size), nil
		}
		switch {
		case m == 0xffc4 && !d.codes(b), m >= 0xffc0 && m <= 0xffcf && m != 0xffc4 && m != 0xffcc && !d.frame(byte(m), b):
			return breaks(at), nil
		case m == 0xffdd && len(b) >= 2:
			d.every = int(b[0])<<8 | int(b[1])
		case m == 0xffda:
			if !d.scanHead(b) {
				return breaks(at), nil
			}
			scans++
			at += 2 + length
			if d.blind {
				at = d.marker(at)
				continue
			}
			d.place = place{at: at, reset: d.every}
			for _, c := range d.chosen {
				c.mean = 0
			}
			if d.before = nil; d.kind == 0xc2 && d.from > 0 {
				c := d.chosen[0]
				d.before, c.set = c.set, slices.Clone(c.set)
			}
			kept, ok := d.entropy()
			if at = d.at; d.blind {
				at = d.marker(at)
			} else if !ok {
				return breaks(at), kept
			}
			continue
		}
		at += 2 + length
	}
	return Verdict{}, nil
}

// codes reads tables of codes: section B.2.4.2.
func (d *scan) codes(b []byte) bool {
	for len(b) > 0 {
		if len(b) < 17 {
			return false
		}
		class, id, n, room := b[0]>>4, b[0]&15, 0, 0
		for i, c := range b[1:17] {
			n += int(c)
			room += int(c) << (15 - i)
		}
		if class > 1 || id > 3 || len(b) < 17+n || room > 1<<16 {
			return false
		}
		d.tables[class][id] = newHuffman(b[1:17], b[17:17+n])
		b = b[17+n:]
	}
	return true
}

// frame reads the head of a frame: section B.2.2.
func (d *scan) frame(kind byte, b []byte) bool {
	if len(b) < 6 || len(b) < 6+3*int(b[5]) || b[5] == 0 || b[5] > 4 {
		return false
	}
	d.kind, d.height, d.width = kind, int(b[1])<<8|int(b[2]), int(b[3])<<8|int(b[4])
	d.parts, d.hmax, d.vmax = nil, 1, 1
	for i := range int(b[5]) {
		c := b[6+3*i:]
		h, v := c[1]>>4, c[1]&15
		if h == 0 || v == 0 || h > 4 || v > 4 {
			return false
		}
		d.hmax, d.vmax = max(d.hmax, int(h)), max(d.vmax, int(v))
		d.parts = append(d.parts, component{id: c[0], h: h, v: v})
	}
	return d.width > 0 && d.height > 0
}

// scanHead reads the head of a scan, section B.2.3: which components it has and, of a progressive picture, which
// coefficients (section G.1.1.1).
func (d *scan) scanHead(b []byte) bool {
	if len(b) < 1 || b[0] == 0 || b[0] > 4 || len(b) < 4+2*int(b[0]) || d.parts == nil {
		return false
	}
	n := int(b[0])
	d.from, d.to, d.refines = int(b[1+2*n]), int(b[2+2*n]), b[3+2*n]>>4 > 0
	progressive := d.kind == 0xc2
	if progressive && (d.to > 63 || d.from > d.to || d.from == 0 && d.to > 0 || d.from > 0 && n > 1) {
		return false
	}
	d.chosen = nil
	for i := range n {
		for k := range d.parts {
			if c := &d.parts[k]; c.id == b[1+2*i] {
				c.dc, c.ac = b[2+2*i]>>4, b[2+2*i]&15
				if c.dc > 3 || c.ac > 3 {
					return false
				}
				dc, ac := d.tables[0][c.dc] == nil, d.tables[1][c.ac] == nil
				if d.kind <= 0xc1 && (dc || ac) || progressive && (d.from > 0 && ac || d.from == 0 && !d.refines && dc) {
					return false
				}
				d.chosen = append(d.chosen, c)
			}
		}
	}
	if d.kind > 0xc2 || progressive && d.from > 0 && len(d.chosen) == 1 && d.total() > maxBlocks {
		d.blind = true
	}
	return len(d.chosen) == n
}

// total is of how many units (MCUs) the scan is: section A.2.
func (d *scan) total() int {
	if len(d.chosen) > 1 {
		return d.line() * ((d.height + 8*d.vmax - 1) / (8 * d.vmax))
	}
	return d.line() * (((d.height*int(d.chosen[0].v)+d.vmax-1)/d.vmax + 7) / 8)
}

// line is how many units a line has.
func (d *scan) line() int {
	if len(d.chosen) > 1 {
		return (d.width + 8*d.hmax - 1) / (8 * d.hmax)
	}
	return ((d.width*int(d.chosen[0].h)+d.hmax-1)/d.hmax + 7) / 8
}

// marker is where the next marker stands that is not of coded data.
func (d *scan) marker(at int64) int64 {
	for {
		b := d.s.get(at, windowSize/2)
		if len(b) < 2 {
			return d.s.size
		}
		for i := 0; i+1 < len(b); i++ {
			if b[i] == 0xff && b[i+1] != 0 && (b[i+1] < 0xd0 || b[i+1] > 0xd7) {
				return at + int64(i)
			}
		}
		at += int64(len(b) - 1)
	}
}

// entropy follows the coded data of a scan to its end. If it does not get there kept are the places at
// which units of allocation begin, from before what was read last.
func (d *scan) entropy() (kept []place, ok bool) {
	total, alone, border := d.total(), len(d.chosen) == 1, int64(-1)
	if d.seam != nil {
		d.seam.begin(len(d.chosen), d.line())
		defer d.seam.end()
	}
	for s := d.s; d.unit < total; {
		if u := s.unit; u > 0 && d.at/u != border {
			border = d.at / u
			if kept = append(kept, d.place); len(kept) > maxKept {
				kept = kept[1:]
			}
		}
		if d.every > 0 && d.reset == 0 {
			if !d.restart() {
				return kept, false
			}
			d.reset = d.every
		}
		if d.zeros > 0 && d.unit >= len(d.chosen[0].set) { // nothing is refined in these
			n := min(d.zeros, total-d.unit)
			if d.every > 0 {
				n = min(n, d.reset)
			}
			d.zeros, d.unit, d.reset = d.zeros-n, d.unit+n, d.reset-n
			continue
		}
		if d.seam != nil {
			d.seam.unit(d.at)
		}
		for i, c := range d.chosen {
			n, lower := int(c.h)*int(c.v), int(c.h)*int(c.v-1)
			if alone {
				n, lower = 1, 0
			}
			for k := range n {
				if d.kind == 0xc2 {
					if !d.progressive(c) {
						return kept, false
					}
				} else if !d.block(c) {
					return kept, false
				}
				if d.seam != nil && (k == 0 || k == lower) {
					d.seam.block(i, k == 0, k == lower, c.mean)
				}
			}
		}
		d.unit++
		d.reset--
		switch {
		case s.small: // of a search
			s.left -= 64
		case d.before != nil: // a byte can stand for thousands of blocks
			s.left -= 8
		default:
			continue
		}
		if s.left < 0 {
			d.blind = !s.small
			return kept, false
		}
	}
	return kept, d.ended()
}

// fill has at least n bits at hand, n up to 16.
func (d *scan) fill(n int) bool {
	for d.n < n {
		var c byte
		if i := d.at - d.s.from; i >= 0 && i < int64(len(d.s.window)) {
			c = d.s.window[i]
		} else if b := d.s.get(d.at, 1); len(b) == 1 {
			c = b[0]
		} else {
			return false
		}
		if c == 0xff {
			if b := d.s.get(d.at, 2); len(b) < 2 || b[1] != 0 {
				return false
			}
			d.at++
		}
		d.at++
		d.bits, d.n = d.bits<<8|uint32(c), d.n+8
	}
	return true
}

// code reads a code; -1 if there is none.
func (d *scan) code(h *huffman) int {
	if d.n >= 8 || d.fill(8) {
		if q := h.quick[d.bits>>(d.n-8)&0xff]; q != 0 {
			d.n -= int(q>>8) - 1
			return int(q & 0xff)
		}
	}
	code := int32(0)
	for n := 1; n <= 16; n++ {
		if d.n == 0 && !d.fill(1) {
			return -1
		}
		d.n--
		code = code<<1 | int32(d.bits>>d.n&1)
		if h.most[n] >= 0 && code <= h.most[n] && code >= h.least[n] {
			return int(h.values[h.first[n]+code-h.least[n]])
		}
	}
	return -1
}

// block follows the codes of a block: section F.2.2.
func (d *scan) block(c *component) bool {
	ac := d.tables[1][c.ac]
	n := d.code(d.tables[0][c.dc])
	if n < 0 || n > 11 || !d.skip(n) {
		return false
	}
	if n > 0 { // EXTEND, section F.2.2.1
		v := int(d.bits>>d.n) & (1<<n - 1)
		if v < 1<<(n-1) {
			v -= 1<<n - 1
		}
		c.mean += v
	}
	for k := 1; k < 64; k++ {
		c := d.code(ac)
		if c < 0 {
			return false
		}
		run, size := c>>4, c&15
		if size == 0 {
			if run != 15 {
				return run == 0
			}
			k += 15
			if k > 63 {
				return false
			}
			continue
		}
		if k += run; k > 63 || size > 10 || !d.skip(size) {
			return false
		}
	}
	return true
}

// progressive follows the codes of a block of a scan of a progressive picture: sections G.1.2 and G.2.
func (d *scan) progressive(c *component) bool {
	switch {
	case d.from == 0 && d.refines:
		return d.skip(1)
	case d.from == 0:
		n := d.code(d.tables[0][c.dc])
		return n >= 0 && n <= 11 && d.skip(n)
	}
	was := uint64(0)
	if d.unit < len(d.before) {
		was = d.before[d.unit]
	}
	set, k := was, d.from
	if !d.refines {
		was = 0
	}
	for d.zeros == 0 && k <= d.to {
		x := d.code(d.tables[1][c.ac])
		run, size := x>>4, x&15
		if x < 0 || size > 10 || d.refines && size > 1 {
			return false
		}
		if size == 0 && run < 15 {
			if !d.skip(run) {
				return false
			}
			d.zeros = 1<<run + int(d.bits>>d.n)&(1<<run-1)
			break
		}
		if !d.skip(size) {
			return false
		}
		for ; k <= d.to && (run > 0 || was>>k&1 != 0); k++ {
			if was>>k&1 == 0 {
				run--
			} else if !d.skip(1) {
				return false
			}
		}
		if size > 0 {
			if k > d.to {
				return false
			}
			set |= 1 << k
		}
		k++
	}
	if d.zeros > 0 {
		d.zeros--
		for ; k <= d.to; k++ {
			if was>>k&1 != 0 && !d.skip(1) {
				return false
			}
		}
	}
	if n := d.unit + 1 - len(c.set); n > 0 && set != 0 {
		d.s.left -= 8 * int64(n)
		c.set = append(c.set, make([]uint64, n)...)
	}
	if d.unit < len(c.set) {
		c.set[d.unit] = set
	}
	return true
}

func (d *scan) skip(n int) bool {
	if d.n < n && !d.fill(n) {
		return false
	}
	d.n -= n
	return true
}

// padded reports whether what is left of the last byte is ones, as it must be (section F.1.2.3).
func (d *scan) padded() bool {
	ok := d.n < 8 && d.bits&(1<<d.n-1) == 1<<d.n-1
	d.n = 0
	return ok
}

func (d *scan) restart() bool {
	if !d.padded() || d.s.u16(d.at) != 0xffd0+d.count&7 {
		return false
	}
	d.at, d.count, d.zeros = d.at+2, d.count+1, 0
	for _, c := range d.chosen {
		c.mean = 0
	}
	return true
}

// ended reports whether a scan ends here: a marker follows what fills the last byte.
func (d *scan) ended() bool {
	if d.n >= 8 { // a byte that no code needed
		return false
	}
	if !d.padded() {
		return false
	}
	m := d.s.u16(d.at)
	return m > 0xff00 && (m < 0xffd0 || m > 0xffd7)
}

// reader reads a source as it is split.
type reader struct{ s *source }

func (r reader) ReadAt(b []byte, at int64) (n int, err error) {
	for n < len(b) {
		got := copy(b[n:], r.s.get(at+int64(n), min(len(b)-n, windowSize)))
		if n += got; got == 0 {
			return n, io.EOF
		}
	}
	return n, nil
}
