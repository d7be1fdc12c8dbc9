package reading

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime/quotedprintable"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
)

// maxText bounds a file of content lines, which is read whole.
const maxText = 32 << 20

// maxDepth bounds components within components, and maxLines the lines of all of a file's.
const (
	maxDepth = 8
	maxLines = 500_000
)

// property is a content line: RFC 5545 section 3.1, RFC 6350 section 3.2 and, with quoted
// printable values, vCard 2.1 section 2.1.
type property struct {
	name           string              // upper case, without a group
	params         map[string][]string // names in upper case
	value          string              // unfolded and decoded, escaped as it is written
	offset, length int                 // of the line with what it goes on in
}

// param is the first value of a parameter, "" if it is not there.
func (p *property) param(name string) string {
	if v := p.params[name]; len(v) > 0 {
		return v[0]
	}
	return ""
}

// component is what stands between a BEGIN and its END.
type component struct {
	name           string
	props          []property
	parts          []*component
	offset, length int
}

// get is the first property of a name, nil if there is none.
func (c *component) get(name string) *property {
	for i := range c.props {
		if c.props[i].name == name {
			return &c.props[i]
		}
	}
	return nil
}

// text is the first value of a property, unescaped.
func (c *component) text(name string) string {
	if p := c.get(name); p != nil {
		return unescape(p.value)
	}
	return ""
}

// components reads the components of a text, one after another. An error is of the text; what
// was read before it stands.
func components(b []byte) (out []*component, err error) {
	at := 0
	if bytes.HasPrefix(b, []byte("\ufeff")) {
		at = 3
	}
	var open []*component
	for lines := 0; at < len(b); lines++ {
		if lines == maxLines {
			return out, fmt.Errorf("it has more than %d lines; what follows offset %d is not read", maxLines, at)
		}
		p, next := contentLine(b, at, len(open) > 0 && open[0].name == "VCARD" && open[0].text("VERSION") == "2.1")
		at = next
		switch {
		case p.name == "BEGIN":
			c := &component{name: strings.ToUpper(strings.TrimSpace(p.value)), offset: p.offset}
			if len(open) >= maxDepth {
				return out, fmt.Errorf("at offset %d components lie more than %d deep", p.offset, maxDepth)
			}
			if n := len(open); n > 0 {
				open[n-1].parts = append(open[n-1].parts, c)
			}
			open = append(open, c)
		case p.name == "END" && len(open) > 0:
			c := open[len(open)-1]
			if !strings.EqualFold(strings.TrimSpace(p.value), c.name) {
				return out, fmt.Errorf("at offset %d %q ends where %s is open", p.offset, p.value, c.name)
			}
			c.length = p.offset + p.length - c.offset
			if open = open[:len(open)-1]; len(open) == 0 {
				out = append(out, c)
			}
		case p.name != "" && len(open) > 0:
			c := open[len(open)-1]
			c.props = append(c.props, p)
		}
	}
	if len(open) > 0 {
		return out, errors.New("it ends within " + open[0].name)
	}
	return out, nil
}

// line is the next line of b from at on, without its end, and where the one after begins.
func line(b []byte, at int) (string, int) {
	end, next := len(b), len(b)
	if i := bytes.IndexByte(b[at:], '\n'); i >= 0 {
		end, next = at+i, at+i+1
	}
	if end > at && b[end-1] == '\r' {
		end--
	}
	return string(b[at:end]), next
}

// contentLine reads the content line at at, with those that it goes on in, and says where the
// next begins. What is none has no name.
func contentLine(b []byte, at int, old bool) (property, int) {
	s, next := line(b, at)
	p := property{offset: at}
	head, _, _ := strings.Cut(s, ":")
	quoted := strings.Contains(strings.ToUpper(head), "QUOTED-PRINTABLE")
	var whole strings.Builder
	whole.WriteString(s)
	for next < len(b) {
		folded := b[next] == ' ' || b[next] == '\t'
		if quoted && strings.HasSuffix(s, "=") { // a soft line break
			whole.WriteString("\n")
		} else if !folded {
			break
		}
		var more string
		more, next = line(b, next)
		if folded && !quoted && !old { // in vCard 2.1 the space is part of the value
			more = more[1:]
		}
		s = more
		whole.WriteString(more)
	}
	end := next
	for end > at && (b[end-1] == '\n' || b[end-1] == '\r') {
		end--
	}
	p.length = end - at
	p.parse(whole.String())
	return p, next
}

