// Package storetest gives tests a database of their own, made and dropped.
package storetest

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"sync"
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
	return At(t, copied(t), change...)
}

// OpenWithOwner does the same, and gives the database as its owner has it: who can
// drop triggers and rewrite lines.
func OpenWithOwner(t testing.TB) (*store.Store, *sql.DB) {
	t.Helper()
	admin := copied(t)
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

// URL makes an empty database and gives its address, an administrator's.
func URL(t testing.TB) string { return create(t, "template1") }

// copied makes a database that has the schema already, and gives its address.
func copied(t testing.TB) string {
	name, err := template()
	if err != nil {
		t.Fatal(err)
	}
	return create(t, name)
}

// create makes a database that is a copy of another.
func create(t testing.TB, of string) string {
	if server() == "" {
		t.Skip("CROSSWIND_TEST_DATABASE is not set: make test sets it")
	}
	name := "test_" + rand.Text()
	if err := run("CREATE DATABASE %s TEMPLATE %s", name, of); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := run("DROP DATABASE %s WITH (FORCE)", name); err != nil {
			t.Error(err)
		}
	})
	return address(name)
}

// template gives the name of a database that has the schema and to which nobody is connected. It is made once for a schema,
// since its migrations take much longer than a copy does.
var template = sync.OnceValues(func() (string, error) {
	if server() == "" {
		return "", nil
	}
	sum := sha256.New()
	_, here, _, _ := runtime.Caller(0)
	schema := filepath.Join(filepath.Dir(here), "..")
	of, err := filepath.Glob(filepath.Join(schema, "migrations", "*.sql"))
	for _, path := range append(of, filepath.Join(schema, "migrate.go")) {
		b, err := os.ReadFile(path)
		if err != nil {
			return "", err
		}
		sum.Write(b)
	}
	if err != nil {
		return "", err
	}
	ctx := context.Background()
	c, err := pgx.Connect(ctx, server())
	if err != nil {
		return "", err
	}
	defer c.Close(ctx)
	if _, err := c.Exec(ctx, "SELECT pg_advisory_lock(7242)"); err != nil { // until c is closed: packages are tested beside one another
		return "", err
	}
	name, there := fmt.Sprintf("test_of_%x", sum.Sum(nil)[:8]), false
	if err := c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", name).Scan(&there); err != nil || there {
		return name, err
	}
	draft := "test_" + rand.Text()
	if err := run("CREATE DATABASE %s", draft); err != nil {
		return "", err
	}
	if _, err := store.Prepare(ctx, address(draft)); err != nil {
		return "", err
	}
	return name, run("ALTER DATABASE %s RENAME TO %s", draft, name)
})

// server is the address of the server that the tests have, an administrator's, "" if they have none.
func server() string { return os.Getenv("CROSSWIND_TEST_DATABASE") }

// address is that of a database of it.
func address(name string) string {
	u, err := url.Parse(server())
	if err != nil {
		panic(err) // pgx has taken it
	}
	u.Path = "/" + name
	return u.String()
}

// run has the server do what a query says of databases.
func run(q string, names ...string) error {
	ctx := context.Background()
	c, err := pgx.Connect(ctx, server())
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	var quoted []any
	for _, n := range names {
		quoted = append(quoted, pgx.Identifier{n}.Sanitize())
	}
	_, err = c.Exec(ctx, fmt.Sprintf(q, quoted...))
	return err
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
