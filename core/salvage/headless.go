package salvage

import (
	"encoding/binary"
	"math/bits"
	"unicode"

	"crosswind/core/sqlitefile"
)

// headless reads a cell whose first four bytes are overwritten by a free block's
// head: the length of its payload, its row id, the length of its record header,
// and at times the first serial types. What is overwritten is worked out from the
// columns' types and from where the cell ends, as far as one reading fits. size is
// what the head says of the block, to where the free part ends; first says that
// the cell begins a block, so that its tail may be in use again.
func (sc *scanner) headless(at, size, to int, first bool) {
	ends := sc.cellEnds(sc.data, at, size)
	var best *candidate
	for _, sh := range sc.s.shapes {
		if sh.kind != leafKind(sc.kind) || len(sh.rules) == 0 || sc.only != nil && sc.only != sh || sc.own != nil && sh != sc.own || (sh.index != "" || sh.internal()) && sh != sc.own {
			continue
		}
		longest := 3
		if sh.kind == sqlitefile.LeafTable {
			longest += sh.idWidth()
		}
		for h := 1; h <= longest; h++ {
			c := sc.behind(sh, at, h, to, first, ends)
			switch {
			case c == nil:
			case sc.own != nil: // which reading explains most is seen when all are known
				sc.keep(c)
			case best != nil && best.shape.like == sh.like && best.shape != sh:
				best.rivals = append(best.rivals, sh)
			case best == nil || c.weight() > best.weight()+1e-9:
				best = c
			case c.weight() > best.weight()-1e-9 && c.shape.Name != best.shape.Name:
				best.rivals = append(best.rivals, c.shape)
			}
		}
	}
	if best == nil {
		return
	}
	if len(best.rivals) > 0 {
		best.rivals, best.shape = append(best.rivals, best.shape), nil
	}
	sc.keep(best)
}

// idWidth is how many bytes the row id of a deleted row may take: two more than that of any
// live one, where these say anything. The newest may be what was deleted.
func (s *shape) idWidth() int {
	const widest, more = 9, 2
	if s.live < enough || s.ids.low < 0 {
		return widest
	}
	return min(widest, more+sqlitefile.VarintLen(int64(s.ids.high)))
}

// behind reads the cell at offset at under the assumption that its record header
// begins h bytes behind.
func (sc *scanner) behind(sh *shape, at, h, to int, first bool, ends []int) *candidate {
	d := sc.data
	header := at + h
	sc.types = sc.types[:0]
	p := header + 1 // the header's length takes one byte: up to 126 of types
	if len(sh.rules) > shortTypes {
		p++
	}
	if header+2 > to {
		return nil
	}
	if sh.kind == sqlitefile.LeafTable && h > freedHead { // the row id's last bytes survive
		for i := at + freedHead; i < header-1; i++ {
			if d[i] < 0x80 {
				return nil
			}
		}
		if d[header-1] >= 0x80 && h < 10 {
			return nil
		}
	} else if sh.kind == sqlitefile.LeafTable && h < 2 {
		return nil
	}
	switch lost := at + freedHead - p; {
	case header >= at+freedHead: // the header's length survives, and says how many columns
		if d[header] < 2 || d[header] < 0x80 && int(d[header]) > sc.s.longest {
			return nil
		}
		hl, k := sqlitefile.Varint(d[header:to])
		if k == 0 || hl < 2 || int64(header)+hl > int64(to) || k != p-header {
			return nil
		}
		types, body, _, ok := recordTypes(d[header:to], header, sc.types, sc.s.largest())
		if sc.types = types; !ok {
			return nil
		}
		return sc.settle(sh, at, header, header+body, 0, to, first, ends)
	case lost <= 0:
		return sc.counted(sh, at, header, max(p, at+freedHead), 0, to, first, ends)
	case lost == 1 && sh.rules[0].alias: // always NULL
		sc.types = append(sc.types, typeAt{0, p, 0})
		return sc.counted(sh, at, header, at+freedHead, 1, to, first, ends)
	case lost == 1:
		if c := sc.solve(sh, at, header, at+freedHead, 1, false, to, ends); c != nil {
			return c
		}
		return sc.solve(sh, at, header, at+freedHead, 1, true, to, ends)
	case lost == 2:
		if c := sc.solve(sh, at, header, at+freedHead, 2, false, to, ends); c != nil {
			return c
		}
		c := sc.solve(sh, at, header, at+freedHead, 1, false, to, ends)
		if c != nil && c.types[0].t < twoBytes {
			c = nil // it must be one type of two bytes, or there were two
		}
		return sc.either(c, sc.straddling(sh, at, header, to, ends))
	}
	return nil
}

