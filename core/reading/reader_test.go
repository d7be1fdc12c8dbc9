package reading

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"

	"github.com/emersion/go-ical"
	"github.com/emersion/go-vcard"
)

func crlf(s string) []byte {
	return []byte(strings.ReplaceAll(strings.TrimPrefix(s, "\n"), "\n", "\r\n"))
}

// all reads a text, and compares each record with what its own bytes give.
func all(t testing.TB, r Reader, content []byte) (out []*record.Record, faults []error) {
	return allOf(t, r, "/a", content)
}

func allOf(t testing.TB, r Reader, path string, content []byte) (out []*record.Record, faults []error) {
	t.Helper()
	for x, err := range r.Read(io.NewSectionReader(bytes.NewReader(content), 0, int64(len(content))), &Text{Path: path, Stored: "a", Country: "GB"}) {
		if err != nil {
			faults = append(faults, err)
			continue
		}
		x.Keep()
		o := x.Origin()
		if o.Offset < 0 || o.Length <= 0 || o.Offset+int64(o.Length) > int64(len(content)) {
			t.Fatalf("%+v lies outside %d bytes", o, len(content))
		}
		if again, known := Again(x, content[o.Offset:o.Offset+int64(o.Length)]); !known || len(Differs(x, again)) != 0 && !strings.Contains(string(content), "VTIMEZONE") {
			t.Errorf("read again %q gives %+v, not %+v", content[o.Offset:o.Offset+int64(o.Length)], again, x)
		}
		out = append(out, x)
	}
	return out, faults
}

func facts(r *record.Record) string {
	var parts []string
	for _, p := range r.Parties {
		parts = append(parts, fmt.Sprintf("%s %s=%s %s", p.Role, p.Scheme, p.Handle, p.Name))
	}
	if r.Place != nil {
		parts = append(parts, r.Place.String())
	}
	for _, a := range r.Attachments {
		s := a.Title() + " " + a.Type
		if a.Size != nil {
			s += fmt.Sprintf(" %d bytes", *a.Size)
		}
		parts = append(parts, s+", "+a.Missing+a.Coding)
	}
	for _, f := range r.Facts {
		parts = append(parts, f.Name+"="+f.Value)
	}
	for _, x := range r.Times {
		at := x.Local
		if x.At != nil {
			at = x.At.Format(time.RFC3339)
		}
		parts = append(parts, x.Role+"="+at)
	}
	return r.Text + "; " + strings.Join(parts, "; ")
}

