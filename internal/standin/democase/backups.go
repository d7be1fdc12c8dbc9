// Package democase makes the demo's evidence: local backups of two invented
// handsets, with everything in them invented too. The same call makes the same
// bytes. What was deleted was deleted by SQL, and the truth file lists it.
package democase

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/digest"
)

// Handset is the demo's handset, as its backups' labels give it.
var Handset = backup.Device{Name: "Harbour phone", Mark: "OL-220", Serial: "TEST-0417-A", IMEI: "004999010640000", System: "Orlop 6.2.1"}

// Zone is the demo case's zone.
const Zone = "Europe/Lisbon"

// Deleted is one line of the truth file: a row as it was before its deletion.
type Deleted struct {
	Database string         `json:"database"` // path on the handset
	Table    string         `json:"table"`
	RowID    int64          `json:"rowid"`
	Values   map[string]any `json:"values"`
	How      string         `json:"how"`
}

// Truth is the truth file.
type Truth struct {
	Live    map[string]int `json:"live"` // rows by database:table
	Deleted []Deleted      `json:"deleted"`
}

// content is a file of the handset.
type content struct {
	path    string
	data    []byte
	changed time.Time
}

// Options size the demo.
type Options struct {
	Recordings     int // number of sound recordings, the bulk of a backup
	RecordingBytes int
	// Few leaves out all apps but those of messages, calls, contacts and habits, for tests that
	// need no more.
	Few bool
}

// Full is what `make demo` makes.
var Full = Options{Recordings: 20, RecordingBytes: 20 << 20}

// Make writes the backups below dir/backups and the truth file to dir/truth.json.
// What is there already is left as it is.
func Make(dir string, opt Options) error {
	if _, err := os.Stat(filepath.Join(dir, "truth.json")); err == nil {
		return nil
	}
	work, err := os.MkdirTemp(dir, "making-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	final := filepath.Join(dir, "backups")
	if err := os.RemoveAll(final); err != nil {
		return fmt.Errorf("removing a half-made demo: %w", err)
	}
	truths := map[string]*Truth{}
	for _, s := range []struct {
		name       string
		made       time.Time
		torn       bool
		password   string
		recordings int
		files      func(string, time.Time, bool) ([]content, *Truth, error)
		write      func(string, backup.Device, []content, time.Time, bool, string) error
		device     backup.Device
		truth      string
	}{
		{"harbour-phone-2026-06-14", time.Date(2026, 6, 14, 8, 5, 51, 0, time.UTC), false, Password, 0, handsetFiles, writeBackup, Handset, ""},
		{"harbour-phone-2026-08-02", time.Date(2026, 8, 2, 19, 40, 12, 0, time.UTC), true, "", 0, handsetFiles, writeBackup, Handset, ""},
		{"harbour-phone-2026-09-24", time.Date(2026, 9, 24, 19, 40, 12, 0, time.UTC), false, "", opt.Recordings, handsetFiles, writeBackup, Handset, "truth.json"},
		{"galley-phone-2026-09-08.stow", time.Date(2026, 9, 8, 21, 12, 40, 0, time.UTC), false, "", 0, galleyFiles, writeStow, Galley, ""},
		{"galley-phone-2026-09-22.stow", time.Date(2026, 9, 22, 21, 12, 7, 0, time.UTC), false, "", 0, galleyFiles, writeStow, Galley, "truth-galley.json"},
	} {
		dir := filepath.Join(work, s.name)
		if err := os.Mkdir(dir, 0o755); err != nil {
			return err
		}
		files, t, err := s.files(dir, s.made.Add(-28*time.Minute), opt.Few)
		if err != nil {
			return fmt.Errorf("making the files of %s: %w", s.name, err)
		}
		files = append(files, recordings("/media/card/R%04d.wav", s.recordings, opt.RecordingBytes)...)
		if err := s.write(filepath.Join(final, s.name), s.device, files, s.made, s.torn, s.password); err != nil {
			return fmt.Errorf("making the demo backup %s: %w", s.name, err)
		}
		if s.truth != "" {
			truths[s.truth] = t
		}
	}
	for _, name := range []string{"truth-galley.json", "truth.json"} { // the last one says that all is there
		b, err := json.MarshalIndent(truths[name], "", " ")
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), append(b, '\n'), 0o644)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// writeStow writes a backup in the layout tarn-stow/1.
func writeStow(path string, device backup.Device, files []content, made time.Time, torn bool, password string) error {
	label := backup.Label{Layout: backup.StowLayout, Device: device, Made: made, Finished: true, Parcels: int64(len(files))}
	for _, f := range files {
		label.Bytes += int64(len(f.data))
	}
	seal := func(_ string, b []byte) ([]byte, error) { return b, nil }
	var err error
	if password != "" {
		if seal, err = lock(&label, password); err != nil {
			return err
		}
	}
	head, err := json.MarshalIndent(label, "", " ")
	if err != nil {
		return err
	}
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	add := func(name string, data []byte, changed time.Time) error {
		err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: int64(len(data)), Mode: 0o600, ModTime: changed.Truncate(time.Second)})
		if err == nil {
			_, err = w.Write(data)
		}
		return err
	}
	err = add(backup.StowLabelName, append(head, '\n'), made)
	var sums strings.Builder
	for _, f := range files {
		name := backup.TreeName + f.path
		fmt.Fprintln(&sums, digest.Line{Sum: fmt.Sprintf("%x", sha256.Sum256(f.data)), Path: name})
		err = errors.Join(err, add(name, f.data, f.changed))
	}
	err = errors.Join(err, add(backup.SumsName, []byte(sums.String()), made), w.Close())
	if err != nil {
		return err
	}
	raw := b.Bytes()
	if torn {
		raw = raw[:len(raw)*3/4]
	}
	if password != "" {
		sealed, err := seal("archive", raw)
		if err != nil {
			return err
		}
		raw = slices.Concat([]byte(backup.StowMagic), binary.BigEndian.AppendUint32(nil, uint32(len(head))), head, sealed)
	}
	return os.WriteFile(path, raw, 0o644)
}

