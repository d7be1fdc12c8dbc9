package acquire

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"crosswind/internal/run"
	"crosswind/internal/run/runtest"
	"crosswind/internal/standin/democase"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
	"crosswind/internal/vault"
)

type bench struct {
	*runtest.Bench
	t     *testing.T
	s     *store.Store
	c     *store.Case
	e     *store.Exhibit
	q     *Acquirer
	dir   string // with backups/ and vault/
	whole string // a whole backup
}

// demo makes the demo's evidence once for all tests.
var demo = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "crosswind-demo-")
	if err == nil {
		err = democase.Make(dir, democase.Options{Recordings: 2, RecordingBytes: 3 << 20, Few: true})
	}
	return dir, err
})

func TestMain(m *testing.M) {
	code := m.Run()
	if dir, err := demo(); err == nil {
		os.RemoveAll(dir)
	}
	os.Exit(code)
}

// newBench makes the demo's backups, a case with an exhibit, and a worker.
func newBench(t *testing.T) *bench {
	ctx := context.Background()
	b := &bench{t: t, s: storetest.Open(t), dir: t.TempDir()}
	from, err := demo()
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cp", "-a", from+"/.", b.dir).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	if err := democase.Seed(ctx, b.s); err != nil {
		t.Fatal(err)
	}
	if b.c, err = b.s.CaseByReference(ctx, democase.Reference); err != nil {
		t.Fatal(err)
	}
	es, err := b.s.Exhibits(ctx, b.c.ID)
	if err != nil {
		t.Fatal(err)
	}
	b.e = &es[0]
	v, err := vault.OpenFolder(filepath.Join(b.dir, "vault"))
	if err != nil {
		t.Fatal(err)
	}
	b.whole = filepath.Join(b.dir, "backups", "harbour-phone-2026-09-24")
	b.q = &Acquirer{Store: b.s, Vault: v, Tool: "test", Keys: &Keys{}, Roots: []string{filepath.Join(b.dir, "backups")}}
	b.Bench = runtest.Start(t, b.s, b.c, map[string]run.Job{"acquire backup": b.q.Backup, "verify": b.q.Verify, "unpack": b.q.Unpack, "unlock": b.q.Unlock, "try passwords": b.q.TryPasswords, "known files": b.q.Known, "acquire handset": b.q.Handset, "acquire storage": b.q.Storage, "acquire image": b.q.Image, "make backup": b.q.MakeBackup,
		"recover": func(ctx context.Context, t *run.Task) error {
			return errors.Join(b.q.Carve(ctx, t, b.c, b.newest(), "x"), b.s.EndRun(ctx, t.Run, "done", ""))
		}}, io.Discard)
	return b
}

func (b *bench) acquire(path string) (*store.Run, *store.Acquisition) {
	b.t.Helper()
	r := b.Do("acquire backup", BackupSubject{Exhibit: b.e.ID, Reference: b.e.Reference, Address: path})
	if r.State != "done" {
		return r, nil
	}
	all, err := b.s.Acquisitions(context.Background(), b.c.ID, 0)
	if err != nil {
		b.t.Fatal(err)
	}
	return r, &all[len(all)-1]
}

func (b *bench) faults(a *store.Acquisition) string {
	fs, err := b.s.AcquisitionFaults(context.Background(), a.ID)
	if err != nil {
		b.t.Fatal(err)
	}
	return fmt.Sprint(fs)
}

func TestFind(t *testing.T) {
	b := newBench(t)
	root := filepath.Join(b.dir, "backups")
	deep := filepath.Join(root, "a", "b", "c", "d", "e", "too-deep")
	broken := filepath.Join(root, "broken")
	err := errors.Join(os.MkdirAll(deep, 0o755), os.Mkdir(broken, 0o755),
		os.WriteFile(filepath.Join(deep, "backup.json"), []byte("{}"), 0o644),
		os.WriteFile(filepath.Join(broken, "backup.json"), []byte(`{"layout":"other/1"}`), 0o644),
		os.Symlink("/", filepath.Join(root, "out")))
	if err != nil {
		t.Fatal(err)
	}
	b.q.Roots = append(b.q.Roots, filepath.Join(b.dir, "none"))
	found, notes, err := b.q.Find(context.Background(), b.c.ID)
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, f := range found {
		said = append(said, fmt.Sprintf("%s %s %s %d", filepath.Base(f.Address), f.Label.Device.Mark, f.Whole(), f.Files))
	}
	// The newest first.
	want := "[harbour-phone-2026-09-24 OL-220 whole 35 galley-phone-2026-09-22.stow TN-7 whole 1 galley-phone-2026-09-08.stow TN-7 whole 1 harbour-phone-2026-08-02 OL-220 incomplete 25 harbour-phone-2026-06-14 OL-220 unknown 21]"
	if fmt.Sprint(said) != want {
		t.Errorf("%s\nwant %s", said, want)
	}
	if noted := fmt.Sprint(notes); len(notes) != 2 || !strings.Contains(noted, "broken") || !strings.Contains(noted, "none") {
		t.Errorf("%s", noted)
	}
}

