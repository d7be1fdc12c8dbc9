package acquire

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"crosswind/core/backup"
	"crosswind/core/unpack"
	sources "crosswind/internal/acquire"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// errNoSource is why a file is not taken.
var errNoSource = errors.New("is neither a backup of a known layout nor a tar, ZIP or gzip archive")

// place adds a place on this machine in which the case's sources lie: a folder,
// a backup, or an archive, which is then unpacked.
func (a pages) place(c *gin.Context) error {
	cs, at := frame.CaseOf(c), strings.TrimSpace(c.PostForm("place"))
	archive, err := a.checkPlace(at)
	if err != nil {
		return a.page(c, err)
	}
	if archive {
		_, err = a.Store.AddArchive(c.Request.Context(), cs, store.Archive{Name: frame.FileName(at), Path: at, By: frame.By(c)})
	} else {
		err = a.Store.AddPlace(c.Request.Context(), cs, filepath.Clean(at), frame.By(c))
	}
	if errors.Is(err, store.ErrTaken) {
		return a.page(c, fmt.Errorf("%s is looked into already", at))
	}
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire")
	return nil
}

// dropPlace takes a place away. What was acquired from it stays.
func (a pages) dropPlace(c *gin.Context) error {
	cs := frame.CaseOf(c)
	if err := a.Store.DropPlace(c.Request.Context(), cs, c.PostForm("place"), frame.By(c)); err != nil {
		return err
	}
	a.Notice(c, "%s is looked into no more. What was acquired from it stays.", c.PostForm("place"))
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire")
	return nil
}

// checkPlace says whether a path is that of an archive, or why it cannot be a
// source.
func (a pages) checkPlace(at string) (archive bool, err error) {
	if !filepath.IsAbs(at) {
		return false, fmt.Errorf("%q is not an absolute path on this machine, such as /media/stick/backups", at)
	}
	real, err := filepath.EvalSymlinks(at)
	if err != nil {
		return false, err
	}
	own, err := filepath.EvalSymlinks(a.Data)
	if err != nil {
		return false, err
	}
	if rel, err := filepath.Rel(own, real); err == nil && rel != ".." && !strings.HasPrefix(rel, "../") {
		return false, fmt.Errorf("%s lies in Crosswind's own folder, which is not a source", at)
	}
	st, err := os.Stat(real)
	if err != nil || st.IsDir() {
		return false, err
	}
	if !st.Mode().IsRegular() {
		return false, fmt.Errorf("%s is neither a folder nor a regular file", at)
	}
	if _, err := backup.ReadLabel(os.DirFS(filepath.Dir(real)), filepath.Base(real)); err == nil {
		return false, nil
	}
	f, err := os.OpenFile(real, os.O_RDONLY|syscall.O_NONBLOCK, 0) // it was regular; a pipe that came in its place is not waited for
	if err != nil {
		return false, err
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	if err != nil && err != io.ErrUnexpectedEOF {
		return false, fmt.Errorf("reading %s: %w", at, err)
	}
	if !unpack.IsArchive(head[:n]) {
		return false, fmt.Errorf("%s %w", at, errNoSource)
	}
	return true, nil
}

// upload streams an archive into the vault and queues its unpacking.
func (a pages) upload(c *gin.Context) error {
	cs := frame.CaseOf(c)
	_, part, err := frame.Upload(c, "archive")
	if err != nil {
		return a.page(c, err)
	}
	name := frame.FileName(part.FileName())
	r := bufio.NewReaderSize(part, 64<<10)
	head, _ := r.Peek(512)
	if len(head) == 0 {
		return a.page(c, frame.ErrNoFile)
	}
	if !unpack.IsArchive(head) && !backup.Looks(head) {
		return a.page(c, fmt.Errorf("%s %w", name, errNoSource))
	}
	set, err := a.Evidence.Put(c.Request.Context(), r)
	if err != nil {
		return fmt.Errorf("receiving %s: %w; nothing of it is kept", name, err)
	}
	_, _, sum := set.Hex()
	if _, err := a.Store.AddArchive(c.Request.Context(), cs, store.Archive{Name: name, Size: set.Size, SHA256: sum, By: frame.By(c)}); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire")
	return nil
}

// mostStated bounds each part of what is stated of a source, in characters.
const mostStated = 1000

// state keeps who made what was acquired, on what, and how it came to where it was acquired.
func (a pages) state(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	all, err := a.Store.Acquisitions(ctx, cs.ID, 0)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(q store.Acquisition) bool { return fmt.Sprint(q.ID) == c.PostForm("acq") })
	if i < 0 {
		return a.page(c, errors.New("choose the acquisition of which it is stated"))
	}
	q := &all[i]
	e, err := a.Store.ExhibitByID(ctx, q.ExhibitID)
	if err != nil {
		return err
	}
	p := store.Provenance{MadeBy: strings.TrimSpace(c.PostForm("made_by")), MadeOn: strings.TrimSpace(c.PostForm("made_on")), Came: strings.TrimSpace(c.PostForm("came")), By: frame.By(c)}
	if !sources.OfCopy(q.Method) {
		return a.page(c, fmt.Errorf("%s was read from the source itself: nothing is to be stated of a copy", frame.AcquisitionName(e.Reference, q)))
	}
	came, err := a.Store.Provenances(ctx, cs)
	if err != nil {
		return err
	}
	if was := came.Of(e.Reference, q); was != nil && was.Seen {
		return a.page(c, fmt.Errorf("the handset was asked here for the source of %s: there is nothing to state of it", frame.AcquisitionName(e.Reference, q)))
	}
	if p.MadeBy+p.MadeOn+p.Came == "" {
		return a.page(c, fmt.Errorf("say of %s who made its source, on what, or how it came to where it was acquired", frame.AcquisitionName(e.Reference, q)))
	}
	for _, x := range []string{p.MadeBy, p.MadeOn, p.Came} {
		if n := utf8.RuneCountInString(x); n > mostStated {
			return a.page(c, fmt.Errorf("%d characters are more than the %d that are kept of where a source came from", n, mostStated))
		}
	}
	if err := a.Store.StateProvenance(ctx, cs, e, q, p); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire?exhibit="+e.Reference)
	return nil
}

// loss records what an exhibit's owner is said to have lost, and when.
func (a pages) loss(c *gin.Context) error {
	cs := frame.CaseOf(c)
	e, err := a.ExhibitByReference(c, c.PostForm("exhibit"))
	if err != nil {
		return err
	}
	at, err := time.ParseInLocation("2006-01-02T15:04", c.PostForm("lost_at"), cs.Location())
	if err != nil {
		return a.page(c, fmt.Errorf("%q is not a date and time", c.PostForm("lost_at")))
	}
	what := strings.TrimSpace(c.PostForm("lost_what"))
	if what == "" {
		return a.page(c, errors.New("say what was lost"))
	}
	if was, given := c.GetPostForm("was"); given { // what the page showed
		now := e.LostWhat
		if e.LostWhat = was; now != was {
			return a.page(c, fmt.Errorf("what was lost from %s was changed meanwhile by somebody else. Kept is: %q. You wrote: %q", e.Reference, now, what))
		}
	}
	if err := a.Store.StateLoss(c.Request.Context(), cs, e, at, what, frame.By(c)); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire?exhibit="+e.Reference)
	return nil
}
