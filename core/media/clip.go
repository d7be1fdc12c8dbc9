package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"
)

// Clip is what a film or a sound says about itself. Zero values are not said.
type Clip struct {
	Type          string        // media type: video/… if it has pictures, audio/… otherwise
	Duration      time.Duration // as its index, or its frames, say
	Width, Height int           // of pictures, in pixels, as stored: before they are turned
	Turn          int           // degrees clockwise by which pictures are turned to be seen: 0, 90, 180 or 270
	Video, Audio  string        // by which the form names what they are coded with
	Rate          int           // samples a second
	Channels      int
	Made          *Moment
	Latitude      *float64 // degrees
	Longitude     *float64
	Altitude      *float64 // metres
	Place         string   // as stored
	Maker, Model  string   // the device
	Software      string
	Title         string
	Artist, Album string
}

// ErrClip is of content that is neither a film nor a sound of a form that is read.
var ErrClip = errors.New("media: it is neither film nor sound of a form that is read")

// clips are the forms that are read, told by their first bytes.
var clips = []struct {
	media string
	begin string
	at    int
	read  func(*Clip, *source) error
}{
	{"audio/wav", "WAVE", 8, readWave},         // RIFF: Multimedia Programming Interface and Data Specifications 1.0
	{"audio/amr", "#!AMR\n", 0, readAMR},       // RFC 4867 section 5.1
	{"audio/amr-wb", "#!AMR-WB\n", 0, readAMR}, //
	{"audio/ogg", "OggS\x00", 0, readOgg},      // RFC 3533 section 6
	{"audio/mpeg", "ID3", 0, readMPEG},         // ID3v2.4.0 section 3.1
	{"audio/mpeg", "\xff\xfb", 0, readMPEG},    // ISO/IEC 11172-3 section 2.4.1.3, layer III
	{"audio/mpeg", "\xff\xfa", 0, readMPEG}, {"audio/mpeg", "\xff\xf3", 0, readMPEG}, {"audio/mpeg", "\xff\xf2", 0, readMPEG},
	{"audio/mpeg", "\xff\xe3", 0, readMPEG}, {"audio/mpeg", "\xff\xe2", 0, readMPEG}, // of less than 16,000 samples a second
	{"video/mp4", "ftyp", 4, readBoxes}, // ISO/IEC 14496-12 section 4.3
	{"video/quicktime", "moov", 4, readBoxes}, {"video/quicktime", "mdat", 4, readBoxes}, {"video/quicktime", "wide", 4, readBoxes},
}

// ClipType is the media type of a film or a sound that begins with head, "" if it is none that is read.
// 16 bytes are enough. That one of boxes has sound alone only reading it tells.
func ClipType(head []byte) string {
	if c := clip(head); c >= 0 {
		return clips[c].media
	}
	return ""
}

func clip(head []byte) int {
	if Type(head) != "" { // pictures come in boxes, too
		return -1
	}
	for i, f := range clips {
		if len(head) >= f.at+len(f.begin) && string(head[f.at:f.at+len(f.begin)]) == f.begin {
			return i
		}
	}
	return -1
}

// ReadClip reads what a film or a sound of size bytes says about itself; only its index is read, or the
// heads of its frames. Of one that is cut off or damaged what could be read comes with an error.
func ReadClip(r io.ReaderAt, size int64) (*Clip, error) {
	s := &source{r: r, size: size}
	n := clip(s.at(0, 16))
	if n < 0 {
		return nil, ErrClip
	}
	c := &Clip{Type: clips[n].media}
	err := clips[n].read(c, s)
	if err = errors.Join(s.err, err); err != nil {
		err = fmt.Errorf("media: %w", err)
	}
	return c, err
}

// source reads parts of a file. What is not there is read as less; a fault of the file is kept.
type source struct {
	r    io.ReaderAt
	size int64
	err  error
}

