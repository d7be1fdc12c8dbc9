package examine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/core/search"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/dustin/go-humanize"
)

// filterWord is a part of what is filtered, in words, and the address without it.
type filterWord struct{ Words, Off string }

// readFilter reads what is filtered from the address. In the line of words, those with a colon narrow, and the rest is
// looked for.
func (a pages) readFilter(ctx context.Context, p *frame.Page, v *content) error {
	f := &v.Filter
	f.CaseID, f.Exhibit, f.Marked, f.State, f.Near = p.Case.ID, p.ExhibitID(), p.Query.Get("marked") != "", p.Query.Get("state"), readNear(p.Query.Get("near"))
	f.Kinds = slices.DeleteFunc(strings.Split(p.Query.Get("kind"), ","), func(s string) bool { return s == "" })
	if len(f.Kinds) > 0 {
		v.Words = append(v.Words, filterWord{kindWords(f.Kinds), p.Keep("kind", "", "after", "")})
	}
	if f.State == missingLater {
		f.State, f.Missing = "", true
		v.Words = append(v.Words, filterWord{missingWords, p.Keep("state", "", "after", "")})
	}
	if f.State != "" {
		v.Words = append(v.Words, filterWord{strings.ToLower(stateWords(f.State)), p.Keep("state", "", "after", "")})
	}
	if f.Marked {
		v.Words = append(v.Words, filterWord{"marked", p.Keep("marked", "", "after", "")})
	}
	if n := f.Near; n != nil {
		v.Words = append(v.Words, filterWord{nearWords(n), p.Keep("near", "", "after", "")})
	}
	if f.App = p.Query.Get("in"); f.App != "" {
		v.Words = append(v.Words, filterWord{"in " + f.App, p.Keep("in", "", "after", "")})
	}
	all := search.Fields(p.Query.Get("q"))
	without := func(i int) string {
		return p.Keep("q", strings.Join(slices.Delete(slices.Clone(all), i, i+1), " "), "after", "")
	}
	var words, rest, refused []string
	remark := ""
	for i, w := range all {
		said, err := a.filterBy(ctx, p, f, w)
		if errors.Is(err, errUnread) {
			refused = append(refused, fmt.Sprintf("%s: %v; it is left out.", w, err))
			rest = append(rest, w)
			continue
		}
		if err != nil {
			return err
		}
		if said == "" {
			if name, is := misnamed(w); is {
				remark = ", since nothing narrows by " + name
			}
			words, rest = append(words, w), append(rest, w)
			continue
		}
		v.Words = append(v.Words, filterWord{said, without(i)})
	}
	v.Refused, f.Words = strings.Join(refused, " "), strings.Join(words, " ")
	if f.Words != "" {
		keep := slices.DeleteFunc(slices.Clone(all), func(w string) bool { return slices.Contains(rest, w) })
		v.Words = append(v.Words, filterWord{"the words " + f.Words + remark, p.Keep("q", strings.Join(keep, " "), "after", "")})
	}
	return nil
}

// lineWith is the line of words with one that narrows, in place of those that begin with any of the others.
func lineWith(p *frame.Page, word string, instead ...string) string {
	line := slices.DeleteFunc(search.Fields(p.Query.Get("q")), func(w string) bool {
		return slices.ContainsFunc(instead, func(s string) bool { return strings.HasPrefix(w, s) })
	})
	return strings.Join(append(line, word), " ")
}

// missingLater stands among states for what is live in an older source of an exhibit, and missing in a later one.
const (
	missingLater = "missing"
	missingWords = "missing later"
)

// errUnread is of what narrows, but cannot be read.
var errUnread = errors.New("it cannot be read")

// misnamed reports whether a word looks as if it were to narrow, and the name before its colon.
func misnamed(w string) (name string, is bool) {
	name, value, _ := strings.Cut(w, ":")
	other := func(r rune) bool { return r != '-' && (r < 'a' || r > 'z') }
	return name + ":", len(name) > 1 && value != "" && !strings.HasPrefix(value, "//") && strings.IndexFunc(name, other) < 0
}

