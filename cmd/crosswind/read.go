package main

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"crosswind/core/backup"
	"crosswind/core/casefile"
	"crosswind/core/digest"
	"crosswind/core/fieldmap"
	"crosswind/core/reading"
	"crosswind/core/sqlitefile"
	"crosswind/core/storage"
	"crosswind/core/unpack"
)

func readCommand() *cobra.Command {
	var opt reading.Options
	var maps, password string
	var asJSON bool
	c := &cobra.Command{Use: "read --json SOURCE", Short: "Every record of a backup, an archive, a file tree or a database", Args: args(1, 1),
		Long: "Reads a backup's folder or archive, an archive of files, a folder as a handset's file tree, or a lone SQLite database, and writes every record as a JSON object a line, in the same order each time. No scope is applied. Nothing is written to the source or beside it; what lies in an archive or is encrypted is kept in a temporary folder while it is read, and removed.",
		RunE: func(c *cobra.Command, a []string) error {
			if !asJSON {
				return fmt.Errorf("%w: the only output is JSON so far; say --json", errUse)
			}
			own, err := ownMaps(maps)
			if err != nil {
				return err
			}
			fieldmap.Add(own...)
			opt.Maps = fieldmap.Maps
			return readSource(c.Context(), a[0], password, opt)
		}}
	c.Flags().StringVar(&maps, "map", "", "a field map of your own, or a folder of them, used before the built-in ones")
	c.Flags().StringVar(&password, "password-file", "", "a file whose first line is the backup's password")
	c.Flags().StringVar(&opt.Country, "home", "", "the handset's home country, two letters, for national numbers")
	c.Flags().BoolVar(&opt.Full, "full", false, "also hunt for pages that nothing refers to")
	c.Flags().BoolVar(&asJSON, "json", false, "write JSON lines")
	return c
}

func readSource(ctx context.Context, at, passwordFile string, opt reading.Options) error {
	s := &source{ctx: ctx, full: opt.Full}
	defer s.close()
	files, err := s.files(at, passwordFile)
	if err != nil {
		return err
	}
	opt.Note = func(note string) {
		fmt.Fprintf(os.Stderr, "crosswind: %s\n", strings.ReplaceAll(casefile.Printable(note), "\n", "; "))
	}
	for _, n := range s.notes {
		opt.Note(n)
	}
	opt.Go = func() bool { return ctx.Err() == nil }
	debug.SetMemoryLimit(100 << 20)
	debug.SetGCPercent(15) // what is kept of each live row grows with the source; what is read in passing need not
	out := bufio.NewWriterSize(os.Stdout, 1<<16)
	write := json.NewEncoder(out)
	write.SetEscapeHTML(false)
	for r, err := range reading.Records(files, opt) {
		if err == nil {
			err = write.Encode(r)
		}
		if err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return out.Flush()
}

// source is what is read, and what is kept of it meanwhile.
type source struct {
	ctx     context.Context
	full    bool // the full pass is asked for
	notes   []string
	dir     string // of copies, "" if there are none
	copies  int
	closing []io.Closer
}

func (s *source) close() {
	for _, c := range s.closing {
		c.Close()
	}
	if s.dir != "" {
		os.RemoveAll(s.dir)
	}
}

// files lists those files of a source that may be a database or lie beside one.
func (s *source) files(at, passwordFile string) ([]*reading.File, error) {
	st, err := os.Stat(at)
	if err != nil {
		return nil, err
	}
	if st.IsDir() {
		if _, err := backup.ReadLabel(os.DirFS(at), "."); err == nil {
			return s.backup(os.DirFS(at), ".", passwordFile)
		}
		return s.tree(at)
	}
	f, err := openRegular(at)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	head = head[:n]
	fsys, name := os.DirFS(filepath.Dir(at)), filepath.Base(at)
	if backup.Looks(head) { // as any tar archive does
		if _, err := backup.ReadLabel(fsys, name); err == nil {
			return s.backup(fsys, name, passwordFile)
		}
	}
	switch {
	case reading.Begins("", head) && n > len(sqlitefile.Magic):
		var files []*reading.File
		for _, suffix := range []string{"", "-wal", "-journal"} {
			one, err := onDisk(at+suffix, "", name+suffix)
			if suffix != "" && errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return nil, err
			}
			files = append(files, one)
		}
		return files, nil
	case reading.ReaderOf(name, head) != nil:
		one, err := onDisk(at, "", name)
		return []*reading.File{one}, err
	case unpack.IsArchive(head):
		return s.archive(f, st.Size(), passwordFile)
	}
	if files, err := s.image(at); err != nil || files != nil {
		return files, err
	}
	return nil, fmt.Errorf("%s is not a database, a backup, an archive, or contacts or a calendar, of a known form", at)
}

