package examine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/accord"
	"crosswind/core/record"
	"crosswind/internal/preview"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// gallery is what is filtered as pictures.
type gallery struct {
	Days []galleryDay
	N    int          // pictures on this page
	Left int          // thumbnails of pictures that are there, which are not shown again
	Like []galleryDay // those that look alike, if that is asked for
	Ask  string       // address that asks for it, or not any more
	Next string       // address of the next page, "" at the end
	Back string
}

type galleryDay struct {
	Day      string
	Pictures []*galleryPicture
}

// galleryPicture is a picture or a film: one for all records of an exhibit that have the same bytes.
type galleryPicture struct {
	store.Record
	Address string
	Shown   string // address of its preview, "" if its bytes are not there
	Why     string // why they are not
	Film    bool
	Lost    bool     // a thumbnail whose photograph is not there any more
	Of      string   // the path of that
	Also    int      // further records of the same bytes
	Differs []string // what is said of its time elsewhere, if it is another
	Place   string
	Device  string
	whole   *record.Record
	nth     int // of its attachments
}

func (a pages) gallery(ctx context.Context, p *frame.Page, v *content) (*gallery, error) {
	f := v.Filter
	f.Kinds = nil
	for _, k := range record.Kinds() {
		if k.About().Seen && (len(v.Filter.Kinds) == 0 || slices.Contains(v.Filter.Kinds, string(k))) {
			f.Kinds = append(f.Kinds, string(k))
		}
	}
	g := &gallery{}
	if len(f.Kinds) == 0 {
		return g, nil
	}
	after, untimed, err := readAfter(p.Query.Get("after"), store.Order{})
	if err != nil {
		return g, err
	}
	var rs []store.Record
	var next *store.After
	if untimed == 0 {
		if rs, next, err = a.records(ctx, v.clocks, f, after, fewRecords); err != nil {
			return nil, err
		}
	}
	if next != nil {
		g.Next = p.Keep("after", writeAfter(*next), "o", "")
	} else { // behind all others those that have no time
		more, last, err := a.Store.Untimed(ctx, f, untimed, fewRecords)
		if err != nil {
			return nil, err
		}
		if rs = append(rs, more...); last > 0 {
			g.Next = p.Keep("after", fmt.Sprintf("%s%d", noTime, last), "o", "")
		}
	}
	if p.Query.Get("after") != "" {
		g.Back = p.Keep("after", "", "o", "")
	}
	var all []*galleryPicture
	of := map[string]*galleryPicture{}
	paths := map[int64][]string{}
	for _, r := range rs {
		w, err := r.Whole()
		if err != nil {
			return nil, err
		}
		x := &galleryPicture{Record: r, whole: w, Address: p.Keep("r", fmt.Sprint(r.ID), "o", ""), Device: w.Fact(record.MadeBy).Value}
		if w.Place != nil {
			x.Place = w.Place.String()
		}
		key := ""
		for n, at := range w.Attachments {
			x.Why = at.Missing
			if x.Film = frame.Film(at); at.SHA256 != "" && (x.Film || frame.Picture(at)) {
				x.Shown = fmt.Sprintf("/case/%s/examine/preview/%d/%d", p.Case.Reference, r.ID, n)
				key, x.nth = fmt.Sprint(r.ExhibitID, " ", at.SHA256), n
				break
			}
		}
		if x.Of = w.Fact(record.OfFile).Value; x.Of != "" {
			paths[r.AcquisitionID] = append(paths[r.AcquisitionID], x.Of)
		}
		if had := of[key]; key != "" && had != nil {
			had.same(x, p.Zone)
			continue
		} else if key != "" {
			of[key] = x
		}
		x.differs(p.Zone)
		all = append(all, x)
	}
	for acq, ps := range paths {
		there, err := a.Store.LivePaths(ctx, acq, ps)
		if err != nil {
			return nil, err
		}
		for _, x := range all {
			if x.AcquisitionID == acq && x.Of != "" {
				x.Lost = !there[x.Of]
			}
		}
	}
	var placed []int64
	for _, x := range all {
		if x.Latitude != nil {
			placed = append(placed, x.ID)
		}
	}
	fixes, err := a.Store.FixesNear(ctx, p.Case.ID, placed)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		if f := fixes[x.ID]; f != nil {
			if words, verdict := placesApart(&x.Record, f); verdict == accord.Contradicts {
				x.say("the handset's fix " + words)
			}
		}
	}
	if g.Ask = p.Keep("alike", "1", "o", ""); p.Query.Get("alike") != "" {
		g.Ask = p.Keep("alike", "", "o", "")
		if all, err = a.alike(ctx, p, g, all); err != nil {
			return nil, err
		}
	}
	day := ""
	for _, x := range all {
		if x.Of != "" && !x.Lost {
			g.Left++
			continue
		}
		d := "no time"
		if x.At != nil {
			d = frame.Day(*x.At, p.Zone)
		}
		if d != day {
			g.Days, day = append(g.Days, galleryDay{Day: d}), d
		}
		last := &g.Days[len(g.Days)-1]
		last.Pictures = append(last.Pictures, x)
		g.N++
	}
	return g, nil
}

