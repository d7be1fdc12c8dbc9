package volume

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
)

// copied is an older copy of a block of a volume, which its journal has.
type copied struct {
	sequence uint32
	at       int64 // in the volume
	escaped  bool  // its first four bytes are the journal's mark, and written as zeros
}

// journal is what a volume's journal has of older blocks: section Journal (jbd2).
type journal struct {
	copies map[int64][]copied // by block, the newest first
}

const (
	journalMark = 0xc03b3998
	maxCopies   = 1 << 20
	maxNames    = 64 // that a number had
)

// readJournal looks at every block of the journal for descriptors: of a journal that was closed nothing else
// says where they are.
func (e *ext) readJournal() *journal {
	j := &journal{copies: map[int64][]copied{}}
	n := e.inode(int64(e.journalAt))
	if e.journalAt == 0 || n == nil {
		return j
	}
	extents, _ := e.extents(n, e.readBlock)
	var at []int64 // of each block of the journal in the volume
	for _, x := range extents {
		for o := x.Offset; o < x.Offset+x.Length && len(at) < maxCopies; o += e.block {
			if x.Offset == Hole {
				at = append(at, -1)
			} else {
				at = append(at, o-e.offset)
			}
		}
	}
	if len(at) == 0 {
		return j
	}
	be := binary.BigEndian
	super := e.window.read(at[0], 1024)
	if len(super) < 1024 || be.Uint32(super) != journalMark {
		return j
	}
	incompat := be.Uint32(super[40:])
	wide, sums := incompat&2 != 0, incompat&(8|16) != 0
	size := 8
	if wide {
		size = 12
	}
	if incompat&16 != 0 {
		size = 16
	}
	first := int(min(max(be.Uint32(super[20:]), 1), uint32(len(at))))
	next := func(i int) int {
		if i++; i >= len(at) {
			return first
		}
		return i
	}
	for i := first; i < len(at); i++ {
		b := e.window.read(at[i], int(e.block))
		if int64(len(b)) < e.block || be.Uint32(b) != journalMark || be.Uint32(b[4:]) != 1 {
			continue
		}
		end := len(b)
		if sums {
			end -= 4
		}
		for o, k := 12, next(i); o+size <= end; k = next(k) {
			block, flags := int64(be.Uint32(b[o:])), uint32(0)
			if incompat&16 != 0 {
				flags = be.Uint32(b[o+4:])
				block |= int64(be.Uint32(b[o+8:])) << 32
			} else {
				flags = uint32(be.Uint16(b[o+6:]))
				if wide {
					block |= int64(be.Uint32(b[o+8:])) << 32
				}
			}
			if o += size; flags&2 == 0 { // not of the same volume as the one before
				o += 16
			}
			if at[k] >= 0 && block > 0 && block < e.blocks {
				j.copies[block] = append(j.copies[block], copied{be.Uint32(b[8:]), at[k], flags&1 != 0})
			}
			if flags&8 != 0 {
				break
			}
		}
	}
	for _, all := range j.copies {
		slices.SortStableFunc(all, func(a, b copied) int { return cmp.Compare(b.sequence, a.sequence) })
	}
	return j
}

// copy reads an older block.
func (e *ext) copy(c copied) []byte {
	b := e.window.read(c.at, int(e.block))
	if c.escaped && len(b) >= 4 {
		binary.BigEndian.PutUint32(b, journalMark)
	}
	return b
}

// called is what a file was called.
type called struct {
	dir      int64 // the number of its folder, 0 if that is not known
	name     string
	sequence uint32 // of the transaction that says so; 0 of what is left over in a block
}

// nameAt is what a number was called when a transaction was written: as that or the last one before it says, else
// the first one after it, else what is left over.
func nameAt(all []called, sequence uint32) (best called, ok bool) {
	rank := func(c called) int64 {
		switch d := int64(sequence) - int64(c.sequence); {
		case c.sequence == 0:
			return 1 << 40
		case d >= 0:
			return d
		default:
			return 1<<33 - d
		}
	}
	for _, c := range all {
		if !ok || rank(c) < rank(best) || rank(c) == rank(best) && best.dir == 0 {
			best, ok = c, true
		}
	}
	return best, ok
}

