package examine

import (
	"slices"
	"strings"
	"unicode/utf8"

	"crosswind/core/record"
	"crosswind/core/search"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// match is what of a record has the words that are looked for.
type match struct {
	Field  string // what the text is of the record, "" if it is the text itself
	Pieces []frame.Piece
}

// What stands around a match, in characters.
const (
	beforeMatch = 10
	behindMatch = 160
)

// Match shows where a record has the words that are looked for: in its text if that has any of them, else in another field.
// It is nil if none are looked for, or are where it does not look.
func (v *content) Match(r store.Record) (*match, error) {
	terms := search.Parse(v.Filter.Words)
	if len(terms) == 0 {
		return nil, nil
	}
	if at := search.Find(r.Summary, terms); len(at) > 0 {
		return &match{Pieces: excerpt(r.Summary, at)}, nil
	}
	w, err := r.Whole()
	if err != nil {
		return nil, err
	}
	var fields []record.Fact
	fields = append(fields, record.Fact{Value: w.Text}, record.Fact{Name: "Conversation", Value: w.ThreadTitle()})
	for _, p := range w.Parties {
		fields = append(fields, record.Fact{Name: frame.Capital(p.Role), Value: p.Name}, record.Fact{Name: frame.Capital(p.Role), Value: p.Handle}, record.Fact{Name: frame.Capital(p.Role), Value: p.Normal})
	}
	for _, a := range w.Attachments {
		fields = append(fields, record.Fact{Name: "Attachment", Value: a.Name}, record.Fact{Name: "Attachment", Value: a.Path[strings.LastIndexByte(a.Path, '/')+1:]})
	}
	for _, f := range append(fields, w.Facts...) {
		if at := search.Find(f.Value, terms); len(at) > 0 {
			return &match{f.Name, excerpt(f.Value, at)}, nil
		}
	}
	if slices.ContainsFunc(w.Attachments, func(a record.Attachment) bool { return a.Path != "" && a.Path == r.DB }) {
		return &match{Field: "In the text of the file"}, nil
	}
	return nil, nil
}

// excerpt is a text from a little before the first of some places on, in pieces, with these marked.
func excerpt(text string, places [][2]int) (out []frame.Piece) {
	from := places[0][0]
	for n := 0; from > 0 && n < beforeMatch; n++ {
		_, size := utf8.DecodeLastRuneInString(text[:from])
		from -= size
	}
	to := places[0][1]
	for n := 0; to < len(text) && n < behindMatch; n++ {
		_, size := utf8.DecodeRuneInString(text[to:])
		to += size
	}
	piece := func(text, as string) {
		if text != "" {
			out = append(out, frame.Piece{Text: text, As: as})
		}
	}
	if from > 0 {
		piece("…", "")
	}
	for _, p := range places {
		if p[1] <= to {
			piece(text[from:p[0]], "")
			piece(text[p[0]:p[1]], "mark")
			from = p[1]
		}
	}
	piece(text[from:to], "")
	if to < len(text) {
		piece("…", "")
	}
	return out
}
