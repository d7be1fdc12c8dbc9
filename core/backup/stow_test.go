package backup

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

const stowLabel = `{"layout":"tarn-stow/1","device":{"name":"n","mark":"m","serial":"s","imei":"","system":"y"},"made":"2026-01-02T03:04:05Z","encrypted":false,"parcels":3,"bytes":9,"finished":true}`

// stow makes an archive with GNU tar, and its digests with sha256sum.
func stowed(t testing.TB, format string) []byte {
	t.Helper()
	cmd := exec.Command("sh", "-ec", `mkdir -p tree/data; printf one >tree/data/one.db; printf zweizwei >'tree/data/zw ü'; : >tree/.hidden
printf %s "$LABEL" >stow.json; find tree -type f | sort | xargs -d '\n' sha256sum >stow.sums; tar --sort=name --format=`+format+` -cf - stow.json tree stow.sums`)
	cmd.Dir, cmd.Env = t.TempDir(), append(os.Environ(), "LABEL="+stowLabel)
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// read opens an archive and reads every file of it.
func readStow(t *testing.T, raw []byte, k *Key) (*Backup, map[string]string, error) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "b.stow")
	if err := os.WriteFile(path, raw, 0o644); err != nil {
		t.Fatal(err)
	}
	b, err := Open(os.DirFS(filepath.Dir(path)), "b.stow", k)
	if err != nil {
		return nil, nil, err
	}
	defer b.Close()
	got := map[string]string{}
	for _, f := range b.Files {
		r, err := b.Content(f)
		if err != nil {
			t.Fatal(err)
		}
		c, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		got[f.Path] = string(c)
		if k == nil && string(raw[f.At:f.At+f.Size]) != string(c) {
			t.Errorf("%s does not lie at %d of the archive", f.Path, f.At)
		}
	}
	return b, got, nil
}

func TestArchiveLayout(t *testing.T) {
	for _, format := range []string{"ustar", "pax", "gnu"} {
		raw := stowed(t, format)
		if !Looks(raw[:512]) {
			t.Errorf("%s does not look like one", format)
		}
		b, got, err := readStow(t, raw, nil)
		if err != nil || !b.Whole() || len(got) != 3 || got["/data/one.db"] != "one" || got["/data/zw ü"] != "zweizwei" || got["/.hidden"] != "" {
			t.Fatalf("%s: %v, %v, %q", format, err, b.Faults, got)
		}
		// SHA-256 of "one", by sha256sum above.
		if f := b.Files[1]; f.Stored != "tree/data/one.db" || !strings.HasPrefix(f.SHA256, "7692c3ad") || f.Changed.Year() < 2020 {
			t.Errorf("%+v", f)
		}
	}
}

// sealed encrypts an archive under a key of nines.
func sealed(t testing.TB, raw []byte) ([]byte, *Key) {
	k, err := NewKey(bytes.Repeat([]byte{9}, 32))
	if err != nil {
		t.Fatal(err)
	}
	label := strings.Replace(stowLabel, `"encrypted":false`, `"encrypted":true`, 1)
	out := bytes.NewBufferString(StowMagic)
	out.Write(binary.BigEndian.AppendUint32(nil, uint32(len(label))))
	out.WriteString(label)
	if err := k.Seal(out, raw, []byte("seven b")); err != nil {
		t.Fatal(err)
	}
	return out.Bytes(), k
}

