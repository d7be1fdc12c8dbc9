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
	"io/fs"
	"strconv"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/digest"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"

	"golang.org/x/sync/errgroup"
)

// Methods are how the acquisition of a local backup is named in reports.
const (
	MethodFolder  = "local backup, file by file"
	MethodArchive = "local backup, a single archive"
)

// BackupSubject is what a run of kind "acquire backup" needs to know.
type BackupSubject struct {
	Exhibit   int64  `json:"exhibit"`
	Reference string `json:"reference"`
	Address   string `json:"path"` // see Source
}

// Backup acquires a local backup: every file of it, as it is, into the vault; of
// a plain one that is a single archive then also what it holds. Files that are
// kept already are not read again, so a run that broke off goes on where it was.
func (q *Acquirer) Backup(ctx context.Context, t *run.Task) error {
	var sub BackupSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, err := q.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	src, err := q.Open(ctx, c.ID, sub.Address)
	if err != nil {
		return fmt.Errorf("opening the backup: %w", err)
	}
	defer src.Close()
	label, err := backup.ReadLabel(src.FS, src.Name)
	if err != nil {
		return fmt.Errorf("%s: %w", sub.Address, err)
	}
	facts, err := json.Marshal(label)
	if err != nil {
		return err
	}
	method := MethodFolder
	if src.Name != "." {
		method = MethodArchive
	}
	a, err := q.Store.AcquisitionForRun(ctx, c, t.Run, store.Acquisition{ExhibitID: sub.Exhibit, Method: method, Source: q.words(ctx, c, sub.Address), Facts: facts,
		Tool: q.Tool, Settings: "all files; MD5, SHA-1, SHA-256 and CRC-32C of each MiB in one pass; links not followed", By: t.Run.By, StartedAt: time.Now()})
	if err != nil {
		return err
	}
	files, others, err := tree(src.FS, src.Name)
	if err != nil {
		return fmt.Errorf("listing %s: %w", sub.Address, err)
	}
	var faults []store.AcquisitionFault
	fault := func(p, what string) { faults = append(faults, store.AcquisitionFault{Path: p, Fault: what}) }
	for _, p := range others {
		fault(asText(p), "not a regular file that can be read; it was not taken")
	}
	b, err := backup.Open(src.FS, src.Name, nil)
	if err != nil {
		if !errors.Is(err, backup.ErrEncrypted) { // what is encrypted is opened later
			fault(src.Name, err.Error())
		}
		b = &backup.Backup{}
	}
	defer b.Close()
	if gone := src.Alive(ctx); gone != nil { // a list made while it went is not to be believed
		return fmt.Errorf("the source went away while it was listed (%w): connect it again and resume this run", gone)
	}
	known := map[string]backup.File{}
	for _, f := range b.Files {
		known[f.Stored] = f
	}
	for _, f := range b.Faults {
		fault(f.Path, f.What)
	}
	q.total(t, src, files, b)
	if err := q.Store.AddFaults(ctx, t.Run, a, faults); err != nil {
		return err
	}
	err = each(ctx, q, t, a, files, func(ctx context.Context, f sourceFile) ([]store.AcquisitionFault, error) {
		return q.sourceFile(ctx, t, a, src, f, known[f.path])
	})
	if err != nil {
		return err
	}
	if src.Name != "." && len(b.Files) > 0 {
		if err := q.archiveContent(ctx, t, a); err != nil {
			return err
		}
	}
	return q.end(ctx, t, c, a, sub.Reference)
}

// atOnce is how many files are read at a time: while one is synced to the disk,
// another is hashed.
const atOnce = 2

// each calls do for every item, atOnce at a time, and keeps the faults that it finds as
// they are found, so that a run that goes on later has not forgotten them. The first
// error ends it.
func each[T any](ctx context.Context, q *Acquirer, t *run.Task, a *store.Acquisition, items []T, do func(context.Context, T) ([]store.AcquisitionFault, error)) error {
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, item := range items {
		if gctx.Err() != nil {
			break
		}
		g.Go(func() error {
			found, err := do(gctx, item)
			return errors.Join(err, q.Store.AddFaults(ctx, t.Run, a, found))
		})
	}
	err := g.Wait()
	if err == nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return err
}

