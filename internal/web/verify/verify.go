// Package verify holds the page that shows every acquired file with its
// hashes, checks them again, and gives out the manifests.
package verify

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"crosswind/core/access"
	"crosswind/core/digest"
	"crosswind/internal/acquire"
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
	inCase.GET("/verify", access.SeeSources, func(c *gin.Context) error { return p.page(c, nil) })
	inCase.POST("/verify", access.Verify, p.start)
	inCase.POST("/verify/case", access.Verify, p.startAll)
	inCase.POST("/verify/schedule", access.Verify, p.schedule)
	inCase.POST("/verify/known", access.Verify, p.known)
	inCase.GET("/verify/:id/manifest/:algorithm", access.TakeOut, p.manifest)
}

const pageSize = 100

// maxCells bounds the segments drawn; the page says when there are more.
const maxCells = 6000

// fileCells are a file's cells on the map of segments.
type fileCells struct {
	Path    string
	Size    int64
	Bad     []bool // a cell a segment: whether it differs
	Pending bool   // not checked again yet by the check that is under way
}

func (a pages) page(c *gin.Context, refused error) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Verify", "Verify")
	if err != nil {
		return err
	}
	all, err := a.Store.Acquisitions(ctx, p.Case.ID, p.ExhibitID())
	if err != nil {
		return err
	}
	v := content{All: all, Refs: map[int64]string{}}
	for _, e := range p.Exhibits {
		v.Refs[e.ID] = e.Reference
	}
	if len(all) > 0 {
		v.Acq = &all[len(all)-1]
	}
	for i := range all {
		if fmt.Sprint(all[i].ID) == c.Query("acq") {
			v.Acq = &all[i]
		}
	}
	if v.Acq != nil {
		if err := a.fill(c, &v); err != nil {
			return err
		}
	}
	for _, kind := range []string{"known files", "verify"} {
		runs, err := a.Store.Runs(ctx, p.Case.ID, kind, 6)
		if err != nil {
			return err
		}
		for _, r := range runs {
			if r.State != "done" && r.State != "stopped" {
				v.Runs = append(v.Runs, r)
			}
		}
	}
	if v.Schedule, err = a.Store.ScheduleOf(ctx, p.Case.ID); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if v.Schedule.Days == 0 {
		v.Schedule = nil
	}
	if v.Known, err = a.Store.KnownSets(ctx, p.Case.ID); err != nil {
		return err
	}
	p.Refuse(refused)
	p.Content = &v
	return a.Render(c, files, p, "verify.html")
}

type content struct {
	All      []store.Acquisition
	Refs     map[int64]string
	Acq      *store.Acquisition
	Files    []store.File
	Next     *store.File // the last of this page, if there are more
	HideSeen bool        // files that a known-file set names are left out
	Faulty   []store.File
	Checks   []store.Verification
	Unread   []store.Unread // ranges of its files that are zeros because they could not be read
	Runs     []store.Run
	Checking *store.Run // the check of all of this acquisition that is under way
	Cells    []fileCells
	Shown    int // segments drawn
	Total    int // segments there are
	Schedule *store.Schedule
	Known    []store.KnownSet
}

// Name names the chosen acquisition.
func (v *content) Name() string { return frame.AcquisitionName(v.Refs[v.Acq.ExhibitID], v.Acq) }

