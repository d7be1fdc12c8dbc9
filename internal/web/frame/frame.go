// Package frame is what all pages share: who is signed in, which case is open,
// the course across the top, the exhibit filter and the ledger's foot.
package frame

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"crosswind/core/access"
	"crosswind/core/scope"
	"crosswind/internal/acquire"
	"crosswind/internal/evidence"
	"crosswind/internal/store"

	"github.com/alexedwards/scs/v2"
	"github.com/gin-gonic/gin"
)

//go:embed *.html
var files embed.FS

// App is what handlers work with.
type App struct {
	Store    *store.Store
	Evidence *evidence.Door
	Sessions *scs.SessionManager
	Tool     string // name and version
	Acquirer *acquire.Acquirer
	Process  *store.Process // this one
	Data     string         // Crosswind's own folder: it is no source
	Packages string         // folder of finished packages
	Log      *slog.Logger

	// Hosts are the names by which the application is reached, beside those of this
	// machine itself.
	Hosts []string

	// Ending is closed when the application is told to end.
	Ending <-chan struct{}

	mu     sync.Mutex
	parsed map[string]*template.Template
	setup  string // token of the one-time link, "" once used
	routes []Route
}

// Page is what the frame shows, around what a handler gives as Content.
type Page struct {
	Title    string
	Stage    string // of the course, "" outside
	Content  any
	Case     *store.Case
	Who      *store.Examiner
	Stages   []Stage
	Exhibits []store.Exhibit
	Exhibit  *store.Exhibit // chosen by the filter, nil for all
	Board    []store.BoardRow
	Open     []store.Run // runs that are under way
	Ledger   *store.LedgerState
	Zone     *time.Location
	Now      time.Time
	Query    url.Values
	Path     string
	Posted   bool          // the page answers a form that was refused
	Alarms   []store.Alarm // what is not as the ledger or the vault says
	NoPower  string        // why nothing new may be read, "" if an authority is in force
	Theme    string
	Notice   string
	Fault    string // an error to show at the top of the sheet
	code     int    // HTTP status, 0 for 200
}

// StageNames are the six stages in order.
var StageNames = []string{"Intake", "Acquire", "Verify", "Recover", "Examine", "Report"}

// Stage is a mark on the course.
type Stage struct {
	Name, Path string
	Number     int
	Done       float64 // 0 to 1
	Tone       string  // "", wait or alarm
	Why        string
	Open       bool
	Closed     bool // to who is signed in
}

// Refuse shows on the page why what was asked for is refused. A nil error
// changes nothing.
func (p *Page) Refuse(err error) {
	if err != nil {
		p.Fault, p.code = err.Error(), http.StatusUnprocessableEntity
	}
}

// Render renders a page from its template, which may use further ones that are
// named after it. All lie in fsys.
func (a *App) Render(c *gin.Context, fsys fs.FS, p *Page, names ...string) error {
	t, err := a.template(fsys, names)
	var b bytes.Buffer
	if err == nil {
		err = t.ExecuteTemplate(&b, "frame", p)
	}
	if err != nil {
		return fmt.Errorf("drawing the page: %w", err)
	}
	c.Data(cmp.Or(p.code, http.StatusOK), "text/html; charset=utf-8", withKeys(b.Bytes()))
	return nil
}

// May reports whether who is signed in may do something, for what a page offers.
func (p *Page) May(act access.Act) bool {
	return p.Who != nil && access.May(access.Role(p.Who.Role), act)
}

// postForms are the forms of a page that change something.
var postForms = regexp.MustCompile(`<form\b[^>]*\bmethod="post"[^>]*>`)

// withKeys gives every form that changes something a key of its own, by which a second
// sending is known. It is done here so that no form can lack it; a template's values
// hold no ">" of their own.
func withKeys(page []byte) []byte {
	return postForms.ReplaceAllFunc(page, func(form []byte) []byte {
		return fmt.Appendf(form[:len(form):len(form)], `<input type="hidden" name="form" value="%s">`, rand.Text())
	})
}

func (a *App) template(fsys fs.FS, names []string) (*template.Template, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if t := a.parsed[names[0]]; t != nil {
		return t, nil
	}
	t, err := template.New("frame").Funcs(Funcs).ParseFS(files, "frame.html", "authority.html")
	if err == nil {
		t, err = t.ParseFS(fsys, names...)
	}
	if err != nil {
		return nil, err
	}
	if a.parsed == nil {
		a.parsed = map[string]*template.Template{}
	}
	a.parsed[names[0]] = t
	return t, nil
}

// Page begins a page for a request. Inside a case it loads what the frame
// shows of it.
func (a *App) Page(c *gin.Context, title, stage string) (*Page, error) {
	p := &Page{Title: title, Stage: stage, Who: Who(c), Zone: time.UTC, Now: time.Now(), Query: c.Request.URL.Query(), Path: c.Request.URL.Path,
		Posted: c.Request.Method == http.MethodPost}
	if t, err := c.Cookie("theme"); err == nil && (t == "night" || t == "day") {
		p.Theme = t
	}
	p.Notice = a.Sessions.PopString(c.Request.Context(), "notice")
	ctx := c.Request.Context()
	book := store.Bench
	if cs := CaseOf(c); cs != nil {
		p.Case, p.Zone, book = cs, cs.Location(), cs.Book()
		if stage != "" { // also when a form of the stage was refused
			p.Path = "/case/" + cs.Reference + "/" + lower(stage)
		}
		if err := a.loadCase(ctx, p); err != nil {
			return nil, err
		}
	}
	var err error
	p.Ledger, err = a.Store.LedgerState(ctx, book)
	for i := range p.Stages {
		p.Stages[i].Closed = !p.May(stageActs[p.Stages[i].Name])
	}
	return p, err
}

