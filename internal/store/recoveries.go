package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/fieldmap"
	"crosswind/core/gap"
	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/core/search"

	"github.com/jackc/pgx/v5"
)

// Recovery is one reading of an acquisition's databases.
type Recovery struct {
	ID            int64
	AcquisitionID int64 `db:"acquisition_id"`
	RunID         int64 `db:"run_id"`
	FullPass      bool  `db:"full_pass"`
	Authority     int64 `db:"authority_id"` // the last one whose scope was known when it began
	Epoch         int64 `db:"scope_epoch"`  // of the case's scope, when it began
	Tool          string
	StartedAt     time.Time  `db:"started_at"`
	EndedAt       *time.Time `db:"ended_at"`
}

// RecoveredDatabase is what one database gave.
type RecoveredDatabase struct {
	RecoveryID int64 `db:"recovery_id"`
	Path       string
	FieldMap   string `db:"field_map"`
	MapSHA256  string `db:"map_sha256"`
	Live       int64
	ByOrigin   json.RawMessage `db:"by_origin"`
	Notes      Array[string]
	Withheld   json.RawMessage  // outside scope: why to how many
	Whole      bool             // every byte was read, by a full pass
	Map        *PageMap         `db:"-"`
	Gaps       []*gap.Numbers   `db:"-"` // of a full pass
	GapsKept   json.RawMessage  `db:"gaps"`
	Outside    []string         `db:"-"` // UIDs of what is withheld: what was kept of it under an earlier scope goes
	Members    fieldmap.Members `db:"-"` // who was seen in its conversations
}

// Origins gives ByOrigin as counts.
func (d *RecoveredDatabase) Origins() map[string]int64 {
	return counts(d.ByOrigin)
}

// fewFiles are told one by one.
const fewFiles = 6

