package record

import (
	"fmt"
	"slices"
	"strings"
)

// Kind is what a record is of: the name of an entry of the table of kinds.
type Kind string

// Kinds that readers of files yield, and those of talk. Others are known by the table alone.
const (
	Message Kind = "message"
	Call    Kind = "call"
	Contact Kind = "contact"
	Event   Kind = "event"

	Mail Kind = "mail"

	Photograph Kind = "photograph"
	Video      Kind = "video"
	Recording  Kind = "recording"
	Music      Kind = "music"

	Jotting  Kind = "note"
	Document Kind = "document"
)

// Group is what kinds that are looked at together have in common.
type Group string

// The groups.
const (
	Talk   Group = "talk"
	People Group = "people"
	Plans  Group = "plans"
	Media  Group = "media"
	Web    Group = "web"
	Places Group = "places"
	Files  Group = "files"
	Device Group = "device"
)

// Title is the group's name as a label.
func (g Group) Title() string {
	if g == "" {
		return ""
	}
	return strings.ToUpper(string(g[:1])) + string(g[1:])
}

// Roles are those that times have.
var Roles = []string{"sent", "received", "delivered", "read", "edited", "withdrawn", "began", "ended", "made", "changed", "added", "opened", "taken", "visited",
	"due", "asked", "logged", "fixed", "deleted", "purged", "started", "stopped", "installed", "removed", Written}

// Groups lists the groups in the order in which pages show them.
var Groups = []Group{Talk, People, Plans, Media, Web, Places, Files, Device}

// UCO is a class of observable things of the ontology UCO, "" for none of its own, and the properties of its facet: of a text, of
// when it began and ended, and of who stands in it as from and to.
type UCO struct{ Class, Text, Began, Ended, From, To string }

// About is an entry of the table of kinds: what pages, queries and exports know of a kind.
// None of them knows a kind by its name.
type About struct {
	Kind          Kind
	Title, Plural string // names for one and for many, as labels
	Group         Group
	Time          string // what the time is that the timeline shows it at: sent, began, changed …
	Party         string // what its handle is to it, as a label
	Letter        bool   // it has a subject and a body, as a mailbox keeps them
	// UCO is what the kind is in the ontology UCO (Unified Cyber Ontology 1.3).
	UCO UCO
	// Wordless is of kinds that have no text: their columns say all that there is.
	Wordless bool
	// Says names the columns of which the first that is there stands where a record of the kind
	// has no text.
	Says []string
	// Columns are the kind's own in lists, and in tables, which have Further, too, before them: see
	// [Record.Column].
	Columns, Further []string
	// InTalk is of kinds that are read in their conversation, between what was said before
	// and after.
	InTalk bool
	// Alone is of kinds that need nobody: one that names no party, and is whole, is of nobody, and
	// not of somebody unknown. Nobody is of kinds that never name anybody, so that of what is left of
	// one nobody was lost.
	Alone, Nobody bool
	// Seen is of kinds that are pictures or films.
	Seen bool
	// Rung is of kinds of which both sides have one, with its length: one called, the other was called.
	Rung bool
	// Located is of kinds that say where the handset took itself to be.
	Located bool
	// Own is of kinds that name the handset's own handles.
	Own bool
	// Zoned is of kinds that say to which zone the handset was set.
	Zoned bool
	// Card is of kinds that name people: the text is the name of whoever its handles reach.
	Card bool
}

// table is the table of kinds, in the order in which pages show them: by group, and
// within one as they were registered.
var table []About

