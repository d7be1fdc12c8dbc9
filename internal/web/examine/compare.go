package examine

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// compare is the view in which two sources face each other.
type compare struct {
	Sources []compareSource // to choose from, by their dates
	A, B    *compareSource
	One     bool // both are of one exhibit
	*store.Compared
	Kinds   string // that are compared, in words
	Width   int
	X0, X1  int
	Both    string // paths of the bars
	OnlyA   string
	OnlyB   string
	Ticks   []tick
	Missing []comparedLine
	Changed []comparedLine
	Added   []comparedLine
	Parts   [2]comparedPart // of what each has alone
	Dates   []compareDate
	Few     bool   // there are not two sources
	Calls   *calls // between the two exhibits, nil if they are one or calls are left out
}

type compareSource struct{ store.SourceOf }

// Words name a source.
func (x *compareSource) Words(zone *time.Location) string {
	return fmt.Sprintf("%s acquisition %d, %s", x.ExhibitRef, x.Number, x.Made().In(zone).Format("2 Jan 2006 15:04"))
}

// comparedLine is a record that one of two sources has.
type comparedLine struct {
	store.Record
	Address string
	From    *time.Time // between which dates of sources it went
	To      *time.Time
	X, W    float64       // of the bar of that
	Other   *store.Record // what the other source has of it: a recovered copy, or the row as it is now
	There   string        // address of that
	Pieces  []frame.Piece // how its words became those of the other
}

// comparedPart says which page of what one source has alone is listed, and where the others are.
type comparedPart struct {
	From, To, Of   int64
	Earlier, Later string // addresses
}

// readParts reads after how many records of each side the lists go on, as 300.0, in whole pages.
func readParts(s string) (after [2]int64, err error) {
	if s == "" {
		return after, nil
	}
	one, two, _ := strings.Cut(s, ".")
	for i, n := range []string{one, two} {
		if after[i], err = strconv.ParseInt(n, 10, 64); err != nil || after[i] < 0 {
			return after, frame.Bad("after=%q is not a place in the two lists", s)
		}
		after[i] -= after[i] % store.ComparedPage
	}
	return after, nil
}

type compareDate struct {
	X     float64
	Words string
}

// The measures of the facing waterlines and of the bars of windows.
const (
	faceHeight = 132
	faceMiddle = 13 // half of the band of what both have
	faceReach  = 40
	barWidth   = 200
)

func (a pages) compare(c *gin.Context, p *frame.Page, v *content) (*compare, error) {
	ctx := c.Request.Context()
	kinds, err := a.Store.Kinds(ctx, p.Case.ID)
	if err != nil {
		return nil, err
	}
	all, err := a.Store.Sources(ctx, p.Case.ID, kinds)
	if err != nil {
		return nil, err
	}
	k := &compare{Width: width(c), X0: chartX0}
	k.X1 = k.Width - chartRight
	for _, s := range all {
		if id := v.Filter.Exhibit; id == 0 || id == s.ExhibitID {
			k.Sources = append(k.Sources, compareSource{s})
		}
	}
	slices.SortStableFunc(k.Sources, func(x, y compareSource) int { return x.Made().Compare(y.Made()) })
	k.choose(p)
	if k.Few = k.A == nil || k.B == nil; k.Few {
		return k, nil
	}
	k.One = k.A.ExhibitID == k.B.ExhibitID
	bins := (k.X1 - k.X0) / binWidth
	after, err := readParts(p.Query.Get("after"))
	if err != nil {
		return nil, err
	}
	if k.Compared, err = a.Store.Compare(ctx, v.Filter, &k.A.Acquisition, &k.B.Acquisition, bins, after); err != nil {
		return nil, err
	}
	for i, of := range []int64{k.Compared.A, k.Compared.B} {
		at := func(n int64) string {
			to := after
			to[i] = n
			return p.Keep("after", fmt.Sprintf("%d.%d", to[0], to[1]), "r", "", "o", "")
		}
		x := &k.Parts[i]
		if x.From, x.To, x.Of = after[i]+1, min(after[i]+store.ComparedPage, of), of; after[i] > 0 {
			x.Earlier = at(after[i] - store.ComparedPage)
		}
		if x.To < of {
			x.Later = at(x.To)
		}
	}
	var names []string
	for _, x := range k.Compared.Kinds {
		names = append(names, strings.ToLower(x.Plural()))
	}
	k.Kinds = strings.Join(names, ", ")
	k.draw()
	if w := v.Chart.Window; w.Seconds() > 0 {
		k.Ticks = v.Chart.Ticks
	}
	rung := record.KindsOf(func(a record.About) bool { return a.Rung })
	if kinds := v.Filter.Kinds; !k.One && (len(kinds) == 0 || slices.ContainsFunc(kinds, func(s string) bool { return slices.Contains(rung, s) })) {
		if k.Calls, err = a.callsOf(ctx, p, p.ExhibitByID(k.A.ExhibitID), p.ExhibitByID(k.B.ExhibitID), v.Filter.From, v.Filter.To); err != nil {
			return nil, err
		}
	}
	return k, a.sort(ctx, p, k)
}

