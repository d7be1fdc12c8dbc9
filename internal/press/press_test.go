package press

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosswind/core/report"
	"crosswind/internal/preview"
)

func run(t *testing.T, name string, args ...string) string {
	t.Helper()
	b, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v: %s", name, err, b)
	}
	return string(b)
}

// sample is a report of every block, with words of every script, and what is hostile.
func sample() *report.Report {
	rec := func(n int, quote string) *report.Record {
		return &report.Record{N: n, UID: "x", Below: n%2 == 0, Title: report.Text{report.T("Message of "), report.E("مرفأ 7")}, Quote: quote,
			Facts: report.Facts{{Name: "When", Value: report.Text{report.M("2026-09-14 20:40:00Z")}}, {Name: "Digest", Value: report.Text{report.H(strings.Repeat("0123abcd", 8))}, Bad: true}}}
	}
	var shot bytes.Buffer
	if err := png.Encode(&shot, image.NewGray(image.Rect(0, 0, 40, 80))); err != nil {
		panic(err)
	}
	seen := rec(13, "with pictures")
	for _, p := range []report.Picture{{Bytes: shot.Bytes(), Type: "image/png"}, {Fault: "it ends in the middle"}, {Bytes: []byte("GIF89a junk"), Type: "image/png"}, {Bytes: shot.Bytes()[:20], Type: "image/png"}} {
		p.Alt, p.Caption = "a quay", report.Text{report.E("quay.png")}
		seen.Pictures = append(seen.Pictures, &p)
	}
	return &report.Report{Kind: "Evidence report", Title: "T-1, Test", About: report.Text{report.T("By E"), report.Br, report.T("with test")}, Parts: []report.Part{
		{Name: "a", Title: "What was found", Blocks: []report.Block{
			report.Paragraph{Text: report.Text{report.T("Plain, "), report.M("mono"), report.T(" and "), report.Span{Words: "quiet", Style: report.Quiet}}},
			report.Heading{Text: report.Text{report.T("Below")}}, report.Written{Body: "Written.\n\nIn two paragraphs."},
			report.Table{Head: []string{"One", "Two"}, Rows: [][]report.Text{{{report.T("1")}, {report.E("שלום")}}, {{report.T("2")}}}},
			report.Citations{{N: 2, Words: report.Text{report.T("said")}, Fault: "it is not marked any more"}},
			report.NewTimeline(report.Clock{Zone: time.UTC}, 60, 5, []time.Time{time.Unix(1e9, 0), time.Unix(1.1e9, 0), time.Unix(1.2e9, 0)}, []bool{false, true, false}),
			&report.Map{Places: []report.Place{{Record: 1, Latitude: 38.5, Longitude: -28.6, Accuracy: 9000}, {Record: 2, Latitude: 39.2, Longitude: -27.9, Below: true}, {Record: 3, Latitude: 38.5001, Longitude: -28.6001}}},
			report.Signature{Name: "E", Place: "Place and date"}}},
		{Name: "b", Title: "Records", Blocks: []report.Block{
			rec(1, "Latin straße, Ελληνικά, Кириллица"), rec(2, "مرحبا بالعالم 123"), rec(3, "שלום עולם"), rec(4, "नमस्ते क्षत्रिय"), rec(5, "中文漢字 日本語カタカナ 한국어 ええ、10:00まで"), rec(6, "😀 👩‍👩‍👧 🇳🇴 ✓"),
			rec(7, "#set text(red)\n= Title $x$ `raw` @cite <label> \\ // #include \"/etc/passwd\""),
			rec(8, "turned \u202eback\u202c, nothing\x00 here, \xff, private \ue000, \u0378, \ufdd0"),
			rec(9, strings.Repeat("x", 3000)), rec(10, "z"+strings.Repeat("\u0301", 2000)), rec(11, strings.Repeat("many lines\n", 200_000)), rec(12, ""), seen, &report.Picture{Bytes: shot.Bytes(), Type: "image/png", Caption: report.Text{report.T("the exhibit")}},
		}},
	}}
}

