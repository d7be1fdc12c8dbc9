package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
)

// mpegRates are the samples a second of MPEG-1, halved in MPEG-2 and again in MPEG-2.5; mpegBits are the thousands
// of bits a second of layer III, of MPEG-1 and of the others (ISO/IEC 11172-3 and 13818-3, section 2.4.2.3).
var (
	mpegRates = [3]int{44_100, 48_000, 32_000}
	mpegBits  = [2][15]int{{0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320}, {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}}
)

// mpegFrame is the head of a frame of layer III.
type mpegFrame struct {
	size, samples, rate, channels int
	side                          int // bytes of what stands before its data
}

func mpegHead(b []byte) (f mpegFrame, ok bool) {
	if len(b) < 4 || b[0] != 0xff || b[1]&0xe6 != 0xe2 { // in step, and of layer III
		return f, false
	}
	version, bits, rate := b[1]>>3&3, b[2]>>4, b[2]>>2&3
	if version == 1 || bits == 0 || bits == 15 || rate == 3 {
		return f, false
	}
	f = mpegFrame{samples: 1152, rate: mpegRates[rate], channels: 2, side: 32}
	kilo := mpegBits[0][bits]
	if b[3]>>6 == 3 {
		f.channels, f.side = 1, 17
	}
	if version != 3 {
		kilo, f.samples, f.rate, f.side = mpegBits[1][bits], 576, f.rate/2, map[int]int{1: 9, 2: 17}[f.channels]
		if version == 0 {
			f.rate /= 2
		}
	}
	f.size = f.samples/8*kilo*1000/f.rate + int(b[2]>>1&1)
	return f, true
}

// readMPEG reads tags, and then frames: their number is in the first of them, or they are counted.
func readMPEG(c *Clip, s *source) error {
	c.Audio = "mp3"
	at := int64(0)
	if h := s.at(0, 10); len(h) == 10 && string(h[:3]) == "ID3" {
		size := int64(h[6]&0x7f)<<21 | int64(h[7]&0x7f)<<14 | int64(h[8]&0x7f)<<7 | int64(h[9]&0x7f)
		c.id3(s.at(10, int(min(size, 1<<20))), h[3])
		if at = 10 + size; h[5]&0x10 != 0 {
			at += 10
		}
	}
	f, ok := mpegHead(s.at(at, 4))
	for skipped := 0; !ok && skipped < 4096 && at < s.size; skipped++ { // padding
		at++
		f, ok = mpegHead(s.at(at, 4))
	}
	if !ok {
		return errors.New("the sound has no frames")
	}
	c.Rate, c.Channels = f.rate, f.channels
	if x := s.at(at+4+int64(f.side), 12); len(x) == 12 && (string(x[:4]) == "Xing" || string(x[:4]) == "Info") && x[7]&1 != 0 {
		c.Duration = seconds(uint64(binary.BigEndian.Uint32(x[8:]))*uint64(f.samples), uint64(f.rate))
		return nil
	}
	samples, rate := uint64(0), f.rate
	defer func() { c.Duration = seconds(samples, uint64(rate)) }()
	for block := s.at(at, 1<<16); len(block) >= 4; block = s.at(at, 1<<16) {
		i := 0
		for i+4 <= len(block) {
			f, ok := mpegHead(block[i:])
			if !ok || f.size < 4 {
				if tag := string(block[i : i+3]); tag == "TAG" || tag == "APE" { // what stands behind
					return nil
				}
				return fmt.Errorf("no frame begins at offset %d", at+int64(i))
			}
			samples, i = samples+uint64(f.samples), i+f.size
		}
		at += int64(i)
	}
	return nil
}

