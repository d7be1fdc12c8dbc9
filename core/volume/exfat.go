package volume

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"
)

// exfat is an exFAT volume: exFAT file system specification, revision 1.00.
type exfat struct {
	*window
	table   cached
	tableAt int64
	dataAt  int64
	cluster int64
	last    uint32
	root    uint32
	used    []Extent // where the allocation bitmap lies
	bitmap  cached
	known   bool // the bitmap was found
}

func openExFAT(w *window) (*Volume, error) {
	b := w.read(0, 512)
	if c := w.read(12*512, 512); len(c) == 512 && string(c[3:11]) == "EXFAT   " && string(b[3:11]) != "EXFAT   " {
		b = c // the copy: section 3.2
	}
	if len(b) < 512 || string(b[3:11]) != "EXFAT   " || b[510] != 0x55 || b[511] != 0xaa {
		return nil, ErrFormat
	}
	le := binary.LittleEndian
	if b[108] < 9 || b[108] > 12 || b[109] > 25-b[108] {
		return nil, &Error{w.offset, fmt.Sprintf("an exFAT boot sector claims sectors of 2^%d and clusters of 2^%d of them", b[108], b[109])}
	}
	sector := int64(1) << b[108]
	x := &exfat{window: w, table: cached{window: w}, bitmap: cached{window: w}, tableAt: int64(le.Uint32(b[80:])) * sector, dataAt: int64(le.Uint32(b[88:])) * sector, cluster: sector << b[109], root: le.Uint32(b[96:])}
	count := min(int64(le.Uint32(b[92:])), (w.length-x.dataAt)/x.cluster+1, 1<<32-12)
	if count <= 0 {
		return nil, &Error{w.offset, "an exFAT boot sector claims no clusters"}
	}
	x.last = uint32(count) + 1
	v := &Volume{Format: ExFAT, Size: int64(min(le.Uint64(b[72:]), uint64(1)<<40)) * sector, Cluster: x.cluster, ID: fmt.Sprintf("%04X-%04X", le.Uint16(b[102:]), le.Uint16(b[100:])), system: x}
	root, _ := x.chain(x.root, -1)
	x.raw(root, func(d []byte, _ int64) bool {
		switch d[0] {
		case 0x81: // section 7.1
			if !x.known {
				x.used, _ = x.chain(le.Uint32(d[20:]), min(int64(min(le.Uint64(d[24:]), 1<<32)), count/8+1))
				x.known = len(x.used) > 0
			}
		case 0x83: // section 7.3
			v.Label = units(d[2:min(24, 2+2*int(d[1]))])
		}
		return d[0] != 0
	})
	return v, nil
}

func units(b []byte) string {
	var u []uint16
	for i := 0; i+1 < len(b); i += 2 {
		u = append(u, binary.LittleEndian.Uint16(b[i:]))
	}
	return string(utf16.Decode(u))
}

func (x *exfat) valid(c uint32) bool { return c >= 2 && c <= x.last }
func (x *exfat) at(c uint32) int64   { return x.offset + x.dataAt + int64(c-2)*x.cluster }

// free reports whether the bitmap says that nothing uses a cluster.
func (x *exfat) free(c uint32) bool {
	if !x.valid(c) || !x.known {
		return false
	}
	at := int64(c-2) / 8
	for _, e := range x.used {
		if at < e.Length {
			b := x.bitmap.read(e.Offset+at-x.offset, 1)
			return len(b) == 1 && b[0]>>((c-2)&7)&1 == 0
		}
		at -= e.Length
	}
	return false
}

// chain is a chain of the table, of no more than size bytes if that is not negative.
func (x *exfat) chain(c uint32, size int64) (out []Extent, fault string) {
	seen := map[uint32]bool{}
	var n int64
	for steps := uint32(0); x.valid(c) && (size < 0 || n < size); steps++ {
		if k := len(out); k == 0 || out[k-1].Offset+out[k-1].Length != x.at(c) {
			if seen[c] {
				return out, "its chain of clusters turns back on itself"
			}
			seen[c] = true
		}
		if len(out) == maxExtents || steps > x.last {
			return out, "its chain of clusters has no end"
		}
		out, n = join(out, Extent{x.at(c), x.cluster}), n+x.cluster
		b := x.table.read(x.tableAt+int64(c)*4, 4)
		if len(b) < 4 {
			break
		}
		c = binary.LittleEndian.Uint32(b)
	}
	if size >= 0 && n < size {
		fault = "its chain of clusters is shorter than the file"
	}
	return out, fault
}

// raw yields the entries of a directory, with where each lies.
func (x *exfat) raw(extents []Extent, yield func([]byte, int64) bool) {
	var total int64
	for _, e := range extents {
		for at := e.Offset; at < e.Offset+e.Length; at += pieceSize {
			b := x.window.read(at-x.offset, int(min(pieceSize, e.Offset+e.Length-at)))
			if total += int64(len(b)); total > maxFolder || !x.spend(int64(len(b))) {
				return
			}
			for i := 0; i+32 <= len(b); i += 32 {
				if !yield(b[i:i+32], at+int64(i)) {
					return
				}
			}
		}
	}
}