// filterBy narrows f by a word of the line, and says how; "" if the word is one to be looked for. What narrows to one thing
// is asked once.
func (a pages) filterBy(ctx context.Context, p *frame.Page, f *store.Filter, w string) (said string, err error) {
	name, raw, _ := strings.Cut(w, ":")
	value := strings.TrimSpace(strings.ReplaceAll(raw, `"`, ""))
	if value == "" {
		return "", nil
	}
	once := func(asked bool) error {
		if asked {
			return fmt.Errorf("%w beside another %s that is asked for", errUnread, name)
		}
		return nil
	}
	switch name {
	case "is", "has":
		switch w {
		case "is:marked":
			f.Marked = true
			return "marked", nil
		case "is:noted":
			f.Noted = true
			return "with a working note", nil
		case "is:hidden":
			f.Hidden = true
			return "of hidden files", nil
		case "is:system":
			f.System = true
			return "of the system's files", nil
		case "has:place":
			f.Placed = true
			return "with a place", nil
		case "has:attachment":
			f.Attached = true
			return "with an attachment", nil
		}
		return "", fmt.Errorf("%w: there are is:marked, is:noted, is:hidden, is:system, has:place and has:attachment", errUnread)
	case "kind":
		kinds := strings.Split(value, ",")
		for i, k := range kinds {
			kind, err := record.ParseKind(k)
			if err != nil {
				return "", fmt.Errorf("%w as kinds of record, such as call or call,message", errUnread)
			}
			kinds[i] = string(kind)
		}
		f.Kinds = append(f.Kinds, kinds...)
		return kindWords(kinds), nil
	case "state":
		states := []string{"below", missingLater}
		for _, s := range record.States {
			states = append(states, string(s.State))
		}
		if value = strings.ToLower(value); !slices.Contains(states, value) {
			return "", fmt.Errorf("%w as a state, which are %s", errUnread, strings.Join(states, ", "))
		}
		if err := once(f.State != "" || f.Missing); err != nil {
			return "", err
		}
		if value == missingLater {
			f.Missing = true
			return missingWords, nil
		}
		f.State = value
		return strings.ToLower(stateWords(value)), nil
	case "label":
		if err := once(f.Label != ""); err != nil {
			return "", err
		}
		f.Label = value
		return "marked " + value, nil
	case "app":
		if err := once(f.App != ""); err != nil {
			return "", err
		}
		f.App = value
		return "in a file of " + value, nil
	case "type":
		if err := once(f.Type != ""); err != nil {
			return "", err
		}
		f.Type = value
		return "with a file of type " + value, nil
	case "larger", "smaller":
		n, err := humanize.ParseBytes(value)
		if err != nil || n == 0 || n > math.MaxInt64 {
			return "", fmt.Errorf("%w as a size, such as 200kB or 4MiB", errUnread)
		}
		if name == "larger" {
			if err := once(f.Larger != 0); err != nil {
				return "", err
			}
			f.Larger = int64(n)
			return fmt.Sprintf("with a file of %s bytes or more", frame.Num(n)), nil
		}
		if err := once(f.Smaller != 0); err != nil {
			return "", err
		}
		f.Smaller = int64(n)
		return fmt.Sprintf("with files of %s bytes or less", frame.Num(n)), nil
	case "deleted", "perhaps-deleted":
		from, to, err := readSpan(value, p.Zone)
		if err == nil {
			err = once(f.Gone != nil)
		}
		if err != nil {
			return "", err
		}
		f.Gone = &store.Gone{From: from, To: to, Perhaps: name == "perhaps-deleted"}
		said := "deleted"
		if f.Gone.Perhaps {
			said = "that can have been deleted"
		}
		return fmt.Sprintf("%s between %s and %s", said, frame.Minute(from, p.Zone), frame.Minute(to, p.Zone)), nil
	case "source":
		n, err := strconv.Atoi(value)
		if err != nil || n < 1 {
			return "", fmt.Errorf("%w as the number of an acquisition", errUnread)
		}
		if err := once(f.Source != 0); err != nil {
			return "", err
		}
		f.Source = n
		return "of acquisition " + value, nil
	case "exhibit":
		i := slices.IndexFunc(p.Exhibits, func(e store.Exhibit) bool { return strings.EqualFold(e.Reference, value) })
		if i < 0 {
			return "", fmt.Errorf("%w as an exhibit of the case", errUnread)
		}
		if err := once(f.Exhibit != 0 && f.Exhibit != p.Exhibits[i].ID); err != nil {
			return "", err
		}
		f.Exhibit = p.Exhibits[i].ID
		return "of exhibit " + p.Exhibits[i].Reference, nil
	case "conversation":
		if err := once(f.Talk != 0 || f.Titled != ""); err != nil {
			return "", err
		}
		id, err := strconv.ParseInt(raw, 10, 64)
		if err != nil { // a title of digits stands between quotation marks
			f.Titled = value
			return "of conversations called " + value, nil
		}
		r, err := a.Store.RecordByID(ctx, p.Case.ID, id)
		if errors.Is(err, store.ErrNotFound) || err == nil && r.Thread == "" {
			return "", fmt.Errorf("%w as a record of a conversation", errUnread)
		}
		if err != nil {
			return "", err
		}
		f.Talk = id
		return fmt.Sprintf("of the conversation %s in %s, acquisition %d of %s", cmp.Or(r.ThreadTitle, r.Thread), r.DB, r.AcqNo, r.ExhibitRef), nil
	case "near":
		n := readNear(value)
		if n == nil {
			return "", fmt.Errorf("%w as a place and metres around it, such as near:44.5,-31.25,500", errUnread)
		}
		if err := once(f.Near != nil); err != nil {
			return "", err
		}
		f.Near = n
		return nearWords(n), nil
	case "with":
		people, err := a.Store.People(ctx, p.Case.ID)
		if err != nil {
			return "", err
		}
		handles := []string{value} // which nobody has
		for _, x := range people.Persons {
			if matches(x, value) {
				handles = append(handles, x.Handles...)
			}
		}
		f.Parties = append(f.Parties, handles)
		return "with somebody called " + value, nil
	}
	return "", nil
}

