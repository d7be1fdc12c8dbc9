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
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/digest"
	"crosswind/core/fieldmap"
	"crosswind/core/reading"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/scope"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Recoverer recovers records from acquisitions.
type Recoverer struct {
	Store *store.Store
	Vault vault.Vault
	Tool  string // name, version and build
	// Carve, if not nil, adds the files that only a search of storage images finds, before the full pass reads them.
	Carve func(ctx context.Context, t *run.Task, c *store.Case, a *store.Acquisition, name string) error
	// Said, if not nil, gives text by which a file of a media type is found beside what its record says, "" if there is none: what
	// reads it from hostile bytes may not run here.
	Said func(ctx context.Context, media, sha256 string, open func() (io.ReadCloser, error)) (string, error)
}

// Subject is what a run of kind "recover" needs to know.
type Subject struct {
	Exhibit     int64  `json:"exhibit"`
	Acquisition int64  `json:"acquisition"`
	Name        string `json:"name"` // of the acquisition, for the ledger
	Full        bool   `json:"full"`
}

// Recover reads every database of an acquisition. A database that is done is
// not read again when the run is resumed, unless the authorities are others by then.
func (q *Recoverer) Recover(ctx context.Context, t *run.Task) error {
	var sub Subject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, a, err := q.Store.AcquisitionOfRun(ctx, t.Run, sub.Acquisition)
	if err != nil {
		return err
	}
	if sub.Full && q.Carve != nil {
		if err := q.Carve(ctx, t, c, a, sub.Name); err != nil {
			return fmt.Errorf("searching storage images: %w", err)
		}
	}
	rec, again, err := q.Store.RecoveryForRun(ctx, c, t.Run, store.Recovery{AcquisitionID: a.ID, FullPass: sub.Full, Tool: q.Tool, StartedAt: time.Now()})
	if err != nil {
		return err
	}
	p, err := q.pass(ctx, c, a, rec)
	if err != nil {
		return err
	}
	p.t = t
	done := map[string]bool{}
	before, err := q.Store.RecoveredDatabases(ctx, rec.ID)
	if err != nil {
		return err
	}
	for _, d := range before {
		done[d.Path] = !again
	}
	var total int64
	for _, d := range p.all() {
		total += p.passes(d) * d.Size
	}
	t.More(total, int64(len(p.all())))
	t.Logf("each database is read three times: to hash it, for what is alive, and for what is not; files of contacts and calendars are read twice")
	var changed store.Changes
	for _, d := range p.all() {
		if done[d.RealPath] && !p.named(d) { // the names are needed again
			t.Done(p.passes(d)*d.Size, 1)
			continue
		}
		ch, err := p.file(ctx, d)
		if err != nil {
			return err
		}
		changed.Again, changed.Gone = changed.Again+ch.Again, changed.Gone+ch.Gone
		t.Done(0, 1)
	}
	detail := map[string]string{"tool": q.Tool, "databases": fmt.Sprint(len(p.dbs)), "pass": "light"}
	if len(p.texts) > 0 {
		detail["other_files"] = fmt.Sprint(len(p.texts))
	}
	if sub.Full {
		detail["pass"] = "full"
	}
	if changed.Again > 0 {
		detail["records_changed"] = fmt.Sprint(changed.Again)
	}
	if changed.Gone > 0 {
		detail["records_gone"] = fmt.Sprint(changed.Gone)
	}
	gave, err := q.Store.RecoveredDatabases(ctx, rec.ID)
	if err != nil {
		return err
	}
	var live, below, withheld int64
	var used []string
	for _, d := range gave {
		if m := d.FieldMap + " " + d.MapSHA256; d.MapSHA256 != "" && !slices.Contains(used, m) {
			used = append(used, m)
		}
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
	merging, err := q.Store.Merging(ctx, a.ID)
	if err != nil {
		return err
	}
	if merging > 0 {
		detail["contacts_with_several_handles"] = fmt.Sprint(merging) // which bring these together as one person's
	}
	if len(used) > 0 {
		detail["field_maps"] = strings.Join(used, ", ") // with the SHA-256 of each one's file
	}
	detail["records_live"], detail["records_below"], detail["records_withheld"] = fmt.Sprint(live), fmt.Sprint(below), fmt.Sprint(withheld)
	if err := q.Store.EndRecovery(ctx, t.Run, rec, store.Act{Book: c.Book(), By: t.Run.By, What: "records.recovered", On: sub.Name, Detail: detail}); err != nil {
		return err
	}
	// The run has ended, and with it what it may take.
	if err := q.Store.Prepare(context.WithoutCancel(ctx), c.ID); err != nil {
		slog.Warn("what takes long to find is found when it is asked for", "case", c.Reference, "error", err)
	}
	return nil
}

// pass readies the reading of an acquisition's databases.
func (q *Recoverer) pass(ctx context.Context, c *store.Case, a *store.Acquisition, rec *store.Recovery) (*pass, error) {
	auth, err := q.Store.Authorities(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	e, err := q.Store.ExhibitByID(ctx, a.ExhibitID)
	if err != nil {
		return nil, err
	}
	p := &pass{Recoverer: q, c: c, a: a, recovery: rec.ID, full: rec.FullPass, gate: scope.AsOf(store.Scopes(auth), rec.Authority, rec.StartedAt), home: e.Home(), names: fieldmap.Names{}}
	if p.maps, err = q.Store.MapsOf(ctx, c.ID); err != nil {
		return nil, err
	}
	var label backup.Label
	if err := json.Unmarshal(a.Facts, &label); err != nil {
		return nil, fmt.Errorf("what acquisition %d says of its source: %w", a.Number, err)
	}
	if p.made = label.Made; p.made.IsZero() && a.EndedAt != nil {
		p.made = *a.EndedAt
	}
	return p, p.find(ctx)
}

// mapOf is the map that a database is read by, nil if there is none.
func (p *pass) mapOf(db *Database) *fieldmap.Map {
	if m := p.earlier[db.Source.Path]; m != nil {
		return m
	}
	return db.FieldMap(p.maps)
}

// all lists the files that are read, in the order in which they are.
func (p *pass) all() []*store.File { return slices.Concat(p.dbs, p.texts) }

// named reports whether the names of people are read from a database.
func (p *pass) named(d *store.File) bool {
	m := fieldmap.Choose(p.maps, d.RealPath, nil)
	return m != nil && slices.ContainsFunc(m.Readings, func(r fieldmap.Reading) bool { return r.Kind.Card() })
}

// vaultFiles are the databases among which the schema of one without its first page is looked for, nil of others.
func (p *pass) vaultFiles(d *store.File) (out []*reading.File) {
	if !reading.IsPages(d.RealPath) {
		return nil
	}
	for _, f := range p.dbs {
		out = append(out, p.vaultFile(f))
	}
	return out
}

// passes is how often a file is read: a database to hash it, for what is alive, and for
// what is not; others to hash them, and for what they say.
func (p *pass) passes(f *store.File) int64 {
	if p.readers[f] != nil {
		return 2
	}
	return 3
}

// pass is one recovery of an acquisition.
type pass struct {
	*Recoverer
	t        *run.Task // nil if nobody is told of it
	c        *store.Case
	a        *store.Acquisition
	recovery int64
	full     bool
	dbs      []*store.File
	beside   map[string]*store.File // all files, by their paths
	texts    []*store.File          // that a reader of core reads
	readers  map[*store.File]reading.Reader
	versions map[*reading.File][]*reading.File
	open     map[*store.File]*reading.File
	gate     *scope.Gate
	home     string // the exhibit's home country
	made     time.Time
	names    fieldmap.Names
	maps     []*fieldmap.Map          // by which databases are read
	earlier  map[string]*fieldmap.Map // by the paths of databases, those that an earlier reading is repeated by
}

func (p *pass) logf(format string, args ...any) {
	if p.t != nil {
		p.t.Logf(format, args...)
	}
}

func (p *pass) found(word string) {
	if p.t != nil {
		p.t.Found(word, 1)
	}
}

// otherTables ends the place of rows that no reading makes records of.
const otherTables = ", of other tables"

// find finds the files of an acquisition that are read: those that begin as a SQLite database
// does, those with a field map first and in the maps' order, and those that a reader reads.
func (p *pass) find(ctx context.Context) error {
	p.beside, p.readers, p.open = map[string]*store.File{}, map[*store.File]reading.Reader{}, map[*store.File]*reading.File{}
	var open []*reading.File
	for f, err := range p.Store.AllFiles(ctx, p.a.ID, store.Both) {
		if err != nil {
			return err
		}
		if f.RealPath == "" {
			continue // the backup's own parts, and what is encrypted
		}
		file := *f
		p.beside[f.RealPath] = &file
		head := make([]byte, reading.HeadLength)
		r, err := p.Vault.Open(f.SHA256)
		if err != nil {
			return err
		}
		n, err := io.ReadFull(r, head)
		r.Close()
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return fmt.Errorf("%s: %w", f.RealPath, err)
		}
		if reading.Begins(f.RealPath, head[:n]) {
			p.dbs = append(p.dbs, &file)
		} else if reader := reading.ReaderOf(f.RealPath, head[:n]); reader != nil {
			p.texts, p.readers[&file], p.open[&file] = append(p.texts, &file), reader, p.vaultFile(&file)
			open = append(open, p.open[&file])
		}
	}
	p.versions = reading.Versions(open)
	slices.SortStableFunc(p.dbs, func(x, y *store.File) int { return reading.Order(p.maps, x.RealPath, y.RealPath) })
	slices.SortStableFunc(p.texts, func(x, y *store.File) int { return strings.Compare(x.RealPath, y.RealPath) })
	return nil
}

// altered says why a database, or a file beside it, is not as it was acquired.
func (p *pass) altered(ctx context.Context, d *store.File, told func(int64)) (why, err error) {
	for _, f := range []*store.File{d, p.beside[d.RealPath+"-wal"], p.beside[d.RealPath+"-journal"]} {
		if f == nil {
			continue
		}
		if sum, err := p.sum(ctx, f, told); err != nil {
			return nil, err
		} else if sum != f.SHA256 {
			return fmt.Errorf("the vault's copy of %s has been altered: its SHA-256 is %s, acquired was %s; it is not read", f.RealPath, sum, f.SHA256), nil
		}
	}
	return nil, nil
}

// file reads one file from the vault, and keeps its records as they come.
func (p *pass) file(ctx context.Context, d *store.File) (ch store.Changes, err error) {
	res := &store.RecoveredDatabase{RecoveryID: p.recovery, Path: d.RealPath, ByOrigin: json.RawMessage("{}"), Withheld: json.RawMessage("{}")}
	if m := fieldmap.Choose(p.maps, d.RealPath, nil); m != nil {
		res.FieldMap = m.ID()
	}
	note := func(err error) {
		if s := err.Error(); len(res.Notes) < maxNotes && !slices.Contains(res.Notes, s) {
			res.Notes = append(res.Notes, s)
			p.logf("%s: %s", d.RealPath, s)
		}
	}
	left := p.passes(d) * d.Size
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
	why, err := p.altered(ctx, d, told)
	if err != nil {
		return ch, err
	}
	if why != nil {
		note(why)
		return p.Store.SaveDatabase(ctx, p.c, p.t.Run, p.a, res, none)
	}
	if reader := p.readers[d]; reader != nil {
		res.FieldMap = reader.ID()
		return p.Store.SaveDatabase(ctx, p.c, p.t.Run, p.a, res, p.text(ctx, d, res, note))
	}
	db, err := p.openDatabase(d, p.beside, p.vaultFiles(d), note)
	if err != nil {
		return ch, err
	}
	defer db.Close()
	if db.File == nil {
		return p.Store.SaveDatabase(ctx, p.c, p.t.Run, p.a, res, none)
	}
	m := p.mapOf(db)
	if m != nil {
		res.FieldMap, res.MapSHA256 = m.ID(), m.SHA256
		if err := p.Store.KeepFieldMap(ctx, m.SHA256, m.Source()); err != nil {
			return ch, err
		}
	}
	return p.Store.SaveDatabase(ctx, p.c, p.t.Run, p.a, res, p.records(ctx, db.From, db, m, res, note, told))
}

// sha256 finds the SHA-256 of a file of the acquisition by its path on the handset.
func (p *pass) sha256(path string) (string, bool) {
	f := p.beside[path]
	if f == nil {
		return "", false
	}
	return f.SHA256, true
}

// maxNotes bounds what is said of one database's damage.
const maxNotes = 200

// none gives no records.
func none(func(*record.Record, error) bool) {}

// records yields those records of a database that scope admits, and then says in
// res what it gave.
func (p *pass) records(ctx context.Context, gone *reading.File, db *Database, m *fieldmap.Map, res *store.RecoveredDatabase, note func(error), told func(int64)) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		members, err := p.Store.Members(ctx, p.a.ExhibitID, res.Path)
		if err != nil {
			yield(nil, err)
			return
		}
		db.Source.Country, db.Source.Made, db.Source.File = p.home, p.made, p.sha256
		opt := salvage.Options{Full: p.full, Seen: func(n int64) bool { told(n); return ctx.Err() == nil }}
		survey := db.Survey()
		mapped := newMapping(survey, db.Source)
		seen := func(ms fieldmap.Members) {
			res.Members = ms
			for thread, hs := range ms {
				members[thread] = append(members[thread], hs...)
			}
		}
		origins := map[string]int64{}
		all := marked(gone, fieldmap.Merge(p.read(ctx, survey, db, m, opt, mapped, seen, note, told)))
		if !p.admitted(all, members, origins, res, yield) {
			return
		}
		p.logf("%s: %d recovered rows", res.Path, mapped.rows)
		if p.full && m != nil && !db.Adopted() { // what is left of a table says nothing of its numbers
			var fault error
			if res.Gaps, fault = mapped.numbers(m); fault != nil {
				note(fault)
			}
		}
		maps.Copy(origins, mapped.others)
		var err1, err2 error
		if res.Map, err1 = mapped.pageMap(res.Outside); err1 == nil {
			res.ByOrigin, err2 = json.Marshal(origins)
		}
		if err := errors.Join(err1, err2); err != nil {
			yield(nil, err)
		}
	}
}

