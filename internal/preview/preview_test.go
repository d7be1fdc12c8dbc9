package preview

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// The test binary is the child, too: it confines itself as the application's does, and then does what
// the test asks of it.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "child" {
		os.Exit(child(os.Args[2], os.Args[3:]))
	}
	os.Exit(m.Run())
}

func child(what string, more []string) int {
	if what == "contain" { // a program with one folder that is read and one that is written
		fmt.Fprintln(os.Stderr, Contain(more[:1], more[1], more[2:], os.Environ()))
		return 1
	}
	if what == "make" { // which confines itself
		if err := Make(os.Stdout, os.Stdin, strings.Join(more, "")); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		return 0
	}
	lacks := Confine()
	switch what {
	case "tell": // what the kernel says, and what it lets be done
		said := map[string]any{"lacks": lacks}
		for name, which := range map[string]int{"memory": unix.RLIMIT_AS, "seconds": unix.RLIMIT_CPU, "handles": unix.RLIMIT_NOFILE, "written": unix.RLIMIT_FSIZE} {
			var l unix.Rlimit
			if err := unix.Getrlimit(which, &l); err == nil {
				said[name] = l.Max
			}
		}
		_, err := os.ReadFile("/etc/passwd")
		said["file"] = err == nil
		_, err = net.DialTimeout("tcp", more[0], time.Second)
		said["socket"] = err == nil
		said["program"] = exec.Command("/bin/true").Run() == nil
		mode, _ := unix.PrctlRetInt(unix.PR_GET_SECCOMP, 0, 0, 0, 0)
		said["seccomp"] = mode == 2 // a filter
		b, _ := json.Marshal(said)
		fmt.Fprintln(os.Stderr, string(b))
		return 1
	case "greedy":
		var all [][]byte
		for range 64 {
			b := make([]byte, 64<<20)
			for i := 0; i < len(b); i += 4096 {
				b[i] = 1
			}
			all = append(all, b)
		}
		fmt.Fprintln(os.Stderr, len(all), "had 4 GB")
		return 1
	case "busy":
		for i := 0; ; i++ {
			_ = i
		}
	case "flood":
		for range 200 {
			if _, err := os.Stdout.Write(make([]byte, 1<<20)); err != nil {
				fmt.Fprintln(os.Stderr, err)
				return 1
			}
		}
	case "lie":
		fmt.Print("<html><script>alert(1)</script>")
	}
	return 0
}

func maker(t testing.TB, what string, more ...string) *Maker {
	t.Helper()
	return &Maker{Dir: t.TempDir(), Command: append([]string{os.Args[0], "child", what}, more...), Log: slog.New(slog.DiscardHandler)}
}

func (m *Maker) of(b []byte) ([]byte, string, error) {
	return m.as(Shown, b)
}

func (m *Maker) as(form string, b []byte) ([]byte, string, error) {
	return m.Preview(context.Background(), form, strings.Repeat("a", 64), func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b)), nil })
}

// A picture whose left half is red is turned as Exif says; of a sound the samples are taken over.
func TestPreviews(t *testing.T) {
	img := image.NewRGBA(image.Rect(0, 0, 1200, 600))
	for x := range 1200 {
		for y := range 600 {
			c := color.RGBA{220, 0, 0, 255}
			if x >= 600 {
				c = color.RGBA{0, 0, 220, 255}
			}
			img.SetRGBA(x, y, c)
		}
	}
	var j, p bytes.Buffer
	if err := errors.Join(jpeg.Encode(&j, img, nil), png.Encode(&p, img)); err != nil {
		t.Fatal(err)
	}
	turned := append([]byte{0xff, 0xd8, 0xff, 0xe1, 0, 34}, "Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00\x06\x00\x00\x00\x00\x00\x00"...)
	turned = append(turned, j.Bytes()[2:]...)
	for name, c := range map[string]struct {
		in   []byte
		w, h int
		top  bool // the red is above
	}{"jpeg": {j.Bytes(), 800, 400, false}, "png": {p.Bytes(), 800, 400, false}, "turned by 90° to the right": {turned, 400, 800, true}} {
		b, media, err := maker(t, "make").of(c.in)
		if err != nil || media != "image/jpeg" {
			t.Errorf("%s: %s, %v", name, media, err)
			continue
		}
		out, err := jpeg.Decode(bytes.NewReader(b))
		if err != nil || out.Bounds().Dx() != c.w || out.Bounds().Dy() != c.h {
			t.Errorf("%s: %v, %v", name, out.Bounds(), err)
			continue
		}
		if r, _, _, _ := out.At(c.w-20, 20).RGBA(); (r > 0x8000) != c.top {
			t.Errorf("%s: at the right above it has red %x", name, r)
		}
	}
	wav := append([]byte("RIFF\x00\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x02\x00\x80\xbb\x00\x00\x00\xee\x02\x00\x04\x00\x10\x00data"), 0, 0, 0, 0)
	binary.LittleEndian.PutUint32(wav[40:], 4*48000)
	wav = append(wav, bytes.Repeat([]byte{0x10, 0, 0x30, 0}, 48000)...)
	b, media, err := maker(t, "make").of(wav)
	if err != nil || media != "audio/wav" || binary.LittleEndian.Uint32(b[24:]) != 16000 || len(b) != 44+2*16000 || b[44] != 0x20 {
		t.Errorf("a sound of two channels: %s, %d bytes, %v", media, len(b), err)
	}
}

