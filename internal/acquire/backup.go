package acquire

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"crosswind/core/backup"
	"crosswind/core/digest"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Method is how the acquisition of a local backup is named in reports.
const Method = "local backup, file by file"

// Acquirer acquires sources and checks acquisitions.
type Acquirer struct {
	Store *store.Store
	Vault *vault.Vault
	Tool  string // name and version
	Roots []string
}

// BackupSubject is what a run of kind "acquire backup" needs to know.
type BackupSubject struct {
	Exhibit   int64  `json:"exhibit"`
	Reference string `json:"reference"`
	Path      string `json:"path"`
}

// Backup acquires a local backup: every file of its folder, as it is, into the
// vault. Files that are kept already are not read again, so a run that broke
// off goes on where it was.
func (q *Acquirer) Backup(ctx context.Context, t *run.Task) error {
	var sub BackupSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, err := q.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(sub.Path)
	if err != nil {
		return fmt.Errorf("opening the backup: %w", err)
	}
	defer root.Close()
	label, err := backup.ReadLabel(root.FS())
	if err != nil {
		return fmt.Errorf("%s: %w", sub.Path, err)
	}
	facts, err := json.Marshal(label)
	if err != nil {
		return err
	}
	a, err := q.Store.AcquisitionForRun(ctx, c, store.Acquisition{ExhibitID: sub.Exhibit, RunID: t.Run.ID, Method: Method, Source: sub.Path, Facts: facts,
		Tool: q.Tool, Settings: "all files of the folder; MD5, SHA-1, SHA-256 and CRC-32C of each MiB in one pass; links not followed", By: t.Run.By, StartedAt: time.Now()})
	if err != nil {
		return err
	}
	files, others, err := tree(root)
	if err != nil {
		return fmt.Errorf("listing %s: %w", sub.Path, err)
	}
	var total int64
	for _, f := range files {
		total += f.size
	}
	t.Total(total, int64(len(files)))
	t.Logf("%d files, %d bytes in %s", len(files), total, sub.Path)
	var faults []store.AcquisitionFault
	for _, p := range others {
		faults = append(faults, store.AcquisitionFault{Path: p, Fault: "not a regular file that can be read; it was not taken"})
	}
	b, err := backup.Open(root.FS())
	known := map[string]backup.File{}
	if err != nil {
		faults = append(faults, store.AcquisitionFault{Path: backup.CatalogueName, Fault: err.Error()})
	} else {
		for _, f := range b.Files {
			known[f.Stored] = f
		}
		for _, f := range b.Faults {
			faults = append(faults, store.AcquisitionFault{Path: f.Path, Fault: f.What})
		}
	}
	for _, f := range files {
		kf, err := q.file(ctx, t, root, a, f, known[f.path])
		if ctx.Err() != nil {
			return err
		}
		if err != nil {
			if errors.Is(err, errVault) {
				return err
			}
			t.Logf("%s: %v", f.path, err)
			faults = append(faults, store.AcquisitionFault{Path: f.path, Fault: err.Error()})
			continue
		}
		if k := known[f.path]; k.SHA256 != "" && k.SHA256 != kf.SHA256 {
			faults = append(faults, store.AcquisitionFault{Path: f.path, Fault: "its SHA-256 is " + kf.SHA256 + ", the backup's catalogue says " + k.SHA256})
		}
	}
	return q.end(ctx, t, c, a, faults)
}

// errVault is wrapped where the fault is not the source's.
var errVault = errors.New("keeping what was read")

// file acquires one file, or finds that it is kept already.
func (q *Acquirer) file(ctx context.Context, t *run.Task, root *os.Root, a *store.Acquisition, f sourceFile, known backup.File) (*store.File, error) {
	kept, err := q.Store.FileByPath(ctx, a.ID, f.path)
	if err == nil && q.Vault.Has(kept.SHA256, kept.Size) {
		t.Done(kept.Size, 1)
		return kept, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("%w: %w", errVault, err)
	}
	r, err := root.Open(filepath.FromSlash(f.path))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	st, err := r.Stat()
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, errors.New("is no regular file any more")
	}
	set, err := q.Vault.Put(ctx, r, func(n int) { t.Done(int64(n), 0) })
	if err != nil {
		return nil, err
	}
	t.Done(0, 1)
	mod := st.ModTime().UTC()
	if !known.Changed.IsZero() {
		mod = known.Changed
	}
	out := &store.File{AcquisitionID: a.ID, Path: f.path, RealPath: known.Path, Size: set.Size, Segments: packSegments(set), ModifiedAt: &mod, CheckedAt: time.Now()}
	out.MD5, out.SHA1, out.SHA256 = set.Hex()
	if err := q.Store.AddFile(ctx, out); err != nil {
		return nil, fmt.Errorf("%w: %w", errVault, err)
	}
	return out, nil
}

func packSegments(s *digest.Set) []byte {
	var b []byte
	for _, c := range s.Segments {
		b = binary.BigEndian.AppendUint32(b, c)
	}
	return b
}

// end counts what was acquired, hashes its manifest and closes the run.
func (q *Acquirer) end(ctx context.Context, t *run.Task, c *store.Case, a *store.Acquisition, faults []store.AcquisitionFault) error {
	h := sha256.New()
	for f, err := range q.Store.AllFiles(ctx, a.ID) {
		if err != nil {
			return err
		}
		a.Files++
		a.Bytes += f.Size
		io.WriteString(h, digest.Line{Sum: f.SHA256, Path: f.Path}.String()+"\n")
	}
	now := time.Now()
	a.EndedAt, a.Manifest = &now, hex.EncodeToString(h.Sum(nil))
	t.Logf("done: %d files, %d bytes, manifest SHA-256 %s, %d faults of the source", a.Files, a.Bytes, a.Manifest, len(faults))
	var sub BackupSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	return q.Store.EndAcquisition(ctx, t.Run, a, faults, store.Act{Book: c.Book(), By: t.Run.By, What: "acquisition.ended",
		On: fmt.Sprintf("%s acquisition %d", sub.Reference, a.Number), Detail: map[string]string{
			"source": a.Source, "method": a.Method, "tool": a.Tool, "files": fmt.Sprint(a.Files), "bytes": fmt.Sprint(a.Bytes),
			"manifest_sha256": a.Manifest, "faults": fmt.Sprint(len(faults))}})
}
