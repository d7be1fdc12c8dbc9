package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"
)

// What bounds boxes.
const (
	maxBoxes = 100_000
	maxTrack = 64
	maxRun   = 16 << 20 // bytes of what a run says of its samples
)

// box is one of ISO/IEC 14496-12 section 4.2.
type box struct {
	name     string
	from, to int64 // of its content
}

// index is what is known of a film while its boxes are read.
type index struct {
	*Clip
	*source
	boxes   int
	tracks  int
	keys    []string // of metadata that are named by a table
	longest time.Duration
	timed   map[uint32]*timing // by the number of the track
}

// timing is how the fragments of a track are timed.
type timing struct {
	scale uint32 // units a second
	usual uint32 // the duration of a sample that says none
	end   uint64 // of the last fragment, in units
}

// readBoxes reads the index of a film, or of a sound in the same form: it stands before or behind what
// is played.
func readBoxes(c *Clip, s *source) error {
	x := &index{Clip: c, source: s, timed: map[uint32]*timing{}}
	brand := ""
	has := false
	err := x.within(box{to: s.size}, func(b box) error {
		switch b.name {
		case "ftyp":
			brand = string(s.at(b.from, 4))
		case "moov":
			has = true
			return x.within(b, x.moov)
		case "moof":
			return x.within(b, x.fragment)
		}
		return nil
	})
	for _, t := range x.timed {
		x.longest = max(x.longest, seconds(t.end, uint64(t.scale)))
	}
	if c.Duration == 0 { // of the film: of the longest track
		c.Duration = x.longest
	}
	form := "mp4"
	switch {
	case strings.HasPrefix(brand, "3g"):
		form = "3gpp"
	case brand == "qt  " || brand == "":
		form = "quicktime"
	}
	c.Type = "video/" + form
	if c.Video == "" && c.Audio != "" {
		if c.Type = "audio/" + form; form == "quicktime" {
			c.Type = "audio/mp4"
		}
	}
	if err == nil && !has {
		err = errors.New("the film has no index")
	}
	return err
}

// within calls each for every box of a box. One that claims more than it lies in is cut.
func (x *index) within(b box, each func(box) error) error {
	for at := b.from; at+8 <= b.to; {
		if x.boxes++; x.boxes > maxBoxes {
			return fmt.Errorf("the film has more than %d boxes", maxBoxes)
		}
		h := x.at(at, 16)
		if len(h) < 8 {
			return nil
		}
		size, head := int64(binary.BigEndian.Uint32(h)), int64(8)
		switch {
		case size == 1 && len(h) == 16:
			size, head = int64(binary.BigEndian.Uint64(h[8:])), 16
		case size == 0:
			size = b.to - at
		}
		if size < head {
			return fmt.Errorf("the box at offset %d claims %d bytes", at, size)
		}
		in := box{string(h[4:8]), at + head, min(b.to, at+min(size, b.to-at))}
		err := each(in)
		if size > b.to-at { // what is there of it has been read
			err = errors.Join(err, fmt.Errorf("the box at offset %d claims %d bytes, of which %d are there", at, size, b.to-at))
		}
		if err != nil {
			return err
		}
		at += size
	}
	return nil
}

// content is what a box holds, as much as is needed of it.
func (x *index) content(b box, most int) []byte {
	return x.at(b.from, int(min(int64(most), b.to-b.from)))
}

// epoch1904 is that of times in boxes: seconds since 1904, UTC.
var epoch1904 = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)

func (x *index) moov(b box) error {
	switch b.name {
	case "mvhd":
		made, scale, length, _ := header(x.content(b, 32))
		x.Duration = seconds(length, uint64(scale))
		if made > 0 && made < 1<<33 {
			at := epoch1904.Add(time.Duration(made) * time.Second)
			x.Made = &Moment{Stored: fmt.Sprint(made), Local: at.Format("2006-01-02T15:04:05"), At: &at}
		}
	case "trak":
		if x.tracks++; x.tracks > maxTrack {
			return fmt.Errorf("the film has more than %d tracks", maxTrack)
		}
		return x.track(b)
	case "udta", "meta":
		return x.about(b)
	case "mvex":
		return x.within(b, func(b box) error {
			if c := x.content(b, 24); b.name == "trex" && len(c) == 24 {
				x.timing(binary.BigEndian.Uint32(c[4:])).usual = binary.BigEndian.Uint32(c[12:])
			}
			return nil
		})
	}
	return nil
}

// timing is that of a track.
func (x *index) timing(track uint32) *timing {
	t := x.timed[track]
	if t == nil {
		t = &timing{}
		if len(x.timed) < maxTrack {
			x.timed[track] = t
		}
	}
	return t
}

