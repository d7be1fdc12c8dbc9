package acquire

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"crosswind/internal/store"
)

// Keep queues checks whose time has come, until ctx ends. Any number of
// processes may do so.
func (q *Acquirer) Keep(ctx context.Context, failed func(error)) {
	for ctx.Err() == nil {
		taken, err := q.Store.TakeSchedule(ctx, q.queueDue)
		if err != nil && ctx.Err() == nil {
			failed(err)
		}
		if taken && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(5 * time.Second):
		}
	}
}

// queueDue queues a check of every acquisition of a case.
func (q *Acquirer) queueDue(t *store.Tx, c *store.Case, s store.Schedule) error {
	all, err := t.Acquisitions(c.ID)
	if err != nil {
		return err
	}
	refs, err := t.ExhibitReferences(c.ID)
	if err != nil {
		return err
	}
	by := "schedule of " + s.By
	for i := range all {
		name := fmt.Sprintf("%s acquisition %d", refs[all[i].ExhibitID], all[i].Number)
		r, act, err := Check(c, &all[i], name, by, "vault", "")
		if err != nil {
			return err
		}
		if _, err := t.QueueRun(c, r, act); err != nil {
			return err
		}
	}
	return nil
}

// Check is the run that checks an acquisition, or one file of it, and the entry
// of its queueing.
func Check(c *store.Case, a *store.Acquisition, name, by, against, path string) (store.Run, store.Act, error) {
	sub, err := json.Marshal(VerifySubject{Exhibit: a.ExhibitID, Acquisition: a.ID, Name: name, Against: against, Path: path})
	title, detail := "Checking "+name+" against the "+against, map[string]string{"against": against}
	if path != "" {
		title, detail["file"] = "Checking "+path+" of "+name+" against the "+against, path
	}
	return store.Run{Kind: "verify", Subject: sub, By: by, Title: title},
		store.Act{Book: c.Book(), By: by, What: "verification.queued", On: name, Detail: detail}, err
}
