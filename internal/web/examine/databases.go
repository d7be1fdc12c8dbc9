package examine

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"crosswind/core/fieldmap"
	"crosswind/core/media"
	"crosswind/core/record"
	"crosswind/core/sqlitefile"
	"crosswind/internal/evidence"
	"crosswind/internal/preview"
	"crosswind/internal/query"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

const (
	cellRunes = 90       // of a cell in the list
	openBytes = 16 << 10 // of a cell that is opened
)

// databases is the view of the case's databases, and of the rows of one of them.
type databases struct {
	All    []databaseLine
	Next   string // address at which the list of them goes on, "" at its end
	Chosen *databaseLine
	Rows   *evidence.Rows
	Tables []tableLink
	Table  *tableView
	Cell   *openRow
	SQL    string
	Has    string
	Part   string // which rows are listed: all, "live" or "below"
	Answer *answer
	May    bool   // a map of the examiner's own may be made for it
	Make   string // address at which that is done
	Maker  *maker
	rows   string
}

// Rowwise is the address of the rows of the table for which a map is made.
func (d *databases) Rowwise() string { return d.rows }

// databaseLine is a database of the case.
type databaseLine struct {
	store.DatabaseOf
	Address, PageMap, Records string
	Cells                     string // address of what the page map is drawn from
}

type tableLink struct {
	Name, Address string
	Live, Below   int
	Open          bool
}

// tableView is a table with the rows that are listed of it.
type tableView struct {
	Name    string
	Columns []tableColumn
	Lines   []rowLine
	All     int    // rows that are asked for
	Next    string // address at which the list of them goes on, "" at its end
}

type tableColumn struct {
	Name, Type, Address string
	Order               string // how the rows are sorted by it, "" if they are not
}

type rowLine struct {
	*evidence.Row
	Address, Words string
	Cells          []string
	Chosen         bool
}

// Width is how many columns are listed.
func (t *tableView) Width() int { return len(t.Columns) + 3 }

// databaseParams are the parameters of the view, which others do not keep.
var databaseParams = []string{"db", "table", "rowhas", "by", "down", "rows", "cell", "sql", "make"}

// chooseDatabase lists the databases of an exhibit, all for 0, and reads the rows of the one that the address names.
func (a pages) chooseDatabase(ctx context.Context, p *frame.Page, exhibit int64, d *databases) error {
	q := p.Query
	all, err := a.Store.Databases(ctx, p.Case.ID, exhibit)
	if err != nil {
		return err
	}
	base := "/case/" + p.Case.Reference
	for _, x := range all {
		name := fmt.Sprintf("%d:%s", x.AcquisitionID, x.Path)
		l := databaseLine{x, p.Keep("db", name, "table", "", "rowhas", "", "by", "", "down", "", "rows", "", "skip", "", "cell", "", "sql", "", "make", ""),
			frame.Address(base+"/recover/pages", nil, "acq", fmt.Sprint(x.AcquisitionID), "path", x.Path), "",
			frame.Address(base+"/recover/pages/cells", nil, "acq", fmt.Sprint(x.AcquisitionID), "path", x.Path)}
		if x.Live+x.Below() > 0 && x.FieldMap != "" {
			l.Records = frame.Address(base+"/examine", nil, "exhibit", x.ExhibitRef, "in", x.Path)
		}
		if d.All = append(d.All, l); q.Get("db") == name {
			d.Chosen = &d.All[len(d.All)-1]
		}
	}
	if d.Chosen == nil {
		return nil
	}
	acq, err := a.Store.AcquisitionByID(ctx, d.Chosen.AcquisitionID)
	if err == nil {
		d.Rows, err = a.Evidence.Rows(ctx, p.Case.ID, acq, d.Chosen.Path)
	}
	return err
}

