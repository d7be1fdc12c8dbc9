// Package examine holds the waterline chart, the list that is what the chart
// shows, the reading pane, and the origin drawer.
package examine

import (
	"cmp"
	"context"
	"embed"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/access"
	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/core/timeline"
	"crosswind/internal/export"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

//go:embed *.html
var files embed.FS

type pages struct{ *frame.App }

// Routes adds the pages.
func Routes(a *frame.App, inCase frame.Group) {
	p := pages{a}
	inCase.GET("/examine", access.SeeEvidence, p.page)
	inCase.POST("/examine/mark/:id", access.Mark, p.mark)
	inCase.POST("/examine/mark-picked", access.Mark, p.markPicked)
	inCase.POST("/examine/note/:id", access.Mark, p.note)
	inCase.POST("/examine/saved", access.Mark, p.saveSearch)
	inCase.POST("/examine/saved/:id/forget", access.Mark, p.forgetSearch)
	inCase.POST("/examine/mark-all", access.Mark, p.markAll)
	inCase.POST("/examine/take", access.TakeOut, p.takeOut)
	inCase.POST("/examine/map", access.Recover, p.saveMap)
	inCase.GET("/examine/preview/:id/:n", access.SeeEvidence, p.preview)
	inCase.GET("/examine/file", access.SeeEvidence, p.seeFile)
	inCase.GET("/examine/cell", access.SeeEvidence, p.cell)
	inCase.GET("/examine/place", access.SeeEvidence, p.placeMap)
	inCase.GET("/people", access.SeeEvidence, func(c *gin.Context) error { return p.people(c, nil) })
	inCase.POST("/people", access.Mark, p.rule)
}

const (
	moreRows    = 64  // rows of a list that follow as it is scrolled
	fewRecords  = 80  // are marks of the chart each, or pictures of the gallery
	reached     = 500 // rows to which a list comes at once, if the chosen one is among them
	takenAtOnce = 500 // records
	around      = 12  // messages before and after the chosen one
)

// What a window shows above a list, in CSS pixels: the least of it.
const (
	underViews = 185
	underChart = 370
	underMap   = 600
	rowTall    = 30
)

// firstRows is how many rows of a list come at once: what the reader's window shows of it below so much else, and two more.
// One that is swapped may stand scrolled, and comes with what a large screen shows.
func firstRows(p *frame.Page, above int) int {
	if p.Tall == 0 {
		return 24
	}
	return min(max((p.Tall-above)/rowTall, 4), 60) + 2
}

type content struct {
	Chart     chart
	Filter    store.Filter
	Records   []store.Record
	Untimed   []store.Record
	Missing   map[int64]bool // which of these are missing in a later source
	Next      string         // where the list goes on; "" at its end
	Back      string         // and where what is before it; "" at its beginning
	Order     store.Order    // of the list
	Columns   []listColumn   // of it
	Offered   []listColumn   // and those that can be chosen
	GoesOn    bool           // the list is not at its beginning
	GoesOff   bool           // it is among the records without a time
	Timeless  int64          // records without a time
	Chosen    *chosen
	Refused   string
	Labels    []string // of marks of the case
	MarkAll   string   // address at which all of it is marked
	TakeOut   string   // and at which it is taken out
	Formats   []export.Format
	Redacted  bool           // the report has redactions, by which they are taken out, or not
	Words     []filterWord   // what is filtered, in words
	Person    *people.Person // whose records are shown, nil if everybody's
	Measured  []string       // how far clocks were off, in words
	Applied   bool           // times are put right by that
	clocks    []clock
	parts     []string // those that are asked for, all if there are none
	View      string   // which view of the records is shown, "" for the list
	Talk      *conversation
	Map       *places
	Gallery   *gallery
	List      *words
	Files     *filesView
	Databases *databases
	Compare   *compare
	Network   *network
	Gaps      *gaps
	// Records that lie years before and after all others, and the span that holds all.
	Before, After int64
	Farthest      timeline.Window
}

// chosen is the record that is being read.
type chosen struct {
	store.Record
	Whole  *record.Record
	Around []store.Record
	Occurs *occurs // of what repeats, as far as it can be worked out
	Below  int     // of those around it
	Origin *origin
	AcqNo  int
	Named  []named
	Clock  clock          // of its exhibit, if it is applied
	Shown  *time.Time     // when it was by its exhibit's own clock, if that is another time
	Now    *store.Record  // the row as it is, of an earlier version
	Others []store.Record // the same record in other acquisitions
	Note   *store.WorkingNote
	Went   *store.Went  // when it was deleted, nil if nothing says that it was
	Told   []told       // of its moment by others
	Before []frame.View // what was deleted within so long before it: words and addresses
	Alone  string       // address of the list of nothing but its conversation, "" if it is of none
}

func (a pages) page(c *gin.Context) error {
	c.Header("Vary", frame.PartsHeader)
	begin := a.Ahead
	if c.Query("after") != "" { // which may not be one: then the status says so
		begin = a.Page
	}
	p, err := begin(c, "Examine", "Examine")
	if err != nil {
		return err
	}
	v, err := a.content(c, p)
	if err != nil {
		return err
	}
	a.Store.Ahead(p.Case.ID)
	p.Content, p.Views, p.Swaps = v, views(p, v.View), !v.Chart.Empty
	if v.View != "" { // which tells the pages of a browser's history apart
		p.Title = frame.Capital(v.View)
	}
	return a.Render(c, files, p, "examine.html", "conversation.html", "places.html", "gallery.html", "gaps.html", "network.html", "compare.html", "files.html", "databases.html", "maker.html", "words.html")
}

// Wants reports whether a part of the page is asked for.
func (v *content) Wants(part string) bool {
	return len(v.parts) == 0 || slices.Contains(v.parts, "part-"+part)
}

// filtered reads what is filtered.
func (a pages) filtered(ctx context.Context, p *frame.Page) (*content, error) {
	v := &content{View: viewOf(p), MarkAll: frame.Address("/case/"+p.Case.Reference+"/examine/mark-all", p.Query, "r", "", "o", ""),
		TakeOut: frame.Address("/case/"+p.Case.Reference+"/examine/take", p.Query, "r", "", "o", "", "after", ""), Formats: formats(a.Press)}
	if err := a.readFilter(ctx, p, v); err != nil {
		return nil, err
	}
	v.clocks, v.Measured = clocks(p, v.Filter.Exhibit)
	if h := p.Query.Get("person"); h != "" {
		all, err := a.Store.People(ctx, p.Case.ID)
		if err != nil {
			return nil, err
		}
		if v.Person = all.Of(h); v.Person == nil {
			v.Person = &people.Person{Handles: []string{h}}
		}
		v.Filter.Parties = append(v.Filter.Parties, v.Person.Handles)
		v.Words = append(v.Words, filterWord{"with " + v.Person.Name(), p.Keep("person", "", "after", "")})
	}
	return v, nil
}

func (a pages) content(c *gin.Context, p *frame.Page) (*content, error) {
	v, err := a.filtered(c.Request.Context(), p)
	if err != nil {
		return nil, err
	}
	v.parts = strings.Fields(c.GetHeader(frame.PartsHeader))
	if v.Wants("chart") || v.Wants("list") {
		if err := a.overview(c, p, v); err != nil {
			return nil, err
		}
	}
	if r := p.Query.Get("r"); r != "" && (v.Wants("pane") || v.Wants("drawer") || v.View != "") {
		v.Chosen, err = a.choose(c, p, v, r, p.Query.Get("o") != "")
		if errors.Is(err, store.ErrNotFound) {
			p.Fault, err = "There is no such record in this case.", nil
		}
	}
	if err == nil && v.View != "" && (v.Wants("list") || v.View == "people" || v.View == "files" || v.View == "databases") {
		err = a.view(c, p, v)
	}
	return v, err
}

// overview gives the chart and the list.
func (a pages) overview(c *gin.Context, p *frame.Page, v *content) error {
	ctx := c.Request.Context()
	v.Applied = p.Query.Get("clocks") != ""
	w, full, err := a.window(ctx, p, v)
	if err != nil {
		return err
	}
	v.Filter.From, v.Filter.To = w.From, w.To
	if v.Wants("chart") {
		if v.Chart, err = a.chart(c, p, v.clocks, v.Filter, w, full); err != nil {
			return err
		}
		if v.Timeless, err = a.Store.CountUntimed(ctx, v.Filter); err != nil {
			return err
		}
		n, err := a.Store.Redactions(ctx, p.Case.ID)
		if err != nil {
			return err
		}
		v.Redacted = n > 0
		if v.Labels, err = a.Store.Labels(ctx, p.Case.ID); err != nil {
			return err
		}
	}
	if v.Wants("chart") && v.Chart.All <= fewRecords && !v.Chart.Empty {
		few, _, err := a.records(ctx, v.clocks, v.Filter, store.After{}, fewRecords)
		if err != nil {
			return err
		}
		v.Chart.mark(p, few)
	}
	if v.Wants("chart") && !v.Chart.Empty {
		if err := a.photographs(ctx, p, v, &v.Chart); err != nil {
			return err
		}
	}
	if v.Wants("list") && v.View == "" {
		if err := a.columns(ctx, p, v); err != nil {
			return err
		}
		if err := a.list(ctx, p, v); err != nil {
			return err
		}
		if err := a.reach(ctx, p, v); err != nil {
			return err
		}
		return a.missingLater(ctx, p, v)
	}
	return nil
}

// missingLater finds which records of the list are missing in a later source.
func (a pages) missingLater(ctx context.Context, p *frame.Page, v *content) (err error) {
	var ids []int64
	for _, r := range slices.Concat(v.Records, v.Untimed) {
		if r.State == record.Intact {
			ids = append(ids, r.ID)
		}
	}
	if len(ids) > 0 {
		v.Missing, err = a.Store.Missing(ctx, p.Case.ID, ids)
	}
	return err
}

// list gives a page of the list, from a place in it on, or up to one: records in order of time, and after
// them those without one.
func (a pages) list(ctx context.Context, p *frame.Page, v *content) error {
	from, rows := p.Query.Get("after"), listRows(p)
	if v.GoesOn = from != ""; v.GoesOn {
		rows = moreRows
	}
	if from, back := strings.CutPrefix(from, upTo); back {
		at, untimed, err := readAfter(from, v.Order)
		if err == nil && at.ID == 0 && untimed == 0 {
			err = frame.Bad("after=%q is not a place in the list", upTo+from)
		}
		if err != nil {
			return err
		}
		if untimed > 0 {
			return a.beforeUntimed(ctx, v, untimed, rows)
		}
		return a.before(ctx, v, at, rows)
	}
	after, untimed, err := readAfter(from, v.Order)
	if err != nil {
		return err
	}
	return a.behind(ctx, v, after, untimed, rows)
}

// listRows is how many rows the list of records comes with.
func listRows(p *frame.Page) int {
	if folded(p) {
		return firstRows(p, underViews)
	}
	return firstRows(p, underChart)
}

// behind adds to the list what comes after a place in it: so many rows.
func (a pages) behind(ctx context.Context, v *content, after store.After, untimed int64, rows int) error {
	if v.GoesOff = untimed > 0; !v.GoesOff {
		some, next, err := a.records(ctx, v.clocks, v.Filter, after, rows)
		v.Records = append(v.Records, some...)
		if err != nil {
			return err
		}
		if next != nil {
			v.Next = writeAfter(*next)
			return nil
		}
	}
	some, next, err := a.Store.Untimed(ctx, v.Filter, untimed, rows)
	if v.Untimed = some; next > 0 {
		v.Next = fmt.Sprintf("%s%d", noTime, next)
	}
	return err
}

// before puts into the list what comes before a place in it: so many rows.
func (a pages) before(ctx context.Context, v *content, at store.After, rows int) error {
	at.Down = !at.Down
	some, more, err := a.records(ctx, v.clocks, v.Filter, at, rows)
	if err != nil || len(some) == 0 {
		return err
	}
	slices.Reverse(some)
	v.Records, v.Next = some, writeAfter(some[len(some)-1].After(v.Order))
	if more != nil {
		v.Back = upTo + writeAfter(some[0].After(v.Order))
	}
	return nil
}

// beforeUntimed puts into the list what comes before a record without a time: so many rows of those, or if it is the first of
// them the last of those with one.
func (a pages) beforeUntimed(ctx context.Context, v *content, id int64, rows int) error {
	some, next, err := a.Store.UntimedBefore(ctx, v.Filter, id, rows)
	if err != nil {
		return err
	}
	if len(some) == 0 && next == 0 {
		return a.before(ctx, v, store.After{Order: v.Order}, rows)
	}
	v.Untimed, v.GoesOff, v.Back = some, next > 0, fmt.Sprintf("%s%s%d", upTo, noTime, max(next, 1))
	return nil
}

// skipped reads which rows come of a list that is counted and stands below so much of the page: how many stand before them,
// and how many come at once.
func skipped(p *frame.Page, above int) (skip, rows int) {
	skip, err := strconv.Atoi(p.Query.Get("skip"))
	if err != nil || skip <= 0 {
		return 0, firstRows(p, above)
	}
	return skip, moreRows
}

// part gives those rows of a list that the address asks for, and the address at which it goes on, "" at its end. It
// comes at once to the chosen row, by its number from 1 on, if that is not far; there is none for 0.
func part[R any](p *frame.Page, all []R, chosen, above int) (some []R, next string) {
	skip, n := skipped(p, above)
	all = all[min(skip, len(all)):]
	if skip == 0 && chosen <= reached {
		n = max(n, chosen)
	}
	if n >= len(all) {
		return all, ""
	}
	return all[:n], p.Keep("skip", fmt.Sprint(skip+n), "cell", "", "o", "")
}

// reach has a list that is at its beginning begin a little before the record that is chosen, if that lies farther down.
func (a pages) reach(ctx context.Context, p *frame.Page, v *content) error {
	f := v.Filter
	f.ID, _ = strconv.ParseInt(p.Query.Get("r"), 10, 64)
	if f.ID == 0 || v.GoesOn || v.Next == "" || slices.ContainsFunc(slices.Concat(v.Records, v.Untimed), func(r store.Record) bool { return r.ID == f.ID }) {
		return nil
	}
	rows := listRows(p)
	it, _, err := a.records(ctx, v.clocks, f, store.After{Order: v.Order}, 1)
	if err != nil {
		return err
	}
	if len(it) == 0 {
		return a.reachUntimed(ctx, v, f, rows)
	}
	at := it[0].After(v.Order)
	if err := a.before(ctx, v, at, rows/2); err != nil {
		return err
	}
	v.Records, v.Next = append(v.Records, it[0]), ""
	return a.behind(ctx, v, at, 0, rows/2)
}

// reachUntimed is reach, of a record without a time.
func (a pages) reachUntimed(ctx context.Context, v *content, f store.Filter, rows int) error {
	it, _, err := a.Store.Untimed(ctx, f, 0, 1)
	if err != nil || len(it) == 0 { // it is not in the list
		return err
	}
	v.Records, v.Untimed = nil, nil
	if err := a.beforeUntimed(ctx, v, f.ID, rows/2); err != nil {
		return err
	}
	some, next, err := a.Store.Untimed(ctx, v.Filter, f.ID, rows/2)
	v.Untimed = slices.Concat(v.Untimed, it, some)
	if v.Next = ""; next > 0 {
		v.Next = fmt.Sprintf("%s%d", noTime, next)
	}
	return err
}

// The places in a list after a record with a time are written as its time in microseconds and its id, and its key in lists
// by another order; those after one without a time as noTime and its id. What comes before a place is written as upTo and that.
const (
	noTime = "none."
	upTo   = "to."
)

func writeAfter(a store.After) string {
	s := fmt.Sprintf("%d.%d", a.At.UnixMicro(), a.ID)
	if a.By != "" {
		s += "." + base64.RawURLEncoding.EncodeToString([]byte(a.Key))
	}
	return s
}

// readAfter reads a place in a list: after a record with a time, or after one without,
// whose id is untimed.
func readAfter(s string, order store.Order) (after store.After, untimed int64, err error) {
	after.Order = order
	if s == "" {
		return after, 0, nil
	}
	bad := frame.Bad("after=%q is not a place in the list", s)
	if id, ok := strings.CutPrefix(s, noTime); ok {
		if untimed, err = strconv.ParseInt(id, 10, 64); err != nil || untimed <= 0 {
			return after, 0, bad
		}
		return after, untimed, nil
	}
	parts := strings.Split(s, ".")
	if len(parts) < 2 || len(parts) > 3 || (len(parts) == 3) != (order.By != "") {
		return after, 0, bad
	}
	us, err1 := strconv.ParseInt(parts[0], 10, 64)
	n, err2 := strconv.ParseInt(parts[1], 10, 64)
	key, err3 := base64.RawURLEncoding.DecodeString(strings.Join(parts[2:], ""))
	t := time.UnixMicro(us)
	if y := t.UTC().Year(); cmp.Or(err1, err2, err3) != nil || y < 1 || y > 9999 || n <= 0 || record.Clean(string(key)) != string(key) {
		return after, 0, bad
	}
	after.At, after.ID, after.Key = t, n, string(key)
	return after, 0, nil
}

// window is the span that the chart shows: what the address says, else where the
// filter's records are, with a margin. Records that lie years away from all others are
// told apart.
func (a pages) window(ctx context.Context, p *frame.Page, v *content) (w, full timeline.Window, err error) {
	f := store.Filter{CaseID: v.Filter.CaseID, Exhibit: v.Filter.Exhibit}
	months, err := a.months(ctx, v.clocks, f)
	if err != nil || len(months) == 0 {
		return w, full, err
	}
	f.From, f.To, v.Before, v.After = timeline.Where(months)
	first, last, err := a.extent(ctx, v.clocks, f)
	if err != nil || first == nil {
		return w, full, err
	}
	if v.Before+v.After > 0 {
		v.Farthest = timeline.Window{From: months[0].At.UTC(), To: months[len(months)-1].At.AddDate(0, 1, 0).UTC()}
	}
	margin := time.Duration(max(timeline.Window{From: *first, To: *last}.Seconds()/80, 60) * float64(time.Second))
	full = timeline.Window{From: first.Add(-margin).UTC().Truncate(time.Second), To: last.Add(margin).UTC().Truncate(time.Second)}
	w = full
	for name, to := range map[string]*time.Time{"from": &w.From, "to": &w.To} {
		s := p.Query.Get(name)
		if s == "" {
			continue
		}
		t, err := time.Parse(time.RFC3339, s)
		if err == nil && (t.UTC().Year() < 1 || t.UTC().Year() > 9999) {
			err = errors.New("a year that no record has")
		}
		if err != nil {
			v.Refused = fmt.Sprintf("%s=%q is not a time by RFC 3339; the whole span is shown.", name, s)
			return full, full, nil
		}
		*to = t
	}
	if !w.From.Before(w.To) {
		v.Refused = "The span ends before it begins; the whole span is shown."
		return full, full, nil
	}
	return w, full, nil
}

func (a pages) choose(c *gin.Context, p *frame.Page, v *content, id string, drawer bool) (*chosen, error) {
	ctx := c.Request.Context()
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("record %q: %w", id, store.ErrNotFound)
	}
	r, err := a.Store.RecordByID(ctx, p.Case.ID, n)
	if err != nil {
		return nil, err
	}
	k := &chosen{Record: *r}
	if k.Whole, err = r.Whole(); err != nil {
		return nil, err
	}
	k.Occurs = occurrences(k.Whole)
	if r.Kind.About().InTalk {
		if k.Around, err = a.Store.Around(ctx, r, around); err != nil {
			return nil, err
		}
		for _, m := range k.Around {
			if m.State.Below() {
				k.Below++
			}
		}
	}
	acq, err := a.Store.AcquisitionByID(ctx, r.AcquisitionID)
	if err != nil {
		return nil, err
	}
	k.AcqNo = acq.Number
	present, err := a.Store.Present(ctx, p.Case.ID, *r)
	if err != nil {
		return nil, err
	}
	k.Now, k.Others = present[r.ID].Now, present[r.ID].Elsewhere
	if k.Note, err = a.Store.NoteOf(ctx, r); err != nil {
		return nil, err
	}
	went, err := a.Store.Went(ctx, p.Case.ID, r.ID)
	if err != nil {
		return nil, err
	}
	k.Went = went[r.ID]
	if k.Told, err = a.told(ctx, p, r); err != nil {
		return nil, err
	}
	if r.At != nil {
		for _, span := range []string{"day", "week", "year"} {
			line := lineWith(p, "deleted:"+span+"/"+r.At.UTC().Format(time.RFC3339), "deleted:", "perhaps-deleted:")
			k.Before = append(k.Before, frame.View{Name: span, Path: p.Keep("q", line, "from", "", "to", "", "view", "", "after", "", "o", "")})
		}
	}
	if r.Thread != "" {
		k.Alone = p.Keep("q", lineWith(p, fmt.Sprintf("conversation:%d", r.ID), "conversation:"), "view", "", "after", "", "o", "")
	}
	if err := a.named(ctx, k); err != nil {
		return nil, err
	}
	k.Clock = of(v.clocks, r.ExhibitID)
	if k.Shown = r.At; k.Clock.Off == 0 {
		k.Shown = nil
	}
	k.Clock.right(k.Around)
	one := []store.Record{k.Record}
	k.Clock.right(one)
	k.Record = one[0]
	if drawer {
		k.Origin, err = a.origin(ctx, k, acq)
	}
	return k, err
}

// named is a contact that gives the name of somebody whom a record names.
type named struct {
	record.Party
	Contact *store.Record // nil if it is not there any more
}

// named lists the contacts that give the names of those whom a record names.
func (a pages) named(ctx context.Context, k *chosen) error {
	for _, p := range k.Whole.Parties {
		if p.Card == "" || slices.ContainsFunc(k.Named, func(n named) bool { return n.Card == p.Card && n.Name == p.Name }) {
			continue
		}
		c, err := a.Store.RecordByUID(ctx, k.CaseID, k.AcquisitionID, p.Card)
		if errors.Is(err, store.ErrNotFound) {
			c, err = nil, nil
		}
		if err != nil {
			return err
		}
		k.Named = append(k.Named, named{p, c})
	}
	return nil
}
