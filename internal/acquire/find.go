// Package acquire reads sources into the vault: it finds local backups, unpacks
// archives that are handed in, acquires what it finds, opens what is encrypted,
// and checks again what was acquired. It opens sources for reading only and
// follows no symbolic link out of them.
package acquire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"crosswind/core/backup"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Acquirer acquires sources and checks acquisitions.
type Acquirer struct {
	Store *store.Store
	Vault vault.Vault
	Tool  string   // name, version and build
	Roots []string // folders in which backups are looked for
	Keys  *Keys
	// Scratch is a folder for volumes that are being read.
	Scratch   string
	SyncEvery int64    // bytes of a volume after which it is synced, 0 for 64 MiB
	Handsets  []string // addresses of the links to connected handsets
	Service   string   // address of the cloud service, "" for none
}

// OfCopy reports whether a method takes something that somebody made before, as a backup or an image: who made it, and how
// it came to where it lay, is then not known from the acquisition.
func OfCopy(method string) bool {
	return method == MethodFolder || method == MethodArchive || method == MethodImage
}

// Found is a local backup that was found.
type Found struct {
	Address string // see Source
	Where   string // in words
	Label   *backup.Label
	Faults  []backup.Fault
	Bytes   int64  // of all files in the folder, or of the archive
	Files   int64  // in the folder, or 1
	Error   string // why its contents cannot be listed
}

// Whole says in a word whether the backup keeps what it says.
func (f *Found) Whole() string {
	switch {
	case f.Error != "":
		return "unknown"
	case len(f.Faults) > 0:
		return "incomplete"
	}
	return "whole"
}

// searchDepth is how far below a folder backups are looked for, and maxProbed
// how many files of it are looked into.
const (
	searchDepth = 4
	maxProbed   = 5000
	maxSeen     = 100_000 // files and folders of one place
	searchTime  = 20 * time.Second
)

// Find searches the configured folders, and the places and archives of a case,
// for local backups. A place that cannot be read is named in notes.
func (q *Acquirer) Find(ctx context.Context, caseID int64) (found []Found, notes []string, err error) {
	places, err := q.Store.Places(ctx, caseID)
	if err != nil {
		return nil, nil, err
	}
	search, cancel := context.WithTimeout(ctx, searchTime)
	defer cancel()
	paths := slices.Clone(q.Roots)
	for _, p := range places {
		paths = append(paths, p.Path)
	}
	seen := map[string]bool{}
	in := func(address, where string) {
		fs, ns := q.findIn(search, caseID, address, where)
		notes = append(notes, ns...)
		for _, f := range fs {
			if !seen[f.Address] {
				seen[f.Address] = true
				found = append(found, f)
			}
		}
	}
	for _, p := range paths {
		if abs, err := filepath.Abs(p); err == nil {
			in(abs, abs)
		}
	}
	archives, err := q.Store.Archives(ctx, caseID)
	if err != nil {
		return nil, nil, err
	}
	for _, a := range archives {
		if a.ReadyAt != nil && a.Refused == "" {
			before := len(found)
			in(fmt.Sprint(archiveScheme, a.ID), "archive "+a.Name)
			if len(found) == before {
				notes = append(notes, fmt.Sprintf("the archive %s holds no backup of a known layout; its files are in the vault", a.Name))
			}
		}
	}
	sort.SliceStable(found, func(i, j int) bool {
		if a, b := found[i].Label, found[j].Label; !a.Made.Equal(b.Made) {
			return a.Made.After(b.Made)
		}
		return found[i].Address < found[j].Address
	})
	return found, notes, nil
}

// FindOne looks for a backup by its address. Only what the search finds may be
// read: an address from a form is not trusted.
func (q *Acquirer) FindOne(ctx context.Context, caseID int64, address string) (*Found, error) {
	all, _, err := q.Find(ctx, caseID)
	for i := range all {
		if all[i].Address == address {
			return &all[i], nil
		}
	}
	if err == nil {
		err = fmt.Errorf("the backup %q: %w", address, store.ErrNotFound)
	}
	return nil, err
}

