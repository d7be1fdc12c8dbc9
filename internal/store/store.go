// Package store keeps what Crosswind knows in PostgreSQL. It writes out its
// SQL; every list that can grow is paged by key and has its index.
package store

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"golang.org/x/sync/singleflight"
)

// Store is an open database. It is safe for concurrent use.
type Store struct {
	db      *sqlx.DB
	pool    *pgxpool.Pool
	key     ed25519.PrivateKey
	heads   *Heads
	stamper Stamper
	seen    witness
	asking  singleflight.Group // of what is kept
	memory  memory
	holding sync.Mutex     // while something is read to be held
	behind  sync.WaitGroup // what is done behind an answer
	ctx     context.Context
	cancel  context.CancelFunc // ends it
}

// Options are what a store needs beside its database.
type Options struct {
	Key   ed25519.PrivateKey // signs the heads of the ledgers
	Heads *Heads             // where they are kept, outside the database
	// Stamper gives the heads time stamps, nil for none.
	Stamper Stamper
	// Connections are how many are held at most; 0 is a few. A run needs two beside
	// those of pages: its lease must not wait behind its own work.
	Connections int
	// AsOwner opens the database even as a role that could rewrite the ledger.
	AsOwner bool
}

// Open connects to the database at url, whose schema Migrate has made.
func Open(ctx context.Context, url string, o Options) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database address: %w", err)
	}
	cfg.ConnConfig.ConnectTimeout = 20 * time.Second // a busy machine takes more than 5
	// A worker that is held up within a change must not hold what it has locked for ever.
	cfg.ConnConfig.RuntimeParams["idle_in_transaction_session_timeout"] = "20s"
	// Filters differ so much in what they leave that a plan for any of them is one for none.
	cfg.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_custom_plan"
	cfg.ConnConfig.RuntimeParams["jit"] = "off"       // compiling took longer than any page's query
	cfg.ConnConfig.RuntimeParams["work_mem"] = "32MB" // what a chart counts is sorted in memory
	cfg.AfterConnect = door
	cfg.MaxConns = int32(max(o.Connections, 10))
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("the database: %w", err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("the database at %s:%d cannot be reached: %w", cfg.ConnConfig.Host, cfg.ConnConfig.Port, err)
	}
	db := sql.OpenDB(doorConnector{stdlib.GetPoolConnector(pool)})
	db.SetMaxIdleConns(0) // the pool keeps them
	role, err := checkRole(ctx, db)
	if o.AsOwner {
		role = nil
	}
	if err == nil {
		err = role
	}
	s := &Store{db: sqlx.NewDb(db, "pgx"), pool: pool, key: o.Key, heads: o.Heads, stamper: o.Stamper}
	s.ctx, s.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if err == nil {
		err = s.fillParties(ctx)
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// DB is the database itself, for the session store.
func (s *Store) DB() *sql.DB { return s.db.DB }

// Key is the public half of the key that signs ledger heads and packages.
func (s *Store) Key() ed25519.PublicKey { return s.key.Public().(ed25519.PublicKey) }

// Close ends all connections.
func (s *Store) Close() {
	s.cancel()
	s.behind.Wait()
	s.db.Close()
	s.pool.Close()
}

// ErrNotFound is returned when the thing asked for is not there.
var ErrNotFound = errors.New("not found")

// Held makes a change for a run, and refuses it if another worker has the run by now:
// every write of a run comes this way.
func (s *Store) Held(ctx context.Context, r *Run, f func(*Tx) error) error {
	return s.change(ctx, func(t *Tx) error {
		if err := f(t); err != nil {
			return err
		}
		return t.holds(r)
	}, false)
}

// holds says whether a run is still this worker's, by its fencing token, and keeps it
// so until the transaction ends. It comes last: while it holds, the lease cannot be
// renewed.
func (t *Tx) holds(r *Run) error {
	var one int
	err := t.GetContext(t.ctx, &one, "SELECT 1 FROM run WHERE id = $1 AND fence = $2 AND state = 'running' FOR SHARE", r.ID, r.Fence)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrLost
	}
	if err != nil {
		return fmt.Errorf("holding run %d: %w", r.ID, err)
	}
	return nil
}

// ErrConflict is wrapped when somebody else has changed a thing meanwhile.
var ErrConflict = errors.New("was changed meanwhile by somebody else")

// ErrTaken is wrapped when a reference that must be unique is in use.
var ErrTaken = errors.New("is in use already")

