package frame

import (
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
)

// A page that was begun ahead is the page that comes as a whole, and one that fails then says so on a page of its own.
func TestBeginAhead(t *testing.T) {
	a := &App{Log: slog.New(slog.DiscardHandler)}
	page := func(dest string, fail bool) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		c, _ := gin.CreateTestContext(w)
		c.Request = httptest.NewRequest(http.MethodGet, "/case/A-1/examine", nil)
		c.Request.Header.Set("Sec-Fetch-Dest", dest)
		p := &Page{Title: "This could not be done", Theme: "night", Fault: "torn", Zone: time.UTC, Path: "/case/A-1/examine", code: http.StatusInternalServerError}
		if err := a.begin(c, p); err != nil {
			t.Fatal(err)
		}
		if ahead := w.Body.String(); (dest == "document") != strings.HasPrefix(ahead, "<!doctype html>") || strings.Contains(ahead, "<title>") {
			t.Errorf("to %q ahead: %q", dest, ahead)
		}
		if fail {
			a.Fail(c, errors.New("torn"))
		} else if err := a.Render(c, files, p, "fail.html"); err != nil {
			t.Fatal(err)
		}
		return w
	}
	whole := page("empty", false)
	if whole.Code != http.StatusInternalServerError {
		t.Errorf("a script is told %d", whole.Code)
	}
	if ahead := page("document", false); ahead.Code != http.StatusOK || ahead.Body.String() != whole.Body.String() || ahead.Header().Get("Content-Type") != whole.Header().Get("Content-Type") {
		t.Errorf("begun ahead: %d\n%s\nas a whole:\n%s", ahead.Code, ahead.Body, whole.Body)
	}
	if s := page("document", true).Body.String(); strings.Count(s, "<!doctype") != 1 || strings.Count(s, "chart-room.css") != 1 || !strings.Contains(s, "torn") {
		t.Errorf("begun ahead, then failed:\n%s", s)
	}
}