func (q *Acquirer) findIn(ctx context.Context, caseID int64, address, where string) (found []Found, notes []string) {
	src, err := q.Open(ctx, caseID, address)
	if err != nil {
		return nil, []string{err.Error()}
	}
	defer src.Close()
	probed := 0
	look := func(p, name string) {
		at := address
		if p != "." {
			at = strings.TrimSuffix(address, "/") + "/" + p
		}
		sub, err := fs.Sub(src.FS, p)
		if name != "." {
			sub, err = src.FS, nil
			at = strings.TrimSuffix(address, "/") + "/" + name
			if src.Name != "." {
				at = address
			}
		}
		var f *Found
		if err == nil {
			f, err = look(sub, name)
		}
		switch {
		case err == nil:
			f.Address, f.Where = at, strings.Replace(at, address, where, 1)
			found = append(found, *f)
		case name == "." || !errors.Is(err, backup.ErrNotBackup): // many files are not backups
			notes = append(notes, at+": "+err.Error())
		}
	}
	if src.Name != "." {
		look(".", src.Name)
		return found, notes
	}
	seen := 0
	err = fs.WalkDir(src.FS, ".", func(p string, d fs.DirEntry, err error) error {
		if seen++; seen > maxSeen || ctx.Err() != nil {
			notes = append(notes, fmt.Sprintf("%s: the search ended after %d files and folders, or %v: not all of it was looked into", where, seen-1, searchTime))
			return fs.SkipAll
		}
		if err != nil {
			notes = append(notes, strings.TrimSuffix(address, "/")+"/"+p+": "+err.Error())
			return fs.SkipDir
		}
		if d.Type().IsRegular() {
			if probed++; probed == maxProbed {
				notes = append(notes, fmt.Sprintf("%s has many files: only %d were looked into", where, maxProbed))
			}
			if probed < maxProbed && looksBackup(src.FS, p) {
				look(".", p)
			}
			return nil
		}
		if !d.IsDir() {
			return nil
		}
		if p != "." && strings.Count(p, "/")+1 >= searchDepth {
			return fs.SkipDir
		}
		if _, err := fs.Stat(src.FS, path.Join(p, backup.LabelName)); err != nil {
			return nil
		}
		look(p, ".")
		return fs.SkipDir
	})
	if err != nil {
		notes = append(notes, err.Error())
	}
	return found, notes
}

func looksBackup(fsys fs.FS, name string) bool {
	f, err := fsys.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 512)
	n, _ := io.ReadFull(f, head)
	return backup.Looks(head[:n])
}

// look reads the label and the list of files of a backup.
func look(fsys fs.FS, name string) (*Found, error) {
	l, err := backup.ReadLabel(fsys, name)
	if err != nil {
		return nil, err
	}
	f := &Found{Label: l}
	b, err := backup.Open(fsys, name, nil)
	if err != nil {
		f.Error = err.Error()
	} else {
		f.Faults = b.Faults
		b.Close()
	}
	files, _, err := tree(fsys, name)
	for _, s := range files {
		f.Bytes += s.size
		f.Files++
	}
	return f, err
}

// sourceFile is a file of a source.
type sourceFile struct {
	path string // slash-separated
	size int64
}

// name is the path as text. Bytes that are not UTF-8 are written \xNN; then the
// path is not the one by which the file is opened.
func (f sourceFile) name() string { return asText(f.path) }

func asText(p string) string {
	if utf8.ValidString(p) {
		return p
	}
	var b strings.Builder
	for len(p) > 0 {
		r, n := utf8.DecodeRuneInString(p)
		if r == utf8.RuneError && n == 1 {
			fmt.Fprintf(&b, `\x%02x`, p[0])
		} else {
			b.WriteString(p[:n])
		}
		p = p[n:]
	}
	return b.String()
}

// tree lists the regular files of a source in order of their paths' bytes, and
// what else is there, which is not read.
func tree(fsys fs.FS, name string) (files []sourceFile, others []string, err error) {
	err = fs.WalkDir(fsys, name, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			others = append(others, path)
			if d != nil && d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		switch {
		case d.IsDir():
		case d.Type().IsRegular():
			if st, err := d.Info(); err == nil {
				files = append(files, sourceFile{path, st.Size()})
			} else {
				others = append(others, path)
			}
		default:
			others = append(others, path)
		}
		return nil
	})
	sort.Slice(files, func(i, j int) bool { return files[i].path < files[j].path })
	return files, others, err
}
