// Package web is the interface: it puts the stages' pages together behind one
// address.
package web

import (
	"embed"
	"fmt"
	"io/fs"
	"net/http"
	"strings"
	"time"

	"crosswind/internal/web/acquire"
	"crosswind/internal/web/examine"
	"crosswind/internal/web/frame"
	"crosswind/internal/web/intake"
	recoverpage "crosswind/internal/web/recover"
	"crosswind/internal/web/register"
	"crosswind/internal/web/report"
	"crosswind/internal/web/verify"

	"github.com/alexedwards/scs/postgresstore"
	"github.com/alexedwards/scs/v2"
	"github.com/gin-gonic/gin"
)

//go:embed static
var static embed.FS

// policy lets pages use what this application serves and nothing else.
const policy = "default-src 'self'; script-src 'self'; style-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// maxArchive bounds what is uploaded as evidence, in bytes: the disk sets the
// real limit, and the vault keeps nothing that did not come whole.
const maxArchive = 1 << 42

// maxForm bounds what a form may send, in bytes.
const maxForm = 1 << 20

// Handler serves the application.
func Handler(a *frame.App) (http.Handler, error) {
	gin.SetMode(gin.ReleaseMode)
	a.Sessions = scs.New()
	a.Sessions.Store = postgresstore.New(a.Store.DB())
	a.Sessions.Lifetime = 12 * time.Hour
	a.Sessions.Cookie.Name = "crosswind"
	a.Sessions.Cookie.SameSite = http.SameSiteStrictMode
	a.Sessions.ErrorFunc = func(w http.ResponseWriter, _ *http.Request, err error) {
		a.Log.Error("reading the session", "error", err)
		http.Error(w, "The database cannot be reached. Nothing was changed and nothing is lost: runs go on when it is back. Try again in a moment.", http.StatusServiceUnavailable)
	}
	r := gin.New()
	r.Use(gin.CustomRecovery(func(c *gin.Context, v any) { a.Fail(c, fmt.Errorf("a fault in the application itself: %v", v)) }))
	r.Use(func(c *gin.Context) {
		h := c.Writer.Header()
		h.Set("Content-Security-Policy", policy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		limit := int64(maxForm)
		switch at := c.Request.URL.Path; {
		case strings.HasSuffix(at, "/intake/photograph"), strings.HasSuffix(at, "/intake/document"):
			limit += intake.MaxPhotograph
		case strings.HasSuffix(at, "/recover/passwords"):
			limit += recoverpage.MaxCandidates
		case strings.HasSuffix(at, "/acquire/archive"), strings.HasSuffix(at, "/verify/known"):
			limit += maxArchive
		}
		c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, limit)
	})
	files, err := fs.Sub(static, "static")
	if err != nil {
		return nil, err
	}
	r.GET("/static/*file", func(c *gin.Context) {
		c.Header("Cache-Control", "no-cache")
		c.FileFromFS(c.Param("file"), http.FS(files))
	})
	a.Routes(r)
	signed := frame.Group{App: a, G: r.Group("/", a.Signed)}
	inCase := frame.Group{App: a, G: signed.G.Group("/case/:case", a.InCase)}
	register.Routes(a, signed, inCase)
	intake.Routes(a, signed, inCase)
	acquire.Routes(a, inCase)
	verify.Routes(a, inCase)
	recoverpage.Routes(a, inCase)
	examine.Routes(a, inCase)
	report.Routes(a, inCase)
	r.NoRoute(func(c *gin.Context) { a.Fail(c, frame.NoPage(c.Request.URL.Path)) })
	return http.NewCrossOriginProtection().Handler(a.Sessions.LoadAndSave(r)), nil
}
