// Package record defines what recovery yields: records of a kind, in a state,
// each with the origin that leads to its bytes.
//
// It knows the words and their shapes, not how a record is found or kept.
package record

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"
)

// Kind is what a record is of.
type Kind string

const (
	Message Kind = "message"
	Call    Kind = "call"
	Contact Kind = "contact"
)

// Kinds lists every kind in the order in which pages show them.
var Kinds = []Kind{Message, Call, Contact}

// Plural is the kind's name for many.
func (k Kind) Plural() string {
	switch k {
	case Message:
		return "Messages"
	case Call:
		return "Calls"
	}
	return "Contacts"
}

// Title is the kind's name for one, as a label.
func (k Kind) Title() string {
	switch k {
	case Message:
		return "Message"
	case Call:
		return "Call"
	}
	return "Contact"
}

// State says what was really seen of a record.
type State string

const (
	Intact    State = "intact"    // a live row
	Held      State = "held"      // a live row in the handset's own holding area for deleted items
	Recovered State = "recovered" // a row that no tree of the database leads to any more
	Earlier   State = "earlier"   // the same, and a row of its id is alive with other content
)

// States lists every state, with what it means, for reports and keys.
var States = []struct {
	State
	Meaning string
}{
	{Intact, "A live row of the app's own table: the app would have shown it."},
	{Held, "A row in the app's holding area for deleted items: deleted by the user and kept by the app until its purge date."},
	{Recovered, "A row that was deleted from its table and whose bytes were still in the database file. The place says where; columns that did not survive are named."},
	{Earlier, "A recovered row whose id a live row of the table has, with other content: it was changed later, or its id was used again."},
}

// Below reports whether records of state s hang below the waterline: those
// that the user had deleted.
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

// Origin is a record's trail to its bytes.
type Origin struct {
	Path   string `json:"path"`   // of the file as the handset knew it
	Stored string `json:"stored"` // of the file below the source that was read
	SHA256 string `json:"sha256"` // of the whole file, hex
	// Frame is the frame of a write-ahead log, or the record of a rollback journal,
	// that holds the page, from 1.
	Frame       int      `json:"frame,omitempty"`
	Uncommitted bool     `json:"uncommitted,omitempty"` // its transaction never ended
	Others      []string `json:"others,omitempty"`      // where else the same row version lies
	Copies      int      `json:"copies,omitempty"`      // how many such places there are
	Table       string   `json:"table"`                 // "" if it cannot be told
	RowID       *int64   `json:"rowid,omitempty"`       // absent if its bytes are lost
	Place       string   `json:"place"`                 // live, or one of package salvage's origins
	Page        uint32   `json:"page"`                  // from 1
	Offset      int64    `json:"offset"`                // of the row's cell, in bytes from the start of the file
	Length      int      `json:"length"`                // of the cell in its page, in bytes
	Digest      string   `json:"digest"`                // SHA-256 of those bytes, hex
	Fields      []Field  `json:"fields"`
	Lost        []string `json:"lost,omitempty"` // columns that did not survive whole
	Confidence  float64  `json:"confidence"`     // 0 to 1; docs/recovery.md
	FieldMap    string   `json:"field_map"`      // which reading of the columns made the record
}

// Detail is a further fact of a record, as label and value.
type Detail struct {
	Label string `json:"label"`
	Value string `json:"value"`
}

// Record is one record.
type Record struct {
	UID         string     `json:"uid"` // the same whenever the same bytes are read
	Kind        Kind       `json:"kind"`
	State       State      `json:"state"`
	At          *time.Time `json:"at,omitempty"` // UTC
	Original    string     `json:"original"`     // the time as it is stored, with its epoch
	Purge       *time.Time `json:"purge,omitempty"`
	Thread      string     `json:"thread,omitempty"` // key of the conversation
	ThreadTitle string     `json:"thread_title,omitempty"`
	Person      string     `json:"person,omitempty"` // the other side's name, if known
	Handle      string     `json:"handle,omitempty"` // the other side's number or address
	Direction   string     `json:"direction,omitempty"`
	Text        string     `json:"text"` // what it says: message text, call summary, contact name
	Details     []Detail   `json:"details,omitempty"`
	Origin      Origin     `json:"origin"`
}

// SetUID derives the record's UID from what it is and where it lies.
func (r *Record) SetUID() {
	o := &r.Origin
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s\x00%d\x00%d\x00%s", r.Kind, o.Stored, o.SHA256, o.Offset, o.Length, o.Table))
	r.UID = hex.EncodeToString(sum[:8])
}

// PlaceWords says an origin's place in words.
func (r *Record) PlaceWords() string { return PlaceWords(r.State, r.Origin.Place) }

// PlaceWords says in words where a record of the given state was found.
func PlaceWords(s State, place string) string {
	if s == Held {
		return "holding area"
	}
	switch place {
	case "live":
		return "live row"
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
