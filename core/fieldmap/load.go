package fieldmap

import (
	"cmp"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"crosswind/core/record"
	"crosswind/core/sqlitefile"
)

//go:embed maps/*.toml
var files embed.FS

// Maps are the maps in use: the built-in ones, for the apps of the handset families Orlop
// and Tarn, whose layouts are described in docs/formats.md, and before them those that
// Add adds. Contacts come first, so that their names are known when the others are read.
var Maps = inOrder(builtin())

// Add puts maps of the laboratory's own before those in use. It is called before anything
// is read.
func Add(own ...*Map) { Maps = With(own...) }

// With gives the maps in use with others before them.
func With(own ...*Map) []*Map { return inOrder(slices.Concat(own, Maps)) }

func builtin() (maps []*Map) {
	entries, err := files.ReadDir("maps")
	if err != nil {
		panic(err)
	}
	for _, e := range entries {
		b, err := files.ReadFile("maps/" + e.Name())
		if err != nil {
			panic(err)
		}
		m, err := Parse(e.Name(), b)
		if err != nil {
			panic(err)
		}
		maps = append(maps, m)
	}
	return maps
}

func inOrder(maps []*Map) []*Map {
	slices.SortStableFunc(maps, func(a, b *Map) int { return cmp.Compare(a.namesLast(), b.namesLast()) })
	return maps
}

func (m *Map) namesLast() int {
	if slices.ContainsFunc(m.Readings, func(r Reading) bool { return r.Kind.Card() }) {
		return 0
	}
	return 1
}

// A MapError is what is wrong with a field map's file.
type MapError struct {
	File   string
	Line   int // from 1, 0 if it is not known
	Reason string
}

func (e *MapError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("fieldmap: %s: %s", e.File, e.Reason)
	}
	return fmt.Sprintf("fieldmap: %s, line %d: %s", e.File, e.Line, e.Reason)
}

// Parse reads a field map, in the TOML form of docs/fieldmaps.md. name is its file's, for
// errors, all of which are *MapError.
func Parse(name string, b []byte) (*Map, error) {
	m := &Map{file: name, source: string(b)}
	sum := sha256.Sum256(b)
	m.SHA256 = hex.EncodeToString(sum[:])
	d := toml.NewDecoder(strings.NewReader(m.source)).DisallowUnknownFields()
	if err := d.Decode(m); err != nil {
		var syntax *toml.DecodeError
		var unknown *toml.StrictMissingError
		switch {
		case errors.As(err, &unknown):
			line, _ := unknown.Errors[0].Position()
			return nil, &MapError{name, line, fmt.Sprintf("%q is not a part of a map", strings.Join(unknown.Errors[0].Key(), "."))}
		case errors.As(err, &syntax):
			line, _ := syntax.Position()
			return nil, &MapError{name, line, strings.TrimPrefix(syntax.Error(), "toml: ")}
		}
		return nil, &MapError{name, 0, err.Error()}
	}
	return m, m.ready()
}

// fault says what is wrong, at the first line from the n-th of the sections on that holds
// word between quotes, or else at the section itself.
func (m *Map) fault(section string, n int, word, format string, args ...any) error {
	at, seen := 0, -1
	for i, line := range strings.Split(m.source, "\n") {
		line = strings.TrimSpace(line)
		if section != "" && strings.HasPrefix(line, section) {
			if seen++; seen == n {
				at = i + 1
			}
			if seen > n {
				break
			}
		}
		if (section == "" || seen == n) && word != "" && (strings.Contains(line, `"`+word+`"`) || strings.Contains(line, "'"+word+"'")) {
			at = i + 1
			break
		}
	}
	return &MapError{m.file, at, fmt.Sprintf(format, args...)}
}

// ready checks what the form does not, and gives words their meanings.
func (m *Map) ready() error {
	switch {
	case m.Name == "":
		return m.fault("", 0, "", "the map has no name")
	case m.Version < 1:
		return m.fault("", 0, "", "the map has no version, a number from 1 on")
	case m.Path == "":
		return m.fault("", 0, "", "the map does not say the path of its database")
	case len(m.Readings) == 0:
		return m.fault("", 0, "", "the map reads no table")
	}
	if _, err := path.Match(m.Path, ""); err != nil {
		return m.fault("", 0, m.Path, "the path %q is not a pattern", m.Path)
	}
	for i, l := range m.Lookups {
		if l.Name == "" || l.Table == "" || l.Key == "" || l.Value == "" {
			return m.fault("[[lookup]]", i, "", "a lookup needs name, table, key and value")
		}
		if slices.ContainsFunc(m.Lookups[:i], func(o Lookup) bool { return o.Name == l.Name }) {
			return m.fault("[[lookup]]", i, l.Name, "two lookups have the name %q", l.Name)
		}
	}
	for i := range m.Readings {
		if err := m.readyReading(i); err != nil {
			return err
		}
	}
	return m.readyBackups()
}

