package frame

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"crosswind/core/access"
	"crosswind/core/scope"
	"crosswind/internal/store"

	"github.com/gin-gonic/gin"
)

// Group adds pages below an address. Their handlers return why they could not
// do what was asked; that is shown as a page of its own.
type Group struct {
	App *App
	G   *gin.RouterGroup
}

// Route is an address of the application, and what it takes to use it.
type Route struct {
	Method, Path string
	Act          access.Act // "" for those that need no sign-in
}

// Routed lists the application's addresses.
func (a *App) Routed() []Route { return a.routes }

// GET adds a page that takes an act to be seen.
func (g Group) GET(path string, act access.Act, h func(*gin.Context) error) {
	g.add(http.MethodGet, path, act, h)
}

// POST adds what a form does.
func (g Group) POST(path string, act access.Act, h func(*gin.Context) error) {
	g.add(http.MethodPost, path, act, h)
}

// add adds a route. This is the one place that asks who may do what.
func (g Group) add(method, at string, act access.Act, h func(*gin.Context) error) {
	a := g.App
	a.routes = append(a.routes, Route{method, path.Join(g.G.BasePath(), at), act})
	g.G.Handle(method, at, func(c *gin.Context) {
		err := a.allowed(c, act)
		if err == nil && method == http.MethodPost && !strings.HasPrefix(c.ContentType(), "multipart/") {
			Sent(c, c.PostForm("form"), c.PostForm("override_reason"))
		}
		if err == nil {
			err = h(c)
		}
		a.settle(c, err)
	})
}

func (a *App) allowed(c *gin.Context, act access.Act) error {
	if act == "" {
		return nil
	}
	who := Who(c)
	if who == nil {
		return errors.New("nobody is signed in") // the group has let nobody through
	}
	return access.Check(access.Role(who.Role), act)
}

// Sent notes the key of the form that a request sends, and the reason for reading
// evidence with no authority in force, if there is one.
func Sent(c *gin.Context, key, reason string) {
	ctx := c.Request.Context()
	if key != "" {
		ctx = store.WithForm(ctx, key)
	}
	if reason = strings.TrimSpace(reason); reason != "" {
		ctx = store.WithReason(ctx, reason)
	}
	c.Request = c.Request.WithContext(ctx)
}

// settle answers a request whose handler could not.
func (a *App) settle(c *gin.Context, err error) {
	switch {
	case err == nil:
	case errors.Is(err, store.ErrSent):
		a.Notice(c, "This form was sent twice. What it asks for was done once.")
		c.Redirect(http.StatusSeeOther, a.back(c))
	case errors.Is(err, scope.ErrNoAuthority) && c.Request.Method == http.MethodPost && c.Request.PostForm != nil:
		if err := a.askReason(c, err); err != nil {
			a.Fail(c, err)
		}
	default:
		a.Fail(c, err)
	}
}

// back is the page that a request came from, as far as it is this site's.
func (a *App) back(c *gin.Context) string {
	u, err := url.Parse(c.Request.Referer())
	if err != nil || u.Host != c.Request.Host {
		if cs := CaseOf(c); cs != nil {
			return "/case/" + cs.Reference
		}
		return "/"
	}
	return localPath(u.RequestURI())
}

// sentAgain is a form that is sent again with a reason.
type sentAgain struct {
	Action string
	Fields [][2]string
	Secret []string // that are typed again
}

// askReason shows why something is refused for want of an authority in force, and lets
// the examiner give the reason why it is done all the same.
func (a *App) askReason(c *gin.Context, refused error) error {
	p, err := a.Page(c, "No authority is in force", "")
	if err != nil {
		return err
	}
	v := sentAgain{Action: localPath(c.Request.URL.RequestURI())}
	for name, values := range c.Request.PostForm {
		switch name {
		case "form", "override_reason":
		case "password", "code", "passwords":
			v.Secret = append(v.Secret, name)
		default:
			for _, x := range values {
				v.Fields = append(v.Fields, [2]string{name, x})
			}
		}
	}
	slices.SortStableFunc(v.Fields, func(x, y [2]string) int { return strings.Compare(x[0], y[0]) })
	slices.Sort(v.Secret)
	p.Content = v
	p.Refuse(refused)
	return a.Render(c, files, p, "no-authority.html")
}

// Fail shows an error as a page of its own.
func (a *App) Fail(c *gin.Context, err error) {
	c.Abort()
	if c.Request.Context().Err() != nil {
		return // nobody waits for the answer any more
	}
	p := &Page{Title: "This could not be done", Who: Who(c), Case: CaseOf(c), Zone: time.UTC, Now: time.Now(), Path: c.Request.URL.Path, Fault: err.Error(), code: http.StatusInternalServerError}
	var refused *access.Refusal
	var large *http.MaxBytesError
	switch {
	case errors.Is(err, store.ErrNotFound):
		p.Title, p.code = "Not found", http.StatusNotFound
	case errors.As(err, &refused):
		p.Title, p.code = "Not for this role", http.StatusForbidden
	case errors.Is(err, errBad):
		p.Title, p.code = "This cannot be read", http.StatusBadRequest
	case errors.Is(err, store.ErrConflict), errors.Is(err, store.ErrTaken):
		p.Title, p.code = "Changed meanwhile", http.StatusConflict
	case errors.Is(err, store.ErrStep):
		p.code = http.StatusConflict
	case errors.Is(err, scope.ErrWithheld):
		p.Title, p.code = "Outside scope now", http.StatusForbidden
	case errors.Is(err, scope.ErrNoAuthority):
		p.code = http.StatusUnprocessableEntity
	case errors.As(err, &large):
		p.code = http.StatusRequestEntityTooLarge
		p.Fault = fmt.Sprintf("What was sent is larger than the %d bytes that are taken here. Nothing of it is kept.", large.Limit)
	default:
		mark := rand.Text()[:8]
		a.Log.Error("request", "path", c.Request.URL.Path, "reference", mark, "error", err)
		if store.Internal(err) { // what the database says is for who keeps it
			p.Fault = fmt.Sprintf("The database did not do what was asked. Nothing was changed. What it said is in the application's log under %s.", mark)
		}
	}
	if err := a.Render(c, files, p, "fail.html"); err != nil {
		c.String(http.StatusInternalServerError, "This page could not be drawn.")
		a.Log.Error("drawing a page", "error", err)
	}
}

