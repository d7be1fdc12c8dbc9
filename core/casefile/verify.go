package casefile

import (
	"archive/zip"
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sort"
	"strings"

	"crosswind/core/digest"
	"crosswind/core/ledger"
)

// Fault is one thing that does not hold.
type Fault struct {
	Where           string // file, and line if there is one
	What            string
	Expected, Found string
}

// String writes the fault as one line.
func (f Fault) String() string {
	s := f.Where + ": " + f.What
	if f.Expected != "" || f.Found != "" {
		s += fmt.Sprintf(": expected %s, found %s", f.Expected, f.Found)
	}
	return strings.NewReplacer("\n", " ", "\r", " ").Replace(s)
}

// Result is what a check of a package found.
type Result struct {
	Case    string
	Key     string // that signed the seal, hex
	Files   int
	Records int
	Entries int64 // of the ledger
	Faults  []Fault
}

// VerifyPath checks the package at path: a folder, or a ZIP archive of one. It
// fails only if there is no package to check.
func VerifyPath(path string) (*Result, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if st.IsDir() {
		root, err := os.OpenRoot(path)
		if err != nil {
			return nil, err
		}
		defer root.Close()
		return Verify(root.FS())
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := zip.NewReader(f, st.Size())
	if err != nil {
		return nil, fmt.Errorf("%s is no folder and no ZIP archive: %w", path, err)
	}
	name := ""
	for _, e := range z.File {
		top, rest, ok := strings.Cut(e.Name, "/")
		if !ok || !fs.ValidPath(e.Name) || name != "" && top != name || rest == "" {
			return nil, fmt.Errorf("%s: the archive's entry %q lies outside the one folder of a package", path, e.Name)
		}
		if e.Method != zip.Store {
			return nil, fmt.Errorf("%s: the archive's entry %q is compressed; a package's entries are stored", path, e.Name)
		}
		name = top
	}
	if name == "" {
		return nil, fmt.Errorf("%s: the archive is empty", path)
	}
	sub, err := fs.Sub(z, name)
	if err != nil {
		return nil, err
	}
	r, err := Verify(sub)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if at := sameArchive(z, f, st.Size()); at >= 0 {
		r.Faults = append(r.Faults, Fault{"the archive", fmt.Sprintf("its own bytes, from offset %d, are not what its files give", at), "", ""})
	}
	return r, nil
}

// sameArchive writes the archive again from its files and compares. It gives
// the offset of the first byte that differs, or -1.
func sameArchive(z *zip.Reader, f io.ReaderAt, size int64) int64 {
	c := &comparer{want: bufio.NewReaderSize(io.NewSectionReader(f, 0, size), 1<<16)}
	w := zip.NewWriter(c)
	for _, e := range z.File {
		out, err := w.CreateHeader(&zip.FileHeader{Name: e.Name, Method: zip.Store, Modified: e.Modified.UTC()})
		if err != nil {
			return c.n
		}
		in, err := e.Open()
		if err != nil {
			return c.n
		}
		_, err = io.Copy(out, in)
		in.Close()
		if err != nil {
			return c.n
		}
	}
	if w.Close() != nil || c.n != size {
		return c.n
	}
	return -1
}

// comparer is a writer that fails at the first byte that is not the wanted one.
type comparer struct {
	want *bufio.Reader
	n    int64
}

var errDiffers = errors.New("differs")

func (c *comparer) Write(p []byte) (int, error) {
	for i, b := range p {
		w, err := c.want.ReadByte()
		if err != nil || w != b {
			return i, errDiffers
		}
		c.n++
	}
	return len(p), nil
}

// maxTagFile bounds what is read into memory of one tag file or line.
const maxTagFile = 256 << 20

type checker struct {
	fsys fs.FS
	r    *Result
	sums map[string]sums // of every file that is there
}

func (c *checker) fault(where, what, expected, found string) {
	c.r.Faults = append(c.r.Faults, Fault{where, what, expected, found})
}

// Verify checks the bag in fsys. It fails only if fsys is no bag.
func Verify(fsys fs.FS) (*Result, error) {
	c := &checker{fsys, &Result{}, map[string]sums{}}
	if _, err := fs.Stat(fsys, BagItName); err != nil {
		return nil, fmt.Errorf("not a case package: %w", err)
	}
	if err := c.hashAll(); err != nil {
		return nil, err
	}
	if b, err := c.read(BagItName); err == nil && string(b) != bagIt {
		c.fault(BagItName, "is not that of a BagIt 1.0 bag", "", "")
	}
	for _, a := range algorithms {
		c.manifest("manifest-"+a+".txt", a, func(p string) bool { return strings.HasPrefix(p, "data/") })
		c.manifest("tagmanifest-"+a+".txt", a, func(p string) bool {
			return !strings.HasPrefix(p, "data/") && !strings.HasPrefix(p, "tagmanifest-")
		})
	}
	c.oxum()
	c.seal()
	manifests := c.ledger()
	c.records(manifests)
	return c.r, nil
}

func (c *checker) hashAll() error {
	return fs.WalkDir(c.fsys, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			c.fault(path, "cannot be read: "+err.Error(), "", "")
			return nil
		}
		if d.IsDir() {
			return nil
		}
		if !d.Type().IsRegular() {
			c.fault(path, "is no regular file", "", "")
			return nil
		}
		f, err := c.fsys.Open(path)
		if err != nil {
			c.fault(path, "cannot be read: "+err.Error(), "", "")
			return nil
		}
		defer f.Close()
		a, b := sha256.New(), sha512.New()
		if _, err := io.Copy(io.MultiWriter(a, b), f); err != nil {
			c.fault(path, "cannot be read to its end: "+err.Error(), "", "")
		}
		c.sums[path] = sums{"sha256": hex.EncodeToString(a.Sum(nil)), "sha512": hex.EncodeToString(b.Sum(nil))}
		c.r.Files++
		return nil
	})
}

