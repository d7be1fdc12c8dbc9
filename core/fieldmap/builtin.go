package fieldmap

import (
	"fmt"
	"time"

	"crosswind/core/record"
	"crosswind/core/sqlitefile"
)

// Builtin are the maps for the apps of the handset families Orlop and Tarn. The
// layouts are described in docs/formats.md. Contacts come first, so that their names
// are known when the others are read.
var Builtin = []*Map{
	{
		Name: "people 2", Path: "/data/people/people.db",
		Lookups: []Lookup{{"reach", "card", "value"}},
		Readings: []Reading{{
			Table: "card", Kind: record.Contact, State: record.Intact,
			Time: "added", Epoch: Seconds1980, Handles: "reach",
			Text:    textOf("name"),
			Details: []Detail{{"Note", "note"}},
		}},
	},
	{
		Name: "folk 1", Path: "/apps/folk/folk.sqlite",
		Lookups: []Lookup{{"digits", "who", "number"}},
		Readings: []Reading{{
			Table: "who", Kind: record.Contact, State: record.Intact,
			Time: "noted", Epoch: Ticks1601, Handles: "digits",
			Text:    textOf("called"),
			Details: []Detail{{"Group", "party"}},
		}},
	},
	{
		Name: "talk 5", Path: "/data/talk/talk.db",
		Lookups: []Lookup{{"circle", "id", "title"}},
		Readings: []Reading{
			talkLine("line", record.Intact),
			talkLine("binned", record.Held),
		},
	},
	{
		Name: "ring 1", Path: "/data/ring/ring.db",
		Readings: []Reading{{
			Table: "ring", Kind: record.Call, State: record.Intact,
			Time: "began", Epoch: Seconds1970, Handle: "number",
			Direction: func(get func(string) (sqlitefile.Value, bool)) string {
				if v, ok := get("way"); ok {
					return map[int64]string{1: "in", 2: "out"}[v.Int()]
				}
				return ""
			},
			Text: callText,
		}},
	},
	{
		Name: "wire 3", Path: "/apps/wire/wire.sqlite",
		Lookups: []Lookup{{"thread", "key", "title"}},
		Readings: []Reading{
			wirePost("post", record.Intact),
			wirePost("drawer", record.Held),
		},
	},
	{
		Name: "bell 2", Path: "/apps/bell/bell.sqlite",
		Readings: []Reading{{
			Table: "bell", Kind: record.Call, State: record.Intact,
			Time: "at", Epoch: Millis1970, Handle: "party",
			Direction: words("sort", map[string]string{"got": "in", "missed": "in", "made": "out"}),
			Text:      bellText,
		}},
	},
}

// wirePost reads a message. Its time is in seconds with a fraction; in the
// drawer, the holding area, it keeps its columns and gains when it goes.
func wirePost(table string, s record.State) Reading {
	rd := Reading{
		Table: table, Kind: record.Message, State: s,
		Time: "at", Epoch: Seconds1970, Thread: "thread", ThreadTitle: "thread", Handle: "party",
		Direction: words("way", map[string]string{"from": "in", "to": "out"}),
		Text:      textOf("said"),
	}
	if s == record.Held {
		rd.Purge, rd.PurgeEpoch = "goes", Seconds1970
	}
	return rd
}

// words reads a direction that is a word.
func words(column string, means map[string]string) func(func(string) (sqlitefile.Value, bool)) string {
	return func(get func(string) (sqlitefile.Value, bool)) string {
		if v, ok := get(column); ok && v.Class() == sqlitefile.Text {
			return means[v.String(sqlitefile.UTF8)]
		}
		return ""
	}
}

func bellText(get func(string) (sqlitefile.Value, bool), enc sqlitefile.Encoding) string {
	sort, ok := get("sort")
	if word, _ := Text(sort, enc); ok && word == "missed" {
		return "not answered"
	}
	ms, ok := get("lasted")
	if !ok {
		return ""
	}
	d := time.Duration(ms.Int()) * time.Millisecond
	return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
}

// talkLine reads a message. In the holding area a line keeps its columns and
// gains the time of its deletion and of its purge.
func talkLine(table string, s record.State) Reading {
	rd := Reading{
		Table: table, Kind: record.Message, State: s,
		Time: "sent", Epoch: Millis2001, Thread: "circle", ThreadTitle: "circle", Handle: "peer",
		Direction: func(get func(string) (sqlitefile.Value, bool)) string {
			if v, ok := get("mine"); ok {
				return map[int64]string{0: "in", 1: "out"}[v.Int()]
			}
			return ""
		},
		Text: textOf("body"),
	}
	if s == record.Held {
		rd.Purge, rd.PurgeEpoch = "purge", Millis2001
	}
	return rd
}

func textOf(column string) func(func(string) (sqlitefile.Value, bool), sqlitefile.Encoding) string {
	return func(get func(string) (sqlitefile.Value, bool), enc sqlitefile.Encoding) string {
		// Of a text that is lost in part, the part that is there is shown; the
		// record's origin names the column as lost.
		v, _ := get(column)
		s, _ := Text(v, enc)
		return s
	}
}

func callText(get func(string) (sqlitefile.Value, bool), _ sqlitefile.Encoding) string {
	took, ok := get("took")
	secs, _ := get("secs")
	switch {
	case !ok:
		return ""
	case took.Int() == 0:
		return "not answered"
	}
	d := time.Duration(secs.Int()) * time.Second
	return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
}
