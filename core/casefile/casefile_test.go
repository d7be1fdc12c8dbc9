package casefile

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"crosswind/core/digest"
	"crosswind/core/ledger"
	"crosswind/core/record"

	"github.com/google/uuid"
)

var key = ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize))

func sum(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }

var madeAt = time.Date(2026, 9, 25, 10, 0, 0, 0, time.UTC)

// fieldMap is that of the small package.
var (
	fieldMap = []byte("name = \"a\"\nversion = 1\npath = \"/a\"\n[[reading]]\ntable = \"t\"\nkind = \"message\"\ntext = { column = \"x\" }\n[[reading.attachments]]\ntable = \"p\"\nkey = \"x\"\nof = \"x\"\npath = { column = \"y\" }\n[[reading]]\ntable = \"u\"\nkind = \"call\"\ntext = { column = \"x\" }\n")
	mapName  = MapsDir + sum(fieldMap) + ".toml"
)

const messages = TablesDir + "message.csv"

var attached = []byte("a picture that was sent")

// parts are the payload of a small package: two records out of one file, and one whose
// file is withheld.
func parts(t testing.TB) []Part {
	t.Helper()
	file := []byte("header.....the side gate.....how many fit.....")
	other := []byte("what is covered, and what is not") // a file that is left out
	manifest := digest.Line{Sum: sum(file), Path: "parcels/abcdefgh"}.String() + "\n" + digest.Line{Sum: sum(other), Path: "parcels/bcdefghi"}.String() + "\n"
	const source, name = "1-A acquisition 1", "1-A-acquisition-1.sha256"
	var lines []*RecordLine
	for _, span := range [][2]int{{11, 13}, {29, 12}} {
		id := record.Int(1234567890123456789)
		lines = append(lines, &RecordLine{Record: &record.Record{Kind: record.Message, State: record.Recovered, Times: []record.Time{{Role: "sent", At: &madeAt}}, Text: string(file[span[0] : span[0]+span[1]]), Attachments: []record.Attachment{{Path: "/p.jpg", SHA256: sum(attached)}},
			Origins: []record.Origin{{Table: "t", FieldMap: "a 1", MapSHA256: sum(fieldMap), Path: "/data/talk/talk.db", Stored: "parcels/abcdefgh", SHA256: sum(file), RowID: &id, Offset: int64(span[0]), Length: span[1], Digest: sum(file[span[0] : span[0]+span[1]])}}}})
	}
	cell := other[:15]
	lines = append(lines, &RecordLine{FileWithheld: true, Record: &record.Record{Kind: record.Call, State: record.Intact, Origins: []record.Origin{{Table: "u", FieldMap: "a 1", MapSHA256: sum(fieldMap), Stored: "parcels/bcdefghi", SHA256: sum(other), Length: len(cell), Digest: sum(cell)}}}})
	var records, book, heads bytes.Buffer
	report := `<!doctype html><p><span data-figure="marked">3</span> records: <span data-figure="state Recovered">2</span> and <span data-figure="state Intact">1</span></p>`
	entries := []ledger.Entry{{What: "case.opened", On: "T-1"}, {What: "acquisition.ended", On: source, Detail: map[string]string{"manifest_sha256": sum([]byte(manifest))}}}
	for i, l := range lines {
		l.SetUID()
		l.Exhibit, l.Acquisition, l.Manifest, l.Mark, l.MarkedBy, l.MarkedAt = "1-A", 1, name, "because", "tester", madeAt.Format(time.RFC3339)
		line, err := l.Line()
		if err != nil {
			t.Fatal(err)
		}
		records.Write(append(line, '\n'))
		text := l.Text
		if text == "" {
			text = NoText
		}
		report += fmt.Sprintf(`<section data-record="%s"><h3>%d</h3><blockquote>%s</blockquote><p>%s</p></section>`, l.UID, i+1, text, l.Origin().Digest)
		entries = append(entries, ledger.Entry{What: "record.marked", On: l.UID, Detail: map[string]string{"reason": "because", "source": source}})
	}
	page, pdf := []byte("<p>signed"), []byte("PK: volumes that are signed")
	entries = append(entries, ledger.Entry{What: "report.signed", On: "T-1", Detail: map[string]string{"version": "2", "sha256": sum(page), "pdf_sha256": sum(pdf)}})
	check := &ledger.Checker{}
	prev := ledger.Genesis
	for i, e := range entries {
		e.Book, e.Seq, e.Prev, e.At, e.By = "case T-1", int64(i+1), prev, madeAt.Format(ledger.TimeFormat), "tester"
		line, err := e.Line()
		if err != nil {
			t.Fatal(err)
		}
		check.Add(line)
		book.Write(append(line, '\n'))
		prev = ledger.LineHash(line)
		if i == 2 {
			heads.Write(signed(t, check))
		}
	}
	graph, err := Graph("T-1", "Test", "t", lines)
	if err != nil {
		t.Fatal(err)
	}
	return []Part{Bytes(GraphName, graph), Bytes(ReportName, []byte(report)), Bytes(ReaderName, Reader), Bytes(RecordsName, records.Bytes()), Bytes(messages, Tables(lines)[messages]), Bytes(TablesDir+"call.csv", Tables(lines)[TablesDir+"call.csv"]), Bytes(FilesDir+sum(file), file), Bytes(mapName, fieldMap), Bytes(FilesDir+sum(attached), attached), Bytes(CellsDir+sum(cell), cell),
		Bytes(SignedPath("2", "html"), page), Bytes(SignedPath("2", "zip"), pdf), Bytes(ManifestsDir+name, []byte(manifest)), Bytes(LedgerName, book.Bytes()), Bytes(HeadName, signed(t, check)), Bytes(HeadsName, heads.Bytes())}
}

