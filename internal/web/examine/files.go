package examine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"crosswind/core/media"
	"crosswind/core/reading"
	"crosswind/core/record"
	"crosswind/core/volume"
	"crosswind/internal/acquire"
	"crosswind/internal/preview"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

const fileHead = 4096 // bytes of a file that are shown

// filesView is the view of files by what they were called.
type filesView struct {
	store.FileQuery
	Crumbs  []folderLink
	Next    string // address at which the list of files goes on, "" at its end
	Folders []folderLink
	Files   []fileLine
	All     int64
	Sources []store.SourceOf
	Chosen  *chosenFile
}

type folderLink struct {
	Name, Address string
	Files, Bytes  int64
}

type fileLine struct {
	store.FileOf
	Address string
}

// Name is the last part of the path.
func (f fileLine) Name() string { return path.Base(f.RealPath) }

// chosenFile is the file that is looked at.
type chosenFile struct {
	store.FileOf
	Records string // address of the list of its records, "" if there are none
	Pages   string // of its page map, if it is a database
	Map     string // of the image that it lies in
	Text    string // its beginning, if it is text
	Rows    []frame.HexRow
	Cut     int64 // bytes that are not shown
	Why     string
	// What the confined process makes of it: the address of a picture, or of frames of a film; of a sound; and what a
	// document, a table or an archive holds, or why that cannot be said.
	Seen, Heard string
	Holds       *preview.Content
	HoldsNot    string
}

// holdsAtMost is how long a page waits for what a file holds.
const holdsAtMost = 5 * time.Second

func (a pages) files(ctx context.Context, p *frame.Page, v *content) (*filesView, error) {
	q := p.Query
	f := &filesView{FileQuery: store.FileQuery{CaseID: p.Case.ID, Exhibit: v.Filter.Exhibit, Dir: "/", Has: strings.TrimSpace(q.Get("named")), Ending: strings.TrimSpace(q.Get("ending")),
		Hidden: q.Get("hidden") != "", NoSystem: q.Get("nosystem") != "", Gone: q.Get("gone") != "", Sort: q.Get("sort")}}
	if n, err := strconv.ParseInt(q.Get("acq"), 10, 64); err == nil && n > 0 {
		f.Acquisition = n
	}
	var rows int
	f.Skip, rows = skipped(p, underViews)
	if d := path.Clean("/" + q.Get("dir")); d != "/" {
		f.Dir = d + "/"
	}
	f.Within = f.Has == "" && f.Ending == "" && !f.Gone // what is looked for is found at any depth
	var err error
	if f.Sources, err = a.Store.Sources(ctx, p.Case.ID, nil); err != nil {
		return nil, err
	}
	if f.Within && f.Skip == 0 {
		folders, err := a.Store.Folders(ctx, f.FileQuery)
		if err != nil {
			return nil, err
		}
		for _, x := range folders {
			f.Folders = append(f.Folders, folderLink{x.Name, p.Keep("dir", f.Dir+x.Name, "file", "", "skip", ""), x.Files, x.Bytes})
		}
	}
	at := ""
	f.Crumbs = []folderLink{{Name: "/", Address: p.Keep("dir", "", "file", "", "skip", "")}}
	for part := range strings.SplitSeq(strings.Trim(f.Dir, "/"), "/") {
		if part != "" {
			at += "/" + part
			f.Crumbs = append(f.Crumbs, folderLink{Name: part, Address: p.Keep("dir", at, "file", "", "skip", "")})
		}
	}
	all, n, err := a.Store.FilesOf(ctx, f.FileQuery, rows)
	if err != nil {
		return nil, err
	}
	f.All = n
	if end := f.Skip + len(all); int64(end) < n && len(all) > 0 {
		f.Next = p.Keep("skip", fmt.Sprint(end), "file", "") // which is read for the pane
	}
	for _, x := range all {
		f.Files = append(f.Files, fileLine{x, p.Keep("file", fmt.Sprintf("%d:%s", x.AcquisitionID, x.RealPath), "skip", "", "r", "", "o", "")})
	}
	if s := q.Get("file"); s != "" {
		f.Chosen, err = a.file(ctx, p, s)
		if errors.Is(err, store.ErrNotFound) {
			p.Fault, err = "There is no such file in this case.", nil
		}
	}
	return f, err
}

// openFile finds a file by its number of acquisition and its path, and opens it, or says why its bytes are withheld.
func (a pages) openFile(ctx context.Context, p *frame.Page, of string) (f *store.FileOf, open func() (io.ReadCloser, error), why string, err error) {
	id, name, _ := strings.Cut(of, ":")
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return nil, nil, "", store.ErrNotFound
	}
	if f, err = a.Store.FileOfCase(ctx, p.Case.ID, n, name); err != nil {
		return nil, nil, "", err
	}
	acq, err := a.Store.AcquisitionByID(ctx, n)
	if err != nil {
		return nil, nil, "", err
	}
	blob, why, err := a.Evidence.Whole(ctx, p.Case.ID, acq, f.SHA256)
	if blob != nil {
		open = func() (io.ReadCloser, error) { return blob() }
	}
	if err == nil && open == nil {
		if open, err = a.asAttachment(ctx, p, f); open != nil {
			why = ""
		}
	}
	return f, open, why, err
}