// Three manifests of an acquisition are what coreutils say of the source, and
// the vault checks with them too.
func TestAcquisitionAgainstCoreutils(t *testing.T) {
	b := newBench(t)
	_, a := b.acquire(b.whole)
	if a == nil || a.Files != 35 || b.faults(a) != "[]" || a.Number != 1 {
		t.Fatalf("%+v", a)
	}
	for program, sum := range map[string]func(*store.File) string{
		"md5sum": func(f *store.File) string { return f.MD5 }, "sha1sum": func(f *store.File) string { return f.SHA1 }, "sha256sum": func(f *store.File) string { return f.SHA256 }} {
		var lines bytes.Buffer
		for f, err := range b.s.AllFiles(context.Background(), a.ID, store.Source) {
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(&lines, "%s  %s\n", sum(f), f.Path)
		}
		cmd := exec.Command(program, "-c", "--strict", "--quiet")
		cmd.Dir, cmd.Stdin = b.whole, &lines
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", program, err, out)
		}
	}
	cmd := exec.Command("sh", "-c", `find sha256 -type f | awk -F/ '{print $3 "  " $0}' | sha256sum -c --quiet`)
	cmd.Dir = filepath.Join(b.dir, "vault")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("the vault: %v\n%s", err, out)
	}
}

// What a source says and does not keep is named; all that is there is taken.
func TestAcquiringWhatIsNotWhole(t *testing.T) {
	b := newBench(t)
	parcels := filepath.Join(b.whole, "parcels")
	entries, err := os.ReadDir(parcels)
	if err != nil {
		t.Fatal(err)
	}
	var missing, changed string
	for _, e := range entries {
		if st, _ := e.Info(); st.Size() < 2000 && missing == "" {
			missing = e.Name()
		} else if st.Size() < 2000 && changed == "" {
			changed = e.Name()
		}
	}
	data, err := os.ReadFile(filepath.Join(parcels, changed))
	if err != nil {
		t.Fatal(err)
	}
	data[len(data)/2] ^= 1
	err = errors.Join(os.Remove(filepath.Join(parcels, missing)), os.WriteFile(filepath.Join(parcels, changed), data, 0o644),
		os.WriteFile(filepath.Join(parcels, "toomuch1"), []byte("extra"), 0o644), os.Symlink("/etc/hostname", filepath.Join(parcels, "link0000")))
	if err != nil {
		t.Fatal(err)
	}
	_, a := b.acquire(b.whole)
	if a == nil {
		t.Fatal("the run failed")
	}
	said := b.faults(a)
	for _, want := range []string{missing + " missing", "toomuch1 one too many", "link0000 not a regular file", changed + " its SHA-256 is"} {
		if !strings.Contains(said, want) {
			t.Errorf("no %q in %s", want, said)
		}
	}
	if a.Files != 35 { // one less, one more; the link is not followed
		t.Errorf("%d files", a.Files)
	}
	if f, err := b.s.FileByPath(context.Background(), a.ID, store.Source, "parcels/toomuch1"); err != nil || f.RealPath != "" || f.Size != 5 {
		t.Errorf("%+v, %v", f, err)
	}
}

func TestRefusalsOfASource(t *testing.T) {
	b := newBench(t)
	if r, _ := b.acquire(filepath.Join(b.dir, "gone")); r.State != "failed" || !strings.Contains(r.Error, "opening the backup") {
		t.Errorf("%s: %s", r.State, r.Error)
	}
	if err := os.WriteFile(filepath.Join(b.whole, "catalogue.db"), []byte("ruined"), 0o644); err != nil {
		t.Fatal(err)
	}
	_, a := b.acquire(b.whole) // its files are taken all the same
	if a == nil || a.Files != 35 || !strings.Contains(b.faults(a), "catalogue") {
		t.Errorf("%+v %s", a, b.faults(a))
	}
}

