package democase

import (
	"archive/tar"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"crosswind/core/backup"
	"crosswind/internal/standin/handset"
)

// MakeBackup writes the local backup that a handset makes of itself now: of the
// family Orlop a tar archive of its folder, of Tarn its single archive.
func MakeBackup(m handset.Model, password string, w io.Writer) error {
	var files []content
	err := filepath.WalkDir(m.Tree, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		st, err := d.Info()
		if err != nil {
			return err
		}
		data, rerr := os.ReadFile(p)
		rel, err := filepath.Rel(m.Tree, p)
		files = append(files, content{"/" + filepath.ToSlash(rel), data, st.ModTime().UTC()})
		return errors.Join(rerr, err)
	})
	if err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "handset-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	device := backup.Device{Name: m.Name, Mark: m.Mark, Serial: m.Serial, IMEI: m.IMEI, System: m.System}
	now := time.Now().Add(m.Offset).UTC().Truncate(time.Second)
	if m.Family != "Orlop" {
		at := filepath.Join(work, "b.stow")
		if err := writeStow(at, device, files, now, false, password); err != nil {
			return err
		}
		f, err := os.Open(at)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(w, f)
		return err
	}
	at := filepath.Join(work, "b")
	if err := writeBackup(at, device, files, now, false, password); err != nil {
		return err
	}
	t := tar.NewWriter(w)
	return errors.Join(t.AddFS(os.DirFS(at)), t.Close())
}
