package reading

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"

	"crosswind/core/media"
	"crosswind/core/people"
	"crosswind/core/record"
)

// vcards reads the cards of vCard 2.1, 3.0 (RFC 2426) and 4.0 (RFC 6350). Each is a contact.
type vcards struct{}

// ID implements [Reader].
func (vcards) ID() string { return "vCard, version 2" }

// Match implements [Reader].
func (vcards) Match(p string, head []byte) bool {
	return begins(head, "VCARD") && (p == "" || strings.EqualFold(path.Ext(p), ".vcf") || strings.EqualFold(path.Ext(p), ".vcard"))
}

// begins reports whether a text begins with a component of a name.
func begins(head []byte, name string) bool {
	s := strings.ToUpper(strings.TrimLeft(strings.TrimPrefix(string(head), "\ufeff"), " \t\r\n"))
	return strings.HasPrefix(s, "BEGIN:"+name)
}

// Read implements [Reader].
func (v vcards) Read(file *io.SectionReader, src *Text) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		content, err := whole(file, maxText)
		if err != nil {
			yield(nil, err)
			return
		}
		cards, err := components(content)
		for _, c := range cards {
			if c.name != "VCARD" {
				if !yield(nil, fmt.Errorf("at offset %d a component %q stands where a card should", c.offset, c.name)) {
					return
				}
				continue
			}
			if !yield(v.card(content, c, src), nil) {
				return
			}
		}
		if err != nil {
			yield(nil, err)
		}
	}
}

// cardFacts are properties that are told as they are, under their names.
var cardFacts = []struct{ property, name string }{
	{"UID", record.Identifier}, {"NICKNAME", "Nickname"}, {"ORG", record.Organisation}, {"TITLE", "Title"}, {"ROLE", "Role"}, {"BDAY", "Birthday"}, {"ANNIVERSARY", "Anniversary"},
	{"ADR", "Address"}, {"URL", "Web page"}, {"NOTE", record.Note}, {"CATEGORIES", "Categories"}, {"RELATED", "Related"},
}

func (v vcards) card(content []byte, c *component, src *Text) *record.Record {
	r := &record.Record{Kind: record.Contact, State: record.Intact, Text: cardName(c), Origins: []record.Origin{src.origin(v, content, c)}}
	for i := range c.props {
		p := &c.props[i]
		switch p.name {
		case "TEL", "EMAIL", "IMPP":
			if handle := cardHandle(p); handle != "" {
				r.Parties = append(r.Parties, party("card", handle, "", src.Country))
			}
		case "REV":
			r.Times = append(r.Times, instant("changed", p.value, nil).Doubted(src.Made))
		case "PHOTO", "SOUND", "LOGO", "KEY":
			if n := p.binary(); n >= 0 {
				r.Attachments = append(r.Attachments, within(content, p, n))
			} else if s := strings.TrimSpace(p.value); s != "" {
				r.Attachments = append(r.Attachments, record.Attachment{Name: strings.ToLower(p.name), Path: s, Missing: record.NotInSource})
			}
		case "GEO": // of 2.1 and 3.0 two numbers, of 4.0 a URI
			r.Place = cmp.Or(r.Place, geo(p.value, ";"), geo(p.value, ","))
		}
	}
	for _, f := range cardFacts {
		for i := range c.props {
			if p := &c.props[i]; p.name == f.property {
				var parts []string
				for _, s := range structured(p.value) {
					if s != "" {
						parts = append(parts, s)
					}
				}
				if len(parts) > 0 {
					r.Facts = append(r.Facts, record.Fact{Name: f.name, Value: strings.Join(parts, ", ")})
				}
			}
		}
	}
	r.SetUID()
	return r
}

// within is an attachment of n bytes that a property of a file's content itself holds.
func within(content []byte, p *property, n int) record.Attachment {
	size := record.Int(n)
	a := record.Attachment{Name: strings.ToLower(p.name), Type: cmp.Or(p.param("FMTTYPE"), strings.ToLower(p.param("TYPE"))), Size: &size, Missing: record.WithinIt}
	if media, _, is := strings.Cut(p.value, ";base64,"); is {
		a.Type = strings.TrimPrefix(media, "data:")
	}
	line := content[p.offset : p.offset+p.length]
	return coded(a, line, p.offset, bytes.LastIndexAny(line, ":,")+1) // neither is a digit of Base64
}

