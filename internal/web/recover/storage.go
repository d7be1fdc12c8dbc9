package recoverpage

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"crosswind/core/volume"
	"crosswind/internal/acquire"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// What the places of a storage image are used for; of a cell that has several the first of these is drawn.
var storageUses = []string{"unread", "carved", "again", "deleted", "live", "tables", "free", "outside"}

// storageUse says each of them in words.
var storageUse = map[string]string{"unread": "could not be read", "carved": "a file known by its structure alone", "deleted": "a deleted file", "again": "in use, and was a deleted file's before", "live": "a live file", "tables": "the volume's own tables and folders", "free": "not in use", "outside": "of no volume"}

const (
	mapColumns = 64
	mapRows    = 32
	mapCell    = 10 // of the drawing
	shownFiles = 40
)

// storageMap is the map of a storage image, as far as it is shown.
type storageMap struct {
	Acquisition     *store.Acquisition
	Name            string
	File            *store.File
	Volumes         []*volume.Volume
	From, To        int64 // bytes that are shown
	Span            int64 // of a cell
	Unit            int64 // the smallest
	Cells           []storageCell
	Uses            []storageKey
	At              int64 // the chosen place, -1 for none
	Chosen          []storageFile
	More            int
	Use             string
	Rows            []frame.HexRow
	Why             string
	Width, Height   int
	Images          []string
	Nearer, Farther bool
	Searched        bool // by a full pass
}

type storageCell struct {
	X, Y    int
	Use     string
	At, End int64
	Mixed   bool
	Chosen  bool
}

type storageKey struct {
	Use, Words string
	Bytes      int64
}

// storageFile is a file that lies at the chosen place.
type storageFile struct {
	store.File
	Record int64 // one that was read from it, 0 if none was
}

