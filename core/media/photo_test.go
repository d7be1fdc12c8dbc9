package media

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// plainPictures are small ones that say nothing, by their names' endings, made once by ImageMagick and FFmpeg.
var plainPictures = map[string][]byte{}

// picture writes a small picture, and tags into it with the reference program.
func picture(t testing.TB, ext string, tags ...string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "p"+ext)
	if plainPictures[ext] == nil {
		make := []string{"/usr/bin/convert", "-size", "48x32", "xc:gray", "+repage", path} // ImageMagick's
		if ext == ".avif" {
			make = []string{"ffmpeg", "-loglevel", "error", "-f", "lavfi", "-i", "color=gray:s=48x32", "-frames:v", "1", path}
		}
		run(t, make[0], make[1:]...)
		made, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		plainPictures[ext] = made
	}
	if err := os.WriteFile(path, plainPictures[ext], 0o644); err != nil {
		t.Fatal(err)
	}
	if len(tags) > 0 {
		write(t, append(tags, path))
	}
	return path
}

// write has the reference program write tags into pictures: of each the tags and the path.
func write(t testing.TB, all ...[]string) {
	t.Helper()
	var b strings.Builder
	for _, arg := range all {
		b.WriteString(strings.Join(append(arg, "-q", "-n", "-overwrite_original", "-execute"), "\n") + "\n")
	}
	c := exec.Command("exiftool", "-@", "-")
	c.Stdin = strings.NewReader(b.String())
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

func readBytes(b []byte) (*Photo, error) { return Read(bytes.NewReader(b), int64(len(b))) }

func read(t testing.TB, path string) *Photo {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	p, err := Read(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatalf("%s: %v", path, err)
	}
	return p
}

// What is read is what the reference program says (Debian's libimage-exiftool-perl): all eight
// orientations, with and without offsets, on both sides of the equator and the meridian, in four
// formats, and by XMP alone.
func TestAgainstTheReferenceProgram(t *testing.T) {
	var pictures []string
	var writes [][]string
	var turns []int
	for orientation := 1; orientation <= 8; orientation++ {
		for _, ext := range []string{".jpg", ".png", ".webp", ".tif", ".avif", ".heic"} {
			tags := []string{fmt.Sprintf("-Orientation=%d", orientation), "-EXIF:DateTimeOriginal=2026:09:11 21:31:0" + fmt.Sprint(orientation), "-EXIF:CreateDate=2026:09:11 21:31:10", "-EXIF:ModifyDate=2026:09:12 06:00:00",
				"-Make=Orlop", "-Model=OL-220", "-Software=camera 4", "-ExposureTime=1/250", "-FNumber=2.8", "-ISO=400", "-FocalLength=5.4", "-ImageDescription=by the gate",
				fmt.Sprintf("-GPSLatitude=%f", 38.49874-float64(orientation)), "-GPSLatitudeRef=" + []string{"N", "S"}[orientation%2], "-GPSLongitude=24.00561", "-GPSLongitudeRef=" + []string{"E", "W"}[orientation/2%2],
				"-GPSAltitude=12.5", fmt.Sprintf("-GPSAltitudeRef=%d", orientation/4%2), "-GPSDateStamp=2026:09:11", "-GPSTimeStamp=20:31:05", "-GPSHPositioningError=7.5",
				fmt.Sprintf("-SubSecTimeOriginal=%03d", orientation*orientation), "-SubSecTimeDigitized=0500"}
			if orientation%2 == 0 {
				tags = append(tags, "-OffsetTimeOriginal=+01:00", "-OffsetTimeDigitized=-03:30", "-OffsetTime=Z")
			}
			pictures, turns = append(pictures, picture(t, ext)), append(turns, orientation)
			writes = append(writes, append(tags, pictures[len(pictures)-1]))
		}
	}
	write(t, writes...)
	var all []struct {
		Orientation, ImageWidth, ImageHeight                                            int
		DateTimeOriginal, OffsetTimeOriginal, CreateDate, ModifyDate, Make, Model       string
		Software, ImageDescription, MIMEType, GPSDateTime, SubSecDateTimeOriginal       string
		SubSecCreateDate                                                                string
		GPSLatitude, GPSLongitude, GPSAltitude, ExposureTime, FNumber, ISO, FocalLength float64
		GPSHPositioningError                                                            float64
	}
	if err := json.Unmarshal(run(t, "exiftool", append([]string{"-j", "-n"}, pictures...)...), &all); err != nil || len(all) != len(pictures) {
		t.Fatal(len(all), err)
	}
	for i, path := range pictures {
		orientation := turns[i]
		p, w := read(t, path), all[i]
		near := func(a *float64, b float64) bool { return a != nil && math.Abs(*a-b) < 1e-6 }
		if p.Orientation != w.Orientation || p.Width != w.ImageWidth || p.Height != w.ImageHeight || p.Type != w.MIMEType || p.Made != w.Make || p.Model != w.Model || p.Software != w.Software || p.Title != w.ImageDescription {
			t.Errorf("%s: %+v, the reference says %+v", path, p, w)
		}
		if !near(p.Latitude, w.GPSLatitude) || !near(p.Longitude, w.GPSLongitude) || !near(p.Altitude, w.GPSAltitude) || !near(p.Accuracy, w.GPSHPositioningError) {
			t.Errorf("%s: %v %v %v %v, the reference says %+v", path, *p.Latitude, *p.Longitude, *p.Altitude, *p.Accuracy, w)
		}
		if p.Exposure != "1/250" || p.Aperture != fmt.Sprint(w.FNumber) || p.Sensitivity != fmt.Sprint(w.ISO) || p.FocalLength != fmt.Sprint(w.FocalLength) {
			t.Errorf("%s: %+v, the reference says %+v", path, p, w)
		}
		for what, m := range map[string]struct {
			got  *Moment
			want string
		}{"taken": {p.Taken, w.SubSecDateTimeOriginal[:23]}, "digitised": {p.Digitised, w.SubSecCreateDate[:24]}, "changed": {p.Changed, w.ModifyDate}, "satellite": {p.Satellite, w.GPSDateTime[:19]}} {
			at, err := time.Parse("2006:01:02 15:04:05", m.want)
			if m.got == nil || err != nil || m.got.Local != at.Format("2006-01-02T15:04:05.999999") || (m.got.At != nil) != (orientation%2 == 0 || what == "satellite") {
				t.Errorf("%s: %s %+v, the reference says %s", path, what, m.got, m.want)
			}
		}
		if orientation%2 == 0 && p.Taken.At.Format("05.000Z07:00") != fmt.Sprintf("%02d.%03dZ", orientation, orientation*orientation) {
			t.Errorf("%s: taken %v", path, p.Taken.At)
		}
	}
	small := picture(t, ".jpg")
	for _, order := range []string{"-ExifByteOrder=II", "-ExifByteOrder=MM"} { // the thumbnail is what the reference program takes out
		path := picture(t, ".jpg", order, "-Orientation=1", "-ThumbnailImage<="+small)
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if p, want := read(t, path), run(t, "exiftool", "-b", "-ThumbnailImage", path); len(want) == 0 || !bytes.Equal(b[p.Thumbnail[0]:p.Thumbnail[1]], want) {
			t.Errorf("%s: the thumbnail lies at %v", order, p.Thumbnail)
		}
	}
	if p := read(t, picture(t, ".png")); p.Thumbnail[1] != 0 || p.Taken != nil || p.Latitude != nil || p.Width != 48 {
		t.Errorf("of a picture that says nothing: %+v", p)
	}
}

// By XMP alone, of the same: what the reference program reads from it.
func TestXMPAgainstTheReferenceProgram(t *testing.T) {
	var pictures []string
	var writes [][]string
	for orientation := 1; orientation <= 8; orientation++ {
		for _, ext := range []string{".jpg", ".png", ".webp", ".tif", ".avif", ".heic"} {
			pictures = append(pictures, picture(t, ext))
			writes = append(writes, []string{fmt.Sprintf("-XMP-tiff:Orientation=%d", orientation), fmt.Sprintf("-XMP-exif:DateTimeOriginal=2026:05:04 03:02:0%d%s", orientation, []string{"", ".25+02:00"}[orientation%2]),
				fmt.Sprintf("-XMP-exif:GPSLatitude=%f", float64(orientation)*10.1-45), fmt.Sprintf("-XMP-exif:GPSLongitude=%f", 170.25-float64(orientation)*40), fmt.Sprintf("-XMP-exif:GPSAltitude=%d.5", orientation),
				fmt.Sprintf("-XMP-exif:GPSAltitudeRef=%d", orientation/4%2), "-XMP-tiff:Make=Orlop", "-XMP-tiff:Model=OL-220", "-XMP-xmp:CreatorTool=camera 4", "-XMP-dc:Title=from a boat", pictures[len(pictures)-1]})
		}
	}
	write(t, writes...)
	var all []struct {
		Orientation                                            int
		DateTimeOriginal, Make, Model, CreatorTool, Title      string
		GPSLatitude, GPSLongitude, GPSAltitude, GPSAltitudeRef float64
	}
	if err := json.Unmarshal(run(t, "exiftool", append([]string{"-j", "-n", "-XMP:all"}, pictures...)...), &all); err != nil || len(all) != len(pictures) {
		t.Fatal(len(all), err)
	}
	for i, path := range pictures {
		p, w := read(t, path), all[i]
		if w.GPSAltitudeRef == 1 {
			w.GPSAltitude = -w.GPSAltitude
		}
		own := filepath.Ext(path) == ".tif" // which has tags of its own for these, and they go first
		if !own && (p.Orientation != w.Orientation || p.Software != w.CreatorTool) || p.Made != w.Make || p.Model != w.Model || p.Title != w.Title || p.Latitude == nil || p.Altitude == nil ||
			math.Abs(*p.Latitude-w.GPSLatitude) > 1e-6 || math.Abs(*p.Longitude-w.GPSLongitude) > 1e-6 || *p.Altitude != w.GPSAltitude {
			t.Errorf("%s: %+v, the reference says %+v", path, p, w)
		}
		at, err := time.Parse("2006:01:02 15:04:05Z07:00", w.DateTimeOriginal)
		if zoned := err == nil; !zoned {
			at, err = time.Parse("2006:01:02 15:04:05", w.DateTimeOriginal)
			if err != nil || p.Taken == nil || p.Taken.At != nil || p.Taken.Local != at.Format("2006-01-02T15:04:05") {
				t.Errorf("%s: taken %+v, the reference says %s", path, p.Taken, w.DateTimeOriginal)
			}
		} else if p.Taken == nil || p.Taken.At == nil || !p.Taken.At.Equal(at) {
			t.Errorf("%s: taken %+v, the reference says %s", path, p.Taken, w.DateTimeOriginal)
		}
	}
}

// Hostile pictures: cut at every length, changed at every byte of their heads, no form at all.
// Nothing panics, and what a picture claims costs no memory.
func TestHostilePictures(t *testing.T) {
	whole, err := os.ReadFile(picture(t, ".jpg", "-Make=Orlop", "-DateTimeOriginal=2026:09:11 21:31:00", "-GPSLatitude=91.5", "-GPSLatitudeRef=N", "-GPSLongitude=1", "-GPSLongitudeRef=E"))
	if err != nil {
		t.Fatal(err)
	}
	if p, err := readBytes(whole); err != nil || p.Latitude != nil {
		t.Errorf("a latitude of 91.5: %+v, %v", p, err)
	}
	for n := range whole {
		readBytes(whole[:n])
	}
	for n := range min(len(whole), 600) {
		for _, v := range []byte{0, 0x7f, 0xff} {
			b := bytes.Clone(whole)
			b[n] = v
			readBytes(b)
		}
	}
	for _, s := range []string{"", "\xff\xd8\xff", "text", "II*\x00\xff\xff\xff\xff", "\x89PNG\r\n\x1a\n\xff\xff\xff\xffeXIf"} {
		if p, err := readBytes([]byte(s)); err == nil && p.Taken != nil {
			t.Errorf("%q: %+v", s, p)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, ext := range []string{".jpg", ".png"} {
		b, err := os.ReadFile(picture(f, ext, "-Make=Orlop", "-DateTimeOriginal=2026:09:11 21:31:00", "-OffsetTimeOriginal=+01:00", "-GPSLatitude=1.5", "-GPSLatitudeRef=S", "-GPSLongitude=1", "-GPSLongitudeRef=E"))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		p, _ := readBytes(b)
		if p != nil && p.Latitude != nil && math.Abs(*p.Latitude) > 90 {
			t.Errorf("%v", *p.Latitude)
		}
	})
}

func ExampleType() {
	fmt.Println(Type([]byte("\xff\xd8\xff\xe0\x00\x10JFIF\x00")))
	// Output: image/jpeg
}