// marked are the records of a file, each of which says if that is no live one.
func marked(f *reading.File, all iter.Seq2[*record.Record, error]) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		for r, err := range all {
			if err == nil {
				f.Mark(r)
			}
			if !yield(r, err) {
				return
			}
		}
	}
}

// text yields those records of a file that is no database which scope admits, and then says in
// res what it gave.
func (p *pass) text(ctx context.Context, d *store.File, res *store.RecoveredDatabase, note func(error)) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		f := p.open[d]
		opt := reading.Options{Country: p.home, Made: p.made}
		all := func(yield func(*record.Record, error) bool) {
			for r, err := range reading.Texts(p.readers[d], f, p.versions[f], opt, note) {
				if err == nil {
					f.Mark(r)
					err = context.Cause(ctx)
				}
				if !yield(r, err) {
					return
				}
			}
		}
		origins := map[string]int64{}
		if !p.admitted(all, nil, origins, res, func(r *record.Record, err error) bool {
			if err == nil {
				err = p.said(ctx, d, r, note)
			}
			return yield(r, err)
		}) {
			return
		}
		var err error
		if res.ByOrigin, err = json.Marshal(origins); err != nil {
			yield(nil, err)
		}
	}
}

// said adds to a record that has its file as its own by what else it is found.
func (p *pass) said(ctx context.Context, d *store.File, r *record.Record, note func(error)) error {
	i := slices.IndexFunc(r.Attachments, func(a record.Attachment) bool { return a.SHA256 == d.SHA256 })
	if p.Said == nil || i < 0 {
		return nil
	}
	text, err := p.Said(ctx, r.Attachments[i].Type, d.SHA256, func() (io.ReadCloser, error) { return p.Vault.Open(d.SHA256) })
	if err != nil && ctx.Err() == nil {
		note(fmt.Errorf("its text cannot be looked for: %w", err))
		return nil
	}
	r.Found = text
	return err
}

