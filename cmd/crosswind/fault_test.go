package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosswind/internal/acquire"
	link "crosswind/internal/handset"
	"crosswind/internal/standin/democase"
	"crosswind/internal/standin/handset"
	"crosswind/internal/store"
)

const kills = 10

// manyFiles is a source whose acquisition takes a second or two.
var manyFiles = democase.Options{Recordings: 160, RecordingBytes: 1 << 20, Few: true}

// faultBench is a database cluster of its own, a backup, and processes that are
// killed.
type faultBench struct {
	t       testing.TB
	r       *rand.Rand
	dir     string
	url     string
	s       *store.Store
	c       *store.Case
	exhibit store.Exhibit
	source  string
	want    string // SHA-256 of the manifest, by sha256sum
}

func newFaultBench(t testing.TB, size democase.Options) *faultBench {
	t.Helper()
	if os.Getenv("CROSSWIND_TEST_DATABASE") == "" {
		t.Skip("CROSSWIND_TEST_DATABASE is not set: make test sets it")
	}
	seed := uint64(time.Now().UnixNano())
	if s, err := strconv.ParseUint(os.Getenv("CROSSWIND_SEED"), 10, 64); err == nil {
		seed = s
	}
	t.Logf("CROSSWIND_SEED=%d repeats the moments of this run", seed)
	dir, err := os.MkdirTemp("", "crosswind-fault-")
	if err != nil {
		t.Fatal(err)
	}
	b := &faultBench{t: t, r: rand.New(rand.NewPCG(seed, 0)), dir: dir}
	t.Cleanup(func() { b.postgres("stop"); os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil { // the user postgres must get in
		t.Fatal(err)
	}
	b.postgres("start")
	b.url = b.read(filepath.Join(dir, "pg", "url"))
	ctx := context.Background()
	if b.url, err = store.Prepare(ctx, b.url); err != nil {
		t.Fatal(err)
	}
	if b.s, err = store.Open(ctx, b.url, store.Options{}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.s.Close)
	if err := democase.Make(dir, size); err != nil {
		t.Fatal(err)
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
	b.exhibit, b.source = es[0], filepath.Join(dir, "backups", "harbour-phone-2026-09-24")
	ref := exec.Command("sh", "-c", "find . -type f | sed 's,^./,,' | LC_ALL=C sort | xargs sha256sum | sha256sum | cut -c1-64")
	ref.Dir = b.source
	out, err := ref.Output()
	if err != nil {
		t.Fatal(err)
	}
	b.want = strings.TrimSpace(string(out))
	return b
}

func (b *faultBench) read(path string) string {
	b.t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		b.t.Fatal(err)
	}
	return strings.TrimSpace(string(raw))
}

func (b *faultBench) postgres(what string) {
	b.t.Helper()
	cmd := exec.Command("../../scripts/postgres.sh", what, filepath.Join(b.dir, "pg"))
	if out, err := cmd.CombinedOutput(); err != nil {
		b.t.Fatalf("postgres.sh %s: %v\n%s", what, err, out)
	}
}

// start starts a process that takes runs, and waits until it says that it is up.
func (b *faultBench) start(args ...string) *exec.Cmd {
	b.t.Helper()
	cmd := exec.Command(binary, append(args, "--lease", "1s")...)
	cmd.Env = append(os.Environ(), "CROSSWIND_DATABASE="+b.url, "CROSSWIND_DATA="+filepath.Join(b.dir, "data"), "CROSSWIND_BACKUPS="+filepath.Join(b.dir, "backups"))
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	if _, err := out.Read(make([]byte, 1)); err != nil {
		b.t.Fatalf("%v does not start: %v", args, err)
	}
	go io.Copy(io.Discard, out)
	return cmd
}

func kill(cmd *exec.Cmd) {
	cmd.Process.Kill() // SIGKILL
	cmd.Wait()
}

// queue queues an acquisition of the backup.
func (b *faultBench) queue() int64 {
	b.t.Helper()
	sub, err := json.Marshal(acquire.BackupSubject{Exhibit: b.exhibit.ID, Reference: b.exhibit.Reference, Address: b.source})
	if err != nil {
		b.t.Fatal(err)
	}
	id, err := b.s.QueueRun(context.Background(), b.c, store.Run{Kind: "acquire backup", Subject: sub, Title: "Acquiring", By: "tester"})
	if err != nil {
		b.t.Fatal(err)
	}
	return id
}

// running waits until one of the processes works on a run, and gives its index;
// -1 if no run is open any more.
func (b *faultBench) running(of ...*exec.Cmd) int {
	b.t.Helper()
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		runs, err := b.s.Runs(context.Background(), b.c.ID, "", 100)
		if err != nil {
			continue // the database may be down
		}
		open := false
		for _, r := range runs {
			open = open || r.Open()
			for i, cmd := range of {
				if r.State == "running" && strings.Contains(r.Worker, fmt.Sprintf(" %d on ", cmd.Process.Pid)) {
					return i
				}
			}
		}
		if !open {
			return -1
		}
	}
	b.t.Fatal("no run is taken up")
	return -1
}

// atRandom waits for a moment of a run that is under way, queueing one if there
// is none.
func (b *faultBench) atRandom(of ...*exec.Cmd) (at int) {
	b.t.Helper()
	if at = b.running(of...); at < 0 {
		b.queue()
		at = b.running(of...)
	}
	time.Sleep(time.Duration(b.r.IntN(300)) * time.Millisecond)
	return at
}

// finish waits for all runs and compares their manifests with sha256sum's, and
// the ledger with what happened: runs were taken up so many times at least.
func (b *faultBench) finish(takenUp int) {
	b.t.Helper()
	ctx := context.Background()
	for end := time.Now().Add(120 * time.Second); b.running() != -1; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			b.t.Fatal("the runs do not end")
		}
	}
	runs, err := b.s.Runs(ctx, b.c.ID, "", 100)
	if err != nil {
		b.t.Fatal(err)
	}
	for _, r := range runs {
		if r.State != "done" {
			b.t.Errorf("run %d is %s: %s\n%s", r.ID, r.State, r.Error, strings.Join(r.Log, "\n"))
		}
	}
	as, err := b.s.Acquisitions(ctx, b.c.ID, 0)
	if err != nil || len(as) != len(runs) {
		b.t.Fatalf("%d acquisitions of %d runs, %v", len(as), len(runs), err)
	}
	for _, a := range as {
		if a.Manifest != b.want {
			b.t.Errorf("acquisition %d has the manifest %s, sha256sum says %s", a.Number, a.Manifest, b.want)
		}
	}
	out, err := exec.Command("sh", "-c", `cd "$0" && find sha256 -type f | awk -F/ '{print $3 "  " $0}' | sha256sum -c --quiet`, filepath.Join(b.dir, "data", "vault")).CombinedOutput()
	if err != nil {
		b.t.Errorf("the vault: %v\n%s", err, out)
	}
	if faults, err := b.s.CheckLedger(ctx, b.c.Book()); err != nil || len(faults) != 0 {
		b.t.Errorf("the ledger: %v, %v", faults, err)
	}
	told := map[string]int{}
	entries, err := b.s.LedgerPage(ctx, b.c.Book(), store.LedgerFilter{}, 1<<40, 1000)
	if err != nil {
		b.t.Fatal(err)
	}
	for _, e := range entries {
		told[e.What]++
	}
	b.t.Logf("%d acquisitions; the ledger tells %v", len(as), told)
	taken := 0 // again: the ledger tells of what is repeated once, and then with a count
	for _, r := range runs {
		taken += int(r.Fence) - 1
	}
	if told["acquisition.ended"] != len(as) || taken < takenUp || told["run.taken_up"]+told["run.interrupted"] == 0 || told["run.taken_up"]+told["run.interrupted"] > 4*len(runs) {
		b.t.Errorf("runs were taken up %d times, the ledger tells %v", taken, told)
	}
}

