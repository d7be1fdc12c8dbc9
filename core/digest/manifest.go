package digest

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"io"
	"iter"
	"strings"
)

// Line is one entry of a manifest: a digest and the path it belongs to.
type Line struct {
	Sum  string // lower-case hexadecimal
	Path string
}

// String returns the check line that the coreutils programs md5sum, sha1sum
// and sha256sum read with -c, without a newline. A path with a backslash, a
// line feed or a carriage return is escaped as they do, and the line then
// starts with a backslash.
func (l Line) String() string {
	esc := pathEscaper.Replace(l.Path)
	if esc != l.Path {
		return `\` + l.Sum + "  " + esc
	}
	return l.Sum + "  " + l.Path
}

var pathEscaper = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`)

// maxLine bounds one line of a manifest, whatever the input holds.
const maxLine = 1 << 16

// Lines reads check lines from r. sumLen is the length of a digest in bytes.
// The iteration ends at the first line that is none, with an error that gives
// its number.
func Lines(r io.Reader, sumLen int) iter.Seq2[Line, error] {
	return func(yield func(Line, error) bool) {
		sc := bufio.NewScanner(r)
		sc.Buffer(nil, maxLine)
		n := 0
		for sc.Scan() {
			n++
			l, err := parseLine(sc.Text(), sumLen)
			if err != nil {
				yield(Line{}, fmt.Errorf("manifest line %d: %w", n, err))
				return
			}
			if !yield(l, nil) {
				return
			}
		}
		if err := sc.Err(); err != nil {
			yield(Line{}, fmt.Errorf("manifest line %d: %w", n+1, err))
		}
	}
}

func parseLine(s string, sumLen int) (Line, error) {
	escaped := strings.HasPrefix(s, `\`)
	s = strings.TrimPrefix(s, `\`)
	k := 2 * sumLen
	if len(s) < k+3 || (s[k:k+2] != "  " && s[k:k+2] != " *") {
		return Line{}, fmt.Errorf("not a digest of %d hexadecimal digits, two spaces and a path", k)
	}
	if _, err := hex.DecodeString(s[:k]); err != nil {
		return Line{}, fmt.Errorf("digest: %w", err)
	}
	l := Line{Sum: strings.ToLower(s[:k]), Path: s[k+2:]}
	if escaped {
		var b strings.Builder
		for i := 0; i < len(l.Path); i++ {
			c := l.Path[i]
			if c == '\\' {
				i++
				if i == len(l.Path) {
					return Line{}, fmt.Errorf("path ends in a lone backslash")
				}
				switch l.Path[i] {
				case 'n':
					c = '\n'
				case 'r':
					c = '\r'
				case '\\':
				default:
					return Line{}, fmt.Errorf("path has the unknown escape \\%c", l.Path[i])
				}
			}
			b.WriteByte(c)
		}
		l.Path = b.String()
	}
	return l, nil
}
