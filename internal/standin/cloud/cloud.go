// Package cloud stands in for a cloud service that keeps snapshots of devices: it
// answers over loopback as internal/cloud asks, shows what the account's owner has
// on a page, and fails on demand.
package cloud

import (
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	client "crosswind/internal/cloud"
	"crosswind/internal/line"

	"github.com/pquerna/otp/totp"
)

// Account is what the service keeps of one account.
type Account struct {
	Name      string     `json:"name"`
	Password  string     `json:"password"`
	Secret    string     `json:"secret"` // of its one-time codes (RFC 6238), base32
	Snapshots []Snapshot `json:"snapshots"`
	Versions  []Version  `json:"versions"`
}

// Snapshot is a snapshot and the folder with its files.
type Snapshot struct {
	client.Snapshot
	Dir string `json:"dir"`
}

// Version is an earlier version and its content.
type Version struct {
	client.Version
	Content string `json:"content"`
}

// Service is a service that answers.
type Service struct {
	mu     sync.Mutex
	a      Account
	tokens map[string]bool
	faults map[string]int // how often each is still to happen
	after  int            // requests until the token expires, -1 for never
}

// New makes a service.
func New(a Account) *Service {
	return &Service{a: a, tokens: map[string]bool{}, faults: map[string]int{}, after: -1}
}

// due reports whether a fault is to happen now.
func (s *Service) due(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.faults[name] == 0 {
		return false
	}
	s.faults[name]--
	return true
}

// Handler answers for the service.
func (s *Service) Handler() http.Handler {
	mux := http.NewServeMux()
	signed := func(pattern string, f http.HandlerFunc) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			s.mu.Lock()
			token := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
			if s.after == 0 {
				s.tokens, s.after = map[string]bool{}, -1
			} else if s.after > 0 {
				s.after--
			}
			ok := s.tokens[token]
			s.mu.Unlock()
			switch {
			case !ok:
				http.Error(w, "sign in", http.StatusUnauthorized)
			case s.due("busy"):
				w.Header().Set("Retry-After", "1")
				http.Error(w, "slow down", http.StatusTooManyRequests)
			case s.due("down"):
				http.Error(w, "back soon", http.StatusServiceUnavailable)
			default:
				f(w, r)
			}
		})
	}
	mux.HandleFunc("POST /signin", s.signIn)
	signed("GET /snapshots", s.snapshots)
	signed("GET /versions", s.versions)
	signed("GET /version", s.version)
	signed("GET /files", s.files)
	signed("GET /file", s.file)
	mux.HandleFunc("GET /{$}", s.page)
	mux.HandleFunc("POST /fault/{what}", s.fault)
	return mux
}

func (s *Service) signIn(w http.ResponseWriter, r *http.Request) {
	var ask struct{ Account, Password, Code string }
	if err := json.NewDecoder(io.LimitReader(r.Body, 10_000)).Decode(&ask); err != nil ||
		ask.Account != s.a.Name || ask.Password != s.a.Password || !totp.Validate(ask.Code, s.a.Secret) {
		http.Error(w, "not right", http.StatusUnauthorized)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	token := rand.Text()
	s.tokens[token] = true
	json.NewEncoder(w).Encode(map[string]string{"token": token})
}

func (s *Service) snapshots(w http.ResponseWriter, _ *http.Request) {
	out := []client.Snapshot{}
	for _, x := range s.a.Snapshots {
		x.Files, x.Bytes = 0, 0
		walk(x.Dir, func(f client.File, _ string) { x.Files++; x.Bytes += f.Size })
		out = append(out, x.Snapshot)
	}
	json.NewEncoder(w).Encode(out)
}

func walk(dir string, visit func(f client.File, at string)) error {
	return filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		st, err := d.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		visit(client.File{Path: "/" + filepath.ToSlash(rel), Size: st.Size(), Changed: line.Time{Time: st.ModTime().UTC()}}, p)
		return err
	})
}

func (s *Service) snapshot(r *http.Request) string {
	for _, x := range s.a.Snapshots {
		if x.ID == r.FormValue("snapshot") {
			return x.Dir
		}
	}
	return ""
}

