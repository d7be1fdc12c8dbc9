package media

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// run runs a program of Debian's packages.
func run(t testing.TB, name string, arg ...string) []byte {
	t.Helper()
	var said bytes.Buffer
	c := exec.Command(name, arg...)
	c.Stderr = &said
	out, err := c.Output()
	if err != nil {
		t.Fatalf("%s %s: %v: %s", name, strings.Join(arg, " "), err, said.Bytes())
	}
	return out
}

// made are films and sounds of every form that is read, made by ffmpeg and SoX.
func made(t testing.TB, dir string) (all []string) {
	t.Helper()
	film := filepath.Join(dir, "film.mp4")
	ffmpeg := func(out string, arg ...string) {
		out = filepath.Join(dir, out)
		run(t, "ffmpeg", append(append([]string{"-hide_banner", "-loglevel", "error", "-y", "-threads", "1"}, arg...), out)...)
		all = append(all, out)
	}
	ffmpeg("film.mp4", "-f", "lavfi", "-i", "testsrc2=size=320x240:rate=10:duration=3.2", "-f", "lavfi", "-i", "sine=frequency=440:duration=3.2", "-c:v", "mpeg4", "-c:a", "aac",
		"-metadata", "title=By the gate", "-metadata", "artist=Nobody", "-metadata", "location=-38.4987-024.0056+012.500/", "-metadata", "creation_time=2026-09-11T20:31:00Z")
	ffmpeg("index first.mp4", "-i", film, "-c", "copy", "-movflags", "faststart", "-metadata", "creation_time=2026-09-11T20:31:00Z")
	ffmpeg("keys.mp4", "-i", film, "-c", "copy", "-movflags", "use_metadata_tags", "-metadata", "make=Orlop", "-metadata", "model=OL-220")
	ffmpeg("turned.mov", "-i", film, "-c", "copy", "-metadata:s:v", "rotate=90")
	ffmpeg("upside down.mp4", "-i", film, "-c", "copy", "-metadata:s:v", "rotate=180")
	ffmpeg("fragments.mp4", "-i", film, "-c", "copy", "-movflags", "frag_keyframe+empty_moov+default_base_moof")
	ffmpeg("fragments by number.mp4", "-f", "lavfi", "-i", "testsrc2=size=64x48:rate=30:duration=7.3", "-c:v", "mpeg4", "-g", "15", "-movflags", "frag_keyframe+empty_moov")
	ffmpeg("old.3gp", "-i", film, "-c:v", "h263", "-s", "352x288", "-an")
	ffmpeg("h264.mp4", "-i", film, "-c:v", "libx264", "-an", "-t", "1")
	ffmpeg("sound.m4a", "-i", film, "-vn", "-c:a", "copy")
	for _, rate := range []string{"8000", "44100"} {
		ffmpeg(rate+".wav", "-i", film, "-vn", "-ar", rate, "-ac", "2", "-metadata", "title=By the gate", "-metadata", "artist=Nobody")
		ffmpeg(rate+".mp3", "-i", film, "-vn", "-ar", rate, "-metadata", "title=By the gate", "-metadata", "album=Gate", "-metadata", "date=2026-09-11")
		ffmpeg("bare "+rate+".mp3", "-i", film, "-vn", "-ar", rate, "-ac", "2", "-b:a", "64k", "-write_xing", "0", "-id3v2_version", "0")
		ffmpeg(rate+".ogg", "-i", film, "-vn", "-ar", rate, "-c:a", "libvorbis", "-metadata", "artist=Nobody")
	}
	ffmpeg("long.ogg", "-f", "lavfi", "-i", "sine=frequency=440:duration=75", "-c:a", "libopus", "-b:a", "16k", "-metadata", "title="+strings.Repeat("long ", 200))
	voice, wide := filepath.Join(dir, "voice.amr-nb"), filepath.Join(dir, "wide.awb")
	run(t, "sox", "-n", "-r", "8000", "-c", "1", voice, "synth", "4.3", "sine", "300")
	frames := append([]byte("#!AMR-WB\n"), bytes.Repeat(append([]byte{0x04}, make([]byte, 17)...), 120)...) // no program of the packages writes these
	if err := os.WriteFile(wide, frames, 0o644); err != nil {
		t.Fatal(err)
	}
	return append(all, voice, wide)
}

