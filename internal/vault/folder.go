package vault

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"crosswind/core/digest"
)

// Folder is a vault in a folder.
type Folder struct{ dir string }

// OpenFolder opens the vault in dir, making it if need be. It fails unless the
// folder can be written to.
func OpenFolder(dir string) (*Folder, error) {
	for _, d := range []string{dir, filepath.Join(dir, "incoming")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, fmt.Errorf("the vault: %w", err)
		}
	}
	probe, err := CreateOwned(filepath.Join(dir, "incoming"), "probe-")
	if err != nil {
		return nil, fmt.Errorf("the vault cannot be written to: %w", err)
	}
	defer probe.Close()
	return &Folder{dir}, errors.Join(os.Remove(probe.Name()), Sweep(filepath.Join(dir, "incoming"), ""))
}

// CreateOwned makes a file in dir that is being written, by a pattern as os.CreateTemp
// takes it: it is locked as long as it is open, so that a sweep knows that somebody owns
// it, on whatever machine.
func CreateOwned(dir, pattern string) (*os.File, error) {
	for {
		f, err := os.CreateTemp(dir, pattern)
		if err != nil {
			return nil, err
		}
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX)
		if err == nil {
			_, err = os.Lstat(f.Name()) // a sweep may have come between
		}
		if err == nil {
			return f, nil
		}
		f.Close()
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
}

// Sweep removes the files in dir whose names begin with prefix and that nobody writes any
// more: what processes that died left half-written.
func Sweep(dir, prefix string) (err error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if !e.Type().IsRegular() || !strings.HasPrefix(e.Name(), prefix) {
			continue
		}
		f, oerr := os.OpenFile(filepath.Join(dir, e.Name()), os.O_RDONLY|syscall.O_NONBLOCK, 0)
		if oerr != nil {
			continue // gone, or not ours
		}
		if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
			err = errors.Join(err, os.Remove(f.Name()))
		}
		f.Close()
	}
	return err
}

// Path is where the blob with this SHA-256 lies.
func (v *Folder) Path(sha256 string) string {
	return filepath.Join(v.dir, "sha256", sha256[:2], sha256)
}

// Put reads r to its end, hashing it on the way, and keeps it: written to a
// temporary name, synced, renamed, read-only. A blob that is there already is
// written once only. progress, if not nil, is told of bytes as they come.
func (v *Folder) Put(ctx context.Context, r io.Reader, progress func(n int)) (*digest.Set, error) {
	r = told{ctx, r, progress}
	// What is small is hashed first: most of it, such as empty files, is there already.
	head := make([]byte, small)
	n, err := io.ReadFull(r, head)
	switch {
	case err == io.EOF, err == io.ErrUnexpectedEOF:
		if set, there, err := v.have(head[:n]); there || err != nil {
			return set, err
		}
	case err != nil:
		return nil, fmt.Errorf("after %d bytes: %w", n, err)
	}
	return v.put(ctx, io.MultiReader(bytes.NewReader(head[:n]), r))
}

// small is up to which size a blob is looked for before it is written.
const small = 4 << 10

// have gives the digests of content that is in the vault already, and holds there.
func (v *Folder) have(content []byte) (set *digest.Set, there bool, err error) {
	set = digest.Of(content)
	_, _, sum := set.Hex()
	kept, err := os.ReadFile(v.Path(sum))
	if err != nil {
		return set, false, nil
	}
	if !bytes.Equal(kept, content) {
		return set, false, fmt.Errorf("the vault's copy of %s has been altered; it is left as it is", sum)
	}
	return set, true, nil
}

func (v *Folder) put(ctx context.Context, r io.Reader) (*digest.Set, error) {
	f, err := CreateOwned(filepath.Join(v.dir, "incoming"), "")
	if err != nil {
		return nil, Writing(err)
	}
	tmp := f.Name()
	defer os.Remove(tmp) // gone already if all went well
	defer f.Close()
	w, to := digest.NewWriter(), into{f, new(int64)}
	n, err := io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(to, w)}, r, make([]byte, 256<<10))
	set := w.Sum()
	if err != nil {
		return set, fmt.Errorf("after %d bytes: %w", n, err)
	}
	if err := errors.Join(to.end(n), f.Sync(), f.Chmod(0o400)); err != nil {
		return set, Writing(err)
	}
	return set, v.settle(ctx, tmp, set)
}

// Take moves a file into the vault: by its name if it lies on the same disk, else
// by its bytes.
func (v *Folder) Take(ctx context.Context, path string, set *digest.Set) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("the vault: %w", err)
	}
	defer f.Close()
	if err := errors.Join(f.Sync(), f.Chmod(0o400)); err != nil {
		return Writing(err)
	}
	err = v.settle(ctx, path, set)
	if errors.Is(err, syscall.EXDEV) {
		var again *digest.Set
		if again, err = v.Put(ctx, f, nil); err == nil && again.SHA256 != set.SHA256 {
			err = fmt.Errorf("%s changed while it was taken into the vault", path)
		}
	}
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the vault: %w", err)
	}
	return nil
}

// settle gives a file that is whole and synced its blob's name, unless the blob is
// there already; then it holds, or is said to be altered.
func (v *Folder) settle(ctx context.Context, tmp string, set *digest.Set) error {
	_, _, sum := set.Hex()
	at := v.Path(sum)
	if kept, err := os.Open(at); err == nil {
		defer kept.Close()
		again, err := digest.Reader(told{ctx, kept, nil})
		if err == nil && again.SHA256 != set.SHA256 {
			err = fmt.Errorf("the vault's copy of %s has been altered; it is left as it is", sum)
		}
		return err
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return Writing(err)
	}
	if err := os.Rename(tmp, at); err != nil {
		return Writing(err)
	}
	return syncDir(filepath.Dir(at))
}

// into is the file that is written: what it cannot take is the vault's fault,
// not the source's. Where all is zero it leaves a hole, so that an image of a
// mostly empty disk takes no more room than what it holds.
type into struct {
	*os.File
	hole *int64 // bytes at the end that are not written yet
}

// zeros is what is left out.
var zeros [64 << 10]byte

func (w into) Write(p []byte) (n int, err error) {
	for len(p) > 0 && err == nil {
		k := min(len(p), len(zeros))
		if bytes.Equal(p[:k], zeros[:k]) {
			*w.hole += int64(k)
		} else {
			err = w.skip()
			if err == nil {
				_, err = w.File.Write(p[:k])
			}
		}
		n, p = n+k, p[k:]
	}
	if err != nil {
		return n, Writing(err)
	}
	return n, nil
}

// skip makes the hole before what is written next.
func (w into) skip() (err error) {
	if *w.hole > 0 {
		_, err = w.Seek(*w.hole, io.SeekCurrent)
		*w.hole = 0
	}
	return err
}

// end gives the file its size, if a hole ends it.
func (w into) end(size int64) error {
	if *w.hole > 0 {
		return w.Truncate(size)
	}
	return nil
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return Writing(err)
	}
	defer d.Close()
	return d.Sync()
}

// Open opens a blob for reading.
func (v *Folder) Open(sha256 string) (Blob, error) {
	if err := checkName(sha256); err != nil {
		return nil, err
	}
	f, err := os.Open(v.Path(sha256))
	if err != nil {
		return nil, fmt.Errorf("the vault: %w", err)
	}
	return f, nil
}

// Has reports whether a blob is there with the given size.
func (v *Folder) Has(sha256 string, size int64) bool {
	st, err := os.Stat(v.Path(sha256))
	return err == nil && st.Size() == size
}
