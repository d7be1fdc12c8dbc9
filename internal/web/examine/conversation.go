package examine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/gap"
	"crosswind/core/record"
	"crosswind/core/talk"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

const (
	before      = 40   // messages of a conversation before and after the chosen one
	saidAtMost  = 1000 // of another source between these
	columns     = 3
	shownTalks  = 48
	silence     = 10 * time.Minute // from which on it is told in words
	besideParam = "beside"
)

// conversation is the view in which a conversation is read as its sources have it, side by side.
type conversation struct {
	Talks   []talkLine // to choose from, if none is chosen
	Title   string
	Columns []column
	Lines   []saidLine
	Further []further // sources that have it, too, and are not shown
	Apart   []further // other conversations of the chart's time, to be put beside it
	Earlier string    // addresses at which it goes on, "" at its ends
	Later   string
	N       int
	Below   int
	Only    int // lines that the first source does not have
	Gone    []string
	Unlike  bool // the sources were read under different authorities
	holes   []hole
}

type talkLine struct {
	store.Talk
	Ref, Title string
	AcqNo      int
	Address    string
}

// column is a source's side of the conversation.
type column struct {
	Ref    string
	AcqNo  int
	Title  string
	Said   string // how and when the source was made
	Made   time.Time
	Drop   string // address without it, "" of the first
	Talk   store.Talk
	lives  bool
	Apart  bool      // it is another conversation
	until  time.Time // after which it is not read here, zero if all of it is
	device string
	all    []store.Record
}

type further struct{ Words, Address string }

// saidLine is a line of the conversation: a cell for each column.
type saidLine struct {
	At      time.Time
	Day     string // if it is another than that of the line before
	Silence string // since the line before, if it is long
	Gap     int    // 0 to 3: since the line before, if it is not
	Holes   []hole // before it: numbers that no row of the first source's table has
	Cells   []saidCell
}

// hole is a run of numbers that no row has, of the table in which a conversation lies with others.
type hole struct {
	gap.Run
	After, Before time.Time // the rows on either side
	Table         string
	Recovered     int // of the conversation's lines between these, without a number: they may be among these
}

type saidCell struct {
	*store.Record
	Older   []olderText
	Missing string // why there is nothing, in words
	Gone    bool   // something was there
}

// olderText is an earlier version of what was said, as what was taken out of it and put into it since.
type olderText struct {
	*store.Record
	Pieces []frame.Piece
}

