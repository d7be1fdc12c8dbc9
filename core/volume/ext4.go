package volume

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// ext is an ext2, ext3 or ext4 volume, as the kernel's documentation of ext4's data structures and algorithms
// describes it. Sections below are of that.
type ext struct {
	*window
	meta      cached
	block     int64 // bytes
	blocks    int64
	first     int64 // block of the first group
	perGroup  int64 // blocks
	inodes    int64 // of a group
	inodeSize int64
	count     int64 // inodes
	groups    []group
	wide      bool // block numbers of 64 bits
	journalAt uint32
	ratio     int64 // blocks that a bit of a bitmap stands for
	tables    bits  // blocks that the volume's own tables take
	taking    int64 // how many were said to be
	byTable   []int // groups in the order of their tables of inodes
	log       *journal
}

// group is a block group's descriptor: section Block Group Descriptors.
type group struct {
	blockBitmap, inodeTable int64
	unset                   bool // its bitmap was never written, and its blocks are free but for its own tables
}

const maxGroups = 1 << 20

func openExt(w *window) (*Volume, error) {
	s := w.read(1024, 1024)
	le := binary.LittleEndian
	if len(s) < 1024 || le.Uint16(s[56:]) != 0xef53 {
		return nil, ErrFormat
	}
	if le.Uint32(s[24:]) > 6 {
		return nil, &Error{w.offset + 1024, fmt.Sprintf("the superblock claims blocks of 2^%d KiB", le.Uint32(s[24:]))}
	}
	incompat := le.Uint32(s[96:])
	e := &ext{window: w, meta: cached{window: w}, block: 1024 << le.Uint32(s[24:]), blocks: int64(le.Uint32(s[4:])), first: int64(le.Uint32(s[20:])), perGroup: int64(le.Uint32(s[32:])),
		inodes: int64(le.Uint32(s[40:])), inodeSize: 128, count: int64(le.Uint32(s[0:])), wide: incompat&0x80 != 0, journalAt: le.Uint32(s[224:])}
	if le.Uint32(s[76:]) > 0 {
		e.inodeSize = int64(le.Uint16(s[88:]))
	}
	if e.wide {
		e.blocks |= int64(le.Uint32(s[336:])&0x7fffffff) << 32
	}
	if e.inodeSize < 128 || e.inodeSize&(e.inodeSize-1) != 0 || e.inodeSize > e.block || e.perGroup == 0 || e.inodes == 0 || e.blocks <= e.first || e.blocks > 1<<48 {
		return nil, &Error{w.offset + 1024, "the superblock contradicts itself"}
	}
	each := int64(32)
	if e.wide {
		each = max(int64(le.Uint16(s[254:])), 32)
	}
	if each&(each-1) != 0 || each > e.block {
		return nil, &Error{w.offset + 1024, fmt.Sprintf("the superblock claims descriptors of %d bytes", each)}
	}
	e.ratio = 1
	if le.Uint32(s[100:])&0x200 != 0 && le.Uint32(s[28:]) <= 32 { // clusters
		e.ratio = max(1, 1024<<le.Uint32(s[28:])/e.block)
	}
	e.tables = newBits(min(e.blocks, w.length/e.block))
	n := (e.blocks - e.first + e.perGroup - 1) / e.perGroup
	if n > maxGroups {
		return nil, &Error{w.offset + 1024, fmt.Sprintf("the superblock claims %d block groups", n)}
	}
	scattered := incompat&0x10 != 0 // meta block groups
	from := int64(le.Uint32(s[260:]))
	for i := range n {
		at := (e.first+1)*e.block + i*each
		if per := e.block / each; scattered && i/per >= from {
			g := i / per * per // of which the descriptors are
			at = (e.first+g*e.perGroup)*e.block + i%per*each
			if e.hasSuper(g, s) {
				at += e.block
			}
		}
		d := e.meta.read(at, int(each))
		if int64(len(d)) < each {
			break // the image ends before
		}
		g := group{blockBitmap: int64(le.Uint32(d)), inodeTable: int64(le.Uint32(d[8:])), unset: le.Uint16(d[18:])&2 != 0}
		inodeBitmap := int64(le.Uint32(d[4:]))
		if each >= 64 {
			g.blockBitmap |= int64(le.Uint32(d[32:])) << 32
			inodeBitmap |= int64(le.Uint32(d[36:])) << 32
			g.inodeTable |= int64(le.Uint32(d[40:])) << 32
		}
		e.groups = append(e.groups, g)
		e.take(g.blockBitmap, 1)
		e.take(inodeBitmap, 1)
		e.take(g.inodeTable, e.tableBlocks())
		own, per := int64(0), e.block/each
		if e.hasSuper(i, s) {
			own = 1
			if !scattered || i/per < from {
				own += (n*each+e.block-1)/e.block + int64(le.Uint16(s[206:]))
			}
		}
		if scattered && i/per >= from && (i%per < 2 || i%per == per-1) {
			own++
		}
		e.take(e.first+i*e.perGroup, own)
	}
	for g := range e.groups {
		e.byTable = append(e.byTable, g)
	}
	slices.SortFunc(e.byTable, func(a, b int) int { return cmp.Compare(e.groups[a].inodeTable, e.groups[b].inodeTable) })
	v := &Volume{Format: Ext4, Size: e.blocks * e.block, Cluster: e.block, system: e}
	v.Label = strings.TrimRight(strings.ToValidUTF8(string(s[120:136]), "_"), "\x00")
	v.ID = fmt.Sprintf("%x-%x-%x-%x-%x", s[104:108], s[108:110], s[110:112], s[112:114], s[114:120])
	return v, nil
}

