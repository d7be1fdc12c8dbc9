package fieldmap

import (
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"crosswind/core/salvage"

	_ "modernc.org/sqlite" // the database in memory
)

// joins is a database in memory that holds the rows of the lookup tables, recovered
// ones beside live ones, so that a row finds its people and its conversation even
// when those were deleted, too.
type joins struct {
	db    *sql.DB
	query map[string]*sql.Stmt // by table
	known map[[2]string]string // answers, since many rows ask the same
}

// join reads the lookup tables into memory.
func (m *Map) join(s *salvage.Survey, opt salvage.Options) (j *joins, err error) {
	j = &joins{query: map[string]*sql.Stmt{}, known: map[[2]string]string{}}
	if len(m.Lookups) == 0 {
		return j, nil
	}
	fail := func(err error) (*joins, error) {
		j.close()
		return nil, fmt.Errorf("joining the tables of %s: %w", m.Path, err)
	}
	if j.db, err = sql.Open("sqlite", ":memory:"); err != nil {
		return fail(err)
	}
	j.db.SetMaxOpenConns(1) // each connection would have a database of its own
	insert := map[string]*sql.Stmt{}
	for _, l := range m.Lookups {
		if _, err := j.db.Exec(fmt.Sprintf("CREATE TABLE %s(key TEXT, value TEXT, UNIQUE (key, value))", quote(l.Table))); err != nil {
			return fail(err)
		}
		if insert[l.Table], err = j.db.Prepare(fmt.Sprintf("INSERT OR IGNORE INTO %s VALUES (?, ?)", quote(l.Table))); err != nil {
			return fail(err)
		}
		if j.query[l.Table], err = j.db.Prepare(fmt.Sprintf("SELECT value FROM %s WHERE key = ? ORDER BY rowid", quote(l.Table))); err != nil {
			return fail(err)
		}
	}
	for row, err := range s.Rows(opt) {
		if err != nil || row.Table == nil {
			continue // the caller comes upon the damage again
		}
		for _, l := range m.Lookups {
			if l.Table != row.Table.Name {
				continue
			}
			c := columns{row, s.File().Encoding}
			k, ok1 := c.text(l.Key)
			v, ok2 := c.text(l.Value)
			if !ok1 || !ok2 {
				continue
			}
			if _, err := insert[l.Table].Exec(k, v); err != nil {
				return fail(err)
			}
		}
	}
	return j, nil
}

// find gives all values that the key has in a table, in the order in which they
// were found: the live one first.
func (j *joins) find(table, key string) string {
	q := j.query[table]
	if q == nil {
		return ""
	}
	if v, ok := j.known[[2]string{table, key}]; ok {
		return v
	}
	var all []string
	rows, err := q.Query(key)
	if err != nil {
		return ""
	}
	defer rows.Close()
	for rows.Next() {
		var v string
		if rows.Scan(&v) == nil {
			all = append(all, v)
		}
	}
	v := strings.Join(all, ", ")
	j.known[[2]string{table, key}] = v
	return v
}

func (j *joins) close() error {
	if j.db == nil {
		return nil
	}
	var all error
	for _, q := range j.query {
		all = errors.Join(all, q.Close())
	}
	return errors.Join(all, j.db.Close())
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
