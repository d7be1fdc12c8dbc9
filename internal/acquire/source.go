package acquire

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crosswind/internal/handset"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Source is a source that is open for reading: a folder, if Name is ".", or the
// one file of that name.
type Source struct {
	Address string // an absolute path, archive:ID/PATH for what an archive holds, or handset:ADDRESS
	FS      fs.FS
	Name    string
	// Alive says why nothing of the source can be read any more, nil if it can.
	Alive func(context.Context) error
	io.Closer
}

const archiveScheme = "archive:"

// rootFS is a folder of this machine. Unlike the file system that os.Root gives,
// it opens files whose names are not UTF-8: evidence may have such names.
type rootFS struct{ root *os.Root }

// Open opens a folder or a regular file, and nothing else: whoever opens a pipe waits for
// ever for somebody to write.
func (r rootFS) Open(name string) (fs.File, error) {
	return regular(r.root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|syscall.O_NONBLOCK, 0))
}

// regular lets only folders and regular files through.
func regular(f *os.File, err error) (*os.File, error) {
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() && !st.IsDir() {
		err = &fs.PathError{Op: "open", Path: f.Name(), Err: errNotRegular}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

var errNotRegular = errors.New("is not a regular file")

// openRegular opens a regular file of this machine.
func openRegular(path string) (*os.File, error) {
	return regular(os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0))
}

// Stat tells of a file.
func (r rootFS) Stat(name string) (fs.FileInfo, error) { return r.root.Stat(filepath.FromSlash(name)) }

// ReadDir lists a folder.
func (r rootFS) ReadDir(name string) ([]fs.DirEntry, error) {
	d, err := r.root.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	list, err := d.ReadDir(-1)
	for i := range list {
		list[i] = rootEntry{list[i], r.root, filepath.Join(filepath.FromSlash(name), list[i].Name())}
	}
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return cmp.Compare(a.Name(), b.Name()) })
	return list, err
}

// rootEntry tells of a file by way of the root, out of which no link leads.
type rootEntry struct {
	fs.DirEntry
	root *os.Root
	path string
}

// Info tells of the file.
func (e rootEntry) Info() (fs.FileInfo, error) { return e.root.Lstat(e.path) }

// Open opens a source by its address. No symbolic link is followed out of it.
func (q *Acquirer) Open(ctx context.Context, caseID int64, address string) (*Source, error) {
	if rest, ok := strings.CutPrefix(address, handsetScheme); ok {
		return openHandset(ctx, address, handset.Link{Address: rest})
	}
	src, err := q.openBackup(ctx, caseID, address)
	if err == nil {
		src.Alive = func(ctx context.Context) error { return q.gone(ctx, caseID, address) }
	}
	return src, err
}

// openBackup opens a folder or a file, of this machine or within an archive.
func (q *Acquirer) openBackup(ctx context.Context, caseID int64, address string) (*Source, error) {
	if rest, ok := strings.CutPrefix(address, archiveScheme); ok {
		return q.openMember(ctx, caseID, address, rest)
	}
	dir, name := address, "."
	st, err := os.Stat(address)
	if err != nil {
		return nil, err
	}
	if !st.IsDir() {
		dir, name = filepath.Split(address)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &Source{Address: address, FS: rootFS{root}, Name: name, Closer: root}, nil
}

func (q *Acquirer) openMember(ctx context.Context, caseID int64, address, rest string) (*Source, error) {
	num, inner, _ := strings.Cut(rest, "/")
	id, err := strconv.ParseInt(num, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", address, store.ErrNotFound)
	}
	ar, err := q.Store.ArchiveByID(ctx, caseID, id)
	if err != nil {
		return nil, err
	}
	members, err := q.members(ctx, ar)
	if err != nil {
		return nil, err
	}
	inner = path.Clean(cmp.Or(inner, "."))
	st, err := fs.Stat(members, inner)
	if err != nil {
		return nil, err
	}
	dir, name := inner, "."
	if !st.IsDir() {
		dir, name = path.Split(inner)
	}
	sub, err := fs.Sub(members, path.Clean(cmp.Or(dir, ".")))
	return &Source{Address: address, FS: sub, Name: name, Closer: io.NopCloser(nil)}, err
}

func (q *Acquirer) members(ctx context.Context, ar *store.Archive) (vaultFS, error) {
	members, err := q.Store.ArchiveMembers(ctx, ar.ID)
	v := newVaultFS(q.Vault)
	for _, m := range members {
		b := blobFile{sha256: m.SHA256, size: m.Size}
		if m.ModifiedAt != nil {
			b.changed = *m.ModifiedAt
		}
		v.add(m.Path, b)
	}
	return v, err
}

// vaultFS shows blobs under the paths that they had.
type vaultFS struct {
	vault vault.Vault
	files map[string]blobFile
	dirs  map[string]map[string]bool // names in a folder, and whether they are folders
}

type blobFile struct {
	sha256  string
	size    int64
	changed time.Time
}

func newVaultFS(v vault.Vault) vaultFS {
	return vaultFS{v, map[string]blobFile{}, map[string]map[string]bool{".": {}}}
}

// add adds a file; its path is clean.
func (v vaultFS) add(p string, f blobFile) {
	v.files[p] = f
	folder := false
	for p != "." {
		dir, name := path.Dir(p), path.Base(p)
		if v.dirs[dir] == nil {
			v.dirs[dir] = map[string]bool{}
		}
		v.dirs[dir][name] = folder
		p, folder = dir, true
	}
}

// Open opens a file or a folder.
func (v vaultFS) Open(name string) (fs.File, error) {
	if f, ok := v.files[name]; ok {
		b, err := v.vault.Open(f.sha256)
		if err != nil {
			return nil, err
		}
		return named{b, info{path.Base(name), f, false}}, nil
	}
	if v.dirs[name] == nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return folder{info: info{name: path.Base(name), dir: true}}, nil
}

// Stat tells of a file without opening it.
func (v vaultFS) Stat(name string) (fs.FileInfo, error) {
	if f, ok := v.files[name]; ok {
		return info{path.Base(name), f, false}, nil
	}
	if v.dirs[name] == nil {
		return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
	}
	return info{name: path.Base(name), dir: true}, nil
}

// ReadDir lists a folder.
func (v vaultFS) ReadDir(name string) ([]fs.DirEntry, error) {
	if v.dirs[name] == nil {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fs.ErrNotExist}
	}
	var out []fs.DirEntry
	for n, dir := range v.dirs[name] {
		out = append(out, fs.FileInfoToDirEntry(info{n, v.files[path.Join(name, n)], dir}))
	}
	slices.SortFunc(out, func(a, b fs.DirEntry) int { return cmp.Compare(a.Name(), b.Name()) })
	return out, nil
}

// named is a blob under the name and time that it had.
type named struct {
	vault.Blob
	info info
}

// Stat tells of the file.
func (n named) Stat() (fs.FileInfo, error) { return n.info, nil }

type folder struct{ info info }

func (f folder) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f folder) Read([]byte) (int, error)   { return 0, fs.ErrInvalid }
func (f folder) Close() error               { return nil }

type info struct {
	name string
	f    blobFile
	dir  bool
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.f.size }
func (i info) ModTime() time.Time { return i.f.changed }
func (i info) IsDir() bool        { return i.dir }
func (i info) Sys() any           { return nil }
func (i info) Mode() fs.FileMode {
	if i.dir {
		return fs.ModeDir | 0o500
	}
	return 0o400
}
