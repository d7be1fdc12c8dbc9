package intake

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// MaxPhotograph bounds one photograph of an exhibit, in bytes.
const MaxPhotograph = 64 << 20

// photographTypes are the types that browsers show and that hold no script.
var photographTypes = []string{"image/jpeg", "image/png", "image/webp", "image/gif"}

// addPhotograph puts a photograph of an exhibit into the vault. It is streamed
// there, and its type is told by its content, whatever its name says.
func (a pages) addPhotograph(c *gin.Context) error {
	cs := frame.CaseOf(c)
	fields, part, err := frame.Upload(c, "photograph")
	var e *store.Exhibit
	if err == nil {
		e, err = a.ExhibitByReference(c, fields["exhibit"])
	}
	if err == nil {
		err = a.keepPhotograph(c, cs, e, fields["note"], part)
	}
	if errors.Is(err, store.ErrNotFound) {
		return err
	}
	if err != nil {
		return a.page(c, exhibitForm{}, custodyForm{}, err)
	}
	a.Notice(c, "The photograph of %s is in the vault, and its hash in the ledger.", e.Reference)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake?exhibit="+e.Reference)
	return nil
}

func (a pages) keepPhotograph(c *gin.Context, cs *store.Case, e *store.Exhibit, note string, file io.Reader) error {
	kept, err := a.keep(c, file, photographTypes, "JPEG, PNG, WebP or GIF picture")
	if err != nil {
		return fmt.Errorf("the photograph is not kept: %w", err)
	}
	return a.Store.AddPhotograph(c.Request.Context(), cs, e, store.Photograph{SHA256: kept.sum, Type: kept.kind, Size: kept.size, Note: note, By: frame.By(c)})
}

// kept is a file that was put into the vault.
type kept struct {
	sum, kind string
	size      int64
}

// keep puts a file into the vault if it is of one of the types.
func (a pages) keep(c *gin.Context, file io.Reader, types []string, words string) (kept, error) {
	r := bufio.NewReader(file)
	head, _ := r.Peek(512)
	if len(head) == 0 {
		return kept{}, frame.ErrNoFile
	}
	kind, _, _ := strings.Cut(http.DetectContentType(head), ";")
	if !slices.Contains(types, kind) {
		return kept{}, fmt.Errorf("the file is no %s: by its content it is %s", words, kind)
	}
	set, err := a.Evidence.Put(c.Request.Context(), r)
	if err != nil {
		return kept{}, err
	}
	_, _, sum := set.Hex()
	return kept{sum, kind, set.Size}, nil
}

// documentTypes are the types of documents that can be attached.
var documentTypes = append([]string{"application/pdf", "text/plain"}, photographTypes...)

// addDocument attaches the document of an authority.
func (a pages) addDocument(c *gin.Context) error {
	cs := frame.CaseOf(c)
	fields, part, err := frame.Upload(c, "document")
	var au *store.Authority
	if err == nil {
		au, err = a.authorityOf(c, fields["authority"])
	}
	if errors.Is(err, store.ErrNotFound) {
		return err
	}
	if err == nil && au.Document != "" {
		err = fmt.Errorf("authority %s has its document already, and it is not replaced", au.Number)
	}
	if err == nil {
		var k kept
		if k, err = a.keep(c, part, documentTypes, "PDF, plain text, or JPEG, PNG, WebP or GIF picture"); err == nil {
			au.Document, au.DocumentType, au.DocumentName = k.sum, k.kind, frame.FileName(part.FileName())
			err = a.Store.AttachDocument(c.Request.Context(), cs, au, frame.By(c))
		}
	}
	if err != nil {
		return a.page(c, exhibitForm{}, custodyForm{}, fmt.Errorf("the document is not attached: %w", err))
	}
	a.Notice(c, "%s is attached to authority %s; its hash is in the ledger.", au.DocumentName, au.Number)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake")
	return nil
}

// authorityOf finds an authority of the case by its id.
func (a pages) authorityOf(c *gin.Context, id string) (*store.Authority, error) {
	all, err := a.Store.Authorities(c.Request.Context(), frame.CaseOf(c).ID)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if fmt.Sprint(all[i].ID) == id {
			return &all[i], nil
		}
	}
	return nil, fmt.Errorf("authority %q: %w", id, store.ErrNotFound)
}

// document gives out the document of an authority.
func (a pages) document(c *gin.Context) error {
	au, err := a.authorityOf(c, c.Param("id"))
	if err == nil && au.Document == "" {
		err = fmt.Errorf("document of authority %s: %w", au.Number, store.ErrNotFound)
	}
	if err != nil {
		return err
	}
	f, err := a.Evidence.Attached(au.Document)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Header("Content-Disposition", frame.Attachment(au.DocumentName))
	c.DataFromReader(http.StatusOK, st.Size(), au.DocumentType, f, nil)
	return nil
}

// line makes of a form's text what was sent to the page: browsers end lines by CRLF.
func line(s string) string { return strings.ReplaceAll(s, "\r\n", "\n") }

// noteConflict is what somebody wrote of a case that somebody else has changed meanwhile.
type noteConflict struct{ People, Notes string }

func (noteConflict) Error() string {
	return "The case's people and notes were changed meanwhile by somebody else. Below stand those that are kept, and beside them what you wrote: bring them together and keep them again."
}

// notes keeps the case's people and notes.
func (a pages) notes(c *gin.Context) error {
	cs := frame.CaseOf(c)
	people, notes := line(strings.TrimSpace(c.PostForm("people"))), line(strings.TrimSpace(c.PostForm("notes")))
	now := *cs
	cs.People, cs.Notes = line(c.PostForm("was_people")), line(c.PostForm("was_notes")) // what the page showed
	err := a.Store.NoteCase(c.Request.Context(), cs, people, notes, frame.By(c))
	cs.People, cs.Notes = now.People, now.Notes
	if errors.Is(err, store.ErrConflict) {
		return a.page(c, exhibitForm{}, custodyForm{}, noteConflict{people, notes})
	}
	if err != nil {
		return err
	}
	a.Notice(c, "The case's people and notes are kept.")
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake")
	return nil
}

// photograph shows a photograph from the vault.
func (a pages) photograph(c *gin.Context) error {
	id, err := frame.ID(c, "id")
	if err != nil {
		return err
	}
	ph, err := a.Store.PhotographByID(c.Request.Context(), frame.CaseOf(c).ID, id)
	if err != nil {
		return err
	}
	f, err := a.Evidence.Attached(ph.SHA256)
	if err != nil {
		return err
	}
	defer f.Close()
	c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
	c.DataFromReader(http.StatusOK, ph.Size, ph.Type, f, nil)
	return nil
}
