package examine

import (
	"errors"
	"io"
	"net/http"
	"strconv"

	"crosswind/internal/preview"
	"crosswind/internal/store"

	"github.com/gin-gonic/gin"
)

// preview sends what is shown of an attachment: a picture or a sound that the child process made.
func (a pages) preview(c *gin.Context) error {
	p, err := a.Page(c, "Examine", "Examine")
	if err != nil {
		return err
	}
	id, err1 := strconv.ParseInt(c.Param("id"), 10, 64)
	n, err2 := strconv.Atoi(c.Param("n"))
	if errors.Join(err1, err2) != nil {
		return store.ErrNotFound
	}
	sha256, open, err := a.Evidence.Attachment(c.Request.Context(), p.Case.ID, id, n)
	if err != nil {
		return err
	}
	return a.show(c, sha256, open)
}

// show sends what the child process makes of content, in the form that the address asks for, or says as text why it cannot.
func (a pages) show(c *gin.Context, sha256 string, open func() (io.ReadCloser, error)) error {
	form := c.Query("as")
	if a.Previews == nil || form != preview.Shown && form != preview.Waveform {
		return store.ErrNotFound
	}
	b, media, err := a.Previews.Preview(c.Request.Context(), form, sha256, open)
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Header("Cache-Control", "private, no-store")
	if f := (*preview.Fault)(nil); errors.As(err, &f) {
		c.String(http.StatusUnprocessableEntity, "%s", f.Why)
		return nil
	}
	if err != nil {
		return err
	}
	c.Data(http.StatusOK, media, b)
	return nil
}
