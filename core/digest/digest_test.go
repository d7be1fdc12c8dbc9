package digest

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

// FIPS 180-4 example digests (SHA-1 and SHA-256 of "abc" and of the 448-bit
// message) and the RFC 1321 A.5 test suite.
func TestPublishedVectors(t *testing.T) {
	cases := []struct{ in, md5, sha1, sha256 string }{
		{"", "d41d8cd98f00b204e9800998ecf8427e", "", ""},
		{"a", "0cc175b9c0f1b6a831c399e269772661", "", ""},
		{"abc", "900150983cd24fb0d6963f7d28e17f72", "a9993e364706816aba3e25717850c26c9cd0d89d",
			"ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"},
		{"message digest", "f96b697d7cb7938d525a2f31aaf161d0", "", ""},
		{"abcdefghijklmnopqrstuvwxyz", "c3fcd3d76192e4007dfb496cca67e13b", "", ""},
		{"abcdbcdecdefdefgefghfghighijhijkijkljklmklmnlmnomnopnopq", "", "84983e441c3bd26ebaae4aa1f95129e5e54670f1",
			"248d6a61d20638b8e5c026930c3e6039a33ce45964ff2167f6ecedd419db06c1"},
		{strings.Repeat("a", 1000000), "", "34aa973cd4c4daa4f61eeb2bdbad27316534016f",
			"cdc76e5c9914fb9281a1c7e284d73e67f1809a48a497200e046d39ccc7112cd0"},
	}
	for _, c := range cases {
		s, err := Reader(strings.NewReader(c.in))
		if err != nil {
			t.Fatal(err)
		}
		m, s1, s2 := s.Hex()
		for _, p := range [][2]string{{m, c.md5}, {s1, c.sha1}, {s2, c.sha256}} {
			if p[1] != "" && p[0] != p[1] {
				t.Errorf("%.20q: got %s, want %s", c.in, p[0], p[1])
			}
		}
	}
}

// RFC 3720 B.4 examples for CRC-32C.
func TestSegments(t *testing.T) {
	for want, in := range map[uint32][]byte{
		0x8a9136aa: make([]byte, 32),
		0x62a8ab43: bytes.Repeat([]byte{0xff}, 32),
		0x46dd794e: {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31},
	} {
		if s, _ := Reader(bytes.NewReader(in)); len(s.Segments) != 1 || s.Segments[0] != want {
			t.Errorf("%x: got %x, want %08x", in, s.Segments, want)
		}
	}
	data := bytes.Repeat([]byte("0123456789abcdef!"), 3*SegmentSize/17+5)
	s, _ := Reader(&oddReader{data})
	if want := (len(data) + SegmentSize - 1) / SegmentSize; len(s.Segments) != want {
		t.Fatalf("%d segments, want %d", len(s.Segments), want)
	}
	data = bytes.Clone(data)
	data[SegmentSize+7] ^= 1
	u, _ := Reader(bytes.NewReader(data))
	if d := s.DifferingSegments(u); len(d) != 1 || d[0] != 1 {
		t.Errorf("changed segment 1, found %v", d)
	}
}

// oddReader reads in pieces that fit no buffer's size.
type oddReader struct{ b []byte }

func (r *oddReader) Read(p []byte) (int, error) {
	if len(r.b) == 0 {
		return 0, io.EOF
	}
	n := copy(p[:min(len(p), 99991)], r.b)
	r.b = r.b[n:]
	return n, nil
}

// sha256sum -c accepts our lines, names with a newline and a backslash too.
func TestManifestReadByCoreutils(t *testing.T) {
	dir := t.TempDir()
	var lines []string
	for _, name := range []string{"plain", "two words", "back\\slash", "new\nline", "cr\rname"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600); err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256([]byte(name))
		lines = append(lines, Line{hex.EncodeToString(sum[:]), name}.String())
	}
	text := strings.Join(lines, "\n") + "\n"
	cmd := exec.Command("sha256sum", "-c", "--strict")
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(text)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("sha256sum: %v\n%s", err, out)
	}
	i := 0
	for l, err := range Lines(strings.NewReader(text), 32) {
		if err != nil || l.String() != lines[i] {
			t.Errorf("line %d: %q, %v", i, l.String(), err)
		}
		i++
	}
	for _, bad := range []string{"zz", "abcd  x", strings.Repeat("g", 64) + "  x"} {
		for _, err := range Lines(strings.NewReader(bad), 32) {
			if err == nil {
				t.Errorf("%q read as a check line", bad)
			}
		}
	}
}

// BenchmarkThreeInOnePass reports how its throughput compares with the slowest
// of the three algorithms alone, measured turn by turn in the same run, and
// the memory that the program holds beyond the data.
func BenchmarkThreeInOnePass(b *testing.B) {
	p := make([]byte, 64<<20)
	for i := range p {
		p[i] = byte(i * 7)
	}
	b.SetBytes(int64(len(p)))
	var alone [3]time.Duration
	var all time.Duration
	for b.Loop() {
		for i, f := range []func(){func() { md5.Sum(p) }, func() { sha1.Sum(p) }, func() { sha256.Sum256(p) }} {
			t := time.Now()
			f()
			alone[i] += time.Since(t)
		}
		t := time.Now()
		w := NewWriter()
		for q := p; len(q) > 0; q = q[32<<10:] {
			w.Write(q[:32<<10])
		}
		w.Sum()
		all += time.Since(t)
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	for i, name := range []string{"md5", "sha1", "sha256"} {
		b.ReportMetric(float64(len(p))*float64(b.N)/alone[i].Seconds()/(1<<20), name+"-MiB/s")
	}
	b.ReportMetric(float64(len(p))*float64(b.N)/all.Seconds()/(1<<20), "onepass-MiB/s")
	b.ReportMetric(max(alone[0], alone[1], alone[2]).Seconds()/all.Seconds(), "of-slowest")
	b.ReportMetric(float64(m.Sys-uint64(len(p)))/(1<<20), "MB-held")
}
