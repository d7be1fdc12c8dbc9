// Package media says what a photograph says about itself: when, where and by what it was
// taken. It reads Exif (CIPA DC-008) and XMP (ISO 16684-1) as the library does, and gives
// what they mean.
//
// It decodes no picture: what its pixels show is not known here. Nothing is worked out that is not
// said: a time without an offset stays local, and one without a place has none.
package media

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/bep/imagemeta"
)

// formats are those that are read, told by their first bytes.
var formats = []struct {
	media string
	begin string
	at    int
	as    imagemeta.ImageFormat
}{
	{"image/jpeg", "\xff\xd8\xff", 0, imagemeta.JPEG},    // ITU-T T.81, annex B
	{"image/png", "\x89PNG\r\n\x1a\n", 0, imagemeta.PNG}, // ISO/IEC 15948 section 5.2
	{"image/webp", "WEBPVP8", 8, imagemeta.WebP},         // RFC 9649 section 2.4
	{"image/tiff", "II*\x00", 0, imagemeta.TIFF},         // TIFF 6.0 section 2
	{"image/tiff", "MM\x00*", 0, imagemeta.TIFF},         //
	{"image/heic", "ftypheic", 4, imagemeta.HEIF},        // ISO/IEC 23008-12
	{"image/heic", "ftypmif1", 4, imagemeta.HEIF}, {"image/avif", "ftypavif", 4, imagemeta.AVIF},
}

// Type is the media type of a picture that begins with head, "" if it is none that is read.
// 16 bytes are enough.
func Type(head []byte) string {
	if f := format(head); f >= 0 {
		return formats[f].media
	}
	return ""
}

func format(head []byte) int {
	for i, f := range formats {
		if len(head) >= f.at+len(f.begin) && string(head[f.at:f.at+len(f.begin)]) == f.begin {
			return i
		}
	}
	return -1
}

// ErrFormat is of content that is no picture of a form that is read.
var ErrFormat = errors.New("media: it is no picture of a form that is read")

// Moment is a time as a photograph says it.
type Moment struct {
	Stored string     // as it is stored, with its offset if there is one
	Local  string     // the same in ISO 8601, without an offset
	At     *time.Time // UTC, if an offset is stored
}

// Photo is what a photograph says about itself. Zero values are not said.
type Photo struct {
	Type          string // media type
	Width, Height int    // in pixels, as stored: before it is turned
	Orientation   int    // 1 to 8 (CIPA DC-008 section 4.6.4.A)
	Taken         *Moment
	Digitised     *Moment
	Changed       *Moment
	Satellite     *Moment // when the place was fixed: UTC
	Latitude      *float64
	Longitude     *float64 // degrees; datum as the photograph says, which is WGS 84 as a rule
	Altitude      *float64 // metres above sea level
	Accuracy      *float64 // metres
	Place         string   // both coordinates as stored, with a comma
	Made, Model   string   // the device
	Software      string
	Exposure      string // seconds, as a fraction or a decimal
	Aperture      string // f-number
	Sensitivity   string // ISO
	FocalLength   string // millimetres
	Title         string
	// Thumbnail is where a JPEG file has a smaller picture of itself (CIPA DC-008 section 4.5.7), [from, to); nothing
	// if it has none.
	Thumbnail [2]int
}

// What bounds the reading of hostile content.
const (
	maxTags    = 5000
	maxTagSize = 1 << 16
)

