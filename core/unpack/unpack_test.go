package unpack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func read(b []byte, lim Limits) (out string, err error) {
	for m, err := range Members(bytes.NewReader(b), int64(len(b)), lim) {
		if err != nil {
			return out, err
		}
		if m.Not != "" {
			out += m.Path + " (" + m.Not + ")\n"
			continue
		}
		content, err := io.ReadAll(m)
		if err != nil {
			return out, err
		}
		out += fmt.Sprintf("%s %d\n", m.Path, len(content))
	}
	return out, nil
}

// What GNU tar, gzip and Python's zipfile write of a folder is what comes out.
func TestArchivesOfOrdinaryPrograms(t *testing.T) {
	dir := t.TempDir()
	src := filepath.Join(dir, "src")
	long := strings.Repeat("d", 120) + "/" + strings.Repeat("e", 120)
	err := errors.Join(os.MkdirAll(filepath.Join(src, long), 0o755), os.WriteFile(filepath.Join(src, "a ü.txt"), []byte("hello"), 0o644),
		os.WriteFile(filepath.Join(src, long, "deep"), bytes.Repeat([]byte("x"), 70000), 0o644), os.WriteFile(filepath.Join(src, ".hidden"), nil, 0o644),
		os.Symlink("/etc/passwd", filepath.Join(src, "link")))
	if err != nil {
		t.Fatal(err)
	}
	for name, script := range map[string]string{
		"ustar": "cd src && tar -cf ../out .hidden 'a ü.txt' d* link", "pax": "cd src && tar --format=pax -cf ../out .hidden 'a ü.txt' d* link",
		"gzip": "cd src && tar -czf ../out .hidden 'a ü.txt' d* link", "ZIP": `cd src && python3 -c "
import zipfile, os
with zipfile.ZipFile('../out', 'w', zipfile.ZIP_DEFLATED) as z:
    for base, _, files in os.walk('.'):
        for f in files:
            if f != 'link': z.write(os.path.join(base, f))"`,
	} {
		cmd := exec.Command("sh", "-ec", script)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		b, err := os.ReadFile(filepath.Join(dir, "out"))
		if err != nil {
			t.Fatal(err)
		}
		got, err := read(b, Default)
		for _, want := range []string{".hidden 0\n", "a ü.txt 5\n", long + "/deep 70000\n"} {
			if err != nil || !strings.Contains(got, want) {
				t.Errorf("%s: %v\n%s", name, err, got)
			}
		}
		if name != "ZIP" && !strings.Contains(got, `link (is a link to "/etc/passwd"`) {
			t.Errorf("%s: %s", name, got)
		}
	}
}

func tarOf(headers ...tar.Header) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		h.Mode = 0o644
		w.WriteHeader(&h)
		io.CopyN(w, zeros{}, h.Size)
	}
	w.Close()
	return b.Bytes()
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func gz(b []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Write(b)
	w.Close()
	return out.Bytes()
}

func zipOf(names ...string) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, n := range names {
		f, _ := w.CreateHeader(&zip.FileHeader{Name: n, Method: zip.Deflate})
		io.CopyN(f, zeros{}, 40<<20)
	}
	w.Close()
	return b.Bytes()
}

