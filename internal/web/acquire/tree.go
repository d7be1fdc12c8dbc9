package acquire

import (
	"cmp"
	"fmt"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/backup"
	sources "crosswind/internal/acquire"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// treeFile is a file of a backup under the path that it had on the handset.
type treeFile struct {
	Path, Stored string
	Size         int64
	Changed      *time.Time
	SHA256       string
}

// Name is the last part of the path.
func (f treeFile) Name() string { return path.Base(f.Path) }

// Hidden reports whether handsets hide files of this name.
func (f treeFile) Hidden() bool { return strings.HasPrefix(f.Name(), ".") }

// treeFolder is a folder with all that lies below it.
type treeFolder struct {
	Name, Path   string
	Files, Bytes int64
}

// level gives the folders and files that lie in dir itself.
func level(files []treeFile, dir string) (folders []treeFolder, here []treeFile) {
	prefix := strings.TrimSuffix(dir, "/") + "/"
	for _, f := range files {
		rest, ok := strings.CutPrefix(f.Path, prefix)
		if !ok {
			continue
		}
		name, _, deeper := strings.Cut(rest, "/")
		if !deeper {
			here = append(here, f)
			continue
		}
		i := slices.IndexFunc(folders, func(x treeFolder) bool { return x.Name == name })
		if i < 0 {
			i = len(folders)
			folders = append(folders, treeFolder{Name: name, Path: prefix + name})
		}
		folders[i].Files++
		folders[i].Bytes += f.Size
	}
	slices.SortFunc(folders, func(a, b treeFolder) int { return cmp.Compare(a.Name, b.Name) })
	slices.SortFunc(here, func(a, b treeFile) int { return cmp.Compare(a.Path, b.Path) })
	return folders, here
}

// tree shows the files of a backup as the handset had them: of one that was
// found, or of one that was acquired.
func (a pages) tree(c *gin.Context) error {
	var files []treeFile
	var what string
	var err error
	if c.Query("acq") != "" {
		files, what, err = a.acquiredTree(c)
	} else {
		files, what, err = a.foundTree(c)
	}
	if err != nil {
		return err
	}
	p, err := a.Page(c, "Files of "+what, "Acquire")
	if err != nil {
		return err
	}
	p.Path += "/tree"
	dir := path.Clean("/" + p.Query.Get("dir"))
	folders, here := level(files, dir)
	type crumb struct{ Name, Path string }
	crumbs, at := []crumb{{"/", "/"}}, ""
	for part := range strings.SplitSeq(strings.Trim(dir, "/"), "/") {
		if part != "" {
			at += "/" + part
			crumbs = append(crumbs, crumb{part, at})
		}
	}
	p.Content = struct {
		What    string
		Acq     bool
		Crumbs  []crumb
		Folders []treeFolder
		Files   []treeFile
	}{what, c.Query("acq") != "", crumbs, folders, here}
	return a.Render(c, templates, p, "tree.html")
}

func (a pages) acquiredTree(c *gin.Context) (out []treeFile, what string, err error) {
	ctx := c.Request.Context()
	id, err := strconv.ParseInt(c.Query("acq"), 10, 64)
	if err != nil {
		return nil, "", fmt.Errorf("acquisition %q: %w", c.Query("acq"), store.ErrNotFound)
	}
	q, err := a.Store.AcquisitionByID(ctx, id)
	if err == nil && q.CaseID != frame.CaseOf(c).ID {
		err = fmt.Errorf("acquisition %d: %w", id, store.ErrNotFound)
	}
	if err != nil {
		return nil, "", err
	}
	for f, err := range a.Store.AllFiles(ctx, id) {
		if err != nil {
			return nil, "", err
		}
		if f.RealPath != "" {
			out = append(out, treeFile{f.RealPath, f.Path, f.Size, f.ModifiedAt, f.SHA256})
		}
	}
	content, err := a.Store.Content(ctx, id)
	for _, f := range content {
		out = append(out, treeFile{f.RealPath, f.Path, f.Size, f.ModifiedAt, f.SHA256})
	}
	if err != nil {
		return nil, "", err
	}
	return out, fmt.Sprintf("acquisition %d of %s", q.Number, q.Source), nil
}

func (a pages) foundTree(c *gin.Context) (out []treeFile, what string, err error) {
	f := a.found(c.Query("source"))
	if f == nil {
		return nil, "", fmt.Errorf("backup %q in the configured folders: %w", c.Query("source"), store.ErrNotFound)
	}
	root, err := os.OpenRoot(f.Path)
	if err != nil {
		return nil, "", err
	}
	defer root.Close()
	b, err := backup.Open(root.FS())
	if err != nil {
		return nil, "", err
	}
	for _, x := range b.Files {
		out = append(out, treeFile{x.Path, x.Stored, x.Size, &x.Changed, x.SHA256})
	}
	return out, f.Path, nil
}

// found looks for a backup by its path. Only what the search finds may be
// read: a path from a form or an address is not trusted.
func (a pages) found(path string) *sources.Found {
	all, _ := sources.Find(a.Roots)
	for i := range all {
		if all[i].Path == path {
			return &all[i]
		}
	}
	return nil
}
