package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"crosswind/core/search"
)

// Filter narrows records. Zero values narrow nothing.
type Filter struct {
	CaseID   int64
	Exhibit  int64
	Exhibits []int64    // any of these
	Parties  [][]string // that name, of each of these, any handle in normal form
	From, To time.Time
	Kinds    []string
	State    string // a state's name, or "below" for all that was deleted
	Words    string
	Marked   bool
	Placed   bool   // that have a place
	Attached bool   // to which files belong
	Label    string // that are marked with this label, in any case
	Noted    bool   // of which there is a working note
	App      string // that lie in a file whose path has this, in any case
	Source   int    // of the acquisition with this number of its exhibit
	Near     *Near  // and it is near this one
	Larger   int64  // to which a file of at least so many bytes belongs
	Smaller  int64  // or of at most so many, and none larger
	Type     string // to which a file of this type belongs: image, image/jpeg, jpg
	Hidden   bool   // that lie in a hidden file, or to which one belongs
	System   bool   // that lie in a file of the handset's system
	Gone     *Gone  // that were deleted then
	Missing  bool   // that are live in an older source of their exhibit, and missing in a later one
	Talk     int64  // of the conversation of this record, as its acquisition has it
	Titled   string // of a conversation whose title has this, in any case
	ID       int64  // this record alone, if it is among them
}

// Gone is a span of time in which records were deleted: they are those whose window, by the sources that there are, lies
// within it, or if Perhaps meets it. See [Store.Went].
type Gone struct {
	From, To time.Time
	Perhaps  bool
}

// Near is what lies at most so many metres from a place, along a sphere: which is right to half a percent.
type Near struct{ Latitude, Longitude, Metres float64 }

// narrow reports whether a filter asks what counts by the hour do not know.
func (f *Filter) narrow() bool {
	return f.Marked || f.Label != "" || f.Noted || f.Placed || f.Near != nil || f.Attached || f.App != "" || f.Source != 0 || len(f.Parties) > 0 ||
		f.Larger != 0 || f.Smaller != 0 || f.Type != "" || f.Hidden || f.System || f.Gone != nil || f.Missing || f.Talk != 0 || f.Titled != "" || f.ID != 0
}

// where writes a filter as SQL over r and m.
func (s *Store) where(ctx context.Context, f *Filter, timed bool) (string, []any, error) {
	numbers := map[string][]string{} // what is asked for of a number, to the handles that it is part of
	for _, t := range search.Parse(f.Words) {
		if _, known := numbers[t.Number]; known || t.Number == "" {
			continue
		}
		// By themselves: within a query of records it could not be told how many these are.
		handles := []string{}
		if err := s.list(ctx, &handles, "finding handles", "SELECT DISTINCT handle FROM record_party WHERE case_id = $1 AND strpos(handle, $2) > 0", f.CaseID, t.Number); err != nil {
			return "", nil, err
		}
		numbers[t.Number] = handles
	}
	if f.Gone != nil || f.Missing {
		if err := s.keepWent(ctx, f.CaseID); err != nil {
			return "", nil, err
		}
	}
	q, args := f.sql(timed, numbers)
	return q, args, nil
}

