package export

import (
	"encoding/json"
	"fmt"
	"iter"
	"reflect"
	"slices"

	"crosswind/core/report"
)

// digests are the fields of records that hold a digest in hexadecimal digits: what is like words in them is not.
var digests = []string{"UID", "SHA256", "Digest", "MapSHA256", "Card"}

// Redacted gives lines without what x takes out of their texts, and without the records that it takes out as a whole. Of a
// record of which something is taken out, be it a region of its picture, go also the digests and lengths of its bytes and its files,
// and its ID, which is made of such: they would show what a guess has right. took is told of each record how much of it is not as
// it was, -1 of one that is taken out.
func Redacted(lines iter.Seq2[*Line, error], x *report.Redactor, took func(texts int)) iter.Seq2[*Line, error] {
	return func(yield func(*Line, error) bool) {
		n, r := 0, redactor{x, map[string]bool{}}
		for l, err := range lines {
			if err == nil {
				n++
				if x.Record(report.Cite{Exhibit: l.Exhibit, Acquisition: l.Acquisition, UID: l.UID}.Key()) > 0 {
					took(-1)
					continue
				}
				var texts int
				if l, texts, err = r.line(l, n); texts > 0 {
					took(texts)
				}
			}
			if !yield(l, err) || err != nil {
				return
			}
		}
	}
}

// redactor knows short texts of which nothing is taken out, since paths and names come with every record.
type redactor struct {
	*report.Redactor
	plain map[string]bool
}

// What bounds the texts that are known.
const (
	mostPlain  = 100_000
	plainBytes = 128 // of each
)

// String gives a text without what is taken out of it.
func (r redactor) String(s string) string {
	if s == "" || r.plain[s] {
		return s
	}
	out := r.Redactor.String(s)
	if out == s && len(s) <= plainBytes && len(r.plain) < mostPlain {
		r.plain[s] = true
	}
	return out
}

// line gives the nth line without what is taken out, and how many of its texts are not as they were.
func (r redactor) line(l *Line, n int) (*Line, int, error) {
	out := &Line{}
	b, err := json.Marshal(l) // as packages have it: a copy of all of it
	if err == nil {
		err = json.Unmarshal(b, out)
	}
	if err != nil {
		return nil, 0, fmt.Errorf("export: redacting record %s: %w", l.UID, err)
	}
	texts := 0
	for i := range out.Parties { // whoever is taken out goes by no other name
		p := &out.Parties[i]
		for _, handle := range []string{p.Normal, p.Handle} {
			if s := r.String(handle); s != handle && p.Name != "" {
				p.Name = s
				texts++
				break
			}
		}
	}
	if p := out.Place; p != nil {
		if at := (report.Place{Latitude: p.Latitude, Longitude: p.Longitude}).Coordinates(); r.String(at) != at || r.String(p.Stored) != p.Stored {
			out.Place = nil
			texts++
		}
	}
	texts += r.walk(reflect.ValueOf(out).Elem())
	for _, a := range out.Attachments {
		if r.Hides(a.SHA256) > 0 {
			texts++
		}
	}
	for _, o := range out.Origins { // a record may be of a picture, and not have it
		if r.Hides(o.SHA256) > 0 {
			texts++
		}
	}
	if texts == 0 {
		return out, 0, nil
	}
	out.UID = fmt.Sprintf("redacted-%d", n)
	for i := range out.Attachments {
		a := &out.Attachments[i]
		a.SHA256, a.Size, a.Parts = "", nil, nil
	}
	for i := range out.Origins {
		o := &out.Origins[i]
		o.SHA256, o.Digest, o.Length, o.Fields = "", "", 0, nil
	}
	return out, texts, nil
}

// walk takes out of all texts below v, and says of how many.
func (r redactor) walk(v reflect.Value) (texts int) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			texts = r.walk(v.Elem())
		}
	case reflect.Slice:
		for i := range v.Len() {
			texts += r.walk(v.Index(i))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && !slices.Contains(digests, f.Name) {
				texts += r.walk(v.Field(i))
			}
		}
	case reflect.String:
		if v.Type() != reflect.TypeFor[string]() { // one of the words that kinds and states are named by
			break
		}
		if s := r.String(v.String()); s != v.String() {
			v.SetString(s)
			texts = 1
		}
	}
	return texts
}
