package store

import (
	"context"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"iter"
	"strings"
	"time"

	"crosswind/core/backup"
)

// Acquisition is what was read from one source at one time.
type Acquisition struct {
	ID              int64
	CaseID          int64 `db:"case_id"`
	ExhibitID       int64 `db:"exhibit_id"`
	Number          int
	RunID           int64 `db:"run_id"`
	Method          string
	Source          string
	Facts           json.RawMessage
	Tool            string
	Settings        string
	By              string
	StartedAt       time.Time  `db:"started_at"`
	EndedAt         *time.Time `db:"ended_at"`
	Files           int64
	Bytes           int64
	Manifest        string
	UnlockedAt      *time.Time `db:"unlocked_at"`
	LiveOnly        bool       `db:"live_only"`        // records that were deleted are withheld
	ContentManifest string     `db:"content_manifest"` // SHA-256 of the manifest of the decrypted content, hex
}

// Encrypted reports whether the source says that it is encrypted.
func (a *Acquisition) Encrypted() bool {
	var l struct {
		Encrypted bool `json:"encrypted"`
	}
	return json.Unmarshal(a.Facts, &l) == nil && l.Encrypted
}

// Made is when what was acquired was made: a backup's own time, else when the acquisition ended; the zero time before.
func (a *Acquisition) Made() time.Time {
	var l backup.Label
	if err := json.Unmarshal(a.Facts, &l); err == nil && !l.Made.IsZero() {
		return l.Made
	}
	if a.EndedAt != nil {
		return *a.EndedAt
	}
	return time.Time{}
}

// File is a file of an acquisition.
type File struct {
	AcquisitionID int64 `db:"acquisition_id"`
	Content       bool  // of an encrypted backup or an archive, not the source's own
	Path          string
	RealPath      string `db:"real_path"`
	Size          int64
	MD5           string `db:"md5"`
	SHA1          string `db:"sha1"`
	SHA256        string `db:"sha256"`
	Segments      []byte
	ModifiedAt    *time.Time `db:"modified_at"`
	CheckedAt     time.Time  `db:"checked_at"`
	Fault         string
	BadSegments   Array[int32] `db:"bad_segments"`
	ArchiveAt     *int64       `db:"archive_at"` // where it begins in the archive, decrypted
	Known         string       // the known-file set that names it
	Found         *Found       // of a file of a storage image: where it lies in it
}

// Found says where a file of a storage image lies, and how it was found.
type Found struct {
	Image    string     `json:"image"` // the path of the image's file
	Volume   int        `json:"volume"`
	State    string     `json:"state"` // live, deleted or carved
	Complete string     `json:"complete"`
	Why      string     `json:"why,omitempty"`
	Changed  string     `json:"changed,omitempty"` // local, ISO 8601, where the zone is not stored
	Extents  [][2]int64 `json:"extents"`           // offset, length; the offset -1 is of what is not stored
	Reused   [][2]int64 `json:"reused,omitempty"`  // what it had, and is in use again
	Hidden   bool       `json:"hidden,omitempty"`  // by the attributes that its volume gives it
	System   bool       `json:"system,omitempty"`
}

// Gone says of a file that is not live how it was found, "" of others.
func (f *Found) Gone() string {
	if f == nil || f.State == "live" {
		return ""
	}
	said := map[string]string{"whole": "whole", "part": "not whole", "unverified": "not verified to be whole"}[f.Complete]
	return strings.TrimSuffix(fmt.Sprintf("%s, in %s, %s: %s", f.State, f.Image, said, f.Why), ": ")
}

// At is where a byte of the file lies in the image, -1 if it is not stored.
func (f *Found) At(offset int64) int64 {
	for _, e := range f.Extents {
		if offset < e[1] {
			if e[0] < 0 {
				return -1
			}
			return e[0] + offset
		}
		offset -= e[1]
	}
	return -1
}

// Value and Scan keep it as JSON.
func (f *Found) Value() (driver.Value, error) {
	if f == nil {
		return nil, nil
	}
	b, err := json.Marshal(f)
	return string(b), err
}

// Scan implements sql.Scanner.
func (f *Found) Scan(v any) error {
	switch v := v.(type) {
	case []byte:
		return json.Unmarshal(v, f)
	case string:
		return json.Unmarshal([]byte(v), f)
	}
	return fmt.Errorf("where a file was found cannot be read from %T", v)
}

// Begins is where the file begins in its archive, decrypted; -1 if it lies in none.
func (f *File) Begins() int64 {
	if f.ArchiveAt == nil {
		return -1
	}
	return *f.ArchiveAt
}

// SegmentCount is the number of the file's segments.
func (f *File) SegmentCount() int { return len(f.Segments) / 4 }

