package carve

import (
	"math"

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