// alike takes those pictures that look alike out of all, and puts them together, thumbnails with what they were made from.
func (a pages) alike(ctx context.Context, p *frame.Page, g *gallery, all []*galleryPicture) (left []*galleryPicture, err error) {
	digests := make([]uint64, len(all))
	group := make([]int, len(all)) // the first that each looks like
	for i, x := range all {
		group[i] = i
		if x.Shown == "" || x.Film || a.Previews == nil {
			continue
		}
		sum, open, err := a.Evidence.Attachment(ctx, p.Case.ID, x.ID, x.nth)
		if err != nil {
			return nil, err
		}
		digests[i], err = a.Previews.Digest(ctx, sum, open)
		if f := (*preview.Fault)(nil); errors.As(err, &f) {
			digests[i] = 0
			continue // it cannot be decoded, which its place says
		}
		if err != nil {
			return nil, err
		}
		for k := range i {
			if digests[k] != 0 && digests[i] != 0 && preview.Apart(digests[i], digests[k]) <= preview.Near {
				group[i] = group[k]
				break
			}
		}
	}
	for i, x := range all {
		var like []*galleryPicture
		for k := i; k < len(all) && group[i] == i; k++ {
			if group[k] == i {
				like = append(like, all[k])
			}
		}
		if len(like) > 1 {
			g.Like = append(g.Like, galleryDay{fmt.Sprintf("%d alike", len(like)), like})
			g.N += len(like)
		} else if group[i] == i {
			left = append(left, x)
		}
	}
	return left, nil
}

// same adds what another record says of the same bytes.
func (x *galleryPicture) same(y *galleryPicture, zone *time.Location) {
	x.Also++
	if x.At == nil || y.At == nil {
	} else if d := y.At.Sub(*x.At).Abs(); d > accord.SameShot {
		x.say(fmt.Sprintf("%s %s by %s", y.Kind.About().Time, frame.When(*y.At, zone), y.DB))
	}
	if x.Place == "" {
		x.Place = y.Place
	}
	if x.Device == "" {
		x.Device = y.Device
	}
	for _, t := range y.whole.Times {
		if t.At == nil || y.At == nil || !t.At.Equal(*y.At) { // which is said above
			x.time(t, zone)
		}
	}
}

// differs says which of its own times are not the one that it lies at.
func (x *galleryPicture) differs(zone *time.Location) {
	for _, t := range x.whole.Times {
		x.time(t, zone)
	}
}

// time says that a time is another than the one that the picture lies at: a file can be written later than that, but not before.
func (x *galleryPicture) time(t record.Time, zone *time.Location) {
	if x.At == nil {
		return
	}
	switch t.Role {
	case "taken", "made", "fixed":
	case "changed", record.Written:
		if t.At == nil || !t.At.Before(*x.At) {
			return
		}
	default:
		return
	}
	if t.At == nil {
		if local, err := time.Parse(localTime, t.Local); err == nil {
			_, here := x.At.In(zone).Zone()
			if words, verdict := localApart(*x.At, local, here); verdict != accord.Agrees {
				x.say(t.Role + " " + words)
			}
		}
		return
	}
	if t.At.Sub(*x.At).Abs() > accord.SameShot {
		x.say(t.Role + " " + frame.When(*t.At, zone))
	}
}

func (x *galleryPicture) say(s string) {
	if !slices.Contains(x.Differs, s) {
		x.Differs = append(x.Differs, s)
	}
}

// Words are what is told of a picture beside what is seen.
func (x *galleryPicture) Words(zone *time.Location) string {
	parts := []string{"no time", x.Kind.Title(), strings.ToLower(x.State.Title()), x.ExhibitRef}
	if x.At != nil {
		parts[0] = frame.When(*x.At, zone)
	}
	for _, s := range []string{x.Place, x.Device} {
		if s != "" {
			parts = append(parts, s)
		}
	}
	if x.Also > 0 {
		parts = append(parts, fmt.Sprintf("%d more of the same bytes", x.Also))
	}
	return strings.Join(append(parts, x.Differs...), " · ")
}
