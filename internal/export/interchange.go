package export

import (
	"bufio"
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"crosswind/core/people"
	"crosswind/core/record"

	"github.com/emersion/go-ical"
	"github.com/emersion/go-vcard"
	"github.com/teambition/rrule-go"
)

// cards writes contacts by RFC 6350.
type cards struct{ w *vcard.Encoder }

func newCards(w io.Writer, _ Head) (writer, error) { return &cards{vcard.NewEncoder(folder{w})}, nil }

func (c *cards) write(l *Line) error {
	card := vcard.Card{}
	card.SetValue(vcard.FieldVersion, "4.0")
	name := l.Summary()
	if name == "" {
		name = l.Handle()
	}
	card.SetValue(vcard.FieldFormattedName, printable(name))
	card.SetValue(vcard.FieldUID, l.UID)
	for _, p := range l.Parties {
		field := vcard.FieldTelephone
		switch people.Scheme(p.Normal) {
		case people.Mail:
			field = vcard.FieldEmail
		case people.Account:
			field = vcard.FieldIMPP
		}
		card.AddValue(field, printable(p.Handle))
	}
	if s := l.Fact(record.Organisation).Value; s != "" {
		card.SetValue(vcard.FieldOrganization, printable(s))
	}
	note := l.Fact(record.Note).Value
	card.SetValue(vcard.FieldNote, printable(strings.TrimPrefix(note+"\n"+l.State.Title()+"; "+source(l), "\n")))
	if at := l.At(); at != nil {
		card.SetRevision(at.UTC())
	}
	return c.w.Encode(card)
}

func (c *cards) close() error { return nil }

// folder folds lines that are longer than 75 octets (RFC 5545, section 3.1; RFC 6350, section 3.2), which the libraries do not.
// What is written to it are whole lines.
type folder struct{ w io.Writer }

func (f folder) Write(b []byte) (int, error) {
	const most = 75
	var out bytes.Buffer
	for line := range bytes.SplitAfterSeq(b, []byte("\r\n")) {
		for room := most; len(line) > room+len("\r\n"); room = most - 1 {
			n := room
			for n > 0 && !utf8.RuneStart(line[n]) {
				n--
			}
			out.Write(line[:n])
			out.WriteString("\r\n ")
			line = line[n:]
		}
		out.Write(line)
	}
	if _, err := f.w.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(b), nil
}

// printable leaves out control characters but line feeds, which the formats of lines cannot hold.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 && r != '\n' && r != '\t' || r == 0x7f {
			return -1
		}
		return r
	}, s)
}

// calendar writes what was planned by RFC 5545: what begins as an event, what is due as a task, what was written as a journal entry.
type calendar struct {
	w    io.Writer
	head Head
	all  *ical.Calendar
}

func newCalendar(w io.Writer, head Head) (writer, error) {
	c := &calendar{w, head, ical.NewCalendar()}
	c.all.Props.SetText(ical.PropVersion, "2.0")
	c.all.Props.SetText(ical.PropProductID, "-//Crosswind//"+printable(head.Tool)+"//EN")
	return c, nil
}

func (c *calendar) write(l *Line) error {
	name, at := ical.CompJournal, ical.PropDateTimeStart
	switch l.Kind.About().Time {
	case "began":
		name = ical.CompEvent
	case "due":
		name, at = ical.CompToDo, ical.PropDue
	}
	x := ical.NewComponent(name)
	x.Props.SetText(ical.PropUID, l.UID)
	x.Props.SetDateTime(ical.PropDateTimeStamp, c.head.At.UTC())
	x.Props.SetDateTime(at, l.At().UTC())
	if end, err := time.Parse(time.RFC3339, l.Column("ended").Value); err == nil && name == ical.CompEvent && end.After(*l.At()) {
		x.Props.SetDateTime(ical.PropDateTimeEnd, end.UTC())
	}
	x.Props.SetText(ical.PropSummary, printable(l.Summary()))
	if s := l.Fact(record.Location).Value; s != "" && name != ical.CompJournal {
		x.Props.SetText(ical.PropLocation, printable(s))
	}
	if rule, err := rrule.StrToROption(l.Fact(record.Repeats).Value); err == nil && l.Fact(record.Repeats).Value != "" {
		x.Props.SetRecurrenceRule(rule)
	}
	x.Props.SetText(ical.PropDescription, printable(l.State.Title()+"; "+source(l)))
	c.all.Children = append(c.all.Children, x)
	return nil
}

func (c *calendar) close() error {
	if len(c.all.Children) == 0 {
		return nil // a calendar holds one at least: there is nothing to write
	}
	return ical.NewEncoder(folder{c.w}).Encode(c.all)
}