func (a pages) databases(ctx context.Context, p *frame.Page, v *content) (*databases, error) {
	q := p.Query
	d := &databases{Has: strings.TrimSpace(q.Get("rowhas")), Part: q.Get("rows"), SQL: strings.TrimSpace(q.Get("sql"))}
	err := a.chooseDatabase(ctx, p, v.Filter.Exhibit, d)
	if err != nil {
		return nil, err
	}
	if d.Chosen == nil {
		if q.Get("db") != "" {
			p.Fault = "There is no such database in this case."
		}
		d.All, d.Next = part(p, d.All, 0, underViews)
		return d, nil
	}
	acq, err := a.Store.AcquisitionByID(ctx, d.Chosen.AcquisitionID)
	if err != nil {
		return nil, err
	}
	open := d.open(p)
	if d.SQL != "" {
		d.Answer, err = a.ask(ctx, d.Rows, d.SQL)
		return d, err
	}
	own, err := a.Store.OwnMaps(ctx, p.Case.ID)
	if err != nil {
		return nil, err
	}
	made, may := mapped(d.Chosen, own)
	d.May = may && open != nil && open.Table != nil && open.Called() == open.Name // one that is in the schema
	d.Make = p.Keep("make", "1", "cell", "")
	if q.Get("make") != "" && d.May {
		d.rows = frame.Address(p.Path, nil, "view", "databases", "db", q.Get("db"), "table", open.Called(), "exhibit", q.Get("exhibit"))
		d.Maker, err = a.makeMap(ctx, p, d, acq, open, made)
		return d, err
	}
	if open != nil {
		d.Table = d.list(p, open)
		return d, a.chooseRow(ctx, p, d, open)
	}
	return d, nil
}

// open gives the table that the address names, or the first that has rows.
func (d *databases) open(p *frame.Page) (open *evidence.Table) {
	name := p.Query.Get("table")
	named := name != ""
	for _, t := range d.Rows.Tables {
		if named && cmp.Or(t.Called(), notTold) == name || !named && open == nil && len(t.Rows) > 0 {
			open = t
		}
	}
	if open == nil && len(d.Rows.Tables) > 0 {
		open = d.Rows.Tables[0]
	}
	for _, t := range d.Rows.Tables {
		x := tableLink{Name: cmp.Or(t.Called(), notTold), Live: t.Live, Below: t.Below, Open: t == open && d.SQL == ""}
		x.Address = p.Keep("table", x.Name, "rowhas", "", "by", "", "down", "", "skip", "", "cell", "", "sql", "", "make", "")
		d.Tables = append(d.Tables, x)
	}
	return open
}

// notTold stands for the table of rows whose table cannot be told.
const notTold = "(not told)"

// rowColumns name the values of a table's rows.
func rowColumns(t *evidence.Table) (names, types []string) {
	if t.Table != nil {
		for _, c := range t.Columns {
			names, types = append(names, c.Name), append(types, c.Type)
		}
		return names, types
	}
	for _, r := range t.Rows {
		for len(names) < len(r.Values) {
			names, types = append(names, fmt.Sprintf("value %d", len(names)+1)), append(types, "")
		}
	}
	return names, types
}

// list sorts and narrows the rows of a table, and lists some.
func (d *databases) list(p *frame.Page, t *evidence.Table) *tableView {
	v := &tableView{Name: cmp.Or(t.Called(), notTold)}
	enc := d.Rows.Encoding
	names, types := rowColumns(t)
	by, down := -1, p.Query.Get("down") != ""
	for i, n := range names {
		c := tableColumn{Name: n, Type: types[i], Address: p.Keep("by", n, "down", "", "skip", "", "cell", "")}
		if p.Query.Get("by") == n {
			by = i
			if c.Order = "ascending"; down {
				c.Order = "descending"
			} else {
				c.Address = p.Keep("by", n, "down", "1", "skip", "", "cell", "")
			}
		}
		v.Columns = append(v.Columns, c)
	}
	rows := slices.Clone(t.Rows)
	has := strings.ToLower(d.Has)
	rows = slices.DeleteFunc(rows, func(r *evidence.Row) bool {
		return d.Part == "live" && !r.Live || d.Part == "below" && r.Live ||
			has != "" && !slices.ContainsFunc(r.Values, func(x sqlitefile.Value) bool { return strings.Contains(strings.ToLower(plainValue(x, enc)), has) })
	})
	if by < 0 { // each version of a row beside the others
		slices.SortStableFunc(rows, func(a, b *evidence.Row) int {
			if a.HasRowID && b.HasRowID {
				return cmp.Compare(a.RowID, b.RowID)
			}
			return cmp.Compare(lacks(a.HasRowID), lacks(b.HasRowID))
		})
	} else {
		slices.SortStableFunc(rows, func(a, b *evidence.Row) int {
			n := compareValues(a.Values, b.Values, by, enc)
			if down {
				n = -n
			}
			return n
		})
	}
	v.All = len(rows)
	name := func(r *evidence.Row) string { return fmt.Sprintf("%d.%d", r.Part, r.Offset) }
	chosen := slices.IndexFunc(rows, func(r *evidence.Row) bool { return name(r) == p.Query.Get("cell") })
	rows, v.Next = part(p, rows, chosen+1, underViews)
	for _, r := range rows {
		l := rowLine{Row: r, Address: p.Keep("cell", name(r), "skip", "", "r", "", "o", ""), Words: rowWords(r), Chosen: p.Query.Get("cell") == name(r)}
		for i := range names {
			l.Cells = append(l.Cells, shortValue(r, i, enc))
		}
		v.Lines = append(v.Lines, l)
	}
	return v
}

