// Package handset stands in for handsets that cannot be on the bench: it answers
// over loopback as internal/handset asks, shows the handset's own screen on a
// page, and fails on demand as cables, storage and owners do.
package handset

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	link "crosswind/internal/handset"
	"crosswind/internal/line"
)

// Model is a handset as it is found.
type Model struct {
	link.State
	Code    string        `json:"code"`    // that unlocks it
	Tree    string        `json:"tree"`    // folder with its files
	Volumes []Image       `json:"volumes"` // its raw storage, none if it has no service mode
	Keys    string        `json:"keys"`    // to be held for service mode
	Hold    time.Duration `json:"hold"`    // and how long
	Offset  time.Duration `json:"offset"`  // of its clock
}

// Image is a volume and the file that holds it.
type Image struct {
	link.Volume
	Path string `json:"path"`
}

// Handset is a handset that answers.
type Handset struct {
	mu     sync.Mutex
	m      Model
	cut    int64 // bytes until the cable is pulled, -1 for never
	pulled bool
	rate   int64 // bytes a second, 0 for as fast as it goes
	bad    []badRange
	said   string // what happened last, for the page
	// MakeBackup writes a local backup of a handset, encrypted if there is a password.
	MakeBackup func(m Model, password string, w io.Writer) error
}

type badRange struct {
	volume   string
	from, to int64
}

// New makes a handset.
func New(m Model) *Handset { return &Handset{m: m, cut: -1} }

// Handler answers for the handset: /link and /service by cable, the rest is its
// screen and what can be done to it.
func (h *Handset) Handler() http.Handler {
	mux := http.NewServeMux()
	by := func(pattern string, f func(w http.ResponseWriter, r *http.Request) error) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			if h.out() {
				panic(http.ErrAbortHandler) // nothing answers where no cable is
			}
			if err := f(w, r); err != nil {
				code := http.StatusForbidden
				if os.IsNotExist(err) {
					code = http.StatusNotFound
				} else if _, ok := err.(unreadable); ok {
					code = http.StatusInternalServerError
				}
				http.Error(w, err.Error(), code)
			}
		})
	}
	by("GET /link/state", h.state)
	by("POST /link/ask", h.ask)
	by("GET /link/tree", h.tree)
	by("GET /link/file", h.file)
	by("POST /link/backup", h.backup)
	by("POST /service/enter", h.enter)
	by("GET /service/volumes", h.volumes)
	by("GET /service/blocks", h.blocks)
	mux.HandleFunc("GET /{$}", h.screen)
	mux.HandleFunc("POST /screen/{what}", h.touch)
	mux.HandleFunc("POST /fault/{what}", h.fault)
	return mux
}

func (h *Handset) out() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.pulled
}

func (h *Handset) now() link.State {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.m.State
	s.Clock = time.Now().Add(h.m.Offset).UTC()
	if s.Mode == "restarting" || s.Mode == "service" || s.Mode == "held" { // what does not run tells little
		s.Name, s.Serial, s.IMEI, s.System, s.Asked, s.Clock = "", "", "", "", false, time.Time{}
	}
	if s.Mode == "restarting" || s.Mode == "held" {
		s.Mark = ""
	}
	return s
}

func (h *Handset) state(w http.ResponseWriter, _ *http.Request) error {
	return json.NewEncoder(w).Encode(h.now())
}

func (h *Handset) ask(http.ResponseWriter, *http.Request) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.m.Mode != "running" {
		return fmt.Errorf("it is not running")
	}
	h.m.Asked = !h.m.Approved
	return nil
}

// readable says why files cannot be read now.
func (h *Handset) readable() error {
	switch s := h.now(); {
	case s.Mode != "running":
		return fmt.Errorf("it is not running")
	case !s.Approved:
		return fmt.Errorf("this computer is not approved on it")
	case !s.Unlocked:
		return fmt.Errorf("it is locked")
	}
	return nil
}

func (h *Handset) tree(w http.ResponseWriter, _ *http.Request) error {
	if err := h.readable(); err != nil {
		return err
	}
	out := json.NewEncoder(w)
	err := filepath.WalkDir(h.m.Tree, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		st, err := d.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(h.m.Tree, p)
		if err != nil {
			return err
		}
		return out.Encode(link.Entry{Path: "/" + filepath.ToSlash(rel), Size: st.Size(), Changed: line.Time{Time: st.ModTime().UTC()}})
	})
	if err == nil {
		_, err = io.WriteString(w, "end\n")
	}
	return err
}

func (h *Handset) file(w http.ResponseWriter, r *http.Request) error {
	if err := h.readable(); err != nil {
		return err
	}
	root, err := os.OpenRoot(h.m.Tree)
	if err != nil {
		return err
	}
	defer root.Close()
	f, err := root.Open(strings.TrimPrefix(path.Clean("/"+r.FormValue("path")), "/"))
	if err != nil {
		return err
	}
	defer f.Close()
	return h.send(w, f)
}

func (h *Handset) backup(w http.ResponseWriter, r *http.Request) error {
	if err := h.readable(); err != nil {
		return err
	}
	var ask struct{ Password string }
	if err := json.NewDecoder(io.LimitReader(r.Body, 10_000)).Decode(&ask); err != nil {
		return err
	}
	made, err := os.CreateTemp("", "handset-")
	if err != nil {
		return err
	}
	defer os.Remove(made.Name())
	defer made.Close()
	if err := h.MakeBackup(h.m, ask.Password, made); err != nil {
		return err
	}
	if _, err := made.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return h.send(w, made)
}

