package frame

import (
	"bytes"
	"html/template"
	"testing"
	"time"
)

func TestCountsAreWords(t *testing.T) {
	for want, got := range map[string]string{
		"1 record": Count(1, "record"), "0 records": Count(int64(0), "record"), "12\u202f345 records": Count(12345, "record"), "2 entries": Count(2, "entry", "entries"), "1 entry": Count(1, "entry", "entries"),
		"9999": Thousands(9999), "10k": Thousands(10_999), "999k": Thousands(999_999), "1.5M": Thousands(1_500_000), "12M": Thousands(12_000_000),
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// A row of bytes is one line: an offset, each byte once, and its characters, whatever marks the fields; markup in them is text.
func TestBytesAreLaidOutInLines(t *testing.T) {
	page := template.Must(template.New("").Funcs(Funcs).ParseFS(files, "frame.html", "begin.html", "authority.html"))
	rows := append(HexRows([]byte("<b>& then more than one row"), 0x1BFE, nil, nil), HexRow{Offset: 0x2000, Zeros: 4096}, HexRow{Offset: 0x3000, Hidden: 64})
	var out bytes.Buffer
	if err := page.ExecuteTemplate(&out, "hex rows", rows); err != nil {
		t.Fatal(err)
	}
	const want = `<span class="off">001BFE</span>  3C 62                                            <span class="off">&lt;b</span>
<span class="off">001C00</span>  3E 26 20 74 68 65 6E 20 6D 6F 72 65 20 74 68 61  <span class="off">&gt;&amp; then more tha</span>
<span class="off">001C10</span>  6E 20 6F 6E 65 20 72 6F 77                       <span class="off">n one row</span>
<span class="off">002000</span>  <span class="off">4` + "\u202f" + `096 bytes, all 00</span>  <span class="off"></span>
<span class="off">003000</span>  <span class="off">64 bytes withheld</span>  <span class="off"></span>
`
	if out.String() != want {
		t.Errorf("the rows are\n%s", out.String())
	}
}

// A span across a change of offset has both: clocks go back in the small hours of 25 October 2026 (IANA's database).
func TestSpansSayEveryOffset(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	at := func(s string) time.Time {
		t, _ := time.Parse("2006-01-02T15:04", s)
		return t
	}
	for _, c := range [][3]string{
		{"2026-10-25T00:30", "2026-10-25T01:30", "25 Oct 2026 01:30 +01:00 to 25 Oct 2026 01:30 +00:00"},
		{"2026-09-11T17:00", "2026-09-11T22:00", "11 Sep 2026 18:00 to 23:00 +01:00"},
		{"2026-09-10T23:30", "2026-09-12T22:00", "11 Sep 00:30 to 12 Sep 2026 23:00 +01:00"},
		{"2025-12-31T23:00", "2026-01-01T01:00", "31 Dec 2025 23:00 to 1 Jan 2026 01:00 +00:00"},
	} {
		if got := Span(at(c[0]), at(c[1]), lisbon); got != c[2] {
			t.Errorf("%s, want %s", got, c[2])
		}
	}
}