// sourceFile acquires one file of a source. Faults are the file's; err ends the
// run.
func (q *Acquirer) sourceFile(ctx context.Context, t *run.Task, a *store.Acquisition, src *Source, f sourceFile, known backup.File) (faults []store.AcquisitionFault, err error) {
	fault := func(what string) { faults = append(faults, store.AcquisitionFault{Path: f.name(), Fault: what}) }
	if f.name() != f.path {
		fault("its name is not UTF-8: the bytes that are not are written \\xNN here and in the manifest, where sha256sum -c does not find it")
	}
	kept, err := q.file(ctx, t, src.FS, a, f, known)
	switch {
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case errors.Is(err, vault.ErrFull):
		return nil, q.full(ctx, a, f.name(), err)
	case errors.Is(err, errKeeping) || errors.Is(err, vault.ErrWrite):
		return nil, err
	case err != nil:
		if gone := src.Alive(ctx); gone != nil {
			return nil, fmt.Errorf("the source went away while %s was read (%w). What was read is in the vault and stays there: connect the source again and resume this run", f.name(), gone)
		}
		t.Logf("%s: %s", f.name(), asText(err.Error()))
		fault(asText(err.Error()))
	case known.SHA256 != "" && known.SHA256 != kept.SHA256:
		fault("its SHA-256 is " + kept.SHA256 + ", the backup says " + known.SHA256)
	}
	return faults, nil
}

// archiveContent reads what a plain archive holds, from the vault: what is listed
// is what was acquired, whatever becomes of the source meanwhile.
func (q *Acquirer) archiveContent(ctx context.Context, t *run.Task, a *store.Acquisition) error {
	fsys, name, err := q.acquired(ctx, a)
	if err != nil {
		return err
	}
	b, err := backup.Open(fsys, name, nil)
	if err != nil {
		return fmt.Errorf("opening the archive that was acquired: %w", err)
	}
	defer b.Close()
	return q.content(ctx, t, a, b)
}

// gone tells why a backup cannot be read any more at all; nil if it can, and only
// a file of it cannot.
func (q *Acquirer) gone(ctx context.Context, caseID int64, address string) error {
	again, err := q.openBackup(ctx, caseID, address)
	if err != nil {
		return err
	}
	defer again.Close()
	_, err = backup.ReadLabel(again.FS, again.Name)
	return err
}

// total tells how much there is to do.
func (q *Acquirer) total(t *run.Task, src *Source, files []sourceFile, b *backup.Backup) {
	var bytes, items int64
	for _, f := range files {
		bytes += f.size
		items++
	}
	t.Logf("%d files, %d bytes in %s", items, bytes, src.Address)
	if src.Name != "." {
		for _, f := range b.Files {
			bytes += f.Size
			items++
		}
	}
	t.Total(bytes, items)
}

// full says what is kept when the vault's disk is full.
func (q *Acquirer) full(ctx context.Context, a *store.Acquisition, path string, err error) error {
	files, bytes, serr := q.Store.SumFiles(ctx, a.ID, store.Both)
	if serr != nil {
		return errors.Join(err, serr)
	}
	return fmt.Errorf("the vault's disk is full: %s could not be kept. %d files with %d bytes are in the vault and stay there. Make room and resume this run: they are not read again (%w)", path, files, bytes, err)
}

// words names a source for pages and reports.
func (q *Acquirer) words(ctx context.Context, c *store.Case, address string) string {
	rest, ok := strings.CutPrefix(address, archiveScheme)
	if !ok {
		return address
	}
	num, inner, _ := strings.Cut(rest, "/")
	id, _ := strconv.ParseInt(num, 10, 64)
	ar, err := q.Store.ArchiveByID(ctx, c.ID, id)
	if err != nil {
		return address
	}
	s := "archive " + ar.Name + " (SHA-256 " + ar.SHA256 + ")"
	if inner != "" {
		s += ", in it " + inner
	}
	return s
}

// errKeeping is wrapped where the fault is not the source's.
var errKeeping = errors.New("keeping what was read")

