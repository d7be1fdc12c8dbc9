package main

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// carve writes each file below the folder that it is given, and nothing outside, whatever the names in the image say; of
// an image in parts it is given the first. The image is made by mke2fs and debugfs (Debian's e2fsprogs), and debugfs
// writes the names that point outside.
func TestCarve(t *testing.T) {
	dir := t.TempDir()
	put, image := filepath.Join(dir, "put"), filepath.Join(dir, "image.001")
	long := strings.Repeat("a name ", 30)
	text := map[string]string{"note.txt": "high water at nine\n", "sub/" + long: "long\n", "PLANTED-UPWARDS": "up\n"}
	for name, s := range text {
		p := filepath.Join(put, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(s), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, arg := range [][]string{{"mke2fs", "-t", "ext4", "-q", "-F", "-d", put, image, "8M"}, {"debugfs", "-w", "-R", "rm /note.txt", image}} {
		if out, err := exec.Command(arg[0], arg[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", arg, err, out)
		}
	}
	b, err := os.ReadFile(image)
	if err != nil {
		t.Fatal(err)
	}
	b = []byte(strings.ReplaceAll(string(b), "PLANTED-UPWARDS", "../../../upward"))
	for i, part := range [][]byte{b[:5<<20-300], b[5<<20-300:]} {
		if err := os.WriteFile(filepath.Join(dir, "image.00"+string(rune('1'+i))), part, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	out, stderr, code := command(t, dir, "carve", "--json", "--out", "out/here", "image.001")
	if code != 0 {
		t.Fatal(code, stderr)
	}
	seen := map[string]string{}
	for d := json.NewDecoder(strings.NewReader(out)); d.More(); {
		var l carvedLine
		if err := d.Decode(&l); err != nil {
			t.Fatal(err)
		}
		own, err := os.ReadFile(filepath.Join(dir, "out/here", l.Path))
		if sum := sha256.Sum256(own); err != nil || l.SHA256 != hex.EncodeToString(sum[:]) || int64(len(own)) != l.Size || len(l.Fragments) != 1 || l.MTime == nil || l.Kind != "text" {
			t.Errorf("%+v: %v", l, err)
		}
		if from := l.Fragments[0]; string(b[from[0]:from[0]+from[1]]) != string(own) {
			t.Errorf("%+v: the image has other bytes there", l)
		}
		seen[l.State+" "+l.Name] = string(own)
	}
	if seen["deleted /note.txt"] != text["note.txt"] || seen["live /sub/"+long] != "long\n" || seen["live /.._.._.._upward"] != "up\n" || len(seen) != 3 {
		t.Errorf("%q", seen)
	}
	if all, err := os.ReadDir(dir); err != nil || len(all) != 4 { // put, out, and the two parts
		t.Errorf("%v, %v", all, err)
	}
	for _, c := range []struct {
		args []string
		code int
		said string
	}{{[]string{"carve", "--json", "--out", "out/here", "image.001"}, 1, "is not empty"}, {[]string{"carve", "--json", "image.001"}, 2, "--out DIR"}, {[]string{"carve", "--json", "--out", "new", "none.img"}, 1, "none.img"}} {
		if _, stderr, code := command(t, dir, c.args...); code != c.code || !strings.Contains(stderr, c.said) {
			t.Errorf("%v: %d, %s", c.args, code, stderr)
		}
	}
}
