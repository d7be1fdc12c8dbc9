package main

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"
	"time"

	"crosswind/core/storage"
	"crosswind/core/volume"

	"github.com/spf13/cobra"
)

func carveCommand() *cobra.Command {
	var asJSON bool
	var out string
	c := &cobra.Command{Use: "carve --json --out DIR IMAGE", Short: "The files of a raw storage image: live, deleted and carved", Args: args(1, 1),
		Long: "Reads a raw image of a whole device, of a single volume, or of neither, writes each live, deleted and carved file below DIR, and says of each, one JSON object a line, where its bytes lie in the image. Of an image in parts IMAGE is the first, whose name ends with 001 or aa. The image is opened for reading alone; DIR is made, and must be empty.",
		RunE: func(c *cobra.Command, paths []string) error {
			if !asJSON || out == "" {
				return fmt.Errorf("%w: carve writes JSON, and files: give --json and --out DIR", errUse)
			}
			return carveImage(c.Context(), paths[0], out)
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "write one JSON object a line")
	c.Flags().StringVar(&out, "out", "", "the folder that the files are written below")
	return c
}

// carvedLine is a file as carve writes it: docs/formats.md.
type carvedLine struct {
	Path       string     `json:"path"` // below DIR, "" if it was not written
	Name       string     `json:"name"`
	Kind       string     `json:"kind"`
	State      string     `json:"state"`
	Volume     int        `json:"volume"`
	Fragments  [][2]int64 `json:"fragments"`
	Size       int64      `json:"size"`
	SHA256     string     `json:"sha256"`
	MTime      *string    `json:"mtime"`
	MTimeLocal string     `json:"mtime_local,omitempty"`
	Complete   any        `json:"complete"`
	Why        string     `json:"why,omitempty"`
}

func carveImage(ctx context.Context, at, dir string) (err error) {
	image, size, closing, err := openImage(at)
	if err != nil {
		return err
	}
	defer closing()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if all, err := os.ReadDir(dir); err != nil || len(all) > 0 {
		return cmp.Or(err, fmt.Errorf("%s is not empty", dir))
	}
	root, err := os.OpenRoot(dir) // nothing is written outside of it, whatever the names say
	if err != nil {
		return err
	}
	defer root.Close()
	w := bufio.NewWriter(os.Stdout)
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	opt := storage.Options{Full: true, Note: func(err error) { fmt.Fprintf(os.Stderr, "%s: %v\n", at, err) }, Seen: func(int64) bool { return ctx.Err() == nil }, Skip: holes(image)}
	taken := map[string]bool{}
	for f, err := range storage.Files(image, size, opt) {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return errors.Join(err, w.Flush())
		}
		line := lineOf(f)
		if !plausibleSize(f, size) {
			fmt.Fprintf(os.Stderr, "%s: %s claims %d bytes, and is not written\n", at, f.Path, f.Size)
			line.Complete = false
		} else if line.Path, line.SHA256, err = writeFile(root, f, image, taken); err != nil {
			return errors.Join(err, w.Flush())
		}
		if err := enc.Encode(line); err != nil {
			return err
		}
	}
	return errors.Join(ctx.Err(), w.Flush())
}

// plausibleSize reports whether what a file claims beyond what is stored of it is no more than a file system would
// keep on a device of this size.
func plausibleSize(f *storage.File, image int64) bool {
	stored := int64(0)
	for _, e := range f.Extents {
		if e.Offset != volume.Hole {
			stored += e.Length
		}
	}
	return f.Size-stored <= 1<<30+image
}

func lineOf(f *storage.File) carvedLine {
	l := carvedLine{Name: f.Path, Kind: string(f.Kind), State: string(f.State), Volume: f.Volume, Size: f.Size, MTimeLocal: f.Modified.Local, Why: f.Why, Fragments: [][2]int64{}}
	for _, e := range f.Extents {
		l.Fragments = append(l.Fragments, [2]int64{e.Offset, e.Length})
	}
	if f.Modified.At != nil {
		s := f.Modified.At.UTC().Format(time.RFC3339Nano)
		l.MTime = &s
	}
	switch f.Complete {
	case volume.Whole:
		l.Complete = true
	case volume.Part:
		l.Complete = false
	default:
		l.Complete = string(f.Complete)
	}
	return l
}

