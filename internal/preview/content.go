package preview

import (
	"archive/zip"
	"bytes"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"
	"unicode/utf8"

	"crosswind/core/reading"
	"crosswind/core/record"
	"crosswind/core/unpack"

	"github.com/ledongthuc/pdf"
	"github.com/xuri/excelize/v2"
)

// Content is what a document, a table or an archive holds, as far as it is shown.
type Content struct {
	Kind    string        `json:"kind"` // text, of a document; table; archive
	Facts   []record.Fact `json:"facts,omitempty"`
	Text    string        `json:"text,omitempty"`
	Sheets  []Sheet       `json:"sheets,omitempty"`
	Members []Member      `json:"members,omitempty"`
	Cut     string        `json:"cut,omitempty"` // what is not shown, in words
	size    int           // bytes of all that
}

// fits reports whether more text has room in what is shown.
func (c *Content) fits(s ...string) bool {
	for _, x := range s {
		c.size += len(x)
	}
	if c.size > mostShown {
		c.Cut = fmt.Sprintf("the first %d bytes of it", mostShown)
	}
	return c.size <= mostShown
}

// Sheet is a table of a file.
type Sheet struct {
	Name string     `json:"name,omitempty"`
	Rows [][]string `json:"rows"`
}

// Member is a file in an archive.
type Member struct {
	Path    string    `json:"path"`
	Size    int64     `json:"size"` // -1 if it was not unpacked
	Changed time.Time `json:"changed,omitzero"`
	Not     string    `json:"not,omitempty"` // why it cannot be read
}

// What of a content is shown at most.
const (
	mostShown   = 500_000 // bytes of everything
	mostText    = 100_000 // of text
	mostSheets  = 8
	mostRows    = 200
	mostCells   = 40   // of a row
	mostCell    = 300  // bytes
	mostMembers = 1000 // of an archive
	mostPages   = 50   // of a PDF
	tableLines  = 20   // by which a text is told to be a table
)

// HasContent reports whether what begins so can be shown as a document, a table or an archive. head should have 512 bytes.
func HasContent(head []byte) bool {
	return unpack.IsArchive(head) || isPDF(head) || isHTML(head) || delimiter(head) != 0
}

func isPDF(b []byte) bool { return bytes.HasPrefix(b, []byte("%PDF-")) } // ISO 32000-1 section 7.5.2

func isHTML(b []byte) bool {
	b = bytes.ToLower(bytes.TrimSpace(b[:min(len(b), 512)]))
	return bytes.HasPrefix(b, []byte("<!doctype html")) || bytes.HasPrefix(b, []byte("<html"))
}

// delimiter tells what a text's cells are divided by: that of which its first lines all have the same number, 0 if it is
// no table. (RFC 4180 for commas; common practice for the others.)
func delimiter(b []byte) rune {
	b = b[:min(len(b), 16<<10)]
	if i := bytes.LastIndexByte(b, '\n'); i > 0 {
		b = b[:i]
	}
	if !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0 {
		return 0
	}
	for _, d := range "\t,;|" {
		r := table(bytes.NewReader(b), d)
		r.FieldsPerRecord = 0 // as many as the first has
		n := 0
		for n < tableLines {
			row, err := r.Read()
			if err == io.EOF && n > 1 {
				return d
			}
			if err != nil || len(row) < 2 {
				n = -1
				break
			}
			n++
		}
		if n == tableLines {
			return d
		}
	}
	return 0
}

func table(in io.Reader, d rune) *csv.Reader {
	r := csv.NewReader(in)
	r.Comma, r.FieldsPerRecord = d, -1
	return r
}

// content writes what a file holds as JSON. Libraries that fail on hostile input do so here, in the child.
func content(w io.Writer, b []byte) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("preview: reading it failed: %v", p)
		}
	}()
	c := &Content{Kind: "text"}
	switch {
	case isPDF(b):
		err = c.pdf(b)
	case unpack.IsArchive(b):
		switch ending := office(b); ending {
		case "":
			err = c.archive(b)
		case ".xlsx":
			err = c.workbook(b)
		case ".ods":
			err = c.spreadsheet(b)
		default:
			err = c.document("x"+ending, b)
		}
	case isHTML(b):
		err = c.document("x.html", b)
	default:
		err = c.table(b)
	}
	if err != nil {
		return fmt.Errorf("preview: %w", err)
	}
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false) // pages do
	return out.Encode(c)
}

// office tells by its parts which office document a ZIP is, as the ending of such: ISO/IEC 29500-2 section 10, and of
// OpenDocument version 1.2 part 3 section 3.3.
func office(b []byte) string {
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return ""
	}
	for _, f := range z.File {
		switch f.Name {
		case "word/document.xml":
			return ".docx"
		case "xl/workbook.xml":
			return ".xlsx"
		case "ppt/presentation.xml":
			return ".pptx"
		case "mimetype":
			in, err := f.Open()
			if err != nil {
				return ""
			}
			said, _ := io.ReadAll(io.LimitReader(in, 100))
			in.Close()
			if kind, is := strings.CutPrefix(string(said), "application/vnd.oasis.opendocument."); is {
				return map[string]string{"text": ".odt", "spreadsheet": ".ods", "presentation": ".odp"}[kind]
			}
		}
	}
	return ""
}

