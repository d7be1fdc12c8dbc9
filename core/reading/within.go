package reading

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"

	"crosswind/core/fieldmap"
	"crosswind/core/sqlitefile"
	"crosswind/core/unpack"
)

// Inside stands between the path of an archive and that of what lies in it.
const Inside = "!/"

// limits bound an archive within a source.
var limits = unpack.Limits{Members: 20_000, Bytes: 1 << 30, Ratio: 100, Depth: 16}

// maxSealed bounds an encrypted backup of an app, which is opened in memory.
const maxSealed = 256 << 20

// Within gives the databases, and their logs and journals, that lie in a file of a source: in an archive, or in an
// app's own backup that a field map tells how to open. head is how the file begins. find finds files of the
// source by their paths on the handset. An error of take is given back as it is; another is of the content, and a
// *ContentError.
func Within(f *File, head []byte, find func(path string) *File, maps []*fieldmap.Map, take func(path string, r io.Reader) error) error {
	sealed := sealedBy(maps, f.Path)
	if !unpack.IsArchive(head) && sealed == nil {
		return nil
	}
	b, err := f.Open()
	if err != nil {
		return err
	}
	defer b.Close()
	var content io.ReaderAt = b
	size := f.Size
	if sealed != nil && !unpack.IsArchive(head) {
		plain, err := unseal(sealed, f, b, find)
		if err != nil {
			return err
		}
		content, size = bytes.NewReader(plain), int64(len(plain))
		if Begins("", plain) {
			return take(path.Base(sealed.Map.Path), bytes.NewReader(plain))
		}
		if !unpack.IsArchive(plain[:min(len(plain), HeadLength)]) {
			return &ContentError{errors.New("what it holds, decrypted, is neither a database nor an archive")}
		}
	}
	for m, err := range unpack.Members(content, size, limits) {
		if err != nil {
			return &ContentError{err}
		}
		if m.Not != "" {
			continue
		}
		head := make([]byte, len(sqlitefile.Magic))
		n, err := io.ReadFull(m, head)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return &ContentError{err}
		}
		if head = head[:n]; Begins("", head) || beside(m.Path) {
			if err := take(m.Path, io.MultiReader(bytes.NewReader(head), m)); err != nil {
				return err
			}
		}
	}
	return nil
}

// Wanted reports whether anything of a file that begins with head is read: it is a database, or may lie beside one, a
// reader reads it, or it is an archive, a sealed backup or the key to one. path is on the handset, or where it is stored.
func Wanted(path string, head []byte, maps []*fieldmap.Map) bool {
	return Begins(path, head) || beside(path) || ReaderOf(path, head) != nil || unpack.IsArchive(head) || sealedBy(maps, path) != nil ||
		slices.ContainsFunc(maps, func(m *fieldmap.Map) bool {
			return slices.ContainsFunc(m.Backups, func(b fieldmap.Backup) bool { return b.Key == path })
		})
}

// ContentError is what is wrong with an archive within a source.
type ContentError struct{ Why error }

func (e *ContentError) Error() string { return "what lies in it is not read: " + e.Why.Error() }

// Unwrap gives the reason.
func (e *ContentError) Unwrap() error { return e.Why }

// beside reports whether a name is that of a log or a journal.
func beside(name string) bool {
	for p := sqlitefile.Log; p <= sqlitefile.Journal; p++ {
		if s := p.Suffix(); len(name) > len(s) && name[len(name)-len(s):] == s {
			return true
		}
	}
	return false
}

// sealed is a backup that a map knows how to open.
type sealed struct {
	*fieldmap.Map
	*fieldmap.Backup
}

func sealedBy(maps []*fieldmap.Map, at string) *sealed {
	for _, m := range maps {
		for i := range m.Backups {
			if ok, _ := path.Match(m.Backups[i].Path, at); ok {
				return &sealed{m, &m.Backups[i]}
			}
		}
	}
	return nil
}

// unseal decrypts a backup with the key that the app keeps on the handset.
func unseal(s *sealed, f *File, b io.ReaderAt, find func(string) *File) ([]byte, error) {
	k := find(s.Key)
	if k == nil {
		return nil, &ContentError{fmt.Errorf("it is encrypted with the key in %s, which is not in the source", s.Key)}
	}
	if f.Size > maxSealed || k.Size > 4096 {
		return nil, &ContentError{fmt.Errorf("it has %d bytes, its key %d; backups of apps are opened up to %d", f.Size, k.Size, maxSealed)}
	}
	kb, err := k.Open()
	if err != nil {
		return nil, err
	}
	defer kb.Close()
	key, content := make([]byte, k.Size), make([]byte, f.Size)
	if n, err := kb.ReadAt(key, 0); n < len(key) {
		return nil, err
	}
	if n, err := b.ReadAt(content, 0); n < len(content) {
		return nil, err
	}
	plain, err := s.Backup.Open(key, content)
	if err != nil {
		return nil, &ContentError{err}
	}
	return plain, nil
}