// The check names the file and the segment, in the store and in the ledger, and
// says the same of a source that has changed since.
func TestVerifyNamesWhatDiffers(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	_, a := b.acquire(b.whole)
	check := func(against string) *store.Run {
		return b.Do("verify", VerifySubject{Exhibit: b.e.ID, Acquisition: a.ID, Name: "014-A acquisition 1", Against: against})
	}
	var big *store.File
	for f, err := range b.s.AllFiles(ctx, a.ID, store.Source) {
		if err != nil {
			t.Fatal(err)
		}
		if f.Size == 3<<20 {
			big = f
		}
	}
	faulty := func() []store.File {
		fs, err := b.s.Files(ctx, store.FileFilter{Acquisition: a.ID, Part: store.Both, Faulty: true}, 10)
		if err != nil {
			t.Fatal(err)
		}
		return fs
	}
	if r := check("vault"); r.State != "done" || len(faulty()) != 0 {
		t.Fatalf("%+v", r)
	}
	blob := b.q.Vault.(*vault.Folder).Path(big.SHA256)
	flip := func(path string, at int64) {
		data, err := os.ReadFile(path)
		if err == nil {
			data[at] ^= 1
			err = errors.Join(os.Chmod(path, 0o600), os.WriteFile(path, data, 0o600))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	flip(blob, 2<<20+5)
	check("vault")
	fs := faulty()
	if len(fs) != 1 || fs[0].Path != big.Path || fmt.Sprint(fs[0].BadSegments) != "[2]" || !strings.Contains(fs[0].Fault, "segment 3 (bytes 2097152 to 3145727)") {
		t.Errorf("%+v", fs)
	}
	entries, err := b.s.LedgerPage(ctx, b.c.Book(), store.LedgerFilter{}, 1<<40, 2)
	if err != nil || entries[0].Detail["differing"] != "1" || entries[1].What != "integrity.failed" || entries[1].On != big.Path {
		t.Errorf("%+v, %v", entries, err)
	}
	flip(blob, 2<<20+5)
	if err := os.Truncate(blob, 1<<20); err != nil {
		t.Fatal(err)
	}
	check("vault")
	if fs = faulty(); len(fs) != 1 || fmt.Sprint(fs[0].BadSegments) != "[1 2]" {
		t.Errorf("%+v", fs)
	}
	if err := os.Remove(blob); err != nil {
		t.Fatal(err)
	}
	check("vault")
	if fs = faulty(); len(fs) != 1 || !strings.Contains(fs[0].Fault, "cannot be read") {
		t.Errorf("%+v", fs)
	}
	// One file alone: the others keep what was found of them.
	r := b.Do("verify", VerifySubject{Exhibit: b.e.ID, Acquisition: a.ID, Name: "014-A acquisition 1", Against: "vault", Path: "backup.json"})
	entries, err = b.s.LedgerPage(ctx, b.c.Book(), store.LedgerFilter{}, 1<<40, 1)
	if err != nil || r.State != "done" || r.ItemsDone != 1 || entries[0].What != "file.verified" || entries[0].On != "backup.json" || len(faulty()) != 1 {
		t.Errorf("%+v %+v %v", r, entries, err)
	}
	// A source that changes later is told, and is no fault of the acquisition.
	flip(filepath.Join(b.whole, filepath.FromSlash(big.Path)), 0)
	before := faulty()[0].Fault
	check("source")
	v, err := b.s.Verifications(ctx, a.ID, 1)
	if err != nil || v[0].Against != "source" || v[0].Faults != 1 || faulty()[0].Fault != before {
		t.Errorf("%+v, %v", v, err)
	}
}

// Paused again and again, an acquisition ends with the manifest of an unbroken
// one.
func TestPausedAcquisitionEndsTheSame(t *testing.T) {
	b := newBench(t)
	_, unbroken := b.acquire(b.whole)
	b.Stop()
	id := b.Queue("acquire backup", BackupSubject{Exhibit: b.e.ID, Reference: b.e.Reference, Address: b.whole})
	for range 4 {
		b.Restart()
		time.Sleep(60 * time.Millisecond)
		b.Stop() // the process ends; the run goes back into the queue
	}
	b.Restart()
	b.Wait(id)
	all, err := b.s.Acquisitions(context.Background(), b.c.ID, 0)
	if err != nil || len(all) != 2 || all[1].Manifest != unbroken.Manifest || all[1].Number != 2 {
		t.Errorf("%+v, %v", all, err)
	}
}
