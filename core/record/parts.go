package record

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Place is where something was.
type Place struct {
	Latitude  float64  `json:"latitude"`           // degrees, WGS 84, north is positive
	Longitude float64  `json:"longitude"`          // degrees, WGS 84, east is positive
	Accuracy  *float64 `json:"accuracy,omitempty"` // metres
	Altitude  *float64 `json:"altitude,omitempty"` // metres
	Stored    string   `json:"stored"`             // both coordinates as stored, with a comma
}

// Known reports whether there is such a place.
func (p *Place) Known() bool {
	return p.Latitude >= -90 && p.Latitude <= 90 && p.Longitude >= -180 && p.Longitude <= 180
}

// Reach is how accurate the place is said to be, in metres, at least one.
func (p *Place) Reach() float64 {
	if p.Accuracy == nil || !(*p.Accuracy > 1 && *p.Accuracy < 1e7) {
		return 1
	}
	return *p.Accuracy
}

// String writes a place in decimal degrees, latitude first (ISO 6709), with its accuracy.
func (p *Place) String() string {
	s := coordinate(p.Latitude) + ", " + coordinate(p.Longitude)
	if p.Accuracy != nil {
		s += " ± " + strconv.FormatFloat(*p.Accuracy, 'f', -1, 64) + " m"
	}
	return s
}

// coordinate writes degrees to some 11 cm.
func coordinate(f float64) string { return strconv.FormatFloat(f, 'f', 6, 64) }

// Attachment is a file that belongs to a record.
type Attachment struct {
	Name    string `json:"name,omitempty"`
	Type    string `json:"type,omitempty"`    // media type, as the source says
	Size    *Int   `json:"size,omitempty"`    // bytes, as the source says
	Path    string `json:"path,omitempty"`    // on the handset
	SHA256  string `json:"sha256,omitempty"`  // of its bytes, hex, if they were read
	Parts   []Span `json:"parts,omitempty"`   // where its bytes lie if it is no file of its own, in their order
	Coding  string `json:"coding,omitempty"`  // Base64 if its parts are written so, "" if they are its bytes
	Missing string `json:"missing,omitempty"` // why they were not
}

// Base64 is the coding of RFC 2045 section 6.8: what is no digit of it means nothing.
const Base64 = "base64"

// Decoded gives the bytes of a that its parts, one behind the other, are.
func (a Attachment) Decoded(parts []byte) ([]byte, error) {
	switch a.Coding {
	case "":
		return parts, nil
	case Base64:
		digits := bytes.Map(func(c rune) rune {
			if c == '+' || c == '/' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' {
				return c
			}
			return -1
		}, parts)
		return base64.RawStdEncoding.AppendDecode(nil, digits)
	}
	return nil, fmt.Errorf("record: no coding %q is known", a.Coding)
}

// Span is a run of bytes of a file.
type Span struct {
	Stored string `json:"stored,omitempty"` // of the file below the source, and
	SHA256 string `json:"sha256,omitempty"` // its own, hex; both left out if it is the file that proves the record
	Offset int64  `json:"offset"`
	Length int    `json:"length"`
}

// In is the file that a span of an attachment of r lies in.
func (s Span) In(r *Record) (stored, sha256 string) {
	if s.Stored == "" {
		return r.Origin().Stored, r.Origin().SHA256
	}
	return s.Stored, s.SHA256
}

// Why the bytes of an attachment were not read.
const (
	NotInSource = "not in the source"
	WithinIt    = "part of the record's own bytes"
	NoPath      = "its path did not survive"
	NotWhole    = "its bytes did not survive whole"
)

// Title is what an attachment is called: its name, or what else it is told by.
func (a Attachment) Title() string {
	for _, s := range []string{a.Name, a.Path[strings.LastIndexByte(a.Path, '/')+1:], a.Type} {
		if s != "" {
			return s
		}
	}
	return "attachment"
}

// Unit is what a number counts.
type Unit string

// The units of facts.
const (
	Seconds Unit = "s"
	Bytes   Unit = "bytes"
	Metres  Unit = "m"
)

// Fact is a further value of a record, under its name.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`          // a decimal number if it has a unit
	Unit  Unit   `json:"unit,omitempty"` // of a standard name the one that the table says
}

// The standard names of facts.
const (
	Duration     = "Duration"
	Outcome      = "Outcome" // what became of it, or happened to it
	WebAddress   = "Web address"
	Title        = "Title"
	OfFile       = "Of the file" // of what a small picture was made
	Locked       = "Locked"      // that its text cannot be read without a secret
	Note         = "Note"
	MadeBy       = "Made by" // the device that says so of itself
	Pixels       = "Pixels"  // width and height
	Organisation = "Organisation"
	Location     = "Location"
	Repeats      = "Repeats"
	Identifier   = "Identifier"      // by which the source itself tells it from others
	LaterVersion = "A later version" // what a later version of the same file has of it
	NoPlace      = "No such place"   // coordinates, as stored, that are none
	FileFound    = "File"            // of one that is no live file of its volume, how it was found
	KeptAs       = "Kept as"         // that texts are not written as they were read
)

