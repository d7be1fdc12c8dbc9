package reading

import (
	"cmp"
	"fmt"
	"io"
	"iter"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"crosswind/core/record"

	"github.com/teambition/rrule-go"
)

// calendars reads the events of iCalendar files (RFC 5545). Each is a record; what one that
// repeats says of its repeats is told with it.
type calendars struct{}

// ID implements [Reader].
func (calendars) ID() string { return "iCalendar, version 2" }

// Match implements [Reader].
func (calendars) Match(p string, head []byte) bool {
	return begins(head, "VCALENDAR") && (p == "" || strings.EqualFold(path.Ext(p), ".ics") || strings.EqualFold(path.Ext(p), ".ical"))
}

// Read implements [Reader]. A lone event is read as one of a calendar without zones.
func (v calendars) Read(file *io.SectionReader, src *Text) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		content, err := whole(file, maxText)
		if err != nil {
			yield(nil, err)
			return
		}
		all, err := components(content)
		for _, c := range all {
			parts := c.parts
			if c.name == "VEVENT" {
				parts = []*component{c}
			}
			z := &zones{map[string]*component{}, map[onset][]time.Time{}}
			for _, p := range parts {
				if p.name == "VTIMEZONE" {
					z.of[p.text("TZID")] = p
				}
			}
			for _, p := range parts {
				if p.name == "VEVENT" && !yield(v.event(content, p, src, z), nil) {
					return
				}
			}
		}
		if err != nil {
			yield(nil, err)
		}
	}
}

// eventFacts are properties that are told as they are, under their names.
var eventFacts = []struct{ property, name string }{
	{"UID", record.Identifier}, {"LOCATION", record.Location}, {"DESCRIPTION", "Description"}, {"STATUS", "Status"}, {"RRULE", record.Repeats}, {"RDATE", "Also on"}, {"EXDATE", "Not on"},
	{"RECURRENCE-ID", "In place of"}, {"CATEGORIES", "Categories"}, {"CLASS", "Class"}, {"URL", "Web page"},
}

func (v calendars) event(content []byte, c *component, src *Text, z *zones) *record.Record {
	r := &record.Record{Kind: record.Event, State: record.Intact, Text: c.text("SUMMARY"), Origins: []record.Origin{src.origin(v, content, c)}}
	when := func(role, name string) *record.Time {
		p := c.get(name)
		if p == nil {
			return nil
		}
		t := instant(role, p.value, z.zone(p.param("TZID")))
		if id := p.param("TZID"); id != "" {
			t.Stored += " in " + id
		}
		r.Times = append(r.Times, t) // an event may lie ahead: only what is too early is doubted
		r.Times[len(r.Times)-1] = t.Doubted(time.Time{})
		return &t
	}
	began := when("began", "DTSTART")
	if when("ended", "DTEND") == nil && began != nil && began.At != nil {
		if p := c.get("DURATION"); p != nil {
			if d, ok := duration(p.value); ok {
				end := began.At.Add(d)
				r.Times = append(r.Times, record.Time{Role: "ended", At: &end, Stored: "duration " + p.value})
			}
		}
	}
	when("made", "CREATED")
	when("changed", "LAST-MODIFIED")
	for i := range c.props {
		p := &c.props[i]
		switch p.name {
		case "GEO":
			r.Place = cmp.Or(r.Place, geo(p.value, ";"))
		case "ATTACH":
			if n := p.binary(); n >= 0 {
				r.Attachments = append(r.Attachments, within(content, p, n))
			} else {
				r.Attachments = append(r.Attachments, record.Attachment{Path: strings.TrimSpace(p.value), Type: p.param("FMTTYPE"), Missing: record.NotInSource})
			}
		}
		role := map[string]string{"ORGANIZER": "organizer", "ATTENDEE": "attendee"}[p.name]
		if role == "" {
			continue
		}
		if handle := cardHandle(p); handle != "" {
			r.Parties = append(r.Parties, party(role, handle, p.param("CN"), src.Country))
		}
	}
	for _, f := range eventFacts {
		for i := range c.props {
			if p := &c.props[i]; p.name == f.property && strings.TrimSpace(p.value) != "" {
				r.Facts = append(r.Facts, record.Fact{Name: f.name, Value: strings.TrimSpace(unescape(p.value))})
			}
		}
	}
	r.SetUID()
	return r
}

