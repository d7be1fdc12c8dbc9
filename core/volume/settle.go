package volume

import (
	"cmp"
	"slices"
)

// found is a deleted file, with what tells it from others that claim the same clusters.
type found struct {
	*File
	start uint32 // its first cluster, 0 if that is not known
	at    string // when it was written, as far as is known: an ISO 8601 time
}

// settle gives deleted files, each set of bytes once, and says of those that claim clusters which a later one claims
// that they are not whole. The clusters, count of them of unit bytes, begin at base.
func settle(all []found, base, unit, count int64) (out []*File) {
	// Of entries that lead to the same bytes the later one in the folder is that of the file as it was last called.
	last := map[[2]int64]int{}
	for i, f := range all {
		if f.start > 0 && f.Size > 0 {
			last[[2]int64{int64(f.start), f.Size}] = i
		}
	}
	var byTime []found
	for i, f := range all {
		if k := last[[2]int64{int64(f.start), f.Size}]; f.start > 0 && f.Size > 0 && k != i {
			all[k].Why += "; an earlier entry calls the same bytes " + f.Path
			continue
		}
		out, byTime = append(out, f.File), append(byTime, f)
	}
	slices.SortStableFunc(byTime, func(a, b found) int { return cmp.Compare(b.at, a.at) })
	taken := newBits(count)
	claim := func(f found, at int64) {
		if i := (at - base) / unit; i >= 0 && i < count && !taken.take(i) && f.Complete != Part {
			f.Complete, f.Why = Part, f.Why+"; another deleted file, and no earlier one, claims some of its clusters"
		}
	}
	for len(byTime) > 0 {
		n := 1
		for n < len(byTime) && byTime[n].at == byTime[0].at {
			n++
		}
		// Of those of one time each has its first cluster, which its entry states, before others have what is assumed of them.
		stated := map[int]int64{}
		for i, f := range byTime[:n] {
			if f.start > 0 && !f.Dir && len(f.Extents) > 0 && f.Extents[0].Offset != Hole {
				stated[i] = f.Extents[0].Offset
				claim(f, stated[i])
			}
		}
		for i, f := range byTime[:n] {
			for _, e := range f.Extents {
				for at := e.Offset; !f.Dir && e.Offset != Hole && at < e.Offset+e.Length; at += unit {
					if first, ok := stated[i]; !ok || at != first {
						claim(f, at)
					}
				}
			}
		}
		byTime = byTime[n:]
	}
	return out
}
