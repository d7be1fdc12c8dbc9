// Package preview makes what pages show of hostile media: a small picture of a photograph, a
// playable form of a sound. What decodes runs in a process of its own, with limits on memory, time
// and files, and without a network; the application's own process never decodes evidence.
package preview

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif"
	"image/jpeg"
	"image/png"
	"io"
	"strings"

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp"

	"crosswind/core/media"

	"github.com/corona10/goimagehash"
)

// What a preview may have at most.
const (
	MaxInput  = 64 << 20   // bytes of a file
	maxPixels = 60_000_000 // of a picture: 8000 by 7500
	maxSide   = 800        // of what is made, in pixels
	MaxOutput = 4 << 20    // bytes of what is made
)

// The forms of a preview.
const (
	Shown    = ""         // a picture, or a sound that plays
	Waveform = "waveform" // the picture of a sound
	Alike    = "alike"    // a digest of what a picture looks like: see [Apart]
	Holds    = "holds"    // what a document, a table or an archive holds: see [Content]
)

// Make confines this process, reads a file and writes its preview in one of the forms. It runs in the child.
func Make(w io.Writer, r io.Reader, form string) error {
	limit()
	b, err := io.ReadAll(io.LimitReader(r, MaxInput+1))
	if err != nil {
		return err
	}
	if len(b) > MaxInput {
		return fmt.Errorf("preview: it has more than %d bytes", MaxInput)
	}
	if form == Holds {
		restrict("")
		return content(w, b)
	}
	media := media.ClipType(b[:min(len(b), 16)])
	var decoder *ffmpeg
	if media != "" && !linear(b) {
		if decoder, err = openFFmpeg(b); err != nil {
			return err
		}
		restrict(decoder.program)
	} else {
		restrict("")
	}
	switch {
	case strings.HasPrefix(media, "video/") && form == Shown:
		if err := decoder.frames(w, b); err == nil || !errors.Is(err, errNoPictures) {
			return err
		}
	case media == "":
		if form == Waveform {
			return errOther
		}
		return picture(w, b, form)
	case form == Alike:
		return errOther
	}
	samples, rate, err := decoded(decoder, b)
	if err != nil {
		return err
	}
	if form == Waveform {
		return png.Encode(w, waveform(samples))
	}
	_, err = w.Write(wave(samples, rate))
	return err
}

// decoded gives the samples of a sound, and how many are played in a second.
func decoded(decoder *ffmpeg, b []byte) ([]int16, int, error) {
	if decoder != nil {
		return decoder.sound()
	}
	return sound(b)
}

func picture(w io.Writer, b []byte, as string) error {
	cfg, form, err := image.DecodeConfig(bytes.NewReader(b))
	if err != nil {
		return fmt.Errorf("preview: it is no picture that can be shown: %w", err)
	}
	if cfg.Width <= 0 || cfg.Height <= 0 || cfg.Width > maxPixels/cfg.Height {
		return fmt.Errorf("preview: it claims %d × %d pixels, and more than %d are not decoded", cfg.Width, cfg.Height, maxPixels)
	}
	img, _, err := image.Decode(bytes.NewReader(b))
	if err != nil {
		return fmt.Errorf("preview: decoding a picture of the form %s: %w", form, err)
	}
	orientation := 0
	if p, err := media.Read(bytes.NewReader(b), int64(len(b))); err == nil {
		orientation = p.Orientation
	}
	seen := turned(smaller(img), orientation)
	if as == Alike {
		h, err := goimagehash.DifferenceHash(seen)
		if err != nil {
			return fmt.Errorf("preview: %w", err)
		}
		_, err = fmt.Fprintf(w, "%016x", h.GetHash())
		return err
	}
	return jpeg.Encode(w, seen, &jpeg.Options{Quality: 84})
}

// smaller is a picture whose sides are no longer than maxSide, on white.
func smaller(img image.Image) *image.RGBA {
	size := img.Bounds().Size()
	scale := min(1, float64(maxSide)/float64(max(size.X, size.Y)))
	to := image.Rect(0, 0, max(1, int(float64(size.X)*scale)), max(1, int(float64(size.Y)*scale)))
	out := image.NewRGBA(to)
	draw.Draw(out, to, image.NewUniform(color.White), image.Point{}, draw.Src)
	draw.ApproxBiLinear.Scale(out, to, img, img.Bounds(), draw.Over, nil)
	return out
}

// turned is a picture as it is to be seen: CIPA DC-008 section 4.6.4.A.
func turned(img *image.RGBA, orientation int) *image.RGBA {
	if orientation < 2 || orientation > 8 {
		return img
	}
	w, h := img.Rect.Dx(), img.Rect.Dy()
	if orientation >= 5 {
		w, h = h, w
	}
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			var fx, fy int
			switch orientation {
			case 2:
				fx, fy = w-1-x, y
			case 3:
				fx, fy = w-1-x, h-1-y
			case 4:
				fx, fy = x, h-1-y
			case 5:
				fx, fy = y, x
			case 6:
				fx, fy = y, w-1-x
			case 7:
				fx, fy = h-1-y, w-1-x
			case 8:
				fx, fy = h-1-y, x
			}
			out.SetRGBA(x, y, img.RGBAAt(fx, fy))
		}
	}
	return out
}
