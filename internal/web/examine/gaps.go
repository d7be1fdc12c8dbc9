package examine

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"crosswind/core/gap"
	"crosswind/core/record"
	"crosswind/core/timeline"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// The measures of the bars, how many runs of a table and steps of clocks are told before more are asked for, and how many
// tables come at once.
const (
	gapWidth   = 640
	thinnest   = 0.8 // of what a bar shows
	shownRuns  = 8
	shownSteps = 20
	moreTables = 8
	tableRows  = shownRuns + 3 // as tall as so many rows of a list is what is told of a table
)

// gaps is the view of what is missing.
type gaps struct {
	Steps    []clockStep
	Largest  bool           // there are more steps of the clock than are found
	Smaller  int            // steps that are found and not told: smaller ones
	AllSteps string         // address at which they are
	Ask      string         // address at which clocks that went back are looked for, where there is so much that it takes long
	Zones    []store.Record // changes of a handset's zone, of those within the chart
	Silences []quiet
	Quieter  int // silences that are not listed
	Tables   []gapTable
	Next     string // address at which they go on, "" at their end
	Whole    int    // tables without a gap
}

type gapTable struct {
	store.Gaps
	Bar   string // path of what is there
	Holes string // and of what is missing
	Runs  []gapRun
	Name  string // which tells it from all other tables
	Open  bool   // all runs are asked for
	More  int    // else, how many are not told
	Next  string // address at which they go on, "" at their end
	In    int64  // missing numbers of runs that touch what the chart shows
}

// quiet is a run of hours in which an exhibit recorded nothing, against its habit.
type quiet struct {
	gap.Silence
	Exhibit string
	In      bool   // it touches what the chart shows
	Look    string // address at which the chart shows it
}

const shownSilences = 6

// clockStep is a step back of the times of rows.
type clockStep struct {
	store.ClockStep
	Look string // address at which the chart shows what lies between
	In   bool   // it touches what the chart shows
}

// By is how far it goes back, in words.
func (s clockStep) By() string { return long(s.Back) }

// manyRecords are so many that all their rows are put in order only if that is asked for.
const manyRecords = 150_000

// mostZones bounds the changes of zone that are listed.
const mostZones = 12

// toldSteps are the steps of clocks that are told, most at most: those within the chart and then the largest, in order of time.
func toldSteps(all []clockStep, most int) []clockStep {
	in := func(a, b clockStep) int {
		switch {
		case a.In == b.In:
			return 0
		case a.In:
			return -1
		}
		return 1
	}
	slices.SortStableFunc(all, func(a, b clockStep) int { return cmp.Or(in(a, b), cmp.Compare(b.Back, a.Back)) })
	all = all[:min(len(all), most)]
	slices.SortStableFunc(all, func(a, b clockStep) int { return cmp.Or(in(a, b), a.Before.At.Compare(*b.Before.At)) })
	return all
}

// steps finds where clocks went back, and where zones were changed.
func (a pages) steps(ctx context.Context, p *frame.Page, v *content, g *gaps) error {
	var all []store.ClockStep
	known, err := a.Store.ClockStepsKnown(ctx, p.Case.ID)
	n := int64(0)
	if err == nil && !known && p.Query.Get("steps") == "" {
		n, err = a.Store.Recorded(ctx, p.Case.ID, v.Filter.Exhibit)
	}
	if err == nil && n > manyRecords {
		g.Ask = p.Keep("steps", "1", "o", "")
	} else if err == nil {
		all, err = a.Store.ClockSteps(ctx, p.Case.ID, v.Filter.Exhibit)
	}
	if err != nil {
		return err
	}
	g.Largest = len(all) >= store.MostSteps
	for _, s := range all {
		off := of(v.clocks, s.Before.ExhibitID).Off
		before, after := s.Before.At.Add(-off), s.After.At.Add(-off)
		s.Before.At, s.After.At = &before, &after
		from, to := after, before
		margin := s.Back/4 + time.Minute
		g.Steps = append(g.Steps, clockStep{s, p.Keep("from", from.Add(-margin).UTC().Format(time.RFC3339), "to", to.Add(margin).UTC().Format(time.RFC3339), "view", "", "after", "", "o", "", "r", fmt.Sprint(s.Before.ID)),
			from.Before(v.Filter.To) && to.After(v.Filter.From)})
	}
	most := shownSteps
	if p.Query.Get("steps") == "all" {
		most = len(g.Steps)
	}
	if g.Smaller = len(g.Steps) - most; g.Smaller > 0 {
		g.AllSteps = p.Keep("steps", "all", "o", "")
	}
	g.Steps = toldSteps(g.Steps, most)
	f := store.Filter{CaseID: p.Case.ID, Exhibit: v.Filter.Exhibit, From: v.Filter.From, To: v.Filter.To, Kinds: record.KindsOf(func(a record.About) bool { return a.Zoned })}
	zones, _, err := a.records(ctx, v.clocks, f, store.After{}, fewRecords)
	type change struct {
		exhibit int64
		at      int64
		to      string
	}
	seen := map[change]bool{}
	for _, r := range zones { // of what several sources have, one
		if k := (change{r.ExhibitID, r.At.UnixMicro(), r.Summary}); !seen[k] {
			seen[k] = true
			g.Zones = append(g.Zones, r)
		}
	}
	if len(g.Zones) > mostZones {
		g.Zones = g.Zones[len(g.Zones)-mostZones:]
	}
	return err
}

