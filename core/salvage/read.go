package salvage

import (
	"encoding/binary"
	"math"

	"crosswind/core/sqlitefile"
)

// cell reads a cell with its head intact at offset at, the free part ending at to.
// It fits no shape yet. longest is how long its header may be.
func (sc *scanner) cell(at, to int, kind sqlitefile.PageKind, longest int) *candidate {
	d := sc.data
	if at >= to {
		return nil
	}
	size, k := int64(d[at]), 1
	if size >= 0x80 {
		if size, k = sqlitefile.Varint(d[at:]); k == 0 || size > maxPayload {
			return nil
		}
	}
	if size < 2 {
		return nil
	}
	p := at + k
	var id int64
	if kind == sqlitefile.LeafTable && p < to {
		if id, k = int64(d[p]), 1; id >= 0x80 {
			if id, k = sqlitefile.Varint(d[p:]); k == 0 {
				return nil
			}
		}
		p += k
	}
	// Most of what is no cell is seen here: its header would be too long.
	if p >= to || int64(d[p]) > size || d[p] < 2 || d[p] < 0x80 && int(d[p]) > longest {
		return nil
	}
	if !addsUp(d[p:to], size) {
		return nil
	}
	local := int(size)
	if local > len(d)/8 {
		local = sqlitefile.LocalPayload(kind, len(d), size)
	}
	types, body, sum, ok := recordTypes(d[p:min(p+local, to)], p, sc.types[:0], size)
	sc.types = types
	if !ok || int64(body)+sum != size {
		return nil
	}
	c := sc.candidate()
	c.kind = kind
	c.layout = layout{start: at, header: p, body: p + body, end: p + local, types: append(c.types[:0], types...)}
	c.rowID, c.hasRowID = id, kind == sqlitefile.LeafTable
	c.size = size
	spills := int64(local) < size
	if spills {
		c.end += 4
	}
	if c.end > to {
		if c.body >= to || spills {
			sc.drop(c)
			return nil
		}
		c.end, c.truncated = to, true
	}
	c.payload = d[p:c.end]
	if spills {
		cell := sqlitefile.Cell{Local: d[p : p+local], PayloadSize: size, Overflow: binary.BigEndian.Uint32(d[p+local:])}
		c.payload, c.broken = sc.s.chain(sc.im, cell, nil)
		c.local = local
	}
	return c
}

// shortSizes are the sizes of values by their serial types, as far as those take one
// byte; those of no type are larger than any record of which it is asked.
var shortSizes = func() (sizes [128]int64) {
	for t := range sizes {
		if sizes[t] = sqlitefile.SerialType(t).Size(); sizes[t] < 0 {
			sizes[t] = 1 << 40
		}
	}
	return sizes
}()

// addsUp is false if the values of a record of size bytes are more or fewer than
// that, as its header says at the beginning of b. Of longer types it says nothing.
func addsUp(b []byte, size int64) bool {
	h := int(b[0])
	if h >= 0x80 || h > len(b) {
		return h >= 0x80
	}
	sum := int64(h)
	for _, t := range b[1:h] {
		if t >= 0x80 {
			return true
		}
		sum += shortSizes[t]
	}
	return sum == size
}

func (sc *scanner) keep(c *candidate) {
	c.origin = sc.im.origin
	c.loose = !c.pointed && sc.kind != 0
	c.gap = c.loose && !sc.block
	if c.local > 0 && c.shape != nil {
		var again weighed
		if sc.judge(c, c.shape, &again); c.doubtful {
			c.payload, c.broken = c.payload[:c.local], true
		}
	}
	if sc.block && c.origin == Unallocated {
		c.origin = FreeBlock
	}
	sc.found = append(sc.found, c)
}

// try keeps a cell if it fits a table.
func (sc *scanner) try(c *candidate) {
	switch {
	case c == nil:
	case sc.attribute(c):
		sc.keep(c)
	default:
		sc.drop(c)
	}
}