// What is read is what FFmpeg's own reading says (Debian's ffmpeg): of every form the duration, the sizes,
// the coding, the rate and channels, the time, the place and the words.
func TestClipsAgainstTheReferenceProgram(t *testing.T) {
	for _, path := range made(t, t.TempDir()) {
		name := filepath.Base(path)
		var said struct {
			Streams []struct {
				Codec    string `json:"codec_name"`
				Type     string `json:"codec_type"`
				Tag      string `json:"codec_tag_string"`
				Width    int
				Height   int
				Rate     string `json:"sample_rate"`
				Channels int
				Tags     map[string]string
				Side     []struct{ Rotation float64 } `json:"side_data_list"`
			}
			Format struct {
				Duration string
				Tags     map[string]string
			}
		}
		if err := json.Unmarshal(run(t, "ffprobe", "-v", "error", "-show_format", "-show_streams", "-of", "json", path), &said); err != nil {
			t.Fatal(err)
		}
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		c, err := ReadClip(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		// The reference counts an encoder's delay to a sound, up to 1105 + 1152 samples, and an Opus stream's pre-skip
		// of 312, which RFC 7845 section 4.2 takes off.
		whole, _ := strconv.ParseFloat(said.Format.Duration, 64)
		slack := map[string]float64{".mp3": 2257 / float64(c.Rate), ".ogg": 312. / 48_000}[filepath.Ext(name)]
		if d := c.Duration.Seconds() - whole; math.Abs(d) > 0.001+slack {
			t.Errorf("%s: %v, the reference says %s s", name, c.Duration, said.Format.Duration)
		}
		tags := map[string]string{}
		turn, film := 0.0, false
		for _, s := range said.Streams {
			for k, v := range s.Tags {
				tags[strings.ToLower(k)] = v
			}
			for _, d := range s.Side {
				turn = d.Rotation
			}
			if s.Type == "video" {
				if film = true; c.Width != s.Width || c.Height != s.Height || c.Video != s.Tag {
					t.Errorf("%s: %d × %d %s, the reference says %+v", name, c.Width, c.Height, c.Video, s)
				}
			} else if fmt.Sprint(c.Rate) != s.Rate && s.Codec != "opus" || c.Channels != s.Channels { // of Opus the rate before coding is told
				t.Errorf("%s: %d Hz, %d channels, the reference says %+v", name, c.Rate, c.Channels, s)
			}
		}
		for k, v := range said.Format.Tags {
			tags[strings.ToLower(k)] = v
		}
		if strings.HasPrefix(c.Type, "video/") != film || math.Mod(360-turn, 360) != float64(c.Turn) {
			t.Errorf("%s: %s turned by %d, the reference says %v", name, c.Type, c.Turn, turn)
		}
		for k, v := range map[string]string{"title": c.Title, "artist": c.Artist, "album": c.Album, "make": c.Maker, "model": c.Model} {
			if strings.TrimSpace(tags[k]) != v {
				t.Errorf("%s: %s %q, the reference says %q", name, k, v, tags[k])
			}
		}
		if at := tags["creation_time"]; (at != "") != (c.Made != nil && c.Made.At != nil) || at != "" && c.Made.At.Format("2006-01-02T15:04:05.000000Z") != at {
			t.Errorf("%s: made %+v, the reference says %s", name, c.Made, at)
		}
		if at := tags["location"]; (at != "") != (c.Latitude != nil) || at != "" && (math.Abs(*c.Latitude+38.4987) > 1e-4 || math.Abs(*c.Longitude+24.0056) > 1e-4 || math.Abs(*c.Altitude-12.5) > 1e-4) {
			t.Errorf("%s: at %s, the reference says %s", name, c.Place, at)
		}
	}
}

// The three forms of ISO 6709:2008 annex H; the values are from memory of its examples.
func TestPoints(t *testing.T) {
	for s, want := range map[string][2]float64{"+40-075/": {40, -75}, "+40.20361-075.00417/": {40.20361, -75.00417}, "+4012.22-07500.25/": {40.203667, -75.004167}, "+401213.1-0750015.1/": {40.203639, -75.004194},
		"-90+000+2800/": {-90, 0}} {
		c := &Clip{}
		if c.point(s); c.Latitude == nil || math.Abs(*c.Latitude-want[0]) > 1e-6 || math.Abs(*c.Longitude-want[1]) > 1e-6 {
			t.Errorf("%s: %+v", s, c)
		}
	}
	c := &Clip{}
	if c.point("+95+000/"); c.Latitude != nil {
		t.Error("a place beyond the pole is taken")
	}
}

// What is cut anywhere, or claims what it does not have, is read as far as it goes, and soon.
func TestHostileClips(t *testing.T) {
	for _, path := range made(t, t.TempDir()) {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for n := 0; n < len(b); n += 1 + n/10 {
			ReadClip(bytes.NewReader(b[:n]), int64(n))
		}
	}
	deep := bytes.Repeat([]byte{0, 0, 0, 0, 'm', 'o', 'o', 'v', 0, 0, 0, 0, 'u', 'd', 't', 'a', 0, 0, 0, 0, 'm', 'e', 't', 'a'}, 30_000)
	many := bytes.Repeat([]byte{0, 0, 0, 8, 'm', 'o', 'o', 'v'}, maxBoxes+1)
	for name, b := range map[string][]byte{"boxes in boxes": deep, "boxes that go back": {0, 0, 0, 1, 'm', 'o', 'o', 'v', 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, "more boxes than are read": many,
		"boxes of no length": {0, 0, 0, 4, 'm', 'o', 'o', 'v', 0, 0, 0, 0}, "frames of no size": append([]byte("#!AMR\n"), bytes.Repeat([]byte{0x7c}, 1<<20)...), "a chunk that is not there": []byte("RIFF\xff\xff\xff\xffWAVEdata\xff\xff\xff\xff")} {
		begun := time.Now()
		if _, err := ReadClip(bytes.NewReader(b), int64(len(b))); err == nil && name != "frames of no size" {
			t.Errorf("%s: nothing is said", name)
		}
		t.Logf("%s: %v", name, time.Since(begun))
	}
}

func FuzzReadClip(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x14ftypisom\x00\x00\x02\x00\x00\x00\x00\x2emoov\x00\x00\x00\x26udta\x00\x00\x00\x1e\xa9xyz\x00\x12\x15\xc7+38.4987+024.0056/"))
	f.Add([]byte("RIFF\x24\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00\x40\x1f\x00\x00\x80\x3e\x00\x00\x02\x00\x10\x00data\x00\x00\x00\x00"))
	f.Add([]byte("#!AMR\n\x3c\x00\x00"))
	f.Add([]byte("ID3\x04\x00\x00\x00\x00\x00\x0dTIT2\x00\x00\x00\x03\x00\x00\x03ab\xff\xfb\x90\x64"))
	f.Add([]byte("OggS\x00\x02\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01\x13OpusHead\x01\x01\x38\x01\x80\xbb\x00\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		c, err := ReadClip(bytes.NewReader(b), int64(len(b)))
		if c == nil && err == nil {
			t.Fatal("neither a clip nor an error")
		}
		if c != nil && (c.Duration < 0 || (c.Latitude == nil) != (c.Longitude == nil) || c.Latitude != nil && math.Abs(*c.Latitude) > 90) {
			t.Fatalf("%+v", c)
		}
	})
}
