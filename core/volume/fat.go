package volume

import (
	"encoding/binary"
	"fmt"
	"strings"
)

// fat is a FAT volume: Microsoft Extensible Firmware Initiative FAT32 File System Specification 1.03, which
// describes all three.
type fat struct {
	*window
	table    cached
	width    int   // bits of an entry of the table
	tableAt  int64 // bytes, as the rest
	rootAt   int64 // of FAT12 and FAT16
	rootSize int64
	dataAt   int64
	cluster  int64
	last     uint32 // cluster
	root     uint32 // of FAT32
}

func openFAT(w *window) (*Volume, error) {
	v, err := bootedFAT(w, w.read(0, 512))
	if err == ErrFormat { // FAT32 keeps a copy, in sector 6 as a rule
		if c, err := bootedFAT(w, w.read(6*512, 512)); err == nil && c.Format == FAT32 {
			return c, nil
		}
	}
	return v, err
}

// bootedFAT opens a volume by its boot sector.
func bootedFAT(w *window, b []byte) (*Volume, error) {
	if len(b) < 512 || b[510] != 0x55 || b[511] != 0xaa || !bootSector(b) {
		return nil, ErrFormat
	}
	le := binary.LittleEndian
	sector, per := int64(le.Uint16(b[11:])), int64(b[13])
	tables, entries := int64(b[16]), int64(le.Uint16(b[17:]))
	sectors, size := int64(le.Uint16(b[19:])), int64(le.Uint16(b[22:]))
	if sectors == 0 {
		sectors = int64(le.Uint32(b[32:]))
	}
	f := &fat{window: w, table: cached{window: w}, tableAt: int64(le.Uint16(b[14:])) * sector, cluster: sector * per}
	// A volume of few clusters is made as FAT32, too: what tells is which field has the size of the table.
	wide := size == 0
	if wide {
		size = int64(le.Uint32(b[36:]))
	}
	f.rootAt = f.tableAt + tables*size*sector
	f.rootSize = entries * 32
	f.dataAt = f.rootAt + (f.rootSize+sector-1)/sector*sector
	count := (sectors*sector - f.dataAt) / f.cluster
	if f.tableAt == 0 || size == 0 || sectors == 0 || count <= 0 || !wide && entries == 0 {
		return nil, ErrFormat
	}
	v := &Volume{Size: sectors * sector, Cluster: f.cluster, system: f}
	at := 43
	switch {
	case wide:
		v.Format, f.width, f.root, at = FAT32, 32, le.Uint32(b[44:])&0x0fffffff, 71
	case count < 4085:
		v.Format, f.width = FAT12, 12
	default:
		v.Format, f.width = FAT16, 16
	}
	count = min(count, size*sector*8/int64(f.width)-2, (w.length-f.dataAt)/f.cluster+1, 0x0ffffff5)
	f.last = uint32(max(count, 0)) + 1
	v.Label = strings.TrimRight(dosName(b[at:at+11]), " ")
	v.ID = fmt.Sprintf("%04X-%04X", le.Uint16(b[at-2:]), le.Uint16(b[at-4:]))
	return v, nil
}

// next is the table's entry of a cluster: 0 if it is free, 2 and more for the cluster that follows, end
// for the last and for one that no file has.
func (f *fat) next(c uint32) uint32 {
	switch f.width {
	case 12:
		b := f.table.read(f.tableAt+int64(c)*3/2, 2)
		if len(b) < 2 {
			return endOfChain
		}
		n := uint32(binary.LittleEndian.Uint16(b))
		if c%2 == 1 {
			n >>= 4
		}
		return f.link(n&0xfff, 0xff7)
	case 16:
		if b := f.table.read(f.tableAt+int64(c)*2, 2); len(b) == 2 {
			return f.link(uint32(binary.LittleEndian.Uint16(b)), 0xfff7)
		}
	default:
		if b := f.table.read(f.tableAt+int64(c)*4, 4); len(b) == 4 {
			return f.link(binary.LittleEndian.Uint32(b)&0x0fffffff, 0x0ffffff7)
		}
	}
	return endOfChain
}

