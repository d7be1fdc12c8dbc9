package acquire

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/internal/standin/democase"
	"crosswind/internal/standin/handset"
	"crosswind/internal/store"
)

// bench of a handset that is connected.
type handsetBench struct {
	*bench
	m   handset.Model
	url string
}

var handsets = sync.OnceValues(func() ([]handset.Model, error) {
	dir, err := demo()
	if err != nil {
		return nil, err
	}
	return democase.Handsets(dir, true)
})

// connect connects the demo's handset of that number, with files of its own.
func connect(t *testing.T, number int) *handsetBench {
	b := &handsetBench{bench: newBench(t)}
	all, err := handsets()
	if err != nil {
		t.Fatal(err)
	}
	b.m = all[number]
	tree := filepath.Join(b.dir, "tree")
	if out, err := exec.Command("cp", "-a", b.m.Tree, tree).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	b.m.Tree = tree
	b.q.Scratch, b.q.SyncEvery = filepath.Join(b.dir, "scratch"), 1<<20
	h := handset.New(b.m)
	h.MakeBackup = democase.MakeBackup
	srv := httptest.NewServer(h.Handler())
	t.Cleanup(srv.Close)
	b.url = srv.URL
	return b
}

// on does something on the handset, or has something go wrong.
func (b *handsetBench) on(path string, pairs ...string) {
	b.t.Helper()
	v := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		v.Set(pairs[i], pairs[i+1])
	}
	res, err := http.PostForm(b.url+path, v)
	if err != nil {
		b.t.Fatal(err)
	}
	res.Body.Close()
	if res.StatusCode != http.StatusOK {
		b.t.Fatalf("%s: %s", path, res.Status)
	}
}

// open makes the handset ready to be read.
func (b *handsetBench) open() {
	b.on("/link/ask")
	b.on("/screen/approve")
	b.on("/screen/code", "code", b.m.Code)
	b.on("/screen/radios")
}

func (b *handsetBench) subject() HandsetSubject {
	return HandsetSubject{Exhibit: b.e.ID, Reference: b.e.Reference, Address: b.url, Choice: Choice{Kinds: record.Kinds(), Others: true}}
}

// againstSource checks an acquisition against what it was read from, of which so many files
// differ.
func (b *bench) againstSource(a *store.Acquisition, differ int64) {
	b.t.Helper()
	if r := b.Do("verify", VerifySubject{Exhibit: b.e.ID, Acquisition: a.ID, Name: "x", Against: "source"}); r.State != "done" {
		b.t.Fatalf("%s: %s", r.State, r.Error)
	}
	v, err := b.s.Verifications(context.Background(), a.ID, 1)
	if err != nil || len(v) != 1 || v[0].Against != "source" || v[0].Faults != differ || v[0].Files == 0 {
		b.t.Errorf("%+v, want %d that differ, %v", v, differ, err)
	}
}

