package acquire

import (
	"bytes"
	"context"
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosswind/core/backup"
	"crosswind/core/ledger"
	"crosswind/internal/store"
	"crosswind/internal/vault"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// hand hands an archive in from a path, and waits until it is unpacked.
func (b *bench) hand(path string) *store.Archive {
	b.t.Helper()
	ctx := context.Background()
	id, err := b.s.AddArchive(ctx, b.c, store.Archive{Name: filepath.Base(path), Path: path, By: "tester"})
	if err != nil {
		b.t.Fatal(err)
	}
	a, err := b.s.ArchiveByID(ctx, b.c.ID, id)
	if err != nil {
		b.t.Fatal(err)
	}
	if r := b.Wait(*a.RunID); r.State != "done" {
		b.t.Fatalf("%+v", r)
	}
	if a, err = b.s.ArchiveByID(ctx, b.c.ID, id); err != nil {
		b.t.Fatal(err)
	}
	return a
}

func (b *bench) sh(script string) {
	b.t.Helper()
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir = filepath.Join(b.dir, "backups")
	if out, err := cmd.CombinedOutput(); err != nil {
		b.t.Fatalf("%v\n%s", err, out)
	}
}

// A backup in an archive of any sort gives the manifest of the folder itself.
func TestBackupsInArchives(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	_, plain := b.acquire(filepath.Join(b.dir, "backups", "harbour-phone-2026-08-02"))
	b.sh(`tar -cf ../a.tar harbour-phone-2026-08-02; tar --format=pax -czf ../a.tgz ./harbour-phone-2026-08-02
		cd harbour-phone-2026-08-02; python3 -c "import shutil; shutil.make_archive('../../a', 'zip', '.')"`)
	for name, inner := range map[string]string{"a.tar": "/harbour-phone-2026-08-02", "a.tgz": "/harbour-phone-2026-08-02", "a.zip": ""} {
		ar := b.hand(filepath.Join(b.dir, name))
		if ar.Refused != "" || ar.SHA256 == "" || ar.Size == 0 {
			t.Fatalf("%+v", ar)
		}
		address := fmt.Sprintf("archive:%d%s", ar.ID, inner)
		if _, err := b.q.FindOne(ctx, b.c.ID, address); err != nil {
			t.Fatal(err)
		}
		r, a := b.acquire(address)
		if a == nil || a.Manifest != plain.Manifest || !strings.Contains(a.Source, ar.SHA256) {
			t.Errorf("%s: %+v %+v", name, r, a)
		}
	}
	// A single archive that is handed in is a backup itself, and not unpacked.
	ar := b.hand(filepath.Join(b.dir, "backups", "galley-phone-2026-09-08.stow"))
	members, err := b.s.ArchiveMembers(ctx, ar.ID)
	if err != nil || len(members) != 1 || members[0].Path != "galley-phone-2026-09-08.stow" || members[0].SHA256 != ar.SHA256 {
		t.Errorf("%+v, %v", members, err)
	}
	// Another case does not see it.
	if _, err := b.q.Open(ctx, b.c.ID+1, fmt.Sprintf("archive:%d", ar.ID)); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	for _, bad := range []string{"archive:x", "archive:99", fmt.Sprintf("archive:%d/../../etc/passwd", ar.ID)} {
		if _, err := b.q.Open(ctx, b.c.ID, bad); err == nil {
			t.Errorf("%s was opened", bad)
		}
	}
}

// What is refused keeps the archive's own bytes and none of its members.
func TestRefusedArchive(t *testing.T) {
	b := newBench(t)
	b.sh(`echo x >../x; cd ..; tar -cPf e.tar --transform 's,^x$,../x,' truth.json x; head -c 2000 e.tar >cut.tar; gzip -9c e.tar >e.tgz`)
	for name, why := range map[string]string{"e.tar": "goes upwards", "e.tgz": "goes upwards", "cut.tar": "is damaged"} {
		ar := b.hand(filepath.Join(b.dir, name))
		members, err := b.s.ArchiveMembers(context.Background(), ar.ID)
		if err != nil || !strings.Contains(ar.Refused, why) || len(members) != 0 || !b.q.Vault.Has(ar.SHA256, ar.Size) {
			t.Errorf("%s: %+v, %d members, %v", name, ar, len(members), err)
		}
	}
}

// The content of a single archive is listed with the place where it lies in it,
// and is checked again with it.
func TestSingleArchive(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	path := filepath.Join(b.dir, "backups", "galley-phone-2026-09-22.stow")
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	_, a := b.acquire(path)
	if a == nil || a.Files != 1 || a.Bytes != int64(len(raw)) || a.Method != MethodArchive || len(a.ContentManifest) != 64 || b.faults(a) != "[]" {
		t.Fatalf("%+v", a)
	}
	// The manifest of the content holds for what GNU tar unpacks.
	var lines strings.Builder
	n := 0
	for f, err := range b.s.AllFiles(ctx, a.ID, store.Content) {
		if err != nil {
			t.Fatal(err)
		}
		n++
		fmt.Fprintf(&lines, "%s  %s\n", f.SHA256, f.Path)
		if at := f.Begins(); at < 0 || f.RealPath != strings.TrimPrefix(f.Path, "tree") {
			t.Errorf("%+v", f)
		}
	}
	cmd := exec.Command("sh", "-ec", `mkdir u; tar -C u -xf "$0"; cd u; sha256sum -c --strict --quiet; test $(find tree -type f | wc -l) = "$1"`, path, fmt.Sprint(n))
	cmd.Dir, cmd.Stdin = b.dir, strings.NewReader(lines.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	// What was never locked is not said to have been unlocked.
	var said []string
	for line, err := range b.s.Lines(ctx, b.c.Book()) {
		if err != nil {
			t.Fatal(err)
		}
		var e ledger.Entry
		if err := json.Unmarshal(line, &e); err != nil {
			t.Fatal(err)
		}
		if e.Detail["manifest_sha256"] == a.ContentManifest {
			said = append(said, e.What)
		}
	}
	if fmt.Sprint(said) != "[backup.content_read]" {
		t.Errorf("the ledger says of the content: %v", said)
	}
	r := b.Do("verify", VerifySubject{Exhibit: b.e.ID, Acquisition: a.ID, Name: "x", Against: "vault"})
	if r.State != "done" || r.ItemsDone != int64(n+1) {
		t.Errorf("%+v", r)
	}
}

// An encrypted single archive gives, unlocked, the content of the plain one.
func TestEncryptedSingleArchive(t *testing.T) {
	b := newBench(t)
	path := filepath.Join(b.dir, "backups", "galley-phone-2026-09-22.stow")
	_, plain := b.acquire(path)
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var l backup.Label
	if err := json.Unmarshal(plain.Facts, &l); err != nil {
		t.Fatal(err)
	}
	key := bytes.Repeat([]byte{7}, 32)
	kek, err1 := pbkdf2.Key(sha256.New, "petrel", []byte("salt"), 1000, 32)
	wrapped, err2 := backup.Wrap(kek, key)
	k, err3 := backup.NewKey(key)
	l.Encrypted, l.Lock = true, &backup.Lock{Salt: []byte("salt"), Rounds: 1000, Wrapped: wrapped}
	label, err4 := json.Marshal(l)
	out := bytes.NewBuffer(append(binary.BigEndian.AppendUint32([]byte(backup.StowMagic), uint32(len(label))), label...))
	err = errors.Join(err1, err2, err3, err4, k.Seal(out, raw, []byte("seven b")))
	if err := errors.Join(err, os.WriteFile(filepath.Join(b.dir, "locked.stow"), out.Bytes(), 0o644)); err != nil {
		t.Fatal(err)
	}
	_, a := b.acquire(filepath.Join(b.dir, "locked.stow"))
	if a == nil || a.ContentManifest != "" {
		t.Fatalf("%+v", a)
	}
	if err := b.q.Keys.Try(a, "gannet"); !errors.Is(err, backup.ErrPassword) {
		t.Error(err)
	}
	if err := b.q.Keys.Try(a, "petrel"); err != nil {
		t.Fatal(err)
	}
	if r := b.Do("unlock", UnlockSubject{Exhibit: b.e.ID, Acquisition: a.ID, Name: "x"}); r.State != "done" {
		t.Fatalf("%+v", r)
	}
	if a := b.newest(); a.ContentManifest != plain.ContentManifest {
		t.Errorf("the content's manifest is %s, of the plain archive %s", a.ContentManifest, plain.ContentManifest)
	}
}

// The same work over an object store ends with the same manifests.
func TestOverAnObjectStore(t *testing.T) {
	b := newBench(t)
	path := filepath.Join(b.dir, "backups", "galley-phone-2026-09-22.stow")
	_, folder := b.acquire(path)
	backend := s3mem.New()
	if err := backend.CreateBucket("evidence"); err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(gofakes3.New(backend).Server())
	defer srv.Close()
	t.Setenv("CROSSWIND_S3_KEY", "key")
	t.Setenv("CROSSWIND_S3_SECRET", "secret")
	v, err := vault.Open(context.Background(), "s3://"+strings.TrimPrefix(srv.URL, "http://")+"/evidence", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	b.q.Vault = v
	_, a := b.acquire(path)
	if a == nil || a.Manifest != folder.Manifest || a.ContentManifest != folder.ContentManifest {
		t.Errorf("%+v\n%+v", a, folder)
	}
	r := b.Do("verify", VerifySubject{Exhibit: b.e.ID, Acquisition: a.ID, Name: "x", Against: "vault"})
	bad, err := b.s.Files(context.Background(), store.FileFilter{Acquisition: a.ID, Part: store.Both, Faulty: true}, 10)
	if r.State != "done" || err != nil || len(bad) != 0 {
		t.Errorf("%+v, %+v, %v", r, bad, err)
	}
}

// A name that is not a text does not keep a file from being taken.
func TestNameThatIsNoText(t *testing.T) {
	b := newBench(t)
	if err := os.WriteFile(filepath.Join(b.whole, "odd\xff\xfename"), []byte("abc"), 0o644); err != nil {
		t.Fatal(err)
	}
	r, a := b.acquire(b.whole)
	if a == nil {
		t.Fatalf("%s: %s", r.State, r.Error)
	}
	f, err := b.s.FileByPath(context.Background(), a.ID, store.Source, `odd\xff\xfename`)
	if err != nil || f.Size != 3 || !strings.Contains(b.faults(a), "is not UTF-8") {
		t.Errorf("%+v, %v, %s", f, err, b.faults(a))
	}
}

// A known-file set names the files that sha256sum's list of them does, in
// acquisitions that are there and in one that comes later.
func TestKnownFiles(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	_, first := b.acquire(b.whole)
	b.sh(`(echo "sum,name"; cd harbour-phone-2026-09-24/parcels; ls | head -7 | xargs md5sum | sed 's/  /,/') >../known.csv`)
	list, err := os.Open(filepath.Join(b.dir, "known.csv"))
	if err != nil {
		t.Fatal(err)
	}
	defer list.Close()
	set, err := b.q.Vault.Put(ctx, list, nil)
	if err != nil {
		t.Fatal(err)
	}
	_, _, sum := set.Hex()
	if r := b.Do("known files", KnownSubject{Name: "seven", List: sum, Size: set.Size}); r.State != "done" {
		t.Fatalf("%+v", r)
	}
	_, second := b.acquire(b.whole)
	for _, a := range []*store.Acquisition{first, second} {
		all, err := b.s.Files(ctx, store.FileFilter{Acquisition: a.ID, Part: store.Both}, 100)
		if err != nil {
			t.Fatal(err)
		}
		unknown, err := b.s.Files(ctx, store.FileFilter{Acquisition: a.ID, Part: store.Both, Unknown: true}, 100)
		if err != nil || len(all)-len(unknown) != 7 {
			t.Errorf("%d files, %d unknown, %v", len(all), len(unknown), err)
		}
	}
	sets, err := b.s.KnownSets(ctx, b.c.ID)
	if err != nil || len(sets) != 1 || sets[0].Algorithm != "md5" || sets[0].Digests != 7 || sets[0].Skipped != 1 || sets[0].Files != 14 {
		t.Errorf("%+v, %v", sets, err)
	}
	if r := b.Do("known files", KnownSubject{Name: "none", List: first.Manifest, Size: 1}); r.State != "failed" {
		t.Errorf("a list that is not there: %s", r.State)
	}
}

// A schedule that is due queues a check of every acquisition, once, whoever
// looks, and comes round again.
func TestSchedule(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	b.acquire(b.whole)
	if err := b.s.SetSchedule(ctx, b.c, store.Schedule{Days: 7, NextAt: time.Now().Add(-15 * 24 * time.Hour), By: "tester"}); err != nil {
		t.Fatal(err)
	}
	looking, stop := context.WithTimeout(ctx, 600*time.Millisecond)
	defer stop()
	done := make(chan bool)
	for range 3 {
		go func() { b.q.Keep(looking, func(err error) { t.Error(err) }); done <- true }()
	}
	for range 3 {
		<-done
	}
	runs, err := b.s.Runs(ctx, b.c.ID, "verify", 10)
	if err != nil || len(runs) != 1 || runs[0].By != "schedule of tester" {
		t.Fatalf("%+v, %v", runs, err)
	}
	if r := b.Wait(runs[0].ID); r.State != "done" {
		t.Errorf("%+v", r)
	}
	s, err := b.s.ScheduleOf(ctx, b.c.ID)
	if left := time.Until(s.NextAt); err != nil || left < 5*24*time.Hour || left > 7*24*time.Hour {
		t.Errorf("%+v, %v", s, err)
	}
}
