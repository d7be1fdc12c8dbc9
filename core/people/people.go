// Package people brings the handles by which apps know people into their normal
// form, so that one number or address is one however it is written: numbers in
// E.164 with the help of the exhibit's home country, addresses folded.
//
// Gather brings handles together as persons, by contacts and by what somebody decided. The
// package does not know whether a number is in use, or who has it.
package people

import (
	"regexp"
	"strings"
	"unicode"

	"github.com/nyaruka/phonenumbers"
	"golang.org/x/net/idna"
	"golang.org/x/text/unicode/norm"
)

// Normal gives the normal form of a handle: "+" and digits by E.164 for a number
// that can be brought there, digits alone for one that cannot (a short code, or a
// national number whose country is not known), an address in lower case, and
// anything else folded. Format and control characters, which are not seen, are
// dropped. country is the home country of the exhibit, ISO 3166-1 alpha-2, or "".
func Normal(raw, country string) string {
	s := form(raw, country)
	for range 8 { // what is dropped can bring together what folds again
		again := form(s, "")
		if again == s {
			break
		}
		s = again
	}
	return s
}

// form is a step towards the normal form.
func form(raw, country string) string {
	s := unwrap(fold(raw))
	switch {
	case s == "":
		return ""
	case strings.Contains(s, "@"):
		return address(s)
	case strings.ContainsFunc(s, unicode.IsLetter):
		return strings.Join(strings.Fields(s), " ")
	}
	return number(s, country)
}

// Split divides a list of handles with commas or semicolons.
func Split(raw string) (out []string) {
	for _, h := range strings.FieldsFunc(raw, func(r rune) bool { return r == ',' || r == ';' }) {
		if h = strings.TrimSpace(h); h != "" {
			out = append(out, h)
		}
	}
	return out
}

// List gives the normal forms of a list of handles with commas or semicolons.
func List(raw, country string) []string { return NewNormals(country).List(raw) }

// The schemes of handles.
const (
	Telephone = "telephone"
	Mail      = "mail"
	Account   = "account" // an app's own
)

var codes = strings.NewReplacer("*", "", "#", "")

// Scheme is that of a handle in normal form.
func Scheme(normal string) string {
	switch {
	case strings.Contains(normal, "@"):
		return Mail
	case digits(codes.Replace(normal)):
		return Telephone
	}
	return Account
}

// How many digits a number whose country is not known must share with the end of
// another's: to be taken for the same, those of a national number, and to be one that
// may be the same, those of a subscriber's.
const (
	leastSame = 9
	leastMay  = 6
)

// Same reports whether two normal forms are of one handle: they are equal, or a national
// number is the end of the other.
func Same(a, b string) bool { return ends(a, b, leastSame) }

// MayBe reports whether two normal forms may be of one handle. A number whose country is
// not known is taken for every number that ends with its digits, and so is one that
// stands in a text or an address: who is withheld must not become readable by a number's
// missing beginning, or by what is written around it.
func MayBe(a, b string) bool {
	if ends(a, b, leastMay) {
		return true
	}
	for _, n := range within(a) {
		if ends(n, b, leastSame) {
			return true
		}
	}
	for _, n := range within(b) {
		if ends(a, n, leastSame) {
			return true
		}
	}
	return false
}

func ends(a, b string, least int) bool {
	if a == b {
		return a != ""
	}
	x, y := strings.HasPrefix(a, "+"), strings.HasPrefix(b, "+")
	if x == y || !digits(a) || !digits(b) {
		return false
	}
	if x {
		a, b = b, a
	}
	a = strings.TrimLeft(a, "0")
	return len(a) >= least && strings.HasSuffix(b, a)
}

var numberWithin = regexp.MustCompile(`\+?[0-9][0-9 ()./-]*[0-9]`)

// within gives the numbers that stand in a handle that is more than a number.
func within(s string) (out []string) {
	if digits(s) {
		return nil
	}
	for _, n := range numberWithin.FindAllString(s, -1) {
		out = append(out, number(n, ""))
	}
	return out
}

// CountryOf is the country of a number in E.164, ISO 3166-1 alpha-2, "" if it has
// none of its own.
func CountryOf(number string) string {
	n, err := phonenumbers.Parse(number, "ZZ")
	if err != nil {
		return ""
	}
	c := phonenumbers.GetRegionCodeForNumber(n)
	if c == "" { // a number that is not in use, as those for fiction: by its country code
		c = phonenumbers.GetRegionCodeForCountryCode(int(n.GetCountryCode()))
	}
	if len(c) != 2 || c == "ZZ" {
		return ""
	}
	return c
}

