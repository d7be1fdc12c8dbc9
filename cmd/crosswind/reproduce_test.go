package main

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crosswind/core/casefile"
	"crosswind/core/record"
	"crosswind/internal/standin/democase"
)

// Records of a backup are read again the same from it, and told apart where they differ, are not there, or are of another file.
func TestReproduce(t *testing.T) {
	dir := t.TempDir()
	if err := democase.Make(dir, democase.Options{Recordings: 1, RecordingBytes: 4096, Few: true}); err != nil {
		t.Fatal(err)
	}
	backup := filepath.Join(dir, "backups", "harbour-phone-2026-09-24")
	out, stderr, code := command(t, dir, "read", "--json", "--full", backup)
	if code != 0 {
		t.Fatal(stderr)
	}
	var lines []*casefile.RecordLine
	files := map[string]string{}
	for line := range strings.Lines(out) {
		r := &record.Record{}
		if err := json.Unmarshal([]byte(line), r); err != nil {
			t.Fatal(err)
		}
		files[r.Origin().Path] = r.Origin().SHA256
		lines = append(lines, &casefile.RecordLine{Record: r, Exhibit: "1-A", Acquisition: 1})
	}
	if len(lines) < 1000 {
		t.Fatal(len(lines), "records")
	}
	changed, gone, other, unknown := *lines[0].Record, *lines[1].Record, *lines[2].Record, *lines[3].Record
	changed.Text += "!"
	move := func(r *record.Record, f func(*record.Origin)) {
		r.Origins = append([]record.Origin{}, r.Origins...)
		f(&r.Origins[0])
	}
	move(&gone, func(o *record.Origin) { o.Offset++ })
	move(&other, func(o *record.Origin) { o.SHA256 = strings.Repeat("0", 64) })
	move(&unknown, func(o *record.Origin) { o.Path += "-not" })
	lines[0].Record, lines[1].Record, lines[2].Record = &changed, &gone, &other
	lines = append(lines, &casefile.RecordLine{Record: &unknown})
	move(&unknown, func(o *record.Origin) { o.SHA256 = strings.Repeat("1", 64) })
	read := func(yield func(*record.Record, error) bool) {
		for line := range strings.Lines(out) {
			r := &record.Record{}
			if err := json.Unmarshal([]byte(line), r); !yield(r, err) {
				return
			}
		}
	}
	got, err := casefile.Reproduce(lines, read, files)
	if err != nil {
		t.Fatal(err)
	}
	n := map[casefile.Outcome]int{}
	for _, r := range got {
		n[r.Outcome]++
	}
	last := len(got) - 1
	if got[0].Outcome != casefile.Differs || got[0].What != "text" || got[1].Outcome != casefile.NotThere || got[2].Outcome != casefile.OtherFile || got[last].Outcome != casefile.NoFile || n[casefile.Same] != len(lines)-4 {
		t.Errorf("%v: %v %q, %v, %v, %v", n, got[0].Outcome, got[0].What, got[1].Outcome, got[2].Outcome, got[last].Outcome)
	}
	// What is no package is said to be none, and nothing is read.
	os.WriteFile(filepath.Join(dir, "no.zip"), bytes.Repeat([]byte("PK"), 50), 0o600)
	for _, bad := range []string{"no.zip", "missing", backup} {
		if out, stderr, code := command(t, dir, "reproduce", bad, backup); code == 0 || out != "" || stderr == "" {
			t.Errorf("%s: %d, %q, %q", bad, code, out, stderr)
		}
	}
}