// The forms of the three versions: RFC 6350 sections 3.2 to 3.4 and 6, RFC 2426 section 3.1, RFC
// 6868; of vCard 2.1 its sections 2.1.1 and 2.1.3 (from memory).
func TestVCards(t *testing.T) {
	for _, c := range []struct{ card, want string }{
		{"VERSION:4.0\nFN:Mr. John Q. Public\\, Esq.\nN:Public;John;Quinlan;;Mr.,Esq.\nTEL;VALUE=uri;TYPE=\"voice,home\":tel:+44-7700-900551;ext=5102\nEMAIL:jqpublic@xyz.example.com\nNOTE:This is a long descrip\n tion on a\\nlong line.\nREV:19951031T222710Z",
			"Mr. John Q. Public, Esq.; card telephone=+44-7700-900551 ; card mail=jqpublic@xyz.example.com ; Note=This is a long description on a\nlong line.; changed=1995-10-31T22:27:10Z"},
		{"VERSION:3.0\nitem1.TEL;type=CELL:07700 900417\nN:Stevenson;John;Philip,Paul;Dr.;Jr.\\,M.D.\nORG:ABC\\, Inc.;North American Division\nBDAY:1996-04-15\nREV:1995-10-31T22:27:10+01:00\nPHOTO;ENCODING=b;TYPE=JPEG:AAECAwQ=\nUID:19950401-080045-40000F192713-0052",
			"Dr. John Philip,Paul Stevenson Jr.,M.D.; card telephone=07700 900417 ; photo jpeg 5 bytes, base64; Identifier=19950401-080045-40000F192713-0052; Organisation=ABC, Inc., North American Division; Birthday=1996-04-15; changed=1995-10-31T21:27:10Z"},
		{"VERSION:2.1\nN;CHARSET=ISO-8859-1;ENCODING=QUOTED-PRINTABLE:S=F8ren;J=E9r=F4me\nTEL;HOME;VOICE:0113 496 0000\nNOTE;ENCODING=QUOTED-PRINTABLE:One line=0D=0A=\nand another, with a=3Dsign\nADR;DOM;HOME:P.O. Box 101;Suite 101;123 Main Street;Any Town;CA;91921-1234;",
			"Jérôme Søren; card telephone=0113 496 0000 ; Address=P.O. Box 101, Suite 101, 123 Main Street, Any Town, CA, 91921-1234; Note=One line\r\nand another, with a=sign"},
		{"VERSION:4.0\nFN:\nORG:Harbour Office\nIMPP:xmpp:alice@example.com\nEMAIL:mailto:a%40b@example.org?subject=x\nRELATED;VALUE=text:Please contact my assistant for\n  any inquiries.",
			"Harbour Office; card mail=alice@example.com ; card mail=a@b@example.org ; Organisation=Harbour Office; Related=Please contact my assistant for any inquiries."},
		{"VERSION:4.0\nFN:X\nREV:20260901T080000", "X; changed=2026-09-01T08:00:00"},
		// RFC 6350 section 6.5.2, RFC 5870 section 6.1 with an altitude, RFC 2426 section 3.4.2, and coordinates that are none.
		{"VERSION:4.0\nFN:X\nGEO:geo:37.386013,-122.082932", "X; 37.386013, -122.082932"},
		{"VERSION:4.0\nFN:X\nGEO:geo:48.2010,16.3695,183;crs=wgs84;u=40\nPHOTO:data:image/png;base64,AAEC", "X; 48.201000, 16.369500; photo image/png 3 bytes, base64"},
		{"VERSION:3.0\nFN:X\nGEO:37.386013;-122.082932\nGEO:1;2", "X; 37.386013, -122.082932"},
		{"VERSION:4.0\nFN:X\nGEO:geo:91,0\nPHOTO:https://example.org/x.jpg", "X; photo , not in the source"},
	} {
		file := crlf("BEGIN:VCARD\n" + c.card + "\nEND:VCARD\n")
		rs, faults := all(t, vcards{}, file)
		if len(rs) != 1 || len(faults) != 0 || facts(rs[0]) != c.want {
			t.Errorf("%q: %v\n%s\nwant\n%s", c.card, faults, facts(rs[0]), c.want)
		}
		for _, a := range rs[0].Attachments {
			if got := parts(t, file, a); a.Missing == "" && got != "\x00\x01\x02\x03\x04"[:*a.Size] {
				t.Errorf("%q: %q", c.card, got)
			}
		}
	}
	if rs, faults := all(t, vcards{}, crlf("\ufeffBEGIN:vcard\nFN:A\nEND:vCard\n\nBEGIN:VCARD\nFN:B\nEND:VCARD\nBEGIN:VCARD\nFN:C\n")); len(rs) != 2 || len(faults) != 1 {
		t.Errorf("%v, %v", rs, faults)
	}
}

