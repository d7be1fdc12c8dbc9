// Package unpack reads the archives in which evidence is handed in: POSIX tar
// (IEEE 1003.1 pax and ustar), ZIP, and either or a single file under gzip (RFC
// 1952). It hands out one member after the other and writes nothing.
//
// An archive is hostile: a member whose path leads out of the archive, and an
// archive that grows beyond its limits, end the reading with a Refusal. Links,
// devices and what is encrypted are named and not followed. An archive within
// the archive stays a file.
package unpack

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"strings"
	"time"
	"unicode/utf8"
)

// Limits bound what an archive may hold.
type Limits struct {
	Members int   // of all kinds
	Bytes   int64 // of all members together, unpacked
	Ratio   int64 // of those bytes to the archive's own
	Depth   int   // folders above a member
}

// Default limits are far above any backup, and below what fills a disk unseen.
var Default = Limits{Members: 1 << 20, Bytes: 1 << 40, Ratio: 250, Depth: 64}

// slack is what any archive may hold whatever its ratio, in bytes.
const slack = 16 << 20

// maxPath bounds a member's path, in bytes.
const maxPath = 4096

// Refusal is why an archive is not read.
type Refusal struct {
	Member string // "" if it is the archive itself
	Why    error  // wraps ErrEscape, ErrTooMuch or ErrFormat
}

func (r *Refusal) Error() string {
	if r.Member == "" {
		return "the archive is refused: " + r.Why.Error()
	}
	return fmt.Sprintf("the archive is refused: its member %q %v", clip(r.Member), r.Why)
}

// Unwrap gives the reason.
func (r *Refusal) Unwrap() error { return r.Why }

// Reasons of refusals.
var (
	ErrEscape  = errors.New("leads out of the archive")
	ErrTooMuch = errors.New("goes beyond the limits")
	ErrFormat  = errors.New("is not a tar, ZIP or gzip archive")
	ErrDamaged = errors.New("is damaged")
	ErrTwice   = errors.New("is there twice")
)

// Member is a member of an archive. It can be read until the next one is asked
// for.
type Member struct {
	Path    string // clean, with slashes, never absolute and never upwards
	Changed time.Time
	Not     string // why it cannot be read, "" if it can
	r       io.Reader
}

// Read reads the member's content.
func (m *Member) Read(p []byte) (int, error) {
	if m.r == nil {
		return 0, fmt.Errorf("%s: %s", m.Path, m.Not)
	}
	return m.r.Read(p)
}

// IsArchive reports whether bytes begin as an archive that Members reads does.
// head should have 512 bytes.
func IsArchive(head []byte) bool {
	return isZIP(head) || isGzip(head) || isTar(head)
}

func isZIP(b []byte) bool {
	return bytes.HasPrefix(b, []byte("PK\x03\x04")) || bytes.HasPrefix(b, []byte("PK\x05\x06"))
}
func isGzip(b []byte) bool { return bytes.HasPrefix(b, []byte{0x1f, 0x8b}) }
func isTar(b []byte) bool  { return len(b) >= 262 && string(b[257:262]) == "ustar" }

// Members yields the members of the archive of size bytes in r, folders left
// out. An error is the last thing that it yields.
func Members(r io.ReaderAt, size int64, lim Limits) iter.Seq2[*Member, error] {
	return func(yield func(*Member, error) bool) {
		head := make([]byte, 512)
		n, err := r.ReadAt(head, 0)
		if err != nil && err != io.EOF {
			yield(nil, err)
			return
		}
		w := &walk{lim: lim, most: min(lim.Bytes, size*lim.Ratio+slack), seen: map[string]bool{}, yield: yield}
		switch head = head[:n]; {
		case isZIP(head):
			err = w.zip(r, size)
		case isGzip(head):
			err = w.gzip(io.NewSectionReader(r, 0, size))
		case isTar(head):
			err = w.tar(io.NewSectionReader(r, 0, size))
		default:
			err = &Refusal{"", ErrFormat}
		}
		if err != nil && err != errEnough {
			yield(nil, err)
		}
	}
}

// walk is the reading of one archive.
type walk struct {
	lim   Limits
	most  int64 // bytes that may come out
	out   int64 // bytes that came out
	count int
	seen  map[string]bool
	yield func(*Member, error) bool
}

// errEnough ends a reading whose caller has seen enough.
var errEnough = errors.New("enough")