// Together puts what many files gave that the same reader reads, as photographs, into one
// entry, for lists: its path says how many they are. What a database gave stays by itself.
func Together(all []RecoveredDatabase) (out []RecoveredDatabase, err error) {
	n, at := map[string]int{}, map[string]int{}
	many := func(d *RecoveredDatabase) bool {
		return d.MapSHA256 == "" && d.FieldMap != "" && n[d.FieldMap] > fewFiles
	}
	for i := range all {
		n[all[i].FieldMap]++
	}
	origins, withheld := map[string]map[string]int64{}, map[string]map[string]int64{}
	for i := range all {
		d := all[i]
		if !many(&d) {
			out = append(out, d)
			continue
		}
		k, there := at[d.FieldMap]
		if !there {
			at[d.FieldMap], origins[d.FieldMap], withheld[d.FieldMap] = len(out), d.Origins(), d.OutsideScope()
			d.Path = fmt.Sprintf("%d files", n[d.FieldMap])
			out = append(out, d)
			continue
		}
		one := &out[k]
		one.Live += d.Live
		one.Whole = one.Whole && d.Whole
		for _, note := range d.Notes {
			if !slices.Contains(one.Notes, note) {
				one.Notes = append(one.Notes, note)
			}
		}
		for what, n := range d.Origins() {
			origins[d.FieldMap][what] += n
		}
		for why, n := range d.OutsideScope() {
			withheld[d.FieldMap][why] += n
		}
	}
	for reader, k := range at {
		var err1, err2 error
		out[k].ByOrigin, err1 = json.Marshal(origins[reader])
		out[k].Withheld, err2 = json.Marshal(withheld[reader])
		if err := cmp.Or(err1, err2); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// OutsideScope gives Withheld as counts.
func (d *RecoveredDatabase) OutsideScope() map[string]int64 { return counts(d.Withheld) }

func counts(b json.RawMessage) map[string]int64 {
	m := map[string]int64{}
	json.Unmarshal(b, &m) // written by SaveDatabase
	return m
}

// RecoveryForRun finds the recovery that a run makes, or begins it. One that began under
// an earlier scope begins again under the present one.
func (s *Store) RecoveryForRun(ctx context.Context, c *Case, run *Run, r Recovery) (got *Recovery, again bool, err error) {
	got = &Recovery{}
	err = s.Held(ctx, run, func(t *Tx) error {
		err := t.GetContext(ctx, &r.Epoch, "SELECT scope_epoch FROM cases WHERE id = $1", c.ID)
		if err == nil {
			err = t.GetContext(ctx, &r.Authority, "SELECT coalesce(max(id), 0) FROM authority WHERE case_id = $1", c.ID)
		}
		if err != nil {
			return fmt.Errorf("reading the scope: %w", err)
		}
		if err := t.exec("beginning the recovery", "INSERT INTO recovery(acquisition_id, run_id, full_pass, authority_id, scope_epoch, tool, started_at) VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT (run_id) DO UPDATE SET tool = recovery.tool || $8 || excluded.tool WHERE strpos(recovery.tool, excluded.tool) = 0",
			r.AcquisitionID, run.ID, r.FullPass, r.Authority, r.Epoch, r.Tool, r.StartedAt, goneOnBy); err != nil {
			return err
		}
		if err := t.GetContext(ctx, got, "SELECT * FROM recovery WHERE run_id = $1", run.ID); err != nil {
			return fmt.Errorf("beginning the recovery: %w", err)
		}
		if again = got.Epoch != r.Epoch; again {
			got.Epoch, got.Authority, got.StartedAt = r.Epoch, r.Authority, r.StartedAt
			return t.exec("beginning the recovery again", "UPDATE recovery SET scope_epoch = $2, authority_id = $3, started_at = $4 WHERE id = $1", got.ID, r.Epoch, r.Authority, r.StartedAt)
		}
		return nil
	})
	return got, again, err
}

// speaking is the recovery v, of those of an acquisition, that speaks for it.
const speaking = "v.ended_at IS NOT NULL ORDER BY v.full_pass DESC, v.id DESC LIMIT 1"

// LatestRecovery finds the recovery of an acquisition that speaks for it: of those that
// ended the last full pass, or else the last light one.
func (s *Store) LatestRecovery(ctx context.Context, acquisition int64) (*Recovery, error) {
	r := &Recovery{}
	return r, s.get(ctx, r, "recovery", "SELECT * FROM recovery v WHERE v.acquisition_id = $1 AND "+speaking, acquisition)
}

// RecoveryByID finds a recovery.
func (s *Store) RecoveryByID(ctx context.Context, id int64) (*Recovery, error) {
	r := &Recovery{}
	return r, s.get(ctx, r, "recovery", "SELECT * FROM recovery WHERE id = $1", id)
}

// ReadFully reports whether a database of an acquisition has been read to its last byte
// by a full pass that ended, under the authorities as they are now.
func (s *Store) ReadFully(ctx context.Context, acquisition int64, path string) (is bool, err error) {
	err = s.get(ctx, &is, "whether "+path+" was read fully", `SELECT EXISTS (SELECT FROM recovery v JOIN recovered_database d ON d.recovery_id = v.id JOIN acquisition a ON a.id = v.acquisition_id
  JOIN cases c ON c.id = a.case_id WHERE v.acquisition_id = $1 AND v.ended_at IS NOT NULL AND v.full_pass AND v.scope_epoch = c.scope_epoch AND d.path = $2 AND d.whole)`, acquisition, path)
	return is, err
}

// RecoveredDatabases lists what the databases of a recovery gave.
func (s *Store) RecoveredDatabases(ctx context.Context, recovery int64) (out []RecoveredDatabase, err error) {
	err = s.list(ctx, &out, "listing the databases", "SELECT * FROM recovered_database WHERE recovery_id = $1 ORDER BY path", recovery)
	return out, err
}

// recordColumns are those that a reading gives.
var recordColumns = []string{"case_id", "exhibit_id", "acquisition_id", "recovery_id", "uid", "kind", "state", "place", "at", "thread", "thread_title", "thread_lost",
	"person", "handle", "parties", "db", "direction", "summary", "words", "field_map", "tab", "row_id", "page",
	"latitude", "longitude", "accuracy", "attached", "bytes", "types", "hidden", "gone_at"}

// Changes says what a reading changed of what an earlier one had said of a database.
type Changes struct {
	Again int64 // records whose content is another now
	Gone  int64 // records that it does not find, or that lie outside scope now
}

// SaveDatabase keeps the records of one database that a run reads, as they come, and
// then what it gave, which d says once they have come. What an earlier reading said of a
// record is replaced, and its mark stays. A record that a full pass does not find any
// more, or that an older field map read, goes; so does what lies outside scope as the
// authorities are when the transaction ends, whatever they were when the reading began.
// An error among the records keeps nothing.
func (s *Store) SaveDatabase(ctx context.Context, c *Case, r *Run, a *Acquisition, d *RecoveredDatabase, records iter.Seq2[*record.Record, error]) (ch Changes, err error) {
	err = s.Held(ctx, r, func(t *Tx) error {
		if err := t.exec("keeping records", `CREATE TEMPORARY TABLE incoming (LIKE record, body text COMPRESSION lz4 NOT NULL, known boolean NOT NULL DEFAULT false, same boolean NOT NULL DEFAULT false) ON COMMIT DROP`); err != nil {
			return err
		}
		if err := t.exec("keeping records", "ALTER TABLE incoming ALTER COLUMN id SET DEFAULT nextval('record_id_seq')"); err != nil {
			return err
		}
		if err := t.loadRecords(a, d, records); err != nil {
			return err
		}
		// No statistics are there for what is new in this transaction: without an index
		// every record might be compared with every other.
		if err := t.exec("keeping records", "CREATE INDEX ON incoming (uid)"); err != nil {
			return err
		}
		if err := t.exec("keeping records", "ANALYZE incoming (id, uid, known, same)"); err != nil {
			return err
		}
		// From here on the scope stands still.
		if err := t.exec("holding the scope", "SELECT 1 FROM cases WHERE id = $1 FOR SHARE", c.ID); err != nil {
			return err
		}
		if err := t.exec("locking the exhibit", "SELECT 1 FROM exhibit WHERE id = $1 FOR UPDATE", a.ExhibitID); err != nil {
			return err
		}
		if ch, err = t.merge(c, a, d, r.By); err != nil {
			return err
		}
		gaps := []byte("[]")
		if len(d.Gaps) > 0 {
			if gaps, err = json.Marshal(d.Gaps); err != nil {
				return err
			}
		}
		if err := t.exec("keeping what "+d.Path+" gave", "INSERT INTO recovered_database(recovery_id, path, field_map, live, by_origin, notes, withheld, whole, map_sha256, gaps) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) "+
			"ON CONFLICT (recovery_id, path) DO UPDATE SET field_map = excluded.field_map, live = excluded.live, by_origin = excluded.by_origin, notes = excluded.notes, withheld = excluded.withheld, whole = excluded.whole, map_sha256 = excluded.map_sha256, gaps = excluded.gaps",
			d.RecoveryID, d.Path, d.FieldMap, d.Live, d.ByOrigin, d.Notes.param(), d.Withheld, d.Whole, d.MapSHA256, json.RawMessage(gaps)); err != nil {
			return err
		}
		if d.Map != nil {
			d.Map.RecoveryID, d.Map.Path = d.RecoveryID, d.Path
			if err := t.savePageMap(d.Map); err != nil {
				return err
			}
		}
		return t.keepMembers(c, a, d, r.By)
	})
	return ch, err
}

// loadRecords loads records into the table incoming.
func (t *Tx) loadRecords(a *Acquisition, d *RecoveredDatabase, records iter.Seq2[*record.Record, error]) error {
	next, stop := iter.Pull2(ahead(records))
	defer stop()
	var fault error // of the records
	err := t.load("incoming", append(slices.Clone(recordColumns), "body"), pgx.CopyFromFunc(func() ([]any, error) {
		r, err, ok := next()
		if !ok || err != nil {
			fault = err
			return nil, err
		}
		r.Keep()
		body, err := json.Marshal(r)
		var latitude, longitude, accuracy *float64
		if p := r.Place; p != nil && p.Known() {
			latitude, longitude, accuracy = &p.Latitude, &p.Longitude, p.Accuracy
		}
		hidden := record.HiddenPath(d.Path) || slices.ContainsFunc(r.Attachments, func(x record.Attachment) bool { return record.HiddenPath(x.Path) })
		return []any{a.CaseID, a.ExhibitID, a.ID, d.RecoveryID, r.UID, string(r.Kind), string(r.State), r.Origin().Place, r.At(), r.Thread(), r.ThreadTitle(), r.ThreadLost(),
			r.Person(), r.Handle(), Array[string](r.Handles()).param(), d.Path, r.Direction, r.Summary(), indexed(r), r.Origin().FieldMap, r.Origin().Table, rowID(r), int64(r.Origin().Page), latitude, longitude, accuracy, len(r.Attachments) > 0,
			r.Bytes(), Array[string](r.FileTypes()).param(), hidden, r.Deleted(), string(cleanJSON(body))}, err
	}))
	if p := (*panicked)(nil); errors.As(fault, &p) {
		panic(p)
	}
	if fault != nil {
		return fault
	}
	if err != nil {
		return fmt.Errorf("loading records: %w", err)
	}
	return nil
}

// ahead reads records while those before them are kept, in a goroutine that has ended when
// the iteration ends. A panic of theirs comes as an error, a *panicked.
func ahead(records iter.Seq2[*record.Record, error]) iter.Seq2[*record.Record, error] {
	type one struct {
		r   *record.Record
		err error
	}
	const size = 128 // of what is handed over at once
	return func(yield func(*record.Record, error) bool) {
		read, enough := make(chan []one, 8), make(chan struct{})
		defer func() {
			close(enough)
			for range read {
			}
		}()
		go func() {
			defer close(read)
			defer func() {
				if v := recover(); v != nil {
					select {
					case read <- []one{{err: &panicked{v, debug.Stack()}}}:
					case <-enough:
					}
				}
			}()
			var some []one
			hand := func() bool {
				select {
				case read <- some:
					some = nil
					return true
				case <-enough:
					return false
				}
			}
			for r, err := range records {
				if some = append(some, one{r, err}); (len(some) == size || err != nil) && !hand() {
					return
				}
			}
			hand()
		}()
		for some := range read {
			for _, x := range some {
				if !yield(x.r, x.err) {
					return
				}
			}
		}
	}
}

// panicked is a panic of another goroutine than the one that it must reach.
type panicked struct {
	value any
	stack []byte
}

func (p *panicked) Error() string { return fmt.Sprint(p.value) }

// Unwrap gives what it panicked with, if that is an error.
func (p *panicked) Unwrap() error {
	err, _ := p.value.(error)
	return err
}

// LogValue adds where it was.
func (p *panicked) LogValue() slog.Value {
	return slog.StringValue(fmt.Sprintf("%v\n%s", p.value, p.stack))
}

// rowID is the id of the row that a record is of, nil if its bytes did not survive.
func rowID(r *record.Record) *string {
	if r.Origin().RowID == nil {
		return nil
	}
	s := strconv.FormatInt(int64(*r.Origin().RowID), 10)
	return &s
}

// indexed is the words that a record is found by, beside its telephone numbers.
func indexed(r *record.Record) string {
	fields := []string{r.Text, r.ThreadTitle()}
	for _, p := range r.Parties {
		fields = append(fields, p.Name)
		if p.Normal == "" || people.Scheme(p.Normal) != people.Telephone { // which is found by any part of it, as a handle
			fields = append(fields, p.Handle)
			if p.Normal != p.Handle {
				fields = append(fields, p.Normal)
			}
		}
	}
	for _, a := range r.Attachments {
		fields = append(fields, a.Name, a.Path[strings.LastIndexByte(a.Path, '/')+1:])
	}
	for _, f := range r.Facts {
		if f.Name != record.KeptAs {
			fields = append(fields, f.Value)
		}
	}
	return search.Index(append(fields, r.Found)...)
}

// merge brings the records of the table incoming together with those that are there.
func (t *Tx) merge(c *Case, a *Acquisition, d *RecoveredDatabase, by string) (ch Changes, err error) {
	for _, q := range []string{
		// Two readings of a row to one kind give the same record.
		"DELETE FROM incoming WHERE id IN (SELECT id FROM (SELECT id, lag(uid) OVER (ORDER BY uid, id) = uid AS twice FROM incoming) x WHERE twice)",
		"UPDATE incoming i SET id = r.id, known = true, same = w.body = i.body FROM record r JOIN record_whole w ON w.record_id = r.id WHERE r.acquisition_id = i.acquisition_id AND r.uid = i.uid",
	} {
		if err := t.exec("comparing with earlier readings", q); err != nil {
			return ch, err
		}
	}
	var again []struct {
		UID    string
		Marked bool
	}
	err = t.SelectContext(t.ctx, &again, "SELECT i.uid, m.record_id IS NOT NULL AS marked FROM incoming i LEFT JOIN mark m ON m.record_id = i.id WHERE i.known AND NOT i.same ORDER BY i.uid")
	if err != nil {
		return ch, fmt.Errorf("comparing with earlier readings: %w", err)
	}
	ch.Again = int64(len(again))
	for _, x := range again {
		if x.Marked {
			if err := t.Log(Act{c.Book(), by, "record.read_again", x.UID, map[string]string{"field_map": d.FieldMap, "marked": "yes"}}); err != nil {
				return ch, err
			}
		}
	}
	list := strings.Join(recordColumns, ", ")
	var set, here, came []string // what is said of a record, but by which reading
	for _, col := range recordColumns {
		if col != "recovery_id" {
			set, here, came = append(set, col+" = i."+col), append(here, "r."+col), append(came, "i."+col)
		}
	}
	for _, q := range []string{
		// Of what was changed by another way, too: reading it anew is what mends it.
		"UPDATE record r SET " + strings.Join(set, ", ") + " FROM incoming i WHERE i.known AND r.id = i.id AND (" + strings.Join(here, ", ") + ") IS DISTINCT FROM (" + strings.Join(came, ", ") + ")",
		"UPDATE record_whole w SET body = i.body FROM incoming i WHERE i.known AND NOT i.same AND w.record_id = i.id",
		// A light pass that says the same leaves it to the full one before.
		fmt.Sprintf("UPDATE record r SET recovery_id = i.recovery_id FROM incoming i WHERE i.known AND r.id = i.id AND (%t OR NOT i.same OR r.recovery_id IS NULL)", d.Whole),
		"INSERT INTO record(id, " + list + ") OVERRIDING SYSTEM VALUE SELECT id, " + list + " FROM incoming WHERE NOT known",
		"INSERT INTO record_whole SELECT id, body FROM incoming WHERE NOT known",
	} {
		if err := t.exec("keeping records", q); err != nil {
			return ch, err
		}
	}
	var gone []int64
	err = t.SelectContext(t.ctx, &gone, `SELECT r.id FROM record r WHERE r.acquisition_id = $1 AND (r.uid = ANY($2) OR r.db = $3 AND r.recovery_id IS DISTINCT FROM $4
  AND NOT EXISTS (SELECT FROM incoming i WHERE i.uid = r.uid) AND ($5 OR r.field_map <> $6))`, a.ID, Array[string](d.Outside).param(), d.Path, d.RecoveryID, d.Whole, d.FieldMap)
	if err != nil {
		return ch, fmt.Errorf("comparing with earlier readings: %w", err)
	}
	ch.Gone = int64(len(gone))
	return ch, t.drop(c, gone, "not found again, or outside scope, by the reading with "+cmp.Or(d.FieldMap, "no field map"), by)
}

// KeepFieldMap keeps a field map's file under its SHA-256.
func (s *Store) KeepFieldMap(ctx context.Context, sha256, source string) error {
	return s.change(ctx, func(t *Tx) error {
		return t.exec("keeping a field map", "INSERT INTO field_map(sha256, source) VALUES ($1, $2) ON CONFLICT DO NOTHING", sha256, source)
	}, false)
}

// FieldMap gives the file of a field map by its SHA-256.
func (s *Store) FieldMap(ctx context.Context, sha256 string) (source string, err error) {
	err = s.get(ctx, &source, "reading the field map "+sha256, "SELECT source FROM field_map WHERE sha256 = $1", sha256)
	return source, err
}

// Merging counts the contacts of an acquisition that bring several handles together.
func (s *Store) Merging(ctx context.Context, acquisition int64) (n int64, err error) {
	err = s.get(ctx, &n, "counting contacts", "SELECT count(*) FROM record WHERE acquisition_id = $1 AND kind = ANY($2) AND cardinality(parties) > 1", acquisition, record.Cards())
	return n, err
}

// EndRecovery ends a recovery and its run.
func (s *Store) EndRecovery(ctx context.Context, r *Run, v *Recovery, act Act) error {
	return s.change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if err := t.exec("ending the recovery", "UPDATE recovery SET ended_at = now() WHERE id = $1", v.ID); err != nil {
			return err
		}
		return t.Log(act)
	}, false)
}
