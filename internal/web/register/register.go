// Package register holds the case register, the case board and the ledger.
package register

import (
	"embed"
	"errors"
	"fmt"
	"math"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/access"
	"crosswind/core/ledger"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

//go:embed *.html
var files embed.FS

type pages struct{ *frame.App }

// Routes adds the pages.
func Routes(a *frame.App, signed, inCase frame.Group) {
	p := pages{a}
	signed.GET("/", access.SeeCase, p.register)
	signed.GET("/cases/new", access.OpenCase, func(c *gin.Context) error { return p.newCase(c, caseForm{Zone: "Europe/Lisbon"}, nil) })
	signed.POST("/cases/new", access.OpenCase, p.addCase)
	signed.GET("/ledger", access.SeeCase, p.ledger)
	signed.GET("/ledger/proof", access.SeeCase, p.proof)
	signed.GET("/validation", access.SeeCase, p.validation)
	signed.GET("/validation/:id", access.SeeCase, p.validationFile)
	signed.POST("/validation", access.Verify, p.validate)
	signed.POST("/ledger/check", access.CheckLedger, p.check)
	inCase.GET("", access.SeeCase, p.board)
	inCase.GET("/ledger", access.SeeCase, p.ledger)
	inCase.GET("/ledger/proof", access.SeeCase, p.proof)
	inCase.POST("/ledger/check", access.CheckLedger, p.check)
	signed.POST("/ledger/stamp", access.CheckLedger, p.stamp)
	inCase.POST("/ledger/stamp", access.CheckLedger, p.stamp)
	signed.GET("/ledger/stamp", access.SeeCase, p.stampFile)
	inCase.GET("/ledger/stamp", access.SeeCase, p.stampFile)
}

type caseLine struct {
	store.CaseRow
	Stages []frame.Stage
}

const pageSize = 100

func (a pages) register(c *gin.Context) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Case register", "")
	if err != nil {
		return err
	}
	rows, err := a.Store.Cases(ctx, c.Query("after"), pageSize)
	if err != nil {
		return err
	}
	lines := make([]caseLine, len(rows))
	for i, r := range rows {
		board, err := a.Store.Board(ctx, r.ID)
		if err != nil {
			return err
		}
		lines[i] = caseLine{r, frame.Course(&rows[i].Case, board, nil, "")}
	}
	next := ""
	if len(rows) == pageSize {
		next = rows[len(rows)-1].Reference
	}
	p.Content = struct {
		Lines []caseLine
		Next  string
	}{lines, next}
	return a.Render(c, files, p, "register.html")
}

type caseForm struct {
	Reference, Title, Zone, CasePeople, Notes string
	frame.AuthorityForm
}

func (a pages) newCase(c *gin.Context, f caseForm, fault error) error {
	p, err := a.Page(c, "Open a case", "")
	if err != nil {
		return err
	}
	p.Refuse(fault)
	p.Content = f
	return a.Render(c, files, p, "new-case.html")
}

