package recovery

import (
	"context"
	"fmt"
	"time"

	"crosswind/core/reading"
	"crosswind/internal/store"
)

// Database is a database of an acquisition, open with its log and its journal.
type Database = reading.Database

// vaultFile is a file of an acquisition as the readers of core open it.
func (q *Recoverer) vaultFile(f *store.File) *reading.File {
	var written time.Time
	if f.ModifiedAt != nil {
		written = *f.ModifiedAt
	}
	local := ""
	if f.Found != nil {
		local = f.Found.Changed
	}
	return &reading.File{Written: written, WrittenLocal: local, Gone: f.Found.Gone(), Path: f.RealPath, Stored: f.Path, Size: f.Size, SHA256: f.SHA256, Open: func() (reading.Bytes, error) { return q.Vault.Open(f.SHA256) }}
}

// openDatabase opens a database from the vault. note is told what is wrong with it; err is
// a fault of the vault.
func (q *Recoverer) openDatabase(d *store.File, beside map[string]*store.File, others []*reading.File, note func(error)) (*Database, error) {
	return reading.OpenDatabase(q.vaultFile(d), func(suffix string) *reading.File {
		if f := beside[d.RealPath+suffix]; f != nil {
			return q.vaultFile(f)
		}
		return nil
	}, others, note)
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
	var others []*reading.File
	if reading.IsPages(path) {
		if others, err = q.databases(ctx, acquisition); err != nil {
			return nil, err
		}
	}
	db, err := q.openDatabase(d, beside, others, func(error) {})
	if err == nil && db.File == nil {
		db.Close()
		err = fmt.Errorf("%s cannot be read as a database", path)
	}
	return db, err
}

// databases are the files of an acquisition that its latest recovery read.
func (q *Recoverer) databases(ctx context.Context, acquisition int64) (out []*reading.File, err error) {
	latest, err := q.Store.LatestRecovery(ctx, acquisition)
	if err != nil {
		return nil, err
	}
	read, err := q.Store.RecoveredDatabases(ctx, latest.ID)
	if err != nil {
		return nil, err
	}
	var paths []string
	for _, d := range read {
		paths = append(paths, d.Path)
	}
	files, err := q.Store.FilesByRealPath(ctx, acquisition, paths)
	for i := range files {
		out = append(out, q.vaultFile(&files[i]))
	}
	return out, err
}