// AcquisitionFault is something that an acquisition could not take, or that
// its source says and does not keep.
type AcquisitionFault struct{ Path, Fault string }

// goneOnBy stands between the tools of what one began and another, as after an update, went on with.
const goneOnBy = "; gone on with by "

// AcquisitionForRun finds the acquisition that a run makes, or begins it.
func (s *Store) AcquisitionForRun(ctx context.Context, c *Case, r *Run, a Acquisition) (*Acquisition, error) {
	got := &Acquisition{}
	a.RunID = r.ID
	err := s.Held(ctx, r, func(t *Tx) error {
		if err := t.exec("locking the exhibit", "SELECT 1 FROM exhibit WHERE id = $1 FOR UPDATE", a.ExhibitID); err != nil {
			return err
		}
		err := t.exec("beginning the acquisition", `INSERT INTO acquisition(case_id, exhibit_id, number, run_id, method, source, facts, tool, settings, by, started_at, live_only)
VALUES ($1, $2, (SELECT coalesce(max(number), 0) + 1 FROM acquisition WHERE exhibit_id = $2), $3, $4, $5, $6, $7, $8, $9, $10, $11)
ON CONFLICT (run_id) DO UPDATE SET tool = acquisition.tool || $12 || excluded.tool WHERE strpos(acquisition.tool, excluded.tool) = 0`,
			c.ID, a.ExhibitID, a.RunID, a.Method, a.Source, a.Facts, a.Tool, a.Settings, a.By, a.StartedAt, a.LiveOnly, goneOnBy)
		if err != nil {
			return err
		}
		return t.GetContext(ctx, got, "SELECT * FROM acquisition WHERE run_id = $1", a.RunID)
	})
	return got, err
}

// AcquisitionByID finds an acquisition.
func (s *Store) AcquisitionByID(ctx context.Context, id int64) (*Acquisition, error) {
	a := &Acquisition{}
	return a, s.get(ctx, a, fmt.Sprintf("acquisition %d", id), "SELECT * FROM acquisition WHERE id = $1", id)
}

// AcquisitionOfRun finds the case of a run and the acquisition that it is about.
func (s *Store) AcquisitionOfRun(ctx context.Context, r *Run, id int64) (*Case, *Acquisition, error) {
	c, err := s.CaseByID(ctx, r.CaseID)
	if err != nil {
		return nil, nil, err
	}
	a, err := s.AcquisitionByID(ctx, id)
	return c, a, err
}

// Acquisitions lists the ended acquisitions of a case; exhibit 0 is all.
func (s *Store) Acquisitions(ctx context.Context, caseID, exhibit int64) (out []Acquisition, err error) {
	err = s.list(ctx, &out, "listing the acquisitions", `SELECT * FROM acquisition WHERE case_id = $1 AND ($2 = 0 OR exhibit_id = $2) AND ended_at IS NOT NULL ORDER BY id`, caseID, exhibit)
	return out, err
}

// AddFile keeps a file of the acquisition that a run makes. Adding it again changes
// nothing.
func (s *Store) AddFile(ctx context.Context, r *Run, f *File) error {
	err := s.Held(ctx, r, func(t *Tx) error {
		return t.exec("the list of files", `INSERT INTO acquired_file(acquisition_id, content, path, real_path, size, md5, sha1, sha256, segments, modified_at, checked_at, archive_at, found)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) ON CONFLICT DO NOTHING`,
			f.AcquisitionID, f.Content, f.Path, f.RealPath, f.Size, f.MD5, f.SHA1, f.SHA256, f.Segments, storable(f.ModifiedAt), f.CheckedAt, f.ArchiveAt, f.Found)
	})
	if err != nil {
		return fmt.Errorf("keeping file %s: %w", f.Path, err)
	}
	return nil
}

// storable is a time of a file that the database can hold, nil for one that it cannot, or
// that is none: what a file system claims may lie anywhere.
func storable(t *time.Time) *time.Time {
	if t == nil || t.IsZero() || t.Year() < 1 || t.Year() > 9999 {
		return nil
	}
	return t
}

// AddFaults keeps faults of an acquisition as they are found, so that a run that goes
// on later has not forgotten them.
func (s *Store) AddFaults(ctx context.Context, r *Run, a *Acquisition, faults []AcquisitionFault) error {
	if len(faults) == 0 {
		return nil
	}
	return s.Held(ctx, r, func(t *Tx) error { return t.addFaults(a, faults) })
}

func (t *Tx) addFaults(a *Acquisition, faults []AcquisitionFault) error {
	for _, f := range faults {
		if err := t.exec("keeping a fault", "INSERT INTO acquisition_fault VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", a.ID, f.Path, f.Fault); err != nil {
			return err
		}
	}
	return nil
}

