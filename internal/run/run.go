// Package run does long work in the background. Runs are queued in PostgreSQL
// and taken by any worker; a worker holds a run by a lease that it renews with
// its progress. A worker that dies lets its lease run out, and the run is
// taken up again: so every kind of work must be able to go on from what is
// kept.
package run

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"crosswind/internal/store"
)

// Job does one kind of work. It ends the run in the store itself, together
// with its result, and returns nil; or it returns why it could not.
type Job func(context.Context, *Task) error

// Task is a run that is being worked on. Its methods may be called from any
// goroutine.
type Task struct {
	Run *store.Run
	mu  sync.Mutex
	p   store.Progress
	// cutOff is set when the database could not be reached meanwhile.
	cutOff atomic.Bool
	rate   int64     // see Worker
	due    time.Time // when the bytes read so far are due at that rate
}

// Subject reads what the run is about into dst.
func (t *Task) Subject(dst any) error {
	if err := json.Unmarshal(t.Run.Subject, dst); err != nil {
		return fmt.Errorf("the run's subject: %w", err)
	}
	return nil
}

// Total sets how much there is to do.
func (t *Task) Total(bytes, items int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.p.BytesTotal, t.p.ItemsTotal = bytes, items
}

// More adds to how much there is to do: what was not known of at first.
func (t *Task) More(bytes, items int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.p.BytesTotal += bytes
	t.p.ItemsTotal += items
}

// Done adds to what is done.
func (t *Task) Done(bytes, items int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.p.BytesDone += bytes
	t.p.ItemsDone += items
}

// Read counts n bytes that were read, and waits while they came faster than the
// run may read.
func (t *Task) Read(n int) {
	t.Done(int64(n), 0)
	if t.rate == 0 {
		return
	}
	t.mu.Lock()
	if now := time.Now(); t.due.Before(now) {
		t.due = now
	}
	t.due = t.due.Add(time.Duration(float64(n) / float64(t.rate) * float64(time.Second)))
	due := t.due
	t.mu.Unlock()
	time.Sleep(time.Until(due))
}

// Found counts what has been found so far, by a word.
func (t *Task) Found(word string, n int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.p.Found[word] += n
}

// Logf adds a line to the run's log.
func (t *Task) Logf(format string, args ...any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.p.Log) >= maxUntold {
		return // the database cannot be reached, and there is much to say
	}
	t.p.Log = append(t.p.Log, time.Now().UTC().Format("15:04:05Z ")+fmt.Sprintf(format, args...))
}

// maxUntold bounds the lines that wait to be told.
const maxUntold = 20_000

// progress gives what there is to tell. The lines are told until they are known to be kept: the run can end while a sign of
// life that has them is under way.
func (t *Task) progress() store.Progress {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := t.p
	p.Found = map[string]int64{}
	for k, n := range t.p.Found {
		p.Found[k] = n
	}
	p.Log = slices.Clone(t.p.Log)
	return p
}

// told forgets the first n lines: they are kept.
func (t *Task) told(n int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.p.Log, t.p.Before = t.p.Log[n:], t.p.Before+int64(n)
}

// Worker takes runs and does them. Its Work may be called many times at once.
type Worker struct {
	Store   *store.Store
	Jobs    map[string]Job
	Log     *slog.Logger
	Process *store.Process
	// Lease is how long a run is held without a sign of life.
	Lease time.Duration
	// Poll is how often it asks for work, 0 for the usual.
	Poll time.Duration
	// Rate is how many bytes a run reads in a second at most, 0 for no bound.
	Rate int64
}

// DefaultLease suits machines that are busy.
const DefaultLease = 6 * time.Second

// NewProcess names the process that runs; what says what it was started as.
func NewProcess(what string) *store.Process {
	host, err := os.Hostname()
	if err != nil {
		host = "this machine"
	}
	return &store.Process{ID: rand.Text(), What: what, Host: host, PID: os.Getpid()}
}