// The definition of a zone gives what the IANA database does (RFC 5545 section 3.6.5), at every
// hour of some years that a clock shows once.
func TestZonesAreThoseOfIANA(t *testing.T) {
	const zone = `BEGIN:VTIMEZONE
TZID:Harbour
BEGIN:DAYLIGHT
DTSTART:19870405T020000
RRULE:FREQ=YEARLY;BYDAY=1SU;BYMONTH=4;UNTIL=20060402T070000Z
TZOFFSETFROM:-0500
TZOFFSETTO:-0400
END:DAYLIGHT
BEGIN:STANDARD
DTSTART:19671029T020000
RRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10;UNTIL=20061029T060000Z
TZOFFSETFROM:-0400
TZOFFSETTO:-0500
END:STANDARD
BEGIN:DAYLIGHT
DTSTART:20070311T020000
RRULE:FREQ=YEARLY;BYDAY=2SU;BYMONTH=3
TZOFFSETFROM:-0500
TZOFFSETTO:-0400
END:DAYLIGHT
BEGIN:STANDARD
DTSTART:20071104T020000
RRULE:FREQ=YEARLY;BYDAY=1SU;BYMONTH=11
TZOFFSETFROM:-0400
TZOFFSETTO:-0500
END:STANDARD
END:VTIMEZONE
`
	at, err := time.LoadLocation("America/New_York")
	if err != nil {
		t.Fatal(err)
	}
	list, err := components(crlf(zone))
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	n, z := 0, &zones{began: map[onset][]time.Time{}}
	for instant := time.Date(1988, 1, 1, 0, 30, 0, 0, time.UTC); instant.Year() < 2031; instant = instant.Add(7 * time.Hour) {
		local := instant.In(at)
		if local.Add(-time.Hour).Format("15") == local.Format("15") || local.Add(time.Hour).Format("15") == local.Format("15") {
			continue // an hour that the clock shows twice
		}
		shown := time.Date(local.Year(), local.Month(), local.Day(), local.Hour(), local.Minute(), 0, 0, time.UTC)
		if got, err := z.defined(list[0], shown); err != nil || !got.Equal(instant) {
			t.Fatalf("%v: %v, %v, want %v", shown, got, err, instant)
		}
		n++
	}
	event := "BEGIN:VEVENT\nDTSTART;TZID=Harbour:19980119T020000\nDTEND;TZID=America/New_York:19980119T030000\nEND:VEVENT\n"
	rs, _ := all(t, calendars{}, crlf("BEGIN:VCALENDAR\n"+zone+event+"END:VCALENDAR\n"))
	if len(rs) != 1 || facts(rs[0]) != "; began=1998-01-19T07:00:00Z; ended=1998-01-19T08:00:00Z" || n < 50000 {
		t.Errorf("%s, %d", facts(rs[0]), n)
	}
}

// Events: RFC 5545 sections 3.3.6, 3.6.1 and 4.
func TestCalendars(t *testing.T) {
	for _, c := range []struct{ event, want string }{
		{"UID:19970610T172345Z-AF23B2@example.com\nDTSTAMP:19970610T172345Z\nDTSTART:19970714T170000Z\nDTEND:19970715T040000Z\nSUMMARY:Bastille Day Party",
			"Bastille Day Party; Identifier=19970610T172345Z-AF23B2@example.com; began=1997-07-14T17:00:00Z; ended=1997-07-15T04:00:00Z"},
		{"DTSTART:19960918T143000Z\nDURATION:P15DT5H0M20S\nSUMMARY:A\\;B\nORGANIZER;CN=\"Smith, J\":mailto:jsmith@example.com\nATTENDEE;RSVP=TRUE:MAILTO:jdoe@example.com\nRRULE:FREQ=WEEKLY;COUNT=10\nLOCATION:Conference Room\\, F123",
			"A;B; organizer mail=jsmith@example.com Smith, J; attendee mail=jdoe@example.com ; Location=Conference Room, F123; Repeats=FREQ=WEEKLY;COUNT=10; began=1996-09-18T14:30:00Z; ended=1996-10-03T19:30:20Z"},
		{"DTSTART;VALUE=DATE:19971102\nSUMMARY:Our Blissful Anniversary", "Our Blissful Anniversary; began=1997-11-02"},
		{"DTSTART;TZID=Nowhere/At-All:19980118T230000\nDTEND:19980118T233000\nSUMMARY:x", "x; began=1998-01-18T23:00:00; ended=1998-01-18T23:30:00"},
	} {
		rs, faults := all(t, calendars{}, crlf("BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\n"+c.event+"\nEND:VEVENT\nEND:VCALENDAR\n"))
		if len(rs) != 1 || len(faults) != 0 || facts(rs[0]) != c.want {
			t.Errorf("%v\n%s\nwant\n%s", faults, facts(rs[0]), c.want)
		}
	}
	for s, want := range map[string]time.Duration{"P7W": 49 * 24 * time.Hour, "-PT15M": -15 * time.Minute, "P1D": 24 * time.Hour, "PT0S": 0} {
		if d, ok := duration(s); !ok || d != want {
			t.Errorf("%s is %v", s, d)
		}
	}
}

