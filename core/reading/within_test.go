package reading

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"errors"
	"io"
	"strings"
	"testing"

	"crosswind/core/fieldmap"
)

// What lies in an archive, or in a sealed backup, is found where it is a database; what is hostile is told of.
func TestWithin(t *testing.T) {
	m, err := fieldmap.Parse("x.toml", []byte("name = \"x\"\nversion = 1\npath = \"/x.db\"\n[[reading]]\ntable = \"a\"\nkind = \"call\"\nfacts = [{ name = \"Outcome\", column = \"b\" }]\n[[backup]]\npath = \"/b/*.sealed\"\nkey = \"/key\"\nnonce = 4\ndata = 16\n"))
	if err != nil {
		t.Fatal(err)
	}
	db := append([]byte("SQLite format 3\x00"), make([]byte, 1000)...)
	plain := zipped(t, "x.db", string(db), "x.db-wal", "log", "readme.txt", "no database")
	key := bytes.Repeat([]byte{7}, 32)
	seal := func(b []byte) []byte {
		block, err := aes.NewCipher(key)
		if err != nil {
			t.Fatal(err)
		}
		gcm, err := cipher.NewGCM(block)
		if err != nil {
			t.Fatal(err)
		}
		return gcm.Seal(append([]byte("HEAD"), make([]byte, 12)...), make([]byte, 12), b, nil)
	}
	changed := seal(plain)
	changed[40] ^= 1
	inside := zipped(t, "deeper.zip", string(plain))
	for name, c := range map[string]struct {
		path  string
		b     []byte
		key   bool
		found string
		said  string
	}{
		"an archive":            {"/a.zip", plain, false, "x.db x.db-wal", ""},
		"an archive in another": {"/a.zip", inside, false, "", ""}, // stays a file
		"no archive":            {"/a.txt", []byte("text"), false, "", ""},
		"a sealed archive":      {"/b/1.sealed", seal(plain), true, "x.db x.db-wal", ""},
		"a sealed database":     {"/b/1.sealed", seal(db), true, "x.db", ""},
		"without its key":       {"/b/1.sealed", seal(plain), false, "", "which is not in the source"},
		"changed":               {"/b/1.sealed", changed, true, "", "does not open with the key"},
		"short":                 {"/b/1.sealed", []byte("HEAD"), true, "", "begins at 16"},
		"sealed text":           {"/b/1.sealed", seal([]byte("text")), true, "", "neither a database nor an archive"},
		"that leads out":        {"/a.zip", zipped(t, "../x.db", string(db)), false, "", "leads out"},
		"a bomb":                {"/a.zip", zipped(t, "x.db", "SQLite format 3\x00"+strings.Repeat("\x00", 200<<20)), false, "", "limits"},
		"cut":                   {"/a.zip", plain[:len(plain)/2], false, "", "not read"},
	} {
		file := func(path string, b []byte) *File {
			return &File{Path: path, Stored: "s" + path, Size: int64(len(b)), Open: func() (Bytes, error) { return memory{b}, nil }}
		}
		find := func(path string) *File {
			if c.key && path == "/key" {
				return file(path, []byte(strings.Repeat("07", 32)+"\n"))
			}
			return nil
		}
		var found []string
		err := Within(file(c.path, c.b), c.b[:min(len(c.b), HeadLength)], find, []*fieldmap.Map{m}, func(path string, r io.Reader) error {
			found = append(found, path)
			_, err := io.Copy(io.Discard, r)
			if err != nil {
				return &ContentError{err}
			}
			return nil
		})
		why := (*ContentError)(nil)
		if c.said == "" && (err != nil || strings.Join(found, " ") != c.found) || c.said != "" && (!errors.As(err, &why) || !strings.Contains(err.Error(), c.said)) {
			t.Errorf("%s: %v, %v", name, found, err)
		}
	}
}
