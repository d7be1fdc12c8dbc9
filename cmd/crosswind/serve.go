package main

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"crosswind/core/fieldmap"
	"crosswind/internal/acquire"
	"crosswind/internal/authority"
	"crosswind/internal/evidence"
	"crosswind/internal/press"
	"crosswind/internal/recovery"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/validate"
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
	Heads    string // a second file for the signed heads of the ledgers, "" for none
	AsOwner  bool   // open the database even as a role that could rewrite the ledger
	Hosts    []string
	Backups  []string
	Handsets []string // addresses of the links to connected handsets
	Service  string   // address of the cloud service
	Maps     string   // folder of field maps of one's own, "" for none
	Runs     int      // how many go at once in this process
	Rate     int      // MB a second that a run reads at most, 0 for no bound
	Lease    time.Duration
	What     string // serve, work or demo

	Stamps    string // address of a time stamp authority, "" for none
	StampsPEM string // file of the certificates that it is trusted by
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
	f.StringVar(&s.Heads, "heads", env("CROSSWIND_HEADS", ""), "a second file for the signed heads of the custody ledgers, best on another disk or machine; the first lies in --data beside the key")
	f.BoolVar(&s.AsOwner, "as-owner", false, "open the database even as a role that owns the ledger or is a superuser, and so could rewrite it")
	f.Func("backups", "folders to search for local backups, separated by "+string(os.PathListSeparator), func(v string) error {
		s.Backups = folders(v)
		return nil
	})
	s.maps(c)
	f.StringSliceVar(&s.Handsets, "handset", nil, "address of the link to a connected handset, http://…; may be given again")
	f.StringVar(&s.Service, "cloud", "", "address of the cloud service, http://…")
	s.Backups = folders(env("CROSSWIND_BACKUPS", ""))
	f.StringVar(&s.Stamps, "time-stamps", env("CROSSWIND_TIME_STAMPS", ""), "address of a time stamp authority (RFC 3161), http://…, that stamps the signed heads of the ledgers")
	f.StringVar(&s.StampsPEM, "time-stamps-trust", env("CROSSWIND_TIME_STAMPS_TRUST", ""), "PEM file of the certificates by which the authority is trusted")
	f.IntVar(&s.Runs, "runs", 2, "how many runs go at once in this process")
	s.rate(c)
	f.DurationVar(&s.Lease, "lease", run.DefaultLease, "how long a run is held without a sign of life; the same for all processes")
}

func (s *settings) maps(c *cobra.Command) {
	c.Flags().StringVar(&s.Maps, "maps", env("CROSSWIND_MAPS", ""), "a folder of field maps of your own, which go before the built-in ones; the same for all processes")
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

const environment = "Flags go before the environment: CROSSWIND_DATABASE, CROSSWIND_DATA, CROSSWIND_VAULT, CROSSWIND_BACKUPS, CROSSWIND_MAPS, CROSSWIND_LISTEN."

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
	c.Flags().StringSliceVar(&s.Hosts, "host", nil, "a further name by which browsers reach the application, as behind a proxy; may be given again")
	return c
}

