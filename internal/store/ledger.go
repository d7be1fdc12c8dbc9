package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
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
	if err := t.exec("waiting for the ledger", "SELECT pg_advisory_xact_lock(hashtextextended($1, 7))", a.Book); err != nil {
		return err
	}
	var last struct {
		Seq  int64
		Hash string
		At   time.Time
	}
	err := t.GetContext(t.ctx, &last, "SELECT seq, hash, at FROM ledger WHERE book = $1 ORDER BY seq DESC LIMIT 1", a.Book)
	if errors.Is(err, sql.ErrNoRows) {
		last.Hash = ledger.Genesis
	} else if err != nil {
		return fmt.Errorf("reading the ledger's last entry: %w", err)
	}
	at := time.Now().UTC().Truncate(time.Millisecond)
	if at.Before(last.At) { // a clock that was set back must not make time run backwards
		at = last.At.UTC()
	}
	e := ledger.Entry{Book: a.Book, Seq: last.Seq + 1, Prev: last.Hash, At: at.Format(ledger.TimeFormat),
		By: a.By, What: a.What, On: a.On, Detail: a.Detail}
	line, err := e.Line()
	if err != nil {
		return fmt.Errorf("writing a ledger entry: %w", err)
	}
	return t.exec("appending to the ledger", "INSERT INTO ledger(book, seq, line, hash, at) VALUES ($1, $2, $3, $4, $5)",
		a.Book, e.Seq, line, ledger.LineHash(line), at)
}

// Log appends a single entry.
func (s *Store) Log(ctx context.Context, a Act) error {
	return s.Change(ctx, func(t *Tx) error { return t.Log(a) })
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
// ledger that does not hold is not signed.
func (s *Store) SignedHead(ctx context.Context, book string) (*ledger.Head, error) {
	c, err := s.readLedger(ctx, book)
	if err != nil {
		return nil, err
	}
	if len(c.Faults) > 0 {
		return nil, fmt.Errorf("the ledger does not hold and is not signed: %w", c.Faults[0])
	}
	h := c.Head()
	return &h, h.Sign(s.key)
}

func (s *Store) readLedger(ctx context.Context, book string) (*ledger.Checker, error) {
	c := &ledger.Checker{}
	for line, err := range s.Lines(ctx, book) {
		if err != nil {
			return nil, err
		}
		c.Add(line)
	}
	return c, nil
}

// CheckLedger reads a ledger from end to end, and keeps what was found.
func (s *Store) CheckLedger(ctx context.Context, book string) ([]ledger.Fault, error) {
	c, err := s.readLedger(ctx, book)
	if err != nil {
		return nil, err
	}
	fault := ""
	if len(c.Faults) > 0 {
		fault = c.Faults[0].Error()
	}
	_, err = s.db.ExecContext(ctx, "INSERT INTO ledger_check(book, at, size, fault) VALUES ($1, $2, $3, $4)", book, time.Now(), c.Entries, fault)
	if err != nil {
		return nil, fmt.Errorf("keeping the ledger's check: %w", err)
	}
	return c.Faults, nil
}

// LedgerState is how far a ledger has come, for the foot of every page.
type LedgerState struct {
	Size      int64
	Hash      string // of the last line
	Last      *ledger.Entry
	CheckedAt *time.Time
	Fault     string // what the last check found
}

// LedgerState reads the last entry of a ledger and its last check.
func (s *Store) LedgerState(ctx context.Context, book string) (*LedgerState, error) {
	var row struct {
		Seq  int64
		Hash string
		Line []byte
	}
	st := &LedgerState{}
	err := s.db.GetContext(ctx, &row, "SELECT seq, hash, line FROM ledger WHERE book = $1 ORDER BY seq DESC LIMIT 1", book)
	if errors.Is(err, sql.ErrNoRows) {
		return st, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the ledger's last entry: %w", err)
	}
	st.Size, st.Hash, st.Last = row.Seq, row.Hash, &ledger.Entry{}
	if err := json.Unmarshal(row.Line, st.Last); err != nil {
		return nil, fmt.Errorf("the ledger's last entry: %w", err)
	}
	var check struct {
		At    time.Time
		Fault string
	}
	err = s.db.GetContext(ctx, &check, "SELECT at, fault FROM ledger_check WHERE book = $1 ORDER BY id DESC LIMIT 1", book)
	if err == nil {
		st.CheckedAt, st.Fault = &check.At, check.Fault
	} else if !errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("reading the ledger's last check: %w", err)
	}
	return st, nil
}

// LedgerEntry is an entry as a page shows it.
type LedgerEntry struct {
	ledger.Entry
	Hash string
}

// LedgerPage lists entries before seq, the newest first.
func (s *Store) LedgerPage(ctx context.Context, book string, before int64, limit int) ([]LedgerEntry, error) {
	var rows []struct {
		Line []byte
		Hash string
	}
	if err := s.list(ctx, &rows, "listing the ledger", "SELECT line, hash FROM ledger WHERE book = $1 AND seq < $2 ORDER BY seq DESC LIMIT $3", book, before, limit); err != nil {
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
