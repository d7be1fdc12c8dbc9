package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"crosswind/core/scope"
)

// Run is a piece of long work.
type Run struct {
	ID         int64
	CaseID     int64 `db:"case_id"`
	Kind       string
	Subject    json.RawMessage
	Title      string
	By         string
	State      string
	Wish       string
	Fence      int64
	LeaseUntil *time.Time `db:"lease_until"`
	BytesDone  int64      `db:"bytes_done"`
	BytesTotal int64      `db:"bytes_total"`
	ItemsDone  int64      `db:"items_done"`
	ItemsTotal int64      `db:"items_total"`
	Found      json.RawMessage
	Log        Array[string] // its last lines
	Lines      int64         `db:"log_lines"` // all that it wrote
	Failures   int           // in the same way
	Failing    string        // that way
	Vanished   int           // workers that went away, one after the other, at one place
	Reason     string        // why it reads evidence with no authority in force
	Error      string
	Holder     string     // the process that alone can do it, "" if any can
	Worker     string     // who has it, or had it last
	CreatedAt  time.Time  `db:"created_at"`
	StartedAt  *time.Time `db:"started_at"`
	EndedAt    *time.Time `db:"ended_at"`
	// Last gives what there is to tell of the run when it ends, and may not be kept yet.
	Last func() Progress `db:"-"`
}

// Open reports whether the run is waiting or going.
func (r Run) Open() bool { return r.State == "queued" || r.State == "running" }

// Percent is how much of the bytes, or else the items, is done.
func (r Run) Percent() int {
	switch {
	case r.State == "done":
		return 100
	case r.BytesTotal > 0:
		return int(100 * r.BytesDone / r.BytesTotal)
	case r.ItemsTotal > 0:
		return int(100 * r.ItemsDone / r.ItemsTotal)
	}
	return 0
}

// QueueRun queues a run and notes it in the ledger.
func (s *Store) QueueRun(ctx context.Context, c *Case, r Run, acts ...Act) (id int64, err error) {
	err = s.Change(ctx, func(t *Tx) error {
		id, err = t.QueueRun(c, r, acts...)
		return err
	})
	return id, err
}

// QueueRun queues a run and notes it in the ledger. One that reads evidence needs an
// authority in force, or the reason that WithReason gave: it is kept.
func (t *Tx) QueueRun(c *Case, r Run, acts ...Act) (int64, error) {
	reason := ""
	if readsEvidence[r.Kind] {
		var auth []Authority
		if err := t.SelectContext(t.ctx, &auth, "SELECT * FROM authority WHERE case_id = $1 ORDER BY id FOR SHARE", c.ID); err != nil {
			return 0, fmt.Errorf("listing the authorities: %w", err)
		}
		if err := scope.InForce(Scopes(auth), time.Now()); err != nil {
			if reason, _ = t.ctx.Value(reasonKey{}).(string); reason == "" {
				return 0, err
			}
			if err := t.Override(c, err.Error(), r.Title, reason, r.By); err != nil {
				return 0, err
			}
		}
	}
	id, err := t.insert("queueing a run", "INSERT INTO run(case_id, kind, subject, title, by, holder, reason) VALUES ($1, $2, $3, $4, $5, $6, $7)", c.ID, r.Kind, r.Subject, r.Title, r.By, r.Holder, reason)
	if err != nil {
		return 0, err
	}
	return id, t.logAll(acts)
}

// readsEvidence are the kinds of run that need an authority in force.
var readsEvidence = map[string]bool{"acquire backup": true, "acquire handset": true, "acquire storage": true, "acquire image": true, "acquire cloud": true, "make backup": true, "unpack": true,
	"unlock": true, "try passwords": true, "recover": true}

type reasonKey struct{}

// WithReason gives a context in which evidence is read with no authority in force, for
// a reason.
func WithReason(ctx context.Context, reason string) context.Context {
	return context.WithValue(ctx, reasonKey{}, reason)
}

// MayGoOn says why a run that reads evidence may not, or not any more.
func (s *Store) MayGoOn(ctx context.Context, r *Run) error {
	if !readsEvidence[r.Kind] || r.Reason != "" {
		return nil
	}
	auth, err := s.Authorities(ctx, r.CaseID)
	if err != nil {
		return err
	}
	return scope.InForce(Scopes(auth), time.Now())
}

