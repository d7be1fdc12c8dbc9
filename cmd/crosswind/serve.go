package main

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"crosswind/internal/acquire"
	"crosswind/internal/recovery"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/unlock"
	"crosswind/internal/vault"
	"crosswind/internal/web"
	"crosswind/internal/web/frame"
	"crosswind/internal/web/report"

	"github.com/spf13/cobra"
)

// settings of the application, from flags, else from the environment.
type settings struct {
	Database string
	Listen   string
	Data     string // folder of the vault, the packages and the signing key
	Backups  []string
}

func env(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}

func serveCommand() *cobra.Command {
	var s settings
	var backups string
	c := &cobra.Command{Use: "serve", Short: "The web application", Args: args(0, 0),
		Long: "Starts the web application. Flags go before the environment: CROSSWIND_DATABASE, CROSSWIND_LISTEN, CROSSWIND_DATA, CROSSWIND_BACKUPS.",
		RunE: func(c *cobra.Command, _ []string) error {
			s.Backups = nil
			for p := range strings.SplitSeq(backups, string(os.PathListSeparator)) {
				if p != "" {
					s.Backups = append(s.Backups, p)
				}
			}
			a, err := start(c.Context(), s)
			if err != nil {
				return err
			}
			defer a.close()
			n, err := a.store.Examiners(c.Context())
			if err != nil {
				return err
			}
			if n == 0 {
				fmt.Printf("Nobody can sign in yet. Make the first examiner through this link, which works once:\n  %s/first-examiner?token=%s\n", a.address(), a.frame.SetupToken())
			} else {
				fmt.Printf("Crosswind is at %s\n", a.address())
			}
			return a.serve(c.Context())
		}}
	f := c.Flags()
	f.StringVar(&s.Database, "database", env("CROSSWIND_DATABASE", ""), "address of the PostgreSQL database, postgres://…")
	f.StringVar(&s.Listen, "listen", env("CROSSWIND_LISTEN", "127.0.0.1:8416"), "address and port to listen on")
	f.StringVar(&s.Data, "data", env("CROSSWIND_DATA", ""), "folder for the vault, the packages and the signing key")
	f.StringVar(&backups, "backups", env("CROSSWIND_BACKUPS", ""), "folders to search for local backups, separated by "+string(os.PathListSeparator))
	return c
}

// application is a started application.
type application struct {
	store    *store.Store
	frame    *frame.App
	worker   *run.Worker
	listener net.Listener
	handler  http.Handler
	log      *slog.Logger
}

// start opens all that the application needs, and says clearly what of it is
// not to be had.
func start(ctx context.Context, s settings) (*application, error) {
	if s.Database == "" {
		return nil, fmt.Errorf("%w: name the database with --database or CROSSWIND_DATABASE", errUse)
	}
	if s.Data == "" {
		return nil, fmt.Errorf("%w: name a folder for the vault with --data or CROSSWIND_DATA", errUse)
	}
	v, err := vault.Open(filepath.Join(s.Data, "vault"))
	if err != nil {
		return nil, err
	}
	key, err := signingKey(filepath.Join(s.Data, "signing-key.pem"))
	if err != nil {
		return nil, err
	}
	st, err := store.Open(ctx, s.Database, key)
	if err != nil {
		return nil, err
	}
	tool := "Crosswind " + version
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	packages := filepath.Join(s.Data, "packages")
	unl := &unlock.Unlocker{Store: st, Vault: v}
	acq := &acquire.Acquirer{Store: st, Vault: v, Tool: tool, Roots: s.Backups}
	rec := &recovery.Recoverer{Store: st, Vault: v, Tool: tool}
	mk := &report.Maker{Store: st, Vault: v, Tool: tool, Dir: packages, Key: key}
	a := &application{store: st, log: log,
		frame: &frame.App{Store: st, Vault: v, Tool: tool, Roots: s.Backups, Packages: packages, Unlocker: unl, Log: log},
		worker: &run.Worker{Store: st, Log: log, Jobs: map[string]run.Job{
			"acquire backup": acq.Backup, "verify": acq.Verify, "recover": rec.Recover, "unlock": unl.Unlock, "package": mk.Package}}}
	if a.handler, err = web.Handler(a.frame); err == nil {
		a.listener, err = net.Listen("tcp", s.Listen)
	}
	if err != nil {
		st.Close()
		return nil, err
	}
	return a, nil
}

func (a *application) close() { a.store.Close() }

func (a *application) address() string { return "http://" + a.listener.Addr().String() }

// workers is how many runs go at once in one process.
const workers = 2

// serve serves until ctx ends, then lets requests finish and puts runs that
// are under way back into the queue.
func (a *application) serve(ctx context.Context) error {
	srv := &http.Server{Handler: a.handler, ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return ctx }}
	var work sync.WaitGroup
	for range workers {
		work.Go(func() { a.worker.Work(ctx) })
	}
	go func() {
		<-ctx.Done()
		end, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if srv.Shutdown(end) != nil {
			srv.Close()
		}
	}()
	err := srv.Serve(a.listener)
	work.Wait()
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// signingKey reads the key that signs ledger heads and packages, or makes it
// at the first start. It is kept outside the database.
func signingKey(path string) (ed25519.PrivateKey, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(nil)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		err = os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
		return key, err
	}
	if err != nil {
		return nil, fmt.Errorf("the signing key: %w", err)
	}
	block, _ := pem.Decode(b)
	if block == nil {
		return nil, fmt.Errorf("the signing key %s is no PEM file", path)
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := k.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fmt.Errorf("the signing key %s is no Ed25519 key: %w", path, err)
	}
	return key, nil
}