func (a pages) fill(c *gin.Context, v *content) (err error) {
	ctx := c.Request.Context()
	v.HideSeen = c.Query("known") == "hide"
	f := store.FileFilter{Acquisition: v.Acq.ID, Part: store.Both, Unknown: v.HideSeen, AfterContent: c.Query("part") == "content", After: c.Query("after")}
	if v.Files, err = a.Store.Files(ctx, f, pageSize); err != nil {
		return err
	}
	if len(v.Files) == pageSize {
		v.Next = &v.Files[len(v.Files)-1]
	}
	if v.Faulty, err = a.Store.Files(ctx, store.FileFilter{Acquisition: v.Acq.ID, Part: store.Both, Faulty: true}, pageSize); err != nil {
		return err
	}
	if v.Checks, err = a.Store.Verifications(ctx, v.Acq.ID, 8); err != nil {
		return err
	}
	if v.Unread, err = a.Store.Unread(ctx, v.Acq.ID, ""); err != nil {
		return err
	}
	if v.Checking, err = a.checking(ctx, v.Acq); err != nil {
		return err
	}
	for f, err := range a.Store.AllFiles(ctx, v.Acq.ID, store.Both) {
		if err != nil {
			return err
		}
		n := f.SegmentCount()
		v.Total += n
		if v.Shown+n > maxCells {
			continue
		}
		v.Shown += n
		cells := fileCells{Path: f.Path, Size: f.Size, Bad: make([]bool, n)}
		cells.Pending = v.Checking != nil && f.CheckedAt.Before(*v.Checking.StartedAt)
		for _, i := range f.BadSegments {
			if int(i) < n {
				cells.Bad[i] = true
			}
		}
		if f.Fault != "" && len(f.BadSegments) == 0 { // it cannot be read at all
			for i := range cells.Bad {
				cells.Bad[i] = true
			}
		}
		v.Cells = append(v.Cells, cells)
	}
	return nil
}

// checking finds the run that checks all of an acquisition against the vault, if
// one has begun.
func (a pages) checking(ctx context.Context, q *store.Acquisition) (*store.Run, error) {
	runs, err := a.Store.Runs(ctx, q.CaseID, "verify", 12)
	if err != nil {
		return nil, err
	}
	for i, r := range runs {
		var sub acquire.VerifySubject
		if err := json.Unmarshal(r.Subject, &sub); err != nil {
			return nil, err
		}
		if sub.Acquisition == q.ID && sub.Path == "" && sub.Against == "vault" && r.StartedAt != nil && (r.Open() || r.State == "paused") {
			return &runs[i], nil
		}
	}
	return nil, nil
}

// acquisition finds the acquisition that a form or an address names.
func (a pages) acquisition(c *gin.Context, id string) (*store.Acquisition, *store.Exhibit, error) {
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return nil, nil, fmt.Errorf("acquisition %q: %w", id, store.ErrNotFound)
	}
	q, err := a.Store.AcquisitionByID(c.Request.Context(), n)
	if err != nil {
		return nil, nil, err
	}
	all, err := a.Store.Exhibits(c.Request.Context(), frame.CaseOf(c).ID)
	if err != nil {
		return nil, nil, err
	}
	i := slices.IndexFunc(all, func(e store.Exhibit) bool { return e.ID == q.ExhibitID })
	if i < 0 || q.EndedAt == nil {
		return nil, nil, fmt.Errorf("acquisition %d: %w", n, store.ErrNotFound)
	}
	return q, &all[i], nil
}

func (a pages) start(c *gin.Context) error {
	q, e, err := a.acquisition(c, c.PostForm("acq"))
	if err != nil {
		return err
	}
	against := c.PostForm("against")
	if against != "source" {
		against = "vault"
	}
	cs, path := frame.CaseOf(c), c.PostForm("path")
	if path != "" {
		if _, err := a.Store.FileByPath(c.Request.Context(), q.ID, store.Both, path); err != nil {
			return err
		}
	}
	if err := a.queue(c, q, e, against, path); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, fmt.Sprintf("/case/%s/verify?exhibit=%s&acq=%d", cs.Reference, e.Reference, q.ID))
	return nil
}