func (a pages) conversation(ctx context.Context, p *frame.Page, v *content) (*conversation, error) {
	var r *store.Record
	if v.Chosen != nil {
		r = &v.Chosen.Record
	}
	if r == nil || !r.Kind.About().InTalk || r.Thread == "" || r.At == nil {
		return a.talks(ctx, p, v)
	}
	k := &conversation{Title: v.Chosen.Called()}
	asStored, err := a.Store.RecordByID(ctx, p.Case.ID, r.ID)
	if err != nil {
		return nil, err
	}
	own, err := a.Store.Around(ctx, asStored, before)
	if err != nil || len(own) == 0 {
		return k, err
	}
	from, to := *own[0].At, *own[len(own)-1].At
	at := slices.IndexFunc(own, func(x store.Record) bool { return x.ID == r.ID })
	if at >= before-1 {
		k.Earlier = p.Keep("r", fmt.Sprint(own[0].ID), "o", "")
	}
	if len(own)-1-at >= before {
		k.Later = p.Keep("r", fmt.Sprint(own[len(own)-1].ID), "o", "")
	}
	acqs := map[int64]*store.Acquisition{}
	add := func(t store.Talk, all []store.Record) error {
		acq := acqs[t.AcquisitionID]
		if acq == nil {
			if acq, err = a.Store.AcquisitionByID(ctx, t.AcquisitionID); err != nil {
				return err
			}
			acqs[t.AcquisitionID] = acq
		}
		if len(all) == 0 {
			return nil
		}
		c := column{Ref: all[0].ExhibitRef, AcqNo: acq.Number, Made: acq.Made(), Talk: t, lives: acq.LiveOnly, device: fmt.Sprint(t.ExhibitID), all: all}
		c.Title = all[0].ThreadTitle
		c.Apart = t.Shared < 0
		if c.Said = acq.Method; !c.Made.IsZero() {
			c.Said += ", " + c.Made.In(p.Zone).Format("2 Jan 2006 15:04")
		}
		of(v.clocks, t.ExhibitID).right(c.all)
		if len(all) == saidAtMost {
			c.until = *all[len(all)-1].At
		}
		k.Columns = append(k.Columns, c)
		return nil
	}
	base := store.Talk{AcquisitionID: asStored.AcquisitionID, ExhibitID: asStored.ExhibitID, DB: asStored.DB, Thread: asStored.Thread, Kind: asStored.Kind}
	if err := add(base, own); err != nil {
		return nil, err
	}
	others, err := a.Store.Beside(ctx, asStored, from, to)
	if err != nil {
		return nil, err
	}
	others = slices.DeleteFunc(others, func(t store.Talk) bool {
		return v.Filter.Exhibit != 0 && t.ExhibitID != v.Filter.Exhibit || t.Shared < 2 && t.ExhibitID != base.ExhibitID
	})
	apart, err := a.apart(ctx, p, v, base, others)
	if err != nil {
		return nil, err
	}
	others = append(others, apart...)
	shown := beside(p, base, others)
	for _, i := range shown {
		all, err := a.Store.Said(ctx, p.Case.ID, others[i], from.Add(-talk.Apart), to.Add(talk.Apart), saidAtMost)
		if err == nil {
			err = add(others[i], all)
		}
		if err != nil {
			return nil, err
		}
		if n := len(k.Columns) - 1; n > 0 {
			var rest []string
			for _, j := range shown {
				if j != i {
					rest = append(rest, fmt.Sprint(others[j].Record))
				}
			}
			k.Columns[n].Drop = p.Keep(besideParam, cmp.Or(strings.Join(rest, ","), "none"), "o", "")
		}
	}
	with := func(record int64) string { // the address with what this one is of beside the first
		ids := []string{fmt.Sprint(record)}
		if len(shown) > 0 {
			ids = append(ids, fmt.Sprint(others[shown[0]].Record))
		}
		return p.Keep(besideParam, strings.Join(ids, ","), "o", "")
	}
	for i, t := range others {
		if slices.Contains(shown, i) || t.Shared < 0 {
			continue
		}
		x, err := a.Store.RecordByID(ctx, p.Case.ID, t.Record)
		if err != nil {
			continue // what may not be seen is not offered
		}
		k.Further = append(k.Further, further{fmt.Sprintf("%s acquisition %d, %s", x.ExhibitRef, x.AcqNo, t.File()), with(t.Record)})
	}
	if k.Apart, err = a.offered(ctx, p, v, append(others, base), with); err != nil {
		return nil, err
	}
	if len(k.Columns) > 1 {
		sources, err := a.Store.Sources(ctx, p.Case.ID, nil)
		if err != nil {
			return nil, err
		}
		under := map[int64]bool{}
		for _, s := range sources {
			if slices.ContainsFunc(k.Columns, func(c column) bool { return c.Talk.AcquisitionID == s.ID }) {
				under[s.Authority] = true
			}
		}
		k.Unlike = len(under) > 1
	}
	if err := a.holes(ctx, p, k, asStored, of(v.clocks, base.ExhibitID)); err != nil {
		return nil, err
	}
	k.align(p.Zone, from.Add(-of(v.clocks, base.ExhibitID).Off), to.Add(-of(v.clocks, base.ExhibitID).Off))
	return k, nil
}

