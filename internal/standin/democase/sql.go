package democase

import (
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"time"

	_ "modernc.org/sqlite" // the SQLite library that writes the demo's databases
)

// maker makes a database of a handset as it was at a moment, and says in the truth what was deleted.
type maker struct {
	path string
	make func(work string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error)
}

// database is a SQLite database being written. The first error stays.
type database struct {
	*sql.DB
	path  string
	until time.Time
	rows  []row
	err   error
}

// row is a statement of a moment.
type row struct {
	at   time.Time
	q    string
	args []any
}

// openDB makes a database on one connection, as it was at a moment. Deleted bytes
// are left as the library leaves them by default.
func openDB(path string, pageSize int, until time.Time) (*database, error) {
	db, err := sql.Open("sqlite", path)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	d := &database{DB: db, path: path, until: until}
	d.exec(fmt.Sprintf("PRAGMA page_size=%d", pageSize))
	d.exec("PRAGMA journal_mode=MEMORY")
	d.exec("PRAGMA synchronous=OFF")
	d.exec("PRAGMA secure_delete=OFF")
	return d, d.err
}

func (d *database) exec(q string, args ...any) {
	if d.err != nil {
		return
	}
	if _, err := d.DB.Exec(q, args...); err != nil {
		d.err = fmt.Errorf("%s: %w", q, err)
	}
}

// put is a statement of what happened at a moment. A maker puts all that ever happens,
// up to last, drawing the same whatever moment the database is of.
func (d *database) put(at time.Time, q string, args ...any) {
	d.rows = append(d.rows, row{at, q, args})
}

// live carries out what was put, in the order in which it happened, up to the moment that
// the database is of: an older database is what a newer one was.
func (d *database) live() {
	slices.SortStableFunc(d.rows, func(a, b row) int { return a.at.Compare(b.at) })
	d.exec("BEGIN")
	for _, r := range d.rows {
		if r.at.Before(d.until) {
			d.exec(r.q, r.args...)
		}
	}
	d.exec("COMMIT")
	d.rows = nil
}

// by is a moment as a column keeps it, nothing if it had not come.
func (d *database) by(at time.Time, stored any) any {
	if at.Before(d.until) {
		return stored
	}
	return nil
}

// remove deletes the rows of table that where selects, and adds them to the
// truth first.
func (d *database) remove(t *Truth, onHandset, table, how, where string, args ...any) {
	if d.err != nil {
		return
	}
	d.err = d.note(t, onHandset, table, how, where, args...)
	d.exec("DELETE FROM "+table+" WHERE "+where, args...)
}

func (d *database) note(t *Truth, onHandset, table, how, where string, args ...any) error {
	rows, err := d.Query("SELECT rowid, * FROM "+table+" WHERE "+where+" ORDER BY rowid", args...)
	if err != nil {
		return fmt.Errorf("deleting from %s: %w", table, err)
	}
	defer rows.Close()
	cols, err := rows.Columns()
	if err != nil {
		return err
	}
	for rows.Next() {
		vals, ptrs := make([]any, len(cols)), make([]any, len(cols))
		for i := range vals {
			ptrs[i] = &vals[i]
		}
		if err := rows.Scan(ptrs...); err != nil {
			return err
		}
		del := Deleted{Database: onHandset, Table: table, RowID: vals[0].(int64), Values: map[string]any{}, How: how}
		for i, c := range cols[1:] {
			del.Values[c] = vals[i+1]
		}
		t.Deleted = append(t.Deleted, del)
	}
	return rows.Err()
}

// sameLog makes a write-ahead log the same on every machine: the library draws its
// salts by chance ("Database File Format" section 4.1), and the checksums follow.
func sameLog(log []byte) error {
	const header, frame = 32, 24
	if len(log) < header || binary.BigEndian.Uint32(log)&^1 != 0x377f0682 {
		return errors.New("the library has written no log")
	}
	var order binary.ByteOrder = binary.LittleEndian
	if log[3]&1 == 1 {
		order = binary.BigEndian
	}
	var s [2]uint32
	sum := func(b []byte) {
		for ; len(b) >= 8; b = b[8:] {
			s[0] += order.Uint32(b) + s[1]
			s[1] += order.Uint32(b[4:]) + s[0]
		}
	}
	put := func(b []byte) {
		binary.BigEndian.PutUint32(b, s[0])
		binary.BigEndian.PutUint32(b[4:], s[1])
	}
	salts := []byte("saltsalt")
	size := int(binary.BigEndian.Uint32(log[8:]))
	copy(log[16:], salts)
	sum(log[:24])
	put(log[24:])
	for at := header; at+frame+size <= len(log); at += frame + size {
		f := log[at:][:frame+size]
		copy(f[8:], salts)
		sum(f[:8])
		sum(f[frame:])
		put(f[16:])
	}
	return nil
}

// finish counts the live rows of the named tables and gives the file's bytes.
func (d *database) finish(t *Truth, onHandset string, tables ...string) ([]byte, error) {
	for _, table := range tables {
		if d.err == nil {
			var n int
			d.err = d.QueryRow("SELECT count(*) FROM " + table).Scan(&n)
			t.Live[onHandset+":"+table] = n
		}
	}
	if err := d.Close(); d.err == nil {
		d.err = err
	}
	if d.err != nil {
		return nil, d.err
	}
	return os.ReadFile(d.path)
}
