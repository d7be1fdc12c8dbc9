// Package recoverpage holds the page on which records are recovered from an
// acquisition's databases.
package recoverpage

import (
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sort"
	"strconv"

	"crosswind/core/record"
	"crosswind/internal/recovery"
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
	inCase.GET("/recover", p.page)
	inCase.POST("/recover", p.start)
}

// source is an acquisition with its latest recovery.
type source struct {
	store.Acquisition
	Reference string
	Recovery  *store.Recovery
	Databases []database
	Total     map[string]int64
}

type database struct {
	store.RecoveredDatabase
	Places []place
}

type place struct {
	Words string
	Count int64
}

func (a pages) page(c *gin.Context) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Recover", "Recover")
	if err != nil {
		return err
	}
	refs := map[int64]string{}
	for _, e := range p.Exhibits {
		refs[e.ID] = e.Reference
	}
	all, err := a.Store.Acquisitions(ctx, p.Case.ID, p.ExhibitID())
	if err != nil {
		return err
	}
	out := make([]source, len(all))
	for i, q := range all {
		out[i] = source{Acquisition: q, Reference: refs[q.ExhibitID]}
		if err := a.fill(c, &out[i]); err != nil {
			return err
		}
	}
	runs, err := a.Store.Runs(ctx, p.Case.ID, "recover", 1)
	if err != nil {
		return err
	}
	p.Content = struct {
		Sources []source
		Runs    []store.Run
		States  any
	}{out, runs, record.States}
	return a.Render(c, files, p, "recover.html")
}

func (a pages) fill(c *gin.Context, s *source) error {
	ctx := c.Request.Context()
	r, err := a.Store.LatestRecovery(ctx, s.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	s.Recovery = r
	dbs, err := a.Store.RecoveredDatabases(ctx, r.ID)
	if err != nil {
		return err
	}
	for _, d := range dbs {
		v := database{RecoveredDatabase: d}
		for words, n := range d.Origins() {
			v.Places = append(v.Places, place{words, n})
		}
		sort.Slice(v.Places, func(i, j int) bool { return v.Places[i].Words < v.Places[j].Words })
		s.Databases = append(s.Databases, v)
	}
	return nil
}

func (a pages) start(c *gin.Context) error {
	ctx := c.Request.Context()
	cs := frame.CaseOf(c)
	id, err := strconv.ParseInt(c.PostForm("acq"), 10, 64)
	if err != nil {
		return fmt.Errorf("acquisition %q: %w", c.PostForm("acq"), store.ErrNotFound)
	}
	q, err := a.Store.AcquisitionByID(ctx, id)
	if err == nil && (q.CaseID != cs.ID || q.EndedAt == nil) {
		err = fmt.Errorf("acquisition %d: %w", id, store.ErrNotFound)
	}
	if err != nil {
		return err
	}
	all, err := a.Store.Exhibits(ctx, cs.ID)
	if err != nil {
		return err
	}
	name := ""
	for _, e := range all {
		if e.ID == q.ExhibitID {
			name = frame.AcquisitionName(e.Reference, q)
		}
	}
	full := c.PostForm("pass") == "full"
	pass := "light"
	if full {
		pass = "full"
	}
	sub, err := json.Marshal(recovery.Subject{Exhibit: q.ExhibitID, Acquisition: q.ID, Name: name, Full: full})
	if err != nil {
		return err
	}
	_, err = a.Store.QueueRun(ctx, cs, store.Run{Kind: "recover", Subject: sub, By: frame.By(c), Title: "Recovering from " + name + ", " + pass + " pass"},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "recovery.queued", On: name, Detail: map[string]string{"pass": pass}})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/recover")
	return nil
}
