// Package acquire holds the page on which sources are found and acquired, and
// what runs tell of themselves.
package acquire

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path"
	"slices"
	"time"

	"crosswind/core/access"
	"crosswind/core/backup"
	sources "crosswind/internal/acquire"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

//go:embed *.html
var templates embed.FS

type pages struct {
	*frame.App
	watch *watch
}

// Routes adds the pages.
func Routes(a *frame.App, inCase frame.Group) {
	p := pages{a, &watch{}}
	inCase.GET("/acquire", access.SeeSources, func(c *gin.Context) error { return p.page(c, nil) })
	inCase.POST("/acquire", access.Acquire, p.start)
	inCase.POST("/acquire/image", access.Acquire, p.image)
	inCase.GET("/acquire/tree", access.SeeSources, p.tree)
	inCase.POST("/acquire/place", access.Acquire, p.place)
	inCase.POST("/acquire/place/drop", access.Acquire, p.dropPlace)
	inCase.POST("/acquire/archive", access.Acquire, p.upload)
	inCase.POST("/acquire/loss", access.Custody, p.loss)
	inCase.POST("/acquire/stated", access.Acquire, p.state)
	inCase.GET("/acquire/route", access.SeeSources, func(c *gin.Context) error { return p.situation(c, nil, nil) })
	inCase.POST("/acquire/route", access.Acquire, p.choose)
	inCase.GET("/acquire/handset", access.SeeSources, func(c *gin.Context) error { return p.handset(c, nil) })
	inCase.POST("/acquire/handset", access.Acquire, p.read)
	inCase.POST("/acquire/handset/ask", access.Acquire, p.ask)
	inCase.POST("/acquire/handset/backup", access.Acquire, p.make)
	inCase.GET("/acquire/cloud", access.SeeSources, func(c *gin.Context) error { return p.cloud(c, nil) })
	inCase.POST("/acquire/cloud", access.Acquire, p.download)
	inCase.POST("/acquire/cloud/sign-in", access.Acquire, p.signIn)
	inCase.GET("/events", access.SeeSources, p.events)
	inCase.GET("/acquire/handset/events", access.SeeSources, p.handsetEvents)
	inCase.POST("/run/:id/:wish", access.Control, p.wish)
}

type foundLine struct {
	sources.Found
	Taken []string       // acquisitions of it
	Of    *store.Exhibit // the exhibit of the same serial, nil if there is none
}

// BeforeLoss reports whether the backup was made before what was lost was lost.
func (l *foundLine) BeforeLoss() bool { return l.Label.Made.Before(*l.Of.LostAt) }

type acquired struct {
	store.Acquisition
	Reference string
	Label     backup.Label
	Faults    []store.AcquisitionFault
	Came      *store.Provenance // nil if nothing is known of it
}

// Asked reports whether where it came from is to be stated: of what was copied before, but for what a handset was asked for here.
func (a acquired) Asked() bool {
	return sources.OfCopy(a.Method) && (a.Came == nil || !a.Came.Seen)
}

// Since says whether it was changed between its receipt here and its acquisition.
func (a acquired) Since() string {
	if a.Came == nil {
		return ""
	}
	return a.Came.Since(&a.Acquisition)
}

type content struct {
	Roots    []string
	Places   []store.Place
	Archives []store.Archive
	Found    []foundLine
	Images   []sources.FoundImage
	Notes    []string
	Runs     []store.Run
	Done     []acquired
	Routes   []routed
	Handsets []connected
	Seen     string // what they were seen to do before they were asked
	Service  string // address of the cloud service, "" for none
}

// routed is an exhibit with the route that was chosen for it.
type routed struct {
	store.Exhibit
	Choice *store.RouteChoice
	Title  string
}