// Chosen are the two sources.
func (k *compare) Chosen() []*compareSource { return []*compareSource{k.A, k.B} }

// choose takes the two sources that the address names, else the last two of the exhibit that has most.
func (k *compare) choose(p *frame.Page) {
	find := func(s string) *compareSource {
		for i := range k.Sources {
			if fmt.Sprint(k.Sources[i].ID) == s {
				return &k.Sources[i]
			}
		}
		return nil
	}
	k.A, k.B = find(p.Query.Get("a")), find(p.Query.Get("b"))
	if k.A != nil && k.B != nil && k.A != k.B {
		if k.B.ExhibitID == k.A.ExhibitID && k.B.Made().Before(k.A.Made()) {
			k.A, k.B = k.B, k.A
		}
		return
	}
	k.A, k.B = nil, nil
	n := map[int64]int{}
	for _, s := range k.Sources {
		n[s.ExhibitID]++
	}
	for i := range k.Sources {
		s := &k.Sources[i]
		switch {
		case k.B == nil || n[s.ExhibitID] > n[k.B.ExhibitID]:
			k.A, k.B = nil, s
		case s.ExhibitID == k.B.ExhibitID:
			k.A, k.B = k.B, s
		}
	}
	if k.A == nil && len(k.Sources) > 1 {
		k.A, k.B = &k.Sources[0], &k.Sources[1]
	}
}

// draw draws what both have as a band in the middle, and what one has alone out of it.
func (k *compare) draw() {
	most := int64(3)
	for _, b := range k.Bins {
		most = max(most, b.A, b.B, b.Both)
	}
	scale := func(n int64, room float64) float64 {
		return max(2, math.Pow(float64(n)/float64(most), 0.6)*room)
	}
	var both, up, down strings.Builder
	const mid = faceHeight / 2
	for _, b := range k.Bins {
		x := k.X0 + b.Bin*binWidth
		if b.Both > 0 {
			h := scale(b.Both, faceMiddle)
			fmt.Fprintf(&both, "M%d %.1fv%.1fh3.6v-%.1fz", x, mid-h, 2*h, 2*h)
		}
		if b.A > 0 {
			h := scale(b.A, faceReach)
			fmt.Fprintf(&up, "M%d %dv-%.1fh3.6v%.1fz", x, mid-faceMiddle-1, h, h)
		}
		if b.B > 0 {
			h := scale(b.B, faceReach)
			fmt.Fprintf(&down, "M%d %dv%.1fh3.6v-%.1fz", x, mid+faceMiddle+1, h, h)
		}
	}
	k.Both, k.OnlyA, k.OnlyB = both.String(), up.String(), down.String()
}