func (a pages) storage(c *gin.Context) error {
	p, err := a.Page(c, "Map of an image", "Recover")
	if err != nil {
		return err
	}
	p.Path += "/storage"
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	id, err := strconv.ParseInt(c.Query("acq"), 10, 64)
	if err != nil {
		return fmt.Errorf("acquisition %q: %w", c.Query("acq"), store.ErrNotFound)
	}
	v := &storageMap{At: -1}
	if v.Acquisition, err = a.Store.AcquisitionByID(ctx, id); err == nil && v.Acquisition.CaseID != cs.ID {
		err = fmt.Errorf("acquisition %d: %w", id, store.ErrNotFound)
	}
	if err != nil {
		return err
	}
	for _, e := range p.Exhibits {
		if e.ID == v.Acquisition.ExhibitID {
			v.Name = frame.AcquisitionName(e.Reference, v.Acquisition)
		}
	}
	if v.File, err = a.Store.FileByPath(ctx, id, store.Source, c.Query("image")); err != nil {
		return err
	}
	if v.Images, err = a.Store.Images(ctx, id, acquire.ImageEnding); err != nil {
		return err
	}
	var done func() error
	if v.Volumes, done, err = a.Evidence.Volumes(v.File); err != nil {
		return err
	}
	defer done()
	found, err := a.Store.FoundIn(ctx, id, v.File.Path)
	if err != nil {
		return err
	}
	unread, err := a.Store.Unread(ctx, id, v.File.Path)
	if err != nil {
		return err
	}
	switch last, err := a.Store.LatestRecovery(ctx, id); {
	case err == nil:
		v.Searched = last.FullPass
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	v.frame(c.Query("from"), c.Query("to"))
	at, err := strconv.ParseInt(c.Query("at"), 0, 64)
	if err == nil && at >= 0 && at < v.File.Size {
		v.At = at
		if at < v.From || at >= v.To {
			v.frame("", "")
		}
	} else if c.Query("at") != "" {
		p.Refuse(fmt.Errorf("%s has no byte %q: it has %d", v.File.Path, c.Query("at"), v.File.Size))
	}
	counts := v.fill(found, unread)
	for _, u := range storageUses {
		if n := counts[u]; n > 0 {
			v.Uses = append(v.Uses, storageKey{u, storageUse[u], n})
		}
	}
	if v.At >= 0 {
		cell := v.Cells[(v.At-v.From)/v.Span]
		v.Use = cell.Use
		lies := func(e [2]int64) bool { return e[0] >= 0 && e[0] < cell.End && e[0]+e[1] > cell.At }
		for _, f := range found {
			if !slices.ContainsFunc(f.Found.Extents, lies) && !slices.ContainsFunc(f.Found.Reused, lies) {
				continue
			}
			if len(v.Chosen) == shownFiles {
				v.More++
				continue
			}
			x := storageFile{File: f}
			if x.Record, err = a.Store.RecordOfFile(ctx, cs.ID, id, f.RealPath); err != nil {
				return err
			}
			v.Chosen = append(v.Chosen, x)
		}
		open, why, err := a.Evidence.Whole(ctx, cs.ID, v.Acquisition, v.File.SHA256)
		if err != nil {
			return err
		}
		if v.Why = why; open != nil {
			b, err := open()
			if err != nil {
				return err
			}
			defer b.Close()
			bytes := make([]byte, min(512, v.File.Size-v.At))
			if _, err := b.ReadAt(bytes, v.At); err != nil {
				return err
			}
			v.Rows = frame.FoldRows(frame.HexRows(bytes, v.At, nil, nil))
		}
	}
	p.Content = v
	return a.Render(c, files, p, "storage.html")
}

// frame sets what is shown: the whole image, or a part of it in whole units.
func (v *storageMap) frame(from, to string) {
	v.Unit = 512
	if len(v.Volumes) == 1 {
		v.Unit = v.Volumes[0].Cluster
	}
	v.From, v.To = 0, v.File.Size
	if f, err := strconv.ParseInt(from, 0, 64); err == nil && f > 0 && f < v.File.Size {
		v.From = f / v.Unit * v.Unit
	}
	if t, err := strconv.ParseInt(to, 0, 64); err == nil && t > v.From && t < v.File.Size {
		v.To = t
	}
	cells := int64(mapColumns * mapRows)
	v.Span = max(v.Unit, ((v.To-v.From+cells-1)/cells+v.Unit-1)/v.Unit*v.Unit)
	v.Nearer, v.Farther = v.Span > v.Unit, v.From > 0 || v.To < v.File.Size
}

// fill draws the cells, and counts the bytes of each use in what is shown.
func (v *storageMap) fill(found []store.File, unread []store.Unread) map[string]int64 {
	n := (v.To - v.From + v.Span - 1) / v.Span
	uses := map[string][]int64{}
	counts := map[string]int64{}
	add := func(use string, from, length int64) {
		to := min(from+length, v.To)
		if from = max(from, v.From); from >= to {
			return
		}
		counts[use] += to - from
		if uses[use] == nil {
			uses[use] = make([]int64, n)
		}
		for at := from; at < to; {
			i := (at - v.From) / v.Span
			end := min(to, v.From+(i+1)*v.Span)
			uses[use][i] += end - at
			at = end
		}
	}
	outside := int64(0)
	for _, x := range v.Volumes {
		add("outside", outside, x.Offset-outside)
		used := x.Offset
		for e := range x.Unallocated() {
			add("tables", used, e.Offset-used)
			add("free", e.Offset, e.Length)
			used = e.Offset + e.Length
		}
		outside = x.Offset + x.Size
		add("tables", used, outside-used)
	}
	add("outside", outside, v.File.Size-outside)
	for _, f := range found {
		for _, e := range f.Found.Extents {
			if e[0] >= 0 {
				add(f.Found.State, e[0], e[1])
			}
		}
		for _, e := range f.Found.Reused {
			add("again", e[0], e[1])
			for _, own := range f.Found.Extents { // which are not its any more
				counts[f.Found.State] -= max(0, min(e[0]+e[1], own[0]+own[1], v.To)-max(e[0], own[0], v.From))
			}
		}
	}
	for _, u := range unread {
		add("unread", u.From, u.To-u.From)
	}
	// What is of files is in use or is not, which has been counted, too.
	counts["tables"] -= min(counts["live"], counts["tables"])
	counts["live"] -= min(counts["again"], counts["live"])
	counts["free"] -= min(counts["deleted"]+counts["carved"], counts["free"])
	for i := range n {
		cell := storageCell{X: int(i%mapColumns) * mapCell, Y: int(i/mapColumns) * mapCell, At: v.From + i*v.Span, End: min(v.From+(i+1)*v.Span, v.To), Use: "outside"}
		some := 0
		for _, u := range slices.Backward(storageUses) {
			if uses[u] != nil && uses[u][i] > 0 {
				if cell.Use = u; u != "tables" && u != "free" {
					some++
				}
			}
		}
		cell.Mixed = some > 1
		cell.Chosen = v.At >= cell.At && v.At < cell.End
		v.Cells = append(v.Cells, cell)
	}
	v.Width, v.Height = mapColumns*mapCell, int((n+mapColumns-1)/mapColumns)*mapCell
	return counts
}

// Around is a part of the image around the chosen place, an eighth as large as what is shown.
func (v *storageMap) Around() [2]int64 {
	size := max(v.Unit*mapColumns, (v.To-v.From)/8)
	at := cmp.Or(max(v.At, v.From), v.From)
	from := max(0, (at-size/2)/v.Unit*v.Unit)
	return [2]int64{from, min(from+size, v.File.Size)}
}

// Words says what the chosen cell is used for.
func (v *storageMap) Words() string { return storageUse[v.Use] }