func (a pages) page(c *gin.Context, fault error) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Acquire", "Acquire")
	if err != nil {
		return err
	}
	v := &content{Roots: a.Acquirer.Roots, Service: a.Acquirer.Service}
	all, err := a.Store.Acquisitions(ctx, p.Case.ID, 0)
	if err != nil {
		return err
	}
	if err := a.fillFound(ctx, p, v, all); err != nil {
		return err
	}
	if v.Images, err = a.Acquirer.FindImages(ctx, p.Case.ID); err != nil {
		return err
	}
	if err := a.fillDone(ctx, p, v, all); err != nil {
		return err
	}
	if v.Places, err = a.Store.Places(ctx, p.Case.ID); err != nil {
		return err
	}
	if v.Archives, err = a.Store.Archives(ctx, p.Case.ID); err != nil {
		return err
	}
	if len(a.Acquirer.Handsets) > 0 {
		v.Seen = a.seen(c)
	}
	v.Handsets = a.connectedHandsets(ctx)
	for i := range v.Handsets {
		for _, e := range p.Exhibits {
			if h := &v.Handsets[i]; !h.Gone && h.State.Serial != "" && h.State.Serial == e.Serial {
				h.Of = e.Reference
			}
		}
	}
	for _, e := range p.Exhibits {
		r := routed{Exhibit: e}
		if r.Choice, err = a.Store.ChosenRoute(ctx, e.ID); err != nil {
			return err
		}
		if r.Choice != nil {
			r.Title = title(r.Choice.Route)
		}
		v.Routes = append(v.Routes, r)
	}
	for _, kind := range []string{"unpack", "acquire backup", "acquire handset", "acquire storage", "acquire image", "acquire cloud", "make backup"} {
		runs, err := a.Store.Runs(ctx, p.Case.ID, kind, 6)
		if err != nil {
			return err
		}
		for i, r := range runs { // what waits or goes, and the last acquisition that ended
			if i == 0 && kind != "unpack" || r.State != "done" && r.State != "stopped" {
				v.Runs = append(v.Runs, r)
			}
		}
	}
	p.Refuse(fault)
	p.Content = v
	return a.Render(c, templates, p, "acquire.html", "came.html")
}

func (a pages) fillFound(ctx context.Context, p *frame.Page, v *content, all []store.Acquisition) error {
	found, notes, err := a.Acquirer.Find(ctx, p.Case.ID)
	if err != nil {
		return err
	}
	v.Notes = notes
	taken := map[string][]string{}
	refs := references(p)
	for i := range all {
		r, err := a.Store.RunByID(ctx, all[i].RunID)
		if err != nil {
			return err
		}
		var sub sources.BackupSubject
		if err := json.Unmarshal(r.Subject, &sub); err != nil {
			return err
		}
		taken[sub.Address] = append(taken[sub.Address], frame.AcquisitionName(refs[all[i].ExhibitID], &all[i]))
	}
	for _, f := range found {
		l := foundLine{Found: f, Taken: taken[f.Address]}
		for i := range p.Exhibits {
			if p.Exhibits[i].Serial == f.Label.Device.Serial {
				l.Of = &p.Exhibits[i]
			}
		}
		v.Found = append(v.Found, l)
	}
	return nil
}

func references(p *frame.Page) map[int64]string {
	refs := map[int64]string{}
	for _, e := range p.Exhibits {
		refs[e.ID] = e.Reference
	}
	return refs
}

func (a pages) fillDone(ctx context.Context, p *frame.Page, v *content, all []store.Acquisition) (err error) {
	refs := references(p)
	came, err := a.Store.Provenances(ctx, p.Case)
	if err != nil {
		return err
	}
	for _, q := range all {
		if p.Exhibit != nil && p.Exhibit.ID != q.ExhibitID {
			continue
		}
		d := acquired{Acquisition: q, Reference: refs[q.ExhibitID], Came: came.Of(refs[q.ExhibitID], &q)}
		if err := json.Unmarshal(q.Facts, &d.Label); err != nil {
			return err
		}
		if d.Faults, err = a.Store.AcquisitionFaults(ctx, q.ID); err != nil {
			return err
		}
		v.Done = append(v.Done, d)
	}
	return nil
}

// start queues the acquisition of a backup that was found.
func (a pages) start(c *gin.Context) error {
	ctx := c.Request.Context()
	cs := frame.CaseOf(c)
	e, err := a.ExhibitByReference(c, c.PostForm("exhibit"))
	if errors.Is(err, store.ErrNotFound) {
		return a.page(c, errors.New("choose the exhibit that the backup is acquired for"))
	}
	if err != nil {
		return err
	}
	f, err := a.Acquirer.FindOne(ctx, cs.ID, c.PostForm("path"))
	if errors.Is(err, store.ErrNotFound) {
		return a.page(c, fmt.Errorf("there is no backup at %q any more", c.PostForm("path")))
	}
	if err != nil {
		return err
	}
	sub, err := json.Marshal(sources.BackupSubject{Exhibit: e.ID, Reference: e.Reference, Address: f.Address})
	if err != nil {
		return err
	}
	detail := map[string]string{"source": f.Where, "device": f.Label.Device.Mark, "serial": f.Label.Device.Serial, "made": f.Label.Made.UTC().Format(time.RFC3339)}
	if f.Label.Device.Serial != e.Serial {
		detail["note"] = "the backup's serial is not the exhibit's, which is " + e.Serial
	}
	_, err = a.Store.QueueRun(ctx, cs, store.Run{Kind: "acquire backup", Subject: sub, By: frame.By(c), Title: "Acquiring " + f.Label.Device.Name + ", backup of " + f.Label.Made.In(cs.Location()).Format("2 Jan 2006") + ", for " + e.Reference},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "acquisition.queued", On: e.Reference, Detail: detail})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire?exhibit="+e.Reference)
	return nil
}

