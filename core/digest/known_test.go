package digest

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func build(t testing.TB, list io.Reader) (*Known, int64) {
	t.Helper()
	scratch, err := os.CreateTemp(t.TempDir(), "scratch")
	if err != nil {
		t.Fatal(err)
	}
	defer scratch.Close()
	out, err := os.CreateTemp(t.TempDir(), "set")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { out.Close() })
	n, _, skipped, err := BuildKnown(list, out, scratch)
	if err != nil {
		t.Fatal(err)
	}
	st, _ := out.Stat()
	k, err := OpenKnown(out, st.Size())
	if err != nil || k.Len() != n {
		t.Fatalf("%v, %d digests", err, n)
	}
	return k, skipped
}

// The digests of RFC 1321's and FIPS 180-4's "abc", in the forms in which lists
// of known files are handed round (common practice).
func TestKnownListForms(t *testing.T) {
	const m, s = "900150983cd24fb0d6963f7d28e17f72", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
	for name, c := range map[string]struct {
		list    string
		sum     string
		skipped int64
	}{
		"plain":          {m + "\n", m, 0},
		"upper case":     {strings.ToUpper(s) + "\r\n", s, 0},
		"no last end":    {"# a comment\n" + s, s, 1},
		"a manifest":     {s + "  some file.txt\n", s, 0},
		"by program":     {"SHA256 (some file) = " + s + "\n", s, 0},
		"CSV":            {"\"SHA-256\",\"MD5\",\"name\",\"size\"\n\"" + s + "\",\"" + m + "\",\"a, \"\"b\"\".txt\",3\n", s, 1},
		"CSV, other way": {"name;size;md5;sha256\na.txt;3;" + m + ";" + s + "\n", s, 1},
		"a long line":    {strings.Repeat("x", 200_000) + "\n" + m + "\n", m, 1},
	} {
		k, skipped := build(t, strings.NewReader(c.list))
		want, _ := hex.DecodeString(c.sum)
		has, err := k.Has(want)
		if err != nil || !has || k.Len() != 1 || skipped != c.skipped {
			t.Errorf("%s: %v, %v, %d digests, %d skipped", name, has, err, k.Len(), skipped)
		}
		want[len(want)-1] ^= 1
		if has, _ := k.Has(want); has {
			t.Errorf("%s: a digest that is not there is", name)
		}
	}
	if _, _, _, err := BuildKnown(strings.NewReader("nothing\nhere\n"), io.Discard, &scratch{}); err == nil {
		t.Error("a list without digests was taken")
	}
}

type scratch struct{ bytes.Buffer }

func (s *scratch) ReadAt(p []byte, off int64) (int, error) {
	return bytes.NewReader(s.Bytes()).ReadAt(p, off)
}

// Many digests, some twice, over more than one sorted run: the set is what sort
// -u says of the list.
func TestKnownSetAgainstSort(t *testing.T) {
	var list bytes.Buffer
	r := rand.New(rand.NewPCG(1, 2))
	const n = runLength + 70_000
	for range n {
		sum := md5.Sum(fmt.Append(nil, r.IntN(n)))
		list.WriteString(hex.EncodeToString(sum[:]) + "\n")
	}
	path := filepath.Join(t.TempDir(), "list")
	if err := os.WriteFile(path, list.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("sort", "-u", path)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	sorted, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	k, _ := build(t, &list)
	lines := strings.Fields(string(sorted))
	if k.Len() != int64(len(lines)) {
		t.Fatalf("%d digests, sort -u says %d", k.Len(), len(lines))
	}
	b := make([]byte, 16)
	for i, l := range lines {
		if _, err := k.r.ReadAt(b, int64(16*i)); err != nil || hex.EncodeToString(b) != l {
			t.Fatalf("digest %d is %x, sort says %s", i, b, l)
		}
		if has, err := k.Has(b); err != nil || !has {
			t.Fatalf("%x is not found: %v", b, err)
		}
		b[15] ^= 0x55
		if has, _ := k.Has(b); has {
			t.Fatalf("%x is found", b)
		}
	}
}

// Digests that share their leading bits are found all the same.
func TestKnownSetWithCrowdedPrefix(t *testing.T) {
	var list strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&list, "00000000000000000000000000000000000000000000000000000000%08x\n", 2*i)
	}
	k, _ := build(t, strings.NewReader(list.String()))
	for i := range 20000 {
		if i == 10000 {
			if err := k.Load(); err != nil {
				t.Fatal(err)
			}
		}
		sum, _ := hex.DecodeString(fmt.Sprintf("%064x", i%10000))
		if has, err := k.Has(sum); err != nil || has != (i%2 == 0) {
			t.Fatalf("%d: %v, %v", i, has, err)
		}
	}
}

func FuzzOpenKnown(f *testing.F) {
	var set bytes.Buffer
	if _, _, _, err := BuildKnown(strings.NewReader("900150983cd24fb0d6963f7d28e17f72\n"), &set, &scratch{}); err != nil {
		f.Fatal(err)
	}
	f.Add(set.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		k, err := OpenKnown(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		for range 4 {
			k.Has(make([]byte, k.Length()))
		}
	})
}

const benchKnown = 5_000_000

// benchList is a list of 5 million digests as text.
type benchList struct {
	left int
	buf  []byte
}

func (l *benchList) Read(p []byte) (int, error) {
	for len(l.buf) < len(p) && l.left > 0 {
		l.left--
		sum := sha256.Sum256(fmt.Append(nil, l.left))
		l.buf = append(hex.AppendEncode(l.buf, sum[:]), "  file\n"...)
	}
	n := copy(p, l.buf)
	l.buf = append(l.buf[:0], l.buf[n:]...)
	if n == 0 {
		return 0, io.EOF
	}
	return n, nil
}

// Target: 5 million digests imported in under 60 s.
func BenchmarkKnownImport(b *testing.B) {
	for b.Loop() {
		k, _ := build(b, &benchList{left: benchKnown})
		if k.Len() != benchKnown {
			b.Fatal(k.Len())
		}
	}
	b.ReportMetric(benchKnown*float64(b.N)/b.Elapsed().Seconds(), "digests/s")
}

// Target: a million look-ups a second in a set of 5 million.
func BenchmarkKnownHas(b *testing.B) {
	k, _ := build(b, &benchList{left: benchKnown})
	sums := make([][32]byte, 100_000)
	for i := range sums {
		sums[i] = sha256.Sum256(fmt.Append(nil, i*100))
	}
	if err := k.Load(); err != nil {
		b.Fatal(err)
	}
	i, found := 0, 0
	for b.Loop() {
		has, err := k.Has(sums[i%len(sums)][:])
		if err != nil {
			b.Fatal(err)
		}
		if i++; has {
			found++
		}
	}
	b.ReportMetric(float64(i)/b.Elapsed().Seconds(), "lookups/s")
	b.ReportMetric(float64(found)/float64(i), "found")
}