// hasSuper reports whether a group has a copy of the superblock: section Sparse Super.
func (e *ext) hasSuper(g int64, s []byte) bool {
	if g <= 1 || binary.LittleEndian.Uint32(s[100:])&1 == 0 {
		return true
	}
	for _, p := range []int64{3, 5, 7} {
		n := p
		for n < g {
			n *= p
		}
		if n == g {
			return true
		}
	}
	return false
}

// inode is what an inode says: section Index Nodes.
type inode struct {
	mode                              uint16
	size                              int64
	links                             uint16
	flags, generation                 uint32
	changed, modified, accessed, born Stamp
	removed                           uint32
	data                              []byte // 60 bytes: where its blocks are
	at                                int64  // in the image
	more                              Extent // what does not fit into data, if it is not in blocks
}

func (n *inode) regular() bool { return n.mode&0xf000 == 0x8000 }
func (n *inode) dir() bool     { return n.mode&0xf000 == 0x4000 }

// place is where an inode lies in the volume, -1 if there is none of that number.
func (e *ext) place(number int64) int64 {
	if number < 1 || number > e.count || (number-1)/e.inodes >= int64(len(e.groups)) {
		return -1
	}
	return e.groups[(number-1)/e.inodes].inodeTable*e.block + (number-1)%e.inodes*e.inodeSize
}

func (e *ext) inode(number int64) *inode {
	at := e.place(number)
	if at < 0 {
		return nil
	}
	return e.parse(e.meta.read(at, int(e.inodeSize)), e.offset+at)
}

func (e *ext) parse(b []byte, at int64) *inode {
	if int64(len(b)) < e.inodeSize {
		return nil
	}
	le := binary.LittleEndian
	n := &inode{mode: le.Uint16(b), size: int64(le.Uint32(b[4:])), links: le.Uint16(b[26:]), flags: le.Uint32(b[32:]), generation: le.Uint32(b[100:]), removed: le.Uint32(b[20:]), data: append([]byte(nil), b[40:100]...), at: at}
	if n.regular() || n.dir() {
		n.size |= int64(le.Uint32(b[108:])&0x7fffffff) << 32
	}
	extra := func(at int) uint32 {
		if e.inodeSize > 128 && at+4 <= 128+int(le.Uint16(b[128:])) && at+4 <= len(b) {
			return le.Uint32(b[at:])
		}
		return 0
	}
	n.accessed, n.changed, n.modified = extTime(le.Uint32(b[8:]), extra(0x8c)), extTime(le.Uint32(b[12:]), extra(0x84)), extTime(le.Uint32(b[16:]), extra(0x88))
	if e.inodeSize > 128 && 128+int(le.Uint16(b[128:])) >= 0x94 {
		n.born = extTime(le.Uint32(b[0x90:]), extra(0x94))
	}
	if n.flags&0x10000000 != 0 && e.inodeSize > 128 {
		n.more = inline(b, 128+int(le.Uint16(b[128:])))
		n.more.Offset += at
	}
	return n
}