// dead yields the deleted files of whose inodes a copy is left: in the table, or in the journal.
func (e *ext) dead(alive map[int64]bool, dirs map[int64]string, names map[int64][]called, blocks map[int64]int64, yield func(*File, error) bool) {
	type version struct {
		*inode
		number   int64
		sequence uint32
		logged   bool
	}
	// The newest copy of an inode's every generation that has bytes.
	kept := map[[2]int64]version{}
	keep := func(v version) {
		if v.inode == nil || v.links == 0 && !(v.removed != 0 && !v.logged) || !v.regular() && !v.dir() || v.size <= 0 || v.number < 11 {
			return
		}
		if v.flags&0x10000000 == 0 && slices.Max(v.data) == 0 {
			return
		}
		if v.flags&0x80000 != 0 && binary.LittleEndian.Uint16(v.data[2:]) == 0 { // an extent tree without extents
			return
		}
		k := [2]int64{v.number, int64(v.generation)}
		if old, has := kept[k]; !has || v.sequence > old.sequence {
			kept[k] = v
		}
	}
	for _, block := range slices.Sorted(maps.Keys(e.log.copies)) {
		group := e.tableOf(block)
		if group < 0 {
			continue
		}
		g := int64(group)
		for _, c := range e.log.copies[block] {
			b := e.copy(c)
			for i := int64(0); (i+1)*e.inodeSize <= int64(len(b)); i++ {
				number := g*e.inodes + (block-e.groups[g].inodeTable)*(e.block/e.inodeSize) + i + 1
				n := e.parse(b[i*e.inodeSize:(i+1)*e.inodeSize], e.offset+c.at+i*e.inodeSize)
				if keep(version{n, number, c.sequence, true}); n == nil || !n.dir() || n.flags&0x10000000 == 0 {
					continue
				}
				extents, _ := e.extents(n, e.readBlock) // of a small folder, which lies in its inode
				for k, x := range extents {
					if k == 0 {
						x.Offset, x.Length = x.Offset+4, x.Length-4
					}
					e.learn(e.window.read(x.Offset-e.offset, int(min(x.Length, e.inodeSize))), number, c.sequence, names)
				}
			}
		}
	}
	for g := range e.groups { // inodes that still have their extents
		for i := range e.inodes {
			number := int64(g)*e.inodes + i + 1
			at := e.place(number)
			if at < 0 || at >= e.length || !e.spend(e.inodeSize) {
				break
			}
			if b := e.meta.read(at, 28); len(b) == 28 && binary.LittleEndian.Uint16(b[26:]) == 0 && binary.LittleEndian.Uint32(b[20:]) != 0 {
				keep(version{e.inode(number), number, 0, false})
			}
		}
	}
	// Folders: of deleted ones their older inodes say which blocks were theirs.
	for _, v := range kept {
		if v.dir() && !alive[v.number] {
			extents, _ := e.extents(v.inode, e.older)
			for _, x := range extents {
				for at := x.Offset; x.Offset != Hole && at < x.Offset+x.Length && at < x.Offset+maxFolder && e.spend(e.block); at += e.block {
					if block := (at - e.offset) / e.block; blocks[block] == 0 {
						blocks[block] = v.number
						if e.free(block) { // what is left of it, if nothing else was put there
							e.learn(e.window.read(at-e.offset, int(e.block)), v.number, 0, names)
						}
					}
				}
			}
		}
	}
	for _, block := range slices.Sorted(maps.Keys(e.log.copies)) {
		if e.tableOf(block) >= 0 {
			continue
		}
		for _, c := range e.log.copies[block] {
			if b := e.copy(c); e.isFolder(b) {
				dir := blocks[block]
				if string(b[8:9]) == "." && b[6] == 1 {
					dir = int64(binary.LittleEndian.Uint32(b))
				}
				e.learn(b, dir, c.sequence, names)
			}
		}
	}
	var path func(number int64, sequence uint32, depth int) string
	path = func(number int64, sequence uint32, depth int) string {
		if p, ok := dirs[number]; ok && depth > 0 {
			return p
		}
		c, ok := nameAt(names[number], sequence)
		if !ok || depth > maxDepth {
			return "/" + unnamed(number)
		}
		return path(c.dir, sequence, depth+1) + "/" + name(c.name)
	}
	var all []version
	for _, v := range kept {
		if now := e.inode(v.number); now != nil && now.links > 0 && (now.generation == v.generation || alive[v.number] && sameExtents(now, v.inode)) {
			continue // it is alive
		}
		all = append(all, v)
	}
	slices.SortFunc(all, func(a, b version) int { // the later first, which is whose the blocks were last
		return cmp.Or(cmp.Compare(b.sequence, a.sequence), cmp.Compare(a.number, b.number), cmp.Compare(a.generation, b.generation))
	})
	claimed := map[int64]bool{}
	for _, v := range all {
		_, known := nameAt(names[v.number], v.sequence)
		p := path(v.number, v.sequence, 0)
		f := v.file(p)
		f.Deleted, f.Complete, f.Entry = true, Unverified, Extent{v.at, e.inodeSize}
		f.Why = "an inode that is not in use any more"
		if v.logged {
			f.Why = "an older copy of its inode, which the journal has"
		}
		if !known {
			f.Why += "; what it was called is not known"
		}
		if now := e.inode(v.number); now != nil && now.removed != 0 && now.links == 0 {
			f.Removed = extTime(now.removed, 0)
		}
		var fault string
		if f.Extents, fault = e.extents(v.inode, e.older); fault != "" {
			f.Complete, f.Why = Part, f.Why+"; "+fault
		}
		again := false
		for _, x := range f.Extents {
			if x.Offset == Hole || v.flags&0x10000000 != 0 {
				continue
			}
			for at := x.Offset; at < x.Offset+x.Length; at += e.block {
				block := (at - e.offset) / e.block
				if !e.free(block) && len(f.Reused) < maxExtents {
					f.Reused = join(f.Reused, Extent{at, e.block})
				}
				again = again || !e.free(block) || claimed[block]
				if len(claimed) < maxCopies {
					claimed[block] = true
				}
			}
		}
		if again {
			f.Complete, f.Why = Part, f.Why+"; some of its blocks were used again"
		}
		if f.Dir {
			f.Size = 0
		}
		if !yield(f, nil) {
			return
		}
	}
}