// sums is the SHA-256 of the manifest that sha256sum makes of a folder.
func sums(t *testing.T, dir string) string {
	t.Helper()
	cmd := exec.Command("sh", "-c", "find . -type f | sed 's,^./,,' | LC_ALL=C sort | xargs -d '\\n' sha256sum | sha256sum | cut -c1-64")
	cmd.Dir = dir
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

func TestHandsetRefusesUntilItsOwnerAllows(t *testing.T) {
	b := connect(t, 0)
	for _, c := range []struct {
		do   func()
		says string
	}{
		{func() {}, "radios are on"},
		{func() { b.on("/screen/radios") }, "not approved"},
		{func() { b.on("/screen/approve") }, "not approved"}, // nothing was asked
		{func() { b.on("/link/ask"); b.on("/screen/deny") }, "not approved"},
		{func() { b.on("/link/ask"); b.on("/screen/approve") }, "locked"},
		{func() { b.on("/screen/code", "code", "0000") }, "locked"},
	} {
		c.do()
		if r := b.Do("acquire handset", b.subject()); r.State != "failed" || !strings.Contains(r.Error, c.says) {
			t.Errorf("%s: %s, want %q", r.State, r.Error, c.says)
		}
	}
}

// What is acquired of a handset is what sha256sum says of its files, and only
// what was chosen.
func TestHandsetFiles(t *testing.T) {
	for number, kind := range map[int]string{0: "talk.db", 1: "wire.sqlite"} {
		b := connect(t, number)
		b.open()
		if r := b.Do("acquire handset", b.subject()); r.State != "done" {
			t.Fatalf("%s: %s", r.State, r.Error)
		}
		a := b.newest()
		if want := sums(t, b.m.Tree); a.Manifest != want || b.faults(a) != "[]" || a.Method != MethodFiles {
			t.Errorf("%+v, want the manifest %s, faults %s", a, want, b.faults(a))
		}
		b.againstSource(a, 0)
		if err := os.WriteFile(filepath.Join(b.m.Tree, "added"), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
		first, err := b.s.Files(context.Background(), store.FileFilter{Acquisition: a.ID}, 1)
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(b.m.Tree, first[0].Path)
		was, err := os.ReadFile(path)
		if err != nil || os.WriteFile(path, append([]byte("x"), was...), 0o644) != nil {
			t.Fatal(err)
		}
		b.againstSource(a, 1)
		if os.WriteFile(path, was, 0o644) != nil || os.Remove(filepath.Join(b.m.Tree, "added")) != nil {
			t.Fatal("putting it right again")
		}
		sub := b.subject()
		sub.Kinds, sub.Others = []record.Kind{record.Message}, false
		b.Do("acquire handset", sub)
		if number == 0 && b.newest().LiveOnly {
			t.Error("deleted records would be withheld")
		}
		fs, err := b.s.Files(context.Background(), store.FileFilter{Acquisition: b.newest().ID, Part: store.Both}, 10)
		if err != nil || len(fs) == 0 || len(fs) > 2 || !strings.HasSuffix(fs[0].RealPath, "/"+kind) || fs[len(fs)-1].RealPath != fs[0].RealPath && fs[1].RealPath != fs[0].RealPath+"-wal" {
			t.Errorf("%+v, %v", fs, err)
		}
	}
}

// A backup that the handset makes of itself is found, opens with the password that
// was set for it, and holds the handset's files.
func TestBackupMadeByTheHandset(t *testing.T) {
	for number, password := range map[int]string{0: "", 1: "gannet-and-gale"} {
		b := connect(t, number)
		b.open()
		if r := b.Do("make backup", b.subject()); r.State != "failed" || !strings.Contains(r.Error, "not in memory") {
			t.Errorf("%s: %s", r.State, r.Error)
		}
		b.q.Keys.HoldPassword(b.e.ID, password)
		seed := uint64(time.Now().UnixNano())
		at := rand.New(rand.NewPCG(seed, 0))
		size := treeSize(t, b.m.Tree)
		b.on("/fault/cut", "after", fmt.Sprint(at.Int64N(size)))
		r := b.Do("make backup", b.subject())
		for range 9 { // ten times the cable is pulled
			if r.State != "failed" || !strings.Contains(r.Error, "does not answer") {
				t.Fatalf("seed %d: %s: %s", seed, r.State, r.Error)
			}
			b.on("/fault/plug")
			b.on("/fault/cut", "after", fmt.Sprint(at.Int64N(size)))
			r = b.resume(r)
		}
		b.on("/fault/plug")
		if r = b.resume(r); r.State != "done" {
			t.Fatalf("%s: %s", r.State, r.Error)
		}
		made, err := filepath.Glob(filepath.Join(b.q.Roots[0], "made-*"))
		if err != nil || len(made) != 1 {
			t.Fatal(made, err)
		}
		f, err := b.q.FindOne(context.Background(), b.c.ID, made[0])
		if err != nil || f.Label.Encrypted != (password != "") || f.Label.Device.Serial != b.m.Serial {
			t.Fatal(f, err)
		}
		_, a := b.acquire(made[0])
		if p, err := b.s.Provenances(context.Background(), b.c); err != nil || !strings.Contains(p.Of(b.e.Reference, a).Since(a), "is what had been received") {
			t.Error(err, p)
		}
		part := store.Source
		if password != "" {
			if err := b.q.Keys.Try(a, password); err != nil {
				t.Fatal(err)
			}
			b.Do("unlock", UnlockSubject{Exhibit: b.e.ID, Acquisition: a.ID, Name: "x"})
			part = store.Content
		}
		n := 0
		for f, err := range b.s.AllFiles(context.Background(), a.ID, part) {
			if err != nil {
				t.Fatal(err)
			}
			if f.RealPath == "" {
				continue
			}
			n++
			raw, err := os.ReadFile(filepath.Join(b.m.Tree, f.RealPath))
			if sum := sha256.Sum256(raw); err != nil || f.SHA256 != hex.EncodeToString(sum[:]) {
				t.Errorf("%s: %v", f.RealPath, err)
			}
		}
		if n < 10 || b.faults(b.newest()) != "[]" {
			t.Errorf("%d files, faults %s", n, b.faults(b.newest()))
		}
	}
}

// The cable is pulled at ten random bytes; resumed, the manifest is that of an
// unbroken run.
func TestCableOfHandsetPulledAnywhere(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	b := connect(t, 0)
	b.open()
	want := sums(t, b.m.Tree)
	size := treeSize(t, b.m.Tree)
	for range 10 {
		b.on("/fault/cut", "after", fmt.Sprint(r.Int64N(size)))
		run := b.Do("acquire handset", b.subject())
		if run.State != "failed" || !strings.Contains(run.Error, "does not answer") {
			t.Fatalf("seed %d: %s: %s", seed, run.State, run.Error)
		}
		b.on("/fault/plug")
		if run = b.resume(run); run.State != "done" || b.newest().Manifest != want || b.faults(b.newest()) != "[]" {
			t.Fatalf("seed %d: %s: %s, faults %s", seed, run.State, run.Error, b.faults(b.newest()))
		}
	}
}

func treeSize(t *testing.T, dir string) (n int64) {
	err := filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			st, serr := d.Info()
			n, err = n+st.Size(), serr
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// A message arrives while the handset is read with its radios on: the file that it
// changes is read again, and both readings are kept.
func TestFileThatChangesIsReadAgain(t *testing.T) {
	b := connect(t, 0)
	b.open()
	b.on("/screen/radios") // on again
	b.on("/fault/slow", "rate", "6000000")
	sub := b.subject()
	sub.Radios = "the shielded box is broken"
	id := b.Queue("acquire handset", sub)
	ctx := context.Background()
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		var n int
		if err := b.s.DB().QueryRow("SELECT count(*) FROM acquired_file WHERE path = 'data/talk/talk.db'").Scan(&n); err != nil || time.Now().After(end) {
			t.Fatal(n, err)
		}
		if n == 1 {
			break
		}
	}
	b.on("/fault/message")
	if r := b.Wait(id); r.State != "done" {
		t.Fatalf("%s: %s", r.State, r.Error)
	}
	a := b.newest()
	now, err1 := b.s.FileByPath(ctx, a.ID, store.Source, "data/talk/talk.db")
	before, err2 := b.s.FileByPath(ctx, a.ID, store.Source, "data/talk/talk.db@1")
	if err1 != nil || err2 != nil || now.SHA256 == before.SHA256 || before.RealPath != "" || now.RealPath != "/data/talk/talk.db" {
		t.Errorf("%+v\n%+v\n%v %v", now, before, err1, err2)
	}
	raw, err := os.ReadFile(filepath.Join(b.m.Tree, "data/talk/talk.db"))
	if sum := sha256.Sum256(raw); err != nil || now.SHA256 != hex.EncodeToString(sum[:]) || !strings.Contains(b.faults(a), "changed on the handset while it was read") {
		t.Errorf("%v, faults %s", err, b.faults(a))
	}
	if !strings.Contains(a.Settings, "radios on, because: the shielded box is broken") {
		t.Error(a.Settings)
	}
}

// service brings the handset into service mode.
func (b *handsetBench) service() {
	b.t.Helper()
	b.on("/screen/hold", "ms", fmt.Sprint(b.m.Hold.Milliseconds()))
	res, err := http.Post(b.url+"/service/enter", "application/json", strings.NewReader(`{"mark":"`+b.m.Mark+`"}`))
	if err != nil || res.StatusCode != http.StatusOK {
		b.t.Fatal(res, err)
	}
}

// The images are the volumes, also of a handset that restarts, and also when the
// cable is pulled at ten random bytes.
func TestStorage(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	b := connect(t, 3)
	if run := b.Do("acquire storage", b.subject()); run.State != "failed" || !strings.Contains(run.Error, "not in service mode") {
		t.Errorf("%s: %s", run.State, run.Error)
	}
	b.service()
	if run := b.Do("acquire storage", b.subject()); run.State != "done" {
		t.Fatalf("%s: %s", run.State, run.Error)
	}
	unbroken := b.newest()
	b.againstSource(unbroken, 0)
	for _, v := range b.m.Volumes {
		f, err := b.s.FileByPath(context.Background(), unbroken.ID, store.Source, v.Name+".img")
		out, serr := exec.Command("sha256sum", v.Path).Output()
		if err != nil || serr != nil || f.SHA256 != string(out[:64]) {
			t.Errorf("%s: %+v, %v %v", v.Name, f, err, serr)
		}
	}
	// What the images hold is what was put into the volumes (the handset's tree), and what was deleted there.
	if unbroken.ContentManifest == "" {
		t.Error("the content of the images has no manifest")
	}
	gone := map[string]bool{"data.img!/volume-1/deleted/shots/2026/s-003.png": true, "data.img!/volume-1/deleted/shots/2026/s-006.png": true}
	live := 0
	for f, err := range b.s.AllFiles(context.Background(), unbroken.ID, store.Content) {
		if err != nil {
			t.Fatal(err)
		}
		from := f.RealPath
		if i := strings.Index(f.Path, "/deleted/"); i >= 0 && strings.HasPrefix(f.Path, "data") && !strings.HasSuffix(f.Path, "/second.sqlite") { // which is not of the tree
			from = f.Path[i+len("/deleted"):]
			if !gone[f.Path] || f.Found == nil || f.Found.Complete != "whole" || f.Found.Image != "data.img" {
				t.Errorf("%s: %+v", f.Path, f.Found)
			}
			delete(gone, f.Path)
		} else if !strings.Contains(f.Path, "/live/") || strings.HasPrefix(f.Path, "card") || strings.Contains(strings.TrimPrefix(f.Path, "data.img!/"), "!/") {
			continue
		} else {
			live++
		}
		out, err := os.ReadFile(filepath.Join(b.m.Tree, from))
		if sum := sha256.Sum256(out); err != nil || f.SHA256 != hex.EncodeToString(sum[:]) {
			t.Errorf("%s is not what was put there: %v", f.Path, err)
		}
	}
	if len(gone) > 0 || live < 15 {
		t.Errorf("%v did not come back; %d live files", gone, live)
	}
	cut := func() { b.on("/fault/cut", "after", fmt.Sprint(r.Int64N(90<<20))) } // before a run begins, however fast it is
	cut()
	id := b.Queue("acquire storage", b.subject())
	for n := range 10 {
		run := b.Wait(id)
		b.on("/fault/plug")
		if run.State == "done" {
			break
		}
		if run.State != "failed" || !strings.Contains(run.Error, "does not answer") {
			t.Fatalf("seed %d: %s: %s", seed, run.State, run.Error)
		}
		if n < 9 {
			cut()
		}
		if err := b.s.WishRun(context.Background(), b.c, run, "run", "tester"); err != nil {
			t.Fatal(err)
		}
	}
	run := b.Wait(id)
	if !strings.Contains(strings.Join(run.Log, " "), "bytes were read before; the reading goes on behind them") {
		t.Errorf("seed %d: all was read again\n%s", seed, strings.Join(run.Log, "\n"))
	}
	if run.State != "done" || b.newest().Manifest != unbroken.Manifest {
		t.Errorf("seed %d: %s: %s", seed, run.State, run.Error)
	}
	if left, err := os.ReadDir(b.q.Scratch); err != nil || len(left) != 0 {
		t.Errorf("%d scratch files are left, %v", len(left), err)
	}
}

// A memory card's image that lies on this machine is found by what is in it, is acquired as it is, gives the same files as
// the card did in its handset, and is checked against its source.
func TestImageOfThisMachine(t *testing.T) {
	b := connect(t, 3)
	dir := t.TempDir()
	card, err := os.ReadFile(b.m.Volumes[1].Path)
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "the card.dd"), card, 0o644)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "noise.img"), bytes.Repeat([]byte("no volume "), 100_000), 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	b.q.Roots = []string{dir}
	found, err := b.q.FindImages(context.Background(), b.c.ID)
	if err != nil || len(found) != 1 || found[0].Size != int64(len(card)) || found[0].Volumes[0].Label != "CARD" {
		t.Fatalf("%+v, %v", found, err)
	}
	sub := ImageSubject{Exhibit: b.subject().Exhibit, Reference: b.subject().Reference, Path: found[0].Path}
	if run := b.Do("acquire image", sub); run.State != "done" {
		t.Fatalf("%s: %s", run.State, run.Error)
	}
	a := b.newest()
	b.againstSource(a, 0)
	// The full pass searches what is not in use, and when it comes again finds the same.
	for i, carved := range []int{0, 3, 3} {
		if i > 0 {
			if run := b.Do("recover", sub); run.State != "done" {
				t.Fatalf("%s: %s", run.State, run.Error)
			}
		}
		before := a.ContentManifest
		a = b.newest()
		states := map[string]int{}
		for f, err := range b.s.AllFiles(context.Background(), a.ID, store.Content) {
			if err != nil {
				t.Fatal(err)
			}
			if states[f.Found.State]++; f.Found.State == "live" && !strings.HasPrefix(f.RealPath, "/DCIM/") && !strings.HasPrefix(f.RealPath, "/TEMP/") || f.Found.Image != "the card.img" {
				t.Errorf("%s: %s, %+v", f.Path, f.RealPath, f.Found)
			}
		}
		if states["live"] != 11 || states["deleted"] != 7 || states["carved"] != carved || a.Files != 1 || (a.ContentManifest == before) != (i != 1) {
			t.Errorf("%d files; content %v, manifest %s", a.Files, states, a.ContentManifest)
		}
	}
	if found, err := b.s.Audit(context.Background(), b.c); err != nil || len(found) > 0 {
		t.Errorf("%v, %v", found, err)
	}
}

