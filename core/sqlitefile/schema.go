package sqlitefile

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Object is a row of the schema table (§2.6).
type Object struct {
	Type, Name, Table string
	Root              uint32
	SQL               string
}

// Affinity is the type affinity of a column ("Datatypes in SQLite" §3.1).
type Affinity byte

const (
	AffBlob Affinity = iota // also columns without a declared type
	AffText
	AffNumeric
	AffInteger
	AffReal
)

// Column is a column of a table as its CREATE TABLE text declares it.
type Column struct {
	Name string
	Type string // as declared, may be empty
	Affinity
	NotNull bool
	Default string // the literal after DEFAULT, "" if none
	Virtual bool   // a virtual generated column: nothing of it is stored
}

// Table is a table whose rows can be read.
type Table struct {
	Name         string
	Root         uint32
	SQL          string
	Columns      []Column
	RowIDColumn  int // the INTEGER PRIMARY KEY that stands for the row id, or -1
	WithoutRowID bool
	Strict       bool       // its columns hold values of their declared types only
	Unique       [][]string // columns of the constraints that make automatic indexes, in their order
	stored       []int      // for each value of a record, in order, its column
	encoding     Encoding
}

// Stored gives, for each value of a record of t in order, the index of the
// column it belongs to.
func (t *Table) Stored() []int { return t.stored }

// SetEncoding says in which encoding t's texts are stored; ParseTable does not
// know.
func (t *Table) SetEncoding(e Encoding) { t.encoding = e }

// Objects reads the schema table. Rows that cannot be read are skipped, and
// the first fault is returned beside what could be read.
func (f *File) Objects() ([]Object, error) {
	if f.adopted != nil {
		return f.adopted, nil
	}
	var out []Object
	master := &Table{Name: "sqlite_schema", Root: 1, RowIDColumn: -1}
	var fault error
	for row, err := range f.Rows(master) {
		if err != nil {
			fault = errors.Join(fault, err)
			continue
		}
		if v := row.Values; len(v) == 5 && v[3].Class() != Text && len(out) < maxObjects {
			s := func(i int) string { return v[i].String(f.Encoding) }
			root := uint32(0)
			if n := v[3].Int(); n > 0 && n <= int64(f.Pages) {
				root = uint32(n)
			}
			out = append(out, Object{s(0), s(1), s(2), root, s(4)})
		}
	}
	return out, fault
}

// maxObjects bounds the schema.
const maxObjects = 100000

// Tables returns the ordinary tables of the schema, in its order, and
// sqlite_schema itself first. A table whose text cannot be parsed is left out
// and named in the error, which comes beside what could be read.
func (f *File) Tables() ([]*Table, error) {
	objs, fault := f.Objects()
	schema, err := ParseTable("CREATE TABLE sqlite_schema(type TEXT, name TEXT, tbl_name TEXT, rootpage INTEGER, sql TEXT)")
	if err != nil {
		return nil, err
	}
	schema.Root = 1
	out := []*Table{schema}
	for _, o := range objs {
		if o.Type != "table" || o.Root == 0 && f.adopted == nil {
			continue // views and virtual tables have no rows of their own
		}
		t, err := ParseTable(o.SQL)
		if err != nil {
			fault = errors.Join(fault, fmt.Errorf("table %s: %w", o.Name, err))
			continue
		}
		t.Name, t.Root, t.encoding = o.Name, o.Root, f.Encoding
		out = append(out, t)
	}
	return out, fault
}

// ParseTable reads a CREATE TABLE statement.
func ParseTable(sql string) (*Table, error) {
	l := &lexer{s: sql}
	t := &Table{SQL: sql, RowIDColumn: -1}
	for !l.is("TABLE") {
		if l.next(); l.tok == "" {
			return nil, errors.New("not a CREATE TABLE statement")
		}
	}
	l.next()
	if l.is("IF") {
		l.next()
		l.next()
		l.next()
	}
	t.Name = l.name()
	l.next()
	if l.tok != "(" {
		return nil, fmt.Errorf("no column list where %q stands", l.tok)
	}
	l.next()
	var key []string
	for l.tok != ")" {
		if l.tok == "" {
			return nil, errors.New("the column list does not end")
		}
		if l.is("CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN") && !l.quoted {
			if l.is("CONSTRAINT") {
				l.next()
				l.next()
			}
			if l.is("PRIMARY") {
				l.next()
				l.next()
				key = l.names()
				t.Unique = append(t.Unique, key)
			} else if l.is("UNIQUE") {
				l.next()
				t.Unique = append(t.Unique, l.names())
			}
			l.skip()
		} else {
			key = append(key, t.column(l)...)
		}
		if l.tok == "," {
			l.next()
		}
	}
	for l.next(); l.tok != ""; l.next() {
		if l.is("WITHOUT") {
			t.WithoutRowID = true
		}
		t.Strict = t.Strict || l.is("STRICT")
	}
	if len(t.Columns) == 0 || len(t.Columns) > maxColumns {
		return nil, fmt.Errorf("%d columns", len(t.Columns))
	}
	t.layOut(key)
	return t, nil
}

