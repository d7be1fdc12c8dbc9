package recovery

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/core/scope"
	"crosswind/internal/acquire"
	"crosswind/internal/run"
	"crosswind/internal/run/runtest"
	"crosswind/internal/standin/democase"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
	"crosswind/internal/vault"
)

// start acquires the demo's backup and begins to work on runs.
func start(t *testing.T) (s *store.Store, rec *Recoverer, c *store.Case, a *store.Acquisition, source string, bench *runtest.Bench) {
	t.Helper()
	ctx := context.Background()
	s, dir := storetest.Open(t), t.TempDir()
	if err := democase.Make(dir, democase.Options{Recordings: 1, RecordingBytes: 4096, Few: true}); err != nil {
		t.Fatal(err)
	}
	if err := democase.Seed(ctx, s); err != nil {
		t.Fatal(err)
	}
	c, err := s.CaseByReference(ctx, democase.Reference)
	if err != nil {
		t.Fatal(err)
	}
	v, err := vault.OpenFolder(filepath.Join(dir, "vault"))
	if err != nil {
		t.Fatal(err)
	}
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		t.Fatal(err)
	}
	acq := &acquire.Acquirer{Store: s, Vault: v, Tool: "test"}
	rec = &Recoverer{Store: s, Vault: v, Tool: "test"}
	bench = runtest.Start(t, s, c, map[string]run.Job{"acquire": acq.Backup, "recover": func(ctx context.Context, t *run.Task) error { return rec.Recover(ctx, t) }}, io.Discard)
	source = filepath.Join(dir, "backups", "harbour-phone-2026-09-24")
	bench.Do("acquire", acquire.BackupSubject{Exhibit: es[0].ID, Reference: "014-A", Address: source})
	as, err := s.Acquisitions(ctx, c.ID, 0)
	if err != nil || len(as) != 1 {
		t.Fatal(as, err)
	}
	return s, rec, c, &as[0], source, bench
}

// records counts those of a case.
func records(t *testing.T, s *store.Store, c *store.Case) int64 {
	t.Helper()
	return storetest.Count(t, s, store.Filter{CaseID: c.ID})
}

// mapped reads a page map, and how many recovered rows it counts, lists and draws.
func mapped(t *testing.T, s *store.Store, r *store.Recovery, path string) (m *store.PageMap, rows, listed, drawn int64) {
	t.Helper()
	ctx := context.Background()
	m, err := s.PageMapOf(ctx, r.ID, path)
	if err != nil {
		t.Fatal(err)
	}
	var tally []store.Tally
	if err := json.Unmarshal(m.Tally, &tally); err != nil {
		t.Fatal(err)
	}
	for _, x := range tally {
		rows += x.Rows
	}
	for n := int64(1); n <= m.Pages; n++ {
		c := m.Cells[store.MapCell*(n-1):]
		drawn += int64(c[5]) + int64(c[6])<<8
		found, err := s.FoundRows(ctx, r.ID, path, n)
		if err != nil {
			t.Fatal(err)
		}
		listed += int64(len(found))
	}
	return m, rows, listed, drawn
}

// tripwire is a vault that calls trip when a blob is opened for the n-th time.
type tripwire struct {
	vault.Vault
	blob string
	n    int
	trip func()
}

func (w *tripwire) Open(sha256 string) (vault.Blob, error) {
	if sha256 == w.blob {
		if w.n--; w.n == 0 {
			w.trip()
		}
	}
	return w.Vault.Open(sha256)
}

