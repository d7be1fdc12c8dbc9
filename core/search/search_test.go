package search

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"
)

func ExampleIndex() {
	fmt.Println(Index("Navegação às 9:40", "+44 7700 900417"))
	// Output: navegacao as 9 40 | 44 7700 900417 #447700900417 #47700900417 #7700900417 #700900417 #00900417 #0900417 #900417 #00417 #0417 #417
}

// The boundaries between words are those of Unicode's own test, which Debian's package
// unicode-data has: UAX 29, WordBreakTest.txt.
func TestWordBoundariesOfUAX29(t *testing.T) {
	f, err := os.Open("/usr/share/unicode/auxiliary/WordBreakTest.txt")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	n := 0
	for lines := bufio.NewScanner(f); lines.Scan(); {
		line, _, _ := strings.Cut(lines.Text(), "#")
		var want []string
		var whole strings.Builder
		for segment := range strings.SplitSeq(strings.Trim(line, " \t÷"), "÷") {
			var s strings.Builder
			for code := range strings.SplitSeq(segment, "×") {
				r, err := strconv.ParseInt(strings.TrimSpace(code), 16, 32)
				if err == nil {
					s.WriteRune(rune(r))
				}
			}
			whole.WriteString(s.String())
			want = append(want, strings.FieldsFunc(s.String(), func(r rune) bool { return !inside(r) })...)
		}
		if s := whole.String(); s != "" && strings.IndexFunc(s, unspaced) < 0 {
			if n++; !slices.Equal(words(s, true), want) {
				t.Errorf("%s: %q, want %q", line, words(s, true), want)
			}
		}
	}
	if n < 1000 {
		t.Errorf("%d lines only", n)
	}
}

// What finds what, and what does not: common practice of searches, and the scripts' own
// rules.
func TestWhatFindsWhat(t *testing.T) {
	for _, c := range []struct {
		text      string
		finds     []string
		findsNone []string
	}{
		{"A navegação começa às 9", []string{"navegacao", "NAVEGAÇÃO", "comeca navegacao", `"navegação começa"`, "naveg", "naveg*", "navegac\u0327a\u0303o"}, []string{`"começa navegação"`, `"naveg"`, "vegacao", "começar"}},
		{"Straße nach Łódź, İzmir, Ærø", []string{"strasse", "lodz", "izmir", "aero", `"nach lodz"`}, []string{"strase"}},
		{"call +44 7700 900417 now", []string{"+447700900417", "07700900417", "07700 900417", "(07700) 900-417", "900417", "0417", `"7700 900417"`, "417"}, []string{"900418", "77009004171", "17"}},
		{"from 07700900417", []string{"07700 900417", "7700 900417", "(07700) 900 417"}, []string{"07700 417900"}},
		{"+447700900417", []string{"+44 7700 900417", "0 7700 900417"}, nil},
		{"pin 4402, or 44 02", []string{"4402", "440", `"44 02"`}, []string{"4403"}},
		{"٠٧٧٠٠ ٩٠٠٤١٧", []string{"07700900417", "900417"}, nil},
		{"مَرْحَبًا بالعالم", []string{"مرحبا", "مرحباً"}, nil},
		{"שָׁלוֹם", []string{"שלום"}, nil},
		{"東京都の港", []string{"東京", "京都", "東京都", "港", "都の港", "都"}, []string{"京東", "東都", "大阪"}},
		{"カタカナ ｶﾞｷﾞ", []string{"カナ", "タカ", "ガギ"}, []string{"カカ", "かな"}},
		{"ขอบคุณครับ", []string{"ขอบคุณ", "ครับ"}, []string{"ครบ"}},
		{"한국어로 말해요", []string{"한국어", "말해요"}, []string{"국어로"}},
		{"नमस्ते दुनिया", []string{"नमस्ते", "दुनिया"}, []string{"नमसत"}},
		{"Привет, Ёлка", []string{"привет", "елка"}, nil},
		{"write to anna@harbour.example today", []string{"anna", "harbour", "example", "anna@harbour.example", `"harbour.example today"`}, []string{"arbour"}},
		{"har\u200bbo\u00adur \u202elamp", []string{"harbour", "lamp"}, nil},
		{"tea 🚢 at 5", []string{"🚢", "tea", "at", "5"}, []string{"⛵", "a", "te"}},
		{"l’amour, don't", []string{"amour", "l'amour", "don’t"}, nil},
		{strings.Repeat("w", 500), []string{strings.Repeat("w", 500), "www"}, nil},
	} {
		index := Index("before", c.text, "after")
		for want, queries := range map[bool][]string{true: c.finds, false: c.findsNone} {
			for _, q := range queries {
				terms := Parse(q)
				found := len(terms) > 0
				for _, term := range terms {
					found = found && term.In(index)
				}
				if found != want {
					t.Errorf("%q in %q: %v; asked is %+v, indexed %q", q, c.text, found, terms, index)
				}
			}
		}
		if (Term{Words: []string{"before", Break}}).In(index) != true || strings.Contains(index, "  ") || strings.HasPrefix(index, " ") {
			t.Errorf("indexed: %q", index)
		}
	}
	for _, q := range []string{"", `"`, " !? ", "***", "|", "#"} {
		if terms := Parse(q); len(terms) != 0 {
			t.Errorf("%q asks for %+v", q, terms)
		}
	}
}

