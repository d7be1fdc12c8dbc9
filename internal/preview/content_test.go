package preview

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"
)

func (m *Maker) holds(b []byte) (*Content, error) {
	return m.Content(context.Background(), strings.Repeat("a", 64), func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b)), nil })
}

func zipped(t testing.TB, files ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(files); i += 2 {
		w, err := z.Create(files[i])
		if err == nil {
			_, err = io.WriteString(w, files[i+1])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// paper is a PDF of one page with a text, by ISO 32000-1.
func paper(text string) []byte {
	stream := "BT /F 18 Tf 60 760 Td (" + text + ") Tj ET"
	b := []byte("%PDF-1.4\n")
	var at []int
	for i, o := range []string{"<</Type/Catalog/Pages 2 0 R>>", "<</Type/Pages/Kids[3 0 R]/Count 1>>", "<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F 5 0 R>>>>>>",
		fmt.Sprintf("<</Length %d>>\nstream\n%s\nendstream", len(stream), stream), "<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>"} {
		at = append(at, len(b))
		b = fmt.Appendf(b, "%d 0 obj\n%s\nendobj\n", i+1, o)
	}
	xref := len(b)
	b = append(b, "xref\n0 6\n0000000000 65535 f \n"...)
	for _, n := range at {
		b = fmt.Appendf(b, "%010d 00000 n \n", n)
	}
	return fmt.Appendf(b, "trailer\n<</Size 6/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n", xref)
}

// What a document, a table or an archive holds, made by other programs and libraries, or by the formats' documents: RFC 4180
// section 2, ISO 32000-1 (what Poppler's pdftotext reads in it, too), ISO/IEC 29500 by excelize, ISO/IEC 26300
// (OpenDocument 1.2 part 1, section 9.1: rows and cells that stand for many).
func TestContent(t *testing.T) {
	book := excelize.NewFile()
	for cell, v := range map[string]any{"A1": "item", "B1": "price", "A2": "<b>rope</b>", "B2": 12.5} {
		if err := book.SetCellValue("Sheet1", cell, v); err != nil {
			t.Fatal(err)
		}
	}
	xlsx, err := book.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	var tarred bytes.Buffer
	gz := gzip.NewWriter(&tarred)
	w := tar.NewWriter(gz)
	if err := errors.Join(w.WriteHeader(&tar.Header{Name: "a/lamp.txt", Size: 4, Mode: 0o600}), func() error { _, err := w.Write([]byte("lamp")); return err }(), w.Close(), gz.Close()); err != nil {
		t.Fatal(err)
	}
	text, err := func() (string, error) {
		c := exec.Command("pdftotext", "-", "-")
		c.Stdin = bytes.NewReader(paper("The lamp is lit"))
		b, err := c.Output()
		return strings.TrimSpace(string(b)), err
	}()
	if err != nil || text != "The lamp is lit" {
		t.Fatal(text, err)
	}
	for name, c := range map[string]struct {
		in   []byte
		want string
	}{
		"pdf":  {paper("The lamp is lit"), "text The lamp is lit [] []"},
		"csv":  {[]byte("a,b\r\n\"x, \"\"y\"\"\",2\r\n\"two\nlines\",3\r\n"), "table  [[a b] [x, \"y\" 2] [two\nlines 3]] []"},
		"tsv":  {[]byte("a\tb;c\n1\t2\n"), "table  [[a b;c] [1 2]] []"},
		"html": {[]byte("<!DOCTYPE html><title>T</title><p>Lamp<script>x</script>"), "text Lamp [] []"},
		"xlsx": {xlsx.Bytes(), "table  [[item price] [<b>rope</b> 12.5]] []"},
		"docx": {zipped(t, "word/document.xml", `<w:document xmlns:w="w"><w:body><w:p><w:r><w:t>Lamp</w:t></w:r></w:p></w:body></w:document>`), "text Lamp [] []"},
		"odt":  {zipped(t, "mimetype", "application/vnd.oasis.opendocument.text", "content.xml", `<o xmlns:text="t"><text:p>Lamp</text:p></o>`), "text Lamp [] []"},
		"ods": {zipped(t, "mimetype", "application/vnd.oasis.opendocument.spreadsheet", "content.xml", `<o
			xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0"
			xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"><table:table table:name="Stock"><table:table-column/>
			<table:table-header-rows><table:table-row><table:table-cell table:number-columns-repeated="2"><text:p>item</text:p></table:table-cell>
			<table:table-cell table:number-columns-repeated="1022"/></table:table-row></table:table-header-rows>
			<table:table-row table:number-rows-repeated="2"><table:table-cell><office:annotation><text:p>a remark</text:p></office:annotation>
			<text:p>two<text:s text:c="2"/><text:span>ropes</text:span></text:p><text:p>old</text:p></table:table-cell></table:table-row>
			<table:table-row><table:table-cell/></table:table-row>
			<table:table-row><table:covered-table-cell table:number-columns-repeated="2"/><table:table-cell><text:p>7</text:p></table:table-cell></table:table-row>
			<table:table-row table:number-rows-repeated="1048571"><table:table-cell table:number-columns-repeated="1024"/></table:table-row>
			</table:table><table:table table:name="Empty"><table:table-row/></table:table></o>`), "table  [[item item] [two  ropes\nold] [two  ropes\nold] [] [  7]] []"},
		"zip":   {zipped(t, "a/lamp.txt", "lamp", "b", ""), "archive  [] [a/lamp.txt 4 b 0]"},
		"tar":   {tarred.Bytes(), "archive  [] [a/lamp.txt 4]"},
		"prose": {[]byte("a lamp, lit\nno more\n"), "fault"},
	} {
		if HasContent(c.in[:min(len(c.in), 512)]) != (c.want != "fault") {
			t.Errorf("%s: what it begins with says otherwise", name)
		}
		got, err := maker(t, "make").holds(c.in)
		if f := (*Fault)(nil); errors.As(err, &f) && c.want == "fault" {
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		rows, members := []string{}, []string{}
		for _, s := range got.Sheets {
			for _, r := range s.Rows {
				rows = append(rows, fmt.Sprint(r))
			}
		}
		for _, m := range got.Members {
			members = append(members, fmt.Sprint(m.Path, " ", m.Size))
		}
		if s := fmt.Sprint(got.Kind, " ", strings.TrimSpace(got.Text), " ", rows, " ", members); s != c.want {
			t.Errorf("%s: %q", name, s)
		}
	}
}

// Tables and archives without end, and documents that are broken, are told of in words and within the limits.
func TestHostileContent(t *testing.T) {
	many := []string{}
	for i := range 3000 {
		many = append(many, fmt.Sprint("f", i), "")
	}
	for name, c := range map[string]struct {
		in  []byte
		cut string
	}{
		"rows":    {bytes.Repeat([]byte("a,b\n"), 100_000), "the first 200 rows"},
		"columns": {bytes.Repeat([]byte(strings.Repeat("a,", 200)+"\n"), 30), "the first 40 columns"},
		"members": {zipped(t, many...), "the first 1000 files"},
		"repeats": {zipped(t, "mimetype", "application/vnd.oasis.opendocument.spreadsheet", "content.xml",
			`<o xmlns:t="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:x="urn:oasis:names:tc:opendocument:xmlns:text:1.0"><t:table>
			<t:table-row t:number-rows-repeated="2000000000"><t:table-cell t:number-columns-repeated="2000000000"><x:p>`+
				strings.Repeat(`<x:s x:c="2000000000"/>`, 10_000)+`lamp</x:p></t:table-cell></t:table-row></t:table></o>`), "the first 500000 bytes of it"},
		"text": {[]byte("<html>" + strings.Repeat("lamp ", 100_000)), "the text goes on after 100000 bytes"},
	} {
		got, err := maker(t, "make").holds(c.in)
		if err != nil || got.Cut != c.cut {
			t.Errorf("%s: %+v %v", name, got, err)
		}
	}
	for name, in := range map[string][]byte{
		"pdf": []byte("%PDF-1.4\nstartxref\n99999999\n%%EOF"), "loop": bytes.ReplaceAll(paper("x"), []byte("/Kids[3 0 R]"), []byte("/Kids[2 0 R]")),
		"zip": append([]byte("PK\x03\x04"), make([]byte, 500)...), "bomb": zipped(t, "xl/workbook.xml", "<workbook>", "xl/worksheets/sheet1.xml", strings.Repeat(" ", 100<<20)),
	} {
		m := maker(t, "make")
		m.Patience = 2 * time.Second // a page that leads to itself is followed for ever
		got, err := m.holds(in)
		if f := (*Fault)(nil); err != nil && !errors.As(err, &f) {
			t.Errorf("%s: %+v %v", name, got, err)
		}
	}
	if got, err := maker(t, "lie").holds([]byte("a,b\n")); err == nil {
		t.Errorf("a lie is believed: %+v", got)
	}
}
