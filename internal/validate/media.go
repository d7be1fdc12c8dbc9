package validate

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"image"
	"image/jpeg"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/reading"
	"crosswind/core/record"

	exif "github.com/dsoprea/go-exif/v3"
	exifcommon "github.com/dsoprea/go-exif/v3/common"
)

// So many photographs, films and sounds are made; a half of the photographs as many times again with damage.
const (
	photographs = 60
	films       = 6
	sounds      = 12
)

// ffmpeg is the program that makes films and sounds, as it makes their frames elsewhere.
const ffmpeg = "/usr/bin/ffmpeg"

// What a photograph, a film or a sound says about itself.
const (
	saidTime   = "time"
	saidPlace  = "place"
	saidDevice = "device"
	saidSize   = "size"
	saidTurn   = "orientation"
	saidLength = "length"
	saidTitle  = "title"
	saidArtist = "artist"
)

// saidBy ends the names of what is counted.
const saidBy = "s that photographs, films and sounds name"

// clip is a photograph, a film or a sound that was made, and what it says.
type clip struct {
	name string
	b    []byte
	says map[string]string
}

// media makes photographs that say when and where they were taken and by what, films and sounds, and the same with damage.
func media(ctx context.Context, s *Set, dir string, seed uint64) error {
	r := rand.New(rand.NewPCG(seed, 20))
	s.Library = "Go's image/jpeg and " + library("github.com/dsoprea/go-exif/v3")
	var all []*clip
	for i := range photographs {
		c, err := photograph(r, i)
		if err != nil {
			return err
		}
		all = append(all, c)
	}
	if out, err := exec.CommandContext(ctx, ffmpeg, "-version").Output(); err != nil {
		s.Library += "; films and sounds were not made: there is no " + ffmpeg
	} else {
		version, _, _ := strings.Cut(string(out), " Copyright")
		s.Library += ", films and sounds by " + version
		for i := range films + sounds {
			c, err := recorded(ctx, r, i, dir)
			if err != nil {
				return err
			}
			all = append(all, c)
		}
	}
	s.Made = len(all)
	for i, c := range all {
		told, err := c.read()
		if err != nil {
			return err
		}
		for what, want := range c.says {
			s.count(what+saidBy, true, agrees(what, told[what], want))
		}
		s.compare("said by a photograph, a film or a sound that is whole", false, c, told)
		if i >= photographs || i%2 > 0 {
			continue
		}
		// What it says of itself is in its first bytes.
		harmed := &clip{name: c.name, b: slices.Clone(c.b), says: c.says}
		at := 30 + r.IntN(500)
		if i%4 == 0 {
			harmed.b = harmed.b[:at]
		} else {
			copy(harmed.b[at:], noise(r, 16))
		}
		if told, err = harmed.read(); err != nil {
			return err
		}
		s.compare("said by a photograph that is damaged", true, harmed, told)
	}
	return nil
}

// compare counts what was told of a photograph, a film or a sound: right if that is so.
func (s *Set) compare(place string, unproven bool, c *clip, told map[string]string) {
	for _, what := range slices.Sorted(maps.Keys(told)) {
		s.say(place, agrees(what, told[what], c.says[what]), fmt.Sprintf("%s: %s %q, and it is %q", c.name, what, told[what], c.says[what]))
	}
	for i := range s.Places {
		if s.Places[i].Place == place {
			s.Places[i].Unproven = unproven // nothing proves that a byte of it is as it was
		}
	}
}

// agrees reports whether what was told is so: as exactly as the form has it.
func agrees(what, told, want string) bool {
	numbers := func(s string) (out []float64) {
		for f := range strings.SplitSeq(s, ", ") {
			n, err := strconv.ParseFloat(f, 64)
			if err != nil {
				return nil
			}
			out = append(out, n)
		}
		return out
	}
	within := func(most float64) bool {
		a, b := numbers(told), numbers(want)
		return a != nil && slices.EqualFunc(a, b, func(x, y float64) bool { return math.Abs(x-y) <= most })
	}
	switch what {
	case saidPlace:
		return within(3e-5) // five digits, of which 3GPP TS 26.244 section 8.3 makes sixteen bits of a degree
	case saidLength:
		return within(0.15) // a sound of frames has whole ones alone
	}
	return told == want
}

