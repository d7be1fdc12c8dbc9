// Package export writes records in open formats, for programs that know nothing of this one: tables, text, a web page, contact
// cards, calendars, places.
//
// Nothing that it writes runs anything: cells that would begin a formula begin with an apostrophe, markup is text.
package export

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/record"
	"crosswind/core/report"
)

// Line is a record with where it came from, and its mark.
type Line = casefile.RecordLine

// Head says of what is written what it is.
type Head struct {
	Case, Title string
	What        string // which records these are, in words
	Zone        *time.Location
	At          time.Time
	By, Tool    string
	// Open opens the nth attachment of the record that is being written, as it was on the handset; ErrWithheld if it is not
	// handed out. It is nil where no files are.
	Open func(l *Line, n int) (io.ReadCloser, error)
	// Set writes a report that is set as PDF, nil where that cannot be.
	Set func(io.Writer, *report.Report) error
}

// ErrWithheld is of an attachment that is not handed out, or is not there.
var ErrWithheld = errors.New("export: it is withheld, or not there")

// Format is a form in which records are written.
type Format struct {
	Name   string // in addresses
	Title  string
	Media  string // media type
	Holds  string // which records it can hold, in words; "" if all
	takes  func(*record.Record) bool
	writer func(io.Writer, Head) (writer, error)
}

type writer interface {
	write(*Line) error
	close() error
}

// The forms of which a set is made, too.
var (
	asTable    = Format{"csv", "CSV", "text/csv; charset=utf-8", "", nil, newCSV}
	asTalks    = Format{"zip", "A text for each conversation (ZIP)", "application/zip", "records of conversations", func(r *record.Record) bool { return r.Conversation != nil && r.Conversation.Key != "" }, newTalks}
	asMailbox  = Format{"mbox", "Mailbox (mbox)", "application/mbox", "mail", func(r *record.Record) bool { return r.Kind.About().Letter }, newMailbox}
	asCards    = Format{"vcf", "Contact cards (vCard)", "text/vcard; charset=utf-8", "cards of people", func(r *record.Record) bool { return r.Kind.Card() }, newCards}
	asCalendar = Format{"ics", "Calendar (iCalendar)", "text/calendar; charset=utf-8", "what was planned, with a time", func(r *record.Record) bool { return r.Kind.About().Group == record.Plans && r.At() != nil }, newCalendar}
	asTracks   = Format{"gpx", "Places (GPX)", "application/gpx+xml", "records with a place", placed, newGPX}
)

// Formats are the forms that there are.
var Formats = []Format{
	asTable,
	{"xlsx", "Spreadsheet (xlsx)", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", "", nil, newSheet},
	{"jsonl", "JSON Lines", "application/jsonl", "", nil, newLines},
	{"jsonld", "CASE/UCO (JSON-LD)", "application/ld+json", "", nil, newGraph},
	{"txt", "Plain text", "text/plain; charset=utf-8", "", nil, newText},
	{"html", "Web page", "text/html; charset=utf-8", "", nil, newPage},
	asTalks,
	{"pdf", "PDF, for print", "application/pdf", "", nil, newPaper},
	{"set", "Everything by kind, with its files (ZIP)", "application/zip", "", nil, newSet},
	asMailbox,
	asCards,
	asCalendar,
	{"geojson", "Places (GeoJSON)", "application/geo+json", "records with a place", placed, newGeoJSON},
	asTracks,
}

// Ending is what names of files in the format end in.
func (f *Format) Ending() string {
	if f.Name == "set" {
		return "zip"
	}
	return f.Name
}

func placed(r *record.Record) bool { return r.Place != nil && r.Place.Known() }

// ErrFormat is of a name that no format has.
var ErrFormat = errors.New("export: there is no such format")

// FormatOf finds a format by its name.
func FormatOf(name string) (*Format, error) {
	for i := range Formats {
		if Formats[i].Name == name {
			return &Formats[i], nil
		}
	}
	return nil, fmt.Errorf("%w: %q", ErrFormat, name)
}

// Write writes those of the records that f can hold, in their order, and says how many these are, and how many it left out.
func (f *Format) Write(w io.Writer, head Head, lines iter.Seq2[*Line, error]) (written, left int, err error) {
	to, err := f.writer(w, head)
	if err != nil {
		return 0, 0, err
	}
	for l, err := range lines {
		if err != nil {
			return written, left, err
		}
		if f.takes != nil && !f.takes(l.Record) {
			left++
			continue
		}
		if err := to.write(l); err != nil {
			return written, left, fmt.Errorf("export: writing record %s: %w", l.UID, err)
		}
		written++
	}
	return written, left, to.close()
}

// columns are those of tables.
var columns = []string{"time_utc", "time_local", "kind", "state", "place", "direction", "person", "handle", "conversation", "text", "further", "attachments", "latitude", "longitude", "accuracy_m", "mark",
	"exhibit", "acquisition", "file", "table", "row", "page", "offset", "length", "bytes_sha256", "confidence", "record"}

// cells are what a record has in columns.
func cells(l *Line, zone *time.Location) []string {
	o := l.Origin()
	at, local := times(l, zone)
	var lat, lon, accuracy, row, further string
	if placed(l.Record) {
		lat, lon = fmt.Sprintf("%.7f", l.Place.Latitude), fmt.Sprintf("%.7f", l.Place.Longitude)
		if l.Place.Accuracy != nil {
			accuracy = fmt.Sprint(*l.Place.Accuracy)
		}
	}
	if o.RowID != nil {
		row = fmt.Sprint(int64(*o.RowID))
	}
	var facts []string
	for _, t := range l.Others() {
		if t.At != nil {
			facts = append(facts, t.Role+": "+t.At.UTC().Format(time.RFC3339Nano))
		} else if t.Local != "" {
			facts = append(facts, t.Role+": "+t.Local+" local")
		}
	}
	for _, f := range l.Facts {
		facts = append(facts, f.Name+": "+f.Words())
	}
	further = strings.Join(facts, "; ")
	confidence := ""
	if l.State.Below() {
		confidence = fmt.Sprintf("%.2f", o.Confidence)
	}
	return []string{at, local, l.Kind.Title(), l.State.Title(), l.PlaceWords(), l.Direction, l.Person(), l.Handle(), l.Column(record.InConversation).Value, l.Summary(), further, l.Column(record.WithAttachments).Value,
		lat, lon, accuracy, l.Mark, l.Exhibit, fmt.Sprint(l.Acquisition), o.Path, o.Table, row, fmt.Sprint(o.Page), fmt.Sprint(o.Offset), fmt.Sprint(o.Length), o.Digest, confidence, l.UID}
}

// times are a record's time in UTC and in a zone, both by RFC 3339; empty if it has none.
func times(l *Line, zone *time.Location) (utc, local string) {
	if at := l.At(); at != nil {
		return at.UTC().Format(time.RFC3339Nano), at.In(zone).Format(time.RFC3339)
	}
	return "", ""
}

// safe writes a cell such that no spreadsheet program takes it for a formula.
func safe(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r\n", rune(s[0])) {
		return "'" + s
	}
	return s
}