// readSpan reads a span of time: two moments (ISO 8601 section 5.5.2), or a day, week, month or year before one.
func readSpan(s string, zone *time.Location) (from, to time.Time, err error) {
	first, last, _ := strings.Cut(s, "/")
	if to, err = readMoment(last, zone); err == nil {
		switch first {
		case "day":
			return to.AddDate(0, 0, -1), to, nil
		case "week":
			return to.AddDate(0, 0, -7), to, nil
		case "month":
			return to.AddDate(0, -1, 0), to, nil
		case "year":
			return to.AddDate(-1, 0, 0), to, nil
		}
		if from, err = readMoment(first, zone); err == nil && from.Before(to) {
			return from, to, nil
		}
	}
	return from, to, fmt.Errorf("%w as a span, such as week/2026-09-14 or 2026-09-11T18:00/2026-09-12", errUnread)
}

// readMoment reads a moment of RFC 3339, whose time may be left out to the second, the minute or wholly, and whose zone: it
// is the case's then. A day alone is its beginning.
func readMoment(s string, zone *time.Location) (t time.Time, err error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04Z07:00", "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02"} {
		if t, err = time.ParseInLocation(layout, s, zone); err == nil && t.Year() > 0 {
			return t, nil
		}
	}
	return t, errUnread
}

func nearWords(n *store.Near) string {
	return fmt.Sprintf("within about %.0f m of %.5f, %.5f", n.Metres, n.Latitude, n.Longitude)
}

func kindWords(kinds []string) string {
	if len(kinds) > 4 {
		return fmt.Sprintf("%d kinds", len(kinds))
	}
	var out []string
	for _, k := range kinds {
		out = append(out, strings.ToLower(record.Kind(k).Plural()))
	}
	return strings.Join(out, " and ")
}

func stateWords(s string) string {
	if s == "below" {
		return "Below"
	}
	return record.State(s).Title()
}