// apart finds what else the address wants beside a conversation: other conversations, by a record of each. Their Shared is -1.
func (a pages) apart(ctx context.Context, p *frame.Page, v *content, base store.Talk, others []store.Talk) (out []store.Talk, err error) {
	var ids []int64
	for s := range strings.SplitSeq(p.Query.Get(besideParam), ",") {
		if n, err := strconv.ParseInt(s, 10, 64); err == nil && len(ids) < columns-1 && !slices.Contains(ids, n) &&
			!slices.ContainsFunc(others, func(t store.Talk) bool { return t.Record == n }) {
			ids = append(ids, n)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	found, err := a.Store.RecordsByID(ctx, p.Case.ID, ids)
	for _, id := range ids {
		if r := found[id]; r != nil && r.Kind.About().InTalk && r.Thread != "" && !base.Of(r) && (v.Filter.Exhibit == 0 || r.ExhibitID == v.Filter.Exhibit) {
			out = append(out, store.Talk{AcquisitionID: r.AcquisitionID, ExhibitID: r.ExhibitID, DB: r.DB, Thread: r.Thread, Kind: r.Kind, Shared: -1, Record: id})
		}
	}
	return out, err
}

// offered lists the conversations of the chart's time and exhibit, but those that are known already: whatever else is asked for,
// what was said elsewhere meanwhile is of interest.
func (a pages) offered(ctx context.Context, p *frame.Page, v *content, known []store.Talk, with func(record int64) string) (out []further, err error) {
	all, err := a.listTalks(ctx, p, store.Filter{CaseID: p.Case.ID, Exhibit: v.Filter.Exhibit, From: v.Filter.From, To: v.Filter.To})
	for _, t := range all {
		if !slices.ContainsFunc(known, func(k store.Talk) bool {
			return k.AcquisitionID == t.AcquisitionID && k.DB == t.DB && k.Thread == t.Thread && k.Kind == t.Kind
		}) {
			out = append(out, further{fmt.Sprintf("%s, %s acquisition %d, %s", t.Title, t.Ref, t.AcqNo, t.File()), with(t.Record)})
		}
	}
	return out, err
}

// holes finds the numbers that are missing in the table of the first source while the conversation's lines were written.
func (a pages) holes(ctx context.Context, p *frame.Page, k *conversation, r *store.Record, c clock) error {
	all, err := a.Store.Gaps(ctx, p.Case.ID, r.ExhibitID)
	if err != nil || len(k.Columns) == 0 {
		return err
	}
	first, last := *k.Columns[0].all[0].At, *k.Columns[0].all[len(k.Columns[0].all)-1].At
	for _, g := range all {
		if g.AcquisitionID != r.AcquisitionID || g.DB != r.DB || g.Table != r.Table {
			continue
		}
		for _, run := range g.Runs {
			after, is := g.Times[run.From-1]
			before, known := g.Times[run.To+1]
			h := hole{Run: run, After: after.Add(-c.Off), Before: before.Add(-c.Off), Table: g.Table}
			for _, x := range k.Columns[0].all {
				if x.RowID == nil && x.State == record.Recovered && !x.At.Before(h.After) && !x.At.After(h.Before) {
					h.Recovered++
				}
			}
			if is && known && !h.Before.Before(h.After) && !h.After.Before(first) && !h.Before.After(last) {
				k.holes = append(k.holes, h)
			}
		}
	}
	slices.SortStableFunc(k.holes, func(a, b hole) int { return a.Before.Compare(b.Before) })
	return nil
}

// Called is what a conversation is called.
func (k *chosen) Called() string {
	return cmp.Or(k.ThreadTitle, k.Whole.Fact("Title").Value, "Conversation "+k.Thread)
}

// beside chooses the sources that stand beside the first: those that the address names, else the other device's and an
// older one of the same device, with most that is the same.
func beside(p *frame.Page, base store.Talk, others []store.Talk) (out []int) {
	if s := p.Query.Get(besideParam); s != "" {
		for _, id := range strings.Split(s, ",") {
			n, err := strconv.ParseInt(id, 10, 64)
			if i := slices.IndexFunc(others, func(t store.Talk) bool { return t.Record == n }); err == nil && i >= 0 && !slices.Contains(out, i) && len(out) < columns-1 {
				out = append(out, i)
			}
		}
		return out
	}
	for _, same := range []bool{true, false} {
		if i := slices.IndexFunc(others, func(t store.Talk) bool { return (t.ExhibitID == base.ExhibitID) == same }); i >= 0 {
			out = append(out, i)
		}
	}
	return out
}

// aligned is a line of some of the columns: those of one conversation.
type aligned struct {
	talk.Line
	of      []int // the columns
	sources []talk.Source
}

// aligned lays the lines of columns of one conversation beside one another.
func (k *conversation) aligned(of ...int) (out []aligned) {
	var sources []talk.Source
	for _, i := range of {
		c := &k.Columns[i]
		s := talk.Source{Device: c.device, Made: c.Made, Lives: c.lives}
		for _, r := range c.all {
			x := talk.Said{At: *r.At, What: said(&r), Alive: r.State == record.Intact, Older: r.State == record.Earlier}
			if r.RowID != nil {
				x.Row = r.DB + "\x00" + r.Table + "\x00" + *r.RowID
			}
			s.Said = append(s.Said, x)
		}
		sources = append(sources, s)
	}
	for _, l := range talk.Align(sources) {
		out = append(out, aligned{l, of, sources})
	}
	return out
}

// align makes the lines of the columns, of what the first has between two times. Those of other conversations stand among
// them by their time, and nothing is said to be missing there.
func (k *conversation) align(zone *time.Location, from, to time.Time) {
	var same []int
	var all []aligned
	for i, c := range k.Columns {
		if c.Apart {
			all = append(all, k.aligned(i)...)
		} else {
			same = append(same, i)
		}
	}
	all = append(k.aligned(same...), all...)
	if len(same) < len(k.Columns) {
		slices.SortStableFunc(all, func(a, b aligned) int { return a.At.Compare(b.At) })
	}
	var last time.Time
	day := ""
	for _, l := range all {
		own := l.of[0] == 0 // of the conversation of the first column
		if !(own && l.Has[0] >= 0) && (l.At.Before(from) || l.At.After(to)) {
			continue
		}
		x := saidLine{At: l.At, Cells: make([]saidCell, len(k.Columns))}
		if d := frame.Day(l.At, zone); d != day {
			x.Day, day = d, d
		}
		if gap := l.At.Sub(last); last.IsZero() {
		} else if gap >= silence {
			x.Silence = long(gap)
		} else {
			x.Gap = int(min(gap/(2*time.Minute), 3))
		}
		for len(k.holes) > 0 && !last.IsZero() && k.holes[0].Before.Compare(l.At) <= 0 {
			x.Holes, k.holes = append(x.Holes, k.holes[0]), k.holes[1:]
		}
		last = l.At
		for s, i := range l.Has {
			col, c := &k.Columns[l.of[s]], &x.Cells[l.of[s]]
			if i >= 0 {
				c.Record = &col.all[i]
			} else if !col.until.IsZero() && l.At.After(col.until) {
				c.Missing = "too much lies between to be read here"
			} else {
				c.Missing, c.Gone = missing(&l.Line, l.sources, s, zone)
			}
			for _, o := range l.Older[s] {
				old := &col.all[o]
				c.Older = append(c.Older, olderText{old, frame.Differs(old.Summary, c.Record.Summary)})
			}
		}
		k.Lines = append(k.Lines, x)
		if !own {
			continue
		}
		k.N++
		switch {
		case x.Cells[0].Record == nil:
			k.Only++
		case x.Cells[0].State.Below():
			k.Below++
		}
		if x.Cells[0].Record == nil || x.Cells[0].State != record.Intact {
			if a, b, ok := l.Gone(l.sources, 0); ok {
				if s := between(a, b, zone); !slices.Contains(k.Gone, s) {
					k.Gone = append(k.Gone, s)
				}
			}
		}
	}
}

// said is what stands for what was said, when two sources are compared.
func said(r *store.Record) string {
	if r.Summary != "" || r.Body == "" {
		return r.Summary
	}
	w, err := r.Whole()
	if err != nil {
		return ""
	}
	var all []string
	for _, a := range w.Attachments {
		all = append(all, cmp.Or(a.SHA256, a.Name))
	}
	return strings.Join(all, " ")
}

func missing(l *talk.Line, sources []talk.Source, s int, zone *time.Location) (why string, gone bool) {
	if from, to, ok := l.Gone(sources, s); ok {
		return "gone between " + between(from, to, zone), true
	}
	switch src := sources[s]; {
	case !src.Made.IsZero() && l.At.After(src.Made):
		return "after this source was made", false
	case src.Lives:
		return "not among its live records", true
	}
	return "not here", true
}

func between(from, to time.Time, zone *time.Location) string {
	const form = "2 Jan 15:04"
	return from.In(zone).Format(form) + " and " + to.In(zone).Format(form)
}

// long writes a span of time in its two largest units.
func long(d time.Duration) string {
	days, d := int(d/(24*time.Hour)), d%(24*time.Hour)
	hours, minutes := int(d/time.Hour), int(d%time.Hour/time.Minute)
	switch {
	case days == 1:
		return fmt.Sprintf("1 day %d h", hours)
	case days > 1:
		return fmt.Sprintf("%d days %d h", days, hours)
	case hours > 0:
		return fmt.Sprintf("%d h %02d min", hours, minutes)
	}
	return fmt.Sprintf("%d min", minutes)
}

// talks lists the conversations of what is filtered, to choose from.
func (a pages) talks(ctx context.Context, p *frame.Page, v *content) (*conversation, error) {
	all, err := a.listTalks(ctx, p, v.Filter)
	return &conversation{Talks: all}, err
}

func (a pages) listTalks(ctx context.Context, p *frame.Page, f store.Filter) (out []talkLine, err error) {
	all, err := a.Store.Talks(ctx, f, shownTalks)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for _, t := range all {
		ids = append(ids, t.Record)
	}
	first, err := a.Store.RecordsByID(ctx, p.Case.ID, ids)
	if err != nil {
		return nil, err
	}
	for _, t := range all {
		r := first[t.Record]
		if r == nil {
			continue
		}
		w, err := r.Whole()
		if err != nil {
			return nil, err
		}
		out = append(out, talkLine{t, r.ExhibitRef, (&chosen{Record: *r, Whole: w}).Called(), r.AcqNo, p.Keep("r", fmt.Sprint(t.Record), "o", "", besideParam, "")})
	}
	return out, nil
}
