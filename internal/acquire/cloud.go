package acquire

import (
	"bytes"
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
	"crosswind/core/reading"
	"crosswind/internal/cloud"
	"crosswind/internal/run"
	"crosswind/internal/store"
)

// Methods of acquiring a cloud account.
const (
	MethodSnapshot = "cloud account, a device's snapshot"
	MethodVersions = "cloud account, earlier versions of calendars and contacts"
)

// CloudSubject is what a run of kind "acquire cloud" needs to know. The token is
// not in it.
type CloudSubject struct {
	Exhibit   int64           `json:"exhibit"`
	Reference string          `json:"reference"`
	Service   string          `json:"service"` // its address
	Account   string          `json:"account"`
	Snapshot  *cloud.Snapshot `json:"snapshot,omitempty"`
	Versions  []cloud.Version `json:"versions,omitempty"`
	Choice                    // of a snapshot's files
}

// errSignIn is what a run ends with that needs somebody to sign in.
var errSignIn = errors.New("the account asks to sign in again: do so in Acquire, and the run goes on with what it has")

// Cloud acquires a snapshot, or earlier versions, of a cloud account. Files that
// are kept already are not downloaded again.
func (q *Acquirer) Cloud(ctx context.Context, t *run.Task) error {
	var sub CloudSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, err := q.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	token := q.Keys.Token(sub.Exhibit, t.Run.By)
	if token == "" {
		return errSignIn
	}
	acc := cloud.Service{Address: sub.Service}.Account(token, func(format string, args ...any) {
		t.Found("asked again", 1)
		t.Logf(format, args...)
	})
	label := backup.Label{Layout: "cloud", Made: time.Now().UTC(), Finished: true, Device: backup.Device{Name: sub.Account}}
	method, source, what := MethodVersions, "account "+sub.Account+", earlier versions", "earlier versions as they were chosen"
	if s := sub.Snapshot; s != nil {
		label.Made, label.Device = s.Made, backup.Device(s.Device)
		what = sub.words()
		method, source = MethodSnapshot, fmt.Sprintf("account %s, snapshot %s of %s", sub.Account, s.ID, s.Made.UTC().Format(time.RFC3339))
	}
	facts, err := json.Marshal(label)
	if err != nil {
		return err
	}
	a, err := q.Store.AcquisitionForRun(ctx, c, t.Run, store.Acquisition{ExhibitID: sub.Exhibit, Method: method, Source: source, Facts: facts, Tool: q.Tool,
		LiveOnly: sub.LiveOnly, Settings: fmt.Sprintf("%s; chunks of %d bytes by byte ranges, each checked against the service's SHA-256; MD5, SHA-1, SHA-256 and CRC-32C of each MiB while reading", what, cloud.ChunkSize), By: t.Run.By, StartedAt: time.Now()})
	if err != nil {
		return err
	}
	if sub.Snapshot != nil {
		err = q.snapshot(ctx, t, a, acc, &sub)
	} else {
		err = q.versions(ctx, t, a, acc, sub.Versions)
	}
	if errors.Is(err, cloud.ErrToken) {
		q.Keys.DropToken(sub.Exhibit, t.Run.By, token)
		return errSignIn
	}
	if err != nil {
		return err
	}
	// Before the run ends: its context ends with it, and whoever sees that it has is not signed in any more.
	if err := q.lastOfAccount(ctx, c, t.Run, sub.Exhibit, token); err != nil {
		return err
	}
	return q.end(ctx, t, c, a, sub.Reference)
}

// lastOfAccount forgets a run's token when no other run needs it.
func (q *Acquirer) lastOfAccount(ctx context.Context, c *store.Case, own *store.Run, exhibit int64, token string) error {
	runs, err := q.Store.Runs(ctx, c.ID, "acquire cloud", 50)
	if err != nil {
		return err
	}
	for _, r := range runs {
		var sub CloudSubject
		if err := json.Unmarshal(r.Subject, &sub); err != nil {
			return err
		}
		if r.ID != own.ID && sub.Exhibit == exhibit && r.By == own.By && r.Open() {
			return nil
		}
	}
	q.Keys.DropToken(exhibit, own.By, token)
	return nil
}

func (q *Acquirer) snapshot(ctx context.Context, t *run.Task, a *store.Acquisition, acc *cloud.Account, sub *CloudSubject) error {
	s := sub.Snapshot
	files, err := acc.Files(ctx, s.ID)
	if err != nil {
		return fmt.Errorf("listing the snapshot's files: %w", err)
	}
	files = slices.DeleteFunc(files, func(f cloud.File) bool { return !sub.wants(path.Clean("/" + f.Path)) })
	var total int64
	for _, f := range files {
		total += f.Size
	}
	t.Total(total, int64(len(files)))
	return each(ctx, q, t, a, files, func(ctx context.Context, f cloud.File) (faults []store.AcquisitionFault, err error) {
		p := strings.TrimPrefix(path.Clean("/"+f.Path), "/")
		if !fs.ValidPath(p) || p == "." || f.Size < 0 {
			return []store.AcquisitionFault{{Path: asText(p), Fault: "is not a path of a file; it was not taken"}}, nil
		}
		r := acc.Open(ctx, s.ID, f, func(chunk int) {
			t.Logf("/%s: chunk %d came corrupted; it is read again", p, chunk+1)
			faults = append(faults, store.AcquisitionFault{Path: p, Fault: fmt.Sprintf("chunk %d came corrupted, and was read again until it matched its digest", chunk+1)})
		})
		changed := f.Changed.Time
		err = q.download(ctx, t, &store.File{AcquisitionID: a.ID, Path: p, RealPath: "/" + p, ModifiedAt: &changed}, r, f.Size)
		return faults, err
	})
}

// versionPath is the path under which an earlier version is kept.
func versionPath(v *cloud.Version) string {
	ext := map[string]string{"calendar": ".ics", "contacts": ".vcf"}[v.Kind]
	return asText(reading.VersionPath(fmt.Sprintf("%s/%s%s", v.Kind, strings.ReplaceAll(v.Name, "/", "-"), ext), v.At))
}

func (q *Acquirer) versions(ctx context.Context, t *run.Task, a *store.Acquisition, acc *cloud.Account, all []cloud.Version) error {
	t.Total(0, int64(len(all)))
	for _, v := range all {
		b, err := acc.Version(ctx, v.ID)
		if err != nil {
			return fmt.Errorf("%s of %s: %w", v.Name, v.At.Format(time.RFC3339), err)
		}
		p, at := versionPath(&v), v.At
		if err := q.download(ctx, t, &store.File{AcquisitionID: a.ID, Path: p, RealPath: "/" + p, ModifiedAt: &at}, bytes.NewReader(b), -1); err != nil {
			return err
		}
	}
	return nil
}

// download keeps a file, unless it is kept already.
func (q *Acquirer) download(ctx context.Context, t *run.Task, f *store.File, r io.Reader, size int64) error {
	kept, err := q.Store.FileByPath(ctx, f.AcquisitionID, store.Source, f.Path)
	if err == nil && q.Vault.Has(kept.SHA256, kept.Size) {
		t.Done(kept.Size, 1)
		return nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return q.keep(ctx, t, f, r, size)
}
