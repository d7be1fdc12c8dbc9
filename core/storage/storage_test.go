package storage

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crosswind/core/carve"
	"crosswind/core/volume"
)

func run(t *testing.T, name string, arg ...string) {
	t.Helper()
	c := exec.Command(name, arg...)
	c.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1", "LC_ALL=C.UTF-8")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s %s: %v: %s", name, strings.Join(arg, " "), err, out)
	}
}

// A device with a partition table (sfdisk), on which a card was used (mkfs.fat, mtools, FFmpeg's pictures): a picture
// written around files that are alive, one written around those and one that was deleted, too, and one outside of every
// partition. Each comes back bit for bit, once, and is known to be whole.
func TestFilesOfADevice(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	pictures := map[string][]byte{}
	for i, name := range []string{"around the living.jpg", "around the dead.jpg", "outside.jpg"} {
		run(t, "ffmpeg", "-hide_banner", "-loglevel", "error", "-f", "lavfi", "-i", fmt.Sprintf("testsrc2=size=%dx480,noise=alls=40:all_seed=%d", 600+8*i, i+2), "-frames:v", "1", "-q:v", "2", at(name))
		b, err := os.ReadFile(at(name))
		if err != nil {
			t.Fatal(err)
		}
		pictures[name] = b
	}
	write := func(name string, size int) {
		if err := os.WriteFile(at(name), bytes.Repeat([]byte("filled to its end. "), size/19+1)[:size], 0o644); err != nil {
			t.Fatal(err)
		}
	}
	card, on := at("card"), "::/"
	write("card", 0)
	if err := os.Truncate(card, 3<<20); err != nil {
		t.Fatal(err)
	}
	run(t, "mkfs.fat", "-F", "12", "-s", "8", card)
	for i, size := range []int{8192, 20_000, 12_288, 40_000} {
		write(fmt.Sprintf("hole number %d.bin", i), size)
		run(t, "mcopy", "-i", card, at(fmt.Sprintf("hole number %d.bin", i)), on)
		write("stays.bin", 4096)
		run(t, "mcopy", "-i", card, at("stays.bin"), fmt.Sprintf("%sstays number %d.bin", on, i))
	}
	run(t, "mdel", "-i", card, on+"hole number 0.bin")
	run(t, "mcopy", "-i", card, at("around the living.jpg"), on)
	run(t, "mdel", "-i", card, on+"hole number 1.bin", on+"hole number 3.bin")
	run(t, "mcopy", "-i", card, at("around the dead.jpg"), on)
	run(t, "mdel", "-i", card, on+"around the living.jpg", on+"around the dead.jpg", on+"stays number 3.bin")
	image := make([]byte, 1<<20)
	b, err := os.ReadFile(card)
	if err != nil {
		t.Fatal(err)
	}
	image = append(append(image, b...), bytes.Repeat([]byte("behind the end of all "), 20_000)...)
	image = append(append(image, pictures["outside.jpg"]...), make([]byte, 1<<16)...)
	image = append(image, make([]byte, -len(image)&511)...)
	if err := os.WriteFile(at("device"), image, 0o644); err != nil {
		t.Fatal(err)
	}
	c := exec.Command("sfdisk", "-q", at("device"))
	c.Stdin = strings.NewReader("label: dos\n1M,3M,c\n")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if image, err = os.ReadFile(at("device")); err != nil {
		t.Fatal(err)
	}
	back := map[string]int{}
	for f, err := range Files(bytes.NewReader(image), int64(len(image)), Options{Full: true}) {
		if err != nil {
			t.Fatal(err)
		}
		own, err := io.ReadAll(f.Reader(bytes.NewReader(image)))
		if err != nil || int64(len(own)) != f.Size && f.Complete != volume.Part {
			t.Errorf("%s: %d of %d bytes, %v", f.Path, len(own), f.Size, err)
		}
		for name, b := range pictures {
			if bytes.Equal(own, b) {
				if back[name]++; f.Complete != volume.Whole || f.Kind != carve.JPEG || f.State == Live {
					t.Errorf("%s: %+v", name, f)
				}
			}
		}
		known := false
		for _, b := range pictures {
			known = known || bytes.Equal(own, b)
		}
		if f.Kind == carve.JPEG && f.Complete == volume.Whole && !known {
			t.Errorf("%s is called whole, and was never put there: %+v", f.Path, f)
		}
		t.Log(f.State, f.Path, f.Size, f.Complete, len(f.Extents), f.Why)
	}
	for name := range pictures {
		if back[name] != 1 {
			t.Errorf("%s comes back %d times", name, back[name])
		}
	}
}