// runSelect reads runs with the tails of their logs.
const runSelect = "SELECT r.*, ARRAY(SELECT line FROM (SELECT n, line FROM run_log WHERE run_id = r.id ORDER BY n DESC LIMIT 60) l ORDER BY n) AS log FROM run r "

// RunByID finds a run.
func (s *Store) RunByID(ctx context.Context, id int64) (*Run, error) {
	r := &Run{}
	return r, s.get(ctx, r, fmt.Sprintf("run %d", id), runSelect+"WHERE id = $1", id)
}

// Runs lists the newest runs of a case; kind "" is every kind.
func (s *Store) Runs(ctx context.Context, caseID int64, kind string, limit int) (out []Run, err error) {
	err = s.list(ctx, &out, "listing the runs", runSelect+"WHERE case_id = $1 AND ($2 = '' OR kind = $2) ORDER BY id DESC LIMIT $3", caseID, kind, limit)
	return out, err
}

// Process is a process that takes runs.
type Process struct {
	ID   string
	What string // serve, work or demo
	Host string
	PID  int       `db:"pid"`
	Seen time.Time `db:"seen_at"`
}

// Name says which process it is.
func (p *Process) Name() string { return fmt.Sprintf("%s %d on %s", p.What, p.PID, p.Host) }

// Alive says that a process is there.
func (s *Store) Alive(ctx context.Context, p *Process) error {
	_, err := s.db.ExecContext(ctx, "INSERT INTO process(id, what, host, pid) VALUES ($1, $2, $3, $4) ON CONFLICT (id) DO UPDATE SET seen_at = now()", p.ID, p.What, p.Host, p.PID)
	if err != nil {
		return fmt.Errorf("saying that this process is alive: %w", err)
	}
	return nil
}

// Gone says that a process ends.
func (s *Store) Gone(ctx context.Context, p *Process) error {
	_, err := s.db.ExecContext(ctx, "DELETE FROM process WHERE id = $1 OR seen_at < now() - interval '1 day'", p.ID)
	if err != nil {
		return fmt.Errorf("saying that this process ends: %w", err)
	}
	return nil
}

// silence is how long a process that holds runs may be silent before others
// take them.
const silence = "10 seconds"

// Processes lists the processes that take runs.
func (s *Store) Processes(ctx context.Context) (out []Process, err error) {
	err = s.list(ctx, &out, "listing the processes", "SELECT id, what, host, pid, seen_at FROM process WHERE seen_at > now() - $1::interval ORDER BY started_at", silence)
	return out, err
}

// maxVanished is how many workers may go away, one after the other, at one place of a
// run: then it is the run that ends them. Processes are killed for other reasons too,
// so it is not few.
const maxVanished = 12

// TakeRun takes the oldest run that nobody has and that p may do, or nil if there
// is none. A run whose worker has died is free once its lease has run out; that
// it is taken up again is told in the ledger. What the examiner wished of it meanwhile
// is done instead, and a run that ends its workers is given up.
func (s *Store) TakeRun(ctx context.Context, p *Process, lease time.Duration) (*Run, error) {
	for {
		r, err := s.takeRun(ctx, p, lease)
		if err != nil || r == nil {
			return nil, err
		}
		if r.State == "running" {
			return r, nil
		}
	}
}