const endOfChain = 1

func (f *fat) link(n, bad uint32) uint32 {
	if n >= bad || n > f.last {
		return endOfChain
	}
	return n
}

func (f *fat) valid(c uint32) bool { return c >= 2 && c <= f.last }
func (f *fat) free(c uint32) bool  { return f.valid(c) && f.next(c) == 0 }

// at is where a cluster lies in the image.
func (f *fat) at(c uint32) int64 { return f.offset + f.dataAt + int64(c-2)*f.cluster }

// chain is a chain of clusters, of no more than size bytes if that is not negative. What is wrong with it is
// said.
func (f *fat) chain(c uint32, size int64) (out []Extent, fault string) {
	seen := map[uint32]bool{}
	var n int64
	for steps := int64(0); f.valid(c) && (size < 0 || n < size); steps++ {
		if len(out) == maxExtents || steps > int64(f.last) {
			return out, "its chain of clusters has no end"
		}
		if k := len(out); k == 0 || out[k-1].Offset+out[k-1].Length != f.at(c) { // a chain that turns back begins a run where one began
			if seen[c] {
				return out, "its chain of clusters turns back on itself"
			}
			seen[c] = true
		}
		next := f.next(c)
		if next == 0 {
			return out, "its chain of clusters leads to a free one"
		}
		out, n = join(out, Extent{f.at(c), f.cluster}), n+f.cluster
		c = next
	}
	if size >= 0 && n < size {
		fault = "its chain of clusters is shorter than the file"
	}
	return out, fault
}

// slot is a directory entry with its long name.
type slot struct {
	name      string
	attr      byte
	deleted   bool
	start     uint32
	size      int64
	modified  string
	created   string
	accessed  string
	entry     Extent
	nameKnown bool // the whole of it
}

func (s *slot) dir() bool { return s.attr&0x10 != 0 }

// folder reads the entries of a directory that lies in extents; all of one that was deleted are.
func (f *fat) folder(extents []Extent, deleted bool, yield func(slot) bool) {
	var long []longPart
	ended := deleted
	var total int64
	for _, e := range extents {
		for at := e.Offset; at < e.Offset+e.Length; at += f.piece() {
			b := f.window.read(at-f.offset, int(min(f.piece(), e.Offset+e.Length-at)))
			if total += int64(len(b)); total > maxFolder || !f.spend(int64(len(b))) {
				return
			}
			for i := 0; i+32 <= len(b); i += 32 {
				d := b[i : i+32]
				if d[0] == 0 { // what follows is of no file, or of one that was
					ended, long = true, nil
					continue
				}
				if d[11]&0x3f == 0x0f {
					long = append(long, longPart{d, at + int64(i)})
					if len(long) > 20 {
						long = long[1:]
					}
					continue
				}
				s, ok := f.slot(d, at+int64(i), long)
				long = nil
				s.deleted = s.deleted || ended
				if ok && !yield(s) {
					return
				}
			}
		}
	}
}

func (f *fat) piece() int64 { return max(f.cluster, 512) }

type longPart struct {
	b  []byte
	at int64
}

