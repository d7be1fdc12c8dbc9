// Package search turns texts into the words that they are found by, and what is typed
// into what is asked of these: the same folding and the same boundaries for both.
//
// Words are those of UAX 29, "Unicode Text Segmentation", divided further at whatever is
// neither letter, mark, number nor symbol, so that an address is found by each of its
// parts. Scripts that are written without spaces give pairs of characters instead. Case,
// accents, forms for compatibility (NFKC) and characters that are not seen make no
// difference. Numbers are found by any part of theirs of three digits or more, however
// they are grouped. Words are not cut down to stems: what a word means is not known here.
package search

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/rivo/uniseg"
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Break stands between fields in what Index writes: no phrase reaches over it.
const Break = "|"

// number begins what numbers are found by: no word has it.
const number = "#"

// What bounds the words of one record. PostgreSQL's tsvector holds 1 MiB.
const (
	maxWord    = 64      // characters of a word; what follows them is not looked at
	maxWords   = 900_000 // bytes of all of a record's words
	maxNumbers = 500     // parts of numbers of a record
	maxDigits  = 20      // digits of a part of a number
	minDigits  = 3
)

// Index writes fields as the words that they are found by, in their order, with a space
// between them and Break between fields; then the parts of numbers in them. It is cut at
// 900,000 bytes.
func Index(fields ...string) string {
	var b strings.Builder
	var parts []string
	seen := map[string]bool{}
	for _, f := range fields {
		f = Fold(f)
		n := b.Len()
		for _, w := range words(f, true) {
			if b.Len()+len(w)+2 > maxWords {
				break
			}
			if b.Len() > 0 {
				if b.Len() == n {
					b.WriteString(" " + Break)
				}
				b.WriteByte(' ')
			}
			b.WriteString(w)
		}
		for run := range numbers(f) {
			for i := 0; i+minDigits <= len(run) && len(parts) < maxNumbers; i++ {
				p := run[i:min(len(run), i+maxDigits)]
				if !seen[p] {
					seen[p] = true
					parts = append(parts, p)
				}
			}
		}
	}
	for _, p := range parts {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(number + p)
	}
	return b.String()
}

// unmarked are marks without which a word is the same word: accents, and the points of
// Arabic and Hebrew. Those of other scripts are letters of theirs.
func unmarked(r rune) bool {
	return unicode.Is(unicode.Mn, r) && r != '\u3099' && r != '\u309a' && (unicode.In(r, unicode.Inherited, unicode.Hebrew, unicode.Arabic))
}

// plain are letters that no decomposition leads from to those that they are typed as.
var plain = strings.NewReplacer("ø", "o", "ł", "l", "đ", "d", "ħ", "h", "ı", "i", "æ", "ae", "œ", "oe", "ð", "d", "þ", "th")

// Fold writes a text as it is compared: in one case, composed, without accents and
// without what is not seen, digits of any script as 0 to 9.
func Fold(s string) string {
	if ascii(s) {
		return strings.ToLower(s)
	}
	s = cases.Fold().String(norm.NFKD.String(s))
	s = strings.Map(func(r rune) rune {
		switch {
		case unmarked(r), unicode.Is(unicode.Cf, r), r == 'ـ': // the last one draws words out
			return -1
		case r > unicode.MaxASCII && unicode.Is(unicode.Nd, r):
			return digit(r)
		}
		return r
	}, s)
	return plain.Replace(norm.NFC.String(s))
}

// digit is the digit 0 to 9 that a decimal digit of another script is. These lie in rows
// of ten (The Unicode Standard, section 4.6).
func digit(r rune) rune {
	for _, t := range unicode.Nd.R16 {
		if r >= rune(t.Lo) && r <= rune(t.Hi) {
			return '0' + (r-rune(t.Lo))%10
		}
	}
	for _, t := range unicode.Nd.R32 {
		if r >= rune(t.Lo) && r <= rune(t.Hi) {
			return '0' + (r-rune(t.Lo))%10
		}
	}
	return r
}

func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// inside reports whether r is part of words: letters, marks, numbers and symbols such as
// emoji. Symbols of ASCII are signs.
func inside(r rune) bool {
	if r < utf8.RuneSelf {
		return r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z'
	}
	return unicode.In(r, unicode.L, unicode.M, unicode.N, unicode.So)
}

// unspaced reports whether r is of a script that is written without spaces.
func unspaced(r rune) bool {
	return r > unicode.MaxLatin1 && (r == 'ー' || unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Thai, unicode.Lao, unicode.Khmer, unicode.Myanmar))
}

// words lists the words of a folded text. A run of characters of a script without spaces
// gives each pair of neighbours; its last one gives itself where more words follow, or
// where last says so: what is indexed has it always, so that every character is found.
func words(s string, last bool) (out []string) {
	if ascii(s) { // UAX 29 has no boundary between ASCII's letters and digits
		for w := range strings.FieldsFuncSeq(s, func(r rune) bool { return !inside(r) }) {
			out = append(out, w[:min(len(w), maxWord)])
		}
		return out
	}
	var run []string // characters, with their marks
	flush := func(last bool) {
		for i := range len(run) - 1 {
			out = append(out, run[i]+run[i+1])
		}
		if n := len(run); n > 0 && (last || n == 1) {
			out = append(out, run[n-1])
		}
		run = run[:0]
	}
	state := -1
	for s != "" {
		var w string
		w, s, state = uniseg.FirstWordInString(s, state)
		parts := strings.FieldsFunc(w, func(r rune) bool { return !inside(r) })
		if len(parts) == 0 {
			flush(true)
		}
		for _, p := range parts {
			if r, _ := utf8.DecodeRuneInString(p); !unspaced(r) {
				flush(true)
				out = append(out, cut(p))
				continue
			}
			for _, r := range p {
				if n := len(run); n > 0 && unicode.Is(unicode.M, r) && len(run[n-1]) < maxWord {
					run[n-1] += string(r)
				} else {
					run = append(run, string(r))
				}
			}
		}
	}
	flush(last)
	return out
}

