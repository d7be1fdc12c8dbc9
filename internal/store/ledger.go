package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"maps"
	"time"

	"crosswind/core/ledger"
)

// Bench is the book for what belongs to no case, such as sign-ins.
const Bench = "bench"

// CaseBook names the ledger of a case.
func CaseBook(reference string) string { return "case " + reference }

// Act is what goes into the ledger: who did what to which thing.
type Act struct {
	Book, By, What, On string
	Detail             map[string]string
}

// Log appends an entry to a ledger. Entries of one book are written one after
// the other, whoever writes them.
func (t *Tx) Log(a Act) error {
	_, err := t.log(a)
	return err
}

// log appends an entry and gives its time.
func (t *Tx) log(a Act) (at time.Time, err error) {
	if err := t.exec("waiting for the ledger", "SELECT pg_advisory_xact_lock(hashtextextended($1, 7))", a.Book); err != nil {
		return at, err
	}
	var last struct {
		Seq  int64
		Line []byte
		At   time.Time
	}
	prev := ledger.Genesis
	err = t.GetContext(t.ctx, &last, "SELECT seq, line, at FROM ledger WHERE book = $1 ORDER BY seq DESC LIMIT 1", a.Book)
	if err == nil {
		prev = ledger.LineHash(last.Line) // of the line itself: the column beside it only serves to find it
	} else if !errors.Is(err, sql.ErrNoRows) {
		return at, fmt.Errorf("reading the ledger's last entry: %w", err)
	}
	at = time.Now().UTC().Truncate(time.Millisecond)
	if at.Before(last.At) { // a clock that was set back must not make time run backwards
		at = last.At.UTC()
	}
	e := ledger.Entry{Book: a.Book, Seq: last.Seq + 1, Prev: prev, At: at.Format(ledger.TimeFormat),
		By: a.By, What: a.What, On: a.On, Detail: a.Detail}
	line, err := e.Line()
	if err != nil {
		return at, fmt.Errorf("writing a ledger entry: %w", err)
	}
	return at, t.exec("appending to the ledger", "INSERT INTO ledger(book, seq, line, hash, at) VALUES ($1, $2, $3, $4, $5)",
		a.Book, e.Seq, line, ledger.LineHash(line), at)
}

// LogRepeated appends an entry the first time, and then only at its tenth, hundredth
// and so on, with how often it has happened by then: what goes wrong again and again
// must not fill the ledger.
func (t *Tx) LogRepeated(a Act) error {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s\x00%s", a.By, a.What, a.On, a.Detail["error"]))
	var times int64
	err := t.GetContext(t.ctx, &times, "INSERT INTO ledger_repeat(book, act, times) VALUES ($1, $2, 1) ON CONFLICT (book, act) DO UPDATE SET times = ledger_repeat.times + 1 RETURNING times",
		a.Book, hex.EncodeToString(sum[:]))
	if err != nil {
		return fmt.Errorf("counting what the ledger repeats: %w", err)
	}
	for n := times; n > 1; n /= 10 {
		if n%10 != 0 {
			return nil
		}
	}
	if times > 1 {
		d := map[string]string{"times": fmt.Sprint(times)}
		maps.Copy(d, a.Detail)
		a.Detail = d
	}
	return t.Log(a)
}

// Log appends a single entry.
func (s *Store) Log(ctx context.Context, a Act) error {
	return s.change(ctx, func(t *Tx) error { return t.Log(a) }, false)
}

// logAll adds entries one after the other.
func (t *Tx) logAll(acts []Act) error {
	for _, a := range acts {
		if err := t.Log(a); err != nil {
			return err
		}
	}
	return nil
}

// Lines yields the lines of a ledger in order.
func (s *Store) Lines(ctx context.Context, book string) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		rows, err := s.db.QueryContext(ctx, "SELECT line FROM ledger WHERE book = $1 ORDER BY seq", book)
		if err != nil {
			yield(nil, fmt.Errorf("reading the ledger: %w", err))
			return
		}
		defer rows.Close()
		for rows.Next() {
			var line []byte
			if err := rows.Scan(&line); err != nil {
				yield(nil, fmt.Errorf("reading the ledger: %w", err))
				return
			}
			if !yield(line, nil) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(nil, fmt.Errorf("reading the ledger: %w", err))
		}
	}
}

// SignedHead reads a ledger from end to end and signs how far it has come. A
// ledger that does not hold, or does not extend what was signed before, is not signed.
func (s *Store) SignedHead(ctx context.Context, book string) (*ledger.Head, error) {
	c, err := s.readLedger(ctx, book)
	if err != nil {
		return nil, err
	}
	if len(c.Faults) > 0 {
		return nil, fmt.Errorf("the ledger does not hold and is not signed: %w", c.Faults[0])
	}
	h := c.Head()
	if err := h.Sign(s.key); err != nil {
		return nil, err
	}
	return &h, s.heads.Keep(&h)
}

// readLedger reads a ledger from end to end and checks it, also against the heads
// that were signed before and the clock.
func (s *Store) readLedger(ctx context.Context, book string) (*ledger.Checker, error) {
	heads, err := s.heads.Of(book)
	if err != nil {
		return nil, err
	}
	c := &ledger.Checker{Book: book, Now: time.Now(), Heads: heads}
	for line, err := range s.Lines(ctx, book) {
		if err != nil {
			return nil, err
		}
		c.Add(line)
	}
	c.End()
	return c, nil
}

