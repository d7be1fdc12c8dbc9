// Package runtest lets tests do runs as the application does them.
package runtest

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"sync"
	"testing"
	"time"

	"crosswind/internal/run"
	"crosswind/internal/store"
)

// Bench does the runs of a case with a worker of its own.
type Bench struct {
	t    testing.TB
	s    *store.Store
	c    *store.Case
	w    *run.Worker
	stop func()
	busy sync.Map // ids of the runs whose jobs have not returned
}

// Start starts a worker that ends with the test. What it logs goes to log.
func Start(t testing.TB, s *store.Store, c *store.Case, jobs map[string]run.Job, log io.Writer) *Bench {
	b := &Bench{t: t, s: s, c: c}
	told := map[string]run.Job{}
	for kind, job := range jobs {
		told[kind] = func(ctx context.Context, t *run.Task) error {
			b.busy.Store(t.Run.ID, true)
			defer b.busy.Delete(t.Run.ID)
			return job(ctx, t)
		}
	}
	b.w = &run.Worker{Process: run.NewProcess("test"), Lease: run.DefaultLease, Poll: 50 * time.Millisecond, Store: s, Jobs: told, Log: slog.New(slog.NewTextHandler(log, nil))}
	b.Restart()
	t.Cleanup(func() { b.Stop() })
	return b
}

// Restart starts the worker again after Stop.
func (b *Bench) Restart() {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { b.w.Work(ctx); close(done) }()
	b.stop = func() { cancel(); <-done }
}

// Stop ends the worker as the end of its process does.
func (b *Bench) Stop() { b.stop() }

// Queue queues a run.
func (b *Bench) Queue(kind string, subject any) int64 {
	b.t.Helper()
	sub, err := json.Marshal(subject)
	if err != nil {
		b.t.Fatal(err)
	}
	id, err := b.s.QueueRun(context.Background(), b.c, store.Run{Kind: kind, Subject: sub, Title: kind, By: "tester"}, store.Act{Book: b.c.Book(), By: "tester", What: "queued", On: kind})
	if err != nil {
		b.t.Fatal(err)
	}
	return id
}

// Wait waits until a run is neither queued nor going, and its job has returned: what a job does when its run has ended is done.
func (b *Bench) Wait(id int64) *store.Run {
	b.t.Helper()
	for end := time.Now().Add(10 * time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		r, err := b.s.RunByID(context.Background(), id)
		if err != nil {
			b.t.Fatal(err)
		}
		if _, busy := b.busy.Load(id); !busy && !r.Open() {
			return r
		}
	}
	b.t.Fatal("the run does not end")
	return nil
}

// Do queues a run and waits for its end.
func (b *Bench) Do(kind string, subject any) *store.Run {
	b.t.Helper()
	return b.Wait(b.Queue(kind, subject))
}
