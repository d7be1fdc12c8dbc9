// Package record defines what recovery yields: records of a kind, in a state,
// each with the origin that leads to its bytes.
//
// It knows the words and their shapes, not how a record is found or kept.
package record

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// State says what was really seen of a record.
type State string

const (
	Intact    State = "intact"    // a live row
	Held      State = "held"      // a live row in the app's own holding area
	Recovered State = "recovered" // a row that no tree of the database leads to any more
	Earlier   State = "earlier"   // the same, and a row of its id is alive with other content
)

// States lists every state, with what it means, for reports and keys.
var States = []struct {
	State
	Meaning string
}{
	{Intact, "A row of the app's own table to which the table's tree leads. Whether the app showed it, the row does not say."},
	{Held, "A row of the table in which the app keeps items until a purge date. That is consistent with an item that was deleted in the app; who or what put it there, the row does not say."},
	{Recovered, "A row to which no tree of the database leads, and whose bytes are still in its files. That is consistent with a row that was deleted or moved; who or what did so, and when, its bytes do not say. The place says where it lies; columns that did not survive are named. Or what is read in a file that its volume no longer lists, or that is known by its structure alone."},
	{Earlier, "A recovered row whose id a row of the table's tree has, with other content. That is consistent with a row that was changed, and with an id that was used again. Or an item of an earlier version of a file, which the next one has otherwise, or has not."},
}

// Below reports whether records of state s hang below the waterline: those
// that are not rows of the app's own table.
func (s State) Below() bool { return s != Intact }

// Title is the state's name as a label.
func (s State) Title() string {
	switch s {
	case Intact:
		return "Intact"
	case Held:
		return "Held"
	case Earlier:
		return "Earlier version"
	}
	return "Recovered"
}

// Field is a named part of the bytes of an origin.
type Field struct {
	Name   string `json:"name"`
	Offset int64  `json:"offset"` // in the file
	Length int    `json:"length"`
	Role   string `json:"role"` // head, type, value or overwritten
}

// Int is an integer that is written as a string where JSON's numbers, which are read as
// IEEE 754 doubles (RFC 8259 section 6), would change it.
type Int int64

// Clean writes a text as it is kept: no text of a database holds NUL or bytes that are no
// UTF-8, and these are written ␀ and �.
func Clean(s string) string {
	if strings.IndexByte(s, 0) < 0 && utf8.ValidString(s) {
		return s
	}
	return strings.ReplaceAll(strings.ToValidUTF8(s, "�"), "\x00", "␀")
}

// Keep writes the texts of r as they are kept, and says so in it.
func (r *Record) Keep() {
	changed := false
	clean := func(s *string) {
		if c := Clean(*s); c != *s {
			*s, changed = c, true
		}
	}
	clean(&r.Text)
	for i := range r.Times {
		clean(&r.Times[i].Stored)
	}
	for i := range r.Parties {
		clean(&r.Parties[i].Handle)
		clean(&r.Parties[i].Name)
	}
	if r.Conversation != nil {
		clean(&r.Conversation.Key)
		clean(&r.Conversation.Title)
	}
	for i := range r.Facts {
		clean(&r.Facts[i].Value)
	}
	for i := range r.Attachments {
		a := &r.Attachments[i]
		for _, s := range []*string{&a.Name, &a.Type, &a.Path} {
			clean(s)
		}
	}
	if r.Place != nil {
		clean(&r.Place.Stored)
	}
	if changed {
		r.Facts = append(r.Facts, Fact{Name: KeptAs, Value: "text in which characters that no text can hold are written ␀ or �; the bytes are as they were"})
	}
}

// exact is the largest integer up to which doubles hold every one.
const exact = 1<<53 - 1

// MarshalJSON writes i.
func (i Int) MarshalJSON() ([]byte, error) {
	b := strconv.AppendInt(nil, int64(i), 10)
	if i > exact || i < -exact {
		return append(append([]byte{'"'}, b...), '"'), nil
	}
	return b, nil
}

// UnmarshalJSON reads either form.
func (i *Int) UnmarshalJSON(b []byte) error {
	n, err := strconv.ParseInt(strings.Trim(string(b), `"`), 10, 64)
	if err != nil {
		return fmt.Errorf("record: %q is not an integer of 64 bits", b)
	}
	*i = Int(n)
	return nil
}

