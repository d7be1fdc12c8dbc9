// Package unlock opens the encrypted backups that were acquired. A password is
// tried and forgotten; the key that it opens is kept in memory until the run
// that needs it ends, and nowhere else.
package unlock

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"sync"

	"crosswind/core/backup"
	"crosswind/core/digest"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Unlocker unlocks acquisitions.
type Unlocker struct {
	Store *store.Store
	Vault *vault.Vault
	mu    sync.Mutex
	keys  map[int64]*backup.Key // by acquisition
}

// Subject is what a run of kind "unlock" needs to know. The key is not in it.
type Subject struct {
	Exhibit     int64  `json:"exhibit"`
	Acquisition int64  `json:"acquisition"`
	Name        string `json:"name"` // of the acquisition, for the ledger
}

// Try tries a password on an acquisition and, if it opens it, keeps the key in
// memory. A wrong one is backup.ErrPassword.
func (u *Unlocker) Try(a *store.Acquisition, password string) error {
	var l backup.Label
	if err := json.Unmarshal(a.Facts, &l); err != nil {
		return fmt.Errorf("the label of the acquisition: %w", err)
	}
	if !l.Encrypted {
		return errors.New("this acquisition is not encrypted")
	}
	k, err := l.Lock.Unlock(password)
	if err != nil {
		return err
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.keys == nil {
		u.keys = map[int64]*backup.Key{}
	}
	u.keys[a.ID] = k
	return nil
}

func (u *Unlocker) key(acquisition int64) *backup.Key {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.keys[acquisition]
}

func (u *Unlocker) forget(acquisition int64) {
	u.mu.Lock()
	defer u.mu.Unlock()
	delete(u.keys, acquisition)
}

// Unlock decrypts every file of an acquisition into the vault, beside the
// encrypted ones. What is there already is not decrypted again.
func (u *Unlocker) Unlock(ctx context.Context, t *run.Task) error {
	var sub Subject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	k := u.key(sub.Acquisition)
	if k == nil {
		return errors.New("the key is not in memory: it is forgotten when the application ends. Give the password again in Recover")
	}
	c, a, err := u.Store.AcquisitionOfRun(ctx, t.Run, sub.Acquisition)
	if err != nil {
		return err
	}
	sealed, err := u.files(ctx, a.ID)
	if err != nil {
		return err
	}
	b, err := backup.OpenWith(sealed, k)
	if err != nil {
		return fmt.Errorf("opening the backup with its key: %w", err)
	}
	var faults []store.AcquisitionFault
	for _, f := range b.Faults {
		faults = append(faults, store.AcquisitionFault{Path: f.Path, Fault: f.What})
	}
	t.Total(b.Bytes, int64(len(b.Files)))
	kept := map[string]store.File{}
	old, err := u.Store.Content(ctx, a.ID)
	if err != nil {
		return err
	}
	for _, f := range old {
		kept[f.Path] = f
	}
	for _, f := range b.Files {
		if o, ok := kept[f.Stored]; ok && u.Vault.Has(o.SHA256, o.Size) {
			t.Done(o.Size, 1)
			continue
		}
		fault, err := u.file(ctx, t, a, sealed, f, k)
		if err != nil {
			return err
		}
		if fault != "" {
			t.Logf("%s: %s", f.Stored, fault)
			faults = append(faults, store.AcquisitionFault{Path: f.Stored, Fault: fault})
		}
	}
	if err := u.end(ctx, t, c, a, sub.Name, faults); err != nil {
		return err
	}
	u.forget(sub.Acquisition)
	return nil
}

// file decrypts one file. A fault is the file's; err ends the run.
func (u *Unlocker) file(ctx context.Context, t *run.Task, a *store.Acquisition, sealed vaultFS, f backup.File, k *backup.Key) (fault string, err error) {
	in, err := sealed.Open(f.Stored)
	if err != nil {
		return "", nil // told already: missing
	}
	defer in.Close()
	set, err := u.Vault.Put(ctx, k.Decrypt(in), func(n int) { t.Done(int64(n), 0) })
	if ctx.Err() != nil {
		return "", err
	}
	if err != nil {
		return err.Error(), nil
	}
	changed := f.Changed
	out := &store.File{AcquisitionID: a.ID, Path: f.Stored, RealPath: f.Path, Size: set.Size, ModifiedAt: &changed}
	out.MD5, out.SHA1, out.SHA256 = set.Hex()
	t.Done(0, 1)
	if f.SHA256 != "" && f.SHA256 != out.SHA256 {
		fault = "the SHA-256 of its content is " + out.SHA256 + ", the backup's catalogue says " + f.SHA256
	}
	return fault, u.Store.AddContent(ctx, out)
}

func (u *Unlocker) end(ctx context.Context, t *run.Task, c *store.Case, a *store.Acquisition, name string, faults []store.AcquisitionFault) error {
	files, err := u.Store.Content(ctx, a.ID)
	if err != nil {
		return err
	}
	h := sha256.New()
	for _, f := range files {
		io.WriteString(h, digest.Line{Sum: f.SHA256, Path: f.Path}.String()+"\n")
	}
	a.ContentManifest = hex.EncodeToString(h.Sum(nil))
	t.Logf("the content of %d files is in the vault, manifest SHA-256 %s", len(files), a.ContentManifest)
	return u.Store.EndUnlock(ctx, t.Run, a, faults, store.Act{Book: c.Book(), By: t.Run.By, What: "backup.unlocked", On: name,
		Detail: map[string]string{"files": fmt.Sprint(len(files)), "manifest_sha256": a.ContentManifest, "faults": fmt.Sprint(len(faults))}})
}

// vaultFS gives the files of an acquisition from the vault, under the paths
// that they had below their source.
type vaultFS struct {
	vault *vault.Vault
	files map[string]string // path to SHA-256
}

func (u *Unlocker) files(ctx context.Context, acquisition int64) (vaultFS, error) {
	v := vaultFS{u.Vault, map[string]string{}}
	for f, err := range u.Store.AllFiles(ctx, acquisition) {
		if err != nil {
			return v, err
		}
		v.files[f.Path] = f.SHA256
	}
	return v, nil
}

// Open opens a file.
func (v vaultFS) Open(name string) (fs.File, error) {
	sum, ok := v.files[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return v.vault.Open(sum)
}

// ReadDir lists the files of a folder.
func (v vaultFS) ReadDir(name string) ([]fs.DirEntry, error) {
	var out []fs.DirEntry
	for p := range v.files {
		if rest, ok := strings.CutPrefix(p, name+"/"); ok && !strings.Contains(rest, "/") {
			st, err := fs.Stat(v, p)
			if err != nil {
				return nil, err
			}
			out = append(out, entry{fs.FileInfoToDirEntry(st), rest})
		}
	}
	return out, nil
}

// entry is a file under its own name, not the vault's.
type entry struct {
	fs.DirEntry
	name string
}

// Name is the file's name.
func (e entry) Name() string { return e.name }
