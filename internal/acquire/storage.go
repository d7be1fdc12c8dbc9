package acquire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"crosswind/internal/handset"
	"crosswind/internal/run"
	"crosswind/internal/store"
)

// Sizes of what is asked of raw storage at once, and of what is filled with zeros
// if it cannot be read.
const (
	blockSize  = 1 << 20
	sectorSize = 512
)

// Storage acquires the raw storage of a handset in service mode, each volume as
// an image. What was read of a volume before a run broke off is not read again.
func (q *Acquirer) Storage(ctx context.Context, t *run.Task) error {
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
	if st.Mode != "service" {
		return errors.New("the handset is not in service mode")
	}
	volumes, err := l.Volumes(ctx)
	if err != nil {
		return fmt.Errorf("listing the handset's volumes: %w", err)
	}
	a, err := q.beginHandset(ctx, t, c, &sub, st, MethodStorage, fmt.Sprintf("all blocks of all volumes, %d bytes at once; unreadable sectors of %d bytes filled with zeros", blockSize, sectorSize))
	if err != nil {
		return err
	}
	var total int64
	for _, v := range volumes {
		total += v.Size
	}
	t.Total(total, int64(len(volumes)))
	var faults []store.AcquisitionFault
	for _, v := range volumes {
		name := filepath.Base(v.Name) + ".img"
		kept, err := q.Store.FileByPath(ctx, a.ID, store.Source, name)
		if err == nil && q.Vault.Has(kept.SHA256, kept.Size) {
			t.Done(kept.Size, 1)
		} else if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		} else if err := q.volume(ctx, t, a, l, v, name); err != nil {
			return err
		}
		unread, err := q.Store.Unread(ctx, a.ID, name)
		if err != nil {
			return err
		}
		for _, u := range unread {
			faults = append(faults, store.AcquisitionFault{Path: name, Fault: fmt.Sprintf("bytes %d to %d could not be read; zeros stand in their place", u.From, u.To-1)})
		}
	}
	return q.end(ctx, t, c, a, sub.Reference, faults)
}

// volume puts a volume into the vault. On its way it is kept in a scratch file,
// with a note of what of it could not be read, from which a resumed run goes on.
func (q *Acquirer) volume(ctx context.Context, t *run.Task, a *store.Acquisition, l handset.Link, v handset.Volume, name string) error {
	if err := os.MkdirAll(q.Scratch, 0o700); err != nil {
		return err
	}
	path := filepath.Join(q.Scratch, fmt.Sprintf("acquisition-%d-%s", a.ID, name))
	part, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("keeping what is read: %w", err)
	}
	defer part.Close()
	st, err := part.Stat()
	if err != nil {
		return err
	}
	// What lies behind the last sync may not have reached the disk.
	have := min(max(0, st.Size()-syncEvery), v.Size) / sectorSize * sectorSize
	if err := q.Store.DropUnread(ctx, a.ID, name, have); err != nil {
		return err
	}
	if have > 0 {
		t.Logf("%s: %d bytes were read before; the reading goes on behind them", name, have)
	}
	if _, err := part.Seek(have, io.SeekStart); err != nil {
		return err
	}
	rest := &blocks{ctx: ctx, link: l, v: v, at: have, unread: func(from, to int64) error {
		t.Found("bytes not read", to-from)
		t.Logf("%s: bytes %d to %d cannot be read", name, from, to-1)
		return q.Store.AddUnread(ctx, a.ID, name, from, to)
	}}
	now := time.Now().UTC()
	out := &store.File{AcquisitionID: a.ID, Path: name, ModifiedAt: &now}
	all := io.MultiReader(io.NewSectionReader(part, 0, have), io.TeeReader(rest, &synced{part, 0}))
	if err := q.keep(ctx, t, out, all, v.Size); err != nil {
		if errors.Is(err, handset.ErrGone) {
			return fmt.Errorf("the handset went away while %s was read (%w). What was read is kept: connect it again, in service mode, and resume this run", name, err)
		}
		return err
	}
	return os.Remove(path)
}

// syncEvery is how many bytes may be lost when the power fails.
const syncEvery = 64 << 20

// synced is a file that is synced every now and then.
type synced struct {
	f *os.File
	n int64
}

func (s *synced) Write(p []byte) (int, error) {
	n, err := s.f.Write(p)
	if s.n += int64(n); err == nil && s.n >= syncEvery {
		s.n, err = 0, s.f.Sync()
	}
	return n, err
}

// blocks reads a volume in order. What cannot be read at once is read in smaller
// parts, and what then still cannot is zeros.
type blocks struct {
	ctx    context.Context
	link   handset.Link
	v      handset.Volume
	at     int64
	buf    []byte // read and not yet given
	room   [blockSize]byte
	unread func(from, to int64) error
}

func (b *blocks) Read(p []byte) (int, error) {
	if len(b.buf) == 0 {
		if b.at >= b.v.Size {
			return 0, io.EOF
		}
		n := min(blockSize, b.v.Size-b.at)
		if err := b.fill(b.room[:n], b.at); err != nil {
			return 0, err
		}
		b.buf = b.room[:n]
		b.at += n
	}
	n := copy(p, b.buf)
	b.buf = b.buf[n:]
	return n, nil
}

// fill reads p from an offset, halving what cannot be read down to a sector.
func (b *blocks) fill(p []byte, at int64) error {
	err := b.link.Blocks(b.ctx, b.v.Name, at, p)
	if !errors.Is(err, handset.ErrUnread) {
		return err
	}
	if len(p) <= sectorSize {
		// Once more: some read errors pass.
		if err := b.link.Blocks(b.ctx, b.v.Name, at, p); !errors.Is(err, handset.ErrUnread) {
			return err
		}
		clear(p)
		return b.unread(at, at+int64(len(p)))
	}
	half := (len(p)/2 + sectorSize - 1) / sectorSize * sectorSize
	if err := b.fill(p[:half], at); err != nil {
		return err
	}
	return b.fill(p[half:], at+int64(half))
}
