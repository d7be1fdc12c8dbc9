package recovery

import (
	"context"
	"fmt"

	"crosswind/core/reading"
	"crosswind/internal/store"
)

// Database is a database of an acquisition, open with its log and its journal.
type Database = reading.Database

// open opens a database from the vault. note is told what is wrong with it; err is
// a fault of the vault.
func (q *Recoverer) open(d *store.File, beside map[string]*store.File, note func(error)) (*Database, error) {
	file := func(f *store.File) *reading.File {
		if f == nil {
			return nil
		}
		return &reading.File{Path: f.RealPath, Stored: f.Path, Size: f.Size, SHA256: f.SHA256, Open: func() (reading.Bytes, error) { return q.Vault.Open(f.SHA256) }}
	}
	return reading.OpenDatabase(file(d), func(suffix string) *reading.File { return file(beside[d.RealPath+suffix]) }, note)
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
