package run

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
)

type bench struct {
	t *testing.T
	s *store.Store
	c *store.Case
}

func newBench(t *testing.T) *bench {
	s := storetest.Open(t)
	ctx := context.Background()
	if err := s.AddCase(ctx, store.Case{Reference: "T-1", Title: "Test", Zone: "UTC"}, store.Authority{Kind: "w", IssuedBy: "x", Number: "1", ScopeKinds: []string{"call"}}, "tester"); err != nil {
		t.Fatal(err)
	}
	c, err := s.CaseByReference(ctx, "T-1")
	if err != nil {
		t.Fatal(err)
	}
	return &bench{t, s, c}
}

// work runs a worker until the test ends or stop is called.
func (b *bench) work(job Job) (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	w := &Worker{Process: NewProcess("test"), Lease: DefaultLease, Store: b.s, Jobs: map[string]Job{"job": job}, Log: slog.New(slog.DiscardHandler)}
	go func() { w.Work(ctx); close(done) }()
	stop = func() { cancel(); <-done }
	b.t.Cleanup(stop)
	return stop
}

func (b *bench) queue(kind string) int64 {
	id, err := b.s.QueueRun(context.Background(), b.c, store.Run{Kind: kind, Subject: []byte(`{"x":1}`), Title: "t", By: "tester"}, store.Act{Book: b.c.Book(), By: "tester", What: "queued", On: "r"})
	if err != nil {
		b.t.Fatal(err)
	}
	return id
}

func (b *bench) run(id int64) *store.Run {
	r, err := b.s.RunByID(context.Background(), id)
	if err != nil {
		b.t.Fatal(err)
	}
	return r
}

func (b *bench) await(id int64, state string) *store.Run {
	b.t.Helper()
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if r := b.run(id); r.State == state {
			return r
		}
	}
	b.t.Fatalf("run %d is %s, not %s", id, b.run(id).State, state)
	return nil
}

// endless works until it is told to end.
func endless(ctx context.Context, t *Task) error {
	t.Total(100, 10)
	t.Done(1, 1)
	t.Found("things", 1)
	<-ctx.Done()
	return context.Cause(ctx)
}

func TestPauseResumeStop(t *testing.T) {
	b := newBench(t)
	b.work(endless)
	id := b.queue("job")
	wish := func(w string) {
		t.Helper()
		if err := b.s.WishRun(context.Background(), b.c, b.run(id), w, "tester"); err != nil {
			t.Fatal(err)
		}
	}
	b.await(id, "running")
	wish("pause")
	if r := b.await(id, "paused"); r.EndedAt != nil || r.BytesDone != 1 || string(r.Found) != `{"things": 1}` {
		t.Errorf("%+v", r)
	}
	wish("run")
	b.await(id, "running")
	wish("stop")
	if r := b.await(id, "stopped"); r.EndedAt == nil || !strings.Contains(r.Error, "kept") {
		t.Errorf("%+v", r)
	}
	if err := b.s.WishRun(context.Background(), b.c, b.run(id), "pause", "tester"); err == nil {
		t.Error("a stopped run was paused")
	}
	wish("run") // a stopped run can be taken up again
	b.await(id, "running")
	entries, err := b.s.LedgerPage(context.Background(), b.c.Book(), store.LedgerFilter{}, 1<<40, 100)
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, e := range entries {
		said = append(said, e.What)
	}
	slices.Reverse(said)
	if got := strings.Join(said[2:], " "); got != "queued run.pause run.paused run.run run.stop run.stopped run.run" {
		t.Errorf("the ledger says %s", got)
	}
}

func TestFailureIsToldAndKept(t *testing.T) {
	b := newBench(t)
	b.work(func(_ context.Context, t *Task) error {
		t.Logf("half way")
		return errors.New("the disk is full")
	})
	id := b.queue("job")
	if r := b.await(id, "failed"); r.Error != "the disk is full" || len(r.Log) != 1 || !strings.Contains(r.Log[0], "half way") {
		t.Errorf("%+v", r)
	}
	id = b.queue("unheard of")
	if r := b.await(id, "failed"); !strings.Contains(r.Error, "knows no run") {
		t.Errorf("%+v", r)
	}
}

// A process that ends puts its run back; the next one takes it up at once.
func TestShutdownPutsTheRunBack(t *testing.T) {
	b := newBench(t)
	stop := b.work(endless)
	id := b.queue("job")
	b.await(id, "running")
	stop()
	b.await(id, "queued")
	b.work(func(_ context.Context, task *Task) error {
		var sub struct{ X int }
		if err := task.Subject(&sub); err != nil || sub.X != 1 {
			t.Error(sub, err)
		}
		return b.s.EndRun(context.Background(), task.Run, "done", "")
	})
	if r := b.await(id, "done"); r.Percent() != 100 {
		t.Errorf("%d %%", r.Percent())
	}
}