func migrateCommand() *cobra.Command {
	var database, role string
	c := &cobra.Command{Use: "migrate --database ADDRESS --role ROLE", Short: "Makes the database's schema, or brings it up to date, as its owner", Args: args(0, 0),
		Long: "Brings the schema of the database up to date as the role in ADDRESS, which owns it, and grants ROLE, as which the application connects, what that needs:\n" +
			"everything but changing the custody ledger and the schema itself. ROLE must exist; it owns nothing.",
		RunE: func(c *cobra.Command, _ []string) error {
			if database == "" || role == "" {
				return fmt.Errorf("%w: name the database with --database and the application's role with --role", errUse)
			}
			if err := store.Migrate(c.Context(), database, role); err != nil {
				return err
			}
			fmt.Printf("The schema is up to date, and %s may use it.\n", role)
			return nil
		}}
	c.Flags().StringVar(&database, "database", env("CROSSWIND_OWNER", ""), "address of the PostgreSQL database as its owner, postgres://…; or in CROSSWIND_OWNER")
	c.Flags().StringVar(&role, "role", store.AppRole, "the role as which the application connects")
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
	paths := []string{filepath.Join(s.Data, "heads.jsonl")}
	if s.Heads != "" {
		paths = append(paths, s.Heads)
	}
	heads, err := store.OpenHeads(key.Public().(ed25519.PublicKey), paths...)
	if err != nil {
		return nil, err
	}
	// Each run needs a connection for its work, one for its lease, and one for what it
	// reads while it writes.
	opt := store.Options{Key: key, Heads: heads, Connections: 12 + 4*s.Runs, AsOwner: s.AsOwner}
	var trusted []byte
	if s.Stamps != "" {
		a, err := authority.New(s.Stamps, s.StampsPEM)
		if err != nil {
			return nil, err
		}
		opt.Stamper, trusted = a, a.PEM
	}
	st, err := store.Open(ctx, s.Database, opt)
	if errors.Is(err, store.ErrOwner) {
		return nil, fmt.Errorf("%w, so what the ledger says would prove nothing. Connect as a role that crosswind migrate has granted its rights (docs/security.md), or say --as-owner", err)
	}
	if err != nil {
		return nil, err
	}
	own, err := ownMaps(s.Maps)
	if err != nil {
		st.Close()
		return nil, err
	}
	fieldmap.Add(own...)
	tool := "Crosswind " + version
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	packages := filepath.Join(s.Data, "packages")
	if os.Getenv("GOMEMLIMIT") == "" { // a long report is of many small things, of which most are soon done with
		debug.SetMemoryLimit(200 << 20)
	}
	build, err := validate.Build()
	if err != nil {
		return nil, err
	}
	exact := tool + ", build " + build // as acquisitions and readings name what made them
	acq := &acquire.Acquirer{Store: st, Vault: v, Tool: exact, Roots: s.Backups, Keys: &acquire.Keys{}, Scratch: filepath.Join(s.Data, "scratch"), Handsets: s.Handsets, Service: s.Service}
	rec := &recovery.Recoverer{Store: st, Vault: v, Tool: exact, Carve: acq.Carve}
	door := evidence.New(st, v)
	shown, err := previews(s.Data, log)
	if err != nil {
		return nil, err
	}
	rec.Said = func(ctx context.Context, media, sha256 string, open func() (io.ReadCloser, error)) (string, error) {
		if media != "application/pdf" { // readers take the text of other documents themselves
			return "", nil
		}
		c, err := shown.Content(ctx, sha256, open)
		if err != nil {
			return "", err
		}
		return c.Text, nil
	}
	setter := press.FindSetter(folders(os.Getenv("CROSSWIND_TYPESETTER"))...)
	if err := setter.Lacks(); err != nil {
		log.Warn("reports are not set as PDF", "why", err)
	}
	setter.Within = []string{shown.Command[0], "contain"}
	signer, err := press.OpenSigner(filepath.Join(s.Data, "signing-pdf.pem"), key)
	if err != nil {
		return nil, err
	}
	if opt.Stamper != nil {
		signer.Stamper = opt.Stamper
	}
	mk := &report.Maker{Store: st, Evidence: door, Reader: rec, Tool: tool, Dir: packages, Key: key, Press: setter, Previews: shown, Trusted: trusted}
	p := run.NewProcess(s.What)
	return &application{settings: s, store: st, log: log,
		frame: &frame.App{Store: st, Evidence: door, Previews: shown, Hosts: s.Hosts, Tool: tool, Acquirer: acq, Process: p, Press: setter, Signer: signer, Data: s.Data, Packages: packages, Log: log},
		worker: &run.Worker{Store: st, Log: log, Process: p, Lease: s.Lease, Rate: int64(s.Rate) * 1e6, Jobs: map[string]run.Job{
			"acquire backup": acq.Backup, "acquire handset": acq.Handset, "acquire storage": acq.Storage, "acquire image": acq.Image, "acquire cloud": acq.Cloud, "make backup": acq.MakeBackup, "unpack": acq.Unpack, "verify": acq.Verify, "known files": acq.Known, "unlock": acq.Unlock, "try passwords": acq.TryPasswords,
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
	all.Go(func() { a.witness(ctx) })
	all.Go(func() { a.stamp(ctx) })
	all.Go(func() { a.sweep(ctx) })
	for range a.settings.Runs {
		all.Go(func() { a.worker.Work(ctx) })
	}
	all.Wait()
}

// witness signs and keeps the heads of the ledgers as they grow, and once more at the end.
func (a *application) witness(ctx context.Context) {
	for last := false; !last; {
		select {
		case <-ctx.Done():
			last = true
		case <-time.After(2 * time.Second):
		}
		one, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
		if err := a.store.Witness(one); err != nil {
			a.log.Error("keeping the signed heads of the ledgers", "error", err)
		}
		cancel()
	}
}

// stamp has the heads of ledgers that have grown stamped, at intervals.
func (a *application) stamp(ctx context.Context) {
	for a.store.Stamps() {
		select {
		case <-ctx.Done():
			return
		case <-time.After(betweenStamps):
		}
		if err := a.store.StampHeads(ctx); err != nil && ctx.Err() == nil {
			a.log.Error("time stamps for the ledgers", "error", err)
		}
	}
}

const betweenStamps = 15 * time.Minute

// sweep removes what processes that died have left half-written, now and again.
func (a *application) sweep(ctx context.Context) {
	for {
		err := errors.Join(vault.Sweep(a.frame.Packages, "making-"), vault.Sweep(filepath.Join(a.settings.Data, "vault", "incoming"), ""),
			vault.Sweep(filepath.Join(a.settings.Data, "scratch"), "incoming-"), vault.Sweep(filepath.Join(a.settings.Data, "scratch"), "backup-"))
		if err != nil {
			a.log.Error("removing what was left half-written", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(10 * time.Minute):
		}
	}
}

// serve serves until ctx ends, and then lets requests finish.
func (a *application) serve(ctx context.Context) error {
	// Requests outlive ctx, so that those that are being answered come to their end; only
	// events are told to end at once.
	requests, end := context.WithCancel(context.WithoutCancel(ctx))
	defer end()
	srv := &http.Server{Handler: a.handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return requests }}
	a.frame.Ending = ctx.Done()
	var work sync.WaitGroup
	work.Go(func() { a.work(ctx) })
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		<-ctx.Done()
		late, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if srv.Shutdown(late) != nil {
			end()
			srv.Close()
		}
	}()
	err := srv.Serve(a.listener)
	if ctx.Err() != nil {
		<-stopped
	}
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
		if err := makeKey(path); err != nil {
			return nil, fmt.Errorf("making the signing key: %w", err)
		}
		b, err = os.ReadFile(path) // which may be that of another first start
	}
	if err != nil {
		return nil, fmt.Errorf("the signing key: %w", err)
	}
	block, _ := pem.Decode(b)
	if block == nil {
		return nil, fmt.Errorf("the signing key %s is not a PEM file", path)
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := k.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fmt.Errorf("the signing key %s is not an Ed25519 key: %w", path, err)
	}
	return key, nil
}

// makeKey makes the signing key, unless it is there: whole, synced, and under its name by a
// link, which replaces nothing. Of several first starts at once all use the one that came
// first.
func makeKey(path string) error {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), "signing-key-*.new") // mode 600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Link(f.Name(), path); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	return nil
}
