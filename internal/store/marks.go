package store

import (
	"context"
	"fmt"
	"time"

	"crosswind/core/casefile"
)

// Mark marks a record with a label, which may be "", and a reason, or changes these, which were those that r
// has. What somebody else wrote meanwhile is not overwritten: ErrConflict.
func (s *Store) Mark(ctx context.Context, c *Case, r *Record, label, reason, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.unmarkedSince(r); err != nil {
			return err
		}
		data := map[string]string{"reason": reason, "kind": string(r.Kind), "state": string(r.State), "source": casefile.SourceName(r.ExhibitRef, r.AcqNo)}
		if label != "" {
			data["label"] = label
		}
		at, err := t.log(Act{c.Book(), by, "record.marked", r.UID, data})
		if err != nil {
			return err
		}
		return t.exec("marking the record", "INSERT INTO mark(record_id, by, at, reason, label) VALUES ($1, $2, $3, $4, $5) ON CONFLICT (record_id) DO UPDATE SET by = $2, at = $3, reason = $4, label = $5", r.ID, by, at, reason, label)
	})
}

// unmarkedSince refuses to change a mark that is not as r has it any more.
func (t *Tx) unmarkedSince(r *Record) error {
	var now []struct{ Reason, Label string }
	// Locking the record keeps two first marks apart.
	if err := t.exec("locking the record", "SELECT 1 FROM record WHERE id = $1 FOR UPDATE", r.ID); err != nil {
		return err
	}
	if err := t.SelectContext(t.ctx, &now, "SELECT reason, label FROM mark WHERE record_id = $1", r.ID); err != nil {
		return fmt.Errorf("reading the mark: %w", err)
	}
	if len(now) == 0 != (r.MarkReason == nil) || len(now) == 1 && (now[0].Reason != *r.MarkReason || now[0].Label != r.MarkLabel) {
		return fmt.Errorf("the mark %w", ErrConflict)
	}
	return nil
}

// Unmark takes a mark away.
func (s *Store) Unmark(ctx context.Context, c *Case, r *Record, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.unmarkedSince(r); err != nil {
			return err
		}
		if r.MarkReason == nil {
			return nil
		}
		if err := t.exec("unmarking the record", "DELETE FROM mark WHERE record_id = $1", r.ID); err != nil {
			return err
		}
		return t.Log(Act{c.Book(), by, "record.unmarked", r.UID, map[string]string{"source": casefile.SourceName(r.ExhibitRef, r.AcqNo)}})
	})
}

// Labels lists the labels of the marks of a case.
func (s *Store) Labels(ctx context.Context, caseID int64) (out []string, err error) {
	err = s.list(ctx, &out, "listing the labels", "SELECT DISTINCT m.label FROM mark m JOIN record r ON r.id = m.record_id WHERE r.case_id = $1 AND m.label <> '' ORDER BY 1 LIMIT 200", caseID)
	return out, err
}

// Package is a case package that was made.
type Package struct {
	ID     int64
	CaseID int64 `db:"case_id"`
	RunID  int64 `db:"run_id"`
	Name   string
	By     string
	At     time.Time
	Size   int64
	SHA256 string `db:"sha256"`
	// Records are those that it speaks of; nil of one of an earlier version, which holds them.
	Records Array[int64]
}

// EndPackage keeps a package and ends its run.
func (s *Store) EndPackage(ctx context.Context, r *Run, p Package, act Act) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if err := t.exec("keeping the package", "INSERT INTO package(case_id, run_id, name, by, at, size, sha256, records) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)", p.CaseID, r.ID, p.Name, p.By, p.At, p.Size, p.SHA256, p.Records.param()); err != nil {
			return err
		}
		return t.Log(act)
	})
}

// Packages lists the packages of a case, the newest first.
func (s *Store) Packages(ctx context.Context, caseID int64) (out []Package, err error) {
	err = s.list(ctx, &out, "listing the packages", "SELECT * FROM package WHERE case_id = $1 ORDER BY id DESC LIMIT 50", caseID)
	return out, err
}

// PackageByID finds a package of a case.
func (s *Store) PackageByID(ctx context.Context, caseID, id int64) (*Package, error) {
	p := &Package{}
	return p, s.get(ctx, p, "package", "SELECT * FROM package WHERE case_id = $1 AND id = $2", caseID, id)
}
