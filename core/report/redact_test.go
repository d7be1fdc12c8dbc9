package report

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"
)

// says is all that a report says.
func says(r *Report) string {
	var b strings.Builder
	fmt.Fprintln(&b, r.Kind, r.Title, r.About)
	for _, p := range r.Parts {
		fmt.Fprintln(&b, p.Title)
		for _, x := range p.Blocks {
			switch x := x.(type) {
			case Citations:
				for _, c := range x {
					fmt.Fprintln(&b, c.N, c.Words, c.Fault)
				}
			case Table:
				for _, row := range x.Rows {
					for _, c := range row {
						fmt.Fprintln(&b, c)
					}
				}
			case *Record:
				fmt.Fprintln(&b, x.N, x.UID, x.Title, x.Quote)
				for _, f := range x.Facts {
					fmt.Fprintln(&b, f.Name, f.Value)
				}
				for _, p := range x.Pictures {
					fmt.Fprintf(&b, "%+v\n", p)
				}
			default:
				fmt.Fprintf(&b, "%+v\n", x)
			}
		}
	}
	return b.String()
}

func TestRedactWords(t *testing.T) {
	known := Known{func(string) []string { return []string{"Ketil Roan", "+447700900417"} }, func(string) (k KnownRecord) { return k }}
	for _, x := range []struct{ kind, value, text, want string }{
		{OfWords, "Bjørn", "bjørn, BJØRN, Bj\u00adørn, Bj\u200børn", "[redacted 1], [redacted 1], [redacted 1], [redacted 1]"},
		{OfWords, "José", "Jose\u0301 JOSE jose", "[redacted 1] [redacted 1] [redacted 1]"}, // accents apart
		{OfWords, "Weiß", "WEISS weiß", "[redacted 1] [redacted 1]"},
		{OfWords, "Roan", "Ｒｏａｎ of Roanstead", "[redacted 1] of [redacted 1]stead"}, // full width; also within words
		{OfWords, "Tor", "Tor's store, tor", "[redacted 1]'s store, [redacted 1]"},  // short ones as whole words
		{OfWords, "the  north\nquay", "The north quay and the north\u00a0quay", "[redacted 1] and [redacted 1]"},
		{OfWords, "港", "到港口", "到[redacted 1]口"},
		{OfWords, "מרים", "שלום מרים", "שלום [redacted 1]"},
		{OfPerson, "+44 7700 900417", "Ketil Roan, 07700 900417, +44 (7700) 900-417, 00447700900417, 7700900418", "[redacted 1], [redacted 1], [redacted 1], [redacted 1], 7700900418"},
		{OfWords, "+44 7700 900417", "call 447700900417 now", "call [redacted 1] now"},
		{OfPerson, "weißs", "Ketil Roan Stead, weißsss", "[redacted 1] Stead, [redacted 1]ss"},
		{OfWords, "x", "", ""},
		{OfWords, "\u200b", "nothing\u200b", "nothing\u200b"},
	} {
		r := &Report{Parts: []Part{{Blocks: []Block{Written{x.text}}}}}
		out, log := Redact(r, []Redaction{{x.kind, x.value, "why"}}, known)
		if got := out.Parts[0].Blocks[0].(Written).Body; got != x.want || len(log) != strings.Count(x.want, "[redacted") {
			t.Errorf("%s of %q: %q, want %q; %v", x.value, x.text, got, x.want, log)
		}
	}
}

