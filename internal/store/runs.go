package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"
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
	Log        Array[string]
	Error      string
	Holder     string     // the process that alone can do it, "" if any can
	Worker     string     // who has it, or had it last
	CreatedAt  time.Time  `db:"created_at"`
	StartedAt  *time.Time `db:"started_at"`
	EndedAt    *time.Time `db:"ended_at"`
	// Last gives what there is still to tell of the run when it ends.
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

// QueueRun queues a run and notes it in the ledger.
func (t *Tx) QueueRun(c *Case, r Run, acts ...Act) (int64, error) {
	id, err := t.insert("queueing a run", "INSERT INTO run(case_id, kind, subject, title, by, holder) VALUES ($1, $2, $3, $4, $5, $6)", c.ID, r.Kind, string(r.Subject), r.Title, r.By, r.Holder)
	if err != nil {
		return 0, err
	}
	return id, t.logAll(acts)
}

// RunByID finds a run.
func (s *Store) RunByID(ctx context.Context, id int64) (*Run, error) {
	r := &Run{}
	return r, s.get(ctx, r, fmt.Sprintf("run %d", id), "SELECT * FROM run WHERE id = $1", id)
}

// Runs lists the newest runs of a case; kind "" is every kind.
func (s *Store) Runs(ctx context.Context, caseID int64, kind string, limit int) (out []Run, err error) {
	err = s.list(ctx, &out, "listing the runs", "SELECT * FROM run WHERE case_id = $1 AND ($2 = '' OR kind = $2) ORDER BY id DESC LIMIT $3", caseID, kind, limit)
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

// TakeRun takes the oldest run that nobody has and that p may do, or nil if there
// is none. A run whose worker has died is free once its lease has run out; that
// it is taken up again is told in the ledger.
func (s *Store) TakeRun(ctx context.Context, p *Process, lease time.Duration) (*Run, error) {
	r := &Run{}
	err := s.Change(ctx, func(t *Tx) error {
		var was struct {
			ID        int64
			State     string
			Worker    string
			Reference string
		}
		err := t.GetContext(ctx, &was, `SELECT r.id, r.state, r.worker, c.reference FROM run r JOIN cases c ON c.id = r.case_id
WHERE (r.state = 'queued' OR r.state = 'running' AND r.lease_until < now())
  AND (r.holder IN ('', $1) OR NOT EXISTS (SELECT FROM process p WHERE p.id = r.holder AND p.seen_at > now() - $2::interval))
ORDER BY r.id LIMIT 1 FOR UPDATE OF r SKIP LOCKED`, p.ID, silence)
		if err != nil {
			return err
		}
		err = t.GetContext(ctx, r, `UPDATE run SET state = 'running', fence = fence + 1, lease_until = now() + $2::interval, started_at = coalesce(started_at, now()), worker = $3,
  log = CASE WHEN state = 'running' THEN log || ('the worker went away; taken up again at ' || to_char(now() AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS"Z"')) ELSE log END
WHERE id = $1 RETURNING *`, was.ID, lease.String(), p.Name())
		if err != nil || was.State != "running" {
			return err
		}
		return t.Log(Act{CaseBook(was.Reference), "Crosswind", "run.taken_up", fmt.Sprintf("run %d", r.ID), map[string]string{"title": r.Title, "worker_gone": was.Worker, "worker": r.Worker}})
	})
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("taking a run: %w", err)
	}
	return r, nil
}

// ErrLost is returned when another worker has taken the run.
var ErrLost = errors.New("another worker has taken this run")

// Progress is what a worker tells of a run.
type Progress struct {
	BytesDone, BytesTotal, ItemsDone, ItemsTotal int64
	Found                                        map[string]int64
	Log                                          []string // new lines
}

// SaveProgress keeps the worker's progress, renews its lease, and returns what
// the examiner wishes.
func (s *Store) SaveProgress(ctx context.Context, r *Run, p Progress, lease time.Duration) (wish string, err error) {
	found, err := json.Marshal(p.Found)
	if err != nil {
		return "", err
	}
	err = s.get(ctx, &wish, "saving progress", `UPDATE run SET bytes_done = $3, bytes_total = $4, items_done = $5, items_total = $6, found = $7, log = log || $8::text[], lease_until = now() + $9::interval
WHERE id = $1 AND fence = $2 AND state = 'running' RETURNING wish`, r.ID, r.Fence, p.BytesDone, p.BytesTotal, p.ItemsDone, p.ItemsTotal, string(found), p.Log, lease.String())
	if errors.Is(err, ErrNotFound) {
		return "", ErrLost
	}
	return wish, err
}

// EndRun ends a run in the given state and notes acts in the ledger.
func (s *Store) EndRun(ctx context.Context, r *Run, state, fault string, acts ...Act) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, state, fault); err != nil {
			return err
		}
		return t.logAll(acts)
	})
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
	res, err := t.ExecContext(t.ctx, `UPDATE run SET state = $3, error = $4, lease_until = NULL, wish = 'run',
  ended_at = CASE WHEN $3 IN ('paused', 'queued') THEN NULL ELSE now() END,
  bytes_done = $5, bytes_total = $6, items_done = $7, items_total = $8, found = $9, log = log || $10::text[] WHERE id = $1 AND fence = $2 AND state = 'running'`,
		r.ID, r.Fence, state, fault, p.BytesDone, p.BytesTotal, p.ItemsDone, p.ItemsTotal, string(found), p.Log)
	if err != nil {
		return fmt.Errorf("ending run %d: %w", r.ID, err)
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return ErrLost
	}
	return nil
}

// WishRun says what the examiner wishes of a run: pause, stop, or run on.
func (s *Store) WishRun(ctx context.Context, c *Case, r *Run, wish, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		q := "UPDATE run SET wish = $2 WHERE id = $1 AND state = 'running'"
		switch {
		case wish == "run":
			q = "UPDATE run SET state = 'queued', wish = $2, error = '', ended_at = NULL WHERE id = $1 AND state IN ('paused', 'stopped', 'failed')"
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