// image queues the acquisition of a storage image that was found.
func (a pages) image(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	e, err := a.ExhibitByReference(c, c.PostForm("exhibit"))
	if errors.Is(err, store.ErrNotFound) {
		return a.page(c, errors.New("choose the exhibit that the image is acquired for"))
	}
	if err != nil {
		return err
	}
	all, err := a.Acquirer.FindImages(ctx, cs.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(f sources.FoundImage) bool { return f.Path == c.PostForm("path") })
	if i < 0 { // an address from a form is not trusted
		return a.page(c, fmt.Errorf("there is no storage image at %q any more", c.PostForm("path")))
	}
	sub, err := json.Marshal(sources.ImageSubject{Exhibit: e.ID, Reference: e.Reference, Path: all[i].Path})
	if err != nil {
		return err
	}
	_, err = a.Store.QueueRun(ctx, cs, store.Run{Kind: "acquire image", Subject: sub, By: frame.By(c), Title: "Acquiring the storage image " + path.Base(all[i].Path) + " for " + e.Reference},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "acquisition.queued", On: e.Reference, Detail: map[string]string{"source": all[i].Path, "bytes": fmt.Sprint(all[i].Size)}})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire?exhibit="+e.Reference)
	return nil
}

func (a pages) wish(c *gin.Context) error {
	id, err := frame.ID(c, "id")
	if err != nil {
		return err
	}
	cs := frame.CaseOf(c)
	r, err := a.Store.RunByID(c.Request.Context(), id)
	if err == nil && r.CaseID != cs.ID {
		err = fmt.Errorf("run %d: %w", id, store.ErrNotFound)
	}
	if err != nil {
		return err
	}
	switch w := c.Param("wish"); w {
	case "pause", "stop", "run":
		if err := a.Store.WishRun(c.Request.Context(), cs, r, w, frame.By(c)); err != nil {
			a.Notice(c, "%v.", err)
		}
	default:
		return fmt.Errorf("%s: %w", w, store.ErrNotFound)
	}
	stage := map[string]string{"acquire backup": "acquire", "acquire handset": "acquire", "acquire storage": "acquire", "acquire image": "acquire", "acquire cloud": "acquire", "make backup": "acquire", "verify": "verify", "recover": "recover", "unlock": "recover", "try passwords": "recover", "unpack": "acquire", "known files": "verify", "package": "report"}[r.Kind]
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/"+stage)
	return nil
}

// told is what the page is told of a run.
type told struct {
	ID         int64            `json:"id"`
	State      string           `json:"state"`
	Percent    int              `json:"percent"`
	BytesDone  int64            `json:"bytesDone"`
	BytesTotal int64            `json:"bytesTotal"`
	ItemsDone  int64            `json:"itemsDone"`
	ItemsTotal int64            `json:"itemsTotal"`
	Found      map[string]int64 `json:"found"`
	Log        []string         `json:"log"`
	Now        int64            `json:"now"` // milliseconds since 1970
}

// events tells of the case's newest runs, a few times a second while one is
// under way.
func (a pages) events(c *gin.Context) error {
	cs := frame.CaseOf(c)
	c.Header("Content-Type", "text/event-stream")
	for n := 0; ; n++ {
		if n%3 == 0 && !a.StillSigned(c) { // whoever signs out sees nothing more
			return nil
		}
		open, err := a.tell(c.Request.Context(), c, cs)
		if err != nil && c.Request.Context().Err() == nil {
			a.Log.Error("telling of runs", "error", err) // the answer has begun
		}
		if err != nil || !open {
			return nil
		}
		select {
		case <-c.Request.Context().Done():
			return nil
		case <-a.Ending:
			return nil
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func (a pages) tell(ctx context.Context, c *gin.Context, cs *store.Case) (open bool, err error) {
	runs, err := a.Store.Runs(ctx, cs.ID, "", 12)
	if err != nil {
		return false, err
	}
	out := make([]told, len(runs))
	for i, r := range runs {
		open = open || r.Open()
		out[i] = told{r.ID, r.State, r.Percent(), r.BytesDone, r.BytesTotal, r.ItemsDone, r.ItemsTotal, map[string]int64{}, r.Log, time.Now().UnixMilli()}
		if err := json.Unmarshal(r.Found, &out[i].Found); err != nil {
			return false, err
		}
	}
	c.SSEvent("runs", out)
	c.Writer.Flush()
	return open, nil
}