// geoJSON writes places by RFC 7946: a collection of points, longitude first.
type geoJSON struct {
	w    *bufio.Writer
	head Head
	n    int
}

func newGeoJSON(w io.Writer, head Head) (writer, error) {
	g := &geoJSON{w: bufio.NewWriter(w), head: head}
	_, err := g.w.WriteString(`{"type":"FeatureCollection","features":[`)
	return g, err
}

func (g *geoJSON) write(l *Line) error {
	point := []float64{l.Place.Longitude, l.Place.Latitude}
	if a := l.Place.Altitude; a != nil && !math.IsNaN(*a) && !math.IsInf(*a, 0) {
		point = append(point, *a)
	}
	utc, local := times(l, g.head.Zone)
	props := map[string]any{"time": utc, "local": local, "kind": l.Kind.Title(), "state": l.State.Title(), "text": l.Summary(), "exhibit": l.Exhibit, "source": source(l)}
	if a := l.Place.Accuracy; a != nil {
		props["accuracy_m"] = *a
	}
	if l.Mark != "" {
		props["mark"] = l.Mark
	}
	b, err := json.Marshal(map[string]any{"type": "Feature", "id": l.UID, "geometry": map[string]any{"type": "Point", "coordinates": point}, "properties": props})
	if err != nil {
		return err
	}
	if g.n++; g.n > 1 {
		g.w.WriteString(",\n")
	}
	_, err = g.w.Write(b)
	return err
}

func (g *geoJSON) close() error {
	g.w.WriteString("]}\n")
	return g.w.Flush()
}

// gpx writes places by GPX 1.1: where the handset took itself to be as a track an exhibit, all else as points.
type gpx struct {
	w      io.Writer
	head   Head
	points []gpxPoint
	tracks map[string][]gpxPoint
}

type gpxPoint struct {
	Latitude  float64  `xml:"lat,attr"`
	Longitude float64  `xml:"lon,attr"`
	Altitude  *float64 `xml:"ele,omitempty"`
	Time      string   `xml:"time,omitempty"`
	Name      string   `xml:"name,omitempty"`
	Comment   string   `xml:"cmt,omitempty"`
}

func newGPX(w io.Writer, head Head) (writer, error) {
	return &gpx{w: w, head: head, tracks: map[string][]gpxPoint{}}, nil
}

func (g *gpx) write(l *Line) error {
	p := gpxPoint{Latitude: l.Place.Latitude, Longitude: l.Place.Longitude, Altitude: l.Place.Altitude}
	if at := l.At(); at != nil {
		p.Time = at.UTC().Format(time.RFC3339)
	}
	p.Comment = l.State.Title() + "; " + source(l)
	if l.Kind.About().Located && l.At() != nil {
		g.tracks[l.Exhibit] = append(g.tracks[l.Exhibit], p)
		return nil
	}
	p.Name = l.Kind.Title() + ": " + printable(l.Summary())
	g.points = append(g.points, p)
	return nil
}

func (g *gpx) close() error {
	type segment struct {
		Points []gpxPoint `xml:"trkpt"`
	}
	type track struct {
		Name    string  `xml:"name"`
		Segment segment `xml:"trkseg"`
	}
	type metadata struct {
		Name string `xml:"name"`
		Desc string `xml:"desc"`
		Time string `xml:"time"`
	}
	all := struct {
		XMLName  xml.Name   `xml:"gpx"`
		NS       string     `xml:"xmlns,attr"`
		Version  string     `xml:"version,attr"`
		Creator  string     `xml:"creator,attr"`
		Metadata metadata   `xml:"metadata"`
		Points   []gpxPoint `xml:"wpt"`
		Tracks   []track    `xml:"trk"`
	}{NS: "http://www.topografix.com/GPX/1/1", Version: "1.1", Creator: g.head.Tool, Metadata: metadata{g.head.Case, g.head.What, g.head.At.UTC().Format(time.RFC3339)}, Points: g.points}
	var names []string
	for name := range g.tracks {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		t := g.tracks[name]
		slices.SortStableFunc(t, func(a, b gpxPoint) int { return strings.Compare(a.Time, b.Time) })
		all.Tracks = append(all.Tracks, track{name, segment{t}})
	}
	if _, err := io.WriteString(g.w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(g.w)
	e.Indent("", " ")
	if err := e.Encode(all); err != nil {
		return fmt.Errorf("export: writing places: %w", err)
	}
	_, err := io.WriteString(g.w, "\n")
	return err
}
