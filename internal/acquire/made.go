package acquire

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/digest"
	"crosswind/core/unpack"
	"crosswind/internal/handset"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// MakeBackup has a connected handset make a local backup of itself into the first
// folder that is searched for backups. It is then found and acquired like any.
func (q *Acquirer) MakeBackup(ctx context.Context, t *run.Task) error {
	var sub HandsetSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, err := q.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	password, ok := q.Keys.password(sub.Exhibit)
	if !ok {
		return errors.New("what was typed for the backup is not in memory any more: ask for it again")
	}
	if len(q.Roots) == 0 {
		return errors.New("no folder for backups is configured: --backups names it")
	}
	l := handset.Link{Address: sub.Address}
	st, err := l.State(ctx)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("made-%s-%s", asName(st.Serial), time.Now().UTC().Format("20060102T150405Z"))
	at, manifest, err := q.receive(ctx, t, l, password, name)
	if err != nil {
		return err
	}
	q.Keys.dropPassword(sub.Exhibit)
	encrypted := "no"
	if password != "" {
		encrypted = "yes, with a password set for this"
	}
	t.Logf("the backup is at %s", at)
	return q.Store.EndRun(ctx, t.Run, "done", "", store.Act{Book: c.Book(), By: t.Run.By, What: "backup.made", On: sub.Reference,
		Detail: map[string]string{"by": st.Mark + " " + st.Serial, "at": at, "encrypted": encrypted, "manifest_sha256": manifest}})
}

// asName keeps of a text what is harmless in the name of a file.
func asName(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return -1
	}, s)
}

// receive writes a backup beside its place, and puts it there when it is whole. The SHA-256 is that of the manifest of what
// was received, as its acquisition makes it: whether the backup was changed meanwhile shows in it.
func (q *Acquirer) receive(ctx context.Context, t *run.Task, l handset.Link, password, name string) (to, manifest string, err error) {
	if err := os.MkdirAll(q.Scratch, 0o700); err != nil {
		return "", "", err
	}
	tmp, err := vault.CreateOwned(q.Scratch, "backup-")
	if err != nil {
		return "", "", fmt.Errorf("receiving the backup: %w", err)
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	r, err := l.Backup(ctx, password)
	if err != nil {
		return "", "", err
	}
	defer r.Close()
	sum := sha256.New()
	size, err := io.Copy(io.MultiWriter(tmp, sum), toldReader{r, t.Read})
	if err != nil {
		return "", "", fmt.Errorf("receiving the backup: %w. Nothing of it is kept; ask for it again", err)
	}
	to = filepath.Join(q.Roots[0], name)
	var sums map[string]string
	if l, e := backup.ReadLabel(os.DirFS(filepath.Dir(tmp.Name())), filepath.Base(tmp.Name())); e == nil { // a single file
		to += backup.Extension(l.Layout)
		sums = map[string]string{filepath.Base(to): hex.EncodeToString(sum.Sum(nil))}
		err = place(tmp.Name(), to)
	} else {
		sums, err = unpackTo(tmp, size, to)
	}
	return to, manifestOf(sums), err
}

// manifestOf is the SHA-256 of the manifest of files, given by their paths and SHA-256.
func manifestOf(sums map[string]string) string {
	h := sha256.New()
	for _, path := range slices.Sorted(maps.Keys(sums)) {
		io.WriteString(h, digest.Line{Sum: sums[path], Path: path}.String()+"\n")
	}
	return hex.EncodeToString(h.Sum(nil))
}

type toldReader struct {
	r    io.Reader
	told func(int)
}

func (t toldReader) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.told(n)
	return n, err
}

// place moves a file, also from one disk to another.
func place(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to+".part", os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("keeping the backup: %w", err)
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return errors.Join(fmt.Errorf("keeping the backup: %w", err), os.Remove(to+".part"))
	}
	return os.Rename(to+".part", to)
}

// unpackTo unpacks the archive of a backup's folder, and tells the SHA-256 of its files by their paths.
func unpackTo(r io.ReaderAt, size int64, to string) (sums map[string]string, err error) {
	part := to + ".part"
	if err := os.Mkdir(part, 0o755); err != nil {
		return nil, fmt.Errorf("keeping the backup: %w", err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(part))
		}
	}()
	root, err := os.OpenRoot(part)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	sums = map[string]string{}
	for m, err := range unpack.Members(r, size, unpack.Default) {
		if err != nil {
			return nil, err
		}
		if m.Not != "" {
			continue
		}
		if err := root.MkdirAll(filepath.Dir(filepath.FromSlash(m.Path)), 0o755); err != nil {
			return nil, fmt.Errorf("keeping the backup: %w", err)
		}
		f, err := root.Create(filepath.FromSlash(m.Path))
		if err != nil {
			return nil, fmt.Errorf("keeping the backup: %w", err)
		}
		sum := sha256.New()
		_, err = io.Copy(io.MultiWriter(f, sum), m)
		if err = errors.Join(err, f.Close()); err != nil {
			return nil, fmt.Errorf("keeping the backup: %w", err)
		}
		sums[m.Path] = hex.EncodeToString(sum.Sum(nil)) // of two of one path the later one stays
	}
	return sums, os.Rename(part, to)
}