// takeRun takes a run, or ends one that is not to go on.
func (s *Store) takeRun(ctx context.Context, p *Process, lease time.Duration) (*Run, error) {
	r := &Run{}
	err := s.change(ctx, func(t *Tx) error {
		var was Run
		err := t.GetContext(ctx, &was, `SELECT * FROM run r
WHERE (r.state = 'queued' OR r.state = 'running' AND r.lease_until < now())
  AND (r.holder IN ('', $1) OR NOT EXISTS (SELECT FROM process p WHERE p.id = r.holder AND p.seen_at > now() - $2::interval))
ORDER BY r.id LIMIT 1 FOR UPDATE OF r SKIP LOCKED`, p.ID, silence)
		if err != nil {
			return err
		}
		var reference string
		if err := t.GetContext(ctx, &reference, "SELECT reference FROM cases WHERE id = $1", was.CaseID); err != nil {
			return err
		}
		act := Act{CaseBook(reference), "Crosswind", "run.taken_up", fmt.Sprintf("run %d", was.ID), map[string]string{"title": was.Title, "worker_gone": was.Worker, "worker": p.Name()}}
		state, fault := "running", ""
		vanished := was.State == "running"
		switch {
		case vanished && was.Wish == "stop":
			state, fault, act.What = "stopped", "Stopped by the examiner. What was read is kept in the vault.", "run.stopped"
		case vanished && was.Wish == "pause":
			state, act.What = "paused", "run.paused"
		case vanished && was.Vanished+1 >= maxVanished:
			state, act.What = "failed", "run.failed"
			fault = fmt.Sprintf("Its workers went away %d times, one after the other, at the same place: it is not taken up again by itself.", maxVanished)
			act.Detail["error"] = fault
		}
		err = t.GetContext(ctx, r, `UPDATE run SET state = $2, fence = fence + 1, started_at = coalesce(started_at, now()), worker = $4, error = $5,
  lease_until = CASE $2 WHEN 'running' THEN now() + $3::interval END, ended_at = CASE WHEN $2 IN ('failed', 'stopped') THEN now() END,
  wish = CASE $2 WHEN 'running' THEN wish ELSE 'run' END, vanished = CASE WHEN $6 THEN vanished + 1 ELSE 0 END
WHERE id = $1 RETURNING *`, was.ID, state, lease.String(), p.Name(), fault, vanished)
		if err != nil || !vanished {
			return err
		}
		if err := t.appendLog(r.ID, []string{"the worker went away; taken up again at " + time.Now().UTC().Format(time.RFC3339)}); err != nil {
			return err
		}
		r.Lines++
		return t.LogRepeated(act)
	}, false)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("taking a run: %w", err)
	}
	return r, nil
}

// Of a run's log the last lines are kept: trimLog at least, and trimEvery more before they
// are trimmed again. Trimming at every line would pass over all that was trimmed before.
const trimLog, trimEvery = 4000, 1000

// appendLog adds lines to a run's log.
func (t *Tx) appendLog(run int64, lines []string) error {
	if len(lines) == 0 {
		return nil
	}
	all := len(lines)
	lines = lines[max(0, all-trimLog):]
	return t.exec("keeping the run's log", `WITH r AS (UPDATE run SET log_lines = log_lines + $3 WHERE id = $1 RETURNING log_lines),
  gone AS (DELETE FROM run_log USING r WHERE run_id = $1 AND r.log_lines / $5 > (r.log_lines - $3) / $5
    AND n > r.log_lines - $3 - $4 - $5 AND n <= r.log_lines - $4)
INSERT INTO run_log SELECT $1, r.log_lines - $6 + l.n, l.line FROM r, unnest($2::text[]) WITH ORDINALITY l(line, n)`,
		run, lines, all, trimLog, trimEvery, len(lines))
}

// ErrLost is returned when another worker has taken the run.
var ErrLost = errors.New("another worker has taken this run")

// Progress is what a worker tells of a run.
type Progress struct {
	BytesDone, BytesTotal, ItemsDone, ItemsTotal int64
	Found                                        map[string]int64
	Log                                          []string // lines that may not be kept yet
	Before                                       int64    // how many the run wrote before these
}

// unkept are the lines of which none is kept yet, of a run that has so many.
func (p *Progress) unkept(lines int64) []string {
	return p.Log[min(max(0, lines-p.Before), int64(len(p.Log))):]
}

// SaveProgress keeps the worker's progress, renews its lease, and returns what
// the examiner wishes.
func (s *Store) SaveProgress(ctx context.Context, r *Run, p Progress, lease time.Duration) (wish string, err error) {
	found, err := json.Marshal(p.Found)
	if err != nil {
		return "", err
	}
	err = s.change(ctx, func(t *Tx) error {
		var now struct {
			Wish  string
			Lines int64 `db:"log_lines"`
		}
		if err := t.GetContext(ctx, &now, `UPDATE run SET vanished = CASE WHEN (bytes_done, items_done) = ($3, $5) THEN vanished ELSE 0 END,
  bytes_done = $3, bytes_total = $4, items_done = $5, items_total = $6, found = $7, lease_until = now() + $8::interval
WHERE id = $1 AND fence = $2 AND state = 'running' RETURNING wish, log_lines`, r.ID, r.Fence, p.BytesDone, p.BytesTotal, p.ItemsDone, p.ItemsTotal, json.RawMessage(found), lease.String()); err != nil {
			return err
		}
		wish = now.Wish
		return t.appendLog(r.ID, p.unkept(now.Lines))
	}, false)
	if errors.Is(err, sql.ErrNoRows) {
		return "", ErrLost
	}
	if err != nil {
		return "", fmt.Errorf("saving progress: %w", err)
	}
	return wish, nil
}

