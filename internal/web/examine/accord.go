package examine

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"crosswind/core/accord"
	"crosswind/core/geo"
	"crosswind/core/record"
	"crosswind/internal/graticule"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// told is what another record tells of the moment of the one that is read.
type told struct {
	Who, Words string
	Verdict    accord.Verdict
	Address    string
}

// Said is the verdict in words.
func (t told) Said() string {
	return map[accord.Verdict]string{accord.Agrees: "agrees", accord.Contradicts: "contradicts", accord.Apart: "differs, and can be so"}[t.Verdict]
}

// Said is the verdict in words.
func (c callPair) Said() string {
	return map[accord.Verdict]string{accord.Agrees: "agree", accord.Contradicts: "contradict each other", accord.Apart: "a length is lost"}[c.Verdict]
}

// told says what other records tell of the same: another handset of a message or a call, its file of when a picture was taken,
// a fix of its place.
func (a pages) told(ctx context.Context, p *frame.Page, r *store.Record) (out []told, err error) {
	if r.At == nil {
		return nil, nil
	}
	address := func(x *store.Record) string { return p.Keep("r", fmt.Sprint(x.ID), "o", "", "after", "") }
	who := func(x *store.Record) string { return fmt.Sprintf("%s acquisition %d", x.ExhibitRef, x.AcqNo) }
	others, err := a.Store.SameSaid(ctx, r)
	if err != nil {
		return nil, err
	}
	for i := range others {
		x := &others[i]
		mine, theirs := rightTime(p, r), rightTime(p, x)
		out = append(out, told{who(x), "has it " + after(mine, theirs), accord.Times(mine, theirs), address(x)})
	}
	if r.Kind.About().Rung {
		for i := range p.Exhibits {
			e := &p.Exhibits[i]
			if e.ID == r.ExhibitID {
				continue
			}
			c, err := a.callsOf(ctx, p, p.ExhibitByID(r.ExhibitID), e, r.At.AddDate(0, -1, 0), r.At.AddDate(0, 1, 0))
			if err != nil {
				return nil, err
			}
			for _, x := range c.Pairs {
				if sameCall(x.A, r) {
					out = append(out, told{who(x.B), x.Words, x.Verdict, address(x.B)})
				}
			}
			for _, x := range c.OnlyA {
				if sameCall(x, r) {
					out = append(out, told{e.Reference, "is the other side's handset, and has no such call that may be seen", accord.Apart, ""})
				}
			}
		}
	}
	if r.Kind.About().Seen {
		of, err := a.ofItself(ctx, p, r)
		if err != nil {
			return nil, err
		}
		out = append(out, of...)
	}
	if r.Latitude != nil && r.Kind.About().Seen {
		fixes, err := a.Store.FixesNear(ctx, p.Case.ID, []int64{r.ID})
		if err != nil {
			return nil, err
		}
		if x := fixes[r.ID]; x != nil {
			words, verdict := placesApart(r, x)
			out = append(out, told{"Fix of the handset", words, verdict, address(x)})
		}
	}
	return out, nil
}

// ofItself tells what the files of a picture say of when it was taken, if that is what its record says: satellites may have
// fixed the place some minutes before.
func (a pages) ofItself(ctx context.Context, p *frame.Page, r *store.Record) (out []told, err error) {
	w, err := r.Whole()
	if err != nil {
		return nil, err
	}
	var paths []string
	for _, at := range w.Attachments {
		if w.Time().Role == r.Kind.About().Time && at.Path != "" && at.Path != r.DB {
			paths = append(paths, at.Path)
		}
	}
	if len(paths) == 0 {
		return nil, nil
	}
	files, err := a.Store.OfFiles(ctx, r, paths)
	if err != nil {
		return nil, err
	}
	for i := range files {
		x := &files[i]
		w, err := x.Whole()
		if err != nil {
			return nil, err
		}
		for _, t := range w.Times {
			if !x.Kind.About().Seen || t.Role != x.Kind.About().Time && t.Role != "fixed" {
				continue
			}
			of := told{Who: "The file itself", Address: p.Keep("r", fmt.Sprint(x.ID), "o", "", "after", "")}
			if t.At != nil {
				of.Words, of.Verdict = frame.When(*t.At, p.Zone)+", "+after(*r.At, *t.At), accord.Taken(*r.At, *t.At)
				if t.Role == "fixed" {
					of.Verdict = accord.Times(*r.At, *t.At)
				}
			} else if local, err := time.Parse(localTime, t.Local); err == nil {
				_, here := r.At.In(p.Zone).Zone()
				of.Words, of.Verdict = localApart(*r.At, local, here)
			} else {
				continue
			}
			of.Words = "has it " + t.Role + " " + of.Words
			out = append(out, of)
		}
	}
	return out, nil
}

// localTime is how records have a time without a zone.
const localTime = "2006-01-02T15:04:05"

// localApart compares the time of a picture with one without a zone, where clocks are so many seconds off UTC.
func localApart(at, local time.Time, here int) (string, accord.Verdict) {
	verdict, off := accord.TakenLocal(at, local, time.Duration(here)*time.Second)
	words := local.Format("2 Jan 2006 15:04:05") + ", of no zone"
	if verdict != accord.Contradicts {
		words += ", as a clock at " + at.In(time.FixedZone("", int(off.Seconds()))).Format("-07:00") + " shows it"
	}
	return words, verdict
}

