package recoverpage

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
	"crosswind/internal/evidence"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// mapPage is a database's page map, and the page that is chosen on it.
type mapPage struct {
	Acquisition *store.Acquisition
	Name        string // of the acquisition
	Path        string
	Map         *store.PageMap
	Tally       []store.Tally
	Rows        int64 // recovered row versions
	Places      int64 // where they lie
	Origins     []salvage.Origin
	Withheld    int64
	Chosen      *chosenPage
}

// Uses names what pages are used for.
func (*mapPage) Uses() []string { return uses }

// uses names what pages are used for, in salvage's order.
var uses = []string{"lost page", "table, interior", "table, leaf", "index, interior", "index, leaf", "overflow", "free list trunk", "free page", "pointer map", "lock bytes"}

// chosenPage is a page with its bytes.
type chosenPage struct {
	N        int64
	Use      string
	Table    string
	Found    int
	Versions []version
	Part     int
	Frame    int64
	Where    string
	Offset   int64 // of the page in its file
	Rows     []frame.HexRow
	From, To int // of the bytes that are shown
	Size     int
	Regions  []region
	Cells    []cell
	Why      string // why bytes are withheld, "" if none are
	Fault    string
}

// version is a version of the chosen page.
type version struct {
	Words       string
	Part, Frame int64
	Here        bool
}

// region sums up what kind of bytes a page has.
type region struct {
	Role, Words string
	Bytes       int
}

// cell is a cell of the page: live, or recovered.
type cell struct {
	Words     string
	Offset    int64 // in its file
	Length    int
	Recovered bool
	Hidden    bool // its bytes are withheld
	Sure      float64
	RowID     *int64
	Note      string
	Fields    []salvage.Field
	Values    []value
	Record    int64 // the record that it became, 0 if none
	Summary   string
	Kind      string
}

type value struct{ Name, Text string }

// shownBytes is how many bytes of a page are drawn at a time.
const shownBytes = 4096

