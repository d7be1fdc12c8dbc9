// Package examine holds the waterline chart, the list that is what the chart
// shows, the reading pane, and the origin drawer.
package examine

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/access"
	"crosswind/core/people"
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
	fewRecords  = 80  // are marks of the chart each, or pictures of the gallery
	takenAtOnce = 500 // records
)

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