func lacks(has bool) int {
	if has {
		return 0
	}
	return 1
}

// rowWords says of a row whether it is alive, or where and with what confidence it was found.
func rowWords(r *evidence.Row) string {
	switch {
	case r.Live:
		return "live"
	case r.Earlier:
		return fmt.Sprintf("earlier version, %s, %.2f", record.PlaceWords(record.Recovered, string(r.Origin)), r.Confidence)
	}
	return fmt.Sprintf("recovered, %s, %.2f", record.PlaceWords(record.Recovered, string(r.Origin)), r.Confidence)
}

// compareValues orders values as the format's own library does: NULL, numbers, texts, BLOBs.
func compareValues(a, b []sqlitefile.Value, i int, enc sqlitefile.Encoding) int {
	var x, y sqlitefile.Value
	if i < len(a) {
		x = a[i]
	}
	if i < len(b) {
		y = b[i]
	}
	rank := func(v sqlitefile.Value) int {
		switch v.Class() {
		case sqlitefile.Integer, sqlitefile.Real:
			return 1
		case sqlitefile.Text:
			return 2
		case sqlitefile.Blob:
			return 3
		}
		return 0
	}
	if n := rank(x) - rank(y); n != 0 {
		return n
	}
	switch rank(x) {
	case 1:
		if x.Class() == sqlitefile.Integer && y.Class() == sqlitefile.Integer {
			return cmp.Compare(x.Int(), y.Int())
		}
		return cmp.Compare(x.Float(), y.Float())
	case 2:
		return strings.Compare(x.String(enc), y.String(enc))
	case 3:
		return bytes.Compare(x.Bytes(), y.Bytes())
	}
	return 0
}

// plainValue writes a value.
func plainValue(v sqlitefile.Value, enc sqlitefile.Encoding) string {
	switch v.Class() {
	case sqlitefile.Null:
		return "NULL"
	case sqlitefile.Integer:
		return strconv.FormatInt(v.Int(), 10)
	case sqlitefile.Real:
		return query.Real(v.Float())
	case sqlitefile.Text:
		return v.String(enc)
	}
	return fmt.Sprintf("%d bytes: %x", len(v.Bytes()), v.Bytes()[:min(16, len(v.Bytes()))])
}

// shortValue writes a value for the list.
func shortValue(r *evidence.Row, i int, enc sqlitefile.Encoding) string {
	if i >= len(r.Values) {
		return ""
	}
	s := plainValue(r.Values[i], enc)
	if r.Lost[i] {
		if s == "NULL" {
			return "lost"
		}
		s += " … lost"
	}
	if utf8.RuneCountInString(s) > cellRunes {
		s = string([]rune(s)[:cellRunes]) + "…"
	}
	return s
}

// openRow is a row whose cells are opened.
type openRow struct {
	*evidence.Row
	Words   string
	Cells   []openCell
	PageMap string
	Of      *store.Record // the record that it became
	Address string        // of that
}