// asAttachment opens a file that is what an admitted record has attached, as photographs and documents have themselves: what
// may be seen there may be seen here. It is nil if there is none.
func (a pages) asAttachment(ctx context.Context, p *frame.Page, f *store.FileOf) (func() (io.ReadCloser, error), error) {
	id, err := a.Store.RecordOfFile(ctx, p.Case.ID, f.AcquisitionID, f.RealPath)
	if id == 0 || err != nil {
		return nil, err
	}
	r, err := a.Store.RecordByID(ctx, p.Case.ID, id)
	if err != nil {
		return nil, err
	}
	w, err := r.Whole()
	if err != nil {
		return nil, err
	}
	n := slices.IndexFunc(w.Attachments, func(at record.Attachment) bool { return at.SHA256 == f.SHA256 && at.Path == f.RealPath })
	if n < 0 {
		return nil, nil
	}
	_, open, err := a.Evidence.Attachment(ctx, p.Case.ID, id, n)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return open, err
}

// file looks at a file: its number of acquisition and its path.
func (a pages) file(ctx context.Context, p *frame.Page, of string) (*chosenFile, error) {
	f, open, why, err := a.openFile(ctx, p, of)
	if f == nil {
		return nil, err
	}
	id, _, _ := strings.Cut(of, ":")
	c := &chosenFile{FileOf: *f, Why: why}
	base := "/case/" + p.Case.Reference
	if f.Records > 0 {
		c.Records = p.Keep("view", "", "in", f.RealPath, "file", "", "dir", "", "after", "", "named", "", "ending", "")
	}
	if f.Found != nil {
		at := int64(0)
		if i := slices.IndexFunc(f.Found.Extents, func(e [2]int64) bool { return e[0] != volume.Hole }); i >= 0 {
			at = f.Found.Extents[i][0]
		}
		c.Map = frame.Address(base+"/recover/storage", nil, "acq", id, "image", f.Found.Image, "at", fmt.Sprint(at))
	} else if strings.HasSuffix(f.Path, acquire.ImageEnding) && !f.Content {
		c.Map = frame.Address(base+"/recover/storage", nil, "acq", id, "image", f.Path)
	}
	if err != nil || open == nil {
		return c, err
	}
	b, err := open()
	if err != nil {
		return nil, err
	}
	defer b.Close()
	head := make([]byte, min(fileHead, f.Size))
	if _, err := io.ReadFull(b, head); err != nil {
		return nil, err
	}
	c.Cut = f.Size - int64(len(head))
	if reading.Begins(f.RealPath, head) {
		c.Pages = frame.Address(base+"/recover/pages", nil, "acq", id, "path", f.RealPath)
	}
	if err := a.looked(ctx, p, c, of, head, open); err != nil {
		return nil, err
	}
	if plain(head, c.Cut > 0) {
		c.Text = string(head)
	} else {
		c.Rows = frame.FoldRows(frame.HexRows(head[:min(len(head), 1024)], 0, nil, nil))
		c.Cut = f.Size - int64(min(len(head), 1024))
	}
	return c, nil
}

// looked says in which forms a file is shown that begins so.
func (a pages) looked(ctx context.Context, p *frame.Page, c *chosenFile, of string, head []byte, open func() (io.ReadCloser, error)) (err error) {
	if a.Previews == nil {
		return nil
	}
	at := frame.Address("/case/"+p.Case.Reference+"/examine/file", nil, "file", of)
	clip := media.ClipType(head[:min(len(head), 16)])
	switch {
	case strings.HasPrefix(http.DetectContentType(head), "image/"), strings.HasPrefix(clip, "video/"):
		c.Seen = at
	case clip != "":
		c.Heard = at
	case preview.HasContent(head):
		ctx, cancel := context.WithTimeout(ctx, holdsAtMost)
		defer cancel()
		c.Holds, err = a.Previews.Content(ctx, c.SHA256, open)
		if f := (*preview.Fault)(nil); errors.As(err, &f) {
			c.HoldsNot, err = f.Why, nil
		} else if errors.Is(err, context.DeadlineExceeded) {
			c.HoldsNot, err = "reading it took too long", nil
		}
	}
	return err
}

// seeFile sends what the confined process makes of a file of the case: a picture or a sound.
func (a pages) seeFile(c *gin.Context) error {
	p, err := a.Page(c, "Examine", "Examine")
	if err != nil {
		return err
	}
	f, open, _, err := a.openFile(c.Request.Context(), p, p.Query.Get("file"))
	if err == nil && open == nil {
		err = store.ErrNotFound
	}
	if err != nil {
		return err
	}
	return a.show(c, f.SHA256, open)
}

// plain reports whether bytes are text, which may be cut within its last character.
func plain(b []byte, cut bool) bool {
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		if r == utf8.RuneError && n == 1 && !(cut && len(b) < utf8.UTFMax) || r < 0x20 && r != '\t' && r != '\n' && r != '\r' {
			return false
		}
		b = b[n:]
	}
	return true
}
