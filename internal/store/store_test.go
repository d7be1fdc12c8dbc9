package store_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crosswind/core/gap"
	"crosswind/core/ledger"
	"crosswind/core/record"
	"crosswind/core/search"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"

	"github.com/jackc/pgx/v5"
)

// newCase opens a case with one exhibit.
func newCase(t testing.TB, s *store.Store) (*store.Case, *store.Exhibit) {
	t.Helper()
	ctx := context.Background()
	if err := s.AddCase(ctx, store.Case{Reference: "T-1", Title: "Test", Zone: "UTC"}, store.Authority{Kind: "warrant", IssuedBy: "x", Number: "1", ValidFrom: time.Now(), ValidTo: time.Now().Add(time.Hour), ScopeKinds: []string{"message"}}, "tester"); err != nil {
		t.Fatal(err)
	}
	c, err := s.CaseByReference(ctx, "T-1")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.AddExhibit(ctx, c, store.Exhibit{Reference: "1-A", Kind: "handset", ModelMark: "m", Serial: "s"}, store.Custody{What: "received", At: time.Now(), ToWhom: "tester", Seal: "1", Place: "here"}, "tester"); err != nil {
		t.Fatal(err)
	}
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		t.Fatal(err)
	}
	return c, &es[0]
}

// The database itself refuses to change the ledger, or anything that keeps it from
// being changed, for the role that the application uses.
func TestTheApplicationCannotRewriteTheLedger(t *testing.T) {
	s, owner := storetest.OpenWithOwner(t)
	c, _ := newCase(t, s)
	for _, q := range []string{
		"UPDATE ledger SET line = 'x'", "UPDATE ledger SET at = now() WHERE seq = 1", "DELETE FROM ledger", "DELETE FROM ledger WHERE seq = 4", "TRUNCATE ledger",
		"ALTER TABLE ledger DISABLE TRIGGER ALL", "ALTER TABLE ledger DROP CONSTRAINT ledger_pkey", "ALTER TABLE ledger RENAME TO was", "DROP TABLE ledger", "DROP TRIGGER ledger_no_change ON ledger",
		"SET session_replication_role = replica", "CREATE OR REPLACE FUNCTION ledger_is_append_only() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'",
		"DROP FUNCTION ledger_is_append_only CASCADE", "CREATE RULE r AS ON INSERT TO ledger DO INSTEAD NOTHING", "CREATE TRIGGER t BEFORE INSERT ON ledger EXECUTE FUNCTION ledger_is_append_only()",
		"ALTER ROLE crosswind_app SUPERUSER", "UPDATE goose_db_version SET version_id = 0", "CREATE TABLE public.x()", "SET ROLE crosswind", "COPY ledger TO PROGRAM 'true'",
	} {
		if _, err := s.DB().Exec(q); err == nil {
			t.Errorf("%s: done", q)
		}
	}
	faults, err := s.CheckLedger(context.Background(), c.Book())
	if err != nil || len(faults) > 0 {
		t.Error(err, faults)
	}
	// With the trigger out of the way, as only the table's owner can, a change
	// is found.
	for _, q := range []string{"ALTER TABLE ledger DISABLE TRIGGER ALL", "UPDATE ledger SET line = convert_to(replace(convert_from(line, 'UTF8'), 'tester', 'nobody'), 'UTF8') WHERE seq = 3"} {
		if _, err := owner.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	if faults, err = s.CheckLedger(context.Background(), c.Book()); err != nil || len(faults) == 0 || faults[0].Line != 4 {
		t.Errorf("a changed line 3 breaks the chain at line 4: %v, %v", faults, err)
	}
	if _, err := s.SignedHead(context.Background(), c.Book()); err == nil {
		t.Error("a broken ledger was signed")
	}
}

// Whoever owns the database can cut the ledger's tail, or write a new chain that holds
// in itself: the heads that were signed before show it, on every page and at every
// check, and nothing is signed over it.
func TestCutAndRewrittenLedgers(t *testing.T) {
	rewrite := func(lines [][]byte, from, to string) (out [][]byte) {
		prev := ledger.Genesis
		for _, l := range lines {
			var e ledger.Entry
			json.Unmarshal(bytes.ReplaceAll(l, []byte(from), []byte(to)), &e)
			e.Prev = prev
			n, _ := e.Line()
			prev = ledger.LineHash(n)
			out = append(out, n)
		}
		return out
	}
	for name, forge := range map[string]func([][]byte) [][]byte{
		"cut":               func(l [][]byte) [][]byte { return l[:len(l)-1] },
		"cut to nothing":    func([][]byte) [][]byte { return nil },
		"under a new name":  func(l [][]byte) [][]byte { return rewrite(l, `"by":"tester"`, `"by":"nobody"`) },
		"with further ones": func(l [][]byte) [][]byte { return rewrite(append(l, l[len(l)-1]), "tester", "nobody") },
	} {
		s, owner := storetest.OpenWithOwner(t)
		ctx := context.Background()
		c, _ := newCase(t, s)
		if err := s.Witness(ctx); err != nil {
			t.Fatal(err)
		}
		var lines [][]byte
		for l, err := range s.Lines(ctx, c.Book()) {
			if err != nil {
				t.Fatal(err)
			}
			lines = append(lines, l)
		}
		if _, err := owner.Exec("ALTER TABLE ledger DISABLE TRIGGER ALL; DELETE FROM ledger"); err != nil {
			t.Fatal(err)
		}
		for i, l := range forge(lines) {
			if _, err := owner.Exec("INSERT INTO ledger VALUES ($1, $2, $3, $4, now())", c.Book(), i+1, l, ledger.LineHash(l)); err != nil {
				t.Fatal(err)
			}
		}
		if st, err := s.LedgerState(ctx, c.Book()); err != nil || !strings.Contains(st.Fault, "head that was signed") {
			t.Errorf("%s: the page says %q, %v", name, st.Fault, err)
		}
		if faults, err := s.CheckLedger(ctx, c.Book()); err != nil || len(faults) == 0 {
			t.Errorf("%s: the check finds %v, %v", name, faults, err)
		}
		if h, err := s.SignedHead(ctx, c.Book()); err == nil {
			t.Errorf("%s: signed as %d entries", name, h.Size)
		}
		if err := s.Witness(ctx); err != nil {
			t.Error(err)
		}
		if heads, err := s.Heads(c.Book()); err != nil || len(heads) != 1 {
			t.Errorf("%s: %d heads are kept, %v", name, len(heads), err)
		}
	}
}

// An entry that claims a time ahead of the clock is named.
func TestEntriesAheadOfTheClock(t *testing.T) {
	s, owner := storetest.OpenWithOwner(t)
	e := ledger.Entry{Book: "b", Seq: 1, Prev: ledger.Genesis, At: time.Now().UTC().Add(2 * time.Minute).Format(ledger.TimeFormat), By: "x", What: "y", On: "z"}
	l, err := e.Line()
	if err == nil {
		_, err = owner.Exec("INSERT INTO ledger VALUES ('b', 1, $1, '', now())", l)
	}
	if err != nil {
		t.Fatal(err)
	}
	if faults, err := s.CheckLedger(context.Background(), "b"); err != nil || len(faults) != 1 || !strings.Contains(faults[0].Error(), "ahead of the clock") {
		t.Error(faults, err)
	}
}

// The application opens the database only as a role that cannot rewrite the ledger,
// unless it is told to; and only with the schema that it knows.
func TestOwnersAreRefused(t *testing.T) {
	admin, ctx := storetest.URL(t), context.Background()
	if _, err := store.Open(ctx, admin, store.Options{AsOwner: true}); err == nil || !strings.Contains(err.Error(), "crosswind migrate") {
		t.Error(err)
	}
	storetest.At(t, admin)
	if _, err := store.Open(ctx, admin, store.Options{}); !errors.Is(err, store.ErrOwner) {
		t.Error(err)
	}
	s, err := store.Open(ctx, admin, store.Options{AsOwner: true})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
}

// Several that bring the schema up to date at once wait for each other.
func TestMigrationsAtOnce(t *testing.T) {
	admin := storetest.URL(t)
	var wg sync.WaitGroup
	for range 6 {
		wg.Go(func() {
			if _, err := store.Prepare(context.Background(), admin); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
}

func TestLedgerUnderConcurrency(t *testing.T) {
	s := storetest.Open(t)
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 20 {
				if err := s.Log(context.Background(), store.Act{Book: "b", By: "x", What: "y", On: "z"}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	h, err := s.SignedHead(context.Background(), "b")
	if err != nil || h.Size != 160 || h.VerifySignature() != nil {
		t.Errorf("%+v, %v", h, err)
	}
}

// A worker that lost its lease must not touch the run that another has.
func TestFencing(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, _ := newCase(t, s)
	if _, err := s.QueueRun(ctx, c, store.Run{Kind: "k", Subject: []byte("{}"), Title: "t", By: "x"}, store.Act{Book: c.Book(), By: "x", What: "q", On: "r"}); err != nil {
		t.Fatal(err)
	}
	first, err := s.TakeRun(ctx, &store.Process{ID: "p"}, 6*time.Second)
	if err != nil || first == nil {
		t.Fatal(first, err)
	}
	if again, err := s.TakeRun(ctx, &store.Process{ID: "p"}, 6*time.Second); again != nil || err != nil {
		t.Fatal("a run that is held was taken", err)
	}
	if _, err := s.DB().Exec("UPDATE run SET lease_until = now() - interval '1 s'"); err != nil {
		t.Fatal(err)
	}
	second, err := s.TakeRun(ctx, &store.Process{ID: "p"}, 6*time.Second)
	if err != nil || second == nil || second.ID != first.ID || second.Fence == first.Fence {
		t.Fatal(second, err)
	}
	if _, err := s.SaveProgress(ctx, first, store.Progress{}, 6*time.Second); !errors.Is(err, store.ErrLost) {
		t.Errorf("the first worker saved progress: %v", err)
	}
	if err := s.EndRun(ctx, first, "done", ""); !errors.Is(err, store.ErrLost) {
		t.Errorf("the first worker ended the run: %v", err)
	}
	if _, err := s.SaveProgress(ctx, second, store.Progress{}, 6*time.Second); err != nil {
		t.Error(err)
	}
}

// Evidence may hold what PostgreSQL's text does not.
func TestHostileTextIsKept(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, e := newCase(t, s)
	if _, err := s.QueueRun(ctx, c, store.Run{Kind: "k", Subject: []byte("{}"), Title: "t", By: "x"}, store.Act{Book: c.Book(), By: "x", What: "q", On: "r"}); err != nil {
		t.Fatal(err)
	}
	r, err := s.TakeRun(ctx, &store.Process{ID: "p"}, 6*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	const hostile = "nul \x00 half \xff literal \\u0000 <script>alert(1)</script>"
	const kept = `nul ␀ half � literal \u0000 <script>alert(1)</script>`
	facts, _ := json.Marshal(map[string]string{"name": hostile})
	a, err := s.AcquisitionForRun(ctx, c, r, store.Acquisition{ExhibitID: e.ID, Source: hostile, Method: hostile, Facts: facts, StartedAt: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	v, _, err := s.RecoveryForRun(ctx, c, r, store.Recovery{AcquisitionID: a.ID, StartedAt: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	old := time.Date(-5000, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, err := range []error{
		s.AddFile(ctx, r, &store.File{AcquisitionID: a.ID, Path: hostile, RealPath: hostile, ModifiedAt: &old, Segments: []byte{}, CheckedAt: time.Now()}),
		s.AddFaults(ctx, r, a, []store.AcquisitionFault{{Path: hostile, Fault: hostile}}),
		s.Log(ctx, store.Act{Book: hostile, By: hostile, What: hostile, On: hostile, Detail: map[string]string{"x": hostile}}),
	} {
		if err != nil {
			t.Error(err)
		}
	}
	if _, err := s.SaveProgress(ctx, r, store.Progress{Found: map[string]int64{hostile: 1}, Log: []string{hostile}}, time.Minute); err != nil {
		t.Error(err)
	}
	if got, err := s.RunByID(ctx, r.ID); err != nil || len(got.Log) != 1 || got.Log[0] != kept {
		t.Errorf("%q, %v", got.Log, err)
	}
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for range 2 { // the second time must change nothing
		x := &record.Record{UID: "1", Kind: record.Message, State: record.Intact, Times: []record.Time{{Role: "sent", At: &at, Stored: hostile}}, Text: hostile, Conversation: &record.Conversation{Key: hostile, Title: hostile},
			Facts: []record.Fact{{Name: "x", Value: hostile}}, Parties: []record.Party{{Handle: hostile, Normal: "x", Name: hostile}}, Origins: []record.Origin{{Table: hostile, Fields: []record.Field{{Name: hostile}}}}}
		if ch, err := s.SaveDatabase(ctx, c, r, a, &store.RecoveredDatabase{RecoveryID: v.ID, Path: "/x", ByOrigin: []byte("{}"), Withheld: []byte("{}"), Notes: []string{hostile},
			Map: &store.PageMap{Tables: []string{hostile}, Cells: []byte{}, Tally: []byte(`[{"table":"\u0000"}]`), Rows: []store.FoundRow{{Tab: hostile, Fields: []byte(`"\u0000 \\u0000"`)}}},
		}, func(yield func(*record.Record, error) bool) { yield(x, nil) }); err != nil || ch != (store.Changes{}) {
			t.Fatal(ch, err)
		}
	}
	broken := errors.New("the reader broke off")
	if _, err := s.SaveDatabase(ctx, c, r, a, &store.RecoveredDatabase{RecoveryID: v.ID, Path: "/y", ByOrigin: []byte("{}"), Withheld: []byte("{}")}, func(yield func(*record.Record, error) bool) {
		if yield(&record.Record{UID: "2", Kind: record.Message, State: record.Intact, Times: []record.Time{{Role: "sent", At: &at}}}, nil) {
			yield(nil, broken)
		}
	}); !errors.Is(err, broken) {
		t.Error(err)
	}
	if dbs, err := s.RecoveredDatabases(ctx, v.ID); err != nil || len(dbs) != 1 {
		t.Errorf("%v, %v", dbs, err)
	}
	got, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Words: "<script>"}, store.After{}, 10)
	if err != nil || len(got) != 1 || got[0].Summary != kept || !strings.Contains(got[0].Body, record.KeptAs) {
		t.Errorf("%+v, %v", got, err)
	}
	if got, _, err = s.Records(ctx, store.Filter{CaseID: c.ID, Words: "%"}, store.After{}, 10); err != nil || len(got) != 0 {
		t.Errorf("a percent sign was taken for a pattern: %d, %v", len(got), err)
	}
}

// A worker that another has taken a run from writes nothing of it any more: the database
// refuses every write of a run whose token is stale, and what the second has withheld the
// first does not put back.
func TestStaleWorkersWriteNothing(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	// What a worker has locked that is held up within a change is free again in the end.
	var idle string
	if err := s.DB().QueryRow("SHOW idle_in_transaction_session_timeout").Scan(&idle); err != nil || idle != "20s" {
		t.Errorf("a change that is held up holds its locks for %q, %v", idle, err)
	}
	c, e := newCase(t, s)
	if _, err := s.QueueRun(ctx, c, store.Run{Kind: "k", Subject: []byte("{}"), Title: "t", By: "x"}); err != nil {
		t.Fatal(err)
	}
	take := func() *store.Run {
		t.Helper()
		if _, err := s.DB().Exec("UPDATE run SET lease_until = now() - interval '1 s' WHERE state = 'running'"); err != nil {
			t.Fatal(err)
		}
		r, err := s.TakeRun(ctx, &store.Process{ID: "p"}, time.Minute)
		if err != nil || r == nil {
			t.Fatal(r, err)
		}
		return r
	}
	first := take()
	a, err := s.AcquisitionForRun(ctx, c, first, store.Acquisition{ExhibitID: e.ID, Facts: []byte("{}"), StartedAt: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	v, _, err := s.RecoveryForRun(ctx, c, first, store.Recovery{AcquisitionID: a.ID, StartedAt: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	second := take()
	at := time.Now()
	rec := &record.Record{UID: "1", Kind: record.Message, State: record.Intact, Times: []record.Time{{Role: "sent", At: &at}}, Parties: []record.Party{{Normal: "+447700900551"}}}
	save := func(r *store.Run, d *store.RecoveredDatabase, with bool) error {
		d.RecoveryID, d.Path, d.ByOrigin, d.Withheld = v.ID, "/x", []byte("{}"), []byte("{}")
		_, err := s.SaveDatabase(ctx, c, r, a, d, func(yield func(*record.Record, error) bool) {
			if with {
				yield(rec, nil)
			}
		})
		return err
	}
	if err := save(second, &store.RecoveredDatabase{Outside: []string{"1"}}, false); err != nil {
		t.Fatal(err)
	}
	known := &store.KnownSet{CaseID: c.ID, Name: "n", Algorithm: "md5", At: at}
	for name, write := range map[string]func(*store.Run) error{
		"records": func(r *store.Run) error { return save(r, &store.RecoveredDatabase{}, true) },
		"file": func(r *store.Run) error {
			return s.AddFile(ctx, r, &store.File{AcquisitionID: a.ID, Path: "p", Segments: []byte{}, CheckedAt: at})
		},
		"faults": func(r *store.Run) error {
			return s.AddFaults(ctx, r, a, []store.AcquisitionFault{{Path: "p", Fault: "f"}})
		},
		"check":       func(r *store.Run) error { return s.SaveCheck(ctx, r, &store.File{AcquisitionID: a.ID, Path: "p"}) },
		"unread":      func(r *store.Run) error { return s.AddUnread(ctx, r, a.ID, "p", 0, 1) },
		"read again":  func(r *store.Run) error { return s.DropUnread(ctx, r, a.ID, "p", 0) },
		"members":     func(r *store.Run) error { return s.AddArchiveMembers(ctx, r, 1, []store.ArchiveMember{{Path: "p"}}) },
		"archive":     func(r *store.Run) error { return s.SaveArchive(ctx, r, &store.Archive{ID: 1}) },
		"known":       func(r *store.Run) error { return s.SaveKnown(ctx, r, a.ID, "n", []string{"x"}) },
		"known set":   func(r *store.Run) error { return s.AddKnownSet(ctx, r, *known, store.Act{Book: c.Book()}) },
		"acquisition": func(r *store.Run) error { _, err := s.AcquisitionForRun(ctx, c, r, *a); return err },
		"recovery":    func(r *store.Run) error { _, _, err := s.RecoveryForRun(ctx, c, r, *v); return err },
		"rename":      func(r *store.Run) error { _, err := s.RenameFile(ctx, r, a.ID, "p"); return err },
		"its end":     func(r *store.Run) error { return s.EndAcquisition(ctx, r, a, nil) },
		"recovered":   func(r *store.Run) error { return s.EndRecovery(ctx, r, v, store.Act{Book: c.Book()}) },
		"checked": func(r *store.Run) error {
			return s.EndVerification(ctx, r, store.Verification{AcquisitionID: a.ID, Against: "vault", At: at}, nil)
		},
		"package": func(r *store.Run) error {
			return s.EndPackage(ctx, r, store.Package{CaseID: c.ID, At: at}, store.Act{Book: c.Book()})
		},
		"unpacked": func(r *store.Run) error {
			return s.EndArchive(ctx, r, &store.Archive{ID: 1}, store.Act{Book: c.Book()})
		},
		"progress":  func(r *store.Run) error { _, err := s.SaveProgress(ctx, r, store.Progress{}, time.Minute); return err },
		"interrupt": func(r *store.Run) error { return s.Interrupt(ctx, r, "", store.Act{Book: c.Book()}) },
	} {
		if err := write(first); !errors.Is(err, store.ErrLost) && !(err != nil && (name == "rename" || name == "members")) { // whose rows are not there
			t.Errorf("%s: the first worker writes on: %v", name, err)
		}
	}
	if n := storetest.Count(t, s, store.Filter{CaseID: c.ID}); n != 0 {
		t.Errorf("%d records were put back", n)
	}
	if r, err := s.RunByID(ctx, second.ID); err != nil || r.State != "running" || r.Fence != second.Fence {
		t.Errorf("%+v, %v", r, err)
	}
}

// While a run's own change waits or takes long, its lease is renewed and what the examiner
// wishes of it is heard.
func TestALeaseDoesNotWaitForItsOwnWork(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, e := newCase(t, s)
	r, keep := reading(t, s, c, e)
	if err := keep(1); err != nil {
		t.Fatal(err)
	}
	tx, err := s.DB().Begin()
	if err == nil {
		_, err = tx.Exec("SELECT 1 FROM exhibit FOR UPDATE")
	}
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan error)
	go func() { done <- keep(1) }()
	for waits := false; !waits; time.Sleep(10 * time.Millisecond) {
		if err := s.DB().QueryRow("SELECT EXISTS (SELECT FROM pg_locks WHERE NOT granted)").Scan(&waits); err != nil {
			t.Fatal(err)
		}
	}
	soon, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if _, err := s.SaveProgress(soon, r, store.Progress{BytesDone: 1}, time.Minute); err != nil {
		t.Error("the lease waits for the run's own work:", err)
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	if err := <-done; err != nil {
		t.Fatal(err)
	}
}

// Records that a version kept which compared handles as they are written are compared
// again when this one first opens its database.
func TestRecordsOfAnEarlierVersion(t *testing.T) {
	url := storetest.URL(t)
	s := storetest.At(t, url)
	ctx := context.Background()
	c, e := newCase(t, s)
	_, keep := reading(t, s, c, e)
	if err := keep(3); err != nil {
		t.Fatal(err)
	}
	rs, _, err := s.Records(ctx, store.Filter{CaseID: c.ID}, store.After{}, 10)
	if err != nil || len(rs) != 3 {
		t.Fatal(len(rs), err)
	}
	for i := range rs {
		if err := s.Mark(ctx, c, &rs[i], "", "because", "x"); err != nil {
			t.Fatal(err)
		}
	}
	at := time.Now()
	if err := s.AddAuthority(ctx, c, store.Authority{Kind: "order", IssuedBy: "x", Number: "2", ValidFrom: at, ValidTo: at.Add(time.Hour), ScopeKinds: []string{"message"}, Privileged: []string{"+44 7700 900551"}}, "x"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.DB().Exec("UPDATE record SET parties = NULL, handle = CASE uid WHEN '1' THEN '0044 7700 900551' WHEN '2' THEN '' ELSE '+44 7700 900119' END"); err != nil {
		t.Fatal(err)
	}
	s = storetest.At(t, url)
	if rs, _, err = s.Records(ctx, store.Filter{CaseID: c.ID}, store.After{}, 10); err != nil || len(rs) != 1 || rs[0].UID != "0" {
		t.Errorf("%d records, %v", len(rs), err)
	}
	if found, err := s.Audit(ctx, c); err != nil || len(found) != 0 {
		t.Errorf("%v, %v", found, err)
	}
}

// A version that told records by the first 16 digits of their IDs, named these in its
// ledger, and had one time and one other party to a record, is brought up to date: records,
// marks and ledger stay, and later entries name the whole ID.
func TestRecordsOfTheEarlierShape(t *testing.T) {
	url := storetest.URL(t)
	s := storetest.At(t, url)
	ctx := context.Background()
	c, e := newCase(t, s)
	r, _ := reading(t, s, c, e)
	acq, err := s.AcquisitionByID(ctx, 1)
	if err != nil {
		t.Fatal(err)
	}
	row := func(n int64) *record.Record {
		at, purge := time.Date(2026, 9, 11, 20, 58, int(n), 5e8, time.UTC), time.Date(2026, 10, 11, 0, 0, 0, 0, time.UTC)
		x := &record.Record{Kind: record.Message, State: record.Held, Text: "t", Direction: "in", Facts: []record.Fact{{Name: "Mood", Value: "good"}},
			Times:        []record.Time{{Role: "sent", At: &at, Stored: "12 s"}, {Role: "purged", At: &purge, Stored: "not kept by the version that read it"}},
			Parties:      []record.Party{{Role: "from", Handle: "07700 900417", Scheme: "telephone", Normal: "+447700900417", Name: "Ketil"}},
			Conversation: &record.Conversation{Key: "7", Title: "Nets"},
			Origins:      []record.Origin{{Stored: "a ü/b.db", SHA256: strings.Repeat("ab", 32), Offset: 1<<40 + n, Length: 17, Table: "said"}}}
		x.SetUID()
		return x
	}
	list := func() []store.Record {
		rs, _, err := s.Records(ctx, store.Filter{CaseID: c.ID}, store.After{}, 10)
		if err != nil || len(rs) != 2 {
			t.Fatal(len(rs), err)
		}
		return rs
	}
	_, err = s.SaveDatabase(ctx, c, r, acq, &store.RecoveredDatabase{RecoveryID: 1, Path: "/x", ByOrigin: []byte("{}"), Withheld: []byte("{}")}, func(yield func(*record.Record, error) bool) {
		_ = yield(row(0), nil) && yield(row(1), nil)
	})
	if err == nil {
		_, err = s.DB().ExecContext(ctx, `UPDATE record_whole SET body = jsonb_build_object('uid', left(uid, 16), 'kind', kind, 'state', state, 'at', body::jsonb->'times'->0->'at', 'original', '12 s',
  'purge', body::jsonb->'times'->1->'at', 'thread', thread, 'thread_title', thread_title, 'person', person, 'handle', handle, 'parties', to_jsonb(parties), 'direction', direction, 'text', summary,
  'details', '[{"label": "To be purged", "value": "x"}, {"label": "Mood", "value": "good"}]'::jsonb, 'origin', body::jsonb->'origins'->0)::text FROM record r WHERE r.id = record_id`)
	}
	if err == nil {
		_, err = s.DB().ExecContext(ctx, "UPDATE record SET uid = left(uid, 16)")
	}
	for _, x := range list() {
		if err == nil {
			err = s.Mark(ctx, c, &x, "", "because", "x")
		}
	}
	owner, err2 := pgx.Connect(ctx, url)
	if err != nil || err2 != nil {
		t.Fatal(err, err2)
	}
	defer owner.Close(ctx)
	if _, err := owner.Exec(ctx, `DELETE FROM goose_db_version WHERE version_id >= 14; DROP INDEX record_words, record_page, record_row; ALTER TABLE record ADD COLUMN body jsonb; UPDATE record SET body = w.body::jsonb FROM record_whole w WHERE record_id = id;
DROP FUNCTION count_files CASCADE; DROP FUNCTION count_months CASCADE; DROP FUNCTION change_records CASCADE; DROP FUNCTION change_case CASCADE; DROP FUNCTION month_key; ALTER TABLE package DROP COLUMN records; DROP INDEX record_by_what, record_by_people, record_by_kind, record_by_file, record_by_state, record_by_bytes, record_sized; DROP FUNCTION analyze_records; DROP FUNCTION count_sums CASCADE; DROP FUNCTION count_marks CASCADE; DROP TABLE record_sum, mark_sum; DROP TABLE compared, record_went, kept_answer, case_change, record_month, report_step, report_version, validation, head_stamp, report_template; DROP TABLE acquired_count; CREATE INDEX record_row ON record (id); CREATE INDEX record_db ON record (id); CREATE INDEX record_exhibit ON record (id); DROP FUNCTION lexemes; DROP TABLE person_ruling; DROP FUNCTION count_parties CASCADE; DROP TABLE record_party; DROP INDEX record_parties, record_kind; DROP FUNCTION records_belong CASCADE; DROP FUNCTION records_go CASCADE;
ALTER TABLE record ADD FOREIGN KEY (case_id) REFERENCES cases, ADD FOREIGN KEY (exhibit_id) REFERENCES exhibit, ADD FOREIGN KEY (acquisition_id) REFERENCES acquisition, ADD FOREIGN KEY (recovery_id) REFERENCES recovery;
ALTER TABLE record DROP COLUMN latitude, DROP COLUMN longitude, DROP COLUMN accuracy, DROP COLUMN attached, DROP COLUMN bytes, DROP COLUMN types, DROP COLUMN hidden, DROP COLUMN gone_at, DROP COLUMN words, DROP COLUMN field_map, DROP COLUMN tab, DROP COLUMN row_id, DROP COLUMN page; DROP TABLE record_whole; ALTER TABLE recovered_database DROP COLUMN map_sha256, DROP COLUMN gaps; ALTER TABLE acquired_file DROP COLUMN found; ALTER TABLE mark DROP COLUMN label; DROP TABLE own_map, working_note, saved_search; DROP TABLE field_map; DROP FUNCTION count_hours CASCADE; DROP TABLE record_hour; DROP INDEX record_talk; CREATE INDEX record_thread ON record (acquisition_id, thread)`); err != nil {
		t.Fatal(err)
	}
	s = storetest.At(t, url)
	rs := list()
	for i := range rs {
		w, err := rs[i].Whole()
		if want := row(int64(i)); err != nil || rs[i].UID != want.UID || !reflect.DeepEqual(w, want) || rs[i].MarkReason == nil || rs[i].Table != "said" || rs[i].Words != search.Index("t", "Nets", "Ketil", "good") {
			t.Errorf("%+v, %+v, %v; want %+v", rs[i], w, err, want)
		}
	}
	// A version whose records had one origin.
	if _, err := owner.Exec(ctx, `DELETE FROM goose_db_version WHERE version_id >= 23; DROP FUNCTION count_months CASCADE; DROP FUNCTION change_records CASCADE; DROP FUNCTION change_case CASCADE; DROP FUNCTION month_key; ALTER TABLE package DROP COLUMN records; DROP INDEX record_by_what, record_by_people, record_by_kind, record_by_file, record_by_state, record_by_bytes, record_sized; DROP FUNCTION analyze_records; DROP FUNCTION count_sums CASCADE; DROP FUNCTION count_marks CASCADE; DROP TABLE record_sum, mark_sum; DROP TABLE compared, record_went, kept_answer, case_change, record_month, report_step, report_version, validation, head_stamp, report_template; ALTER TABLE mark DROP COLUMN label; DROP TABLE own_map, working_note, saved_search; ALTER TABLE record DROP COLUMN latitude, DROP COLUMN longitude, DROP COLUMN accuracy, DROP COLUMN attached, DROP COLUMN bytes, DROP COLUMN types, DROP COLUMN hidden, DROP COLUMN gone_at; ALTER TABLE recovered_database DROP COLUMN gaps; ALTER TABLE acquired_file DROP COLUMN found; DROP FUNCTION count_files CASCADE; DROP TABLE acquired_count;
UPDATE record_whole SET body = (SELECT '{' || string_agg(to_json(k)::text || ':' || v::text, ',' ORDER BY k = 'origin') || '}' FROM (
  SELECT CASE k WHEN 'origins' THEN 'origin' ELSE k END AS k, CASE k WHEN 'origins' THEN v->0 ELSE v END AS v FROM json_each(body::json) x(k, v)) y)`); err != nil {
		t.Fatal(err)
	}
	s = storetest.At(t, url)
	for i, r := range list() {
		if w, err := r.Whole(); err != nil || !reflect.DeepEqual(w, row(int64(i))) {
			t.Errorf("%+v, %v", w, err)
		}
	}
	for range 2 {
		err = s.SaveSearch(ctx, c, "lost calls", "q=kind%3Acall", "x")
	}
	all, err2 := s.SavedSearches(ctx, c.ID)
	if !errors.Is(err, store.ErrTaken) || err2 != nil || len(all) != 1 || s.ForgetSearch(ctx, &store.Case{ID: c.ID + 1}, all[0].ID) != nil {
		t.Errorf("%v, %v, %+v", err, err2, all)
	}
	if all, err = s.SavedSearches(ctx, c.ID); err != nil || len(all) != 1 { // another case takes nothing away
		t.Errorf("%v, %+v", err, all)
	}
	note := func() string {
		n, err := s.NoteOf(ctx, &rs[0])
		if err != nil || n == nil {
			return fmt.Sprint(err)
		}
		return n.Body + " by " + n.By
	}
	for _, w := range []struct{ was, body, want string }{{"", "look again", "look again by x"}, {"", "mine", "look again by x"}, {"look again", "twice", "twice by x"}, {"twice", "", "<nil>"}} {
		if err := s.SaveNote(ctx, &rs[0], w.was, w.body, "x"); errors.Is(err, store.ErrConflict) != (w.body == "mine") || note() != w.want {
			t.Errorf("a note of %q: %v, %q", w.body, err, note())
		}
	}
	for _, step := range []func() error{func() error { return nil }, func() error { return s.Mark(ctx, c, &rs[0], "Tools", "since", "x") }, func() error { return s.Unmark(ctx, c, &rs[1], "x") }} {
		if err := step(); err != nil {
			t.Fatal(err)
		}
		if found, err := s.Audit(ctx, c); err != nil || len(found) != 0 {
			t.Errorf("%v, %v", found, err)
		}
		rs = list()
	}
	// A mark's label is found by, and what somebody else wrote there is not overwritten.
	named, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Label: "tools"}, store.After{}, 9)
	labels, err2 := s.Labels(ctx, c.ID)
	if err != nil || err2 != nil || len(named) != 1 || named[0].MarkLabel != "Tools" || !slices.Equal(labels, []string{"Tools"}) {
		t.Errorf("%+v, %v, %v, %v", named, labels, err, err2)
	}
	if rs[0].MarkLabel = ""; !errors.Is(s.Mark(ctx, c, &rs[0], "mine", "since", "x"), store.ErrConflict) {
		t.Error("somebody else's label is overwritten")
	}
	if _, err := s.DB().ExecContext(ctx, "UPDATE mark SET label = 'other' WHERE label <> ''"); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Audit(ctx, c); err != nil || len(found) != 1 || !strings.Contains(found[0].What, `"other", in the ledger "Tools"`) {
		t.Errorf("%v, %v", found, err)
	}
}

// reading begins a recovery, and gives what keeps n records of it.
func reading(t testing.TB, s *store.Store, c *store.Case, e *store.Exhibit) (*store.Run, func(n int) error) {
	t.Helper()
	ctx := context.Background()
	at := time.Now()
	if _, err := s.QueueRun(ctx, c, store.Run{Kind: "k", Subject: []byte("{}"), Title: "t", By: "x"}); err != nil {
		t.Fatal(err)
	}
	r, err := s.TakeRun(ctx, &store.Process{ID: "p"}, time.Minute)
	var a *store.Acquisition
	if err == nil {
		a, err = s.AcquisitionForRun(ctx, c, r, store.Acquisition{ExhibitID: e.ID, Facts: []byte("{}"), StartedAt: at})
	}
	var v *store.Recovery
	if err == nil {
		v, _, err = s.RecoveryForRun(ctx, c, r, store.Recovery{AcquisitionID: a.ID, StartedAt: at})
	}
	if err != nil {
		t.Fatal(err)
	}
	return r, func(n int) error {
		_, err := s.SaveDatabase(ctx, c, r, a, &store.RecoveredDatabase{RecoveryID: v.ID, Path: "/x", ByOrigin: []byte("{}"), Withheld: []byte("{}")}, func(yield func(*record.Record, error) bool) {
			for i := range n {
				if !yield(&record.Record{UID: fmt.Sprint(i), Kind: record.Message, State: record.Intact, Times: []record.Time{{Role: "sent", At: &at}}, Text: "t", Parties: []record.Party{{Normal: "x"}}}, nil) {
					return
				}
			}
		})
		return err
	}
}

// A reading that fails, or panics, after many records keeps none of them, and what it was run by
// learns of it.
func TestReadingFails(t *testing.T) {
	s := storetest.Open(t)
	c, e := newCase(t, s)
	r, _ := reading(t, s, c, e)
	acq, err := s.AcquisitionByID(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	broken := errors.New("broken")
	for _, last := range []func() error{func() error { return broken }, func() error { panic(broken) }} {
		var said any
		func() {
			defer func() {
				if v := recover(); v != nil {
					said = v
				}
			}()
			_, err := s.SaveDatabase(context.Background(), c, r, acq, &store.RecoveredDatabase{RecoveryID: 1, Path: "/x", ByOrigin: []byte("{}"), Withheld: []byte("{}")}, func(yield func(*record.Record, error) bool) {
				for i := range 1000 {
					if !yield(&record.Record{UID: fmt.Sprint(i), Kind: record.Message, State: record.Intact, Text: "t"}, nil) {
						return
					}
				}
				yield(nil, last())
			})
			said = err
		}()
		if err, is := said.(error); !is || !errors.Is(err, broken) {
			t.Errorf("it says %v", said)
		}
		if n := storetest.Count(t, s, store.Filter{CaseID: c.ID}); n != 0 {
			t.Errorf("%d records are kept", n)
		}
	}
}

// A later reading with another field map takes the place of the earlier one, and says what
// changed; marks stay where the same record is read again, and go with an entry where not.
func TestReadingAgain(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, e := newCase(t, s)
	var a *store.Acquisition
	at := time.Now()
	read := func(whole bool, fieldMap string, texts ...string) store.Changes {
		t.Helper()
		if _, err := s.QueueRun(ctx, c, store.Run{Kind: "k", Subject: []byte("{}"), Title: "t", By: "x"}); err != nil {
			t.Fatal(err)
		}
		r, err := s.TakeRun(ctx, &store.Process{ID: "p"}, time.Minute)
		if err == nil && a == nil {
			a, err = s.AcquisitionForRun(ctx, c, r, store.Acquisition{ExhibitID: e.ID, Facts: []byte("{}"), StartedAt: at})
		}
		var v *store.Recovery
		if err == nil {
			v, _, err = s.RecoveryForRun(ctx, c, r, store.Recovery{AcquisitionID: a.ID, FullPass: whole, StartedAt: at})
		}
		if err != nil {
			t.Fatal(err)
		}
		ch, err := s.SaveDatabase(ctx, c, r, a, &store.RecoveredDatabase{RecoveryID: v.ID, Path: "/x", FieldMap: fieldMap, Whole: whole, ByOrigin: []byte("{}"), Withheld: []byte("{}")}, func(yield func(*record.Record, error) bool) {
			for i, text := range texts {
				if text != "" && !yield(&record.Record{UID: fmt.Sprint(i), Kind: record.Message, State: record.Intact, Times: []record.Time{{Role: "sent", At: &at}}, Text: text, Parties: []record.Party{{Normal: "x"}}, Origins: []record.Origin{{FieldMap: fieldMap}}}, nil) {
					return
				}
			}
		})
		if err != nil {
			t.Fatal(err)
		}
		return ch
	}
	marked := func() (texts []string) {
		t.Helper()
		rs, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Marked: true}, store.After{}, 10)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range rs {
			texts = append(texts, r.Summary)
		}
		slices.Sort(texts)
		return texts
	}
	read(true, "map 1", "one", "three", "two")
	rs, _, err := s.Records(ctx, store.Filter{CaseID: c.ID}, store.After{}, 10)
	if err != nil || len(rs) != 3 {
		t.Fatal(rs, err)
	}
	for i := range rs {
		if err := s.Mark(ctx, c, &rs[i], "", "because", "x"); err != nil {
			t.Fatal(err)
		}
	}
	for _, step := range []struct {
		whole  bool
		field  string
		texts  []string
		want   store.Changes
		marked []string
	}{
		{false, "map 1", []string{"one"}, store.Changes{}, []string{"one", "three", "two"}}, // a light pass sees less
		{true, "map 2", []string{"one", "", "zwei"}, store.Changes{Again: 2, Gone: 1}, []string{"one", "zwei"}},
		{false, "map 3", []string{"eins"}, store.Changes{Again: 1, Gone: 1}, []string{"eins"}}, // what an older map read goes
	} {
		// What was changed beside the whole record is read anew, and is no change of the reading.
		if _, err := s.DB().ExecContext(ctx, "UPDATE record SET summary = summary || '!', words = 'x', handle = 'somebody else' WHERE uid = '0'"); err != nil {
			t.Fatal(err)
		}
		if ch := read(step.whole, step.field, step.texts...); ch != step.want || !slices.Equal(marked(), step.marked) {
			t.Errorf("%v: %+v, marked %q", step, ch, marked())
		}
		if found, err := s.Audit(ctx, c); err != nil || len(found) != 0 {
			t.Errorf("%v, %v", found, err)
		}
	}
}

// What the chart counts is what the list lists: in each bin, over windows of any length, in
// the years 1 to 9999. Months are counted where some lie years apart.
func TestTheChartCountsTheList(t *testing.T) {
	s, owner := storetest.OpenWithOwner(t)
	ctx := context.Background()
	c, e := newCase(t, s)
	reading(t, s, c, e)
	begin := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	ats := []time.Time{begin, begin.Add(-time.Microsecond), begin.Add(24*time.Hour - time.Microsecond), begin.Add(24 * time.Hour), time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(9999, 12, 31, 23, 59, 59, 999_999_000, time.UTC)}
	for i := range 300 {
		ats = append(ats, begin.Add(time.Duration(i*i*977)*time.Millisecond))
	}
	for i, at := range ats {
		if _, err := owner.ExecContext(ctx, `INSERT INTO record(case_id, exhibit_id, acquisition_id, uid, kind, state, place, at, thread, thread_title, person, handle, direction, summary, db)
SELECT $1::bigint, $2::bigint, id, $3::text, 'message', (ARRAY['intact', 'recovered', 'held'])[1+$4::int%3], 'live row', $5::timestamptz, '', '', '', '', '', '', '/x' FROM acquisition WHERE exhibit_id = $2`, c.ID, e.ID, fmt.Sprint(i), i, at); err != nil {
			t.Fatal(err)
		}
	}
	for _, q := range []string{"DELETE FROM record WHERE uid IN ('17', '18', '300')", "UPDATE record SET state = 'earlier', at = at + interval '1 hour' WHERE uid IN ('20', '250')", "UPDATE record SET at = NULL WHERE uid = '21'"} {
		if _, err := owner.ExecContext(ctx, q); err != nil {
			t.Fatal(err)
		}
	}
	left := int64(len(ats) - 3)
	windows := [][2]time.Time{{begin.Add(-17*time.Minute - 3300*time.Millisecond), begin.Add(23*24*time.Hour + 5)}, {begin.Add(-time.Hour), begin.Add(28 * time.Hour)}, {begin.Add(time.Hour), begin.Add(29 * time.Hour)}}
	for i := range 20 { // of which most begin and end within an hour, some bins in none
		from := begin.Add(time.Duration(i) * 3671 * time.Second)
		windows = append(windows, [2]time.Time{from, from.Add(28*time.Hour + time.Duration(i)*10007*time.Second)})
	}
	windows = append(windows, [][2]time.Time{{begin, begin.Add(24 * time.Hour)}, {begin, begin.Add(7 * time.Microsecond)}, {ats[4], ats[5]}, {begin.Add(-time.Hour), begin.Add(time.Hour)}, {begin, begin}}...)
	twice := len(windows)
	hours := func() (out [][]gap.Hour) {
		for _, w := range windows {
			h, err := s.Hours(ctx, c.ID, e.ID, w[0], w[1])
			if err != nil {
				t.Fatal(err)
			}
			for i := range h {
				h[i].At = h[i].At.UTC()
			}
			out = append(out, h)
		}
		return out
	}
	before := hours()
	for i, w := range append(windows, windows...) {
		const n = 7
		f := store.Filter{CaseID: c.ID, From: w[0], To: w[1]}
		if i == twice { // and once more from times that are held in memory
			if err := store.Hold(ctx, s, f); err != nil || !store.Holds(ctx, s, f) {
				t.Fatal("the times are not held: ", err)
			}
		}
		if i > twice {
			f.State, f.Kinds, f.Exhibits = []string{"", "below", "held", "intact"}[i%4], [][]string{nil, {"message"}, {"message", "call"}}[i%3], [][]int64{nil, {e.ID, -1}}[i%2]
		}
		counts, err := s.Counts(ctx, f, n)
		if err != nil {
			t.Fatal(err)
		}
		got := map[string]int{}
		for _, k := range counts {
			got[fmt.Sprint(k.Bin, k.Kind, k.State)] += k.N
		}
		list, _, err := s.Records(ctx, f, store.After{}, 1000)
		if err != nil {
			t.Fatal(err)
		}
		want := map[string]int{}
		for _, r := range list {
			stride := (w[1].UnixMicro() - w[0].UnixMicro() + n - 1) / n
			want[fmt.Sprint((r.At.UnixMicro()-w[0].UnixMicro())/stride, r.Kind, r.State)]++
		}
		if !maps.Equal(got, want) || w[0].Before(w[1]) && len(list) == 0 && f.State == "" {
			t.Errorf("%v: %v, the list says %v", w, got, want)
		}
	}
	if after := hours(); !reflect.DeepEqual(after, before) {
		t.Errorf("hours that are held are %v, were %v", after, before)
	}
	if _, err := owner.ExecContext(ctx, "UPDATE record SET words = $1, parties = '{+447700900417}' WHERE uid = '0'", search.Index("the ketch lay off the harbour")); err != nil {
		t.Fatal(err)
	}
	for words, want := range map[string]int64{"harbour ketch": 1, "HARBOUR": 1, `"off the harbour"`: 1, `"harbour the off"`: 0, `ketch "the harbour`: 1, "ketch sloop": 0, "07700 900417": 1, "+447700900417": 1,
		"(07700) 900-417": 1, "900417": 1, "900418": 0, "417": 1, "ket": 1, "k_tch": 0, `"ket"`: 0, "etch": 0, "!": 0, `"`: left, "": left, `"44 7700" ketch`: 1, `"7700 44"`: 0} {
		if n := storetest.Count(t, s, store.Filter{CaseID: c.ID, Words: words}); n != want {
			t.Errorf("%s: %d records, want %d", words, n, want)
		}
	}
	words := store.Filter{CaseID: c.ID, Words: "harbour", From: begin, To: begin.Add(time.Hour)}
	if err := store.Hold(ctx, s, words); err != nil || !store.Holds(ctx, s, words) {
		t.Error("what words find is not held: ", err)
	}
	for _, f := range []store.Filter{{CaseID: c.ID, Words: "ketch"}, {CaseID: c.ID, Words: "harbour", Marked: true}, {CaseID: -1, Words: "harbour"}} {
		if store.Holds(ctx, s, f) {
			t.Errorf("%+v: held as another's", f)
		}
	}
	if _, err := owner.ExecContext(ctx, "UPDATE record SET words = '' WHERE uid = '0'"); err != nil {
		t.Fatal(err)
	}
	if n := storetest.Count(t, s, words); n != 0 || store.Holds(ctx, s, words) {
		t.Error("what is held is not given up when a record changes: ", n)
	}
	for _, odd := range []string{"'", `\\`, "$1 $2", "a:* & b | !c", "':*", "(((", "\x00harbour", "\xff\xfe", "東'京 7700\x00", strings.Repeat("harbour ", 3000), strings.Repeat(`"a b" `, 400), strings.Repeat("x", 100_000),
		strings.Repeat("7", 5000), "*", "👩‍👩‍👧", "\u202eharbour", "12-34 'x", "#417", "|", "a|b"} {
		storetest.Count(t, s, store.Filter{CaseID: c.ID, Words: odd})
		if _, err := s.Counts(ctx, store.Filter{CaseID: c.ID, Words: odd, From: begin, To: begin.Add(time.Hour)}, 7); err != nil {
			t.Errorf("%.40q: %v", odd, err)
		}
	}
	if rows, err := s.Board(ctx, c.ID); err != nil || rows[0].Records != left {
		t.Errorf("the board: %+v, %v", rows, err)
	}
	for _, q := range []string{"INSERT INTO acquired_file(acquisition_id, path, real_path, size, md5, sha1, sha256, segments, checked_at) SELECT id, n::text, '', 1, '', '', '', '{}', now() FROM acquisition, generate_series(1, 9) n",
		"UPDATE acquisition SET ended_at = now()", "UPDATE acquired_file SET fault = 'differs' WHERE path IN ('2', '3', '4')", "UPDATE acquired_file SET fault = '' WHERE path = '3'", "DELETE FROM acquired_file WHERE path IN ('4', '9')"} {
		if _, err := owner.ExecContext(ctx, q); err != nil {
			t.Fatal(err)
		}
	}
	if rows, err := s.Board(ctx, c.ID); err != nil || rows[0].Files != 7 || rows[0].Faulty != 1 {
		t.Errorf("the board's files: %+v, %v", rows, err)
	}
	var odd int
	if err := s.DB().QueryRowContext(ctx, `SELECT count(*) FROM (SELECT case_id, exhibit_id, kind, state, coalesce(date_trunc('hour', at, 'UTC'), '-infinity') AS at, count(*) AS n FROM record GROUP BY 1, 2, 3, 4, 5) r
FULL JOIN record_hour h USING (case_id, exhibit_id, kind, state, at) WHERE h.n IS DISTINCT FROM r.n`).Scan(&odd); err != nil || odd != 0 {
		t.Errorf("%d hours are not counted right, %v", odd, err)
	}
	if err := s.DB().QueryRowContext(ctx, `SELECT count(*) FROM (SELECT case_id, exhibit_id, acquisition_id, kind, state, count(*) AS n, count(at) AS timed FROM record GROUP BY 1, 2, 3, 4, 5) r
FULL JOIN record_sum h USING (case_id, exhibit_id, acquisition_id, kind, state) WHERE (h.n, h.timed) IS DISTINCT FROM (r.n, r.timed)`).Scan(&odd); err != nil || odd != 0 {
		t.Errorf("%d sums are not right, %v", odd, err)
	}
	marked := func(want int64) {
		t.Helper()
		if rows, err := s.Board(ctx, c.ID); err != nil || rows[0].Marked != want {
			t.Errorf("%+v, %v; want %d marked", rows, err, want)
		}
	}
	some, _, err := s.Records(ctx, store.Filter{CaseID: c.ID}, store.After{}, 3)
	if err != nil {
		t.Fatal(err)
	}
	for i := range some {
		if err := s.Mark(ctx, c, &some[i], "", "because", "x"); err != nil {
			t.Fatal(err)
		}
	}
	marked(3)
	some[1].MarkReason = new("because")
	if err := s.Unmark(ctx, c, &some[1], "x"); err != nil {
		t.Fatal(err)
	}
	marked(2)
	if err := s.DB().QueryRowContext(ctx, `SELECT count(*) FROM (SELECT case_id, date_trunc('month', at, 'UTC') AS month, exhibit_id, acquisition_id, db, thread, kind, state, direction, parties, count(*) AS n FROM record WHERE at IS NOT NULL AND (thread <> '' OR parties <> '{}') GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9, 10) r
FULL JOIN record_month m ON (m.case_id, m.month, m.exhibit_id, m.acquisition_id, m.db, m.thread, m.kind, m.state, m.direction) = (r.case_id, r.month, r.exhibit_id, r.acquisition_id, r.db, r.thread, r.kind, r.state, r.direction) AND m.parties IS NOT DISTINCT FROM r.parties WHERE m.n IS DISTINCT FROM r.n`).Scan(&odd); err != nil || odd != 0 {
		t.Errorf("%d months are not counted right, %v", odd, err)
	}
	// A conversation is of one database, and what is of none has nothing around it.
	for i, talk := range [][2]string{{"/x", "1"}, {"/y", "1"}, {"/x", "1"}, {"/x", ""}, {"/x", ""}} {
		if _, err := owner.ExecContext(ctx, "UPDATE record SET db = $1, thread = $2 WHERE uid = $3", talk[0], talk[1], fmt.Sprint(30+i)); err != nil {
			t.Fatal(err)
		}
	}
	all, _, err := s.Records(ctx, store.Filter{CaseID: c.ID}, store.After{}, 1000)
	if err != nil {
		t.Fatal(err)
	}
	for i := range all {
		want := map[string]int{"30": 2, "31": 1, "32": 2}[all[i].UID]
		if around, err := s.Around(ctx, &all[i], 10); err != nil || len(around) != want {
			t.Errorf("around %s there are %d records, %v", all[i].UID, len(around), err)
		}
	}
	months, err := s.Months(ctx, store.Filter{CaseID: c.ID})
	if err != nil || len(months) != 3 || months[1].N != left-3 {
		t.Errorf("%v, %v", months, err)
	}
	if months, err = s.Months(ctx, store.Filter{CaseID: c.ID, Kinds: []string{"contact"}}); err != nil || len(months) != 0 {
		t.Errorf("%v, %v", months, err)
	}
}

// A ledger proves that it holds an entry, and that it goes on from an earlier head; entries are found by what was done, on which
// thing, and by whom.
func TestTheLedgerProvesItself(t *testing.T) {
	s := storetest.Open(t)
	ctx := context.Background()
	c, _ := newCase(t, s)
	early, err := s.SignedHead(ctx, c.Book())
	if err != nil {
		t.Fatal(err)
	}
	for i := range 9 {
		if err := s.Log(ctx, store.Act{Book: c.Book(), By: "R. Aske", What: "record.marked", On: fmt.Sprint("record ", i)}); err != nil {
			t.Fatal(err)
		}
	}
	p, err := s.ProveEntry(ctx, c.Book(), early.Size+3)
	if err != nil || !strings.Contains(p.Line, `"on":"record 2"`) || p.Head.Size != early.Size+9 || p.Head.VerifySignature() != nil {
		t.Fatalf("%+v, %v", p, err)
	}
	if err := ledger.CheckInclusion([]byte(p.Line), p.Entry-1, p.Head.Size, p.Head.Root, p.Proof); err != nil {
		t.Error(err)
	}
	q, err := s.ProveHead(ctx, c.Book(), early.Size)
	if err != nil || q.Earlier.Root != early.Root || ledger.CheckConsistency(early.Size, q.Head.Size, early.Root, q.Head.Root, q.Proof) != nil {
		t.Errorf("%+v, %v", q, err)
	}
	for _, n := range []int64{0, -1, early.Size + 10} {
		if _, err := s.ProveEntry(ctx, c.Book(), n); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("entry %d: %v", n, err)
		}
		if _, err := s.ProveHead(ctx, c.Book(), n); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("head %d: %v", n, err)
		}
	}
	for f, want := range map[store.LedgerFilter]int{{What: "MARKED"}: 9, {On: "record 4"}: 1, {By: "aske", What: "record"}: 9, {By: "nobody"}: 0, {What: "%"}: 0} {
		if es, err := s.LedgerPage(ctx, c.Book(), f, 1<<40, 50); err != nil || len(es) != want {
			t.Errorf("%+v: %d, %v", f, len(es), err)
		}
	}
}