// Of two that overlap both go, and nothing is found in what is left.
func FuzzRedact(f *testing.F) {
	f.Add("Ketil Roan", "Roan Stead", "Ketil Roan Stead")
	f.Add("weiß", "ssß", "weißßs")
	f.Add("+44 7700 900417", "900417 2", "447700 900417 2")
	f.Fuzz(func(t *testing.T, a, b, text string) {
		rules := []Redaction{{OfWords, a, "r"}, {OfWords, b, "r"}}
		r := &Report{Parts: []Part{{Blocks: []Block{Paragraph{Text{E(text[:len(text)/2]), M(text[len(text)/2:])}}, Written{text}}}}}
		out, log := Redact(r, rules, Known{})
		x := NewRedactor(nil, Known{})
		x.look(1, a)
		x.look(2, b)
		for _, left := range strings.Split(regexp.MustCompile(`\[redacted [12]\]`).ReplaceAllString(out.Parts[0].Blocks[1].(Written).Body, "\x00"), "\x00") {
			for _, h := range x.find(left) {
				if len(log) > 0 && len(fold(left[h.from:h.to])) >= 4 && !strings.Contains(left, "redacted") {
					t.Errorf("%q is left of %q", left[h.from:h.to], text)
				}
			}
		}
		if got, want := out.Parts[0].Blocks[0].(Paragraph).Text.String(), out.Parts[0].Blocks[1].(Written).Body; utf8.ValidString(text[:len(text)/2]) && got != want {
			t.Errorf("spans give %q, a text %q", got, want)
		}
	})
}

// What is found may begin in one span and end in another; the report itself stays as it was.
func TestRedact(t *testing.T) {
	rec := func(n int, quote string) *Record {
		return &Record{N: n, UID: fmt.Sprint("uid", n), Title: Text{T("Message in "), E("Quay")}, Quote: quote, Facts: Facts{{Name: "With", Value: Text{E("Ke"), {Words: "til", Style: Mono}, Br, T("Roan")}}, {Name: "Digest", Value: Text{H("abad1dea")}}}}
	}
	long := "the first of many words " + strings.Repeat("and more ", 30)
	r := &Report{Kind: "Report", Title: "Of Ketil Roan", Parts: []Part{{Title: "P", Blocks: []Block{
		Paragraph{Text{T("By "), E("Ketil"), T(" "), E("Roan"), T(" himself; "), H("ab0ade01")}},
		Citations{{N: 2, Words: Text{T(long[:110] + "…")}}, {N: 1, Words: Text{T("plain")}, Fault: "Ketil Roan is not there"}},
		Table{Head: []string{"Record", "What"}, Rows: [][]Text{{{{Words: "2", Link: "#record-2"}}, {T("said then")}}, {{{Words: "1", Link: "#record-1"}}, {T("plain")}}}},
		rec(1, "plain"), rec(2, long), &Record{N: 3, UID: "uid3", Quote: "nothing of it", Facts: Facts{{Name: "Digest", Value: Text{H("abad1dea")}}}},
		Signature{"Ketil Roan", "here"}, Facts{{Name: "x", Value: Text{T("told again: " + long)}}}}}}}
	was := says(r)
	out, log := Redact(r, []Redaction{{OfWords, "ketil roan", "a minor"}, {OfRecord, "key", "privileged, says Ketil Roan"}}, Known{func(string) []string { return nil }, func(key string) (k KnownRecord) {
		if key == "key" {
			k = KnownRecord{N: 2, Text: long}
		}
		return k
	}})
	got := says(out)
	for _, gone := range []string{"Ketil", "til\nRoan", "the first of many", "said then", "uid1", "uid2"} {
		if strings.Contains(got, gone) {
			t.Errorf("%q is still there:\n%s", gone, got)
		}
	}
	for _, there := range []string{"By [redacted 1] himself; ab0ade01", "1 plain [redacted 1] is not there", "Report: redacted version", "nothing of it", "uid3", "a minor", "privileged, says [redacted 1]", "withheld, since it is of bytes"} {
		if !strings.Contains(got, there) {
			t.Errorf("%q is not there:\n%s", there, got)
		}
	}
	if says(r) != was {
		t.Error("the report itself was changed")
	}
	if n := strings.Count(got, "abad1dea"); n != 1 {
		t.Errorf("%d digests, of one record of which nothing is taken out", n)
	}
	var of2 int
	for _, l := range log {
		if l.Redaction == 2 {
			of2++
		}
	}
	if of2 < 4 || !strings.Contains(fmt.Sprint(log), "Ketil\n") && !strings.Contains(fmt.Sprint(log), "Ketil Roan") {
		t.Errorf("the log: %d of the record: %v", of2, log)
	}
}

