// Package storetest gives tests a database of their own, made and dropped.
package storetest

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"crosswind/internal/store"

	"github.com/jackc/pgx/v5"
)

// Key signs the heads of the stores that Open opens.
var Key = ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))

// Open makes a database on the server that CROSSWIND_TEST_DATABASE names, and
// opens a store in it as the application does, as a role that does not own it. Without
// that variable the test is skipped, and the script that runs all tests always sets it.
func Open(t testing.TB, change ...func(*store.Options)) *store.Store {
	t.Helper()
	return At(t, URL(t), change...)
}

// OpenWithOwner does the same, and gives the database as its owner has it: who can
// drop triggers and rewrite lines.
func OpenWithOwner(t testing.TB) (*store.Store, *sql.DB) {
	t.Helper()
	admin := URL(t)
	s := At(t, admin)
	owner, err := sql.Open("pgx", admin)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { owner.Close() })
	return s, owner
}

// At opens a store in the database of an administrator's address. Its heads are in a
// folder of the test's own. change alters how it is opened.
func At(t testing.TB, admin string, change ...func(*store.Options)) *store.Store {
	t.Helper()
	ctx := context.Background()
	app, err := store.Prepare(ctx, admin)
	if err != nil {
		t.Fatal(err)
	}
	heads, err := store.OpenHeads(Key.Public().(ed25519.PublicKey), filepath.Join(t.TempDir(), "heads.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	o := store.Options{Key: Key, Heads: heads}
	for _, f := range change {
		f(&o)
	}
	s, err := store.Open(ctx, app, o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// URL makes a database and gives its address, an administrator's.
func URL(t testing.TB) string {
	admin := os.Getenv("CROSSWIND_TEST_DATABASE")
	if admin == "" {
		t.Skip("CROSSWIND_TEST_DATABASE is not set: make test sets it")
	}
	u, err := url.Parse(admin)
	if err != nil {
		t.Fatal(err)
	}
	name := "test_" + rand.Text()
	run := func(q string) error {
		ctx := context.Background()
		c, err := pgx.Connect(ctx, admin)
		if err != nil {
			return err
		}
		defer c.Close(ctx)
		_, err = c.Exec(ctx, fmt.Sprintf(q, pgx.Identifier{name}.Sanitize()))
		return err
	}
	if err := run("CREATE DATABASE %s"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := run("DROP DATABASE %s WITH (FORCE)"); err != nil {
			t.Error(err)
		}
	})
	u.Path = "/" + name
	return u.String()
}

// Count is how many records a filter leaves, with a time and without.
func Count(t testing.TB, s *store.Store, f store.Filter) (n int64) {
	t.Helper()
	f.From, f.To = time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC)
	counts, err := s.Counts(context.Background(), f, 100)
	if err == nil {
		n, err = s.CountUntimed(context.Background(), f)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range counts {
		n += int64(c.N)
	}
	return n
}