// openCell is a value with all that it may say.
type openCell struct {
	Name, Type, Class string
	Value             string
	Lost              bool
	Times             []cellTime
	Nested            []nestedForm // its text, as what it holds is laid out
	Hex               []frame.HexRow
	Cut               int                // bytes that are not shown
	Shown             *record.Attachment // of a BLOB that is a picture, a film or a sound: its type
	At, Wave          string             // addresses of what is shown of that
}

type cellTime struct {
	At    time.Time
	Epoch string
}

// cell sends what is shown of a BLOB in a row that may be seen.
func (a pages) cell(c *gin.Context) error {
	p, err := a.Page(c, "Examine", "Examine")
	if err != nil {
		return err
	}
	ctx := c.Request.Context()
	d := &databases{}
	if err := a.chooseDatabase(ctx, p, p.ExhibitID(), d); err != nil || d.Chosen == nil {
		return cmp.Or(err, store.ErrNotFound)
	}
	part, offset, _ := strings.Cut(p.Query.Get("cell"), ".")
	n, err := strconv.Atoi(p.Query.Get("n"))
	for _, t := range d.Rows.Tables {
		if err != nil || cmp.Or(t.Called(), notTold) != p.Query.Get("table") {
			continue
		}
		if row := t.At(part, offset); row != nil && n >= 0 && n < len(row.Values) && row.Values[n].Class() == sqlitefile.Blob {
			b := row.Values[n].Bytes()
			return a.show(c, fmt.Sprintf("%x", sha256.Sum256(b)), func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b)), nil })
		}
	}
	return store.ErrNotFound
}

// chooseRow opens the row that the address names.
func (a pages) chooseRow(ctx context.Context, p *frame.Page, d *databases, t *evidence.Table) error {
	part, offset, ok := strings.Cut(p.Query.Get("cell"), ".")
	if !ok {
		return nil
	}
	row := t.At(part, offset)
	if row == nil {
		p.Fault = "There is no such row in this table."
		return nil
	}
	o := &openRow{Row: row, Words: rowWords(row), PageMap: frame.Address(d.Chosen.PageMap, nil)}
	o.PageMap += fmt.Sprintf("&page=%d", row.Page)
	if row.Part != sqlitefile.Main {
		o.PageMap += fmt.Sprintf("&part=%d&frame=%d", row.Part, row.Frame)
	}
	if row.Record != 0 {
		r, err := a.Store.RecordByID(ctx, p.Case.ID, row.Record)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		o.Of, o.Address = r, frame.Address("/case/"+p.Case.Reference+"/examine", nil, "r", fmt.Sprint(row.Record))
	}
	from, to, err := a.span(ctx, p)
	if err != nil {
		return err
	}
	names, types := rowColumns(t)
	for i, v := range row.Values[:min(len(row.Values), len(names))] {
		c := openedCell(names[i], types[i], v, row.Lost[i], d.Rows.Encoding, from, to)
		if c.Shown != nil {
			at := func(as string) string {
				return frame.Address("/case/"+p.Case.Reference+"/examine/cell", nil, "db", p.Query.Get("db"), "table", cmp.Or(t.Called(), notTold), "cell", p.Query.Get("cell"), "n", fmt.Sprint(i), "as", as)
			}
			c.At, c.Wave = at(preview.Shown), at(preview.Waveform)
		}
		o.Cells = append(o.Cells, c)
	}
	d.Cell = o
	return nil
}

// span is when the case's records are from, with a year before and behind: a number that is a time by some epoch is
// taken for one if it lies there.
func (a pages) span(ctx context.Context, p *frame.Page) (from, to time.Time, err error) {
	first, last, err := a.Store.Extent(ctx, store.Filter{CaseID: p.Case.ID})
	if err != nil || first == nil {
		return time.Date(2005, 1, 1, 0, 0, 0, 0, time.UTC), time.Now(), err
	}
	return first.AddDate(-1, 0, 0), last.AddDate(1, 0, 0), nil
}

