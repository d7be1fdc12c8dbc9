package main

import (
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crosswind/core/record"
	"crosswind/internal/standin/democase"
)

// The demo's backups, of both layouts, plain and encrypted, an archive and a tree of the same
// files, and a lone database give their records without a server, twice the same.
func TestRead(t *testing.T) {
	dir := t.TempDir()
	if err := democase.Make(dir, democase.Options{Recordings: 1, RecordingBytes: 4096, Few: true}); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(dir, "word"), []byte(democase.Password+"\n"), 0o600)
	os.WriteFile(filepath.Join(dir, "wrong"), []byte("gannet"), 0o600)
	before := map[string][]record.Record{}
	read := func(args ...string) []record.Record {
		t.Helper()
		if rs := before[strings.Join(args, " ")]; rs != nil {
			return rs
		}
		asked := strings.Join(args, " ")
		args = append([]string{"read", "--json", "--full"}, args...)
		out, stderr, code := command(t, dir, args...)
		if code != 0 {
			t.Fatalf("%v: %d: %s", args, code, stderr)
		}
		if len(before) < 3 { // one of each form
			if again, _, _ := command(t, dir, args...); out != again {
				t.Fatalf("%v: %d and %d bytes", args, len(out), len(again))
			}
		}
		var rs []record.Record
		seen := map[string]bool{}
		for line := range strings.Lines(out) {
			var r record.Record
			if err := json.Unmarshal([]byte(line), &r); err != nil || seen[r.UID] {
				t.Fatalf("%v: %v: %s", args, err, line)
			}
			seen[r.UID] = true
			rs = append(rs, r)
		}
		before[asked] = rs
		return rs
	}
	states := func(rs []record.Record) map[record.State]int {
		n := map[record.State]int{}
		for _, r := range rs {
			n[r.State]++
		}
		return n
	}
	for _, c := range []struct {
		source, lock string
		intact       int
		recovered    int
		says         string // one of these
	}{
		{"harbour-phone-2026-09-24", "", 3500, 150, ""},
		{"harbour-phone-2026-06-14", "word", 2000, 0, ""},
		{"galley-phone-2026-09-22.stow", "", 1200, 40, "is it done"},
	} {
		args := []string{filepath.Join("backups", c.source)}
		if c.lock != "" {
			if _, stderr, code := command(t, dir, "read", "--json", args[0]); code != 1 || !strings.Contains(stderr, "encrypted") {
				t.Errorf("without its password: %d %s", code, stderr)
			}
			if _, stderr, code := command(t, dir, "read", "--json", "--password-file", "wrong", args[0]); code != 1 || strings.Contains(stderr, "gannet") {
				t.Errorf("with a wrong password: %d %s", code, stderr)
			}
			args = append(args, "--password-file", c.lock)
		}
		rs := read(args...)
		n := states(rs)
		if n[record.Intact] < c.intact || n[record.Recovered] < c.recovered {
			t.Errorf("%s: %v", c.source, n)
		}
		found := c.says == ""
		for _, r := range rs {
			found = found || r.State == record.Recovered && r.Text == c.says
		}
		if !found {
			t.Errorf("%s: %q did not come back", c.source, c.says)
		}
	}
	// Backups within an archive are those that they are alone; what only looks like one is left.
	if out, err := exec.Command("sh", "-c", `cd "$0" && mkdir -p in/other && cp -r backups/harbour-phone-2026-09-24 in/ && cp backups/galley-phone-2026-09-22.stow in/other/ && echo '{}' >in/other/backup.json && tar -czf in.tgz in`, dir).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	uids := func(sources ...string) map[string]bool {
		all := map[string]bool{}
		for _, source := range sources {
			for _, r := range read(source) {
				all[r.UID] = true
			}
		}
		return all
	}
	if alone, within := uids("backups/harbour-phone-2026-09-24", "backups/galley-phone-2026-09-22.stow"), uids("in.tgz"); !maps.Equal(alone, within) {
		t.Errorf("%d records alone, %d within an archive", len(alone), len(within))
	}
	// An app that no built-in map reads, by the map of docs/fieldmaps.md.
	if err := os.WriteFile(filepath.Join(dir, "habits.toml"), []byte(habitsMap(t)), 0o644); err != nil {
		t.Fatal(err)
	}
	habits := map[record.State]int{}
	for _, r := range read("--map", "habits.toml", "backups/harbour-phone-2026-09-24") {
		if r.Origin().FieldMap == "habits 1" {
			habits[r.State]++
			if r.State == record.Recovered && strings.Contains(r.Text, "nobody asks") && r.At().Format("2006-01-02") == "2026-09-12" {
				habits["told"]++
			}
		}
	}
	if habits[record.Intact] < 150 || habits[record.Recovered] < 5 || habits["told"] != 1 {
		t.Errorf("habits: %v", habits)
	}
	// A tree, the same in an archive, and one database of it alone.
	tree := filepath.Join(dir, "tree")
	if err := os.MkdirAll(filepath.Join(tree, "data/ring"), 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("sqlite3", filepath.Join(tree, "data/ring/ring.db"))
	cmd.Stdin = strings.NewReader("PRAGMA secure_delete=0; CREATE TABLE ring(id INTEGER PRIMARY KEY, number TEXT NOT NULL, way INTEGER NOT NULL, began INTEGER NOT NULL, secs INTEGER NOT NULL, took INTEGER NOT NULL); INSERT INTO ring VALUES (1, '+44 7700 900417', 2, 1000000000, 61, 1), (2, '+44 7700 900288', 1, 1000000007, 0, 0), (3, '+44 7700 900417', 1, 1000000900, 5, 1); DELETE FROM ring WHERE id=2;")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	os.Symlink(filepath.Join(tree, "data/ring/ring.db"), filepath.Join(tree, "link.db"))
	if out, err := exec.Command("tar", "-C", tree, "-cf", filepath.Join(dir, "tree.tar"), "data").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, source := range []string{"tree", "tree.tar", "tree/data/ring/ring.db"} {
		rs := read(source)
		if n := states(rs); len(rs) != 3 || n[record.Intact] != 2 || n[record.Recovered] != 1 || rs[2].Summary() != "not answered" || len(rs[0].Origin().SHA256) != 64 {
			t.Errorf("%s: %+v", source, rs)
		}
	}
	for _, wrong := range []string{"word", "nowhere"} {
		if _, stderr, code := command(t, dir, "read", "--json", wrong); code != 1 || strings.Count(stderr, "\n") != 1 || !strings.Contains(stderr, wrong) {
			t.Errorf("%s: %d %s", wrong, code, stderr)
		}
	}
}
