package preview

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"

	"golang.org/x/sys/unix"

	"crosswind/core/media"
)

// ffmpeg decodes what Go's own libraries do not: films, and sounds that are coded. It is FFmpeg's program, in
// a process that has this one's limits.
type ffmpeg struct {
	program string
	in      *os.File // in memory alone
	form    string   // as the program names it: nothing is guessed
}

var errNoPictures = errors.New("preview: it has no pictures")

// forms are the program's names of the forms that are read.
var forms = map[string]string{"audio/wav": "wav", "audio/amr": "amr", "audio/amr-wb": "amr", "audio/ogg": "ogg", "audio/mpeg": "mp3"}

// openFFmpeg readies the decoding of b.
func openFFmpeg(b []byte) (*ffmpeg, error) {
	program, err := exec.LookPath("/usr/bin/ffmpeg")
	if err != nil {
		return nil, errors.New("preview: FFmpeg is not installed on this machine: films, and sounds that are coded, are not shown")
	}
	fd, err := unix.MemfdCreate("evidence", unix.MFD_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("preview: keeping a film in memory: %w", err)
	}
	f := &ffmpeg{program, os.NewFile(uintptr(fd), "evidence"), forms[media.ClipType(b[:min(len(b), 16)])]}
	if f.form == "" {
		f.form = "mov"
	}
	_, err = f.in.Write(b)
	return f, err
}

// part is how the program says which part of it speaks.
var part = regexp.MustCompile(`^\[[^\]]*\] `)

// run has the program decode, and gives what it writes, up to most bytes.
func (f *ffmpeg) run(most int, in, out []string) ([]byte, error) {
	arg := []string{"-nostdin", "-hide_banner", "-loglevel", "error", "-protocol_whitelist", "file", "-threads", "1", "-max_pixels", fmt.Sprint(maxPixels)}
	arg = append(append(arg, in...), "-f", f.form, "-i", "/proc/self/fd/3")
	arg = append(append(arg, "-map_metadata", "-1", "-threads", "1", "-filter_threads", "1"), out...)
	c := exec.Command(f.program, append(arg, "pipe:1")...)
	c.Env, c.Stdin, c.ExtraFiles = []string{"LANG=C"}, f.in, []*os.File{f.in}
	w, said := &bounded{most: most}, &bounded{most: 4 << 10}
	c.Stdout, c.Stderr = w, said
	err := c.Run()
	why, _, _ := strings.Cut(strings.TrimSpace(string(said.kept)), "\n")
	why = part.ReplaceAllString(why, "")
	switch {
	case w.over:
		return nil, fmt.Errorf("preview: FFmpeg gave more than %d bytes", most)
	case err != nil && c.ProcessState != nil && !c.ProcessState.Exited():
		return nil, fmt.Errorf("preview: FFmpeg was ended by the system (%s)", c.ProcessState)
	case len(w.kept) > 0: // of one that is damaged, what could be decoded
		return w.kept, nil
	case strings.Contains(why, "does not contain any stream") || strings.Contains(why, "matches no streams"):
		return nil, errNoPictures
	case err != nil:
		return nil, fmt.Errorf("preview: FFmpeg cannot decode it: %s", strings.ToValidUTF8(why, "\ufffd"))
	}
	return nil, errNoPictures
}

// frames writes one picture of up to four frames of a film, spread over its length.
func (f *ffmpeg) frames(w io.Writer, b []byte) error {
	c, err := media.ReadClip(bytes.NewReader(b), int64(len(b)))
	if c == nil {
		return err
	}
	length := c.Duration.Seconds()
	var skip []string
	if length > 30 { // of a long one only pictures that need no others
		skip = []string{"-skip_frame", "nokey"}
	}
	out, err := f.run(MaxOutput, skip, []string{"-an", "-vf", fmt.Sprintf(
		"select='isnan(prev_selected_t)+gte(t-prev_selected_t,%.3f)',scale=400:300:force_original_aspect_ratio=decrease,tile=2x2:padding=4:color=white", max(0.04, length/4)),
		"-frames:v", "1", "-vsync", "vfr", "-c:v", "mjpeg", "-q:v", "4", "-f", "mjpeg"})
	if err == nil {
		_, err = w.Write(out)
	}
	return err
}

// filled puts silence where frames are that the program does not decode, as those of pauses in voice codecs: what
// is heard keeps its time.
const filled = "aresample=async=1:min_hard_comp=0.01:first_pts=0"

// sound gives the samples of a sound.
func (f *ffmpeg) sound() ([]int16, int, error) {
	const rate = 16_000
	out, err := f.run(2*rate*maxSeconds+1<<16, nil, []string{"-vn", "-t", fmt.Sprint(maxSeconds), "-af", filled, "-ac", "1", "-ar", fmt.Sprint(rate), "-c:a", "pcm_s16le", "-f", "s16le"})
	if err != nil {
		return nil, 0, err
	}
	samples := make([]int16, len(out)/2)
	for i := range samples {
		samples[i] = int16(binary.LittleEndian.Uint16(out[2*i:]))
	}
	return samples, rate, nil
}