// database finds the acquisition and the page map that the address names.
func (a pages) database(c *gin.Context) (*mapPage, error) {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	id, err := strconv.ParseInt(c.Query("acq"), 10, 64)
	if err != nil {
		return nil, fmt.Errorf("acquisition %q: %w", c.Query("acq"), store.ErrNotFound)
	}
	v := &mapPage{Path: c.Query("path"), Origins: salvage.Origins}
	if v.Acquisition, err = a.Store.AcquisitionByID(ctx, id); err == nil && v.Acquisition.CaseID != cs.ID {
		err = fmt.Errorf("acquisition %d: %w", id, store.ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	r, err := a.Store.LatestRecovery(ctx, id)
	if err != nil {
		return nil, err
	}
	if v.Map, err = a.Store.PageMapOf(ctx, r.ID, v.Path); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(v.Map.Tally, &v.Tally); err != nil {
		return nil, fmt.Errorf("the counts of %s: %w", v.Path, err)
	}
	for _, t := range v.Tally {
		v.Rows, v.Places = v.Rows+t.Rows, v.Places+t.Places
	}
	dbs, err := a.Store.RecoveredDatabases(ctx, r.ID)
	for _, d := range dbs {
		if d.Path == v.Path {
			for _, n := range d.OutsideScope() {
				v.Withheld += n
			}
		}
	}
	return v, err
}

// cells sends the map as it is drawn.
func (a pages) cells(c *gin.Context) error {
	v, err := a.database(c)
	if err != nil {
		return err
	}
	c.Data(http.StatusOK, "application/octet-stream", v.Map.Cells)
	return nil
}

func (a pages) pageMap(c *gin.Context) error {
	p, err := a.Page(c, "Page map", "Recover")
	if err != nil {
		return err
	}
	v, err := a.database(c)
	if err != nil {
		return err
	}
	for _, e := range p.Exhibits {
		if e.ID == v.Acquisition.ExhibitID {
			v.Name = frame.AcquisitionName(e.Reference, v.Acquisition)
		}
	}
	if n, err := strconv.ParseInt(c.Query("page"), 10, 64); err == nil && n >= 1 && n <= v.Map.Pages {
		if v.Chosen, err = a.choose(c, v, n); err != nil {
			return err
		}
	} else if c.Query("page") != "" {
		p.Refuse(fmt.Errorf("%s has no page %q: they are 1 to %d", v.Path, c.Query("page"), v.Map.Pages))
	}
	p.Content = v
	return a.Render(c, files, p, "pages.html")
}

// choose takes a page apart.
func (a pages) choose(c *gin.Context, v *mapPage, n int64) (*chosenPage, error) {
	ctx := c.Request.Context()
	m := v.Map.Cells[store.MapCell*(n-1):][:store.MapCell]
	k := &chosenPage{N: n, Use: uses[min(int(m[0]), len(uses)-1)], Found: int(m[5]) | int(m[6])<<8}
	if t := int(m[3]) | int(m[4])<<8; t > 0 && t <= len(v.Map.Tables) {
		k.Table = v.Map.Tables[t-1]
	}
	x, err := a.Evidence.Page(ctx, frame.CaseOf(c).ID, v.Acquisition, v.Path,
		evidence.Choice{Number: uint32(min(n, 1<<32-1)), Part: c.Query("part"), Frame: c.Query("frame"), Trunk: k.Use == "free list trunk"})
	if err != nil {
		return nil, err
	}
	k.Size, k.Offset, k.Part, k.Frame, k.Why = len(x.Bytes), x.Place.Offset, int(x.Place.Part), int64(x.Place.Frame), x.Why
	k.versions(x)
	if x.Fault != nil {
		k.Fault = x.Fault.Error()
		return k, nil
	}
	found, err := a.Store.FoundRows(ctx, v.Map.RecoveryID, v.Path, n)
	if err != nil {
		return nil, err
	}
	marks := k.open(x, v, found)
	k.From = min(max(0, atoi(c.Query("from"))), len(x.Bytes)-1) &^ 15
	k.To = min(k.From+shownBytes, len(x.Bytes))
	hidden := x.Hidden
	if hidden != nil {
		hidden = hidden[k.From:k.To]
	}
	k.Rows = frame.FoldRows(frame.HexRows(x.Bytes[k.From:k.To], k.Offset+int64(k.From), marks, hidden))
	return k, nil
}

func atoi(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil {
		return 0
	}
	return n
}

// versions lists the versions of the page.
func (k *chosenPage) versions(x *evidence.Page) {
	for i, v := range x.Versions {
		w := evidence.Words(v, i == 0)
		k.Versions = append(k.Versions, version{w, int64(v.Part), int64(v.Frame), v.Place == x.Place.Place})
		if v.Place == x.Place.Place {
			k.Where = w
		}
	}
}

// open opens the page's cells, live and recovered, and marks their bytes. Of what is
// withheld there is nothing to be opened: its bytes are not there.
func (k *chosenPage) open(x *evidence.Page, v *mapPage, found []store.FoundRow) (marks []record.Field) {
	ofRecord := map[int64]*store.Record{} // by the offset of its cell
	byUID := map[string]*store.Record{}
	suffix := sqlitefile.Part(k.Part).Suffix()
	for i := range x.Records {
		w, err := x.Records[i].Whole()
		if err == nil && w.Origin().Path == v.Path+suffix {
			ofRecord[w.Origin().Offset] = &x.Records[i]
		}
		byUID[x.Records[i].UID] = &x.Records[i]
	}
	var table *sqlitefile.Table
	if k.Use == uses[salvage.TableLeaf] || k.Use == uses[salvage.IndexLeaf] {
		if t, err := x.Table(k.Table); err == nil && (k.Use == uses[salvage.TableLeaf]) != t.WithoutRowID {
			table = t
		}
	}
	b := x.Bytes
	sums := map[string]int{}
	taken := make([]bool, len(b)) // bytes of recovered rows
	for _, f := range found {
		if f.Part != k.Part || f.Frame != k.Frame {
			continue
		}
		c := cell{Words: record.PlaceWords(record.Recovered, f.Origin), Offset: f.At, Length: f.Length, Recovered: true, Sure: f.Confidence, RowID: f.RowID}
		if f.Tab != "" {
			c.Words = f.Tab + ", " + c.Words
		}
		c.Hidden = x.Withholds(int(f.At-k.Offset), int(f.At-k.Offset)+f.Length)
		if f.Uncommitted {
			c.Note = "its transaction was never committed"
		}
		if err := json.Unmarshal(f.Fields, &c.Fields); err != nil {
			c.Note = "its fields cannot be read"
		}
		c.become(byUID[f.UID])
		if c.Hidden {
			c.RowID, c.Note, c.Fields = nil, "", nil
		} else {
			c.Values = k.read(x, c.Fields)
		}
		for _, x := range c.Fields {
			marks = append(marks, record.Field(x))
		}
		for i := f.At - k.Offset; i < f.At-k.Offset+int64(f.Length); i++ {
			if i >= 0 && i < int64(len(taken)) {
				taken[i] = true
			}
		}
		sums["recovered"] += f.Length
		k.Cells = append(k.Cells, c)
	}
	page, _ := sqlitefile.ParsePage(uint32(k.N), b[:x.Usable])
	for _, r := range x.Regions {
		if r.Role != "cell" || page == nil {
			if r.Role != "odd" {
				sums[r.Role] += r.To - r.From
			}
			for from := r.From; from < r.To; { // what is not of a recovered row
				to := from
				for to < r.To && taken[to] == taken[from] {
					to++
				}
				if !taken[from] {
					marks = append(marks, record.Field{Name: r.Name, Offset: k.Offset + int64(from), Length: to - from, Role: r.Role})
				}
				from = to
			}
			continue
		}
		whole := slices.Contains(taken[r.From:r.To], true)
		c := cell{Words: r.Name, Offset: k.Offset + int64(r.From), Length: r.To - r.From, Hidden: x.Withholds(r.From, r.To)}
		if c.Hidden {
			if !whole {
				sums["cell"] += c.Length
				k.Cells = append(k.Cells, c)
			}
			continue
		}
		fields, values, err := salvage.Cell(table, uint32(k.N), page.Kind, page.Data, r.From, k.Offset)
		if err != nil {
			c.Note = err.Error()
		}
		c.Fields = fields
		c.become(ofRecord[c.Offset])
		if whole { // of a version that is not current, the cell is told as the recovered row
			continue
		}
		switch page.Kind {
		case sqlitefile.InteriorTable:
			for i := range min(len(values), len(fields)) {
				c.Values = append(c.Values, value{fields[i].Name, fmt.Sprint(values[i].Int())})
			}
		default:
			c.Values = k.read(x, fields)
			if y, err := sqlitefile.ParseCell(uint32(k.N), page.Kind, page.Data, r.From); err == nil && page.Kind == sqlitefile.LeafTable {
				c.RowID = &y.RowID
				for i := range c.Values {
					if table != nil && table.RowIDColumn >= 0 && c.Values[i].Name == table.Columns[table.RowIDColumn].Name {
						c.Values[i].Text = fmt.Sprintf("%d, the row id", y.RowID)
					}
				}
			}
		}
		sums["cell"] += c.Length
		k.Cells = append(k.Cells, c)
		for _, f := range fields {
			marks = append(marks, record.Field(f))
		}
	}
	slices.SortStableFunc(k.Cells, func(x, y cell) int { return int(x.Offset - y.Offset) })
	words := map[string]string{"header": "header", "pointers": "pointers", "gap": "gap", "cell": "cells", "free": "free blocks", "slack": "fragments", "reserved": "reserved", "content": "content", "recovered": "in recovered rows"}
	for _, role := range []string{"header", "pointers", "gap", "cell", "free", "slack", "content", "reserved", "recovered"} {
		if sums[role] > 0 {
			k.Regions = append(k.Regions, region{role, words[role], sums[role]})
		}
	}
	return marks
}

// become says which record a cell was read into.
func (c *cell) become(r *store.Record) {
	if r != nil {
		c.Record, c.Summary, c.Kind = r.ID, r.Summary, r.Kind.Title()
	}
}

// read gives the values of a cell's fields, as far as they lie in the page, in the
// order of the record.
func (k *chosenPage) read(x *evidence.Page, fields []salvage.Field) (out []value) {
	b := x.Bytes
	types := map[string]sqlitefile.SerialType{}
	text := func(v sqlitefile.Value) string {
		s, ok := fieldmap.Text(v, x.Encoding)
		if !ok {
			return "NULL"
		}
		return s
	}
	set := func(name, s string) {
		if len(s) > 300 {
			s = strings.ToValidUTF8(s[:300], "") + " …"
		}
		if i := slices.IndexFunc(out, func(v value) bool { return v.Name == name }); i >= 0 {
			out[i].Text = s
			return
		}
		out = append(out, value{name, s})
	}
	for _, f := range fields {
		at := int(f.Offset - k.Offset)
		if at < 0 || at+f.Length > len(b) || x.Withholds(at, at+f.Length) {
			continue
		}
		raw := b[at : at+f.Length]
		switch name, isType := strings.CutPrefix(f.Name, "type of "); {
		case f.Role == "type" && isType:
			n, size := sqlitefile.Varint(raw)
			t := sqlitefile.SerialType(n)
			if size == 0 {
				continue
			}
			types[name] = t
			set(name, "")                                     // here it stands; its value follows
			if v, ok := sqlitefile.ReadValue(t, nil, 0); ok { // its type is its value
				set(name, text(v))
			}
		case f.Role == "value":
			t, known := types[f.Name]
			v, ok := sqlitefile.ReadValue(t, raw, 0)
			switch {
			case known && ok:
				set(f.Name, text(v))
			case known && t.Class() == sqlitefile.Text:
				set(f.Name, sqlitefile.DecodeText(raw, x.Encoding)+" …")
			default:
				set(f.Name, fmt.Sprintf("%d bytes", f.Length))
			}
		}
	}
	return out
}