// kill -9 of the application at random moments: started again, it goes on.
func TestApplicationKilledAnywhere(t *testing.T) {
	b := newFaultBench(t, manyFiles)
	for range kills {
		app := b.start("serve", "--listen", "127.0.0.1:0")
		b.atRandom(app)
		kill(app)
	}
	b.start("serve", "--listen", "127.0.0.1:0")
	b.finish(kills / 2)
}

// Two workers, of which the one that has the run is killed at random moments:
// the other takes it up.
func TestWorkerKilledAnywhere(t *testing.T) {
	b := newFaultBench(t, manyFiles)
	workers := []*exec.Cmd{b.start("work", "--runs", "1"), b.start("work", "--runs", "1")}
	for range kills {
		at := b.atRandom(workers...)
		kill(workers[at])
		workers[at] = b.start("work", "--runs", "1")
	}
	b.finish(kills / 2)
}

// kill -9 of PostgreSQL at random moments: the worker lives on, and goes on when
// the database is back.
func TestDatabaseKilledAnywhere(t *testing.T) {
	b := newFaultBench(t, manyFiles)
	w := b.start("work", "--runs", "1")
	for range kills {
		b.atRandom(w)
		pid, err := strconv.Atoi(strings.Fields(b.read(filepath.Join(b.dir, "pg", "data", "postmaster.pid")))[0])
		if err != nil {
			t.Fatal(err)
		}
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		b.postgres("start")
	}
	b.finish(1) // a worker may outlast the database's absence with its lease
}