// coded gives an attachment the run of b that is its bytes in Base64, from there to the end of b, which lies at
// offset of its file. Nothing is given of one that does not have its size.
func coded(a record.Attachment, b []byte, offset, from int) record.Attachment {
	a.Coding = record.Base64
	own, err := a.Decoded(b[from:])
	if err != nil || len(own) == 0 || a.Size == nil || len(own) != int(*a.Size) {
		a.Coding = ""
		return a
	}
	sum := sha256.Sum256(own)
	a.SHA256, a.Parts, a.Missing = hex.EncodeToString(sum[:]), []record.Span{{Offset: int64(offset + from), Length: len(b) - from}}, ""
	if !strings.Contains(a.Type, "/") { // a word of the card's
		a.Type = cmp.Or(media.Type(own), media.ClipType(own), a.Type)
	}
	return a
}

// geo reads a place: latitude and longitude in decimal degrees, as RFC 5545 section 3.8.1.6
// and RFC 5870 write them; nil if it is none.
func geo(stored, between string) *record.Place {
	s, _, _ := strings.Cut(strings.TrimPrefix(strings.ToLower(strings.TrimSpace(unescape(stored))), "geo:"), "?")
	if between == "," {
		s, _, _ = strings.Cut(s, ";") // parameters of a URI
	}
	parts := strings.Split(s, between)
	if len(parts) < 2 || len(parts) > 3 {
		return nil
	}
	var n [3]float64
	for i, part := range parts {
		f, err := strconv.ParseFloat(part, 64)
		if err != nil {
			return nil
		}
		n[i] = f
	}
	at := &record.Place{Latitude: n[0], Longitude: n[1], Stored: strings.TrimSpace(stored)}
	if len(parts) == 3 {
		at.Altitude = &n[2]
	}
	if !at.Known() {
		return nil
	}
	return at
}

// cardName is what a card's person is called.
func cardName(c *component) string {
	if s := strings.TrimSpace(c.text("FN")); s != "" {
		return s
	}
	if p := c.get("N"); p != nil { // family; given; additional; prefixes; suffixes
		n := append(structured(p.value), "", "", "", "", "")
		if s := strings.Join(strings.Fields(strings.Join([]string{n[3], n[1], n[2], n[0], n[4]}, " ")), " "); s != "" {
			return s
		}
	}
	for _, name := range []string{"ORG", "NICKNAME"} {
		if p := c.get(name); p != nil && structured(p.value)[0] != "" {
			return structured(p.value)[0]
		}
	}
	return ""
}

// cardHandle is what a property of a card reaches its person at.
func cardHandle(p *property) string {
	s := strings.TrimSpace(unescape(p.value))
	scheme, rest, is := strings.Cut(s, ":")
	if !is || strings.ContainsAny(scheme, " @+.") {
		return s
	}
	switch strings.ToLower(scheme) {
	case "tel":
		number, _, _ := strings.Cut(rest, ";") // parameters of RFC 3966
		return number
	case "mailto":
		rest, _, _ = strings.Cut(rest, "?")
	}
	if u, err := url.PathUnescape(rest); err == nil {
		return u
	}
	return rest
}

// party is somebody by a handle as it is stored.
func party(role, handle, name, country string) record.Party {
	p := record.Party{Role: role, Handle: handle, Name: name, Normal: people.Normal(handle, country)}
	p.Scheme = people.Scheme(p.Normal)
	return p
}

// stamps are the forms of times in cards and calendars: ISO 8601, basic and extended.
var stamps = []struct {
	form  string
	local bool
}{
	{"20060102T150405Z", false}, {"2006-01-02T15:04:05Z07:00", false}, {"20060102T150405Z0700", false}, {"20060102T150405Z07", false}, {"2006-01-02T15:04:05Z0700", false},
	{"20060102T150405", true}, {"2006-01-02T15:04:05", true}, {"20060102", true}, {"2006-01-02", true},
}

// instant reads a time. One without an offset is local, in the zone that is given; where none
// is, it cannot be told which instant it is.
func instant(role, stored string, zone func(local time.Time) (time.Time, error)) record.Time {
	t := record.Time{Role: role, Stored: strings.TrimSpace(stored)}
	at, local, err := parseStamp(t.Stored)
	switch {
	case err != nil:
		return t
	case !local:
		at = at.UTC()
		t.At = &at
	case zone != nil:
		if in, err := zone(at); err == nil {
			in = in.UTC()
			t.At = &in
			break
		}
		fallthrough
	default:
		t.Local = at.Format(strings.TrimSuffix("2006-01-02T15:04:05", map[bool]string{true: "T15:04:05"}[len(t.Stored) <= len("2006-01-02")]))
	}
	return t
}

var errNoTime = errors.New("no time of a known form")

func parseStamp(s string) (at time.Time, local bool, err error) {
	for _, f := range stamps {
		if at, err := time.Parse(f.form, s); err == nil {
			return at, f.local, nil
		}
	}
	return at, false, cmp.Or(err, errNoTime)
}
