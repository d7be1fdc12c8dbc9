package report

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/draw"
	_ "image/jpeg" // what the confined process encodes
	"image/png"
	"io"
	"math"
	"strings"

	"crosswind/core/report"
	"crosswind/core/scope"
	"crosswind/internal/evidence"
	"crosswind/internal/preview"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// mostPictures bounds the pictures of records in a report.
const mostPictures = 300

// pictures are the pictures of a record's attachments, as far as the report has room for them.
func (r *Report) pictures(m *marked) (out []*report.Picture) {
	for n, a := range m.Whole.Attachments {
		if a.SHA256 == "" || r.pictured == mostPictures || !m.Kind.About().Seen && !strings.HasPrefix(a.Type, "image/") && !strings.HasPrefix(a.Type, "video/") {
			continue
		}
		r.pictured++
		out = append(out, &report.Picture{SHA256: a.SHA256, Alt: a.Title(), Source: fmt.Sprintf("attachment/%d/%d", m.ID, n),
			Caption: report.Text{report.E(a.Title()), report.T(", scaled down; SHA-256 of the file "), report.H(a.SHA256)}})
	}
	return out
}

// photographs are the pictures that were taken of an exhibit.
func (r *Report) photographs(e *exhibit) (out []report.Block) {
	for _, p := range e.Photographs {
		out = append(out, &report.Picture{SHA256: p.SHA256, Alt: or(p.Note, "Picture of the exhibit "+e.Reference), Source: fmt.Sprintf("photograph/%d", p.ID),
			Caption: report.Text{report.E(or(p.Note, "no note")), report.T(", "), r.clock().At(p.At), report.T(", by " + p.By + "; "), report.B(frame.Num(p.Size)), report.T(", scaled down; SHA-256 of the file "), report.H(p.SHA256)}})
	}
	return out
}

// addresses has the pictures of a report shown by the pages that show them anyway, but for those that are redacted.
func addresses(sheet *report.Report, base string) {
	for p := range sheet.Pictures() {
		if len(p.Hidden) > 0 || p.Fault != "" { // the page has it with its bytes, as they are without that
			continue
		}
		if of, n, _ := strings.Cut(p.Source, "/"); of == "photograph" {
			p.Address = base + "/intake/photograph/" + n
		} else {
			p.Address = base + "/examine/preview/" + n
		}
	}
}

// paintOver gives a picture without regions, as a PNG that holds nothing else.
func paintOver(b []byte, regions []report.Region) ([]byte, error) {
	was, _, err := image.Decode(bytes.NewReader(b)) // which the confined process has encoded
	if err != nil {
		return nil, err
	}
	box := was.Bounds()
	out := image.NewRGBA(box)
	draw.Draw(out, box, was, box.Min, draw.Src)
	for _, g := range regions {
		at := func(low, size int, percent float64, round func(float64) float64) int {
			return low + int(round(float64(size)*percent/100))
		}
		r := image.Rect(at(box.Min.X, box.Dx(), g.X, math.Floor), at(box.Min.Y, box.Dy(), g.Y, math.Floor), at(box.Min.X, box.Dx(), g.X+g.Width, math.Ceil), at(box.Min.Y, box.Dy(), g.Y+g.Height, math.Ceil))
		draw.Draw(out, r.Intersect(box), image.Black, image.Point{}, draw.Src)
	}
	var to bytes.Buffer
	err = png.Encode(&to, out)
	return to.Bytes(), err
}

// fill reads the pictures of a report, each decoded and encoded anew by the confined process. What cannot be shown says why.
func fill(ctx context.Context, sheet *report.Report, caseID int64, s *store.Store, door *evidence.Door, previews *preview.Maker) error {
	for p := range sheet.Pictures() {
		if p.Address != "" || p.Fault != "" {
			continue
		}
		var open func() (io.ReadCloser, error)
		var id int64
		var n int
		var sum string // which a redacted picture does not say
		if _, err := fmt.Sscanf(p.Source, "photograph/%d", &id); err == nil {
			ph, err := s.PhotographByID(ctx, caseID, id)
			if err != nil {
				return err
			}
			sum, open = ph.SHA256, func() (io.ReadCloser, error) { return door.Attached(ph.SHA256) }
		} else if _, err := fmt.Sscanf(p.Source, "attachment/%d/%d", &id, &n); err != nil {
			return fmt.Errorf("a picture from %q: %w", p.Source, err)
		} else if sum, open, err = door.Attachment(ctx, caseID, id, n); errors.Is(err, scope.ErrWithheld) || errors.Is(err, store.ErrNotFound) {
			p.Fault = "it is withheld, or not there any more"
			continue
		} else if err != nil {
			return err
		}
		if previews == nil {
			p.Fault = "there is no process that shows pictures"
			continue
		}
		b, media, err := previews.Preview(ctx, preview.Shown, sum, open)
		if f := (*preview.Fault)(nil); errors.As(err, &f) {
			p.Fault = f.Why
			continue
		}
		if err != nil {
			return err
		}
		if p.Bytes, p.Type = b, media; !strings.HasPrefix(media, "image/") {
			p.Bytes, p.Fault = nil, "it is no picture"
		} else if len(p.Hidden) > 0 {
			if p.Bytes, err = paintOver(b, p.Hidden); err != nil {
				return fmt.Errorf("redacting the picture %s: %w", p.Source, err)
			}
			p.Type = "image/png"
		}
	}
	return nil
}