func init() {
	Register(About{Kind: Message, UCO: UCO{Class: "Message", Text: "messageText", Began: "sentTime", From: "from", To: "to"}, Title: "Message", Plural: "Messages", Group: Talk, Time: "sent", Party: "Other side", InTalk: true,
		Says: []string{WithAttachments}, Further: []string{WhichWay, InConversation, WithAttachments}})
	Register(About{Kind: Call, UCO: UCO{Class: "Call", Began: "startTime", Ended: "endTime", From: "from", To: "to"}, Rung: true, Wordless: true, Title: "Call", Plural: "Calls", Group: Talk, Time: "began", Party: "Other side",
		Says: []string{Outcome, Duration}, Columns: []string{Duration, Outcome}, Further: []string{WhichWay}})
	Register(About{Kind: "voicemail", Wordless: true, Title: "Voicemail", Plural: "Voicemails", Group: Talk, Time: "received", Party: "Left by",
		Says: []string{Outcome, Duration}, Columns: []string{Duration, Outcome}, Further: []string{WithAttachments}})
	Register(About{Kind: Mail, UCO: UCO{Class: "EmailMessage", Text: "subject", Began: "sentTime", From: "from", To: "to"}, Title: "Mail", Plural: "Mail", Group: Talk, Letter: true, Time: "sent", Party: "Other side", InTalk: true,
		Says: []string{Title, WithAttachments}, Columns: []string{Title}, Further: []string{InConversation, WithAttachments}})
	Register(About{Kind: Contact, UCO: UCO{Class: "Contact", Text: "displayName", Began: "lastTimeContacted"}, Title: "Contact", Plural: "Contacts", Group: People, Time: "changed", Party: "Reached at", Card: true,
		Columns: []string{Organisation, Note}})
	Register(About{Kind: "account", UCO: UCO{Class: "DigitalAccount"}, Title: "Account", Plural: "Accounts", Group: People, Time: "added", Party: "Signed in as", Alone: true})
	Register(About{Kind: Event, UCO: UCO{Class: "CalendarEntry", Text: "subject", Began: "startTime", Ended: "endTime", To: "attendant"}, Title: "Event", Plural: "Calendar events", Group: Plans, Time: "began", Party: "With", Alone: true,
		Columns: []string{"ended", Location}, Further: []string{Repeats}})
	Register(About{Kind: "reminder", Title: "Reminder", Plural: "Reminders", Group: Plans, Time: "due", Party: "With", Nobody: true, Columns: []string{Outcome}})
	Register(About{Kind: Jotting, UCO: UCO{Class: "Note", Text: "text", Began: "modifiedTime"}, Title: "Note", Plural: "Notes", Group: Plans, Time: "changed", Party: "Of", Nobody: true, Says: []string{Locked},
		Further: []string{Locked, WithAttachments}})
	Register(About{Kind: Photograph, UCO: UCO{Class: "Image"}, Seen: true, Title: "Photograph", Plural: "Photographs", Group: Media, Time: "taken", Party: "Of", Nobody: true,
		Says: []string{WithAttachments}, Columns: []string{AtPlace, MadeBy}, Further: []string{WithAttachments, Pixels}})
	Register(About{Kind: Video, UCO: UCO{Class: "File"}, Seen: true, Title: "Video", Plural: "Videos", Group: Media, Time: "taken", Party: "Of", Nobody: true,
		Says: []string{WithAttachments}, Columns: []string{Duration, AtPlace, MadeBy}, Further: []string{WithAttachments, Pixels}})
	Register(About{Kind: Recording, UCO: UCO{Class: "Audio"}, Title: "Recording", Plural: "Recordings", Group: Media, Time: "made", Party: "Of", Nobody: true,
		Says: []string{WithAttachments}, Columns: []string{Duration, MadeBy}, Further: []string{WithAttachments}})
	Register(About{Kind: Music, UCO: UCO{Class: "Audio"}, Title: "Music", Plural: "Music", Group: Media, Time: "made", Party: "Of", Nobody: true,
		Says: []string{WithAttachments}, Columns: []string{"Artist", "Album", Duration}, Further: []string{WithAttachments}})
	Register(About{Kind: "thumbnail", UCO: UCO{Class: "Image"}, Seen: true, Wordless: true, Title: "Thumbnail", Plural: "Thumbnails", Group: Media, Time: "taken", Party: "Of", Nobody: true,
		Says: []string{OfFile, WithAttachments}, Columns: []string{OfFile}, Further: []string{WithAttachments}})
	Register(About{Kind: Document, UCO: UCO{Class: "File"}, Title: "Document", Plural: "Documents", Group: Files, Time: "changed", Party: "Of", Nobody: true,
		Says: []string{Title, WithAttachments}, Columns: []string{"Author"}, Further: []string{"made", Title, WithAttachments}})
	Register(About{Kind: "visit", UCO: UCO{Class: "URLHistory"}, Title: "Visit", Plural: "Visits", Group: Web, Time: "visited", Party: "Of", Nobody: true, Says: []string{Title, WebAddress}, Columns: []string{WebAddress}})
	Register(About{Kind: "bookmark", UCO: UCO{Class: "BrowserBookmark"}, Title: "Bookmark", Plural: "Bookmarks", Group: Web, Time: "added", Party: "Of", Nobody: true, Says: []string{WebAddress}, Columns: []string{WebAddress}})
	Register(About{Kind: "search", Title: "Search", Plural: "Searches", Group: Web, Time: "asked", Party: "Of", Nobody: true})
	Register(About{Kind: "download", Title: "Download", Plural: "Downloads", Group: Web, Time: "began", Party: "Of", Nobody: true, Says: []string{WithAttachments},
		Columns: []string{WebAddress, Outcome}, Further: []string{WithAttachments}})
	Register(About{Kind: "fix", UCO: UCO{Class: "GeoLocationEntry"}, Located: true, Wordless: true, Title: "Fix", Plural: "Fixes", Group: Places, Time: "taken", Party: "Of", Nobody: true, Says: []string{AtPlace}, Columns: []string{AtPlace}})
	Register(About{Kind: "place", Title: "Saved place", Plural: "Saved places", Group: Places, Time: "added", Party: "Of", Nobody: true, Says: []string{AtPlace}, Columns: []string{AtPlace}})
	Register(About{Kind: "start", Title: "Start or stop", Plural: "Starts and stops", Group: Device, Time: "logged", Party: "Of", Nobody: true})
	Register(About{Kind: "sim", Own: true, Title: "SIM change", Plural: "SIM changes", Group: Device, Time: "logged", Party: "Number", Alone: true})
	Register(About{Kind: "zone", Zoned: true, Title: "Zone change", Plural: "Zone changes", Group: Device, Time: "logged", Party: "Of", Nobody: true})
	Register(About{Kind: "network", UCO: UCO{Class: "WirelessNetworkConnection", Text: "ssid"}, Title: "Radio network", Plural: "Radio networks", Group: Device, Time: "logged", Party: "Of", Nobody: true})
	Register(About{Kind: "app", UCO: UCO{Class: "Application", Text: "applicationIdentifier"}, Title: "App", Plural: "Apps", Group: Device, Time: "logged", Party: "Of", Nobody: true, Columns: []string{Outcome}})
}

