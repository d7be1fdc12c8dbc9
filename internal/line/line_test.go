package line

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"
)

// An answer that stops coming is given up; a slow one that goes on is not.
func TestQuietLines(t *testing.T) {
	end := make(chan bool)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for range 5 {
			io.WriteString(w, "x")
			w.(http.Flusher).Flush()
			time.Sleep(40 * time.Millisecond)
		}
		if r.URL.Path == "/stops" {
			<-end
		}
	}))
	defer srv.Close()
	defer close(end)
	c := &http.Client{Transport: Transport{http.DefaultTransport, 2 * time.Second}}
	res, err := c.Get(srv.URL + "/goes-on")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if b, err := io.ReadAll(res.Body); len(b) != 5 || err != nil {
		t.Errorf("%d bytes, %v", len(b), err)
	}
	c = &http.Client{Transport: Transport{http.DefaultTransport, 300 * time.Millisecond}}
	if res, err = c.Get(srv.URL + "/stops"); err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if b, err := io.ReadAll(res.Body); len(b) != 5 || !errors.Is(err, ErrQuiet) {
		t.Errorf("%d bytes, %v", len(b), err)
	}
}