// Index is an index as its CREATE INDEX text declares it.
type Index struct {
	Table   string
	Columns []string // "" for an expression
}

// ParseIndex reads a CREATE INDEX statement.
func ParseIndex(sql string) (*Index, error) {
	l := &lexer{s: sql}
	for !l.is("ON") {
		if l.next(); l.tok == "" {
			return nil, errors.New("not a CREATE INDEX statement")
		}
	}
	l.next()
	ix := &Index{Table: l.name()}
	l.next()
	if l.tok != "(" {
		return nil, fmt.Errorf("no column list where %q stands", l.tok)
	}
	for l.next(); l.tok != "" && l.tok != ")"; {
		name, plain := l.name(), true
		for l.next(); l.tok != "" && l.tok != "," && l.tok != ")"; {
			plain = plain && l.is("ASC", "DESC", "COLLATE")
			if l.is("COLLATE") {
				l.next()
			}
			if l.tok == "(" {
				plain = false
				l.group()
			} else {
				l.next()
			}
		}
		if !plain {
			name = ""
		}
		ix.Columns = append(ix.Columns, name)
		if l.tok == "," {
			l.next()
		}
	}
	if len(ix.Columns) == 0 {
		return nil, errors.New("an index of no columns")
	}
	return ix, nil
}

// column reads one column definition, and returns its name if it says PRIMARY
// KEY itself.
func (t *Table) column(l *lexer) (key []string) {
	c := Column{Name: l.name()}
	l.next()
	var typ []string
	for l.tok != "" && l.tok != "," && l.tok != ")" && !l.is(columnWords...) {
		if l.tok == "(" {
			typ = append(typ, l.group())
			continue
		}
		typ = append(typ, l.name())
		l.next()
	}
	c.Type = strings.Join(typ, " ")
	c.Affinity = affinity(c.Type)
	for l.tok != "" && l.tok != "," && l.tok != ")" {
		switch {
		case l.is("PRIMARY"):
			key = []string{c.Name}
			t.Unique = append(t.Unique, key)
			l.next()
			l.next()
			if l.is("DESC") {
				key[0] += "\x00desc" // "INTEGER PRIMARY KEY DESC" is not an alias of the row id
			}
		case l.is("UNIQUE"):
			t.Unique = append(t.Unique, []string{c.Name})
			l.next()
		case l.is("NOT"):
			c.NotNull = true
			l.next()
			l.next()
		case l.is("DEFAULT"):
			l.next()
			c.Default = l.tok
			if l.quoted {
				c.Default = "'" + l.tok
			}
			if l.tok == "-" || l.tok == "+" {
				sign := l.tok
				l.next()
				c.Default = sign + l.tok
			}
			if l.tok == "(" {
				c.Default = ""
				l.group()
			} else {
				l.next()
			}
		case l.is("AS"):
			c.Virtual = true
			l.next()
		case l.is("STORED"):
			c.Virtual = false
			l.next()
		case l.tok == "(":
			l.group()
		default:
			l.next()
		}
	}
	t.Columns = append(t.Columns, c)
	return key
}

var columnWords = []string{"CONSTRAINT", "PRIMARY", "NOT", "NULL", "UNIQUE", "CHECK", "DEFAULT", "COLLATE", "REFERENCES", "GENERATED", "AS"}

// layOut works out which column each stored value belongs to (§2.3, §2.4).
func (t *Table) layOut(key []string) {
	index := func(name string) int {
		for i, c := range t.Columns {
			if strings.EqualFold(c.Name, strings.TrimSuffix(name, "\x00desc")) {
				return i
			}
		}
		return -1
	}
	taken := map[int]bool{}
	if t.WithoutRowID {
		for _, k := range key {
			if i := index(k); i >= 0 && !taken[i] {
				taken[i] = true
				t.stored = append(t.stored, i)
				t.Columns[i].NotNull = true // "The WITHOUT ROWID Optimization" §2
			}
		}
	} else if len(key) == 1 && !strings.HasSuffix(key[0], "\x00desc") {
		if i := index(key[0]); i >= 0 && strings.EqualFold(t.Columns[i].Type, "INTEGER") {
			t.RowIDColumn = i
			t.Unique = slices.DeleteFunc(t.Unique, func(u []string) bool { return len(u) == 1 && index(u[0]) == i })
		}
	}
	for i, c := range t.Columns {
		if !taken[i] && !c.Virtual {
			t.stored = append(t.stored, i)
		}
	}
}

