package democase

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

// Databases of the handsets' mail, whose layouts are those of the field maps of their names.
const (
	postPath   = "/data/post/post.db"
	letterPath = "/apps/letter/letter.sqlite"
)

// paper is a document of a handset, of the family only if it names one.
type paper struct {
	name, title, by, text, only string
	at                          *time.Time
}

var papers = []paper{
	{name: "ferry times.html", title: "Ferry times", text: "All routes\nThe 18:40 does not go on the first Monday of the month.\nIn fog ask at the desk."},
	{name: "choir.txt", text: "Tuesdays, long room, 20:10\nbring: music, a chair, something hot"},
	{name: "rules of the slipway.pdf", title: "Rules of the slipway", by: "Harbour Office", text: "No keel longer than nine metres.\nWinch by appointment."},
	{name: "letter to the yard.docx", title: "Letter to the yard", by: "L. Sandvik", text: "Dear Sirs,\nthe red lead that came is the grey one again.\nPlease collect it on Thursday; I am at the kiosk from ten.\nWith kind regards"},
	{name: "words.md", text: "# Words\nLeuchtfeuer, phare, fyr, farol, 灯台\nثلاثة, שלוש, तीन"},
	{name: "winter list.md", text: "# Winter\n- oars in\n- engine: oil, then cover\n- ask Brit about the wool"},
	{name: "inventory 2025.docx", title: "Inventory, instrument store", by: "M. Oksnes", text: "Theodolites: 9\nLevels: 14\nTripods: 31\nTwo cases have no engraved number.", only: "Tarn"},
	{name: "rota.html", title: "Rota", text: "Mo Tu We late\nFr off", only: "Tarn"},
	{name: "guide to selling instruments.pdf", title: "What a used theodolite is worth", by: "market.example.net", text: "An engraved number halves the price.", only: "Orlop", at: new(evening.AddDate(0, 0, -16))},
	{name: "three.md", text: "# three\nK: van, past the bend\nT: boat\nme: the tile. two each, the brass one stays", only: "Orlop", at: new(evening.AddDate(0, 0, -6))},
	{name: "statement.docx", title: "Statement", by: "M. Oksnes", text: "On Friday I was at the library from 20:30 and signed the book.\nThe alarm was on when I left.", only: "Tarn", at: new(deletions.AddDate(0, 0, 3))},
}

// bytes is the document as a file, changed at a time.
func (p paper) bytes(at time.Time) []byte {
	escaped := strings.NewReplacer("&", "&amp;", "<", "&lt;").Replace
	paragraphs := func(before, after string) string {
		var b strings.Builder
		for l := range strings.Lines(p.text) {
			b.WriteString(before + escaped(strings.TrimSuffix(l, "\n")) + after)
		}
		return b.String()
	}
	switch {
	case strings.HasSuffix(p.name, ".html"):
		return []byte("<!doctype html>\n<html><head><meta charset=\"utf-8\"><title>" + escaped(p.title) + "</title><style>body{font:16px serif}</style></head>\n<body><h1>" + escaped(p.title) + "</h1>" + paragraphs("<p>", "</p>\n") + "</body></html>\n")
	case strings.HasSuffix(p.name, ".pdf"):
		return p.pdf(at)
	case strings.HasSuffix(p.name, ".docx"):
		stamp := at.Format(time.RFC3339)
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for _, f := range [][2]string{
			{"[Content_Types].xml", `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="xml" ContentType="application/xml"/><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Override PartName="/word/document.xml" ContentType="application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml"/><Override PartName="/docProps/core.xml" ContentType="application/vnd.openxmlformats-package.core-properties+xml"/></Types>`},
			{"_rels/.rels", `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="a" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="word/document.xml"/><Relationship Id="b" Type="http://schemas.openxmlformats.org/package/2006/relationships/metadata/core-properties" Target="docProps/core.xml"/></Relationships>`},
			{"docProps/core.xml", `<cp:coreProperties xmlns:cp="http://schemas.openxmlformats.org/package/2006/metadata/core-properties" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:dcterms="http://purl.org/dc/terms/" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"><dc:title>` + escaped(p.title) + `</dc:title><dc:creator>` + escaped(p.by) + `</dc:creator><dcterms:created xsi:type="dcterms:W3CDTF">` + at.Add(-40*time.Minute).Format(time.RFC3339) + `</dcterms:created><dcterms:modified xsi:type="dcterms:W3CDTF">` + stamp + `</dcterms:modified></cp:coreProperties>`},
			{"word/document.xml", `<w:document xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"><w:body>` + paragraphs(`<w:p><w:r><w:t xml:space="preserve">`, `</w:t></w:r></w:p>`) + `</w:body></w:document>`},
		} {
			w, err := z.CreateHeader(&zip.FileHeader{Name: f[0], Method: zip.Store, Modified: at})
			if err == nil {
				_, err = w.Write([]byte(f[1]))
			}
			if err != nil {
				panic(err) // a buffer takes all
			}
		}
		z.Close()
		return b.Bytes()
	}
	return []byte(p.text + "\n")
}

