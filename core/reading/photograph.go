package reading

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"iter"
	"path"
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
func (v photographs) Read(content []byte, src *Text) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		p, err := media.Read(content)
		if p != nil && !yield(v.record(p, content, src), nil) {
			return
		}
		if err != nil {
			yield(nil, err)
		}
	}
}

func (v photographs) record(p *media.Photo, content []byte, src *Text) *record.Record {
	sum := sha256.Sum256(content)
	digest := hex.EncodeToString(sum[:])
	r := &record.Record{Kind: record.Photograph, State: record.Intact, Text: p.Title, Origins: []record.Origin{{Path: src.Path, Stored: src.Stored, SHA256: src.SHA256, Place: record.PlacePart,
		Length: len(content), Digest: digest, Confidence: 1, FieldMap: v.ID()}}}
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
	if p.Latitude != nil && p.Longitude != nil {
		r.Place = &record.Place{Latitude: *p.Latitude, Longitude: *p.Longitude, Accuracy: p.Accuracy, Altitude: p.Altitude, Stored: p.Place}
	}
	size := record.Int(len(content))
	a := record.Attachment{Name: path.Base(src.Path), Type: p.Type, Size: &size, Path: src.Path, SHA256: digest}
	if src.Path == "" {
		a.Name = path.Base(src.Stored)
	}
	r.Attachments = []record.Attachment{a}
	pixels := ""
	if p.Width > 0 && p.Height > 0 {
		pixels = fmt.Sprintf("%d × %d", p.Width, p.Height)
	}
	turned := ""
	if p.Orientation > 1 {
		turned = orientations[p.Orientation]
	}
	for _, f := range []record.Fact{{Name: record.MadeBy, Value: strings.TrimSpace(p.Made + " " + p.Model)}, {Name: record.Pixels, Value: pixels}, {Name: "Orientation", Value: turned}, {Name: "Software", Value: p.Software},
		{Name: "Exposure", Value: p.Exposure, Unit: record.Seconds}, {Name: "Aperture", Value: p.Aperture}, {Name: "Sensitivity", Value: p.Sensitivity}, {Name: "Focal length", Value: p.FocalLength, Unit: "mm"}} {
		if f.Value != "" {
			r.Facts = append(r.Facts, f)
		}
	}
	r.SetUID()
	return r
}

// orientations say how a picture is turned to be seen (CIPA DC-008 section 4.6.4.A).
var orientations = [...]string{2: "mirrored", 3: "turned by 180°", 4: "mirrored, turned by 180°", 5: "mirrored, turned by 90° to the left", 6: "turned by 90° to the right",
	7: "mirrored, turned by 90° to the right", 8: "turned by 90° to the left"}
