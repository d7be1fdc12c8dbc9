package fieldmap

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Write gives a map's file, in the form that [Parse] reads. It is for maps of what can be made by pointing at columns:
// backups are not written, nor conditions, further times and parties.
func Write(m *Map) string {
	var b strings.Builder
	fmt.Fprintf(&b, "name = %s\nversion = %d\npath = %s\n\n[tables]\n", quote(m.Name), m.Version, quote(m.Path))
	for _, t := range slices.Sorted(maps.Keys(m.Tables)) {
		var columns []string
		for _, c := range m.Tables[t] {
			columns = append(columns, quote(c))
		}
		fmt.Fprintf(&b, "%s = [%s]\n", quote(t), strings.Join(columns, ", "))
	}
	for _, l := range m.Lookups {
		fmt.Fprintf(&b, "\n[[lookup]]\nname = %s\ntable = %s\nkey = %s\nvalue = %s\n", quote(l.Name), quote(l.Table), quote(l.Key), quote(l.Value))
	}
	for i := range m.Readings {
		rd := &m.Readings[i]
		fmt.Fprintf(&b, "\n[[reading]]\ntable = %s\nkind = %s\n", quote(rd.Table), quote(string(rd.Kind)))
		for _, p := range []struct {
			name string
			part *Part
		}{{"time", rd.Time}, {"conversation", rd.Conversation}, {"handle", rd.Handle}, {"direction", rd.Direction}, {"text", rd.Text}} {
			if p.part != nil {
				fmt.Fprintf(&b, "%s = { %s }\n", p.name, p.part.written())
			}
		}
		if p := rd.Place; p != nil {
			fmt.Fprintf(&b, "place = { latitude = { %s }, longitude = { %s } }\n", p.Latitude.written(), p.Longitude.written())
		}
		for _, a := range rd.Attachments {
			b.WriteString("\n[[reading.attachments]]\n")
			if a.Table != "" {
				fmt.Fprintf(&b, "table = %s\nkey = %s\nof = %s\n", quote(a.Table), quote(a.Key), quote(a.Of))
			}
			for i, p := range a.parts() {
				if p != nil {
					fmt.Fprintf(&b, "%s = { %s }\n", [...]string{"name", "type", "size", "path", "data"}[i], p.written())
				}
			}
		}
		for _, f := range rd.Facts {
			fmt.Fprintf(&b, "\n[[reading.facts]]\nname = %s\n%s\n", quote(f.Name), strings.Join(f.lines(), "\n"))
		}
	}
	return b.String()
}

// Writes reports whether [Write] keeps all that m says, but for comments.
func Writes(m *Map) bool {
	again, err := Parse(m.file, []byte(Write(m)))
	if err != nil {
		return false
	}
	a, b := *m, *again
	a.source, a.SHA256, b.source, b.SHA256 = "", "", "", ""
	return reflect.DeepEqual(a, b)
}

// written is a part as it stands in one line of a map's file.
func (p *Part) written() string { return strings.Join(p.lines(), ", ") }

func (p *Part) lines() []string {
	out := []string{"column = " + quote(p.Column)}
	for name, s := range map[string]string{"json": p.JSON, "epoch": p.Epoch, "unit": p.Unit, "lookup": p.Lookup, "prefix": p.Prefix} {
		if s != "" {
			out = append(out, name+" = "+quote(s))
		}
	}
	slices.Sort(out[1:])
	if len(p.Words) > 0 {
		var words []string
		for _, k := range slices.SortedFunc(maps.Keys(p.Words), cmp.Compare[string]) {
			words = append(words, quote(k)+" = "+quote(p.Words[k]))
		}
		out = append(out, "words = { "+strings.Join(words, ", ")+" }")
	}
	return out
}

// quote writes a string of TOML 1.0, in which control characters are escaped.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < 0x20 || r == 0x7f:
			b.WriteString(`\u00`)
			if r < 0x10 {
				b.WriteByte('0')
			}
			b.WriteString(strconv.FormatInt(int64(r), 16))
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