// Live says that the process is alive until ctx ends.
func (w *Worker) Live(ctx context.Context) {
	for ctx.Err() == nil {
		if err := w.Store.Alive(ctx, w.Process); err != nil && ctx.Err() == nil {
			w.Log.Error("telling of this process", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(2 * time.Second):
		}
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	if err := w.Store.Gone(end, w.Process); err != nil {
		w.Log.Error("telling that this process ends", "error", err)
	}
}

var (
	errPause = errors.New("paused by the examiner")
	errStop  = errors.New("stopped by the examiner")
)

// poll is how often a worker asks for work, and beat how often it tells of it.
const (
	poll = 400 * time.Millisecond
	beat = 250 * time.Millisecond
)

// Work takes runs until ctx ends. A run that is under way then goes back into
// the queue.
func (w *Worker) Work(ctx context.Context) {
	for ctx.Err() == nil {
		// Not with what ends the worker: a run that is taken just then would be nobody's until its lease ends.
		take, done := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		r, err := w.Store.TakeRun(take, w.Process, w.Lease)
		done()
		if err != nil && ctx.Err() == nil {
			w.Log.Error("taking a run", "error", err)
		}
		if r != nil {
			w.do(ctx, r)
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(cmp.Or(w.Poll, poll)):
		}
	}
}

// do does a run. However it ends, the run is told so.
func (w *Worker) do(ctx context.Context, r *store.Run) {
	t := &Task{Run: r, rate: w.Rate, p: store.Progress{Found: map[string]int64{}, Before: r.Lines}}
	r.Last = t.progress
	run, cancel := context.WithCancelCause(store.WithReason(ctx, r.Reason))
	defer cancel(nil)
	var beats sync.WaitGroup
	beats.Go(func() { w.beat(run, cancel, t) })
	up, err := w.Store.Up(run)
	if err == nil {
		err = w.try(run, t)
	}
	cause := context.Cause(run)
	cancel(nil)
	beats.Wait()
	if err == nil {
		return // the job has ended the run together with its result
	}
	end, done := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer done()
	c, cerr := w.Store.CaseByID(end, r.CaseID)
	if cerr != nil {
		w.Log.Error("ending a run", "run", r.ID, "error", cerr)
		return
	}
	act := store.Act{Book: c.Book(), By: r.By, On: fmt.Sprintf("run %d", r.ID), Detail: map[string]string{"title": r.Title}}
	switch {
	case errors.Is(cause, errPause):
		act.What = "run.paused"
		err = w.Store.EndRun(end, r, "paused", "", act)
	case errors.Is(cause, errStop):
		act.What = "run.stopped"
		err = w.Store.EndRun(end, r, "stopped", "Stopped by the examiner. What was read is kept in the vault.", act)
	case errors.Is(cause, store.ErrLost):
		return
	case ctx.Err() != nil:
		act.What = "run.interrupted"
		err = w.Store.Interrupt(end, r, "", act)
	case t.cutOff.Load() || store.Away(err) || w.restarted(end, up):
		act.What = "run.interrupted"
		err = w.Store.Interrupt(end, r, err.Error(), act)
	default:
		w.Log.Error("a run failed", "run", r.ID, "kind", r.Kind, "error", err)
		act.What = "run.failed"
		act.Detail["error"] = err.Error()
		err = w.Store.EndRun(end, r, "failed", err.Error(), act)
	}
	if err != nil {
		w.Log.Error("ending a run", "run", r.ID, "error", err)
	}
}

// restarted reports whether the database has been restarted since it came up at a moment:
// what broke off meanwhile can say so in many ways.
func (w *Worker) restarted(ctx context.Context, up time.Time) bool {
	now, err := w.Store.Up(ctx)
	return err != nil || !now.Equal(up)
}

// try calls the job of a run. A panic in it is the run's failure, not the process's.
func (w *Worker) try(ctx context.Context, t *Task) (err error) {
	defer func() {
		if v := recover(); v != nil {
			w.Log.Error("a job panicked", "run", t.Run.ID, "kind", t.Run.Kind, "panic", v, "stack", string(debug.Stack()))
			err = fmt.Errorf("a fault in the application itself: %v", v)
		}
	}()
	job := w.Jobs[t.Run.Kind]
	if job == nil {
		return fmt.Errorf("this version knows no run of the kind %q", t.Run.Kind)
	}
	if err := w.Store.MayGoOn(ctx, t.Run); err != nil {
		return fmt.Errorf("%w: start it again and give the reason why it goes on", err)
	}
	return job(ctx, t)
}

func (w *Worker) beat(ctx context.Context, cancel context.CancelCauseFunc, t *Task) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(beat):
		}
		p := t.progress()
		wish, err := w.Store.SaveProgress(ctx, t.Run, p, w.Lease)
		if err == nil {
			t.told(len(p.Log))
		}
		switch {
		case errors.Is(err, store.ErrLost):
			cancel(err)
		case err != nil:
			t.cutOff.Store(true)
			if ctx.Err() == nil {
				w.Log.Error("saving progress", "run", t.Run.ID, "error", err)
			}
		case wish == "pause":
			cancel(errPause)
		case wish == "stop":
			cancel(errStop)
		}
	}
}