// silences finds when exhibits recorded nothing, against the habit.
func (a pages) silences(ctx context.Context, p *frame.Page, v *content, g *gaps) error {
	for _, e := range p.Exhibits {
		if id := v.Filter.Exhibit; id != 0 && id != e.ID {
			continue
		}
		months, err := a.Store.Months(ctx, store.Filter{CaseID: p.Case.ID, Exhibit: e.ID})
		if err != nil {
			return err
		}
		from, to, _, _ := timeline.Where(months)
		hours, err := a.Store.Hours(ctx, p.Case.ID, e.ID, from, to)
		if err != nil {
			return err
		}
		off := of(v.clocks, e.ID).Off
		for _, s := range gap.Silences(hours, p.Zone) {
			s.From, s.To = s.From.Add(-off), s.To.Add(-off)
			x := quiet{Silence: s, Exhibit: e.Reference, In: s.From.Before(v.Filter.To) && s.To.After(v.Filter.From)}
			margin := s.To.Sub(s.From) / 3
			x.Look = p.Keep("from", s.From.Add(-margin).UTC().Format(time.RFC3339), "to", s.To.Add(margin).UTC().Format(time.RFC3339), "exhibit", e.Reference, "after", "", "o", "")
			g.Silences = append(g.Silences, x)
		}
	}
	slices.SortStableFunc(g.Silences, func(a, b quiet) int {
		if a.In != b.In {
			if a.In {
				return -1
			}
			return 1
		}
		return cmp.Compare(b.Usual, a.Usual)
	})
	if g.Quieter = len(g.Silences) - shownSilences; g.Quieter > 0 {
		g.Silences = g.Silences[:shownSilences]
	}
	return nil
}

// gapRun is a run of missing numbers, with the times of the rows on either side.
type gapRun struct {
	gap.Run
	After, Before   *time.Time // nil if they cannot be told
	AfterR, BeforeR int64      // the records
	Look            string     // address at which the chart shows what lies between
	In              bool       // it touches what the chart shows
	Astray          bool       // the times of the rows on either side do not follow their numbers
	AtEnd           bool       // no row follows: the counter says that they were
	Talk            string     // of which conversations the rows on either side are, in words
}

// Reads is the record that is read when the run is chosen, 0 if there is none: the row before it, or behind.
func (r gapRun) Reads() int64 {
	switch {
	case r.After != nil:
		return r.AfterR
	case r.Before != nil:
		return r.BeforeR
	}
	return 0
}

// conversations says of the runs that are listed in which conversations they lie.
func (a pages) conversations(ctx context.Context, p *frame.Page, g *gaps) error {
	var ids []int64
	for _, t := range g.Tables {
		for _, r := range t.Runs {
			ids = append(ids, r.AfterR, r.BeforeR)
		}
	}
	found, err := a.Store.RecordsByID(ctx, p.Case.ID, ids)
	name := func(id int64) string {
		r := found[id]
		if r == nil || !r.Kind.About().InTalk || r.Thread == "" {
			return ""
		}
		return cmp.Or(r.ThreadTitle, "conversation "+r.Thread)
	}
	for i := range g.Tables {
		for j := range g.Tables[i].Runs {
			r := &g.Tables[i].Runs[j]
			r.Talk = neighbours(name(r.AfterR), name(r.BeforeR))
		}
	}
	return err
}

// neighbours says between which conversations numbers are missing, by those of the rows before and behind.
func neighbours(before, behind string) string {
	switch {
	case before == "" && behind == "":
		return ""
	case before == behind:
		return "between rows of " + before
	case before == "":
		return "before a row of " + behind
	case behind == "":
		return "after a row of " + before
	}
	return "after a row of " + before + ", before one of " + behind
}

