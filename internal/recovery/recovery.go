// Package recovery runs the readers of core over the databases of an
// acquisition, and keeps the records that they give.
package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"crosswind/core/digest"
	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Recoverer recovers records from acquisitions.
type Recoverer struct {
	Store *store.Store
	Vault vault.Vault
	Tool  string
}

// Subject is what a run of kind "recover" needs to know.
type Subject struct {
	Exhibit     int64  `json:"exhibit"`
	Acquisition int64  `json:"acquisition"`
	Name        string `json:"name"` // of the acquisition, for the ledger
	Full        bool   `json:"full"`
}

// Recover reads every database of an acquisition. A database that is done is
// not read again when the run is resumed.
func (q *Recoverer) Recover(ctx context.Context, t *run.Task) error {
	var sub Subject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, a, err := q.Store.AcquisitionOfRun(ctx, t.Run, sub.Acquisition)
	if err != nil {
		return err
	}
	rec, err := q.Store.RecoveryForRun(ctx, store.Recovery{AcquisitionID: a.ID, RunID: t.Run.ID, FullPass: sub.Full, Tool: q.Tool, StartedAt: time.Now()})
	if err != nil {
		return err
	}
	auth, err := q.Store.Authorities(ctx, c.ID)
	if err != nil {
		return err
	}
	var scopes []record.Scope
	for i := range auth {
		scopes = append(scopes, auth[i].Scope())
	}
	dbs, beside, err := q.databases(ctx, a)
	if err != nil {
		return err
	}
	var total int64
	for _, d := range dbs {
		total += d.Size
	}
	t.Total(total, int64(len(dbs)))
	names := fieldmap.Names{}
	sum := map[string]int64{}
	for _, d := range dbs {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		records, res, err := q.database(ctx, t, d, beside, names, sub.Full)
		if err != nil {
			return err
		}
		if records, err = withhold(res, records, scopes, a.LiveOnly); err != nil {
			return err
		}
		if res.Map != nil { // what is withheld is not listed either
			outside := map[string]bool{}
			for _, uid := range res.Outside {
				outside[uid] = true
			}
			res.Map.Rows = slices.DeleteFunc(res.Map.Rows, func(f store.FoundRow) bool { return outside[f.UID] })
		}
		for _, n := range res.OutsideScope() {
			sum["withheld"] += n
			t.Found("outside scope, withheld", n)
		}
		res.RecoveryID = rec.ID
		if err := q.Store.SaveDatabase(ctx, a, *res, records); err != nil {
			return err
		}
		for _, r := range records {
			sum[string(r.State)]++
			t.Found(r.Kind.Plural()+", "+string(r.State), 1)
		}
	}
	detail := map[string]string{"tool": q.Tool, "databases": fmt.Sprint(len(dbs)), "pass": "light"}
	if sub.Full {
		detail["pass"] = "full"
	}
	for s, n := range sum {
		detail["records_"+s] = fmt.Sprint(n)
	}
	return q.Store.EndRecovery(ctx, t.Run, rec, store.Act{Book: c.Book(), By: t.Run.By, What: "records.recovered", On: sub.Name, Detail: detail})
}

// withhold leaves out what lies outside scope, and counts it. What is counted
// of a database tells of what is left.
func withhold(res *store.RecoveredDatabase, records []*record.Record, scopes []record.Scope, liveOnly bool) ([]*record.Record, error) {
	live, origins, withheld := int64(0), map[string]int64{}, map[record.Why]int64{}
	kept := records[:0]
	for _, r := range records {
		why := record.Admits(scopes, r)
		if why == record.Admitted && liveOnly && r.State.Below() {
			why = record.NotAskedFor
		}
		if why != record.Admitted {
			withheld[why]++
			res.Outside = append(res.Outside, r.UID)
			continue
		}
		kept = append(kept, r)
		if r.State.Below() {
			origins[r.PlaceWords()]++
		} else {
			live++
		}
	}
	for words, n := range res.Origins() { // of rows that no reading makes records of
		if strings.HasSuffix(words, otherTables) {
			origins[words] = n
		}
	}
	var err1, err2 error
	res.Live = live
	res.ByOrigin, err1 = json.Marshal(origins)
	res.Withheld, err2 = json.Marshal(withheld)
	return kept, errors.Join(err1, err2)
}

// otherTables ends the place of rows that no reading makes records of.
const otherTables = ", of other tables"

