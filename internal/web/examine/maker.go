package examine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"

	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/sqlitefile"
	"crosswind/internal/evidence"
	"crosswind/internal/recovery"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// maker makes a field map by pointing at the columns of a table.
type maker struct {
	Table    string
	Columns  []madeColumn
	Kind     record.Kind
	Kinds    []record.Kind
	Meanings []meaning
	Epochs   []string
	Lookups  []choice // other tables in which a value can be looked up
	Keys     []choice // and in which files of a row can lie, by the column that says whose they are
	Cells    []choice // the columns of these
	Files    madeFiles
	Map      *fieldmap.Map
	Source   string
	Fault    string
	Trial    *recovery.Trial
}

// choice is a column of another table, and with value what is read of the row that it finds, under the words by which it is chosen.
type choice struct {
	table, column, value string
	Words                string
}

// madeFiles are the files of a row that lie in another table, as they are pointed at: by words of choices, and a column of the row.
type madeFiles struct{ Key, Of, Path, Name, Type string }

// pointed finds a choice by its words.
func pointed(all []choice, words string) (c choice, ok bool) {
	i := slices.IndexFunc(all, func(c choice) bool { return c.Words == words })
	if i < 0 {
		return c, false
	}
	return all[i], true
}

// mostChoices bounds the columns of other tables that can be chosen.
const mostChoices = 1500

// others readies what can be chosen of other tables.
func (m *maker) others(tables []*sqlitefile.Table) {
	for _, t := range tables {
		key, ok := fieldmap.KeyOf(t)
		if !ok || t.Name == m.Table || len(m.Cells) > mostChoices {
			continue
		}
		for _, c := range t.Columns {
			words := t.Name + "." + c.Name
			m.Cells = append(m.Cells, choice{t.Name, c.Name, "", words})
			if c.Name != key.Column {
				m.Lookups = append(m.Lookups, choice{t.Name, key.Column, c.Name, t.Name + "." + key.Column + ", giving " + c.Name})
				m.Keys = append(m.Keys, choice{t.Name, c.Name, "", words})
			}
		}
	}
}

// madeColumn is a column, what it seems to be and what it is said to be.
type madeColumn struct {
	N          int
	Name, Type string
	Seems      string // why it seems to be what was suggested
	Means      string
	Epoch      string
	Out        string // the value of what was sent, of a direction
	JSON       string
	Lookup     string // the words of the choice in which its value is looked up
}

type meaning struct{ Value, Words string }

// meanings are what a column can be said to be.
var meanings = []meaning{{"", "—"}, {"time", "its time"}, {"handle", "the other side"}, {"direction", "in or out"}, {"text", "its text"}, {"conversation", "its conversation"},
	{"latitude", "latitude"}, {"longitude", "longitude"}, {"path", "a file's path"}, {"name", "a file's name"}, {"type", "a file's type"}, {"data", "a file itself"}, {"fact", "a further fact"}}

// mapped says whether a map of the examiner's own may read the database: no built-in one does.
func mapped(l *databaseLine, own []store.OwnMap) (made *store.OwnMap, may bool) {
	for i := range own {
		if own[i].Path == l.Path {
			return &own[i], true
		}
	}
	return nil, fieldmap.For(l.Path) == nil && (l.FieldMap == "" || fieldmap.ByID(l.FieldMap) == nil)
}

// make readies the page on which a map is made, and tries it if it is asked for.
func (a pages) makeMap(ctx context.Context, p *frame.Page, d *databases, acq *store.Acquisition, t *evidence.Table, made *store.OwnMap) (*maker, error) {
	from, to, err := a.span(ctx, p)
	if err != nil {
		return nil, err
	}
	e, err := a.Store.ExhibitByID(ctx, acq.ExhibitID)
	if err != nil {
		return nil, err
	}
	looks, tables, err := a.Evidence.Columns(ctx, acq, d.Chosen.Path, t.Called(), e.Home(), from, to)
	if err != nil {
		return nil, err
	}
	m := &maker{Table: t.Called(), Meanings: meanings, Kinds: record.Kinds()}
	for _, x := range fieldmap.Epochs() {
		m.Epochs = append(m.Epochs, x.Name())
	}
	m.others(tables)
	m.columns(p, t, looks)
	if !p.Query.Has("as") {
		return m, nil
	}
	if m.Source, err = m.written(d.Chosen.Path, made); err != nil {
		m.Fault = err.Error()
	}
	if m.Map, err = checkedMap(d.Chosen.Path, m.Source, tables); err != nil {
		m.Fault = strings.TrimPrefix(err.Error(), "fieldmap: ")
		return m, nil
	}
	m.Trial, err = a.Evidence.Try(ctx, p.Case, acq, d.Chosen.Path, m.Map)
	return m, err
}

