// Package frame is what all pages share: who is signed in, which case is open,
// the course across the top, the exhibit filter and the ledger's foot.
package frame

import (
	"bytes"
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"crosswind/internal/acquire"
	"crosswind/internal/store"
	"crosswind/internal/vault"

	"github.com/alexedwards/scs/v2"
	"github.com/gin-gonic/gin"
)

//go:embed *.html
var files embed.FS

// App is what handlers work with.
type App struct {
	Store    *store.Store
	Vault    vault.Vault
	Sessions *scs.SessionManager
	Tool     string // name and version
	Acquirer *acquire.Acquirer
	Process  *store.Process // this one
	Data     string         // Crosswind's own folder: it is no source
	Packages string         // folder of finished packages
	Log      *slog.Logger

	mu     sync.Mutex
	parsed map[string]*template.Template
	setup  string // token of the one-time link, "" once used
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
	Posted   bool // the page answers a form that was refused
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
	c.Data(cmp.Or(p.code, http.StatusOK), "text/html; charset=utf-8", b.Bytes())
	return nil
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
	return p, err
}

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

// GET adds a page.
func (g Group) GET(path string, h func(*gin.Context) error) { g.G.GET(path, g.App.do(h)) }

// POST adds what a form does.
func (g Group) POST(path string, h func(*gin.Context) error) { g.G.POST(path, g.App.do(h)) }

func (a *App) do(h func(*gin.Context) error) gin.HandlerFunc {
	return func(c *gin.Context) {
		if err := h(c); err != nil {
			a.Fail(c, err)
		}
	}
}

// Fail shows an error as a page of its own.
func (a *App) Fail(c *gin.Context, err error) {
	c.Abort()
	if c.Request.Context().Err() != nil {
		return // nobody waits for the answer any more
	}
	p := &Page{Title: "This could not be done", Who: Who(c), Case: CaseOf(c), Zone: time.UTC, Now: time.Now(), Path: c.Request.URL.Path, Fault: err.Error(), code: http.StatusInternalServerError}
	if errors.Is(err, store.ErrNotFound) {
		p.Title, p.code = "Not found", http.StatusNotFound
	} else {
		a.Log.Error("request", "path", c.Request.URL.Path, "error", err)
	}
	if err := a.Render(c, files, p, "fail.html"); err != nil {
		c.String(http.StatusInternalServerError, "This page could not be drawn: %v", err)
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