// fragment adds what a fragment of a film plays (ISO/IEC 14496-12 section 8.8).
func (x *index) fragment(b box) error {
	if b.name != "traf" {
		return nil
	}
	be := binary.BigEndian
	t, usual := &timing{}, uint32(0)
	return x.within(b, func(b box) error {
		c := x.content(b, 32)
		if len(c) < 8 {
			return nil
		}
		flags := be.Uint32(c) & 0xffffff
		switch b.name {
		case "tfhd":
			t = x.timing(be.Uint32(c[4:]))
			usual = t.usual
			at := 8
			for i, n := range []int{0: 8, 1: 4} { // where its bytes begin, by which entry its samples are told
				if flags>>i&1 == 1 {
					at += n
				}
			}
			if flags&8 != 0 && len(c) >= at+4 {
				usual = be.Uint32(c[at:])
			}
		case "tfdt":
			if c[0] == 1 && len(c) >= 12 {
				t.end = max(t.end, be.Uint64(c[4:]))
			} else if c[0] == 0 {
				t.end = max(t.end, uint64(be.Uint32(c[4:])))
			}
		case "trun":
			t.end += x.run(b, flags, be.Uint32(c[4:]), usual)
		}
		return nil
	})
}

// run is how long a run of samples plays, in units of its track: section 8.8.8.
func (x *index) run(b box, flags, count, usual uint32) (units uint64) {
	if flags&0x100 == 0 {
		return uint64(count) * uint64(usual)
	}
	head, each := 8, int64(0)
	for i := range 2 {
		if flags>>(2*i)&1 == 1 {
			head += 4
		}
	}
	for i := 8; i < 12; i++ {
		if flags>>i&1 == 1 {
			each += 4
		}
	}
	n := min(int64(count), (b.to-b.from-int64(head))/each) // no more than are there
	c := x.content(b, int(min(int64(head)+n*each, maxRun)))
	for at := int64(head); at+each <= int64(len(c)); at += each {
		units += uint64(binary.BigEndian.Uint32(c[at:]))
	}
	return units
}

// header reads when something was made, its units a second and how many of them it has, of a version 0 or 1
// (ISO/IEC 14496-12 sections 8.2.2 and 8.4.2). A length of all ones is not known.
func header(c []byte) (made uint64, scale uint32, length uint64, ok bool) {
	be := binary.BigEndian
	switch {
	case len(c) >= 32 && c[0] == 1:
		if made, scale, length = be.Uint64(c[4:]), be.Uint32(c[20:]), be.Uint64(c[24:]); length == math.MaxUint64 {
			length = 0
		}
	case len(c) >= 20 && c[0] == 0:
		if made, scale, length = uint64(be.Uint32(c[4:])), be.Uint32(c[12:]), uint64(be.Uint32(c[16:])); length == math.MaxUint32 {
			length = 0
		}
	default:
		return 0, 0, 0, false
	}
	return made, scale, length, true
}

// track reads what a track is of, its size and how it is turned.
func (x *index) track(b box) error {
	turn, number, kind, sample := 0, uint32(0), "", box{}
	var walk func(box) error
	walk = func(b box) error {
		switch b.name {
		case "mdia", "minf", "stbl":
			return x.within(b, walk)
		case "tkhd":
			c := x.content(b, 104)
			turn = turned(c)
			if at := 12; len(c) > 24 {
				if c[0] == 1 {
					at = 20
				}
				number = binary.BigEndian.Uint32(c[at:])
			}
		case "mdhd":
			if _, scale, n, ok := header(x.content(b, 32)); ok {
				x.longest = max(x.longest, seconds(n, uint64(scale)))
				x.timing(number).scale = scale
			}
		case "hdlr":
			if c := x.content(b, 12); len(c) == 12 && kind == "" {
				kind = string(c[8:])
			}
		case "stsd":
			sample = b
		}
		return nil
	}
	err := x.within(b, walk)
	c := x.content(sample, 8+36)
	if len(c) < 16 {
		return err
	}
	be := binary.BigEndian
	switch c = c[8:]; kind {
	case "vide":
		if x.Video == "" && len(c) >= 36 {
			x.Video, x.Width, x.Height, x.Turn = code(c[4:8]), int(be.Uint16(c[32:])), int(be.Uint16(c[34:])), turn
		}
	case "soun":
		if x.Audio == "" && len(c) >= 36 {
			x.Audio, x.Channels, x.Rate = code(c[4:8]), int(be.Uint16(c[24:])), int(be.Uint32(c[32:])>>16)
			from := sample.from + 8 + 36 + map[uint16]int64{1: 16, 2: 36}[be.Uint16(c[16:])] // of the older form's versions
			var walk func(box) error
			walk = func(b box) error {
				switch b.name {
				case "wave":
					return x.within(b, walk)
				case "esds":
					x.config(x.content(b, 128))
				}
				return nil
			}
			_ = x.within(box{"", from, min(sample.to, sample.from+8+int64(be.Uint32(c)))}, walk) // a decoder's own, of any shape
		}
	}
	return err
}

