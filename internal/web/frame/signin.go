package frame

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"crosswind/core/access"
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
	open.GET("/sign-in", "", func(c *gin.Context) error { return a.signInPage(c, signIn{Next: c.Query("next")}, nil) })
	open.POST("/sign-in", "", a.signIn)
	Group{a, r.Group("/", a.Signed)}.POST("/sign-out", access.Anyone, a.signOut)
	open.GET("/first-examiner", "", func(c *gin.Context) error { return a.setupPage(c, signIn{Token: c.Query("token")}, nil) })
	open.POST("/first-examiner", "", a.firstExaminer)
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

// errLater is why a sign-in is not tried.
var errLater = errors.New("many sign-ins are being tried from here or for this name: wait a quarter of a minute and try again")

// Authenticate finds the account that a sign-in and a password belong to. The more were
// refused of late, the longer it waits; nobody is locked out. What is refused is counted.
func (a *App) Authenticate(c *gin.Context, login, secret string) (*store.Examiner, error) {
	ctx, address := c.Request.Context(), remote(c.Request)
	wait, ok, err := a.Store.SignInTurn(ctx, address, login)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, errLater
	}
	select {
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	case <-time.After(wait):
	}
	e, err := a.Store.ExaminerByLogin(ctx, login)
	if errors.Is(err, store.ErrNotFound) { // which takes as long
		err = password.CheckNone(ctx, secret)
	} else if err == nil {
		err = password.Check(ctx, e.PasswordHash, secret)
	}
	if err != nil && !errors.Is(err, password.ErrWrong) {
		return nil, err
	}
	if terr := a.Store.SignInTried(ctx, address, login, err == nil); terr != nil || err != nil {
		return nil, errors.Join(err, terr)
	}
	return e, nil
}

// remote is the address that a request comes from, without its port.
func remote(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

func (a *App) signIn(c *gin.Context) error {
	s := signIn{Login: strings.TrimSpace(c.PostForm("login")), Next: c.PostForm("next")}
	ctx := c.Request.Context()
	e, err := a.Authenticate(c, s.Login, c.PostForm("password"))
	if errors.Is(err, password.ErrWrong) || errors.Is(err, errLater) {
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

// localPath keeps a redirect on this site: only an absolute path, without what browsers
// drop or turn around.
func localPath(next string) string {
	u, err := url.Parse(next)
	if err != nil || u.Scheme != "" || u.Host != "" || u.User != nil || u.Opaque != "" || !strings.HasPrefix(next, "/") || strings.HasPrefix(next, "//") ||
		strings.ContainsFunc(next, func(r rune) bool { return r < 0x20 || r == 0x7f || r == '\\' }) || strings.HasPrefix(u.Path, "//") || strings.Contains(u.Path, "\\") {
		return "/"
	}
	return next
}

// StillSigned reports whether the session of a request is still that of who is signed in:
// for what goes on after a page was sent.
func (a *App) StillSigned(c *gin.Context) bool {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	ctx, err := a.Sessions.Load(ctx, a.Sessions.Token(c.Request.Context()))
	return err == nil && a.Sessions.GetString(ctx, "login") == Who(c).Login
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
		err = a.Store.AddExaminer(c.Request.Context(), store.Examiner{Login: s.Login, Name: s.Name, Role: "examiner", PasswordHash: password.Hash(c.Request.Context(), secret)}, "one-time link", true)
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
