package acquire

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"crosswind/core/backup"
	"crosswind/core/storage"
	"crosswind/core/volume"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Carve searches what is not in use of an acquisition's storage images for files, and for folders that nothing leads
// to: it is what the full pass does of them. It does nothing if there are none, or if live records only were chosen.
func (q *Acquirer) Carve(ctx context.Context, t *run.Task, c *store.Case, a *store.Acquisition, name string) error {
	if a.LiveOnly {
		return nil
	}
	before := a.ContentManifest
	if err := q.images(ctx, t, a, true); err != nil || a.ContentManifest == before {
		return err
	}
	err := q.within(ctx, t, a)
	if err == nil {
		err = q.MatchKnown(ctx, t.Run, c, a.ID)
	}
	if err != nil {
		return err
	}
	faults, err := q.Store.AcquisitionFaults(ctx, a.ID)
	if err != nil {
		return err
	}
	return q.Store.SaveContent(ctx, t.Run, a, contentAct(c, t, a, name, len(faults)))
}

// images puts what the storage images of an acquisition hold into the vault, beside the images themselves: the live
// files of their volumes and, unless live records only were chosen, the deleted ones; in the full pass those that are
// carved, too. What is there already is not read again.
func (q *Acquirer) images(ctx context.Context, t *run.Task, a *store.Acquisition, full bool) error {
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
		if err := q.image(ctx, t, a, &f, full); err != nil {
			return err
		}
	}
	if len(all) == 0 {
		return nil
	}
	var err error
	a.ContentManifest, err = q.manifest(ctx, a.ID, store.Content) // names no time: the same content has the same
	return err
}

// ImageEnding is how the name of a storage image ends.
const ImageEnding = ".img"

