package validate

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf16"

	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"

	_ "modernc.org/sqlite" // the library that makes the databases
)

// layout is a form that a reference database has.
type layout struct {
	page     int
	encoding string
	journal  string
	vacuum   bool
}

func (l layout) String() string {
	s := fmt.Sprintf("pages of %d bytes, %s, %s", l.page, l.encoding, strings.ToLower(l.journal))
	if l.vacuum {
		s += ", auto_vacuum"
	}
	return s
}

// layouts are all forms: the sizes, encodings and journals that handsets' apps use.
func layouts() (out []layout) {
	for _, page := range []int{1024, 4096} {
		for _, encoding := range []string{"UTF-8", "UTF-16le"} {
			for _, journal := range []string{"DELETE", "PERSIST", "WAL"} {
				for _, vacuum := range []bool{false, true} {
					out = append(out, layout{page, encoding, journal, vacuum})
				}
			}
		}
	}
	return out
}

// What databases are known to hold.
const (
	liveRows = "live rows, read as SQL gives them"
	oldRows  = "old rows whose text is still in the files"
)

// databases makes databases of all forms by the library that apps write with.
func databases(ctx context.Context, s *Set, dir string, seed uint64) error {
	s.Library = library("modernc.org/sqlite")
	for i, l := range layouts() {
		if err := ctx.Err(); err != nil {
			return err
		}
		life, err := l.live(ctx, dir, seed+uint64(i))
		if err == nil {
			err = s.read(l, life)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", l, err)
		}
		s.Made++
	}
	return nil
}

// life is a reference database at its end: its files, and every row that SQL ever gave, by table and by the text that no other
// row has.
type life struct {
	main, log, journal []byte
	encoding           string
	ever               map[string]map[string]*version
	alive              map[string]map[string]*version
}

// version is a row as SQL gave it.
type version struct {
	id     int64
	values []any
}

// The tables, each with a text in its column token that no other row ever has, and how they are filled.
const schema = `CREATE TABLE said(id INTEGER PRIMARY KEY AUTOINCREMENT, talk INTEGER NOT NULL, peer TEXT, at INTEGER NOT NULL, token TEXT, seen INTEGER);
CREATE INDEX said_at ON said(at);
CREATE TABLE rung(id INTEGER PRIMARY KEY, number TEXT NOT NULL, began REAL, secs INTEGER, token TEXT);
CREATE TABLE card(id INTEGER PRIMARY KEY, token TEXT NOT NULL, note TEXT, face BLOB)`

var tables = []string{"said", "rung", "card"}

// transactions is how often a life is changed.
const transactions = 30

// live makes a database, and changes it as an app does.
func (l layout) live(ctx context.Context, dir string, seed uint64) (*life, error) {
	path := filepath.Join(dir, fmt.Sprintf("%d.db", seed))
	db, err := sql.Open("sqlite", path)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	vacuum := 0
	if l.vacuum {
		vacuum = 1
	}
	for _, q := range []string{fmt.Sprintf("PRAGMA page_size=%d", l.page), "PRAGMA encoding='" + l.encoding + "'", fmt.Sprintf("PRAGMA auto_vacuum=%d", vacuum), "PRAGMA secure_delete=OFF",
		"PRAGMA journal_mode=" + l.journal, "PRAGMA wal_autocheckpoint=12", schema} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return nil, err
		}
	}
	x := &life{encoding: l.encoding, ever: map[string]map[string]*version{}}
	r := rand.New(rand.NewPCG(seed, 1))
	at := int64(1_700_000_000_000)
	for range transactions {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return nil, err
		}
		for _, change := range []func(context.Context, *sql.Tx, *rand.Rand, *int64) error{write, change} {
			if err := change(ctx, tx, r, &at); err != nil {
				return nil, err
			}
			if err := x.see(ctx, tx); err != nil { // before what was just written is deleted, too
				return nil, err
			}
		}
		if err := tx.Commit(); err != nil {
			return nil, err
		}
	}
	// As they lie while the app runs: closing would take the log away.
	for to, name := range map[*[]byte]string{&x.main: path, &x.log: path + "-wal", &x.journal: path + "-journal"} {
		if *to, err = os.ReadFile(name); err != nil && !os.IsNotExist(err) {
			return nil, err
		}
	}
	return x, nil
}

