package acquire

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/backup"
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
	Known        string // the known-file set that names it
	Gone         string // of a file of an image that is not live, how it was found
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
	for f, err := range a.Store.AllFiles(ctx, id, store.Both) {
		if err != nil {
			return nil, "", err
		}
		if f.RealPath != "" && (f.Known == "" || c.Query("known") != "hide") {
			out = append(out, treeFile{f.RealPath, f.Path, f.Size, f.ModifiedAt, f.SHA256, f.Known, f.Found.Gone()})
		}
	}
	return out, fmt.Sprintf("acquisition %d of %s", q.Number, q.Source), nil
}

func (a pages) foundTree(c *gin.Context) (out []treeFile, what string, err error) {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	f, err := a.Acquirer.FindOne(ctx, cs.ID, c.Query("source"))
	if err != nil {
		return nil, "", err
	}
	src, err := a.Acquirer.Open(ctx, cs.ID, f.Address)
	if err != nil {
		return nil, "", err
	}
	defer src.Close()
	b, err := backup.Open(src.FS, src.Name, nil)
	if err != nil {
		return nil, "", err
	}
	defer b.Close()
	for _, x := range b.Files {
		out = append(out, treeFile{x.Path, x.Stored, x.Size, &x.Changed, x.SHA256, "", ""})
	}
	return out, f.Where, nil
}
