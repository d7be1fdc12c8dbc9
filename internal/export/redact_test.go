package export

import (
	"archive/zip"
	"bytes"
	"io"
	"slices"
	"strings"
	"testing"

	"crosswind/core/record"
	"crosswind/core/report"
)

// Of what is redacted nothing is in any format, nor in a file within it: in no text, name, place or digest.
func TestRedacted(t *testing.T) {
	photograph, bytesOf, whole := strings.Repeat("ab", 32), strings.Repeat("5e", 32), strings.Repeat("c4", 32)
	with := func(yield func(*Line, error) bool) {
		for l, err := range lines() {
			l.Origins[0].Digest, l.Origins[0].Length, l.Origins[0].Fields = bytesOf, 41, []record.Field{{Name: "body", Offset: 3, Length: 7}}
			if l.Kind == record.Photograph {
				l.Attachments = []record.Attachment{{Name: "Store Key.jpg", SHA256: photograph}}
				l.Facts = []record.Fact{{Name: "Depth", Value: "417.5", Unit: "m"}}
			}
			if l.Kind == record.Event { // one that is the whole of a file
				l.Text, l.Origins[0].SHA256, l.Attachments = "met Ketil", whole, []record.Attachment{{Name: "plan.ics", SHA256: whole}}
			}
			l.Text = strings.ReplaceAll(l.Text, "without a time", "said by the other ketil, without a time")
			if !yield(l, err) {
				return
			}
		}
	}
	rules := []report.Redaction{{Kind: report.OfPerson, Value: "+447700900417"}, {Kind: report.OfWords, Value: "store key"}, {Kind: report.OfWords, Value: "-38.600000, -24.25"}, {Kind: report.OfWords, Value: "417.5"},
		{Kind: report.OfRecord, Value: "1-A/1/" + strings.Repeat("0", 63) + "6"}, {Kind: report.OfRegion, Value: photograph + " 1 1 5 5"}}
	x := report.NewRedactor(rules, report.Known{Person: func(string) []string { return []string{"Ketil"} }, Record: func(string) report.KnownRecord { return report.KnownRecord{Text: "the other ketil"} }})
	for _, f := range Formats {
		h := head
		if f.Name == "pdf" {
			h.Set = func(w io.Writer, r *report.Report) error {
				for _, p := range r.Parts {
					for _, r := range p.Blocks {
						io.WriteString(w, r.(*report.Record).Quote)
						for _, f := range r.(*report.Record).Facts {
							io.WriteString(w, f.Value.String())
						}
					}
				}
				return nil
			}
		}
		var b bytes.Buffer
		gone, texts := 0, 0
		n, left, err := f.Write(&b, h, Redacted(with, x, func(n int) {
			if n < 0 {
				gone++
			} else {
				texts += n
			}
		}))
		if err != nil || n+left != 6 || gone != 1 || texts < 8 {
			t.Errorf("%s: %d written, %d left, %d redacted, and %d texts, %v", f.Name, n, left, gone, texts, err)
		}
		all := b.String()
		if z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len())); err == nil {
			for _, f := range z.File {
				r, err := f.Open()
				if err != nil {
					t.Fatal(err)
				}
				c, err := io.ReadAll(r)
				if err != nil {
					t.Fatal(err)
				}
				all += f.Name + "\n" + string(c)
			}
		}
		for _, s := range []string{"Ketil", "ketil", "900417", "Store Key", "store key", "38.6", "417.5", whole, photograph} {
			if strings.Contains(all, s) {
				t.Errorf("%s holds %q:\n%.4000s", f.Name, s, all)
			}
		}
		if f.Holds == "" && !strings.Contains(all, "redacted 1") {
			t.Errorf("%s does not say what is redacted", f.Name)
		}
		if kept := strings.Count(all, bytesOf); f.Name == "csv" && kept != 1 { // of the one place of which nothing is redacted
			t.Errorf("%s has the digests of %d records", f.Name, kept)
		}
	}
	// A region of its picture is enough for a record's digests to go.
	var b bytes.Buffer
	if _, _, err := Formats[slices.IndexFunc(Formats, func(f Format) bool { return f.Name == "csv" })].Write(&b, head, Redacted(with, report.NewRedactor(rules[5:], report.Known{}), func(int) {})); err != nil {
		t.Fatal(err)
	}
	if kept := strings.Count(b.String(), bytesOf); kept != 6 || strings.Contains(b.String(), photograph) {
		t.Errorf("%d digests are kept where one picture of 7 records has a region that is redacted:\n%s", kept, b.String())
	}
}