// affinity applies the rules of "Datatypes in SQLite" §3.1 in their order.
func affinity(decl string) Affinity {
	d := strings.ToUpper(decl)
	has := func(ws ...string) bool {
		for _, w := range ws {
			if strings.Contains(d, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("INT"):
		return AffInteger
	case has("CHAR", "CLOB", "TEXT"):
		return AffText
	case d == "" || has("BLOB"):
		return AffBlob
	case has("REAL", "FLOA", "DOUB"):
		return AffReal
	}
	return AffNumeric
}

// defaultValue is the value that a column added later has in rows from before
// (§2.1: "records with fewer values than the table has columns").
func (c Column) defaultValue(e Encoding) Value {
	d := c.Default
	s, quoted := strings.CutPrefix(d, "'")
	if quoted || d != "" && c.Affinity == AffText {
		b := encodeText(s, e)
		return Value{Type: SerialType(13 + 2*len(b)), b: b, At: -1}
	}
	if n, err := strconv.ParseInt(d, 0, 64); err == nil {
		return IntValue(n)
	}
	if x, err := strconv.ParseFloat(d, 64); err == nil && d != "" {
		return Value{Type: 7, num: int64(math.Float64bits(x)), At: -1}
	}
	return Value{At: -1}
}

// lexer splits SQL into tokens.
type lexer struct {
	s      string
	i      int
	tok    string // "" at the end
	quoted bool
}

func (l *lexer) is(words ...string) bool {
	if l.quoted {
		return false
	}
	for _, w := range words {
		if strings.EqualFold(l.tok, w) {
			return true
		}
	}
	return false
}

func (l *lexer) name() string { return l.tok }

func (l *lexer) next() {
	l.tok, l.quoted = "", false
	for l.i < len(l.s) {
		c, rest := l.s[l.i], l.s[l.i:]
		switch {
		case c <= ' ':
			l.i++
		case strings.HasPrefix(rest, "--"):
			l.i += cutLen(rest, "\n")
		case strings.HasPrefix(rest, "/*"):
			l.i += cutLen(rest, "*/")
		case strings.IndexByte("'\"`[", c) >= 0:
			l.quote(c)
			return
		case wordByte(c):
			n := 1
			for n < len(rest) && wordByte(rest[n]) {
				n++
			}
			l.tok, l.i = rest[:n], l.i+n
			return
		default:
			l.tok, l.i = rest[:1], l.i+1
			return
		}
	}
}

func (l *lexer) quote(open byte) {
	end := open
	if open == '[' {
		end = ']'
	}
	var b strings.Builder
	i := l.i + 1
	for ; i < len(l.s); i++ {
		if l.s[i] == end {
			if end == ']' || i+1 == len(l.s) || l.s[i+1] != end {
				break
			}
			i++
		}
		b.WriteByte(l.s[i])
	}
	l.i, l.tok, l.quoted = min(i+1, len(l.s)), b.String(), true
	if l.tok == "" {
		l.tok = "\x00" // an empty name is not the end of the text
	}
}

func cutLen(s, end string) int {
	if i := strings.Index(s, end); i >= 0 {
		return i + len(end)
	}
	return len(s)
}

func wordByte(c byte) bool {
	return c == '_' || c == '$' || c == '.' || c >= 0x80 || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}

// group passes over a bracketed group and returns its text.
func (l *lexer) group() string {
	from, depth := l.i-1, 0
	for l.tok != "" {
		if !l.quoted && l.tok == "(" {
			depth++
		} else if !l.quoted && l.tok == ")" {
			depth--
		}
		end := l.i
		l.next()
		if depth == 0 {
			return l.s[from:end]
		}
	}
	return ""
}

// names reads a bracketed list of column names.
func (l *lexer) names() (out []string) {
	if l.tok != "(" {
		return nil
	}
	for l.next(); l.tok != "" && l.tok != ")"; {
		out = append(out, l.name())
		for l.next(); l.tok != "" && l.tok != "," && l.tok != ")"; {
			if l.tok == "(" {
				l.group()
			} else {
				l.next()
			}
		}
		if l.tok == "," {
			l.next()
		}
	}
	l.next()
	return out
}

// skip goes to the next comma or closing bracket at this level.
func (l *lexer) skip() {
	for l.tok != "" && l.tok != "," && l.tok != ")" || l.quoted {
		if l.tok == "(" && !l.quoted {
			l.group()
		} else {
			l.next()
		}
	}
}