// pdf is a page with the title on it, and what it says.
func (p paper) pdf(at time.Time) []byte {
	text := func(s string) string {
		return "(" + strings.NewReplacer(`\`, `\\`, "(", `\(`, ")", `\)`).Replace(s) + ")"
	}
	page := "BT /F 18 Tf 60 760 Td " + text(p.title) + " Tj ET"
	y := 730
	for l := range strings.Lines(p.text) {
		page += fmt.Sprintf("\nBT /F 12 Tf 60 %d Td %s Tj ET", y, text(strings.TrimSuffix(l, "\n")))
		y -= 18
	}
	objects := []string{"<</Type/Catalog/Pages 2 0 R>>", "<</Type/Pages/Kids[3 0 R]/Count 1>>", "<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F 5 0 R>>>>>>",
		fmt.Sprintf("<</Length %d>>\nstream\n%s\nendstream", len(page), page), "<</Type/Font/Subtype/Type1/BaseFont/Times-Roman>>",
		fmt.Sprintf("<</Title%s/Author%s/Creator(writer 4)/CreationDate(D:%sZ)/ModDate(D:%sZ)>>", text(p.title), text(p.by), at.Add(-time.Hour).Format("20060102150405"), at.Format("20060102150405"))}
	b := []byte("%PDF-1.4\n")
	var table strings.Builder
	for i, o := range objects {
		fmt.Fprintf(&table, "%010d 00000 n \n", len(b))
		b = fmt.Appendf(b, "%d 0 obj\n%s\nendobj\n", i+1, o)
	}
	return fmt.Appendf(b, "xref\n0 %d\n0000000000 65535 f \n%strailer\n<</Size %d/Root 1 0 R/Info 6 0 R>>\nstartxref\n%d\n%%%%EOF\n", len(objects)+1, table.String(), len(objects)+1, len(b))
}

// mailed is a piece of mail of an owner with somebody.
type mailed struct {
	at         time.Time
	mine       bool
	other      int // of writers
	head, body string
	root       int
}

// writers are those whom the owners have mail from.
var writers = []string{"office@harbour.example", "newsletter@tide.example.org", "brit@example.net", "orders@shop.example.net", "library@library.example.org", "choir@example.com"}

// heads are what mail is about, with what it says and an answer.
var heads = []struct {
	from               int
	head, said, answer string
}{
	{0, "Berth fees", "The fee for berth {num} is due on {day}. You can pay at the desk.", "Paid at the desk today."},
	{1, "Tides of the week", "Springs on {day}. At the {mark} {num}.4 m at {hour}.", ""},
	{2, "{day}?", "Are you free on {day} at {hour}? Leif brings the {thing}.", "Yes, I come by the {spot}."},
	{3, "Your order is on its way", "One {thing}, in a parcel of {num} kg. It comes to the {spot}.", ""},
	{4, "Your loans", "\"The keepers of the inner light\" is due on {day}.", "Can I have it one week longer?"},
	{5, "Rehearsal", "We meet at {hour} in the {room}. Basses come early.", "I hum."},
	{2, "the {thing}", "It was in the {room} all the time.", "Of course it was."},
}

// secretMail is what was deleted.
var secretMail = []struct {
	before     time.Duration
	mine       bool
	address    string
	head, said string
}{
	{12 * 24 * time.Hour, false, "offers@market.example.net", "Offer 4471", "We take six at once, no papers. Half on the quay, half on the mainland."},
	{11 * 24 * time.Hour, true, "offers@market.example.net", "Re: Offer 4471", "Six. One has a number, that one stays. After the 12th."},
	{-30 * time.Hour, false, "offers@market.example.net", "Re: Offer 4471", "Parcel locker 9, code 4417. Two by two."},
}

// correspondence is the mail of an owner up to end.
func correspondence(r *rand.Rand, end time.Time) (out []mailed) {
	for at := start; ; {
		at = at.Add(time.Duration(6+r.IntN(40)) * time.Hour)
		if !at.Before(end) {
			return out
		}
		h := heads[r.IntN(len(heads))]
		root := len(out) + 1
		subject := fill(r, h.head)
		out = append(out, mailed{at, false, h.from, subject, fill(r, h.said), root})
		if h.answer != "" && r.IntN(3) > 0 {
			out = append(out, mailed{at.Add(time.Duration(20+r.IntN(300)) * time.Minute), true, h.from, "Re: " + subject, fill(r, h.answer), root})
		}
	}
}

// post writes the harbour phone's mail.
func post(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	const columns = "id INTEGER PRIMARY KEY, thread INTEGER NOT NULL, sender TEXT NOT NULL, rcpt TEXT NOT NULL, mine INTEGER NOT NULL, at INTEGER NOT NULL, subject TEXT, body TEXT"
	db.exec("CREATE TABLE mail(" + columns + ")")
	db.exec("CREATE TABLE dustbin(" + columns + ", purge INTEGER NOT NULL)")
	add := func(root int, other string, mine bool, at time.Time, head, body string) {
		from, to := other, AccountName
		if mine {
			from, to = to, from
		}
		db.put(at, "INSERT INTO mail(thread, sender, rcpt, mine, at, subject, body) VALUES (?, ?, ?, ?, ?, ?, ?)", root, from, to, mine, at.Unix(), head, body)
	}
	for _, m := range correspondence(r, last) {
		add(m.root, writers[m.other], m.mine, m.at, m.head, m.body)
	}
	for _, s := range secretMail {
		add(9000, s.address, s.mine, evening.Add(-s.before), s.head, s.said)
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, postPath, "mail", "dustbin")
	}
	db.remove(t, postPath, "mail", "single rows", "thread = 9000 AND at < ? OR id % 31 = 11", deletions.Unix())
	const held = "id % 29 = 7"
	db.exec("INSERT INTO dustbin SELECT *, ? FROM mail WHERE "+held, deletions.AddDate(0, 0, 30).Unix())
	db.remove(t, postPath, "mail", "moved to the holding area", held)
	return db.finish(t, postPath, "mail", "dustbin")
}

// letter writes the galley phone's mail.
func letter(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE letter(no INTEGER PRIMARY KEY, chain TEXT NOT NULL, folder TEXT NOT NULL, party TEXT NOT NULL, at TEXT NOT NULL, head TEXT, said TEXT)")
	add := func(chain, party string, mine bool, at time.Time, head, said string) {
		db.put(at, "INSERT INTO letter(chain, folder, party, at, head, said) VALUES (?, ?, ?, ?, ?, ?)", chain, map[bool]string{false: "in", true: "out"}[mine], party, at.Format("2006-01-02 15:04:05"), head, said)
	}
	for _, m := range correspondence(r, last) {
		add(fmt.Sprintf("c%d@example.org", m.root), writers[m.other], m.mine, m.at.Add(time.Hour), m.head, m.body)
	}
	add("s1@example.org", "ketil@example.net", false, evening.AddDate(0, 0, -3), "Friday", "Be at the library. Somebody must see you there.")
	add("s1@example.org", "ketil@example.net", true, evening.AddDate(0, 0, -3).Add(time.Hour), "Re: Friday", "I sign the book. Do not write here again.")
	db.live()
	if end.Before(deletions) {
		return db.finish(t, letterPath, "letter")
	}
	db.remove(t, letterPath, "letter", "single rows", "chain = 's1@example.org' OR no % 37 = 9")
	const held = "no % 41 = 13"
	if err := db.note(t, letterPath, "letter", "moved to the holding area", held); err != nil {
		return nil, err
	}
	db.exec("UPDATE letter SET folder = 'bin ' || folder WHERE " + held)
	return db.finish(t, letterPath, "letter")
}

// putAway is a mailbox of old mail: RFC 4155.
func putAway(seed uint64) ([]byte, error) {
	r := rand.New(rand.NewPCG(seed, 4155))
	var b strings.Builder
	for i, m := range correspondence(r, start.AddDate(0, 1, 0)) {
		from, to := writers[m.other], "own@example.org"
		if m.mine {
			from, to = to, from
		}
		at := m.at
		fmt.Fprintf(&b, "From %s %s\nFrom: <%s>\nTo: <%s>\nDate: %s\nSubject: %s\nMessage-ID: <%d.%d@example.org>\n", from, at.Format(time.ANSIC), from, to, at.Format("Mon, 02 Jan 2006 15:04:05 +0000"), m.head, seed, i)
		if m.root-1 != i {
			fmt.Fprintf(&b, "In-Reply-To: <%d.%d@example.org>\n", seed, m.root-1)
		}
		said := strings.ReplaceAll(m.body, "\nFrom ", "\n>From ")
		if i%9 != 4 {
			fmt.Fprintf(&b, "Content-Type: text/plain; charset=utf-8\n\n%s\n\n", said)
			continue
		}
		view, err := snapshot(r)
		if err != nil {
			return nil, err
		}
		part := fmt.Sprintf("--part-%d-%d", seed, i)
		fmt.Fprintf(&b, "MIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=%q\n\n%s\nContent-Type: text/plain; charset=utf-8\n\n%s\n%s\n", part[2:], part, said, part)
		fmt.Fprintf(&b, "Content-Type: image/jpeg\nContent-Disposition: attachment; filename=\"view %d.jpg\"\nContent-Transfer-Encoding: base64\n\n%s\n%s--\n\n", i, folded(base64.StdEncoding.EncodeToString(view), 76, "\n"), part)
	}
	return []byte(b.String()), nil
}

// folded breaks a text into lines of so many characters.
func folded(s string, width int, between string) string {
	var lines []string
	for len(s) > width {
		lines, s = append(lines, s[:width]), s[width:]
	}
	return strings.Join(append(lines, s), between)
}
