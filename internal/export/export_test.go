package export

import (
	"archive/zip"
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"iter"
	"mime"
	"mime/quotedprintable"
	"net/mail"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"crosswind/core/record"
	"crosswind/core/report"

	"github.com/emersion/go-ical"
	"github.com/emersion/go-vcard"
	"github.com/xuri/excelize/v2"
)

var noon = time.Date(2026, 9, 11, 12, 0, 0, 0, time.UTC)

// lines are records of the kinds that formats know, with content that would break them. They are made up.
func lines() iter.Seq2[*Line, error] {
	row, accuracy := record.Int(7), 12.5
	at := func(role string, after time.Duration) record.Time {
		t := noon.Add(after)
		return record.Time{Role: role, At: &t}
	}
	all := []*record.Record{
		{Kind: record.Message, State: record.Recovered, Times: []record.Time{at("sent", 0)}, Direction: "in", Text: "=HYPERLINK(\"http://a.example\")\r\nEND:VCARD <script>alert(1)</script> \u202e",
			Parties: []record.Party{{Role: "from", Handle: "+44 7700 900417", Normal: "+447700900417", Name: "-Ketil"}}, Conversation: &record.Conversation{Key: "7", Title: "@cmd"}},
		{Kind: record.Contact, State: record.Intact, Times: []record.Time{at("changed", time.Minute)}, Text: "Maren; O., née\nEND:VCARD\x01", Facts: []record.Fact{{Name: record.Note, Value: "store key"}},
			Parties: []record.Party{{Handle: "+44 7700 900288", Normal: "+447700900288"}, {Handle: "maren@example.org", Normal: "maren@example.org"}}},
		{Kind: record.Event, State: record.Intact, Times: []record.Time{at("began", time.Hour), at("ended", 2*time.Hour)}, Text: "inventory, first\nEND:VEVENT", Facts: []record.Fact{{Name: record.Repeats, Value: "FREQ=WEEKLY;COUNT=4"}, {Name: record.Location, Value: "instrument store"}}},
		{Kind: record.Photograph, State: record.Held, Times: []record.Time{at("taken", 3*time.Hour)}, Text: "six </trk>", Place: &record.Place{Latitude: -38.5, Longitude: -24.25, Accuracy: &accuracy}},
		{Kind: "fix", State: record.Intact, Times: []record.Time{at("taken", 5*time.Hour)}, Place: &record.Place{Latitude: -38.6, Longitude: -24.25}},
		{Kind: "fix", State: record.Intact, Times: []record.Time{at("taken", 4*time.Hour)}, Place: &record.Place{Latitude: -38.7, Longitude: -24.25}},
		{Kind: record.Message, State: record.Intact, Text: "without a time"},
	}
	return func(yield func(*Line, error) bool) {
		for i, r := range all {
			r.UID = fmt.Sprintf("%064d", i)
			r.Origins = []record.Origin{{Path: "/data/x.db", Table: "t", RowID: &row, Place: "live row", Confidence: 0.5}}
			if !yield(&Line{Record: r, Exhibit: "1-A", Acquisition: 1, Mark: "+because"}, nil) {
				return
			}
		}
	}
}

var head = Head{Case: "T-1", Title: "Test", What: "7 records", Zone: time.UTC, At: noon, By: "R. Aske", Tool: "Crosswind"}

func written(t *testing.T, name string, records, left int) []byte {
	t.Helper()
	f, err := FormatOf(name)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	n, l, err := f.Write(&b, head, lines())
	if err != nil || n != records || l != left {
		t.Fatalf("%s: %d written, %d left, %v", name, n, l, err)
	}
	return b.Bytes()
}