// Read reads what a picture of size bytes says about itself, in place. Of one that is cut off or damaged what could be read
// comes with an error.
func Read(r io.ReaderAt, size int64) (*Photo, error) {
	w := &window{r: r, size: size}
	n := format(w.get(0, int(min(size, 16))))
	if n < 0 {
		return nil, ErrFormat
	}
	p := &Photo{Type: formats[n].media}
	tags := imagemeta.Tags{}
	decode := func(r io.ReadSeeker, as imagemeta.ImageFormat, sources imagemeta.Source) (imagemeta.DecodeResult, error) {
		return imagemeta.Decode(imagemeta.Options{
			R: r, ImageFormat: as, Sources: sources, LimitNumTags: maxTags, LimitTagSize: maxTagSize,
			ShouldHandleTag: func(t imagemeta.TagInfo) bool {
				return t.Source != imagemeta.EXIF || strings.HasPrefix(t.Namespace, "IFD0") // not of the thumbnail
			},
			HandleTag: func(t imagemeta.TagInfo) error {
				if !tags.Has(t) {
					tags.Add(t)
				}
				return nil
			},
		})
	}
	res, err := decode(io.NewSectionReader(r, 0, size), formats[n].as, imagemeta.EXIF|imagemeta.XMP|imagemeta.CONFIG)
	if p.Type == "image/png" {
		if x := xmpIn(w); x != nil {
			_, fault := decode(bytes.NewReader(x), imagemeta.WebP, imagemeta.XMP)
			err = errors.Join(err, fault)
		}
	}
	p.Width, p.Height = res.ImageConfig.Width, res.ImageConfig.Height
	exif, xmp := values(tags.EXIF()), values(tags.XMP())
	p.Orientation = int(number(exif["Orientation"]))
	if p.Orientation < 1 || p.Orientation > 8 {
		p.Orientation = 0
	}
	t := tiffIn(w, p.Type)
	digitised, changed := t.fraction(0x9292, number(exif["SubSecTimeDigitized"])), t.fraction(0x9290, number(exif["SubSecTime"]))
	p.Taken = moment(exif, "DateTimeOriginal", "OffsetTimeOriginal", t.fraction(0x9291, number(exif["SubSecTimeOriginal"])))
	p.Digitised = moment(exif, "DateTimeDigitized", "OffsetTimeDigitized", digitised)
	if p.Digitised == nil {
		p.Digitised = moment(exif, "CreateDate", "OffsetTimeDigitized", digitised)
	}
	p.Changed = moment(exif, "DateTime", "OffsetTime", changed)
	if p.Changed == nil {
		p.Changed = moment(exif, "ModifyDate", "OffsetTime", changed)
	}
	for _, name := range []string{"DateTimeOriginal", "DateCreated", "CreateDate"} {
		if p.Taken == nil {
			p.Taken = moment(xmp, name, "", "")
		}
	}
	if p.Type == "image/jpeg" {
		p.Thumbnail = t.thumbnail()
	}
	p.position(exif)
	p.byXMP(xmp)
	p.Made, p.Model, p.Software = words(exif["Make"]), words(exif["Model"]), words(exif["Software"])
	p.Exposure, p.Aperture = ratio(exif["ExposureTime"]), ratio(exif["FNumber"])
	p.Sensitivity, p.FocalLength = ratio(exif["ISO"]), ratio(exif["FocalLength"])
	if p.Sensitivity == "" {
		p.Sensitivity = ratio(exif["PhotographicSensitivity"])
	}
	if p.Made == "" && p.Model == "" {
		p.Made, p.Model = words(xmp["Make"]), words(xmp["Model"])
	}
	if p.Software == "" {
		p.Software = words(xmp["CreatorTool"])
	}
	p.Title = words(exif["ImageDescription"])
	if p.Title == "" {
		p.Title = words(xmp["Title"])
	}
	if err != nil {
		err = fmt.Errorf("media: %w", err)
	}
	return p, err
}

// byXMP takes from XMP how a picture is turned and where it was taken, if its Exif does not say so.
func (p *Photo) byXMP(xmp map[string]any) {
	if n := number(xmp["Orientation"]); p.Orientation == 0 && n >= 1 && n <= 8 {
		p.Orientation = int(n)
	}
	lat, lon := number(xmp["GPSLatitude"]), number(xmp["GPSLongitude"])
	if p.Latitude != nil || math.IsNaN(lat) || math.IsNaN(lon) || math.Abs(lat) > 90 || math.Abs(lon) > 180 {
		return
	}
	p.Latitude, p.Longitude, p.Place = &lat, &lon, fmt.Sprintf("%s, %s", plain(lat), plain(lon))
	over, under, is := strings.Cut(words(xmp["GPSAltitude"]), "/") // a rational number (XMP part 2, section 2.4)
	a, b := number(over), 1.0
	if is {
		b = number(under)
	}
	if f := a / b; !math.IsNaN(f) && !math.IsInf(f, 0) {
		if number(xmp["GPSAltitudeRef"]) == 1 { // below the sea
			f = -f
		}
		p.Altitude = &f
	}
}

func values(tags map[string]imagemeta.TagInfo) map[string]any {
	out := map[string]any{}
	for name, t := range tags {
		out[name] = t.Value
	}
	return out
}

