package acquire

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosswind/core/backup"
	"crosswind/internal/store"
)

// Pipes, sockets and devices in place of a label, an archive or a file, names that are no
// text, and folders without an end: the search ends, and names what it left out.
func TestHostilePlaces(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	place := filepath.Join(b.dir, "place")
	b.q.Roots = nil
	pipe := func(p string) {
		t.Helper()
		p = filepath.Join(place, p)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := syscall.Mkfifo(p, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	pipe("a/" + backup.LabelName)
	pipe("b.stow")
	pipe("c\x01\xff/" + backup.LabelName)
	if err := os.Symlink("/dev/zero", filepath.Join(place, "d")); err != nil {
		t.Fatal(err)
	}
	deep := place + strings.Repeat("/e", 60)
	if err := os.MkdirAll(deep, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(place, "g\xff\n.stow"), []byte("x\x00"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cp", "-a", b.whole, filepath.Join(place, "whole")).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	if err := b.s.AddPlace(ctx, b.c, place, "tester"); err != nil {
		t.Fatal(err)
	}
	type answer struct {
		found []Found
		notes []string
		err   error
	}
	got := make(chan answer, 1)
	go func() {
		found, notes, err := b.q.Find(ctx, b.c.ID)
		got <- answer{found, notes, err}
	}()
	select {
	case a := <-got:
		if a.err != nil || len(a.found) != 1 || !strings.Contains(strings.Join(a.notes, "\n"), "not a regular file") {
			t.Errorf("%d found, %q, %v", len(a.found), a.notes, a.err)
		}
	case <-time.After(60 * time.Second):
		t.Fatal("the search does not end")
	}
	// A backup in which a file became a pipe is acquired without it.
	whole := filepath.Join(place, "whole")
	list, _ := filepath.Glob(filepath.Join(whole, "parcels", "*"))
	if err := os.Remove(list[3]); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mkfifo(list[3], 0o644); err != nil {
		t.Fatal(err)
	}
	if r := b.Do("acquire backup", BackupSubject{Exhibit: b.e.ID, Reference: b.e.Reference, Address: whole}); r.State != "done" {
		t.Errorf("%s: %s", r.State, r.Error)
	}
	if err := b.s.DropPlace(ctx, b.c, place, "tester"); err != nil {
		t.Error(err)
	}
	if found, _, err := b.q.Find(ctx, b.c.ID); err != nil || len(found) != 0 {
		t.Errorf("%d found in a place that was taken away, %v", len(found), err)
	}
}

// A handset that lists files without an end, and one whose files have times that are none.
func TestHostileHandsets(t *testing.T) {
	b := newBench(t)
	endless := false
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/link/state":
			json.NewEncoder(w).Encode(map[string]any{"mode": "running", "screen": "works", "serial": "a\x00b", "name": "n\x00", "mark": "m", "approved": true, "unlocked": true})
		case "/link/tree":
			for i := 0; endless || i < 1; i++ {
				if _, err := fmt.Fprintf(w, `{"path":"/a%s%d","size":1,"changed":"2026-01-01T00:00:00Z"}`+"\n", strings.Repeat("x", 4000), i); err != nil {
					return
				}
			}
			fmt.Fprintf(w, `{"path":"/ok\u0000","size":1,"changed":"2026-01-01T00:00:00Z"}`+"\n"+`{"path":"/bad","size":1,"changed":"99999-01-01"}`+"\n"+`{"path":"/odd","size":1,"changed":5}`+"\n"+`{"path":"/less","size":-7,"changed":""}`+"\nnoise\nend\n")
		case "/link/file":
			w.Write([]byte("x"))
		}
	}))
	defer srv.Close()
	sub := HandsetSubject{Exhibit: b.e.ID, Reference: b.e.Reference, Address: srv.URL, Choice: Choice{Others: true}}
	if r := b.Do("acquire handset", sub); r.State != "done" {
		t.Fatalf("%s: %s", r.State, r.Error)
	}
	as, err := b.s.Acquisitions(context.Background(), b.c.ID, 0)
	if err != nil || len(as) != 1 || as[0].Files != 4 {
		t.Fatalf("%+v, %v", as, err)
	}
	if f, err := b.s.FileByPath(context.Background(), as[0].ID, store.Source, "bad"); err != nil || f.ModifiedAt != nil {
		t.Errorf("%+v, %v", f, err)
	}
	endless = true
	if r := b.Do("acquire handset", sub); r.State != "failed" || !strings.Contains(r.Error, "more than") {
		t.Errorf("%s: %s", r.State, r.Error)
	}
}

