package reading

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"

	"crosswind/core/record"
)

// documents reads what documents say of themselves, and what they say where that is text: plain text, HTML,
// the two families of office documents, and PDF. A text in a folder of notes is a note.
type documents struct{}

// ID implements [Reader].
func (documents) ID() string { return "documents, version 1" }

// office are the documents that are archives, by their endings, with their media types.
var office = map[string]string{
	".docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document", ".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
	".pptx": "application/vnd.openxmlformats-officedocument.presentationml.presentation", ".odt": "application/vnd.oasis.opendocument.text",
	".ods": "application/vnd.oasis.opendocument.spreadsheet", ".odp": "application/vnd.oasis.opendocument.presentation",
}

func (documents) media(p string, head []byte) string {
	switch ext := strings.ToLower(path.Ext(p)); {
	case bytes.HasPrefix(head, []byte("%PDF-")):
		return "application/pdf" // ISO 32000-1 section 7.5.2
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return office[ext]
	case !isText(head):
	case ext == ".html" || ext == ".htm" || ext == ".xhtml":
		return "text/html"
	case ext == ".txt" || ext == ".text" || ext == ".md":
		return "text/plain"
	}
	return ""
}

// isText reports whether what begins so can be text: one of UTF-16 has its mark.
func isText(head []byte) bool {
	marked := bytes.HasPrefix(head, []byte("\xff\xfe")) || bytes.HasPrefix(head, []byte("\xfe\xff"))
	return marked || len(head) > 0 && bytes.IndexByte(head, 0) < 0
}

// Match implements [Reader].
func (v documents) Match(p string, head []byte) bool { return v.media(p, head) != "" }

// properties are what a document says of itself.
type properties struct {
	title, author, by, program, locked string
	made, changed                      *record.Time
}

// Read implements [Reader].
func (v documents) Read(file *io.SectionReader, src *Text) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		b, err := whole(file, maxMedia)
		if err != nil {
			yield(nil, err)
			return
		}
		name := src.Path
		if name == "" {
			name = src.Stored
		}
		media := v.media(name, b[:min(len(b), HeadLength)])
		r := &record.Record{Kind: record.Document, State: record.Intact, Origins: []record.Origin{src.whole(v, file)}, Attachments: []record.Attachment{src.itself(file, media)}}
		var p properties
		cut := false
		switch media {
		case "application/pdf":
			p, err = pdf(b)
		case "text/plain":
			r.Text, cut = plain(b)
		case "text/html":
			p.title, r.Text = markup(b[:min(len(b), maxText)])
			r.Text, cut = shortened(r.Text)
		default:
			if p, r.Text, err = archived(b); err == nil {
				r.Text, cut = shortened(r.Text)
			}
		}
		if strings.HasPrefix(media, "text/") && slices.ContainsFunc(strings.Split(strings.ToLower(path.Dir(name)), "/"), func(s string) bool { return s == "notes" }) {
			r.Kind = record.Jotting
		}
		for _, t := range []*record.Time{p.changed, p.made} {
			if t != nil {
				r.Times = append(r.Times, t.Doubted(src.Made))
			}
		}
		said := ""
		if cut {
			said = fmt.Sprintf("the first %d bytes of the text", maxSaid)
		}
		for _, f := range []record.Fact{{Name: record.Title, Value: p.title}, {Name: record.Locked, Value: p.locked}, {Name: "Author", Value: p.author}, {Name: "Last changed by", Value: p.by}, {Name: "Program", Value: p.program}, {Name: "Shown here", Value: said}} {
			if f.Value = strings.TrimSpace(f.Value); f.Value != "" {
				r.Facts = append(r.Facts, f)
			}
		}
		if !yield(src.finish(r), nil) {
			return
		}
		if err != nil {
			yield(nil, err)
		}
	}
}

// shortened is as much of a text as is kept.
func shortened(s string) (string, bool) {
	s = strings.TrimSpace(s)
	if len(s) <= maxSaid {
		return s, false
	}
	n := maxSaid
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return s[:n], true
}

// plain reads a plain text: UTF-8, or UTF-16 with its mark, or what the library takes it for.
func plain(b []byte) (string, bool) {
	if utf8.Valid(b) {
		return shortened(strings.TrimPrefix(string(b), "\ufeff"))
	}
	enc, _, _ := charset.DetermineEncoding(b[:min(len(b), 1024)], "text/plain")
	out, err := io.ReadAll(io.LimitReader(enc.NewDecoder().Reader(bytes.NewReader(b)), maxSaid+utf8.UTFMax))
	if err != nil {
		out = bytes.ToValidUTF8(b, []byte("\ufffd"))
	}
	return shortened(strings.TrimPrefix(string(out), "\ufeff"))
}

// silent are elements of which the text is not shown; breaks are those that begin a line.
var (
	silent = []string{"script", "style", "head", "template", "noscript"}
	breaks = []string{"p", "div", "br", "li", "tr", "h1", "h2", "h3", "h4", "h5", "h6", "blockquote", "pre", "ul", "ol", "table", "section", "article"}
)

