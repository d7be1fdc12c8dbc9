// Package backup reads the local backups that handsets leave on a
// workstation, and gives their files back under the paths they had.
//
// Two layouts are known (docs/formats.md): "orlop-parcels/1", a folder of files
// under opaque tags with a catalogue database, and "tarn-stow/1", a single tar
// archive. Either may be encrypted. Nothing in a backup is trusted: not its
// counts, not its sizes, not its paths. The package writes nothing.
package backup

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Label is what a backup says about itself.
type Label struct {
	Layout    string    `json:"layout"`
	Device    Device    `json:"device"`
	Made      time.Time `json:"made"`
	Encrypted bool      `json:"encrypted"`
	Lock      *Lock     `json:"lock,omitempty"` // of an encrypted backup
	Parcels   int64     `json:"parcels"`        // number of files
	Bytes     int64     `json:"bytes"`          // of all files together
	Finished  bool      `json:"finished"`
}

// Device is the handset that a backup is of, as its label says.
type Device struct {
	Name   string `json:"name"`
	Mark   string `json:"mark"` // model mark
	Serial string `json:"serial"`
	IMEI   string `json:"imei"`
	System string `json:"system"` // name and version
}

// ErrNotBackup is wrapped when what is there is no backup of a known layout.
var ErrNotBackup = errors.New("not a backup of a known layout")

// ErrEncrypted is returned for a backup that needs its password.
var ErrEncrypted = errors.New("the backup is encrypted: its contents cannot be read without its password")

// Layout is a form that backups have: a folder, or a single file. Those of this package are
// there; others are added by Register.
type Layout interface {
	// Name is what labels call it.
	Name() string
	// Extension is that of a backup's file, with its dot; "" if a backup is a folder.
	Extension() string
	// Looks reports whether a file that begins with head, 512 bytes of it, may be a backup in it.
	// Label tells whether it is.
	Looks(head []byte) bool
	// Label reads the label of the backup of a name in fsys, "." for a folder: JSON, as of Label.
	Label(fsys fs.FS, name string) ([]byte, error)
	// Open opens the backup whose label b has, with its key, which is nil for a plain one: it sets
	// Files, says what is wrong by Fault, and gives contents by Serve.
	Open(b *Backup, fsys fs.FS, name string, k *Key) error
}

var layouts = []Layout{parcels{}, stow{}}

// Register adds a layout. It is called before backups are read.
func Register(l Layout) { layouts = append(layouts, l) }

// Looks reports whether a file that begins with head, 512 bytes of it, may be a backup.
func Looks(head []byte) bool {
	return slices.ContainsFunc(layouts, func(l Layout) bool { return l.Looks(head) })
}

// Extension is that of a backup in the layout of a name, "" if it is a folder or not known.
func Extension(layout string) string {
	for _, l := range layouts {
		if l.Name() == layout {
			return l.Extension()
		}
	}
	return ""
}

const (
	maxLabel = 1 << 16 // bytes of a label
	maxFiles = 1 << 20
	maxDepth = 64   // of a path
	maxPath  = 4096 // bytes of a path
)

// ReadLabel reads the label of a backup in fsys: of a folder if name is ".", else of the file
// of that name.
func ReadLabel(fsys fs.FS, name string) (*Label, error) {
	_, l, err := detect(fsys, name)
	return l, err
}

// detect finds the layout of a backup: the first by which its label can be read, and that the
// label names.
func detect(fsys fs.FS, name string) (Layout, *Label, error) {
	var why error // of the first one
	for _, y := range layouts {
		if (y.Extension() == "") != (name == ".") {
			continue
		}
		var l Label
		b, err := y.Label(fsys, name)
		if err == nil {
			if err = json.Unmarshal(b, &l); err != nil {
				err = fmt.Errorf("its label: %w", err)
			} else if l.Layout != y.Name() {
				err = fmt.Errorf("its label names the layout %q", clip(l.Layout))
			}
		}
		if err == nil {
			return y, &l, nil
		}
		why = cmp.Or(why, err)
	}
	return nil, nil, fmt.Errorf("%w: %w", ErrNotBackup, why)
}