// inline is where an inode's extended attribute system.data lies in it: section Extended Attributes.
func inline(b []byte, at int) Extent {
	le := binary.LittleEndian
	if at+4 > len(b) || le.Uint32(b[at:]) != 0xea020000 {
		return Extent{}
	}
	first := at + 4
	for i := first; i+16 <= len(b) && le.Uint32(b[i:]) != 0; i += (16 + int(b[i]) + 3) &^ 3 {
		if name := b[i+16 : min(len(b), i+16+int(b[i]))]; b[i+1] == 7 && string(name) == "data" {
			from, n := first+int(le.Uint16(b[i+2:])), int64(le.Uint32(b[i+8:]))
			if from > len(b) || n > int64(len(b)-from) {
				return Extent{}
			}
			return Extent{int64(from), n}
		}
	}
	return Extent{}
}

// extTime is a time of an inode with its extension: section Inode Timestamps.
func extTime(seconds, extra uint32) Stamp {
	if seconds == 0 {
		return Stamp{}
	}
	at := time.Unix(int64(int32(seconds))+int64(extra&3)<<32, int64(extra>>2)%1e9).UTC()
	return Stamp{At: &at}
}

// extents are where an inode's bytes lie. What is wrong with that is said.
func (e *ext) extents(n *inode, read func(block int64) []byte) (out []Extent, fault string) {
	if n.size <= 0 || n.size > math.MaxInt64/2 {
		return nil, ""
	}
	var at int64 // bytes that are placed
	put := func(logical, physical, count int64, stored bool) bool {
		if gap := logical*e.block - at; gap > 0 {
			out, at = join(out, Extent{Hole, gap}), at+gap
		}
		if logical*e.block < at || count <= 0 || at >= n.size || len(out) >= maxExtents {
			return logical*e.block >= at && at < n.size
		}
		x := Extent{Hole, count * e.block}
		if stored {
			if physical < e.first || physical > e.blocks-count || physical == 0 {
				fault = "its blocks lie outside the volume"
				return false
			}
			x.Offset = e.offset + physical*e.block
		}
		out, at = join(out, x), at+x.Length
		return true
	}
	switch {
	case n.flags&0x10000000 != 0: // inline data
		out = []Extent{{n.at + 40, min(n.size, 60)}}
		if n.size > 60 {
			if n.more.Length < n.size-60 {
				return out, "what does not fit into its inode is not there"
			}
			out = append(out, Extent{n.more.Offset, n.size - 60})
		}
		return out, ""
	case n.flags&0x80000 != 0:
		fault = e.tree(n.data, 5, read, put)
	default:
		fault = e.blockMap(n, read, put)
	}
	if at < n.size && fault == "" { // a hole at the end
		out = join(out, Extent{Hole, n.size - at})
	}
	out, _ = cut(out, n.size)
	return out, fault
}

// tree follows an extent tree: section Extent Tree.
func (e *ext) tree(b []byte, depth int, read func(int64) []byte, put func(logical, physical, count int64, stored bool) bool) (fault string) {
	le := binary.LittleEndian
	const bad = "its extent tree is damaged"
	if len(b) < 12 || le.Uint16(b) != 0xf30a || int(le.Uint16(b[6:])) > depth || 12+12*int(le.Uint16(b[2:])) > len(b) {
		return bad
	}
	level := int(le.Uint16(b[6:]))
	for i := range int(le.Uint16(b[2:])) {
		x := b[12+12*i:]
		logical := int64(le.Uint32(x))
		if level == 0 {
			count, physical, stored := int64(le.Uint16(x[4:])), int64(le.Uint16(x[6:]))<<32|int64(le.Uint32(x[8:])), true
			if count > 32768 { // not written yet
				count, stored = count-32768, false
			}
			if !put(logical, physical, count, stored) {
				return bad
			}
			continue
		}
		if level == 0 || depth == 0 {
			return bad
		}
		if fault := e.tree(read(int64(le.Uint16(x[8:]))<<32|int64(le.Uint32(x[4:]))), level-1, read, put); fault != "" {
			return fault
		}
	}
	return ""
}

