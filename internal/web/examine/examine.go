// Package examine holds the waterline chart, the list that is what the chart
// shows, the reading pane, and the origin drawer.
package examine

import (
	"embed"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/access"
	"crosswind/core/record"
	"crosswind/core/timeline"
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
}

const (
	pageSize = 80
	around   = 12 // messages before and after the chosen one
)

type content struct {
	Chart    chart
	Filter   store.Filter
	Records  []store.Record
	Untimed  []store.Record
	Next     string
	Timeless int64 // records without a time
	Chosen   *chosen
	Refused  string
	// Records that lie years before and after all others, and the span that holds all.
	Before, After int64
	Farthest      timeline.Window
}

// chosen is the record that is being read.
type chosen struct {
	store.Record
	Whole  *record.Record
	Around []store.Record
	Below  int // of those around it
	Origin *origin
	AcqNo  int
	Now    *store.Record  // the row as it is, of an earlier version
	Others []store.Record // the same record in other acquisitions
}

func (a pages) page(c *gin.Context) error {
	p, err := a.Page(c, "Examine", "Examine")
	if err != nil {
		return err
	}
	v, err := a.content(c, p)
	if err != nil {
		return err
	}
	p.Content = v
	return a.Render(c, files, p, "examine.html")
}

func (a pages) content(c *gin.Context, p *frame.Page) (*content, error) {
	ctx := c.Request.Context()
	v := &content{Filter: readFilter(p)}
	w, full, err := a.window(c, p, v)
	if err != nil {
		return nil, err
	}
	v.Filter.From, v.Filter.To = w.From, w.To
	if v.Chart, err = a.chart(c, p, v.Filter, w, full); err != nil {
		return nil, err
	}
	if v.Timeless, err = a.Store.CountUntimed(ctx, v.Filter); err != nil {
		return nil, err
	}
	after, err := readAfter(p.Query.Get("after"))
	if err != nil {
		return nil, err
	}
	var next *store.After
	if v.Records, next, err = a.Store.Records(ctx, v.Filter, after, pageSize); err != nil {
		return nil, err
	}
	if next != nil {
		v.Next = fmt.Sprintf("%d.%d", next.At.UnixMicro(), next.ID)
	} else if v.Untimed, _, err = a.Store.Untimed(ctx, v.Filter, 0, 500); err != nil {
		return nil, err
	}
	if r := p.Query.Get("r"); r != "" {
		v.Chosen, err = a.choose(c, p, r, p.Query.Get("o") != "")
		if errors.Is(err, store.ErrNotFound) {
			p.Fault, err = "There is no such record in this case.", nil
		}
	}
	return v, err
}

// readFilter reads the filter from the address. In the words, kind: and state:
// narrow, and the rest is looked for.
func readFilter(p *frame.Page) store.Filter {
	f := store.Filter{CaseID: p.Case.ID, Exhibit: p.ExhibitID(), Marked: p.Query.Get("marked") != "", State: p.Query.Get("state")}
	f.Kinds = slices.DeleteFunc(strings.Split(p.Query.Get("kind"), ","), func(s string) bool { return s == "" })
	var words []string
	for w := range strings.FieldsSeq(p.Query.Get("q")) {
		if k, ok := strings.CutPrefix(w, "kind:"); ok {
			if kind, err := record.ParseKind(k); err == nil {
				k = string(kind)
			}
			f.Kinds = append(f.Kinds, k)
		} else if s, ok := strings.CutPrefix(w, "state:"); ok {
			f.State = s
		} else if w == "is:marked" {
			f.Marked = true
		} else {
			words = append(words, w)
		}
	}
	f.Words = strings.Join(words, " ")
	return f
}

func readAfter(s string) (store.After, error) {
	if s == "" {
		return store.After{}, nil
	}
	at, id, ok := strings.Cut(s, ".")
	us, err1 := strconv.ParseInt(at, 10, 64)
	n, err2 := strconv.ParseInt(id, 10, 64)
	if !ok || err1 != nil || err2 != nil {
		return store.After{}, frame.Bad("after=%q is not a place in the list", s)
	}
	t := time.UnixMicro(us)
	if y := t.UTC().Year(); y < 1 || y > 9999 {
		return store.After{}, frame.Bad("after=%q is not a place in the list", s)
	}
	return store.After{At: t, ID: n}, nil
}

// window is the span that the chart shows: what the address says, else where the
// filter's records are, with a margin. Records that lie years away from all others are
// told apart.
func (a pages) window(c *gin.Context, p *frame.Page, v *content) (w, full timeline.Window, err error) {
	ctx, f := c.Request.Context(), store.Filter{CaseID: v.Filter.CaseID, Exhibit: v.Filter.Exhibit}
	months, err := a.Store.Months(ctx, f)
	if err != nil || len(months) == 0 {
		return w, full, err
	}
	f.From, f.To, v.Before, v.After = timeline.Where(months)
	first, last, err := a.Store.Extent(ctx, f)
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

func (a pages) choose(c *gin.Context, p *frame.Page, id string, drawer bool) (*chosen, error) {
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
	if r.Kind.About().InTalk && r.At != nil {
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
	if k.Now, k.Others, err = a.Store.Present(ctx, r); err != nil {
		return nil, err
	}
	if drawer {
		k.Origin, err = a.origin(ctx, k, acq)
	}
	return k, err
}

// mark marks a record with a reason, or takes its mark away.
func (a pages) mark(c *gin.Context) error {
	ctx := c.Request.Context()
	cs := frame.CaseOf(c)
	id, err := frame.ID(c, "id")
	if err != nil {
		return err
	}
	r, err := a.Store.RecordByID(ctx, cs.ID, id)
	if err != nil {
		return err
	}
	reason := strings.TrimSpace(c.PostForm("reason"))
	if was, given := c.GetPostForm("was"); given { // the reason that the page showed
		if r.MarkReason = &was; was == "" {
			r.MarkReason = nil
		}
	}
	switch {
	case c.PostForm("unmark") != "":
		err = a.Store.Unmark(ctx, cs, r, frame.By(c))
	case reason == "":
		a.Notice(c, "A mark needs its reason: the report gives it.")
	default:
		err = a.Store.Mark(ctx, cs, r, reason, frame.By(c))
	}
	if err != nil {
		return err
	}
	q, err := url.ParseQuery(c.PostForm("back"))
	if err != nil {
		q = url.Values{}
	}
	c.Redirect(http.StatusSeeOther, frame.Address("/case/"+cs.Reference+"/examine", q, "r", fmt.Sprint(id)))
	return nil
}
