package store

import (
	"context"
	"fmt"
	"strings"
)

// FileQuery chooses files of a case's acquisitions by what they were called on the handset.
type FileQuery struct {
	CaseID, Exhibit int64
	Acquisition     int64  // 0 for all
	Dir             string // that lie in this folder or below, with a slash at its end
	Within          bool   // and in it alone
	Has             string // whose path has this, in any case
	Ending          string // and ends so
	Hidden          bool   // also those whose name, or that of a folder, begins with a dot, or that are hidden by attribute
	NoSystem        bool   // none of the handset's system
	Gone            bool   // only those that no volume lists any more
	Sort            string // path, size or changed
	Skip            int    // how many stand before those that are listed
}

// FileOf is a file with its acquisition, and how many records were read from it.
type FileOf struct {
	File
	ExhibitID  int64  `db:"exhibit_id"`
	ExhibitRef string `db:"exhibit_ref"`
	AcqNo      int    `db:"acq_no"`
	Records    int64
}

// FolderOf is a folder with all that lies below it.
type FolderOf struct {
	Name         string
	Files, Bytes int64
}

// systemPath asks of a path whether it is below the folder that handsets keep for their system.
func systemPath(path string) string { return "starts_with(" + path + ", '/system/')" }

func (q *FileQuery) sql() (string, []any) {
	w, args := "a.case_id = $1 AND f.real_path <> ''", []any{q.CaseID}
	add := func(cond string, v any) {
		args = append(args, v)
		w += " AND " + strings.ReplaceAll(cond, "$", fmt.Sprintf("$%d", len(args)))
	}
	if q.Exhibit != 0 {
		add("a.exhibit_id = $", q.Exhibit)
	}
	if q.Acquisition != 0 {
		add("a.id = $", q.Acquisition)
	}
	if q.Dir != "" && q.Dir != "/" {
		add("starts_with(f.real_path, $)", q.Dir)
	}
	if q.Has != "" {
		add("strpos(lower(f.real_path), lower($)) > 0", q.Has)
	}
	if q.Ending != "" {
		add("right(lower(f.real_path), length($)) = lower($)", q.Ending)
	}
	if !q.Hidden {
		w += " AND strpos(f.real_path, '/.') = 0 AND f.found->>'hidden' IS DISTINCT FROM 'true'"
	}
	if q.NoSystem {
		w += " AND NOT " + systemPath("f.real_path") + " AND f.found->>'system' IS DISTINCT FROM 'true'"
	}
	if q.Gone {
		w += " AND f.found->>'state' <> 'live'"
	}
	return w, args
}

const fileFrom = " FROM acquired_file f JOIN acquisition a ON a.id = f.acquisition_id JOIN exhibit e ON e.id = a.exhibit_id WHERE "

// FilesOf lists files, and says how many there are.
func (s *Store) FilesOf(ctx context.Context, q FileQuery, limit int) (out []FileOf, all int64, err error) {
	w, args := q.sql()
	if q.Within {
		args = append(args, q.Dir)
		w += fmt.Sprintf(" AND strpos(substr(f.real_path, length($%d) + 1), '/') = 0", len(args))
	}
	order := map[string]string{"size": "f.size DESC, ", "changed": "f.modified_at DESC NULLS LAST, "}[q.Sort]
	if err := s.get(ctx, &all, "counting files", "SELECT count(*)"+fileFrom+w, args...); err != nil {
		return nil, 0, err
	}
	args = append(args, limit, q.Skip)
	err = s.list(ctx, &out, "listing files", "SELECT x.*, (SELECT count(*) FROM record r WHERE r.acquisition_id = x.acquisition_id AND r.db = x.real_path) AS records FROM (SELECT f.*, a.exhibit_id, e.reference AS exhibit_ref, a.number AS acq_no"+
		fileFrom+w+fmt.Sprintf(" ORDER BY %sf.real_path, a.id, f.content DESC LIMIT $%d OFFSET $%d) x", order, len(args)-1, len(args)), args...)
	return out, all, err
}

// Folders lists the folders that lie in the query's own.
func (s *Store) Folders(ctx context.Context, q FileQuery) (out []FolderOf, err error) {
	w, args := q.sql()
	args = append(args, q.Dir)
	rest := fmt.Sprintf("substr(f.real_path, length($%d) + 1)", len(args))
	err = s.list(ctx, &out, "listing folders", "SELECT split_part("+rest+", '/', 1) AS name, count(*) AS files, sum(f.size)::bigint AS bytes"+fileFrom+w+" AND strpos("+rest+", '/') > 0 GROUP BY 1 ORDER BY 1 LIMIT 500", args...)
	return out, err
}

// FileOfCase finds a file of an acquisition of a case by its path on the handset.
func (s *Store) FileOfCase(ctx context.Context, caseID, acquisition int64, path string) (*FileOf, error) {
	f := &FileOf{}
	err := s.get(ctx, f, "finding "+path, "SELECT f.*, a.exhibit_id, e.reference AS exhibit_ref, a.number AS acq_no, (SELECT count(*) FROM record r WHERE r.acquisition_id = a.id AND r.db = f.real_path) AS records"+
		fileFrom+"a.case_id = $1 AND a.id = $2 AND f.real_path = $3 ORDER BY f.content DESC LIMIT 1", caseID, acquisition, path)
	return f, err
}
