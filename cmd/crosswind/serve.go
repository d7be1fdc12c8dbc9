package main

import (
	"cmp"
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
	Data     string // folder of the packages, the signing key and, by default, the vault
	Vault    string // its address, "" for a folder in Data
	Backups  []string
	Handsets []string // addresses of the links to connected handsets
	Service  string   // address of the cloud service
	Runs     int      // how many go at once in this process
	Rate     int      // MB a second that a run reads at most, 0 for no bound
	Lease    time.Duration
	What     string // serve, work or demo
}

func env(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}

// flags adds the flags that serve and work share.
func (s *settings) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.Database, "database", env("CROSSWIND_DATABASE", ""), "address of the PostgreSQL database, postgres://…")
	f.StringVar(&s.Data, "data", env("CROSSWIND_DATA", ""), "folder for the packages, the signing key and the vault")
	f.StringVar(&s.Vault, "vault", env("CROSSWIND_VAULT", ""), "another place for the vault: a folder, or s3://HOST:PORT/BUCKET with its keys in CROSSWIND_S3_KEY and CROSSWIND_S3_SECRET")
	f.Func("backups", "folders to search for local backups, separated by "+string(os.PathListSeparator), func(v string) error {
		s.Backups = folders(v)
		return nil
	})
	f.StringSliceVar(&s.Handsets, "handset", nil, "address of the link to a connected handset, http://…; may be given again")
	f.StringVar(&s.Service, "cloud", "", "address of the cloud service, http://…")
	s.Backups = folders(env("CROSSWIND_BACKUPS", ""))
	f.IntVar(&s.Runs, "runs", 2, "how many runs go at once in this process")
	s.rate(c)
	f.DurationVar(&s.Lease, "lease", run.DefaultLease, "how long a run is held without a sign of life; the same for all processes")
}

func (s *settings) rate(c *cobra.Command) {
	c.Flags().IntVar(&s.Rate, "rate", 0, "MB that a run reads in a second at most, to spare a weak disk or a shared line; 0 for no bound")
}

func folders(list string) (out []string) {
	for p := range strings.SplitSeq(list, string(os.PathListSeparator)) {
		if p != "" {
			out = append(out, p)
		}
	}
	return out
}

const environment = "Flags go before the environment: CROSSWIND_DATABASE, CROSSWIND_DATA, CROSSWIND_VAULT, CROSSWIND_BACKUPS, CROSSWIND_LISTEN."

func serveCommand() *cobra.Command {
	s := settings{What: "serve"}
	c := &cobra.Command{Use: "serve", Short: "The web application", Args: args(0, 0),
		Long: "Starts the web application, which also works on runs. " + environment,
		RunE: func(c *cobra.Command, _ []string) error {
			a, err := start(c.Context(), s)
			if err != nil {
				return err
			}
			defer a.close()
			n, err := a.store.Examiners(c.Context())
			if err != nil {
				return err
			}
			if err := a.listen(s.Listen); err != nil {
				return err
			}
			if n == 0 {
				fmt.Printf("Nobody can sign in yet. Make the first examiner through this link, which works once:\n  %s/first-examiner?token=%s\n", a.address(), a.frame.SetupToken())
			} else {
				fmt.Printf("Crosswind is at %s\n", a.address())
			}
			return a.serve(c.Context())
		}}
	s.flags(c)
	c.Flags().StringVar(&s.Listen, "listen", env("CROSSWIND_LISTEN", "127.0.0.1:8416"), "address and port to listen on")
	return c
}

func workCommand() *cobra.Command {
	s := settings{What: "work"}
	c := &cobra.Command{Use: "work", Short: "Works on runs, beside the web application, on this or another machine", Args: args(0, 0),
		Long: "Takes runs from the queue in the database and works on them, without a web page. Any number of such processes may run; all need the same\n" +
			"database, the same --data folder and vault, and the same paths to the sources. " + environment,
		RunE: func(c *cobra.Command, _ []string) error {
			a, err := start(c.Context(), s)
			if err != nil {
				return err
			}
			defer a.close()
			fmt.Printf("Working on runs as %s\n", a.worker.Process.Name())
			a.work(c.Context())
			return nil
		}}
	s.flags(c)
	return c
}

// application is a started application.
type application struct {
	settings settings
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
	switch {
	case s.Database == "":
		return nil, fmt.Errorf("%w: name the database with --database or CROSSWIND_DATABASE", errUse)
	case s.Data == "":
		return nil, fmt.Errorf("%w: name a folder for the vault with --data or CROSSWIND_DATA", errUse)
	case s.Runs < 1:
		return nil, fmt.Errorf("%w: --runs is at least 1", errUse)
	case s.Rate < 0:
		return nil, fmt.Errorf("%w: --rate is at least 0", errUse)
	case s.Lease < time.Second:
		return nil, fmt.Errorf("%w: --lease is at least 1s", errUse)
	}
	if err := os.MkdirAll(s.Data, 0o700); err != nil {
		return nil, fmt.Errorf("the folder for the vault: %w", err)
	}
	v, err := vault.Open(ctx, cmp.Or(s.Vault, filepath.Join(s.Data, "vault")), filepath.Join(s.Data, "scratch"))
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
	acq := &acquire.Acquirer{Store: st, Vault: v, Tool: tool, Roots: s.Backups, Keys: &acquire.Keys{}, Scratch: filepath.Join(s.Data, "scratch"), Handsets: s.Handsets, Service: s.Service}
	rec := &recovery.Recoverer{Store: st, Vault: v, Tool: tool}
	mk := &report.Maker{Store: st, Vault: v, Tool: tool, Dir: packages, Key: key}
	p := run.NewProcess(s.What)
	return &application{settings: s, store: st, log: log,
		frame: &frame.App{Store: st, Vault: v, Tool: tool, Acquirer: acq, Process: p, Data: s.Data, Packages: packages, Log: log},
		worker: &run.Worker{Store: st, Log: log, Process: p, Lease: s.Lease, Rate: int64(s.Rate) * 1e6, Jobs: map[string]run.Job{
			"acquire backup": acq.Backup, "acquire handset": acq.Handset, "acquire storage": acq.Storage, "acquire cloud": acq.Cloud, "make backup": acq.MakeBackup, "unpack": acq.Unpack, "verify": acq.Verify, "known files": acq.Known, "unlock": acq.Unlock, "try passwords": acq.TryPasswords,
			"recover": rec.Recover, "package": mk.Package}}}, nil
}

func (a *application) close() { a.store.Close() }

// listen opens the application's address.
func (a *application) listen(address string) (err error) {
	if a.handler, err = web.Handler(a.frame); err == nil {
		a.listener, err = net.Listen("tcp", address)
	}
	return err
}

func (a *application) address() string { return "http://" + a.listener.Addr().String() }

// work works on runs until ctx ends, then puts those that are under way back
// into the queue.
func (a *application) work(ctx context.Context) {
	var all sync.WaitGroup
	all.Go(func() { a.worker.Live(ctx) })
	all.Go(func() {
		a.frame.Acquirer.Keep(ctx, func(err error) { a.log.Error("looking for checks that are due", "error", err) })
	})
	for range a.settings.Runs {
		all.Go(func() { a.worker.Work(ctx) })
	}
	all.Wait()
}

// serve serves until ctx ends, and then lets requests finish.
func (a *application) serve(ctx context.Context) error {
	srv := &http.Server{Handler: a.handler, ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return ctx }}
	var work sync.WaitGroup
	work.Go(func() { a.work(ctx) })
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
