// Package handset talks to handsets that are connected by cable. What can be
// asked of one is all here: there is no call that writes to it or erases it.
package handset

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"strings"
	"time"

	"crosswind/internal/line"
)

// State is what a handset says of itself.
type State struct {
	Name     string    `json:"name"`
	Family   string    `json:"family"`
	Mark     string    `json:"mark"`
	Serial   string    `json:"serial"`
	IMEI     string    `json:"imei"`
	System   string    `json:"system"`
	Mode     string    `json:"mode"` // running, restarting, held (keys are held), service
	Screen   string    `json:"screen"`
	Asked    bool      `json:"asked"`    // it shows the question whether this computer is approved
	Approved bool      `json:"approved"` // this computer is
	Unlocked bool      `json:"unlocked"` // its code has been entered
	Radios   bool      `json:"radios"`   // on
	Battery  int       `json:"battery"`  // percent
	Clock    time.Time `json:"clock"`
}

// Ready reports whether files can be read from the running handset.
func (s *State) Ready() bool { return s.Mode == "running" && s.Approved && s.Unlocked }

// Entry is a file of the handset.
type Entry struct {
	Path    string    `json:"path"` // absolute
	Size    int64     `json:"size"`
	Changed line.Time `json:"changed"`
}

// Volume is a part of the handset's raw storage.
type Volume struct {
	Name string `json:"name"`
	Size int64  `json:"size"`
	Kind string `json:"kind"` // what it is formatted with, as the handset says
}

// Errors of a link.
var (
	ErrGone     = errors.New("the handset does not answer: is the cable in?")
	ErrRefused  = errors.New("the handset refuses")
	ErrUnread   = errors.New("the handset cannot read these blocks")
	ErrNotThere = errors.New("the handset has no such file any more")
)

// Link is the cable to one handset.
type Link struct{ Address string }

var client = &http.Client{Transport: line.Transport{RoundTripper: &http.Transport{MaxIdleConnsPerHost: 4, ResponseHeaderTimeout: 10 * time.Second, DisableCompression: true}, Quiet: 30 * time.Second}}

func (l Link) ask(ctx context.Context, method, path string, q url.Values, body any) (*http.Response, error) {
	var send io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		send = bytes.NewReader(b)
	}
	at := l.Address + path
	if q != nil {
		at += "?" + q.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, at, send)
	if err != nil {
		return nil, err
	}
	res, err := client.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, fmt.Errorf("%w (%w)", ErrGone, err)
	}
	if res.StatusCode == http.StatusOK {
		return res, nil
	}
	defer res.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(res.Body, 500))
	why := ErrRefused
	switch res.StatusCode {
	case http.StatusNotFound:
		why = ErrNotThere
	case http.StatusInternalServerError:
		why = ErrUnread
	}
	return nil, fmt.Errorf("%w: %s", why, strings.TrimSpace(string(said)))
}

func (l Link) read(ctx context.Context, method, path string, q url.Values, body, into any) error {
	res, err := l.ask(ctx, method, path, q, body)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if into == nil {
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(into); err != nil {
		return fmt.Errorf("%w (%w)", ErrGone, err)
	}
	return nil
}

// State asks how the handset is.
func (l Link) State(ctx context.Context) (*State, error) {
	s := &State{}
	ctx, cancel := context.WithTimeout(ctx, 800*time.Millisecond)
	defer cancel()
	return s, l.read(ctx, "GET", "/link/state", nil, nil, s)
}

// Ask has the handset ask on its screen whether this computer is approved.
func (l Link) Ask(ctx context.Context) error { return l.read(ctx, "POST", "/link/ask", nil, nil, nil) }

// maxNamed bounds the paths that a handset may list, in bytes: a list without an end must
// have one.
const maxNamed = 256 << 20

// Tree yields the files of the running handset.
func (l Link) Tree(ctx context.Context) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		res, err := l.ask(ctx, "GET", "/link/tree", nil, nil)
		if err != nil {
			yield(Entry{}, err)
			return
		}
		defer res.Body.Close()
		lines := bufio.NewScanner(res.Body)
		lines.Buffer(nil, 64<<10)
		whole, named := false, int64(0)
		for lines.Scan() {
			var e Entry
			if lines.Text() == "end" {
				whole = true
				break
			}
			if err := json.Unmarshal(lines.Bytes(), &e); err != nil || e.Size < 0 {
				continue // a line that is none costs one file
			}
			if named += int64(len(e.Path)); named > maxNamed {
				yield(Entry{}, fmt.Errorf("the handset's list of files names more than %d bytes of paths", maxNamed))
				return
			}
			if !yield(e, nil) {
				return
			}
		}
		if !whole {
			yield(Entry{}, fmt.Errorf("%w: its list of files broke off", ErrGone))
		}
	}
}

// File opens a file of the running handset. What breaks off is ErrGone.
func (l Link) File(ctx context.Context, path string) (io.ReadCloser, error) {
	res, err := l.ask(ctx, "GET", "/link/file", url.Values{"path": {path}}, nil)
	if err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{broken{ctx, res.Body}, res.Body}, nil
}

// broken says of a line that drops what it is.
type broken struct {
	ctx context.Context
	r   io.Reader
}

func (b broken) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if err != nil && err != io.EOF {
		if b.ctx.Err() != nil {
			return n, context.Cause(b.ctx)
		}
		err = fmt.Errorf("%w (%w)", ErrGone, err)
	}
	return n, err
}

// Backup has the running handset make a local backup of itself and send it: a
// tar archive of its folder, or its single archive, by the family. With a password
// it is encrypted.
func (l Link) Backup(ctx context.Context, password string) (io.ReadCloser, error) {
	res, err := l.ask(ctx, "POST", "/link/backup", nil, map[string]string{"password": password})
	if err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{broken{ctx, res.Body}, res.Body}, nil
}

// Enter opens service mode on a handset whose keys are held. mark must be its
// exact model mark: a wrong one is refused, and nothing happens.
func (l Link) Enter(ctx context.Context, mark string) error {
	return l.read(ctx, "POST", "/service/enter", nil, map[string]string{"mark": mark}, nil)
}

// Volumes lists the raw storage in service mode.
func (l Link) Volumes(ctx context.Context) (v []Volume, err error) {
	return v, l.read(ctx, "GET", "/service/volumes", nil, nil, &v)
}

// Blocks reads len(p) bytes of a volume at an offset. Blocks that the handset
// cannot read are ErrUnread, and then nothing of p is to be used.
func (l Link) Blocks(ctx context.Context, volume string, offset int64, p []byte) error {
	res, err := l.ask(ctx, "GET", "/service/blocks", url.Values{"volume": {volume}, "offset": {fmt.Sprint(offset)}, "length": {fmt.Sprint(len(p))}}, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if _, err := io.ReadFull(broken{ctx, res.Body}, p); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return fmt.Errorf("%w (%w)", ErrGone, err)
	}
	return nil
}
