package export

import (
	"archive/zip"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"crosswind/core/digest"
	"crosswind/core/record"
)

// set writes an archive with a folder for each kind: a table of its records, the same in the form that other phones and programs
// read, and the files that belong to them as they were; and conversations one by one.
type set struct {
	zip   *zip.Writer
	head  Head
	talks *talksWriter
	parts map[string]*setPart // by path
	files map[string]bool     // SHA-256 of those that are in it
	names map[string]int      // of files in a folder
	sums  []setSum
	gone  []string
}

// setPart is a file that grows while others do: it lies apart until the end.
type setPart struct {
	spool *os.File
	w     writer
}

type setSum struct {
	path string
	sum  interface{ Sum([]byte) []byte }
}

func newSet(w io.Writer, head Head) (writer, error) {
	s := &set{zip: zip.NewWriter(w), head: head, parts: map[string]*setPart{}, files: map[string]bool{}, names: map[string]int{}}
	var err error
	s.talks, err = talksIn(head, func(name string) (io.Writer, error) { return s.create("Conversations/" + name) }, func() error { return nil })
	return s, err
}

// create begins a file, whose digest is worked out as it is written.
func (s *set) create(name string) (io.Writer, error) {
	w, err := begin(s.zip, s.head, name)
	h := sha256.New()
	s.sums = append(s.sums, setSum{name, h})
	return io.MultiWriter(w, h), err
}

// forms are a table, and what other programs read records in.
var forms = []*Format{&asTable, &asCards, &asCalendar, &asMailbox, &asTracks}

func (s *set) write(l *Line) error {
	folder := FileName(l.Kind.About().Plural)
	for _, f := range forms {
		if f.takes != nil && !f.takes(l.Record) {
			continue
		}
		p, err := s.part(folder+"/"+folder+"."+f.Name, f)
		if err == nil {
			err = p.w.write(l)
		}
		if err != nil {
			return err
		}
	}
	if asTalks.takes(l.Record) {
		if err := s.talks.write(l); err != nil {
			return err
		}
	}
	for n, a := range l.Attachments {
		if err := s.file(folder, l, n, a); err != nil {
			return err
		}
	}
	return nil
}

func (s *set) part(name string, f *Format) (*setPart, error) {
	if p := s.parts[name]; p != nil {
		return p, nil
	}
	out, err := spool()
	if err != nil {
		return nil, err
	}
	w, err := f.writer(out, s.head)
	s.parts[name] = &setPart{out, w}
	return s.parts[name], err
}

// file writes a file that belongs to a record, once.
func (s *set) file(folder string, l *Line, n int, a record.Attachment) error {
	if a.SHA256 == "" || s.files[a.SHA256] || s.head.Open == nil {
		return nil
	}
	name := path.Base(a.Title())
	ending := path.Ext(name)
	name = FileName(strings.TrimSuffix(name, ending))
	if ending = FileName(ending); ending != FileName("") {
		name += "." + ending
	}
	at := folder + "/files/" + name
	if s.names[strings.ToLower(at)]++; s.names[strings.ToLower(at)] > 1 { // names that differ in case alone are one on some systems
		at = fmt.Sprintf("%s/files/%d %s", folder, s.names[strings.ToLower(at)], name)
	}
	in, err := s.head.Open(l, n)
	if errors.Is(err, ErrWithheld) {
		s.gone = append(s.gone, a.Title())
		return nil
	}
	if err != nil {
		return err
	}
	defer in.Close()
	w, err := s.create(at)
	if err != nil {
		return err
	}
	s.files[a.SHA256] = true
	_, err = io.Copy(w, in)
	return err
}

func (s *set) close() error {
	err := s.talks.close()
	names := make([]string, 0, len(s.parts))
	for name := range s.parts {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		p := s.parts[name]
		defer p.spool.Close()
		if err == nil {
			err = p.w.close()
		}
		if err == nil {
			_, err = p.spool.Seek(0, io.SeekStart)
		}
		if err != nil {
			return err
		}
		w, err1 := s.create(name)
		if err1 == nil {
			_, err1 = io.Copy(w, p.spool)
		}
		err = err1
	}
	if err != nil {
		return err
	}
	w, err := s.create("README.txt")
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "%s: %s\n%s\n\nTaken out %s UTC by %s with %s.\n\nA folder for each kind. In it a table of its records (CSV, RFC 4180), the same as other phones and programs\nread it where there is such a form (contacts: vCard, RFC 6350; calendars: iCalendar, RFC 5545; mail: mbox,\nRFC 4155; places: GPX 1.1), and below files/ the files that belong to them, as they were. Conversations are\nalso there one by one. The tables say of each record whether it is live, and where its bytes lie.\n\nmanifest-sha256.txt lists every file: sha256sum -c manifest-sha256.txt\n",
		s.head.Case, oneLine(s.head.Title), oneLine(s.head.What), s.head.At.UTC().Format("2006-01-02 15:04:05"), oneLine(s.head.By), s.head.Tool)
	if len(s.gone) > 0 {
		fmt.Fprintf(w, "\nFiles that are withheld, or not there: %d\n", len(s.gone))
	}
	m, err := begin(s.zip, s.head, "manifest-sha256.txt")
	if err != nil {
		return err
	}
	for _, x := range s.sums {
		fmt.Fprintln(m, digest.Line{Sum: fmt.Sprintf("%x", x.sum.Sum(nil)), Path: x.path})
	}
	return s.zip.Close()
}