// image puts what one image holds into the vault.
func (q *Acquirer) image(ctx context.Context, t *run.Task, a *store.Acquisition, f *store.File, full bool) error {
	b, err := q.Vault.Open(f.SHA256)
	if err != nil {
		return err
	}
	defer b.Close()
	counts := map[storage.State]int{}
	taken := map[string]bool{}
	var searched, told int64
	seen := func(n int64) bool {
		t.Done(n-searched, 0)
		searched = n
		return ctx.Err() == nil
	}
	size := func(n int64) {
		t.More(n, 0)
		told = n
		t.Logf("%s: %d bytes that are not in use are searched for files", f.Path, n)
	}
	opt := storage.Options{Full: full, Size: size, Seen: seen, Note: func(err error) {
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
	seen(told) // what was a hole at the end, too
	if full {
		t.Logf("%s holds %d live, %d deleted and %d carved files", f.Path, counts[storage.Live], counts[storage.Deleted], counts[storage.Carved])
	} else {
		t.Logf("%s holds %d live and %d deleted files; the full pass searches what is not in use", f.Path, counts[storage.Live], counts[storage.Deleted])
	}
	return nil
}

// imageFile puts a file of an image into the vault, under a path that tells how it was found.
func (q *Acquirer) imageFile(ctx context.Context, t *run.Task, a *store.Acquisition, in *store.File, image io.ReaderAt, x *storage.File, taken map[string]bool) error {
	at := fmt.Sprintf("%s!/volume-%d/%s%s", in.Path, x.Volume, x.State, x.Path)
	if len(at) > maxImagePath {
		at = strings.ToValidUTF8(at[:maxImagePath], "")
	}
	found := &store.Found{Image: in.Path, Volume: x.Volume, State: string(x.State), Complete: string(x.Complete), Why: x.Why, Changed: x.Modified.Local, Extents: [][2]int64{}, Hidden: x.Hidden, System: x.System}
	stored := int64(0)
	for _, e := range x.Extents {
		if found.Extents = append(found.Extents, [2]int64{e.Offset, e.Length}); e.Offset != volume.Hole {
			stored += e.Length
		}
	}
	for _, e := range x.Reused {
		found.Reused = append(found.Reused, [2]int64{e.Offset, e.Length})
	}
	// Several deleted files may have been called the same, and the full pass may find another before one that is kept.
	for first := true; ; first = false {
		kept, err := q.Store.FileByPath(ctx, a.ID, store.Content, at)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if first && (taken[at] || err == nil && (kept.Found == nil || !slices.Equal(kept.Found.Extents, found.Extents))) {
			at = fmt.Sprintf("%s (entry at %d)", at, x.Entry.Offset)
			continue
		}
		taken[at] = true
		if err == nil && q.Vault.Has(kept.SHA256, kept.Size) {
			return nil
		}
		break
	}
	if x.Size-stored > 1<<30 {
		return q.Store.AddFaults(ctx, t.Run, a, asFault(at, fmt.Sprintf("it claims %d bytes, of which %d are stored, and is not read", x.Size, stored)))
	}
	out := &store.File{AcquisitionID: a.ID, Content: true, Path: at, RealPath: realPath(in.Path, a.Method == MethodImage, x, at), ModifiedAt: x.Modified.At, Found: found}
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

// realPath is the path of a live file as the handset knew it: its data volume, or an image that
// was acquired alone, is its root, others lie below their names. What is not live lies nowhere on it.
func realPath(image string, alone bool, x *storage.File, at string) string {
	name := strings.TrimSuffix(image, ImageEnding)
	switch {
	case x.State != storage.Live || x.Volume != 1:
		return "/" + at
	case name == "data" || alone:
		return x.Path
	}
	return "/" + name + x.Path
}

// MethodImage is how the acquisition of a storage image is named in reports.
const MethodImage = "storage image, a file of this machine"

// FoundImage is a storage image that was found.
type FoundImage struct {
	Path    string
	Size    int64
	Changed time.Time
	Volumes []*volume.Volume // good for what they say of themselves
}

// imageEndings are those of the names of images: common practice.
var imageEndings = []string{".img", ".dd", ".raw", ".bin"}

// FindImages searches the configured folders, and the places of a case, for raw images of storage in which volumes lie.
// Links are not followed.
func (q *Acquirer) FindImages(ctx context.Context, caseID int64) (found []FoundImage, err error) {
	places, err := q.Store.Places(ctx, caseID)
	if err != nil {
		return nil, err
	}
	roots := slices.Clone(q.Roots)
	for _, p := range places {
		roots = append(roots, p.Path)
	}
	search, cancel := context.WithTimeout(ctx, searchTime)
	defer cancel()
	probed, seen := 0, map[string]bool{}
	for _, root := range roots {
		root, err := filepath.Abs(root)
		if err != nil {
			continue
		}
		err = filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
			if search.Err() != nil || probed > maxProbed {
				return fs.SkipAll
			}
			if err != nil { // which the search for backups tells of
				return nil
			}
			if d.IsDir() && strings.Count(strings.TrimPrefix(p, root), string(filepath.Separator)) >= searchDepth {
				return fs.SkipDir
			}
			if !d.Type().IsRegular() || !slices.Contains(imageEndings, strings.ToLower(filepath.Ext(p))) || seen[p] || !utf8.ValidString(p) {
				return nil
			}
			seen[p] = true
			probed++
			if x := probe(p); x != nil {
				found = append(found, *x)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return found, ctx.Err()
}

// probe looks into a file, and gives nil if no volume lies in it.
func probe(path string) *FoundImage {
	f, err := openRegular(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil
	}
	volumes, _ := storage.Volumes(f, st.Size(), func(error) {})
	if len(volumes) == 0 {
		return nil
	}
	return &FoundImage{path, st.Size(), st.ModTime().UTC(), volumes}
}

// ImageSubject is what a run of the kind "acquire image" needs to know.
type ImageSubject struct {
	Exhibit   int64  `json:"exhibit"`
	Reference string `json:"reference"`
	Path      string `json:"path"`
}

// name is what the image is called in the acquisition.
func (s *ImageSubject) name() string {
	base := filepath.Base(s.Path)
	return strings.TrimSuffix(base, filepath.Ext(base)) + ImageEnding
}

// Image acquires a storage image that is a file of this machine, as it is, and then what it holds.
func (q *Acquirer) Image(ctx context.Context, t *run.Task) error {
	var sub ImageSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, err := q.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	f, err := openRegular(sub.Path)
	if err != nil {
		return fmt.Errorf("opening the image: %w", err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	changed := st.ModTime().UTC()
	facts, err := json.Marshal(backup.Label{Layout: "image", Made: changed, Finished: true})
	if err != nil {
		return err
	}
	a, err := q.Store.AcquisitionForRun(ctx, c, t.Run, store.Acquisition{ExhibitID: sub.Exhibit, Method: MethodImage, Source: asText(sub.Path), Facts: facts, Tool: q.Tool,
		Settings: "all bytes; MD5, SHA-1, SHA-256 and CRC-32C of each MiB in one pass", By: t.Run.By, StartedAt: time.Now()})
	if err != nil {
		return err
	}
	t.Total(st.Size(), 1)
	kept, err := q.Store.FileByPath(ctx, a.ID, store.Source, sub.name())
	switch {
	case err == nil && q.Vault.Has(kept.SHA256, kept.Size):
		t.Done(kept.Size, 1)
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return err
	default:
		err := q.keep(ctx, t, &store.File{AcquisitionID: a.ID, Path: sub.name(), ModifiedAt: &changed}, f, st.Size())
		if errors.Is(err, vault.ErrFull) {
			err = q.full(ctx, a, sub.name(), err)
		}
		if err != nil {
			return err
		}
	}
	if err := q.images(ctx, t, a, false); err != nil {
		return err
	}
	return q.end(ctx, t, c, a, sub.Reference)
}
