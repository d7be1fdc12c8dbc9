// Package query answers SQL over rows of evidence. The rows are given to a library's database in memory, in a child
// process that has neither files nor a network, and little memory and time: the evidence's own file is never opened by
// that library, and nothing that is asked can reach more than the rows that were given.
package query

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/internal/preview"

	_ "modernc.org/sqlite" // the library
)

// Form is the name of the child's work.
const Form = "query"

// Value is a value of a row.
type Value struct {
	Kind  byte // 0 NULL, 1 integer, 2 real, 3 text, 4 BLOB
	Int   int64
	Float float64
	Bytes []byte
}

// Table is a table with its rows.
type Table struct {
	Name    string
	Columns []string
	Rows    [][]Value
}

// Question is what is asked of tables.
type Question struct {
	Tables []Table
	SQL    string
}

// Answer is what comes of it.
type Answer struct {
	Columns []string
	Rows    [][]Value
	Cut     bool   // there are more rows
	Fault   string // why it cannot be answered, in the library's words
}

// What an answer may have.
const (
	MaxRows  = 500
	maxCell  = 4 << 10
	maxBytes = 2 << 20
)

// patience is how long a question may take.
var patience = 10 * time.Second

// Ask has a child answer.
func Ask(ctx context.Context, m *preview.Maker, q Question) (*Answer, error) {
	var b bytes.Buffer
	if err := gob.NewEncoder(&b).Encode(q); err != nil {
		return nil, fmt.Errorf("query: %w", err)
	}
	out, err := m.Ask(ctx, Form, &b)
	if fault := (*preview.Fault)(nil); errors.As(err, &fault) {
		return &Answer{Fault: fault.Why}, nil
	}
	if err != nil {
		return nil, err
	}
	a := &Answer{}
	if err := gob.NewDecoder(bytes.NewReader(out)).Decode(a); err != nil {
		return nil, fmt.Errorf("query: what the child answered: %w", err)
	}
	return a, nil
}

// Serve confines this process, reads a question and writes its answer. It runs in the child.
func Serve(w io.Writer, r io.Reader, _ string) error {
	preview.Confine()
	var q Question
	if err := gob.NewDecoder(r).Decode(&q); err != nil {
		return fmt.Errorf("query: %w", err)
	}
	a, err := answer(&q)
	if err != nil {
		a = &Answer{Fault: err.Error()}
	}
	return gob.NewEncoder(w).Encode(a)
}

func answer(q *Question) (*Answer, error) {
	ctx, cancel := context.WithTimeoutCause(context.Background(), patience, fmt.Errorf("it took longer than %v", patience))
	defer cancel()
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1) // each connection has a memory of its own
	if _, err := db.ExecContext(ctx, "PRAGMA temp_store = MEMORY"); err != nil {
		return nil, err
	}
	for i := range q.Tables {
		if err := fill(ctx, db, &q.Tables[i]); err != nil {
			return nil, fmt.Errorf("table %s: %w", q.Tables[i].Name, err)
		}
	}
	if _, err := db.ExecContext(ctx, "PRAGMA query_only = 1"); err != nil {
		return nil, err
	}
	rows, err := db.QueryContext(ctx, q.SQL)
	if err != nil {
		return nil, why(ctx, err)
	}
	defer rows.Close()
	a := &Answer{}
	if a.Columns, err = rows.Columns(); err != nil {
		return nil, err
	}
	values := make([]any, len(a.Columns))
	into := make([]any, len(values))
	for i := range values {
		into[i] = &values[i]
	}
	size := 0
	for rows.Next() {
		if len(a.Rows) == MaxRows || size > maxBytes {
			a.Cut = true
			return a, nil
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		row := make([]Value, len(values))
		for i, v := range values {
			row[i] = valueOf(v)
			size += len(row[i].Bytes) + 32
		}
		a.Rows = append(a.Rows, row)
	}
	return a, why(ctx, rows.Err())
}

func why(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

func valueOf(v any) Value {
	switch v := v.(type) {
	case int64:
		return Value{Kind: 1, Int: v}
	case float64:
		return Value{Kind: 2, Float: v}
	case string:
		return Value{Kind: 3, Bytes: []byte(v[:min(len(v), maxCell)])}
	case []byte:
		return Value{Kind: 4, Bytes: slices.Clone(v[:min(len(v), maxCell)])}
	case bool:
		return Value{Kind: 3, Bytes: fmt.Append(nil, v)}
	case time.Time:
		return Value{Kind: 3, Bytes: []byte(v.Format(time.RFC3339Nano))}
	}
	return Value{}
}

// fill makes a table. Its columns have no type, so that values stay as they are.
func fill(ctx context.Context, db *sql.DB, t *Table) error {
	var names []string
	for _, c := range t.Columns {
		for slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, c) }) {
			c += "'"
		}
		names = append(names, c)
	}
	columns := make([]string, len(names))
	for i, n := range names {
		columns[i] = quoted(n)
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "CREATE TABLE "+quoted(t.Name)+"("+strings.Join(columns, ", ")+")"); err != nil {
		return err
	}
	insert, err := tx.PrepareContext(ctx, "INSERT INTO "+quoted(t.Name)+" VALUES (?"+strings.Repeat(", ?", len(columns)-1)+")")
	if err != nil {
		return err
	}
	args := make([]any, len(columns))
	for _, row := range t.Rows {
		for i := range args {
			args[i] = nil
			if i >= len(row) {
				continue
			}
			switch v := row[i]; v.Kind {
			case 1:
				args[i] = v.Int
			case 2:
				args[i] = v.Float
			case 3:
				args[i] = string(v.Bytes)
			case 4:
				args[i] = v.Bytes
			}
		}
		if _, err := insert.ExecContext(ctx, args...); err != nil {
			return why(ctx, err)
		}
	}
	return tx.Commit()
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// Int makes an integer.
func Int(n int64) Value { return Value{Kind: 1, Int: n} }

// Text makes a text.
func Text(s string) Value { return Value{Kind: 3, Bytes: []byte(s)} }

// Real writes a real number, without an exponent unless it is very large or very small.
func Real(x float64) string {
	if a := math.Abs(x); a != 0 && a < 1e-4 || a >= 1e15 {
		return strconv.FormatFloat(x, 'g', -1, 64)
	}
	return strconv.FormatFloat(x, 'f', -1, 64)
}

// String writes a value.
func (v Value) String() string {
	switch v.Kind {
	case 1:
		return strconv.FormatInt(v.Int, 10)
	case 2:
		return Real(v.Float)
	case 3:
		return strings.ToValidUTF8(string(v.Bytes), "�")
	case 4:
		return fmt.Sprintf("%d bytes: %x", len(v.Bytes), v.Bytes[:min(16, len(v.Bytes))])
	}
	return "NULL"
}