func signed(t testing.TB, c *ledger.Checker) []byte {
	t.Helper()
	h := c.Head()
	if err := h.Sign(key); err != nil {
		t.Fatal(err)
	}
	line, err := h.Line()
	if err != nil {
		t.Fatal(err)
	}
	return append(line, '\n')
}

// pack makes a small package.
func pack(t testing.TB) (zipPath string) {
	t.Helper()
	return packAs(t, Bag{Name: "T-1-package", Case: "T-1", Title: "Test", Tool: "t", By: "tester", At: madeAt, Parts: parts(t)}, key)
}

func packAs(t testing.TB, b Bag, key ed25519.PrivateKey) (zipPath string) {
	t.Helper()
	zipPath = filepath.Join(t.TempDir(), "p.zip")
	f, err := os.Create(zipPath)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := Write(f, b, key); err != nil {
		t.Fatal(err)
	}
	return zipPath
}

// unpack writes the archive's files below a folder, as unzip would.
func unpack(t testing.TB, zipPath string) string {
	t.Helper()
	z, err := zip.OpenReader(zipPath)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	dir := t.TempDir()
	for _, e := range z.File {
		in, err := e.Open()
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(in)
		if err == nil {
			err = os.MkdirAll(filepath.Dir(filepath.Join(dir, e.Name)), 0o755)
		}
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, e.Name), b, 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return filepath.Join(dir, "T-1-package")
}

func faults(t testing.TB, path string) []Fault {
	t.Helper()
	r, err := VerifyPath(context.Background(), path, Options{Key: hex.EncodeToString(key.Public().(ed25519.PublicKey)), Now: madeAt})
	if err != nil {
		return []Fault{{Where: path, What: err.Error()}}
	}
	return r.Faults
}

func TestPackageVerifies(t *testing.T) {
	z := pack(t)
	for _, p := range []string{z, unpack(t, z)} {
		r, err := VerifyPath(context.Background(), p, Options{})
		if err != nil || len(r.Faults) > 0 || r.Records != 3 || r.Entries != 6 || r.Case != "T-1" || r.Files != 24 {
			t.Errorf("%s: %+v, %v", p, r, err)
		}
	}
}