// file acquires one file, or finds that it is kept already.
func (q *Acquirer) file(ctx context.Context, t *run.Task, fsys fs.FS, a *store.Acquisition, f sourceFile, known backup.File) (*store.File, error) {
	kept, err := q.Store.FileByPath(ctx, a.ID, store.Source, f.name())
	if err == nil && q.Vault.Has(kept.SHA256, kept.Size) {
		t.Done(kept.Size, 1)
		return kept, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("%w: %w", errKeeping, err)
	}
	r, err := fsys.Open(f.path)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	st, err := r.Stat()
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, errors.New("is not a regular file any more")
	}
	out := &store.File{AcquisitionID: a.ID, Path: f.name(), RealPath: known.Path}
	mod := st.ModTime().UTC()
	if !known.Changed.IsZero() {
		mod = known.Changed
	}
	out.ModifiedAt = &mod
	return out, q.keep(ctx, t, out, r, st.Size())
}

// keep puts the content of a file, which has size bytes unless size is -1, into
// the vault and the file into the list.
func (q *Acquirer) keep(ctx context.Context, t *run.Task, f *store.File, r io.Reader, size int64) error {
	set, err := q.Vault.Put(ctx, r, t.Read)
	if err != nil {
		return err
	}
	if size >= 0 && set.Size != size {
		return fmt.Errorf("had %d bytes when it was opened and gave %d: it changed, or broke off, while it was read", size, set.Size)
	}
	return q.list(ctx, t, f, set)
}

// list puts a file whose content is in the vault into the list of files.
func (q *Acquirer) list(ctx context.Context, t *run.Task, f *store.File, set *digest.Set) error {
	f.Size, f.Segments, f.CheckedAt = set.Size, packSegments(set), time.Now()
	f.MD5, f.SHA1, f.SHA256 = set.Hex()
	if err := q.Store.AddFile(ctx, t.Run, f); err != nil {
		return fmt.Errorf("%w: %w", errKeeping, err)
	}
	t.Done(0, 1)
	return nil
}

func packSegments(s *digest.Set) []byte {
	var b []byte
	for _, c := range s.Segments {
		b = binary.BigEndian.AppendUint32(b, c)
	}
	return b
}

// manifest is the SHA-256 of the manifest of a part of an acquisition's files.
func (q *Acquirer) manifest(ctx context.Context, acquisition int64, part store.Part) (string, error) {
	h := sha256.New()
	for f, err := range q.Store.AllFiles(ctx, acquisition, part) {
		if err != nil {
			return "", err
		}
		io.WriteString(h, digest.Line{Sum: f.SHA256, Path: f.Path}.String()+"\n")
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// end counts what was acquired, hashes its manifests and closes the run.
func (q *Acquirer) end(ctx context.Context, t *run.Task, c *store.Case, a *store.Acquisition, reference string) (err error) {
	if err := q.within(ctx, t, a); err != nil {
		return err
	}
	if a.Files, a.Bytes, err = q.Store.SumFiles(ctx, a.ID, store.Source); err != nil {
		return err
	}
	if a.Manifest, err = q.manifest(ctx, a.ID, store.Source); err != nil {
		return err
	}
	now := time.Now()
	a.EndedAt = &now
	if err := q.MatchKnown(ctx, t.Run, c, a.ID); err != nil {
		return err
	}
	faults, err := q.Store.AcquisitionFaults(ctx, a.ID)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("%s acquisition %d", reference, a.Number)
	t.Logf("done: %d files, %d bytes, manifest SHA-256 %s, %d faults of the source", a.Files, a.Bytes, a.Manifest, len(faults))
	acts := []store.Act{{Book: c.Book(), By: t.Run.By, What: "acquisition.ended", On: name, Detail: map[string]string{
		"source": a.Source, "method": a.Method, "tool": a.Tool, "files": fmt.Sprint(a.Files), "bytes": fmt.Sprint(a.Bytes),
		"manifest_sha256": a.Manifest, "faults": fmt.Sprint(len(faults))}}}
	if a.ContentManifest != "" {
		acts = append(acts, contentAct(c, t, a, name, len(faults)))
	}
	return q.Store.EndAcquisition(ctx, t.Run, a, nil, acts...)
}