// EndAcquisition ends the run that made an acquisition, or that opened its
// content, with the faults that were found.
func (s *Store) EndAcquisition(ctx context.Context, r *Run, a *Acquisition, faults []AcquisitionFault, acts ...Act) error {
	return s.change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if err := t.addFaults(a, faults); err != nil {
			return err
		}
		if err := t.exec("ending the acquisition", "UPDATE acquisition SET ended_at = $2, files = $3, bytes = $4, manifest = $5, unlocked_at = $6, content_manifest = $7 WHERE id = $1",
			a.ID, a.EndedAt, a.Files, a.Bytes, a.Manifest, a.UnlockedAt, a.ContentManifest); err != nil {
			return err
		}
		return t.logAll(acts)
	}, false)
}

// SaveContent keeps the manifest of what was added to an ended acquisition's content, with what the ledger says of it.
// Errors: ErrLost if the run is another's.
func (s *Store) SaveContent(ctx context.Context, r *Run, a *Acquisition, act Act) error {
	return s.Held(ctx, r, func(t *Tx) error {
		if err := t.exec("keeping a content's manifest", "UPDATE acquisition SET content_manifest = $2 WHERE id = $1", a.ID, a.ContentManifest); err != nil {
			return err
		}
		return t.logAll([]Act{act})
	})
}

// Acquisitions lists the ended acquisitions of a case, as Store.Acquisitions.
func (t *Tx) Acquisitions(caseID int64) (out []Acquisition, err error) {
	err = t.SelectContext(t.ctx, &out, "SELECT * FROM acquisition WHERE case_id = $1 AND ended_at IS NOT NULL ORDER BY id", caseID)
	return out, err
}

// AcquisitionFaults lists what an acquisition could not take.
func (s *Store) AcquisitionFaults(ctx context.Context, id int64) (out []AcquisitionFault, err error) {
	err = s.list(ctx, &out, "listing the acquisition's faults", "SELECT path, fault FROM acquisition_fault WHERE acquisition_id = $1 ORDER BY path, fault", id)
	return out, err
}

// Part is a part of an acquisition's files.
type Part int

// The parts: what the source itself holds, and what is within it.
const (
	Source Part = iota
	Content
	Both
)

// FileFilter chooses files of an acquisition.
type FileFilter struct {
	Acquisition int64
	Part        Part
	Faulty      bool // only those whose last check failed
	Unknown     bool // only those that no known-file set names
	// After is the last file of the page before: its part and path.
	AfterContent bool
	After        string
}

// Files lists files, the source's own first, by the bytes of their paths.
func (s *Store) Files(ctx context.Context, f FileFilter, limit int) (out []File, err error) {
	err = s.list(ctx, &out, "listing the files", `SELECT * FROM acquired_file WHERE acquisition_id = $1 AND (content, path) > ($2, $3)
  AND ($4 = 2 OR content = ($4 = 1)) AND (NOT $5 OR fault <> '') AND (NOT $6 OR known = '') ORDER BY content, path LIMIT $7`,
		f.Acquisition, f.AfterContent, f.After, int(f.Part), f.Faulty, f.Unknown, limit)
	return out, err
}

// AllFiles yields the files of a part of an acquisition in the order of Files.
func (s *Store) AllFiles(ctx context.Context, acquisition int64, part Part) iter.Seq2[*File, error] {
	return func(yield func(*File, error) bool) {
		for f := (FileFilter{Acquisition: acquisition, Part: part}); ; {
			page, err := s.Files(ctx, f, 500)
			if err != nil {
				yield(nil, err)
				return
			}
			for i := range page {
				if !yield(&page[i], nil) {
					return
				}
			}
			if len(page) < 500 {
				return
			}
			last := page[len(page)-1]
			f.AfterContent, f.After = last.Content, last.Path
		}
	}
}

// FileByPath finds a file of an acquisition: within it, if it lies there under
// the path, or else the source's own. With part Source or Content only there.
func (s *Store) FileByPath(ctx context.Context, acquisition int64, part Part, path string) (*File, error) {
	f := &File{}
	return f, s.get(ctx, f, "file "+path, "SELECT * FROM acquired_file WHERE acquisition_id = $1 AND path = $2 AND ($3 = 2 OR content = ($3 = 1)) ORDER BY content DESC LIMIT 1", acquisition, path, int(part))
}

// FilesByRealPath finds files by their paths on the handset.
func (s *Store) FilesByRealPath(ctx context.Context, acquisition int64, paths []string) (out []File, err error) {
	err = s.list(ctx, &out, "finding files", "SELECT * FROM acquired_file WHERE acquisition_id = $1 AND real_path = ANY($2)", acquisition, Array[string](paths).param())
	return out, err
}

