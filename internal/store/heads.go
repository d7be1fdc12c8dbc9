package store

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"syscall"
	"time"

	"crosswind/core/ledger"
)

// Heads keeps the signed heads of the ledgers where the database cannot reach them:
// in files that are only appended to, one head a line, in canonical form. Several
// processes may keep heads in the same files.
type Heads struct {
	paths []string
	key   string // hex, that signs them

	mu    sync.Mutex
	read  map[string]int64 // bytes read of each file
	heads map[string][]ledger.Head
}

// OpenHeads opens the files at paths, making them if need be. Lines that a key other
// than the given one signed, or that are none, are an error: somebody else wrote
// there.
func OpenHeads(key []byte, paths ...string) (*Heads, error) {
	h := &Heads{paths: paths, key: hex.EncodeToString(key), read: map[string]int64{}, heads: map[string][]ledger.Head{}}
	for _, p := range paths {
		f, err := os.OpenFile(p, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
		if err != nil {
			return nil, fmt.Errorf("the file of signed heads: %w", err)
		}
		f.Close()
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return h, h.update()
}

// update reads what was appended since.
func (h *Heads) update() error {
	if h == nil {
		return nil
	}
	for _, p := range h.paths {
		if err := h.updateFrom(p); err != nil {
			return fmt.Errorf("the signed heads in %s: %w", p, err)
		}
	}
	return nil
}

func (h *Heads) updateFrom(p string) error {
	f, err := os.Open(p)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if st.Size() == h.read[p] {
		return nil
	}
	if st.Size() < h.read[p] {
		return errors.New("the file was cut")
	}
	if _, err := f.Seek(h.read[p], io.SeekStart); err != nil {
		return err
	}
	r := bufio.NewReader(f)
	for {
		line, err := r.ReadBytes('\n')
		if err == io.EOF {
			return nil // what is being written is read next time
		}
		if err != nil {
			return err
		}
		x, err := ledger.ParseHead(bytes.TrimSuffix(line, []byte("\n")))
		if err == nil && x.Key != h.key {
			err = fmt.Errorf("a head was signed by the key %s, this Crosswind's is %s", x.Key, h.key)
		}
		if err != nil {
			return fmt.Errorf("at byte %d: %w", h.read[p], err)
		}
		h.read[p] += int64(len(line))
		h.add(*x)
	}
}

// add keeps heads by size, each size once: but two heads of one size that differ are
// both kept, since one of them is a forgery.
func (h *Heads) add(x ledger.Head) {
	all := h.heads[x.Book]
	i := len(all)
	for i > 0 && all[i-1].Size > x.Size {
		i--
	}
	for j := i; j > 0 && all[j-1].Size == x.Size; j-- {
		if all[j-1].Root == x.Root {
			return
		}
	}
	all = append(all, ledger.Head{})
	copy(all[i+1:], all[i:])
	all[i] = x
	h.heads[x.Book] = all
}

// Of gives the heads of a book by size.
func (h *Heads) Of(book string) ([]ledger.Head, error) {
	if h == nil {
		return nil, nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	err := h.update()
	return append([]ledger.Head(nil), h.heads[book]...), err
}

// Last gives the head of a book that names the most entries, nil if there is none.
func (h *Heads) Last(book string) (*ledger.Head, error) {
	if h == nil {
		return nil, nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := h.update(); err != nil || len(h.heads[book]) == 0 {
		return nil, err
	}
	x := h.heads[book][len(h.heads[book])-1]
	return &x, nil
}

// books lists the books of which heads are kept.
func (h *Heads) books() (out []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for b := range h.heads {
		out = append(out, b)
	}
	return out
}

// Keep appends a signed head to every file, and syncs it.
func (h *Heads) Keep(x *ledger.Head) error {
	if h == nil {
		return nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := h.update(); err != nil {
		return err
	}
	if all := h.heads[x.Book]; len(all) > 0 && all[len(all)-1].Size == x.Size && all[len(all)-1].Root == x.Root {
		return nil // kept already
	}
	line, err := x.Line()
	if err != nil {
		return err
	}
	for _, p := range h.paths {
		if err := appendLine(p, append(line, '\n')); err != nil {
			return fmt.Errorf("keeping a signed head: %w", err)
		}
	}
	return h.update()
}

// appendLine appends a line as a whole, one process after the other. What a process
// that died left of a line is ended first.
func appendLine(path string, line []byte) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		return err
	}
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if n := st.Size(); n > 0 {
		var last [1]byte
		if _, err := f.ReadAt(last[:], n-1); err != nil {
			return err
		}
		if last[0] != '\n' {
			if err := dropTorn(f, n); err != nil {
				return err
			}
		}
	}
	if _, err := f.Write(line); err != nil {
		return err
	}
	return f.Sync()
}

// dropTorn removes the beginning of a line that was never ended: it was never read,
// and no head was promised by it.
func dropTorn(f *os.File, size int64) error {
	b := make([]byte, min(size, 1<<16))
	if _, err := f.ReadAt(b, size-int64(len(b))); err != nil {
		return err
	}
	return f.Truncate(size - int64(len(b)) + int64(bytes.LastIndexByte(b, '\n')) + 1)
}

// witness follows the ledgers as they grow.
type witness struct {
	mu    sync.Mutex
	books map[string]*ledger.Checker
}

// Witness signs and keeps the heads of all ledgers that have grown since, reading
// only what is new. A ledger that does not extend the last head is not signed, and
// that it does not is kept as a check's fault.
func (s *Store) Witness(ctx context.Context) error {
	if s.heads == nil {
		return nil
	}
	s.seen.mu.Lock()
	defer s.seen.mu.Unlock()
	var now []struct {
		Book string
		Size int64
	}
	if err := s.list(ctx, &now, "listing the ledgers", "SELECT book, max(seq) AS size FROM ledger GROUP BY book"); err != nil {
		return err
	}
	size := map[string]int64{}
	for _, b := range now {
		size[b.Book] = b.Size
	}
	for _, b := range s.heads.books() {
		size[b] += 0 // one that is gone altogether, too
	}
	var all error
	for book, n := range size {
		if err := s.witnessOne(ctx, book, n); err != nil {
			all = errors.Join(all, fmt.Errorf("the ledger of %s: %w", book, err))
		}
	}
	return all
}

func (s *Store) witnessOne(ctx context.Context, book string, size int64) error {
	last, err := s.heads.Last(book)
	if err != nil || last != nil && last.Size == size {
		return err
	}
	c := s.seen.books[book]
	if c == nil || c.Entries > size || len(c.Faults) > 0 {
		heads, err := s.heads.Of(book)
		if err != nil {
			return err
		}
		c = &ledger.Checker{Book: book, Heads: heads}
	}
	c.Now = time.Now()
	rows, err := s.db.QueryContext(ctx, "SELECT line FROM ledger WHERE book = $1 AND seq > $2 ORDER BY seq", book, c.Entries)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var line []byte
		if err := rows.Scan(&line); err != nil {
			return err
		}
		c.Add(line)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	c.End()
	if len(c.Faults) == 0 && last != nil && c.Entries > last.Size && s.seen.books[book] == c {
		// Another process may have signed meanwhile: its head must be one of this ledger's.
		if fault, err := s.againstLastHead(ctx, book, c.Entries); err != nil || fault != "" {
			return errors.Join(err, s.keepFault(ctx, book, c.Entries, fault))
		}
	}
	if s.seen.books == nil {
		s.seen.books = map[string]*ledger.Checker{}
	}
	s.seen.books[book] = c
	if len(c.Faults) > 0 {
		return s.keepFault(ctx, book, c.Entries, c.Faults[0].Error())
	}
	h := c.Head()
	return errors.Join(h.Sign(s.key), s.heads.Keep(&h))
}

// keepFault keeps what was found of a ledger, once.
func (s *Store) keepFault(ctx context.Context, book string, size int64, fault string) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO ledger_check(book, at, size, fault) SELECT $1, now(), $2, $3
WHERE NOT coalesce((SELECT fault = $3 FROM ledger_check WHERE book = $1 ORDER BY id DESC LIMIT 1), false)`, book, size, fault)
	return err
}
