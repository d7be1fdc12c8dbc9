package backup

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"crosswind/core/digest"
)

// Names of the members of a backup in the layout of a single archive, in their
// order: the label, the files below TreeName, and the digests of those.
const (
	StowLayout    = "tarn-stow/1"
	StowLabelName = "stow.json"
	TreeName      = "tree"
	SumsName      = "stow.sums"
)

// StowMagic begins an encrypted archive. The length of its label follows in four
// bytes, the label, and the encrypted tar archive.
const StowMagic = "TARNSTOW"

const maxSums = 256 << 20 // bytes of the list of digests

// stow is the layout of a single archive.
type stow struct{}

// Name implements [Layout].
func (stow) Name() string { return StowLayout }

// Extension implements [Layout].
func (stow) Extension() string { return ".stow" }

// Looks implements [Layout]: as any tar archive does.
func (stow) Looks(head []byte) bool {
	return bytes.HasPrefix(head, []byte(StowMagic)) || len(head) >= 262 && string(head[257:262]) == "ustar"
}

// archive is a file that can be read at any place.
type archive struct {
	fs.File
	io.ReaderAt
	size int64
}

func openArchive(fsys fs.FS, name string) (*archive, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	at, ok := f.(io.ReaderAt)
	if err == nil && (!ok || !st.Mode().IsRegular()) {
		err = fmt.Errorf("%s is not a regular file", name)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &archive{f, at, st.Size()}, nil
}

// sealedHead reads the label of an encrypted archive; nil if it is not one.
// after is where what is encrypted begins.
func (a *archive) sealedHead() (label []byte, after int64, err error) {
	head := make([]byte, len(StowMagic)+4)
	if _, err := a.ReadAt(head, 0); err != nil || string(head[:len(StowMagic)]) != StowMagic {
		return nil, 0, nil
	}
	n := int64(binary.BigEndian.Uint32(head[len(StowMagic):]))
	if n > maxLabel {
		return nil, 0, fmt.Errorf("its label claims %d bytes", n)
	}
	label = make([]byte, n)
	if _, err := a.ReadAt(label, int64(len(head))); err != nil {
		return nil, 0, fmt.Errorf("reading its label: %w", err)
	}
	return label, int64(len(head)) + n, nil
}

// Label implements [Layout].
func (stow) Label(fsys fs.FS, name string) ([]byte, error) {
	a, err := openArchive(fsys, name)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	label, _, err := a.sealedHead()
	if label != nil || err != nil {
		return label, err
	}
	t := tar.NewReader(io.NewSectionReader(a, 0, a.size))
	h, err := t.Next()
	if err != nil || h.Name != StowLabelName {
		return nil, errors.New("it does not begin with " + StowLabelName)
	}
	return readUpTo(t, StowLabelName, maxLabel)
}

// Open implements [Layout].
func (stow) Open(b *Backup, fsys fs.FS, name string, k *Key) error {
	a, err := openArchive(fsys, name)
	if err != nil {
		return err
	}
	b.Serve(nil, a.File)
	var plain io.ReaderAt = a
	size := a.size
	if k != nil {
		_, after, err := a.sealedHead()
		if err != nil {
			return err
		}
		var whole bool
		if plain, size, whole, err = k.ReaderAt(io.NewSectionReader(a, after, a.size-after), a.size-after); err != nil {
			return fmt.Errorf("the archive %s: %w", name, err)
		}
		if !whole {
			b.Fault(name, "was cut off or changed at its end")
		}
	}
	b.Serve(func(f File) (io.ReadCloser, error) {
		return io.NopCloser(io.NewSectionReader(plain, f.At, f.Size)), nil
	}, a.File)
	return b.readStow(name, io.NewSectionReader(plain, 0, size))
}

// readStow reads the headers of the archive. A member's content begins where
// the section stands when its header was read: archive/tar reads no further.
func (b *Backup) readStow(name string, r *io.SectionReader) error {
	t := tar.NewReader(r)
	seen, sums := map[string]int{}, map[string]string(nil)
	for n := 0; ; n++ {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			if n == 0 {
				return fmt.Errorf("the archive %s: %w", name, err)
			}
			b.Fault(name, "breaks off or is damaged after its member %d: %v", n, err)
			break
		}
		if n > maxFiles {
			return fmt.Errorf("the archive %s has more than %d members", name, maxFiles)
		}
		at, err := r.Seek(0, io.SeekCurrent)
		if err != nil {
			return err
		}
		switch {
		case h.Typeflag == tar.TypeDir || n == 0: // the label has been read
		case h.Name == SumsName:
			if sums, err = readSums(t); err != nil {
				b.Fault(SumsName, "%v", err)
			}
		case h.Typeflag != tar.TypeReg:
			b.Fault(clip(h.Name), "is not a regular file")
		default:
			b.member(h, at, r.Size(), seen)
		}
	}
	if sums == nil {
		b.Fault(SumsName, "missing: it is what ends a finished backup")
	}
	for i := range b.Files {
		f := &b.Files[i]
		if f.SHA256 = sums[f.Stored]; f.SHA256 == "" && sums != nil {
			b.Fault(f.Stored, "%s names no digest for it", SumsName)
		}
		delete(sums, f.Stored)
	}
	for p := range sums {
		b.Fault(p, "missing: %s names it", SumsName)
	}
	return nil
}

func (b *Backup) member(h *tar.Header, at, end int64, seen map[string]int) {
	parts := strings.Split(h.Name, "/")
	if parts[0] != TreeName || len(parts) < 2 {
		b.Fault(clip(h.Name), "one too many: it lies outside %s/", TreeName)
		return
	}
	p, err := absolute(parts[1:])
	if err != nil {
		b.Fault(clip(h.Name), "%v", err)
		return
	}
	if seen[p]++; seen[p] > 1 {
		b.Fault(h.Name, "is there more than once; the first is taken")
		return
	}
	f := File{Path: p, Stored: h.Name, Size: h.Size, Changed: h.ModTime.UTC(), At: at}
	if left := max(0, end-at); f.Size > left {
		b.Fault(f.Stored, "has %d bytes, its header says %d", left, f.Size)
		f.Size = left
	}
	b.Files = append(b.Files, f)
}

// readSums reads the list of digests, a SHA-256 manifest of the members.
func readSums(r io.Reader) (map[string]string, error) {
	sums := map[string]string{}
	for l, err := range digest.Lines(io.LimitReader(r, maxSums), sha256.Size) {
		if err != nil {
			return sums, err
		}
		sums[l.Path] = l.Sum
	}
	return sums, nil
}