// A run that is broken off in its second database goes on with that one, knows the
// names that the first one gave, and ends with what an unbroken one gives.
func TestRecoverGoesOn(t *testing.T) {
	ctx := context.Background()
	s, rec, c, a, _, bench := start(t)
	sub := Subject{Exhibit: a.ExhibitID, Acquisition: a.ID, Name: "014-A acquisition 1", Full: true}
	whole := rec.Vault
	breakOff := func() (id int64) {
		// The blob is opened to see what it is, and to be hashed.
		rec.Vault = &tripwire{whole, fileOf(t, s, a.ID, "/data/talk/talk.db").SHA256, 2, func() { go bench.Stop(); time.Sleep(200 * time.Millisecond) }}
		id = bench.Queue("recover", sub)
		for {
			r, err := s.RunByID(ctx, id)
			if err != nil {
				t.Fatal(err)
			}
			if r.State == "queued" && r.Fence > 0 {
				break
			}
			if r.State == "done" {
				t.Fatal("the run was not broken off")
			}
			time.Sleep(10 * time.Millisecond)
		}
		rec.Vault = whole
		return id
	}
	goOn := func(id int64) {
		bench.Restart()
		if r := bench.Wait(id); r.State != "done" {
			t.Fatalf("%+v", r)
		}
	}
	goOn(breakOff())
	count := func() int64 { return records(t, s, c) }
	after := count()
	messages, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Kinds: []string{"message"}}, store.After{}, 100)
	if err != nil || !slices.ContainsFunc(messages, func(r store.Record) bool { return r.Person != "" }) {
		t.Errorf("no names among %d messages, %v", len(messages), err)
	}
	bench.Do("recover", sub)
	if n := count(); n != after || n < 1000 {
		t.Errorf("%d records after a run that was broken off, %d after another", after, n)
	}

	// A further authority meanwhile: what is done is read again under its scope.
	id := breakOff()
	at, handle := time.Now(), messages[0].Handle
	if err := s.AddAuthority(ctx, c, store.Authority{Kind: "order", IssuedBy: "x", Number: "2", ValidFrom: at, ValidTo: at.Add(time.Hour), ScopeKinds: []string{"message"}, Privileged: []string{handle}}, "tester"); err != nil {
		t.Fatal(err)
	}
	goOn(id)
	if k := storetest.Count(t, s, store.Filter{CaseID: c.ID, Words: handle}); k != 0 {
		t.Errorf("%d records with a person who is privileged now", k)
	}
	r, err := s.LatestRecovery(ctx, a.ID)
	if err != nil {
		t.Fatal(err)
	}
	dbs, err := s.RecoveredDatabases(ctx, r.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range databases(dbs) {
		if d.FieldMap != "" && d.OutsideScope()[string(scope.PrivilegedWith)] == 0 {
			t.Errorf("%s: nothing is withheld: %v", d.Path, d.OutsideScope())
		}
		if _, rows, listed, _ := mapped(t, s, r, d.Path); rows == 0 || listed > rows {
			t.Errorf("%s: %d recovered rows, %d are listed", d.Path, rows, listed)
		}
	}
}

// databases are those of what a recovery read that are databases.
func databases(all []store.RecoveredDatabase) []store.RecoveredDatabase {
	return slices.DeleteFunc(all, func(d store.RecoveredDatabase) bool { return strings.Contains(d.FieldMap, ", version ") }) // of a reader
}