const letters = "abcdefghijklmnoprstuvw äøé"

// said is a text that no other row has.
func said(r *rand.Rand) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%08x ", r.Uint32())
	for range 6 + r.IntN(70) {
		b.WriteRune([]rune(letters)[r.IntN(len([]rune(letters)))])
	}
	return b.String()
}

// write writes some rows.
func write(ctx context.Context, tx *sql.Tx, r *rand.Rand, at *int64) (err error) {
	exec := func(q string, args ...any) {
		if err == nil {
			_, err = tx.ExecContext(ctx, q, args...)
		}
	}
	peer := func() string { return fmt.Sprintf("+44 7700 9%05d", r.IntN(200)) }
	for range 4 + r.IntN(24) {
		*at += int64(r.IntN(9_000_000))
		exec("INSERT INTO said(talk, peer, at, token, seen) VALUES (?, ?, ?, ?, ?)", r.IntN(9), peer(), *at, said(r), r.IntN(2))
	}
	for range r.IntN(8) {
		exec("INSERT INTO rung(number, began, secs, token) VALUES (?, ?, ?, ?)", peer(), float64(*at)/1000+r.Float64(), r.IntN(900), said(r))
	}
	for range r.IntN(3) {
		var note any
		if r.IntN(2) == 0 {
			note = "note " + said(r)[:8]
		}
		exec("INSERT INTO card(token, note, face) VALUES (?, ?, zeroblob(?))", said(r), note, r.IntN(40))
	}
	return err
}

// change deletes or changes some rows.
func change(ctx context.Context, tx *sql.Tx, r *rand.Rand, _ *int64) error {
	q, args := "DELETE FROM said WHERE talk = ?", []any{r.IntN(9)}
	switch r.IntN(6) {
	case 1:
		q, args = "DELETE FROM said WHERE id % ? = ?", []any{7 + r.IntN(9), r.IntN(7)}
	case 2:
		q, args = "DELETE FROM said WHERE id > (SELECT max(id) - ? FROM said)", []any{r.IntN(20)}
	case 3:
		q, args = "DELETE FROM rung WHERE id % 3 = ?", []any{r.IntN(3)}
	case 4:
		q, args = "UPDATE said SET token = substr(token, 9) || substr(token, 1, 8), seen = 1 WHERE id % ? = 0", []any{11 + r.IntN(9)}
	case 5:
		q, args = "DELETE FROM card WHERE id % 4 = ?", []any{r.IntN(4)}
	}
	_, err := tx.ExecContext(ctx, q, args...)
	return err
}

// see keeps all rows as SQL gives them now.
func (x *life) see(ctx context.Context, db *sql.Tx) error {
	x.alive = map[string]map[string]*version{}
	for _, table := range tables {
		if x.ever[table] == nil {
			x.ever[table] = map[string]*version{}
		}
		x.alive[table] = map[string]*version{}
		rows, err := db.QueryContext(ctx, "SELECT * FROM "+table)
		if err != nil {
			return err
		}
		names, err := rows.Columns()
		if err != nil {
			return err
		}
		for rows.Next() {
			v := &version{values: make([]any, len(names))}
			to := make([]any, len(names))
			for i := range to {
				to[i] = &v.values[i]
			}
			if err := rows.Scan(to...); err != nil {
				return err
			}
			v.id, _ = v.values[0].(int64)
			for i, name := range names {
				if name == "token" {
					s, _ := v.values[i].(string)
					x.alive[table][s], x.ever[table][s] = v, v
				}
			}
		}
		if err := rows.Close(); err != nil {
			return err
		}
	}
	return nil
}

// holds reports whether a text lies in one of the files.
func (x *life) holds(text string) bool {
	b := []byte(text)
	if x.encoding == "UTF-16le" {
		b = nil
		for _, u := range utf16.Encode([]rune(text)) {
			b = append(b, byte(u), byte(u>>8))
		}
	}
	return bytes.Contains(x.main, b) || bytes.Contains(x.log, b) || bytes.Contains(x.journal, b)
}