func TestRedactOverlapping(t *testing.T) {
	r := &Report{Parts: []Part{{Blocks: []Block{Written{"Ketil Roan Stead came"}}}}}
	out, _ := Redact(r, []Redaction{{OfWords, "Ketil Roan", "r"}, {OfWords, "Roan Stead", "r"}}, Known{})
	if got := out.Parts[0].Blocks[0].(Written).Body; got != "[redacted 1][redacted 2] came" {
		t.Error(got)
	}
}

// A place goes with its record, and with its coordinates.
func TestRedactPlaces(t *testing.T) {
	r := &Report{Parts: []Part{{Blocks: []Block{&Map{Places: []Place{{Record: 1, Latitude: 38.5, Longitude: -28.6}, {Record: 2, Latitude: 39.25, Longitude: -27}, {Record: 3, Latitude: 40, Longitude: -27}}}}}}}
	rules := []Redaction{{OfRecord, "2", "why"}, {OfWords, "40.000000, -27", "why"}}
	out, log := Redact(r, rules, Known{Record: func(key string) KnownRecord { return KnownRecord{N: len(key) * 2} }})
	if m := out.Parts[0].Blocks[0].(*Map); len(m.Places) != 1 || m.Places[0].Record != 1 || len(log) != 2 || log[0].Redaction != 1 || log[1].Redaction != 2 {
		t.Errorf("%+v, %+v", m, log)
	}
}

// Of a picture of which a region goes, the digest and the length go from wherever they stand, and so do those of a record that
// has it; the picture of a record that goes as a whole goes from others, too.
func TestRedactPictures(t *testing.T) {
	region, whole, kept := strings.Repeat("a1", 32), strings.Repeat("b2", 32), strings.Repeat("c3", 32)
	rec := func(n int, sum string) *Record {
		return &Record{N: n, UID: fmt.Sprint("uid", n), Quote: fmt.Sprint("said ", n), Pictures: []*Picture{{SHA256: sum, Alt: fmt.Sprint("picture ", n), Caption: Text{T("SHA-256 "), H(sum)}}},
			Facts: Facts{{Name: "Origin", Value: Text{M("offset 1, "), B(fmt.Sprint("410", n))}}, {Name: "Bytes", Value: Text{H(fmt.Sprint("d4", n))}}}}
	}
	r := &Report{Parts: []Part{{Blocks: []Block{rec(1, region), rec(2, whole), rec(3, whole), rec(4, kept), Written{"The file " + strings.ToUpper(region) + " shows it."},
		&Picture{SHA256: region, Caption: Text{B("4109"), H(region)}}, Facts{{Name: "Names", Value: Text{E(region + ".jpg"), H(region)}}}}}}}
	was := says(r)
	out, log := Redact(r, []Redaction{{OfRegion, region + " 1 2 30 40", "a face"}, {OfRecord, "key", "privileged"}}, Known{Record: func(string) KnownRecord {
		return KnownRecord{N: 2, Text: "said 2", Files: []string{whole}}
	}})
	got := says(out)
	for _, gone := range []string{region, strings.ToUpper(region), whole, "uid1", "uid2", "uid3", "d41", "d42", "d43", "4101", "4102", "4103", "4109", "picture 2", "picture 3"} {
		if strings.Contains(got, gone) {
			t.Errorf("%q is still there:\n%s", gone, got)
		}
	}
	for _, there := range []string{kept, "uid4", "d44", "4104 bytes", "picture 1", "said 1", "said 3", "length withheld"} {
		if !strings.Contains(got, there) {
			t.Errorf("%q is not there:\n%s", there, got)
		}
	}
	for p := range out.Pictures() {
		if p.SHA256 == "" && p.Fault == "" && len(p.Hidden) != 1 {
			t.Errorf("nothing is painted over in %+v", p)
		}
	}
	if says(r) != was || !strings.Contains(fmt.Sprint(log), region) {
		t.Error("the report itself was changed, or the log does not say what went:", log)
	}
}
