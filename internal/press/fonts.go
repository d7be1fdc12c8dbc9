package press

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/rivo/uniseg"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/sys/unix"
	"golang.org/x/text/unicode/bidi"
)

// face is a font by what it can show.
type face struct {
	family string
	font   *sfnt.Font
	known  map[rune]bool
}

// faces are the fonts of a machine, in the order that they are asked in. They hold what was asked of them, for one user at a
// time.
type faces struct {
	mu  sync.Mutex
	all []*face
}

// The folders of Debian's packages of the Noto fonts.
var fontFolders = []string{"/usr/share/fonts/truetype/noto", "/usr/share/fonts/opentype/noto"}

// readFaces reads the upright sans serif fonts of folders: that of Latin first, symbols last. Scripts share marks: the Mongolian font
// has a comma of Chinese and Japanese text, written downwards, and that of Adlam a question mark of Arabic. So the fonts of those
// whose blocks these are in the Unicode Standard go before all others.
func readFaces(folders []string) (*faces, error) {
	rank := func(path string) int {
		switch name := filepath.Base(path); {
		case strings.HasPrefix(name, "NotoSans-"):
			return 0
		case strings.Contains(name, "Emoji"):
			return 3
		case strings.Contains(name, "Symbols") || strings.Contains(name, "Math"):
			return 4
		case strings.HasSuffix(name, ".ttc"), slices.Contains([]string{"NotoSansArabic-Regular.ttf", "NotoSansHebrew-Regular.ttf", "NotoSansDevanagari-Regular.ttf"}, name):
			return 1
		}
		return 2
	}
	var paths []string
	for _, dir := range folders {
		for _, pattern := range []string{"NotoSans*-Regular.tt?", "NotoColorEmoji.ttf"} {
			found, err := filepath.Glob(filepath.Join(dir, pattern))
			if err != nil {
				return nil, err
			}
			paths = append(paths, found...)
		}
	}
	slices.SortStableFunc(paths, func(a, b string) int { return rank(a) - rank(b) })
	if len(paths) == 0 || rank(paths[0]) > 0 {
		return nil, fmt.Errorf("the font Noto Sans is not in %s", strings.Join(folders, " or "))
	}
	fs := &faces{}
	for _, p := range paths {
		if strings.HasPrefix(filepath.Base(p), "NotoSansMono") {
			continue // the writer's own, for figures
		}
		f, err := readFace(p)
		if err != nil {
			return nil, fmt.Errorf("the font %s: %w", p, err)
		}
		fs.all = append(fs.all, f)
	}
	return fs, nil
}

func readFace(path string) (*face, error) {
	in, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil {
		return nil, err
	}
	b, err := unix.Mmap(int(in.Fd()), 0, int(st.Size()), unix.PROT_READ, unix.MAP_PRIVATE) // for as long as the application runs
	if err != nil {
		return nil, err
	}
	c, err := sfnt.ParseCollection(b)
	if err != nil {
		return nil, err
	}
	f, err := c.Font(0)
	if err != nil {
		return nil, err
	}
	name, err := f.Name(nil, sfnt.NameIDFamily)
	return &face{name, f, map[rune]bool{}}, err
}

func (f *face) shows(r rune) bool {
	if ignorable(r) {
		return true
	}
	has, there := f.known[r]
	if !there {
		i, err := f.font.GlyphIndex(nil, r)
		has = err == nil && i != 0
		f.known[r] = has
	}
	return has
}

// ignorable is what joins or chooses forms, and has none of its own.
func ignorable(r rune) bool {
	return r == '\u200c' || r == '\u200d' || r >= '\ufe00' && r <= '\ufe0f' || r >= 0xe0020 && r <= 0xe007f
}

// Bounds of what is set of one text.
const (
	mostSaid    = 12_000 // characters
	mostLines   = 300
	mostMarks   = 24 // runes of one character
	longestWord = 36 // characters after which a word may break
)

// safe gives words that the fonts can show, and notes which are needed. What has no form, what would turn the direction of
// what follows, and what no font shows is written as its number.
func (fs *faces) safe(words string, used map[string]bool) string {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	var out strings.Builder
	run := 0 // characters since words could break
	rest, state := words, -1
	for len(rest) > 0 {
		var c string
		c, rest, _, state = uniseg.FirstGraphemeClusterInString(rest, state)
		switch {
		case c == "\n" || c == "\r\n" || c == " ":
			out.WriteString(c[len(c)-1:])
			run = 0
			continue
		case c == "\t":
			out.WriteString("    ")
			run = 0
			continue
		}
		if f := fs.of(c); f != nil {
			used[f.family] = true
			out.WriteString(c)
			run++
		} else {
			n := 0
			for i, r := range c {
				if n++; n > mostMarks {
					fmt.Fprintf(&out, "[%d more]", utf8.RuneCountInString(c[i:]))
					break
				}
				if r == utf8.RuneError && !strings.HasPrefix(c[i:], string(utf8.RuneError)) {
					fmt.Fprintf(&out, "[byte %02X]", c[i])
				} else {
					fmt.Fprintf(&out, "[U+%04X]", r)
				}
				run += 8
			}
		}
		if run >= longestWord {
			out.WriteString("\u200b") // where it may break
			run = 0
		}
	}
	return out.String()
}

// of gives the first font that shows all of a character, nil if none does.
func (fs *faces) of(c string) *face {
	n, plain := 0, false
	for _, r := range c {
		if n++; n > mostMarks || r == utf8.RuneError || unicode.In(r, unicode.Cc, unicode.Co, unicode.Cs, unicode.Zl, unicode.Zp, unicode.Bidi_Control, unicode.Noncharacter_Code_Point) {
			return nil
		}
		plain = plain || !ignorable(r)
	}
	if !plain {
		return nil
	}
	for _, f := range fs.all {
		all := true
		for _, r := range c {
			if all = f.shows(r); !all {
				break
			}
		}
		if all {
			return f
		}
	}
	return nil
}

// rightToLeft says whether a text runs from right to left: its first letter does.
func rightToLeft(s string) bool {
	for _, r := range s {
		switch p, _ := bidi.LookupRune(r); p.Class() {
		case bidi.L:
			return false
		case bidi.R, bidi.AL:
			return true
		}
	}
	return false
}
