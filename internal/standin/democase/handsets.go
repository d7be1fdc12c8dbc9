package democase

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"crosswind/core/backup"
	link "crosswind/internal/handset"
	"crosswind/internal/standin/handset"
)

// Handsets makes the handsets of the demo below dir/handsets: their files, and
// for those with raw storage an ext4 volume and a FAT32 memory card, made by the
// file systems' own programs, with files deleted by them.
func Handsets(dir string, few bool) ([]handset.Model, error) {
	base := filepath.Join(dir, "handsets")
	at := func(name string) string { return filepath.Join(base, name) }
	of := func(d backup.Device, family string) link.State {
		return link.State{Name: d.Name, Family: family, Mark: d.Mark, Serial: d.Serial, IMEI: d.IMEI, System: d.System, Mode: "running", Screen: "works", Radios: true, Battery: 71}
	}
	harbour := handset.Model{State: of(Handset, "Orlop"), Code: "4417", Tree: at("harbour"), Offset: 4 * time.Second}
	galley := handset.Model{State: of(Galley, "Tarn"), Code: "0932", Tree: at("galley"), Volumes: images(base, "galley"), Keys: "both volume keys", Hold: 3 * time.Second, Offset: -95 * time.Second}
	locker := handset.Model{State: of(Locker, "Tarn"), Code: "1111", Tree: at("galley"), Volumes: images(base, "locker"), Keys: "volume down and power", Hold: 4 * time.Second}
	locker.Screen = "dead"
	pilot := handset.Model{State: of(Pilot, "Tarn"), Code: "2222", Tree: at("galley"), Volumes: images(base, "pilot"), Keys: "volume up and power", Hold: 3 * time.Second}
	pilot.Mode = "restarting"
	all := []handset.Model{harbour, galley, locker, pilot}
	if _, err := os.Stat(filepath.Join(base, "made")); err == nil {
		return all, nil
	}
	work, err := os.MkdirTemp(dir, "making-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(work)
	if err := os.RemoveAll(base); err != nil {
		return nil, fmt.Errorf("removing half-made handsets: %w", err)
	}
	end := time.Date(2026, 9, 24, 18, 55, 0, 0, time.UTC)
	for name, make := range map[string]func(string, time.Time, bool) ([]content, *Truth, error){"harbour": handsetFiles, "galley": galleyFiles} {
		dir := filepath.Join(work, name)
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, err
		}
		files, _, err := make(dir, end, few)
		if err == nil {
			err = writeTree(at(name), append(files, recordings(2, 2<<20)...))
		}
		if err != nil {
			return nil, fmt.Errorf("making the files of the %s phone: %w", name, err)
		}
	}
	for _, m := range []handset.Model{galley, locker, pilot} {
		if err := makeImages(m, work); err != nil {
			return nil, fmt.Errorf("making the storage of the %s: %w", m.Name, err)
		}
	}
	return all, os.WriteFile(filepath.Join(base, "made"), nil, 0o644)
}

// Locker and Pilot are two further handsets of the family Tarn: one whose screen
// is dead, one that restarts again and again.
var (
	Locker = backup.Device{Name: "Locker phone", Mark: "TN-7C", Serial: "TEST-1177-D", IMEI: "004999011334454", System: "Tarn 3.2"}
	Pilot  = backup.Device{Name: "Pilot phone", Mark: "TN-5", Serial: "TEST-1205-E", IMEI: "004999011445565", System: "Tarn 2.9"}
)

func images(base, name string) []handset.Image {
	return []handset.Image{{Volume: link.Volume{Name: "data", Kind: "ext4"}, Path: filepath.Join(base, name+"-data.img")},
		{Volume: link.Volume{Name: "card", Kind: "FAT32"}, Path: filepath.Join(base, name+"-card.img")}}
}

// writeTree writes files below dir, with the times at which they were changed.
func writeTree(dir string, files []content) error {
	for _, f := range files {
		to := filepath.Join(dir, filepath.FromSlash(f.path))
		err := errors.Join(os.MkdirAll(filepath.Dir(to), 0o755), os.WriteFile(to, f.data, 0o644), os.Chtimes(to, f.changed, f.changed))
		if err != nil {
			return err
		}
	}
	return nil
}

const imageMiB = 48

func makeImages(m handset.Model, work string) error {
	data, card := m.Volumes[0].Path, m.Volumes[1].Path
	id := fmt.Sprintf("%08x-0000-4000-8000-0000000a5e0%d", len(m.Serial)*7919, len(m.Mark))
	pictures := filepath.Join(m.Tree, "shots", "2026")
	for _, cmd := range [][]string{
		{"mkfs.ext4", "-q", "-F", "-U", id, "-E", "hash_seed=" + id + ",lazy_itable_init=0", "-L", "data", "-d", m.Tree, data, fmt.Sprintf("%dM", imageMiB)},
		{"debugfs", "-w", "-R", "rm /shots/2026/s-003.png", data},
		{"debugfs", "-w", "-R", "rm /shots/2026/s-006.png", data},
		{"mkfs.fat", "-F", "32", "-i", "26014000", "-n", "CARD", "--invariant", "-C", card, fmt.Sprint(imageMiB << 10)},
		{"mmd", "-i", card, "::/DCIM"},
		{"mcopy", "-i", card, "-m", filepath.Join(pictures, "s-001.png"), filepath.Join(pictures, "s-002.png"), filepath.Join(pictures, "s-004.png"), "::/DCIM/"},
		{"mdel", "-i", card, "::/DCIM/s-002.png"},
	} {
		c := exec.Command(cmd[0], cmd[1:]...)
		c.Dir = work
		c.Env = append(os.Environ(), "E2FSPROGS_FAKE_TIME=1790276100", "SOURCE_DATE_EPOCH=1790276100", "MTOOLS_SKIP_CHECK=1", "TZ=UTC")
		var said bytes.Buffer
		c.Stdout, c.Stderr = &said, &said
		if err := c.Run(); err != nil {
			return fmt.Errorf("%s: %w: %s", strings.Join(cmd, " "), err, bytes.TrimSpace(said.Bytes()))
		}
	}
	return nil
}