// either is the better one of two readings of the same bytes, which is vague if the other
// is nearly as good.
func (sc *scanner) either(a, b *candidate) *candidate {
	const near = 2 // by which their scores must differ
	switch {
	case a == nil:
		return b
	case b == nil:
		return a
	case b.score() > a.score():
		a, b = b, a
	}
	a.vague = a.vague || a.score()-b.score() < near
	sc.drop(b)
	return a
}

// straddling reads a cell of whose types the first is lost, and of the second, of two
// bytes, all but the last: with the end of the cell that leaves few lengths.
func (sc *scanner) straddling(sh *shape, at, header, to int, ends []int) (best *candidate) {
	if len(sh.rules) < 2 || !sc.bound {
		return nil
	}
	low := sc.data[at+freedHead]
	if low >= 0x80 {
		return nil
	}
	for _, end := range ends {
		for high := sqlitefile.SerialType(1); high < twoBytes; high++ {
			second := high<<7 | sqlitefile.SerialType(low)
			sc.types = append(sc.types[:0], typeAt{unknown, header + 1, 0}, typeAt{second, header + 2, 2})
			body, ok := sc.take(at+freedHead+1, len(sh.rules)-2, to)
			left := int64(end-body) - sc.sum()
			if !ok || left < 0 {
				break
			}
			if sc.types[0].t = onlyType(sh.rules[0], left); sc.types[0].t == unknown || sc.types[0].t >= twoBytes {
				continue
			}
			if c := sc.settle(sh, at, header, body, end, to, false, ends); c != nil && c.exact && c.end == end && sc.familiar(c, sh) {
				c.solved = true
				best = sc.either(best, c)
			}
		}
	}
	return best
}

// take reads n types from p on, behind those that are in sc.types.
func (sc *scanner) take(p, n, to int) (int, bool) {
	for range n {
		if p >= to {
			return p, false
		}
		t, k := sqlitefile.Varint(sc.data[p:to])
		if k == 0 || sqlitefile.SerialType(t).Size() < 0 || t/2 > sc.s.largest() {
			return p, false
		}
		sc.types = append(sc.types, typeAt{sqlitefile.SerialType(t), p, k})
		p += k
	}
	return p, true
}

// counted reads the types where the header's length is lost: as many as the table
// has columns, or fewer if the reading then ends where the cell must.
func (sc *scanner) counted(sh *shape, at, header, p, have, to int, first bool, ends []int) (best *candidate) {
	known := sc.types[:have]
	for n := len(sh.rules); n >= sh.least; n-- {
		sc.types = known
		body, ok := sc.take(p, n-have, to)
		if !ok {
			continue
		}
		c := sc.settle(sh, at, header, body, 0, to, first, ends)
		switch {
		case c == nil:
		case n < len(sh.rules) && !c.exact, best != nil && best.exact && best.score() >= c.score():
			sc.drop(c)
		default:
			if best != nil {
				sc.drop(best)
			}
			best = c
		}
	}
	return best
}

// sum is how many bytes the values of sc.types take; unknown ones count nothing.
func (sc *scanner) sum() (n int64) {
	for _, t := range sc.types {
		if t.t != unknown {
			n += t.t.Size()
		}
	}
	return n
}

// solve works out the lengths of values whose types are lost from where the cell
// ends, if that leaves one reading; else what it returns is vague. lost are the first types, as far as they are
// known; wide says that the last byte of a first type of two bytes survives at p.
func (sc *scanner) solve(sh *shape, at, header, p, lost int, wide bool, to int, ends []int) (one *candidate) {
	// The block that the cell was freed into must end where one can.
	if len(sh.rules) < lost || !sc.bound {
		return nil
	}
	low := sqlitefile.SerialType(sc.data[p])
	for _, end := range ends {
		sc.types = sc.types[:0]
		for i := range lost {
			sc.types = append(sc.types, typeAt{unknown, header + 1 + i, 0})
		}
		from := p
		if wide {
			from++
		}
		body, ok := sc.take(from, len(sh.rules)-lost, to)
		if !ok {
			return nil
		}
		left := int64(end-body) - sc.sum()
		if left < 0 {
			continue
		}
		if lost == 1 {
			t := onlyType(sh.rules[0], left)
			if wide != (t >= twoBytes) && (wide || at+freedHead-header == 2) || t == unknown && left != 0 || wide && t&0x7f != low {
				continue
			}
			sc.types[0].t = t
		}
		c := sc.settle(sh, at, header, body, end, to, false, ends)
		if c == nil || !c.exact || c.end != end || c.against.sum > 1 || !sc.familiar(c, sh) || numbersOfText(c) {
			continue
		}
		c.solved = true
		if sh.index != "" && c.values < 2 {
			c.against.add(boundEntry, 1)
		}
		if one != nil && one.end != c.end { // more than one reading fits: none is told
			if one.vague = true; c.end < one.end {
				c.vague, one = true, c
			}
			continue
		}
		one = c
	}
	return one
}