// The test binary is what contains the typesetter, too, as the application's does.
func TestMain(m *testing.M) {
	if len(os.Args) > 7 && os.Args[1] == "child" { // --write FOLDER --read FOLDERS -- PROGRAM
		fmt.Fprintln(os.Stderr, preview.Contain(strings.Split(os.Args[5], ","), os.Args[3], os.Args[7:], os.Environ()))
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// contained is a typesetter that has its own folder, the fonts and the engine, and no network.
func contained() *Setter {
	s := FindSetter("../..")
	s.Within = []string{os.Args[0], "child"}
	return s
}

// What several scripts have is shown by the font of the one in whose block it is: the blocks are those of the Unicode Standard's
// Blocks.txt.
func TestMarksOfScripts(t *testing.T) {
	fs, err := readFaces(fontFolders)
	if err != nil {
		t.Fatal(err)
	}
	for family, all := range map[string]string{"Noto Sans": "aж“…—№", "Noto Sans CJK": "、。「」〇々・ー，！한", "Noto Sans Arabic": "،؛؟ـ٠", "Noto Sans Devanagari": "।॥क", "Noto Sans Hebrew": "־״א",
		"Noto Sans Bengali": "ক", "Noto Sans Mongolian": "ᠠ", "Noto Color Emoji": "😀"} {
		for _, c := range all {
			if f := fs.of(string(c)); f == nil || strings.TrimSuffix(f.family, " JP") != family {
				t.Errorf("%c is set in %v; want %s", c, f, family)
			}
		}
	}
}

func TestPDF(t *testing.T) {
	s := contained()
	at := time.Date(2026, 9, 24, 12, 0, 0, 0, time.UTC)
	vs, err := s.PDF(t.Context(), sample(), "E", at, Attachment{"manifest.txt", "text/plain", "digests", []byte("0123 *file\n")})
	if err != nil || len(vs) != 1 {
		t.Fatalf("%d volumes, %v", len(vs), err)
	}
	path := filepath.Join(t.TempDir(), "r.pdf")
	os.WriteFile(path, vs[0].Bytes, 0o600)
	// qpdf and poppler read it, of which neither has to do with who wrote it.
	run(t, "qpdf", "--check", path)
	if out := run(t, "pdfinfo", path); !strings.Contains(out, fmt.Sprintf("Pages:           %d\n", vs[0].Pages)) || !strings.Contains(out, "Tagged:          yes") || !strings.Contains(out, "T-1, Test") {
		t.Error(out)
	}
	if !bytes.Contains(vs[0].Bytes, []byte("pdfaid:part>3<")) {
		t.Error("it does not say that it is PDF/A-3")
	}
	if out := run(t, "pdfdetach", "-list", path); !strings.Contains(out, "manifest.txt") {
		t.Error(out)
	}
	if out := run(t, "pdfimages", "-list", path); len(regexp.MustCompile(`image +40 +80`).FindAllString(out, -1)) != 2 {
		t.Errorf("the pictures: %s", out)
	}
	text := run(t, "pdftotext", "-layout", path, "-")
	for _, want := range []string{"1. What was found", "Record 2: said", "it is not marked any more", "straße, Ελληνικά, Кириллица", "中文漢字", "ええ、10:00まで", "#set text(red)", "[U+202E]back[U+202C]", "nothing[U+0000] here, [byte FF], private [U+E000], [U+0378]", "[U+FDD0]", "[cut here: the text has 2200000 characters", "page 1 of ", "it ends in the middle", "it was not decoded", "the exhibit", "1, 3", "50 km", "28.0° W", "2008-01-10 21:20Z"} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not say %q", want)
		}
	}
	page, err := HTML(sample())
	if err != nil || bytes.Count(page, []byte(`src="data:image/png;base64,iVBOR`)) != 3 || bytes.Contains(page, []byte("ZgotmplZ")) {
		t.Errorf("the pictures of the page, %v", err)
	}
	if strings.Contains(text, "root:") {
		t.Error("it holds a file of the machine")
	}
}

// The report of 5,000 records and 300 pictures: seconds, and megabytes that its largest process held.
func BenchmarkPDF(b *testing.B) {
	s := contained()
	shot := image.NewRGBA(image.Rect(0, 0, 800, 600))
	for i := range shot.Pix {
		shot.Pix[i] = byte(i * i >> 7)
	}
	var jpg bytes.Buffer
	if err := jpeg.Encode(&jpg, shot, nil); err != nil {
		b.Fatal(err)
	}
	r := &report.Report{Kind: "Evidence report", Title: "T-1", Parts: []report.Part{{Name: "marked", Title: "Marked records"}}}
	facts := sample().Parts[1].Blocks[0].(*report.Record).Facts
	for len(facts) < 10 {
		facts = append(facts, facts...)
	}
	for i := range 5000 {
		x := &report.Record{N: i + 1, UID: fmt.Sprint(i), Below: i%3 == 0, Title: report.Text{report.T("Message")}, Quote: strings.Repeat("what was said there, مرحبا 中文 ", 1+i%7), Facts: facts[:10]}
		if i%16 == 0 && i/16 < 300 {
			x.Pictures = []*report.Picture{{Bytes: jpg.Bytes(), Type: "image/jpeg", Alt: "a picture"}}
		}
		r.Parts[0].Blocks = append(r.Parts[0].Blocks, x)
	}
	for b.Loop() {
		vs, err := s.PDF(b.Context(), r, "E", time.Unix(0, 0))
		if err != nil {
			b.Fatal(err)
		}
		pages := 0
		for _, v := range vs {
			pages += v.Pages
		}
		var use syscall.Rusage
		syscall.Getrusage(syscall.RUSAGE_CHILDREN, &use)
		b.ReportMetric(float64(pages), "pages")
		b.ReportMetric(float64(len(vs)), "volumes")
		b.ReportMetric(float64(use.Maxrss)/1024, "child-MB")
	}
}