// attribute finds the shape that a cell with all its types is of, and judges it.
func (sc *scanner) attribute(c *candidate) bool {
	var best *shape
	var least weighed
	c.rivals = c.rivals[:0]
	try := func(sh *shape, extra int) {
		if sh.kind != c.kind || sc.only != nil && sc.only != sh || sc.only == nil && sc.own != sh && sh.internal() {
			return
		}
		against, ok := sh.fit(c.types)
		if !ok {
			return
		}
		if against.add(otherOwner, extra); against.sum > hopeless {
			return
		}
		if sc.judge(c, sh, &against); against.sum > hopeless {
			return
		}
		switch {
		case best != nil && best.like == sh.like && best.Name != sh.Name:
			if against.sum < least.sum {
				best, sh, least = sh, best, against
			}
			c.rivals = append(c.rivals, sh)
		case best == nil || prefer(sh, best, against.sum, least.sum) > 0:
			best, least, c.rivals = sh, against, c.rivals[:0]
		case prefer(sh, best, against.sum, least.sum) == 0 && sh.Name != best.Name:
			c.rivals = append(c.rivals, sh)
		}
	}
	if sc.own != nil {
		if sc.sure && len(sc.own.rules) == 0 {
			return false // of an index of which nothing is known
		}
		try(sc.own, 0)
	}
	// With auto_vacuum a page may have been another table's before it became a root
	// (§1.8), and what lies in its gap may be from then.
	moved := sc.own != nil && sc.own.root == sc.im.Page && sc.own.live < enough && sc.s.f.LargestRoot != 0
	if best == nil || least.sum > 0 || moved {
		for _, sh := range sc.s.shapes {
			// The schema's own rows lie in its own pages, and index entries in
			// pages of an index: too many bytes would read as either.
			if sh == sc.own || sc.own != nil && sh.like == sc.own.like || sh.index != "" && leafKind(sc.kind) != sqlitefile.LeafIndex && sc.kind != 0 || sh.Root == 1 && sc.sure && sc.only == nil {
				continue
			}
			extra := 0
			if sc.own != nil && !moved {
				extra = 1
			}
			try(sh, extra)
		}
	}
	if best == nil || len(c.rivals) > 0 && c.kind == sqlitefile.LeafIndex || best.index != "" && sc.kind == 0 {
		return false // of what is an entry of an index in a page of which nothing is known nothing is told
	}
	// Whose it is, is asked first, and then whether it says anything.
	if c.against = least; !sc.telling(c, best) {
		return false
	}
	c.shape = best
	if len(c.rivals) > 0 {
		c.rivals = append(c.rivals, best)
		c.shape = nil
	}
	return true
}

// judge looks at the surviving values of c as those of sh: numbers and lengths of
// texts against the ranges that live rows show, texts for what no text holds.
//
// What lies in an overflow chain was perhaps used again: it says nothing against
// the rest, but may be in doubt itself.
func (sc *scanner) judge(c *candidate, sh *shape, w *weighed) {
	if c.doubtful = false; sc.own == nil && !c.pointed {
		w.add(noOwner, 1)
	}
	against := func(k evidence, end int64) {
		if c.local > 0 && end > int64(c.local) {
			c.doubtful = true
		} else {
			w.add(k, 1)
		}
	}
	if c.hasRowID && sh.live >= enough && c.rowID <= 0 && sh.ids.low > 0 {
		w.add(negativeID, 1)
	}
	at := int64(c.body - c.header)
	for k, t := range c.types {
		n := c.width(k)
		if at+n > int64(len(c.payload)) {
			if t.t.Class() == sqlitefile.Text && at < int64(len(c.payload)) && !plausibleStart(c.payload[at:], sc.s.f.Encoding) {
				w.add(oddText, 1)
			}
			break
		}
		switch {
		case t.t == unknown:
			run := c.payload[at : at+n]
			if k+1 < len(c.types) && c.types[k+1].t == unknown && sh.rules[k+1].Affinity != sqlitefile.AffText {
				run = run[:max(0, len(run)-8)] // a number may end it
			}
			if sh.rules[k].Affinity == sqlitefile.AffText && (!plausibleStart(run, sc.s.f.Encoding) || sc.s.f.Encoding != sqlitefile.UTF8 && mixedScripts(run, sc.s.f.Encoding)) {
				w.add(oddText, 1)
			}
		case t.t.Class() == sqlitefile.Integer || t.t.Class() == sqlitefile.Real:
			v, _ := sqlitefile.ReadValue(t.t, c.payload[at:], 0)
			if !sc.shortest(v) {
				against(notShortest, at+n)
			}
			if sh.rules[k].rowID && sh.live >= enough && v.Int() <= 0 && sh.numbers[k].low > 0 {
				against(negativeID, at+n)
			}
			if d, near := sh.numbers[k].distance(v.Float()); !near && sh.live >= enough {
				against(d, at+n)
			} else if n >= 6 && looksLikeText(c.payload[at:at+n], v) {
				if against(oddNumber, at+n); n == 8 && v.Class() == sqlitefile.Integer {
					against(textNumber, at+n)
				}
			}
		case t.t.Class() == sqlitefile.Text:
			if l := &sh.lengths[k]; sh.live >= enough && !l.near(float64(n), 8) {
				w.add(oddLength, 1)
			} else if sh.live >= aFew && l.low == l.high && float64(n) != l.low {
				w.add(unseenLength, 1)
			}
			if of := sh.begins[k].len(); n > 0 && sh.live >= aFew && of*4 <= sh.live && !sh.begins[k].has(firstByte(c.payload[at:at+n], sc.s.f.Encoding)) {
				if sh.live >= enough && of*16 <= sh.live {
					w.add(oddBeginning, 1)
				} else {
					w.add(unseenBeginning, 1)
				}
			}
			if text := c.payload[at : at+n]; !plausibleText(text, sc.s.f.Encoding) || c.overwritten > 0 && n > 0 && firstByte(text, sc.s.f.Encoding) < 0x20 && sc.s.f.Encoding == sqlitefile.UTF8 {
				against(oddText, at+n)
			} else if sc.s.f.Encoding != sqlitefile.UTF8 && oddUnits(text, sc.s.f.Encoding) > 0 {
				if mixedScripts(text, sc.s.f.Encoding) {
					against(mixedText, at+n)
				}
				if !c.pointed && sc.headWithin(c) {
					w.add(headInText, 1)
				}
			}
		}
		at += n
	}
}

