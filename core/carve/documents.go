package carve

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"crosswind/core/volume"
)

const (
	maxDocument = 256 << 20
	maxEnds     = 256 // ends of archives that are looked at for one that begins
)

// readPDF finds the end of a PDF file (ISO 32000-1 section 7.5): the last end mark before another file begins
// that a startxref stands before whose offset leads to a cross-reference table or stream.
func readPDF(s *source, start int64) Verdict {
	if h := s.get(start, 8); len(h) < 8 || h[5] < '1' || h[5] > '2' || h[6] != '.' {
		return Verdict{}
	}
	end, any := int64(0), int64(0)
	for i, at := range s.eofs.behind(s, "%%EOF", start+5, start+maxDocument) {
		if more := s.begins.behind(s, "%PDF-1.", start+5, at); len(more) > 0 || i == maxEnds { // another begins
			break
		}
		if any = at + 5; crossReference(s, start, any) {
			end = any
			switch b := string(s.get(end, 2)); { // a line's end
			case b == "\r\n":
				end += 2
			case strings.HasPrefix(b, "\n"), strings.HasPrefix(b, "\r"):
				end++
			}
		}
	}
	switch {
	case end > 0:
		return Verdict{end - start, volume.Unverified, "its cross-references lead to its objects"}
	case any > 0:
		return Verdict{any - start, volume.Part, "its cross-references lead nowhere"}
	}
	return Verdict{}
}

var (
	startXref = regexp.MustCompile(`startxref\s+(\d{1,10})\s+%%EOF$`)
	object    = regexp.MustCompile(`^\s*\d+\s+\d+\s+obj`)
)

// crossReference reports whether what stands before an end mark leads to cross-references.
func crossReference(s *source, start, end int64) bool {
	from := max(start, end-64)
	m := startXref.FindSubmatch(s.get(from, int(end-from)))
	if m == nil {
		return false
	}
	n, err := strconv.ParseInt(string(m[1]), 10, 64)
	if err != nil {
		return false
	}
	if n == 0 { // the first of a linearised file's two
		return false
	}
	b := s.get(start+n, 32)
	return n < end-start && (bytes.HasPrefix(bytes.TrimLeft(b, "\r\n "), []byte("xref")) || object.Match(b))
}

// readZIP finds the end of a ZIP archive by its directory (APPNOTE 6.3.10 section 4.3), whose entries must lead to
// its members. It is whole if the checksums of these hold.
func readZIP(s *source, start int64) Verdict {
	h := s.get(start, 30)
	if len(h) < 30 || binary.LittleEndian.Uint16(h[4:]) > 63 || binary.LittleEndian.Uint16(h[26:]) == 0 {
		return Verdict{}
	}
	for i, at := range s.eocds.behind(s, "PK\x05\x06", start+30, start+maxDocument) {
		if i == maxEnds {
			break
		}
		e := s.get(at, 22)
		if len(e) < 22 {
			break
		}
		le := binary.LittleEndian
		size, offset := int64(le.Uint32(e[12:])), int64(le.Uint32(e[16:]))
		length := at + 22 + int64(le.Uint16(e[20:])) - start
		if offset+size == at-start && string(s.get(start+offset, 4)) == "PK\x01\x02" {
			return members(s, start, min(length, s.size-start))
		}
	}
	return Verdict{}
}

// members checks the members of an archive.
func members(s *source, start, size int64) Verdict {
	z, err := zip.NewReader(io.NewSectionReader(reader{s}, start, size), size)
	if err != nil {
		return Verdict{size, volume.Part, "its directory cannot be read"}
	}
	left := min(maxDocument, max(s.left, 64*size))
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			return Verdict{size, volume.Part, "a member cannot be read"}
		}
		n, err := io.Copy(io.Discard, io.LimitReader(r, left+1))
		r.Close()
		s.left -= n // so that many archives that unpack to much cost no more than one
		if left -= n; left < 0 {
			return Verdict{size, volume.Unverified, "it unpacks to more than is checked"}
		}
		if err != nil {
			return Verdict{size, volume.Part, "the checksum of a member does not hold"}
		}
	}
	return Verdict{size, volume.Whole, byChecksums}
}

