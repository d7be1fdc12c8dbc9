// Package frame is what all pages share: who is signed in, which case is open,
// the course across the top, the exhibit filter and the ledger's foot.
package frame

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"embed"
	"fmt"
	"html/template"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"sync"
	"time"

	"crosswind/core/access"
	"crosswind/core/scope"
	"crosswind/internal/acquire"
	"crosswind/internal/evidence"
	"crosswind/internal/press"
	"crosswind/internal/preview"
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
	Previews *preview.Maker
	Sessions *scs.SessionManager
	Tool     string // name and version
	Acquirer *acquire.Acquirer
	Process  *store.Process // this one
	Press    *press.Setter  // sets reports as PDF
	Signer   *press.Signer  // and signs them
	Data     string         // Crosswind's own folder: it is not a source
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
	Views    []View        // of the stage, if it has several
	Swaps    bool          // other views and searches have the parts that this page has
	Posted   bool          // the page answers a form that was refused
	Alarms   []store.Alarm // what is not as the ledger or the vault says
	NoPower  string        // why nothing new may be read, "" if an authority is in force
	Theme    string
	Tall     int // of the window that a whole page is read in, in CSS pixels; 0 is not known
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

// View is a way to look at what a stage shows.
type View struct {
	Key, Name, Path string
	Open            bool
}

// Refuse shows on the page why what was asked for is refused. A nil error
// changes nothing.
func (p *Page) Refuse(err error) {
	if err != nil {
		p.Fault, p.code = err.Error(), http.StatusUnprocessableEntity
	}
}

// beginning is the part of every page that is told before what the page says is known.
var beginning = template.Must(template.New("begin").Funcs(Funcs).ParseFS(files, "begin.html"))

// begin sends the beginning of a page to a browser that loads it. The status is then 200, whatever the rest says; a script,
// whom the status tells how it went, gets its answer as a whole.
func (a *App) begin(c *gin.Context, p *Page) error {
	if c.GetHeader("Sec-Fetch-Dest") != "document" {
		return nil
	}
	c.Header("Content-Type", pageType)
	if err := beginning.Execute(c.Writer, p); err != nil {
		return fmt.Errorf("drawing the page: %w", err)
	}
	c.Writer.Flush()
	return nil
}

const pageType = "text/html; charset=utf-8"

// Render renders a page from its template, which may use further ones that are
// named after it. All lie in fsys.
func (a *App) Render(c *gin.Context, fsys fs.FS, p *Page, names ...string) error {
	t, err := a.template(fsys, names)
	var b, begun bytes.Buffer
	if err == nil {
		err = t.ExecuteTemplate(&b, "frame", p)
	}
	if err == nil && c.Writer.Written() {
		err = beginning.Execute(&begun, p)
	}
	if err != nil {
		return fmt.Errorf("drawing the page: %w", err)
	}
	page := withKeys(b.Bytes())
	if !c.Writer.Written() {
		c.Data(cmp.Or(p.code, http.StatusOK), pageType, page)
		return nil
	}
	_, err = c.Writer.Write(bytes.TrimPrefix(page, begun.Bytes()))
	return err
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
	t, err := template.New("frame").Funcs(Funcs).ParseFS(files, "frame.html", "begin.html", "authority.html")
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

// PartsHeader is the header in which a script that swaps parts of a page names those: as Alpine AJAX does, by their ids.
const PartsHeader = "X-Alpine-Target"

// Page begins a page for a request. Inside a case it loads what the frame
// shows of it.
func (a *App) Page(c *gin.Context, title, stage string) (*Page, error) {
	p := a.page(c, title, stage)
	return p, a.load(c, p)
}

// Ahead is Page, and has sent the beginning of it before anything is read from the store, so that a browser has styles, letters
// and scripts by the time the rest comes.
func (a *App) Ahead(c *gin.Context, title, stage string) (*Page, error) {
	p := a.page(c, title, stage)
	if err := a.begin(c, p); err != nil {
		return nil, err
	}
	return p, a.load(c, p)
}

func (a *App) page(c *gin.Context, title, stage string) *Page {
	p := &Page{Title: title, Stage: stage, Who: Who(c), Zone: time.UTC, Now: time.Now(), Query: c.Request.URL.Query(), Path: c.Request.URL.Path,
		Posted: c.Request.Method == http.MethodPost}
	if t, err := c.Cookie("theme"); err == nil && (t == "night" || t == "day") {
		p.Theme = t
	}
	if tall, _ := c.Cookie("height"); c.GetHeader(PartsHeader) == "" {
		p.Tall, _ = strconv.Atoi(tall) // no number is none
	}
	p.Notice = a.Sessions.PopString(c.Request.Context(), "notice")
	return p
}

// load reads what the frame shows.
func (a *App) load(c *gin.Context, p *Page) (err error) {
	ctx, book := c.Request.Context(), store.Bench
	if cs := CaseOf(c); cs != nil {
		p.Case, p.Zone, book = cs, cs.Location(), cs.Book()
		if p.Stage != "" { // also when a form of the stage was refused
			p.Path = "/case/" + cs.Reference + "/" + lower(p.Stage)
		}
		if err := a.loadCase(ctx, p); err != nil {
			return err
		}
	}
	p.Ledger, err = a.Store.LedgerState(ctx, book)
	for i := range p.Stages {
		p.Stages[i].Closed = !p.May(stageActs[p.Stages[i].Name])
	}
	return err
}

// stageActs is what it takes to see each stage.
var stageActs = map[string]access.Act{"Intake": access.SeeCase, "Acquire": access.SeeSources, "Verify": access.SeeSources, "Recover": access.SeeEvidence, "Examine": access.SeeEvidence, "Report": access.SeeEvidence}

func (a *App) loadCase(ctx context.Context, p *Page) error {
	var err error
	if p.Exhibits, err = a.Store.Exhibits(ctx, p.Case.ID); err != nil {
		return err
	}
	p.chooseExhibit()
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

// chooseExhibit chooses the exhibit that the address names.
func (p *Page) chooseExhibit() {
	p.Exhibit = nil
	for i := range p.Exhibits {
		if p.Exhibits[i].Reference == p.Query.Get("exhibit") {
			p.Exhibit = &p.Exhibits[i]
		}
	}
}

// With is the page as another address of its path would have it, before anything is read for it.
func (p *Page) With(query url.Values) *Page {
	q := *p
	q.Query = query
	q.chooseExhibit()
	return &q
}

// ExhibitID is the id of the chosen exhibit, 0 for all.
func (p *Page) ExhibitID() int64 {
	if p.Exhibit == nil {
		return 0
	}
	return p.Exhibit.ID
}

// ExhibitByID is an exhibit of the case, nil if it has none of that id.
func (p *Page) ExhibitByID(id int64) *store.Exhibit {
	for i := range p.Exhibits {
		if p.Exhibits[i].ID == id {
			return &p.Exhibits[i]
		}
	}
	return nil
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
	for kind, stage := range map[string]int{"acquire backup": 1, "acquire handset": 1, "acquire storage": 1, "acquire image": 1, "acquire cloud": 1, "make backup": 1, "verify": 2, "unpack": 1, "known files": 2, "recover": 3, "unlock": 3, "try passwords": 3, "package": 5} {
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

// Kept are the parameters of the page's address but some, for forms that keep them: names and values.
func (p *Page) Kept(but ...string) (out [][2]string) {
	for _, name := range slices.Sorted(maps.Keys(p.Query)) {
		for _, s := range p.Query[name] {
			if !slices.Contains(but, name) {
				out = append(out, [2]string{name, s})
			}
		}
	}
	return out
}

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
