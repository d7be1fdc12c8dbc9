package frame

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"crosswind/internal/password"
	"crosswind/internal/store"

	"github.com/gin-gonic/gin"
)

type signIn struct {
	Login, Next, Name, Token string
}

// Routes adds the pages that need no sign-in.
func (a *App) Routes(r *gin.Engine) {
	open := Group{a, r.Group("/")}
	open.GET("/sign-in", func(c *gin.Context) error { return a.signInPage(c, signIn{Next: c.Query("next")}, nil) })
	open.POST("/sign-in", a.signIn)
	Group{a, r.Group("/", a.Signed)}.POST("/sign-out", a.signOut)
	open.GET("/first-examiner", func(c *gin.Context) error { return a.setupPage(c, signIn{Token: c.Query("token")}, nil) })
	open.POST("/first-examiner", a.firstExaminer)
}

func (a *App) signInPage(c *gin.Context, s signIn, refused error) error {
	return a.form(c, "Sign in", "sign-in.html", s, refused)
}

// form shows a form of the frame's own.
func (a *App) form(c *gin.Context, title, name string, s signIn, refused error) error {
	p, err := a.Page(c, title, "")
	if err != nil {
		return err
	}
	p.Content = s
	p.Refuse(refused)
	return a.Render(c, files, p, name)
}

// attempts slows guessing down: after a few wrong passwords for a sign-in,
// each further one must wait.
var attempts = struct {
	sync.Mutex
	wrong map[string]int
	until map[string]time.Time
}{wrong: map[string]int{}, until: map[string]time.Time{}}

const freeAttempts = 5

func waitFor(login string) time.Duration {
	attempts.Lock()
	defer attempts.Unlock()
	return time.Until(attempts.until[login])
}

func attempted(login string, ok bool) {
	attempts.Lock()
	defer attempts.Unlock()
	if ok || len(attempts.wrong) > 10000 {
		delete(attempts.wrong, login)
		delete(attempts.until, login)
		return
	}
	if attempts.wrong[login]++; attempts.wrong[login] >= freeAttempts {
		attempts.until[login] = time.Now().Add(30 * time.Second)
	}
}

var errWait = errors.New("too many wrong passwords for this sign-in: wait half a minute and try again")

// Authenticate finds the account that a sign-in and a password belong to. A
// refusal is an entry in the ledger.
func (a *App) Authenticate(ctx context.Context, login, secret string) (*store.Examiner, error) {
	if waitFor(login) > 0 {
		return nil, errWait
	}
	e, err := a.Store.ExaminerByLogin(ctx, login)
	if errors.Is(err, store.ErrNotFound) {
		err = password.ErrWrong
	} else if err == nil {
		err = password.Check(e.PasswordHash, secret)
	}
	if err != nil && !errors.Is(err, password.ErrWrong) {
		return nil, err
	}
	attempted(login, err == nil)
	if err != nil {
		return nil, errors.Join(err, a.Store.Log(ctx, store.Act{Book: store.Bench, By: "nobody", What: "signin.refused", On: clip(login)}))
	}
	return e, nil
}

func (a *App) signIn(c *gin.Context) error {
	s := signIn{Login: strings.TrimSpace(c.PostForm("login")), Next: c.PostForm("next")}
	ctx := c.Request.Context()
	e, err := a.Authenticate(ctx, s.Login, c.PostForm("password"))
	if errors.Is(err, password.ErrWrong) || errors.Is(err, errWait) {
		return a.signInPage(c, s, err)
	}
	if err != nil {
		return err
	}
	if err := a.Sessions.RenewToken(ctx); err != nil {
		return err
	}
	a.Sessions.Put(ctx, "login", e.Login)
	if err := a.Store.Log(ctx, store.Act{Book: store.Bench, By: e.Name + " (" + e.Login + ")", What: "signin", On: e.Login}); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, localPath(s.Next))
	return nil
}

func clip(s string) string {
	if len(s) > 60 {
		return strings.ToValidUTF8(s[:60], "") + "…"
	}
	return strings.ToValidUTF8(s, "")
}

// localPath keeps a redirect on this site.
func localPath(next string) string {
	if !strings.HasPrefix(next, "/") || strings.HasPrefix(next, "//") || strings.ContainsAny(next, "\\\r\n") {
		return "/"
	}
	return next
}

func (a *App) signOut(c *gin.Context) error {
	if err := a.Store.Log(c.Request.Context(), store.Act{Book: store.Bench, By: By(c), What: "signout", On: Who(c).Login}); err != nil {
		return err
	}
	if err := a.Sessions.Destroy(c.Request.Context()); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/sign-in")
	return nil
}

// SetupToken makes the token of the one-time link by which the first examiner
// is made.
func (a *App) SetupToken() string {
	b := make([]byte, 20)
	rand.Read(b) // never fails
	a.mu.Lock()
	defer a.mu.Unlock()
	a.setup = hex.EncodeToString(b)
	return a.setup
}

func (a *App) tokenHolds(token string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.setup != "" && subtle.ConstantTimeCompare([]byte(a.setup), []byte(token)) == 1
}

var errToken = errors.New("this link holds no longer: it is printed when the application starts without an examiner, and works once")

func (a *App) setupPage(c *gin.Context, s signIn, refused error) error {
	if !a.tokenHolds(s.Token) {
		refused = errToken
	}
	return a.form(c, "First examiner", "first-examiner.html", s, refused)
}

func (a *App) firstExaminer(c *gin.Context) error {
	s := signIn{Login: strings.TrimSpace(c.PostForm("login")), Name: strings.TrimSpace(c.PostForm("name")), Token: c.PostForm("token")}
	secret := c.PostForm("password")
	var err error
	switch {
	case !a.tokenHolds(s.Token):
		err = errToken
	case s.Login == "" || s.Name == "":
		err = errors.New("a sign-in and a name are needed")
	case len(secret) < password.MinLength:
		err = errors.New("the password needs 10 characters or more")
	default:
		err = a.Store.AddExaminer(c.Request.Context(), store.Examiner{Login: s.Login, Name: s.Name, Role: "examiner", PasswordHash: password.Hash(secret)}, "one-time link", true)
	}
	if err != nil {
		return a.setupPage(c, s, err)
	}
	a.mu.Lock()
	a.setup = ""
	a.mu.Unlock()
	a.Notice(c, "%s may sign in now.", s.Name)
	c.Redirect(http.StatusSeeOther, "/sign-in")
	return nil
}