// sameCall reports whether two records of an exhibit are of one call, as two of its sources have it.
func sameCall(a, b *store.Record) bool {
	return a.ExhibitID == b.ExhibitID && a.At.Equal(*b.At) && a.Handle == b.Handle && a.Direction == b.Direction
}

// rightTime is a record's time with what is known of its exhibit's clock taken off.
func rightTime(p *frame.Page, r *store.Record) time.Time {
	off := time.Duration(0)
	if e := p.ExhibitByID(r.ExhibitID); e != nil {
		off, _ = e.Clock()
	}
	return r.At.Add(-off)
}

// after says how much later than a b is.
func after(a, b time.Time) string {
	d := b.Sub(a).Round(time.Second)
	switch {
	case d > 0:
		return shortly(d) + " later"
	case d < 0:
		return shortly(-d) + " earlier"
	}
	return "at the same second"
}

// shortly writes a span to the second while it is short.
func shortly(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	return long(d)
}

// placesApart compares the place of a picture with a fix of the handset.
func placesApart(r, f *store.Record) (string, accord.Verdict) {
	verdict, leg := accord.Places(fix(r), fix(f))
	words := fmt.Sprintf("%s, %s away", after(*r.At, *f.At), graticule.Length(leg.Metres))
	if f.Accuracy != nil {
		words += fmt.Sprintf(" (accurate to %s)", graticule.Length(*f.Accuracy))
	}
	if verdict == accord.Contradicts && leg.Speed < geo.Fastest*100 {
		words += fmt.Sprintf(": %.0f km/h", leg.Speed*3.6)
	}
	return words, verdict
}

// callPair is a call that two handsets have.
type callPair struct {
	A, B    *store.Record
	Words   string // what the second says of it
	Later   string // how much later the second has it
	LongA   string
	LongB   string
	Verdict accord.Verdict
	There   string // address of the first
}

// calls are the calls between two exhibits.
type calls struct {
	Pairs        []callPair // those of which the two contradict each other first
	OnlyA, OnlyB []*store.Record
	Differ       int  // of the pairs
	Counted      bool // whose handles are whose was told by coincidence alone
	More         bool // there are more than were compared
}

// mostCalls bounds the calls of an exhibit that are compared.
const mostCalls = 20_000

// callsOf finds the calls between two exhibits in what both have of a span of time.
func (a pages) callsOf(ctx context.Context, p *frame.Page, one, two *store.Exhibit, from, to time.Time) (*calls, error) {
	out := &calls{}
	var lists [2][]store.Record
	var own [2][]string
	var said [2][]accord.Call
	for i, e := range []*store.Exhibit{one, two} {
		var err error
		if lists[i], err = a.Store.CallsBetween(ctx, p.Case.ID, e.ID, from, to, mostCalls); err != nil {
			return nil, err
		}
		if own[i], err = a.Store.Own(ctx, e); err != nil {
			return nil, err
		}
		out.More = out.More || len(lists[i]) == mostCalls
		out.Counted = out.Counted || len(own[i]) == 0
		for k := range lists[i] {
			r := &lists[i][k]
			c := accord.Call{At: rightTime(p, r), Out: r.Direction == "out", Seconds: seconds(r)}
			if len(r.Parties) > 0 {
				c.Handle = r.Parties[0]
			}
			said[i] = append(said[i], c)
		}
	}
	if len(said[1]) == 0 { // nothing says that it would have them
		return out, nil
	}
	pairs, onlyA, onlyB := accord.Calls(said[0], said[1], own[0], own[1])
	for _, x := range pairs {
		c := callPair{A: &lists[0][x.A], B: &lists[1][x.B]}
		ca, cb := said[0][x.A], said[1][x.B]
		c.Later, c.LongA, c.LongB = after(ca.At, cb.At), callLength(ca), callLength(cb)
		c.There = p.Keep("r", fmt.Sprint(c.A.ID), "o", "")
		c.Words = fmt.Sprintf("has it %s, %s", c.Later, c.LongB)
		if ca.Seconds >= 0 && cb.Seconds >= 0 {
			c.Verdict = accord.Lengths(ca.Seconds, cb.Seconds)
		}
		if c.Verdict == accord.Contradicts {
			out.Differ++
		}
		out.Pairs = append(out.Pairs, c)
	}
	slices.SortStableFunc(out.Pairs, func(x, y callPair) int { return int(y.Verdict) - int(x.Verdict) })
	for _, i := range onlyA {
		out.OnlyA = append(out.OnlyA, &lists[0][i])
	}
	for _, i := range onlyB {
		out.OnlyB = append(out.OnlyB, &lists[1][i])
	}
	return out, nil
}

// seconds is how long a call lasted, -1 if its record does not say.
func seconds(r *store.Record) float64 {
	w, err := r.Whole()
	if err != nil {
		return -1
	}
	s, err := strconv.ParseFloat(w.Fact(record.Duration).Value, 64)
	if err != nil || s < 0 {
		return -1
	}
	return s
}

func callLength(c accord.Call) string {
	if c.Seconds < 0 {
		return "length lost"
	}
	return record.Fact{Value: strconv.FormatFloat(c.Seconds, 'f', 0, 64), Unit: record.Seconds}.Words()
}

func fix(r *store.Record) geo.Fix {
	f := geo.Fix{Point: geo.Point{Latitude: *r.Latitude, Longitude: *r.Longitude}, At: *r.At}
	if r.Accuracy != nil {
		f.Accuracy = *r.Accuracy
	}
	return f
}