var durations = regexp.MustCompile(`^([+-]?)P(?:(\d{1,5})W|(?:(\d{1,6})D)?(?:T(?:(\d{1,6})H)?(?:(\d{1,7})M)?(?:(\d{1,9})S)?)?)$`)

// duration reads a duration: RFC 5545 section 3.3.6.
func duration(s string) (d time.Duration, ok bool) {
	m := durations.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0, false
	}
	for i, unit := range []time.Duration{7 * 24 * time.Hour, 24 * time.Hour, time.Hour, time.Minute, time.Second} {
		if n, err := strconv.Atoi(m[i+2]); err == nil {
			d += time.Duration(n) * unit
		}
	}
	if m[1] == "-" {
		d = -d
	}
	return d, true
}

// zones are those that a calendar defines, with what has been worked out of them.
type zones struct {
	of    map[string]*component
	began map[onset][]time.Time
}

// onset is an observance in a year.
type onset struct {
	of   *component
	year int
}

// zone gives what turns a local time of a zone into an instant, nil if nothing says which
// that is. A calendar's own definition goes before the name (RFC 5545 section 3.6.5).
func (z *zones) zone(id string) func(time.Time) (time.Time, error) {
	if id == "" {
		return nil
	}
	if def := z.of[id]; def != nil {
		return func(local time.Time) (time.Time, error) { return z.defined(def, local) }
	}
	loc, err := time.LoadLocation(id)
	if err != nil || id == "Local" {
		return nil
	}
	return func(t time.Time) (time.Time, error) {
		return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, loc), nil
	}
}

// defined finds the observance of a zone's definition that a local time lies in: the one that
// began last before it.
func (z *zones) defined(zone *component, local time.Time) (at time.Time, err error) {
	var last, first time.Time
	offset, before := "", ""
	for _, c := range zone.parts {
		p := c.get("DTSTART")
		if p == nil || c.name != "STANDARD" && c.name != "DAYLIGHT" {
			continue
		}
		start, _, err := parseStamp(strings.TrimSpace(p.value))
		if err != nil {
			continue
		}
		if first.IsZero() || start.Before(first) {
			first, before = start, c.text("TZOFFSETFROM")
		}
		k := onset{c, local.Year()}
		all, known := z.began[k]
		if !known {
			all = onsets(c, start, k.year)
			z.began[k] = all
		}
		for _, at := range all {
			if !at.After(local) && (offset == "" || at.After(last)) {
				last, offset = at, c.text("TZOFFSETTO")
			}
		}
	}
	if offset == "" {
		offset = before
	}
	t, err := time.Parse("-0700", offset)
	if err != nil {
		if t, err = time.Parse("-070000", offset); err != nil {
			return at, fmt.Errorf("the zone's offset %q is none", offset)
		}
	}
	_, seconds := t.Zone()
	return local.Add(-time.Duration(seconds) * time.Second), nil
}

// maxRule bounds a rule, in characters: those of zones have some sixty.
const maxRule = 200

// onsets lists when an observance begins that is in force in a year: at its start, at its yearly
// repeats in that year and the last one before, and at each of its further dates.
func onsets(c *component, start time.Time, year int) []time.Time {
	out := []time.Time{start}
	for i := range c.props {
		switch p := &c.props[i]; p.name {
		case "RRULE": // others than yearly ones are no zone's, and could go on for ever
			if len(p.value) > maxRule {
				continue
			}
			opt, err := rrule.StrToROption(p.value)
			if err != nil || opt.Freq != rrule.YEARLY || opt.Interval > 1 || len(opt.Byhour)+len(opt.Byminute)+len(opt.Bysecond) > 0 {
				continue
			}
			opt.Dtstart = start
			if rule, err := rrule.NewRRule(*opt); err == nil && year < 2200 && start.Year() > 1500 {
				begin := time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC)
				if t := rule.Before(begin, false); !t.IsZero() {
					out = append(out, t)
				}
				out = append(out, rule.Between(begin, begin.AddDate(1, 0, 0), true)...)
			}
		case "RDATE":
			for s := range strings.SplitSeq(p.value, ",") {
				if t, _, err := parseStamp(strings.TrimSpace(s)); err == nil {
					out = append(out, t)
				}
			}
		}
	}
	return out
}
