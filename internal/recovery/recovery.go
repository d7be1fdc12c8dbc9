// Package recovery runs the readers of core over the databases of an
// acquisition, and keeps the records that they give.
package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"maps"
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
// not read again when the run is resumed, unless there is a further authority.
func (q *Recoverer) Recover(ctx context.Context, t *run.Task) error {
	var sub Subject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, a, err := q.Store.AcquisitionOfRun(ctx, t.Run, sub.Acquisition)
	if err != nil {
		return err
	}
	auth, err := q.Store.Authorities(ctx, c.ID)
	if err != nil {
		return err
	}
	var scopes []record.Scope
	var last int64
	for i := range auth {
		scopes = append(scopes, auth[i].Scope())
		last = max(last, auth[i].ID)
	}
	rec, err := q.Store.RecoveryForRun(ctx, store.Recovery{AcquisitionID: a.ID, RunID: t.Run.ID, FullPass: sub.Full, Authority: last, Tool: q.Tool, StartedAt: time.Now()})
	if err != nil {
		return err
	}
	dbs, beside, err := q.databases(ctx, a)
	if err != nil {
		return err
	}
	done := map[string]bool{}
	before, err := q.Store.RecoveredDatabases(ctx, rec.ID)
	if err != nil {
		return err
	}
	for _, d := range before {
		done[d.Path] = rec.Authority == last
	}
	var total int64
	for _, d := range dbs {
		total += passes * d.Size
	}
	t.Total(total, int64(len(dbs)))
	t.Logf("each database is read three times: to hash it, for what is alive, and for what is not")
	p := &pass{Recoverer: q, t: t, a: a, recovery: rec.ID, full: sub.Full, beside: beside, scopes: scopes, names: fieldmap.Names{}}
	for _, d := range dbs {
		m := fieldmap.For(d.RealPath)
		named := m != nil && slices.ContainsFunc(m.Readings, func(r fieldmap.Reading) bool { return r.Kind == record.Contact })
		if done[d.RealPath] && !named { // the names are needed again
			t.Done(passes*d.Size, 1)
			continue
		}
		if err := p.database(ctx, d); err != nil {
			return err
		}
		t.Done(0, 1)
	}
	detail := map[string]string{"tool": q.Tool, "databases": fmt.Sprint(len(dbs)), "pass": "light"}
	if sub.Full {
		detail["pass"] = "full"
	}
	gave, err := q.Store.RecoveredDatabases(ctx, rec.ID)
	if err != nil {
		return err
	}
	var live, below, withheld int64
	for _, d := range gave {
		live += d.Live
		for words, n := range d.Origins() {
			if !strings.HasSuffix(words, otherTables) {
				below += n
			}
		}
		for _, n := range d.OutsideScope() {
			withheld += n
		}
	}
	detail["records_live"], detail["records_below"], detail["records_withheld"] = fmt.Sprint(live), fmt.Sprint(below), fmt.Sprint(withheld)
	return q.Store.EndRecovery(ctx, t.Run, rec, store.Act{Book: c.Book(), By: t.Run.By, What: "records.recovered", On: sub.Name, Detail: detail})
}

// passes is how often a database is read: to hash it, for what is alive, and for
// what is not.
const passes = 3

