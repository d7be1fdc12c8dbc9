package stamp

import (
	"errors"
	"testing"
)

// Lengths that are not what is there, which the reader of the structure would run out of, are no format.
func TestLengths(t *testing.T) {
	for _, b := range []string{"", "0", "0\x84\xff\xff\xff\xff", "\x3f\x81", "0\x80", "0\x82\x01\x00", "0\x03\x02\x05\x00", "0\x81\x01\x00", "0\x02\x3f\xff"} {
		if _, err := Parse([]byte(b)); !errors.Is(err, ErrFormat) {
			t.Errorf("%q: %v", b, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("0\x03\x02\x01\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, err := Parse(b); err == nil && (s.Certificate == nil || len(s.Digest) == 0) {
			t.Error("a stamp of nothing, by nobody")
		}
	})
}
