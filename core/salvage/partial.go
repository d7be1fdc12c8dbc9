package salvage

import (
	"cmp"
	"encoding/binary"
	"hash/maphash"
	"math"
	"slices"
	"sync"

	"crosswind/core/sqlitefile"
)

// pattern is a set of columns that survive in a partial finding.
type pattern struct {
	lost   []bool
	withID bool
}

// maxPatterns bounds the sets of surviving columns of one table.
const maxPatterns = 64

// patterns are the patterns of each table. More are added while batches are made.
type patterns struct {
	sync.RWMutex
	of map[*sqlitefile.Table][]*pattern
}

func (all *patterns) pattern(row *Row) *pattern {
	find := func() *pattern {
		for _, p := range all.of[row.Table] {
			if p.withID == row.HasRowID && slices.Equal(p.lost, row.Lost) {
				return p
			}
		}
		return nil
	}
	all.RLock()
	p := find()
	all.RUnlock()
	if p != nil {
		return p
	}
	all.Lock()
	defer all.Unlock()
	if p = find(); p != nil || len(all.of[row.Table]) == maxPatterns {
		return p
	}
	p = &pattern{lost: slices.Clone(row.Lost), withID: row.HasRowID}
	all.of[row.Table] = append(all.of[row.Table], p)
	return p
}

// project is the key of those values of a row that survive in p, with or without
// the row id.
func (k keys) project(p *pattern, row *Row, withID bool) uint64 {
	var h maphash.Hash
	h.SetSeed(k.body)
	var b [9]byte
	if withID {
		binary.LittleEndian.PutUint64(b[:], uint64(row.RowID))
		h.Write(b[:8])
	}
	for i, v := range row.Values {
		if p.lost[i] || i == row.Table.RowIDColumn {
			continue
		}
		b[0] = byte(v.Class())
		n := uint64(len(v.Bytes()))
		switch v.Class() {
		case sqlitefile.Integer:
			n = uint64(v.Int())
		case sqlitefile.Real:
			n = math.Float64bits(v.Float())
		}
		binary.LittleEndian.PutUint64(b[1:], n)
		h.Write(b[:])
		h.Write(v.Bytes())
	}
	return h.Sum64()
}

// cover marks the partial findings that say nothing that row does not say, and
// lists them under it. at tells where row is found, -1 for a live one. A row whose
// id is lost stands for one finding of each pattern at most: the ids of others
// could not be its own, too.
func (g *gathering) cover(row *Row, at int32) {
	for _, p := range g.patterns.of[row.Table] {
		if len(p.lost) != len(row.Values) || !covers(p.lost, row.Lost, row.Table.RowIDColumn) {
			continue
		}
		key := g.s.keys.project(p, row, p.withID && row.HasRowID)
		i, _ := slices.BinarySearchFunc(g.partial, key, func(k findingKey, key uint64) int { return cmp.Compare(k.key, key) })
		for ; i < len(g.partial) && g.partial[i].key == key; i++ {
			n := g.partial[i].n
			f := &g.found[n]
			if n == at || f.flags&covered != 0 || g.s.shapes[f.shape].Table != row.Table || !g.begins(n, row) {
				continue
			}
			f.flags |= covered
			if at >= 0 {
				g.link(at, n)
			}
			if p.withID && !row.HasRowID {
				break
			}
		}
	}
}

// begins reports whether the part of a value that survives in the n-th finding is
// the beginning of one that row has where the finding lost it.
func (g *gathering) begins(n int32, row *Row) bool {
	part := g.parts[n]
	if len(part) == 0 {
		return true
	}
	for _, v := range row.Values {
		if b := v.Bytes(); len(b) >= len(part) && string(b[:len(part)]) == string(part) {
			return true
		}
	}
	return false
}

// covers reports whether every column lost in b is lost in a, but for the column
// that stands for the row id.
func covers(a, b []bool, alias int) bool {
	for i := range b {
		if b[i] && !a[i] && i != alias {
			return false
		}
	}
	return true
}
