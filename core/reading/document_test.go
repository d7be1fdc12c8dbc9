package reading

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"
)

// one reads a file that gives one record, and reads its bytes again.
func one(t testing.TB, path string, b []byte) *record.Record {
	t.Helper()
	r := ReaderOf(path, b[:min(len(b), HeadLength)])
	if r == nil {
		t.Fatalf("%s: nobody reads it", path)
	}
	var got []*record.Record
	for x, err := range r.Read(io.NewSectionReader(bytes.NewReader(b), 0, int64(len(b))), &Text{Path: path, Stored: "s", SHA256: "d", Country: "GB"}) {
		if err != nil {
			t.Fatalf("%s: %v", path, err)
		}
		got = append(got, x)
	}
	if len(got) != 1 {
		t.Fatalf("%s: %d records", path, len(got))
	}
	again, known := Again(got[0], b)
	if !known || len(Differs(got[0], again)) > 0 {
		t.Errorf("%s: read again it gives %+v, not %+v: %v", path, again, got[0], Differs(got[0], again))
	}
	return got[0]
}

func times(r *record.Record) string {
	var all []string
	for _, x := range r.Times {
		s := x.Role + " " + x.Local
		if x.At != nil {
			s = x.Role + " " + x.At.Format(time.RFC3339)
		}
		all = append(all, s)
	}
	return strings.Join(all, ", ")
}

// A PDF's properties are those that Debian's poppler-utils read of it, also where qpdf has packed them into a
// stream of objects; exiftool writes them.
func TestPDF(t *testing.T) {
	dir := t.TempDir()
	plain, tagged, packed, locked := filepath.Join(dir, "a.pdf"), filepath.Join(dir, "b.pdf"), filepath.Join(dir, "c.pdf"), filepath.Join(dir, "d.pdf")
	body := "%PDF-1.4\n1 0 obj\n<</Type/Catalog/Pages 2 0 R>>\nendobj\n2 0 obj\n<</Type/Pages/Kids[3 0 R]/Count 1>>\nendobj\n3 0 obj\n<</Type/Page/Parent 2 0 R/MediaBox[0 0 99 99]>>\nendobj\n"
	xref := len(body)
	body += "xref\n0 4\n0000000000 65535 f \n"
	for n := 1; n <= 3; n++ {
		body += fmt.Sprintf("%010d 00000 n \n", strings.Index(body, fmt.Sprintf("%d 0 obj", n)))
	}
	body += fmt.Sprintf("trailer\n<</Size 4/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n", xref)
	if err := os.WriteFile(plain, []byte(body), 0o644); err != nil {
		t.Fatal(err)
	}
	tool := func(name string, arg ...string) []byte {
		out, err := exec.Command(name, arg...).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v: %s", name, err, out)
		}
		return out
	}
	tool("exiftool", "-q", "-o", tagged, "-PDF:Title=The (inner) \\ gate, Жёлтая", "-PDF:Author=E. Vance", "-PDF:Creator=writer 4", "-PDF:CreateDate=2026:09:11 21:31:00+01:00", "-PDF:ModifyDate=2026:09:12 06:00:00Z", plain)
	tool("qpdf", "--object-streams=generate", "--newline-before-endstream", tagged, packed)
	tool("qpdf", "--encrypt", "", "owner", "256", "--", tagged, locked)
	read := func(path string) *record.Record {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		return one(t, "/docs/x.pdf", b)
	}
	for _, path := range []string{tagged, packed} {
		said := map[string]string{}
		for l := range strings.Lines(string(tool("pdfinfo", "-isodates", path))) {
			k, v, _ := strings.Cut(l, ":")
			said[k] = strings.TrimSpace(v)
		}
		r := read(path)
		iso := func(s string) string {
			at, err := time.Parse("2006-01-02T15:04:05-07", s)
			if err != nil {
				at, err = time.Parse(time.RFC3339, s)
			}
			if err != nil {
				t.Fatal(err)
			}
			return at.UTC().Format(time.RFC3339)
		}
		if r.Fact(record.Title).Value != said["Title"] || r.Fact("Author").Value != said["Author"] || r.Fact("Program").Value != said["Creator"] ||
			times(r) != "changed "+iso(said["ModDate"])+", made "+iso(said["CreationDate"]) {
			t.Errorf("%s: %s %s, the reference says %v", path, facts(r), times(r), said)
		}
	}
	if r := read(locked); r.Fact(record.Locked).Value == "" || r.Fact(record.Title).Value != "" {
		t.Errorf("of one that is encrypted it says %s", facts(r))
	}
	if r := read(plain); len(r.Times) != 0 || r.Kind != record.Document {
		t.Errorf("of one that says nothing of itself it says %s", facts(r))
	}
}