// sort tells what is missing later from what was changed, and says between which dates it went.
func (a pages) sort(ctx context.Context, p *frame.Page, k *compare) error {
	line := func(r store.Record) comparedLine {
		return comparedLine{Record: r, Address: p.Keep("r", fmt.Sprint(r.ID), "o", "")}
	}
	seen := map[int64][]store.Seen{}
	var others map[int64]*store.Record
	var went map[int64]*store.Went
	if k.One {
		var ids []int64
		for _, r := range k.Compared.OnlyA {
			ids = append(ids, r.ID)
		}
		var err error
		if went, err = a.Store.Went(ctx, p.Case.ID, ids...); err != nil {
			return err
		}
		for _, r := range k.Compared.OnlyB {
			ids = append(ids, r.ID)
		}
		all, err := a.Store.SeenIn(ctx, p.Case.ID, ids)
		if err != nil {
			return err
		}
		ids = nil
		for _, s := range all {
			if seen[s.Of] = append(seen[s.Of], s); s.AcquisitionID == k.B.ID || s.AcquisitionID == k.A.ID {
				ids = append(ids, s.ID)
			}
		}
		if others, err = a.Store.RecordsByID(ctx, p.Case.ID, ids); err != nil {
			return err
		}
		k.dates(p.Zone)
	}
	for _, r := range k.Compared.OnlyA {
		x := line(r)
		for _, s := range seen[r.ID] {
			o := others[s.ID]
			if s.AcquisitionID != k.B.ID || x.Other != nil || o == nil || !s.Same && !k.edited(&r, o) {
				continue
			}
			x.Other, x.There = o, p.Keep("r", fmt.Sprint(o.ID), "o", "")
		}
		if o := x.Other; o != nil && o.State == record.Intact {
			x.Pieces = frame.Differs(x.Summary, o.Summary)
			k.Changed = append(k.Changed, x)
			continue
		}
		if k.One {
			k.window(&x, went[r.ID])
		}
		k.Missing = append(k.Missing, x)
	}
	for _, r := range k.Compared.OnlyB { // not what stands among what changed, on whichever page
		if !slices.ContainsFunc(seen[r.ID], func(s store.Seen) bool {
			was := others[s.ID]
			return s.AcquisitionID == k.A.ID && was != nil && was.State == record.Intact && (s.Same || k.edited(was, &r))
		}) {
			k.Added = append(k.Added, line(r))
		}
	}
	return nil
}

// edited reports whether a record of the same row is the record as it is now: a number is given again, too, to what is another.
func (k *compare) edited(r, now *store.Record) bool {
	return now.State == record.Intact && (r.Kind.About().Time == "changed" || now.At != nil && now.At.Equal(*r.At) || now.Summary == r.Summary && r.Summary != "")
}

// span is the time between the first and the last date of the exhibit's sources.
func (k *compare) span() (from, to time.Time) {
	for _, s := range k.Sources {
		if s.ExhibitID != k.A.ExhibitID {
			continue
		}
		if from.IsZero() || s.Made().Before(from) {
			from = s.Made()
		}
		if s.Made().After(to) {
			to = s.Made()
		}
	}
	return from, to
}

func (k *compare) at(t time.Time) float64 {
	from, to := k.span()
	return round1(4 + (barWidth-8)*float64(t.Sub(from))/float64(max(to.Sub(from), 1)))
}

func (k *compare) dates(zone *time.Location) {
	for _, s := range k.Sources {
		if s.ExhibitID == k.A.ExhibitID {
			k.Dates = append(k.Dates, compareDate{k.at(s.Made()), s.Words(zone)})
		}
	}
}

// window says between which dates of the exhibit's sources a record went.
func (k *compare) window(x *comparedLine, w *store.Went) {
	if w == nil || w.Last == nil || w.First == nil {
		return
	}
	from, to := w.Last.Made(), w.First.Made()
	x.From, x.To, x.X = &from, &to, k.at(from)
	x.W = cmp.Or(max(2, k.at(to)-x.X), 2)
}