// What is written is read by libraries of other origins, and says the same; no cell begins a formula.
func TestFormatsAreReadByOthers(t *testing.T) {
	rows, err := csv.NewReader(bytes.NewReader(written(t, "csv", 7, 0))).ReadAll() // RFC 4180
	if err != nil || len(rows) != 8 || rows[1][9] != "'=HYPERLINK(\"http://a.example\")\nEND:VCARD <script>alert(1)</script> \u202e" || rows[1][7] != "'+44 7700 900417" || rows[1][0] != "2026-09-11T12:00:00Z" {
		t.Errorf("%q, %v", rows, err)
	}
	book, err := excelize.OpenReader(bytes.NewReader(written(t, "xlsx", 7, 0)))
	if err != nil {
		t.Fatal(err)
	}
	cells, err := book.GetRows("Records")
	if err != nil || len(cells) != 8 {
		t.Fatal(len(cells), err)
	}
	for sheet, n := range map[string]int{"Records": 8, "About": 8} {
		for y := range n {
			for x := range len(columns) {
				at, _ := excelize.CoordinatesToCellName(x+1, y+1)
				formula, _ := book.GetCellFormula(sheet, at)
				if s, _ := book.GetCellValue(sheet, at); formula != "" || s != "" && strings.ContainsRune("=+-@", rune(s[0])) {
					t.Errorf("%s of %s is %q, a formula %q", at, sheet, s, formula)
				}
			}
		}
	}
	card, err := vcard.NewDecoder(bytes.NewReader(written(t, "vcf", 1, 6))).Decode()
	if err != nil || card.Value("FN") != "Maren; O., née\nEND:VCARD" || card.Value("TEL") != "+44 7700 900288" || card.Value("EMAIL") != "maren@example.org" || !strings.HasPrefix(card.Value("NOTE"), "store key\nIntact; 1-A acquisition 1") {
		t.Errorf("%v, %v", card, err)
	}
	plan := written(t, "ics", 1, 6)
	for line := range strings.SplitSeq(string(plan)+string(written(t, "vcf", 1, 6)), "\r\n") {
		if len(line) > 75 || !utf8.ValidString(line) { // RFC 5545 and RFC 6350, section 3.1 and 3.2
			t.Errorf("a line of %d octets: %q", len(line), line)
		}
	}
	cal, err := ical.NewDecoder(bytes.NewReader(plan)).Decode()
	if err != nil || len(cal.Events()) != 1 {
		t.Fatal(cal, err)
	}
	e := cal.Events()[0]
	end, err1 := e.DateTimeEnd(time.UTC)
	said, err2 := e.Props.Text("SUMMARY")
	if err1 != nil || err2 != nil || !end.Equal(noon.Add(2*time.Hour)) || said != "inventory, first\nEND:VEVENT" || e.Props.Get("RRULE") == nil {
		t.Errorf("%v, %q, %v, %v", end, said, err1, err2)
	}
	var geo struct {
		Type     string
		Features []struct {
			Geometry   struct{ Coordinates []float64 }
			Properties map[string]any
		}
	}
	if err := json.Unmarshal(written(t, "geojson", 3, 4), &geo); err != nil || len(geo.Features) != 3 || geo.Features[0].Geometry.Coordinates[0] != -24.25 || geo.Features[0].Properties["accuracy_m"] != 12.5 {
		t.Errorf("%+v, %v", geo, err)
	}
	var way struct {
		Points []struct {
			Lat  string `xml:"lat,attr"`
			Name string `xml:"name"`
		} `xml:"wpt"`
		Tracks []struct {
			Times []string `xml:"trkseg>trkpt>time"`
		} `xml:"trk"`
	}
	if err := xml.Unmarshal(written(t, "gpx", 3, 4), &way); err != nil || len(way.Points) != 1 || way.Points[0].Name != "Photograph: six </trk>" || len(way.Tracks) != 1 || fmt.Sprint(way.Tracks[0].Times) != "[2026-09-11T16:00:00Z 2026-09-11T17:00:00Z]" {
		t.Errorf("%+v, %v", way, err)
	}
	if n := bytes.Count(written(t, "jsonl", 7, 0), []byte("\n")); n != 7 {
		t.Errorf("%d lines", n)
	}
	if page := string(written(t, "html", 7, 0)); strings.Contains(page, "<script") || strings.Contains(page, "http://") && !strings.Contains(page, "&#34;http://") || strings.Count(page, "<article") != 7 || !strings.Contains(page, "Without a time") {
		t.Error(page)
	}
	if text := string(written(t, "txt", 7, 0)); strings.Count(text, "record 0000") != 7 || !strings.Contains(text, "Friday, 11 September 2026\n--------") {
		t.Error(text)
	}
}

// letters are mail, with content that would break a mailbox. They are made up.
func letters(yield func(*Line, error) bool) {
	for i, text := range []string{"dear K,\nFrom now on the side gate\n>From there on foot\n\nFrom me", "кость \u202e 骨\r\n.\r\nend"} {
		at := noon.Add(time.Duration(i) * time.Hour)
		r := &record.Record{UID: fmt.Sprintf("%064d", i), Kind: record.Mail, State: record.Intact, Times: []record.Time{{Role: "sent", At: &at}}, Text: text, Facts: []record.Fact{{Name: record.Title, Value: "Тема\r\nBcc: x@a.example, " + text[:4]}},
			Parties: []record.Party{{Role: "from", Handle: "maren@example.org", Name: "Maren \"M\", O.\n"}, {Role: "to", Handle: "k@harbour.example"}}, Origins: []record.Origin{{Path: "/mail/box", Place: record.PlacePart}},
			Conversation: &record.Conversation{Key: fmt.Sprint("k", i), Title: "CON"}}
		if !yield(&Line{Record: r, Exhibit: "1-A", Acquisition: 1}, nil) {
			return
		}
	}
}