// id3 reads texts of a tag (ID3v2.3.0 and 2.4.0, section 4.2).
func (c *Clip) id3(b []byte, version byte) {
	if version != 3 && version != 4 {
		return
	}
	for len(b) > 10 && b[0] != 0 {
		size := int64(binary.BigEndian.Uint32(b[4:]))
		if version == 4 {
			size = int64(b[4]&0x7f)<<21 | int64(b[5]&0x7f)<<14 | int64(b[6]&0x7f)<<7 | int64(b[7]&0x7f)
		}
		if size > int64(len(b)-10) {
			return
		}
		name := map[string]string{"TIT2": "title", "TPE1": "artist", "TALB": "album", "TSSE": "software", "TDRC": "made"}[string(b[:4])]
		if v := b[10 : 10+size]; name != "" && len(v) > 1 {
			if v[0] == 1 || v[0] == 2 {
				c.tag(name, utf16Text(v[1:]))
			} else {
				c.tag(name, text(v[1:]))
			}
		} else if string(b[:4]) == "TXXX" && len(v) > 1 && (v[0] == 0 || v[0] == 3) { // named by itself
			free, value, _ := strings.Cut(string(v[1:]), "\x00")
			c.tag(strings.ToLower(free), text([]byte(value)))
		}
		b = b[10+size:]
	}
}

// maxPages bounds what is read of one stream: 18 hours and more.
const maxPages = 2_000_000

// readOgg reads pages: the first packet says what the sound is, the second what is said of it, and the last page of
// the first stream where it ends (RFC 3533; RFC 7845 sections 4 and 5; Vorbis I section 4.2).
func readOgg(c *Clip, s *source) error {
	le := binary.LittleEndian
	var first, last uint64
	var serial uint32
	var packet []byte // what has been read of the second
	unit, packets := uint64(0), 0
	for at, n := int64(0), 0; at < s.size; n++ {
		if n == maxPages {
			return fmt.Errorf("the sound has more than %d pages", maxPages)
		}
		h := s.at(at, 27+255)
		if len(h) < 27 || string(h[:4]) != "OggS" || len(h) < 27+int(h[26]) {
			c.Duration = seconds(last-min(first, last), unit)
			return fmt.Errorf("no page begins at offset %d", at)
		}
		sizes := h[27 : 27+int(h[26])]
		body := int64(0)
		for _, k := range sizes {
			body += int64(k)
		}
		from := at + 27 + int64(len(sizes))
		if n == 0 {
			serial = le.Uint32(h[14:])
		}
		if le.Uint32(h[14:]) == serial {
			if g := le.Uint64(h[6:]); g < 1<<62 { // all ones: no packet ends on the page
				last = g
			}
			if packets < 2 {
				b := s.at(from, int(body))
				for _, k := range sizes {
					k := min(int(k), len(b))
					packet, b = append(packet, b[:k]...), b[k:]
					if k < 255 {
						switch {
						case packets == 0 && len(packet) >= 19 && string(packet[:8]) == "OpusHead":
							c.Audio, c.Channels, c.Rate, unit, first = "opus", int(packet[9]), int(le.Uint32(packet[12:])), 48_000, uint64(le.Uint16(packet[10:]))
						case packets == 0 && len(packet) >= 16 && string(packet[:7]) == "\x01vorbis":
							c.Audio, c.Channels, c.Rate = "vorbis", int(packet[11]), int(le.Uint32(packet[12:]))
							unit = uint64(c.Rate)
						case packets == 1:
							c.comments(packet)
						}
						packet = nil
						if packets++; packets == 2 {
							break
						}
					}
				}
				if len(packet) > maxTagSize {
					packets = 2
				}
			}
		}
		at = from + body
	}
	c.Duration = seconds(last-min(first, last), unit)
	if c.Audio == "" {
		return errors.New("what the stream holds is not read")
	}
	return nil
}

// comments reads what is said of a sound: Vorbis I section 5.2.1.
func (c *Clip) comments(b []byte) {
	b = b[min(len(b), map[bool]int{true: 8, false: 7}[strings.HasPrefix(string(b[:min(8, len(b))]), "OpusTags")]):]
	next := func() (s string, ok bool) {
		if len(b) < 4 {
			return "", false
		}
		n := uint64(binary.LittleEndian.Uint32(b))
		if n > uint64(len(b)-4) {
			return "", false
		}
		s, b = string(b[4:4+n]), b[4+n:]
		return s, true
	}
	if _, ok := next(); !ok || len(b) < 4 { // who wrote it
		return
	}
	n := binary.LittleEndian.Uint32(b)
	b = b[4:]
	for range min(n, maxTags) {
		s, ok := next()
		if !ok {
			return
		}
		name, value, _ := strings.Cut(s, "=")
		c.tag(strings.ToLower(name), text([]byte(value)))
	}
}
