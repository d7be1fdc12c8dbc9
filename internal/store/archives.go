package store

import (
	"context"
	"fmt"
	"time"
)

// Place is a further place in which a case's sources are looked for.
type Place struct {
	Path string
	By   string
	At   time.Time
}

// Places lists the further places of a case.
func (s *Store) Places(ctx context.Context, caseID int64) (out []Place, err error) {
	err = s.list(ctx, &out, "listing the places", "SELECT path, by, at FROM place WHERE case_id = $1 ORDER BY at, path", caseID)
	return out, err
}

// AddPlace adds a place to a case.
func (s *Store) AddPlace(ctx context.Context, c *Case, path, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.exec("the place "+path, "INSERT INTO place(case_id, path, by) VALUES ($1, $2, $3)", c.ID, path, by); err != nil {
			return err
		}
		return t.Log(Act{c.Book(), by, "source.named", path, nil})
	})
}

// DropPlace takes a place away from a case. What was acquired from it stays.
func (s *Store) DropPlace(ctx context.Context, c *Case, path, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		res, err := t.ExecContext(ctx, "DELETE FROM place WHERE case_id = $1 AND path = $2", c.ID, path)
		if err != nil {
			return fmt.Errorf("taking the place %s away: %w", path, err)
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return fmt.Errorf("the place %s: %w", path, ErrNotFound)
		}
		return t.Log(Act{c.Book(), by, "source.unnamed", path, nil})
	})
}

// Archive is an archive that was handed in.
type Archive struct {
	ID      int64
	CaseID  int64  `db:"case_id"`
	RunID   *int64 `db:"run_id"`
	Name    string
	Path    string // on the machine, "" if it was uploaded
	Size    int64
	SHA256  string `db:"sha256"`
	Refused string // why it was not unpacked
	Notes   Array[string]
	By      string
	At      time.Time
	ReadyAt *time.Time `db:"ready_at"`
}

// AddArchive keeps that an archive was handed in, and queues its unpacking by a
// run of kind "unpack", whose subject is {"archive": ID}.
func (s *Store) AddArchive(ctx context.Context, c *Case, a Archive) (id int64, err error) {
	err = s.Change(ctx, func(t *Tx) error {
		id, err = t.insert("keeping the archive", "INSERT INTO archive(case_id, name, path, size, sha256, by) VALUES ($1, $2, $3, $4, $5, $6)", c.ID, a.Name, a.Path, a.Size, a.SHA256, a.By)
		if err != nil {
			return err
		}
		run, err := t.QueueRun(c, Run{Kind: "unpack", Subject: fmt.Appendf(nil, `{"archive": %d}`, id), Title: "Unpacking " + a.Name, By: a.By})
		if err != nil {
			return err
		}
		d := map[string]string{"size": fmt.Sprint(a.Size)}
		for k, v := range map[string]string{"sha256": a.SHA256, "path": a.Path} {
			if v != "" {
				d[k] = v
			}
		}
		if a.SHA256 == "" {
			delete(d, "size") // told when it was read
		}
		if err := t.exec("keeping the archive's run", "UPDATE archive SET run_id = $2 WHERE id = $1", id, run); err != nil {
			return err
		}
		return t.Log(Act{c.Book(), a.By, "archive.received", a.Name, d})
	})
	return id, err
}

// Archives lists the archives of a case.
func (s *Store) Archives(ctx context.Context, caseID int64) (out []Archive, err error) {
	err = s.list(ctx, &out, "listing the archives", "SELECT * FROM archive WHERE case_id = $1 ORDER BY id", caseID)
	return out, err
}

// ArchiveByID finds an archive of a case.
func (s *Store) ArchiveByID(ctx context.Context, caseID, id int64) (*Archive, error) {
	a := &Archive{}
	return a, s.get(ctx, a, fmt.Sprintf("archive %d", id), "SELECT * FROM archive WHERE id = $1 AND case_id = $2", id, caseID)
}

// ArchiveMember is a file that an archive holds.
type ArchiveMember struct {
	Path       string
	Size       int64
	SHA256     string     `db:"sha256"`
	ModifiedAt *time.Time `db:"modified_at"` // nil for one that no calendar has
}

// ArchiveMembers lists what an archive holds.
func (s *Store) ArchiveMembers(ctx context.Context, id int64) (out []ArchiveMember, err error) {
	err = s.list(ctx, &out, "listing the archive's members", "SELECT path, size, sha256, modified_at FROM archive_member WHERE archive_id = $1 ORDER BY path", id)
	return out, err
}

// SaveArchive keeps the archive's own bytes' size and digest, once they are in
// the vault.
func (s *Store) SaveArchive(ctx context.Context, r *Run, a *Archive) error {
	err := s.Held(ctx, r, func(t *Tx) error {
		return t.exec("the archive's digest", "UPDATE archive SET size = $2, sha256 = $3 WHERE id = $1", a.ID, a.Size, a.SHA256)
	})
	if err != nil {
		return fmt.Errorf("keeping the archive %s: %w", a.Name, err)
	}
	return nil
}

// AddArchiveMembers keeps members. Adding one again changes nothing.
func (s *Store) AddArchiveMembers(ctx context.Context, r *Run, archive int64, ms []ArchiveMember) error {
	if len(ms) == 0 {
		return nil
	}
	var paths, sums []string
	var sizes []int64
	var times []*time.Time
	for i := range ms {
		paths, sums, sizes, times = append(paths, ms[i].Path), append(sums, ms[i].SHA256), append(sizes, ms[i].Size), append(times, storable(ms[i].ModifiedAt))
	}
	err := s.Held(ctx, r, func(t *Tx) error {
		return t.exec("the archive's members", `INSERT INTO archive_member(archive_id, path, size, sha256, modified_at)
SELECT $1, m.path, m.size, m.sum, m.at FROM unnest($2::text[], $3::bigint[], $4::text[], $5::timestamptz[]) m(path, size, sum, at) ON CONFLICT DO NOTHING`, archive, paths, sizes, sums, times)
	})
	if err != nil {
		return fmt.Errorf("keeping the member %s and %d more: %w", ms[0].Path, len(ms)-1, err)
	}
	return nil
}

// EndArchive ends the run that unpacked an archive, or that found why it cannot
// be unpacked; then none of its members are kept.
func (s *Store) EndArchive(ctx context.Context, r *Run, a *Archive, act Act) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if a.Refused != "" {
			if err := t.exec("dropping the archive's members", "DELETE FROM archive_member WHERE archive_id = $1", a.ID); err != nil {
				return err
			}
		}
		if err := t.exec("ending the archive", "UPDATE archive SET refused = $2, notes = $3, ready_at = now() WHERE id = $1", a.ID, a.Refused, a.Notes.param()); err != nil {
			return err
		}
		return t.Log(act)
	})
}