// A mailbox is read as it was by the standard library's reader of messages (RFC 5322), once it is divided at the lines that begin
// one (RFC 4155), and what a header says cannot add another.
func TestMailbox(t *testing.T) {
	f, _ := FormatOf("mbox")
	var b bytes.Buffer
	if n, left, err := f.Write(&b, head, letters); err != nil || n != 2 || left != 0 {
		t.Fatal(n, left, err)
	}
	parts := regexp.MustCompile(`(?m)^From maren@example\.org Fri Sep 11 1[23]:00:00 2026$\n`).Split(b.String(), -1)
	if len(parts) != 3 || parts[0] != "" || regexp.MustCompile(`(?m)^From `).MatchString(parts[1]+parts[2]) {
		t.Fatalf("%q", parts)
	}
	i := 0
	for l := range letters {
		m, err := mail.ReadMessage(strings.NewReader(regexp.MustCompile(`(?m)^>(>*From )`).ReplaceAllString(parts[i+1], "$1")))
		if err != nil {
			t.Fatal(err)
		}
		i++
		from, err1 := m.Header.AddressList("From")
		at, err2 := m.Header.Date()
		subject, err3 := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
		var body io.Reader = m.Body
		switch m.Header.Get("Content-Transfer-Encoding") {
		case "quoted-printable":
			body = quotedprintable.NewReader(body)
		case "base64":
			body = base64.NewDecoder(base64.StdEncoding, body)
		}
		said, err4 := io.ReadAll(body)
		want := strings.ReplaceAll(l.Text, "\r\n", "\n")
		if err := cmp.Or(err1, err2, err3, err4); err != nil || from[0].Address != "maren@example.org" || from[0].Name != `Maren "M", O.` || !at.Equal(*l.At()) || m.Header.Get("Bcc") != "" || !strings.HasPrefix(subject, "Тема Bcc: x@a.example") || strings.TrimRight(strings.ReplaceAll(string(said), "\r\n", "\n"), "\n") != want {
			t.Errorf("%v: %v, %v, %q, %q, want %q", err, from, at, subject, said, want)
		}
	}
}

// Each conversation is a text of its own, of a name that any file system takes, with all that was said in it.
func TestConversations(t *testing.T) {
	f, _ := FormatOf("zip")
	var b bytes.Buffer
	n, left, err := f.Write(&b, head, func(yield func(*Line, error) bool) {
		for _, all := range []iter.Seq2[*Line, error]{letters, lines(), letters} {
			for l, err := range all {
				if !yield(l, err) {
					return
				}
			}
		}
	})
	if err != nil || n != 5 || left != 6 {
		t.Fatal(n, left, err)
	}
	z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, e := range z.File {
		in, err := e.Open()
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(in)
		if n := bytes.Count(text, []byte("; record 0000")); err != nil || n != map[string]int{"0001 CON.txt": 2, "0002 CON.txt": 2, "0003 cmd.txt": 1}[e.Name] || bytes.Count(text, []byte("Taken out 2026")) != 1 || bytes.Count(text, []byte("Friday, 11 September")) != 1 {
			t.Errorf("%s: %d records, %v\n%s", e.Name, n, err, text)
		}
		names = append(names, e.Name)
	}
	if len(names) != 3 {
		t.Error(names)
	}
	for words, want := range map[string]string{"../../etc/passwd\x00": "etc passwd", "": "without a name", "\u202e a:b*c?": "a b c", strings.Repeat("é", 50): strings.Repeat("é", 30)} {
		if got := FileName(words); got != want {
			t.Errorf("%q: %q, want %q", words, got, want)
		}
	}
}

// An error among the records ends what is written, and is told.
func TestBrokenRecords(t *testing.T) {
	f, _ := FormatOf("csv")
	_, _, err := f.Write(io.Discard, Head{Zone: time.UTC}, func(yield func(*Line, error) bool) { yield(nil, io.ErrUnexpectedEOF) })
	if err != io.ErrUnexpectedEOF {
		t.Error(err)
	}
	if _, err := FormatOf("doc"); err == nil {
		t.Error("a format that there is not")
	}
}

// For print, records stand day by day; without a typesetter they are not set, nor are too many.
func TestPaper(t *testing.T) {
	f, err := FormatOf("pdf")
	if err != nil {
		t.Fatal(err)
	}
	var set *report.Report
	h := head
	h.Set = func(w io.Writer, r *report.Report) error {
		set = r
		_, err := io.WriteString(w, "%PDF")
		return err
	}
	var b bytes.Buffer
	if n, _, err := f.Write(&b, h, lines()); err != nil || n != 7 || b.String() != "%PDF" {
		t.Fatal(n, err, b.String())
	}
	if len(set.Parts) != 2 || set.Parts[0].Title != "Friday, 11 September 2026" || set.Parts[1].Title != "Without a time" || len(set.Parts[0].Blocks) != 6 || !set.Parts[0].Blocks[0].(*report.Record).Below {
		t.Errorf("%+v", set.Parts)
	}
	if _, _, err := f.Write(&b, head, lines()); !errors.Is(err, ErrPaper) {
		t.Errorf("without a typesetter: %v", err)
	}
	many := func(yield func(*Line, error) bool) {
		for range MostPaper + 1 {
			if !yield(&Line{Record: &record.Record{Kind: record.Message}}, nil) {
				return
			}
		}
	}
	if _, _, err := f.Write(&b, h, many); !errors.Is(err, ErrPaper) {
		t.Errorf("too many: %v", err)
	}
}