// Sectors that cannot be read are zeros in the image, named exactly, and the rest
// is as it is.
func TestStorageWithReadErrors(t *testing.T) {
	b := connect(t, 2)
	b.service()
	raw, err := os.ReadFile(b.m.Volumes[0].Path)
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range [][2]int{{5 << 20, 5<<20 + 512}, {7<<20 - 1000, 7<<20 + 1}, {20 << 20, 20<<20 + 8192}} {
		b.on("/fault/sector", "volume", "data", "from", fmt.Sprint(bad[0]), "to", fmt.Sprint(bad[1]))
		clear(raw[bad[0]/512*512 : (bad[1]+511)/512*512])
	}
	if run := b.Do("acquire storage", b.subject()); run.State != "done" {
		t.Fatalf("%s: %s", run.State, run.Error)
	}
	a := b.newest()
	f, err := b.s.FileByPath(context.Background(), a.ID, store.Source, "data.img")
	if sum := sha256.Sum256(raw); err != nil || f.SHA256 != hex.EncodeToString(sum[:]) {
		t.Errorf("%+v, %v", f, err)
	}
	said := b.faults(a)
	for _, want := range []string{"bytes 5242880 to 5243391 ", "bytes 7339008 to 7340543 ", "bytes 20971520 to 20979711 "} {
		if !strings.Contains(said, want) {
			t.Errorf("no %q in %s", want, said)
		}
	}
	if strings.Count(said, "could not be read") != 3 {
		t.Error(said)
	}
}