// pass is one recovery of an acquisition.
type pass struct {
	*Recoverer
	t        *run.Task
	a        *store.Acquisition
	recovery int64
	full     bool
	beside   map[string]*store.File
	scopes   []record.Scope
	names    fieldmap.Names
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

// database reads one database from the vault, and keeps its records as they come.
func (p *pass) database(ctx context.Context, d *store.File) (err error) {
	res := &store.RecoveredDatabase{RecoveryID: p.recovery, Path: d.RealPath, ByOrigin: json.RawMessage("{}"), Withheld: json.RawMessage("{}")}
	m := fieldmap.For(d.RealPath)
	if m != nil {
		res.FieldMap = m.Name
	}
	note := func(err error) { res.Notes = append(res.Notes, err.Error()); p.t.Logf("%s: %v", d.RealPath, err) }
	left := passes * d.Size
	told := func(n int64) {
		n = min(n, left)
		left -= n
		p.t.Done(n, 0)
	}
	defer func() {
		if err == nil {
			told(left)
		}
	}()
	for _, f := range []*store.File{d, p.beside[d.RealPath+"-wal"], p.beside[d.RealPath+"-journal"]} {
		if f == nil {
			continue
		}
		if sum, err := p.sum(ctx, f, told); err != nil {
			return err
		} else if sum != f.SHA256 {
			note(fmt.Errorf("the vault's copy of %s has been altered: its SHA-256 is %s, acquired was %s; it is not read", f.RealPath, sum, f.SHA256))
			return p.Store.SaveDatabase(ctx, p.a, res, none)
		}
	}
	db, err := p.open(d, p.beside, note)
	if err != nil {
		return err
	}
	defer db.Close()
	if db.File == nil {
		return p.Store.SaveDatabase(ctx, p.a, res, none)
	}
	return p.Store.SaveDatabase(ctx, p.a, res, p.records(ctx, db, m, res, note, told))
}

// none is no records.
func none(func(*record.Record, error) bool) {}

// records yields those records of a database that scope admits, and then says in
// res what it gave.
func (p *pass) records(ctx context.Context, db *Database, m *fieldmap.Map, res *store.RecoveredDatabase, note func(error), told func(int64)) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		opt := salvage.Options{Full: p.full, Seen: func(n int64) bool { told(n); return ctx.Err() == nil }}
		survey := salvage.New(db.File)
		mapped := newMapping(survey, db.source)
		origins, withheld := map[string]int64{}, map[record.Why]int64{}
		all := fieldmap.Merge(p.read(ctx, survey, db, m, opt, mapped, note, told))
		for r, err := range all {
			if err != nil {
				yield(nil, err)
				return
			}
			why := record.Admits(p.scopes, r)
			if why == record.Admitted && p.a.LiveOnly && r.State.Below() {
				why = record.NotAskedFor
			}
			if why != record.Admitted {
				withheld[why]++
				p.t.Found("outside scope, withheld", 1)
				res.Outside = append(res.Outside, r.UID)
				continue
			}
			if p.t.Found(r.Kind.Plural()+", "+string(r.State), 1); r.State.Below() {
				origins[r.PlaceWords()]++
			} else {
				res.Live++
			}
			if !yield(r, nil) {
				return
			}
		}
		var n int64
		for _, k := range origins {
			n += k
		}
		p.t.Logf("%s: %d live records and %d others, %d recovered rows", res.Path, res.Live, n, mapped.rows)
		maps.Copy(origins, mapped.others)
		var err1, err2, err3 error
		if res.Map, err1 = mapped.pageMap(res.Outside); err1 == nil {
			res.ByOrigin, err2 = json.Marshal(origins)
			res.Withheld, err3 = json.Marshal(withheld)
		}
		if err := errors.Join(err1, err2, err3); err != nil {
			yield(nil, err)
		}
	}
}

// read yields all records of a database, and tells mapped of its recovered rows. The
// end of ctx is an error; damage of the database is noted.
func (p *pass) read(ctx context.Context, survey *salvage.Survey, db *Database, m *fieldmap.Map, opt salvage.Options, mapped *mapping, note func(error), told func(int64)) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		if m == nil {
			p.t.Logf("%s: no field map is known for it; its rows are counted, not read into records", db.source.Path)
			if err := survey.Fault(); err != nil {
				note(err)
			}
			for row, err := range survey.Rows(opt) {
				if ctx.Err() != nil {
					break
				}
				if err != nil {
					note(err)
					continue
				}
				mapped.row(row)
			}
		} else {
			page := uint32(0)
			for rec, err := range m.Records(survey, db.source, p.names, opt, mapped.row) {
				if ctx.Err() != nil {
					break
				}
				if err != nil {
					note(err)
					continue
				}
				if rec.Origin.Place == "live" && rec.Origin.Page != page {
					page = rec.Origin.Page
					told(int64(db.File.PageSize))
				}
				if rec.Kind == record.Contact {
					p.names.Learn(rec)
				}
				mapped.record(rec)
				if !yield(rec, nil) {
					return
				}
			}
		}
		if ctx.Err() != nil {
			yield(nil, context.Cause(ctx))
		}
	}
}

func (q *Recoverer) sum(ctx context.Context, f *store.File, told func(int64)) (string, error) {
	r, err := q.Vault.Open(f.SHA256)
	if err != nil {
		return "", err
	}
	defer r.Close()
	set, err := digest.Reader(vault.Told(ctx, r, func(n int) { told(int64(n)) }))
	if err != nil {
		return "", fmt.Errorf("%s: %w", f.RealPath, err)
	}
	_, _, sum := set.Hex()
	return sum, nil
}