// writeFile writes a file below root, at a path of its own that its name gives, and gives its SHA-256.
func writeFile(root *os.Root, f *storage.File, image io.ReaderAt, taken map[string]bool) (at, sum string, err error) {
	parts := []string{fmt.Sprintf("volume-%d", f.Volume), string(f.State)}
	for _, s := range strings.Split(strings.Trim(f.Path, "/"), "/") {
		for len(s) > 200 { // longer than a name may be here
			s = strings.ToValidUTF8(s[:200], "_")
		}
		parts = append(parts, s)
	}
	if len(parts) > 40 {
		parts = append(parts[:3], parts[len(parts)-1])
	}
	stem := path.Join(parts...)
	at = stem
	for n := 2; taken[at]; n++ {
		at = fmt.Sprintf("%s (%d)", stem, n)
	}
	if err := root.MkdirAll(path.Dir(at), 0o755); err != nil { // a deleted file may be called as a folder is
		at = path.Join(parts[0], parts[1], fmt.Sprintf("entry at %d", f.Entry.Offset))
		if err := root.MkdirAll(path.Dir(at), 0o755); err != nil {
			return "", "", err
		}
	}
	w, err := root.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) || errors.Is(err, syscall.EISDIR) {
		at = fmt.Sprintf("%s (entry at %d)", at, f.Entry.Offset)
		w, err = root.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	}
	if err != nil {
		return "", "", err
	}
	taken[at] = true
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(h, w), f.Reader(image))
	if err := errors.Join(err, w.Close()); err != nil {
		return "", "", fmt.Errorf("%s: %w", f.Path, err)
	}
	return at, hex.EncodeToString(h.Sum(nil)), nil
}

// openImage opens an image, or the parts of one: a name that ends with 001 or aa stands for those that follow.
func openImage(at string) (image io.ReaderAt, size int64, closing func(), err error) {
	var all joined
	closing = func() {
		for _, f := range all.files {
			f.Close()
		}
	}
	for name := at; name != ""; name = nextPart(name) {
		f, err := openRegular(name)
		if err != nil {
			if len(all.files) > 0 && errors.Is(err, fs.ErrNotExist) {
				break
			}
			closing()
			return nil, 0, nil, err
		}
		st, err := f.Stat()
		if err != nil {
			closing()
			return nil, 0, nil, err
		}
		all.files, all.at = append(all.files, f), append(all.at, all.size)
		all.size += st.Size()
	}
	if len(all.files) == 1 {
		return all.files[0], all.size, closing, nil
	}
	return &all, all.size, closing, nil
}

// nextPart is what the part of an image behind another is called, "" if that is no part by its name.
func nextPart(name string) string {
	b := []byte(name)
	i := len(b) - 1
	lo, hi := byte('0'), byte('9')
	if i >= 1 && b[i] >= 'a' && b[i] <= 'z' && b[i-1] >= 'a' && b[i-1] <= 'z' && (len(b) == 2 || b[i-2] == '.' || b[i-2] == 'x') {
		lo, hi = 'a', 'z'
	} else if len(b) < 4 || b[len(b)-4] != '.' {
		return ""
	}
	for ; i >= 0 && b[i] >= lo && b[i] <= hi; i-- {
		if b[i] != hi {
			b[i]++
			return string(b)
		}
		b[i] = lo
	}
	return ""
}

// joined are files one behind the other.
type joined struct {
	files []*os.File
	at    []int64
	size  int64
}

func (j *joined) ReadAt(b []byte, at int64) (n int, err error) {
	for i, f := range j.files {
		end := j.size
		if i+1 < len(j.files) {
			end = j.at[i+1]
		}
		if at < j.at[i] || at >= end || n == len(b) {
			continue
		}
		got, err := f.ReadAt(b[n:n+int(min(int64(len(b)-n), end-at))], at-j.at[i])
		n, at = n+got, at+int64(got)
		if err != nil && err != io.EOF {
			return n, err
		}
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

// holes says of an image that is one file where what is stored goes on, so that holes are not read.
func holes(image io.ReaderAt) func(int64) int64 {
	f, ok := image.(*os.File)
	if !ok {
		return nil
	}
	const seekData = 3 // lseek(2), Linux
	return func(at int64) int64 {
		to, err := f.Seek(at, seekData)
		if errors.Is(err, syscall.ENXIO) { // nothing more
			if st, err := f.Stat(); err == nil {
				return st.Size()
			}
		}
		if err != nil {
			return at
		}
		return to
	}
}