// A signed report is as the ledger says that it was signed, or it is told; one of which it says nothing has no place.
func TestSignedReports(t *testing.T) {
	for _, name := range []string{SignedPath("2", "html"), SignedPath("2", "zip"), SignedPath("3", "html"), SignedPath("2", "txt")} {
		b := Bag{Name: "T-1-package", Case: "T-1", Title: "Test", Tool: "t", By: "tester", At: madeAt}
		for _, p := range parts(t) {
			if p.Path != name {
				b.Parts = append(b.Parts, p)
			}
		}
		b.Parts = append(b.Parts, Bytes(name, []byte("another")))
		if got := faults(t, packAs(t, b, key)); len(got) != 1 || got[0].Where != name {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// redacted is a small redacted package: a report and the head of the ledger.
func redacted(t testing.TB, more ...Part) Bag {
	ps := append(more, Bytes(RedactedName, []byte("<!doctype html><p>[redacted 1]</p>")), Bytes(PDFName(RedactedName, 1), []byte("%PDF")), Bytes(PDFName(RedactedName, 2), []byte("%PDF")))
	for _, p := range parts(t) {
		if p.Path == HeadName {
			ps = append(ps, p)
		}
	}
	return Bag{Name: "T-1-package", Case: "T-1", Title: "Test", Tool: "t", By: "t", At: madeAt, Parts: ps}
}

// Identifiers are those of a library of another origin.
func TestIdentifiers(t *testing.T) {
	space := uuid.NewSHA1(uuid.NameSpaceDNS, []byte("crosswind.example"))
	for _, parts := range [][]string{{"a"}, {"1-A", "1", strings.Repeat("x", 300)}, {"", "ø"}} {
		if want := "urn:uuid:" + uuid.NewSHA1(space, []byte("record\x00"+strings.Join(parts, "\x00"))).String(); idOf("record", parts...) != want {
			t.Errorf("%q: %s, want %s", parts, idOf("record", parts...), want)
		}
	}
}

// A redacted package holds without what its report rests on, and holds nothing of that.
func TestRedactedPackage(t *testing.T) {
	z := packAs(t, redacted(t), key)
	r, err := VerifyPath(context.Background(), z, Options{Now: madeAt})
	if err != nil || len(r.Faults) > 0 || !r.Redacted || r.Entries != 6 || r.Records != 0 {
		t.Errorf("%+v, %v", r, err)
	}
	for _, name := range []string{RecordsName, ReportName, PDFName(ReportName, 1), LedgerName, FilesDir + strings.Repeat("0", 64), "data/report-redacted-1.pdf"} {
		if got := faults(t, packAs(t, redacted(t, Bytes(name, []byte("x"))), key)); len(got) != 1 || got[0].Where != name {
			t.Errorf("with %s: %v", name, got)
		}
	}
	b := redacted(t)
	b.Parts = b.Parts[:len(b.Parts)-1]
	if got := faults(t, packAs(t, b, key)); len(got) != 1 || got[0].Where != HeadName {
		t.Errorf("without a head: %v", got)
	}
	b = redacted(t)
	b.Name, b.Case = "T-2-package", "T-2"
	if got := faults(t, packAs(t, b, key)); len(got) != 1 || got[0].Where != HeadName {
		t.Errorf("with the head of another case: %v", got)
	}
}

// coreutils' sha256sum and sha512sum read the manifests; RFC 8493 section 2.1:
// what a bag must have.
func TestManifestsWithCoreutils(t *testing.T) {
	dir := unpack(t, pack(t))
	for program, names := range map[string][]string{"sha256sum": {"manifest-sha256.txt", "tagmanifest-sha256.txt"}, "sha512sum": {"manifest-sha512.txt", "tagmanifest-sha512.txt"}} {
		for _, n := range names {
			cmd := exec.Command(program, "--check", "--strict", n)
			cmd.Dir = dir
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Errorf("%s -c %s: %v\n%s", program, n, err, out)
			}
		}
	}
	b, err := os.ReadFile(filepath.Join(dir, "bagit.txt"))
	if err != nil || string(b) != "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n" {
		t.Errorf("%q, %v", b, err)
	}
}

// What VERIFY.txt tells a technician to paste does what it says: with coreutils, Perl's
// shasum and OpenSSL on the package, and on one that was changed.
func TestInstructionsHold(t *testing.T) {
	t.Run("full", func(t *testing.T) {
		instructionsHold(t, pack(t), map[string][2]string{
			"data/extra": {"an added file", "data/extra"}, ReportName: {"a changed file", "FAILED"}, SealName: {"another seal", "Signature Verification Failure"}, LedgerName: {"another ledger", "does not follow"},
			SignedPath("2", "html"): {"another signed report", "not in the ledger: data/signed/report-2.html"},
		})
	})
	t.Run("redacted", func(t *testing.T) {
		instructionsHold(t, packAs(t, redacted(t), key), map[string][2]string{
			"data/extra": {"an added file", "data/extra"}, RedactedName: {"a changed file", "FAILED"}, HeadName: {"another head", "Signature Verification Failure"},
		})
	})
}

func instructionsHold(t *testing.T, z string, changes map[string][2]string) {
	dir := unpack(t, z)
	text, err := os.ReadFile(filepath.Join(dir, VerifyName))
	if err != nil {
		t.Fatal(err)
	}
	script := "set +e\n"
	for line := range strings.Lines(string(text)) {
		if cmd, ok := strings.CutPrefix(line, "     "); ok && !strings.Contains(line, "crosswind verify") && !strings.Contains(line, "OFFSET") && !strings.Contains(line, "DIGEST") && len(strings.TrimSpace(line)) != 64 {
			script += cmd
		}
	}
	run := func() string {
		cmd := exec.Command("sh", "-c", script)
		cmd.Dir = dir
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	out := run()
	if n := strings.Count(out, "Signature Verified Successfully"); n != 2 {
		t.Errorf("%d signatures hold", n)
	}
	for line := range strings.Lines(out) {
		line = strings.TrimSpace(line)
		if !strings.HasSuffix(line, ": OK") && line != "Signature Verified Successfully" && !strings.HasSuffix(line, ".txt") {
			t.Errorf("of a package that holds it prints: %s", line)
		}
	}
	for name, change := range changes {
		path := filepath.Join(dir, filepath.FromSlash(name))
		was, _ := os.ReadFile(path)
		if err := os.WriteFile(path, bytes.Replace(append([]byte("T-1"), was...), []byte("T-1"), []byte("T-2"), 2), 0o644); err != nil {
			t.Fatal(err)
		}
		if out := run(); !strings.Contains(out, change[1]) {
			t.Errorf("%s: it prints nothing of it:\n%s", change[0], out)
		}
		if was == nil {
			os.Remove(path)
		} else if err := os.WriteFile(path, was, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// Any single byte of any file, changed, is found, and so is any byte of the
// archive.
func TestEveryByteCounts(t *testing.T) {
	z := pack(t)
	dir := unpack(t, z)
	files := fstest.MapFS{}
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		rel, _ := filepath.Rel(dir, path)
		files[filepath.ToSlash(rel)] = &fstest.MapFile{Data: b}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for name, f := range files {
		step := 1 + len(f.Data)/100 // of long files every few bytes, others in each run
		for i := rand.IntN(step); i < len(f.Data); i += step {
			f.Data[i] ^= 1 << (i % 8)
			r, err := Verify(context.Background(), files, Options{})
			if err != nil {
				t.Fatalf("%s, byte %d: %v", name, i, err)
			}
			if said := fmt.Sprint(r.Faults); !strings.Contains(said, name) && !strings.HasPrefix(name, "tagmanifest") || len(r.Faults) == 0 {
				t.Fatalf("%s, byte %d: %s", name, i, said)
			}
			f.Data[i] ^= 1 << (i % 8)
		}
	}
	good, err := os.ReadFile(z)
	if err != nil {
		t.Fatal(err)
	}
	for i := rand.IntN(97); i < len(good); i += 97 {
		b := bytes.Clone(good)
		b[i] ^= 1 << (i % 8)
		if err := os.WriteFile(z, b, 0o644); err != nil {
			t.Fatal(err)
		}
		if len(faults(t, z)) == 0 {
			t.Errorf("byte %d of the archive was changed and nothing was found", i)
		}
	}
}

// Somebody who changes a package and makes its manifests fit, but has not the
// key, is found.
func TestForgery(t *testing.T) {
	for name, change := range map[string]func(lines []string) []string{
		"a ledger line removed":    func(l []string) []string { return append(l[:2:2], l[3:]...) },
		"two ledger lines swapped": func(l []string) []string { l[1], l[2] = l[2], l[1]; return l },
		"the last line removed":    func(l []string) []string { return l[:len(l)-2] },
		"cut before a signed head": func(l []string) []string { return l[:2] },
	} {
		dir := unpack(t, pack(t))
		path := filepath.Join(dir, LedgerName)
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		lines := change(strings.SplitAfter(string(b), "\n"))
		if err := os.WriteFile(path, []byte(strings.Join(lines, "")), 0o644); err != nil {
			t.Fatal(err)
		}
		for _, m := range []string{"manifest-sha256.txt", "manifest-sha512.txt", "tagmanifest-sha256.txt", "tagmanifest-sha512.txt"} {
			program := strings.TrimSuffix(m[strings.Index(m, "-")+1:], ".txt") + "sum"
			cmd := exec.Command("sh", "-c", "cut -d' ' -f3- "+m+" | xargs "+program+" > new && mv new "+m)
			cmd.Dir = dir
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
		}
		ledgerNamed, sealNamed := false, false
		for _, f := range faults(t, dir) {
			ledgerNamed = ledgerNamed || strings.HasPrefix(f.Where, LedgerName) || strings.Contains(f.What, "signed head")
			sealNamed = sealNamed || strings.Contains(f.What, SealName)
		}
		if !ledgerNamed || !sealNamed {
			t.Errorf("%s: %v", name, faults(t, dir))
		}
	}
}

func TestMissingAndExtraFiles(t *testing.T) {
	dir := unpack(t, pack(t))
	if err := os.WriteFile(filepath.Join(dir, "data", "extra"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(dir, ReportName)); err != nil {
		t.Fatal(err)
	}
	said := fmt.Sprint(faults(t, dir))
	if !strings.Contains(said, "data/extra: is one too many") || !strings.Contains(said, ReportName+": is missing") {
		t.Error(said)
	}
	if _, err := VerifyPath(context.Background(), t.TempDir(), Options{}); err == nil {
		t.Error("an empty folder was taken for a package")
	}
}

// RFC 4180 section 2: quotes doubled, lines ended by CRLF. A cell that would
// start a formula is made text (common practice).
func TestCSVIsSafeInSpreadsheets(t *testing.T) {
	b := Tables([]*RecordLine{{Record: &record.Record{Kind: record.Message, UID: "1", Text: "=HYPERLINK(\"x\")", Parties: []record.Party{{Name: "a\"b,c", Handle: "+44 7700 900417"}}}}})[TablesDir+"message.csv"]
	for _, want := range []string{`"'=HYPERLINK(""x"")"`, `"a""b,c"`, "'+44 7700 900417", "\r\n"} {
		if !strings.Contains(string(b), want) {
			t.Errorf("%q lacks %q", b, want)
		}
	}
}

// fit writes the manifests of a bag anew, as somebody does who has changed its files and
// has not the key.
func fit(files map[string][]byte) {
	tagged := func(p string) bool { return !strings.HasPrefix(p, "data/") }
	write := func(name, algorithm string, of func(string) bool) {
		all := map[string]sums{}
		for p, b := range files {
			if of(p) {
				s256, s512 := sha256.Sum256(b), sha512.Sum512(b)
				all[p] = sums{"sha256": hex.EncodeToString(s256[:]), "sha512": hex.EncodeToString(s512[:])}
			}
		}
		files[name] = []byte(manifest(all, algorithm))
	}
	for _, a := range algorithms {
		write("manifest-"+a+".txt", a, func(p string) bool { return !tagged(p) })
	}
	for _, a := range algorithms {
		write("tagmanifest-"+a+".txt", a, func(p string) bool { return tagged(p) && !isTagManifest(p) })
	}
}

// Three hundred and more mutations of a package: none passes. The seed is printed, and
// CROSSWIND_SEED repeats it.
func TestNoMutationPasses(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	if s, err := strconv.ParseUint(os.Getenv("CROSSWIND_SEED"), 10, 64); err == nil {
		seed = s
	}
	t.Logf("CROSSWIND_SEED=%d repeats these mutations", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	good, err := os.ReadFile(pack(t))
	if err != nil {
		t.Fatal(err)
	}
	opt := Options{Key: hex.EncodeToString(key.Public().(ed25519.PublicKey)), Now: madeAt}
	holds := func(b []byte) bool {
		res, err := VerifyZIP(context.Background(), bytes.NewReader(b), int64(len(b)), opt)
		return err == nil && len(res.Faults) == 0
	}
	if !holds(good) {
		t.Fatal("the package itself does not hold")
	}
	z, _ := zip.NewReader(bytes.NewReader(good), int64(len(good)))
	var names []string
	content := map[string][]byte{}
	for _, e := range z.File {
		in, _ := e.Open()
		b, _ := io.ReadAll(in)
		name := strings.TrimPrefix(e.Name, "T-1-package/")
		names, content[name] = append(names, name), b
	}
	rebuilt := func(files map[string][]byte, order []string, method uint16, at time.Time, root string) []byte {
		var out bytes.Buffer
		w := zip.NewWriter(&out)
		for _, n := range order {
			if b, ok := files[n]; ok {
				f, _ := w.CreateHeader(&zip.FileHeader{Name: root + n, Method: method, Modified: at})
				f.Write(b)
			}
		}
		w.Close()
		return out.Bytes()
	}
	if !holds(rebuilt(content, names, zip.Store, madeAt, "T-1-package/")) {
		t.Fatal("the package built again does not hold")
	}
	other := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{8}, ed25519.SeedSize))
	for i := range 360 {
		b, what := bytes.Clone(good), ""
		files, order := maps.Clone(content), slices.Clone(names)
		some := names[r.IntN(len(names))]
		switch i % 12 {
		case 0:
			at := r.IntN(len(b))
			b[at] ^= 1 << r.IntN(8)
			what = fmt.Sprintf("bit of byte %d flipped", at)
		case 1:
			at := r.IntN(len(b))
			b = b[:at]
			what = fmt.Sprintf("cut at %d", at)
		case 2:
			from, n := r.IntN(len(b)-40), 1+r.IntN(39)
			b = append(b[:from:from], b[from+n:]...)
			what = fmt.Sprintf("%d bytes taken out at %d", n, from)
		case 3:
			at := r.IntN(len(b))
			b = append(b[:at:at], append([]byte{byte(r.IntN(256))}, b[at:]...)...)
			what = fmt.Sprintf("a byte put in at %d", at)
		case 4: // two entries change places
			j := 1 + r.IntN(len(order)-1)
			order[0], order[j] = order[j], order[0]
			b, what = rebuilt(files, order, zip.Store, madeAt, "T-1-package/"), "entries swapped"
		case 5:
			delete(files, some)
			fitted := r.IntN(2) == 0
			if fitted {
				fit(files)
			}
			b, what = rebuilt(files, order, zip.Store, madeAt, "T-1-package/"), fmt.Sprintf("%s removed, fitted %v", some, fitted)
			if isTagManifest(some) && fitted {
				continue // which writes it again
			}
		case 6:
			name := []string{"extra", "tagmanifest-md5.txt", "tagmanifest-x", "data/x", "data/files/" + sum([]byte("x")), "data/manifests/9-Z-acquisition-1.sha256", ".hidden", "seal.json2"}[r.IntN(8)]
			files[name], order = []byte("x"), append(order, name)
			fitted := r.IntN(2) == 0
			if fitted {
				fit(files)
			}
			b, what = rebuilt(files, order, zip.Store, madeAt, "T-1-package/"), fmt.Sprintf("%s added, fitted %v", name, fitted)
		case 7: // a record is changed, and all that can be made to fit without the key does
			line := bytes.SplitAfter(files[RecordsName], []byte("\n"))
			k := r.IntN(3)
			line[k] = bytes.Replace(line[k], []byte(`"mark":"because"`), []byte(`"mark":"becausf"`), 1)
			files[RecordsName] = bytes.Join(line, nil)
			fit(files)
			b, what = rebuilt(files, order, zip.Store, madeAt, "T-1-package/"), fmt.Sprintf("the mark of record %d changed", k)
		case 8: // a bit of any file, or a letter of a signature, with fitting manifests
			if len(files[some]) == 0 {
				continue
			}
			files[some] = bytes.Clone(files[some])
			if sealed := files[SealName]; r.IntN(4) == 0 {
				some = SealName
				at := bytes.Index(sealed, []byte(`"sig":"`)) + len(`"sig":"`) + r.IntN(100)
				files[some] = slices.Concat(sealed[:at], bytes.ToUpper(sealed[at:at+20]), sealed[at+20:])
			} else {
				files[some][r.IntN(len(files[some]))] ^= 1 << r.IntN(8)
			}
			fit(files)
			if strings.Contains(some, "manifest-") {
				continue // which is written again
			}
			b, what = rebuilt(files, order, zip.Store, madeAt, "T-1-package/"), some+" changed, fitted"
		case 9:
			at, method, root := madeAt, zip.Store, "T-1-package/"
			switch r.IntN(3) {
			case 0:
				at = at.Add(time.Duration(2+r.IntN(1000)) * time.Second)
			case 1:
				method = zip.Deflate
			case 2:
				root = "T-1-packagf/"
			}
			b, what = rebuilt(files, order, method, at, root), "the archive's headers"
		case 10: // sealed again by another key, a record dropped or the table emptied
			ps := parts(t)
			for j := range ps {
				if ps[j].Path == RecordsName && r.IntN(2) == 0 {
					l := bytes.SplitAfter(content[RecordsName], []byte("\n"))
					ps[j] = Bytes(RecordsName, bytes.Join(l[1:], nil))
				} else if ps[j].Path == messages {
					ps[j] = Bytes(messages, nil)
				}
			}
			path := packAs(t, Bag{Name: "T-1-package", Case: "T-1", Title: "Test", Tool: "t", By: "tester", At: madeAt, Parts: ps}, other)
			b, _ = os.ReadFile(path)
			what = "another key"
		case 11: // one entry in place of another
			to := names[r.IntN(len(names))]
			if to == some || bytes.Equal(files[to], files[some]) {
				continue
			}
			files[to] = files[some]
			b, what = rebuilt(files, order, zip.Store, madeAt, "T-1-package/"), some+" in place of "+to
		}
		if !bytes.Equal(b, good) && holds(b) {
			t.Errorf("mutation %d passes: %s", i, what)
		}
	}
}

// What somebody forges who signs with the very key, or with another and no key to compare
// it with, is found as far as the parts of a package speak of each other.
func TestPartsSpeakOfEachOther(t *testing.T) {
	replace := func(name, old, now string) func([]Part) []Part {
		return func(ps []Part) []Part {
			for i := range ps {
				if ps[i].Path == name {
					in, _ := ps[i].Open()
					b, _ := io.ReadAll(in)
					if !bytes.Contains(b, []byte(old)) {
						t.Fatalf("%s lacks %q", name, old)
					}
					ps[i] = Bytes(name, bytes.Replace(b, []byte(old), []byte(now), 1))
				}
			}
			return ps
		}
	}
	second := func(name, old, now string) func([]Part) []Part { // the second place of it alone
		return func(ps []Part) []Part {
			const keep = "\x00"
			return replace(name, keep, old)(replace(name, old, now)(replace(name, old, keep)(ps)))
		}
	}
	drop := func(ps []Part) []Part {
		for i := range ps {
			if ps[i].Path == RecordsName {
				in, _ := ps[i].Open()
				b, _ := io.ReadAll(in)
				ps[i] = Bytes(RecordsName, b[bytes.IndexByte(b, '\n')+1:])
			}
		}
		return ps
	}
	for name, c := range map[string]struct {
		change func([]Part) []Part
		said   string
	}{
		"a text in the report":   {replace(ReportName, "the side gate</blockquote>", "the back gate</blockquote>"), "the text of record"},
		"a figure of the report": {replace(ReportName, `"state Recovered">2`, `"state Recovered">1`), "figure"},
		"a record dropped":       {drop, "lacks a record that the ledger marks"},
		"an attachment changed":  {replace(FilesDir+sum(attached), "picture", "pictore"), "the SHA-256 of its attachment"},
		"an attachment dropped": {func(ps []Part) []Part {
			return slices.DeleteFunc(ps, func(p Part) bool { return p.Path == FilesDir+sum(attached) })
		}, "is not in the package"},
		"a table emptied":              {replace(messages, "uid,", ""), "is not what data/records.jsonl gives"},
		"a text in the ontologies":     {replace(GraphName, "the side gate", "the back gate"), "data/records.jsonld line 7: is not what the records give"},
		"another mark":                 {replace(RecordsName, `"mark":"because"`, `"mark":"of him"`), "not that of the ledger"},
		"a record not canonical":       {replace(RecordsName, `{"acquisition":1`, `{ "acquisition":1`), "canonical"},
		"another place":                {replace(RecordsName, `"offset":11`, `"offset":12`), "ID is not that of its place"},
		"an unknown member":            {replace(RecordsName, `{"acquisition":1`, `{"a":1,"acquisition":1`), "is not a record"},
		"a ledger of another case":     {replace(LedgerName, `"book":"case T-1"`, `"book":"case T-2"`), "book"},
		"a head that is not canonical": {replace(HeadName, "{", "{ "), "canonical"},
		"another field map":            {replace(mapName, `column = "x"`, `column = "y"`), "its field map: " + mapName + " has the SHA-256"},
		"a field map's name":           {replace(RecordsName, `"field_map":"a 1"`, `"field_map":"a 2"`), "is a 1, not a 2"},
		"a field map's second name":    {second(RecordsName, `"field_map":"a 1"`, `"field_map":"a 2"`), "is a 1, not a 2"},
		"a field map that is none":     {replace(RecordsName, `"map_sha256":"`, `"map_sha256":"../`), "is not a SHA-256"},
		"a file of nothing":            {func(ps []Part) []Part { return append(ps, Bytes("data/files/"+sum(nil), nil)) }, "nothing in the package speaks of it"},
	} {
		path := packAs(t, Bag{Name: "T-1-package", Case: "T-1", Title: "Test", Tool: "t", By: "tester", At: madeAt, Parts: c.change(parts(t))}, key)
		if said := fmt.Sprint(faults(t, path)); !strings.Contains(said, c.said) {
			t.Errorf("%s: %s", name, said)
		}
	}
	for name, b := range map[string]Bag{"another case": {Name: "T-2-package", Case: "T-2"}, "another bag": {Name: "X", Case: "T-1"}} {
		b.Title, b.Tool, b.By, b.At, b.Parts = "Test", "t", "tester", madeAt, parts(t)
		if len(faults(t, packAs(t, b, key))) == 0 {
			t.Errorf("%s passes", name)
		}
	}
}

// A record of more than 16 MiB verifies; entries that lie over each other are refused
// before they are read; what is printed cannot drive a terminal.
func TestLimits(t *testing.T) {
	in := bufio.NewReader(strings.NewReader(strings.Repeat("x", 17<<20) + "\nlast"))
	if l, err := readLine(in); err != nil || len(l) != 17<<20 {
		t.Error(len(l), err)
	}
	if _, err := readLine(in); err == nil {
		t.Error("a line without its end is taken")
	}
	good, err := os.ReadFile(pack(t))
	if err != nil {
		t.Fatal(err)
	}
	at := bytes.LastIndex(good, []byte("PK\x01\x02")) // the last entry of the directory begins where the first does
	binary.LittleEndian.PutUint32(good[at+42:], 0)
	if _, err := VerifyZIP(context.Background(), bytes.NewReader(good), int64(len(good)), Options{}); err == nil || !strings.Contains(err.Error(), "right behind") {
		t.Error(err)
	}
	if s := (Fault{Where: "data/\x1b[2J\u202e\n\xff", What: "x"}).String(); s != `data/\u{1b}[2J\u{202e}\u{a}\xff: x` {
		t.Error(s)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := VerifyPath(ctx, pack(t), Options{}); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}
