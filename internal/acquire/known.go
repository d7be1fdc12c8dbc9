package acquire

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"crosswind/core/digest"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// KnownSubject is what a run of kind "known files" needs to know.
type KnownSubject struct {
	Name string `json:"name"`
	List string `json:"list"` // SHA-256 of the list, in the vault
	Size int64  `json:"size"`
}

// Known makes a known-file set of a list, and finds the case's files that it
// names.
func (q *Acquirer) Known(ctx context.Context, t *run.Task) error {
	var sub KnownSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, err := q.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	t.Total(sub.Size, 0)
	list, err := q.Vault.Open(sub.List)
	if err != nil {
		return err
	}
	defer list.Close()
	k := store.KnownSet{CaseID: c.ID, Name: sub.Name, ListSHA256: sub.List, By: t.Run.By, At: time.Now()}
	if err := q.buildKnown(ctx, t, list, &k); err != nil {
		return err
	}
	t.Logf("%d digests (%s), %d lines without one", k.Digests, k.Algorithm, k.Skipped)
	all, err := q.Store.Acquisitions(ctx, c.ID, 0)
	if err != nil {
		return err
	}
	for i := range all {
		n, err := q.match(ctx, t.Run, &k, all[i].ID)
		if err != nil {
			return err
		}
		t.Found("known files", n)
	}
	return q.Store.AddKnownSet(ctx, t.Run, k, store.Act{Book: c.Book(), By: t.Run.By, What: "known_files.imported", On: k.Name,
		Detail: map[string]string{"list_sha256": k.ListSHA256, "set_sha256": k.SetSHA256, "algorithm": k.Algorithm, "digests": fmt.Sprint(k.Digests), "lines_without": fmt.Sprint(k.Skipped)}})
}

// buildKnown makes the set by way of temporary files that have no name.
func (q *Acquirer) buildKnown(ctx context.Context, t *run.Task, list io.Reader, k *store.KnownSet) error {
	scratch, err := nameless()
	if err != nil {
		return err
	}
	defer scratch.Close()
	set, err := nameless()
	if err != nil {
		return err
	}
	defer set.Close()
	var length int
	k.Digests, length, k.Skipped, err = digest.BuildKnown(vault.Told(ctx, list, t.Read), set, scratch)
	if err != nil {
		return fmt.Errorf("the list %s: %w", k.Name, err)
	}
	k.Algorithm = map[int]string{16: "md5", 20: "sha1", 32: "sha256"}[length]
	if _, err := set.Seek(0, io.SeekStart); err != nil {
		return err
	}
	sums, err := q.Vault.Put(ctx, set, nil)
	if err != nil {
		return err
	}
	_, _, k.SetSHA256 = sums.Hex()
	return nil
}

func nameless() (*os.File, error) {
	f, err := os.CreateTemp("", "crosswind-")
	if err != nil {
		return nil, err
	}
	return f, os.Remove(f.Name())
}

// MatchKnown finds the files of an acquisition that the case's known-file sets
// name.
func (q *Acquirer) MatchKnown(ctx context.Context, r *store.Run, c *store.Case, acquisition int64) error {
	sets, err := q.Store.KnownSets(ctx, c.ID)
	for i := range sets {
		if _, merr := q.match(ctx, r, &sets[i], acquisition); merr != nil {
			err = errors.Join(err, merr)
		}
	}
	return err
}

// loadBelow is how large a set is read into memory for its look-ups, in bytes.
const loadBelow = 256 << 20

func (q *Acquirer) match(ctx context.Context, r *store.Run, k *store.KnownSet, acquisition int64) (named int64, err error) {
	b, err := q.Vault.Open(k.SetSHA256)
	if err != nil {
		return 0, err
	}
	defer b.Close()
	st, err := b.Stat()
	if err != nil {
		return 0, err
	}
	set, err := digest.OpenKnown(b, st.Size())
	if err == nil && st.Size() < loadBelow {
		err = set.Load()
	}
	if err != nil {
		return 0, err
	}
	var sums []string
	flush := func() error {
		named += int64(len(sums))
		err := q.Store.SaveKnown(ctx, r, acquisition, k.Name, sums)
		sums = sums[:0]
		return err
	}
	for f, err := range q.Store.AllFiles(ctx, acquisition, store.Both) {
		if err != nil {
			return named, err
		}
		sum, err := hex.DecodeString(map[string]string{"md5": f.MD5, "sha1": f.SHA1, "sha256": f.SHA256}[k.Algorithm])
		if err != nil {
			return named, err
		}
		has, err := set.Has(sum)
		if err != nil {
			return named, err
		}
		if has {
			sums = append(sums, f.SHA256)
		}
		if len(sums) == 1000 {
			if err := flush(); err != nil {
				return named, err
			}
		}
	}
	return named, flush()
}
