package press

import (
	"bytes"
	"crypto/ed25519"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosswind/internal/authority"
	standin "crosswind/internal/standin/authority"
)

// What is signed is accepted by poppler's pdfsig and by qpdf, and its time stamp stands in it; no byte of it can be another.
func TestSign(t *testing.T) {
	dir := t.TempDir()
	_, key, _ := ed25519.GenerateKey(nil)
	path := filepath.Join(dir, "key.pem")
	s, err := OpenSigner(path, key)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := OpenSigner(path, key); err != nil || !again.cert.Equal(s.cert) {
		t.Errorf("opened again: %v", err)
	}
	_, other, _ := ed25519.GenerateKey(nil)
	if _, err := OpenSigner(path, other); err == nil || !strings.Contains(err.Error(), "issued by another key") {
		t.Errorf("of another installation: %v", err)
	}
	desk, err := standin.Open(standin.Setting{Dir: filepath.Join(dir, "authority")})
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(desk.Handler())
	defer srv.Close()
	clerk, err := authority.New(srv.URL, filepath.Join(dir, "authority", standin.RootsName))
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 9, 24, 12, 0, 0, 0, time.UTC)
	vs, err := FindSetter("../..").PDF(t.Context(), sample(), "E", at)
	if err != nil {
		t.Fatal(err)
	}
	check := func(b []byte) (string, string) {
		p := filepath.Join(dir, "r.pdf")
		os.WriteFile(p, b, 0o600)
		sig, _ := exec.Command("pdfsig", "-nocert", p).CombinedOutput()
		q, _ := exec.Command("qpdf", "--check", p).CombinedOutput()
		return string(sig), string(q)
	}
	plain, unstamped, err := s.Sign(t.Context(), vs[0].Bytes, "Ægir Ø", "version 3", at)
	if err != nil || unstamped == nil {
		t.Fatal(err)
	}
	s.Stamper = clerk
	b, unstamped, err := s.Sign(t.Context(), vs[0].Bytes, "Ægir Ø", "version 3", at)
	if err != nil || unstamped != nil || !bytes.HasPrefix(b, vs[0].Bytes) {
		t.Fatalf("%v, %v", unstamped, err)
	}
	for _, x := range [][]byte{plain, b} {
		sig, q := check(x)
		if !strings.Contains(sig, "Signature is Valid") || !strings.Contains(sig, "Total document signed") || !strings.Contains(sig, "Crosswind, signing of reports") || !strings.Contains(q, "No syntax or stream encoding errors") {
			t.Errorf("%s\n%s", sig, q)
		}
	}
	desk.Fail(standin.Down)
	if _, unstamped, err := s.Sign(t.Context(), vs[0].Bytes, "E", "", at); err != nil || unstamped == nil {
		t.Errorf("without the authority: %v, %v", unstamped, err)
	}
	changed := bytes.Clone(b)
	changed[len(vs[0].Bytes)/2] ^= 1
	if sig, _ := check(changed); strings.Contains(sig, "Signature is Valid") {
		t.Error("another byte: ", sig)
	}
	if sig, _ := check(append(bytes.Clone(b), "\n1 0 obj\n<<>>\nendobj\n"...)); strings.Contains(sig, "Total document signed") {
		t.Error("something behind it: ", sig)
	}
	if _, _, err := s.Sign(t.Context(), []byte("%PDF-1.7\nsomething else"), "", "", at); err == nil {
		t.Error("what is no PDF of ours is signed")
	}
}
