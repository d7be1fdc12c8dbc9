package backup

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"time"

	"crosswind/core/sqlitefile"
)

// Names of the parts of a backup in the layout of opaque files.
const (
	ParcelsLayout = "orlop-parcels/1"
	LabelName     = "backup.json"
	CatalogueName = "catalogue.db"
	ParcelsName   = "parcels"
)

const maxCatalogue = 256 << 20 // bytes of a catalogue

// parcels is the layout of opaque files.
type parcels struct{}

// Name implements [Layout].
func (parcels) Name() string { return ParcelsLayout }

// Extension implements [Layout].
func (parcels) Extension() string { return "" }

// Looks implements [Layout].
func (parcels) Looks([]byte) bool { return false }

// Label implements [Layout].
func (parcels) Label(fsys fs.FS, _ string) ([]byte, error) {
	return readFile(fsys, LabelName, maxLabel)
}

// Open implements [Layout].
func (parcels) Open(b *Backup, fsys fs.FS, _ string, k *Key) error {
	raw, err := readFile(fsys, CatalogueName, maxCatalogue)
	if err == nil && k != nil {
		raw, err = io.ReadAll(k.Decrypt(bytes.NewReader(raw)))
	}
	if err != nil {
		return fmt.Errorf("the backup's catalogue: %w", err)
	}
	if err := b.readCatalogue(raw); err != nil {
		return fmt.Errorf("the backup's catalogue, %s: %w", CatalogueName, err)
	}
	b.compare(fsys, k != nil)
	b.Serve(func(f File) (io.ReadCloser, error) {
		r, err := fsys.Open(f.Stored)
		if err != nil || k == nil {
			return r, err
		}
		return struct {
			io.Reader
			io.Closer
		}{k.Decrypt(r), r}, nil
	}, nil)
	return nil
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
			b.Fault(CatalogueName, "the tag %q is none: a tag has 8 to 64 letters a-z and digits", clip(tag))
			return
		}
		stored := ParcelsName + "/" + tag
		p, err := pathOf(places, r[1].Int(), r[2].String(f.Encoding))
		if err != nil {
			b.Fault(stored, "%v", err)
			return
		}
		if paths[p] {
			b.Fault(stored, "the catalogue gives the path %s to more than one file", p)
			return
		}
		paths[p] = true
		b.Files = append(b.Files, File{Path: p, Stored: stored, Size: r[3].Int(), At: -1,
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
			b.Fault(CatalogueName, "table %s: %v", table, err)
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

// pathOf puts the names of a file and the folders above it together.
func pathOf(places map[int64]place, at int64, name string) (string, error) {
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
	slices.Reverse(parts)
	return absolute(parts)
}

// compare looks for what the catalogue names and names what it does not.
func (b *Backup) compare(fsys fs.FS, sealed bool) {
	named := map[string]bool{}
	for _, f := range b.Files {
		named[f.Stored] = true
		st, err := fs.Stat(fsys, f.Stored)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			b.Fault(f.Stored, "missing: the catalogue names it as %s", f.Path)
			continue
		case err != nil:
			b.Fault(f.Stored, "cannot be read: %v; the catalogue names it as %s", err, f.Path)
			continue
		case !st.Mode().IsRegular():
			b.Fault(f.Stored, "not a regular file; the catalogue names it as %s", f.Path)
			continue
		}
		size := st.Size()
		if sealed {
			size = plainSize(size)
		}
		if size != f.Size {
			b.Fault(f.Stored, "has %d bytes, the catalogue says %d", size, f.Size)
		}
	}
	for _, f := range b.Faults {
		named[f.Path] = true // told of already
	}
	entries, err := fs.ReadDir(fsys, ParcelsName)
	if err != nil {
		b.Fault(ParcelsName, "cannot be listed: %v", err)
	}
	for _, e := range entries {
		if p := ParcelsName + "/" + e.Name(); !named[p] {
			b.Fault(p, "one too many: the catalogue does not name it")
		}
	}
}