// IsCountry reports whether numbers of a country can be brought into normal form.
func IsCountry(code string) bool { return phonenumbers.GetCountryCodeForRegion(code) != 0 }

// fold drops what is not seen and brings compatible characters (UAX 15, NFKC) and
// cases together.
func fold(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case unicode.In(r, unicode.Cf, unicode.Cc, unicode.Variation_Selector, unicode.Co) || r == unicode.ReplacementChar:
			return -1
		case unicode.In(r, unicode.Zs):
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, ""))
	return strings.TrimSpace(strings.ToLower(norm.NFKC.String(s)))
}

// unwrap takes a handle out of a name with angle brackets (RFC 5322) or a URI (RFC
// 3966, RFC 6068, RFC 3261).
func unwrap(s string) string {
	if i, j := strings.LastIndexByte(s, '<'), strings.LastIndexByte(s, '>'); i >= 0 && j > i {
		s = s[i+1 : j]
	}
	for _, scheme := range []string{"tel:", "sms:", "callto:", "mailto:", "sip:", "sips:", "xmpp:", "im:"} {
		if rest, ok := strings.CutPrefix(s, scheme); ok {
			s, _, _ = strings.Cut(rest, ";")
			s, _, _ = strings.Cut(s, "?")
			break
		}
	}
	return strings.TrimSpace(s)
}

func address(s string) string {
	s = strings.Join(strings.Fields(s), "")
	user, host, _ := strings.Cut(s, "@")
	host = strings.TrimSuffix(host, ".")
	if u, err := idna.Lookup.ToUnicode(host); err == nil {
		host = u
	}
	return user + "@" + host
}

// number brings a number into E.164.
func number(s, country string) string {
	plus := strings.HasPrefix(strings.TrimLeft(s, " ("), "+")
	d := strings.Map(func(r rune) rune {
		switch v := digit(r); {
		case v >= 0:
			return '0' + rune(v)
		case r == '*' || r == '#':
			return r
		}
		return -1
	}, s)
	switch {
	case d == "":
		return strings.Join(strings.Fields(s), "")
	case plus:
		return "+" + trunk(d)
	}
	if country != "" && len(d) > leastMay { // shorter ones are short codes
		n, err := phonenumbers.Parse(d, country)
		if err == nil && phonenumbers.IsPossibleNumber(n) && (phonenumbers.IsValidNumber(n) || !strings.HasPrefix(d, "00")) {
			return phonenumbers.Format(n, phonenumbers.E164)
		}
	}
	// ITU-T E.123 and E.164 recommend 00 as the international prefix.
	if rest, ok := strings.CutPrefix(d, "00"); ok && len(rest) > leastMay {
		return "+" + trunk(rest)
	}
	return d
}

// trunk drops the trunk prefix of a number that is written with it behind its
// country code, as +44 (0) 7700 900100.
func trunk(d string) string {
	n, err := phonenumbers.Parse("+"+d, "ZZ")
	if err != nil {
		return d
	}
	return strings.TrimPrefix(phonenumbers.Format(n, phonenumbers.E164), "+")
}

// digit is the value of a decimal digit of any script, -1 if r is none: Unicode keeps
// the ten of a script side by side and in order (The Unicode Standard, 4.6).
func digit(r rune) int {
	switch {
	case r >= '0' && r <= '9':
		return int(r - '0')
	case !unicode.Is(unicode.Nd, r):
		return -1
	}
	n := 0
	for n < 9 && unicode.Is(unicode.Nd, r-rune(n)-1) {
		n++
	}
	return n
}

func digits(s string) bool {
	return s != "" && strings.Trim(strings.TrimPrefix(s, "+"), "0123456789") == ""
}

// Normals gives normal forms, and remembers them: a source names the same people again and
// again, and a number takes long to bring into form. It is for one goroutine.
type Normals struct {
	country string
	of      map[string]string
}

// maxRemembered bounds the forms that are remembered.
const maxRemembered = 10_000

// NewNormals makes one for handles of an exhibit whose home country is country, as for Normal.
func NewNormals(country string) *Normals { return &Normals{country, map[string]string{}} }

// Normal is Normal of a handle.
func (n *Normals) Normal(raw string) string {
	const long = 256 // bytes of what is not worth it
	if len(raw) > long {
		return Normal(raw, n.country)
	}
	s, known := n.of[raw]
	if !known {
		if len(n.of) >= maxRemembered {
			clear(n.of)
		}
		s = Normal(raw, n.country)
		n.of[strings.Clone(raw)] = s
	}
	return s
}

// List is List of handles with commas or semicolons.
func (n *Normals) List(raw string) (out []string) {
	for _, h := range Split(raw) {
		if s := n.Normal(h); s != "" {
			out = append(out, s)
		}
	}
	return out
}