// slot reads a short entry, with the parts of a long name that stand before it.
func (f *fat) slot(d []byte, at int64, long []longPart) (s slot, ok bool) {
	le := binary.LittleEndian
	s = slot{attr: d[11], deleted: d[0] == 0xe5, start: uint32(le.Uint16(d[26:])), size: int64(le.Uint32(d[28:])), entry: Extent{at, 32}}
	if f.width == 32 {
		s.start |= uint32(le.Uint16(d[20:])) << 16
	}
	if d[11]&0xc0 != 0 || !shortName(d[:11]) || s.start > f.last {
		return s, false
	}
	s.modified, s.created, s.accessed = dosTime(le.Uint16(d[24:]), le.Uint16(d[22:]), 0), dosTime(le.Uint16(d[16:]), le.Uint16(d[14:]), d[13]), dosTime(le.Uint16(d[18:]), 0, 0)
	if len(s.accessed) > 10 {
		s.accessed = s.accessed[:10] // a date alone
	}
	own := [11]byte(d[:11])
	if own[0] == 0x05 {
		own[0] = 0xe5
	}
	if n := len(long); n > 0 {
		sum := long[n-1].b[13]
		fits := checksum(d[:11]) == sum
		if s.deleted { // the first byte is gone, and the checksum gives it
			own[0] = firstByte(d[:11], sum)
			fits = shortName(own[:])
		}
		if fits {
			if name, from := longName(long, sum, s.deleted); name != "" {
				s.name, s.nameKnown = name, true
				s.entry = Extent{from, at + 32 - from}
				return s, true
			}
			s.nameKnown = s.deleted // by the checksum of what is left of it
		}
	}
	if s.deleted && !s.nameKnown {
		own[0] = '_'
	}
	base, ext := strings.TrimRight(dosName(own[:8]), " "), strings.TrimRight(dosName(own[8:]), " ")
	if d[12]&0x08 != 0 {
		base = strings.ToLower(base)
	}
	if d[12]&0x10 != 0 {
		ext = strings.ToLower(ext)
	}
	if s.name = base; ext != "" {
		s.name += "." + ext
	}
	s.nameKnown = s.nameKnown || !s.deleted
	return s, true
}

// file makes the file of a slot.
func (s *slot) file(dir string) *File {
	return &File{Path: dir + "/" + name(s.name), Dir: s.dir(), Deleted: s.deleted, Size: s.size, Modified: Stamp{Local: s.modified}, Created: Stamp{Local: s.created}, Accessed: Stamp{Local: s.accessed},
		Hidden: s.attr&2 != 0, System: s.attr&4 != 0, Entry: s.entry}
}

// lost is a deleted entry, to be looked at when all that is alive is known.
type lost struct {
	slot
	in string // the path of its folder
}

// walk goes through what is alive, and keeps what is not.
type walk struct {
	*fat
	folders bits             // clusters at which folders that were read begin
	starts  map[uint32]int64 // of live files, by their first cluster, their size
	lost    []lost
	more    func(*File, error) bool
}

func (f *fat) files(full bool, yield func(*File, error) bool) {
	w := &walk{fat: f, folders: newBits(int64(f.last) + 1), starts: map[uint32]int64{}, more: yield}
	root := []Extent{{f.offset + f.rootAt, f.rootSize}}
	if f.width == 32 {
		var fault string
		if root, fault = f.chain(f.root, -1); fault != "" && !yield(nil, &Error{f.offset, "the root folder: " + fault}) {
			return
		}
	}
	if !w.live(root, "", 0) {
		return
	}
	all := w.dead()
	if full {
		all = append(all, w.orphans()...)
	}
	for _, f := range settle(all, f.offset+f.dataAt, f.cluster, int64(f.last)-1) {
		if !yield(f, nil) {
			return
		}
	}
}

func (w *walk) live(extents []Extent, dir string, depth int) (more bool) {
	more = true
	w.folder(extents, false, func(s slot) bool {
		switch {
		case s.name == "." || s.name == "..":
			return true
		case s.attr&0x08 != 0 && !s.dir(): // the volume's label
			return true
		case s.deleted:
			if len(w.lost) < maxDeleted {
				w.lost = append(w.lost, lost{s, dir})
			}
			return true
		}
		f := s.file(dir)
		f.Complete = Whole
		if s.dir() {
			f.Size = 0
			inside, fault := w.chain(s.start, -1)
			f.Extents = inside
			if fault != "" {
				f.Complete, f.Why = Part, fault
			}
			if more = w.more(f, nil); !more {
				return false
			}
			if !w.valid(s.start) || depth == maxDepth || !w.folders.take(int64(s.start)) {
				more = w.more(nil, &Error{s.entry.Offset, "the folder " + f.Path + " is not read: its start leads nowhere, or where another was read"})
				return more
			}
			more = w.live(inside, f.Path, depth+1)
			return more
		}
		if s.size > 0 {
			var fault string
			if f.Extents, fault = w.chain(s.start, s.size); fault != "" {
				f.Complete, f.Why = Part, fault
			}
			f.Extents, _ = cut(f.Extents, s.size)
			w.starts[s.start] = s.size
		}
		more = w.more(f, nil)
		return more
	})
	return more
}

