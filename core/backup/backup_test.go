package backup

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
)

const label = `{"layout":"orlop-parcels/1","device":{"name":"n","mark":"m","serial":"s","imei":"","system":"y"},"made":"2026-01-02T03:04:05Z","encrypted":false,"parcels":3,"bytes":9,"finished":true}`

const good = `CREATE TABLE place(id INTEGER PRIMARY KEY, parent INTEGER NOT NULL, name TEXT NOT NULL);
CREATE TABLE parcel(tag TEXT PRIMARY KEY, place INTEGER NOT NULL, name TEXT NOT NULL, bytes INTEGER NOT NULL, changed INTEGER NOT NULL, sum BLOB);
INSERT INTO place VALUES (1, 0, 'data'), (2, 1, 'talk');
INSERT INTO parcel VALUES ('aaaaaaaa', 2, 'talk.db', 3, 0, NULL), ('bbbbbbbb', 0, '.hidden', 3, 1000, x'00'), ('cccccccc', 1, 'ünï', 3, 0, NULL);
`

// catalogue makes a catalogue with the sqlite3 program.
func catalogue(t testing.TB, sql string) []byte {
	t.Helper()
	path := filepath.Join(t.TempDir(), "c.db")
	cmd := exec.Command("sqlite3", "-batch", path)
	cmd.Stdin = strings.NewReader(sql)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("sqlite3: %v\n%s", err, out)
	}
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func folder(catalogue []byte) fstest.MapFS {
	f := fstest.MapFS{LabelName: {Data: []byte(label)}, CatalogueName: {Data: catalogue}}
	for _, tag := range []string{"aaaaaaaa", "bbbbbbbb", "cccccccc"} {
		f["parcels/"+tag] = &fstest.MapFile{Data: []byte("abc")}
	}
	return f
}

func TestWholeBackup(t *testing.T) {
	b, err := Open(folder(catalogue(t, good)), ".", nil)
	if err != nil || !b.Whole() {
		t.Fatal(err, b.Faults)
	}
	var paths []string
	for _, f := range b.Files {
		paths = append(paths, f.Path)
	}
	if got := strings.Join(paths, " "); got != "/.hidden /data/talk/talk.db /data/ünï" {
		t.Errorf("%s", got)
	}
	if b.Files[0].Changed.Unix() != 1 || b.Files[0].Stored != "parcels/bbbbbbbb" || b.Files[0].SHA256 != "00" {
		t.Errorf("%+v", b.Files[0])
	}
}

// What a backup says and does not keep is named, and the rest is still read.
func TestFaultsAreNamedAndTheRestIsRead(t *testing.T) {
	for name, c := range map[string]struct {
		sql   string
		alter func(fstest.MapFS)
		fault string
		files int
	}{
		"a missing file":        {"", func(f fstest.MapFS) { delete(f, "parcels/aaaaaaaa") }, "parcels/aaaaaaaa: missing", 3},
		"a file too many":       {"", func(f fstest.MapFS) { f["parcels/dddddddd"] = &fstest.MapFile{} }, "parcels/dddddddd: one too many", 3},
		"a wrong size":          {"", func(f fstest.MapFS) { f["parcels/aaaaaaaa"].Data = []byte("ab") }, "has 2 bytes, the catalogue says 3", 3},
		"a path upwards":        {"UPDATE parcel SET name = '..' WHERE tag = 'aaaaaaaa';", nil, `holds the name ".."`, 2},
		"a path with a slash":   {"UPDATE parcel SET name = '../../etc/passwd' WHERE tag = 'aaaaaaaa';", nil, "leads out of its folder", 2},
		"a folder upwards":      {"UPDATE place SET name = '..' WHERE id = 2;", nil, "leads out of its folder", 2},
		"a tag upwards":         {"UPDATE parcel SET tag = '../../../etc/passwd' WHERE tag = 'aaaaaaaa';", nil, "the tag", 2},
		"folders in a circle":   {"UPDATE place SET parent = 2 WHERE id = 1;", nil, "round in a circle", 1},
		"a folder that is none": {"DELETE FROM place WHERE id = 2;", nil, "has no folder 2", 2},
		"the same path twice":   {"UPDATE parcel SET place = 2, name = 'talk.db' WHERE tag = 'cccccccc';", nil, "to more than one file", 2},
		"a label that is wrong": {"DELETE FROM parcel WHERE tag = 'cccccccc';", nil, "counts 3 files, the backup names 2", 2},
		"one that broke off": {"", func(f fstest.MapFS) {
			f[LabelName].Data = bytes.Replace(f[LabelName].Data, []byte(`"finished":true`), []byte(`"finished":false`), 1)
		}, "was not finished", 3},
	} {
		f := folder(catalogue(t, good+c.sql))
		if c.alter != nil {
			c.alter(f)
		}
		b, err := Open(f, ".", nil)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		said := ""
		for _, x := range b.Faults {
			said += x.Error() + "\n"
		}
		if !strings.Contains(said, c.fault) || len(b.Files) != c.files || b.Whole() {
			t.Errorf("%s: %d files, faults:\n%s", name, len(b.Files), said)
		}
	}
}

