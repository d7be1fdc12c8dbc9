// Package backup reads the local backups that handsets leave on a
// workstation, and gives their files back under the paths they had.
//
// One layout is known so far, "orlop-parcels/1" (docs/formats.md): a folder
// with backup.json, the backup's label; catalogue.db, a SQLite database; and
// parcels/, where each file lies under an opaque tag. Nothing in a backup is
// trusted: not its counts, not its sizes, not its paths. The package writes
// nothing, and reads the catalogue with package sqlitefile alone.
package backup

import (
	"bytes"
	"cmp"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"crosswind/core/sqlitefile"
)

// Names of a backup's parts in its folder.
const (
	LabelName     = "backup.json"
	CatalogueName = "catalogue.db"
	ParcelsName   = "parcels"
	Layout        = "orlop-parcels/1"
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

// ErrNotBackup is wrapped when a folder is no backup of a known layout.
var ErrNotBackup = errors.New("not a backup of a known layout")

// ErrEncrypted is returned for a backup that needs its password.
var ErrEncrypted = errors.New("the backup is encrypted: its contents cannot be read without its password")

const (
	maxLabel     = 1 << 16   // bytes of a label
	maxCatalogue = 256 << 20 // bytes of a catalogue
	maxFiles     = 1 << 20
	maxDepth     = 64   // of a path
	maxPath      = 4096 // bytes of a path
)

// ReadLabel reads the label of the backup in folder fsys.
func ReadLabel(fsys fs.FS) (*Label, error) {
	b, err := readFile(fsys, LabelName, maxLabel)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotBackup, err)
	}
	var l Label
	if err := json.Unmarshal(b, &l); err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrNotBackup, LabelName, err)
	}
	if l.Layout != Layout {
		return nil, fmt.Errorf("%w: %s names the layout %q", ErrNotBackup, LabelName, l.Layout)
	}
	return &l, nil
}

// readFile reads a regular file of at most limit bytes.
func readFile(fsys fs.FS, name string, limit int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	if int64(len(b)) > limit {
		return nil, fmt.Errorf("%s is larger than %d bytes", name, limit)
	}
	return b, nil
}

// File is one file of a backup.
type File struct {
	Path    string // on the handset, absolute and clean
	Stored  string // below the backup's folder
	Size    int64  // bytes, as the catalogue says
	Changed time.Time
	SHA256  string // as the catalogue says, hex; "" if it does not
}

// Fault is something that a backup says and does not keep.
type Fault struct {
	Path string // below the backup's folder
	What string
}

func (f Fault) Error() string { return f.Path + ": " + f.What }

// Backup is a backup whose catalogue has been read.
type Backup struct {
	Label
	Files  []File                   // by Path
	Faults []Fault                  // in a stable order
	sizeOf func(stored int64) int64 // of the content, from the size in the folder
}

// Open reads the label and the catalogue of the backup in folder fsys, and
// looks for each of its files there. What the backup lacks, has too much, or
// says that cannot be is in Faults; files it concerns are left out of Files
// only if they have no usable path.
func Open(fsys fs.FS) (*Backup, error) { return OpenWith(fsys, nil) }

// OpenWith opens a backup with its key, which is nil for a plain one. Sizes and
// digests of its Files are those of their content.
func OpenWith(fsys fs.FS, k *Key) (*Backup, error) {
	l, err := ReadLabel(fsys)
	if err != nil {
		return nil, err
	}
	if l.Encrypted != (k != nil) {
		if l.Encrypted {
			return nil, ErrEncrypted
		}
		return nil, errors.New("the backup is not encrypted: it needs no key")
	}
	raw, err := catalogueBytes(fsys, k)
	if err != nil {
		return nil, fmt.Errorf("the backup's catalogue: %w", err)
	}
	b := &Backup{Label: *l}
	if k != nil {
		b.sizeOf = plainSize
	}
	if err := b.readCatalogue(raw); err != nil {
		return nil, fmt.Errorf("the backup's catalogue, %s: %w", CatalogueName, err)
	}
	b.compare(fsys)
	slices.SortFunc(b.Files, func(x, y File) int { return cmp.Compare(x.Path, y.Path) })
	slices.SortFunc(b.Faults, func(x, y Fault) int { return cmp.Or(cmp.Compare(x.Path, y.Path), cmp.Compare(x.What, y.What)) })
	return b, nil
}

func (b *Backup) fault(p, format string, args ...any) {
	b.Faults = append(b.Faults, Fault{p, fmt.Sprintf(format, args...)})
}

// place is a folder of the catalogue.
type place struct {
	parent int64
	name   string
}