// cut is the beginning of a word, of maxWord characters at most.
func cut(w string) string {
	n := 0
	for i := range w {
		if n == maxWord {
			return w[:i]
		}
		n++
	}
	return w
}

// numbers yields the digits of the numbers in a folded text. A sign or a space between
// digits groups them.
func numbers(s string) func(func(string) bool) {
	return func(yield func(string) bool) {
		var run []byte
		gap := 0 // signs since the last digit
		for i := 0; i <= len(s); i++ {
			switch {
			case i < len(s) && s[i] >= '0' && s[i] <= '9':
				run, gap = append(run, s[i]), 0
			case i < len(s) && len(run) > 0 && gap < 2 && strings.IndexByte(signs, s[i]) >= 0:
				gap++
			default:
				if len(run) >= minDigits && !yield(string(run)) {
					return
				}
				run, gap = run[:0], 0
			}
		}
	}
}

// signs group the digits of a number.
const signs = " ()-./"

// Term is one thing that is asked for. A record has it if its words have Words one after
// another, or if a number in it has Number as a part.
type Term struct {
	Words  []string
	Begins bool   // the last of Words may go on
	Number string // digits, "" if the term is no number
}

const maxTerms = 200 // of a query

// minBegin is how long a word is that stands for all that begin with it.
const minBegin = 3

// quotes writes quotation marks as one.
var quotes = strings.NewReplacer("“", `"`, "”", `"`, "„", `"`, "«", `"`, "»", `"`)

// Fields splits what is typed at white space that is not between quotation marks, as Parse
// reads these. In what it gives they are all of one form, and stand where they stood.
func Fields(query string) []string {
	within := false
	return strings.FieldsFunc(quotes.Replace(query), func(r rune) bool {
		within = within != (r == '"')
		return !within && unicode.IsSpace(r)
	})
}

// Parse reads what is typed: terms in any order, all of which must be there. What stands
// between quotation marks is one, word for word; a mark that is not closed reaches to the
// end. Of more than 200 terms the first are asked. Without quotation marks a word of three letters or more stands for all that begin
// with it, as does any with an asterisk behind it.
func Parse(query string) (terms []Term) {
	for i, part := range strings.Split(quotes.Replace(query), `"`) {
		list := []string{part}
		if i%2 == 0 {
			list = telephone(strings.Fields(part))
		}
		for _, s := range list {
			if t := term(s, i%2 == 1); (len(t.Words) > 0 || t.Number != "") && len(terms) < maxTerms {
				terms = append(terms, t)
			}
		}
	}
	return terms
}

// telephone joins what is typed of one telephone number: fields of digits and signs of
// which the first begins as such numbers do.
func telephone(fields []string) (out []string) {
	const least = 7 // digits of a number that is dialled whole
	for i := 0; i < len(fields); {
		n := i
		for n < len(fields) && strings.Trim(Fold(fields[n]), signs+"+0123456789") == "" {
			n++
		}
		if one := strings.Join(fields[i:n], " "); n > i && strings.IndexByte("+(0", one[0]) >= 0 && len(digits(one)) >= least {
			out, i = append(out, one), n
			continue
		}
		out, i = append(out, fields[i]), i+1
	}
	return out
}

// digits are the digits 0 to 9 of a text.
func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, Fold(s))
}

func term(s string, quoted bool) (t Term) {
	s = strings.TrimSpace(s)
	f := Fold(s)
	t.Words = words(f, false)
	n := len(t.Words)
	t.Begins = n > 0 && strings.HasSuffix(s, "*")
	if n > 0 && !t.Begins {
		r, _ := utf8.DecodeRuneInString(t.Words[n-1])
		whole := quoted || utf8.RuneCountInString(t.Words[n-1]) < minBegin
		t.Begins = !whole || unspaced(r) && utf8.RuneCountInString(t.Words[n-1]) == 1
	}
	if strings.Trim(f, signs+"+*0123456789") == "" {
		d := digits(f)
		if len(d) >= minDigits {
			if z := strings.TrimLeft(d, "0"); len(z) >= minDigits { // a 0 may stand for the country
				d = z
			}
			t.Number = d[:min(len(d), maxDigits)]
		}
	}
	return t
}

// Lexeme is what a part of a number is found by in what Index writes: that it begins with
// it.
func (t Term) Lexeme() string { return number + t.Number }

// In reports whether a text that Index has written has the term.
func (t Term) In(index string) bool {
	list := strings.Split(index, " ")
	if t.Number != "" && slices.ContainsFunc(list, func(w string) bool { return strings.HasPrefix(w, t.Lexeme()) }) {
		return true
	}
	n := len(t.Words)
	for i := 0; n > 0 && i+n <= len(list); i++ {
		got := list[i : i+n]
		if slices.Equal(got[:n-1], t.Words[:n-1]) && (got[n-1] == t.Words[n-1] || t.Begins && strings.HasPrefix(got[n-1], t.Words[n-1])) {
			return true
		}
	}
	return false
}
