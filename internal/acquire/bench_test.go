package acquire

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	link "crosswind/internal/handset"
	"crosswind/internal/run"
	"crosswind/internal/run/runtest"
	"crosswind/internal/standin/democase"
	"crosswind/internal/standin/handset"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
	"crosswind/internal/vault"
)

// Target: acquiring with three digests, and the copy synced to the disk, reaches
// 0.7 of the throughput of the slowest digest, SHA-256, alone over the same bytes.
func BenchmarkAcquire(b *testing.B) {
	ctx := context.Background()
	s, dir := storetest.Open(b), b.TempDir()
	if err := democase.Make(dir, democase.Options{Recordings: 20, RecordingBytes: 20 << 20}); err != nil {
		b.Fatal(err)
	}
	if err := democase.Seed(ctx, s); err != nil {
		b.Fatal(err)
	}
	c, err := s.CaseByReference(ctx, democase.Reference)
	if err != nil {
		b.Fatal(err)
	}
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		b.Fatal(err)
	}
	source := filepath.Join(dir, "backups", "harbour-phone-2026-09-24")
	q := &Acquirer{Store: s, Tool: "bench", Keys: &Keys{}}
	do := runtest.Start(b, s, c, map[string]run.Job{"acquire backup": q.Backup}, io.Discard)
	var alone, acquiring time.Duration
	var size int64
	for b.Loop() {
		began := time.Now()
		size = hashAlone(b, source)
		alone += time.Since(began)
		vaultDir := filepath.Join(dir, "vault")
		if q.Vault, err = vault.OpenFolder(vaultDir); err != nil {
			b.Fatal(err)
		}
		r := do.Do("acquire backup", BackupSubject{Exhibit: es[0].ID, Reference: "014-A", Address: source})
		if r.State != "done" || r.BytesDone < size { // databases within its files come to that
			b.Fatalf("of %d bytes: %+v", size, r)
		}
		acquiring += r.EndedAt.Sub(*r.StartedAt)
		if err := os.RemoveAll(vaultDir); err != nil {
			b.Fatal(err)
		}
	}
	mib := float64(size) * float64(b.N) / (1 << 20)
	b.ReportMetric(mib/acquiring.Seconds(), "MiB/s")
	b.ReportMetric(mib/alone.Seconds(), "MiB/s-SHA-256-alone")
	b.ReportMetric(alone.Seconds()/acquiring.Seconds(), "ratio")
}

// hashAlone hashes all files below dir with SHA-256.
func hashAlone(b *testing.B, dir string) (size int64) {
	b.Helper()
	h := sha256.New()
	err := filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		f, err := os.Open(p)
		if err != nil {
			return err
		}
		defer f.Close()
		h.Reset()
		n, err := io.CopyBuffer(struct{ io.Writer }{h}, f, make([]byte, 256<<10))
		size += n
		return err
	})
	if err != nil {
		b.Fatal(err)
	}
	return size
}

// Target: raw storage over loopback at 0.6 or more of the throughput of SHA-256
// alone over the same bytes.
func BenchmarkStorage(b *testing.B) {
	ctx := context.Background()
	s, dir := storetest.Open(b), b.TempDir()
	if err := democase.Seed(ctx, s); err != nil {
		b.Fatal(err)
	}
	c, err := s.CaseByReference(ctx, democase.Reference)
	if err != nil {
		b.Fatal(err)
	}
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		b.Fatal(err)
	}
	images := filepath.Join(dir, "images")
	if err := os.Mkdir(images, 0o755); err != nil {
		b.Fatal(err)
	}
	noise := rand.NewChaCha8([32]byte{1})
	f, err := os.Create(filepath.Join(images, "data.img"))
	if err == nil {
		_, err = io.CopyN(f, noise, 400<<20)
		f.Close()
	}
	if err != nil {
		b.Fatal(err)
	}
	m := handset.Model{State: link.State{Mark: "TN-7", Mode: "service"}, Volumes: []handset.Image{{Volume: link.Volume{Name: "data"}, Path: f.Name()}}}
	srv := httptest.NewServer(handset.New(m).Handler())
	defer srv.Close()
	q := &Acquirer{Store: s, Tool: "bench", Keys: &Keys{}, Scratch: filepath.Join(dir, "scratch")}
	do := runtest.Start(b, s, c, map[string]run.Job{"acquire storage": q.Storage}, io.Discard)
	var alone, acquiring time.Duration
	var size int64
	for b.Loop() {
		began := time.Now()
		size = hashAlone(b, images)
		alone += time.Since(began)
		vaultDir := filepath.Join(dir, "vault")
		if q.Vault, err = vault.OpenFolder(vaultDir); err != nil {
			b.Fatal(err)
		}
		r := do.Do("acquire storage", HandsetSubject{Exhibit: es[0].ID, Reference: "014-A", Address: srv.URL})
		if r.State != "done" || r.BytesDone != size {
			b.Fatalf("of %d bytes: %+v", size, r)
		}
		acquiring += r.EndedAt.Sub(*r.StartedAt)
		if err := os.RemoveAll(vaultDir); err != nil {
			b.Fatal(err)
		}
	}
	mib := float64(size) * float64(b.N) / (1 << 20)
	b.ReportMetric(mib/acquiring.Seconds(), "MiB/s")
	b.ReportMetric(mib/alone.Seconds(), "MiB/s-SHA-256-alone")
	b.ReportMetric(alone.Seconds()/acquiring.Seconds(), "ratio")
}

// Target: 100,000 empty members of an archive are unpacked at 10,000 a second or more.
func BenchmarkEmptyMembers(b *testing.B) {
	ctx := context.Background()
	s, dir := storetest.Open(b), b.TempDir()
	if err := democase.Seed(ctx, s); err != nil {
		b.Fatal(err)
	}
	c, err := s.CaseByReference(ctx, democase.Reference)
	if err != nil {
		b.Fatal(err)
	}
	v, err := vault.OpenFolder(filepath.Join(dir, "vault"))
	if err != nil {
		b.Fatal(err)
	}
	q := &Acquirer{Store: s, Vault: v, Tool: "bench"}
	bench := runtest.Start(b, s, c, map[string]run.Job{"unpack": q.Unpack}, io.Discard)
	path := filepath.Join(dir, "many.tar")
	f, err := os.Create(path)
	if err != nil {
		b.Fatal(err)
	}
	t := tar.NewWriter(f)
	for i := range 100_000 {
		if err := t.WriteHeader(&tar.Header{Name: fmt.Sprintf("d%d/f%d", i%100, i), Mode: 0o644, ModTime: time.Unix(1_700_000_000, 0)}); err != nil {
			b.Fatal(err)
		}
	}
	if err := errors.Join(t.Close(), f.Close()); err != nil {
		b.Fatal(err)
	}
	n := 0
	for began := time.Now(); b.Loop(); {
		id, err := s.AddArchive(ctx, c, store.Archive{Name: "many.tar", Path: path, By: "bench"})
		if err != nil {
			b.Fatal(err)
		}
		a, err := s.ArchiveByID(ctx, c.ID, id)
		if err != nil {
			b.Fatal(err)
		}
		if r := bench.Wait(*a.RunID); r.State != "done" {
			b.Fatal(r.Error)
		}
		n += 100_000
		b.ReportMetric(float64(n)/time.Since(began).Seconds(), "members/s")
	}
}