// onlyType is the one serial type that a value of n bytes can have under r, or
// unknown.
func onlyType(r rule, n int64) sqlitefile.SerialType {
	switch r.Affinity {
	case sqlitefile.AffText:
		if n > 0 || r.notNull {
			return emptyText + sqlitefile.SerialType(2*n)
		}
	case sqlitefile.AffInteger, sqlitefile.AffReal:
		switch {
		case n >= 1 && n <= 4:
			return sqlitefile.SerialType(n)
		case n == 6:
			return 5
		case n == 8 && r.Affinity == sqlitefile.AffInteger:
			return 6
		case n == 8:
			return 7
		}
	case sqlitefile.AffBlob:
		if !r.untyped && n > 8 {
			return emptyBlob + sqlitefile.SerialType(2*n)
		}
	}
	return unknown
}

// settle makes a candidate of the types that were read, if it stands. end is where
// it ends, 0 if that follows from the types.
func (sc *scanner) settle(sh *shape, at, header, body, end, to int, first bool, ends []int) *candidate {
	against, ok := sh.fit(sc.types)
	if !ok {
		return nil
	}
	c := sc.candidate()
	drop := func() *candidate {
		sc.drop(c)
		return nil
	}
	c.kind, c.shape = sh.kind, sh
	c.layout = layout{start: at, header: header, body: body, overwritten: freedHead, types: append(c.types[:0], sc.types...)}
	c.size = int64(body-header) + sc.sum()
	c.run = 0
	unknowns := 0
	for _, t := range c.types {
		if t.t == unknown {
			unknowns++
		}
	}
	if unknowns > 0 {
		// What is not accounted for is the unknown values', up to the cell's end.
		if run := int64(end-header) - c.size; run >= 0 && run <= int64(2*shortText) && (unknowns > 1 || run == 0) {
			c.run = int(run)
			c.size += run
		}
	}
	if c.size > sc.s.largest() {
		return drop()
	}
	local := sqlitefile.LocalPayload(sh.kind, len(sc.data), c.size)
	spills := int64(local) < c.size
	// Without its end a reading rests on where the record's header begins.
	first = first && unknowns == 0 && (header >= at+freedHead || sh.rules[0].alias)
	k := sqlitefile.VarintLen(c.size)
	if id := header - at - k; sh.kind == sqlitefile.LeafTable && (id < 1 || id > 9) || sh.kind == sqlitefile.LeafIndex && id != 0 {
		return drop()
	}
	c.end = max(header+local, at+4)
	if spills { // the number of its first overflow page follows
		c.end += 4
	}
	for _, e := range ends {
		c.exact = c.exact || c.end == e
		c.near = c.near || c.end < e && e-c.end <= maxFragment
	}
	if !c.exact && unknowns == 0 && c.end+freedHead < to && against.sum == 0 && sh.live >= enough && sc.freedAt(c.end) {
		c.exact, c.solved = true, true
	}
	if c.end > to {
		if !first || c.end > len(sc.data) || spills {
			return drop()
		}
		c.truncated, c.end = true, to
	}
	c.first = first
	c.payload = sc.data[header:min(c.end, to)]
	if header > c.end || spills && (unknowns > 0 || !c.exact) {
		return drop()
	}
	if spills {
		cell := sqlitefile.Cell{Local: sc.data[header : header+local], PayloadSize: c.size, Overflow: binary.BigEndian.Uint32(sc.data[header+local:])}
		c.payload, c.broken = sc.s.chain(sc.im, cell, nil)
		c.local = local
	}
	c.against = against
	if bytes, values, _ := sc.content(c, sh); values == 1 && bytes < 4 {
		c.against.add(shortAlone, 1)
	}
	if sc.judge(c, sh, &c.against); c.against.sum > hopeless || !sc.telling(c, sh) {
		return drop()
	}
	return c
}

