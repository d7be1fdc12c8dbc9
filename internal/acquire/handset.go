package acquire

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/internal/handset"
	"crosswind/internal/run"
	"crosswind/internal/store"
)

const handsetScheme = "handset:"

// Methods of acquiring a connected handset.
const (
	MethodFiles   = "connected handset, file by file"
	MethodStorage = "connected handset, raw storage in service mode"
)

// HandsetSubject is what a run of kind "acquire handset" or "acquire storage"
// needs to know.
type HandsetSubject struct {
	Exhibit   int64  `json:"exhibit"`
	Reference string `json:"reference"`
	Address   string `json:"address"` // of the link
	Choice
	Radios string `json:"radios"` // why it is read with its radios on, "" if they are off
}

// Choice is what of a source's files is taken.
type Choice struct {
	Kinds    []record.Kind `json:"kinds"`  // whose databases are taken
	Others   bool          `json:"others"` // all other files too
	LiveOnly bool          `json:"live_only"`
}

// words says what was chosen.
func (s *Choice) words() string {
	var kinds []string
	for _, k := range s.Kinds {
		kinds = append(kinds, strings.ToLower(k.Plural()))
	}
	out := "files of the databases of: " + cmp.Or(strings.Join(kinds, ", "), "no kind")
	if s.Others {
		out += "; all other files"
	}
	if s.LiveOnly {
		out += "; live records only"
	}
	return out
}

// wants reports whether a file is taken: the database of a kind that was chosen,
// with its log and journal, or any other file.
func (s *Choice) wants(p string) bool {
	base := p
	for _, suffix := range []string{"-wal", "-journal", "-shm"} {
		base = strings.TrimSuffix(base, suffix)
	}
	if m := fieldmap.For(base); m != nil {
		return slices.ContainsFunc(m.Readings, func(r fieldmap.Reading) bool { return slices.Contains(s.Kinds, r.Kind) })
	}
	return s.Others
}

// MaxEntries bounds how many files a handset may list.
const MaxEntries = 1 << 20

// openHandset opens the files of a connected handset.
func openHandset(ctx context.Context, address string, l handset.Link) (*Source, error) {
	h := &handsetFS{ctx: ctx, link: l, vaultFS: newVaultFS(nil)}
	for e, err := range l.Tree(ctx) {
		if err != nil {
			return nil, err
		}
		if len(h.files) >= MaxEntries {
			return nil, fmt.Errorf("the handset lists more than %d files", MaxEntries)
		}
		p := strings.TrimPrefix(path.Clean("/"+e.Path), "/")
		if p != "" && fs.ValidPath(p) {
			h.add(p, blobFile{size: e.Size, changed: e.Changed.Time})
		}
	}
	alive := func(ctx context.Context) error {
		s, err := l.State(ctx)
		if err == nil && !s.Ready() {
			err = errors.New("the handset is locked, or does not approve this computer any more")
		}
		return err
	}
	return &Source{Address: address, FS: h, Name: ".", Alive: alive, Closer: io.NopCloser(nil)}, nil
}

// handsetFS shows the files of a handset as they were listed, and reads them by
// its link.
type handsetFS struct {
	vaultFS
	ctx  context.Context
	link handset.Link
}

// Open opens a file or a folder.
func (h *handsetFS) Open(name string) (fs.File, error) {
	f, ok := h.files[name]
	if !ok {
		return h.vaultFS.Open(name)
	}
	r, err := h.link.File(h.ctx, "/"+name)
	if err != nil {
		return nil, err
	}
	return handsetFile{r, info{path.Base(name), f, false}}, nil
}

type handsetFile struct {
	io.ReadCloser
	info info
}

// Stat tells of the file as it was listed.
func (f handsetFile) Stat() (fs.FileInfo, error) { return f.info, nil }