// errBad is wrapped when a request holds what no text holds.
var errBad = errors.New("this request is not understood")

// Bad says that something in a request cannot be read.
func Bad(format string, args ...any) error {
	return fmt.Errorf("%w: %s", errBad, fmt.Sprintf(format, args...))
}

// Readable refuses requests whose address or form holds NUL or bytes that are not UTF-8:
// the pages have no use for them, and no statement may come to hold them.
func (a *App) Readable(c *gin.Context) {
	check := func(what string, values ...string) bool {
		for _, v := range values {
			if !utf8.ValidString(v) || strings.ContainsRune(v, 0) {
				a.Fail(c, Bad("%s holds a NUL or bytes that are not UTF-8", what))
				return false
			}
		}
		return true
	}
	q, err := url.ParseQuery(c.Request.URL.RawQuery)
	if err != nil {
		a.Fail(c, Bad("its query: %v", err))
		return
	}
	if !check("the address", c.Request.URL.Path) {
		return
	}
	for name, values := range q {
		if !check("the parameter "+strconv.QuoteToASCII(name), append(values, name)...) {
			return
		}
	}
	if c.ContentType() != "application/x-www-form-urlencoded" {
		return
	}
	if err := c.Request.ParseForm(); err != nil {
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			a.Fail(c, err)
		} else {
			a.Fail(c, Bad("its form: %v", err))
		}
		return
	}
	for name, values := range c.Request.PostForm {
		if !check("the field "+strconv.QuoteToASCII(name), append(values, name)...) {
			return
		}
	}
}

// Notice leaves a line to be shown on the next page.
func (a *App) Notice(c *gin.Context, format string, args ...any) {
	a.Sessions.Put(c.Request.Context(), "notice", fmt.Sprintf(format, args...))
}

const (
	whoKey  = "who"
	caseKey = "case"
)

// Who is the signed-in examiner, or nil.
func Who(c *gin.Context) *store.Examiner {
	e, _ := c.Value(whoKey).(*store.Examiner)
	return e
}

// By is how the signed-in examiner is named in the ledger.
func By(c *gin.Context) string {
	if e := Who(c); e != nil {
		return e.Name + " (" + e.Login + ")"
	}
	return "nobody"
}

// CaseOf is the case that the address names, or nil.
func CaseOf(c *gin.Context) *store.Case {
	cs, _ := c.Value(caseKey).(*store.Case)
	return cs
}

// Signed lets only signed-in examiners through.
func (a *App) Signed(c *gin.Context) {
	login := a.Sessions.GetString(c.Request.Context(), "login")
	if login != "" {
		e, err := a.Store.ExaminerByLogin(c.Request.Context(), login)
		if err == nil {
			c.Set(whoKey, e)
			return
		}
		if !errors.Is(err, store.ErrNotFound) {
			a.Fail(c, err)
			return
		}
	}
	next := "/"
	if c.Request.Method == http.MethodGet {
		next = c.Request.URL.RequestURI()
	}
	c.Redirect(http.StatusSeeOther, "/sign-in?next="+url.QueryEscape(next))
	c.Abort()
}

// InCase loads the case that the address names.
func (a *App) InCase(c *gin.Context) {
	cs, err := a.Store.CaseByReference(c.Request.Context(), c.Param("case"))
	if err != nil {
		a.Fail(c, err)
		return
	}
	c.Set(caseKey, cs)
}

// ID reads a number from the address.
func ID(c *gin.Context, name string) (int64, error) {
	n, err := strconv.ParseInt(c.Param(name), 10, 64)
	if err != nil {
		return 0, fmt.Errorf("%s %q: %w", name, c.Param(name), store.ErrNotFound)
	}
	return n, nil
}

// ExhibitByReference finds an exhibit of the open case by its reference.
func (a *App) ExhibitByReference(c *gin.Context, ref string) (*store.Exhibit, error) {
	all, err := a.Store.Exhibits(c.Request.Context(), CaseOf(c).ID)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Reference == ref {
			return &all[i], nil
		}
	}
	return nil, fmt.Errorf("exhibit %s: %w", ref, store.ErrNotFound)
}

// AcquisitionName names an acquisition as pages and the ledger do.
func AcquisitionName(ref string, a *store.Acquisition) string {
	return fmt.Sprintf("%s acquisition %d", ref, a.Number)
}

// NoPage is the error for an address that leads nowhere.
func NoPage(path string) error {
	return fmt.Errorf("there is no page at %s: %w", path, store.ErrNotFound)
}

// Recipient reads from a form who gets what leaves: an entry of the ledger names them.
func Recipient(c *gin.Context, what string) (string, error) {
	s := strings.Join(strings.Fields(c.PostForm("recipient")), " ")
	if s == "" || len(s) > 300 {
		return "", Bad("what leaves has a recipient, of up to 300 bytes: who gets the %s?", what)
	}
	return s, nil
}