// RenameFile keeps an earlier reading of a file under its path with @1, @2 …
// behind it, where it makes no records, and gives that path.
func (s *Store) RenameFile(ctx context.Context, r *Run, acquisition int64, path string) (to string, err error) {
	err = s.Held(ctx, r, func(t *Tx) error {
		err := t.GetContext(ctx, &to, `UPDATE acquired_file SET real_path = '', path = path || '@' ||
  (SELECT count(*) + 1 FROM acquired_file f WHERE f.acquisition_id = $1 AND NOT f.content AND starts_with(f.path, $2 || '@'))
WHERE acquisition_id = $1 AND NOT content AND path = $2 RETURNING path`, acquisition, path)
		if err != nil {
			return fmt.Errorf("keeping the earlier reading of %s: %w", path, err)
		}
		return nil
	})
	return to, err
}

// SumFiles counts the files of a part of an acquisition and their bytes.
func (s *Store) SumFiles(ctx context.Context, acquisition int64, part Part) (files, bytes int64, err error) {
	var sum struct{ Files, Bytes int64 }
	err = s.get(ctx, &sum, "counting the files", "SELECT count(*) AS files, coalesce(sum(size), 0)::bigint AS bytes FROM acquired_file WHERE acquisition_id = $1 AND ($2 = 2 OR content = ($2 = 1))", acquisition, int(part))
	return sum.Files, sum.Bytes, err
}

// SaveCheck keeps the result of hashing one file again, with what the ledger says of it.
// Its time is the database's, as are those at which runs begin.
func (s *Store) SaveCheck(ctx context.Context, r *Run, f *File, acts ...Act) error {
	err := s.Held(ctx, r, func(t *Tx) error {
		if err := t.logAll(acts); err != nil {
			return err
		}
		return t.exec("the file's check", "UPDATE acquired_file SET checked_at = clock_timestamp(), fault = $4, bad_segments = $5 WHERE acquisition_id = $1 AND content = $2 AND path = $3",
			f.AcquisitionID, f.Content, f.Path, f.Fault, f.BadSegments.param())
	})
	if err != nil {
		return fmt.Errorf("keeping the check of %s: %w", f.Path, err)
	}
	return nil
}

// Verification is one check of a whole acquisition.
type Verification struct {
	ID            int64
	AcquisitionID int64 `db:"acquisition_id"`
	Against       string
	At            time.Time
	By            string
	Files         int64
	Faults        int64
}

// EndVerification keeps a check of an acquisition and ends its run.
func (s *Store) EndVerification(ctx context.Context, r *Run, v Verification, acts []Act) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if err := t.exec("keeping the check", "INSERT INTO verification(acquisition_id, against, at, by, files, faults) VALUES ($1, $2, $3, $4, $5, $6)",
			v.AcquisitionID, v.Against, v.At, v.By, v.Files, v.Faults); err != nil {
			return err
		}
		return t.logAll(acts)
	})
}

// Verifications lists the newest checks of an acquisition.
func (s *Store) Verifications(ctx context.Context, acquisition int64, limit int) (out []Verification, err error) {
	err = s.list(ctx, &out, "listing the checks", "SELECT * FROM verification WHERE acquisition_id = $1 ORDER BY id DESC LIMIT $2", acquisition, limit)
	return out, err
}

// FoundIn lists the files that lie in a storage image of an acquisition, by where they begin.
func (s *Store) FoundIn(ctx context.Context, acquisition int64, image string) (out []File, err error) {
	err = s.list(ctx, &out, "listing the files of an image", "SELECT path, real_path, size, sha256, modified_at, found FROM acquired_file WHERE acquisition_id = $1 AND found->>'image' = $2 ORDER BY path", acquisition, image)
	return out, err
}

// Images lists the storage images of an acquisition by their paths.
func (s *Store) Images(ctx context.Context, acquisition int64, ending string) (out []string, err error) {
	err = s.list(ctx, &out, "listing the images", "SELECT path FROM acquired_file WHERE acquisition_id = $1 AND NOT content AND path LIKE '%' || $2 ORDER BY path", acquisition, ending)
	return out, err
}

// LivePaths says which of some paths on the handset an acquisition has a file at that was there when it was acquired.
func (s *Store) LivePaths(ctx context.Context, acquisition int64, paths []string) (map[string]bool, error) {
	var there []string
	err := s.list(ctx, &there, "looking for files", "SELECT DISTINCT real_path FROM acquired_file WHERE acquisition_id = $1 AND real_path = ANY($2) AND (found IS NULL OR found->>'state' = 'live')", acquisition, Array[string](paths).param())
	out := map[string]bool{}
	for _, p := range there {
		out[p] = true
	}
	return out, err
}
