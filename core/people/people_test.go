package people

import (
	"fmt"
	"strings"
	"testing"
)

// The forms of one number: ITU-T E.123 (separators, 00 and + before the country
// code), RFC 3966 (tel URIs), Unicode (format characters, other digits). The
// reference is the number library's metadata; the numbers are those kept for
// fiction by their country's regulator.
func TestOneNumberManyForms(t *testing.T) {
	const want = "+447700900551"
	for _, s := range []string{"+44 7700 900551", "+447700900551", "0044 7700 900551", "00447700900551", "07700 900551", "(07700) 900-551", "+44 (0)7700 900551",
		"\u202a+44\u00a07700\u2011900\u2011551\u202c", "\u200e07700900551", "tel:+44-7700-900-551", "TEL:+447700900551;ext=1", "+44.7700.900551", "+44/7700/900551",
		"\uff0b\uff14\uff14 \uff17\uff17\uff10\uff10 \uff19\uff10\uff10\uff15\uff15\uff11", "\u0660\u0667\u0667\u0660\u0660\u0669\u0660\u0660\u0665\u0665\u0661", "+44\x007700900551", " 0 7 7 0 0 9 0 0 5 5 1 "} {
		if got := Normal(s, "GB"); got != want {
			t.Errorf("%q: %q", s, got)
		}
	}
	for in, want := range map[string]string{
		"+1 (201) 555-0123": "+12015550123", "A@Example.ORG": "a@example.org", "Counsel <Counsel@example.org>": "counsel@example.org",
		"mailto:a@example.org?subject=x": "a@example.org", "a\u200b@exam\u00adple.org": "a@example.org", "a@xn--bcher-kva.example": "a@bücher.example",
		"": "", "\u202a\u202c": "", "Harbour  Office": "harbour office", "60777": "60777", "*100#": "*100#",
	} {
		if got := Normal(in, "GB"); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	// Without a country a national number stays one, and may be each that ends so.
	const same, may = 2, 1
	for _, c := range []struct {
		a, b string
		want int
	}{
		{Normal("07700 900551", ""), "+447700900551", same}, {"+447700900551", "7700900551", same}, {"+447700900551", "900551", may}, {"+447700900551", "00551", 0},
		{"+447700900551", "+447700900552", 0}, {"07700900551", "07700900551", same}, {"a@example.org", "b@example.org", 0}, {"", "", 0},
		{Normal("447700900551@chat.example", ""), "+447700900551", may}, {Normal("sip:+447700900551@voice.example;user=phone", ""), "+447700900551", may},
		{Normal("T. Lind (+44 7700 900551)", ""), "+447700900551", may}, {Normal("+44 7700 900551 ext 5", ""), "+447700900551", may}, {Normal("counsel 07700-900551", ""), "+447700900551", may},
		{Normal("447700900552@chat.example", ""), "+447700900551", 0}, {Normal("ketil900551", ""), "+447700900551", 0},
	} {
		got := 0
		if MayBe(c.a, c.b) {
			got = may
		}
		if Same(c.a, c.b) {
			got = same
		}
		if got != c.want || MayBe(c.b, c.a) != (got > 0) {
			t.Errorf("%q and %q: %d", c.a, c.b, got)
		}
	}
	for number, want := range map[string]string{"+447700900100": "GB", "+12015550123": "US", "x": "", "+999123456": ""} {
		if got := CountryOf(number); got != want {
			t.Errorf("%s: country %q", number, got)
		}
	}
}

func ExampleNormal() {
	fmt.Println(Normal("0044 7700 900551", ""))
	fmt.Println(Normal("07700 900551", "GB"))
	fmt.Println(Normal("Office@Example.ORG", ""))
	// Output:
	// +447700900551
	// +447700900551
	// office@example.org
}

// A normal form is one: brought into normal form again, with any country, it stays what it
// is, and it is the same handle as itself.
func FuzzNormal(f *testing.F) {
	for _, s := range []string{"+44 7700 900551", "0044 (0) 7700-900551", "07700\u202a900551\u202c", "Tor <T.Lind@Example.ORG>", "tel:+44-7700-900551;x=1", "*100#", "mailto:a@b.example?x", "+\u0664\u0664 7700", "", "a\x00b\xff", "١١٢"} {
		f.Add(s, "GB")
	}
	f.Fuzz(func(t *testing.T, raw, country string) {
		n := Normal(raw, country)
		if again := Normal(n, ""); again != n {
			t.Errorf("%q gives %q, and that %q", raw, n, again)
		}
		if n != "" && (!Same(n, n) || !MayBe(n, n)) {
			t.Errorf("%q is not itself", n)
		}
	})
}

// What is remembered is what is worked out.
func TestNormals(t *testing.T) {
	n := NewNormals("GB")
	for i := range 10_500 {
		for _, raw := range []string{fmt.Sprint("07700 9", i%100_000), "07700 900417", "A@Harbour.Example", strings.Repeat("x", 300)} {
			if got, want := n.Normal(raw), Normal(raw, "GB"); i%1000 == 0 && got != want {
				t.Fatalf("%q: %q, want %q", raw, got, want)
			}
		}
	}
	if len(n.of) > maxRemembered {
		t.Errorf("%d are remembered", len(n.of))
	}
}