// What is hostile is refused in words, and costs the application nothing.
func TestHostileMedia(t *testing.T) {
	chunk := func(name string, data []byte) []byte {
		b := binary.BigEndian.AppendUint32(nil, uint32(len(data)))
		b = append(append(b, name...), data...)
		return binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[4:]))
	}
	huge := append([]byte("\x89PNG\r\n\x1a\n"), chunk("IHDR", []byte{0, 0, 0xea, 0x60, 0, 0, 0xea, 0x60, 8, 6, 0, 0, 0})...) // 60,000 by 60,000
	var cut bytes.Buffer
	if err := jpeg.Encode(&cut, image.NewGray(image.Rect(0, 0, 900, 900)), nil); err != nil {
		t.Fatal(err)
	}
	endless := make([]byte, MaxInput+10)
	for i := 0; i < len(endless); i += 4096 {
		endless[i] = 1 // it is there, before memory is measured
	}
	peak := peakMemory(t)
	for name, c := range map[string]struct {
		what string
		in   []byte
		said string
	}{
		"pixels":   {"make", huge, "claims 60000 × 60000 pixels"},
		"cut off":  {"make", cut.Bytes()[:cut.Len()/2], "decoding a picture"},
		"a text":   {"make", []byte("no picture"), "no picture that can be shown"},
		"no sound": {"make", []byte("RIFF\xff\xff\xff\xffWAVEdata\xff\xff\xff\xff"), "FFmpeg cannot decode it"},
		"nothing":  {"make", nil, "no picture that can be shown"},
		"endless":  {"make", endless, "more than"},
		"a flood":  {"flood", nil, "gave more than it may"},
		"greedy":   {"greedy", nil, "more memory than it may"},
		"a lie":    {"lie", nil, "neither a picture nor a sound"},
	} {
		_, _, err := maker(t, c.what).of(c.in)
		if f := (*Fault)(nil); !errors.As(err, &f) || !strings.Contains(f.Why, c.said) {
			t.Errorf("%s: %v", name, err)
		}
	}
	grown := peak()
	t.Logf("memory grew by %d MB", grown>>20)
	if grown > 64<<20 { // a preview is held while it is kept; a child was given 4 GB to ask for, and pictures of 14 GB
		t.Errorf("the application's memory grew by %d MB", grown>>20)
	}
	m := maker(t, "busy")
	m.Patience = 300 * time.Millisecond
	if _, _, err := m.of(nil); err == nil || !strings.Contains(err.Error(), "took longer than 300ms") {
		t.Errorf("one that never ends: %v", err)
	}
	if _, _, err := m.Preview(context.Background(), Shown, "../../x", nil); err == nil {
		t.Error("a name that leads elsewhere is taken")
	}
}

// peakMemory asks the kernel from now on for the most memory that this process has had (proc(5), clear_refs and VmHWM), and
// gives how much it has grown.
func peakMemory(t testing.TB) func() int {
	t.Helper()
	debug.FreeOSMemory()
	if err := os.WriteFile("/proc/self/clear_refs", []byte("5"), 0); err != nil {
		t.Skip("the kernel does not tell:", err)
	}
	most := func() int {
		b, err := os.ReadFile("/proc/self/status")
		if err != nil {
			t.Fatal(err)
		}
		_, after, _ := strings.Cut(string(b), "VmHWM:")
		var kb int
		if _, err := fmt.Sscan(after, &kb); err != nil {
			t.Fatal(err)
		}
		return kb << 10
	}
	before := most()
	return func() int { return most() - before }
}

