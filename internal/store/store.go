// Package store keeps what Crosswind knows in PostgreSQL. It writes out its
// SQL; every list that can grow is paged by key and has its index.
package store

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// migrationFiles is the folder of the embedded migrations.
func migrationFiles() fs.FS {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // the name is a constant
	}
	return sub
}

// Store is an open database. It is safe for concurrent use.
type Store struct {
	db   *sqlx.DB
	pool *pgxpool.Pool
	key  ed25519.PrivateKey
}

// Open connects to the database at url and brings its schema up to date. key
// signs the heads of the custody ledgers.
func Open(ctx context.Context, url string, key ed25519.PrivateKey) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database address: %w", err)
	}
	cfg.ConnConfig.ConnectTimeout = 5 * time.Second
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("the database: %w", err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("the database at %s:%d cannot be reached: %w", cfg.ConnConfig.Host, cfg.ConnConfig.Port, err)
	}
	db := stdlib.OpenDBFromPool(pool)
	p, err := goose.NewProvider(goose.DialectPostgres, db, migrationFiles())
	if err == nil {
		_, err = p.Up(ctx)
	}
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("bringing the database's schema up to date: %w", err)
	}
	return &Store{db: sqlx.NewDb(db, "pgx"), pool: pool, key: key}, nil
}

// DB is the database itself, for the session store.
func (s *Store) DB() *sql.DB { return s.db.DB }

// Key is the public half of the key that signs ledger heads and packages.
func (s *Store) Key() ed25519.PublicKey { return s.key.Public().(ed25519.PublicKey) }

// Close ends all connections.
func (s *Store) Close() { s.db.Close(); s.pool.Close() }

// ErrNotFound is returned when the thing asked for is not there.
var ErrNotFound = errors.New("not found")

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
	ctx context.Context
}

// Change runs f in a transaction.
func (s *Store) Change(ctx context.Context, f func(*Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("beginning a transaction: %w", err)
	}
	defer tx.Rollback()
	if err := f(&Tx{tx, ctx}); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("committing: %w", err)
	}
	return nil
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