// readyReading does the same for the i-th reading.
func (m *Map) readyReading(i int) error {
	const section = "[[reading]]"
	rd := &m.Readings[i]
	if rd.Table == "" {
		return m.fault(section, i, "", "the reading does not say of which table")
	}
	if !rd.Kind.Known() {
		return m.fault(section, i, string(rd.Kind), "%q is not a kind of record", rd.Kind)
	}
	if rd.State = cmp.Or(rd.State, record.Intact); rd.State != record.Intact && rd.State != record.Held {
		return m.fault(section, i, string(rd.State), "a live row is %q or %q, not %q", record.Intact, record.Held, rd.State)
	}
	if says := rd.Kind.About().Says; rd.Text == nil && (len(says) == 0 || len(rd.Facts)+len(rd.Attachments) == 0 && rd.Place == nil) {
		return m.fault(section, i, "", "the reading does not say where its text is")
	}
	if rd.Where != nil && (rd.Where.Column == "" || len(rd.Where.Is) == 0) {
		return m.fault(section, i, "", "a condition needs a column, and the values that it is one of")
	}
	for what, p := range rd.parts() {
		if p.Column == "" {
			return m.fault(section, i, "", "%s does not say its column", what)
		}
		for _, k := range p.keys() {
			if !slices.Contains(strings.Fields(takes[what]), k) {
				return m.fault(section, i, p.Column, "%s cannot have %q", what, k)
			}
		}
		if p.Epoch == "" && strings.HasPrefix(what, "time") {
			return m.fault(section, i, p.Column, "%s does not say from when on and in what it counts", what)
		}
		if p.Epoch != "" && p.Unit != "" || p.Epoch != "" && p.Words != nil || p.Unit != "" && p.Words != nil {
			return m.fault(section, i, p.Column, "%s is a time, a number of a unit, or has words, not two of these", what)
		}
		if p.Epoch != "" {
			var ok bool
			if p.epoch, ok = ParseEpoch(p.Epoch); !ok {
				return m.fault(section, i, p.Epoch, "%q is not an epoch", p.Epoch)
			}
		}
		if p.Unit != "" {
			u, ok := measures[p.Unit]
			if !ok {
				return m.fault(section, i, p.Unit, "%q is not a unit", p.Unit)
			}
			p.unit, p.per = u.unit, u.per
		} else if what == "place" {
			p.per = 1
		}
		if p.Per != 0 {
			if p.per *= p.Per; p.per <= 0 {
				return m.fault(section, i, p.Column, "%s: per is how many make one of a unit, a number above 0", what)
			}
		}
		if p.Lookup != "" && !slices.ContainsFunc(m.Lookups, func(l Lookup) bool { return l.Name == p.Lookup }) {
			return m.fault(section, i, p.Lookup, "there is no lookup of the name %q", p.Lookup)
		}
		if p.JSON != "" {
			if _, err := jsonPath(p.JSON); err != nil {
				return m.fault(section, i, p.JSON, "%v", err)
			}
		}
		if o := p.Instead; o != nil {
			if o.Column == "" || len(o.Words) == 0 {
				return m.fault(section, i, "", "what stands instead of %s needs a column, and words", what)
			}
			for _, k := range o.keys() {
				if !slices.Contains(strings.Fields(takes["instead"]), k) {
					return m.fault(section, i, o.Column, "what stands instead of %s cannot have %q", what, k)
				}
			}
		}
		for _, w := range p.Words {
			if what == "direction" && w != "in" && w != "out" {
				return m.fault(section, i, w, "a direction is \"in\" or \"out\", not %q", w)
			}
		}
		if what == "direction" && p.Words == nil {
			return m.fault(section, i, "", "a direction needs words that say what is \"in\" and what \"out\"")
		}
	}
	roles := []string{rd.Kind.About().Time}
	for _, t := range rd.Times {
		switch {
		case !slices.Contains(record.Roles, t.Role):
			return m.fault(section, i, t.Column, "%q is not the role of a time, which is one of %s", t.Role, strings.Join(record.Roles, ", "))
		case slices.Contains(roles, t.Role):
			return m.fault(section, i, t.Column, "there are two times of the role %q", t.Role)
		}
		roles = append(roles, t.Role)
	}
	return m.readyLists(i)
}