// The kernel says that the limits are set; a decoder that tries to open a file or a connection
// does not come to it.
func TestTheKernelKeepsTheLimits(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	m := maker(t, "tell", l.Addr().String())
	var log bytes.Buffer
	m.Log = slog.New(slog.NewTextHandler(&log, nil))
	_, _, err = m.of(nil)
	var said struct {
		Memory, Seconds, Handles, Written uint64
		File, Socket, Program, Seccomp    bool
		Lacks                             []string
	}
	if err == nil || json.Unmarshal([]byte(err.Error()), &said) != nil {
		t.Fatal(err)
	}
	if said.Memory == 0 || said.Memory > 1<<42 || said.Seconds != maxSecs || said.Handles != maxHandles || said.Written != 0 {
		t.Errorf("%+v", said)
	}
	// What a kernel does not have it cannot keep, and that is said.
	if filtered := !strings.Contains(fmt.Sprint(said.Lacks), "seccomp"); filtered != said.Seccomp || filtered && (said.Program || said.Socket) {
		t.Errorf("a filter of calls %t: a program is started %t, a connection opened %t: %v", said.Seccomp, said.Program, said.Socket, said.Lacks)
	}
	landlocked, apart := !strings.Contains(fmt.Sprint(said.Lacks), "Landlock"), !strings.Contains(log.String(), "without a network namespace")
	if landlocked && said.File || (landlocked || apart) && said.Socket {
		t.Errorf("it opens a file %t or a connection %t: %v", said.File, said.Socket, said.Lacks)
	}
	t.Logf("Landlock %t, a network of its own %t: a file is opened %t, a connection %t", landlocked, apart, said.File, said.Socket)
}

// A picture, the same in another size and quality, and another one: by the examples of goimagehash's README, in which a picture
// and its copies are a few places apart, and others are many.
func TestPicturesThatLookAlike(t *testing.T) {
	drawn := func(seed, scale, quality int) uint64 {
		img := image.NewGray(image.Rect(0, 0, 96*scale, 80*scale))
		for x := range img.Rect.Dx() {
			for y := range img.Rect.Dy() {
				block := (x/(12*scale))*31 + (y/(10*scale))*17 + seed
				img.Pix[y*img.Stride+x] = byte(block * block * 7)
			}
		}
		var b bytes.Buffer
		if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: quality}); err != nil {
			t.Fatal(err)
		}
		d, err := maker(t, "make").Digest(t.Context(), strings.Repeat("a", 64), func() (io.ReadCloser, error) { return io.NopCloser(&b), nil })
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	one, copied, other := drawn(1, 8, 90), drawn(1, 2, 40), drawn(5, 8, 90)
	if Apart(one, copied) > Near || Apart(one, other) <= Near {
		t.Errorf("a copy is %d apart, another picture %d", Apart(one, copied), Apart(one, other))
	}
	if _, err := maker(t, "make").Digest(t.Context(), strings.Repeat("a", 64), func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("no picture")), nil }); err == nil {
		t.Error("of what is no picture there is a digest")
	}
}

// A program that is contained reads its folders, writes in the one that it may, and reaches no other file and no network.
func TestContain(t *testing.T) {
	read, write, other := t.TempDir(), t.TempDir(), t.TempDir()
	for _, dir := range []string{read, write, other} {
		if err := os.WriteFile(filepath.Join(dir, "f"), []byte("there"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for what, want := range map[string]bool{
		"cat " + read + "/f": true, "cat " + write + "/f": true, "cat " + other + "/f": false, "cat /etc/passwd": false,
		"cp " + read + "/f " + write + "/g": true, "cp " + read + "/f " + other + "/g": false, "cp " + read + "/f " + read + "/g": false,
	} {
		argv := strings.Fields(what)
		argv[0] = "/usr/bin/" + argv[0]
		out, err := exec.Command(os.Args[0], append([]string{"child", "contain", read, write}, argv...)...).CombinedOutput()
		if (err == nil) != want {
			t.Errorf("%s: %v, %s", what, err, out)
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	script := "import net from 'node:net'; const c = net.connect(" + strings.TrimPrefix(l.Addr().String(), "127.0.0.1:") + ", '127.0.0.1'); c.on('error', (e) => console.log(e.code)); c.on('connect', () => { console.log('connected'); c.end() })"
	if err := os.WriteFile(filepath.Join(write, "n.mjs"), []byte(script), 0o644); err != nil {
		t.Fatal(err)
	}
	node, err := exec.LookPath("node")
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(os.Args[0], "child", "contain", read, write, node, filepath.Join(write, "n.mjs"))
	cmd.Env = []string{"OPENSSL_CONF=/dev/null"}
	if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), "EPERM") {
		t.Errorf("the network: %v, %s", err, out)
	}
}
