package recovery

import (
	"context"
	"errors"
	"fmt"
	"io"

	"crosswind/core/fieldmap"
	"crosswind/core/sqlitefile"
	"crosswind/internal/store"
)

// Database is a database of an acquisition, open with its log and its journal.
type Database struct {
	*sqlitefile.File // nil if it cannot be read
	source           *fieldmap.Source
	closers          []io.Closer
}

// Close closes its files.
func (d *Database) Close() error {
	var all error
	for _, c := range d.closers {
		all = errors.Join(all, c.Close())
	}
	return all
}

// fieldMap finds the map for the database, which lay at path on the handset: where an app
// has several layouts, the one that its tables have.
func (d *Database) fieldMap(path string) *fieldmap.Map {
	tables, _ := d.Tables() // of damage the reading tells
	return fieldmap.Choose(fieldmap.Builtin, path, tables)
}

// open opens a database from the vault. note is told what is wrong with it; err is
// a fault of the vault.
func (q *Recoverer) open(d *store.File, beside map[string]*store.File, note func(error)) (db *Database, err error) {
	db = &Database{}
	part := func(f *store.File) (*fieldmap.Source, error) {
		r, err := q.Vault.Open(f.SHA256)
		if err != nil {
			return nil, err
		}
		db.closers = append(db.closers, r)
		return &fieldmap.Source{Path: f.RealPath, Stored: f.Path, SHA256: f.SHA256, Bytes: r}, nil
	}
	defer func() {
		if err != nil {
			db.Close()
		}
	}()
	if db.source, err = part(d); err != nil {
		return nil, err
	}
	if db.File, err = sqlitefile.Open(db.source.Bytes, d.Size); err != nil {
		note(err)
		if db.File, err = sqlitefile.OpenDamaged(db.source.Bytes, d.Size); err != nil {
			db.File = nil
			return db, nil
		}
		note(fmt.Errorf("its pages are read as pages of %d bytes", db.PageSize))
	}
	for i, open := range []func(io.ReaderAt, int64) error{db.OpenLog, db.OpenJournal} {
		f := beside[d.RealPath+sqlitefile.Part(i+1).Suffix()]
		if f == nil {
			continue
		}
		p, err := part(f)
		if err != nil {
			return nil, err
		}
		if err := open(p.Bytes, f.Size); err != nil {
			note(err)
		}
		if i == 0 {
			db.source.Log = p
		} else {
			db.source.Journal = p
		}
	}
	return db, nil
}

// OpenDatabase opens a database of an acquisition by its path on the handset.
func (q *Recoverer) OpenDatabase(ctx context.Context, acquisition int64, path string) (*Database, error) {
	files, err := q.Store.FilesByRealPath(ctx, acquisition, []string{path, path + "-wal", path + "-journal"})
	if err != nil {
		return nil, err
	}
	beside := map[string]*store.File{}
	for i := range files {
		beside[files[i].RealPath] = &files[i]
	}
	d := beside[path]
	if d == nil {
		return nil, fmt.Errorf("database %s: %w", path, store.ErrNotFound)
	}
	db, err := q.open(d, beside, func(error) {})
	if err == nil && db.File == nil {
		db.Close()
		err = fmt.Errorf("%s cannot be read as a database", path)
	}
	return db, err
}
