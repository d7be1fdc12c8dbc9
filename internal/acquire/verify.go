package acquire

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"time"

	"crosswind/core/digest"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// VerifySubject is what a run of kind "verify" needs to know.
type VerifySubject struct {
	Exhibit     int64  `json:"exhibit"`
	Acquisition int64  `json:"acquisition"`
	Name        string `json:"name"`    // of the acquisition, for the ledger
	Against     string `json:"against"` // vault or source
	Path        string `json:"path"`    // of the one file to check, "" for all
}

// maxFaultEntries bounds how many files one check names in the ledger, an
// entry each; the check's own entry counts them all.
const maxFaultEntries = 100

// Verify hashes every file of an acquisition again, from the vault or from the
// source, and keeps what it finds.
func (q *Acquirer) Verify(ctx context.Context, t *run.Task) error {
	var sub VerifySubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, a, err := q.Store.AcquisitionOfRun(ctx, t.Run, sub.Acquisition)
	if err != nil {
		return err
	}
	part := store.Both
	open := func(f *store.File) (io.ReadCloser, error) { return q.Vault.Open(f.SHA256) }
	if sub.Against == "source" {
		src, err := q.original(ctx, t.Run, c, a)
		if err != nil {
			return fmt.Errorf("the source cannot be checked: %w", err)
		}
		defer src.Close()
		part, open = store.Source, src.open
	}
	files := q.Store.AllFiles(ctx, a.ID, part)
	items, bytes, err := q.Store.SumFiles(ctx, a.ID, part)
	if err != nil {
		return err
	}
	t.Total(bytes, items)
	if sub.Path != "" {
		f, err := q.Store.FileByPath(ctx, a.ID, part, sub.Path)
		if err != nil {
			return err
		}
		files = func(yield func(*store.File, error) bool) { yield(f, nil) }
		t.Total(f.Size, 1)
	}
	var acts []store.Act
	v := store.Verification{AcquisitionID: a.ID, Against: sub.Against, By: t.Run.By}
	for f, err := range files {
		if err != nil {
			return err
		}
		// A check that broke off goes on after the files that it has checked.
		again := sub.Against == "vault" && sub.Path == "" && t.Run.Fence > 1 && f.CheckedAt.After(*t.Run.StartedAt)
		fault, bad := f.Fault, []int32(f.BadSegments)
		var found []store.Act
		if again {
			t.Done(f.Size, 0)
		} else if fault, bad, err = check(ctx, t, f, open); err != nil {
			return err
		}
		v.Files++
		t.Done(0, 1)
		if fault != "" {
			v.Faults++
			t.Found("differing", 1)
			t.Logf("%s: %s", f.Path, fault)
			if v.Faults <= maxFaultEntries {
				found = []store.Act{{Book: c.Book(), By: t.Run.By, What: "integrity.failed", On: f.Path,
					Detail: map[string]string{"acquisition": sub.Name, "against": sub.Against, "fault": fault, "expected_sha256": f.SHA256}}}
			}
		}
		if sub.Against == "vault" && !again { // what a source has become is no fault of what was acquired
			f.Fault, f.BadSegments = fault, bad
			if err := q.Store.SaveCheck(ctx, t.Run, f, found...); err != nil { // what has failed is told at once
				return err
			}
		} else if !again {
			acts = append(acts, found...)
		}
	}
	v.At = time.Now()
	t.Logf("%d files checked against the %s, %d differ", v.Files, v.Against, v.Faults)
	if sub.Path != "" {
		acts = append(acts, store.Act{Book: c.Book(), By: t.Run.By, What: "file.verified", On: sub.Path,
			Detail: map[string]string{"acquisition": sub.Name, "against": v.Against, "differing": fmt.Sprint(v.Faults)}})
		return q.Store.EndRun(ctx, t.Run, "done", "", acts...)
	}
	acts = append(acts, store.Act{Book: c.Book(), By: t.Run.By, What: "acquisition.verified", On: sub.Name,
		Detail: map[string]string{"against": v.Against, "files": fmt.Sprint(v.Files), "differing": fmt.Sprint(v.Faults)}})
	return q.Store.EndVerification(ctx, t.Run, v, acts)
}

// check hashes one file again and says what differs. err is only for an end of
// the run itself.
func check(ctx context.Context, t *run.Task, f *store.File, open func(*store.File) (io.ReadCloser, error)) (fault string, bad []int32, err error) {
	r, err := open(f)
	if err != nil {
		return "cannot be read: " + err.Error(), nil, nil
	}
	defer r.Close()
	set, err := digest.Reader(vault.Told(ctx, r, t.Read))
	if ctx.Err() != nil {
		return "", nil, context.Cause(ctx)
	}
	if err != nil {
		return "cannot be read to its end: " + err.Error(), nil, nil
	}
	_, _, sum := set.Hex()
	if sum == f.SHA256 {
		return "", nil, nil
	}
	for _, i := range set.DifferingSegments(&digest.Set{Segments: UnpackSegments(f.Segments)}) {
		bad = append(bad, int32(i))
	}
	where := ""
	if len(bad) > 0 {
		where = fmt.Sprintf(" in %s", segmentWords(bad, set.Size))
	}
	return fmt.Sprintf("differs%s: its SHA-256 is now %s", where, sum), bad, nil
}

// segmentWords names the first differing segment by its bytes.
func segmentWords(bad []int32, size int64) string {
	from := int64(bad[0]) * digest.SegmentSize
	s := fmt.Sprintf("segment %d (bytes %d to %d)", bad[0]+1, from, max(from, min(from+digest.SegmentSize, size)-1))
	if len(bad) > 1 {
		s += fmt.Sprintf(" and %d more", len(bad)-1)
	}
	return s
}

// UnpackSegments reads the check values that an acquisition keeps.
func UnpackSegments(b []byte) []uint32 {
	out := make([]uint32, len(b)/4)
	for i := range out {
		out[i] = binary.BigEndian.Uint32(b[4*i:])
	}
	return out
}
