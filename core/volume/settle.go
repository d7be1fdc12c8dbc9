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
	for _, f := range byTime {
		if f.Dir {
			continue
		}
		for _, e := range f.Extents {
			for at := e.Offset; e.Offset != Hole && at < e.Offset+e.Length; at += unit {
				if i := (at - base) / unit; i >= 0 && i < count && !taken.take(i) && f.Complete != Part {
					f.Complete, f.Why = Part, f.Why+"; a later deleted file claims some of its clusters"
				}
			}
		}
	}
	return out
}