// blockMap follows the map of ext2 and ext3: section Direct/Indirect Block Addressing.
func (e *ext) blockMap(n *inode, read func(int64) []byte, put func(logical, physical, count int64, stored bool) bool) (fault string) {
	le := binary.LittleEndian
	logical, last := int64(0), (n.size+e.block-1)/e.block
	var follow func(block uint32, level int) bool
	follow = func(block uint32, level int) bool {
		per := int64(1)
		for range level {
			per *= e.block / 4
		}
		switch {
		case logical >= last:
			return false
		case block == 0:
			logical += per
			return true
		case level == 0:
			logical++
			return put(logical-1, int64(block), 1, true)
		}
		b := read(int64(block))
		if int64(len(b)) < e.block {
			fault = "a block of its map cannot be read"
			return false
		}
		for i := 0; i+4 <= len(b); i += 4 {
			if !follow(le.Uint32(b[i:]), level-1) {
				return false
			}
		}
		return true
	}
	for i := range 15 {
		if !follow(le.Uint32(n.data[4*i:]), max(0, i-11)) {
			break
		}
	}
	return fault
}

func (e *ext) readBlock(block int64) []byte {
	if block <= 0 || block >= e.blocks {
		return nil
	}
	return e.meta.read(block*e.block, int(e.block))
}

// free reports whether a block bitmap says that nothing uses a block.
func (e *ext) free(block int64) bool {
	g := (block - e.first) / e.perGroup
	if block < e.first || block >= e.blocks || g >= int64(len(e.groups)) {
		return false
	}
	if e.groups[g].unset {
		return !e.tables.has(block)
	}
	i := (block - e.first) % e.perGroup / e.ratio
	b := e.meta.read(e.groups[g].blockBitmap*e.block+i/8, 1)
	return len(b) == 1 && b[0]>>(i&7)&1 == 0
}

// take notes that the volume's own tables take blocks.
func (e *ext) take(block, n int64) {
	for ; n > 0 && block >= 0 && block>>6 < int64(len(e.tables)) && e.taking < 4*64*int64(len(e.tables)); n-- {
		e.tables.set(block)
		block++
		e.taking++
	}
}

// tableBlocks is how many blocks the table of inodes of a group has.
func (e *ext) tableBlocks() int64 { return (e.inodes*e.inodeSize + e.block - 1) / e.block }

// tableOf is the group of whose table of inodes a block is; -1 if it is of none.
func (e *ext) tableOf(block int64) int {
	i, found := slices.BinarySearchFunc(e.byTable, block, func(g int, b int64) int { return cmp.Compare(e.groups[g].inodeTable, b) })
	if !found {
		i--
	}
	if i < 0 || block >= e.groups[e.byTable[i]].inodeTable+e.tableBlocks() {
		return -1
	}
	return e.byTable[i]
}

// named is an entry of a directory: section Linear (Classic) Directories.
type named struct {
	number int64
	name   string
	gone   bool // in what an entry leaves over
}

// entries yields the entries of a block of a directory, and what is left of those that were removed.
func (e *ext) entries(b []byte, yield func(named) bool) {
	le := binary.LittleEndian
	entry := func(i int) (named, int, bool) {
		if i+8 > len(b) {
			return named{}, 0, false
		}
		n := int(b[i+6])
		x := named{number: int64(le.Uint32(b[i:]))}
		if n == 0 || i+8+n > len(b) {
			return x, 0, false
		}
		x.name = string(b[i+8 : i+8+n])
		return x, (8 + n + 3) &^ 3, true
	}
	for i := 0; i+8 <= len(b); {
		length := int(le.Uint16(b[i+4:]))
		if length == 0 && e.block == 65536 {
			length = 65536
		}
		if length < 8 || length%4 != 0 || i+length > len(b) {
			return
		}
		x, used, ok := entry(i)
		from := i
		if ok && x.number != 0 {
			if !yield(x) {
				return
			}
			from = i + used
		}
		for j := from; j+8 < i+length; {
			x, used, ok := entry(j)
			if x.gone = true; ok && j+used <= i+length && x.number > 0 && x.number <= e.count && b[j+7] <= 7 && plausible(x.name) {
				if !yield(x) {
					return
				}
				j += used
				continue
			}
			j += 4
		}
		i += length
	}
}