// columns readies the columns: what the address says of them, or else what they seem to be.
func (m *maker) columns(p *frame.Page, t *evidence.Table, looks *fieldmap.Columns) {
	seems := map[string]fieldmap.Suggestion{}
	times, directions := 0, 0
	if looks != nil {
		for _, s := range looks.Suggest() {
			seems[s.Column] = s
		}
	}
	asked := p.Query.Has("as")
	has := map[string]bool{}
	for i, c := range t.Columns {
		x := madeColumn{N: i, Name: c.Name, Type: c.Type}
		s, there := seems[c.Name]
		if there {
			x.Seems, x.Epoch = s.Reason, s.Epoch
			x.Means = string(s.Meaning)
			switch s.Meaning {
			case fieldmap.MeansTime:
				if times++; times > 1 { // one time is on the timeline
					x.Means = "fact"
				}
			case fieldmap.MeansReference:
				x.Means = "fact"
				if !has["conversation"] {
					x.Means = "conversation"
				}
				if s.To.Value != "" {
					x.Lookup = s.To.Table + "." + s.To.Column + ", giving " + s.To.Value
				}
			case fieldmap.MeansDirection:
				if directions++; directions > 1 || !strings.ContainsFunc(c.Name, unicode.IsLetter) {
					x.Means = ""
				}
				x.Out = "1"
			}
		}
		if asked {
			n := fmt.Sprint(i)
			x.Means, x.Epoch, x.Out, x.JSON = p.Query.Get("m"+n), p.Query.Get("e"+n), strings.TrimSpace(p.Query.Get("w"+n)), strings.TrimSpace(p.Query.Get("j"+n))
			x.Lookup = p.Query.Get("l" + n)
		}
		has[x.Means] = true
		m.Columns = append(m.Columns, x)
	}
	m.Files = madeFiles{p.Query.Get("fk"), p.Query.Get("fo"), p.Query.Get("fp"), p.Query.Get("fn"), p.Query.Get("ft")}
	if !asked && !has["handle"] { // nobody's message has no direction
		for i := range m.Columns {
			if m.Columns[i].Means == "direction" {
				m.Columns[i].Means = ""
			}
		}
	}
	if m.Kind = record.Kind(p.Query.Get("as")); !asked {
		m.Kind = record.Likely(has["handle"], has["latitude"] && has["longitude"])
	}
}

// written is the file of the map as it is pointed at, with what an earlier one of the same database reads of other tables.
// An earlier one that says more than can be pointed at is left as it is.
func (m *maker) written(at string, made *store.OwnMap) (source string, err error) {
	out := &fieldmap.Map{Name: mapName(at), Version: 1, Path: literal(at), Tables: map[string][]string{}}
	if made != nil {
		old, err := fieldmap.Parse(at, []byte(made.Source))
		if err != nil || !fieldmap.Writes(old) {
			return made.Source, errors.New("the saved map says what pointing cannot, and would lose it: its file is below, to be changed by hand")
		}
		out.Version, out.Tables, out.Lookups = old.Version+1, old.Tables, old.Lookups
		for _, rd := range old.Readings {
			if rd.Table != m.Table {
				out.Readings = append(out.Readings, rd)
			}
		}
	}
	out.Tables[m.Table] = nil
	rd := fieldmap.Reading{Table: m.Table, Kind: m.Kind}
	var file fieldmap.Attachments
	for _, c := range m.Columns {
		out.Tables[m.Table] = append(out.Tables[m.Table], c.Name)
		part := &fieldmap.Part{Column: c.Name, JSON: c.JSON}
		if l, ok := pointed(m.Lookups, c.Lookup); ok && slices.Contains([]string{"conversation", "handle", "fact"}, c.Means) {
			part.Lookup = lookedUp(out, l)
		}
		switch c.Means {
		case "time":
			part.Epoch, rd.Time = c.Epoch, part
		case "handle":
			rd.Handle = part
		case "direction":
			part.Words = map[string]string{"0": "in", "1": "out"}
			if c.Out == "0" {
				part.Words = map[string]string{"0": "out", "1": "in"}
			} else if c.Out != "1" {
				part.Words = map[string]string{c.Out: "out"}
			}
			rd.Direction = part
		case "text":
			rd.Text = part
		case "conversation":
			rd.Conversation = part
		case "latitude", "longitude":
			if rd.Place == nil {
				rd.Place = &fieldmap.Position{}
			}
			if c.Means == "latitude" {
				rd.Place.Latitude = part
			} else {
				rd.Place.Longitude = part
			}
		case "path":
			file.Path = part
		case "name":
			file.Name = part
		case "type":
			file.Type = part
		case "data":
			file.Data = part
		case "fact":
			part.Epoch = c.Epoch
			rd.Facts = append(rd.Facts, fieldmap.Fact{Name: c.Name, Part: *part})
		}
	}
	if p := rd.Place; p != nil && (p.Latitude == nil || p.Longitude == nil) {
		rd.Place, err = nil, errors.New("a place needs a latitude and a longitude")
	}
	if file != (fieldmap.Attachments{}) {
		rd.Attachments = append(rd.Attachments, file)
	}
	if key, ok := pointed(m.Keys, m.Files.Key); ok {
		other := fieldmap.Attachments{Table: key.table, Key: key.column, Of: m.Files.Of}
		for _, x := range []struct {
			words string
			to    **fieldmap.Part
		}{{m.Files.Path, &other.Path}, {m.Files.Name, &other.Name}, {m.Files.Type, &other.Type}} {
			switch c, ok := pointed(m.Cells, x.words); {
			case ok && c.table != key.table:
				err = fmt.Errorf("the files are rows of %s, and %s is not of these", key.table, x.words)
			case ok:
				*x.to = &fieldmap.Part{Column: c.column}
			}
		}
		rd.Attachments = append(rd.Attachments, other)
	}
	out.Readings = append(out.Readings, rd)
	return fieldmap.Write(out), err
}