// dead are the deleted files, and what lies in deleted folders.
func (w *walk) dead() (all []found) {
	for i := 0; i < len(w.lost) && i < maxDeleted; i++ { // grows
		l := w.lost[i]
		if l.name == "." || l.name == ".." {
			continue
		}
		f := l.file(l.in)
		f.Deleted = true
		switch {
		case l.slot.dir():
			w.deadFolder(f, &l)
			all = append(all, found{f, 0, ""})
			continue
		case w.starts[l.start] == l.size && l.size > 0:
			continue // of a file that was renamed: what it leads to is alive
		case l.size == 0:
			f.Complete, f.Why = Whole, "a deleted directory entry of an empty file"
		default:
			w.assume(f, &l.slot)
		}
		all = append(all, found{f, l.start, max(l.modified, l.created)})
	}
	w.lost = nil
	return all
}

// orphans are folders that begin in clusters which nothing uses, and to which no entry leads, with what lies in them:
// those first that lie in none of the others.
func (w *walk) orphans() (all []found) {
	parent := map[uint32]uint32{}
	var order []uint32
	for run := range w.unallocated {
		for at := run.Offset; at < run.Offset+run.Length && len(order) < maxDeleted; {
			n := min(run.Offset+run.Length-at, max(w.cluster, pieceSize*16/w.cluster*w.cluster))
			b := w.window.read(at-w.offset, int(n))
			for i := int64(0); i+w.cluster <= int64(len(b)); i += w.cluster {
				if b[i] != '.' || b[i+1] != ' ' {
					continue
				}
				c := uint32((at+i-w.offset-w.dataAt)/w.cluster) + 2
				if !w.folders.has(int64(c)) && w.isFolder(c, c) {
					d := b[i+32:]
					up := uint32(binary.LittleEndian.Uint16(d[26:]))
					if w.width == 32 {
						up |= uint32(binary.LittleEndian.Uint16(d[20:])) << 16
					}
					parent[c], order = up, append(order, c)
				}
			}
			at += n
		}
	}
	for _, within := range []bool{false, true} {
		for _, c := range order {
			if _, has := parent[parent[c]]; has == within && !w.folders.has(int64(c)) {
				w.lost = append(w.lost, lost{slot{name: fmt.Sprintf("folder of cluster %d", c), attr: 0x10, deleted: true, start: c, nameKnown: true, entry: Extent{w.at(c), 64}}, ""})
				all = append(all, w.dead()...)
			}
		}
	}
	return all
}

// deadFolder reads a deleted folder if it is still where it was: its first entry says so.
func (w *walk) deadFolder(f *File, l *lost) {
	f.Size, f.Complete, f.Why = 0, Part, "a deleted directory entry; its folder's own cluster was used again"
	if !w.free(l.start) || !w.isFolder(l.start, l.start) || !w.folders.take(int64(l.start)) || strings.Count(f.Path, "/") > maxDepth {
		return
	}
	f.Complete, f.Why = Unverified, "a deleted directory entry, and its folder's first cluster, which names itself"
	c := l.start
	for ; w.free(c) && (c == l.start || w.isFolder(c, 0)); c++ {
		f.Extents = join(f.Extents, Extent{w.at(c), w.cluster})
	}
	w.folder(f.Extents, true, func(s slot) bool {
		if s.attr&0x08 == 0 || s.dir() {
			w.lost = append(w.lost, lost{s, f.Path})
		}
		return len(w.lost) < maxDeleted
	})
}

