package acquire

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"sync"
	"time"

	"crosswind/core/digest"
	"crosswind/internal/handset"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
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
	seen := map[string]bool{}
	for _, v := range volumes {
		if seen[filepath.Base(v.Name)] || v.Size < 0 {
			return fmt.Errorf("the handset names the volume %q twice, or of %d bytes", v.Name, v.Size)
		}
		seen[filepath.Base(v.Name)] = true
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
	if err := q.Store.AddFaults(ctx, t.Run, a, faults); err != nil {
		return err
	}
	if err := q.images(ctx, t, a, false); err != nil {
		return err
	}
	return q.end(ctx, t, c, a, sub.Reference)
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
	every := cmp.Or(q.SyncEvery, syncEvery)
	// What lies behind the last sync may not have reached the disk.
	have := min(max(0, st.Size()-2*every), v.Size) / sectorSize * sectorSize
	if err := q.Store.DropUnread(ctx, t.Run, a.ID, name, have); err != nil {
		return err
	}
	if have > 0 {
		t.Logf("%s: %d bytes were read before; the reading goes on behind them", name, have)
	}
	if err := part.Truncate(have); err != nil {
		return fmt.Errorf("keeping what is read: %w", err)
	}
	w := digest.NewWriter()
	defer w.Sum() // which also ends its work
	if _, err := io.Copy(struct{ io.Writer }{w}, toldReader{io.NewSectionReader(part, 0, have), t.Read}); err != nil {
		return fmt.Errorf("reading what was kept: %w", err)
	}
	to := &synced{f: part, every: every, at: have}
	rest := &blocks{link: l, v: v, unread: func(from, to int64) error {
		t.Found("bytes not read", to-from)
		t.Logf("%s: bytes %d to %d cannot be read", name, from, to-1)
		return q.Store.AddUnread(ctx, t.Run, a.ID, name, from, to)
	}}
	for b, err := range rest.ahead(ctx, have) {
		if errors.Is(err, handset.ErrGone) {
			return fmt.Errorf("the handset went away while %s was read (%w). What was read is kept: connect it again, in service mode, and resume this run", name, err)
		}
		if err == nil {
			w.Write(b)
			err = to.write(b)
		}
		if err != nil {
			return err
		}
		t.Read(len(b))
	}
	if err := to.wait(); err != nil {
		return vault.Writing(err)
	}
	set := w.Sum()
	if set.Size != v.Size {
		return fmt.Errorf("%s has %d bytes, and %d were read", v.Name, v.Size, set.Size)
	}
	if err := q.Vault.Take(ctx, path, set); err != nil {
		return err
	}
	now := time.Now().UTC()
	out := &store.File{AcquisitionID: a.ID, Path: name, ModifiedAt: &now}
	return q.list(ctx, t, out, set)
}

// syncEvery is after how many bytes what was read is synced to the disk, unless an
// Acquirer says otherwise. Twice as much may be lost when the power fails.
const syncEvery = 64 << 20

// synced is a file that is synced while it is written on. Blocks of zeros are
// holes in it.
type synced struct {
	f     *os.File
	every int64
	at    int64
	n     int64
	done  chan error // of the sync that is under way
}

func (s *synced) write(b []byte) (err error) {
	if bytes.Count(b, []byte{0}) == len(b) {
		err = s.f.Truncate(s.at + int64(len(b)))
	} else {
		_, err = s.f.WriteAt(b, s.at)
	}
	if err != nil {
		return vault.Writing(err)
	}
	s.at += int64(len(b))
	if s.n += int64(len(b)); s.n < s.every {
		return nil
	}
	s.n = 0
	if err := s.wait(); err != nil {
		return vault.Writing(err)
	}
	s.done = make(chan error, 1)
	go func(done chan error) { done <- s.f.Sync() }(s.done)
	return nil
}

// wait waits for the sync that is under way.
func (s *synced) wait() error {
	if s.done == nil {
		return nil
	}
	err := <-s.done
	s.done = nil
	return err
}

// blocks reads a volume in order. What cannot be read at once is read in smaller
// parts, and what then still cannot is zeros.
type blocks struct {
	link   handset.Link
	v      handset.Volume
	unread func(from, to int64) error
}

// readAhead is how many blocks are read before they are asked for.
const readAhead = 4

// ahead yields the volume's blocks from an offset on. A block is good until the
// next one is asked for.
func (b *blocks) ahead(ctx context.Context, at int64) iter.Seq2[[]byte, error] {
	type block struct {
		p   []byte
		err error
	}
	return func(yield func([]byte, error) bool) {
		ctx, stop := context.WithCancel(ctx)
		ready, free := make(chan block), make(chan []byte, readAhead)
		var reading sync.WaitGroup
		defer func() { stop(); reading.Wait() }()
		for range readAhead {
			free <- make([]byte, blockSize)
		}
		reading.Go(func() {
			defer close(ready)
			for ; at < b.v.Size; at += blockSize {
				var p []byte
				select {
				case p = <-free:
				case <-ctx.Done():
					return
				}
				p = p[:min(blockSize, b.v.Size-at)]
				err := b.fill(ctx, p, at)
				select {
				case ready <- block{p, err}:
				case <-ctx.Done():
					return
				}
				if err != nil {
					return
				}
			}
		})
		for r := range ready {
			if !yield(r.p, r.err) || r.err != nil {
				return
			}
			free <- r.p[:blockSize]
		}
		if ctx.Err() != nil {
			yield(nil, context.Cause(ctx))
		}
	}
}

// fill reads p from an offset, halving what cannot be read down to a sector.
func (b *blocks) fill(ctx context.Context, p []byte, at int64) error {
	err := b.link.Blocks(ctx, b.v.Name, at, p)
	if !errors.Is(err, handset.ErrUnread) {
		return err
	}
	if len(p) <= sectorSize {
		// Once more: some read errors pass.
		if err := b.link.Blocks(ctx, b.v.Name, at, p); !errors.Is(err, handset.ErrUnread) {
			return err
		}
		clear(p)
		return b.unread(at, at+int64(len(p)))
	}
	half := (len(p)/2 + sectorSize - 1) / sectorSize * sectorSize
	if err := b.fill(ctx, p[:half], at); err != nil {
		return err
	}
	return b.fill(ctx, p[half:], at+int64(half))
}
