package report

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

type needle struct {
	rule   int
	folded []rune
	number bool // folded is the last digits of a number
	whole  bool // only as whole words
}

// unspaced are scripts that put no spaces between words.
var unspaced = []*unicode.RangeTable{unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Hangul, unicode.Thai, unicode.Lao, unicode.Khmer, unicode.Myanmar, unicode.Tibetan}

// shortestName is how many letters a word of a name has that is looked for by itself.
const shortestName = 3

// NameWords gives names with each of their words that is worth looking for by itself, sorted, each once.
func NameWords(names ...string) (out []string) {
	for _, name := range names {
		out = append(out, name)
		for w := range strings.FieldsSeq(name) {
			if !strings.ContainsFunc(w, func(r rune) bool { return r >= '0' && r <= '9' }) && utf8.RuneCountInString(w) >= shortestName {
				out = append(out, w)
			}
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(s string) bool { return strings.TrimSpace(s) == "" })
}

// lastDigits is how many digits, from the end, tell a telephone number whatever stands before them.
const lastDigits = 9

func (x *Redactor) look(rule int, s string) {
	f := fold(s)
	f = trim(f)
	if len(f) == 0 {
		return
	}
	n := needle{rule: rule, whole: len(f) < 4 && !unicode.In(f[0].r, unspaced...)}
	var digits []rune
	number := true
	for _, r := range f {
		n.folded = append(n.folded, r.r)
		if r.r >= '0' && r.r <= '9' {
			digits = append(digits, r.r)
		} else if !separates(r.r) {
			number = false
		}
	}
	if x.needles = append(x.needles, n); number && len(digits) >= 6 {
		x.needles = append(x.needles, needle{rule: rule, folded: digits[max(0, len(digits)-lastDigits):], number: true})
	}
}

// lookForRecord looks for the text of a record, as it is told elsewhere.
func (x *Redactor) lookForRecord(rule int, text string) {
	if utf8.RuneCountInString(text) < 4 {
		return
	}
	x.look(rule, text)
	if q := []rune(strings.Join(strings.Fields(text), " ")); len(q) > shortest {
		x.look(rule, string(q[:shortest]))
	}
}

// shortest is how much of a long text is told where it is cited in short, at least.
const shortest = 100

// folded is a rune as it is compared, and where what it is of lies.
type folded struct {
	r        rune
	from, to int
}

var caseless = cases.Fold()

// fold gives a text as it is compared: without case, accents and what is not seen, spaces as one.
func fold(s string) (out []folded) {
	for i, r := range s {
		to := i + utf8.RuneLen(r)
		if r == utf8.RuneError {
			_, n := utf8.DecodeRuneInString(s[i:])
			to = i + n
		}
		if unicode.IsSpace(r) {
			if len(out) == 0 || out[len(out)-1].r != ' ' {
				out = append(out, folded{' ', i, to})
			}
			continue
		}
		if r < utf8.RuneSelf {
			out = append(out, folded{unicode.ToLower(r), i, to})
			continue
		}
		for _, d := range caseless.String(norm.NFKD.String(string(r))) {
			if !unicode.In(d, unicode.Mn, unicode.Cf) {
				out = append(out, folded{d, i, to})
			}
		}
	}
	return out
}

func trim(f []folded) []folded {
	for len(f) > 0 && f[0].r == ' ' {
		f = f[1:]
	}
	for len(f) > 0 && f[len(f)-1].r == ' ' {
		f = f[:len(f)-1]
	}
	return f
}

// separates is what stands between the digits of a number.
func separates(r rune) bool { return strings.ContainsRune(" -–—‑−.()/+", r) }

// found is a range of a text that a rule takes out.
type found struct{ from, to, rule int }

// find gives what is to be taken out of a text, in order and apart from each other.
func (x *Redactor) find(s string) (out []found) {
	if len(x.needles) == 0 || s == "" {
		return nil
	}
	f := fold(s)
	taken := make([]bool, len(f))
	var take func(i, k, rule int)
	take = func(i, k, rule int) { // what is not taken out already
		for i < k && taken[i] {
			i++
		}
		end := i
		for end < k && !taken[end] {
			taken[end] = true
			end++
		}
		if end == i {
			return
		}
		to := f[end-1].to
		for to < len(s) { // with the accents of its last letter
			r, n := utf8.DecodeRuneInString(s[to:])
			if !unicode.In(r, unicode.Mn, unicode.Cf) {
				break
			}
			to += n
		}
		out = append(out, found{f[i].from, to, rule})
		if end < k {
			take(end, k, rule)
		}
	}
	wordy := func(i int) bool {
		return i >= 0 && i < len(f) && (unicode.IsLetter(f[i].r) || unicode.IsDigit(f[i].r))
	}
	for _, n := range x.needles {
		if n.number {
			numbers(f, n.folded, func(i, k int) { take(i, k, n.rule) })
			continue
		}
		for i := 0; i+len(n.folded) <= len(f); i++ {
			k := i
			for k < i+len(n.folded) && f[k].r == n.folded[k-i] {
				k++
			}
			if k == i+len(n.folded) && !(n.whole && (wordy(i-1) || wordy(k))) {
				take(i, k, n.rule)
				i = k - 1
			}
		}
	}
	slices.SortFunc(out, func(a, b found) int { return a.from - b.from })
	apart, last := out[:0], 0
	for _, h := range out { // a letter that stands for two may be found twice
		if h.from = max(h.from, last); h.from < h.to {
			apart, last = append(apart, h), h.to
		}
	}
	return apart
}

// numbers finds runs of digits, with what separates them, that hold digits, and gives all of the number that they are of.
func numbers(f []folded, digits []rune, yield func(from, to int)) {
	for i := 0; i < len(f); i++ {
		if f[i].r < '0' || f[i].r > '9' {
			continue
		}
		var at []int // of the digits of this run
		end := i
		for end < len(f) && (f[end].r >= '0' && f[end].r <= '9' || separates(f[end].r)) {
			if f[end].r >= '0' && f[end].r <= '9' {
				at = append(at, end)
			}
			end++
		}
		for k := 0; k+len(digits) <= len(at); k++ {
			same := true
			for j, d := range digits {
				if same = f[at[k+j]].r == d; !same {
					break
				}
			}
			if !same {
				continue
			}
			from, to := at[k], at[k+len(digits)-1]+1
			for j := k; j > 0 && k-j < 6 && at[j]-at[j-1] <= 3; j-- { // the codes before it
				from = at[j-1]
			}
			if from > 0 && f[from-1].r == '+' {
				from--
			}
			for to < len(f) && f[to].r >= '0' && f[to].r <= '9' {
				to++
			}
			yield(from, to)
			k += len(digits) - 1
		}
		i = end
	}
}

// String gives a text without what is taken out of it: in the place of that is "[redacted", the number of the rule, and "]".
func (x *Redactor) String(s string) string { return x.cut(s, func(int, string) {}) }

// string is String, with what it took out in the log.
func (x *Redactor) string(s string) string { return x.cut(s, x.took) }

func (x *Redactor) cut(s string, took func(rule int, words string)) string {
	var b strings.Builder
	last := 0
	for _, h := range x.find(s) {
		b.WriteString(s[last:h.from] + mark(h.rule))
		took(h.rule, s[h.from:h.to])
		last = h.to
	}
	return b.String() + s[last:]
}
