package carve

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/color/palette"
	"image/gif"
	"image/jpeg"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crosswind/core/volume"
)

func run(t testing.TB, name string, arg ...string) {
	t.Helper()
	if out, err := exec.Command(name, arg...).CombinedOutput(); err != nil {
		t.Fatalf("%s %s: %v: %s", name, strings.Join(arg, " "), err, out)
	}
}

// made are files of every kind, made by general programs of Debian's packages (FFmpeg, SoX, sqlite3, jpegtran of libjpeg-turbo) and the standard
// library.
func made(t testing.TB) map[string][]byte {
	t.Helper()
	if madeOnce != nil {
		return madeOnce
	}
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	ffmpeg := func(out string, arg ...string) {
		run(t, "ffmpeg", append(append([]string{"-hide_banner", "-loglevel", "error", "-y", "-threads", "1"}, arg...), at(out))...)
	}
	picture := func(w, h int) []string {
		return []string{"-f", "lavfi", "-i", fmt.Sprintf("mandelbrot=size=%dx%d", w, h), "-frames:v", "1"}
	}
	ffmpeg("a.jpg", append(picture(640, 480), "-q:v", "3")...)
	ffmpeg("b.jpg", append(picture(333, 217), "-pix_fmt", "yuvj444p", "-q:v", "2")...)
	ffmpeg("grey.jpg", append(picture(200, 100), "-pix_fmt", "gray", "-q:v", "5")...)
	// Progressive ones, with restarts, and one of a scan for each component.
	run(t, "jpegtran", "-progressive", "-outfile", at("progressive.jpg"), at("a.jpg"))
	run(t, "jpegtran", "-progressive", "-restart", "5", "-outfile", at("restarts.jpg"), at("b.jpg"))
	run(t, "jpegtran", "-progressive", "-outfile", at("greyer.jpg"), at("grey.jpg"))
	scans := filepath.Join(dir, "scans.txt")
	if err := os.WriteFile(scans, []byte("0;1;2;"), 0o600); err != nil {
		t.Fatal(err)
	}
	run(t, "jpegtran", "-scans", scans, "-outfile", at("apart.jpg"), at("a.jpg"))
	if err := os.Remove(scans); err != nil {
		t.Fatal(err)
	}
	ffmpeg("a.png", picture(320, 240)...)
	ffmpeg("a.gif", picture(320, 240)...)
	ffmpeg("a.webp", picture(320, 240)...)
	ffmpeg("a.avif", picture(64, 64)...)
	film := []string{"-f", "lavfi", "-i", "testsrc2=size=160x120:rate=10:duration=2", "-f", "lavfi", "-i", "sine=frequency=440:duration=2"}
	ffmpeg("a.mp4", append(film, "-c:v", "mpeg4", "-c:a", "aac")...)
	ffmpeg("first.mp4", append(film, "-c:v", "libx264", "-movflags", "faststart")...)
	ffmpeg("a.3gp", append(film[:4], "-c:v", "h263", "-s", "176x144", "-an")...)
	ffmpeg("a.wav", film[4:]...)
	ffmpeg("a.mp3", film[4:]...)
	ffmpeg("bare.mp3", append(film[4:], "-write_xing", "0", "-id3v2_version", "0")...)
	ffmpeg("a.ogg", append(film[4:], "-c:a", "libvorbis")...)
	run(t, "sox", "-n", "-r", "8000", "-c", "1", at("a.amr-nb"), "synth", "3", "sine", "300")
	run(t, "sqlite3", at("a.db"), "CREATE TABLE t(a,b); WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c WHERE n<900) INSERT INTO t SELECT n, hex(n*n) FROM c;")
	out := map[string][]byte{"a.vcf": []byte("BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Ketil\r\nTEL:+44 7700 900417\r\nEND:VCARD\r\nBEGIN:VCARD\r\nVERSION:4.0\r\nFN:Brit\r\nEND:VCARD\r\n")}
	out["a.pdf"] = pdf()
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	for i := range 9 {
		w, err := z.Create(fmt.Sprintf("m%d.txt", i))
		if err == nil {
			_, err = fmt.Fprint(w, strings.Repeat(fmt.Sprintf("line %d\n", i), 999))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	out["a.zip"] = packed.Bytes()
	all, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range all {
		b, err := os.ReadFile(at(f.Name()))
		if err != nil {
			t.Fatal(err)
		}
		out[f.Name()] = b
	}
	madeOnce = out
	return out
}

var madeOnce map[string][]byte

// pdf is a small document with an update behind it, which has an end mark of its own.
func pdf() []byte {
	var b bytes.Buffer
	b.WriteString("%PDF-1.4\n")
	var at []int
	for i, s := range []string{"<</Type/Catalog/Pages 2 0 R>>", "<</Type/Pages/Count 0/Kids[]>>"} {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", i+1, s)
	}
	x := b.Len()
	fmt.Fprintf(&b, "xref\n0 3\n0000000000 65535 f \n%010d 00000 n \n%010d 00000 n \ntrailer\n<</Size 3/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n", at[0], at[1], x)
	o, y := b.Len(), 0
	fmt.Fprintf(&b, "2 0 obj\n<</Type/Pages/Count 0/Kids[]/X 1>>\nendobj\n")
	y = b.Len()
	fmt.Fprintf(&b, "xref\n2 1\n%010d 00000 n \ntrailer\n<</Size 3/Root 1 0 R/Prev %d>>\nstartxref\n%d\n%%%%EOF\n", o, x, y)
	return b.Bytes()
}

func kindOf(name string) Kind {
	return map[string]Kind{".jpg": JPEG, ".png": PNG, ".gif": GIF, ".webp": WebP, ".avif": HEIC, ".mp4": MP4, ".3gp": MP4, ".wav": WAV, ".mp3": MP3, ".ogg": Ogg, ".amr-nb": AMR, ".db": SQLite, ".zip": ZIP, ".vcf": VCard, ".pdf": PDF}[filepath.Ext(name)]
}

func noise(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// scan gives what is found in an image.
func scanned(t testing.TB, image []byte, where []volume.Extent, unit int64) (out []*Found) {
	t.Helper()
	if where == nil {
		where = []volume.Extent{{Offset: 0, Length: int64(len(image))}}
	}
	for f, err := range New(bytes.NewReader(image), where, Options{Unit: unit}).Scan() {
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, f)
	}
	return out
}

func content(image []byte, f *Found) []byte {
	var b []byte
	for _, e := range f.Extents {
		b = append(b, image[e.Offset:e.Offset+e.Length]...)
	}
	return b
}

// Files of every kind, at any alignment, among noise, zeros and text, are found bit for bit, and nothing else is.
func TestContiguous(t *testing.T) {
	all := made(t)
	r := rand.New(rand.NewPCG(1, 2))
	for round := range 3 {
		var image []byte
		want := map[string]int{}
		for name, b := range all {
			switch round {
			case 0:
				image = append(image, noise(r, 3000+r.IntN(9000))...)
			case 1:
				image = append(image, make([]byte, 1+r.IntN(9000))...)
			default:
				image = append(image, bytes.Repeat([]byte("the lamp on the quay \xff\xd8 JFIF %PDF PK RIFF ftyp\n"), 1+r.IntN(99))...)
			}
			want[name] = len(image)
			image = append(image, b...)
		}
		image = append(image, noise(r, 100_000)...)
		found := scanned(t, image, nil, 512)
		byAt := map[int]*Found{}
		for _, f := range found {
			byAt[int(f.Extents[0].Offset)] = f
		}
		for name, at := range want {
			f := byAt[at]
			if f == nil {
				t.Errorf("round %d: %s of %d bytes is not found", round, name, len(all[name]))
				continue
			}
			if f.Kind != kindOf(name) || !bytes.Equal(content(image, f), all[name]) || f.Complete == volume.Part {
				t.Errorf("round %d: %s of %d bytes: %+v", round, name, len(all[name]), f)
			}
			delete(byAt, at)
		}
		for _, f := range byAt {
			t.Errorf("round %d: %+v is no file", round, f)
		}
	}
}

// waves is a picture as smooth as photographs are, with some grain.
func waves(r *rand.Rand) image.Image {
	m := image.NewRGBA(image.Rect(0, 0, 144+16*r.IntN(4), 128+16*r.IntN(4)))
	var of [3][6][4]float64
	for c := range of {
		for i := range of[c] {
			k := float64(i + 1)
			of[c][i] = [4]float64{r.NormFloat64() * k / 60, r.NormFloat64() * k / 60, r.Float64() * 7, 70 / k}
		}
	}
	for y := range m.Rect.Max.Y {
		for x := range m.Rect.Max.X {
			var v [3]uint8
			for c := range of {
				sum := 128 + 3*r.NormFloat64()
				for _, w := range of[c] {
					sum += w[3] * math.Sin(w[0]*float64(x)+w[1]*float64(y)+w[2])
				}
				v[c] = uint8(min(255, max(0, sum)))
			}
			m.SetRGBA(x, y, color.RGBA{v[0], v[1], v[2], 255})
		}
	}
	return m
}

// A picture of which a unit was overwritten is not put together with the end of another, however well its codes go on there;
// one that lies in two runs among others is. What begins as another file at a border is not swallowed by one that breaks off.
func TestAmongOtherPictures(t *testing.T) {
	const unit = 4096
	r := rand.New(rand.NewPCG(11, 12))
	padded := func(b []byte) []byte { return append(bytes.Clone(b), make([]byte, -len(b)&(unit-1))...) }
	var pictures [][]byte
	for range 24 {
		var b bytes.Buffer
		if err := jpeg.Encode(&b, waves(r), &jpeg.Options{Quality: 98}); err != nil {
			t.Fatal(err)
		}
		pictures = append(pictures, b.Bytes())
	}
	wrong, whole, tried := 0, 0, 0
	for round := range 60 {
		r.Shuffle(len(pictures), func(i, k int) { pictures[i], pictures[k] = pictures[k], pictures[i] })
		all := pictures[:12]
		cut := len(all[0]) / unit / 2 * unit
		over := padded(all[0])
		copy(over[cut:], noise(r, unit))
		two := append(append(bytes.Clone(all[0][:cut]), noise(r, 2*unit)...), padded(all[0][cut:])...)
		for k, first := range [][]byte{over, two} {
			storage := bytes.Clone(first)
			at := map[int64][]byte{}
			for _, b := range all[1:] {
				at[int64(len(storage))] = b
				storage = append(storage, padded(b)...)
			}
			for _, f := range scanned(t, storage, nil, unit) {
				if b := at[f.Extents[0].Offset]; b != nil && f.Complete == volume.Whole && bytes.Equal(content(storage, f), b) {
					delete(at, f.Extents[0].Offset)
				}
				if same := bytes.Equal(content(storage, f), all[0]); f.Extents[0].Offset == 0 && k == 1 && same {
					whole++
				} else if f.Extents[0].Offset == 0 && f.Complete == volume.Whole {
					wrong++
				}
			}
			if len(at) > 0 {
				t.Errorf("round %d: %d pictures in one run are not found", round, len(at))
			}
		}
		tried++
	}
	if t.Logf("%d of %d put together", whole, tried); wrong > 0 || whole*100 < tried*95 {
		t.Errorf("%d of %d are put together, %d with what is another's", whole, tried, wrong)
	}
}

// A GIF in which a unit was overwritten is not whole, wherever its blocks lead; an untouched one is, of several pictures, too.
func TestOverwrittenGIF(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	pictures := &gif.GIF{}
	for range 2 {
		m := image.NewPaletted(image.Rect(0, 0, 200, 160), palette.Plan9)
		for i := range m.Pix {
			m.Pix[i] = byte(i/7 + r.IntN(60))
		}
		pictures.Image, pictures.Delay = append(pictures.Image, m), append(pictures.Delay, 10)
	}
	var b bytes.Buffer
	if err := gif.EncodeAll(&b, pictures); err != nil {
		t.Fatal(err)
	}
	if kind, v := Check(bytes.NewReader(b.Bytes()), int64(b.Len())); kind != GIF || v.Complete != volume.Whole || v.Size != int64(b.Len()) {
		t.Errorf("untouched: %s, %+v", kind, v)
	}
	for round := range 3000 {
		harmed := bytes.Clone(b.Bytes())
		copy(harmed[4096*(1+r.IntN(len(harmed)/4096-1)):], noise(r, 4096))
		if _, v := Check(bytes.NewReader(harmed), int64(len(harmed))); v.Complete == volume.Whole {
			t.Errorf("round %d: %+v", round, v)
		}
	}
}

// A picture in two runs, with another's bytes between, is put together where its codes or its checksums prove it; of
// one that is overwritten in the middle nothing says that it is whole.
func TestTwoRuns(t *testing.T) {
	all := made(t)
	r := rand.New(rand.NewPCG(3, 4))
	const unit = 4096
	whole, tried := 0, 0
	for _, name := range []string{"a.jpg", "b.jpg", "progressive.jpg", "restarts.jpg", "apart.jpg", "a.png"} {
		b := all[name]
		for cut := unit; cut < len(b); cut += unit {
			for _, between := range [][]byte{noise(r, unit*(1+r.IntN(40))), make([]byte, unit*3), bytes.Repeat(all["b.jpg"][:unit], 2)} {
				if name == "b.jpg" && between[0] == 0xff {
					continue
				}
				image := append(append(append(append([]byte{}, b[:cut]...), between...), b[cut:]...), noise(r, 20_000)...)
				image = image[:len(image)/unit*unit]
				tried++
				for _, f := range scanned(t, image, nil, unit) {
					if f.Extents[0].Offset != 0 {
						continue
					}
					if bytes.Equal(content(image, f), b) && f.Complete == volume.Whole {
						whole++
					} else if f.Complete == volume.Whole {
						t.Errorf("%s cut at %d: %+v is not it", name, cut, f)
					}
				}
			}
			over := bytes.Clone(b)
			copy(over[cut:], noise(r, min(unit, len(over)-cut)))
			for _, f := range scanned(t, append(over, make([]byte, unit)...), nil, unit) {
				if f.Complete == volume.Whole && f.Extents[0].Offset == 0 {
					t.Errorf("%s overwritten at %d is called whole", name, cut)
				}
			}
		}
	}
	// A film's order is proven as far as the heads of its pictures and sounds lie; nothing proves all of it.
	films, cuts := 0, 0
	for _, name := range []string{"a.mp4", "first.mp4"} {
		b := all[name]
		for cut := unit; cut < len(b); cut += unit {
			image := append(append(append(append([]byte{}, b[:cut]...), bytes.Repeat([]byte("the lamp is out\n"), unit/16*(1+r.IntN(9)))...), b[cut:]...), noise(r, 20_000)...)
			cuts++
			for _, f := range scanned(t, image[:len(image)/unit*unit], nil, unit) {
				if f.Extents[0].Offset == 0 && bytes.Equal(content(image, f), b) {
					films++
				} else if f.Complete == volume.Whole {
					t.Errorf("%s cut at %d: %+v is not it", name, cut, f)
				}
			}
		}
	}
	if t.Logf("%d of %d films put together", films, cuts); films*100 < cuts*80 {
		t.Errorf("%d of %d films are put together", films, cuts)
	}
	if t.Logf("%d of %d put together", whole, tried); whole*100 < tried*95 {
		t.Errorf("%d of %d are put together", whole, tried)
	}
}

// A film from before films said what they are is found by its index alone; the index of one whose head is gone is no film.
func TestFilmWithoutItsKind(t *testing.T) {
	all := made(t)
	r := rand.New(rand.NewPCG(9, 10))
	for _, name := range []string{"a.mp4", "first.mp4"} {
		b := bytes.Clone(all[name])
		copy(b[4:], "wide")
		image := append(append(noise(r, 5000), b...), noise(r, 5000)...)
		if found := scanned(t, image, nil, 512); len(found) != 1 || found[0].Kind != MP4 || !bytes.Equal(content(image, found[0]), b) || found[0].Complete == volume.Part {
			t.Errorf("%s: %+v", name, found)
		}
		copy(b, noise(r, int(binary.BigEndian.Uint32(b)))) // and what follows no longer shows where it began
		image = append(append(noise(r, 5000), b...), noise(r, 5000)...)
		for _, f := range scanned(t, image, nil, 512) {
			t.Errorf("%s without its head: %+v", name, f)
		}
	}
}

// A text that begins where a file may and ends in zeros is found as far as it goes, in any script, and is never called
// whole; of text that goes on from what lies before it, that breaks off, or is another file's, nothing is said.
func TestText(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	const unit = 4096
	padded := func(b []byte) []byte { return append(b, make([]byte, (unit-len(b)%unit)%unit)...) }
	long := bytes.Repeat([]byte("14:05 ثلاثة قوارب, 三艘船, три лодки\n"), 3000) // over the edges of windows
	full := bytes.Repeat([]byte("to the brim 123\n"), unit/16)
	var image []byte
	want := map[int64][]byte{}
	for _, b := range [][]byte{[]byte("high water 03:00 at the north quay\n"), long, full, []byte("{\"lamp\": \"on\", \"at\": 17}")} {
		image = append(image, noise(r, unit)...)
		want[int64(len(image))] = b
		image = append(image, padded(bytes.Clone(b))...)
	}
	image = append(image, noise(r, unit)...)
	for _, b := range [][]byte{
		append(bytes.Repeat([]byte("it breaks off here "), 80), noise(r, 5000)...),
		append(noise(r, unit-100), bytes.Repeat([]byte("from the unit before "), 20)...), // whose text goes on
		[]byte("%PDF-1.4 and no more"),
		append([]byte("some-name-of-a-file.txt"), append(make([]byte, 77), "0000644\x00"...)...),
		[]byte("too short\n"),
	} {
		image = append(image, padded(b)...)
	}
	for _, f := range scanned(t, image, nil, unit) {
		b, ok := want[f.Extents[0].Offset]
		if !ok || f.Kind != Text || f.Complete != volume.Unverified || !bytes.Equal(content(image, f), b) {
			t.Errorf("%+v", f)
		}
		delete(want, f.Extents[0].Offset)
	}
	for at, b := range want {
		t.Errorf("the text at %d, %.20q, is not found", at, b)
	}
	// Text of characters of three bytes that goes on for long, with no end that shows it, is not read again
	// from each unit on, nor are boxes without end of which none is of a film from each of them.
	for _, image := range [][]byte{append(noise(r, 100), bytes.Repeat([]byte("灯台へ"), 1<<19)...), bytes.Repeat([]byte("\x00\x00\x00\x08wide"), 1<<17)} {
		read := &counted{r: bytes.NewReader(image)}
		for f, err := range New(read, []volume.Extent{{Offset: 0, Length: int64(len(image))}}, Options{Unit: 512}).Scan() {
			t.Errorf("%+v, %v", f, err)
		}
		if read.n > 32*int64(len(image)) { // it would be thousands
			t.Errorf("%d bytes were read of %d", read.n, len(image))
		}
	}
}

// Pages of a database whose first pages are overwritten are found to the last, whatever lies around them, and are
// numbered as they were; those of another page size or database are another file, and a picture between is none of them.
func TestPages(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for _, size := range []int{512, 1024, 4096, 65536} {
		for _, auto := range []string{"none", "full"} {
			dir := t.TempDir()
			at := filepath.Join(dir, "a.db")
			run(t, "sqlite3", at, fmt.Sprintf(`PRAGMA page_size=%d; PRAGMA auto_vacuum=%s; CREATE TABLE t(id INTEGER PRIMARY KEY, a, b); CREATE INDEX i ON t(a);
WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c WHERE n<4000) INSERT INTO t SELECT 7*n, hex(n*n)||'lamp', CASE n%%500 WHEN 0 THEN randomblob(%d) END FROM c;
DELETE FROM t WHERE id %% 11 = 0;`, size, auto, 3*size))
			b, err := os.ReadFile(at)
			if err != nil {
				t.Fatal(err)
			}
			for _, lost := range []int{1, 3} {
				switch {
				case auto == "full" && lost == 1:
					lost = 2 // the pointer map, which nothing tells from other bytes
				case lost == 3 && size > 512:
					continue // the only page that leads to others is among them
				}
				const unit = 512
				head := append(noise(r, unit*(1+r.IntN(9))), made(t)["a.jpg"]...)
				head = append(head, noise(r, unit-len(head)%unit)...)
				image := append(append(append([]byte{}, head...), b[lost*size:]...), noise(r, 30_000)...)
				image = append(image[:len(image)/unit*unit], made(t)["b.jpg"]...)
				found := scanned(t, image, nil, unit)
				if len(found) != 3 || found[1].Kind != SQLite || found[1].At() != int64(len(head)) {
					for _, f := range found {
						t.Errorf("pages of %d, auto_vacuum %s, from %d: %+v", size, auto, len(head), f)
					}
					continue
				}
				f := found[1]
				if f.Extents[0] != (volume.Extent{Offset: volume.Hole, Length: int64(lost * size)}) || f.Size != int64(len(b)) || len(f.Extents) != 2 || f.Complete != volume.Part {
					t.Errorf("pages of %d, auto_vacuum %s, %d lost, of %d bytes from %d: %+v", size, auto, lost, len(b), len(head), f)
				}
			}
		}
	}
}

// counted counts what is read.
type counted struct {
	r io.ReaderAt
	n int64
}

func (c *counted) ReadAt(b []byte, at int64) (int, error) {
	c.n += int64(len(b))
	return c.r.ReadAt(b, at)
}

// What is searched beside it is a plain scan for the same first bytes, by the same table of pairs.
func BenchmarkScan(b *testing.B) {
	all := made(b)
	r := rand.New(rand.NewPCG(5, 6))
	var image []byte
	for len(image) < 64<<20 {
		for _, name := range []string{"a.jpg", "a.png", "a.mp4", "a.db", "a.wav", "a.zip"} {
			image = append(image, all[name]...)
			image = append(image, noise(r, 100_000)...)
			image = append(image, bytes.Repeat([]byte("the keeper of the lamp writes what he sees\n"), 9000)...)
			image = append(image, make([]byte, 300_000-len(image)%4096)...)
		}
	}
	b.Run("carve", func(b *testing.B) {
		b.SetBytes(int64(len(image)))
		for b.Loop() {
			for _, err := range New(bytes.NewReader(image), []volume.Extent{{Offset: 0, Length: int64(len(image))}}, Options{Unit: 4096}).Scan() {
				if err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	b.Run("plain", func(b *testing.B) {
		b.SetBytes(int64(len(image)))
		n := 0
		for b.Loop() {
			for i := 0; i+16 < len(image); i++ {
				if pairs[uint16(image[i])|uint16(image[i+1])<<8] {
					for k := range forms {
						if string(image[i:i+len(forms[k].begin)]) == forms[k].begin {
							n++
						}
					}
				}
			}
		}
		b.ReportMetric(float64(n), "hits")
	})
}

// Whatever is searched, what is found lies in it and has its size.
func FuzzScan(f *testing.F) {
	for name, b := range made(f) {
		if len(b) < 60_000 && name != "a.db" {
			f.Add(b)
		}
	}
	f.Add(made(f)["a.db"][4096:])
	f.Fuzz(func(t *testing.T, b []byte) {
		for x, err := range New(bytes.NewReader(b), []volume.Extent{{Offset: 0, Length: int64(len(b))}, {Offset: 7, Length: int64(len(b)) / 2}}, Options{Unit: 512}).Scan() {
			n := int64(0)
			for _, e := range x.Extents {
				n += e.Length
				if e.Offset == volume.Hole && x.Kind == SQLite {
					continue
				}
				if err != nil || e.Offset < 0 || e.Length <= 0 || e.Offset > int64(len(b))-e.Length && e.Offset+e.Length > int64(len(b))+7 {
					t.Fatalf("%+v, %v", x, err)
				}
			}
			if n != x.Size || n == 0 {
				t.Fatalf("%d bytes of %+v", n, x)
			}
		}
	})
}