// Target: a source of 20 GB is acquired in less than 200 MB of memory. The peak is
// what the system says of the process that acquires it.
func BenchmarkMemoryOfALargeSource(b *testing.B) {
	f := newFaultBench(b, democase.Options{Recordings: 1, RecordingBytes: 1 << 20, Few: true})
	large := filepath.Join(f.source, "parcels", "largefile000")
	if err := errors.Join(os.WriteFile(large, []byte("begins"), 0o644), os.Truncate(large, 20<<30)); err != nil {
		b.Fatal(err)
	}
	b.SetBytes(20 << 30)
	for b.Loop() {
		w := f.start("work", "--runs", "1")
		f.report(b, w, f.queue())
	}
}

// report waits for the end of a run, and reports the peak of its worker's memory.
func (f *faultBench) report(b *testing.B, w *exec.Cmd, id int64) {
	for {
		r, err := f.s.RunByID(context.Background(), id)
		if err != nil || !r.Open() && r.State != "done" {
			b.Fatal(r, err)
		}
		if r.State == "done" {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	// VmHWM of proc(5): what getrusage(2) says counts this program, of which it was a fork, too.
	said, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", w.Process.Pid))
	if err != nil {
		b.Fatal(err)
	}
	_, peak, _ := strings.Cut(string(said), "VmHWM:")
	var kib float64
	if _, err := fmt.Sscan(peak, &kib); err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(kib*1024/1e6, "MB-peak")
	kill(w)
}

// Target: a volume of 20 GB is read by its handset's link in less than 200 MB of
// memory.
func BenchmarkMemoryOfALargeVolume(b *testing.B) {
	f := newFaultBench(b, democase.Options{Recordings: 1, RecordingBytes: 1 << 20, Few: true})
	image := filepath.Join(f.dir, "data.img")
	if err := errors.Join(os.WriteFile(image, []byte("begins"), 0o644), os.Truncate(image, 20<<30)); err != nil {
		b.Fatal(err)
	}
	m := handset.Model{State: link.State{Mark: "TN-7", Mode: "service"}, Volumes: []handset.Image{{Volume: link.Volume{Name: "data"}, Path: image}}}
	srv := httptest.NewServer(handset.New(m).Handler())
	defer srv.Close()
	b.SetBytes(20 << 30)
	for b.Loop() {
		w := f.start("work", "--runs", "1")
		sub, err := json.Marshal(acquire.HandsetSubject{Exhibit: f.exhibit.ID, Reference: f.exhibit.Reference, Address: srv.URL})
		if err != nil {
			b.Fatal(err)
		}
		id, err := f.s.QueueRun(context.Background(), f.c, store.Run{Kind: "acquire storage", Subject: sub, Title: "Acquiring", By: "tester"})
		if err != nil {
			b.Fatal(err)
		}
		f.report(b, w, id)
	}
}
