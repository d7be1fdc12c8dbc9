// Package acquire reads sources into the vault: it finds local backups,
// acquires them, and checks what was acquired again. It opens sources for
// reading only and follows no symbolic link out of them.
package acquire

import (
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"crosswind/core/backup"
)

// Found is a local backup that was found.
type Found struct {
	Path   string // absolute
	Label  *backup.Label
	Faults []backup.Fault
	Bytes  int64  // of all files in the folder
	Files  int64  // in the folder
	Error  string // why its contents cannot be listed
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

// searchDepth is how far below a configured folder backups are looked for.
const searchDepth = 4

// Find searches the configured folders for local backups. A folder that cannot
// be read is named in notes.
func Find(roots []string) (found []Found, notes []string) {
	for _, root := range roots {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				notes = append(notes, err.Error())
				return fs.SkipDir
			}
			if !d.IsDir() {
				return nil
			}
			if rel, _ := filepath.Rel(root, path); strings.Count(rel, string(filepath.Separator)) >= searchDepth {
				return fs.SkipDir
			}
			if _, err := os.Lstat(filepath.Join(path, backup.LabelName)); err != nil {
				return nil
			}
			if f, err := Look(path); err == nil {
				found = append(found, *f)
			} else {
				notes = append(notes, path+": "+err.Error())
			}
			return fs.SkipDir
		})
		if err != nil {
			notes = append(notes, err.Error())
		}
	}
	sort.Slice(found, func(i, j int) bool {
		if a, b := found[i].Label, found[j].Label; !a.Made.Equal(b.Made) {
			return a.Made.After(b.Made)
		}
		return found[i].Path < found[j].Path
	})
	return found, notes
}

// Look reads the label and catalogue of the backup in a folder.
func Look(path string) (*Found, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	f := &Found{Path: path}
	if f.Label, err = backup.ReadLabel(root.FS()); err != nil {
		return nil, err
	}
	b, err := backup.Open(root.FS())
	if err != nil {
		f.Error = err.Error()
	} else {
		f.Faults = b.Faults
	}
	files, _, err := tree(root)
	for _, s := range files {
		f.Bytes += s.size
		f.Files++
	}
	return f, err
}

// sourceFile is a file below a source folder.
type sourceFile struct {
	path string // slash-separated
	size int64
}

// tree lists the regular files of a folder in order of their paths' bytes, and
// what else is there, which is not read.
func tree(root *os.Root) (files []sourceFile, others []string, err error) {
	err = fs.WalkDir(root.FS(), ".", func(path string, d fs.DirEntry, err error) error {
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