// markup reads the title of an HTML text, and what it says without its markup.
func markup(b []byte) (title, text string) {
	r, err := charset.NewReader(bytes.NewReader(b), "text/html")
	if err != nil {
		return "", ""
	}
	t := html.NewTokenizer(r)
	t.SetMaxBuf(maxSaid)
	var out strings.Builder
	in, hidden := "", 0
	for {
		kind := t.Next()
		if kind == html.ErrorToken {
			break
		}
		name := ""
		if kind == html.StartTagToken || kind == html.EndTagToken || kind == html.SelfClosingTagToken {
			n, _ := t.TagName()
			name = string(n)
		}
		switch kind {
		case html.StartTagToken:
			if in = name; slices.Contains(silent, name) {
				hidden++
			}
		case html.EndTagToken:
			if in = ""; slices.Contains(silent, name) && hidden > 0 {
				hidden--
			}
		case html.TextToken:
			if s := string(t.Text()); in == "title" {
				title = strings.Join(strings.Fields(s), " ")
			} else if hidden == 0 {
				if words := strings.Join(strings.Fields(s), " "); words != "" {
					if out.Len() > 0 && !strings.HasSuffix(out.String()[out.Len()-1:], "\n") && (s[0] == ' ' || s[0] == '\n' || s[0] == '\t') {
						out.WriteByte(' ')
					}
					out.WriteString(words)
					if strings.TrimRight(s, " \t\r\n") != s {
						out.WriteByte(' ')
					}
				}
			}
		}
		if slices.Contains(breaks, name) && out.Len() > 0 && out.String()[out.Len()-1] != '\n' {
			out.WriteByte('\n')
		}
		if out.Len() > 2*maxSaid {
			break
		}
	}
	lines := strings.Split(out.String(), "\n")
	for i := range lines {
		lines[i] = strings.Join(strings.Fields(lines[i]), " ")
	}
	return title, strings.TrimSpace(strings.Join(lines, "\n"))
}

const (
	maxMember  = 8 << 20 // bytes of a part of a document, unpacked
	maxMembers = 10_000
)

// archived reads an office document: its properties (ISO/IEC 29500-2 section 11; OpenDocument 1.2 part 1 section 4.3), and
// the text of one that is written.
func archived(b []byte) (p properties, text string, err error) {
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return p, "", err
	}
	if len(z.File) > maxMembers {
		return p, "", fmt.Errorf("it has %d parts, and more than %d are not read", len(z.File), maxMembers)
	}
	for _, f := range z.File {
		var e error
		switch f.Name {
		case "docProps/core.xml", "meta.xml":
			e = inside(f, p.element)
		case "docProps/app.xml":
			e = inside(f, func(path []string, s string) {
				if path[len(path)-1] == "Application" {
					p.program = s
				}
			})
		case "word/document.xml", "content.xml":
			var out strings.Builder
			e = inside(f, func(path []string, s string) {
				switch name := path[len(path)-1]; {
				case name == "/p" || name == "/h":
					out.WriteByte('\n')
				case name == "tab":
					out.WriteByte('\t')
				case s == "":
				case name == "t" || slices.Contains(path, "p") || slices.Contains(path, "h"):
					out.WriteString(s)
				}
			})
			text = out.String()
		}
		if e != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", f.Name, e))
		}
	}
	return p, text, err
}

// element takes a property over.
func (p *properties) element(path []string, s string) {
	if s = strings.TrimSpace(s); s == "" {
		return
	}
	switch path[len(path)-1] {
	case "title":
		p.title = s
	case "creator", "initial-creator":
		if p.author == "" || path[len(path)-1] == "initial-creator" {
			if p.author != "" {
				p.by = p.author
			}
			p.author = s
		} else {
			p.by = s
		}
	case "lastModifiedBy":
		p.by = s
	case "generator":
		p.program = s
	case "created", "creation-date":
		p.made = at("made", s)
	case "modified", "date":
		p.changed = at("changed", s)
	}
}

func at(role, s string) *record.Time {
	t := instant(role, s, nil)
	return &t
}

// inside calls each for every text of a part, with the local names of the elements that it stands in, and with
// "/" before its name at the end of every element.
func inside(f *zip.File, each func(path []string, text string)) error {
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	d := xml.NewDecoder(io.LimitReader(r, maxMember))
	d.CharsetReader = charset.NewReaderLabel
	var in []string
	for {
		t, err := d.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		switch t := t.(type) {
		case xml.StartElement:
			if in = append(in, t.Name.Local); len(in) > 256 {
				return errors.New("its elements lie more than 256 deep")
			}
			each(in, "")
		case xml.EndElement:
			each([]string{"/" + t.Name.Local}, "")
			in = in[:len(in)-1]
		case xml.CharData:
			if len(in) > 0 {
				each(in, string(t))
			}
		}
	}
}

// Of a PDF's dates the offset is written with apostrophes (ISO 32000-1 section 7.9.4).
func pdfTime(role, s string) *record.Time {
	t := record.Time{Role: role, Stored: s}
	bare := strings.ReplaceAll(strings.TrimPrefix(s, "D:"), "'", "")
	for _, form := range []string{"20060102150405Z0700", "20060102150405Z07", "20060102150405Z0000", "20060102150405Z"} {
		if at, err := time.Parse(form, bare); err == nil {
			utc := at.UTC()
			t.At = &utc
			return &t
		}
	}
	for _, form := range []string{"20060102150405", "200601021504", "20060102"} {
		if at, err := time.Parse(form, bare); err == nil {
			t.Local = at.Format("2006-01-02T15:04:05")
			return &t
		}
	}
	if s == "" {
		return nil
	}
	return &t
}