// units are those of the standard names that are measured.
var units = map[string]Unit{Duration: Seconds}

// UnitOf is the unit of a fact of a standard name; known is false for other names.
func UnitOf(name string) (u Unit, known bool) {
	u, known = units[name]
	known = known || slices.Contains([]string{Outcome, WebAddress, Title, OfFile, Locked, Note, MadeBy, Pixels, Organisation, Location, Repeats, Identifier, LaterVersion, NoPlace, KeptAs}, name)
	return u, known
}

// Words writes a fact's value to be read.
func (f Fact) Words() string {
	switch f.Unit {
	case "":
		return f.Value
	case Seconds:
		if n, err := strconv.ParseFloat(f.Value, 64); err == nil && n >= 1 && n < 1e9 { // an exposure is a fraction
			return fmt.Sprintf("%d min %02d s", int(n)/60, int(n)%60)
		}
	}
	return f.Value + " " + string(f.Unit)
}

// Fact gives a fact of r; its value is "" if r has none of that name.
func (r *Record) Fact(name string) Fact {
	for _, f := range r.Facts {
		if f.Name == name {
			return f
		}
	}
	return Fact{Name: name}
}

// Summary is what a list shows of r: its text, or of a kind without one what stands there.
func (r *Record) Summary() string {
	if r.Text != "" {
		return r.Text
	}
	for _, name := range r.Kind.About().Says {
		if f := r.Column(name); f.Value != "" {
			return f.Words()
		}
	}
	return ""
}

// The names of columns that are not those of facts, or the roles of times.
const (
	InConversation  = "Conversation"
	WhichWay        = "Direction"
	WithAttachments = "Attachments"
	AtPlace         = "Place"
)

// Column gives what r has under the name of a column, as a fact: a part of it, a time by its
// role (RFC 3339, or a local time without a zone), or a fact. Its value is "" if r has nothing.
func (r *Record) Column(name string) Fact {
	f := Fact{Name: name}
	switch {
	case name == InConversation:
		if f.Value = r.ThreadTitle(); f.Value == "" {
			f.Value = r.Thread()
		}
	case name == WhichWay:
		f.Value = r.Direction
	case name == WithAttachments:
		var all []string
		for i, a := range r.Attachments {
			if i > 0 && len(a.Parts) > 0 && r.Attachments[0].SHA256 == r.Origin().SHA256 {
				continue // of what lies within the file that the record is
			}
			all = append(all, a.Title())
		}
		f.Value = strings.Join(all, ", ")
	case name == AtPlace && r.Place != nil:
		f.Value = r.Place.String()
	case name == AtPlace:
	case slices.Contains(Roles, name):
		switch t := r.timeOf(name); {
		case t.At != nil:
			f.Value = t.At.UTC().Format(time.RFC3339Nano)
		default:
			f.Value = t.Local
		}
	default:
		return r.Fact(name)
	}
	return f
}

// timeOf is the first time of r of a role, the zero Time if it has none.
func (r *Record) timeOf(role string) Time {
	for _, t := range r.Times {
		if t.Role == role {
			return t
		}
	}
	return Time{}
}

// Bytes is the size of the largest file that belongs to r, nil if the source gives none.
func (r *Record) Bytes() (n *int64) {
	for _, a := range r.Attachments {
		if a.Size != nil && (n == nil || int64(*a.Size) > *n) {
			n = (*int64)(a.Size)
		}
	}
	return n
}

// Files are the SHA-256, hex, of the files that belong to r.
func (r *Record) Files() (out []string) {
	for _, a := range r.Attachments {
		if a.SHA256 != "" {
			out = append(out, a.SHA256)
		}
	}
	return out
}

// FileTypes are the types of the files that belong to r: their media types (RFC 6838), without parameters, and the
// endings of their names, with the dot, all in lower case.
func (r *Record) FileTypes() (out []string) {
	for _, a := range r.Attachments {
		t, _, _ := strings.Cut(a.Type, ";")
		for _, s := range []string{strings.TrimSpace(t), path.Ext(a.Path), path.Ext(a.Name)} {
			if s = strings.ToLower(s); len(s) > 1 && len(s) < 100 && !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	return out
}

// Deleted is when, by the source itself, what r tells of was deleted; nil if it does not say.
func (r *Record) Deleted() *time.Time {
	if t := r.timeOf("deleted"); t.Doubt == "" {
		return t.At
	}
	return nil
}

// HiddenPath reports whether a path is of what systems by custom do not show: its name, or that of a folder of it, begins with a dot.
func HiddenPath(p string) bool { return strings.Contains(p, "/.") }