// shortest reports whether a number is written as the library writes it: whole ones
// in as few bytes as hold them (§2.1), and none that is not a number.
func (sc *scanner) shortest(v sqlitefile.Value) bool {
	switch n := v.Int(); v.Type {
	case 1:
		return n != 0 && n != 1 || sc.s.f.SchemaFormat < 4
	case 2:
		return n != int64(int8(n))
	case 3:
		return n != int64(int16(n))
	case 4:
		return n < -1<<23 || n >= 1<<23
	case 5:
		return n != int64(int32(n))
	case 6:
		return n < -1<<47 || n >= 1<<47
	case 7:
		return !math.IsNaN(v.Float())
	}
	return true
}

// plausibleStart is plausibleText for a text that is cut off.
func plausibleStart(b []byte, enc sqlitefile.Encoding) bool {
	if enc != sqlitefile.UTF8 {
		return plausibleText(b[:len(b)&^1], enc) || len(b) > 3 && plausibleText(b[:len(b)&^1-2], enc)
	}
	for cut := 0; cut < 4 && cut <= len(b); cut++ {
		if plausibleText(b[:len(b)-cut], enc) {
			return true
		}
	}
	return false
}

// content is what survives of c to say anything: bytes of values, how many values that
// are not NULL or a constant, and how many that are. sh is nil if its table is not known.
func (sc *scanner) content(c *candidate, sh *shape) (bytes, values, empty int) {
	if sh != nil {
		empty = len(sh.rules) - len(c.types)
	}
	at := int64(c.body - c.header)
	for k, t := range c.types {
		n := c.width(k)
		if at+n > int64(len(c.payload)) {
			break
		}
		if n > 0 && !(sh != nil && (sh.rules[k].rowID || sh.columns[k] == expression) || t.t == unknown && k == 0 && len(c.types) > 1 && c.types[1].t == unknown) {
			values++
			bytes += int(min(n, 64))
		} else if t.t != unknown && (sh == nil || !sh.rules[k].alias) {
			empty++
		}
		at += n
	}
	return bytes, values, empty
}

// telling reports whether enough of c survives to say anything: a row of nothing
// but NULLs and constants can be read out of almost any bytes.
func (sc *scanner) telling(c *candidate, sh *shape) bool {
	bytes, values, empty := sc.content(c, sh)
	c.values, c.empty = values, empty
	switch {
	case sh.mute():
		return false
	case c.pointed:
		return true
	case sh.index != "" && c.types[0].t == unknown:
		return values >= 1 && bytes >= 4 // a row id, or two values that run together, tell nothing alone
	case c.truncated:
		return values >= 2 && bytes >= 6
	case c.overwritten > 0:
		return bytes >= 4 || c.exact && bytes >= 1
	case c.kind == sqlitefile.LeafIndex && !sc.sure:
		return bytes >= 6 && values >= 2
	case sc.own == nil:
		return bytes >= 4
	case sh != sc.own || c.against.sum >= unusual:
		return bytes >= 4 && len(c.types) >= 2
	case c.against.sum > 0:
		return bytes >= 4
	}
	return bytes >= 2
}

// values reads the values of c in the order of its record, and which are lost.
// What is left of a text or blob is kept. Both are valid until the next call.
func (sc *scanner) values(c *candidate) ([]sqlitefile.Value, []bool) {
	sc.vals, sc.gone = grow(sc.vals, len(c.types)), grow(sc.gone, len(c.types))
	values, lost := sc.vals, sc.gone
	at, size := int64(c.body-c.header), int64(len(c.payload))
	for k, t := range c.types {
		values[k], lost[k] = sqlitefile.Value{At: -1}, false
		n := c.width(k)
		rest := c.payload[min(at, size):]
		v, ok := sqlitefile.ReadValue(t.t, rest, int(min(at, size)))
		switch {
		case ok:
			values[k] = v
		case t.t == unknown && n > 0 && n <= int64(len(rest)): // two values as one: where they meet cannot be told
			lost[k], values[k] = true, sqlitefile.PartialText(emptyText, rest[:n], int(at))
		case t.t >= emptyBlob && len(rest) > 0:
			lost[k], values[k] = true, sqlitefile.PartialText(t.t, rest, int(at))
		default:
			lost[k] = true
		}
		at += n
	}
	return values, lost
}
