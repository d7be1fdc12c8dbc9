package democase

import (
	"os/exec"
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
	}
}
