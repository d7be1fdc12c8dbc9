package search

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// What bounds what Find looks at.
const (
	findWithin = 64 << 10 // bytes of a text
	findMost   = 100      // places
)

// Find gives the places in a text at which it has any of the terms, in order and apart
// from one another: of each the first byte, and that behind the last. It looks at the
// first 64 KiB, and gives 100 places at most.
func Find(text string, terms []Term) (places [][2]int) {
	text = text[:min(len(text), findWithin)]
	f := folded{text: text}
	if !ascii(text) {
		f.mapped()
	} else {
		f.text = strings.ToLower(text)
	}
	for _, t := range terms {
		if t.Number != "" {
			places = append(places, f.number(t.Number)...)
		}
		for at := 0; len(t.Words) > 0 && len(places) < findMost && at < len(f.text); {
			from, to := f.phrase(t, at)
			if from < 0 {
				break
			}
			places, at = append(places, [2]int{f.at(from), f.at(to)}), to
		}
	}
	slices.SortFunc(places, func(a, b [2]int) int { return a[0] - b[0] })
	apart := places[:0]
	for _, p := range places {
		if n := len(apart); n > 0 && p[0] <= apart[n-1][1] {
			apart[n-1][1] = max(apart[n-1][1], p[1])
		} else if p[1] > p[0] {
			apart = append(apart, p)
		}
	}
	return apart[:min(len(apart), findMost)]
}

// folded is a text as it is compared, and where each byte of it comes from.
type folded struct {
	text string
	from []int // nil if each comes from its own place
}

// mapped folds a character at a time, with the marks that belong to it.
func (f *folded) mapped() {
	var b strings.Builder
	for at := 0; at < len(f.text); {
		_, n := utf8.DecodeRuneInString(f.text[at:])
		for at+n < len(f.text) {
			r, m := utf8.DecodeRuneInString(f.text[at+n:])
			if !unicode.In(r, unicode.M, unicode.Cf) {
				break
			}
			n += m
		}
		was := b.Len()
		b.WriteString(Fold(f.text[at : at+n]))
		for range b.Len() - was {
			f.from = append(f.from, at)
		}
		at += n
	}
	f.from = append(f.from, len(f.text))
	f.text = b.String()
}

func (f *folded) at(i int) int {
	if f.from == nil {
		return i
	}
	return f.from[i]
}

// phrase finds the words of a term one after another, from a place on; -1 if they are
// nowhere.
func (f *folded) phrase(t Term, at int) (from, to int) {
	for ; at < len(f.text); at++ {
		n := strings.Index(f.text[at:], t.Words[0])
		if n < 0 {
			break
		}
		if at += n; f.begins(at) {
			if end := f.follow(t, at); end >= 0 {
				return at, end
			}
		}
	}
	return -1, -1
}

// follow gives where the words of a term end that begin at a place, -1 if they are not
// there.
func (f *folded) follow(t Term, at int) int {
	end := at
	for i, w := range t.Words {
		if i > 0 {
			last, n := utf8.DecodeLastRuneInString(f.text[:end])
			if next, _ := utf8.DecodeRuneInString(w); unspaced(last) && last == next { // pairs overlap
				end -= n
			} else {
				end += len(f.text[end:]) - len(strings.TrimLeftFunc(f.text[end:], func(r rune) bool { return !inside(r) }))
			}
		}
		if !strings.HasPrefix(f.text[end:], w) {
			return -1
		}
		end += len(w)
		if last := i == len(t.Words)-1; !(last && t.Begins) && !f.ends(end) {
			return -1
		}
	}
	return end
}

// begins reports whether a word begins at a place.
func (f *folded) begins(i int) bool {
	before, _ := utf8.DecodeLastRuneInString(f.text[:i])
	return i == 0 || !inside(before) || f.between(i)
}

// ends reports whether one ends before it.
func (f *folded) ends(i int) bool {
	next, _ := utf8.DecodeRuneInString(f.text[i:])
	return i == len(f.text) || !inside(next) || f.between(i)
}

// between reports whether a place lies at a character that is a word by itself, or in a script without spaces.
func (f *folded) between(i int) bool {
	before, _ := utf8.DecodeLastRuneInString(f.text[:i])
	next, _ := utf8.DecodeRuneInString(f.text[i:])
	return unspaced(before) || unspaced(next) || unicode.Is(unicode.So, before) || unicode.Is(unicode.So, next)
}

// number finds digits within the numbers of the text.
func (f *folded) number(digits string) (places [][2]int) {
	var run []byte
	var at []int // of each of run
	gap := 0
	for i := 0; i <= len(f.text); i++ {
		switch {
		case i < len(f.text) && f.text[i] >= '0' && f.text[i] <= '9':
			run, at, gap = append(run, f.text[i]), append(at, i), 0
		case i < len(f.text) && len(run) > 0 && gap < 2 && strings.IndexByte(signs, f.text[i]) >= 0:
			gap++
		default:
			if n := strings.Index(string(run), digits); n >= 0 && len(places) < findMost {
				places = append(places, [2]int{f.at(at[n]), f.at(at[n+len(digits)-1] + 1)})
			}
			run, at, gap = run[:0], at[:0], 0
		}
	}
	return places
}