func (s *Service) files(w http.ResponseWriter, r *http.Request) {
	dir := s.snapshot(r)
	if dir == "" {
		http.NotFound(w, r)
		return
	}
	out := []client.File{}
	err := walk(dir, func(f client.File, at string) {
		b, _ := os.ReadFile(at)
		for len(b) > 0 {
			sum := sha256.Sum256(b[:min(client.ChunkSize, len(b))])
			f.Chunks = append(f.Chunks, hex.EncodeToString(sum[:]))
			b = b[min(client.ChunkSize, len(b)):]
		}
		out = append(out, f)
	})
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	json.NewEncoder(w).Encode(out)
}

func (s *Service) file(w http.ResponseWriter, r *http.Request) {
	dir := s.snapshot(r)
	if dir == "" {
		http.NotFound(w, r)
		return
	}
	if s.due("drop") {
		w.Header().Set("Content-Length", "1000000")
		w.Write([]byte("and then"))
		panic(http.ErrAbortHandler)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer root.Close()
	f, err := root.Open(strings.TrimPrefix(r.FormValue("path"), "/"))
	if err != nil {
		http.NotFound(w, r)
		return
	}
	defer f.Close()
	if s.due("corrupt") {
		w = &corrupting{ResponseWriter: w}
	}
	w = &cutting{w, s}
	http.ServeContent(w, r, "", time.Time{}, f) // which knows byte ranges
}

// cutting drops the line when its bytes are used up.
type cutting struct {
	http.ResponseWriter
	s *Service
}

func (c *cutting) Write(p []byte) (int, error) {
	c.s.mu.Lock()
	left := c.s.faults["cut"]
	cut := left > 0 && left <= len(p)
	if left > 0 {
		c.s.faults["cut"] = max(0, left-len(p))
	}
	c.s.mu.Unlock()
	if !cut {
		return c.ResponseWriter.Write(p)
	}
	c.ResponseWriter.Write(p[:left-1])
	http.NewResponseController(c.ResponseWriter).Flush()
	panic(http.ErrAbortHandler)
}

// corrupting changes the first byte that it writes.
type corrupting struct {
	http.ResponseWriter
	done bool
}

func (c *corrupting) Write(p []byte) (int, error) {
	if !c.done && len(p) > 0 {
		c.done = true
		p = append([]byte{p[0] ^ 0xff}, p[1:]...)
	}
	return c.ResponseWriter.Write(p)
}

func (s *Service) versions(w http.ResponseWriter, _ *http.Request) {
	out := []client.Version{}
	for _, v := range s.a.Versions {
		v.Bytes = int64(len(v.Content))
		out = append(out, v.Version)
	}
	json.NewEncoder(w).Encode(out)
}

func (s *Service) version(w http.ResponseWriter, r *http.Request) {
	for _, v := range s.a.Versions {
		if v.ID == r.FormValue("id") {
			w.Header().Set("Content-Type", map[string]string{"calendar": "text/calendar", "contacts": "text/vcard"}[v.Kind])
			io.WriteString(w, v.Content)
			return
		}
	}
	http.NotFound(w, r)
}

//go:embed page.html
var pageHTML string

var page = template.Must(template.New("page").Parse(pageHTML))

func (s *Service) page(w http.ResponseWriter, _ *http.Request) {
	code, err := totp.GenerateCode(s.a.Secret, time.Now())
	if err != nil {
		code = err.Error()
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	page.Execute(w, struct {
		Account
		Code  string
		Words map[string]string
	}{s.a, code, map[string]string{"busy": "Answers “429 too many requests”, to wait a second, so often:", "down": "Answers “503 unavailable” so often:",
		"drop": "Drops the line so often:", "cut": "Drops the line after so many bytes:", "corrupt": "Sends a corrupted chunk so often:", "expire": "The token expires after so many requests:"}})
}

// fault is what is to go wrong, and how often.
func (s *Service) fault(w http.ResponseWriter, r *http.Request) {
	n, err := strconv.Atoi(r.FormValue("n"))
	if err != nil || n < 0 {
		http.Error(w, fmt.Sprintf("%q is not a number", r.FormValue("n")), http.StatusBadRequest)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if what := r.PathValue("what"); what == "expire" {
		s.after = n
	} else {
		s.faults[what] = n
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}