// plausible reports whether what is left of a directory holds a name and not what else lay there.
func plausible(s string) bool {
	if s == "." || s == ".." {
		return false
	}
	for _, c := range s {
		if c < 0x20 || c == '/' || c == 0x7f || c == 0xfffd {
			return false
		}
	}
	return true
}

func (n *inode) file(path string) *File {
	return &File{Path: path, Dir: n.dir(), Size: n.size, Modified: n.modified, Accessed: n.accessed, Created: n.born, Complete: Whole}
}

func (e *ext) files(_ bool, yield func(*File, error) bool) {
	e.log = e.readJournal()
	alive := map[int64]bool{}
	names := map[int64][]called{} // what deleted entries say, and older blocks of folders
	dirs := map[int64]string{2: ""}
	blocks := map[int64]int64{} // which folder a block is of
	var walk func(number int64, n *inode, dir string, depth int) bool
	walk = func(number int64, n *inode, dir string, depth int) (more bool) {
		more = true
		extents, fault := e.extents(n, e.readBlock)
		if fault != "" {
			if more = yield(nil, &Error{n.at, "the folder " + dir + "/: " + fault}); !more {
				return false
			}
		}
		total := int64(0)
		if n.flags&0x10000000 != 0 && len(extents) > 0 { // the number of its own folder, and then entries
			extents[0].Offset, extents[0].Length = extents[0].Offset+4, extents[0].Length-4
		}
		for _, x := range extents {
			for at := x.Offset; x.Offset != Hole && at < x.Offset+x.Length && more && total < maxFolder && e.spend(e.block); at += e.block {
				blocks[(at-e.offset)/e.block] = number
				total += e.block
				e.entries(e.window.read(at-e.offset, int(min(e.block, x.Offset+x.Length-at))), func(d named) bool {
					if d.name == "." || d.name == ".." {
						return true
					}
					if d.gone {
						names[d.number] = append(names[d.number], called{number, d.name, 0})
						return true
					}
					c := e.inode(d.number)
					if c == nil || c.links == 0 || !c.regular() && !c.dir() {
						return true
					}
					f := c.file(dir + "/" + name(d.name))
					f.Entry = Extent{c.at, e.inodeSize}
					var fault string
					if f.Extents, fault = e.extents(c, e.readBlock); fault != "" {
						f.Complete, f.Why = Part, fault
					}
					again := alive[d.number]
					alive[d.number] = true
					if f.Dir {
						f.Size = 0
					}
					if more = yield(f, nil); !more || !f.Dir || again || depth == maxDepth {
						return more
					}
					dirs[d.number] = f.Path
					more = walk(d.number, c, f.Path, depth+1)
					return more
				})
			}
		}
		return more
	}
	root := e.inode(2)
	if root == nil || !root.dir() {
		yield(nil, &Error{e.offset, "there is no root folder"})
		return
	}
	if !walk(2, root, "", 0) {
		return
	}
	e.dead(alive, dirs, names, blocks, yield)
}

func (e *ext) unallocated(yield func(Extent) bool) {
	var run Extent
	for b := e.first; b < e.blocks && b*e.block < e.length; b++ {
		if !e.free(b) {
			continue
		}
		if at := e.offset + b*e.block; run.Length > 0 && run.Offset+run.Length == at {
			run.Length += e.block
		} else {
			if run.Length > 0 && !yield(run) {
				return
			}
			run = Extent{at, e.block}
		}
	}
	if run.Length > 0 {
		yield(run)
	}
}
