package store_test

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
)

// newCase opens a case with one exhibit.
func newCase(t *testing.T, s *store.Store) (*store.Case, *store.Exhibit) {
	t.Helper()
	ctx := context.Background()
	if err := s.AddCase(ctx, store.Case{Reference: "T-1", Title: "Test", Zone: "UTC"}, store.Authority{Kind: "warrant", IssuedBy: "x", Number: "1", ValidFrom: time.Now(), ValidTo: time.Now(), ScopeKinds: []string{"message"}}, "tester"); err != nil {
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

// The database itself refuses to change the ledger, for the role that the
// application uses.
func TestLedgerIsAppendOnly(t *testing.T) {
	s := storetest.Open(t)
	c, _ := newCase(t, s)
	for _, q := range []string{
		"UPDATE ledger SET line = 'x'", "UPDATE ledger SET at = now() WHERE seq = 1", "DELETE FROM ledger", "DELETE FROM ledger WHERE seq = 4", "TRUNCATE ledger",
	} {
		if _, err := s.DB().Exec(q); err == nil || !strings.Contains(err.Error(), "append-only") {
			t.Errorf("%s: %v", q, err)
		}
	}
	faults, err := s.CheckLedger(context.Background(), c.Book())
	if err != nil || len(faults) > 0 {
		t.Error(err, faults)
	}
	// With the trigger out of the way, as only the table's owner can, a change
	// is found.
	for _, q := range []string{"ALTER TABLE ledger DISABLE TRIGGER ALL", "UPDATE ledger SET line = convert_to(replace(convert_from(line, 'UTF8'), 'tester', 'nobody'), 'UTF8') WHERE seq = 3"} {
		if _, err := s.DB().Exec(q); err != nil {
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
	a, err := s.AcquisitionForRun(ctx, c, store.Acquisition{ExhibitID: e.ID, RunID: r.ID, Facts: []byte("{}"), StartedAt: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	v, err := s.RecoveryForRun(ctx, store.Recovery{AcquisitionID: a.ID, RunID: r.ID, StartedAt: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for range 2 { // the second time must change nothing
		r := &record.Record{UID: "1", Kind: record.Message, State: record.Intact, At: &at, Text: "nul \x00 half \xff <script>alert(1)</script>"}
		if err := s.SaveDatabase(ctx, a, &store.RecoveredDatabase{RecoveryID: v.ID, Path: "/x", ByOrigin: []byte("{}"), Withheld: []byte("{}")}, func(yield func(*record.Record, error) bool) { yield(r, nil) }); err != nil {
			t.Fatal(err)
		}
	}
	broken := errors.New("the reader broke off")
	if err := s.SaveDatabase(ctx, a, &store.RecoveredDatabase{RecoveryID: v.ID, Path: "/y", ByOrigin: []byte("{}"), Withheld: []byte("{}")}, func(yield func(*record.Record, error) bool) {
		if yield(&record.Record{UID: "2", Kind: record.Message, State: record.Intact, At: &at}, nil) {
			yield(nil, broken)
		}
	}); !errors.Is(err, broken) {
		t.Error(err)
	}
	if dbs, err := s.RecoveredDatabases(ctx, v.ID); err != nil || len(dbs) != 1 {
		t.Errorf("%v, %v", dbs, err)
	}
	got, err := s.Records(ctx, store.Filter{CaseID: c.ID, Words: "<script>"}, store.After{}, 10)
	if err != nil || len(got) != 1 || got[0].Summary != "nul ␀ half � <script>alert(1)</script>" {
		t.Errorf("%+v, %v", got, err)
	}
	if got, err = s.Records(ctx, store.Filter{CaseID: c.ID, Words: "%"}, store.After{}, 10); err != nil || len(got) != 0 {
		t.Errorf("a percent sign was taken for a pattern: %d, %v", len(got), err)
	}
}