// read gives what the records that the code for evidence reads say.
func (c *clip) read() (map[string]string, error) {
	told := map[string]string{}
	f := &reading.File{Path: "/media/" + c.name, Stored: c.name, Size: int64(len(c.b)), SHA256: sumOf(c.b), Open: func() (reading.Bytes, error) { return inMemory{bytes.NewReader(c.b)}, nil }}
	for r, err := range reading.Records([]*reading.File{f}, reading.Options{Note: func(string) {}}) {
		if err != nil {
			return nil, err
		}
		if t := r.Time(); t.Local != "" {
			told[saidTime] = t.Local
		} else if t.At != nil {
			told[saidTime] = t.At.UTC().Format(time.RFC3339)
		}
		if r.Place != nil {
			told[saidPlace] = fmt.Sprintf("%.6f, %.6f", r.Place.Latitude, r.Place.Longitude)
		}
		for what, s := range map[string]string{saidTitle: r.Text, saidDevice: r.Fact(record.MadeBy).Value, saidSize: r.Fact(record.Pixels).Value, saidTurn: r.Fact("Orientation").Value,
			saidLength: r.Fact(record.Duration).Value, saidArtist: r.Fact("Artist").Value} {
			if s != "" {
				told[what] = s
			}
		}
	}
	return told, nil
}

func sumOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// inMemory is a file whose bytes are at hand.
type inMemory struct{ *bytes.Reader }

func (inMemory) Close() error { return nil }

// somewhere is a place, and somewhen a time, of the sort that photographs name.
func somewhere(r *rand.Rand) (lat, lon float64) { return r.Float64()*170 - 85, r.Float64()*358 - 179 }

func somewhen(r *rand.Rand) time.Time {
	return time.Date(2024, 1, 1, 0, 0, r.IntN(700*24*3600), 0, time.UTC)
}

// turns are orientations by their numbers in Exif (CIPA DC-008 section 4.6.4.A), in the words of records.
var turns = map[uint16]string{1: "", 3: "turned by 180°", 6: "turned by 90° to the right", 8: "turned by 90° to the left"}

// photograph makes the photograph with the number i: some say no offset, no place, no device, or nothing.
func photograph(r *rand.Rand, i int) (*clip, error) {
	c := &clip{name: fmt.Sprintf("photograph%d.jpg", i), says: map[string]string{}}
	picture := image.NewGray(image.Rect(0, 0, 16+r.IntN(400), 16+r.IntN(400)))
	var b bytes.Buffer
	if err := jpeg.Encode(&b, picture, nil); err != nil {
		return nil, err
	}
	c.says[saidSize] = fmt.Sprintf("%d × %d", picture.Bounds().Dx(), picture.Bounds().Dy())
	if i%10 == 9 {
		c.b = b.Bytes()
		return c, nil
	}
	order := []binary.ByteOrder{binary.BigEndian, binary.LittleEndian}[i%2]
	names, err := exifcommon.NewIfdMappingWithStandard()
	if err != nil {
		return nil, err
	}
	root := exif.NewIfdBuilder(names, exif.NewTagIndex(), exifcommon.IfdStandardIfdIdentity, order)
	var fault error // the library writes pictures within pictures as others do not read them: none is made
	put := func(path, tag string, value any) {
		in, err := exif.GetOrCreateIbFromRootIb(root, path)
		if err == nil {
			err = in.SetStandardWithName(tag, value)
		}
		if err != nil && fault == nil {
			fault = fmt.Errorf("writing %s of a photograph: %w", tag, err)
		}
	}
	if i%5 != 4 {
		c.says[saidDevice] = fmt.Sprintf("Ferrow L %d", r.IntN(9))
		put("IFD", "Make", "Ferrow")
		put("IFD", "Model", strings.TrimPrefix(c.says[saidDevice], "Ferrow "))
	}
	turn := []uint16{1, 3, 6, 8}[r.IntN(4)]
	put("IFD", "Orientation", []uint16{turn})
	if turns[turn] != "" {
		c.says[saidTurn] = turns[turn]
	}
	taken := somewhen(r)
	put("IFD/Exif", "DateTimeOriginal", taken.Format("2006:01:02 15:04:05"))
	c.says[saidTime] = taken.Format("2006-01-02T15:04:05")
	if i%3 > 0 { // with an offset
		hours := r.IntN(26) - 12
		c.says[saidTime] = taken.Add(-time.Duration(hours) * time.Hour).Format(time.RFC3339)
		put("IFD/Exif", "OffsetTimeOriginal", fmt.Sprintf("%+03d:00", hours))
	}
	if i%4 > 0 {
		lat, lon := somewhere(r)
		for _, x := range []struct {
			name, signs string
			v           float64
		}{{"GPSLatitude", "NS", lat}, {"GPSLongitude", "EW", lon}} {
			sign := x.signs[:1]
			if x.v < 0 {
				sign = x.signs[1:]
			}
			rest := math.Abs(x.v)
			degrees, minutes := math.Floor(rest), math.Floor(math.Mod(rest, 1)*60)
			seconds := math.Floor((rest - degrees - minutes/60) * 3600 * 1000)
			put("IFD/GPSInfo", x.name+"Ref", sign)
			put("IFD/GPSInfo", x.name, []exifcommon.Rational{{Numerator: uint32(degrees), Denominator: 1}, {Numerator: uint32(minutes), Denominator: 1}, {Numerator: uint32(seconds), Denominator: 1000}})
		}
		c.says[saidPlace] = fmt.Sprintf("%.6f, %.6f", lat, lon)
	}
	if fault != nil {
		return nil, fault
	}
	said, err := exif.NewIfdByteEncoder().EncodeToExif(root)
	if err != nil {
		return nil, err
	}
	said = append([]byte("Exif\x00\x00"), said...)
	c.b = binary.BigEndian.AppendUint16([]byte("\xff\xd8\xff\xe1"), uint16(len(said)+2)) // CIPA DC-008 section 4.7.2
	c.b = append(append(c.b, said...), b.Bytes()[2:]...)
	return c, nil
}