// However large a text is, and whatever its bytes are, what is indexed fits.
func FuzzIndex(f *testing.F) {
	for _, s := range []string{"navegação", "東京\u3099ท\u0e31", "\xff\xfe 12-34 \x00", strings.Repeat("1", 100), "|#| # 1.2.3"} {
		f.Add(s, 1)
	}
	f.Fuzz(func(t *testing.T, s string, n int) {
		if len(s) > 1000 {
			return
		}
		index := Index(s, strings.Repeat(s, min(max(n, 0), 2000)))
		if len(index) > maxWords+maxNumbers*(maxDigits+2) || !utf8.ValidString(index) && utf8.ValidString(s) {
			t.Fatalf("%d bytes", len(index))
		}
		for w := range strings.SplitSeq(index, " ") {
			if w == "" && index != "" || utf8.RuneCountInString(w) > 3*maxWord {
				t.Fatalf("%q in %q", w, index)
			}
		}
		if len(s) < maxWord {
			for _, term := range Parse(`"` + strings.ReplaceAll(s, `"`, " ") + `"`) {
				if !term.In(Index(strings.ReplaceAll(s, `"`, " "))) {
					t.Fatalf("%q does not find itself: asked is %+v of %q", s, term, Index(s))
				}
			}
		}
	})
}

func BenchmarkIndex(b *testing.B) {
	for name, s := range map[string]string{"ascii": "Meet me at the harbour wall when the lamp is lit, and bring the nets", "accents": "Encontra-me no cais quando a lâmpada estiver acesa, e traz as redes às nove", "han": "灯りがともったら港の壁で会いましょう、網を持ってきて"} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(s)))
			for b.Loop() {
				Index(s, "+44 7700 900417", "Ketil")
			}
		})
	}
}

// Marks hold together what stands between them, as Parse takes them.
func TestFields(t *testing.T) {
	for s, want := range map[string][]string{
		` lamp  is:lit `:               {"lamp", "is:lit"},
		`"lamp is:lit" kind:call`:      {`"lamp is:lit"`, "kind:call"},
		"title:“boat  yard”\u3000lamp": {`title:"boat  yard"`, "lamp"},
		`18" lamp`:                     {`18" lamp`},
		``:                             nil,
	} {
		if got := Fields(s); !slices.Equal(got, want) {
			t.Errorf("%q: %q", s, got)
		}
		if a, b := fmt.Sprint(Parse(strings.Join(Fields(s), " "))), fmt.Sprint(Parse(s)); a != b {
			t.Errorf("%q is %s, and in its fields %s", s, b, a)
		}
	}
}

// What is found is shown where it stands in the text as it is, whatever was folded in it.
func TestFind(t *testing.T) {
	for _, c := range []struct{ text, asked, want string }{
		{"The ketch lay off; Ketches, all", "ketch", "The [ketch] lay off; [Ketch]es, all"},
		{"The ketch, ketches", `"ketch"`, "The [ketch], ketches"},
		{"a lamp, is lit. lamp lit", `"lamp is lit"`, "a [lamp, is lit]. lamp lit"},
		{"Às 9:40 na PRAÇA", "praca as", "[Às] 9:40 na [PRAÇA]"},
		{"na\u200bve e\u0301tude", "étude", "na\u200bve [e\u0301tude]"},
		{"in der Straße", "strass", "in der [Straß]e"},
		{"東京都へ行く", "京都", "東[京都]へ行く"},
		{"東京都へ行く", "東京都", "[東京都]へ行く"},
		{"call +44 (7700) 900-417 now", "0090", "call +44 (77[00) 90]0-417 now"},
		{"unlit, alit", "lit", "unlit, alit"},
		{"😀 ketch😀", "ketch", "😀 [ketch]😀"},
		{"", "ketch", ""},
	} {
		got, last := "", 0
		for _, p := range Find(c.text, Parse(c.asked)) {
			got += c.text[last:p[0]] + "[" + c.text[p[0]:p[1]] + "]"
			last = p[1]
		}
		if got += c.text[last:]; got != c.want {
			t.Errorf("%q in %q: %q", c.asked, c.text, got)
		}
	}
}

// Whatever is found lies in the text, in order, at the ends of characters.
func FuzzFind(f *testing.F) {
	f.Add("The ketch 東京都 +44 7700", `ketch "東京" 770`)
	f.Fuzz(func(t *testing.T, text, asked string) {
		last := 0
		for _, p := range Find(text, Parse(asked)) {
			if p[0] < last || p[1] <= p[0] || p[1] > len(text) || utf8.ValidString(text) && !utf8.ValidString(text[p[0]:p[1]]) {
				t.Fatalf("%q in %q: %v", asked, text, p)
			}
			last = p[1]
		}
	})
}
