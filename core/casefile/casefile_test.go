package casefile

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"crosswind/core/digest"
	"crosswind/core/ledger"
	"crosswind/core/record"
)

var key = ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize))

func sum(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }

// pack makes a small package: two records out of one file.
func pack(t testing.TB) (zipPath string) {
	t.Helper()
	at := time.Date(2026, 9, 25, 10, 0, 0, 0, time.UTC)
	file := []byte("header.....the side gate.....how many fit.....")
	other := []byte("what is covered, and what is not") // a file that is left out
	manifest := digest.Line{Sum: sum(file), Path: "parcels/abcdefgh"}.String() + "\n" + digest.Line{Sum: sum(other), Path: "parcels/bcdefghi"}.String() + "\n"
	var records bytes.Buffer
	for i, span := range [][2]int{{11, 13}, {29, 12}} {
		r := &RecordLine{Record: &record.Record{UID: fmt.Sprint(i), Kind: record.Message, State: record.Recovered, At: &at, Text: string(file[span[0] : span[0]+span[1]]),
			Origin: record.Origin{Path: "/data/talk/talk.db", Stored: "parcels/abcdefgh", SHA256: sum(file), Offset: int64(span[0]), Length: span[1], Digest: sum(file[span[0] : span[0]+span[1]])}},
			Exhibit: "1-A", Acquisition: 1, Manifest: "1-A-acquisition-1.sha256", Mark: "because"}
		line, err := r.Line()
		if err != nil {
			t.Fatal(err)
		}
		records.Write(append(line, '\n'))
	}
	cell := other[:15]
	line, err := (&RecordLine{Record: &record.Record{UID: "2", Kind: record.Call, State: record.Intact, Origin: record.Origin{Stored: "parcels/bcdefghi", SHA256: sum(other), Length: len(cell), Digest: sum(cell)}},
		Manifest: "1-A-acquisition-1.sha256", FileWithheld: true}).Line()
	if err != nil {
		t.Fatal(err)
	}
	records.Write(append(line, '\n'))
	var book bytes.Buffer
	check := &ledger.Checker{}
	prev := ledger.Genesis
	for i, what := range []string{"case.opened", "acquisition.ended", "record.marked", "record.marked"} {
		e := ledger.Entry{Book: "case T-1", Seq: int64(i + 1), Prev: prev, At: at.Format(ledger.TimeFormat), By: "tester", What: what, On: fmt.Sprint(i), Detail: map[string]string{"manifest_sha256": sum([]byte(manifest))}}
		line, err := e.Line()
		if err != nil {
			t.Fatal(err)
		}
		check.Add(line)
		book.Write(append(line, '\n'))
		prev = ledger.LineHash(line)
	}
	head := check.Head()
	if err := head.Sign(key); err != nil {
		t.Fatal(err)
	}
	h, _ := json.Marshal(head)
	zipPath = filepath.Join(t.TempDir(), "p.zip")
	f, err := os.Create(zipPath)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	err = Write(f, Bag{Name: "T-1-package", Case: "T-1", Title: "Test", Tool: "t", By: "tester", At: at, Parts: []Part{
		Bytes(ReportName, []byte("<!doctype html>report")), Bytes(RecordsName, records.Bytes()), Bytes(FilesDir+sum(file), file), Bytes(CellsDir+sum(cell), cell),
		Bytes(ManifestsDir+"1-A-acquisition-1.sha256", []byte(manifest)), Bytes(LedgerName, book.Bytes()), Bytes(HeadName, append(h, '\n'))}}, key)
	if err != nil {
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
	r, err := VerifyPath(path)
	if err != nil {
		return []Fault{{Where: path, What: err.Error()}}
	}
	return r.Faults
}

func TestPackageVerifies(t *testing.T) {
	z := pack(t)
	for _, p := range []string{z, unpack(t, z)} {
		r, err := VerifyPath(p)
		if err != nil || len(r.Faults) > 0 || r.Records != 3 || r.Entries != 4 || r.Case != "T-1" || r.Files != 15 {
			t.Errorf("%s: %+v, %v", p, r, err)
		}
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

// openssl checks the seal's signature over the canonical form (RFC 8785) that
// is worked out here by hand from the file.
func TestSealWithOpenSSL(t *testing.T) {
	dir := unpack(t, pack(t))
	b, err := os.ReadFile(filepath.Join(dir, SealName))
	if err != nil {
		t.Fatal(err)
	}
	text := strings.TrimSuffix(string(b), "\n")
	i := strings.LastIndex(text, `,"sig":"`)
	sig, err := hex.DecodeString(strings.TrimSuffix(text[i+8:], `"}`))
	if err != nil {
		t.Fatal(err)
	}
	tmp := t.TempDir()
	der := append([]byte{0x30, 0x2a, 0x30, 0x05, 0x06, 0x03, 0x2b, 0x65, 0x70, 0x03, 0x21, 0x00}, key.Public().(ed25519.PublicKey)...) // RFC 8410 section 4
	for name, data := range map[string][]byte{"key.der": der, "msg": []byte(text[:i] + "}"), "sig": sig} {
		if err := os.WriteFile(filepath.Join(tmp, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command("openssl", "pkeyutl", "-verify", "-pubin", "-keyform", "DER", "-inkey", "key.der", "-rawin", "-in", "msg", "-sigfile", "sig")
	cmd.Dir = tmp
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("openssl: %v\n%s", err, out)
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
		for i := 0; i < len(f.Data); i += 1 + len(f.Data)/1000 { // of long files every few bytes
			f.Data[i] ^= 1 << (i % 8)
			r, err := Verify(files)
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
	for i := 0; i < len(good); i += 7 {
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
	if _, err := VerifyPath(t.TempDir()); err == nil {
		t.Error("an empty folder was taken for a package")
	}
}

// RFC 4180 section 2: quotes doubled, lines ended by CRLF. A cell that would
// start a formula is made text (common practice).
func TestCSVIsSafeInSpreadsheets(t *testing.T) {
	b := CSV([]*RecordLine{{Record: &record.Record{UID: "1", Text: "=HYPERLINK(\"x\")", Person: "a\"b,c", Handle: "+44 7700 900417"}}})
	for _, want := range []string{`"'=HYPERLINK(""x"")"`, `"a""b,c"`, "'+44 7700 900417", "\r\n"} {
		if !strings.Contains(string(b), want) {
			t.Errorf("%q lacks %q", b, want)
		}
	}
}
