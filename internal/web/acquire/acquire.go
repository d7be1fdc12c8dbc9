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
	"time"

	"crosswind/core/backup"
	sources "crosswind/internal/acquire"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

//go:embed *.html
var templates embed.FS

type pages struct{ *frame.App }

// Routes adds the pages.
func Routes(a *frame.App, inCase frame.Group) {
	p := pages{a}
	inCase.GET("/acquire", func(c *gin.Context) error { return p.page(c, nil) })
	inCase.POST("/acquire", p.start)
	inCase.GET("/acquire/tree", p.tree)
	inCase.GET("/events", p.events)
	inCase.POST("/run/:id/:wish", p.wish)
}

type foundLine struct {
	sources.Found
	Taken []string // acquisitions of it
}

type acquired struct {
	store.Acquisition
	Reference string
	Label     backup.Label
	Faults    []store.AcquisitionFault
}

func (a pages) page(c *gin.Context, fault error) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Acquire", "Acquire")
	if err != nil {
		return err
	}
	found, notes := sources.Find(a.Roots)
	refs := map[int64]string{}
	for _, e := range p.Exhibits {
		refs[e.ID] = e.Reference
	}
	all, err := a.Store.Acquisitions(ctx, p.Case.ID, 0)
	if err != nil {
		return err
	}
	lines := make([]foundLine, len(found))
	var done []acquired
	for i, f := range found {
		lines[i].Found = f
		for _, q := range all {
			if q.Source == f.Path {
				lines[i].Taken = append(lines[i].Taken, frame.AcquisitionName(refs[q.ExhibitID], &q))
			}
		}
	}
	for _, q := range all {
		if p.Exhibit != nil && p.Exhibit.ID != q.ExhibitID {
			continue
		}
		d := acquired{Acquisition: q, Reference: refs[q.ExhibitID]}
		if err := json.Unmarshal(q.Facts, &d.Label); err != nil {
			return err
		}
		if d.Faults, err = a.Store.AcquisitionFaults(ctx, q.ID); err != nil {
			return err
		}
		done = append(done, d)
	}
	runs, err := a.Store.Runs(ctx, p.Case.ID, "acquire backup", 6)
	if err != nil {
		return err
	}
	shown := runs[:0]
	for i, r := range runs { // what waits or goes, and the last that ended
		if i == 0 || r.State != "done" && r.State != "stopped" {
			shown = append(shown, r)
		}
	}
	p.Refuse(fault)
	p.Content = struct {
		Roots []string
		Found []foundLine
		Notes []string
		Runs  []store.Run
		Done  []acquired
	}{a.Roots, lines, notes, shown, done}
	return a.Render(c, templates, p, "acquire.html")
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
	f := a.found(c.PostForm("path"))
	if f == nil {
		return a.page(c, fmt.Errorf("there is no backup at %q in the configured folders any more", c.PostForm("path")))
	}
	sub, err := json.Marshal(sources.BackupSubject{Exhibit: e.ID, Reference: e.Reference, Path: f.Path})
	if err != nil {
		return err
	}
	detail := map[string]string{"source": f.Path, "device": f.Label.Device.Mark, "serial": f.Label.Device.Serial, "made": f.Label.Made.UTC().Format(time.RFC3339)}
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
	stage := map[string]string{"acquire backup": "acquire", "verify": "verify", "recover": "recover", "unlock": "recover", "package": "report"}[r.Kind]
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
	c.Header("Cache-Control", "no-store")
	for {
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
