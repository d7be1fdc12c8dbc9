package reading

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"iter"
	"strings"

	"crosswind/core/media"
	"crosswind/core/record"
)

// photographs reads what pictures say about themselves. Each is a record, of which the whole file is
// the origin: what it shows is in all of its bytes.
type photographs struct{}

// ID implements [Reader].
func (photographs) ID() string { return "photographs, version 1" }

// Match implements [Reader].
func (photographs) Match(_ string, head []byte) bool { return media.Type(head) != "" }

// Read implements [Reader].
func (v photographs) Read(file *io.SectionReader, src *Text) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		if file.Size() > maxMedia {
			yield(nil, fmt.Errorf("it has %d bytes; files of its form are read up to %d", file.Size(), int64(maxMedia)))
			return
		}
		p, err := media.Read(file, file.Size())
		if p != nil && !yield(v.record(p, file, src), nil) {
			return
		}
		if err != nil {
			yield(nil, err)
		}
	}
}

func (v photographs) record(p *media.Photo, file *io.SectionReader, src *Text) *record.Record {
	r := &record.Record{Kind: record.Photograph, State: record.Intact, Text: p.Title, Origins: []record.Origin{src.whole(v, file)}, Attachments: []record.Attachment{src.itself(file, p.Type)}}
	for _, t := range []struct {
		role string
		*media.Moment
	}{{"taken", p.Taken}, {"made", p.Digitised}, {"changed", p.Changed}, {"fixed", p.Satellite}} {
		if t.Moment == nil {
			continue
		}
		at := record.Time{Role: t.role, At: t.At, Stored: t.Stored}
		if t.At == nil {
			at.Local = t.Local
		}
		r.Times = append(r.Times, at.Doubted(src.Made))
	}
	if own := p.Thumbnail; own[1] > 0 {
		size := record.Int(own[1] - own[0])
		a := record.Attachment{Name: "thumbnail within it.jpg", Type: "image/jpeg", Size: &size, Missing: record.WithinIt}
		b := make([]byte, own[1]-own[0])
		if n, _ := file.ReadAt(b, int64(own[0])); n == len(b) {
			sum := sha256.Sum256(b)
			a.SHA256, a.Parts, a.Missing = hex.EncodeToString(sum[:]), []record.Span{{Offset: int64(own[0]), Length: len(b)}}, ""
		}
		r.Attachments = append(r.Attachments, a)
	}
	if p.Latitude != nil && p.Longitude != nil {
		r.Place = &record.Place{Latitude: *p.Latitude, Longitude: *p.Longitude, Accuracy: p.Accuracy, Altitude: p.Altitude, Stored: p.Place}
	}
	turned := ""
	if p.Orientation > 1 {
		turned = orientations[p.Orientation]
	}
	for _, f := range []record.Fact{{Name: record.MadeBy, Value: strings.TrimSpace(p.Made + " " + p.Model)}, {Name: record.Pixels, Value: pixels(p.Width, p.Height)}, {Name: "Orientation", Value: turned}, {Name: "Software", Value: p.Software},
		{Name: "Exposure", Value: p.Exposure, Unit: record.Seconds}, {Name: "Aperture", Value: p.Aperture}, {Name: "Sensitivity", Value: p.Sensitivity}, {Name: "Focal length", Value: p.FocalLength, Unit: "mm"}} {
		if f.Value != "" {
			r.Facts = append(r.Facts, f)
		}
	}
	return src.finish(r)
}

// maxMedia bounds a file that a record has as its own bytes, which are read again when it is checked.
const maxMedia = 64 << 20

// pixels writes the size of a picture, "" if it is not known.
func pixels(w, h int) string {
	if w <= 0 || h <= 0 {
		return ""
	}
	return fmt.Sprintf("%d × %d", w, h)
}

// orientations say how a picture is turned to be seen (CIPA DC-008 section 4.6.4.A).
var orientations = [...]string{2: "mirrored", 3: "turned by 180°", 4: "mirrored, turned by 180°", 5: "mirrored, turned by 90° to the left", 6: "turned by 90° to the right",
	7: "mirrored, turned by 90° to the right", 8: "turned by 90° to the left"}
