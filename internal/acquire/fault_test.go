package acquire

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// resume asks for a run to go on, as an examiner does.
func (b *bench) resume(r *store.Run) *store.Run {
	b.t.Helper()
	if err := b.s.WishRun(context.Background(), b.c, r, "run", "tester"); err != nil {
		b.t.Fatal(err)
	}
	return b.Wait(r.ID)
}

func (b *bench) newest() *store.Acquisition {
	b.t.Helper()
	all, err := b.s.Acquisitions(context.Background(), b.c.ID, 0)
	if err != nil || len(all) == 0 {
		b.t.Fatal(all, err)
	}
	return &all[len(all)-1]
}

// A vault without room stops the run cleanly, says what is kept, and goes on to
// the same manifest when there is room again.
func TestFullDisk(t *testing.T) {
	b := newBench(t)
	_, unbroken := b.acquire(b.whole)
	small := filepath.Join(b.dir, "small")
	if err := os.Mkdir(small, 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=5m", "tmpfs", small).CombinedOutput(); err != nil {
		t.Skipf("a small disk cannot be mounted here: %v %s", err, out)
	}
	t.Cleanup(func() { exec.Command("umount", "-l", small).Run() })
	v, err := vault.OpenFolder(small)
	if err != nil {
		t.Fatal(err)
	}
	b.q.Vault = v
	r, _ := b.acquire(b.whole)
	if r.State != "failed" || !strings.Contains(r.Error, "the vault's disk is full: parcels/") || !strings.Contains(r.Error, "are in the vault and stay there") {
		t.Fatalf("%s: %s", r.State, r.Error)
	}
	if left, err := os.ReadDir(filepath.Join(small, "incoming")); err != nil || len(left) != 0 {
		t.Errorf("%d files were left half-written, %v", len(left), err)
	}
	again, err := exec.Command("sh", "-c", `cd "$0" && find sha256 -type f | awk -F/ '{print $3 "  " $0}' | sha256sum -c --quiet`, small).CombinedOutput()
	if err != nil {
		t.Errorf("what is kept does not hold: %v %s", err, again)
	}
	if r = b.resume(r); r.State != "failed" {
		t.Errorf("without room: %s", r.State)
	}
	if out, err := exec.Command("mount", "-o", "remount,size=64m", small).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	if r = b.resume(r); r.State != "done" || b.newest().Manifest != unbroken.Manifest {
		t.Errorf("%s: %s, %+v", r.State, r.Error, b.newest())
	}
}

// The cable is pulled while a source is read: its files go, one is cut short. The
// run stops and says so, nothing half-read is taken for a file, and it goes on to
// the same manifest.
func TestSourceThatGoesAwayAndComesBack(t *testing.T) {
	b := newBench(t)
	_, unbroken := b.acquire(b.whole)
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	copyOf := filepath.Join(b.dir, "backups", "copy")
	for range 10 {
		if out, err := exec.Command("cp", "-a", b.whole, copyOf).CombinedOutput(); err != nil {
			t.Fatal(err, string(out))
		}
		id := b.Queue("acquire backup", BackupSubject{Exhibit: b.e.ID, Reference: b.e.Reference, Address: copyOf})
		for b.state(id) == "queued" {
			time.Sleep(time.Millisecond)
		}
		time.Sleep(time.Duration(r.IntN(90)) * time.Millisecond)
		err := filepath.WalkDir(copyOf, func(p string, d os.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				err = os.Truncate(p, 0)
			}
			return err
		})
		if err := errors.Join(err, os.RemoveAll(copyOf)); err != nil {
			t.Fatal(err)
		}
		run := b.Wait(id)
		if out, err := exec.Command("cp", "-a", b.whole, copyOf).CombinedOutput(); err != nil {
			t.Fatal(err, string(out))
		}
		if run.State == "failed" {
			run = b.resume(run)
		}
		a := b.newest()
		if run.State != "done" || a.Manifest != unbroken.Manifest || b.faults(a) != "[]" {
			t.Errorf("seed %d: %s %s: %+v, faults %s", seed, run.State, run.Error, a, b.faults(a))
		}
		if err := os.RemoveAll(copyOf); err != nil {
			t.Fatal(err)
		}
	}
}

func (b *bench) state(id int64) string {
	b.t.Helper()
	r, err := b.s.RunByID(context.Background(), id)
	if err != nil {
		b.t.Fatal(err)
	}
	return fmt.Sprint(r.State)
}