// recorded makes the film or the sound with the number i.
func recorded(ctx context.Context, r *rand.Rand, i int, dir string) (*clip, error) {
	form := []string{"mp4", "mov"}[i%2]
	if i >= films {
		form = []string{"wav", "ogg", "mp3", "m4a"}[i%4]
	}
	length := float64(10+r.IntN(20)) / 10
	made, title, artist := somewhen(r), strings.TrimSpace(said(r)), strings.TrimSpace("The "+said(r))
	lat, lon := somewhere(r)
	c := &clip{name: fmt.Sprintf("clip%d.%s", i, form), says: map[string]string{saidLength: fmt.Sprint(length), saidTitle: title}}
	path := filepath.Join(dir, c.name)
	args := []string{"-v", "error", "-threads", "1"}
	if i < films {
		w, h := 32+2*r.IntN(40), 32+2*r.IntN(40)
		c.says[saidSize] = fmt.Sprintf("%d × %d", w, h)
		c.says[saidPlace] = fmt.Sprintf("%.6f, %.6f", lat, lon)
		args = append(args, "-f", "lavfi", "-i", fmt.Sprintf("testsrc2=size=%dx%d:rate=10:duration=%g", w, h, length), "-metadata", fmt.Sprintf("location=%+09.5f%+010.5f/", lat, lon), "-c:v", "mpeg4") // ISO 6709
	} else {
		args = append(args, "-f", "lavfi", "-i", fmt.Sprintf("sine=frequency=%d:sample_rate=16000:duration=%g", 200+r.IntN(800), length))
		c.says[saidArtist] = artist
		args = append(args, "-metadata", "artist="+artist)
	}
	if form == "mov" {
		c.says[saidDevice] = "Ferrow L 2"
		args = append(args, "-metadata", "make=Ferrow", "-metadata", "model=L 2")
	}
	if form != "wav" && form != "mp3" { // of which it writes no time
		c.says[saidTime] = made.Format(time.RFC3339)
	}
	args = append(args, "-metadata", "title="+title, "-metadata", "creation_time="+made.Format(time.RFC3339), "-bitexact", path)
	if out, err := exec.CommandContext(ctx, ffmpeg, args...).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("making %s: %w: %.300s", c.name, err, out)
	}
	var err error
	c.b, err = os.ReadFile(path)
	return c, err
}
