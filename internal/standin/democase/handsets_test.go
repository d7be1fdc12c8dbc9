package democase

import (
	"bytes"
	"crosswind/core/carve"
	"crosswind/core/storage"
	"crosswind/core/volume"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The volumes are what the file systems' own programs call sound, with the files
// that are on them and without those that were deleted.
func TestHandsetsVolumes(t *testing.T) {
	all, err := Handsets(t.TempDir(), true)
	if err != nil {
		t.Fatal(err)
	}
	work, taken := t.TempDir(), map[string]bool{}
	photos, err := onCard(work)
	if err == nil {
		err = secondAccount(filepath.Join(work, "second.sqlite"))
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range photos {
		b, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		taken[string(b)] = true
	}
	for _, m := range all[1:] {
		data, card := m.Volumes[0].Path, m.Volumes[1].Path
		if out, err := exec.Command("fsck.ext4", "-n", "-f", data).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", m.Name, err, out)
		}
		if out, err := exec.Command("fsck.fat", "-n", card).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", m.Name, err, out)
		}
		out, err := exec.Command("debugfs", "-R", "ls -p /shots/2026", data).Output()
		if err != nil || !strings.Contains(string(out), "s-004.png") || strings.Contains(string(out), "/s-003.png/") {
			t.Errorf("%s, %v", out, err)
		}
		out, err = exec.Command("mdir", "-b", "-i", card, "::/DCIM").Output()
		if err != nil || !strings.Contains(string(out), "s-001.png") || strings.Contains(string(out), "s-002.png") {
			t.Errorf("%s, %v", out, err)
		}
		comesBack(t, card, "deleted", 7, taken)
		comesBack(t, card, "carved", 3, taken)
		chats, err := os.ReadFile(filepath.Join(work, "second.sqlite"))
		if err != nil {
			t.Fatal(err)
		}
		comesBack(t, data, "deleted", 3, map[string]bool{string(chats): true})
	}
}

// comesBack counts the files of a state that a volume gives; what is a photograph or a database of them is one
// of those that were put there.
func comesBack(t *testing.T, at string, state storage.State, want int, put map[string]bool) {
	t.Helper()
	image, err := os.ReadFile(at)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for f, err := range storage.Files(bytes.NewReader(image), int64(len(image)), storage.Options{Full: true}) {
		if err != nil {
			t.Fatal(err)
		}
		if f.State != state {
			continue
		}
		n++
		b, err := io.ReadAll(f.Reader(bytes.NewReader(image)))
		if err != nil || (f.Kind == carve.JPEG || f.Kind == carve.SQLite) && !put[string(b)] || f.Complete == volume.Part {
			t.Errorf("%s %s: %s, %s, %v", state, f.Path, f.Complete, f.Why, err)
		}
	}
	if n != want {
		t.Errorf("%s: %d %s files, not %d", at, n, state, want)
	}
}