// document reads what the records of documents have: their text, and what they say of themselves.
func (c *Content) document(name string, b []byte) error {
	f := &reading.File{Path: name, Size: int64(len(b)), Open: func() (reading.Bytes, error) { return inMemory{bytes.NewReader(b)}, nil }}
	reader := reading.ReaderOf(name, b[:min(len(b), reading.HeadLength)])
	if reader == nil {
		return errors.New("it is no document that can be read")
	}
	var faults error
	for r, err := range reading.Texts(reader, f, nil, reading.Options{}, func(err error) { faults = errors.Join(faults, err) }) {
		if err != nil {
			return err
		}
		c.say(r.Text)
		for _, t := range r.Times {
			c.Facts = append(c.Facts, record.Fact{Name: t.Role, Value: t.Stored})
		}
		c.Facts = append(c.Facts, r.Facts...)
	}
	return faults
}

type inMemory struct{ io.ReaderAt }

func (inMemory) Close() error { return nil }

// say adds text, as much as is shown.
func (c *Content) say(s string) {
	s = record.Clean(s)
	if n := mostText - len(c.Text); len(s) > n {
		for n > 0 && !utf8.RuneStart(s[n]) {
			n--
		}
		s, c.Cut = s[:n], fmt.Sprintf("the text goes on after %d bytes", mostText)
	}
	c.Text += s
}

func (c *Content) pdf(b []byte) error {
	if err := c.document("x.pdf", b); err != nil {
		c.Facts = append(c.Facts, record.Fact{Name: "Fault", Value: err.Error()})
	}
	in, err := pdf.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return err
	}
	pages := in.NumPage()
	c.Facts = append(c.Facts, record.Fact{Name: "Pages", Value: fmt.Sprint(pages)})
	for n := 1; n <= min(pages, mostPages) && c.Cut == ""; n++ {
		text, err := in.Page(n).GetPlainText(nil)
		if err != nil {
			text = fmt.Sprintf("(page %d: %v)", n, err)
		}
		c.say(strings.TrimSpace(text) + "\n\n")
	}
	if pages > mostPages && c.Cut == "" {
		c.Cut = fmt.Sprintf("the text of the first %d of %d pages", mostPages, pages)
	}
	return nil
}

func (c *Content) table(b []byte) error {
	d := delimiter(b)
	if d == 0 {
		return errors.New("it is neither a document, nor a table, nor an archive")
	}
	c.Kind = "table"
	r := table(bytes.NewReader(b), d)
	return c.sheet("", func() ([]string, error) { return r.Read() })
}

// sheet adds a table by its rows, of which next gives one, and io.EOF behind the last.
func (c *Content) sheet(name string, next func() ([]string, error)) error {
	s := Sheet{Name: record.Clean(name), Rows: [][]string{}}
	for {
		row, err := next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if len(s.Rows) == mostRows {
			c.Cut = fmt.Sprintf("the first %d rows", mostRows)
			break
		}
		var cells []string
		for _, x := range row[:min(len(row), mostCells)] {
			cells = append(cells, record.Clean(strings.ToValidUTF8(x[:min(len(x), mostCell)], "")))
		}
		if !c.fits(cells...) {
			break
		}
		if s.Rows = append(s.Rows, cells); len(row) > mostCells {
			c.Cut = fmt.Sprintf("the first %d columns", mostCells)
		}
	}
	c.Sheets = append(c.Sheets, s)
	return nil
}

func (c *Content) workbook(b []byte) error {
	if err := c.document("x.xlsx", b); err != nil {
		return err
	}
	c.Kind = "table"
	book, err := excelize.OpenReader(bytes.NewReader(b), excelize.Options{UnzipSizeLimit: MaxInput, UnzipXMLSizeLimit: MaxInput})
	if err != nil {
		return err
	}
	names := book.GetSheetList()
	for _, name := range names[:min(len(names), mostSheets)] {
		rows, err := book.Rows(name)
		if err == nil {
			err = c.sheet(name, func() ([]string, error) {
				if !rows.Next() {
					return nil, cmp.Or(rows.Error(), io.EOF)
				}
				return rows.Columns()
			})
		}
		if err != nil {
			return err
		}
	}
	if len(names) > mostSheets {
		c.Cut = fmt.Sprintf("the first %d of %d sheets", mostSheets, len(names))
	}
	return nil
}

func (c *Content) archive(b []byte) error {
	c.Kind = "archive"
	lim := unpack.Limits{Members: 1 << 20, Bytes: 1 << 30, Ratio: 250, Depth: unpack.Default.Depth}
	for m, err := range unpack.Members(bytes.NewReader(b), int64(len(b)), lim) {
		if err != nil {
			if len(c.Members) == 0 {
				return err
			}
			c.Cut = "reading it ended: " + err.Error()
			break
		}
		if len(c.Members) == mostMembers {
			c.Cut = fmt.Sprintf("the first %d files", mostMembers)
			break
		}
		x := Member{Path: record.Clean(path.Clean(m.Path)), Size: -1, Changed: m.Changed, Not: m.Not}
		if m.Not == "" {
			if x.Size, err = io.Copy(io.Discard, m); err != nil {
				x.Size, x.Not = -1, err.Error()
			}
		}
		if !c.fits(x.Path, x.Not) {
			break
		}
		c.Members = append(c.Members, x)
	}
	return nil
}
