package carve

import (
	"bytes"
	"math"
	"slices"

	"crosswind/core/volume"
)

// seam records the means of a scan's blocks while a file that lies in two runs is followed once more: that codes go on to the
// end with as many units as there are to be happens by chance, too, where another picture's codes follow.
type seam struct {
	split int64 // where the second run begins
	means []means
	units int  // that were recorded
	first int  // the first unit of the second run, 0 if none is
	line  int  // units in a line
	kept  bool // the scan that the runs meet in was read
}

// means are the DC coefficients of a component: of each unit that of its first block, and of the one below it at its lower edge.
type means struct{ top, bottom []int16 }

const maxSeam = 1 << 22 // units that are recorded

// begin begins a scan of so many components, and units in a line.
func (m *seam) begin(components, line int) {
	if !m.kept {
		m.means, m.units, m.first, m.line = make([]means, components), 0, 0, line
	}
}

// end ends a scan.
func (m *seam) end() { m.kept = m.kept || m.first > 0 }

// unit begins a unit at a place.
func (m *seam) unit(at int64) {
	if m.first == 0 && at > m.split {
		m.first = m.units
	}
	m.units++
}

// block records a block of a component: the first of its unit, or the one at its lower edge, or both.
func (m *seam) block(component int, first, lower bool, mean int) {
	x := &m.means[component]
	if m.kept || len(x.bottom) >= maxSeam {
		return
	}
	if first {
		x.top = append(x.top, int16(mean))
	}
	if lower {
		x.bottom = append(x.bottom, int16(mean))
	}
}

// meets says whether the picture goes on over the seam. It is whole if the lines of each component differ about as much there
// from those above them as they do beside it, and only a part if those of one differ as much as what does not belong together.
func (m *seam) meets() volume.Completeness {
	told, fits := false, true
	for i := range m.means {
		near, apart, over, ok := m.differences(&m.means[i])
		if !ok {
			return volume.Unverified
		}
		if over >= max(near+(apart-near)*0.6, near*1.5)+2 {
			return volume.Part
		}
		told = told || apart >= 1.5*near
		fits = fits && over <= near+max((apart-near)/4, 1)
	}
	if told && fits {
		return volume.Whole
	}
	return volume.Unverified
}

// differences are the mean differences of units from those above them, on either side of the seam, and of what lies half a line
// apart there, whichever side's are larger; and the mean difference over the seam.
func (m *seam) differences(x *means) (near, apart, over float64, ok bool) {
	units := len(x.bottom)
	from, end := max(m.first, m.line), min(m.first+m.line, units) // of those that lie below what is before the seam
	if !m.kept || end-from < max(4, m.line/4) {
		return 0, 0, 0, false
	}
	differ := func(u, v int) float64 {
		return math.Abs(float64(x.top[u]) - float64(x.bottom[v]))
	}
	const lines = 8 // that are looked at on each side
	for _, side := range [][2]int{
		{max(m.line, m.first-lines*m.line), m.first},
		{m.first + m.line, min(m.first+(lines+1)*m.line, units)},
	} {
		var beside, across float64
		n := float64(side[1] - side[0])
		for u := side[0]; u < side[1]; u++ {
			above := u - m.line
			beside += differ(u, above) / n
			across += differ(u, above/m.line*m.line+(above+m.line/2)%m.line) / n
		}
		near, apart = max(near, beside), max(apart, across)
	}
	for u := from; u < end; u++ {
		over += differ(u, u-m.line) / float64(end-from)
	}
	return near, apart, over, apart > 0
}

// What bounds the search for a second run.
const (
	maxGap  = 4096 // units between two runs
	maxKept = 8192 // units of a scan at which it may break off
)

// second looks for the second run of a file that breaks off: from each place where a unit of allocation ends before
// that, and each where one begins behind it, the codes must go on to the file's end.
func (d *scan) second(start int64, broken []place, unit int64) Verdict {
	s := d.s
	s.small = true
	set := slices.Clone(d.chosen[0].set)
	defer func() { s.small = false }()
	border := func(p place) int64 {
		if s.space == nil {
			return p.at/unit*unit + unit
		}
		return s.space.border(p.at, unit) + unit
	}
	// Where it breaks off is not always where a code does not hold: zeros and text can go on for long. What has
	// no byte of all ones is no coded data, or has one in a thousand million such units of 4 KiB.
	var order []place
	for _, p := range broken {
		if unit >= 2048 && bytes.IndexByte(s.get(border(p), int(min(unit, 1<<15))), 0xff) < 0 {
			order = append(order, p)
			break
		}
	}
	var perhaps Verdict // in these runs, if nothing better is found
	var its []span
	last := int64(-1)
	for i := len(broken) - 1; i >= 0; i-- {
		if e := border(broken[i]); e != last || i == 0 || border(broken[i-1]) != e { // of those in a unit the last and the first
			order, last = append(order, broken[i]), e
		}
	}
	for _, round := range []struct {
		splits   int
		from, to int64 // units between the two runs
	}{{64, 1, 64}, {16, 65, 512}, {4, 513, maxGap}} {
		for _, p := range order[:min(len(order), round.splits)] {
			split := border(p) // the unit that p lies in ends here, and it goes on in another
			for gap := round.from; gap <= round.to && split+gap*unit < s.size && s.left > 0; gap++ {
				s.left -= 1 << 11
				s.cut(0, 0)
				if unit >= 2048 && bytes.IndexByte(s.get(split+gap*unit, int(min(unit, 1<<15))), 0xff) < 0 {
					continue
				}
				s.cut(split, gap*unit)
				d.place = p
				if _, ok := d.entropy(); !ok {
					continue
				}
				copy(d.chosen[0].set[:min(p.unit, len(set))], set) // where other tries wrote
				saved, parts := *d, slices.Clone(d.parts)
				w, _ := d.follow(start, d.at, 1)
				*d = saved
				copy(d.parts, parts)
				if w.Complete != volume.Whole || w.Size <= split-start {
					continue
				}
				runs := []span{{start, split}, {split + gap*unit, start + w.Size + gap*unit}}
				switch d.meets(start, split) {
				case volume.Whole:
					s.runs = runs
					s.cut(0, 0)
					return Verdict{w.Size, volume.Whole, byCodes + ", in two runs"}
				case volume.Unverified:
					if perhaps.Size == 0 {
						perhaps, its = Verdict{w.Size, volume.Unverified, byCodes + ", in two runs, but its picture does not show that they belong together"}, runs
					}
				}
			}
		}
	}
	s.cut(0, 0)
	if perhaps.Size > 0 {
		s.runs = its
	}
	return perhaps
}

// meets says whether the picture of a file in two runs, all of whose codes hold, goes on from one to the other. That of a
// progressive picture is not asked: its scans, all as long as they must be, prove the order.
func (d *scan) meets(start, split int64) volume.Completeness {
	if d.kind == 0xc2 {
		return volume.Whole
	}
	again := &scan{s: d.s, seam: &seam{split: split}}
	again.file(start)
	return again.seam.meets()
}

// border is where the unit of allocation begins that a place of the space lies in.
func (s *space) border(at, unit int64) int64 {
	i := s.run(at)
	return s.at[i] + (at-s.at[i])/unit*unit
}