func TestRefusals(t *testing.T) {
	f := folder(catalogue(t, good))
	f[LabelName].Data = bytes.Replace(f[LabelName].Data, []byte(`"encrypted":false`), []byte(`"encrypted":true`), 1)
	if _, err := Open(f, ".", nil); !errors.Is(err, ErrEncrypted) {
		t.Errorf("encrypted: %v", err)
	}
	for name, change := range map[string]func(fstest.MapFS){
		"no label":       func(f fstest.MapFS) { delete(f, LabelName) },
		"another layout": func(f fstest.MapFS) { f[LabelName].Data = []byte(`{"layout":"x/9"}`) },
		"no JSON":        func(f fstest.MapFS) { f[LabelName].Data = []byte("hello") },
		"a huge label":   func(f fstest.MapFS) { f[LabelName].Data = bytes.Repeat([]byte(" "), 1<<20) },
	} {
		f := folder(catalogue(t, good))
		change(f)
		if _, err := Open(f, ".", nil); !errors.Is(err, ErrNotBackup) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, b := range map[string][]byte{"no database": []byte("hello"), "another schema": catalogue(t, "CREATE TABLE parcel(tag);"), "cut off": catalogue(t, good)[:4096]} {
		if _, err := Open(folder(b), ".", nil); err == nil || !strings.Contains(err.Error(), "catalogue") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzOpen(f *testing.F) {
	b := catalogue(f, "PRAGMA page_size=512;"+good)
	f.Add(b, 600, byte(0x80))
	f.Add(b, 100, byte(1))
	f.Fuzz(func(t *testing.T, b []byte, at int, x byte) {
		b = bytes.Clone(b)
		if at >= 0 && at < len(b) {
			b[at] ^= x
		}
		k, err := Open(folder(b), ".", nil)
		if err != nil {
			return
		}
		for _, f := range k.Files {
			if !strings.HasPrefix(f.Path, "/") || strings.Contains(f.Path+"/", "/../") || strings.Contains(f.Path, "\x00") {
				t.Errorf("path %q", f.Path)
			}
			if !strings.HasPrefix(f.Stored, "parcels/") || strings.Count(f.Stored, "/") != 1 || strings.Contains(f.Stored, ".") {
				t.Errorf("stored %q", f.Stored)
			}
		}
	})
}

// sack is a layout that only this test knows: one file, a label's line and then one file's
// content.
type sack struct{}

func (sack) Name() string           { return "sack/1" }
func (sack) Extension() string      { return ".sack" }
func (sack) Looks(head []byte) bool { return bytes.HasPrefix(head, []byte(`{"layout":"sack/1"`)) }
func (sack) Label(fsys fs.FS, name string) ([]byte, error) {
	b, err := fs.ReadFile(fsys, name)
	line, _, _ := bytes.Cut(b, []byte("\n"))
	return line, err
}
func (sack) Open(b *Backup, fsys fs.FS, name string, _ *Key) error {
	raw, err := fs.ReadFile(fsys, name)
	_, content, _ := bytes.Cut(raw, []byte("\n"))
	b.Files = []File{{Path: "/only", Stored: "only", Size: int64(len(content))}}
	b.Serve(func(File) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content)), nil }, nil)
	return err
}

// A layout that registers itself is detected and opened like the others.
func TestALayoutRegistersItself(t *testing.T) {
	Register(sack{})
	t.Cleanup(func() { layouts = layouts[:len(layouts)-1] })
	raw := []byte("{\"layout\":\"sack/1\",\"parcels\":1,\"finished\":true}\nwords")
	b, err := Open(fstest.MapFS{"x.sack": {Data: raw}}, "x.sack", nil)
	if err != nil || !b.Whole() || !Looks(raw) || Extension(b.Layout) != ".sack" {
		t.Fatal(b, err)
	}
	r, err := b.Content(b.Files[0])
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(r); err != nil || string(got) != "words" {
		t.Errorf("%q, %v", got, err)
	}
}