func zipped(t testing.TB, parts ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(parts); i += 2 {
		w, err := z.Create(parts[i])
		if err == nil {
			_, err = w.Write([]byte(parts[i+1]))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// Properties of both families (ISO/IEC 29500-2 section 11; OpenDocument 1.2 part 1 section 4.3), and what a text says.
func TestOfficeDocuments(t *testing.T) {
	r := one(t, "/docs/a.docx", zipped(t, "[Content_Types].xml", "<Types/>", "docProps/core.xml", `<?xml version="1.0"?><cp:coreProperties xmlns:cp="c" xmlns:dc="d" xmlns:dcterms="t"><dc:title>Gate &amp; lock</dc:title><dc:creator>E. Vance</dc:creator><cp:lastModifiedBy>M. Okafor</cp:lastModifiedBy><dcterms:created>2026-09-11T20:31:00Z</dcterms:created><dcterms:modified>2026-09-12T06:00:00Z</dcterms:modified></cp:coreProperties>`,
		"docProps/app.xml", `<Properties><Application>writer</Application></Properties>`, "word/document.xml", `<w:document xmlns:w="w"><w:body><w:p><w:r><w:t>First </w:t></w:r><w:r><w:t>line</w:t></w:r></w:p><w:p><w:r><w:t>second</w:t></w:r></w:p></w:body></w:document>`))
	if r.Text != "First line\nsecond" || times(r) != "changed 2026-09-12T06:00:00Z, made 2026-09-11T20:31:00Z" || !strings.Contains(facts(r), "Title=Gate & lock; Author=E. Vance; Last changed by=M. Okafor; Program=writer") {
		t.Errorf("%q %s %s", r.Text, facts(r), times(r))
	}
	r = one(t, "/docs/a.odt", zipped(t, "mimetype", "application/vnd.oasis.opendocument.text", "meta.xml", `<office:document-meta xmlns:office="o" xmlns:meta="m" xmlns:dc="d"><office:meta><meta:initial-creator>E. Vance</meta:initial-creator><meta:creation-date>2026-09-11T21:31:00</meta:creation-date><dc:creator>M. Okafor</dc:creator><dc:date>2026-09-12T06:00:00</dc:date><dc:title>Gate</dc:title><meta:generator>writer</meta:generator></office:meta></office:document-meta>`,
		"content.xml", `<o xmlns:text="t"><text:h>Head</text:h><text:p>One <text:span>two</text:span></text:p><style>none</style></o>`))
	if r.Text != "Head\nOne two" || times(r) != "changed 2026-09-12T06:00:00, made 2026-09-11T21:31:00" || !strings.Contains(facts(r), "Title=Gate; Author=E. Vance; Last changed by=M. Okafor; Program=writer") {
		t.Errorf("%q %s %s", r.Text, facts(r), times(r))
	}
}

// Plain texts in several encodings, and HTML without its markup.
func TestTexts(t *testing.T) {
	utf16 := []byte{0xff, 0xfe}
	for _, c := range "Gate ж" {
		utf16 = append(utf16, byte(c), byte(c>>8))
	}
	for name, c := range map[string]struct {
		path string
		b    []byte
		kind record.Kind
		text string
	}{
		"UTF-8":    {"/docs/a.txt", []byte("\ufeffGate\nж"), record.Document, "Gate\nж"},
		"UTF-16":   {"/docs/a.txt", utf16, record.Document, "Gate ж"},
		"one byte": {"/docs/a.txt", []byte("J\xe9r\xf4me"), record.Document, "Jérôme"},
		"a note":   {"/home/Notes/a.md", []byte("# Gate"), record.Jotting, "# Gate"},
		"HTML":     {"/home/notes/a.html", []byte("<html><head><title> The\n gate </title><style>p{}</style><script>alert(1)</script></head><body><h1>Gate</h1><p>code is <b>4</b>417 &amp; more<br>next<ul><li>one<li>two</ul><div hidden>x</div></body>"), record.Jotting, "Gate\ncode is 4417 & more\nnext\none\ntwo\nx"},
	} {
		r := one(t, c.path, c.b)
		if r.Kind != c.kind || r.Text != c.text {
			t.Errorf("%s: %s %q", name, r.Kind, r.Text)
		}
	}
	long := one(t, "/a.txt", bytes.Repeat([]byte("жж\n"), 1<<20))
	if len(long.Text) > maxSaid || !strings.Contains(facts(long), "the first 1048576 bytes") {
		t.Errorf("a long text has %d bytes: %s", len(long.Text), facts(long))
	}
	if ReaderOf("/a.txt", []byte("a\x00b")) != nil {
		t.Error("what is no text is read as one")
	}
}

// The example of RFC 4155 is in words; these messages are of RFC 5322 appendix A.1 and A.2 (from memory), and of MIME.
// parts are the bytes of an attachment by where a record of a file says that they lie.
func parts(t *testing.T, file []byte, a record.Attachment) string {
	var all []byte
	for _, s := range a.Parts {
		all = append(all, file[s.Offset:s.Offset+int64(s.Length)]...)
	}
	if len(a.Parts) == 0 {
		return ""
	}
	own, err := a.Decoded(all)
	if sum := sha256.Sum256(own); err != nil || hex.EncodeToString(sum[:]) != a.SHA256 {
		t.Errorf("%+v: %q, %v", a, own, err)
	}
	return string(own)
}

func TestMail(t *testing.T) {
	b := []byte(`From jdoe@machine.example Fri Nov 21 15:55:06 1997
From: John Doe <jdoe@machine.example>
To: Mary Smith <mary@example.net>
Subject: Saying Hello
Date: Fri, 21 Nov 1997 09:55:06 -0600
Message-ID: <1234@local.machine.example>

This is a message just to say hello.
>From here on it is quoted.
So, "Hello".

From mary@example.net Fri Nov 21 16:01:10 1997
From: =?UTF-8?Q?M=C3=A4ry?= Smith <mary@example.net>
To: John Doe <jdoe@machine.example>, "Pete(A nice \) chap)" <pete@silly.example>
Cc: undisclosed
Subject: Re: Saying Hello
Date: Fri, 21 Nov 1997 10:01:10 -0600
Message-ID: <3456@example.net>
In-Reply-To: <1234@local.machine.example>
References: <1234@local.machine.example>
MIME-Version: 1.0
Content-Type: multipart/mixed; boundary="b"

--b
Content-Type: text/html; charset=iso-8859-1
Content-Transfer-Encoding: quoted-printable

<p>This is a reply to your h=E9llo.</p>
--b
Content-Type: image/png; name="gate.png"
Content-Disposition: attachment; filename="gate.png"
Content-Transfer-Encoding: base64

AAECAwQ=
--b--
`)
	got, faults := all(t, mailboxes{}, b)
	if len(faults) > 0 || len(got) != 2 {
		t.Fatal(len(got), faults)
	}
	if g := got[0]; g.Text != "This is a message just to say hello.\nFrom here on it is quoted.\nSo, \"Hello\"." || times(g) != "sent 1997-11-21T15:55:06Z, received 1997-11-21T15:55:06Z" ||
		g.Thread() != "1234@local.machine.example" || g.Person() != "John Doe, Mary Smith" || g.Handle() != "jdoe@machine.example, mary@example.net" {
		t.Errorf("%q %s %s %s", g.Text, times(g), g.Thread(), facts(g))
	}
	if g := got[1]; g.Text != "This is a reply to your héllo." || g.Thread() != "1234@local.machine.example" || g.ThreadTitle() != "Saying Hello" || !strings.HasPrefix(g.Person(), "Märy Smith, John Doe, Pete") ||
		len(g.Attachments) != 1 || g.Attachments[0].Name != "gate.png" || *g.Attachments[0].Size != 5 || parts(t, b, g.Attachments[0]) != "\x00\x01\x02\x03\x04" {
		t.Errorf("%q %s %s %s", g.Text, times(g), g.Thread(), facts(g))
	}
	if single := one(t, "/mail/a.eml", b[bytes.IndexByte(b, '\n')+1:bytes.Index(b, []byte("\n\nFrom mary"))]); single.Kind != record.Mail || !strings.HasPrefix(single.Text, "This is a message") {
		t.Errorf("one message alone: %+v", single)
	}
}