// position reads the GPS attributes (CIPA DC-008 section 4.6.6).
func (p *Photo) position(exif map[string]any) {
	degrees := func(name string, most float64) *float64 {
		v, has := exif[name]
		f := number(v)
		if !has || math.IsNaN(f) || math.IsInf(f, 0) {
			return nil
		}
		if s := words(exif[name+"Ref"]); (s == "S" || s == "W") && f > 0 {
			f = -f
		}
		if math.Abs(f) > most {
			return nil
		}
		return &f
	}
	p.Latitude, p.Longitude = degrees("GPSLatitude", 90), degrees("GPSLongitude", 180)
	if p.Latitude == nil || p.Longitude == nil {
		p.Latitude, p.Longitude = nil, nil
	} else {
		p.Place = fmt.Sprintf("%s %s, %s %s", plain(math.Abs(*p.Latitude)), words(exif["GPSLatitudeRef"]), plain(math.Abs(*p.Longitude)), words(exif["GPSLongitudeRef"]))
	}
	if v, has := exif["GPSAltitude"]; has {
		if f := number(v); !math.IsNaN(f) && !math.IsInf(f, 0) {
			if number(exif["GPSAltitudeRef"]) == 1 { // below the sea
				f = -f
			}
			p.Altitude = &f
		}
	}
	if v, has := exif["GPSHPositioningError"]; has {
		if f := number(v); f >= 0 && !math.IsInf(f, 0) {
			p.Accuracy = &f
		}
	}
	day, clock := words(exif["GPSDateStamp"]), words(exif["GPSTimeStamp"])
	if clock, _, _ := strings.Cut(clock, "."); day != "" && clock != "" {
		if at, err := time.Parse("2006:01:02 15:04:05", day+" "+clock); err == nil {
			p.Satellite = &Moment{Stored: day + " " + words(exif["GPSTimeStamp"]) + " UTC", Local: at.Format("2006-01-02T15:04:05"), At: &at}
		}
	}
}

// moment reads a time with its offset and fraction (CIPA DC-008 section 4.6.5). XMP writes all in one (XMP part 1,
// section 8.2.1.1).
func moment(tags map[string]any, name, offset, fraction string) *Moment {
	s := words(tags[name])
	if s == "" {
		return nil
	}
	m := &Moment{Stored: s}
	if fraction != "" && len(s) == len("2006:01:02 15:04:05") {
		s += "." + fraction
		m.Stored = s
	}
	zone := ""
	if minutes := len("2006-01-02T15:04"); len(s) > minutes {
		if i := strings.IndexAny(s[minutes:], "+-Z"); i >= 0 {
			s, zone = s[:minutes+i], s[minutes+i:]
		}
	}
	var at time.Time
	err := error(nil)
	for _, layout := range []string{"2006:01:02 15:04:05", "2006-01-02T15:04:05", "2006-01-02T15:04"} { // and with a fraction
		if at, err = time.Parse(layout, s); err == nil {
			break
		}
	}
	if err != nil {
		return m
	}
	m.Local = at.Format("2006-01-02T15:04:05.999999999")
	if o := words(tags[offset]); o != "" {
		zone = o
		m.Stored += " " + o
	}
	if zone != "" {
		if z, err := time.Parse("Z07:00", zone); err == nil {
			_, seconds := z.Zone()
			utc := at.Add(-time.Duration(seconds) * time.Second)
			m.At = &utc
		}
	}
	return m
}

// words is a value as a text, "" if it is none.
func words(v any) string {
	s, _ := v.(string)
	return strings.TrimSpace(strings.TrimRight(s, "\x00"))
}

// floater is a rational number of the library's.
type floater interface{ Float64() float64 }

// number is a value as a number, NaN if it is none.
func number(v any) float64 {
	switch x := v.(type) {
	case float64:
		return x
	case float32:
		return float64(x)
	case floater:
		return x.Float64()
	case string:
		if f, err := strconv.ParseFloat(strings.TrimSpace(x), 64); err == nil {
			return f
		}
	case nil:
	default:
		if f, err := strconv.ParseFloat(fmt.Sprint(x), 64); err == nil {
			return f
		}
	}
	return math.NaN()
}

// ratio writes a number as it is stored: 1/250, 2.8.
func ratio(v any) string {
	if v == nil {
		return ""
	}
	if f, is := v.(floater); is {
		s := fmt.Sprint(v)
		if n := f.Float64(); math.IsNaN(n) || math.IsInf(n, 0) {
			return ""
		} else if !strings.HasPrefix(s, "1/") {
			return plain(n)
		}
		return s
	}
	if f := number(v); !math.IsNaN(f) && !math.IsInf(f, 0) {
		return plain(f)
	}
	return ""
}

func plain(f float64) string { return strconv.FormatFloat(math.Round(f*1e7)/1e7, 'f', -1, 64) }