// Origin is a trail to the bytes that a record, or a part of it, was read from.
type Origin struct {
	Gives  string `json:"gives,omitempty"` // of one that is not the first: what was read from it
	Path   string `json:"path"`            // of the file as the handset knew it
	Stored string `json:"stored"`          // of the file below the source that was read
	SHA256 string `json:"sha256"`          // of the whole file, hex
	// Frame is the frame of a write-ahead log, or the record of a rollback journal,
	// that holds the page, from 1.
	Frame       int      `json:"frame,omitempty"`
	Uncommitted bool     `json:"uncommitted,omitempty"` // its transaction never ended
	Unproven    bool     `json:"unproven,omitempty"`    // the checksum of its frame does not hold
	Others      []string `json:"others,omitempty"`      // where else the same row version lies
	Copies      int      `json:"copies,omitempty"`      // how many such places there are
	Table       string   `json:"table"`                 // "" if it cannot be told; of a part of a file its component's name
	RowID       *Int     `json:"rowid,omitempty"`       // absent if its bytes are lost
	Place       string   `json:"place"`                 // live, or one of package salvage's origins
	Page        uint32   `json:"page"`                  // from 1
	Offset      int64    `json:"offset"`                // of the row's cell, in bytes from the start of the file
	Length      int      `json:"length"`                // of the cell in its page, in bytes
	Digest      string   `json:"digest"`                // SHA-256 of those bytes, hex
	Fields      []Field  `json:"fields,omitempty"`
	Lost        []string `json:"lost,omitempty"` // columns that did not survive whole
	Confidence  float64  `json:"confidence"`     // 0 to 1; docs/recovery.md
	FieldMap    string   `json:"field_map"`      // the field map, or the reader, that made the record
	MapSHA256   string   `json:"map_sha256"`     // of the map's file, hex; "" of a reader
}

// Time is a time that a record names.
type Time struct {
	Role   string     `json:"role"`            // sent, read, purged …
	At     *time.Time `json:"at,omitempty"`    // UTC; absent if it cannot be told
	Stored string     `json:"stored"`          // the value as stored, with its epoch
	Local  string     `json:"local,omitempty"` // a local time or date (ISO 8601) whose zone is not known
	Doubt  string     `json:"doubt,omitempty"` // why it cannot be so, "" if it can
}

// earliest is the time before which no handset kept records; slack is how far clocks and
// zones may put a time behind the end of what it was read from.
var earliest = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

const slack = 24 * time.Hour

// Why a time cannot be so.
const (
	TooEarly = "before 1980"
	TooLate  = "more than a day after its source was made"
)

// Doubted says of a time why it cannot be so: it lies before 1980, or more than a day
// after its source was made, which is not asked if that is the zero time.
func (t Time) Doubted(made time.Time) Time {
	switch {
	case t.At == nil:
	case t.At.Before(earliest):
		t.Doubt = TooEarly
	case !made.IsZero() && t.At.After(made.Add(slack)):
		t.Doubt = TooLate
	}
	return t
}

// PartyRoles are those that parties have. Of one who is with, it is not known whether the
// record is from them or to them; a card is theirs whom it names.
var PartyRoles = []string{"from", "to", "with", "card", "owner", "author", "member", "called", "organizer", "attendee"}

// Party is somebody whom a record names.
type Party struct {
	Role   string `json:"role"`           // one of PartyRoles
	Handle string `json:"handle"`         // as stored
	Scheme string `json:"scheme"`         // telephone, mail or account
	Normal string `json:"normal"`         // the handle in normal form, see package people; "" if it has none
	Name   string `json:"name,omitempty"` // as the source gives it
	// Card is the UID of the contact of the same source that gives the name, "" if the record
	// itself does; CardState is that contact's.
	Card      string `json:"card,omitempty"`
	CardState State  `json:"card_state,omitempty"`
}

// Conversation is what a record was said in.
type Conversation struct {
	Key   string `json:"key"`
	Title string `json:"title,omitempty"`
	Lost  bool   `json:"lost,omitempty"` // which one it was did not survive
}

// Record is one record.
type Record struct {
	UID          string        `json:"uid"` // SHA-256, hex: the same whenever the same bytes are read
	Kind         Kind          `json:"kind"`
	State        State         `json:"state"`
	Times        []Time        `json:"times,omitempty"`
	Parties      []Party       `json:"parties,omitempty"`
	Conversation *Conversation `json:"conversation,omitempty"` // of a kind that has one
	Direction    string        `json:"direction,omitempty"`    // in or out
	Text         string        `json:"text"`                   // what it says: message text, contact name, title
	Place        *Place        `json:"place,omitempty"`
	Attachments  []Attachment  `json:"attachments,omitempty"`
	Facts        []Fact        `json:"facts,omitempty"`
	// Origins are what it was read from. The first one is what proves it; others say what
	// they gave.
	Origins []Origin `json:"origins"`
	// Found is more by which it is looked for, and no part of what it says.
	Found string `json:"-"`
}