func (c *checker) read(path string) ([]byte, error) {
	f, err := c.fsys.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, maxTagFile+1))
	if err == nil && len(b) > maxTagFile {
		err = fmt.Errorf("is larger than %d bytes", maxTagFile)
	}
	return b, err
}

// manifest checks a manifest against the files that are there: those that
// belongs says, each once, and no other.
func (c *checker) manifest(name, algorithm string, belongs func(string) bool) {
	b, err := c.read(name)
	if err != nil {
		c.fault(name, "cannot be read: "+err.Error(), "", "")
		return
	}
	length := map[string]int{"sha256": sha256.Size, "sha512": sha512.Size}[algorithm]
	named := map[string]sums{}
	for l, err := range digest.Lines(bytes.NewReader(b), length) {
		if err != nil {
			c.fault(name, err.Error(), "", "")
			return
		}
		named[l.Path] = sums{algorithm: l.Sum}
		switch have := c.sums[l.Path]; {
		case !belongs(l.Path):
			c.fault(name, "names "+l.Path+", which does not belong into it", "", "")
		case have == nil:
			c.fault(l.Path, "is missing; "+name+" names it", "", "")
		case have[algorithm] != l.Sum:
			c.fault(l.Path, "its "+strings.ToUpper(algorithm)+" is not that in "+name, l.Sum, have[algorithm])
		}
	}
	if manifest(named, algorithm) != string(b) {
		c.fault(name, "is not written as a package writes it: in order, lower-case, two spaces", "", "")
	}
	var extra []string
	for p := range c.sums {
		if belongs(p) && named[p] == nil {
			extra = append(extra, p)
		}
	}
	sort.Strings(extra)
	for _, p := range extra {
		c.fault(p, "is one too many; "+name+" does not name it", "", "")
	}
}

// oxum checks the payload's size and count (RFC 8493 section 2.2.2).
func (c *checker) oxum() {
	b, err := c.read(BagInfoName)
	if err != nil {
		c.fault(BagInfoName, "cannot be read: "+err.Error(), "", "")
		return
	}
	var bytes, n int64
	for p := range c.sums {
		if strings.HasPrefix(p, "data/") {
			if st, err := fs.Stat(c.fsys, p); err == nil {
				bytes += st.Size()
				n++
			}
		}
	}
	want := fmt.Sprintf("%d.%d", bytes, n)
	for line := range strings.SplitSeq(string(b), "\n") {
		if v, ok := strings.CutPrefix(line, "Payload-Oxum: "); ok {
			if v != want {
				c.fault(BagInfoName, "Payload-Oxum", v, want)
			}
			return
		}
	}
	c.fault(BagInfoName, "has no Payload-Oxum", "", "")
}

func (c *checker) seal() {
	b, err := c.read(SealName)
	if err != nil {
		c.fault(SealName, "cannot be read: "+err.Error(), "", "")
		return
	}
	var s Seal
	line, ended := bytes.CutSuffix(b, []byte("\n"))
	canon, err := ledger.Canonical(line)
	if err == nil {
		d := json.NewDecoder(bytes.NewReader(line))
		d.DisallowUnknownFields()
		err = d.Decode(&s)
	}
	if err != nil || !ended || !bytes.Equal(canon, line) {
		c.fault(SealName, "is no seal in canonical form (RFC 8785)", "", "")
		return
	}
	c.r.Case, c.r.Key = s.Case, s.Key
	key, err1 := hex.DecodeString(s.Key)
	sig, err2 := hex.DecodeString(s.Sig)
	msg, err3 := s.signed()
	if errors.Join(err1, err2, err3) != nil || len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, msg, sig) {
		c.fault(SealName, "the Ed25519 signature does not hold", "", "")
	}
	var paths []string
	for p := range c.sums {
		if !strings.HasPrefix(p, "data/") && !strings.HasPrefix(p, "tagmanifest-") && p != SealName && s.Files[p] == "" {
			c.fault(p, "the seal does not name it", "", "")
		}
	}
	for p := range s.Files {
		paths = append(paths, p)
	}
	sort.Strings(paths)
	for _, p := range paths {
		if found := c.sums[p]["sha256"]; found != s.Files[p] {
			c.fault(p, "its SHA-256 is not that in "+SealName, s.Files[p], found)
		}
	}
}

