// Package cloud reads the account of a cloud service: its snapshots of devices
// and the earlier versions of calendars and contacts. Nothing that it can ask
// changes the account. Secrets are arguments, never fields that are printed.
package cloud

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"crosswind/internal/line"
)

// Device is a device of the account.
type Device struct {
	Name   string `json:"name"`
	Mark   string `json:"mark"`
	Serial string `json:"serial"`
	IMEI   string `json:"imei"`
	System string `json:"system"`
}

// Snapshot is what a device was at a time.
type Snapshot struct {
	ID     string    `json:"id"`
	Device Device    `json:"device"`
	Made   time.Time `json:"made"`
	Files  int64     `json:"files"`
	Bytes  int64     `json:"bytes"`
}

// File is a file of a snapshot. Chunks are the SHA-256 of each ChunkSize bytes.
type File struct {
	Path    string    `json:"path"` // absolute, on the device
	Size    int64     `json:"size"`
	Changed line.Time `json:"changed"`
	Chunks  []string  `json:"chunks"`
}

// ChunkSize is the length in bytes of every chunk but the last.
const ChunkSize = 256 << 10

// Version is an earlier version of a calendar or of contacts.
type Version struct {
	ID    string    `json:"id"`
	Kind  string    `json:"kind"` // calendar (iCalendar, RFC 5545) or contacts (vCard, RFC 6350)
	Name  string    `json:"name"`
	At    time.Time `json:"at"`
	Items int       `json:"items"`
	Bytes int64     `json:"bytes"`
}

// Errors of a service.
var (
	ErrSignIn = errors.New("the account, its password or its code is not right")
	ErrToken  = errors.New("the account asks to sign in again")
	ErrGone   = errors.New("the service does not answer")
)

// Service is a cloud service at an address.
type Service struct{ Address string }

var client = &http.Client{Transport: line.Transport{RoundTripper: &http.Transport{ResponseHeaderTimeout: 15 * time.Second, DisableCompression: true}, Quiet: 30 * time.Second}}

