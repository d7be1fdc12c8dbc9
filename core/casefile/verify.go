package casefile

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"crosswind/core/digest"
	"crosswind/core/fieldmap"
	"crosswind/core/ledger"
	"crosswind/core/stamp"
)

// Fault is one thing that does not hold.
type Fault struct {
	Where           string // file, and line if there is one
	What            string
	Expected, Found string
}

// String writes the fault as one line of what can be printed: names and texts of a
// package may hold anything.
func (f Fault) String() string {
	s := f.Where + ": " + f.What
	if f.Expected != "" || f.Found != "" {
		s += fmt.Sprintf(": expected %s, found %s", f.Expected, f.Found)
	}
	return Printable(s)
}

// Printable writes what is not to be printed, such as control and format characters, as
// escapes.
func Printable(s string) string {
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[0])
		case unicode.IsPrint(r):
			b.WriteRune(r)
		default:
			fmt.Fprintf(&b, `\u{%x}`, r)
		}
		s = s[n:]
	}
	return b.String()
}

func quote(s string) string { return `"` + Printable(s) + `"` }

// Result is what a check of a package found.
type Result struct {
	Case     string
	Key      string // that signed the seal, hex
	Redacted bool   // it is a redacted package: a report without what it rests on
	Files    int
	Records  int
	Entries  int64        // of the ledger; of a redacted package those that its head speaks of
	Stamp    *stamp.Stamp // of the ledger's head, nil if it has none
	Faults   []Fault
}

// maxTagFile bounds what is read into memory of one tag file or line.
const maxTagFile = 256 << 20

type checker struct {
	ctx     context.Context
	fsys    fs.FS
	o       Options
	r       *Result
	sums    map[string]sums // of every file that is there
	bag, at string          // by the seal
	records []*RecordLine
	used    map[string]bool          // files that a record lies in, or that a record names
	maps    map[string]*fieldmap.Map // by SHA-256
	marks   Marks
	signed  map[string]string // the SHA-256 of the reports that were signed, by the paths that they have
}

// maxFaults bounds what is told.
const maxFaults = 1000

func (c *checker) fault(where, what, expected, found string) {
	if len(c.r.Faults) < maxFaults {
		c.r.Faults = append(c.r.Faults, Fault{where, what, expected, found})
	}
}

// Verify checks the bag in fsys. It fails only if fsys is not a bag, or if ctx ends.
func Verify(ctx context.Context, fsys fs.FS, o Options) (*Result, error) {
	c, err := verify(ctx, fsys, o)
	if err != nil {
		return nil, err
	}
	return c.r, nil
}

func verify(ctx context.Context, fsys fs.FS, o Options) (*checker, error) {
	c := &checker{ctx: ctx, fsys: fsys, o: o, r: &Result{}, sums: map[string]sums{}, used: map[string]bool{}, maps: map[string]*fieldmap.Map{}, signed: map[string]string{}}
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
		c.manifest("tagmanifest-"+a+".txt", a, func(p string) bool { return !strings.HasPrefix(p, "data/") && !isTagManifest(p) })
	}
	c.seal()
	c.info()
	if c.r.Redacted = c.sums[RedactedName] != nil; c.r.Redacted {
		if h := c.head(); h != nil {
			if c.r.Entries = h.Size; h.Book != BookOf(c.r.Case) {
				c.fault(HeadName, "is of another book", BookOf(c.r.Case), h.Book)
			}
		}
	} else {
		c.readRecords(c.ledger())
		c.tables()
		c.graph()
		c.report()
	}
	c.payload()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	return c, nil
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
			c.fault(path, "is not a regular file", "", "")
			return nil
		}
		f, err := c.fsys.Open(path)
		if err != nil {
			c.fault(path, "cannot be read: "+err.Error(), "", "")
			return nil
		}
		defer f.Close()
		a, b := sha256.New(), sha512.New()
		_, err = io.Copy(io.MultiWriter(a, b), until{c.ctx, f})
		if c.ctx.Err() != nil {
			return context.Cause(c.ctx)
		}
		if err != nil {
			c.fault(path, "cannot be read to its end: "+err.Error(), "", "")
		}
		c.sums[path] = sums{"sha256": hex.EncodeToString(a.Sum(nil)), "sha512": hex.EncodeToString(b.Sum(nil))}
		c.r.Files++
		return nil
	})
}

// open opens a regular file.
func (c *checker) open(path string) (fs.File, error) {
	if c.sums[path] == nil { // which was regular when it was hashed
		return nil, fmt.Errorf("open %s: %w", quote(path), fs.ErrNotExist)
	}
	return c.fsys.Open(path)
}