// unnamed is what a file is called of which only the number is known.
func unnamed(number int64) string { return fmt.Sprintf("inode %d", number) }

// older reads a block as it was when what leads to it was written: the newest copy of the journal, else the
// block itself.
func (e *ext) older(block int64) []byte {
	if all := e.log.copies[block]; len(all) > 0 {
		for _, c := range all {
			if b := e.copy(c); len(b) > 1 && binary.LittleEndian.Uint16(b) == 0xf30a {
				return b
			}
		}
	}
	return e.readBlock(block)
}

// isFolder reports whether a block is one of a folder: entries fill it to its end.
func (e *ext) isFolder(b []byte) bool {
	if int64(len(b)) < e.block {
		return false
	}
	i, n := 0, 0
	for i+8 <= len(b) {
		length := int(binary.LittleEndian.Uint16(b[i+4:]))
		if length < 12 || length%4 != 0 || int(b[i+6])+8 > length || int64(binary.LittleEndian.Uint32(b[i:])) > e.count || b[i+7] > 7 && b[i+7] != 0xde {
			return false
		}
		i, n = i+length, n+1
	}
	return i == len(b) && n > 0
}

// learn takes the names of a block of a folder over, as later ones do not say otherwise.
func (e *ext) learn(b []byte, dir int64, sequence uint32, names map[int64][]called) {
	e.entries(b, func(d named) bool {
		if d.name == "." || d.name == ".." || d.number == 0 {
			return true
		}
		said := called{dir, d.name, sequence}
		if d.gone {
			said.sequence = 0
		}
		if all := names[d.number]; len(all) < maxNames && !slices.Contains(all, said) {
			names[d.number] = append(all, said)
		}
		return true
	})
}

func sameExtents(a, b *inode) bool { return string(a.data) == string(b.data) }