// Two libraries of another origin read the same values.
func TestLibrariesReadTheSame(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	word := func() string {
		var b strings.Builder
		for range 1 + rnd.IntN(60) {
			b.WriteString([]string{"a", "Ü", "漢", ",", ";", "\\", "\n", " ", ":", "=", "ö", "x", "9"}[rnd.IntN(13)])
		}
		return strings.TrimSpace("w" + b.String() + "w")
	}
	escaped := strings.NewReplacer("\\", "\\\\", ",", "\\,", ";", "\\;", "\n", "\\n")
	fold := func(s string) string { // at any character
		var b strings.Builder
		for i, r := range []rune(s) {
			if i > 0 && i%30 == 0 {
				b.WriteString("\r\n ")
			}
			b.WriteRune(r)
		}
		return b.String()
	}
	for range 300 {
		name, note := word(), strings.ReplaceAll(word(), ";", ",") // one library leaves semicolons escaped
		text := "BEGIN:VCARD\r\nVERSION:4.0\r\n" + fold("FN;X-P=\"a:b;c\":"+escaped.Replace(name)) + "\r\n" + fold("NOTE:"+escaped.Replace(note)) + "\r\nEND:VCARD\r\n"
		c, err := components([]byte(text))
		theirs, err2 := vcard.NewDecoder(strings.NewReader(text)).Decode()
		if err != nil || err2 != nil || c[0].text("FN") != name || c[0].text("NOTE") != theirs.Value("NOTE") || c[0].text("NOTE") != note {
			t.Fatalf("%q: %v, %v; %q, theirs %q", text, err, err2, c[0].text("FN"), theirs.Value("FN"))
		}
		text = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\n" + fold("SUMMARY:"+escaped.Replace(name)) + "\r\nDTSTART;TZID=Europe/London:20260701T120000\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
		rs, _ := all(t, calendars{}, []byte(text))
		cal, err := ical.NewDecoder(strings.NewReader(text)).Decode()
		if err != nil {
			t.Fatal(err)
		}
		summary, err := cal.Events()[0].Props.Text("SUMMARY")
		start, err2 := cal.Events()[0].DateTimeStart(nil)
		if err != nil || err2 != nil || rs[0].Text != summary || !rs[0].At().Equal(start) {
			t.Fatalf("%q: %q at %v, theirs %q at %v, %v", text, rs[0].Text, rs[0].At(), summary, start, err)
		}
	}
}

