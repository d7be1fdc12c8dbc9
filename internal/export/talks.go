package export

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// talksWriter writes an archive with a text for each conversation. What is written comes in order of time, and lies in a
// file of its own until it is known what belongs together.
type talksWriter struct {
	create func(name string) (io.Writer, error) // begins a file of the archive
	end    func() error                         // ends the archive
	head   Head
	spool  *os.File
	at     int64
	of     map[talkKey]*talkText
	order  []*talkText
}

// talkKey names a conversation as a source has it.
type talkKey struct {
	exhibit     string
	acquisition int
	file, key   string
}

type talkText struct {
	title string
	parts [][2]int64 // in the spool: where, and how long
	day   string
}

func newTalks(w io.Writer, head Head) (writer, error) {
	z := zip.NewWriter(w)
	return talksIn(head, func(name string) (io.Writer, error) { return begin(z, head, name) }, z.Close)
}

// begin begins a file of an archive.
func begin(z *zip.Writer, head Head, name string) (io.Writer, error) {
	return z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: head.At.UTC().Truncate(time.Second)})
}

func talksIn(head Head, create func(string) (io.Writer, error), end func() error) (*talksWriter, error) {
	f, err := spool()
	if err != nil {
		return nil, err
	}
	return &talksWriter{create: create, end: end, head: head, spool: f, of: map[talkKey]*talkText{}}, nil
}

// spool makes a file that lives while it is open.
func spool() (*os.File, error) {
	f, err := os.CreateTemp("", "taken-out-*")
	if err == nil {
		err = os.Remove(f.Name())
	}
	if err != nil {
		return nil, fmt.Errorf("export: making room for what is written: %w", err)
	}
	return f, nil
}

func (t *talksWriter) write(l *Line) error {
	k := talkKey{l.Exhibit, l.Acquisition, l.Origin().Path, l.Conversation.Key}
	x := t.of[k]
	var b bytes.Buffer
	text := &textWriter{w: bufio.NewWriter(&b), head: t.head}
	if x == nil {
		x = &talkText{title: cmp.Or(l.Conversation.Title, l.Person(), l.Handle(), l.Conversation.Key)}
		t.of[k], t.order = x, append(t.order, x)
		text.begin()
		fmt.Fprintf(text.w, "Conversation: %s\n%s acquisition %d, %s\n", oneLine(x.title), l.Exhibit, l.Acquisition, oneLine(l.Origin().Path))
	}
	text.day = x.day
	if err := text.write(l); err != nil {
		return err
	}
	x.day = text.day
	if err := text.close(); err != nil {
		return err
	}
	if _, err := t.spool.Write(b.Bytes()); err != nil {
		return err
	}
	x.parts = append(x.parts, [2]int64{t.at, int64(b.Len())})
	t.at += int64(b.Len())
	return nil
}

func (t *talksWriter) close() error {
	defer t.spool.Close()
	for i, x := range t.order {
		w, err := t.create(fmt.Sprintf("%04d %s.txt", i+1, FileName(x.title)))
		if err != nil {
			return err
		}
		for _, p := range x.parts {
			if _, err := io.Copy(w, io.NewSectionReader(t.spool, p[0], p[1])); err != nil {
				return err
			}
		}
	}
	return t.end()
}

// FileName makes a name of words that any file system takes: letters, digits and single spaces, 60 bytes at most.
func FileName(words string) string {
	var b strings.Builder
	for _, r := range words {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '-' && r != '_' && r != '+' {
			r = ' '
		}
		b.WriteRune(r)
	}
	name := strings.Join(strings.Fields(b.String()), " ")
	for len(name) > 60 {
		_, n := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-n]
	}
	return cmp.Or(strings.TrimSpace(name), "without a name")
}
