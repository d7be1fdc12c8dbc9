// Package casefile writes and checks case packages: BagIt bags (RFC 8493) that
// hold a report, the records that it speaks of, the files that they came from,
// the manifests of the acquisitions and the custody ledger, under a signed
// seal. docs/formats.md describes them exactly enough to write a verifier from.
//
// It needs no database and no network. It does not know how a report is made.
package casefile

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/csv"
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

	"crosswind/core/digest"
	"crosswind/core/ledger"
	"crosswind/core/record"
)

// Paths of a package's parts, below the bag's folder.
const (
	BagItName    = "bagit.txt"
	BagInfoName  = "bag-info.txt"
	SealName     = "seal.json"
	VerifyName   = "VERIFY.txt"
	ReportName   = "data/report.html"
	ReaderName   = "data/reader.html"
	RecordsName  = "data/records.jsonl"
	GraphName    = "data/records.jsonld" // the same in the ontologies CASE and UCO, which a package can have
	TablesDir    = "data/tables/"        // records by kind
	LedgerName   = "data/ledger/ledger.jsonl"
	HeadName     = "data/ledger/head.json"
	HeadsName    = "data/ledger/heads.jsonl"   // those that were signed before, by size
	StampName    = "data/ledger/head.tsr"      // the head's time stamp, which a package can have
	StampsDir    = "data/ledger/stamps/"       // time stamps of heads that were signed before: see [StampPath]
	TrustedName  = "data/ledger/authority.pem" // the certificates by which whoever made the package trusts the authority
	FilesDir     = "data/files/"               // each file under its SHA-256
	CellsDir     = "data/cells/"               // bytes of a record whose file is withheld, under their SHA-256
	MapsDir      = "data/maps/"                // the field maps that records were read by, under their SHA-256
	ManifestsDir = "data/manifests/"           // of the acquisitions
	SignedDir    = "data/signed/"              // a report as it was signed, which a package can have: see [SignedPath]
)

// RedactedName is the path of the report in a redacted package, which has it in place of [ReportName], and no records, no bytes
// of them, no manifests of their sources, and of the ledger the head alone.
const RedactedName = "data/report-redacted.html"

// SignedPath is the path of the version of the report that was signed, as a file with an ending: html, pdf, or zip for a PDF in
// volumes.
func SignedPath(version, ending string) string { return SignedDir + "report-" + version + "." + ending }

// PDFName is the path of a volume, counted from 1, of the report as PDF, which a package can have beside report, its [ReportName]
// or [RedactedName].
func PDFName(report string, volume int) string {
	base := strings.TrimSuffix(report, ".html")
	if volume > 1 {
		base += fmt.Sprintf("-%d", volume)
	}
	return base + ".pdf"
}

// isPDF reports whether a path is that of a volume of a report as PDF.
func isPDF(report, path string) bool {
	n := 1
	if _, err := fmt.Sscanf(path, strings.TrimSuffix(report, ".html")+"-%d.pdf", &n); err != nil {
		n = 1
	}
	return path == PDFName(report, n)
}

const bagIt = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"

// algorithms of the manifests, the strongest last.
var algorithms = []string{"sha256", "sha512"}

// tagFiles are the files outside data/, in the order in which an archive has them.
var tagFiles = []string{BagItName, BagInfoName, VerifyName, "manifest-sha256.txt", "manifest-sha512.txt", SealName, "tagmanifest-sha256.txt", "tagmanifest-sha512.txt"}

// isTagManifest reports whether a file is one of the two tag manifests: no other name is.
func isTagManifest(path string) bool {
	return path == "tagmanifest-sha256.txt" || path == "tagmanifest-sha512.txt"
}

// BookOf is the name of the ledger of a case.
func BookOf(caseReference string) string { return "case " + caseReference }

// Part is a payload file of a package.
type Part struct {
	Path string // below the bag's folder: data/…
	Open func() (io.ReadCloser, error)
}

// Bytes makes a Part of bytes.
func Bytes(path string, b []byte) Part {
	return Part{path, func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b)), nil }}
}

// Bag says what a package is of.
type Bag struct {
	Name  string // of its folder
	Case  string
	Title string
	Tool  string
	By    string
	At    time.Time
	Parts []Part
}

