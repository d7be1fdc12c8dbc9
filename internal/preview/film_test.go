package preview

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image/jpeg"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// made is a film or a sound of FFmpeg's or SoX's making (Debian's ffmpeg and sox).
func made(t testing.TB, name string, command ...string) []byte {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	for i, s := range command {
		if s == "OUT" {
			command[i] = path
		}
	}
	if out, err := exec.Command(command[0], command[1:]...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", name, err, out)
	}
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func film(t testing.TB, name string, more ...string) []byte {
	return made(t, name, append(append(strings.Fields("ffmpeg -loglevel error -f lavfi -i testsrc2=size=320x240:rate=5:duration=4 -f lavfi -i sine=frequency=440:duration=4"), more...), "OUT")...)
}

// Of a film there are frames, of coded sounds their samples and a waveform: a tone is as long, and as high, as
// it was made.
func TestFilmsAndCodedSounds(t *testing.T) {
	mp4 := film(t, "a.mp4", "-c:v", "libx264", "-c:a", "aac")
	for name, b := range map[string][]byte{"mp4": mp4, "mov": film(t, "a.mov", "-c:v", "mjpeg"), "3gp": film(t, "a.3gp", "-c:v", "h263", "-s", "352x288", "-an")} {
		out, media, err := maker(t, "make").of(b)
		if err != nil || media != "image/jpeg" {
			t.Errorf("%s: %s %v", name, media, err)
			continue
		}
		img, err := jpeg.Decode(bytes.NewReader(out))
		if err != nil || img.Bounds().Dx() < 700 || img.Bounds().Dy() < 500 {
			t.Errorf("%s: %v %v", name, img, err)
		}
	}
	for name, b := range map[string][]byte{
		"m4a": film(t, "a.m4a", "-map", "1:a"), "mp3": film(t, "a.mp3", "-map", "1:a"), "ogg": film(t, "a.ogg", "-map", "1:a"), "µ-law": film(t, "a.wav", "-map", "1:a", "-c:a", "pcm_mulaw", "-ar", "8000"),
		"amr": made(t, "a.amr-nb", "sox", "-n", "-r", "8000", "-c", "1", "OUT", "synth", "4", "sine", "440"), "wav": film(t, "b.wav", "-map", "1:a", "-ar", "16000")} {
		out, media, err := maker(t, "make").of(b)
		if err != nil || media != "audio/wav" || binary.LittleEndian.Uint32(out[24:]) != 16000 {
			t.Errorf("%s: %s %v", name, media, err)
			continue
		}
		var samples []int16
		for at := 44; at+1 < len(out); at += 2 {
			samples = append(samples, int16(binary.LittleEndian.Uint16(out[at:])))
		}
		ups := 0
		for i := 1; i < len(samples); i++ {
			if samples[i-1] < 0 && samples[i] >= 0 {
				ups++
			}
		}
		if long := float64(len(samples)) / 16000; math.Abs(long-4) > 0.1 || math.Abs(float64(ups)/long-440) > 12 {
			t.Errorf("%s: %.2f s of %.0f Hz", name, long, float64(ups)/long)
		}
		out, media, err = maker(t, "make").as(Waveform, b)
		img, err2 := png.Decode(bytes.NewReader(out))
		if err != nil || media != "image/png" || err2 != nil || img.Bounds().Dx() != 640 {
			t.Errorf("%s: its waveform: %s %v %v", name, media, err, err2)
		}
	}
	if _, _, err := maker(t, "make").as("other", mp4); err == nil {
		t.Error("a form that there is not is made")
	}
}

// Films with a broken index, that are cut, that claim what they have not, or that name other files, are told of in
// words, and no more than the limits is used.
func TestHostileFilms(t *testing.T) {
	mp4 := film(t, "a.mp4", "-c:v", "libx264", "-an")
	index := bytes.Index(mp4, []byte("stco"))
	broken := bytes.Clone(mp4)
	for i := index + 12; i < index+40; i++ {
		broken[i] = 0xff
	}
	huge := bytes.Clone(mp4)
	for at := 0; ; at += 4 { // each head of a track and of its samples claims 60,000 by 60,000
		i := bytes.Index(huge[at:], []byte("avc1\x00\x00\x00\x00"))
		if i < 0 {
			break
		}
		at += i
		binary.BigEndian.PutUint16(huge[at+28:], 60_000)
		binary.BigEndian.PutUint16(huge[at+30:], 60_000)
	}
	endless := bytes.Clone(mp4)
	i := bytes.Index(endless, []byte("stts"))
	binary.BigEndian.PutUint32(endless[i+12:], 1<<31-1) // samples of one length
	for name, b := range map[string][]byte{"a broken index": broken, "cut": mp4[:len(mp4)/2], "no index": mp4[:index-200], "60,000 by 60,000": huge, "endless": endless,
		"boxes alone": []byte("\x00\x00\x00\x10ftypisom\x00\x00\x02\x00\x00\x00\x00\x08moov"), "a list": []byte("\x00\x00\x00\x18ftypisom\x00\x00\x02\x00file '/etc/passwd'\n"),
		"frames of noise": append([]byte("#!AMR\n"), bytes.Repeat([]byte{0x7f}, 5000)...), "no frames": []byte("ID3\x04\x00\x00\x00\x00\x00\x0aaaaaaaaaaaaaaa")} {
		out, media, err := maker(t, "make").of(b)
		if f := (*Fault)(nil); err != nil && (!errors.As(err, &f) || strings.Contains(f.Why, "root:")) || err == nil && media != "image/jpeg" {
			t.Errorf("%s: %d bytes, %s, %v", name, len(out), media, err)
		}
		t.Logf("%s: %s %v", name, media, err)
	}
}