// A hundred thousand empty members: what is there already is not written again, and the
// list is kept in batches. Times that no calendar has cost a member its time.
func TestManyEmptyMembers(t *testing.T) {
	b := newBench(t)
	b.sh(`mkdir many; cd many; seq -f 'd%g' 0 99 | xargs mkdir; for d in d*; do (cd $d; seq 1 200 | xargs touch); done; touch -d @99999999999 d0/1; cd ..; tar --format=pax -cf ../many.tar many`)
	a := b.hand(filepath.Join(b.dir, "many.tar"))
	ms, err := b.s.ArchiveMembers(context.Background(), a.ID)
	if err != nil || len(ms) != 20_000 || a.Refused != "" {
		t.Fatalf("%d members, %q, %v", len(ms), a.Refused, err)
	}
}

// What a source lacks is not forgotten by a run that goes on later.
func TestWhatIsSaidOfAnAcquisition(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	b.sh(`cp -a harbour-phone-2026-09-24 cut; rm "$(ls cut/parcels/* | head -1)"; printf x >> "$(ls cut/parcels/* | sed -n 5p)"`)
	sub := BackupSubject{Exhibit: b.e.ID, Reference: b.e.Reference, Address: filepath.Join(b.dir, "backups", "cut")}
	b.q.Roots = []string{filepath.Join(b.dir, "backups")}
	if r := b.Do("acquire backup", sub); r.State != "done" {
		t.Fatal(r.Error)
	}
	as, err := b.s.Acquisitions(ctx, b.c.ID, 0)
	if err != nil {
		t.Fatal(err)
	}
	whole, err := b.s.AcquisitionFaults(ctx, as[0].ID)
	if err != nil || len(whole) < 2 {
		t.Fatal(whole, err)
	}
	// The same, broken off and resumed.
	id := b.Queue("acquire backup", sub)
	for {
		r, err := b.s.RunByID(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if r.ItemsDone > 5 || !r.Open() {
			break
		}
		time.Sleep(time.Millisecond)
	}
	b.Stop()
	b.Restart()
	if r := b.Wait(id); r.State != "done" {
		t.Fatal(r.Error)
	}
	if as, err = b.s.Acquisitions(ctx, b.c.ID, 0); err != nil || len(as) != 2 {
		t.Fatal(as, err)
	}
	again, err := b.s.AcquisitionFaults(ctx, as[1].ID)
	if err != nil || fmt.Sprint(again) != fmt.Sprint(whole) {
		t.Errorf("%v\nwithout a break\n%v, %v", again, whole, err)
	}
}

// A place with more files and folders than are looked at is searched as far as that, and
// says so.
func TestPlaceOfManyFiles(t *testing.T) {
	b := newBench(t)
	place := t.TempDir()
	for i := range maxSeen + 10 {
		f, err := os.Create(filepath.Join(place, fmt.Sprint(i)))
		if err != nil {
			t.Fatal(err)
		}
		f.Close()
	}
	if err := b.s.AddPlace(context.Background(), b.c, place, "tester"); err != nil {
		t.Fatal(err)
	}
	_, notes, err := b.q.Find(context.Background(), b.c.ID)
	if err != nil || !strings.Contains(strings.Join(notes, "\n"), "not all of it was looked into") {
		t.Errorf("%q, %v", notes, err)
	}
}