// read reads a database by the code that reads evidence, and compares with what SQL said.
func (s *Set) read(l layout, x *life) error {
	db, err := sqlitefile.Open(bytes.NewReader(x.main), int64(len(x.main)))
	if err == nil {
		err = db.OpenLog(bytes.NewReader(x.log), int64(len(x.log)))
	}
	if err == nil {
		err = db.OpenJournal(bytes.NewReader(x.journal), int64(len(x.journal)))
	}
	if err != nil {
		return err
	}
	live, back := map[string]map[string]bool{}, map[string]map[string]bool{}
	for _, t := range tables {
		live[t], back[t] = map[string]bool{}, map[string]bool{}
	}
	for row, err := range salvage.New(db).Rows(salvage.Options{Live: true, Full: true}) {
		if err != nil {
			return err
		}
		if row.Table != nil && x.ever[row.Table.Name] == nil { // the schema, and the counters of the library
			continue
		}
		if row.Live {
			if token, fits := x.fits(row, db.Encoding, x.alive); fits && token != "" && row.HasRowID && x.alive[row.Table.Name][token].id == row.RowID {
				live[row.Table.Name][token] = true
			}
			continue
		}
		token, fits := x.fits(row, db.Encoding, x.ever)
		if row.Table != nil && token != "" {
			back[row.Table.Name][token] = true
		}
		table := "no table"
		if row.Table != nil {
			table = row.Table.Name
		}
		what := fmt.Sprintf("%s: %s, page %d, offset %d, confidence %.2f", l, table, row.Page, row.Offset, row.Confidence)
		s.say(record.PlaceWords(record.Recovered, string(row.Origin)), fits, what)
	}
	for _, t := range tables {
		for token := range x.alive[t] {
			s.count(liveRows, true, live[t][token])
		}
		for token := range x.ever[t] {
			if x.alive[t][token] == nil && x.holds(token) {
				s.count(oldRows, false, back[t][token])
			}
		}
	}
	return nil
}

// fits reports whether all that survives of a row was once so in one row of its table, and gives its token if that survives.
func (x *life) fits(row *salvage.Row, enc sqlitefile.Encoding, among map[string]map[string]*version) (token string, ok bool) {
	if row.Table == nil {
		return "", false
	}
	of := among[row.Table.Name]
	for i, c := range row.Table.Columns {
		if c.Name == "token" && i < len(row.Values) && !row.Lost[i] {
			s := row.Values[i].String(enc)
			v := of[s]
			return s, v != nil && v.is(row, enc)
		}
	}
	for _, v := range of {
		if v.is(row, enc) {
			return "", true
		}
	}
	return "", false
}

// is reports whether nothing that survives of a row is otherwise in v.
func (v *version) is(row *salvage.Row, enc sqlitefile.Encoding) bool {
	if row.HasRowID && row.RowID != v.id || len(row.Values) > len(v.values) {
		return false
	}
	for i, x := range row.Values {
		if i != row.Table.RowIDColumn && !row.Lost[i] && !same(x, v.values[i], enc) {
			return false
		}
		if i != row.Table.RowIDColumn && row.Lost[i] && x.Class() == sqlitefile.Text { // what survives of a text is its beginning
			s, _ := v.values[i].(string)
			if part := strings.TrimRight(x.String(enc), "\ufffd"); !strings.HasPrefix(s, part) {
				return false
			}
		}
	}
	return true
}

// same reports whether a value that was read is one that SQL gave.
func same(v sqlitefile.Value, x any, enc sqlitefile.Encoding) bool {
	switch x := x.(type) {
	case nil:
		return v.Class() == sqlitefile.Null
	case int64:
		return v.Class() == sqlitefile.Integer && v.Int() == x
	case float64: // a whole number is stored as one
		return v.Class() == sqlitefile.Real && math.Float64bits(v.Float()) == math.Float64bits(x) || v.Class() == sqlitefile.Integer && float64(v.Int()) == x
	case string:
		return v.Class() == sqlitefile.Text && v.String(enc) == x
	case []byte:
		return v.Class() == sqlitefile.Blob && bytes.Equal(v.Bytes(), x)
	}
	return false
}
