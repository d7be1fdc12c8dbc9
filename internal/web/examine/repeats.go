package examine

import (
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/core/timeline"
)

// occurs are the first times of what repeats.
type occurs struct {
	Dates []string
	More  bool
	In    string // the zone in which they are worked out, "" if it is not known
}

// fewDates is how many are listed.
const fewDates = 6

// stored forms of a date in a list of those that an event has besides, or has not.
var storedDates = []string{"20060102T150405Z", "20060102T150405", "20060102"}

// occurrences works out when a record repeats by the rule that it has; nil if it has none, or none that
// can be worked out.
func occurrences(w *record.Record) *occurs {
	rule, began := w.Fact(record.Repeats).Value, w.Time()
	if rule == "" || began.At == nil && began.Local == "" {
		return nil
	}
	o, zone := &occurs{}, time.UTC
	if _, name, named := strings.Cut(began.Stored, " in "); named && began.At != nil {
		if z, err := time.LoadLocation(name); err == nil && name != "Local" {
			zone, o.In = z, name
		}
	}
	start, err := time.Parse("2006-01-02T15:04:05", began.Local)
	if err != nil {
		start, err = time.Parse("2006-01-02", began.Local)
	}
	if began.At != nil {
		if start, err = began.At.In(zone), nil; o.In == "" {
			o.In = "UTC"
		}
	}
	if err != nil {
		return nil
	}
	dates := func(name string) (out []time.Time) {
		for s := range strings.SplitSeq(w.Fact(name).Value, ",") {
			for _, form := range storedDates {
				if t, err := time.ParseInLocation(form, strings.TrimSpace(s), zone); err == nil {
					out = append(out, t.In(zone))
					break
				}
			}
		}
		return out
	}
	at, more, err := timeline.Repeats(rule, start, dates("Also on"), dates("Not on"), fewDates)
	if err != nil || len(at) == 0 {
		return nil
	}
	for _, t := range at {
		o.Dates = append(o.Dates, t.Format("Mon 2 Jan 2006 15:04"))
	}
	o.More = more
	return o
}