// isFolder reports whether a cluster begins a folder, which names itself first, or goes on with one, if own
// is 0: it begins with an entry, and what it has are entries.
func (w *walk) isFolder(c, own uint32) bool {
	b := w.window.read(w.at(c)-w.offset, int(w.piece()))
	if len(b) < 64 {
		return false
	}
	le := binary.LittleEndian
	if own != 0 {
		start := uint32(le.Uint16(b[26:]))
		if w.width == 32 {
			start |= uint32(le.Uint16(b[20:])) << 16
		}
		return string(b[:11]) == ".          " && b[11]&0x10 != 0 && start == own && string(b[32:43]) == "..         " && b[43]&0x10 != 0
	}
	if b[0] == '.' || b[0] == 0 {
		return false
	}
	for i := 0; i+32 <= len(b) && b[i] != 0; i += 32 {
		if d := b[i:]; d[11]&0x3f != 0x0f && (d[11]&0xc0 != 0 || !shortName(d[:11])) || d[11]&0x3f == 0x0f && (d[26] != 0 || d[27] != 0) {
			return false
		}
	}
	return true
}

// assume gives a deleted file the clusters that it must have had if it lay in one run: from its first one on,
// without those that are in use, which were so when it was written, or were taken since.
func (w *walk) assume(f *File, s *slot) {
	why := "a deleted directory entry"
	if !s.nameKnown {
		why += ", of whose name the first letter is gone"
	}
	start := s.start
	if w.width == 32 && start < 1<<16 && !w.likely(start, s.name) { // some systems clear the upper half
		n := 0
		for c := start + 1<<16; c <= w.last; c += 1 << 16 {
			if w.free(c) && w.likely(c, s.name) {
				if start, n = c, n+1; n > 1 {
					break
				}
			}
		}
		if n == 1 {
			why += "; the upper half of its start was cleared, and only cluster " + fmt.Sprint(start) + " begins as its name says"
		} else {
			start = s.start
		}
	}
	if !w.free(start) {
		f.Complete, f.Why = Part, why+"; its first cluster was used again"
		for c, need := start, f.Size; need > 0 && w.valid(c) && len(f.Reused) < maxExtents; c, need = c+1, need-w.cluster {
			if !w.free(c) {
				f.Reused = join(f.Reused, Extent{w.at(c), w.cluster})
			}
		}
		return
	}
	need, skipped := f.Size, false
	c := start
	for ; need > 0 && w.valid(c) && len(f.Extents) < maxExtents; c++ {
		if !w.free(c) {
			skipped = true
			continue
		}
		f.Extents, need = join(f.Extents, Extent{w.at(c), w.cluster}), need-w.cluster
	}
	f.Extents, _ = cut(f.Extents, f.Size)
	f.Complete = Unverified
	switch {
	case need > 0:
		f.Complete, why = Part, why+"; fewer free clusters follow than it had"
	case skipped:
		why += "; clusters in use that lie between are taken for others'"
	default:
		why += "; the clusters that follow its first are free, and are taken to be its"
	}
	f.Why = why
}

// likely reports whether a cluster begins as the name of a file says, or the name says nothing.
func (w *walk) likely(c uint32, name string) bool {
	if !w.valid(c) {
		return false
	}
	return begins(name, w.window.read(w.at(c)-w.offset, 16))
}

func (f *fat) unallocated(yield func(Extent) bool) {
	var run Extent
	for c := uint32(2); c <= f.last; c++ {
		if f.next(c) != 0 {
			continue
		}
		if at := f.at(c); run.Length > 0 && run.Offset+run.Length == at {
			run.Length += f.cluster
		} else {
			if run.Length > 0 && !yield(run) {
				return
			}
			run = Extent{at, f.cluster}
		}
	}
	if run.Length > 0 {
		yield(run)
	}
}