func (c *checker) read(path string) ([]byte, error) {
	f, err := c.open(path)
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

// info checks bag-info.txt: the payload's size and count (RFC 8493 section 2.2.2), and
// that its case is the seal's.
func (c *checker) info() {
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
	for _, want := range [][2]string{{"Payload-Oxum", fmt.Sprintf("%d.%d", bytes, n)}, {"External-Identifier", oneLine(c.r.Case)}} {
		if found, times := infoOf(b, want[0]); times != 1 || found != want[1] {
			c.fault(BagInfoName, want[0], want[1], found)
		}
	}
}

// infoOf is the value of a label of a bag-info.txt, the last one, and how often it is there.
func infoOf(b []byte, label string) (value string, times int) {
	for line := range strings.SplitSeq(string(b), "\n") {
		if v, ok := strings.CutPrefix(line, label+": "); ok {
			value = v
			times++
		}
	}
	return value, times
}

// graph compares the records in the ontologies with the records themselves, if the package has them.
func (c *checker) graph() {
	if c.sums[GraphName] == nil {
		return
	}
	b, err := c.read(GraphName)
	info, err2 := c.read(BagInfoName)
	if err := cmp.Or(err, err2); err != nil {
		c.fault(GraphName, "cannot be compared: "+err.Error(), "", "")
		return
	}
	title, _ := infoOf(info, "External-Description")
	tool, _ := infoOf(info, "Bag-Software-Agent")
	if c.o.Tool != "" && tool != oneLine(c.o.Tool) {
		return
	}
	want, err := Graph(c.r.Case, title, tool, c.records)
	if err != nil || !bytes.Equal(b, want) {
		at := 1 // the line where they part
		for i := 0; i < min(len(b), len(want)) && b[i] == want[i]; i++ {
			if b[i] == '\n' {
				at++
			}
		}
		c.fault(fmt.Sprintf("%s line %d", GraphName, at), "is not what the records give", "", "")
	}
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
		c.fault(SealName, "is not a seal in canonical form (RFC 8785)", "", "")
		return
	}
	c.r.Case, c.r.Key, c.bag, c.at = s.Case, s.Key, s.Bag, s.At
	if _, err := time.Parse(ledger.TimeFormat, s.At); err != nil {
		c.fault(SealName, "its time is not RFC 3339 in UTC with milliseconds", "", s.At)
	}
	if !validName(s.Bag) || !strings.HasPrefix(s.Bag, s.Case) {
		c.fault(SealName, "the bag's name is not a name of a folder that begins with the case's reference", s.Case, s.Bag)
	}
	if c.o.Key != "" && !strings.EqualFold(c.o.Key, s.Key) {
		c.fault(SealName, "it was signed by another key than the one that was given", c.o.Key, s.Key)
	}
	key, err1 := hex.DecodeString(s.Key)
	sig, err2 := hex.DecodeString(s.Sig)
	msg, err3 := s.signed()
	canonical := hex.EncodeToString(key) == s.Key && hex.EncodeToString(sig) == s.Sig // in lower case
	if errors.Join(err1, err2, err3) != nil || !canonical || len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, msg, sig) {
		c.fault(SealName, "the Ed25519 signature does not hold", "", "")
	}
	var paths []string
	for p := range c.sums {
		if !strings.HasPrefix(p, "data/") && !isTagManifest(p) && p != SealName && s.Files[p] == "" {
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

func validName(s string) bool {
	return s != "" && fs.ValidPath(s) && !strings.Contains(s, "/") && s != "."
}

// ledger checks the custody ledger and gives the manifests' digests that its
// entries name.
func (c *checker) ledger() map[string]bool {
	manifests := map[string]bool{}
	f, err := c.open(LedgerName)
	if err != nil {
		c.fault(LedgerName, "cannot be read: "+err.Error(), "", "")
		return manifests
	}
	defer f.Close()
	check := &ledger.Checker{Book: BookOf(c.r.Case), Now: c.o.Now, Heads: c.heads()}
	err = check.Check(until{c.ctx, f}, func(e *ledger.Entry) {
		if manifestEntries[e.What] {
			manifests[e.Detail["manifest_sha256"]] = true
		}
		if version := e.Detail["version"]; e.What == "report.signed" {
			c.signed[SignedPath(version, "html")] = e.Detail["sha256"]
			for _, ending := range []string{"pdf", "zip"} {
				c.signed[SignedPath(version, ending)] = e.Detail["pdf_sha256"]
			}
		}
		c.marks.Add(e)
	})
	if err != nil {
		c.fault(LedgerName, err.Error(), "", "")
	}
	c.r.Entries = check.Entries
	if h := c.head(); h != nil {
		check.Against(h)
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

// head reads the ledger's head, signed by the seal's key, and its time stamp, nil if it cannot be read.
func (c *checker) head() *ledger.Head {
	b, err := c.read(HeadName)
	var h *ledger.Head
	if err == nil {
		line, ended := bytes.CutSuffix(b, []byte("\n"))
		if h, err = ledger.ParseHead(line); err == nil && !ended {
			err = errors.New("does not end with a line feed")
		}
	}
	if h != nil {
		c.r.Stamp = c.stamp(StampName, b, h)
		if h.Key != c.r.Key {
			c.fault(HeadName, "the ledger's head is signed by another key than the seal", c.r.Key, h.Key)
		}
	}
	if err != nil {
		c.fault(HeadName, err.Error(), "", "")
	}
	return h
}

// manifestEntries are the entries of a ledger that name the SHA-256 of a manifest.
var manifestEntries = map[string]bool{"acquisition.ended": true, "backup.unlocked": true, "backup.content_read": true, "image.content_read": true}

// heads reads the heads that were signed before, each by the seal's key, by size.
func (c *checker) heads() (out []ledger.Head) {
	b, err := c.read(HeadsName)
	if err != nil {
		c.fault(HeadsName, "cannot be read: "+err.Error(), "", "")
		return nil
	}
	n := 0
	for line := range bytes.Lines(b) {
		n++
		where := fmt.Sprintf("%s line %d", HeadsName, n)
		text, ended := bytes.CutSuffix(line, []byte("\n"))
		h, err := ledger.ParseHead(text)
		switch {
		case err != nil:
			c.fault(where, err.Error(), "", "")
			continue
		case !ended:
			c.fault(where, "does not end with a line feed", "", "")
		case h.Key != c.r.Key:
			c.fault(where, "is signed by another key than the seal", c.r.Key, h.Key)
		case h.Book != BookOf(c.r.Case):
			c.fault(where, "is of another book", BookOf(c.r.Case), h.Book)
		case len(out) > 0 && h.Size < out[len(out)-1].Size:
			c.fault(where, "lies out of order", "", fmt.Sprint(h.Size))
			continue
		}
		c.used[StampPath(line)] = true
		c.stamp(StampPath(line), line, h)
		out = append(out, *h)
	}
	return out
}

// payload names the files that nothing of the package speaks of.
func (c *checker) payload() {
	report, known := ReportName, []string{ReportName, ReaderName, RecordsName, GraphName, LedgerName, HeadName, HeadsName, StampName, TrustedName}
	if c.r.Redacted {
		report, known = RedactedName, []string{RedactedName, HeadName, StampName, TrustedName}
	}
	var extra []string
	for p := range c.sums {
		switch {
		case !strings.HasPrefix(p, "data/"), c.used[p], isPDF(report, p), slices.Contains(known, p):
		case strings.HasPrefix(p, ManifestsDir) && c.isManifest(p):
		case c.signed[p] != "":
			if sum := c.sums[p]["sha256"]; sum != c.signed[p] {
				c.fault(p, "is not the report that was signed: its SHA-256 is not that in the entry report.signed", c.signed[p], sum)
			}
		default:
			extra = append(extra, p)
		}
	}
	sort.Strings(extra)
	for _, p := range extra {
		c.fault(p, "nothing in the package speaks of it", "", "")
	}
}

// isManifest reports whether a file is one of the manifests of an acquisition that a
// record is from.
func (c *checker) isManifest(p string) bool {
	for _, r := range c.records {
		base := fmt.Sprintf("%s%s-acquisition-%d", ManifestsDir, r.Exhibit, r.Acquisition)
		for _, end := range []string{".sha256", ".sha1", ".md5", ".unread", "-content.sha256"} {
			if p == base+end {
				return true
			}
		}
	}
	return false
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
		c.fault(name, "no entry acquisition.ended, backup.unlocked, backup.content_read or image.content_read of the ledger names its SHA-256", "", sum)
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

// maxCell bounds the bytes of one record.
const maxCell = 64 << 20

// cell reads the bytes of a record: a run of its file, or its cell alone if the file is
// withheld.
func (c *checker) cell(r *RecordLine) ([]byte, error) {
	sum, offset, length := r.Origin().SHA256, r.Origin().Offset, int64(r.Origin().Length)
	name := FilesDir + sum
	if r.FileWithheld {
		name, offset = CellsDir+r.Origin().Digest, 0
	}
	c.used[name] = true
	if len(sum) != 64 {
		return nil, fmt.Errorf("%q is not a SHA-256", sum)
	}
	b, size, err := c.span(name, offset, length)
	if err == nil && r.FileWithheld && size != length {
		err = fmt.Errorf("its cell has %d bytes, not %d", size, length)
	}
	return b, err
}

// span reads a run of bytes of a file of the package, which is size bytes long.
func (c *checker) span(name string, offset, length int64) (b []byte, size int64, err error) {
	if !fs.ValidPath(name) {
		return nil, 0, fmt.Errorf("%q is not the path of a file", name)
	}
	f, err := c.open(name)
	if err != nil {
		return nil, 0, fmt.Errorf("its file is not in the package: %w", err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, 0, fmt.Errorf("its file: %w", err)
	}
	if offset < 0 || length < 0 || length > maxCell || offset > st.Size() || length > st.Size()-offset {
		return nil, 0, fmt.Errorf("its bytes, %d from offset %d, are not all in the file", length, offset)
	}
	if s, ok := f.(io.Seeker); ok {
		_, err = s.Seek(offset, io.SeekStart)
	} else {
		_, err = io.CopyN(io.Discard, until{c.ctx, f}, offset)
	}
	b = make([]byte, length)
	if err == nil {
		_, err = io.ReadFull(f, b)
	}
	if err != nil {
		return nil, 0, fmt.Errorf("reading its bytes, %d from offset %d: %w", length, offset, err)
	}
	return b, st.Size(), nil
}