// member hands out one member.
func (w *walk) member(name string, changed time.Time, not string, r io.Reader) error {
	if w.count++; w.count > w.lim.Members {
		return &Refusal{"", fmt.Errorf("%w: it has more than %d members", ErrTooMuch, w.lim.Members)}
	}
	clean, err := w.clean(name)
	if err != nil {
		return &Refusal{name, err}
	}
	if w.seen[clean] {
		return &Refusal{name, ErrTwice}
	}
	w.seen[clean] = true
	m := &Member{Path: clean, Changed: changed.UTC(), Not: not}
	if not == "" {
		m.r = &counted{w, clean, r}
	}
	if !w.yield(m, nil) {
		return errEnough
	}
	if not == "" { // what the caller did not read counts as well
		_, err = io.Copy(io.Discard, m.r)
	}
	return err
}

// clean checks a member's path.
func (w *walk) clean(name string) (string, error) {
	if !utf8.ValidString(name) {
		name = fmt.Sprintf("%+q", name)
		name = strings.ReplaceAll(name[1:len(name)-1], `\"`, `"`)
	}
	switch {
	case strings.ContainsRune(name, 0):
		return "", fmt.Errorf("%w: its path holds a zero byte", ErrEscape)
	case strings.HasPrefix(name, "/"):
		return "", fmt.Errorf("%w: its path is absolute", ErrEscape)
	case len(name) > maxPath:
		return "", fmt.Errorf("%w: its path is longer than %d bytes", ErrTooMuch, maxPath)
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == ".." {
			return "", fmt.Errorf("%w: its path goes upwards", ErrEscape)
		}
	}
	clean := path.Clean(name)
	if clean == "." {
		return "", fmt.Errorf("%w: its path is empty", ErrEscape)
	}
	if strings.Count(clean, "/") > w.lim.Depth {
		return "", fmt.Errorf("%w: it lies more than %d folders deep", ErrTooMuch, w.lim.Depth)
	}
	return clean, nil
}

// counted counts what comes out of an archive.
type counted struct {
	w    *walk
	name string
	r    io.Reader
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.w.out += int64(n); c.w.out > c.w.most {
		return n, &Refusal{c.name, fmt.Errorf("%w: with it the archive holds more than %d bytes", ErrTooMuch, c.w.most)}
	}
	if err != nil && err != io.EOF {
		var r *Refusal
		if !errors.As(err, &r) {
			err = &Refusal{c.name, fmt.Errorf("%w: %w", ErrDamaged, err)}
		}
	}
	return n, err
}

func (w *walk) tar(r io.Reader) error {
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			var ref *Refusal
			if errors.As(err, &ref) {
				return ref
			}
			return &Refusal{"", fmt.Errorf("the tar archive %w after %d members: %w", ErrDamaged, w.count, err)}
		}
		not := ""
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse:
		case tar.TypeDir, tar.TypeXGlobalHeader:
			continue
		case tar.TypeSymlink, tar.TypeLink:
			not = fmt.Sprintf("is a link to %q; links are not followed", clip(h.Linkname))
		default:
			not = "is not a regular file"
		}
		if err := w.member(h.Name, h.ModTime, not, t); err != nil {
			return err
		}
	}
}

func (w *walk) gzip(r io.Reader) error {
	z, err := gzip.NewReader(bufio.NewReader(r))
	if err != nil {
		return &Refusal{"", fmt.Errorf("the gzip file %w: %w", ErrDamaged, err)}
	}
	// What is decompressed counts, tar's own padding too.
	all := bufio.NewReaderSize(&counted{w: &walk{most: w.most}, name: "gzip", r: z}, 64<<10)
	head, err := all.Peek(512)
	if err != nil && err != io.EOF {
		return err
	}
	if isTar(head) {
		return w.tar(all)
	}
	name := path.Base(path.Clean("/" + z.Name))
	if name == "/" {
		name = "content"
	}
	return w.member(name, z.ModTime, "", all)
}

func (w *walk) zip(r io.ReaderAt, size int64) error {
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return &Refusal{"", fmt.Errorf("the ZIP archive %w: %w", ErrDamaged, err)}
	}
	var packed uint64
	for _, f := range z.File {
		if packed += f.CompressedSize64; packed > uint64(size) || f.CompressedSize64 > uint64(size) {
			return &Refusal{f.Name, fmt.Errorf("%w: its bytes are claimed by other members too", ErrTooMuch)}
		}
	}
	for _, f := range z.File {
		if f.Mode().IsDir() {
			continue
		}
		not := ""
		var body io.ReadCloser
		switch {
		case !f.Mode().IsRegular():
			not = "is not a regular file; links are not followed"
		case f.Flags&1 != 0:
			not = "is encrypted within the ZIP archive"
		default:
			if body, err = f.Open(); err != nil {
				not = "cannot be read: " + err.Error()
			}
		}
		err := w.member(f.Name, f.Modified, not, body)
		if body != nil {
			body.Close()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func clip(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}
