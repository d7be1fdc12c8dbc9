package store

import (
	"context"
	"fmt"
)

// AddContent keeps the decrypted content of a file of an acquisition. Adding it
// again changes nothing.
func (s *Store) AddContent(ctx context.Context, f *File) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO content_file(acquisition_id, path, real_path, size, md5, sha1, sha256, modified_at)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT DO NOTHING`, f.AcquisitionID, f.Path, f.RealPath, f.Size, f.MD5, f.SHA1, f.SHA256, f.ModifiedAt)
	if err != nil {
		return fmt.Errorf("keeping the content of %s: %w", f.Path, err)
	}
	return nil
}

// Content lists the decrypted content of an acquisition's files in order of
// path bytes; none if it is not encrypted or not unlocked.
func (s *Store) Content(ctx context.Context, acquisition int64) (out []File, err error) {
	err = s.list(ctx, &out, "listing the content", `SELECT * FROM content_file WHERE acquisition_id = $1 ORDER BY path COLLATE "C"`, acquisition)
	return out, err
}

// EndUnlock ends the run that unlocked an acquisition.
func (s *Store) EndUnlock(ctx context.Context, r *Run, a *Acquisition, faults []AcquisitionFault, act Act) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		for _, f := range faults {
			if err := t.exec("keeping a fault", "INSERT INTO acquisition_fault VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", a.ID, f.Path, f.Fault); err != nil {
				return err
			}
		}
		if err := t.exec("ending the unlocking", "UPDATE acquisition SET unlocked_at = now(), content_manifest = $2 WHERE id = $1", a.ID, a.ContentManifest); err != nil {
			return err
		}
		return t.Log(act)
	})
}