// lookedUp gives the name of a map's lookup, which it gets if it has none like it.
func lookedUp(m *fieldmap.Map, c choice) string {
	l := fieldmap.Lookup{Name: c.table + " " + c.value, Table: c.table, Key: c.column, Value: c.value}
	if !slices.ContainsFunc(m.Lookups, func(x fieldmap.Lookup) bool { return x.Name == l.Name }) {
		m.Lookups = append(m.Lookups, l)
	}
	return l.Name
}

// mapName is a name for the map of a database.
func mapName(at string) string {
	name := strings.TrimSuffix(path.Base(at), path.Ext(at))
	name = strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '_' {
			return r
		}
		return '-'
	}, name)
	return cmp.Or(name, "own")
}

// literal is the pattern that only a path itself matches.
func literal(at string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(at)
}

// checkedMap reads a map's file, and holds it against the database that it is for.
func checkedMap(at, source string, tables []*sqlitefile.Table) (*fieldmap.Map, error) {
	m, err := fieldmap.Parse(path.Base(at)+" map", []byte(source))
	if err != nil {
		return nil, err
	}
	if ok, _ := path.Match(m.Path, at); !ok {
		return nil, fmt.Errorf("its path %q is not of %s", m.Path, at)
	}
	return m, m.Check(tables)
}

// saveMap keeps a map that was made.
func (a pages) saveMap(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	all, err := a.Store.Databases(ctx, cs.ID, 0)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(d store.DatabaseOf) bool {
		return fmt.Sprintf("%d:%s", d.AcquisitionID, d.Path) == c.PostForm("db")
	})
	if i < 0 {
		return fmt.Errorf("database %q: %w", c.PostForm("db"), store.ErrNotFound)
	}
	own, err := a.Store.OwnMaps(ctx, cs.ID)
	if err != nil {
		return err
	}
	if _, may := mapped(&databaseLine{DatabaseOf: all[i]}, own); !may {
		return frame.Bad("the built-in field map %s reads %s", all[i].FieldMap, all[i].Path)
	}
	acq, err := a.Store.AcquisitionByID(ctx, all[i].AcquisitionID)
	if err != nil {
		return err
	}
	_, tables, err := a.Evidence.Columns(ctx, acq, all[i].Path, "", "", time.Time{}, time.Time{})
	if err != nil {
		return err
	}
	const mostMap = 1 << 20
	if n := len(c.PostForm("source")); n > mostMap {
		return frame.Bad("the field map has %d bytes, which none has", n)
	}
	m, err := checkedMap(all[i].Path, c.PostForm("source"), tables)
	var wrong *fieldmap.MapError
	if errors.As(err, &wrong) {
		return frame.Bad("the field map is not saved: %v", wrong)
	}
	if err != nil {
		return err
	}
	if err := a.Store.SaveOwnMap(ctx, cs, all[i].Path, m, frame.By(c)); err != nil {
		return err
	}
	a.Notice(c, "The field map %s is saved. The next pass over %s acquisition %d reads %s by it.", m.ID(), all[i].ExhibitRef, all[i].AcqNo, all[i].Path)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/recover?exhibit="+all[i].ExhibitRef)
	return nil
}
