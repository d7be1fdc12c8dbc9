package acquire

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crosswind/core/backup"
	"crosswind/internal/recovery"
	"crosswind/internal/run"
	"crosswind/internal/run/runtest"
	"crosswind/internal/standin/democase"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
	"crosswind/internal/vault"
)

// The encrypted backup is acquired as it is, refuses a wrong password, opens
// with the right one, and gives records; the password is nowhere afterwards.
func TestUnlock(t *testing.T) {
	ctx := context.Background()
	s, dir := storetest.Open(t), t.TempDir()
	if err := errors.Join(democase.Make(dir, democase.Options{Recordings: 1, RecordingBytes: 4096, Few: true}), democase.Seed(ctx, s)); err != nil {
		t.Fatal(err)
	}
	c, err := s.CaseByReference(ctx, democase.Reference)
	if err != nil {
		t.Fatal(err)
	}
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		t.Fatal(err)
	}
	data := filepath.Join(dir, "data")
	v, err := vault.OpenFolder(data)
	if err != nil {
		t.Fatal(err)
	}
	var log bytes.Buffer
	u := &Acquirer{Store: s, Vault: v, Tool: "test", Keys: &Keys{}}
	bench := runtest.Start(t, s, c, map[string]run.Job{
		"acquire": u.Backup, "unlock": u.Unlock, "try passwords": u.TryPasswords, "recover": (&recovery.Recoverer{Store: s, Vault: v, Tool: "test"}).Recover}, &log)
	do := bench.Do
	do("acquire", BackupSubject{Exhibit: es[0].ID, Reference: "014-A", Address: filepath.Join(dir, "backups", "harbour-phone-2026-06-14")})
	acquisition := func() *store.Acquisition {
		as, err := s.Acquisitions(ctx, c.ID, 0)
		if err != nil || len(as) != 1 {
			t.Fatal(as, err)
		}
		return &as[0]
	}
	a := acquisition()
	sub := UnlockSubject{Exhibit: es[0].ID, Acquisition: a.ID, Name: "014-A acquisition 1"}
	if r := do("unlock", sub); r.State != "failed" || !strings.Contains(r.Error, "not in memory") {
		t.Errorf("without a key: %s %s", r.State, r.Error)
	}
	for _, wrong := range []string{"", "Cormorant-47", democase.Password + " "} {
		if err := u.Keys.Try(a, wrong); !errors.Is(err, backup.ErrPassword) {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	// A list of candidates: one that holds none, and one that holds the password.
	u.Keys.Hold(a.ID, []string{"gannet", "fulmar"})
	if r := do("try passwords", sub); r.State != "failed" || r.ItemsDone != 2 || !strings.Contains(r.Error, "None of the 2") {
		t.Errorf("%+v", r)
	}
	if r := do("try passwords", sub); r.State != "failed" || !strings.Contains(r.Error, "not in memory") {
		t.Errorf("%+v", r)
	}
	u.Keys.Hold(a.ID, []string{"gannet", democase.Password, "fulmar"})
	r0 := do("try passwords", sub)
	if r0.State != "done" || r0.ItemsDone != 2 || !strings.Contains(fmt.Sprint(r0.Log), "number 2 of the list") {
		t.Errorf("%+v", r0)
	}
	runs, err := s.Runs(ctx, c.ID, "unlock", 1)
	if err != nil {
		t.Fatal(err)
	}
	if r := bench.Wait(runs[0].ID); r.State != "done" || u.Keys.key(a.ID) != nil {
		t.Fatalf("%+v", r)
	}
	if a = acquisition(); len(a.ContentManifest) != 64 || a.UnlockedAt == nil {
		t.Errorf("%+v", a)
	}
	if r := do("recover", recovery.Subject{Exhibit: es[0].ID, Acquisition: a.ID, Name: sub.Name}); r.State != "done" {
		t.Fatalf("%+v", r)
	}
	rs, _, err := s.Records(ctx, store.Filter{CaseID: c.ID, Kinds: []string{"message"}}, store.After{}, 1)
	if err != nil || len(rs) != 1 {
		t.Fatal(rs, err)
	}
	r, err := rs[0].Whole()
	if err != nil {
		t.Fatal(err)
	}
	found := false
	for f, err := range s.AllFiles(ctx, a.ID, store.Content) {
		if err != nil {
			t.Fatal(err)
		}
		found = found || f.Path == r.Origin().Stored && f.SHA256 == r.Origin().SHA256 && f.RealPath == "/data/talk/talk.db"
	}
	if !found {
		t.Errorf("the record's file is not among the content: %+v", r.Origin())
	}

	// The password is in no file, no log and no table.
	err = filepath.WalkDir(data, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if bytes.Contains(b, []byte(democase.Password)) {
			t.Errorf("%s holds the password", path)
		}
		return err
	})
	if err != nil || strings.Contains(log.String(), democase.Password) {
		t.Error("the log holds the password", err)
	}
	var url string
	if err := s.DB().QueryRow("SELECT current_database()").Scan(&url); err != nil {
		t.Fatal(err)
	}
	admin := os.Getenv("CROSSWIND_TEST_DATABASE")
	dump, err := exec.Command("pg_dump", "--inserts", admin[:strings.LastIndex(admin, "/")+1]+url).Output()
	if err != nil || len(dump) < 10000 || bytes.Contains(dump, []byte(democase.Password)) {
		t.Errorf("%d bytes of dump, %v", len(dump), err)
	}
}