// Register adds a kind to the table. It is called before records are read, from init
// functions, and panics if the entry is not whole or the kind is there already.
func Register(a About) {
	if a.Kind == "" || a.Title == "" || a.Plural == "" || !slices.Contains(Roles, a.Time) || a.Party == "" || !slices.Contains(Groups, a.Group) {
		panic(fmt.Sprintf("record: the entry of kind %q is not whole", a.Kind))
	}
	if _, err := ParseKind(string(a.Kind)); err == nil {
		panic(fmt.Sprintf("record: kind %q is registered twice", a.Kind))
	}
	table = append(table, a)
	slices.SortStableFunc(table, func(a, b About) int { return slices.Index(Groups, a.Group) - slices.Index(Groups, b.Group) })
}

// KindsOf lists the kinds of which something is so, by the table.
func KindsOf(so func(About) bool) (out []string) {
	for _, a := range table {
		if so(a) {
			out = append(out, string(a.Kind))
		}
	}
	return out
}

// Likely is the kind of a record of which no more is known than whether it names somebody, or a place.
func Likely(somebody, place bool) Kind {
	switch {
	case place:
		return "fix"
	case somebody:
		return Message
	}
	return Jotting
}

// Kinds lists every kind in the order in which pages show them.
func Kinds() []Kind { return kinds(func(About) bool { return true }) }

// Cards lists the kinds that name people.
func Cards() []Kind { return kinds(func(a About) bool { return a.Card }) }

func kinds(which func(About) bool) (out []Kind) {
	for _, a := range table {
		if which(a) {
			out = append(out, a.Kind)
		}
	}
	return out
}

// ParseKind finds a kind by its name, or by its label for one or for many, in any case.
func ParseKind(s string) (Kind, error) {
	for _, a := range table {
		if strings.EqualFold(s, string(a.Kind)) || strings.EqualFold(s, a.Title) || strings.EqualFold(s, a.Plural) {
			return a.Kind, nil
		}
	}
	return "", fmt.Errorf("%q is not a kind of record", s)
}

// Known reports whether k is in the table.
func (k Kind) Known() bool {
	return slices.ContainsFunc(table, func(a About) bool { return a.Kind == k })
}

// About is the entry of k. One of a kind that is not in the table says so in its names.
func (k Kind) About() About {
	for _, a := range table {
		if a.Kind == k {
			return a
		}
	}
	unknown := fmt.Sprintf("Unknown kind %q", string(k))
	return About{Kind: k, Title: unknown, Plural: unknown, Party: "Handle"}
}

// Table lists the kind's own columns in tables.
func (a About) Table() []string { return slices.Concat(a.Further, a.Columns) }

// Title is the kind's name for one, as a label.
func (k Kind) Title() string { return k.About().Title }

// Plural is the kind's name for many.
func (k Kind) Plural() string { return k.About().Plural }

// Card reports whether records of the kind name people.
func (k Kind) Card() bool { return k.About().Card }

// UnmarshalText takes the name of a kind of the table, and refuses others.
func (k *Kind) UnmarshalText(b []byte) error {
	if !Kind(b).Known() {
		return fmt.Errorf("record: %q is not a kind of record", b)
	}
	*k = Kind(b)
	return nil
}