// Origin is what proves r, the first of its origins; of a record without one it is empty.
func (r *Record) Origin() *Origin {
	if len(r.Origins) == 0 {
		return &Origin{}
	}
	return &r.Origins[0]
}

// Further are the origins of r beside that.
func (r *Record) Further() []Origin { return r.Origins[min(1, len(r.Origins)):] }

// Written is the role of the time at which a file was last written, as the source that it came in lists
// it: no byte of the file says so. A record that is the whole of a file, and says no time of its own
// that could be so, lies there.
const Written = "written"

// Time is the time that the timeline shows r at, which its kind names, or else when its file was written;
// the zero Time if it has none.
func (r *Record) Time() Time {
	t := r.timeOf(r.Kind.About().Time)
	if t.At == nil || t.Doubt != "" {
		if w := r.timeOf(Written); w.At != nil && w.Doubt == "" {
			return w
		}
	}
	return t
}

// Others are the times of r beside that.
func (r *Record) Others() (out []Time) {
	role := r.Time().Role
	for _, t := range r.Times {
		if t.Role != role {
			out = append(out, t)
		}
	}
	return out
}

// At is where r lies on the timeline: nil if that cannot be told, or cannot be so.
func (r *Record) At() *time.Time {
	if t := r.Time(); t.Doubt == "" {
		return t.At
	}
	return nil
}

// Thread is the key of r's conversation, "" if it has none.
func (r *Record) Thread() string {
	if r.Conversation == nil {
		return ""
	}
	return r.Conversation.Key
}

// ThreadTitle is the title of r's conversation.
func (r *Record) ThreadTitle() string {
	if r.Conversation == nil {
		return ""
	}
	return r.Conversation.Title
}

// ThreadLost reports whether it did not survive which conversation r was of.
func (r *Record) ThreadLost() bool { return r.Conversation != nil && r.Conversation.Lost }

// Handle lists the handles of r as they are stored, with commas.
func (r *Record) Handle() string { return r.parties(func(p Party) string { return p.Handle }) }

// Person lists the names of whoever its handles reach, with commas.
func (r *Record) Person() string { return r.parties(func(p Party) string { return p.Name }) }

func (r *Record) parties(part func(Party) string) string {
	var out []string
	for _, p := range r.Parties {
		if s := part(p); s != "" && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return strings.Join(out, ", ")
}

// Handles are the handles of r in normal form.
func (r *Record) Handles() (out []string) {
	for _, p := range r.Parties {
		if p.Normal != "" {
			out = append(out, p.Normal)
		}
	}
	return out
}

// IsPart reports whether it is a part of a file, and no row.
func (o *Origin) IsPart() bool { return o.Place == PlacePart }

// SetUID derives the record's UID from what it is and where it lies.
func (r *Record) SetUID() {
	o := r.Origin()
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s\x00%d\x00%d\x00%s", r.Kind, o.Stored, o.SHA256, o.Offset, o.Length, o.Table))
	r.UID = hex.EncodeToString(sum[:])
}

// ShortUID is what pages show of a UID: its first 16 digits.
func (r *Record) ShortUID() string { return short(r.UID) }

// ShortCard is what pages show of the UID of the contact that names p.
func (p Party) ShortCard() string { return short(p.Card) }

func short(uid string) string { return uid[:min(len(uid), 16)] }

// PlaceWords says an origin's place in words.
func (r *Record) PlaceWords() string { return PlaceWords(r.State, r.Origin().Place) }

// PlacePart is the place of what is a part of a file, and no row.
const PlacePart = "part"

// PlaceWords says in words where a record of the given state was found.
func PlaceWords(s State, place string) string {
	if s == Held {
		return "holding area"
	}
	switch place {
	case "live", PlacePart:
		if s == Recovered { // what is whole in a file that is gone
			return "in a lost file"
		}
	}
	switch place {
	case "live":
		return "live row"
	case PlacePart:
		return "in a file"
	case "freelist":
		return "free page"
	case "freeblock":
		return "free block"
	case "unallocated":
		return "page gap"
	case "lostpage":
		return "lost page"
	case "dropped":
		return "dropped table"
	case "wal":
		return "log frame"
	case "journal":
		return "rollback journal"
	case "superseded":
		return "page below the log"
	case "index":
		return "index entry"
	}
	return place
}