// get reads one row into a struct.
func (s *Store) get(ctx context.Context, dst any, what, q string, args ...any) error {
	err := s.db.GetContext(ctx, dst, q, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// list reads rows into a slice of structs.
func (s *Store) list(ctx context.Context, dst any, what, q string, args ...any) error {
	if err := s.db.SelectContext(ctx, dst, q, args...); err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// Tx is a change of the database together with its entries in the ledger:
// both are there, or neither.
type Tx struct {
	*sqlx.Tx
	ctx  context.Context
	conn *sqlx.Conn
}

// load loads rows by COPY.
func (t *Tx) load(table string, cols []string, rows pgx.CopyFromSource) error {
	return t.conn.Raw(func(c any) error {
		_, err := c.(doorConn).Conn.Conn().CopyFrom(t.ctx, pgx.Identifier{table}, cols, rows)
		return err
	})
}

// Change runs f in a transaction. If ctx carries the key of a form that was sent
// before, nothing is done, and the error is ErrSent.
func (s *Store) Change(ctx context.Context, f func(*Tx) error) error {
	return s.change(ctx, f, true)
}

func (s *Store) change(ctx context.Context, f func(*Tx) error, form bool) (err error) {
	conn, err := s.db.Connx(ctx)
	if err != nil {
		return fmt.Errorf("beginning a transaction: %w", err)
	}
	defer conn.Close()
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("beginning a transaction: %w", err)
	}
	defer tx.Rollback()
	t := &Tx{tx, ctx, conn}
	sent, _ := ctx.Value(formKey{}).(*sentForm)
	if form && sent != nil {
		took, err := sent.take(t)
		if err != nil {
			return err
		}
		if took {
			defer func() { sent.settle(err == nil) }()
		}
	}
	if err = f(t); err != nil {
		return err
	}
	if err = tx.Commit(); err != nil {
		err = fmt.Errorf("committing: %w", err)
	}
	return err
}

// ErrSent is returned where a form was sent before: what it asked for is done.
var ErrSent = errors.New("this form was sent before, and what it asks for is done")

type formKey struct{}

// sentForm is a form that is being handled: the first change that it makes takes its
// key, in the same transaction.
type sentForm struct {
	mu    sync.Mutex
	key   string
	taken bool
}

// WithForm gives a context for handling a form with a key of its own.
func WithForm(ctx context.Context, key string) context.Context {
	return context.WithValue(ctx, formKey{}, &sentForm{key: key})
}

// take takes the key, unless an earlier change of the same handling has it.
func (f *sentForm) take(t *Tx) (took bool, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.taken {
		return false, nil
	}
	res, err := t.ExecContext(t.ctx, "INSERT INTO form_sent(key) VALUES ($1) ON CONFLICT DO NOTHING", f.key)
	if err != nil {
		return false, fmt.Errorf("keeping the form's key: %w", err)
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return false, ErrSent
	}
	f.taken = true
	return true, t.exec("forgetting old forms", "DELETE FROM form_sent WHERE at < now() - interval '2 days'")
}

// settle keeps the key taken if the change was made, and gives it back if not.
func (f *sentForm) settle(made bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.taken = made
}

// exec changes rows; what names the change for errors.
func (t *Tx) exec(what, q string, args ...any) error {
	if _, err := t.ExecContext(t.ctx, q, args...); err != nil {
		return describe(what, err)
	}
	return nil
}

// insert adds a row and returns its id.
func (t *Tx) insert(what, q string, args ...any) (id int64, err error) {
	if err := t.GetContext(t.ctx, &id, q+" RETURNING id", args...); err != nil {
		return 0, describe(what, err)
	}
	return id, nil
}

func describe(what string, err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" { // unique_violation
		return fmt.Errorf("%s %w", what, ErrTaken)
	}
	return fmt.Errorf("%s: %w", what, err)
}

// Up says since when the database has been there: it is another moment after it was
// restarted.
func (s *Store) Up(ctx context.Context) (since time.Time, err error) {
	err = s.get(ctx, &since, "asking the database since when it has been there", "SELECT pg_postmaster_start_time()")
	return since, err
}

// Away reports whether an error says that the database went away: classes 08 and 57P of
// its codes (PostgreSQL 15, appendix A), or a connection that could not be made.
func Away(err error) bool {
	var pg *pgconn.PgError
	var connecting *pgconn.ConnectError
	return errors.As(err, &connecting) || errors.As(err, &pg) && (strings.HasPrefix(pg.Code, "08") || strings.HasPrefix(pg.Code, "57P"))
}

// Internal reports whether an error is what the database says of a statement: that is for
// who keeps it, not for a page.
func Internal(err error) bool {
	var pg *pgconn.PgError
	var scan *pgconn.ConnectError
	return errors.As(err, &pg) || errors.As(err, &scan)
}
