// Package authority is a stand-in for a time stamp authority (RFC 3161), over HTTP as in section 3.4.
package authority

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	_ "embed"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/digitorus/timestamp"
)

// Setting is what a stand-in is told.
type Setting struct {
	Dir string // where it keeps its key, and its certificates for others as authority.pem
}

// Fault is a way in which an authority can fail.
type Fault string

// The ways in which it can fail.
const (
	None    Fault = ""
	Down    Fault = "down"
	Refuses Fault = "refuses"
	Another Fault = "another"
	Slow    Fault = "slow"
)

// faults are all ways, in words.
var faults = []struct {
	Fault Fault
	Words string
}{
	{None, "As it should"},
	{Down, "With “503 out of order”"},
	{Refuses, "That it refuses the request (RFC 3161 section 2.4.2, systemFailure)"},
	{Another, "To another request than the one that it was asked"},
	{Slow, "By a clock that is an hour slow"},
}

// RootsName is the name of the certificates that others trust.
const RootsName = "authority.pem"

// policy is a number for tests, below the arc that is kept for examples (2.999, ITU-T X.660).
var policy = asn1.ObjectIdentifier{2, 999, 1}

// Authority gives time stamps.
type Authority struct {
	cert *x509.Certificate
	key  crypto.Signer

	mu    sync.Mutex
	fault Fault
	asked int
}

// Fail lets it fail in a way from now on, or answer as it should again.
func (a *Authority) Fail(f Fault) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.fault = f
}

// Open opens an authority, and makes its key and certificate if they are not there yet.
func Open(s Setting) (*Authority, error) {
	path := filepath.Join(s.Dir, "authority-key.pem")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if b, err = create(s.Dir, path); err != nil {
			return nil, fmt.Errorf("making the authority's key: %w", err)
		}
	}
	if err != nil {
		return nil, err
	}
	a := &Authority{}
	for block, rest := pem.Decode(b); block != nil; block, rest = pem.Decode(rest) {
		switch block.Type {
		case "PRIVATE KEY":
			var k any
			if k, err = x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
				a.key, _ = k.(crypto.Signer)
			}
		case "CERTIFICATE":
			if a.cert, err = x509.ParseCertificate(block.Bytes); err != nil {
				return nil, err
			}
		}
	}
	if a.key == nil || a.cert == nil {
		return nil, fmt.Errorf("%s holds no key with its certificate: %w", path, err)
	}
	return a, nil
}

// create makes a root, whose key is thrown away, and a key with a certificate of it for time stamps alone.
func create(dir, path string) ([]byte, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	from := time.Now().Add(-time.Hour)
	name := func(cn string) pkix.Name {
		return pkix.Name{Organization: []string{"Stand-in, for demonstration"}, CommonName: cn}
	}
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: name("Root of a time stamp authority"), NotBefore: from, NotAfter: from.AddDate(20, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	usage, err := asn1.Marshal([]asn1.ObjectIdentifier{{1, 3, 6, 1, 5, 5, 7, 3, 8}})
	if err != nil {
		return nil, err
	}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: name("Time stamps"), NotBefore: from, NotAfter: from.AddDate(20, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtraExtensions: []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 5, 29, 37}, Critical: true, Value: usage}}} // critical, as RFC 3161 wants it in section 2.3
	rootKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	rootDER, err := x509.CreateCertificate(rand.Reader, root, root, rootKey.Public(), rootKey)
	if err != nil {
		return nil, err
	}
	leafDER, err := x509.CreateCertificate(rand.Reader, leaf, root, key.Public(), rootKey)
	if err != nil {
		return nil, err
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	block := func(kind string, der []byte) []byte { return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}) }
	if err := os.WriteFile(filepath.Join(dir, RootsName), block("CERTIFICATE", rootDER), 0o644); err != nil {
		return nil, err
	}
	b := append(block("PRIVATE KEY", keyDER), block("CERTIFICATE", leafDER)...)
	return b, os.WriteFile(path, b, 0o600)
}

//go:embed page.html
var pageText string

var page = template.Must(template.New("").Parse(pageText))

// Handler answers requests at /, where it shows a page to those who look, on which it is told how to fail.
func (a *Authority) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		page.Execute(w, map[string]any{"Asked": a.asked, "Now": a.fault, "Faults": faults})
	})
	mux.HandleFunc("POST /fault", func(w http.ResponseWriter, r *http.Request) {
		for _, f := range faults {
			if string(f.Fault) == r.FormValue("fault") {
				a.Fail(f.Fault)
				http.Redirect(w, r, "/", http.StatusSeeOther)
				return
			}
		}
		http.Error(w, "there is no such fault", http.StatusBadRequest)
	})
	mux.HandleFunc("POST /{$}", a.stamp)
	return mux
}

// stamp answers a request for a time stamp.
func (a *Authority) stamp(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	fault := a.fault
	a.asked++
	a.mu.Unlock()
	if fault == Down {
		http.Error(w, "out of order", http.StatusServiceUnavailable)
		return
	}
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10))
	if r.Header.Get("Content-Type") != "application/timestamp-query" || err != nil {
		http.Error(w, "a time stamp query is wanted", http.StatusBadRequest)
		return
	}
	out, err := a.answer(b, fault)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/timestamp-reply")
	w.Write(out)
}

func (a *Authority) answer(b []byte, fault Fault) ([]byte, error) {
	q, err := timestamp.ParseRequest(b)
	if err != nil {
		return timestamp.CreateErrorResponse(timestamp.Rejection, timestamp.BadDataFormat)
	}
	at := time.Now().UTC()
	switch fault {
	case Refuses:
		return timestamp.CreateErrorResponse(timestamp.Rejection, timestamp.SystemFailure)
	case Another:
		q.Nonce = big.NewInt(1)
	case Slow:
		at = at.Add(-time.Hour)
	}
	t := &timestamp.Timestamp{HashAlgorithm: q.HashAlgorithm, HashedMessage: q.HashedMessage, Time: at, Nonce: q.Nonce, Policy: policy, Accuracy: time.Second, AddTSACertificate: q.Certificates}
	return t.CreateResponseWithOpts(a.cert, a.key, crypto.SHA256)
}