// send writes to the cable: as fast as it is, and no further than it is pulled.
func (h *Handset) send(w http.ResponseWriter, r io.Reader) error {
	buf := make([]byte, 64<<10)
	for {
		n, err := r.Read(buf)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		h.mu.Lock()
		if h.cut >= 0 {
			if int64(n) >= h.cut {
				n, h.pulled, h.cut = int(h.cut), true, -1
				h.said = "the cable was pulled"
			} else {
				h.cut -= int64(n)
			}
		}
		pulled, rate := h.pulled, h.rate
		h.mu.Unlock()
		if rate > 0 {
			time.Sleep(time.Duration(float64(n) / float64(rate) * float64(time.Second)))
		}
		if _, err := w.Write(buf[:n]); err != nil {
			return err
		}
		if pulled {
			http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler)
		}
	}
}

func (h *Handset) enter(_ http.ResponseWriter, r *http.Request) error {
	var ask struct{ Mark string }
	if err := json.NewDecoder(io.LimitReader(r.Body, 1000)).Decode(&ask); err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case h.m.Mode != "held":
		return fmt.Errorf("its keys are not held")
	case len(h.m.Volumes) == 0:
		return fmt.Errorf("this model has no service mode")
	case ask.Mark != h.m.Mark:
		return fmt.Errorf("service mode of the model %q is not that of this handset; nothing was done", ask.Mark)
	}
	h.m.Mode, h.said = "service", "it is in service mode, read-only"
	return nil
}

func (h *Handset) volumes(w http.ResponseWriter, _ *http.Request) error {
	if h.now().Mode != "service" {
		return fmt.Errorf("it is not in service mode")
	}
	var v []link.Volume
	for _, i := range h.m.Volumes {
		st, err := os.Stat(i.Path)
		if err != nil {
			return err
		}
		i.Size = st.Size()
		v = append(v, i.Volume)
	}
	return json.NewEncoder(w).Encode(v)
}

// unreadable is a read error of the storage.
type unreadable struct{ from, to int64 }

func (u unreadable) Error() string {
	return fmt.Sprintf("read error between bytes %d and %d", u.from, u.to)
}

func (h *Handset) blocks(w http.ResponseWriter, r *http.Request) error {
	if h.now().Mode != "service" {
		return fmt.Errorf("it is not in service mode")
	}
	off, err1 := strconv.ParseInt(r.FormValue("offset"), 10, 64)
	n, err2 := strconv.ParseInt(r.FormValue("length"), 10, 64)
	if err1 != nil || err2 != nil || off < 0 || n < 0 || n > 8<<20 {
		return fmt.Errorf("no such blocks")
	}
	for _, i := range h.m.Volumes {
		if i.Name != r.FormValue("volume") {
			continue
		}
		h.mu.Lock()
		bad := h.bad
		h.mu.Unlock()
		for _, b := range bad {
			if b.volume == i.Name && b.from < off+n && off < b.to {
				return unreadable{max(off, b.from), min(off+n, b.to)}
			}
		}
		f, err := os.Open(i.Path)
		if err != nil {
			return err
		}
		defer f.Close()
		return h.send(w, io.NewSectionReader(f, off, n))
	}
	return os.ErrNotExist
}

//go:embed screen.html
var screenHTML string

var screenPage = template.Must(template.New("screen").Parse(screenHTML))

func (h *Handset) screen(w http.ResponseWriter, _ *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	screenPage.Execute(w, struct {
		Model
		Pulled bool
		Said   string
		Hold   int64 // milliseconds
		Holds  float64
	}{h.m, h.pulled, h.said, h.m.Hold.Milliseconds(), h.m.Hold.Seconds()})
}

// touch is what a person does on the handset.
func (h *Handset) touch(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	seen := h.m.Mode == "running" && h.m.Screen == "works"
	switch what := r.PathValue("what"); {
	case what == "hold":
		ms, _ := strconv.ParseInt(r.FormValue("ms"), 10, 64)
		if time.Duration(ms)*time.Millisecond >= h.m.Hold && len(h.m.Volumes) > 0 {
			h.m.Mode, h.said = "held", "the keys were held long enough"
		} else if len(h.m.Volumes) > 0 {
			h.said = "let go too early: it started again"
		} else {
			h.said = "nothing happened"
		}
	case !seen:
		h.said = "nothing happens"
	case what == "approve" && h.m.Asked:
		h.m.Asked, h.m.Approved, h.said = false, true, "this computer is approved"
	case what == "deny" && h.m.Asked:
		h.m.Asked, h.said = false, "this computer is not approved"
	case what == "code":
		if h.m.Unlocked = r.FormValue("code") == h.m.Code; h.m.Unlocked {
			h.said = "unlocked"
		} else {
			h.said = "wrong code"
		}
	case what == "radios":
		h.m.Radios = !h.m.Radios
		h.said = map[bool]string{true: "radios are on", false: "radios are off"}[h.m.Radios]
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// fault is what goes wrong.
func (h *Handset) fault(w http.ResponseWriter, r *http.Request) {
	n := func(name string) int64 { v, _ := strconv.ParseInt(r.FormValue(name), 10, 64); return v }
	h.mu.Lock()
	defer h.mu.Unlock()
	switch r.PathValue("what") {
	case "pull":
		h.pulled = true
	case "plug":
		h.pulled, h.cut = false, -1
	case "cut":
		h.cut = n("after")
	case "slow":
		h.rate = n("rate")
	case "sector":
		h.bad = append(h.bad, badRange{r.FormValue("volume"), n("from"), n("to")})
	case "battery":
		h.m.Battery = int(n("percent"))
	case "message":
		if err := h.message(); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
	}
	h.said = "done: " + r.PathValue("what")
	http.Redirect(w, r, "/", http.StatusSeeOther)
}
