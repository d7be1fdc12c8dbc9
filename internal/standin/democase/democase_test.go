package democase

import (
	"bytes"
	"encoding/json"
	"io"
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
	var harbour, galley []string
	for _, p := range planted[2:] {
		harbour = append(harbour, p.body)
	}
	harbour = append(harbour, "the case is under the third boat, come after ten") // which only the log holds
	for _, g := range gone {
		galley = append(galley, g.body)
	}
	check(t, dir, "truth.json", "harbour-phone-2026-09-24", ".", harbour, 300, map[record.State]int{record.Intact: 3500, record.Held: 20, record.Recovered: 200, record.Earlier: 4})
	check(t, dir, "truth-galley.json", "", "galley-phone-2026-09-22.stow", galley, 80, map[record.State]int{record.Intact: 1200, record.Held: 1, record.Recovered: 40})
}

func bytesOf(t *testing.T, bk *backup.Backup, f backup.File) []byte {
	t.Helper()
	r, err := bk.Content(f)
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func check(t *testing.T, dir, truthFile, folder, name string, planted []string, deletedAtLeast int, atLeast map[record.State]int) {
	t.Helper()
	var truth Truth
	b, err := os.ReadFile(filepath.Join(dir, truthFile))
	if err == nil {
		err = json.Unmarshal(b, &truth)
	}
	if err != nil {
		t.Fatal(err)
	}
	bk, err := backup.Open(os.DirFS(filepath.Join(dir, "backups", folder)), name, nil)
	if err != nil || !bk.Whole() {
		t.Fatal(err, bk.Faults)
	}
	defer bk.Close()
	deleted, seen, counts := map[string]bool{}, map[string]bool{}, map[record.State]int{}
	for _, d := range truth.Deleted {
		for _, v := range []string{"body", "name", "said", "called"} {
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
		raw := bytesOf(t, bk, f)
		set, _ := digest.Reader(bytes.NewReader(raw))
		db, err := sqlitefile.Open(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			t.Fatal(err)
		}
		_, _, sum := set.Hex()
		if sum != f.SHA256 {
			t.Errorf("%s: the backup says %s", f.Path, f.SHA256)
		}
		src := &fieldmap.Source{Path: f.Path, Stored: f.Stored, SHA256: sum, Bytes: bytes.NewReader(raw)}
		for _, l := range bk.Files {
			if l.Path == f.Path+"-wal" {
				log := bytesOf(t, bk, l)
				if err := db.OpenLog(bytes.NewReader(log), int64(len(log))); err != nil {
					t.Fatal(err)
				}
				src.Log = &fieldmap.Source{Path: l.Path, Stored: l.Stored, SHA256: l.SHA256, Bytes: bytes.NewReader(log)}
			}
		}
		for r, err := range m.Records(salvage.New(db), src, fieldmap.Names{}, salvage.Options{Full: true}, func(fieldmap.Members) {}, func(*salvage.Row) {}) {
			if err != nil {
				t.Fatal(err)
			}
			counts[r.State]++
			if r.At() == nil || r.At().Year() != 2026 && r.State != record.Recovered {
				t.Errorf("%+v has no time of the story", r)
			}
			if r.State == record.Recovered && (r.Kind == record.Message || r.Kind == record.Contact) && len(r.Origin().Lost) <= 1 {
				if !deleted[r.Text] {
					t.Errorf("recovered %q, which was not deleted (%+v)", r.Text, r.Origin())
				}
				seen[r.Text] = true
			}
		}
	}
	for _, p := range planted {
		if !seen[p] {
			t.Errorf("the line %q did not come back", p)
		}
	}
	t.Logf("%d deleted rows in %s; records by state: %v", len(truth.Deleted), truthFile, counts)
	for s, n := range atLeast {
		if counts[s] < n || len(truth.Deleted) < deletedAtLeast {
			t.Errorf("%d deleted, records by state %v", len(truth.Deleted), counts)
		}
	}
}