// writeBackup writes a backup in the layout orlop-parcels/1. A torn one stops
// before its last parcels, as when a cable is pulled.
func writeBackup(dir string, device backup.Device, files []content, made time.Time, torn bool, password string) error {
	parcels := filepath.Join(dir, backup.ParcelsName)
	if err := os.MkdirAll(parcels, 0o755); err != nil {
		return err
	}
	db, err := openDB(filepath.Join(dir, backup.CatalogueName), 4096, made)
	if err != nil {
		return err
	}
	defer db.Close()
	db.exec(`CREATE TABLE place(id INTEGER PRIMARY KEY, parent INTEGER NOT NULL, name TEXT NOT NULL)`)
	db.exec(`CREATE TABLE parcel(tag TEXT PRIMARY KEY, place INTEGER NOT NULL, name TEXT NOT NULL, bytes INTEGER NOT NULL, changed INTEGER NOT NULL, sum BLOB)`)
	label := backup.Label{Layout: backup.ParcelsLayout, Device: device, Made: made, Finished: !torn}
	seal := func(_ string, b []byte) ([]byte, error) { return b, nil }
	if password != "" {
		if seal, err = lock(&label, password); err != nil {
			return err
		}
	}
	places := map[string]int64{"": 0}
	db.exec("BEGIN")
	for i, f := range files {
		folder, name := filepath.Split(strings.TrimPrefix(f.path, "/"))
		at, so := int64(0), ""
		for part := range strings.SplitSeq(strings.TrimSuffix(folder, "/"), "/") {
			parent := places[so]
			so += "/" + part
			if places[so] == 0 {
				places[so] = int64(len(places))
				db.exec("INSERT INTO place VALUES (?, ?, ?)", places[so], parent, part)
			}
			at = places[so]
		}
		sum := sha256.Sum256(f.data)
		id := sha256.Sum256([]byte(made.String() + f.path))
		tag := strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(id[:15]))
		db.exec("INSERT INTO parcel VALUES (?, ?, ?, ?, ?, ?)", tag, at, name, len(f.data), f.changed.UnixMilli(), sum[:])
		label.Parcels++
		label.Bytes += int64(len(f.data))
		if torn && i >= len(files)-3 {
			continue
		}
		data, err := seal(tag, f.data)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(parcels, tag), data, 0o644); err != nil {
			return err
		}
	}
	db.exec("COMMIT")
	if db.err != nil {
		return db.err
	}
	if password != "" {
		if err := sealCatalogue(db, filepath.Join(dir, backup.CatalogueName), seal); err != nil {
			return err
		}
	}
	b, err := json.MarshalIndent(label, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, backup.LabelName), append(b, '\n'), 0o644)
}
