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
		if few { // which has none of its own
			files = append(files, recordings(orlopLibrary.long, 2, longBytes)...)
		}
		if err == nil {
			err = writeTree(at(name), files)
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
	if !few { // the card of the locker phone was also read on its own, in a reader
		card, err := os.ReadFile(locker.Volumes[1].Path)
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, "backups", "memory-card-of-the-locker-phone.img"), card, 0o644)
		}
		if err != nil {
			return nil, err
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

// onCard writes what goes onto a memory card into work: photographs of the galley phone's camera, and three notes. It
// gives the paths of the photographs.
func onCard(work string) (taken []string, err error) {
	all, err := tarnLibrary.pieces(time.Date(2026, 9, 22, 0, 0, 0, 0, time.UTC))
	if err != nil {
		return nil, err
	}
	for i, name := range []string{"a.txt", "b.txt", "c.txt"} {
		at := start.AddDate(0, 9+i, 0)
		to := filepath.Join(work, name)
		if err := errors.Join(os.WriteFile(to, []byte(fmt.Sprintf("high water %02d:%02d at the north quay\n", 3+i, 11*i)), 0o644), os.Chtimes(to, at, at)); err != nil {
			return nil, err
		}
	}
	for _, p := range all {
		if p.sort != "photo" || len(taken) == 15 {
			continue
		}
		to := filepath.Join(work, fmt.Sprintf("t-%03d.jpg", len(taken)))
		if err := errors.Join(os.WriteFile(to, p.data, 0o644), os.Chtimes(to, p.at, p.at)); err != nil {
			return nil, err
		}
		taken = append(taken, to)
	}
	return taken, nil
}

// second is what was said in a second account of the chat app, whose database was deleted as a file.
var second = []string{"use this one from now on", "is it only us here", "only us. the other one is for the library", "K wants to know about the drain", "third from the left. I told him", "and after",
	"after, this goes. the whole file, not line by line", "they look at lines", "then there are none"}

// secondAccount writes the database of that account: layout "gull 1".
func secondAccount(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	db, err := openDB(path, 1024, last)
	if err != nil {
		return err
	}
	defer db.Close()
	gullTables(db)
	db.exec("INSERT INTO talk VALUES (1, 'two of us', NULL)")
	for i, said := range second {
		way := []string{"to", "from"}[i%2]
		at := seconds(evening.Add(-70*time.Hour + time.Duration(i*i)*47*time.Second))
		db.exec("INSERT INTO post VALUES (?, 1, ?, ?, ?, ?, NULL, NULL, ?)", i+1, "+44 7700 900417", way, at, at, said)
	}
	_, err = db.finish(&Truth{Live: map[string]int{}}, gullPath, "post")
	return err
}

func makeImages(m handset.Model, work string) error {
	data, card := m.Volumes[0].Path, m.Volumes[1].Path
	id := fmt.Sprintf("%08x-0000-4000-8000-0000000a5e0%d", len(m.Serial)*7919, len(m.Mark))
	pictures := filepath.Join(m.Tree, "shots", "2026")
	taken, err := onCard(work)
	if err != nil {
		return err
	}
	if err := secondAccount(filepath.Join(work, "second.sqlite")); err != nil {
		return err
	}
	to := func(folder string, files ...string) []string {
		return append(append([]string{"mcopy", "-i", card, "-m"}, files...), "::/"+folder+"/")
	}
	for _, cmd := range [][]string{
		{"mkfs.ext4", "-q", "-F", "-U", id, "-E", "hash_seed=" + id + ",lazy_itable_init=0", "-L", "data", "-d", m.Tree, data, fmt.Sprintf("%dM", imageMiB)},
		{"debugfs", "-w", "-R", "mkdir /apps/gull", data}, // which is there if all apps are
		{"debugfs", "-w", "-R", "write second.sqlite /apps/gull/second.sqlite", data},
		{"debugfs", "-w", "-R", "rm /shots/2026/s-003.png", data},
		{"debugfs", "-w", "-R", "rm /shots/2026/s-006.png", data},
		{"debugfs", "-w", "-R", "rm /apps/gull/second.sqlite", data},
		{"mkfs.fat", "-F", "32", "-i", "26014000", "-n", "CARD", "--invariant", "-C", card, fmt.Sprint(imageMiB << 10)},
		{"mmd", "-i", card, "::/DCIM", "::/DCIM/100", "::/DCIM/lent to K", "::/TEMP"},
		to("DCIM", filepath.Join(pictures, "s-001.png"), filepath.Join(pictures, "s-002.png"), filepath.Join(pictures, "s-004.png")),
		to("DCIM/100", taken[:8]...),
		to("DCIM/lent to K", taken[8:12]...),
		to("TEMP", taken[12:15]...),
		{"mdel", "-i", card, "::/DCIM/s-002.png", "::/DCIM/100/t-003.jpg", "::/DCIM/100/t-005.jpg"},
		{"mdeltree", "-i", card, "::/DCIM/lent to K"},
		{"mdel", "-i", card, "::/TEMP/t-012.jpg", "::/TEMP/t-013.jpg", "::/TEMP/t-014.jpg"},
		to("TEMP", "a.txt", "b.txt", "c.txt"), // in whose entries those of the pictures were
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
