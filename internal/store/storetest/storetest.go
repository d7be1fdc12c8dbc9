// Package storetest gives tests a database of their own, made and dropped.
package storetest

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"net/url"
	"os"
	"testing"

	"crosswind/internal/store"

	"github.com/jackc/pgx/v5"
)

// Open makes a database on the server that CROSSWIND_TEST_DATABASE names, and
// opens a store in it. Without that variable the test is skipped, and the
// script that runs all tests always sets it.
func Open(t testing.TB) *store.Store {
	s, err := store.Open(context.Background(), URL(t), ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize)))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// URL makes a database and gives its address.
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