func openedCell(name, declared string, v sqlitefile.Value, lost bool, enc sqlitefile.Encoding, from, to time.Time) openCell {
	c := openCell{Name: name, Type: declared, Class: [...]string{"NULL", "integer", "real", "text", "BLOB"}[v.Class()], Lost: lost}
	switch v.Class() {
	case sqlitefile.Null:
		return c
	case sqlitefile.Blob:
		b := v.Bytes()
		if c.Class += fmt.Sprintf(", %d bytes", len(b)); plain(b, false) && len(b) > 0 {
			c.Value = string(b[:min(len(b), openBytes)])
		} else {
			if t := cmp.Or(media.Type(b[:min(len(b), 64)]), media.ClipType(b[:min(len(b), 64)])); t != "" {
				c.Shown = &record.Attachment{Name: name, Type: t, SHA256: fmt.Sprintf("%x", sha256.Sum256(b))}
			}
			c.Hex = frame.FoldRows(frame.HexRows(b[:min(len(b), 512)], 0, nil, nil))
			c.Cut = len(b) - min(len(b), 512)
		}
	default:
		c.Value = plainValue(v, enc)
	}
	for _, e := range fieldmap.Epochs() {
		if at, ok := e.Time(v, enc); ok && at.After(from) && at.Before(to) {
			c.Times = append(c.Times, cellTime{at, e.Name()})
		}
	}
	if v.Class() == sqlitefile.Text || c.Value != "" && v.Class() == sqlitefile.Blob {
		c.Nested = nested(c.Value)
	}
	if len(c.Value) > openBytes {
		c.Cut, c.Value = len(c.Value)-openBytes, strings.ToValidUTF8(c.Value[:openBytes], "")
	}
	return c
}

// answer is what SQL over the rows gave.
type answer struct {
	Columns []string
	Rows    [][]string
	Cut     bool
	Fault   string
}

// rowFacts are the columns that each table has for SQL beside its own: what is known of the row itself.
var rowFacts = []string{"row_id", "row_state", "row_place", "row_page", "row_offset", "row_confidence"}

// ask answers SQL over the rows that may be seen.
func (a pages) ask(ctx context.Context, r *evidence.Rows, question string) (*answer, error) {
	q := query.Question{SQL: question}
	for _, t := range r.Tables {
		q.Tables = append(q.Tables, asked(t, r.Encoding))
	}
	got, err := query.Ask(ctx, a.Previews, q)
	if err != nil {
		return nil, err
	}
	out := &answer{Columns: got.Columns, Cut: got.Cut, Fault: got.Fault}
	for _, row := range got.Rows {
		var cells []string
		for _, v := range row {
			cells = append(cells, v.String())
		}
		out.Rows = append(out.Rows, cells)
	}
	return out, nil
}

// asked is a table as SQL sees it.
func asked(t *evidence.Table, enc sqlitefile.Encoding) query.Table {
	names, _ := rowColumns(t)
	out := query.Table{Name: cmp.Or(t.Called(), "not_told"), Columns: append(slices.Clone(names), rowFacts...)}
	if strings.HasPrefix(strings.ToLower(out.Name), "sqlite_") { // which the library keeps for itself
		out.Name = "_" + out.Name
	}
	for _, r := range t.Rows {
		row := make([]query.Value, 0, len(out.Columns))
		for i := range names {
			if i < len(r.Values) {
				row = append(row, queried(r.Values[i], enc))
			} else {
				row = append(row, query.Value{})
			}
		}
		id, state := query.Value{}, "live"
		if r.HasRowID {
			id = query.Int(r.RowID)
		}
		if !r.Live {
			if state = "recovered"; r.Earlier {
				state = "earlier"
			}
		}
		place := ""
		if !r.Live {
			place = record.PlaceWords(record.Recovered, string(r.Origin))
		}
		out.Rows = append(out.Rows, append(row, id, query.Text(state), query.Text(place), query.Int(int64(r.Page)), query.Int(r.Offset), query.Value{Kind: 2, Float: r.Confidence}))
	}
	return out
}

// queried gives a value as SQL sees it.
func queried(v sqlitefile.Value, enc sqlitefile.Encoding) query.Value {
	switch v.Class() {
	case sqlitefile.Integer:
		return query.Int(v.Int())
	case sqlitefile.Real:
		return query.Value{Kind: 2, Float: v.Float()}
	case sqlitefile.Text:
		return query.Text(v.String(enc))
	case sqlitefile.Blob:
		return query.Value{Kind: 4, Bytes: v.Bytes()}
	}
	return query.Value{}
}