// From the demo's backup to records: live counts are those that the sqlite3
// program gives, a second run changes nothing, and an altered database is not
// read.
func TestRecover(t *testing.T) {
	ctx := context.Background()
	s, rec, c, a, source, bench := start(t)
	do := bench.Do
	sub := Subject{Exhibit: a.ExhibitID, Acquisition: a.ID, Name: "014-A acquisition 1", Full: true}
	told := 0
	rec.Said = func(_ context.Context, media, want string, open func() (io.ReadCloser, error)) (string, error) {
		b, err := open()
		if err != nil {
			return "", err
		}
		defer b.Close()
		sum := sha256.New()
		if _, err := io.Copy(sum, b); err != nil || hex.EncodeToString(sum.Sum(nil)) != want || media == "" {
			t.Errorf("%s, %s: %x, %v", media, want, sum.Sum(nil), err)
		}
		if told++; told > 1 {
			return "", errors.New("it is of no use")
		}
		return "the windlass clause", nil
	}
	if r := do("recover", sub); r.State != "done" {
		t.Fatalf("%+v", r)
	}
	// A file is found by a text that is told of it elsewhere, and does not say it.
	said, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Words: "windlass"}, store.After{}, 9)
	if err != nil || told < 2 || len(said) != 1 || strings.Contains(said[0].Body, "windlass") {
		t.Errorf("of %d files: %+v, %v", told, said, err)
	}
	r, err := s.LatestRecovery(ctx, a.ID)
	if err != nil {
		t.Fatal(err)
	}
	dbs, err := s.RecoveredDatabases(ctx, r.ID)
	if err != nil {
		t.Fatal(err)
	}
	// Pictures and sounds that say no time of their own lie at the time at which their file was written.
	one, err := store.Together(dbs)
	if len(one) != 7 || !slices.ContainsFunc(one, func(d store.RecoveredDatabase) bool { return d.Path == "24 files" && d.Live == 24 }) {
		t.Errorf("%+v, %v", one, err)
	}
	for _, d := range one {
		if n := d.OutsideScope()[string(scope.TimeUnknown)]; err != nil || n > 0 {
			t.Errorf("%s: %d without a time, %v", d.Path, n, err)
		}
	}
	dbs = databases(dbs)
	if err != nil || len(dbs) != 4 || dbs[0].FieldMap != "" || dbs[0].Live != 0 { // by path: the first is one that no map reads
		t.Fatal(dbs, err)
	}
	dbs = dbs[1:]
	// Records with a privileged person are counted and kept nowhere.
	if n := dbs[1].OutsideScope()[string(scope.PrivilegedWith)]; n < 10 || dbs[0].OutsideScope()[string(scope.PrivilegedWith)] != 1 || len(dbs[2].OutsideScope()) != 0 {
		t.Errorf("%v %v %v", dbs[0].OutsideScope(), dbs[1].OutsideScope(), dbs[2].OutsideScope())
	}
	if k := storetest.Count(t, s, store.Filter{CaseID: c.ID, Words: democase.Counsel.Number}); k != 0 {
		t.Errorf("%d records with a privileged person are kept", k)
	}
	for i, table := range []string{"card WHERE id <> 50", "ring WHERE number <> '" + democase.Counsel.Number + "'", "line"} { // by path
		f := fileOf(t, s, a.ID, dbs[i].Path)
		out, err := exec.Command("sqlite3", "-readonly", filepath.Join(source, f.Path), "SELECT count(*) FROM "+table).Output()
		if want, _ := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64); err != nil || dbs[i].Live != want {
			t.Errorf("%s: %d live records, sqlite3 counts %d (%v)", dbs[i].Path, dbs[i].Live, want, err)
		}
	}
	// The page map has every page once, and each recovered row on its page; what is
	// withheld is not listed.
	for _, d := range dbs {
		m, rows, listed, drawn := mapped(t, s, r, d.Path)
		if f := fileOf(t, s, a.ID, d.Path); m.Pages*int64(m.PageSize) != f.Size {
			t.Errorf("%s: %d pages of %d bytes, the file has %d", d.Path, m.Pages, m.PageSize, f.Size)
		}
		var withheld int64
		for _, n := range d.OutsideScope() {
			withheld += n
		}
		if rows == 0 || drawn != rows || listed > rows || listed < rows-withheld {
			t.Errorf("%s: %d recovered rows, %d drawn, %d listed, %d withheld", d.Path, rows, drawn, listed, withheld)
		}
	}
	count := func() int64 { return records(t, s, c) }
	before := count()
	some, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, State: string(record.Recovered), Words: "side gate"}, store.After{}, 1)
	if err != nil || len(some) != 1 {
		t.Fatal(some, err)
	}
	if err := s.Mark(ctx, c, &some[0], "", "because", "tester"); err != nil {
		t.Fatal(err)
	}
	sub.Full = false
	do("recover", sub)
	marked, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Marked: true}, store.After{}, 10)
	if err != nil || count() != before || len(marked) != 1 || marked[0].ID != some[0].ID {
		t.Errorf("%d records were %d, %d marked, %v", count(), before, len(marked), err)
	}

	// A further authority names a privileged person: what was kept goes at once, marked or
	// not, is counted as withheld, and the mark that goes is an entry of the ledger.
	wasWithheld := func() int64 {
		dbs, err := s.RecoveredDatabases(ctx, r.ID)
		if err != nil {
			t.Fatal(err)
		}
		return dbs[3].OutsideScope()[string(scope.PrivilegedWith)]
	}
	if wasWithheld() != 0 {
		t.Error(wasWithheld())
	}
	at := time.Now()
	if err := s.AddAuthority(ctx, c, store.Authority{Kind: "order", IssuedBy: "x", Number: "2", ValidFrom: at, ValidTo: at.Add(time.Hour), ScopeKinds: []string{"message"}, Privileged: []string{some[0].Handle}}, "tester"); err != nil {
		t.Fatal(err)
	}
	if k := storetest.Count(t, s, store.Filter{CaseID: c.ID, Words: some[0].Handle}); k != 0 || count() == before || wasWithheld() == 0 {
		t.Errorf("%d records with a person who is privileged now", k)
	}
	if marked, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Marked: true}, store.After{}, 10); err != nil || len(marked) != 0 {
		t.Errorf("%d marked, %v", len(marked), err)
	}
	entries, err := s.LedgerPage(ctx, c.Book(), store.LedgerFilter{}, 1<<40, 10)
	if err != nil || !slices.ContainsFunc(entries, func(e store.LedgerEntry) bool {
		return e.What == "record.unmarked" && e.On == some[0].UID && e.Detail["withheld"] == string(scope.PrivilegedWith) && e.Detail["was"] == "because"
	}) {
		t.Errorf("the mark went without an entry, %v", err)
	}
	if found, err := s.Audit(ctx, c); err != nil || len(found) != 0 {
		t.Errorf("%v, %v", found, err)
	}

	// Live records only were chosen: what was deleted is counted and withheld.
	sub.Full = true
	if _, err := s.DB().Exec("UPDATE acquisition SET live_only = true"); err != nil {
		t.Fatal(err)
	}
	do("recover", sub)
	if r, err = s.LatestRecovery(ctx, a.ID); err != nil {
		t.Fatal(err)
	}
	if dbs, err = s.RecoveredDatabases(ctx, r.ID); err != nil || dbs[3].OutsideScope()[string(scope.NotAskedFor)] < 100 {
		t.Errorf("%v, %v", dbs[3].OutsideScope(), err)
	}
	if k, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, State: string(record.Recovered)}, store.After{}, 5); err != nil || len(k) != 0 {
		t.Errorf("%d deleted records are kept, %v", len(k), err)
	}

	talk := fileOf(t, s, a.ID, "/data/talk/talk.db")
	blob := rec.Vault.(*vault.Folder).Path(talk.SHA256)
	b, err := os.ReadFile(blob)
	if err != nil {
		t.Fatal(err)
	}
	b[len(b)-1] ^= 1
	if os.Chmod(blob, 0o600) != nil || os.WriteFile(blob, b, 0o600) != nil {
		t.Fatal("altering the blob")
	}
	do("recover", sub)
	if r, err = s.LatestRecovery(ctx, a.ID); err != nil {
		t.Fatal(err)
	}
	if dbs, err = s.RecoveredDatabases(ctx, r.ID); err != nil || len(databases(dbs)) != 4 || dbs[3].Live != 0 || len(dbs[3].Notes) != 1 || !strings.Contains(dbs[3].Notes[0], "altered") {
		t.Errorf("%+v, %v", dbs, err)
	}
}

func fileOf(t *testing.T, s *store.Store, acquisition int64, realPath string) *store.File {
	t.Helper()
	for f, err := range s.AllFiles(context.Background(), acquisition, store.Both) {
		if err != nil {
			t.Fatal(err)
		}
		if f.RealPath == realPath {
			return f
		}
	}
	t.Fatalf("no file %s", realPath)
	return nil
}
