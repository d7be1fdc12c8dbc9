package acquire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"

	"crosswind/core/backup"
	"crosswind/core/unpack"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// maxNotes bounds how many members that were not taken are named.
const maxNotes = 100

// maxBatch is how many members are listed at once.
const maxBatch = 1000

// Unpack puts an archive that was handed in, and then its members, into the
// vault. An archive that is refused keeps its own bytes and no member.
func (q *Acquirer) Unpack(ctx context.Context, t *run.Task) error {
	var sub struct{ Archive int64 }
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, err := q.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	ar, err := q.Store.ArchiveByID(ctx, c.ID, sub.Archive)
	if err != nil {
		return err
	}
	if ar.SHA256 == "" {
		if err := q.fetch(ctx, t, ar); err != nil {
			return err
		}
	}
	blob, err := q.Vault.Open(ar.SHA256)
	if err != nil {
		return err
	}
	defer blob.Close()
	members, bytes, err := q.unpack(ctx, t, ar, blob)
	var refused *unpack.Refusal
	if errors.As(err, &refused) {
		ar.Refused = refused.Error()
		t.Logf("%s", ar.Refused)
		return q.Store.EndArchive(ctx, t.Run, ar, store.Act{Book: c.Book(), By: t.Run.By, What: "archive.refused", On: ar.Name,
			Detail: map[string]string{"sha256": ar.SHA256, "because": ar.Refused}})
	}
	if err != nil {
		return err
	}
	t.Logf("%d members with %d bytes; %d are not regular files and were not taken", members, bytes, len(ar.Notes))
	return q.Store.EndArchive(ctx, t.Run, ar, store.Act{Book: c.Book(), By: t.Run.By, What: "archive.unpacked", On: ar.Name,
		Detail: map[string]string{"sha256": ar.SHA256, "size": fmt.Sprint(ar.Size), "members": fmt.Sprint(members), "bytes": fmt.Sprint(bytes)}})
}

// fetch reads an archive on this machine into the vault.
func (q *Acquirer) fetch(ctx context.Context, t *run.Task, ar *store.Archive) error {
	f, err := openRegular(ar.Path)
	if err != nil {
		return fmt.Errorf("opening the archive: %w", err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	t.Total(2*st.Size(), 0)
	set, err := q.Vault.Put(ctx, f, t.Read)
	if err != nil {
		return fmt.Errorf("reading the archive: %w", err)
	}
	_, _, ar.SHA256 = set.Hex()
	ar.Size = set.Size
	return q.Store.SaveArchive(ctx, t.Run, ar)
}

// unpack puts the members of an archive into the vault. Those that are there
// already are read past.
func (q *Acquirer) unpack(ctx context.Context, t *run.Task, ar *store.Archive, blob vault.Blob) (members int, bytes int64, err error) {
	head := make([]byte, 512)
	if n, err := blob.ReadAt(head, 0); err == nil || err == io.EOF {
		if head = head[:n]; backup.Looks(head) {
			if _, err := backup.ReadLabel(single(q.Vault, ar), path.Base(ar.Name)); err == nil { // it is a backup itself
				return 1, ar.Size, q.Store.AddArchiveMembers(ctx, t.Run, ar.ID, []store.ArchiveMember{{Path: path.Base(ar.Name), Size: ar.Size, SHA256: ar.SHA256, ModifiedAt: &ar.At}})
			}
		}
	}
	kept, err := q.Store.ArchiveMembers(ctx, ar.ID)
	if err != nil {
		return 0, 0, err
	}
	have := map[string]store.ArchiveMember{}
	for _, m := range kept {
		have[m.Path] = m
	}
	ar.Notes = nil
	var batch []store.ArchiveMember // listed together: one by one takes most of the time
	flush := func() error {
		err := q.Store.AddArchiveMembers(ctx, t.Run, ar.ID, batch)
		t.Done(0, int64(len(batch)))
		batch = batch[:0]
		return err
	}
	for m, err := range unpack.Members(blob, ar.Size, unpack.Default) {
		if ctx.Err() != nil {
			return 0, 0, context.Cause(ctx)
		}
		if err != nil {
			return 0, 0, err
		}
		if m.Not != "" {
			if len(ar.Notes) < maxNotes {
				ar.Notes = append(ar.Notes, m.Path+" "+m.Not)
			}
			continue
		}
		k, ok := have[m.Path]
		if !ok || !q.Vault.Has(k.SHA256, k.Size) {
			set, err := q.Vault.Put(ctx, m, t.Read)
			if err != nil {
				return 0, 0, fmt.Errorf("unpacking %s: %w", m.Path, err)
			}
			changed := m.Changed
			k = store.ArchiveMember{Path: m.Path, Size: set.Size, ModifiedAt: &changed}
			_, _, k.SHA256 = set.Hex()
			if batch = append(batch, k); len(batch) == maxBatch {
				if err := flush(); err != nil {
					return 0, 0, err
				}
			}
		} else {
			t.Done(0, 1)
		}
		members++
		bytes += k.Size
	}
	return members, bytes, flush()
}

// single shows an archive as a file of its own.
func single(v vault.Vault, ar *store.Archive) vaultFS {
	fsys := newVaultFS(v)
	fsys.add(path.Base(ar.Name), blobFile{ar.SHA256, ar.Size, ar.At})
	return fsys
}