// tree takes a folder as the root of a handset's files. Links are not followed.
func (s *source) tree(root string) (files []*reading.File, err error) {
	err = filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err == nil {
			err = s.ctx.Err()
		}
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(root, p)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		f, err := onDisk(p, "/"+rel, rel)
		if f != nil {
			files = append(files, f)
		}
		return err
	})
	return files, err
}

// onDisk is a file that lies where it can be read again, nil if it is not read.
func onDisk(at, onHandset, stored string) (*reading.File, error) {
	f, err := openRegular(at)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	head := make([]byte, reading.HeadLength)
	if n, _ := io.ReadFull(f, head); !reading.Wanted(cmp.Or(onHandset, stored), head[:n], fieldmap.Maps) {
		return nil, nil
	}
	set, err := digest.Reader(io.NewSectionReader(f, 0, st.Size()))
	if err != nil {
		return nil, err
	}
	_, _, sum := set.Hex()
	return &reading.File{Path: onHandset, Stored: stored, Size: st.Size(), SHA256: sum, Open: func() (reading.Bytes, error) { return openRegular(at) }}, nil
}

// image lists what is read of a storage image: the live files of its volumes, the deleted ones and, in the full
// pass, those that are carved; nil if it has no volume. They are read where they lie.
func (s *source) image(at string) (files []*reading.File, err error) {
	image, size, closing, err := openImage(at)
	if err != nil {
		return nil, err
	}
	s.closing = append(s.closing, closer(closing))
	note := func(err error) { s.notes = append(s.notes, err.Error()) }
	if volumes, _ := storage.Volumes(image, size, func(error) {}); len(volumes) == 0 {
		return nil, nil
	}
	files = []*reading.File{}
	for f, err := range storage.Files(image, size, storage.Options{Full: s.full, Note: note, Seen: func(int64) bool { return s.ctx.Err() == nil }, Skip: holes(image)}) {
		if err != nil {
			return nil, err
		}
		if !plausibleSize(f, size) {
			note(fmt.Errorf("%s claims %d bytes, and is not read", f.Path, f.Size))
			continue
		}
		stored := fmt.Sprintf("volume-%d/%s%s", f.Volume, f.State, f.Path)
		x := &reading.File{Path: f.Path, Stored: stored, Size: f.Size, Open: func() (reading.Bytes, error) { return part{f.Reader(image)}, nil }}
		if x.WrittenLocal = f.Modified.Local; f.Modified.At != nil {
			x.Written = *f.Modified.At
		}
		if f.State != storage.Live || f.Volume > 1 { // which lies nowhere on the handset, or not at its root
			x.Path = "/" + stored
		}
		if f.State != storage.Live {
			x.Gone = strings.TrimSuffix(fmt.Sprintf("%s, %s: %s", f.State, f.Complete, f.Why), ": ")
		}
		head := make([]byte, reading.HeadLength)
		n, err := f.Reader(image).ReadAt(head, 0)
		if err != nil && err != io.EOF {
			return nil, err
		}
		if !reading.Wanted(x.Path, head[:n], fieldmap.Maps) {
			continue
		}
		set, err := digest.Reader(f.Reader(image))
		if err != nil {
			return nil, err
		}
		_, _, x.SHA256 = set.Hex()
		files = append(files, x)
	}
	return files, s.ctx.Err()
}

// closer is a function that closes.
type closer func()

func (c closer) Close() error { c(); return nil }

// part is a file of an image, which stays open.
type part struct{ *io.SectionReader }

func (part) Close() error { return nil }

// folder makes the folder of copies, if it is not there.
func (s *source) folder() (err error) {
	if s.dir == "" {
		s.dir, err = os.MkdirTemp("", "crosswind-read-")
	}
	return err
}

// copy keeps what is read, since that is done out of order.
func (s *source) copy(r io.Reader, onHandset, stored string) (*reading.File, error) {
	head := make([]byte, reading.HeadLength)
	n, err := io.ReadFull(r, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	if head = head[:n]; !reading.Wanted(cmp.Or(onHandset, stored), head, fieldmap.Maps) {
		return nil, nil
	}
	if err := s.folder(); err != nil {
		return nil, err
	}
	s.copies++ // no name of the source's becomes a path
	at := filepath.Join(s.dir, fmt.Sprint(s.copies))
	w, err := os.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	set, err := digest.Reader(io.TeeReader(io.MultiReader(strings.NewReader(string(head)), r), w))
	if err := errors.Join(err, w.Close(), s.ctx.Err()); err != nil {
		return nil, fmt.Errorf("%s: %w", stored, err)
	}
	st, err := os.Stat(at)
	if err != nil {
		return nil, err
	}
	_, _, sum := set.Hex()
	return &reading.File{Path: onHandset, Stored: stored, Size: st.Size(), SHA256: sum, Open: func() (reading.Bytes, error) { return os.Open(at) }}, nil
}

// backup lists the databases of a backup.
func (s *source) backup(fsys fs.FS, name, passwordFile string) ([]*reading.File, error) {
	l, err := backup.ReadLabel(fsys, name)
	if err != nil {
		return nil, err
	}
	var key *backup.Key
	if l.Encrypted {
		if passwordFile == "" {
			return nil, fmt.Errorf("%w: --password-file names a file with it", backup.ErrEncrypted)
		}
		password, err := firstLine(passwordFile)
		if err != nil {
			return nil, err
		}
		if l.Lock == nil {
			return nil, errors.New("the backup's label does not say how it is locked")
		}
		if key, err = l.Lock.Unlock(password); err != nil {
			return nil, err
		}
	}
	b, err := backup.Open(fsys, name, key)
	if err != nil {
		return nil, err
	}
	s.closing = append(s.closing, b)
	for _, f := range b.Faults {
		s.notes = append(s.notes, f.Error())
	}
	var files []*reading.File
	for _, f := range b.Files {
		r, err := b.Content(f)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it is among the faults
		}
		if err != nil {
			return nil, err
		}
		one, err := s.copy(r, f.Path, f.Stored)
		r.Close()
		if err != nil {
			return nil, err
		}
		if one != nil {
			one.Made, one.Written = b.Made, f.Changed
			files = append(files, one)
		}
	}
	return files, nil
}