// File is one file of a backup.
type File struct {
	Path    string // on the handset, absolute and clean
	Stored  string // below the backup's folder, or in its archive
	Size    int64  // bytes, as the backup says
	Changed time.Time
	SHA256  string // as the backup says, hex; "" if it does not
	At      int64  // where its content begins in the archive, decrypted; -1 in a folder
}

// Fault is something that a backup says and does not keep.
type Fault struct {
	Path string // below the backup's folder, or in its archive
	What string
}

func (f Fault) Error() string { return f.Path + ": " + f.What }

// Backup is a backup whose list of files has been read. It stays open until
// Close.
type Backup struct {
	Label
	Files   []File  // by Path
	Faults  []Fault // in a stable order
	content func(File) (io.ReadCloser, error)
	closing io.Closer
}

// Open opens a backup in fsys, named as for ReadLabel, with its key, which is
// nil for a plain one, and looks for each file that it names. What it lacks, has
// too much, or says that cannot be is in Faults; files it concerns are left out
// of Files only if they have no usable path. Sizes and digests of an encrypted
// backup's Files are those of their content.
func Open(fsys fs.FS, name string, k *Key) (*Backup, error) {
	y, l, err := detect(fsys, name)
	if err != nil {
		return nil, err
	}
	if l.Encrypted != (k != nil) {
		if l.Encrypted {
			return nil, ErrEncrypted
		}
		return nil, errors.New("the backup is not encrypted: it needs no key")
	}
	b := &Backup{Label: *l}
	if err := y.Open(b, fsys, name, k); err != nil {
		b.Close()
		return nil, err
	}
	if int64(len(b.Files)) != b.Parcels {
		b.Fault(LabelName, "the label counts %d files, the backup names %d", b.Parcels, len(b.Files))
	}
	if !b.Finished {
		b.Fault(LabelName, "the label says that the backup was not finished")
	}
	slices.SortFunc(b.Files, func(x, y File) int { return cmp.Compare(x.Path, y.Path) })
	slices.SortFunc(b.Faults, func(x, y Fault) int { return cmp.Or(cmp.Compare(x.Path, y.Path), cmp.Compare(x.What, y.What)) })
	return b, nil
}

// Content opens the content of a file, decrypted if the backup is encrypted. A
// file that is missing is fs.ErrNotExist.
func (b *Backup) Content(f File) (io.ReadCloser, error) { return b.content(f) }

// Close closes the backup.
func (b *Backup) Close() error {
	if b.closing == nil {
		return nil
	}
	return b.closing.Close()
}

// Whole reports whether the backup keeps everything that it says.
func (b *Backup) Whole() bool { return len(b.Faults) == 0 }

// Serve says how the content of a file is opened, and what Close closes, nil if nothing.
func (b *Backup) Serve(content func(File) (io.ReadCloser, error), closing io.Closer) {
	b.content, b.closing = content, closing
}

// Fault adds to the faults, of which a path is the place.
func (b *Backup) Fault(p, format string, args ...any) {
	b.Faults = append(b.Faults, Fault{p, fmt.Sprintf(format, args...)})
}

// readFile reads a file of at most limit bytes.
func readFile(fsys fs.FS, name string, limit int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return readUpTo(f, name, limit)
}

func readUpTo(r io.Reader, name string, limit int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	if int64(len(b)) > limit {
		return nil, fmt.Errorf("%s is larger than %d bytes", name, limit)
	}
	return b, nil
}

// absolute puts the names of folders and a file together.
func absolute(parts []string) (string, error) {
	total := 0
	for _, s := range parts {
		if total += len(s) + 1; total > maxPath {
			return "", fmt.Errorf("the path of %q is longer than %d bytes", clip(parts[len(parts)-1]), maxPath)
		}
		if s == "" || s == "." || s == ".." || strings.ContainsAny(s, "/\x00") || !utf8.ValidString(s) {
			return "", fmt.Errorf("its path holds the name %q, which leads out of its folder or nowhere", clip(s))
		}
	}
	if len(parts) > maxDepth {
		return "", fmt.Errorf("it lies more than %d folders deep", maxDepth)
	}
	return "/" + path.Join(parts...), nil
}

func clip(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}
