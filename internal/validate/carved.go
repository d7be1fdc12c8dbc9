package validate

import (
	"archive/zip"
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"crosswind/core/carve"
	"crosswind/core/volume"
)

// Two storage areas without a file system have so many files each, in units of so many bytes.
const (
	carvedFiles = 40
	carvedUnit  = 4096
)

// planted is a file that was put into a storage without a file system.
type planted struct {
	kind    carve.Kind
	b       []byte
	harmed  bool // some of it was overwritten
	inOrder bool // it lies in one run
}

// carved makes storage areas of noise with files in them: in one run, in two with others' bytes between, overwritten in the
// middle, and beginnings of files that are none.
func carved(ctx context.Context, s *Set, dir string, seed uint64) error {
	s.Library = runtime.Version() + "'s image/jpeg, image/png, image/gif and archive/zip, and " + library("modernc.org/sqlite")
	for i := range 2 {
		if err := s.carve(ctx, rand.New(rand.NewPCG(seed, uint64(10+i))), filepath.Join(dir, fmt.Sprint(i))); err != nil {
			return err
		}
		s.Made++
	}
	return nil
}

// carve makes a storage area, searches it by the code that searches evidence, and compares.
func (s *Set) carve(ctx context.Context, r *rand.Rand, path string) error {
	var storage []byte
	all := map[int64]*planted{} // by where they begin
	put := func(b []byte) { storage = append(storage, append(b, make([]byte, -len(b)&(carvedUnit-1))...)...) }
	for i := range carvedFiles {
		if err := ctx.Err(); err != nil {
			return err
		}
		put(noise(r, carvedUnit*(1+r.IntN(4))))
		p, err := plant(ctx, r, i, fmt.Sprint(path, ".", i))
		if err != nil {
			return err
		}
		all[int64(len(storage))] = p
		units := len(p.b) / carvedUnit
		picture := p.kind == carve.JPEG || p.kind == carve.PNG
		switch middle := units / 2 * carvedUnit; {
		case i%4 == 1 && picture && units > 2: // in two runs
			put(slices.Clone(p.b[:middle]))
			put(noise(r, carvedUnit*(1+r.IntN(3))))
			put(slices.Clone(p.b[middle:]))
		case i%4 == 2 && units > 2: // overwritten in the middle
			p.harmed = true
			b := slices.Clone(p.b)
			copy(b[middle:], noise(r, carvedUnit))
			put(b)
		default:
			p.inOrder = true
			put(slices.Clone(p.b))
		}
		if i%6 == 0 { // what only begins like a file
			put(append([]byte("\xff\xd8\xff\xe0\x00\x10JFIF\x00"), noise(r, 9000)...))
		}
	}
	put(noise(r, 5*carvedUnit))
	back := map[int64]bool{}
	search := carve.New(bytes.NewReader(storage), []volume.Extent{{Length: int64(len(storage))}}, carve.Options{Unit: carvedUnit})
	for f, err := range search.Scan() {
		if err != nil {
			return err
		}
		var b []byte
		for _, e := range f.Extents {
			if e.Offset != volume.Hole {
				b = append(b, storage[e.Offset:e.Offset+e.Length]...)
			}
		}
		at := f.Extents[0].Offset
		p := all[at]
		same := p != nil && !p.harmed && p.kind == f.Kind && bytes.Equal(b, p.b)
		back[at] = same
		// Of a file of which something is gone it is right to say so.
		right := p != nil && p.kind == f.Kind && same == (f.Complete != volume.Part)
		s.tell("file found by its structure", f.Complete, right, fmt.Sprintf("%s at offset %d: %s", f.Kind, at, f.Why))
	}
	for _, at := range slices.Sorted(maps.Keys(all)) {
		p := all[at]
		switch {
		case p.inOrder:
			s.count("files that lie in one run, with every byte", true, back[at])
		case !p.harmed:
			s.count("pictures that lie in two runs, with every byte", false, back[at])
		}
	}
	return nil
}

// plant makes the file with the number i.
func plant(ctx context.Context, r *rand.Rand, i int, path string) (*planted, error) {
	var b bytes.Buffer
	p := &planted{}
	var err error
	switch i % 5 {
	case 0, 1:
		p.kind, err = carve.JPEG, jpeg.Encode(&b, drawing(r), &jpeg.Options{Quality: 60 + r.IntN(40)})
	case 2:
		p.kind, err = carve.PNG, png.Encode(&b, drawing(r))
	case 3:
		p.kind, err = carve.GIF, gif.Encode(&b, drawing(r), nil)
	default:
		if i%2 == 0 {
			p.kind, err = carve.ZIP, packed(&b, r)
		} else if p.kind, err = carve.SQLite, table(ctx, path, r); err == nil {
			p.b, err = os.ReadFile(path)
			return p, err
		}
	}
	p.b = b.Bytes()
	return p, err
}

// drawing is a picture of hills, as smooth as photographs are, with some grain.
func drawing(r *rand.Rand) image.Image {
	const hills = 24
	type hill struct{ x, y, wide, high float64 }
	var of [3][hills]hill
	m := image.NewRGBA(image.Rect(0, 0, 200+r.IntN(200), 150+r.IntN(150)))
	w, h := float64(m.Rect.Max.X), float64(m.Rect.Max.Y)
	for c := range of {
		for i := range of[c] {
			of[c][i] = hill{r.Float64() * w, r.Float64() * h, 8 + r.Float64()*r.Float64()*80, (r.Float64() - 0.5) * 160}
		}
	}
	for y := range m.Rect.Max.Y {
		for x := range m.Rect.Max.X {
			var v [3]uint8
			for c := range of {
				sum := 128 + r.NormFloat64()*4
				for _, k := range of[c] {
					dx, dy := (float64(x)-k.x)/k.wide, (float64(y)-k.y)/k.wide
					if d := dx*dx + dy*dy; d < 9 {
						sum += k.high / (1 + d)
					}
				}
				v[c] = uint8(min(255, max(0, sum)))
			}
			m.SetRGBA(x, y, color.RGBA{v[0], v[1], v[2], 255})
		}
	}
	return m
}

func packed(b *bytes.Buffer, r *rand.Rand) error {
	z := zip.NewWriter(b)
	for i := range 5 {
		w, err := z.Create(fmt.Sprintf("member%d.bin", i))
		if err == nil {
			_, err = w.Write(noise(r, 1000+r.IntN(6000)))
		}
		if err != nil {
			return err
		}
	}
	return z.Close()
}

func table(ctx context.Context, path string, r *rand.Rand) error {
	db, err := sql.Open("sqlite", path)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, "CREATE TABLE t(a, b)"); err != nil {
		return err
	}
	for range 100 + r.IntN(300) {
		if _, err := db.ExecContext(ctx, "INSERT INTO t VALUES (?, ?)", r.Int64(), said(r)); err != nil {
			return err
		}
	}
	return nil
}
