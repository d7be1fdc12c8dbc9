package casefile

import (
	"archive/zip"
	"bufio"
	"cmp"
	"context"
	"crypto/x509"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"crosswind/core/ledger"
)

// Options say what a package is checked against.
type Options struct {
	Key string    // hex: the package must be signed by it; "": by any
	Now time.Time // no ledger entry may claim a later time; the zero time: not checked
	// Authorities are the certificates by which time stamps are trusted, nil for those that the package brings.
	Authorities *x509.CertPool
	// Tool is which tool's packages have their [GraphName] compared, which another version may write otherwise; "" for all.
	Tool string
}

// VerifyPath checks the package at path: a folder, or a ZIP archive of one. It
// fails only if there is no package to check, or if ctx ends.
func VerifyPath(ctx context.Context, path string, o Options) (*Result, error) {
	st, err := os.Stat(path) // before anything is opened: a pipe would be waited for
	if err != nil {
		return nil, err
	}
	switch {
	case st.IsDir():
		root, err := os.OpenRoot(path)
		if err != nil {
			return nil, err
		}
		defer root.Close()
		return Verify(ctx, root.FS(), o)
	case !st.Mode().IsRegular():
		return nil, fmt.Errorf("%s is neither a folder nor a regular file", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r, err := VerifyZIP(ctx, f, st.Size(), o)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return r, nil
}

// VerifyZIP checks a package as a ZIP archive of size bytes. The archive's own bytes must
// be those that its files give: its entries stored, in one folder of the bag's name, one
// after the other with nothing between, all of the time that the seal names.
func VerifyZIP(ctx context.Context, f io.ReaderAt, size int64, o Options) (*Result, error) {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return nil, fmt.Errorf("is neither a folder nor a ZIP archive: %w", err)
	}
	name, err := plain(z, f, size)
	if err != nil {
		return nil, err
	}
	sub, err := fs.Sub(z, name)
	if err != nil {
		return nil, err
	}
	c, err := verify(ctx, sub, o)
	if err != nil {
		return nil, err
	}
	if c.bag != name {
		c.fault("the archive", "the name of its folder is not that of the bag in "+SealName, c.bag, name)
	}
	at, err := same(ctx, z, c.at, f, size)
	if err != nil {
		return nil, err
	}
	if at >= 0 {
		c.fault("the archive", fmt.Sprintf("its own bytes, from offset %d, are not what its files and the seal's time give", at), "", "")
	}
	return c.r, nil
}

// plain refuses, before anything is read of them, archives whose entries are not laid out
// as a package's are, and gives the name of the one folder. Entries that lie over each
// other would be read again and again.
func plain(z *zip.Reader, f io.ReaderAt, size int64) (name string, err error) {
	var end int64
	last := ""
	for _, e := range z.File {
		top, rest, ok := strings.Cut(e.Name, "/")
		switch {
		case !ok || !fs.ValidPath(e.Name) || name != "" && top != name || rest == "":
			return "", fmt.Errorf("the archive's entry %s lies outside the one folder of a package", quote(e.Name))
		case e.Method != zip.Store || e.CompressedSize64 != e.UncompressedSize64:
			return "", fmt.Errorf("the archive's entry %s is compressed; a package's entries are stored", quote(e.Name))
		}
		if last != "" && inOrder(last, rest) >= 0 {
			return "", fmt.Errorf("the archive's entry %s does not lie in its order, behind %s", quote(e.Name), quote(last))
		}
		name, last = top, rest
		at, err := e.DataOffset()
		if err != nil {
			return "", fmt.Errorf("the archive's entry %s: %w", quote(e.Name), err)
		}
		var local [30]byte // APPNOTE 4.3.7
		head := end
		if _, err := f.ReadAt(local[:], head); err != nil || string(local[:4]) != "PK\x03\x04" ||
			head+30+int64(binary.LittleEndian.Uint16(local[26:]))+int64(binary.LittleEndian.Uint16(local[28:])) != at {
			return "", fmt.Errorf("the archive's entry %s does not lie right behind the one before it", quote(e.Name))
		}
		// A data descriptor of 16 bytes follows, of 24 for large files (APPNOTE 4.3.9).
		end = at + int64(e.CompressedSize64) + 16
		if e.CompressedSize64 >= 1<<32-1 {
			end += 8
		}
		if int64(e.CompressedSize64) < 0 || end > size || end < at {
			return "", fmt.Errorf("the archive's entry %s claims bytes beyond the archive's end", quote(e.Name))
		}
	}
	if name == "" {
		return "", errors.New("the archive is empty")
	}
	return name, nil
}

// Contents gives the records of a package's archive, and whether whole files of
// evidence are in it. It checks nothing.
func Contents(f io.ReaderAt, size int64) (records []*RecordLine, files bool, err error) {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return nil, false, fmt.Errorf("reading a package: %w", err)
	}
	listed := false
	for _, e := range z.File {
		_, path, _ := strings.Cut(e.Name, "/")
		files = files || strings.HasPrefix(path, FilesDir)
		if path == RedactedName {
			listed = true // it has none
		}
		if path != RecordsName {
			continue
		}
		listed = true
		in, err := e.Open()
		if err != nil {
			return nil, false, fmt.Errorf("reading a package: %w", err)
		}
		defer in.Close()
		for r := json.NewDecoder(in); ; {
			x := &RecordLine{}
			if err := r.Decode(x); err == io.EOF {
				break
			} else if err != nil || x.Record == nil {
				return nil, false, fmt.Errorf("reading a package: a line of %s is not a record (%v)", RecordsName, err)
			}
			records = append(records, x)
		}
	}
	if !listed {
		return nil, false, fmt.Errorf("reading a package: it has no %s", RecordsName)
	}
	return records, files, nil
}

