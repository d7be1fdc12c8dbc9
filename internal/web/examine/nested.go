package examine

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/url"
	"regexp"
	"strings"
)

// nestedForm is a text as a plain format that it is in lays it out.
type nestedForm struct {
	Form string // JSON, XML, Base64 or form fields
	Text string
}

const (
	mostNested = 4       // formats within one another that are opened
	nestedText = 400_000 // bytes of a text that are looked at
)

var (
	base64Text = regexp.MustCompile(`^[A-Za-z0-9+/_-]{16,}={0,2}$`)
	formFields = regexp.MustCompile(`^[\w.%+~-]+=[^&\s]*(&[\w.%+~-]+=[^&\s]*)+$`)
)

// nested opens the formats that a text is in, one within another: JSON (RFC 8259), XML 1.0, Base64 of a text (RFC 4648), and
// the fields of a form (the URL Standard, application/x-www-form-urlencoded).
func nested(s string) (out []nestedForm) {
	for s = strings.TrimSpace(s); len(out) < mostNested && len(s) > 1 && len(s) <= nestedText; {
		form, text, inner := opened(s)
		if form == "" {
			break
		}
		if len(text) > openBytes {
			text = strings.ToValidUTF8(text[:openBytes], "")
		}
		out, s = append(out, nestedForm{form, text}), strings.TrimSpace(inner)
	}
	return out
}

// opened lays a text out by the format that it is in, and gives the text within that is to be opened further.
func opened(s string) (form, text, inner string) {
	switch {
	case s[0] == '{' || s[0] == '[':
		var b bytes.Buffer
		if json.Indent(&b, []byte(s), "", "  ") == nil {
			return "JSON", b.String(), ""
		}
	case s[0] == '"':
		var in string
		if json.Unmarshal([]byte(s), &in) == nil && in != "" {
			return "JSON text", in, in
		}
	case s[0] == '<':
		if b, err := indented(s); err == nil {
			return "XML", b, ""
		}
	case base64Text.MatchString(s):
		for _, e := range []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding, base64.RawURLEncoding} {
			if b, err := e.Strict().DecodeString(s); err == nil && len(b) > 0 && plain(b, false) {
				return "Base64", string(b), string(b)
			}
		}
	case formFields.MatchString(s):
		var b strings.Builder
		for pair := range strings.SplitSeq(s, "&") {
			name, value, _ := strings.Cut(pair, "=")
			n, err1 := url.QueryUnescape(name)
			v, err2 := url.QueryUnescape(value)
			if errors.Join(err1, err2) != nil {
				return "", "", ""
			}
			fmt.Fprintf(&b, "%s = %s\n", n, v)
		}
		return "form fields", b.String(), ""
	}
	return "", "", ""
}

// indented lays out XML, which names no entities of its own and holds at least one element.
func indented(s string) (string, error) {
	var b bytes.Buffer
	d, e := xml.NewDecoder(strings.NewReader(s)), xml.NewEncoder(&b)
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // the text is decoded already
	e.Indent("", "  ")
	elements := 0
	for {
		t, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return "", err
		}
		switch x := t.(type) {
		case xml.StartElement:
			elements++
			for i, a := range x.Attr {
				x.Attr[i].Name = joined(a.Name)
			}
			x.Name = joined(x.Name)
			t = x
		case xml.EndElement:
			x.Name = joined(x.Name)
			t = x
		case xml.CharData:
			if len(bytes.TrimSpace(x)) == 0 {
				continue
			}
		}
		if err := e.EncodeToken(t); err != nil {
			return "", err
		}
		if b.Len() > 4*nestedText {
			return "", errors.New("too large")
		}
	}
	if err := e.Close(); err != nil {
		return "", err
	}
	if elements == 0 {
		return "", errors.New("no element")
	}
	return b.String(), nil
}

// joined is a name with its prefix as it was written, which the encoder would declare again.
func joined(n xml.Name) xml.Name {
	if n.Space != "" {
		n.Local = n.Space + ":" + n.Local
	}
	return xml.Name{Local: n.Local}
}