// parse divides a content line.
func (p *property) parse(s string) {
	i := strings.IndexAny(s, ";:")
	if i <= 0 {
		return
	}
	name := s[:i]
	if g := strings.LastIndexByte(name, '.'); g >= 0 {
		name = name[g+1:]
	}
	for s[i] == ';' {
		s = s[i+1:]
		if i = paramEnd(s); i < 0 {
			return
		}
		key, value, is := strings.Cut(s[:i], "=")
		key = strings.ToUpper(key)
		if !is { // of vCard 2.1
			value = key
			switch key {
			case "QUOTED-PRINTABLE", "BASE64", "8BIT", "7BIT":
				key = "ENCODING"
			default:
				key = "TYPE"
			}
		}
		if p.params == nil {
			p.params = map[string][]string{}
		}
		p.params[key] = append(p.params[key], splitQuoted(value)...)
	}
	p.name, p.value = strings.ToUpper(name), s[i+1:]
	p.decode()
}

// paramEnd is where a parameter ends: at a semicolon or colon that is not quoted.
func paramEnd(s string) int {
	in := false
	for i := range len(s) {
		switch {
		case s[i] == '"':
			in = !in
		case !in && (s[i] == ';' || s[i] == ':'):
			return i
		}
	}
	return -1
}

// splitQuoted divides a parameter's values at commas that are not quoted, and writes what
// RFC 6868 escapes.
func splitQuoted(s string) (out []string) {
	in, from := false, 0
	for i := 0; i <= len(s); i++ {
		if i < len(s) && s[i] == '"' {
			in = !in
		}
		if i == len(s) || s[i] == ',' && !in {
			v := strings.Trim(s[from:i], `"`)
			out, from = append(out, strings.NewReplacer("^n", "\n", "^'", `"`, "^^", "^").Replace(v)), i+1
		}
	}
	return out
}

// decode decodes a value that is quoted printable or of another character set.
func (p *property) decode() {
	switch strings.ToUpper(p.param("ENCODING")) {
	case "QUOTED-PRINTABLE":
		if b, err := io.ReadAll(quotedprintable.NewReader(strings.NewReader(p.value))); err == nil {
			p.value = string(b)
		}
	case "B", "BASE64":
		p.value = strings.NewReplacer(" ", "", "\t", "").Replace(p.value)
	}
	if set := p.param("CHARSET"); set != "" && !strings.EqualFold(set, "UTF-8") {
		if enc, err := htmlindex.Get(set); err == nil {
			if s, err := enc.NewDecoder().String(p.value); err == nil && utf8.ValidString(s) {
				p.value = s
			}
		}
	}
}

// binary is how many bytes a value has that is written in Base64, -1 if it is not.
func (p *property) binary() int {
	value := p.value
	if _, data, is := strings.Cut(value, ";base64,"); is && strings.HasPrefix(value, "data:") {
		value = data
	} else if e := strings.ToUpper(p.param("ENCODING")); e != "B" && e != "BASE64" {
		return -1
	}
	return max(0, base64.StdEncoding.DecodedLen(len(value))-strings.Count(value, "="))
}

// unescape writes what a text value escapes: RFC 5545 section 3.3.11, RFC 6350 section 3.4.
func unescape(s string) string {
	if strings.IndexByte(s, '\\') < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		switch i++; s[i] {
		case 'n', 'N':
			b.WriteByte('\n')
		case '\\', ';', ',', ':':
			b.WriteByte(s[i])
		default: // no escape: vCard 2.1 has few
			b.WriteByte('\\')
			b.WriteByte(s[i])
		}
	}
	return b.String()
}

// structured divides a value at semicolons that are not escaped, and unescapes its parts.
func structured(s string) (out []string) {
	from := 0
	for i := 0; ; i++ {
		switch {
		case i >= len(s):
			return append(out, strings.TrimSpace(unescape(s[from:])))
		case s[i] == '\\':
			i++
		case s[i] == ';':
			out, from = append(out, strings.TrimSpace(unescape(s[from:i]))), i+1
		}
	}
}