// admitted yields those records that scope admits, and says in origins and res what they are
// and what is withheld. It reports whether it came to their end.
func (p *pass) admitted(all iter.Seq2[*record.Record, error], members map[string][]string, origins map[string]int64, res *store.RecoveredDatabase, yield func(*record.Record, error) bool) bool {
	withheld := map[scope.Why]int64{}
	for r, err := range all {
		if err != nil {
			yield(nil, err)
			return false
		}
		if why := p.admits(r, members); why != scope.Admitted {
			withheld[why]++
			p.found("outside scope, withheld")
			res.Outside = append(res.Outside, r.UID)
			continue
		}
		if r.Kind.Card() { // a name is a value of its card
			p.names.Learn(r)
		}
		if p.found(r.Kind.Plural() + ", " + string(r.State)); r.State.Below() {
			origins[store.OriginWords(r.State, r.Origin().Place)]++
		} else {
			res.Live++
		}
		if !yield(r, nil) {
			return false
		}
	}
	var n int64
	for _, k := range origins {
		n += k
	}
	p.logf("%s: %d live records and %d others", res.Path, res.Live, n)
	res.Whole = p.full
	var err error
	if res.Withheld, err = json.Marshal(withheld); err != nil {
		yield(nil, err)
		return false
	}
	return true
}

// admits asks the gate of a record.
func (p *pass) admits(r *record.Record, members map[string][]string) scope.Why {
	why := p.gate.Record(scope.SubjectOf(r, members))
	if why == scope.Admitted && p.a.LiveOnly && r.State.Below() {
		why = scope.NotAskedFor
	}
	return why
}

// read yields all records of a database, and tells mapped of its recovered rows. The
// end of ctx is an error; damage of the database is noted.
func (p *pass) read(ctx context.Context, survey *salvage.Survey, db *Database, m *fieldmap.Map, opt salvage.Options, mapped *mapping, members func(fieldmap.Members), note func(error), told func(int64)) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		if m == nil {
			p.logf("%s: no field map is known for it; its rows are counted, not read into records", db.Source.Path)
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
			for rec, err := range m.Records(survey, db.Source, p.names, opt, members, mapped.row) {
				if ctx.Err() != nil {
					break
				}
				if err != nil {
					note(err)
					continue
				}
				if rec.Origin().Place == "live" && rec.Origin().Page != page {
					page = rec.Origin().Page
					told(int64(db.File.PageSize))
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