// endsOddly reports whether the text that ends a record ends as none of many in live
// rows does: with a letter where all end with a digit, say.
func (sc *scanner) endsOddly(c *candidate, sh *shape) bool {
	for k := len(c.types) - 1; k >= 0; k-- {
		n := int(c.width(k))
		if n == 0 {
			continue
		}
		return c.types[k].t.Class() == sqlitefile.Text && n <= len(c.payload) && sh.live >= enough && sh.ends[k].len()*4 <= sh.live &&
			!sh.ends[k].has(lastClass(c.payload[len(c.payload)-n:], sc.s.f.Encoding))
	}
	return false
}

// numbersOfText reports whether the numbers of c, whose first text is as long as they
// leave it, may be that text's end: all their bytes are characters, or one is so
// large that it begins with one.
func numbersOfText(c *candidate) bool {
	at, n, text := int64(c.body-c.header), int64(0), true
	for k, t := range c.types {
		w := c.width(k)
		if class := t.t.Class(); t.t != unknown && (class == sqlitefile.Integer || class == sqlitefile.Real) {
			b := c.payload[min(at, int64(len(c.payload))):min(at+w, int64(len(c.payload)))]
			if len(b) == 8 && b[0] >= 0x20 && b[0] <= 0x7e && class == sqlitefile.Integer {
				return true
			}
			for _, x := range b {
				text = text && x >= 0x20 && x <= 0x7e
			}
			n += w
		}
		at += w
	}
	return text && n > 2
}

// freedAt reports whether a free block's head may stand at offset at: then a cell
// ended there.
func (sc *scanner) freedAt(at int) bool {
	next, size := int(binary.BigEndian.Uint16(sc.data[at:])), int(binary.BigEndian.Uint16(sc.data[at+2:]))
	return size >= freedHead && at+size <= len(sc.data) && (next == 0 || next >= at+size && next+freedHead <= len(sc.data))
}

// familiar reports whether the texts of c, wherever one could be told to begin one
// byte early or late, begin as texts of live rows do.
func (sc *scanner) familiar(c *candidate, sh *shape) bool {
	if two := len(c.types) > 1 && c.types[1].t == unknown; sh.live < 3 || sh.live < enough && !two {
		return !two
	}
	at := c.body - c.header
	for k, t := range c.types {
		n := int(c.width(k))
		if at+n > len(c.payload) {
			break
		}
		if t.t == unknown && !sh.odd[k] && sc.s.f.Encoding != sqlitefile.UTF8 && oddUnits(c.payload[at:at+max(0, n-8)], sc.s.f.Encoding) > 0 {
			return false
		}
		if t.t.Class() == sqlitefile.Text && n > 0 && !sh.begins[k].has(firstByte(c.payload[at:at+n], sc.s.f.Encoding)) {
			return false
		}
		at += n
	}
	return true
}

// firstByte is the low byte of a text's first unit, or of one that is no Latin
// character the high byte, which tells its script.
func firstByte(b []byte, enc sqlitefile.Encoding) byte {
	switch {
	case len(b) < 2 || enc == sqlitefile.UTF8:
		return b[0]
	case enc == sqlitefile.UTF16BE:
		b = []byte{b[1], b[0]}
	}
	if b[1] != 0 {
		return b[1] | 0x80
	}
	return b[0]
}

// lastClass is a byte that stands for the sort of character that a text ends with: a
// digit, a small or a capital letter, or the character itself.
func lastClass(b []byte, enc sqlitefile.Encoding) byte {
	x := b[len(b)-1]
	if enc != sqlitefile.UTF8 && len(b) > 1 {
		x = firstByte(b[len(b)-2:], enc)
	}
	switch {
	case x >= 0x80:
		return 0x80
	case unicode.IsDigit(rune(x)):
		return '0'
	case unicode.IsLower(rune(x)):
		return 'a'
	case unicode.IsUpper(rune(x)):
		return 'A'
	}
	return x
}

// byteSet is a set of bytes.
type byteSet [4]uint64

func (s *byteSet) add(b byte) { s[b/64] |= 1 << (b % 64) }
func (s *byteSet) len() int {
	return bits.OnesCount64(s[0]) + bits.OnesCount64(s[1]) + bits.OnesCount64(s[2]) + bits.OnesCount64(s[3])
}
func (s *byteSet) has(b byte) bool { return s[b/64]&(1<<(b%64)) != 0 }