// The archives that try to get out, and those that would fill the disk.
func TestRefusals(t *testing.T) {
	reg := func(name string) tar.Header { return tar.Header{Name: name, Typeflag: tar.TypeReg} }
	deep := strings.Repeat("d/", 70) + "f"
	many := make([]tar.Header, 12)
	for i := range many {
		many[i] = reg(fmt.Sprint(i))
	}
	short := tarOf(tar.Header{Name: "a", Typeflag: tar.TypeReg, Size: 5000})
	for name, c := range map[string]struct {
		archive []byte
		why     error
		says    string
	}{
		"upwards":       {tarOf(reg("ok"), reg("../../etc/passwd")), ErrEscape, `"../../etc/passwd" leads out of the archive: its path goes upwards`},
		"upwards later": {tarOf(reg("a/../../b")), ErrEscape, "upwards"},
		"absolute":      {tarOf(reg("/etc/passwd")), ErrEscape, "absolute"},
		"ZIP upwards":   {zipOf("../x"), ErrEscape, "upwards"},
		"a zero byte":   {tarOf(tar.Header{Name: "x", Typeflag: tar.TypeReg, PAXRecords: map[string]string{"path": "a"}}, reg("..")), ErrEscape, "upwards"},
		"too deep":      {tarOf(reg(deep)), ErrTooMuch, "64 folders"},
		"too long":      {tarOf(reg(strings.Repeat("n", 5000))), ErrTooMuch, "longer than"},
		"twice":         {tarOf(reg("a"), reg("./a")), ErrTwice, "twice"},
		"too many":      {tarOf(many...), ErrTooMuch, "more than 10 members"},
		"a gzip bomb":   {gz(make([]byte, 40<<20)), ErrTooMuch, "holds more than"},
		"a tar bomb":    {gz(tarOf(tar.Header{Name: "a", Typeflag: tar.TypeReg, Size: 40 << 20})), ErrTooMuch, "holds more than"},
		"a ZIP bomb":    {zipOf("a", "b"), ErrTooMuch, "holds more than"},
		"no archive":    {[]byte("hello"), ErrFormat, "is not a tar, ZIP or gzip archive"},
		"cut tar":       {short[:1500], ErrDamaged, "damaged"},
		"cut gzip":      {gz(short)[:20], ErrDamaged, "damaged"},
		"cut ZIP":       {zipOf("a")[:1000], ErrDamaged, "damaged"},
	} {
		lim := Default
		lim.Members = 10
		got, err := read(c.archive, lim)
		var r *Refusal
		if !errors.As(err, &r) || !errors.Is(err, c.why) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v (%s)", name, err, got)
		}
	}
}

// Members of a ZIP archive that share their bytes make a bomb that no single
// ratio shows (common practice: overlapping members).
func TestOverlappingMembers(t *testing.T) {
	b := zipOf("a")
	i := bytes.LastIndex(b, []byte("PK\x01\x02"))
	end := bytes.LastIndex(b, []byte("PK\x05\x06"))
	entry, tail := b[i:end], bytes.Clone(b[end:])
	two := bytes.Clone(entry)
	two[46] = 'b'
	tail[8], tail[10] = 2, 2
	tail[12], tail[13] = byte(2*len(entry)), byte(2*len(entry)>>8)
	b = append(append(append(bytes.Clone(b[:i]), entry...), two...), tail...)
	if _, err := read(b, Default); !errors.Is(err, ErrTooMuch) {
		t.Error(err)
	}
}

func FuzzMembers(f *testing.F) {
	f.Add(tarOf(tar.Header{Name: "a", Typeflag: tar.TypeReg, Size: 700}, tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "/x"}))
	f.Add(gz(tarOf(tar.Header{Name: "a/b", Typeflag: tar.TypeReg, Size: 3})))
	f.Add(gz([]byte("hello")))
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	e, _ := w.Create("a/b")
	e.Write([]byte("hello"))
	w.Close()
	f.Add(z.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		lim := Limits{Members: 100, Bytes: 1 << 20, Ratio: 250, Depth: 8}
		var out int64
		for m, err := range Members(bytes.NewReader(b), int64(len(b)), lim) {
			if err != nil {
				return
			}
			if m.Path == "" || m.Path[0] == '/' || m.Path == ".." || strings.HasPrefix(m.Path, "../") || strings.Contains(m.Path, "/../") {
				t.Fatalf("the path %q came out", m.Path)
			}
			if m.Not != "" {
				continue
			}
			n, _ := io.Copy(io.Discard, m)
			if out += n; out > lim.Bytes+64<<10 {
				t.Fatalf("%d bytes came out", out)
			}
		}
	})
}