// redacted reports whether a package is a redacted one.
func (b *Bag) redacted() bool {
	return slices.ContainsFunc(b.Parts, func(p Part) bool { return p.Path == RedactedName })
}

// Seal is the signed statement that ties a bag's tag files together.
type Seal struct {
	Bag   string            `json:"bag"`
	Case  string            `json:"case"`
	At    string            `json:"at"`
	Files map[string]string `json:"files"` // tag file to SHA-256, hex; the tag manifests and the seal left out
	Key   string            `json:"key"`   // Ed25519 public key, hex
	Sig   string            `json:"sig"`   // over the canonical form (RFC 8785) of this object without sig, hex
}

func (s Seal) signed() ([]byte, error) {
	b, err := json.Marshal(map[string]any{"bag": s.Bag, "case": s.Case, "at": s.At, "files": s.Files, "key": s.Key})
	if err != nil {
		return nil, err
	}
	return ledger.Canonical(b)
}

// sums are the digests of one file, by algorithm.
type sums map[string]string

// writer writes a ZIP archive whose bytes follow from its files alone.
type writer struct {
	z    *zip.Writer
	root string
	at   time.Time
}

func (w *writer) add(path string, r io.Reader) (sums, int64, error) {
	f, err := w.z.CreateHeader(&zip.FileHeader{Name: w.root + "/" + path, Method: zip.Store, Modified: w.at})
	if err != nil {
		return nil, 0, err
	}
	a, b := sha256.New(), sha512.New()
	n, err := io.Copy(io.MultiWriter(f, a, b), r)
	return sums{"sha256": hex.EncodeToString(a.Sum(nil)), "sha512": hex.EncodeToString(b.Sum(nil))}, n, err
}

// Write writes a package as a ZIP archive (stored, not compressed) to w, and
// signs its seal.
func Write(w io.Writer, b Bag, key ed25519.PrivateKey) error {
	out := &writer{zip.NewWriter(w), b.Name, b.At.UTC().Truncate(time.Second)}
	sort.Slice(b.Parts, func(i, j int) bool { return b.Parts[i].Path < b.Parts[j].Path })
	payload := map[string]sums{}
	var total int64
	for _, p := range b.Parts {
		if !strings.HasPrefix(p.Path, "data/") || !fs.ValidPath(p.Path) || payload[p.Path] != nil {
			return fmt.Errorf("package part %q: no payload path, or named twice", p.Path)
		}
		r, err := p.Open()
		if err != nil {
			return fmt.Errorf("package part %s: %w", p.Path, err)
		}
		s, n, err := out.add(p.Path, r)
		r.Close()
		if err != nil {
			return fmt.Errorf("package part %s: %w", p.Path, err)
		}
		payload[p.Path] = s
		total += n
	}
	tags := map[string]sums{}
	tag := func(path, text string) error {
		s, _, err := out.add(path, strings.NewReader(text))
		tags[path] = s
		return err
	}
	info := bagInfo(b.Case, b.Title, b.By, b.At, b.Tool, total, len(payload))
	err := errors.Join(tag(BagItName, bagIt), tag(BagInfoName, info), tag(VerifyName, verifyText(b, hex.EncodeToString(key.Public().(ed25519.PublicKey)))))
	for _, a := range algorithms {
		err = errors.Join(err, tag("manifest-"+a+".txt", manifest(payload, a)))
	}
	if err != nil {
		return fmt.Errorf("writing the bag's tag files: %w", err)
	}
	seal := Seal{Bag: b.Name, Case: b.Case, At: b.At.UTC().Format(ledger.TimeFormat), Files: map[string]string{}, Key: hex.EncodeToString(key.Public().(ed25519.PublicKey))}
	for p, s := range tags {
		seal.Files[p] = s["sha256"]
	}
	msg, err := seal.signed()
	if err != nil {
		return err
	}
	seal.Sig = hex.EncodeToString(ed25519.Sign(key, msg))
	text, err := json.Marshal(seal)
	if err == nil {
		text, err = ledger.Canonical(text)
	}
	if err == nil {
		err = tag(SealName, string(text)+"\n")
	}
	if err != nil {
		return fmt.Errorf("sealing the package: %w", err)
	}
	for _, a := range algorithms {
		if _, _, err := out.add("tagmanifest-"+a+".txt", strings.NewReader(manifest(tags, a))); err != nil {
			return fmt.Errorf("writing the bag's tag manifest: %w", err)
		}
	}
	return out.z.Close()
}