func TestEncryptedArchive(t *testing.T) {
	plain := stowed(t, "pax")
	big := append(bytes.Clone(plain[:len(plain)-1024]), make([]byte, 200<<10)...) // more than one chunk
	raw, k := sealed(t, big)
	b, got, err := readStow(t, raw, k)
	if err != nil || !b.Whole() || got["/data/zw ü"] != "zweizwei" {
		t.Errorf("%v, %+v, %q", err, b, got)
	}
	if _, _, err := readStow(t, raw, nil); !errors.Is(err, ErrEncrypted) {
		t.Error(err)
	}
	other, _ := NewKey(bytes.Repeat([]byte{8}, 32))
	if _, _, err := readStow(t, raw, other); err == nil || !strings.Contains(err.Error(), "does not open") {
		t.Error(err)
	}
	b, got, err = readStow(t, raw[:len(raw)-1000], k) // the cable was pulled
	if err != nil || len(got) != 3 || b.Whole() {
		t.Errorf("%v, %q", err, got)
	}
}

func TestFaultsOfArchives(t *testing.T) {
	raw := stowed(t, "ustar")
	member := func(name string) int { return bytes.Index(raw, []byte(name+"\x00")) }
	for name, c := range map[string]struct {
		raw   []byte
		fault string
		files int
	}{
		"cut off":           {raw[:member("stow.sums")], "stow.sums: missing", 3},
		"cut off in a file": {raw[:member("stow.sums")-508], "has 4 bytes, its header says 8", 3},
		"a changed digest":  {bytes.Replace(raw, []byte("  tree/data/one.db\n"), []byte("  tree/data/two.db\n"), 1), "tree/data/two.db: missing", 3},
		"a line too few":    {bytes.Replace(raw, []byte("  tree/data/one.db\n"), []byte("\n\n\n\n\n\n\n\n\n\n\n\n\n\n\n\n\n\n\n"), 1), "manifest line 2", 3},
	} {
		b, _, err := readStow(t, c.raw, nil)
		said := ""
		if b != nil {
			for _, x := range b.Faults {
				said += x.Error() + "\n"
			}
		}
		if err != nil || !strings.Contains(said, c.fault) || len(b.Files) != c.files {
			t.Errorf("%s: %v\n%s", name, err, said)
		}
	}
	up := exec.Command("sh", "-ec", `printf %s "$LABEL" >stow.json; mkdir tree; printf x >x; tar -cPf - --transform 's,^x$,tree/../../x,' stow.json x`)
	up.Dir, up.Env = t.TempDir(), append(os.Environ(), "LABEL="+stowLabel)
	out, err := up.Output()
	if err != nil {
		t.Fatal(err)
	}
	if b, got, err := readStow(t, out, nil); err != nil || len(got) != 0 || !strings.Contains(b.Faults[0].Error()+b.Faults[len(b.Faults)-1].Error(), "leads out of its folder") {
		t.Errorf("%v, %q, %v", err, got, b.Faults)
	}
	for name, raw := range map[string][]byte{"no archive": []byte("hello"), "another archive": bytes.Replace(raw, []byte("stow.json"), []byte("stew.json"), 1), "a huge label": []byte(StowMagic + "\xff\xff\xff\xff")} {
		if _, _, err := readStow(t, raw, nil); !errors.Is(err, ErrNotBackup) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzStow(f *testing.F) {
	f.Add(stowed(f, "ustar"), false)
	s, k := sealed(f, stowed(f, "pax"))
	f.Add(s, true)
	dir := f.TempDir()
	path := filepath.Join(dir, "b.stow")
	f.Fuzz(func(t *testing.T, raw []byte, locked bool) {
		if err := os.WriteFile(path, raw, 0o644); err != nil {
			t.Fatal(err)
		}
		key := k
		if !locked {
			key = nil
		}
		b, err := Open(os.DirFS(dir), "b.stow", key)
		if err != nil {
			return
		}
		defer b.Close()
		for _, f := range b.Files {
			if !strings.HasPrefix(f.Path, "/") || strings.Contains(f.Path+"/", "/../") || f.At < 0 || f.Size < 0 {
				t.Errorf("%+v", f)
			}
			r, _ := b.Content(f)
			if n, _ := io.Copy(io.Discard, r); n > int64(len(raw)) {
				t.Errorf("%s gave %d bytes", f.Path, n)
			}
		}
	})
}
