// Package recoverpage holds the page on which records are recovered from an
// acquisition's databases.
package recoverpage

import (
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sort"
	"strconv"
	"strings"

	"crosswind/core/access"
	"crosswind/core/backup"
	"crosswind/core/record"
	"crosswind/internal/acquire"
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
	inCase.GET("/recover", access.SeeEvidence, func(c *gin.Context) error { return p.page(c, nil) })
	inCase.POST("/recover", access.Recover, p.start)
	inCase.GET("/recover/pages", access.SeeEvidence, p.pageMap)
	inCase.GET("/recover/storage", access.SeeEvidence, p.storage)
	inCase.GET("/recover/pages/cells", access.SeeEvidence, p.cells)
	inCase.POST("/recover/unlock", access.Recover, p.unlock)
	inCase.POST("/recover/passwords", access.Recover, p.passwords)
}

// source is an acquisition with its latest recovery.
type source struct {
	store.Acquisition
	Reference string
	Recovery  *store.Recovery
	Databases []database
	Locked    bool // encrypted, and not unlocked yet
	Images    []string
}

type database struct {
	store.RecoveredDatabase
	Places []place
	Mapped bool // a page map is kept of it
}

type place struct {
	Words string
	Count int64
}

func (a pages) page(c *gin.Context, refused error) error {
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
		out[i] = source{Acquisition: q, Reference: refs[q.ExhibitID], Locked: locked(&all[i])}
		if out[i].Images, err = a.Store.Images(c.Request.Context(), q.ID, acquire.ImageEnding); err != nil {
			return err
		}
		if err := a.fill(c, &out[i]); err != nil {
			return err
		}
	}
	var runs []store.Run
	for _, kind := range []string{"try passwords", "unlock", "recover"} {
		newest, err := a.Store.Runs(ctx, p.Case.ID, kind, 1)
		if err != nil {
			return err
		}
		runs = append(runs, newest...)
	}
	p.Refuse(refused)
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
	if err == nil {
		dbs, err = store.Together(dbs)
	}
	if err != nil {
		return err
	}
	mapped, err := a.Store.PageMaps(ctx, r.ID)
	if err != nil {
		return err
	}
	for _, d := range dbs {
		v := database{RecoveredDatabase: d, Mapped: slices.Contains(mapped, d.Path)}
		for words, n := range d.Origins() {
			v.Places = append(v.Places, place{words, n})
		}
		sort.Slice(v.Places, func(i, j int) bool { return v.Places[i].Words < v.Places[j].Words })
		s.Databases = append(s.Databases, v)
	}
	return nil
}

// locked reports whether an acquisition is encrypted and not unlocked yet.
func locked(q *store.Acquisition) bool {
	var l backup.Label
	return json.Unmarshal(q.Facts, &l) == nil && l.Encrypted && q.ContentManifest == ""
}

// acquisition finds the acquisition that a form names, and its name.
func (a pages) acquisition(c *gin.Context) (*store.Acquisition, string, error) {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	id, err := strconv.ParseInt(c.PostForm("acq"), 10, 64)
	if err != nil {
		return nil, "", fmt.Errorf("acquisition %q: %w", c.PostForm("acq"), store.ErrNotFound)
	}
	q, err := a.Store.AcquisitionByID(ctx, id)
	if err == nil && (q.CaseID != cs.ID || q.EndedAt == nil) {
		err = fmt.Errorf("acquisition %d: %w", id, store.ErrNotFound)
	}
	if err != nil {
		return nil, "", err
	}
	all, err := a.Store.Exhibits(ctx, cs.ID)
	name := ""
	for _, e := range all {
		if e.ID == q.ExhibitID {
			name = frame.AcquisitionName(e.Reference, q)
		}
	}
	return q, name, err
}

// unlock tries a password on an encrypted acquisition. Each try is counted in
// the ledger; the password is kept nowhere.
func (a pages) unlock(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	q, name, err := a.acquisition(c)
	if err != nil {
		return err
	}
	if err := a.Acquirer.Keys.Try(q, c.PostForm("password")); err != nil {
		if errors.Is(err, backup.ErrPassword) {
			err = errors.Join(err, a.Store.Log(ctx, store.Act{Book: cs.Book(), By: frame.By(c), What: "password.refused", On: name}))
		}
		return a.page(c, err)
	}
	sub := acquire.UnlockSubject{Exhibit: q.ExhibitID, Acquisition: q.ID, Name: name}
	err = a.Acquirer.QueueUnlock(ctx, cs, frame.By(c), a.Process.ID, sub, store.Act{Book: cs.Book(), By: frame.By(c), What: "password.accepted", On: name})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/recover")
	return nil
}

// passwords queues the trying of a list of passwords. The list stays in memory.
func (a pages) passwords(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	q, name, err := a.acquisition(c)
	if err != nil {
		return err
	}
	if !locked(q) {
		return a.page(c, errors.New("this acquisition is not locked"))
	}
	list, err := candidates(c)
	if err != nil {
		return a.page(c, err)
	}
	sub, err := json.Marshal(acquire.UnlockSubject{Exhibit: q.ExhibitID, Acquisition: q.ID, Name: name})
	if err != nil {
		return err
	}
	a.Acquirer.Keys.Hold(q.ID, list)
	_, err = a.Store.QueueRun(ctx, cs, store.Run{Kind: "try passwords", Subject: sub, By: frame.By(c), Title: fmt.Sprintf("Trying %d passwords on %s", len(list), name), Holder: a.Process.ID},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "password.list", On: name, Detail: map[string]string{"passwords": fmt.Sprint(len(list))}})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/recover")
	return nil
}

// MaxCandidates bounds a list of passwords, in bytes.
const MaxCandidates = 16 << 20

// candidates reads the passwords that are written in a form or in its file, in
// their order and each once. All of it stays in memory.
func candidates(c *gin.Context) (list []string, err error) {
	if err := c.Request.ParseMultipartForm(2 * MaxCandidates); err != nil { // more than can come, so that none is put on the disk
		return nil, fmt.Errorf("the list cannot be read: %w", err)
	}
	all := c.PostForm("passwords") + "\n"
	if h, err := c.FormFile("list"); err == nil {
		f, err := h.Open()
		if err != nil {
			return nil, fmt.Errorf("the list cannot be read: %w", err)
		}
		defer f.Close()
		b, err := io.ReadAll(f)
		if err != nil {
			return nil, fmt.Errorf("the list cannot be read: %w", err)
		}
		all += string(b)
	}
	seen := map[string]bool{}
	for line := range strings.Lines(all) {
		if line = strings.TrimRight(line, "\r\n"); line != "" && !seen[line] {
			seen[line] = true
			list = append(list, line)
		}
	}
	if len(list) == 0 {
		return nil, errors.New("give at least one password, each on a line of its own")
	}
	return list, nil
}

func (a pages) start(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	q, name, err := a.acquisition(c)
	if err != nil {
		return err
	}
	if locked(q) {
		return a.page(c, backup.ErrEncrypted)
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