// bagInfo writes bag-info.txt (RFC 8493 section 2.2.2).
func bagInfo(caseReference, title, by string, at time.Time, tool string, bytes int64, files int) string {
	return fmt.Sprintf("Source-Organization: Crosswind\nExternal-Identifier: %s\nExternal-Description: %s\nContact-Name: %s\nBagging-Date: %s\nBag-Software-Agent: %s\nPayload-Oxum: %d.%d\n",
		oneLine(caseReference), oneLine(title), oneLine(by), at.UTC().Format("2006-01-02"), oneLine(tool), bytes, files)
}

// manifest writes check lines in order of path bytes. RFC 8493 section 2.1.3
// escapes line ends by percent; no path of a package holds any.
func manifest(files map[string]sums, algorithm string) string {
	var paths []string
	for p := range files {
		paths = append(paths, p)
	}
	sort.Strings(paths)
	var b strings.Builder
	for _, p := range paths {
		b.WriteString(digest.Line{Sum: files[p][algorithm], Path: p}.String() + "\n")
	}
	return b.String()
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// RecordLine is a record as a package holds it, with the acquisition that it
// came from and its mark.
type RecordLine struct {
	*record.Record
	Exhibit     string `json:"exhibit"`
	Acquisition int    `json:"acquisition"`
	Manifest    string `json:"manifest"` // of the acquisition, below data/manifests/
	// FileWithheld says that the record's file holds what lies outside scope,
	// and that only the record's own bytes are in the package.
	FileWithheld bool   `json:"file_withheld,omitempty"`
	Mark         string `json:"mark"`
	MarkedBy     string `json:"marked_by"`
	MarkedAt     string `json:"marked_at"` // RFC 3339
}

// Line writes r as one canonical line.
func (r *RecordLine) Line() ([]byte, error) {
	b, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	return ledger.Canonical(b)
}

// Tables writes records as a table a kind, by the paths that these have in a package: by RFC
// 4180, safe to open in a spreadsheet, since a cell that would start a formula begins with an
// apostrophe. Each has the columns of its kind.
func Tables(records []*RecordLine) map[string][]byte {
	by := map[record.Kind][]*RecordLine{}
	for _, r := range records {
		by[r.Kind] = append(by[r.Kind], r)
	}
	out := map[string][]byte{}
	for kind, rs := range by {
		out[TablesDir+string(kind)+".csv"] = table(kind.About(), rs)
	}
	return out
}

func table(a record.About, records []*RecordLine) []byte {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.UseCRLF = true
	row := func(cells []string) {
		for i, c := range cells {
			if c != "" && strings.ContainsRune("=+-@\t\r", rune(c[0])) {
				cells[i] = "'" + c
			}
		}
		w.Write(cells) // a bytes.Buffer takes all
	}
	head := []string{"uid", "exhibit", "acquisition", "kind", "state", "place", "time_utc", "person", "handle", "text"}
	for _, name := range a.Table() {
		for _, r := range records {
			if unit := r.Column(name).Unit; unit != "" {
				name += "_" + string(unit)
				break
			}
		}
		head = append(head, strings.ReplaceAll(strings.ToLower(name), " ", "_"))
	}
	row(append(head, "mark", "file", "page", "offset", "length", "bytes_sha256"))
	for _, r := range records {
		at := ""
		if t := r.At(); t != nil {
			at = t.UTC().Format(time.RFC3339Nano)
		}
		o := r.Origin()
		cells := []string{r.UID, r.Exhibit, fmt.Sprint(r.Acquisition), string(r.Kind), string(r.State), r.PlaceWords(), at, r.Person(), r.Handle(), r.Text}
		for _, name := range a.Table() {
			cells = append(cells, r.Column(name).Value)
		}
		row(append(cells, r.Mark, o.Path, fmt.Sprint(o.Page), fmt.Sprint(o.Offset), fmt.Sprint(o.Length), o.Digest))
	}
	w.Flush()
	return out.Bytes()
}
