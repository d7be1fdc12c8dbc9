// Package web is the interface: it puts the stages' pages together behind one
// address.
package web

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"crosswind/internal/web/acquire"
	"crosswind/internal/web/examine"
	"crosswind/internal/web/frame"
	"crosswind/internal/web/intake"
	recoverpage "crosswind/internal/web/recover"
	"crosswind/internal/web/register"
	"crosswind/internal/web/report"
	"crosswind/internal/web/static"
	"crosswind/internal/web/verify"

	"github.com/alexedwards/scs/postgresstore"
	"github.com/alexedwards/scs/v2"
	"github.com/gin-gonic/gin"
)

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
	a.Sessions.HashTokenInStore = true // who reads the database must not be able to sign in with it
	a.Sessions.Lifetime = 12 * time.Hour
	a.Sessions.Cookie.Name = "crosswind"
	a.Sessions.Cookie.SameSite = http.SameSiteStrictMode
	a.Sessions.ErrorFunc = func(w http.ResponseWriter, _ *http.Request, err error) {
		a.Log.Error("reading the session", "error", err)
		http.Error(w, "The database cannot be reached. Nothing was changed and nothing is lost: runs go on when it is back. Try again in a moment.", http.StatusServiceUnavailable)
	}
	r := gin.New()
	r.Use(gin.CustomRecovery(func(c *gin.Context, v any) { a.Fail(c, fmt.Errorf("a fault in the application itself: %v", v)) }))
	r.Use(headers, a.Readable)
	r.GET("/static/*file", func(c *gin.Context) {
		if !static.Serve(c, c.Param("file")) {
			a.Fail(c, frame.NoPage(c.Request.URL.Path))
		}
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
	return bounded(a, http.NewCrossOriginProtection().Handler(a.Sessions.LoadAndSave(r))), nil
}

// headers are those of every answer; what a handler needs otherwise it sets again.
func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", policy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Cache-Control", "no-store")
}

// limit is how many bytes a request may send.
func limit(path string) int64 {
	n := int64(maxForm)
	switch {
	case strings.HasSuffix(path, "/intake/photograph"), strings.HasSuffix(path, "/intake/document"):
		n += intake.MaxPhotograph
	case strings.HasSuffix(path, "/recover/passwords"):
		n += recoverpage.MaxCandidates
	case strings.HasSuffix(path, "/acquire/archive"), strings.HasSuffix(path, "/verify/known"):
		n += maxArchive
	}
	return n
}

// quiet is how long a body may bring nothing, and an answer may be taken by nobody.
var quiet = 30 * time.Second

// bounded answers only to the application's own names, and keeps no connection open for
// a body that does not come or an answer that nobody takes.
func bounded(a *frame.App, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !ours(a.Hosts, r.Host) {
			http.Error(w, "This is not the name of this Crosswind; --host names further ones.", http.StatusMisdirectedRequest)
			return
		}
		rc := http.NewResponseController(w)
		if r.Body != nil && r.Body != http.NoBody {
			r.Body = http.MaxBytesReader(w, &steady{r.Body, rc, quiet}, limit(r.URL.Path))
		}
		// A connection that cannot have deadlines, as in some tests, goes without.
		_ = rc.SetWriteDeadline(time.Now().Add(2 * quiet))
		next.ServeHTTP(&taken{w, rc}, r)
	})
}

// steady is a body of which something must come within a time, again and again.
type steady struct {
	io.ReadCloser
	rc    *http.ResponseController
	quiet time.Duration
}

func (s *steady) Read(p []byte) (int, error) {
	_ = s.rc.SetReadDeadline(time.Now().Add(s.quiet))
	return s.ReadCloser.Read(p)
}

// taken is an answer of which something must be taken within a time, again and again:
// events and large downloads go on as long as somebody takes them.
type taken struct {
	http.ResponseWriter
	rc *http.ResponseController
}

func (t *taken) Write(p []byte) (int, error) {
	_ = t.rc.SetWriteDeadline(time.Now().Add(2 * quiet))
	return t.ResponseWriter.Write(p)
}

// WriteHeader begins an answer, which may be all of it, however long that took to be found.
func (t *taken) WriteHeader(status int) {
	_ = t.rc.SetWriteDeadline(time.Now().Add(2 * quiet))
	t.ResponseWriter.WriteHeader(status)
}

// Unwrap gives what is underneath.
func (t *taken) Unwrap() http.ResponseWriter { return t.ResponseWriter }

// Flush sends what is written.
func (t *taken) Flush() { _ = t.rc.Flush() }

// ours reports whether a request names this application: this machine by a loopback name
// or address, or one of its further names.
func ours(names []string, host string) bool {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	name = strings.ToLower(strings.TrimSuffix(strings.Trim(name, "[]"), "."))
	if ip := net.ParseIP(name); ip != nil && ip.IsLoopback() || name == "localhost" {
		return true
	}
	return slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) || strings.EqualFold(n, host) })
}
