// Package verify holds the page that shows every acquired file with its
// hashes, checks them again, and gives out the manifests.
package verify

import (
	"embed"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"

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
	inCase.GET("/verify", p.page)
	inCase.POST("/verify", p.start)
	inCase.POST("/verify/case", p.startAll)
	inCase.GET("/verify/:id/manifest/:algorithm", p.manifest)
}

const pageSize = 100

// maxCells bounds the segments drawn; the page says when there are more.
const maxCells = 6000

// fileCells are a file's cells on the map of segments.
type fileCells struct {
	Path string
	Bad  []bool // a cell a segment: whether it differs
}

func (a pages) page(c *gin.Context) error {
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
	runs, err := a.Store.Runs(ctx, p.Case.ID, "verify", 1)
	if err != nil {
		return err
	}
	v.Runs = runs
	p.Content = &v
	return a.Render(c, files, p, "verify.html")
}

type content struct {
	All    []store.Acquisition
	Refs   map[int64]string
	Acq    *store.Acquisition
	Files  []store.File
	Next   string
	Faulty []store.File
	Checks []store.Verification
	Runs   []store.Run
	Cells  []fileCells
	Shown  int // segments drawn
	Total  int // segments there are
}

// Name names the chosen acquisition.
func (v *content) Name() string { return frame.AcquisitionName(v.Refs[v.Acq.ExhibitID], v.Acq) }

func (a pages) fill(c *gin.Context, v *content) (err error) {
	ctx := c.Request.Context()
	if v.Files, err = a.Store.Files(ctx, v.Acq.ID, c.Query("after"), false, pageSize); err != nil {
		return err
	}
	if len(v.Files) == pageSize {
		v.Next = v.Files[len(v.Files)-1].Path
	}
	if v.Faulty, err = a.Store.Files(ctx, v.Acq.ID, "", true, pageSize); err != nil {
		return err
	}
	if v.Checks, err = a.Store.Verifications(ctx, v.Acq.ID, 8); err != nil {
		return err
	}
	for f, err := range a.Store.AllFiles(ctx, v.Acq.ID) {
		if err != nil {
			return err
		}
		n := f.SegmentCount()
		v.Total += n
		if v.Shown+n > maxCells {
			continue
		}
		v.Shown += n
		cells := fileCells{f.Path, make([]bool, n)}
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
		if _, err := a.Store.FileByPath(c.Request.Context(), q.ID, path); err != nil {
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
	cs, name := frame.CaseOf(c), frame.AcquisitionName(e.Reference, q)
	sub, err := json.Marshal(acquire.VerifySubject{Exhibit: e.ID, Acquisition: q.ID, Name: name, Against: against, Path: path})
	if err != nil {
		return err
	}
	title, detail := "Checking "+name+" against the "+against, map[string]string{"against": against}
	if path != "" {
		title, detail["file"] = "Checking "+path+" of "+name+" against the "+against, path
	}
	_, err = a.Store.QueueRun(c.Request.Context(), cs, store.Run{Kind: "verify", Subject: sub, By: frame.By(c), Title: title},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "verification.queued", On: name, Detail: detail})
	return err
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
	if sum == nil {
		return fmt.Errorf("manifest %s: %w", c.Param("algorithm"), store.ErrNotFound)
	}
	cs := frame.CaseOf(c)
	if err := a.Store.Log(c.Request.Context(), store.Act{Book: cs.Book(), By: frame.By(c), What: "manifest.downloaded", On: frame.AcquisitionName(e.Reference, q), Detail: map[string]string{"algorithm": c.Param("algorithm")}}); err != nil {
		return err
	}
	c.Header("Content-Type", "text/plain; charset=utf-8")
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-acquisition-%d.%s"`, e.Reference, q.Number, c.Param("algorithm")))
	for f, err := range a.Store.AllFiles(c.Request.Context(), q.ID) {
		if err != nil {
			a.Log.Error("writing a manifest", "error", err)
			c.Abort()
			return nil
		}
		fmt.Fprintln(c.Writer, digest.Line{Sum: sum(f), Path: f.Path})
	}
	return nil
}