// maxFailures is how often a run may fail in the same way and go on by itself.
const maxFailures = 3

// Interrupt puts a run back into the queue that could not go on for a reason that is
// not its own, as the end of its process. One that is interrupted in the same way
// again and again stays failed.
func (s *Store) Interrupt(ctx context.Context, r *Run, cause string, act Act) error {
	return s.change(ctx, func(t *Tx) error {
		failures := 0
		if cause != "" {
			if failures = 1; r.Failing == cause {
				failures = r.Failures + 1
			}
		}
		state, fault := "queued", ""
		if failures >= maxFailures {
			state, fault, act.What = "failed", fmt.Sprintf("It failed %d times in the same way: %s", failures, cause), "run.failed"
			act.Detail["error"] = fault
		}
		if err := t.EndRun(r, state, fault); err != nil {
			return err
		}
		if err := t.exec("counting failures", "UPDATE run SET failures = $2, failing = $3 WHERE id = $1", r.ID, failures, cause); err != nil {
			return err
		}
		return t.LogRepeated(act)
	}, false)
}

// EndRun ends a run in the given state and notes acts in the ledger.
func (s *Store) EndRun(ctx context.Context, r *Run, state, fault string, acts ...Act) error {
	return s.change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, state, fault); err != nil {
			return err
		}
		if state != "failed" {
			return t.logAll(acts)
		}
		for _, a := range acts {
			if err := t.LogRepeated(a); err != nil {
				return err
			}
		}
		return nil
	}, false)
}

// EndRun ends a run, unless another worker has it by now.
func (t *Tx) EndRun(r *Run, state, fault string) error {
	p, found := Progress{BytesDone: r.BytesDone, BytesTotal: r.BytesTotal, ItemsDone: r.ItemsDone, ItemsTotal: r.ItemsTotal}, []byte(r.Found)
	if r.Last != nil {
		var err error
		p = r.Last()
		if found, err = json.Marshal(p.Found); err != nil {
			return err
		}
	}
	var lines int64
	err := t.GetContext(t.ctx, &lines, `UPDATE run SET state = $3, error = $4, lease_until = NULL, wish = 'run',
  ended_at = CASE WHEN $3 IN ('paused', 'queued') THEN NULL ELSE now() END,
  bytes_done = $5, bytes_total = $6, items_done = $7, items_total = $8, found = $9, vanished = 0 WHERE id = $1 AND fence = $2 AND state = 'running' RETURNING log_lines`,
		r.ID, r.Fence, state, fault, p.BytesDone, p.BytesTotal, p.ItemsDone, p.ItemsTotal, json.RawMessage(found))
	if errors.Is(err, sql.ErrNoRows) {
		return ErrLost
	}
	if err != nil {
		return fmt.Errorf("ending run %d: %w", r.ID, err)
	}
	return t.appendLog(r.ID, p.unkept(lines))
}

// WishRun says what the examiner wishes of a run: pause, stop, or run on.
func (s *Store) WishRun(ctx context.Context, c *Case, r *Run, wish, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		q := "UPDATE run SET wish = $2 WHERE id = $1 AND state = 'running'"
		switch {
		case wish == "run":
			q = "UPDATE run SET state = 'queued', wish = $2, error = '', ended_at = NULL, failures = 0, failing = '', vanished = 0 WHERE id = $1 AND state IN ('paused', 'stopped', 'failed')"
		case r.State == "queued" || r.State == "paused":
			q = "UPDATE run SET state = CASE $2 WHEN 'stop' THEN 'stopped' ELSE 'paused' END, wish = 'run' WHERE id = $1 AND state IN ('queued', 'paused')"
		}
		res, err := t.ExecContext(ctx, q, r.ID, wish)
		if err != nil {
			return fmt.Errorf("asking run %d to %s: %w", r.ID, wish, err)
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return fmt.Errorf("run %d is %s and cannot %s", r.ID, r.State, wish)
		}
		return t.Log(Act{c.Book(), by, "run." + wish, fmt.Sprintf("run %d", r.ID), map[string]string{"title": r.Title}})
	})
}