func (a pages) gaps(ctx context.Context, p *frame.Page, v *content) (*gaps, error) {
	all, err := a.Store.Gaps(ctx, p.Case.ID, v.Filter.Exhibit)
	if err != nil {
		return nil, err
	}
	g := &gaps{}
	skip, _ := strconv.Atoi(p.Query.Get("tables")) // what is no number skips none
	if skip = max(skip, 0); skip == 0 {
		if err = a.silences(ctx, p, v, g); err == nil {
			err = a.steps(ctx, p, v, g)
		}
	}
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		if x.Missing == 0 {
			g.Whole++
			continue
		}
		t := gapTable{Gaps: x, Name: fmt.Sprintf("%s/%d/%s/%s", x.ExhibitRef, x.AcqNo, x.DB, x.Table)}
		t.Bar, t.Holes = t.draw()
		for _, r := range x.Numbers.Runs {
			run := gapRun{Run: r, AtEnd: r.To == x.Last && x.Counter == x.Last}
			off := of(v.clocks, v.exhibit(p, x.ExhibitRef)).Off
			if at, is := x.Times[r.From-1]; is {
				at = at.Add(-off)
				run.After, run.AfterR = &at, x.Record[r.From-1]
			}
			if at, is := x.Times[r.To+1]; is {
				at = at.Add(-off)
				run.Before, run.BeforeR = &at, x.Record[r.To+1]
			}
			from, to := run.After, run.Before
			if from != nil && to != nil && to.Before(*from) {
				run.After, run.Before, run.Astray = nil, nil, true
				t.Runs = append(t.Runs, run)
				continue
			}
			run.In = (from == nil || from.Before(v.Filter.To)) && (to == nil || to.After(v.Filter.From)) && (from != nil || to != nil)
			if from != nil && to != nil {
				margin := to.Sub(*from)/4 + time.Minute
				run.Look = p.Keep("from", from.Add(-margin).UTC().Format(time.RFC3339), "to", to.Add(margin).UTC().Format(time.RFC3339), "view", "", "tables", "", "runs", "", "skip", "", "o", "", "r", fmt.Sprint(run.AfterR))
			}
			if run.In {
				t.In += r.N()
			}
			t.Runs = append(t.Runs, run)
		}
		// What the chart shows goes first, then what is largest.
		slices.SortStableFunc(t.Runs, func(a, b gapRun) int {
			if a.In != b.In {
				if a.In {
					return -1
				}
				return 1
			}
			return cmp.Compare(b.N(), a.N())
		})
		if t.Open = p.Query.Get("runs") == t.Name; t.Open {
			t.Runs, t.Next = part(p, t.Runs, 0, underViews)
		} else if t.More = len(t.Runs) - shownRuns; t.More > 0 {
			t.Runs, t.Next = t.Runs[:shownRuns], p.Keep("runs", t.Name, "skip", fmt.Sprint(shownRuns), "tables", "", "o", "")
		}
		g.Tables = append(g.Tables, t)
	}
	slices.SortStableFunc(g.Tables, func(a, b gapTable) int { return cmp.Or(cmp.Compare(b.In, a.In), cmp.Compare(b.Missing, a.Missing)) })
	g.Tables = g.Tables[min(skip, len(g.Tables)):]
	n := moreTables
	if skip == 0 {
		n = max(firstRows(p, underViews)/tableRows+1, 1+slices.IndexFunc(g.Tables, func(t gapTable) bool { return t.Open || t.reads(p.Query.Get("r")) }))
	}
	if n < len(g.Tables) {
		g.Tables, g.Next = g.Tables[:n], p.Keep("tables", fmt.Sprint(skip+n), "runs", "", "skip", "", "o", "")
	}
	return g, a.conversations(ctx, p, g)
}

// reads says whether one of the runs that are told is chosen, by a record.
func (t gapTable) reads(record string) bool {
	return slices.ContainsFunc(t.Runs, func(r gapRun) bool { return r.Reads() != 0 && fmt.Sprint(r.Reads()) == record })
}

// exhibit is the id of an exhibit by its reference.
func (v *content) exhibit(p *frame.Page, ref string) int64 {
	for _, e := range p.Exhibits {
		if e.Reference == ref {
			return e.ID
		}
	}
	return 0
}

// draw draws the numbers of a table from first to last, with what is missing cut out.
func (t *gapTable) draw() (bar, holes string) {
	if t.Sparse {
		return "", ""
	}
	span := float64(t.Last-t.First) + 1
	x := func(n int64) float64 { return math.Round(float64(n-t.First)/span*gapWidth*10) / 10 }
	put := func(s *string, from, to float64) {
		if to > from {
			*s += fmt.Sprintf("M%.1f 0H%.1fV10H%.1fz", from, to, from)
		}
	}
	began, holed := 0.0, 0.0 // the last hole: runs that are one in the drawing are one path
	for _, r := range t.Numbers.Runs {
		from, to := x(r.From), max(x(r.To+1), x(r.From)+thinnest)
		if from > holed {
			put(&holes, began, holed)
			put(&bar, holed, from)
			began = from
		}
		holed = max(holed, to)
	}
	put(&holes, began, holed)
	put(&bar, holed, gapWidth)
	return bar, holes
}