// stageActs is what it takes to see each stage.
var stageActs = map[string]access.Act{"Intake": access.SeeCase, "Acquire": access.SeeSources, "Verify": access.SeeSources, "Recover": access.SeeEvidence, "Examine": access.SeeEvidence, "Report": access.SeeEvidence}

func (a *App) loadCase(ctx context.Context, p *Page) error {
	var err error
	if p.Exhibits, err = a.Store.Exhibits(ctx, p.Case.ID); err != nil {
		return err
	}
	for i := range p.Exhibits {
		if p.Exhibits[i].Reference == p.Query.Get("exhibit") {
			p.Exhibit = &p.Exhibits[i]
		}
	}
	if p.Board, err = a.Store.Board(ctx, p.Case.ID); err != nil {
		return err
	}
	auth, err := a.Store.Authorities(ctx, p.Case.ID)
	if err != nil {
		return err
	}
	if err := scope.InForce(store.Scopes(auth), p.Now); err != nil {
		p.NoPower = err.Error()
	}
	runs, err := a.Store.Runs(ctx, p.Case.ID, "", 20)
	if err != nil {
		return err
	}
	waiting, seen := map[string]string{}, map[string]bool{}
	for _, r := range runs {
		if r.Open() {
			p.Open = append(p.Open, r)
		} else if !seen[r.Kind] && (r.State == "paused" || r.State == "failed") { // the newest of its kind
			waiting[r.Kind] = r.Title + ": " + r.State
		}
		seen[r.Kind] = true
	}
	p.Stages = Course(p.Case, p.Board, waiting, p.Stage)
	if p.Alarms, err = a.Store.Alarms(ctx, p.Case.ID); err != nil {
		return err
	}
	if n := len(p.Alarms); n > 0 {
		p.Stages[5].Tone, p.Stages[5].Why = "alarm", "what is not as the ledger or the vault says: see above"
	}
	return nil
}

// ExhibitID is the id of the chosen exhibit, 0 for all.
func (p *Page) ExhibitID() int64 {
	if p.Exhibit == nil {
		return 0
	}
	return p.Exhibit.ID
}

// Course works out how far a case has come in each stage.
func Course(c *store.Case, board []store.BoardRow, waiting map[string]string, open string) []Stage {
	out := make([]Stage, len(StageNames))
	done := make([]int, len(StageNames))
	faulty, unverified := int64(0), 0
	for _, b := range board {
		done[0]++
		for i, is := range []bool{b.Acquisitions > 0, b.Checked != nil && b.Faulty == 0, b.Recovered > 0, b.Marked > 0, b.Marked > 0 && b.Packaged > 0} {
			if is {
				done[i+1]++
			}
		}
		faulty += b.Faulty
		if b.Acquisitions > 0 && b.Checked == nil {
			unverified++
		}
	}
	for i, name := range StageNames {
		s := Stage{Name: name, Number: i + 1, Path: "/case/" + c.Reference + "/" + lower(name), Open: name == open}
		if len(board) > 0 {
			s.Done = float64(done[i]) / float64(len(board))
		}
		s.Why = fmt.Sprintf("%d of %d exhibits", done[i], len(board))
		out[i] = s
	}
	wait := func(i int, why string) { out[i].Tone, out[i].Why = "wait", why }
	if len(board) == 0 {
		wait(0, "no exhibit is registered yet")
	}
	for kind, stage := range map[string]int{"acquire backup": 1, "acquire handset": 1, "acquire storage": 1, "acquire cloud": 1, "make backup": 1, "verify": 2, "unpack": 1, "known files": 2, "recover": 3, "unlock": 3, "try passwords": 3, "package": 5} {
		if why := waiting[kind]; why != "" {
			wait(stage, why)
		}
	}
	if unverified > 0 {
		wait(2, "acquired, and not checked again yet")
	}
	if faulty > 0 {
		out[2].Tone, out[2].Why = "alarm", fmt.Sprintf("%d stored files differ from what was acquired", faulty)
	}
	return out
}

func lower(s string) string { return string(s[0]|0x20) + s[1:] }

// Keep gives the page's own address with some parameters changed: pairs of
// name and value, "" to drop one.
func (p *Page) Keep(pairs ...string) string { return Address(p.Path, p.Query, pairs...) }

// Address writes an address with some of its parameters changed.
func Address(path string, q url.Values, pairs ...string) string {
	n := url.Values{}
	for k, v := range q {
		n[k] = v
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			n.Del(pairs[i])
		} else {
			n.Set(pairs[i], pairs[i+1])
		}
	}
	if len(n) == 0 {
		return path
	}
	return path + "?" + n.Encode()
}

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

// Readable refuses requests whose address or form holds NUL or bytes that are no UTF-8:
// the pages have no use for them, and no statement may come to hold them.
func (a *App) Readable(c *gin.Context) {
	check := func(what string, values ...string) bool {
		for _, v := range values {
			if !utf8.ValidString(v) || strings.ContainsRune(v, 0) {
				a.Fail(c, Bad("%s holds a NUL or bytes that are no UTF-8", what))
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