// set is a file's directory entries: sections 7.4, 7.6 and 7.7.
type set struct {
	*File
	start  uint32
	chain  bool // it follows the table
	valid  int64
	sealed bool // the checksum of the entries holds
}

// sets reads the sets of a directory. Of a deleted one the bit that says so is not set in any of its entries.
func (x *exfat) sets(extents []Extent, dir string, deleted bool, yield func(*set) bool) {
	var all []byte
	var from int64
	flush := func() bool {
		b := all
		all = nil
		if len(b) < 96 || len(b) != 32*(int(b[1])+1) {
			return true
		}
		s := x.set(b, from, dir)
		if s == nil {
			return true
		}
		s.Deleted = s.Deleted || deleted
		return yield(s)
	}
	x.raw(extents, func(d []byte, at int64) bool {
		kind := d[0] | 0x80
		switch {
		case d[0] == 0:
			all = nil
		case kind == 0x85:
			all, from = append([]byte(nil), d...), at
		case len(all) > 0 && d[0]&0x80 == all[0]&0x80 && (kind == 0xc0 || kind == 0xc1 || kind >= 0xe0):
			all = append(all, d...)
		default:
			all = nil
		}
		if len(all) > 0 && len(all) == 32*(int(all[1])+1) {
			return flush()
		}
		return true
	})
}

func (x *exfat) set(b []byte, at int64, dir string) *set {
	le := binary.LittleEndian
	deleted := b[0]&0x80 == 0
	sum := uint16(0)
	for i, c := range b {
		if i == 2 || i == 3 {
			continue
		}
		if i%32 == 0 { // as it was while it was in use
			c |= 0x80
		}
		sum = sum<<15 | sum>>1
		sum += uint16(c)
	}
	sealed := sum == le.Uint16(b[2:])
	stream := b[32:64]
	if stream[0]|0x80 != 0xc0 || deleted && !sealed {
		return nil
	}
	length := int(stream[3])
	var text []byte
	for i := 64; i+32 <= len(b) && len(text) < 2*length; i += 32 {
		if b[i]|0x80 == 0xc1 {
			text = append(text, b[i+2:i+32]...)
		}
	}
	attr := le.Uint16(b[4:])
	f := &File{Path: dir + "/" + name(units(text[:min(len(text), 2*length)])), Dir: attr&0x10 != 0, Deleted: deleted, Hidden: attr&2 != 0, System: attr&4 != 0, Entry: Extent{at, int64(len(b))},
		Created: exTime(le.Uint32(b[8:]), b[20], b[22]), Modified: exTime(le.Uint32(b[12:]), b[21], b[23]), Accessed: exTime(le.Uint32(b[16:]), 0, b[24])}
	size, valid := le.Uint64(stream[24:]), le.Uint64(stream[8:])
	if size > 1<<62 || valid > size {
		return nil
	}
	f.Size = int64(size)
	return &set{File: f, start: le.Uint32(stream[20:]), chain: stream[1]&2 == 0, valid: int64(valid), sealed: sealed}
}

// exTime is a time stamp with its offset: section 7.4.8 and those that follow.
func exTime(t uint32, hundredths, zone byte) Stamp {
	s := dosTime(uint16(t>>16), uint16(t), hundredths)
	if s == "" || zone&0x80 == 0 {
		return Stamp{Local: s}
	}
	at, err := time.Parse("2006-01-02T15:04:05.99", s)
	if err != nil {
		return Stamp{}
	}
	quarters := int(zone & 0x7f)
	if quarters >= 64 {
		quarters -= 128
	}
	at = at.Add(-time.Duration(quarters) * 15 * time.Minute)
	return Stamp{At: &at}
}

// allocated is where a set's clusters lie, and what is wrong with that.
func (x *exfat) allocated(s *set) (out []Extent, fault string) {
	if s.Size == 0 {
		return nil, ""
	}
	if !x.valid(s.start) {
		return nil, "its first cluster is none of the volume"
	}
	if s.chain {
		out, fault = x.chain(s.start, s.Size)
	} else {
		out = []Extent{{x.at(s.start), min((s.Size+x.cluster-1)/x.cluster, int64(x.last-s.start)+1) * x.cluster}}
	}
	out, has := cut(out, s.Size)
	if has < s.Size && fault == "" {
		fault = "fewer clusters follow than it has"
	}
	if s.Dir || s.valid >= s.Size || fault != "" {
		return out, fault
	}
	out, _ = cut(out, s.valid) // what lies past it reads as zeros: section 7.6.5
	return append(out, Extent{Hole, s.Size - s.valid}), ""
}

