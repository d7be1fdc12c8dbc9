package acquire

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"

	"crosswind/core/backup"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// content puts what the files of a backup hold into the vault, beside the files
// themselves. What is there already is not read again.
func (q *Acquirer) content(ctx context.Context, t *run.Task, a *store.Acquisition, b *backup.Backup) (err error) {
	err = each(ctx, q, t, a, b.Files, func(ctx context.Context, f backup.File) ([]store.AcquisitionFault, error) {
		kept, err := q.Store.FileByPath(ctx, a.ID, store.Content, f.Stored)
		if err == nil && q.Vault.Has(kept.SHA256, kept.Size) {
			t.Done(kept.Size, 1)
			return asFault(f.Stored, differs(f, kept)), nil
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		fault, err := q.contentFile(ctx, t, a, b, f)
		if errors.Is(err, vault.ErrFull) {
			err = q.full(ctx, a, f.Path, err)
		}
		if err != nil || fault == "" {
			return nil, err
		}
		t.Logf("%s: %s", f.Stored, fault)
		return asFault(f.Stored, fault), nil
	})
	if err != nil {
		return err
	}
	if a.ContentManifest, err = q.manifest(ctx, a.ID, store.Content); err != nil {
		return err
	}
	if now := time.Now(); a.Encrypted() { // what was never locked was not unlocked
		a.UnlockedAt = &now
	}
	return nil
}

// differs says how the content of a file is not what the backup says.
func differs(f backup.File, kept *store.File) string {
	if f.SHA256 == "" || f.SHA256 == kept.SHA256 {
		return ""
	}
	return "the SHA-256 of its content is " + kept.SHA256 + ", the backup says " + f.SHA256
}

// asFault is a fault as a list, empty for none.
func asFault(path, what string) []store.AcquisitionFault {
	if what == "" {
		return nil
	}
	return []store.AcquisitionFault{{Path: path, Fault: what}}
}

// contentFile keeps one file's content. A fault is the file's; err ends the run.
func (q *Acquirer) contentFile(ctx context.Context, t *run.Task, a *store.Acquisition, b *backup.Backup, f backup.File) (fault string, err error) {
	in, err := b.Content(f)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil // told already: missing
	}
	if err != nil {
		return err.Error(), nil
	}
	defer in.Close()
	changed := f.Changed
	out, size := &store.File{AcquisitionID: a.ID, Content: true, Path: f.Stored, RealPath: f.Path, ModifiedAt: &changed}, int64(-1)
	if f.At >= 0 {
		out.ArchiveAt, size = &f.At, f.Size
	}
	err = q.keep(ctx, t, out, in, size)
	if ctx.Err() != nil || errors.Is(err, errKeeping) || errors.Is(err, vault.ErrWrite) {
		return "", err
	}
	if err != nil {
		return err.Error(), nil
	}
	return differs(f, out), nil
}

// contentAct is the ledger's entry for the content of a backup: unlocked if it was
// encrypted, else read.
func contentAct(c *store.Case, t *run.Task, a *store.Acquisition, name string, faults int) store.Act {
	what := "backup.content_read"
	switch {
	case a.Encrypted():
		what = "backup.unlocked"
	case a.Method == MethodStorage || a.Method == MethodImage:
		what = "image.content_read"
	}
	return store.Act{Book: c.Book(), By: t.Run.By, What: what, On: name,
		Detail: map[string]string{"manifest_sha256": a.ContentManifest, "faults": fmt.Sprint(faults)}}
}

// UnlockSubject is what runs of the kinds "unlock" and "try passwords" need to
// know. Neither key nor password is in it.
type UnlockSubject struct {
	Exhibit     int64  `json:"exhibit"`
	Acquisition int64  `json:"acquisition"`
	Name        string `json:"name"` // of the acquisition, for the ledger
}

// Unlock decrypts every file of an acquisition into the vault, beside the
// encrypted ones.
func (q *Acquirer) Unlock(ctx context.Context, t *run.Task) error {
	var sub UnlockSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	k := q.Keys.key(sub.Acquisition)
	if k == nil {
		return errors.New("the key is not in memory: it is forgotten when the application ends. Give the password again in Recover")
	}
	c, a, err := q.Store.AcquisitionOfRun(ctx, t.Run, sub.Acquisition)
	if err != nil {
		return err
	}
	fsys, name, err := q.acquired(ctx, a)
	if err != nil {
		return err
	}
	b, err := backup.Open(fsys, name, k)
	if err != nil {
		return fmt.Errorf("opening the backup with its key: %w", err)
	}
	defer b.Close()
	var faults []store.AcquisitionFault
	for _, f := range b.Faults {
		faults = append(faults, store.AcquisitionFault{Path: f.Path, Fault: f.What})
	}
	var total int64
	for _, f := range b.Files {
		total += f.Size
	}
	t.Total(total, int64(len(b.Files)))
	if err := q.Store.AddFaults(ctx, t.Run, a, faults); err != nil {
		return err
	}
	if err := q.content(ctx, t, a, b); err != nil {
		return err
	}
	if err := q.within(ctx, t, a); err != nil {
		return err
	}
	if err := q.MatchKnown(ctx, t.Run, c, a.ID); err != nil {
		return err
	}
	all, err := q.Store.AcquisitionFaults(ctx, a.ID)
	if err != nil {
		return err
	}
	t.Logf("the content of %d files is in the vault, manifest SHA-256 %s", len(b.Files), a.ContentManifest)
	if err := q.Store.EndAcquisition(ctx, t.Run, a, nil, contentAct(c, t, a, sub.Name, len(all))); err != nil {
		return err
	}
	q.Keys.forget(sub.Acquisition)
	return nil
}

// acquired shows an acquisition's own files under the paths that they had below
// their source, and gives the name by which the backup is opened.
func (q *Acquirer) acquired(ctx context.Context, a *store.Acquisition) (vaultFS, string, error) {
	v, name := newVaultFS(q.Vault), "."
	var l backup.Label
	if err := json.Unmarshal(a.Facts, &l); err != nil {
		return v, name, fmt.Errorf("the label of the acquisition: %w", err)
	}
	for f, err := range q.Store.AllFiles(ctx, a.ID, store.Source) {
		if err != nil {
			return v, name, err
		}
		v.add(f.Path, blobFile{f.SHA256, f.Size, f.CheckedAt})
		if backup.Extension(l.Layout) != "" {
			name = path.Base(f.Path)
		}
	}
	return v, name, nil
}