// SignIn signs in and gives a token.
func (s Service) SignIn(ctx context.Context, account, password, code string) (token string, err error) {
	b, err := json.Marshal(map[string]string{"account": account, "password": password, "code": code})
	if err != nil {
		return "", err
	}
	req, err := http.NewRequestWithContext(ctx, "POST", s.Address+"/signin", bytes.NewReader(b))
	if err != nil {
		return "", err
	}
	res, err := client.Do(req)
	if err != nil {
		return "", ErrGone // the error could hold what was sent
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusUnauthorized {
		return "", ErrSignIn
	}
	var out struct{ Token string }
	if res.StatusCode != http.StatusOK || json.NewDecoder(io.LimitReader(res.Body, 10_000)).Decode(&out) != nil || out.Token == "" {
		return "", fmt.Errorf("%w: %s", ErrGone, res.Status)
	}
	return out.Token, nil
}

// Account is an account that somebody is signed in to. Waited is told of pauses
// that the service asks for, and of what had to be asked again.
type Account struct {
	Service
	token  string
	Waited func(format string, args ...any)
}

// Account opens the account of a token.
func (s Service) Account(token string, waited func(string, ...any)) *Account {
	return &Account{s, token, waited}
}

// tries is how often something is asked again before it is given up.
const tries = 6

// get asks for something. It waits as long as a service that is busy (429, 503)
// says, and asks again when the line drops.
func (a *Account) get(ctx context.Context, path string, q url.Values, header http.Header, read func(*http.Response) error) error {
	var last error
	for try := range tries {
		req, err := http.NewRequestWithContext(ctx, "GET", a.Address+path+"?"+q.Encode(), nil)
		if err != nil {
			return err
		}
		for k, v := range header {
			req.Header[k] = v
		}
		req.Header.Set("Authorization", "Bearer "+a.token)
		wait := time.Duration(1<<try) * 100 * time.Millisecond
		res, err := client.Do(req)
		if err == nil {
			wait, err = a.answer(res, wait, read)
			if wait == 0 {
				return err
			}
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		last = err
		a.Waited("%v; asked again in %v", err, wait.Round(time.Millisecond))
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(wait):
		}
	}
	return fmt.Errorf("%w after %d tries: %w", ErrGone, tries, last)
}

// answer reads an answer. wait is 0 if it settles the matter, else how long to
// wait before asking again.
func (a *Account) answer(res *http.Response, wait time.Duration, read func(*http.Response) error) (time.Duration, error) {
	defer res.Body.Close()
	switch res.StatusCode {
	case http.StatusOK, http.StatusPartialContent:
		if err := read(res); err != nil {
			var ended endedError
			if errors.As(err, &ended) {
				return 0, ended.error
			}
			return wait, err
		}
		return 0, nil
	case http.StatusUnauthorized:
		return 0, ErrToken
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		if s, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && s >= 0 && s <= 3600 { // RFC 9110 section 10.2.3
			wait = max(time.Millisecond, time.Duration(s)*time.Second)
		}
		return wait, fmt.Errorf("the service is busy (%s)", res.Status)
	}
	return 0, fmt.Errorf("the service answers %s", res.Status)
}

// endedError is an error that asking again does not mend.
type endedError struct{ error }

func (a *Account) list(ctx context.Context, path string, q url.Values, into any) error {
	return a.get(ctx, path, q, nil, func(res *http.Response) error {
		return json.NewDecoder(io.LimitReader(res.Body, 64<<20)).Decode(into)
	})
}

// Snapshots lists the account's snapshots.
func (a *Account) Snapshots(ctx context.Context) (out []Snapshot, err error) {
	return out, a.list(ctx, "/snapshots", nil, &out)
}

// Versions lists the earlier versions of calendars and contacts.
func (a *Account) Versions(ctx context.Context) (out []Version, err error) {
	return out, a.list(ctx, "/versions", nil, &out)
}

// Files lists the files of a snapshot.
func (a *Account) Files(ctx context.Context, snapshot string) (out []File, err error) {
	return out, a.list(ctx, "/files", url.Values{"snapshot": {snapshot}}, &out)
}

// Version opens an earlier version.
func (a *Account) Version(ctx context.Context, id string) (content []byte, err error) {
	err = a.get(ctx, "/version", url.Values{"id": {id}}, nil, func(res *http.Response) error {
		content, err = io.ReadAll(io.LimitReader(res.Body, 64<<20))
		return err
	})
	return content, err
}

// Open reads a file of a snapshot, a chunk at a time by byte ranges (RFC 9110
// section 14), each checked against its digest. A chunk that does not hold is
// read again, and mended is told of it.
func (a *Account) Open(ctx context.Context, snapshot string, f File, mended func(chunk int)) io.Reader {
	return &chunks{ctx: ctx, a: a, snapshot: snapshot, f: f, mended: mended}
}

type chunks struct {
	ctx      context.Context
	a        *Account
	snapshot string
	f        File
	next     int
	buf      []byte
	mended   func(int)
}

func (c *chunks) Read(p []byte) (int, error) {
	for len(c.buf) == 0 {
		if int64(c.next)*ChunkSize >= c.f.Size {
			return 0, io.EOF
		}
		if err := c.fetch(); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.buf)
	c.buf = c.buf[n:]
	return n, nil
}

func (c *chunks) fetch() error {
	from := int64(c.next) * ChunkSize
	to := min(from+ChunkSize, c.f.Size)
	if c.next >= len(c.f.Chunks) {
		return fmt.Errorf("%s: the service names no digest for chunk %d", c.f.Path, c.next+1)
	}
	for range tries {
		var b []byte
		err := c.a.get(c.ctx, "/file", url.Values{"snapshot": {c.snapshot}, "path": {c.f.Path}}, http.Header{"Range": {fmt.Sprintf("bytes=%d-%d", from, to-1)}}, func(res *http.Response) error {
			if got := res.Header.Get("Content-Range"); got != fmt.Sprintf("bytes %d-%d/%d", from, to-1, c.f.Size) {
				return endedError{fmt.Errorf("%s: the service answers with the range %q", c.f.Path, got)}
			}
			b = make([]byte, to-from)
			_, err := io.ReadFull(res.Body, b)
			return err
		})
		if err != nil {
			return err
		}
		sum := sha256.Sum256(b)
		if hex.EncodeToString(sum[:]) == c.f.Chunks[c.next] {
			c.buf = b
			c.next++
			return nil
		}
		c.mended(c.next)
	}
	return fmt.Errorf("%s: chunk %d does not match its digest, however often it is read", c.f.Path, c.next+1)
}