func (b *Backup) readCatalogue(raw []byte) error {
	f, err := sqlitefile.Open(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return err
	}
	places := map[int64]place{}
	err = each(f, "place", []string{"id", "parent", "name"}, func(r []sqlitefile.Value) {
		places[r[0].Int()] = place{r[1].Int(), r[2].String(f.Encoding)}
	}, b)
	if err != nil {
		return err
	}
	paths := map[string]bool{}
	return each(f, "parcel", []string{"tag", "place", "name", "bytes", "changed", "sum"}, func(r []sqlitefile.Value) {
		tag := r[0].String(f.Encoding)
		if !validTag(tag) {
			b.fault(CatalogueName, "the tag %q is none: a tag has 8 to 64 letters a-z and digits", clip(tag))
			return
		}
		stored := ParcelsName + "/" + tag
		p, err := join(places, r[1].Int(), r[2].String(f.Encoding))
		if err != nil {
			b.fault(stored, "%v", err)
			return
		}
		if paths[p] {
			b.fault(stored, "the catalogue gives the path %s to more than one file", p)
			return
		}
		paths[p] = true
		b.Files = append(b.Files, File{Path: p, Stored: stored, Size: r[3].Int(),
			Changed: time.UnixMilli(r[4].Int()).UTC(), SHA256: hex.EncodeToString(r[5].Bytes())})
	}, b)
}

// each calls visit with the named columns of each row of a table.
func each(f *sqlitefile.File, table string, columns []string, visit func([]sqlitefile.Value), b *Backup) error {
	t, err := f.Table(table)
	if err != nil {
		return err
	}
	at := make([]int, len(columns))
	for i, c := range columns {
		at[i] = slices.IndexFunc(t.Columns, func(x sqlitefile.Column) bool { return x.Name == c })
		if at[i] < 0 {
			return fmt.Errorf("table %s has no column %s", table, c)
		}
	}
	row, n := make([]sqlitefile.Value, len(columns)), 0
	for r, err := range f.Rows(t) {
		if err != nil {
			b.fault(CatalogueName, "table %s: %v", table, err)
			if len(b.Faults) > maxFaults {
				return fmt.Errorf("table %s is too damaged to read", table)
			}
			continue
		}
		if n++; n > maxFiles {
			return fmt.Errorf("table %s has more than %d rows", table, maxFiles)
		}
		for i, k := range at {
			row[i] = r.Values[k]
		}
		visit(row)
	}
	return nil
}

// maxFaults bounds how many faults of a catalogue are told before it is given up.
const maxFaults = 1000

func validTag(s string) bool {
	if len(s) < 8 || len(s) > 64 {
		return false
	}
	for _, c := range []byte(s) {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') {
			return false
		}
	}
	return true
}

// join puts the names of a file and the folders above it together.
func join(places map[int64]place, at int64, name string) (string, error) {
	parts := []string{name}
	for at != 0 {
		p, ok := places[at]
		if !ok {
			return "", fmt.Errorf("the catalogue has no folder %d, where %q would lie", at, clip(name))
		}
		if parts = append(parts, p.name); len(parts) > maxDepth {
			return "", fmt.Errorf("the folders above %q go round in a circle, or are more than %d", clip(name), maxDepth)
		}
		at = p.parent
	}
	total := 0
	for _, s := range parts {
		if total += len(s) + 1; total > maxPath {
			return "", fmt.Errorf("the path of %q is longer than %d bytes", clip(name), maxPath)
		}
		if s == "" || s == "." || s == ".." || strings.ContainsAny(s, "/\x00") {
			return "", fmt.Errorf("the catalogue's path holds the name %q, which leads out of its folder or nowhere", clip(s))
		}
	}
	slices.Reverse(parts)
	return "/" + path.Join(parts...), nil
}

func clip(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}

func (b *Backup) size(stored int64) int64 {
	if b.sizeOf != nil {
		return b.sizeOf(stored)
	}
	return stored
}

// compare looks for what the catalogue names and names what it does not.
func (b *Backup) compare(fsys fs.FS) {
	named := map[string]bool{}
	for _, f := range b.Files {
		named[f.Stored] = true
		st, err := fs.Stat(fsys, f.Stored)
		switch {
		case err != nil:
			b.fault(f.Stored, "missing: the catalogue names it as %s", f.Path)
		case !st.Mode().IsRegular():
			b.fault(f.Stored, "not a regular file; the catalogue names it as %s", f.Path)
		case b.size(st.Size()) != f.Size:
			b.fault(f.Stored, "has %d bytes, the catalogue says %d", b.size(st.Size()), f.Size)
		}
	}
	for _, f := range b.Faults {
		named[f.Path] = true // told of already
	}
	entries, err := fs.ReadDir(fsys, ParcelsName)
	if err != nil {
		b.fault(ParcelsName, "cannot be listed: %v", err)
	}
	for _, e := range entries {
		if p := ParcelsName + "/" + e.Name(); !named[p] {
			b.fault(p, "one too many: the catalogue does not name it")
		}
	}
	if int64(len(b.Files)) != b.Parcels {
		b.fault(LabelName, "the label counts %d files, the catalogue names %d", b.Parcels, len(b.Files))
	}
	if !b.Finished {
		b.fault(LabelName, "the label says that the backup was not finished")
	}
}

// Whole reports whether the backup keeps everything that it says.
func (b *Backup) Whole() bool { return len(b.Faults) == 0 }
