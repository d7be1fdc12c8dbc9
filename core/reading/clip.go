package reading

import (
	"fmt"
	"io"
	"iter"
	"strconv"
	"strings"

	"crosswind/core/media"
	"crosswind/core/record"
)

// clips reads what films and sounds say about themselves. A sound that names an artist or an album is music,
// another is a recording.
type clips struct{}

// ID implements [Reader].
func (clips) ID() string { return "films and sounds, version 1" }

// Match implements [Reader].
func (clips) Match(_ string, head []byte) bool { return media.ClipType(head) != "" }

// Read implements [Reader].
func (v clips) Read(file *io.SectionReader, src *Text) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		if file.Size() > maxMedia {
			yield(nil, fmt.Errorf("it has %d bytes; films and sounds are read up to %d", file.Size(), maxMedia))
			return
		}
		c, err := media.ReadClip(file, file.Size())
		if c != nil && !yield(v.record(c, file, src), nil) {
			return
		}
		if err != nil {
			yield(nil, err)
		}
	}
}

func (v clips) record(c *media.Clip, file *io.SectionReader, src *Text) *record.Record {
	r := &record.Record{Kind: record.Recording, State: record.Intact, Text: c.Title, Origins: []record.Origin{src.whole(v, file)}, Attachments: []record.Attachment{src.itself(file, c.Type)}}
	switch {
	case strings.HasPrefix(c.Type, "video/"):
		r.Kind = record.Video
	case c.Artist != "" || c.Album != "":
		r.Kind = record.Music
	}
	if c.Made != nil {
		at := record.Time{Role: r.Kind.About().Time, At: c.Made.At, Stored: c.Made.Stored}
		if at.At == nil {
			at.Local = c.Made.Local
		}
		r.Times = []record.Time{at.Doubted(src.Made)}
	}
	if c.Latitude != nil {
		r.Place = &record.Place{Latitude: *c.Latitude, Longitude: *c.Longitude, Altitude: c.Altitude, Stored: c.Place}
	}
	if c.Duration > 0 {
		r.Facts = append(r.Facts, record.Fact{Name: record.Duration, Value: strconv.FormatFloat(c.Duration.Round(1e6).Seconds(), 'f', -1, 64), Unit: record.Seconds})
	}
	turned, rate := "", ""
	if c.Turn != 0 {
		turned = fmt.Sprintf("turned by %d° to the right", c.Turn)
	}
	if c.Rate > 0 {
		rate = fmt.Sprintf("%d samples a second, %d channels", c.Rate, c.Channels)
		if c.Channels == 1 {
			rate = fmt.Sprintf("%d samples a second, 1 channel", c.Rate)
		}
	}
	for _, f := range []record.Fact{{Name: record.MadeBy, Value: strings.TrimSpace(c.Maker + " " + c.Model)}, {Name: record.Pixels, Value: pixels(c.Width, c.Height)}, {Name: "Orientation", Value: turned},
		{Name: "Pictures coded as", Value: c.Video}, {Name: "Sound coded as", Value: c.Audio}, {Name: "Sound", Value: rate}, {Name: "Artist", Value: c.Artist}, {Name: "Album", Value: c.Album}, {Name: "Software", Value: c.Software}} {
		if f.Value != "" {
			r.Facts = append(r.Facts, f)
		}
	}
	return src.finish(r)
}