func (s *source) at(at int64, n int) []byte {
	if at < 0 || at >= s.size || n <= 0 {
		return nil
	}
	b := make([]byte, min(int64(n), s.size-at))
	got, err := s.r.ReadAt(b, at)
	if got < len(b) && s.err == nil {
		s.err = err
	}
	return b[:got]
}

// seconds are a duration of count units of which there are so many a second; more than a year is none.
func seconds(count, unit uint64) time.Duration {
	if s := float64(count) / float64(unit); unit > 0 && s < 366*24*3600 {
		return time.Duration(s * float64(time.Second))
	}
	return 0
}

// text is what is written at the start of b, up to a NUL: UTF-8, or else ISO 8859-1.
func text(b []byte) string {
	s, _, _ := strings.Cut(string(b), "\x00")
	if !utf8.ValidString(s) {
		var out strings.Builder
		for i := range len(s) {
			out.WriteRune(rune(s[i]))
		}
		s = out.String()
	}
	return strings.TrimSpace(s)
}

// iso6709 are the three forms of a point: degrees, with minutes, with seconds (ISO 6709:2008 annex H).
var iso6709 = regexp.MustCompile(`^([+-])(\d{2}|\d{4}|\d{6})(\.\d+)?([+-])(\d{3}|\d{5}|\d{7})(\.\d+)?([+-]\d+(?:\.\d+)?)?(?:[/A-Z]|$)`)

// point takes a place over.
func (c *Clip) point(s string) {
	m := iso6709.FindStringSubmatch(s)
	if m == nil || c.Latitude != nil {
		return
	}
	lat, lon := degrees(m[1], m[2], m[3], 2), degrees(m[4], m[5], m[6], 3)
	if math.Abs(lat) > 90 || math.Abs(lon) > 180 {
		return
	}
	c.Latitude, c.Longitude, c.Place = &lat, &lon, strings.TrimSpace(s)
	if alt, err := strconv.ParseFloat(m[7], 64); err == nil && m[7] != "" {
		c.Altitude = &alt
	}
}

// degrees reads degrees of so many digits, with minutes and seconds of two each if there are more; a fraction
// is of the last.
func degrees(sign, digits, fraction string, width int) float64 {
	f, scale := 0.0, 1.0
	for from := 0; from < len(digits); scale *= 60 {
		to := max(width, from+2)
		part := digits[from:to]
		if to == len(digits) {
			part += fraction
		}
		n, _ := strconv.ParseFloat(part, 64)
		f, from = f+n/scale, to
	}
	if sign == "-" {
		f = -f
	}
	return f
}

// free are names of comments that anybody may give.
var free = map[string]string{"date": "made", "creation_time": "made", "location": "place"}

// tag takes a text over under one of the names that forms have for the same.
func (c *Clip) tag(name, value string) {
	if free[name] != "" {
		name = free[name]
	}
	to := map[string]*string{"title": &c.Title, "artist": &c.Artist, "album": &c.Album, "make": &c.Maker, "model": &c.Model, "software": &c.Software}[name]
	if value = strings.TrimSpace(value); to != nil && *to == "" && len(value) <= maxTagSize {
		*to = value
	} else if name == "place" {
		c.point(value)
	} else if name == "made" && c.Made == nil {
		c.Made = written(value)
	}
}

// written is a time that is written as a text: RFC 3339, with less than that, or with spaces.
func written(s string) *Moment {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05Z0700"} {
		if at, err := time.Parse(form, s); err == nil {
			utc := at.UTC()
			return &Moment{Stored: s, Local: at.Format("2006-01-02T15:04:05"), At: &utc}
		}
	}
	for _, form := range []string{"2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006:01:02 15:04:05"} {
		if at, err := time.Parse(form, s); err == nil {
			return &Moment{Stored: s, Local: at.Format("2006-01-02T15:04:05")}
		}
	}
	return nil
}