// What each later version changed is told; what stays is told once, of the newest.
func TestVersionsOfAFile(t *testing.T) {
	at := func(day int) string {
		return VersionPath("/calendar/Own.ics", time.Date(2026, 9, day, 6, 2, 0, 0, time.UTC))
	}
	event := func(id int, summary, start string) string {
		return fmt.Sprintf("BEGIN:VEVENT\nUID:%d\nDTSTAMP:20260901T080000Z\nDTSTART:%s\nSUMMARY:%s\nEND:VEVENT\n", id, start, summary)
	}
	stays, moved, goes, back := event(1, "survey", "20260903T160000Z"), event(2, "gate", "20260911T203000Z"), event(3, "ferry", "20260912T053000Z"), event(4, "quay", "20260914T053000Z")
	texts := map[string]string{at(10): stays + moved + goes + back, at(12): stays + strings.ReplaceAll(moved, "203000", "213000"), at(14): stays + strings.ReplaceAll(moved, "203000", "213000") + back}
	var files []*File
	for p, s := range texts {
		content := crlf("BEGIN:VCALENDAR\n" + s + "END:VCALENDAR\n")
		files = append(files, &File{Path: p, Stored: p[1:], Size: int64(len(content)), Open: func() (Bytes, error) { return memory{content}, nil }})
	}
	var got []string
	for r, err := range Records(files, Options{Note: func(s string) { t.Error(s) }}) {
		if err != nil {
			t.Fatal(err)
		}
		said := ""
		if n := len(r.Facts); n > 0 && r.Facts[n-1].Name == record.LaterVersion {
			said = r.Facts[n-1].Value
		}
		got = append(got, fmt.Sprintf("%s %s %s: %s", r.Origin().Path[14:24], r.State, r.Text, said))
	}
	want := []string{
		`2026-09-10 earlier gate: otherwise in the version of 12 Sep 2026 06:02:00 UTC: began`,
		"2026-09-10 earlier ferry: not in the version of 12 Sep 2026 06:02:00 UTC",
		"2026-09-10 earlier quay: not in the version of 12 Sep 2026 06:02:00 UTC; it is in the one of 14 Sep 2026 06:02:00 UTC again",
		"2026-09-14 intact survey: ", "2026-09-14 intact gate: ", "2026-09-14 intact quay: ",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// Contacts of one name are told apart by what they say, and nothing is made up of which became
// which.
func TestVersionsOfTwins(t *testing.T) {
	card := func(name, number string) string {
		return "BEGIN:VCARD\nVERSION:4.0\nFN:" + name + "\nTEL:" + number + "\nEND:VCARD\n"
	}
	one, two, three := card("Mum", "+447700900001"), card("Mum", "+447700900002"), card("Mum", "+447700900003")
	for _, c := range []struct {
		before, after string
		want          []string
	}{
		{one + two, one + two, []string{"intact ", "intact "}},
		{one + two, two + one, []string{"intact ", "intact "}},
		{one + two, two, []string{"earlier not in the version of 12 Sep 2026 00:00:00 UTC", "intact "}},
		{one, two + three, []string{"earlier not as it is here in the version of 12 Sep 2026 00:00:00 UTC, which has 2 that it may be", "intact ", "intact "}},
	} {
		var files []*File
		for day, s := range map[int]string{10: c.before, 12: c.after} {
			content := crlf(s)
			p := VersionPath("/contacts/Own.vcf", time.Date(2026, 9, day, 0, 0, 0, 0, time.UTC))
			files = append(files, &File{Path: p, Stored: p[1:], Size: int64(len(content)), Open: func() (Bytes, error) { return memory{content}, nil }})
		}
		var got []string
		for r, err := range Records(files, Options{Note: func(s string) { t.Error(s) }}) {
			if err != nil {
				t.Fatal(err)
			}
			said := ""
			if n := len(r.Facts); n > 0 {
				said = r.Facts[n-1].Value
			}
			got = append(got, string(r.State)+" "+said)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}

type memory struct{ b []byte }

func (m memory) ReadAt(p []byte, at int64) (int, error) {
	return strings.NewReader(string(m.b)).ReadAt(p, at)
}
func (m memory) Close() error { return nil }

// Whatever bytes a text has, its records lie within it, and their own bytes give them again.
func FuzzReaders(f *testing.F) {
	f.Add(crlf("BEGIN:VCARD\nVERSION:2.1\nN;ENCODING=QUOTED-PRINTABLE:=\n=41;B\nTEL;CELL:1\nEND:VCARD\n"))
	f.Add(crlf("BEGIN:VCALENDAR\nBEGIN:VTIMEZONE\nTZID:a\nBEGIN:STANDARD\nDTSTART:16010101T000000\nRRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30\nTZOFFSETTO:+0100\nEND:STANDARD\nEND:VTIMEZONE\nBEGIN:VEVENT\nDTSTART;TZID=a:20260101T000000\nSUMMARY:x\\\nEND:VEVENT\nEND:VCALENDAR\n"))
	f.Add([]byte("From a@example.com Fri Nov 21 15:55:06 1997\nFrom: a@example.com\nContent-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: text/html\n\n<p>x\n--b--\n\nFrom b@example.com Fri Nov 21 15:55:06 1997\n\n>From x\n"))
	f.Add([]byte("%PDF-1.4\n1 0 obj\n<</Title(a\\(b)/Author<feff0041>/CreationDate(D:20260911213100+01'00')>>\nendobj\ntrailer\n<</Info 1 0 R>>\n"))
	f.Add([]byte("<title>a</title><p>b<script>c</script>"))
	f.Add(zipped(f, "docProps/core.xml", "<a><title>b</title></a>", "word/document.xml", "<a><p><t>b</t></p></a>"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 4000 {
			return
		}
		for _, path := range []string{"/a", "/a.txt", "/a.html", "/a.docx", "/a.eml"} {
			if r := ReaderOf(path, b[:min(len(b), HeadLength)]); r != nil {
				allOf(t, r, path, b)
			}
		}
	})
}