// archive lists what is read of an archive: the files of the backups that lie in it or, if
// there are none, those of its members, whose root is then the handset's.
func (s *source) archive(f *os.File, size int64, passwordFile string) (files []*reading.File, err error) {
	var backups []string // the folders and files that may be one
	for m, err := range unpack.Members(f, size, unpack.Default) {
		if err != nil {
			return nil, err
		}
		if m.Not != "" {
			s.notes = append(s.notes, m.Path+": "+m.Not)
			continue
		}
		head := make([]byte, reading.HeadLength)
		n, err := io.ReadFull(m, head)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return nil, err
		}
		if head = head[:n]; path.Base(m.Path) == backup.LabelName {
			backups = append(backups, path.Dir(m.Path))
		} else if backup.Looks(head) {
			backups = append(backups, m.Path)
		}
		one, err := s.copy(io.MultiReader(bytes.NewReader(head), m), path.Join("/", m.Path), m.Path)
		if err != nil {
			return nil, err
		}
		if one != nil {
			one.Written = m.Changed
			files = append(files, one)
		}
	}
	if len(backups) > 0 {
		if inside, err := s.within(f, size, backups, passwordFile); err != nil || len(inside) > 0 {
			return inside, err
		}
	}
	slices.SortStableFunc(files, func(a, b *reading.File) int { return strings.Compare(a.Stored, b.Stored) })
	return files, nil
}

// within lists the files of the backups in an archive. What may be one is unpacked, and is
// left if it is none.
func (s *source) within(f *os.File, size int64, at []string, passwordFile string) (files []*reading.File, err error) {
	if err := s.folder(); err != nil {
		return nil, err
	}
	below := filepath.Join(s.dir, "unpacked")
	if err := os.Mkdir(below, 0o700); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(below) // no name of the archive's leads out of it
	if err != nil {
		return nil, err
	}
	defer root.Close()
	for m, err := range unpack.Members(f, size, unpack.Default) {
		if err != nil {
			return nil, err
		}
		if m.Not != "" || !slices.ContainsFunc(at, func(b string) bool { return b == "." || m.Path == b || strings.HasPrefix(m.Path, b+"/") }) {
			continue
		}
		err := root.MkdirAll(path.Dir(m.Path), 0o700)
		if err == nil {
			var w *os.File
			if w, err = root.OpenFile(m.Path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600); err == nil {
				_, err = io.Copy(w, m)
				err = errors.Join(err, w.Close(), s.ctx.Err())
			}
		}
		if err != nil {
			return nil, fmt.Errorf("unpacking %s: %w", m.Path, err)
		}
	}
	slices.Sort(at)
	for _, b := range slices.Compact(at) {
		st, err := root.Stat(b)
		if err != nil {
			return nil, err
		}
		name := "."
		if !st.IsDir() {
			b, name = path.Dir(b), path.Base(b)
		}
		fsys, err := fs.Sub(root.FS(), b)
		if err != nil {
			return nil, err
		}
		if _, err := backup.ReadLabel(fsys, name); errors.Is(err, backup.ErrNotBackup) {
			continue
		}
		some, err := s.backup(fsys, name, passwordFile)
		if err != nil {
			return nil, fmt.Errorf("the backup %s in the archive: %w", path.Join(b, name), err)
		}
		files = append(files, some...)
	}
	return files, nil
}

// firstLine reads the first line of a file.
func firstLine(at string) (string, error) {
	f, err := openRegular(at)
	if err != nil {
		return "", err
	}
	defer f.Close()
	const most = 4096 // bytes of a password
	b, err := io.ReadAll(io.LimitReader(f, most))
	line, _, _ := strings.Cut(string(b), "\n")
	return strings.TrimSuffix(line, "\r"), err
}
