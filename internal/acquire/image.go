package acquire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"crosswind/core/storage"
	"crosswind/core/volume"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// images puts what the storage images of an acquisition hold into the vault, beside the images themselves: the live
// files of their volumes and, unless live records only were chosen, the deleted ones and those that are carved.
// What is there already is not read again.
func (q *Acquirer) images(ctx context.Context, t *run.Task, a *store.Acquisition) error {
	var all []store.File
	for f, err := range q.Store.AllFiles(ctx, a.ID, store.Source) {
		if err != nil {
			return err
		}
		if strings.HasSuffix(f.Path, ImageEnding) {
			all = append(all, *f)
		}
	}
	for _, f := range all {
		if err := q.image(ctx, t, a, &f); err != nil {
			return err
		}
	}
	if len(all) == 0 {
		return nil
	}
	var err error
	a.ContentManifest, err = q.manifest(ctx, a.ID, store.Content)
	return err
}

// ImageEnding is how the name of a storage image ends.
const ImageEnding = ".img"

// image puts what one image holds into the vault.
func (q *Acquirer) image(ctx context.Context, t *run.Task, a *store.Acquisition, f *store.File) error {
	b, err := q.Vault.Open(f.SHA256)
	if err != nil {
		return err
	}
	defer b.Close()
	counts := map[storage.State]int{}
	taken := map[string]bool{}
	opt := storage.Options{Full: !a.LiveOnly, Seen: func(int64) bool { return ctx.Err() == nil }, Note: func(err error) {
		t.Logf("%s: %s", f.Path, asText(err.Error()))
	}}
	for x, err := range storage.Files(b, f.Size, opt) {
		if err == nil && ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		if err != nil {
			return fmt.Errorf("reading %s: %w", f.Path, err)
		}
		if a.LiveOnly && x.State != storage.Live {
			continue
		}
		counts[x.State]++
		if err := q.imageFile(ctx, t, a, f, b, x, taken); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	t.Logf("%s holds %d live, %d deleted and %d carved files", f.Path, counts[storage.Live], counts[storage.Deleted], counts[storage.Carved])
	return nil
}

// imageFile puts a file of an image into the vault, under a path that tells how it was found.
func (q *Acquirer) imageFile(ctx context.Context, t *run.Task, a *store.Acquisition, in *store.File, image io.ReaderAt, x *storage.File, taken map[string]bool) error {
	at := fmt.Sprintf("%s!/volume-%d/%s%s", in.Path, x.Volume, x.State, x.Path)
	if len(at) > maxImagePath {
		at = strings.ToValidUTF8(at[:maxImagePath], "")
	}
	if taken[at] { // several deleted files may have been called the same
		at = fmt.Sprintf("%s (entry at %d)", at, x.Entry.Offset)
	}
	taken[at] = true
	if kept, err := q.Store.FileByPath(ctx, a.ID, store.Content, at); err == nil && q.Vault.Has(kept.SHA256, kept.Size) {
		return nil
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	found := &store.Found{Image: in.Path, Volume: x.Volume, State: string(x.State), Complete: string(x.Complete), Why: x.Why, Changed: x.Modified.Local, Extents: [][2]int64{}}
	stored := int64(0)
	for _, e := range x.Extents {
		if found.Extents = append(found.Extents, [2]int64{e.Offset, e.Length}); e.Offset != volume.Hole {
			stored += e.Length
		}
	}
	if x.Size-stored > 1<<30 {
		return q.Store.AddFaults(ctx, t.Run, a, asFault(at, fmt.Sprintf("it claims %d bytes, of which %d are stored, and is not read", x.Size, stored)))
	}
	out := &store.File{AcquisitionID: a.ID, Content: true, Path: at, RealPath: realPath(in.Path, x, at), ModifiedAt: x.Modified.At, Found: found}
	err := q.keep(ctx, t, out, x.Reader(image), -1)
	switch {
	case errors.Is(err, vault.ErrFull):
		return q.full(ctx, a, at, err)
	case err == nil:
		t.More(out.Size, 1)
		return nil
	case ctx.Err() != nil || errors.Is(err, errKeeping) || errors.Is(err, vault.ErrWrite):
		return err
	}
	return q.Store.AddFaults(ctx, t.Run, a, asFault(at, asText(err.Error())))
}

const maxImagePath = 2048

// realPath is the path of a live file as the handset knew it: its data volume is its root, others lie below their
// names. What is not live lies nowhere on it.
func realPath(image string, x *storage.File, at string) string {
	name := strings.TrimSuffix(image, ImageEnding)
	switch {
	case x.State != storage.Live || x.Volume != 1:
		return "/" + at
	case name == "data":
		return x.Path
	}
	return "/" + name + x.Path
}