// readSQLite follows the pages of a database by its head (SQLite file format section 1.3): each page's first byte
// must be one that a page can begin with.
func readSQLite(s *source, start int64) Verdict {
	h := s.get(start, 100)
	if len(h) < 100 || h[21] != 64 || h[22] != 32 || h[23] != 32 || binary.BigEndian.Uint32(h[44:]) > 4 {
		return Verdict{}
	}
	page := int64(binary.BigEndian.Uint16(h[16:]))
	if page == 1 {
		page = 65536
	}
	count := int64(binary.BigEndian.Uint32(h[28:]))
	if page < 512 || page&(page-1) != 0 || count == 0 || page*count > maxFile {
		return Verdict{}
	}
	if start+page*count > s.size {
		return Verdict{s.size - start, volume.Part, ends}
	}
	return Verdict{page * count, volume.Unverified, bySizes}
}

// readVCard takes cards that follow one another (RFC 6350 section 3.3): lines of text from BEGIN to END.
func readVCard(s *source, start int64) Verdict {
	at, end := start, int64(0)
	for at-start < 16<<20 {
		b := s.get(at, 1<<15)
		i := bytes.IndexByte(b, '\n')
		if i < 0 {
			break
		}
		line := bytes.TrimRight(b[:i], "\r")
		if bytes.IndexFunc(line, func(c rune) bool { return c < 0x20 && c != '\t' }) >= 0 {
			break
		}
		if at == end && !bytes.EqualFold(line, []byte("BEGIN:VCARD")) {
			break
		}
		if at += int64(i) + 1; bytes.EqualFold(line, []byte("END:VCARD")) {
			end = at
		}
	}
	if end == 0 {
		return Verdict{}
	}
	return Verdict{end - start, volume.Whole, byChain}
}

// least is how many bytes a text that is found has at least.
const least = 16

// readText follows a text from start on, which is at i of bytes that were read. It has no structure but this: it begins
// where a file may, with no text before it, is UTF-8 without control characters, and behind its end the sector is zeros,
// as whoever writes a file leaves it. What another kind begins with is no text.
func readText(s *source, start int64, b []byte, i int) Verdict {
	head := b[i:]
	if len(head) < least || !text(head[:least]) || start < s.texts {
		return Verdict{}
	}
	for _, f := range forms {
		if f.back == 0 && bytes.HasPrefix(head, []byte(f.begin)) {
			return Verdict{}
		}
	}
	before := b[max(0, i-least/2):i]
	if i == 0 {
		before = s.get(start-least/2, least/2)
	}
	for len(before) > least/2-utf8.UTFMax && !utf8.RuneStart(before[0]) { // of a character that is cut
		before = before[1:]
	}
	if len(before) > least/2-utf8.UTFMax && text(before) {
		return Verdict{}
	}
	const sector = 512
	at := start
	for at-start < maxFile {
		b := s.get(at, windowSize/2)
		n := textLength(b)
		at += int64(n)
		if n == 0 || n < len(b) && utf8.FullRune(b[n:]) { // else the window cuts a character
			break
		}
	}
	s.texts = at
	rest := s.get(at, int((sector-at%sector)%sector))
	if at-start < least || len(bytes.Trim(rest, "\x00")) > 0 {
		return Verdict{}
	}
	return Verdict{at - start, volume.Unverified, "text to where its sector is filled with zeros: nothing says that it is whole"}
}

// text reports whether the head of a file is text: UTF-8 without control characters.
func text(b []byte) bool {
	n := textLength(b)
	return n == len(b) || !utf8.FullRune(b[n:])
}

// textLength is how many bytes text goes on for.
func textLength(b []byte) (n int) {
	for n < len(b) {
		c, size := utf8.DecodeRune(b[n:])
		if c == utf8.RuneError && size == 1 || c < 0x20 && c != '\t' && c != '\n' && c != '\r' && c != '\f' || c == 0x7f {
			break
		}
		n += size
	}
	return n
}