func (x *exfat) files(full bool, yield func(*File, error) bool) {
	root, fault := x.chain(x.root, -1)
	if fault != "" && !yield(nil, &Error{x.offset, "the root folder: " + fault}) {
		return
	}
	if !x.known && !yield(nil, &Error{x.offset, "there is no allocation bitmap"}) {
		return
	}
	folders, starts := newBits(int64(x.last)+1), map[uint32]int64{}
	type lost struct {
		*set
		dir string
	}
	var gone []lost
	var walk func(extents []Extent, dir string, dead bool, depth int) bool
	walk = func(extents []Extent, dir string, dead bool, depth int) (more bool) {
		more = true
		x.sets(extents, dir, dead, func(s *set) bool {
			if s.Deleted || dead {
				if s.Deleted = true; len(gone) < maxDeleted {
					gone = append(gone, lost{s, dir})
				}
				return true
			}
			f := s.File
			f.Complete = Whole
			if f.Extents, fault = x.allocated(s); fault != "" {
				f.Complete, f.Why = Part, fault
			}
			if !s.sealed {
				f.Why = strings.TrimPrefix(f.Why+"; the checksum of its entries does not hold", "; ")
			}
			if !f.Dir && s.Size > 0 {
				starts[s.start] = s.Size
			}
			inside := f.Extents
			if f.Dir {
				f.Size = 0
			}
			if more = yield(f, nil); !more || !f.Dir {
				return more
			}
			if len(inside) == 0 || depth == maxDepth || !folders.take(int64(s.start)) {
				return true
			}
			more = walk(inside, f.Path, false, depth+1)
			return more
		})
		return more
	}
	if !walk(root, "", false, 0) {
		return
	}
	var all []found
	for i := 0; ; i++ { // it grows
		if i == len(gone) && full { // when all that entries lead to is known
			full = false
			known := map[int64]bool{}
			for _, l := range gone {
				known[l.Entry.Offset] = true
			}
			x.orphans(folders, func(s *set, dir string) {
				if len(gone) < maxDeleted && !known[s.Entry.Offset] {
					s.Deleted = true
					gone = append(gone, lost{s, dir})
				}
			})
		}
		if i == len(gone) {
			break
		}
		s := gone[i]
		f := s.File
		if starts[s.start] == s.Size && s.Size > 0 && !f.Dir {
			continue // renamed: what it leads to is alive
		}
		f.Complete, f.Why = Unverified, "deleted directory entries whose checksum holds"
		var fault string
		if f.Extents, fault = x.allocated(s.set); fault != "" {
			f.Complete, f.Why = Part, f.Why+"; "+fault
		}
		if f.Size == 0 && !f.Dir {
			f.Complete = Whole
		}
		for _, e := range f.Extents {
			if e.Offset == Hole {
				continue
			}
			for at := e.Offset; at < e.Offset+e.Length; at += x.cluster {
				if c := uint32((at-x.offset-x.dataAt)/x.cluster + 2); x.known && !x.free(c) && len(f.Reused) < maxExtents {
					f.Complete, f.Reused = Part, join(f.Reused, Extent{at, x.cluster})
				}
			}
		}
		if len(f.Reused) > 0 {
			f.Why += "; some of its clusters were used again"
		}
		if f.Dir {
			inside := f.Extents
			f.Size = 0
			if f.Complete == Unverified && len(inside) > 0 && folders.take(int64(s.start)) && strings.Count(f.Path, "/") <= maxDepth {
				walk(inside, f.Path, true, 0)
			}
		}
		key := f.Modified.Local
		if f.Modified.At != nil {
			key = f.Modified.At.Format("2006-01-02T15:04:05.99")
		}
		start := s.start
		if f.Dir {
			start = 0
		}
		all = append(all, found{f, start, key})
	}
	for _, f := range settle(all, x.offset+x.dataAt, x.cluster, int64(x.last)-1) {
		if !yield(f, nil) {
			return
		}
	}
}

// orphans yields the entries of clusters that nothing uses, in folders to which no entry leads.
func (x *exfat) orphans(folders bits, yield func(*set, string)) {
	for run := range x.unallocated {
		for at := run.Offset; at < run.Offset+run.Length; at += x.cluster {
			c := uint32((at-x.offset-x.dataAt)/x.cluster) + 2
			if b := x.window.read(at-x.offset, 96); folders.has(int64(c)) || len(b) < 96 || b[0]|0x80 != 0x85 || b[32]|0x80 != 0xc0 || b[64]|0x80 != 0xc1 {
				continue
			}
			x.sets([]Extent{{at, x.cluster}}, fmt.Sprintf("/folder of cluster %d", c), true, func(s *set) bool {
				if s.sealed {
					yield(s, fmt.Sprintf("/folder of cluster %d", c))
				}
				return true
			})
		}
	}
}

func (x *exfat) unallocated(yield func(Extent) bool) {
	var run Extent
	for c := uint32(2); c <= x.last; c++ {
		if !x.free(c) {
			continue
		}
		if at := x.at(c); run.Length > 0 && run.Offset+run.Length == at {
			run.Length += x.cluster
		} else {
			if run.Length > 0 && !yield(run) {
				return
			}
			run = Extent{at, x.cluster}
		}
	}
	if run.Length > 0 {
		yield(run)
	}
}