// readWave reads the chunks of a sound of linear or other samples.
func readWave(c *Clip, s *source) error {
	le := binary.LittleEndian
	perSecond, date, clock := uint32(0), "", ""
	for at, n := int64(12), 0; ; n++ {
		h := s.at(at, 8)
		if len(h) < 8 || n == maxTags {
			break
		}
		name, size := string(h[:4]), int64(le.Uint32(h[4:]))
		switch name {
		case "fmt ":
			if f := s.at(at+8, int(min(size, 40))); len(f) >= 16 {
				c.Audio = fmt.Sprintf("0x%04x", le.Uint16(f))
				if le.Uint16(f) == 1 {
					c.Audio = "pcm"
				}
				c.Channels, c.Rate, perSecond = int(le.Uint16(f[2:])), int(le.Uint32(f[4:])), le.Uint32(f[8:])
			}
		case "data":
			c.Duration = seconds(uint64(min(size, s.size-at-8)), uint64(perSecond))
			if size > s.size-at-8 {
				return fmt.Errorf("the sound is cut off: of %d bytes of samples %d are there", size, s.size-at-8)
			}
		case "bext": // EBU Tech 3285 section 2.3
			if b := s.at(at+8, 338); len(b) == 338 {
				c.tag("title", text(b[:256]))
				date, clock = text(b[320:330]), text(b[330:338])
			}
		case "LIST":
			b := s.at(at+8, int(min(size, maxTagSize)))
			for b = b[min(4, len(b)):]; len(b) >= 8; {
				k := min(uint64(le.Uint32(b[4:])), uint64(len(b)-8))
				c.tag(map[string]string{"INAM": "title", "IART": "artist", "IPRD": "album", "ISFT": "software", "ICRD": "made"}[string(b[:4])], text(b[8:8+k]))
				b = b[min(8+k+k%2, uint64(len(b))):]
			}
		}
		at += 8 + size + size%2
	}
	if date != "" && len(clock) == 8 {
		c.tag("made", date+" "+clock[:2]+":"+clock[3:5]+":"+clock[6:])
	}
	if c.Rate == 0 {
		return errors.New("the sound does not say of what form its samples are")
	}
	return nil
}

// amr are the sizes of a frame of each type, with its head (RFC 4867 sections 5.3 and 4.1; 3GPP TS 26.101 and 26.201), 0 of
// types that are none.
var amr = [2][16]int64{
	{13, 14, 16, 18, 20, 21, 27, 32, 6, 0, 0, 0, 0, 0, 1, 1},
	{18, 24, 33, 37, 41, 47, 51, 59, 61, 6, 0, 0, 0, 0, 1, 1},
}

// readAMR counts frames of 20 ms.
func readAMR(c *Clip, s *source) error {
	c.Audio, c.Rate, c.Channels = "amr", 8000, 1
	at, wide := int64(6), 0
	if c.Type == "audio/amr-wb" {
		c.Audio, c.Rate, at, wide = "amr-wb", 16_000, 9, 1
	}
	frames := uint64(0)
	defer func() { c.Duration = seconds(frames, 50) }()
	for block := s.at(at, 1<<16); len(block) > 0; block = s.at(at, 1<<16) {
		for i := int64(0); ; frames++ {
			if i >= int64(len(block)) {
				at += i
				break
			}
			n := amr[wide][block[i]>>3&15]
			if n == 0 || at+i+n > s.size {
				return fmt.Errorf("no whole frame begins at offset %d", at+i)
			}
			i += n
		}
	}
	return nil
}

// utf16Text reads a text of two bytes a character, big-endian if there is no mark.
func utf16Text(b []byte) string {
	var order binary.ByteOrder = binary.BigEndian
	if len(b) >= 2 && b[0] == 0xff && b[1] == 0xfe {
		order, b = binary.LittleEndian, b[2:]
	} else if len(b) >= 2 && b[0] == 0xfe && b[1] == 0xff {
		b = b[2:]
	}
	var units []uint16
	for ; len(b) >= 2 && (b[0] != 0 || b[1] != 0); b = b[2:] {
		units = append(units, order.Uint16(b))
	}
	return strings.TrimSpace(string(utf16.Decode(units)))
}
