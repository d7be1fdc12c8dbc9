package authority_test

import (
	"bytes"
	"crypto/x509"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosswind/core/stamp"
	"crosswind/internal/authority"
	standin "crosswind/internal/standin/authority"
)

func desk(t *testing.T) (*standin.Authority, *httptest.Server, string) {
	t.Helper()
	dir := t.TempDir()
	a, err := standin.Open(standin.Setting{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(a.Handler())
	t.Cleanup(srv.Close)
	return a, srv, filepath.Join(dir, standin.RootsName)
}

// What is stamped is verified by OpenSSL's ts -verify (RFC 3161), and by nobody for another message or other roots.
func TestStamp(t *testing.T) {
	a, srv, roots := desk(t)
	c, err := authority.New(srv.URL, roots)
	if err != nil {
		t.Fatal(err)
	}
	message := []byte("a head\n")
	s, response, err := c.Stamp(t.Context(), message)
	if err != nil {
		t.Fatal(err)
	}
	if time.Since(s.At).Abs() > time.Minute || s.Of([]byte("another")) == nil || !strings.Contains(s.Authority(), "Time stamps") {
		t.Errorf("%+v", s)
	}
	dir := t.TempDir()
	data, tsr := filepath.Join(dir, "data"), filepath.Join(dir, "tsr")
	os.WriteFile(data, message, 0o600)
	os.WriteFile(tsr, response, 0o600)
	verify := func(roots string) string {
		out, _ := exec.Command("openssl", "ts", "-verify", "-data", data, "-in", tsr, "-CAfile", roots).CombinedOutput()
		return string(out)
	}
	if out := verify(roots); !strings.Contains(out, "Verification: OK") {
		t.Error(out)
	}
	_, other, others := desk(t)
	if out := verify(others); strings.Contains(out, "Verification: OK") {
		t.Error("by other roots:", out)
	}
	if d, err := authority.New(other.URL, roots); err != nil {
		t.Error(err)
	} else if _, _, err := d.Stamp(t.Context(), message); !errors.Is(err, stamp.ErrAuthority) {
		t.Errorf("an authority that is not trusted: %v", err)
	}
	// Told on its page how to fail, it does, and again as it should.
	for fault, want := range map[standin.Fault]string{standin.Slow: "clock", standin.Down: "503", standin.Refuses: "rejected", standin.Another: "another request", standin.None: ""} {
		res, err := http.PostForm(srv.URL+"/fault", url.Values{"fault": {string(fault)}})
		if err != nil {
			t.Fatal(err)
		}
		page, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if !bytes.Contains(page, []byte(`value="`+string(fault)+`" checked`)) {
			t.Errorf("%q is not shown: %s", fault, page)
		}
		if _, _, err := c.Stamp(t.Context(), message); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", fault, err)
		}
	}
	if res, err := http.PostForm(srv.URL+"/fault", url.Values{"fault": {"x"}}); err != nil || res.StatusCode != http.StatusBadRequest {
		t.Errorf("a fault that there is not: %v, %v", res, err)
	}
	a.Fail(standin.None)
	// An old answer, and one for something else.
	replay := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write(response) }))
	defer replay.Close()
	if r, err := authority.New(replay.URL, roots); err != nil {
		t.Error(err)
	} else if _, _, err := r.Stamp(t.Context(), message); err == nil || !strings.Contains(err.Error(), "another request") {
		t.Errorf("an answer of before: %v", err)
	} else if _, _, err := r.Stamp(t.Context(), []byte("x")); !errors.Is(err, stamp.ErrOther) {
		t.Errorf("an answer for something else: %v", err)
	}
	for i := range response { // no byte of it can be another
		b := bytes.Clone(response)
		b[i] ^= 1
		x, err := stamp.Parse(b)
		if err == nil {
			pool := x509.NewCertPool()
			pem, _ := os.ReadFile(roots)
			pool.AppendCertsFromPEM(pem)
			err = errors.Join(x.Of(message), x.Trust(pool))
		}
		if err == nil && (!x.At.Equal(s.At) || x.Serial.Cmp(s.Serial) != 0) {
			t.Errorf("byte %d can be another: %v", i, x.At)
		}
	}
}