// sql is where with the handles of its numbers. args grow with it.
func (f *Filter) sql(timed bool, numbers map[string][]string) (string, []any) {
	q, args := "r.case_id = $1", []any{f.CaseID}
	add := func(cond string, v any) {
		args = append(args, v)
		q += " AND " + strings.ReplaceAll(cond, "$", fmt.Sprintf("$%d", len(args)))
	}
	if f.ID != 0 {
		add("r.id = $", f.ID)
	}
	if f.Exhibit != 0 {
		add("r.exhibit_id = $", f.Exhibit)
	}
	if len(f.Exhibits) > 0 {
		add("r.exhibit_id = ANY($)", f.Exhibits)
	}
	for _, handles := range f.Parties {
		add("r.parties && $", handles)
	}
	if timed && !f.From.IsZero() {
		add("r.at >= $", f.From)
	}
	if timed && !f.To.IsZero() {
		add("r.at < $", f.To)
	}
	if len(f.Kinds) > 0 {
		add("r.kind = ANY($)", f.Kinds)
	}
	switch f.State {
	case "":
	case "below":
		q += " AND r.state <> 'intact'"
	default:
		add("r.state = $", f.State)
	}
	if terms := search.Parse(f.Words); len(terms) > 0 {
		arg := func(v any) string {
			args = append(args, v)
			return fmt.Sprintf("$%d", len(args))
		}
		has := func(lexemes string) string { return "lexemes(r.words) @@ " + arg(lexemes) + "::tsquery" }
		var all []string // of all terms, in any order
		for _, t := range terms {
			words, phrase := lexemes(t), "" // its words one after another
			if one := " " + strings.Join(t.Words, " "); len(t.Words) > 1 && t.Begins {
				phrase = " AND strpos(' ' || r.words, " + arg(one) + ") > 0"
			} else if len(t.Words) > 1 {
				phrase = " AND strpos(' ' || r.words || ' ', " + arg(one+" ") + ") > 0"
			}
			if t.Number == "" {
				all = append(all, words)
				q += phrase
				continue
			}
			q += " AND (" + has(quoted(t.Lexeme(), true))
			if words != "" {
				q += " OR " + has(words) + phrase
			}
			// Telephone numbers stand with the handles, and not among the words of each record.
			q += " OR r.parties && " + arg(numbers[t.Number]) + ")"
		}
		if len(all) > 0 {
			q += " AND " + has(strings.Join(all, " & "))
		}
	} else if strings.Trim(f.Words, "\" *") != "" {
		q += " AND false" // there is no word in what is asked
	}
	if f.Marked {
		q += " AND m.record_id IS NOT NULL"
	}
	if f.Label != "" {
		add("EXISTS (SELECT FROM mark l WHERE l.record_id = r.id AND lower(l.label) = lower($))", f.Label)
	}
	if f.Attached {
		q += " AND r.attached"
	}
	if f.Noted {
		q += " AND EXISTS (SELECT FROM working_note n WHERE n.acquisition_id = r.acquisition_id AND n.uid = r.uid)"
	}
	if f.App != "" {
		add("strpos(lower(r.db), lower($)) > 0", f.App)
	}
	if f.Source != 0 {
		args = append(args, f.Source)
		q += fmt.Sprintf(" AND r.acquisition_id = ANY(ARRAY(SELECT id FROM acquisition WHERE case_id = $1 AND number = $%d))", len(args))
	}
	if f.Missing {
		q += " AND " + missing
	}
	if f.Talk != 0 {
		add("(r.acquisition_id, r.db, r.thread, r.kind) = (SELECT x.acquisition_id, x.db, x.thread, x.kind FROM record x WHERE x.id = $ AND x.thread <> '')", f.Talk)
	}
	if f.Titled != "" {
		add("strpos(lower(r.thread_title), lower($)) > 0", f.Titled)
	}
	if f.Larger != 0 {
		add("r.bytes >= $", f.Larger)
	}
	if f.Smaller != 0 {
		add("r.bytes <= $", f.Smaller)
	}
	if f.Type != "" {
		add("EXISTS (SELECT FROM unnest(r.types) t WHERE t = lower($) OR starts_with(t, lower($) || '/') OR ltrim(t, '.') = ltrim(lower($), '.'))", f.Type)
	}
	const attribute = "EXISTS (SELECT FROM acquired_file f WHERE f.acquisition_id = r.acquisition_id AND f.real_path = r.db AND f.found->>'%s' = 'true')"
	if f.Hidden {
		q += " AND (r.hidden OR " + fmt.Sprintf(attribute, "hidden") + ")"
	}
	if f.System {
		q += " AND (" + systemPath("r.db") + " OR " + fmt.Sprintf(attribute, "system") + ")"
	}
	if g := f.Gone; g != nil {
		within := "w.after >= $%d AND w.before <= $%d"
		if g.Perhaps {
			within = "w.before > $%d AND w.after < $%d"
		}
		args = append(args, g.From, g.To)
		q += fmt.Sprintf(" AND r.id IN (SELECT w.record_id FROM record_went w WHERE w.case_id = $1 AND "+within+")", len(args)-1, len(args))
	}
	if f.Placed || f.Near != nil {
		q += " AND r.latitude IS NOT NULL"
	}
	if n := f.Near; n != nil {
		args = append(args, n.Latitude, n.Longitude, n.Metres)
		k := len(args)
		q += fmt.Sprintf(` AND 2 * 6371008.8 * asin(sqrt(least(1, power(sin(radians(r.latitude - $%[1]d) / 2), 2)
  + cos(radians($%[1]d)) * cos(radians(r.latitude)) * power(sin(radians(r.longitude - $%[2]d) / 2), 2)))) <= $%[3]d`, k-2, k-1, k)
	}
	return q, args
}

// lexemes writes the words of a term as a query of PostgreSQL's: all of them, in any order.
func lexemes(t search.Term) string {
	var words []string
	for i, w := range t.Words {
		words = append(words, quoted(w, t.Begins && i == len(t.Words)-1))
	}
	return strings.Join(words, " & ")
}

// quoted writes a lexeme, or those that begin with it. Words hold no quotes.
func quoted(w string, begins bool) string {
	if begins {
		return "'" + w + "':*"
	}
	return "'" + w + "'"
}

// countFrom is what records are counted from by a filter.
func (f *Filter) countFrom() string {
	if f.Marked {
		return " FROM record r JOIN mark m ON m.record_id = r.id WHERE "
	}
	return " FROM record r WHERE "
}
