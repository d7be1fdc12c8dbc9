package acquire

import (
	"context"
	"errors"
	"io"

	"crosswind/core/fieldmap"
	"crosswind/core/reading"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// within puts the databases into the vault that lie in archives among the files of an acquisition, and in backups that
// apps made of themselves; they are its content, beside that of the backup that it may be of. What is there already is
// not read again.
func (q *Acquirer) within(ctx context.Context, t *run.Task, a *store.Acquisition) (err error) {
	var all []store.File
	some := false
	byPath := map[string]*reading.File{}
	for f, err := range q.Store.AllFiles(ctx, a.ID, store.Both) {
		if err != nil {
			return err
		}
		if f.RealPath == "" {
			continue
		}
		all = append(all, *f)
		byPath[f.RealPath] = &reading.File{Path: f.RealPath, Stored: f.Path, Size: f.Size, SHA256: f.SHA256, Open: func() (reading.Bytes, error) { return q.Vault.Open(f.SHA256) }}
	}
	find := func(path string) *reading.File { return byPath[path] }
	for _, f := range all {
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
		head, err := q.head(f.SHA256)
		if err != nil {
			return err
		}
		err = reading.Within(byPath[f.RealPath], head, find, fieldmap.Maps, func(path string, r io.Reader) error {
			some = true
			at := f.Path + reading.Inside + path
			if kept, err := q.Store.FileByPath(ctx, a.ID, store.Content, at); err == nil && q.Vault.Has(kept.SHA256, kept.Size) {
				return nil
			} else if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			out := &store.File{AcquisitionID: a.ID, Content: true, Path: at, RealPath: f.RealPath + reading.Inside + path, ModifiedAt: f.ModifiedAt}
			if f.Found != nil { // it is no more alive than the file that it lies in
				in := *f.Found
				in.Extents = [][2]int64{}
				out.Found = &in
			}
			err := q.keep(ctx, t, out, r, -1)
			if err == nil {
				t.More(out.Size, 1)
			}
			switch {
			case errors.Is(err, vault.ErrFull):
				return q.full(ctx, a, at, err)
			case err == nil || ctx.Err() != nil || errors.Is(err, errKeeping) || errors.Is(err, vault.ErrWrite):
				return err
			}
			return &reading.ContentError{Why: err}
		})
		if why := (*reading.ContentError)(nil); errors.As(err, &why) {
			t.Logf("%s: %s", f.Path, asText(why.Error()))
			err = q.Store.AddFaults(ctx, t.Run, a, asFault(f.Path, asText(why.Error())))
		}
		if err != nil {
			return err
		}
	}
	if some {
		a.ContentManifest, err = q.manifest(ctx, a.ID, store.Content)
	}
	return err
}

// head is how a file of the vault begins.
func (q *Acquirer) head(sha256 string) ([]byte, error) {
	b, err := q.Vault.Open(sha256)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	head := make([]byte, reading.HeadLength)
	n, err := io.ReadFull(b, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	return head[:n], nil
}