// CheckLedger reads a ledger from end to end, and keeps what was found. If it holds,
// its head is signed and kept outside the database.
func (s *Store) CheckLedger(ctx context.Context, book string) ([]ledger.Fault, error) {
	c, err := s.readLedger(ctx, book)
	if err != nil {
		return nil, err
	}
	fault := ""
	if len(c.Faults) > 0 {
		fault = c.Faults[0].Error()
	} else if c.Entries > 0 && s.heads != nil {
		h := c.Head()
		if err := errors.Join(h.Sign(s.key), s.heads.Keep(&h)); err != nil {
			return nil, err
		}
	}
	_, err = s.db.ExecContext(ctx, "INSERT INTO ledger_check(book, at, size, fault) VALUES ($1, $2, $3, $4)", book, time.Now(), c.Entries, fault)
	if err != nil {
		return nil, fmt.Errorf("keeping the ledger's check: %w", err)
	}
	return c.Faults, nil
}

// Heads gives the heads of a ledger that were signed before.
func (s *Store) Heads(book string) ([]ledger.Head, error) { return s.heads.Of(book) }

// LedgerState is how far a ledger has come, for the foot of every page.
type LedgerState struct {
	Size      int64
	Hash      string // of the last line
	Last      *ledger.Entry
	CheckedAt *time.Time
	Fault     string // what the last check found
}

// LedgerState reads the last entry of a ledger and its last check, and compares the
// ledger with the head that was signed last.
func (s *Store) LedgerState(ctx context.Context, book string) (*LedgerState, error) {
	var row struct {
		Seq  int64
		Line []byte
	}
	st := &LedgerState{}
	err := s.db.GetContext(ctx, &row, "SELECT seq, line FROM ledger WHERE book = $1 ORDER BY seq DESC LIMIT 1", book)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("reading the ledger's last entry: %w", err)
	}
	if err == nil {
		st.Size, st.Hash, st.Last = row.Seq, ledger.LineHash(row.Line), &ledger.Entry{}
		if err := json.Unmarshal(row.Line, st.Last); err != nil {
			st.Fault = fmt.Sprintf("the ledger's last entry is none: %v", err)
		}
	}
	var check struct {
		At    time.Time
		Fault string
	}
	err = s.db.GetContext(ctx, &check, "SELECT at, fault FROM ledger_check WHERE book = $1 ORDER BY id DESC LIMIT 1", book)
	if err == nil {
		st.CheckedAt, st.Fault = &check.At, cmp.Or(st.Fault, check.Fault)
	} else if !errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("reading the ledger's last check: %w", err)
	}
	fault, err := s.againstLastHead(ctx, book, st.Size)
	st.Fault = cmp.Or(fault, st.Fault)
	return st, err
}

// againstLastHead says how a ledger of a size fails to extend the head that was
// signed last: by the one line that the head ends with, so that every page can ask. A
// check of the whole compares the tree.
func (s *Store) againstLastHead(ctx context.Context, book string, size int64) (string, error) {
	h, err := s.heads.Last(book)
	if err != nil || h == nil {
		return "", err
	}
	said := fmt.Sprintf("the head that was signed on %s names %d entries", h.At, h.Size)
	if size < h.Size {
		return fmt.Sprintf("%s, and %d are there: the ledger was cut", said, size), nil
	}
	var line []byte
	if err := s.db.GetContext(ctx, &line, "SELECT line FROM ledger WHERE book = $1 AND seq = $2", book, h.Size); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return said + ", and the last of them is not there", nil
		}
		return "", fmt.Errorf("reading the ledger: %w", err)
	}
	if ledger.LineHash(line) != h.Last {
		return said + ", and the last of them is another: the ledger was rewritten", nil
	}
	return "", nil
}

// LedgerEntry is an entry as a page shows it.
type LedgerEntry struct {
	ledger.Entry
	Hash string
}

// LedgerFilter narrows entries to those that have a text in what was done, on which thing, or by whom, in any case. Zero
// values narrow nothing.
type LedgerFilter struct{ What, On, By string }

// LedgerPage lists entries of a filter before seq, the newest first.
func (s *Store) LedgerPage(ctx context.Context, book string, f LedgerFilter, before int64, limit int) ([]LedgerEntry, error) {
	where, args := "book = $1 AND seq < $2", []any{book, before}
	for _, x := range [][2]string{{"what", f.What}, {"on", f.On}, {"by", f.By}} {
		if x[1] != "" {
			args = append(args, x[1])
			where += fmt.Sprintf(" AND strpos(lower(convert_from(line, 'UTF8')::jsonb->>'%s'), lower($%d)) > 0", x[0], len(args))
		}
	}
	args = append(args, limit)
	return s.entries(ctx, where+fmt.Sprintf(" ORDER BY seq DESC LIMIT $%d", len(args)), args...)
}

// leaves are what entries of what has left say that was done.
var leaves = Array[string]{"records.taken_out", "report.taken_out", "report.downloaded", "package.downloaded", "manifest.downloaded"}

// Left lists the entries of what has left a case, the newest first.
func (s *Store) Left(ctx context.Context, c *Case, limit int) ([]LedgerEntry, error) {
	return s.entries(ctx, "book = $1 AND convert_from(line, 'UTF8')::jsonb->>'what' = ANY($2) ORDER BY seq DESC LIMIT $3", c.Book(), leaves.param(), limit)
}

func (s *Store) entries(ctx context.Context, where string, args ...any) ([]LedgerEntry, error) {
	var rows []struct {
		Line []byte
		Hash string
	}
	if err := s.list(ctx, &rows, "listing the ledger", "SELECT line, hash FROM ledger WHERE "+where, args...); err != nil {
		return nil, err
	}
	out := make([]LedgerEntry, len(rows))
	for i, r := range rows {
		out[i].Hash = r.Hash
		if err := json.Unmarshal(r.Line, &out[i].Entry); err != nil {
			return nil, fmt.Errorf("a ledger entry: %w", err)
		}
	}
	return out, nil
}