// readyLists does the same for the lists of the i-th reading.
func (m *Map) readyLists(i int) error {
	const section = "[[reading]]"
	rd := &m.Readings[i]
	for k, f := range rd.Facts {
		if f.Name == "" {
			return m.fault(section, i, f.Column, "the %d. of the facts has no name", k+1)
		}
		if unit, known := record.UnitOf(f.Name); known && unit != f.unit {
			return m.fault(section, i, f.Column, "a fact of the name %q is told in %q, and so needs a unit of that", f.Name, cmp.Or(string(unit), "words"))
		}
	}
	for _, p := range rd.Parties {
		if !slices.Contains(record.PartyRoles, p.Role) {
			return m.fault(section, i, p.Column, "%q is not the role of a party, which is one of %s", p.Role, strings.Join(record.PartyRoles, ", "))
		}
	}
	if len(rd.handles()) > 0 && rd.Kind.About().Nobody { // the gate goes by it
		return m.fault(section, i, rd.handles()[0].Column, "records of the kind %q name nobody", rd.Kind)
	}
	if p := rd.Place; p != nil && (p.Latitude == nil || p.Longitude == nil) {
		return m.fault(section, i, "", "a place needs latitude and longitude")
	}
	for k, a := range rd.Attachments {
		if (a.Table == "") != (a.Key == "") || (a.Table == "") != (a.Of == "") {
			return m.fault(section, i, cmp.Or(a.Table, a.Key, a.Of), "the %d. of the attachments needs table, key and of, or none of these if the row itself names it", k+1)
		}
		if a.Name == nil && a.Path == nil && a.Type == nil && a.Data == nil {
			return m.fault(section, i, a.Table, "the %d. of the attachments needs a name, a path, a type or data", k+1)
		}
		if a.Data != nil && (a.Table != "" || a.Path != nil) {
			return m.fault(section, i, a.Data.Column, "the %d. of the attachments has data, and so neither a table nor a path", k+1)
		}
	}
	return nil
}

// Check compares the map with a database's tables: what it names must be there.
func (m *Map) Check(tables []*sqlitefile.Table) error {
	table := func(name string) *sqlitefile.Table {
		i := slices.IndexFunc(tables, func(t *sqlitefile.Table) bool { return t.Name == name })
		if i < 0 {
			return nil
		}
		return tables[i]
	}
	need := func(section string, n int, of, column string) error {
		t := table(of)
		if t == nil {
			return m.fault(section, n, of, "there is no table %q", of)
		}
		if column != "" && !slices.ContainsFunc(t.Columns, func(c sqlitefile.Column) bool { return c.Name == column }) {
			return m.fault(section, n, column, "the table %q has no column %q", of, column)
		}
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(m.Tables)) {
		for _, c := range append([]string{""}, m.Tables[name]...) {
			if err := need("[tables]", 0, name, c); err != nil {
				return err
			}
		}
	}
	for i, l := range m.Lookups {
		for _, c := range []string{l.Key, l.Value} {
			if err := need("[[lookup]]", i, l.Table, c); err != nil {
				return err
			}
		}
	}
	for i := range m.Readings {
		for _, c := range m.Readings[i].columns() {
			if err := need("[[reading]]", i, m.Readings[i].Table, c); err != nil {
				return err
			}
		}
		for _, a := range m.Readings[i].Attachments {
			if a.Table == "" {
				continue
			}
			names := []string{a.Key}
			for _, p := range a.parts() {
				if p != nil {
					names = append(names, p.Column)
				}
			}
			for _, c := range names {
				if err := need("[[reading]]", i, a.Table, c); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// For finds the map in use for a database by its path on the handset, that of the latest
// layout if there are several.
func For(path string) *Map { return Choose(Maps, path, nil) }

// ByTables finds the map for a database of which nothing is known but its tables: all that
// the map tells its layout by must be there.
func ByTables(maps []*Map, tables []*sqlitefile.Table) (best *Map) {
	for _, m := range maps {
		if len(m.Tables) > 0 && (best == nil || m.Version > best.Version && m.Name == best.Name) && m.fits(tables) == m.named() {
			best = m
		}
	}
	return best
}

// named is how many columns the layout is told by.
func (m *Map) named() (n int) {
	for _, columns := range m.Tables {
		n += len(columns)
	}
	return n
}

// fits is how many of these are there.
func (m *Map) fits(tables []*sqlitefile.Table) (n int) {
	for _, t := range tables {
		for _, c := range m.Tables[t.Name] {
			if slices.ContainsFunc(t.Columns, func(o sqlitefile.Column) bool { return o.Name == c }) {
				n++
			}
		}
	}
	return n
}

// ByID finds the map in use of an ID, nil if there is none.
func ByID(id string) *Map {
	i := slices.IndexFunc(Maps, func(m *Map) bool { return m.ID() == id })
	if i < 0 {
		return nil
	}
	return Maps[i]
}

// Choose finds the map for a database by its path on the handset, and of several layouts
// that of which most tables and columns are there. A table that was dropped does not keep
// its rows from being read.
func Choose(maps []*Map, at string, tables []*sqlitefile.Table) (best *Map) {
	fits := -1
	for _, m := range maps {
		if ok, _ := path.Match(m.Path, at); !ok {
			continue
		}
		if n := m.fits(tables); n > fits || n == fits && m.Version > best.Version {
			best, fits = m, n
		}
	}
	return best
}
