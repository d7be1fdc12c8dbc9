package acquire

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"crosswind/internal/cloud"
	"crosswind/internal/handset"
	"crosswind/internal/store"
)

// original is the source of an acquisition, open to be read once more.
type original struct {
	io.Closer
	open func(*store.File) (io.ReadCloser, error)
}

// original opens the source that an acquisition was read from, whatever it was.
func (q *Acquirer) original(ctx context.Context, by *store.Run, c *store.Case, a *store.Acquisition) (*original, error) {
	r, err := q.Store.RunByID(ctx, a.RunID)
	if err != nil {
		return nil, err
	}
	switch r.Kind {
	case "acquire handset", "acquire storage":
		var sub HandsetSubject
		if err := json.Unmarshal(r.Subject, &sub); err != nil {
			return nil, err
		}
		if err := q.sameHandset(ctx, a, sub.Address); err != nil {
			return nil, err
		}
		if r.Kind == "acquire storage" {
			return q.originalStorage(ctx, sub)
		}
		return q.originalFiles(ctx, c, handsetScheme+sub.Address)
	case "acquire image":
		var sub ImageSubject
		if err := json.Unmarshal(r.Subject, &sub); err != nil {
			return nil, err
		}
		return &original{io.NopCloser(nil), func(f *store.File) (io.ReadCloser, error) {
			if f.Path != sub.name() {
				return nil, fmt.Errorf("%s is no file of the source", f.Path)
			}
			return openRegular(sub.Path)
		}}, nil
	case "acquire cloud":
		var sub CloudSubject
		if err := json.Unmarshal(r.Subject, &sub); err != nil {
			return nil, err
		}
		return q.originalCloud(ctx, by, sub)
	}
	var sub BackupSubject
	if err := json.Unmarshal(r.Subject, &sub); err != nil {
		return nil, err
	}
	return q.originalFiles(ctx, c, sub.Address)
}

// originalFiles opens a source of files.
func (q *Acquirer) originalFiles(ctx context.Context, c *store.Case, address string) (*original, error) {
	src, err := q.Open(ctx, c.ID, address)
	if err != nil {
		return nil, err
	}
	return &original{src, func(f *store.File) (io.ReadCloser, error) {
		path, _, earlier := strings.Cut(f.Path, "@")
		if earlier && f.RealPath == "" && strings.HasPrefix(address, handsetScheme) {
			return nil, fmt.Errorf("it is an earlier reading of %s, which changed on the handset since", path)
		}
		return src.FS.Open(f.Path)
	}}, nil
}

// sameHandset says why what is connected at an address is not the handset that was
// acquired.
func (q *Acquirer) sameHandset(ctx context.Context, a *store.Acquisition, address string) error {
	st, err := handset.Link{Address: address}.State(ctx)
	if err != nil {
		return err
	}
	var was struct {
		Device struct{ Serial string }
	}
	if err := json.Unmarshal(a.Facts, &was); err != nil {
		return fmt.Errorf("the label of the acquisition: %w", err)
	}
	if was.Device.Serial != "" && st.Serial != "" && st.Serial != was.Device.Serial {
		return fmt.Errorf("the handset with the serial %s is connected, acquired was %s", st.Serial, was.Device.Serial)
	}
	return nil
}

// originalStorage reads the volumes of a handset in service mode again. What cannot be read
// is zeros, as it was when it was acquired.
func (q *Acquirer) originalStorage(ctx context.Context, sub HandsetSubject) (*original, error) {
	l := handset.Link{Address: sub.Address}
	volumes, err := l.Volumes(ctx)
	if err != nil {
		return nil, fmt.Errorf("listing the handset's volumes: %w", err)
	}
	return &original{io.NopCloser(nil), func(f *store.File) (io.ReadCloser, error) {
		for _, v := range volumes {
			if filepath.Base(v.Name)+".img" != f.Path {
				continue
			}
			r, w := io.Pipe()
			go func() {
				all := &blocks{link: l, v: v, unread: func(int64, int64) error { return nil }}
				for b, err := range all.ahead(ctx, 0) {
					if err == nil {
						_, err = w.Write(b)
					}
					if err != nil {
						w.CloseWithError(err)
						return
					}
				}
				w.Close()
			}()
			return r, nil
		}
		return nil, errors.New("the handset has no such volume any more")
	}}, nil
}

// originalCloud downloads what was downloaded again, with the sign-in of who asks for it.
func (q *Acquirer) originalCloud(ctx context.Context, by *store.Run, sub CloudSubject) (*original, error) {
	token := q.Keys.Token(sub.Exhibit, by.By)
	if token == "" {
		return nil, fmt.Errorf("%s is not signed in to the account %s: sign in on Acquire, and check then", by.By, sub.Account)
	}
	acc := cloud.Service{Address: sub.Service}.Account(token, func(string, ...any) {})
	if sub.Snapshot == nil {
		return &original{io.NopCloser(nil), func(f *store.File) (io.ReadCloser, error) {
			for i := range sub.Versions {
				if versionPath(&sub.Versions[i]) == f.Path {
					b, err := acc.Version(ctx, sub.Versions[i].ID)
					return io.NopCloser(bytes.NewReader(b)), err
				}
			}
			return nil, errors.New("the account has no such version any more")
		}}, nil
	}
	files, err := acc.Files(ctx, sub.Snapshot.ID)
	if err != nil {
		return nil, fmt.Errorf("listing the snapshot's files: %w", err)
	}
	return &original{io.NopCloser(nil), func(f *store.File) (io.ReadCloser, error) {
		for _, x := range files {
			if strings.TrimPrefix(filepath.Clean("/"+x.Path), "/") == f.Path {
				return io.NopCloser(acc.Open(ctx, sub.Snapshot.ID, x, func(int) {})), nil
			}
		}
		return nil, errors.New("the snapshot has no such file any more")
	}}, nil
}
