package evidence

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"crosswind/core/casefile"
	"crosswind/core/scope"
	"crosswind/internal/store"
)

// Package says why a package that was made of a case before may not be handed out under
// the authorities as they are now, "" if it may: a record in it is withheld now, or a
// whole file, where something is limited.
func (d *Door) Package(ctx context.Context, c *store.Case, f io.ReaderAt, k *store.Package) (why string, err error) {
	records, files, err := casefile.Contents(f, k.Size)
	if err != nil {
		return "", err
	}
	if len(records) == 0 { // a redacted one holds none by which it could be told of which its report speaks
		found, err := d.store.RecordsByID(ctx, c.ID, k.Records)
		if n := len(k.Records) - len(found); err == nil && n > 0 {
			why = fmt.Sprintf("of the records that it speaks of %d cannot be seen now", n)
		}
		return why, err
	}
	g, err := d.store.Gate(ctx, c.ID)
	if err != nil {
		return "", err
	}
	if why := g.Whole(false); files && why != "" {
		return "it holds whole files, and " + why, nil
	}
	exhibits, err := d.store.Exhibits(ctx, c.ID)
	if err != nil {
		return "", err
	}
	type database struct {
		exhibit int64
		path    string
	}
	members := map[database]map[string][]string{}
	for _, r := range records {
		i := slices.IndexFunc(exhibits, func(e store.Exhibit) bool { return e.Reference == r.Exhibit })
		if i < 0 {
			return "the case has no exhibit " + r.Exhibit + ", which a record in it is from", nil
		}
		path := strings.TrimSuffix(strings.TrimSuffix(r.Origin().Path, "-wal"), "-journal")
		db := database{exhibits[i].ID, path}
		if members[db] == nil {
			if members[db], err = d.store.Members(ctx, db.exhibit, db.path); err != nil {
				return "", err
			}
		}
		if w := g.Record(scope.SubjectOf(r.Record, members[db])); w != scope.Admitted {
			return fmt.Sprintf("record %s in it is withheld now, %s", r.UID, w), nil
		}
	}
	return "", nil
}
