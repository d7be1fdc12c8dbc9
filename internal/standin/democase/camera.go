package democase

import (
	"encoding/binary"
	"image"
	"image/color"
	"math"
	"math/rand/v2"
	"time"
)

// shot is a photograph that a handset's camera took.
type shot struct {
	at     time.Time     // UTC
	ahead  time.Duration // that its clock is
	offset string        // of the camera's clock, "" if it does not say
	where  *spot         // nil if its place is switched off
	turned uint16        // orientation
	device [2]string
	title  string
}

// shots are those of the harbour phone, of which the one of the evening is by the store.
func shots() (out []shot) {
	r := rand.New(rand.NewPCG(26, 9))
	for i := range 52 {
		at := start.AddDate(0, 0, 8*i).Add(time.Duration(6+r.IntN(8)) * time.Hour).Add(time.Duration(r.IntN(3600)) * time.Second)
		s := shot{at: at, offset: "+00:00", turned: []uint16{1, 1, 6, 8, 3}[r.IntN(5)], device: [2]string{"Orlop", Handset.Mark}}
		if i%5 != 4 {
			p := where(at).near(r, 15)
			s.where = &p
		}
		if i%7 == 3 {
			s.offset = ""
		}
		if i == 44 {
			s.ahead = 12 * time.Hour
		}
		out = append(out, s)
	}
	gate := spot{stock.lat + 0.0004, stock.lon - 0.0002}
	out = append(out, shot{at: evening.Add(28 * time.Minute), offset: "+00:00", where: &gate, turned: 6, device: [2]string{"Orlop", Handset.Mark}, title: "six"})
	return out
}

// scenery is sea, sky and skerries, lit as the hour has it.
func scenery(r *rand.Rand, at time.Time) *image.RGBA {
	const width, height = 480, 360
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	light := 0.25 + 0.75*max(0, math.Sin(math.Pi*(float64(at.Hour())-5)/16))
	horizon := 150 + r.IntN(60)
	var rocks [width]int
	rock, way := 0.0, 0.0
	for x := range width {
		way += r.NormFloat64() * 0.6
		rock = max(0, min(90, rock+way))
		if rock == 0 || rock == 90 {
			way = 0
		}
		rocks[x] = int(rock)
	}
	for y := range height {
		for x := range width {
			var c [3]float64
			switch {
			case y > horizon-rocks[x] && y <= horizon:
				c = [3]float64{70, 72, 66}
			case y <= horizon:
				f := float64(y) / float64(horizon)
				c = [3]float64{150 + 70*f, 180 + 40*f, 215 + 10*f}
			default:
				w := 14 * math.Sin(float64(x)/17+float64(y*y)/900)
				c = [3]float64{40 + w, 92 + w, 110 + w}
			}
			n := r.NormFloat64() * 4
			img.SetRGBA(x, y, color.RGBA{level(c[0]*light + n), level(c[1]*light + n), level(c[2]*light + n), 255})
		}
	}
	return img
}

// held is a picture as the camera's chip has it when the handset is held so that its orientation is
// one of 1, 3, 6 and 8: turned the other way than it is to be seen.
func held(img *image.RGBA, orientation uint16) *image.RGBA {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	if orientation == 6 || orientation == 8 {
		out = image.NewRGBA(image.Rect(0, 0, h, w))
	}
	for y := range h {
		for x := range w {
			switch c := img.RGBAAt(x, y); orientation {
			case 3:
				out.SetRGBA(w-1-x, h-1-y, c)
			case 6:
				out.SetRGBA(y, w-1-x, c)
			case 8:
				out.SetRGBA(h-1-y, x, c)
			default:
				out.SetRGBA(x, y, c)
			}
		}
	}
	return out
}

func level(f float64) uint8 { return uint8(min(255, max(0, f))) }