// A run that ends while a sign of life is under way, before it or behind it, has all its lines once.
func TestLinesAreKeptOnce(t *testing.T) {
	b := newBench(t)
	for _, first := range []bool{true, false} {
		log := make(chan error, 1)
		stop := b.work(func(ctx context.Context, task *Task) error {
			task.Logf("one")
			p := task.progress() // what the sign of life tells
			task.Logf("two")
			save := func() error {
				_, err := b.s.SaveProgress(ctx, task.Run, p, time.Minute)
				return err
			}
			var err error
			if first {
				err = save()
			}
			err = errors.Join(err, b.s.EndRun(ctx, task.Run, "done", ""))
			if !first && !errors.Is(save(), store.ErrLost) {
				err = errors.Join(err, errors.New("lines of a run that has ended are kept"))
			}
			log <- err
			return nil
		})
		r := b.await(b.queue("job"), "done")
		if err := <-log; err != nil || len(r.Log) != 2 || !strings.HasSuffix(r.Log[0], " one") || !strings.HasSuffix(r.Log[1], " two") {
			t.Errorf("%q, %v", r.Log, err)
		}
		stop()
	}
}

// A worker that is cut off from its run ends its work.
func TestLostRunEndsTheJob(t *testing.T) {
	b := newBench(t)
	ended := make(chan error, 1)
	b.work(func(ctx context.Context, t *Task) error {
		<-ctx.Done()
		ended <- context.Cause(ctx)
		return context.Cause(ctx)
	})
	id := b.queue("job")
	b.await(id, "running")
	if _, err := b.s.DB().Exec("UPDATE run SET fence = fence + 1 WHERE id = $1", id); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-ended:
		if !errors.Is(err, store.ErrLost) {
			t.Error(err)
		}
	case <-time.After(60 * time.Second):
		t.Error("the job went on")
	}
}

func TestRateBoundsReading(t *testing.T) {
	task := &Task{rate: 1e6}
	start := time.Now()
	for range 5 {
		task.Read(2e4)
	}
	if d := time.Since(start); d < 99*time.Millisecond {
		t.Errorf("100 kB at 1 MB/s took %v", d)
	}
	if task.p.BytesDone != 1e5 {
		t.Errorf("%d bytes counted", task.p.BytesDone)
	}
}

// A panic in a job is the run's failure. What a job says may hold anything, and its log is
// bounded; the ledger says what happens again and again once, and then with a count.
func TestHostileJobsEnd(t *testing.T) {
	b := newBench(t)
	b.work(func(_ context.Context, t *Task) error {
		for i := range 12_000 {
			t.Logf("line %d \x00 \xff", i)
		}
		t.Found("table \x00 \xff", 1)
		panic("index out of range \x00")
	})
	id := b.queue("job")
	for range 12 {
		r := b.await(id, "failed")
		if !strings.Contains(r.Error, "index out of range") || r.Lines < 12_000 || len(r.Log) > 100 {
			t.Fatalf("%q, %d lines, %d shown", r.Error, r.Lines, len(r.Log))
		}
		if err := b.s.WishRun(context.Background(), b.c, r, "run", "tester"); err != nil {
			t.Fatal(err)
		}
	}
	b.await(id, "failed")
	var kept int
	if err := b.s.DB().QueryRow("SELECT count(*) FROM run_log").Scan(&kept); err != nil || kept > 5000 {
		t.Errorf("%d lines are kept, %v", kept, err)
	}
	entries, err := b.s.LedgerPage(context.Background(), b.c.Book(), store.LedgerFilter{}, 1<<40, 100)
	if err != nil {
		t.Fatal(err)
	}
	said := []string{}
	for _, e := range entries {
		if e.What == "run.failed" {
			said = append(said, e.Detail["times"])
		}
	}
	if !slices.Equal(said, []string{"10", ""}) {
		t.Errorf("the ledger says of 13 failures: %q", said)
	}
}

// A run whose workers go away again and again at one place is given up; what was wished of
// it meanwhile is done.
func TestRunsThatEndTheirWorkers(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	vanish := func() *store.Run {
		t.Helper()
		if _, err := b.s.DB().Exec("UPDATE run SET lease_until = now() - interval '1 s' WHERE state = 'running'"); err != nil {
			t.Fatal(err)
		}
		r, err := b.s.TakeRun(ctx, NewProcess("test"), DefaultLease)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	id := b.queue("job")
	for range 30 {
		vanish()
	}
	if r := b.run(id); r.State != "failed" || !strings.Contains(r.Error, "went away") {
		t.Errorf("%s: %s", r.State, r.Error)
	}
	// One that comes on is not.
	id = b.queue("job")
	for i := range 30 {
		r := vanish()
		if r == nil {
			t.Fatal("it was given up though it comes on")
		}
		if _, err := b.s.SaveProgress(ctx, r, store.Progress{BytesDone: int64(i + 1)}, DefaultLease); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.s.WishRun(ctx, b.c, b.run(id), "stop", "tester"); err != nil {
		t.Fatal(err)
	}
	if r := vanish(); r != nil || b.run(id).State != "stopped" {
		t.Errorf("a run that was stopped while nobody had it is %s", b.run(id).State)
	}
	// One that is interrupted in the same way three times stays failed with its cause.
	id = b.queue("job")
	for i := range 3 {
		r := vanish()
		if r == nil {
			t.Fatal("nobody takes it")
		}
		if err := b.s.Interrupt(ctx, r, "the same cause", store.Act{Book: b.c.Book(), By: "tester", What: "run.interrupted", On: "r", Detail: map[string]string{}}); err != nil {
			t.Fatal(err)
		}
		if r := b.run(id); (r.State == "failed") != (i == 2) || i == 2 && !strings.Contains(r.Error, "the same cause") {
			t.Errorf("after %d times it is %s: %s", i+1, r.State, r.Error)
		}
	}
}