// Handset acquires the files of a connected handset. A file that changes while
// the others are read is read again, and both are kept.
func (q *Acquirer) Handset(ctx context.Context, t *run.Task) error {
	var sub HandsetSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, err := q.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	l := handset.Link{Address: sub.Address}
	st, err := l.State(ctx)
	if err != nil {
		return err
	}
	if st.Radios && sub.Radios == "" {
		return errors.New("its radios are on, and no reason was given to read it so")
	}
	src, err := q.Open(ctx, c.ID, handsetScheme+sub.Address)
	if err != nil {
		return fmt.Errorf("listing the handset's files: %w", err)
	}
	a, err := q.beginHandset(ctx, t, c, &sub, st, MethodFiles, sub.words())
	if err != nil {
		return err
	}
	var chosen []sourceFile
	files, _, err := tree(src.FS, ".")
	if err != nil {
		return err
	}
	var total int64
	for _, f := range files {
		if sub.wants("/" + f.path) {
			chosen = append(chosen, f)
			total += f.size
		}
	}
	t.Total(total, int64(len(chosen)))
	t.Logf("%d of %d files chosen, %d bytes", len(chosen), len(files), total)
	err = each(ctx, q, t, a, chosen, func(ctx context.Context, f sourceFile) ([]store.AcquisitionFault, error) {
		return q.sourceFile(ctx, t, a, src, f, backup.File{Path: "/" + f.path, Changed: src.FS.(*handsetFS).files[f.path].changed})
	})
	if err != nil {
		return err
	}
	if err := q.changed(ctx, t, c, a, &sub, src.Address); err != nil {
		return err
	}
	return q.end(ctx, t, c, a, sub.Reference)
}

func (q *Acquirer) beginHandset(ctx context.Context, t *run.Task, c *store.Case, sub *HandsetSubject, st *handset.State, method, settings string) (*store.Acquisition, error) {
	facts, err := json.Marshal(backup.Label{Layout: "handset", Made: time.Now().UTC(), Finished: true,
		Device: backup.Device{Name: st.Name, Mark: st.Mark, Serial: st.Serial, IMEI: st.IMEI, System: st.System}})
	if err != nil {
		return nil, err
	}
	if sub.Radios != "" {
		settings += "; radios on, because: " + sub.Radios
	}
	return q.Store.AcquisitionForRun(ctx, c, t.Run, store.Acquisition{ExhibitID: sub.Exhibit, Method: method, Source: "connected handset " + st.Mark + " " + st.Serial, Facts: facts,
		Tool: q.Tool, Settings: settings + "; MD5, SHA-1, SHA-256 and CRC-32C of each MiB while reading", By: t.Run.By, StartedAt: time.Now(), LiveOnly: sub.LiveOnly})
}

// changed reads again what has changed on the handset since it was read. The
// earlier readings stay under its path with @1, @2 … behind it and make no records.
func (q *Acquirer) changed(ctx context.Context, t *run.Task, c *store.Case, a *store.Acquisition, sub *HandsetSubject, address string) error {
	after, err := q.Open(ctx, c.ID, address)
	if err != nil {
		return fmt.Errorf("listing the handset's files again: %w", err)
	}
	for p, now := range after.FS.(*handsetFS).files {
		if !sub.wants("/" + p) {
			continue
		}
		kept, err := q.Store.FileByPath(ctx, a.ID, store.Source, p)
		if err == nil && kept.Size == now.size && sameMoment(kept.ModifiedAt, now.changed) {
			continue
		}
		what := "came onto the handset, or could be read, only while the others were read"
		if err == nil {
			earlier, rerr := q.Store.RenameFile(ctx, t.Run, a.ID, p)
			if rerr != nil {
				return rerr
			}
			what = "changed on the handset while it was read: read again, and the earlier reading is kept as " + earlier
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		faults, err := q.sourceFile(ctx, t, a, after, sourceFile{p, now.size}, backup.File{Path: "/" + p, Changed: now.changed})
		if err == nil {
			t.Logf("/%s %s", p, what)
			err = q.Store.AddFaults(ctx, t.Run, a, append(faults, store.AcquisitionFault{Path: p, Fault: what}))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// sameMoment compares a time as it is kept with one as it was listed; the zero time is
// kept as none.
func sameMoment(kept *time.Time, listed time.Time) bool {
	if kept == nil {
		return listed.IsZero()
	}
	return kept.Equal(listed.Truncate(time.Microsecond))
}
