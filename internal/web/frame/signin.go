package frame

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"crosswind/internal/store"

	"github.com/gin-gonic/gin"
)

type signIn struct {
	Login, Next, Name, Token string
}

// Routes adds the pages that need no sign-in.
func (a *App) Routes(r *gin.Engine) {
	r.GET("/sign-in", func(c *gin.Context) { a.signInPage(c, signIn{Next: c.Query("next")}, nil) })
	r.POST("/sign-in", a.signIn)
	r.POST("/sign-out", a.Signed, a.signOut)
	r.GET("/first-examiner", func(c *gin.Context) { a.setupPage(c, signIn{Token: c.Query("token")}, nil) })
	r.POST("/first-examiner", a.firstExaminer)
}

func (a *App) signInPage(c *gin.Context, s signIn, err error) {
	p, perr := a.Page(c, "Sign in", "")
	if perr != nil {
		a.Fail(c, perr)
		return
	}
	p.Content = s
	code := http.StatusOK
	if err != nil {
		p.Fault, code = err.Error(), http.StatusUnprocessableEntity
	}
	a.Render(c, code, files, p, "sign-in.html")
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

func (a *App) signIn(c *gin.Context) {
	s := signIn{Login: strings.TrimSpace(c.PostForm("login")), Next: c.PostForm("next")}
	ctx := c.Request.Context()
	if d := waitFor(s.Login); d > 0 {
		a.signInPage(c, s, errors.New("too many wrong passwords for this sign-in: wait half a minute and try again"))
		return
	}
	e, err := a.Store.ExaminerByLogin(ctx, s.Login)
	if errors.Is(err, store.ErrNotFound) {
		err = errWrong
	} else if err == nil {
		err = checkPassword(e.PasswordHash, c.PostForm("password"))
	}
	attempted(s.Login, err == nil)
	if err != nil {
		if lerr := a.Store.Log(ctx, store.Act{Book: store.Bench, By: "nobody", What: "signin.refused", On: clip(s.Login)}); lerr != nil {
			err = lerr
		}
		a.signInPage(c, s, err)
		return
	}
	if err := a.Sessions.RenewToken(ctx); err != nil {
		a.Fail(c, err)
		return
	}
	a.Sessions.Put(ctx, "login", e.Login)
	if err := a.Store.Log(ctx, store.Act{Book: store.Bench, By: e.Name + " (" + e.Login + ")", What: "signin", On: e.Login}); err != nil {
		a.Fail(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, localPath(s.Next))
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

func (a *App) signOut(c *gin.Context) {
	if err := a.Store.Log(c.Request.Context(), store.Act{Book: store.Bench, By: By(c), What: "signout", On: Who(c).Login}); err != nil {
		a.Fail(c, err)
		return
	}
	if err := a.Sessions.Destroy(c.Request.Context()); err != nil {
		a.Fail(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, "/sign-in")
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

func (a *App) setupPage(c *gin.Context, s signIn, err error) {
	if !a.tokenHolds(s.Token) {
		err = errToken
	}
	p, perr := a.Page(c, "First examiner", "")
	if perr != nil {
		a.Fail(c, perr)
		return
	}
	p.Content = s
	code := http.StatusOK
	if err != nil {
		p.Fault, code = err.Error(), http.StatusUnprocessableEntity
	}
	a.Render(c, code, files, p, "first-examiner.html")
}

func (a *App) firstExaminer(c *gin.Context) {
	s := signIn{Login: strings.TrimSpace(c.PostForm("login")), Name: strings.TrimSpace(c.PostForm("name")), Token: c.PostForm("token")}
	password := c.PostForm("password")
	var err error
	switch {
	case !a.tokenHolds(s.Token):
		err = errToken
	case s.Login == "" || s.Name == "":
		err = errors.New("a sign-in and a name are needed")
	case len(password) < MinPassword:
		err = errors.New("the password needs 10 characters or more")
	default:
		err = a.Store.AddExaminer(c.Request.Context(), store.Examiner{Login: s.Login, Name: s.Name, Role: "examiner", PasswordHash: HashPassword(password)}, "one-time link", true)
	}
	if err != nil {
		a.setupPage(c, s, err)
		return
	}
	a.mu.Lock()
	a.setup = ""
	a.mu.Unlock()
	a.Notice(c, "%s may sign in now.", s.Name)
	c.Redirect(http.StatusSeeOther, "/sign-in")
}