var reference = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,39}$`)

func (a pages) addCase(c *gin.Context) error {
	post := func(name string) string { return strings.TrimSpace(c.PostForm(name)) }
	f := caseForm{post("reference"), post("title"), post("zone"), post("case_people"), post("notes"), frame.ReadAuthorityForm(c)}
	cs, au, err := f.read()
	if err == nil {
		err = a.Store.AddCase(c.Request.Context(), cs, au, frame.By(c))
	}
	if err != nil {
		return a.newCase(c, f, err)
	}
	a.Notice(c, "Case %s is open. Register its exhibits next.", cs.Reference)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake")
	return nil
}

func (f caseForm) read() (cs store.Case, au store.Authority, err error) {
	switch {
	case !reference.MatchString(f.Reference):
		return cs, au, fmt.Errorf("the reference %q is not one: letters, digits, dots, dashes and underscores, 40 at most", f.Reference)
	case f.Title == "":
		return cs, au, errors.New("a title is needed")
	}
	zone, err := time.LoadLocation(f.Zone)
	if err != nil || f.Zone == "" || f.Zone == "Local" {
		return cs, au, fmt.Errorf("%q is not an IANA time zone, such as Europe/Lisbon", f.Zone)
	}
	au, err = f.Authority(zone)
	return store.Case{Reference: f.Reference, Title: f.Title, Zone: f.Zone, People: f.CasePeople, Notes: f.Notes}, au, err
}

type boardLine struct {
	store.Exhibit
	store.BoardRow
	Custody []store.Custody
}

// Last is the newest custody event.
func (b boardLine) Last() *store.Custody {
	if len(b.Custody) == 0 {
		return nil
	}
	return &b.Custody[len(b.Custody)-1]
}

// Seal is the newest seal number of the exhibit.
func (b boardLine) Seal() string {
	for i := len(b.Custody) - 1; i >= 0; i-- {
		if b.Custody[i].Seal != "" {
			return b.Custody[i].Seal
		}
	}
	return ""
}

func (a pages) board(c *gin.Context) error {
	p, err := a.Page(c, "Case board", "")
	if err != nil {
		return err
	}
	lines := make([]boardLine, len(p.Exhibits))
	for i, e := range p.Exhibits {
		lines[i] = boardLine{Exhibit: e, BoardRow: p.Board[i]}
		if lines[i].Custody, err = a.Store.CustodyOf(c.Request.Context(), e.ID); err != nil {
			return err
		}
	}
	auth, err := a.Store.Authorities(c.Request.Context(), p.Case.ID)
	if err != nil {
		return err
	}
	latest, err := a.Store.LedgerPage(c.Request.Context(), p.Case.Book(), store.LedgerFilter{}, math.MaxInt64, 10)
	if err != nil {
		return err
	}
	p.Content = struct {
		Lines       []boardLine
		Authorities []store.Authority
		Next        []next
		Latest      []store.LedgerEntry
		Parse       func(string) time.Time
	}{lines, auth, whatNext(p, lines), latest, parseTime}
	return a.Render(c, files, p, "board.html")
}

// next is a step that an exhibit can take.
type next struct{ Path, Why string }

// whatNext gives each exhibit's next step on the course, as far as it is for who asks.
func whatNext(p *frame.Page, lines []boardLine) (out []next) {
	for _, l := range lines {
		stage, why := "report", "make a package of the case"
		switch {
		case l.Running > 0:
			stage, why = "acquire", "a run is under way"
		case l.Acquisitions == 0:
			stage, why = "acquire", "acquire a source"
		case l.Checked == nil:
			stage, why = "verify", "check what was acquired"
		case l.Recovered == 0:
			stage, why = "recover", "recover its records"
		case l.Marked == 0:
			stage, why = "examine", "mark what matters"
		case l.Packaged > 0:
			continue
		}
		if slices.ContainsFunc(p.Stages[:], func(s frame.Stage) bool { return s.Closed && strings.EqualFold(s.Name, stage) }) {
			continue
		}
		out = append(out, next{"/case/" + p.Case.Reference + "/" + stage + "?exhibit=" + l.Reference, l.Reference + ": " + why})
	}
	return out
}

// parseTime reads the time of a ledger entry.
func parseTime(s string) time.Time {
	t, _ := time.Parse(ledger.TimeFormat, s) // the zero time if the entry was altered
	return t
}

func book(c *gin.Context) (name, path string) {
	if cs := frame.CaseOf(c); cs != nil {
		return cs.Book(), "/case/" + cs.Reference + "/ledger"
	}
	return store.Bench, "/ledger"
}

func (a pages) ledger(c *gin.Context) error {
	p, err := a.Page(c, "Custody ledger", "")
	if err != nil {
		return err
	}
	before, err := strconv.ParseInt(c.DefaultQuery("before", fmt.Sprint(int64(math.MaxInt64))), 10, 64)
	if err != nil {
		return fmt.Errorf("before %q: %w", c.Query("before"), store.ErrNotFound)
	}
	name, path := book(c)
	f := store.LedgerFilter{What: strings.TrimSpace(c.Query("what")), On: strings.TrimSpace(c.Query("on")), By: strings.TrimSpace(c.Query("by"))}
	entries, err := a.Store.LedgerPage(c.Request.Context(), name, f, before, pageSize)
	if err != nil {
		return err
	}
	next := ""
	if len(entries) == pageSize {
		next = p.Keep("before", fmt.Sprint(entries[len(entries)-1].Seq))
	}
	heads, err := a.Store.Heads(name)
	if err != nil {
		return err
	}
	slices.Reverse(heads)
	heads = heads[:min(len(heads), shownHeads)]
	stamps, err := a.Store.HeadStamps(c.Request.Context(), name, shownHeads)
	if err != nil {
		return err
	}
	refused, addresses, err := a.Store.Refusals(c.Request.Context())
	if err != nil {
		return err
	}
	p.Content = struct {
		Book, Path, Next, Key string
		Entries               []store.LedgerEntry
		Parse                 func(string) time.Time
		Refused, Addresses    int64
		Filter                store.LedgerFilter
		Heads                 []ledger.Head
		Stamps                []store.HeadStamp
		Stamping              bool // there is an authority that can be asked
	}{name, path, next, fmt.Sprintf("%x", a.Store.Key()), entries, parseTime, refused, addresses, f, heads, stamps, a.Store.Stamps()}
	return a.Render(c, files, p, "ledger.html")
}

// shownHeads bounds the signed heads that the page of a ledger lists; the file of heads has them all.
const shownHeads = 12

// proof shows the proof that a ledger holds an entry, or goes on from an earlier signed head, or hands it out as JSON.
func (a pages) proof(c *gin.Context) error {
	p, err := a.Page(c, "Proof", "")
	if err != nil {
		return err
	}
	name, path := book(c)
	prove, asked := a.Store.ProveEntry, c.Query("entry")
	if asked == "" {
		prove, asked = a.Store.ProveHead, c.Query("head")
	}
	n, err := strconv.ParseInt(asked, 10, 64)
	if err != nil {
		return fmt.Errorf("a proof of %q: %w", asked, store.ErrNotFound)
	}
	proof, err := prove(c.Request.Context(), name, n)
	if err != nil {
		return err
	}
	if c.Query("as") == "json" {
		c.Header("Content-Disposition", frame.Attachment(fmt.Sprintf("%s-proof-%d.json", name, n)))
		c.IndentedJSON(http.StatusOK, proof)
		return nil
	}
	p.Content = struct {
		*store.LedgerProof
		Book, Path, JSON string
		Hashes           []string
	}{proof, name, path, p.Keep("as", "json"), proof.Proof}
	return a.Render(c, files, p, "proof.html")
}

// stamp has the head of a ledger stamped as it is now.
func (a pages) stamp(c *gin.Context) error {
	name, path := book(c)
	if !a.Store.Stamps() {
		return frame.Bad("no time stamp authority is set up: crosswind serve --time-stamps names one")
	}
	h, err := a.Store.SignedHead(c.Request.Context(), name)
	if err != nil {
		return err
	}
	x, err := a.Store.StampHead(c.Request.Context(), h)
	if err != nil {
		a.Notice(c, "The head is signed, and has no time stamp: %v", err)
	} else {
		a.Notice(c, "The head of %d entries is stamped: %s, by %s.", x.Size, x.At.UTC().Format("2006-01-02 15:04:05Z"), x.Authority)
	}
	c.Redirect(http.StatusSeeOther, path)
	return nil
}

// stampFile hands out the time stamp of a head, or the head that it is of: what openssl ts -verify asks for.
func (a pages) stampFile(c *gin.Context) error {
	name, _ := book(c)
	size, err := strconv.ParseInt(c.Query("size"), 10, 64)
	if err != nil {
		return fmt.Errorf("a time stamp of %q entries: %w", c.Query("size"), store.ErrNotFound)
	}
	x, err := a.Store.HeadStampOf(c.Request.Context(), name, size)
	if err != nil {
		return err
	}
	base := fmt.Sprintf("%s-head-%d", strings.ReplaceAll(name, " ", "-"), size)
	if c.Query("as") == "head" {
		c.Header("Content-Disposition", frame.Attachment(base+".json"))
		c.Data(http.StatusOK, "application/json", []byte(x.Head+"\n"))
		return nil
	}
	c.Header("Content-Disposition", frame.Attachment(base+".tsr"))
	c.Data(http.StatusOK, "application/timestamp-reply", x.Response)
	return nil
}

func (a pages) check(c *gin.Context) error {
	name, path := book(c)
	faults, err := a.Store.CheckLedger(c.Request.Context(), name)
	if err != nil {
		return err
	}
	if len(faults) == 0 {
		a.Notice(c, "The ledger holds: every entry is there, in order, and unchanged.")
	}
	c.Redirect(http.StatusSeeOther, path)
	return nil
}