// ledger checks the custody ledger and gives the manifests' digests that its
// entries name.
func (c *checker) ledger() map[string]bool {
	manifests := map[string]bool{}
	f, err := c.fsys.Open(LedgerName)
	if err != nil {
		c.fault(LedgerName, "cannot be read: "+err.Error(), "", "")
		return manifests
	}
	defer f.Close()
	check, err := ledger.Check(f, func(e *ledger.Entry) {
		if e.What == "acquisition.ended" || e.What == "backup.unlocked" {
			manifests[e.Detail["manifest_sha256"]] = true
		}
	})
	if err != nil {
		c.fault(LedgerName, err.Error(), "", "")
	}
	c.r.Entries = check.Entries
	b, err := c.read(HeadName)
	var h ledger.Head
	if err == nil {
		d := json.NewDecoder(bytes.NewReader(b))
		d.DisallowUnknownFields()
		err = d.Decode(&h)
	}
	if err != nil {
		c.fault(HeadName, "cannot be read: "+err.Error(), "", "")
	} else {
		check.Against(&h)
		if h.Key != c.r.Key {
			c.fault(HeadName, "the ledger's head is signed by another key than the seal", c.r.Key, h.Key)
		}
	}
	for _, x := range check.Faults {
		where := LedgerName
		if x.Line > 0 {
			where += fmt.Sprintf(" line %d", x.Line)
		}
		c.fault(where, x.What, x.Expected, x.Found)
	}
	return manifests
}

// records checks that each record's bytes are in the file it names, and that
// the file stands in a manifest that the ledger vouches for.
func (c *checker) records(vouched map[string]bool) {
	f, err := c.fsys.Open(RecordsName)
	if err != nil {
		c.fault(RecordsName, "cannot be read: "+err.Error(), "", "")
		return
	}
	defer f.Close()
	listed := map[string]map[string]string{} // manifest to path to SHA-256
	sc := bufio.NewScanner(f)
	sc.Buffer(nil, 16<<20)
	for n := 1; sc.Scan(); n++ {
		where := fmt.Sprintf("%s line %d", RecordsName, n)
		var r RecordLine
		if err := json.Unmarshal(sc.Bytes(), &r); err != nil || r.Record == nil {
			c.fault(where, "is no record", "", "")
			continue
		}
		c.r.Records++
		o := r.Origin
		if found, err := c.bytesOf(&r); err != nil {
			c.fault(where, "record "+r.UID+": "+err.Error(), "", "")
		} else if found != o.Digest {
			c.fault(where, "record "+r.UID+": the SHA-256 of its bytes", o.Digest, found)
		}
		name := ManifestsDir + r.Manifest
		if listed[name] == nil {
			listed[name] = c.acquired(name, vouched)
		}
		if s := listed[name][o.Stored]; s != o.SHA256 {
			c.fault(where, "record "+r.UID+": the SHA-256 of "+o.Stored+" in "+name, o.SHA256, "\""+s+"\"")
		}
	}
	if err := sc.Err(); err != nil {
		c.fault(RecordsName, err.Error(), "", "")
	}
}

// acquired reads an acquisition's manifest.
func (c *checker) acquired(name string, vouched map[string]bool) map[string]string {
	out := map[string]string{}
	if !fs.ValidPath(name) {
		c.fault(RecordsName, fmt.Sprintf("names a manifest at %q", name), "", "")
		return out
	}
	b, err := c.read(name)
	if err != nil {
		c.fault(name, "cannot be read: "+err.Error(), "", "")
		return out
	}
	if sum := c.sums[name]["sha256"]; !vouched[sum] {
		c.fault(name, "no entry acquisition.ended or backup.unlocked of the ledger names its SHA-256", "", sum)
	}
	for l, err := range digest.Lines(bytes.NewReader(b), sha256.Size) {
		if err != nil {
			c.fault(name, err.Error(), "", "")
			break
		}
		out[l.Path] = l.Sum
	}
	return out
}

// bytesOf hashes the bytes of a record: a run of its file, or its cell alone if
// the file is withheld.
func (c *checker) bytesOf(r *RecordLine) (string, error) {
	sum, offset, length := r.Origin.SHA256, r.Origin.Offset, r.Origin.Length
	name := FilesDir + sum
	if r.FileWithheld {
		name, offset = CellsDir+r.Origin.Digest, 0
	}
	if len(sum) != 64 || !fs.ValidPath(name) {
		return "", fmt.Errorf("%q is no SHA-256", sum)
	}
	f, err := c.fsys.Open(name)
	if err != nil {
		return "", fmt.Errorf("its file is not in the package: %w", err)
	}
	defer f.Close()
	if offset < 0 || length < 0 || length > maxTagFile {
		return "", fmt.Errorf("offset %d and length %d cannot be", offset, length)
	}
	if s, ok := f.(io.Seeker); ok {
		_, err = s.Seek(offset, io.SeekStart)
	} else {
		_, err = io.CopyN(io.Discard, f, offset)
	}
	h := sha256.New()
	if err == nil {
		_, err = io.CopyN(h, f, int64(length))
	}
	if err != nil {
		return "", fmt.Errorf("its bytes, %d from offset %d, are not all in the file: %w", length, offset, err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