// databases finds the files of an acquisition that begin as a SQLite database
// does, those with a field map first and in the maps' order, and all files by their
// paths, since logs and journals lie beside.
func (q *Recoverer) databases(ctx context.Context, a *store.Acquisition) (dbs []*store.File, beside map[string]*store.File, err error) {
	beside = map[string]*store.File{}
	for f, err := range q.Store.AllFiles(ctx, a.ID, store.Both) {
		if err != nil {
			return nil, nil, err
		}
		if f.RealPath == "" {
			continue // the backup's own parts, and what is encrypted
		}
		file := *f
		beside[f.RealPath] = &file
		head := make([]byte, len(sqlitefile.Magic))
		r, err := q.Vault.Open(f.SHA256)
		if err != nil {
			return nil, nil, err
		}
		_, err = io.ReadFull(r, head)
		r.Close()
		if err == nil && string(head) == sqlitefile.Magic {
			dbs = append(dbs, &file)
		}
	}
	order := func(f *store.File) int {
		if i := slices.Index(fieldmap.Builtin, fieldmap.For(f.RealPath)); i >= 0 {
			return i
		}
		return len(fieldmap.Builtin)
	}
	slices.SortStableFunc(dbs, func(x, y *store.File) int { return order(x) - order(y) })
	return dbs, beside, nil
}

// database reads one database from the vault.
func (q *Recoverer) database(ctx context.Context, t *run.Task, d *store.File, beside map[string]*store.File, names fieldmap.Names, full bool) ([]*record.Record, *store.RecoveredDatabase, error) {
	res := &store.RecoveredDatabase{Path: d.RealPath, ByOrigin: json.RawMessage("{}")}
	note := func(err error) { res.Notes = append(res.Notes, err.Error()); t.Logf("%s: %v", d.RealPath, err) }
	m := fieldmap.For(d.RealPath)
	if m != nil {
		res.FieldMap = m.Name
	}
	told := func(n int64) { t.Done(n, 0) }
	defer func() { t.Done(0, 1) }()
	for _, f := range []*store.File{d, beside[d.RealPath+"-wal"], beside[d.RealPath+"-journal"]} {
		if f == nil {
			continue
		}
		if sum, err := q.sum(ctx, f); err != nil {
			return nil, nil, err
		} else if sum != f.SHA256 {
			note(fmt.Errorf("the vault's copy of %s has been altered: its SHA-256 is %s, acquired was %s; it is not read", f.RealPath, sum, f.SHA256))
			told(d.Size)
			return nil, res, nil
		}
	}
	db, err := q.open(d, beside, note)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	if db.File == nil {
		told(d.Size)
		return nil, res, nil
	}
	left := d.Size
	opt := salvage.Options{Full: full, Seen: func(n int64) bool { n = min(n, left); left -= n; told(n); return ctx.Err() == nil }}
	survey := salvage.New(db.File)
	mapped := newMapping(survey, db.source)
	var out []*record.Record
	if m != nil {
		for rec, err := range m.Records(survey, db.source, names, opt, mapped.row) {
			if ctx.Err() != nil {
				return nil, nil, context.Cause(ctx)
			}
			if err != nil {
				note(err)
				continue
			}
			if rec.Kind == record.Contact {
				names.Learn(rec)
			}
			mapped.record(rec)
			out = append(out, rec)
		}
		out = fieldmap.Merge(out, nil)
	} else {
		t.Logf("%s: no field map is known for it; its rows are counted, not read into records", d.RealPath)
		if err := survey.Fault(); err != nil {
			note(err)
		}
		for row, err := range survey.Rows(opt) {
			if ctx.Err() != nil {
				return nil, nil, context.Cause(ctx)
			}
			if err != nil {
				note(err)
				continue
			}
			mapped.row(row)
		}
	}
	if ctx.Err() != nil {
		return nil, nil, context.Cause(ctx)
	}
	told(left)
	if res.Map, err = mapped.pageMap(); err != nil {
		return nil, nil, err
	}
	res.ByOrigin, err = json.Marshal(mapped.others)
	t.Logf("%s: %d records, %d recovered rows", d.RealPath, len(out), mapped.rows)
	return out, res, err
}

func (q *Recoverer) sum(ctx context.Context, f *store.File) (string, error) {
	r, err := q.Vault.Open(f.SHA256)
	if err != nil {
		return "", err
	}
	defer r.Close()
	set, err := digest.Reader(vault.Told(ctx, r, nil))
	if err != nil {
		return "", fmt.Errorf("%s: %w", f.RealPath, err)
	}
	_, _, sum := set.Hex()
	return sum, nil
}
