package export

import (
	"archive/zip"
	"bytes"
	"io"
	"iter"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crosswind/core/record"
)

// A set has each kind in a folder of its own, in the forms that others read, and files as they were; sha256sum and unzip accept
// it. Names from evidence lead nowhere, and no two are one where capitals are not told apart.
func TestSet(t *testing.T) {
	with := func(yield func(*Line, error) bool) {
		for l, err := range lines() {
			if l.Kind == record.Photograph {
				for i, name := range []string{"../../etc/passwd", "a/../Six.jpg", "six.JPG", "con: <x>|?.png", "gone.png", "six.jpg"} {
					l.Attachments = append(l.Attachments, record.Attachment{Name: name, SHA256: strings.Repeat(string(rune('a'+i%5)), 64)})
				}
			}
			if !yield(l, err) {
				return
			}
		}
	}
	h := head
	h.Open = func(l *Line, n int) (io.ReadCloser, error) {
		if n == 4 {
			return nil, ErrWithheld
		}
		return io.NopCloser(strings.NewReader("bytes of " + l.Attachments[n].SHA256)), nil
	}
	f, err := FormatOf("set")
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if n, left, err := f.Write(&b, h, iter.Seq2[*Line, error](with)); err != nil || n != 7 || left != 0 {
		t.Fatal(n, left, err)
	}
	z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, e := range z.File {
		if seen[strings.ToLower(e.Name)] || strings.Contains(e.Name, "..") || strings.ContainsAny(e.Name, `:<>|?*\`) {
			t.Errorf("the name %q", e.Name)
		}
		seen[strings.ToLower(e.Name)] = true
	}
	for _, want := range []string{"messages/messages.csv", "contacts/contacts.vcf", "calendar events/calendar events.ics", "fixes/fixes.gpx", "photographs/photographs.gpx", "photographs/files/six.jpg", "photographs/files/2 six.jpg", "conversations/0001 cmd.txt", "readme.txt", "manifest-sha256.txt"} {
		if !seen[want] {
			t.Errorf("%s is not there: %v", want, seen)
		}
	}
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "set.zip"), b.Bytes(), 0o600)
	cmd := exec.Command("sh", "-c", "unzip -q set.zip && sha256sum -c --quiet manifest-sha256.txt && find . -type f | wc -l && cat README.txt")
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "withheld, or not there: 1") {
		t.Errorf("%v: %s", err, out)
	}
	var again bytes.Buffer
	if _, _, err := f.Write(&again, h, iter.Seq2[*Line, error](with)); err != nil || !bytes.Equal(again.Bytes(), b.Bytes()) {
		t.Error("another time it is another file")
	}
}
