package frame

import (
	"bytes"
	"html/template"
	"testing"
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
