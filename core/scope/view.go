package scope

import "slices"

// Reading says how far a file has been read under the present authorities.
type Reading struct {
	Full     bool // by a full pass, to its end, under the authorities as they are now
	LiveOnly bool // what was deleted was not asked for
}

// Range is a run of bytes of a file.
type Range struct{ From, To int64 }

// View says which bytes of a file may be seen.
type View struct {
	all  bool
	open []Range // sorted, apart
	why  string
}

// View gives what may be seen of a file: all of it if nothing is limited; else, where
// it has been read fully under the present authorities, the bytes of the records that
// are admitted; else none. What no reading accounts for has no kind, time or party.
func (g *Gate) View(r Reading, admitted []Range) *View {
	limits := g.limits(r.LiveOnly)
	switch {
	case len(limits) == 0:
		return &View{all: true}
	case !r.Full:
		return &View{why: "it has not been read fully under the present authorities, which set limits (" + words(limits) + "): run the full pass to see the bytes of the records that they cover"}
	}
	v := &View{why: "the authorities set limits (" + words(limits) + "), and what is not part of a record that they cover has no kind, time or party to tell it by. A field map for its table, or a further authority, and then the full pass change that"}
	for _, a := range admitted {
		if a.From >= 0 && a.To > a.From {
			v.open = append(v.open, a)
		}
	}
	slices.SortFunc(v.open, func(a, b Range) int { return int(min(max(a.From-b.From, -1), 1)) })
	return v
}

// Whole says why not every byte of a file may be seen, whatever it holds; "" if nothing is limited.
func (g *Gate) Whole(liveOnly bool) (why string) {
	limits := g.limits(liveOnly)
	if len(limits) == 0 {
		return ""
	}
	return "the authorities set limits (" + words(limits) + "), and a whole file can hold what they do not cover; the bytes of each record that they cover stand beside the record"
}

// limits are those of the authorities, and of what was asked for.
func (g *Gate) limits(liveOnly bool) []string {
	if !liveOnly {
		return g.Limits()
	}
	return append(slices.Clone(g.Limits()), "deleted records")
}

func words(list []string) string {
	switch n := len(list); n {
	case 0:
		return ""
	case 1:
		return list[0]
	default:
		s := list[0]
		for _, w := range list[1 : n-1] {
			s += ", " + w
		}
		return s + " and " + list[n-1]
	}
}

// Whole reports whether every byte may be seen.
func (v *View) Whole() bool { return v.all }

// Why says why what is hidden is hidden, "" if nothing is.
func (v *View) Why() string { return v.why }

// Hidden says of each byte of b, which lies at offset at, whether it is withheld, and
// sets those to zero, so that no caller has them. nil is nothing hidden.
func (v *View) Hidden(b []byte, at int64) []bool {
	if v.all {
		return nil
	}
	hidden := make([]bool, len(b))
	for i := range hidden {
		hidden[i] = true
	}
	for _, r := range v.open {
		for i := max(r.From-at, 0); i < min(r.To-at, int64(len(b))); i++ {
			hidden[i] = false
		}
	}
	for i := range b {
		if hidden[i] {
			b[i] = 0
		}
	}
	return hidden
}
