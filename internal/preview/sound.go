package preview

import (
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
)

var errOther = errors.New("preview: it is no sound that can be played")

// maxSeconds is how much of a sound is played.
const maxSeconds = 120

// chunks gives the two chunks of a WAV file that matter (Multimedia Programming Interface and Data
// Specifications 1.0, chapter 3, from memory); the other is nil of one that has not both.
func chunks(b []byte) (format, data []byte) {
	if len(b) < 12 || string(b[:4]) != "RIFF" || string(b[8:12]) != "WAVE" {
		return nil, nil
	}
	for at := 12; at+8 <= len(b); {
		name, n := string(b[at:at+4]), int64(binary.LittleEndian.Uint32(b[at+4:]))
		at += 8
		part := b[at:min(int64(len(b)), int64(at)+n)]
		switch name {
		case "fmt ":
			format = part
		case "data":
			return format, part
		}
		if n+n%2 > int64(len(b)-at) {
			break
		}
		at += int(n + n%2)
	}
	return format, nil
}

// linear reports whether it is a WAV file of linear samples, which needs no decoder.
func linear(b []byte) bool {
	format, data := chunks(b)
	return len(format) >= 16 && data != nil && binary.LittleEndian.Uint16(format) == 1
}

// sound reads the samples of a WAV file of linear ones: one channel of 16 bits a sample. Only the samples are
// taken over.
func sound(b []byte) (samples []int16, rate int, err error) {
	format, data := chunks(b)
	le := binary.LittleEndian
	if data == nil || len(format) < 16 || le.Uint16(format) != 1 {
		return nil, 0, errors.New("preview: the sound has no linear samples")
	}
	channels, rate, bits := int(le.Uint16(format[2:])), int(le.Uint32(format[4:])), int(le.Uint16(format[14:]))
	if channels < 1 || channels > 8 || rate < 4000 || rate > 192_000 || bits != 8 && bits != 16 {
		return nil, 0, fmt.Errorf("preview: %d channels of %d bits, %d samples a second, are not played", channels, bits, rate)
	}
	step := 1 // to some 16,000 samples a second
	for rate/(step+1) >= 16_000 {
		step++
	}
	width := channels * bits / 8
	frames := min(len(data)/width, maxSeconds*rate)
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
		samples = append(samples, int16(sum/channels))
	}
	return samples, rate / step, nil
}

// wave makes a WAV file.
func wave(samples []int16, rate int) []byte {
	le := binary.LittleEndian
	out := append([]byte("RIFF"), 0, 0, 0, 0)
	out = append(out, "WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00"...)
	out = le.AppendUint32(out, uint32(rate))
	out = le.AppendUint32(out, uint32(2*rate))
	out = append(out, "\x02\x00\x10\x00data"...)
	out = le.AppendUint32(out, uint32(2*len(samples)))
	for _, s := range samples {
		out = le.AppendUint16(out, uint16(s))
	}
	le.PutUint32(out[4:], uint32(len(out)-8))
	return out
}

// waveform draws a sound: at each place from left to right how loud it is there, on nothing.
func waveform(samples []int16) image.Image {
	const width, height = 640, 64
	ink := color.NRGBA{0x4a, 0x86, 0x92, 0xff} // which is seen by day and by night
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	for x := range width {
		low, high := int16(0), int16(0)
		for _, s := range samples[len(samples)*x/width : len(samples)*(x+1)/width] {
			low, high = min(low, s), max(high, s)
		}
		for y := height/2 - int(high)*(height/2-1)/32768; y <= height/2-int(low)*(height/2-1)/32768; y++ {
			img.SetNRGBA(x, y, ink)
		}
	}
	return img
}