// config reads from descriptors how many channels a decoder is told of, which the head of the samples need not
// say right (ISO/IEC 14496-1 section 7.2.6; ISO/IEC 14496-3 section 1.6.2.1).
func (x *index) config(c []byte) {
	for c = c[min(4, len(c)):]; len(c) > 2; {
		tag, n := c[0], 0
		for i := 1; ; i++ {
			if i == len(c) || i > 4 {
				return
			}
			if n = n<<7 | int(c[i]&0x7f); c[i] < 0x80 {
				c = c[i+1:]
				break
			}
		}
		skip := map[byte]int{3: 3, 4: 13}[tag] // what stands before further descriptors
		if tag == 5 && len(c) >= 2 && c[0]&7 != 7 && (c[0]>>3) < 31 {
			if n := int(c[1] >> 3 & 15); n >= 1 && n <= 6 {
				x.Channels = n
			}
			return
		}
		if skip == 0 {
			skip = n
		}
		c = c[min(skip, len(c)):]
	}
}

// code is a name of four characters.
func code(b []byte) string { return strings.TrimSpace(text(b)) }

// turned is by how much the matrix of a track's head turns its pictures: section 8.3.2.
func turned(c []byte) int {
	at := 40
	if len(c) > 0 && c[0] == 1 {
		at = 52
	}
	if len(c) < at+8 {
		return 0
	}
	a, b := int32(binary.BigEndian.Uint32(c[at:])), int32(binary.BigEndian.Uint32(c[at+4:]))
	switch {
	case a == 0 && b > 0:
		return 90
	case a < 0 && b == 0:
		return 180
	case a == 0 && b < 0:
		return 270
	}
	return 0
}

// names are those of texts about a film: of user data, and of the list of items.
var names = map[string]string{"\xa9nam": "title", "\xa9ART": "artist", "\xa9alb": "album", "\xa9mak": "make", "\xa9mod": "model", "\xa9swr": "software", "\xa9too": "software",
	"\xa9xyz": "place", "\xa9day": "made"}

// about reads what is said about a film: user data, the items of a list, and those that a table of keys
// names.
func (x *index) about(b box) error {
	if b.name == "meta" { // with a version in some forms, without in others
		if c := x.content(b, 8); len(c) == 8 && string(c[4:8]) != "hdlr" {
			b.from += 4
		}
	}
	return x.within(b, func(b box) error {
		switch b.name {
		case "meta":
			return x.about(b)
		case "keys":
			c := x.content(b, maxTagSize)
			for at := 8; at+8 <= len(c); {
				n := int(binary.BigEndian.Uint32(c[at:]))
				if n < 8 || n > len(c)-at {
					break
				}
				x.keys = append(x.keys, text(c[at+8:at+n]))
				at += n
			}
		case "ilst":
			return x.within(b, x.item)
		case "loci":
			x.loci(x.content(b, 512))
		default:
			if c := x.content(b, maxTagSize); names[b.name] != "" && len(c) > 4 { // length, language, text
				x.tag(names[b.name], text(c[4:min(len(c), 4+int(binary.BigEndian.Uint16(c)))]))
			}
		}
		return nil
	})
}

// item is one of a list: its name, or its number in the table of keys, of whose names the last part says what
// it is.
func (x *index) item(b box) error {
	name := names[b.name]
	if n := binary.BigEndian.Uint32([]byte(b.name)); n >= 1 && int(n) <= len(x.keys) {
		key := strings.ToLower(x.keys[n-1])
		switch key = key[strings.LastIndexByte(key, '.')+1:]; key {
		case "iso6709":
			name = "place"
		case "creationdate":
			name, x.Made = "made", nil // which has the zone
		default:
			name = key
		}
	}
	return x.within(b, func(d box) error {
		if c := x.content(d, maxTagSize); d.name == "data" && len(c) > 8 && name != "" && binary.BigEndian.Uint32(c) == 1 { // UTF-8
			x.tag(name, text(c[8:]))
		}
		return nil
	})
}

// loci is a place (3GPP TS 26.244 section 8.10): a name, whose it is, longitude, latitude and altitude.
func (x *index) loci(c []byte) {
	if len(c) < 6 {
		return
	}
	c = c[6:] // version, flags, language
	end := strings.IndexByte(string(c), 0)
	if end < 0 || len(c) < end+1+1+12 {
		return
	}
	c = c[end+2:]
	fixed := func(b []byte) float64 { return float64(int32(binary.BigEndian.Uint32(b))) / 65536 }
	lon, lat, alt := fixed(c), fixed(c[4:]), fixed(c[8:])
	if x.Latitude == nil && math.Abs(lat) <= 90 && math.Abs(lon) <= 180 {
		x.Latitude, x.Longitude, x.Altitude, x.Place = &lat, &lon, &alt, fmt.Sprintf("%s, %s", plain(lat), plain(lon))
	}
}
