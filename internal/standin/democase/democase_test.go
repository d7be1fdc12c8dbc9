package democase

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"crosswind/core/backup"
	"crosswind/core/digest"
	"crosswind/core/fieldmap"
	"crosswind/core/media"
	"crosswind/core/reading"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

var small = Options{Recordings: 1, RecordingBytes: 4096}

// made gives where the demo's backups are, made once for all tests.
var (
	madeAt string
	made   = sync.OnceValues(func() (string, error) { return madeAt, Make(madeAt, small) })
)

func TestMain(m *testing.M) {
	var err error
	if madeAt, err = os.MkdirTemp("", "made-"); err != nil {
		panic(err)
	}
	code := m.Run()
	os.RemoveAll(madeAt)
	os.Exit(code)
}

func TestTwoMakingsGiveTheSameBytes(t *testing.T) {
	a, err := made()
	b := t.TempDir()
	if err := errors.Join(err, Make(b, small)); err != nil {
		t.Fatal(err)
	}
	n := 0
	err = filepath.WalkDir(a, func(path string, d os.DirEntry, err error) error {
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
	dir, err := made()
	if err != nil {
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
	for _, h := range hidden[len(hidden)-4:] {
		if !h.taken {
			harbour = append(harbour, h.said)
		}
	}
	harbour = append(harbour, "K, side gate", "put the tile back", "who gets what", webDeleted[0].title, soughtDeleted[2], "gate", "market", "Prepaid One")
	galley = append(galley, "they ask about the tile", "library, sign the book", "is it a crime to leave a key out", "store, back", "parcels", "Prepaid One")
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

// wasRow reports whether a row that was deleted says what a record does: its text and its time.
func wasRow(d Deleted, r *record.Record) bool {
	text, at := r.Text == "", false
	for _, v := range d.Values {
		s := fmt.Sprint(v)
		text = text || s == r.Text || len(r.Origin().Lost) > 0 && strings.HasPrefix(s, r.Text) // of which the rest is lost
		stored, _, _ := strings.Cut(r.Time().Stored, " ")
		a, err1 := strconv.ParseFloat(s, 64)
		b, err2 := strconv.ParseFloat(stored, 64)
		at = at || strings.HasPrefix(r.Time().Stored, s+",") || s == stored || err1 == nil && err2 == nil && a == b
	}
	// What a state's word or a folded row says is told by its time alone.
	return at && (text || r.Origin().FieldMap == "bridge 1" || r.Origin().FieldMap == "ward 1")
}

func check(t *testing.T, dir, truthFile, folder, name string, planted []string, deletedAtLeast int, atLeast map[record.State]int) {
	t.Helper()
	var truth Truth
	b, err := os.ReadFile(filepath.Join(dir, truthFile))
	if err == nil {
		d := json.NewDecoder(bytes.NewReader(b))
		d.UseNumber() // some are beyond what doubles hold
		err = d.Decode(&truth)
	}
	if err != nil {
		t.Fatal(err)
	}
	bk, err := backup.Open(os.DirFS(filepath.Join(dir, "backups", folder)), name, nil)
	if err != nil || !bk.Whole() {
		t.Fatal(err, bk.Faults)
	}
	defer bk.Close()
	seen, alive, counts := map[string]bool{}, map[string]bool{}, map[record.State]int{}
	kinds := map[record.Kind]map[record.State]int{}
	deleted := map[[2]string][]Deleted{}
	for _, d := range truth.Deleted {
		k := [2]string{d.Database, d.Table}
		deleted[k] = append(deleted[k], d)
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
		var log []byte
		for _, l := range bk.Files {
			if l.Path == f.Path+"-wal" {
				log = bytesOf(t, bk, l)
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
			// What a package is checked by: the record's own bytes give it again.
			cell := raw
			if src.Log != nil && r.Origin().Path == src.Log.Path {
				cell = log
			}
			if differs, known := m.Again(r, cell[r.Origin().Offset:r.Origin().Offset+int64(r.Origin().Length)]); !known || len(differs) > 0 {
				t.Errorf("%s of %s: %s is not what its bytes say: %+v", r.State, f.Path, r.Kind, differs)
			}
			counts[r.State]++
			if kinds[r.Kind] == nil {
				kinds[r.Kind] = map[record.State]int{}
			}
			kinds[r.Kind][r.State]++
			if r.At() == nil || (r.At().Before(start) || r.At().Year() > 2026) && r.State != record.Recovered && r.Kind != record.Contact {
				t.Errorf("%+v has no time of the story", r)
			}
			if r.At() != nil && r.At().After(bk.Label.Made) && r.Kind != record.Event && r.Kind != "reminder" {
				t.Errorf("%s of %v in a backup of %v", r.Kind, r.At(), bk.Label.Made)
			}
			if r.State == record.Intact {
				alive[r.Text] = true
			}
			if r.State == record.Recovered && len(r.Origin().Lost) <= 1 {
				if !slices.ContainsFunc(deleted[[2]string{f.Path, r.Origin().Table}], func(d Deleted) bool { return wasRow(d, r) }) {
					t.Errorf("recovered %q of %v in %s without %v, which was not deleted", r.Text, r.Time(), r.Origin().Table, r.Origin().Lost)
				}
				seen[r.Summary()] = true
				for _, f := range r.Facts {
					seen[f.Value] = true
				}
			}
		}
	}
	for _, p := range planted {
		if !seen[p] {
			t.Errorf("the line %q did not come back", p)
		}
		if alive[p] && strings.Contains(p, " ") && p != "Prepaid One" {
			t.Errorf("the line %q is alive, and need not be recovered", p)
		}
	}
	t.Logf("%d deleted rows in %s; records by state: %v, by kind: %v", len(truth.Deleted), truthFile, counts, kinds)
	for _, k := range record.Kinds() { // each of which both families have, live and deleted
		if k == record.Photograph { // which no database has
			continue
		}
		held := slices.Contains([]record.Kind{record.Message, "voicemail", record.Event, "note"}, k)
		if n := kinds[k]; n[record.Intact] == 0 || n[record.Recovered]+n[record.Earlier] == 0 || held && n[record.Held] == 0 {
			t.Errorf("%s: %v", k, n)
		}
	}
	for s, n := range atLeast {
		if counts[s] < n || len(truth.Deleted) < deletedAtLeast {
			t.Errorf("%d deleted, records by state %v", len(truth.Deleted), counts)
		}
	}
}

// The photographs say what the camera was told: when, where and how it was held.
func TestPhotographsSayWhatTheCameraDid(t *testing.T) {
	files, err := orlopLibrary.pieces(time.Date(2026, 9, 24, 0, 0, 0, 0, time.UTC))
	if err != nil {
		t.Fatal(err)
	}
	files = slices.DeleteFunc(files, func(p piece) bool { return p.sort != "photo" })
	for i, s := range shots() {
		p, err := media.Read(bytes.NewReader(files[i].data), int64(len(files[i].data)))
		if err != nil || p.Taken == nil || p.Taken.Local != s.at.Add(s.ahead).Format("2006-01-02T15:04:05") || (p.Taken.At == nil) != (s.offset == "") || p.Orientation != int(s.turned) || p.Model != s.device[1] || max(p.Width, p.Height) != 480 || (p.Width < p.Height) != (s.turned > 4) {
			t.Errorf("%s: %+v, %v", files[i].file, p, err)
			continue
		}
		if (p.Latitude == nil) != (s.where == nil) || s.where != nil && (math.Abs(*p.Latitude-s.where.lat) > 1e-6 || math.Abs(*p.Longitude-s.where.lon) > 1e-6) {
			t.Errorf("%s: %v, %v, not %v", files[i].file, p.Latitude, p.Longitude, s.where)
		}
	}
}

// What was planned is in the calendar's earlier version alone, and where it was done a photograph's place alone says:
// of all that the harbour phone took that night it is the one by the store.
func TestTheStoryTurnsOnAPlaceAndAnEarlierVersion(t *testing.T) {
	all, err := versions()
	if err != nil || !strings.Contains(all[0].Content, `SUMMARY:K\, side gate`) || strings.Contains(all[1].Content, "side gate") {
		t.Errorf("the calendars: %v, %v", all, err)
	}
	near := 0
	for _, s := range shots() {
		if d := s.at.Sub(evening); d > 0 && d < 2*time.Hour && s.where != nil && math.Hypot(s.where.lat-stock.lat, s.where.lon-stock.lon) < 0.001 {
			near++
		}
	}
	if near != 1 {
		t.Errorf("%d photographs of that evening by the gate", near)
	}
}

// What the files of both libraries say of themselves is what they were made as: their kind, how long they are, when and
// where they were taken, what they are called and who wrote them.
func TestLibraryFilesSayWhatTheyWereMadeAs(t *testing.T) {
	for _, l := range []library{orlopLibrary, tarnLibrary} {
		all, err := l.pieces(time.Date(2026, 9, 24, 0, 0, 0, 0, time.UTC))
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range all {
			reader := reading.ReaderOf(p.file, p.data[:min(len(p.data), reading.HeadLength)])
			if reader == nil {
				t.Errorf("%s: nobody reads it", p.file)
				continue
			}
			var got []*record.Record
			for r, err := range reader.Read(io.NewSectionReader(bytes.NewReader(p.data), 0, int64(len(p.data))), &reading.Text{Path: p.file, Stored: "s"}) {
				if err != nil {
					t.Errorf("%s: %v", p.file, err)
					continue
				}
				got = append(got, r)
			}
			kinds := map[string][]record.Kind{"photo": {record.Photograph}, "film": {record.Video}, "memo": {record.Recording}, "song": {record.Music}, "paper": {record.Document, record.Jotting}}[p.sort]
			if len(got) != 1 || !slices.Contains(kinds, got[0].Kind) {
				t.Errorf("%s: %+v", p.file, got)
				continue
			}
			r := got[0]
			if length, _ := strconv.ParseFloat(r.Fact(record.Duration).Value, 64); math.Abs(length-p.secs) > 0.05 {
				t.Errorf("%s is %v s long, not %v", p.file, length, p.secs)
			}
			if p.sort == "film" && (!r.At().Equal(p.at.Truncate(time.Second)) || math.Abs(r.Place.Latitude-p.where.lat) > 1e-4 || math.Abs(r.Place.Longitude-p.where.lon) > 1e-4) {
				t.Errorf("%s was taken %v at %v, not %v at %v", p.file, r.At(), r.Place, p.at, *p.where)
			}
			if p.sort == "song" && (r.Text != p.title || r.Fact("Artist").Value != p.by || r.Fact("Album").Value != p.album) ||
				p.sort == "paper" && strings.HasSuffix(p.file, "x") && (r.Fact(record.Title).Value != p.title || r.Fact("Author").Value != p.by || !r.At().Equal(p.at.Truncate(time.Second))) {
				t.Errorf("%s says %+v, not %+v", p.file, r, p.title)
			}
		}
		mails, pictures := 0, 0
		b, err := putAway(l.seed)
		if err != nil {
			t.Fatal(err)
		}
		for r, err := range reading.ReaderOf("/old.mbox", b[:reading.HeadLength]).Read(io.NewSectionReader(bytes.NewReader(b), 0, int64(len(b))), &reading.Text{Path: "/old.mbox"}) {
			if err != nil || r.Kind != record.Mail || r.At() == nil || r.Thread() == "" || r.Text == "" {
				t.Errorf("%+v, %v", r, err)
			}
			mails++
			for _, a := range r.Attachments {
				pictures += len(a.Parts)
			}
		}
		if want := bytes.Count(b, []byte("Message-ID:")); mails != want || pictures == 0 || pictures != bytes.Count(b, []byte("filename=")) {
			t.Errorf("%d pieces of mail of %d, %d pictures", mails, want, pictures)
		}
	}
}