// inOrder compares two paths by the order in which a package has them: what is below
// data/ by the bytes of its path, then the tag files as they are written.
func inOrder(a, b string) int {
	place := func(p string) int {
		if strings.HasPrefix(p, "data/") {
			return 0
		}
		if i := slices.Index(tagFiles, p); i >= 0 {
			return 1 + i
		}
		return 1 + len(tagFiles)
	}
	return cmp.Or(cmp.Compare(place(a), place(b)), strings.Compare(a, b))
}

// same writes the archive again from its files, with the time of the seal, and compares.
// It gives the offset of the first byte that differs, or -1.
func same(ctx context.Context, z *zip.Reader, at string, f io.ReaderAt, size int64) (int64, error) {
	sealed, err := time.Parse(ledger.TimeFormat, at)
	if err != nil {
		return 0, nil // told already
	}
	c := &comparer{want: bufio.NewReaderSize(io.NewSectionReader(f, 0, size), 1<<16)}
	w := zip.NewWriter(c)
	for _, e := range z.File {
		out, err := w.CreateHeader(&zip.FileHeader{Name: e.Name, Method: zip.Store, Modified: sealed.Truncate(time.Second)})
		if err != nil {
			return c.n, nil
		}
		in, err := e.Open()
		if err != nil {
			return c.n, nil
		}
		_, err = io.Copy(out, until{ctx, in})
		in.Close()
		if ctx.Err() != nil {
			return 0, context.Cause(ctx)
		}
		if err != nil {
			return c.n, nil
		}
	}
	if w.Close() != nil || c.n != size {
		return c.n, nil
	}
	return -1, nil
}

// comparer is a writer that fails at the first byte that is not the wanted one.
type comparer struct {
	want *bufio.Reader
	n    int64
}

var errDiffers = errors.New("differs")

func (c *comparer) Write(p []byte) (int, error) {
	for i := 0; i < len(p); {
		have, err := c.want.Peek(min(len(p)-i, 4096))
		for j, b := range have {
			if b != p[i+j] {
				c.n += int64(j)
				return i + j, errDiffers
			}
		}
		if len(have) == 0 {
			return i, errors.Join(errDiffers, err)
		}
		c.want.Discard(len(have)) // it was peeked at
		i, c.n = i+len(have), c.n+int64(len(have))
	}
	return len(p), nil
}

// until reads until ctx ends.
type until struct {
	ctx context.Context
	r   io.Reader
}

func (u until) Read(p []byte) (int, error) {
	if u.ctx.Err() != nil {
		return 0, context.Cause(u.ctx)
	}
	return u.r.Read(p)
}