// into puts what the camera says into a JPEG file, behind its first marker: Exif, CIPA DC-008
// section 4.5.
func (s shot) into(file []byte) []byte {
	le := binary.LittleEndian
	type entry struct {
		tag, kind uint16 // kind: 2 text, 3 short, 4 long, 5 rational
		data      []byte
	}
	text := func(t string) []byte { return append([]byte(t), 0) }
	rationals := func(ns ...float64) (b []byte) {
		for _, n := range ns {
			b = le.AppendUint32(b, uint32(math.Round(n*10000)))
			b = le.AppendUint32(b, 10000)
		}
		return b
	}
	sizes := map[uint16]int{2: 1, 3: 2, 4: 4, 5: 8}
	directory := func(at int, entries []entry) []byte {
		head := le.AppendUint16(nil, uint16(len(entries)))
		var more []byte
		behind := at + 2 + 12*len(entries) + 4
		for _, e := range entries {
			head = le.AppendUint16(head, e.tag)
			head = le.AppendUint16(head, e.kind)
			head = le.AppendUint32(head, uint32(len(e.data)/sizes[e.kind]))
			if len(e.data) <= 4 {
				head = append(append(head, e.data...), make([]byte, 4-len(e.data))...)
				continue
			}
			head = le.AppendUint32(head, uint32(behind+len(more)))
			more = append(more, e.data...)
			if len(more)%2 == 1 {
				more = append(more, 0)
			}
		}
		return append(le.AppendUint32(head, 0), more...)
	}
	clock := s.at.Add(s.ahead).Format("2006:01:02 15:04:05")
	exif := []entry{{0x829a, 5, rationals(0.004)}, {0x829d, 5, rationals(2.2)}, {0x8827, 3, le.AppendUint16(nil, 200)}, {0x9003, 2, text(clock)}}
	if s.offset != "" {
		exif = append(exif, entry{0x9011, 2, text(s.offset)})
	}
	var gps []entry
	if s.where != nil {
		parts := func(f float64) []byte {
			f = math.Abs(f)
			d := math.Floor(f)
			m := math.Floor((f - d) * 60)
			return rationals(d, m, (f-d)*3600-m*60)
		}
		ref := func(f float64, plus, minus string) []byte {
			if f < 0 {
				return text(minus)
			}
			return text(plus)
		}
		gps = []entry{{1, 2, ref(s.where.lat, "N", "S")}, {2, 5, parts(s.where.lat)}, {3, 2, ref(s.where.lon, "E", "W")}, {4, 5, parts(s.where.lon)}}
	}
	first := func(exifAt, gpsAt int) []entry {
		var out []entry
		if s.title != "" {
			out = append(out, entry{0x010e, 2, text(s.title)})
		}
		out = append(out, entry{0x010f, 2, text(s.device[0])}, entry{0x0110, 2, text(s.device[1])}, entry{0x0112, 3, le.AppendUint16(nil, s.turned)}, entry{0x0132, 2, text(clock)},
			entry{0x8769, 4, le.AppendUint32(nil, uint32(exifAt))})
		if gps != nil {
			out = append(out, entry{0x8825, 4, le.AppendUint32(nil, uint32(gpsAt))})
		}
		return out
	}
	const begin = 8 // of the first directory
	exifAt := begin + len(directory(begin, first(0, 0)))
	gpsAt := exifAt + len(directory(exifAt, exif))
	tiff := le.AppendUint32([]byte("II*\x00"), begin)
	tiff = append(append(tiff, directory(begin, first(exifAt, gpsAt))...), directory(exifAt, exif)...)
	if gps != nil {
		tiff = append(tiff, directory(gpsAt, gps)...)
	}
	out := append([]byte{}, file[:2]...)
	out = append(out, 0xff, 0xe1)
	out = binary.BigEndian.AppendUint16(out, uint16(2+6+len(tiff)))
	out = append(append(out, "Exif\x00\x00"...), tiff...)
	return append(out, file[2:]...)
}
