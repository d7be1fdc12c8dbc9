package vault

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/iotest"
)

func open(t *testing.T) (*Folder, string) {
	t.Helper()
	dir := t.TempDir()
	v, err := OpenFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	return v, dir
}

func incoming(t *testing.T, dir string) int {
	t.Helper()
	e, err := os.ReadDir(filepath.Join(dir, "incoming"))
	if err != nil {
		t.Fatal(err)
	}
	return len(e)
}

// FIPS 180-4's example: the SHA-256 of "abc".
const abc = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"

func TestBlobsAreKeptUnderTheirDigestOnceAndReadOnly(t *testing.T) {
	v, dir := open(t)
	told := 0
	for range 2 {
		set, err := v.Put(context.Background(), strings.NewReader("abc"), func(n int) { told += n })
		if err != nil {
			t.Fatal(err)
		}
		if _, _, sum := set.Hex(); sum != abc {
			t.Error(sum)
		}
	}
	st, err := os.Stat(filepath.Join(dir, "sha256", "ba", abc))
	if err != nil || st.Mode().Perm() != 0o400 || st.Size() != 3 || told != 6 || incoming(t, dir) != 0 {
		t.Errorf("%v, %v, told %d, %d incoming", st.Mode(), err, told, incoming(t, dir))
	}
	f, err := v.Open(abc)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if b, _ := io.ReadAll(f); string(b) != "abc" || !v.Has(abc, 3) || v.Has(abc, 4) {
		t.Errorf("%q", b)
	}
	if _, err := v.Open("../../etc/passwd"); err == nil {
		t.Error("a path was taken for a digest")
	}
}

// What is zero takes no room, wherever it lies, and every byte comes back.
func TestHoles(t *testing.T) {
	v, _ := open(t)
	for name, parts := range map[string][]int{"in the middle": {100, -300_000, 70_000, -64 << 10, 1}, "at the ends": {-300_000, 5, -200_001}, "all": {-10 << 20}, "none": {300_000}} {
		var content []byte
		for _, n := range parts {
			content = append(content, bytes.Repeat([]byte{0x55}, max(0, n))...)
			content = append(content, make([]byte, max(0, -n))...)
		}
		set, err := v.Put(context.Background(), iotest.HalfReader(bytes.NewReader(content)), nil)
		if err != nil {
			t.Fatal(err)
		}
		_, _, sum := set.Hex()
		got, err := os.ReadFile(v.Path(sum))
		if err != nil || !bytes.Equal(got, content) {
			t.Errorf("%s: %d bytes back of %d, %v", name, len(got), len(content), err)
		}
		if st, err := os.Stat(v.Path(sum)); err == nil && name == "all" && st.Sys().(*syscall.Stat_t).Blocks > 100 {
			t.Errorf("%d blocks for nothing but zeros", st.Sys().(*syscall.Stat_t).Blocks)
		}
	}
}

// An altered blob is neither passed off as the new one nor written over.
func TestAlteredBlobIsNamed(t *testing.T) {
	v, dir := open(t)
	if _, err := v.Put(context.Background(), strings.NewReader("abc"), nil); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "sha256", "ba", abc)
	if err := errors.Join(os.Chmod(path, 0o600), os.WriteFile(path, []byte("abd"), 0o600)); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Put(context.Background(), strings.NewReader("abc"), nil); err == nil || !strings.Contains(err.Error(), "altered") {
		t.Error(err)
	}
	if b, _ := os.ReadFile(path); string(b) != "abd" {
		t.Error("the altered blob was written over")
	}
}

// Nothing half-written stays under a blob's name, or at all.
func TestBrokenOffReadsLeaveNothing(t *testing.T) {
	v, dir := open(t)
	broken := io.MultiReader(bytes.NewReader(make([]byte, 1<<20)), iotest.ErrReader(errors.New("cable pulled")))
	if _, err := v.Put(context.Background(), broken, nil); err == nil || !strings.Contains(err.Error(), "after 1048576 bytes: cable pulled") {
		t.Error(err)
	}
	ctx, cancel := context.WithCancelCause(context.Background())
	cause := errors.New("paused")
	if _, err := v.Put(ctx, endless{}, func(int) { cancel(cause) }); !errors.Is(err, cause) {
		t.Error(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "sha256")); err == nil || incoming(t, dir) != 0 {
		t.Errorf("%d incoming, %v", incoming(t, dir), err)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

func TestLeftoversOfDeadProcessesAreSwept(t *testing.T) {
	_, dir := open(t)
	if err := os.WriteFile(filepath.Join(dir, "incoming", "left"), nil, 0o600); err != nil { // however new it is
		t.Fatal(err)
	}
	owned, err := CreateOwned(filepath.Join(dir, "incoming"), "")
	if err != nil {
		t.Fatal(err)
	}
	defer owned.Close()
	if _, err := OpenFolder(dir); err != nil || incoming(t, dir) != 1 {
		t.Errorf("%v, %d left", err, incoming(t, dir))
	}
	if _, err := OpenFolder(owned.Name()); err == nil {
		t.Error("a file was taken for a vault")
	}
}
