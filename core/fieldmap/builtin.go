package fieldmap

import (
	"fmt"
	"time"

	"crosswind/core/record"
	"crosswind/core/sqlitefile"
)

// Builtin are the maps for the apps of the Orlop handset family. The layouts
// are described in docs/formats.md. Contacts come first, so that their names
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
