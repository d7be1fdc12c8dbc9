package democase

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"crosswind/core/backup"
	"crosswind/core/digest"
	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

var small = Options{Recordings: 1, RecordingBytes: 4096}

func TestTwoMakingsGiveTheSameBytes(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	for _, dir := range []string{a, b} {
		if err := Make(dir, small); err != nil {
			t.Fatal(err)
		}
	}
	n := 0
	err := filepath.WalkDir(a, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		n++
		rel, _ := filepath.Rel(a, path)
		x, err1 := os.ReadFile(path)
		y, err2 := os.ReadFile(filepath.Join(b, rel))
		if err1 != nil || err2 != nil || !bytes.Equal(x, y) {
			t.Errorf("%s differs (%v, %v)", rel, err1, err2)
		}
		return nil
	})
	if err != nil || n < 50 {
		t.Errorf("%d files, %v", n, err)
	}
}

// What is recovered from the demo's databases was really deleted: the truth
// file, written from what SQL said before each deletion, has every row.
func TestRecoveryAgainstTheTruthFile(t *testing.T) {
	dir := t.TempDir()
	if err := Make(dir, small); err != nil {
		t.Fatal(err)
	}
	var truth Truth
	b, err := os.ReadFile(filepath.Join(dir, "truth.json"))
	if err == nil {
		err = json.Unmarshal(b, &truth)
	}
	if err != nil {
		t.Fatal(err)
	}
	root := os.DirFS(filepath.Join(dir, "backups", "harbour-phone-2026-09-24"))
	bk, err := backup.Open(root)
	if err != nil || !bk.Whole() {
		t.Fatal(err, bk.Faults)
	}
	deleted, seen, counts := map[string]bool{}, map[string]bool{}, map[record.State]int{}
	for _, d := range truth.Deleted {
		for _, v := range []string{"body", "name"} {
			if s, ok := d.Values[v].(string); ok {
				deleted[s] = true
			}
		}
	}
	for _, f := range bk.Files {
		m := fieldmap.For(f.Path)
		if m == nil {
			continue
		}
		raw, err := os.ReadFile(filepath.Join(dir, "backups", "harbour-phone-2026-09-24", f.Stored))
		if err != nil {
			t.Fatal(err)
		}
		set, _ := digest.Reader(bytes.NewReader(raw))
		db, err := sqlitefile.Open(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			t.Fatal(err)
		}
		_, _, sum := set.Hex()
		src := &fieldmap.Source{Path: f.Path, Stored: f.Stored, SHA256: sum, Bytes: bytes.NewReader(raw)}
		for r, err := range m.Records(db, src, fieldmap.Names{}, salvage.Options{Full: true}, func(*salvage.Row) {}) {
			if err != nil {
				t.Fatal(err)
			}
			counts[r.State]++
			if r.State == record.Recovered && (r.Kind == record.Message || r.Kind == record.Contact) && len(r.Origin.Lost) <= 1 {
				if !deleted[r.Text] {
					t.Errorf("recovered %q, which was not deleted (%+v)", r.Text, r.Origin)
				}
				seen[r.Text] = true
			}
		}
	}
	for _, p := range planted[2:] {
		if !seen[p.body] {
			t.Errorf("the line %q did not come back", p.body)
		}
	}
	t.Logf("%d deleted rows in the truth file; records by state: %v", len(truth.Deleted), counts)
	if len(truth.Deleted) < 300 || counts[record.Intact] < 3500 || counts[record.Held] < 20 || counts[record.Recovered] < 200 {
		t.Errorf("%d deleted, records by state %v", len(truth.Deleted), counts)
	}
}
