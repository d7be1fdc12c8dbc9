package validate

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"

	"crosswind/core/backup"
	"crosswind/internal/standin/democase"
	"crosswind/internal/standin/handset"
)

// A handset has so many files that its backups hold; so many of a backup's files are altered, one at a time.
const (
	backedFiles  = 40
	alteredFiles = 8
)

// backups lets the stand-ins of both families of handsets make backups of themselves, plain and encrypted, reads them, and
// reads them with a byte changed. Nothing but the stand-ins writes these layouts, which are invented.
func backups(ctx context.Context, s *Set, dir string, seed uint64) error {
	s.Library = "the handsets' stand-ins of this build"
	r := rand.New(rand.NewPCG(seed, 3))
	tree := filepath.Join(dir, "tree")
	want := map[string]string{} // SHA-256 by path
	for i := range backedFiles {
		p := fmt.Sprintf("/folder%d/file %02d.bin", i%5, i)
		b := noise(r, 1+r.IntN(40_000))
		sum := sha256.Sum256(b)
		want[p] = hex.EncodeToString(sum[:])
		at := filepath.Join(tree, filepath.FromSlash(p))
		if err := errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, b, 0o600)); err != nil {
			return err
		}
	}
	for i, family := range []string{"Orlop", "Tarn"} {
		for k, password := range []string{"", fmt.Sprintf("a password %d", r.Uint32())} {
			if err := ctx.Err(); err != nil {
				return err
			}
			x := &madeBackup{at: filepath.Join(dir, fmt.Sprint(i, k)), name: ".", password: password}
			m := handset.Model{Tree: tree}
			m.Family, m.Name, m.Mark, m.Serial = family, "Reference", "Reference 1", fmt.Sprintf("TEST%04d", i)
			var b bytes.Buffer
			if err := democase.MakeBackup(m, password, &b); err != nil {
				return err
			}
			if err := x.lay(&b, family == "Orlop"); err != nil {
				return err
			}
			if err := s.readBackup(x, want, r); err != nil {
				return fmt.Errorf("%s: %w", family, err)
			}
			s.Made++
		}
	}
	return nil
}

// madeBackup is a backup whose content is known, in a folder of its own.
type madeBackup struct {
	at, name, password string
}

// lay lays a backup down: a folder that comes as a tar archive, or a single file.
func (x *madeBackup) lay(b *bytes.Buffer, folder bool) error {
	if err := os.MkdirAll(x.at, 0o755); err != nil {
		return err
	}
	if !folder {
		x.name = "b.stow"
		return os.WriteFile(filepath.Join(x.at, x.name), b.Bytes(), 0o600)
	}
	root, err := os.OpenRoot(x.at)
	if err != nil {
		return err
	}
	defer root.Close()
	t := tar.NewReader(b)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if h.FileInfo().IsDir() {
			err = root.MkdirAll(h.Name, 0o755)
		} else if err = root.MkdirAll(filepath.Dir(h.Name), 0o755); err == nil {
			var data []byte
			if data, err = io.ReadAll(t); err == nil {
				err = root.WriteFile(h.Name, data, 0o600)
			}
		}
		if err != nil {
			return err
		}
	}
}

// open opens a backup as evidence is opened.
func (x *madeBackup) open(password string) (*backup.Backup, error) {
	dir := os.DirFS(x.at)
	label, err := backup.ReadLabel(dir, x.name)
	if err != nil {
		return nil, err
	}
	var k *backup.Key
	if label.Encrypted {
		if k, err = label.Lock.Unlock(password); err != nil {
			return nil, err
		}
	}
	return backup.Open(dir, x.name, k)
}

// content reads the content of a file, and gives its SHA-256; it fails if that is not what the backup says.
func content(b *backup.Backup, f backup.File) (string, error) {
	r, err := b.Content(f)
	if err != nil {
		return "", err
	}
	defer r.Close()
	h := sha256.New()
	if _, err := io.Copy(h, r); err != nil {
		return "", err
	}
	sum := hex.EncodeToString(h.Sum(nil))
	if f.SHA256 != "" && f.SHA256 != sum {
		return sum, errors.New("it has not the digest that the backup says")
	}
	return sum, nil
}

// readBackup reads a backup by the code that reads evidence, compares with what was backed up, and does so again with bytes changed.
func (s *Set) readBackup(x *madeBackup, want map[string]string, r *rand.Rand) error {
	b, err := x.open(x.password)
	if err != nil {
		return err
	}
	defer b.Close()
	got := map[string]string{}
	for _, f := range b.Files {
		if got[f.Path], err = content(b, f); err != nil {
			s.wrong(fmt.Sprintf("%s: %v", f.Path, err))
		}
	}
	for p, sum := range want {
		s.count("files, with every byte", true, got[p] == sum)
	}
	s.count("backups of which nothing is said to be wrong, and nothing is", true, b.Whole() && len(b.Files) == len(want))
	if x.password != "" {
		_, err := x.open(x.password + "x")
		s.count("wrong passwords that are refused", true, errors.Is(err, backup.ErrPassword))
	}
	for range alteredFiles {
		f := b.Files[r.IntN(len(b.Files))]
		told, err := x.altered(f, r)
		if err != nil {
			return err
		}
		s.count("changes of one byte that are told", true, told)
	}
	return nil
}

// altered changes a byte of a file, reports whether that is told, and changes it back.
func (x *madeBackup) altered(f backup.File, r *rand.Rand) (told bool, err error) {
	path, at := filepath.Join(x.at, filepath.FromSlash(f.Stored)), int64(0)
	if x.name != "." {
		path, at = filepath.Join(x.at, x.name), f.At
	}
	w, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return false, err
	}
	defer w.Close()
	at += r.Int64N(f.Size)
	flip := func() error {
		var b [1]byte
		if _, err := w.ReadAt(b[:], at); err != nil {
			return err
		}
		b[0] ^= 1 << r.IntN(8)
		_, err := w.WriteAt(b[:], at)
		return err
	}
	was, err := os.ReadFile(path)
	if err == nil {
		err = flip()
	}
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, os.WriteFile(path, was, 0o600)) }()
	b, err := x.open(x.password)
	if err != nil {
		return !errors.Is(err, fs.ErrNotExist), nil
	}
	defer b.Close()
	if !b.Whole() {
		return true, nil
	}
	for _, f := range b.Files {
		if _, err := content(b, f); err != nil {
			return true, nil
		}
	}
	return false, nil
}
