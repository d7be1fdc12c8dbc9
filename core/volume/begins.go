package volume

import (
	"path"
	"strings"
)

// starts are how files begin whose names end so: what is common practice, and is checked nowhere else here.
var starts = map[string]struct {
	at   int
	with []string
}{
	".jpg": {0, []string{"\xff\xd8\xff"}}, ".jpeg": {0, []string{"\xff\xd8\xff"}}, ".png": {0, []string{"\x89PNG"}}, ".gif": {0, []string{"GIF8"}}, ".webp": {0, []string{"RIFF"}},
	".wav": {0, []string{"RIFF"}}, ".mp4": {4, []string{"ftyp"}}, ".3gp": {4, []string{"ftyp"}}, ".m4a": {4, []string{"ftyp"}}, ".mov": {4, []string{"ftyp", "moov", "mdat", "wide"}},
	".heic": {4, []string{"ftyp"}}, ".amr": {0, []string{"#!AMR"}}, ".mp3": {0, []string{"ID3", "\xff\xfb", "\xff\xfa", "\xff\xf3", "\xff\xf2"}}, ".ogg": {0, []string{"OggS"}},
	".pdf": {0, []string{"%PDF"}}, ".zip": {0, []string{"PK\x03\x04"}}, ".db": {0, []string{"SQLite"}}, ".sqlite": {0, []string{"SQLite"}}, ".vcf": {0, []string{"BEGIN:VCARD"}},
}

// begins reports whether head begins as a file of a name does, or nothing is known of such a name.
func begins(name string, head []byte) bool {
	s, known := starts[strings.ToLower(path.Ext(name))]
	if !known {
		return true
	}
	for _, w := range s.with {
		if len(head) >= s.at+len(w) && string(head[s.at:s.at+len(w)]) == w {
			return true
		}
	}
	return false
}
