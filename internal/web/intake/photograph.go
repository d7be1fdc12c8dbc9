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
	e, note, part, err := a.photographForm(c)
	if err == nil {
		err = a.keepPhotograph(c, cs, e, note, part)
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

// photographForm reads the fields before the file.
func (a pages) photographForm(c *gin.Context) (e *store.Exhibit, note string, file io.Reader, err error) {
	form, err := c.Request.MultipartReader()
	if err != nil {
		return nil, "", nil, fmt.Errorf("the form cannot be read: %w", err)
	}
	for {
		part, err := form.NextPart()
		if err != nil {
			return nil, "", nil, errors.New("choose a photograph")
		}
		switch part.FormName() {
		case "exhibit":
			b, err := io.ReadAll(io.LimitReader(part, 200))
			if err != nil {
				return nil, "", nil, err
			}
			if e, err = a.ExhibitByReference(c, string(b)); err != nil {
				return nil, "", nil, err
			}
		case "note":
			b, err := io.ReadAll(io.LimitReader(part, 2000))
			if err != nil {
				return nil, "", nil, err
			}
			note = strings.TrimSpace(strings.ToValidUTF8(string(b), "�"))
		case "photograph":
			if e == nil {
				return nil, "", nil, fmt.Errorf("exhibit: %w", store.ErrNotFound)
			}
			return e, note, part, nil
		}
	}
}

func (a pages) keepPhotograph(c *gin.Context, cs *store.Case, e *store.Exhibit, note string, file io.Reader) error {
	r := bufio.NewReader(file)
	head, _ := r.Peek(512)
	if len(head) == 0 {
		return errors.New("choose a photograph")
	}
	kind := http.DetectContentType(head)
	if !slices.Contains(photographTypes, kind) {
		return fmt.Errorf("the file is no JPEG, PNG, WebP or GIF picture: by its content it is %s", kind)
	}
	set, err := a.Vault.Put(c.Request.Context(), r, nil)
	if err != nil {
		return fmt.Errorf("the photograph is not kept: %w", err)
	}
	_, _, sum := set.Hex()
	return a.Store.AddPhotograph(c.Request.Context(), cs, e, store.Photograph{SHA256: sum, Type: kind, Size: set.Size, Note: note, By: frame.By(c)})
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
	f, err := a.Vault.Open(ph.SHA256)
	if err != nil {
		return err
	}
	defer f.Close()
	c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Header("Cache-Control", "private, max-age=3600")
	c.DataFromReader(http.StatusOK, ph.Size, ph.Type, f, nil)
	return nil
}