// startAll queues a check of every acquisition of the case.
func (a pages) startAll(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	all, err := a.Store.Acquisitions(ctx, cs.ID, 0)
	if err != nil {
		return err
	}
	for i := range all {
		q, e, err := a.acquisition(c, fmt.Sprint(all[i].ID))
		if err == nil {
			err = a.queue(c, q, e, "vault", "")
		}
		if err != nil {
			return err
		}
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/verify")
	return nil
}

// queue queues a check of an acquisition, or of one file of it.
func (a pages) queue(c *gin.Context, q *store.Acquisition, e *store.Exhibit, against, path string) error {
	r, act, err := acquire.Check(frame.CaseOf(c), q, frame.AcquisitionName(e.Reference, q), frame.By(c), against, path)
	if err == nil {
		_, err = a.Store.QueueRun(c.Request.Context(), frame.CaseOf(c), r, act)
	}
	return err
}

// schedule has the case checked by itself every so many days, or no more.
func (a pages) schedule(c *gin.Context) error {
	cs := frame.CaseOf(c)
	days, err := strconv.Atoi(c.PostForm("days"))
	if err != nil || days < 0 || days > 366 {
		return a.page(c, fmt.Errorf("%q is not a number of days from 1 to 366", c.PostForm("days")))
	}
	s := store.Schedule{Days: days, NextAt: time.Now().AddDate(0, 0, days), By: frame.By(c)}
	if err := a.Store.SetSchedule(c.Request.Context(), cs, s); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/verify")
	return nil
}

// known streams a list of known files into the vault and queues its import.
func (a pages) known(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	fields, list, err := frame.Upload(c, "list")
	if err != nil {
		return a.page(c, err)
	}
	name := fields["name"]
	if name == "" || len(name) > 120 {
		return a.page(c, errors.New("give the list a name of 120 characters at most"))
	}
	all, err := a.Store.KnownSets(ctx, cs.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(all, func(k store.KnownSet) bool { return k.Name == name }) {
		return a.page(c, fmt.Errorf("the name %q %w", name, store.ErrTaken))
	}
	set, err := a.Evidence.Put(ctx, list)
	if err != nil {
		return fmt.Errorf("receiving the list: %w; nothing of it is kept", err)
	}
	if set.Size == 0 {
		return a.page(c, errors.New("choose a list; this one is empty"))
	}
	_, _, sum := set.Hex()
	sub, err := json.Marshal(acquire.KnownSubject{Name: name, List: sum, Size: set.Size})
	if err != nil {
		return err
	}
	_, err = a.Store.QueueRun(ctx, cs, store.Run{Kind: "known files", Subject: sub, By: frame.By(c), Title: "Importing the known files " + name},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "known_files.received", On: name, Detail: map[string]string{"list_sha256": sum, "size": fmt.Sprint(set.Size)}})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/verify")
	return nil
}

// manifest gives the manifest of an acquisition, as md5sum, sha1sum and
// sha256sum read it in the source's folder.
func (a pages) manifest(c *gin.Context) error {
	q, e, err := a.acquisition(c, c.Param("id"))
	if err != nil {
		return err
	}
	sum := map[string]func(*store.File) string{
		"sha256": func(f *store.File) string { return f.SHA256 },
		"sha1":   func(f *store.File) string { return f.SHA1 },
		"md5":    func(f *store.File) string { return f.MD5 },
	}[c.Param("algorithm")]
	if sum == nil && c.Param("algorithm") != "unread" {
		return fmt.Errorf("manifest %s: %w", c.Param("algorithm"), store.ErrNotFound)
	}
	part, what := store.Source, ""
	if c.Query("part") == "content" {
		part, what = store.Content, "-content"
	}
	cs := frame.CaseOf(c)
	if err := a.Store.Log(c.Request.Context(), store.Act{Book: cs.Book(), By: frame.By(c), What: "manifest.downloaded", On: frame.AcquisitionName(e.Reference, q), Detail: map[string]string{"algorithm": c.Param("algorithm")}}); err != nil {
		return err
	}
	c.Header("Content-Type", "text/plain; charset=utf-8")
	c.Header("Content-Disposition", frame.Attachment(fmt.Sprintf("%s-acquisition-%d%s.%s", e.Reference, q.Number, what, c.Param("algorithm"))))
	if sum == nil {
		unread, err := a.Store.Unread(c.Request.Context(), q.ID, "")
		for _, u := range unread {
			fmt.Fprintln(c.Writer, u)
		}
		return err
	}
	for f, err := range a.Store.AllFiles(c.Request.Context(), q.ID, part) {
		if err != nil {
			a.Log.Error("writing a manifest", "error", err)
			c.Abort()
			return nil
		}
		fmt.Fprintln(c.Writer, digest.Line{Sum: sum(f), Path: f.Path})
	}
	return nil
}
