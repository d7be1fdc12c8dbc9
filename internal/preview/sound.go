package preview

import (
	"encoding/binary"
	"errors"
	"fmt"
)

var errOther = errors.New("preview: it is no sound that can be played")

// maxSeconds is how much of a sound is played.
const maxSeconds = 120

// sound makes a WAV file of one channel and 16 bits a sample of one of linear samples (Multimedia
// Programming Interface and Data Specifications 1.0, chapter 3, from memory). Only the samples
// are taken over.
func sound(b []byte) ([]byte, error) {
	le := binary.LittleEndian
	if len(b) < 12 || string(b[:4]) != "RIFF" || string(b[8:12]) != "WAVE" {
		return nil, errOther
	}
	var format []byte
	for at := 12; at+8 <= len(b); {
		name, n := string(b[at:at+4]), int64(le.Uint32(b[at+4:]))
		at += 8
		data := b[at:min(int64(len(b)), int64(at)+n)]
		switch name {
		case "fmt ":
			format = data
		case "data":
			return wave(format, data)
		}
		if n+n%2 > int64(len(b)-at) {
			break
		}
		at += int(n + n%2)
	}
	return nil, errors.New("preview: the sound has no samples")
}

func wave(format, data []byte) ([]byte, error) {
	le := binary.LittleEndian
	if len(format) < 16 || le.Uint16(format) != 1 {
		return nil, errors.New("preview: the sound is not of linear samples")
	}
	channels, rate, bits := int(le.Uint16(format[2:])), int(le.Uint32(format[4:])), int(le.Uint16(format[14:]))
	if channels < 1 || channels > 8 || rate < 4000 || rate > 192_000 || bits != 8 && bits != 16 {
		return nil, fmt.Errorf("preview: %d channels of %d bits, %d samples a second, are not played", channels, bits, rate)
	}
	step := 1 // to some 16,000 samples a second
	for rate/(step+1) >= 16_000 {
		step++
	}
	width := channels * bits / 8
	frames := min(len(data)/width, maxSeconds*rate)
	samples := make([]byte, 0, 2*frames/step+2)
	for i := 0; i < frames; i += step {
		sum := 0
		for c := range channels {
			at := i*width + c*bits/8
			if bits == 8 {
				sum += (int(data[at]) - 128) << 8
			} else {
				sum += int(int16(le.Uint16(data[at:])))
			}
		}
		samples = le.AppendUint16(samples, uint16(int16(sum/channels)))
	}
	out := append([]byte("RIFF"), 0, 0, 0, 0)
	out = append(out, "WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00"...)
	out = le.AppendUint32(out, uint32(rate/step))
	out = le.AppendUint32(out, uint32(2*(rate/step)))
	out = append(out, "\x02\x00\x10\x00data"...)
	out = le.AppendUint32(out, uint32(len(samples)))
	out = append(out, samples...)
	le.PutUint32(out[4:], uint32(len(out)-8))
	return out, nil
}
