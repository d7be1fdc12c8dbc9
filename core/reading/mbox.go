package reading

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"regexp"
	"strings"
	"time"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // of mail in other character sets than UTF-8
	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-message/textproto"

	"crosswind/core/record"
)

// mailboxes reads the mail of mbox files (RFC 4155 appendix A) and of files with one message (RFC 5322). Each
// message is a record.
type mailboxes struct{}

// ID implements [Reader].
func (mailboxes) ID() string { return "mail, version 1" }

// fromLine begins a message: the sender's address and when it was put there, UTC.
var fromLine = regexp.MustCompile(`^From (\S+) +((?:Mon|Tue|Wed|Thu|Fri|Sat|Sun) (?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) [ \d]\d \d\d:\d\d:\d\d \d{4})\r?$`)

// Match implements [Reader].
func (mailboxes) Match(p string, head []byte) bool {
	s, _ := line(head, 0)
	name, _, is := strings.Cut(s, ":")
	return fromLine.MatchString(s) || is && strings.EqualFold(path.Ext(p), ".eml") && name != "" && !strings.ContainsAny(name, " \t<")
}

const (
	maxMail  = 64 << 20
	maxSaid  = 1 << 20 // characters of a text that are kept, in bytes
	maxParts = 200     // of one message
)

// Read implements [Reader].
func (v mailboxes) Read(file *io.SectionReader, src *Text) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		b, err := whole(file, maxMail)
		if err != nil {
			yield(nil, err)
			return
		}
		begin, blank := 0, true
		for at := 0; at < len(b); {
			s, next := line(b, at)
			if at > begin && blank && strings.HasPrefix(s, "From ") && fromLine.MatchString(s) {
				if !v.one(b, begin, at, src, yield) {
					return
				}
				begin = at
			}
			blank, at = s == "", next
		}
		if begin < len(b) {
			v.one(b, begin, len(b), src, yield)
		}
	}
}

// one yields the record of a message, which lies in b from begin to end.
func (v mailboxes) one(b []byte, begin, end int, src *Text, yield func(*record.Record, error) bool) bool {
	for end > begin+1 && (b[end-1] == '\n' || b[end-1] == '\r') { // blank lines between messages are no part of one
		end--
	}
	cell := b[begin:end]
	sum := sha256.Sum256(cell)
	r := &record.Record{Kind: record.Mail, State: record.Intact, Origins: []record.Origin{{Path: src.Path, Stored: src.Stored, SHA256: src.SHA256, Place: record.PlacePart,
		Offset: int64(begin), Length: end - begin, Digest: hex.EncodeToString(sum[:]), Confidence: 1, FieldMap: v.ID()}}}
	var put *record.Time
	if s, next := line(cell, 0); fromLine.MatchString(s) {
		m := fromLine.FindStringSubmatch(s)
		if at, err := time.Parse(time.ANSIC, m[2]); err == nil {
			put = &record.Time{Role: "received", At: &at, Stored: m[2]}
		}
		cell = unquoted(cell[next:])
	}
	err := v.message(r, cell, b[begin:end], src)
	if put != nil {
		r.Times = append(r.Times, put.Doubted(src.Made))
	}
	r.SetUID()
	if !yield(r, nil) {
		return false
	}
	return err == nil || yield(nil, fmt.Errorf("the message at offset %d: %w", begin, err))
}

// quotedFrom is a line that would begin a message if it were not quoted (RFC 4155 appendix A).
var quotedFrom = regexp.MustCompile(`(?m)^>(>*From )`)

func unquoted(b []byte) []byte { return quotedFrom.ReplaceAll(b, []byte("$1")) }

// message reads a message: RFC 5322 and MIME, as the library does. Own are the bytes that r has as its own.
func (v mailboxes) message(r *record.Record, b, own []byte, src *Text) error {
	m, err := mail.CreateReader(bytes.NewReader(b))
	if m == nil || err != nil && !message.IsUnknownCharset(err) {
		return err
	}
	h := m.Header
	for _, f := range []struct{ name, role string }{{"From", "from"}, {"To", "to"}, {"Cc", "to"}, {"Bcc", "to"}} {
		all, err := h.AddressList(f.name)
		if s := strings.TrimSpace(h.Get(f.name)); err != nil && s != "" {
			r.Parties = append(r.Parties, party(f.role, s, "", src.Country))
		}
		for _, a := range all {
			r.Parties = append(r.Parties, party(f.role, a.Address, a.Name, src.Country))
		}
	}
	subject, err := h.Subject()
	if err != nil {
		subject = h.Get("Subject")
	}
	if s := strings.TrimSpace(h.Get("Date")); s != "" {
		at := record.Time{Role: "sent", Stored: s}
		if t, err := h.Date(); err == nil {
			utc := t.UTC()
			at.At = &utc
		}
		r.Times = append(r.Times, at.Doubted(src.Made))
	}
	id, _ := h.MessageID()
	for _, f := range []string{"References", "In-Reply-To"} { // the first is the one that all answer (RFC 5322 section 3.6.4)
		if ids, err := h.MsgIDList(f); err == nil && len(ids) > 0 && r.Conversation == nil {
			r.Conversation = &record.Conversation{Key: ids[0], Title: bare(subject)}
		}
	}
	if r.Conversation == nil && id != "" {
		r.Conversation = &record.Conversation{Key: id, Title: bare(subject)}
	}
	for _, f := range []record.Fact{{Name: record.Title, Value: subject}, {Name: record.Identifier, Value: id}, {Name: "Program", Value: h.Get("X-Mailer")}} {
		if f.Value = strings.TrimSpace(f.Value); f.Value != "" {
			r.Facts = append(r.Facts, f)
		}
	}
	html, rest := "", run{own, int(r.Origin().Offset)}
	for n := 0; ; n++ {
		if n == maxParts {
			return fmt.Errorf("it has more than %d parts", maxParts)
		}
		p, err := m.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if p == nil || err != nil && !message.IsUnknownCharset(err) {
			return err
		}
		switch ph := p.Header.(type) {
		case *mail.InlineHeader:
			kind, _, _ := ph.ContentType()
			if kind == "text/plain" && r.Text == "" || kind == "text/html" && html == "" {
				said, err := io.ReadAll(io.LimitReader(p.Body, maxSaid))
				if err != nil {
					return err
				}
				if kind == "text/html" {
					_, html = markup(said)
				} else {
					r.Text = strings.TrimSpace(strings.ReplaceAll(string(said), "\r\n", "\n"))
				}
				continue
			}
			if strings.HasPrefix(kind, "text/") {
				continue // the same again
			}
			v.attach(r, kind, "", ph.Header.Header, p.Body, &rest)
		case *mail.AttachmentHeader:
			kind, _, _ := ph.ContentType()
			name, _ := ph.Filename()
			v.attach(r, kind, name, ph.Header.Header, p.Body, &rest)
		}
	}
	if r.Text == "" {
		r.Text = html
	}
	return nil
}

// run is what of a message has not been looked at for its attachments, and where it lies in the file.
type run struct {
	b      []byte
	offset int
}

// attach gives r an attachment. Where its bytes lie the library does not say: they are looked for, behind
// those of the one before.
func (mailboxes) attach(r *record.Record, kind, name string, h textproto.Header, body io.Reader, rest *run) {
	a := record.Attachment{Name: name, Type: kind, Missing: record.WithinIt}
	b, err := io.ReadAll(body)
	if size := record.Int(len(b)); err == nil {
		a.Size = &size
	}
	if len(b) > 0 && strings.EqualFold(strings.TrimSpace(h.Get("Content-Transfer-Encoding")), "base64") {
		if i := bytes.Index(rest.b, base64.StdEncoding.AppendEncode(nil, b[:min(len(b), 30)])); i >= 0 {
			end := len(rest.b)
			if n := bytes.Index(rest.b[i:], []byte("\n--")); n >= 0 { // a boundary (RFC 2046 section 5.1.1)
				end = i + n
			}
			sum := sha256.Sum256(b)
			if found := coded(a, bytes.TrimRight(rest.b[:end], "\r\n"), rest.offset, i); found.SHA256 == hex.EncodeToString(sum[:]) {
				a, rest.b, rest.offset = found, rest.b[end:], rest.offset+end
			}
		}
	}
	r.Attachments = append(r.Attachments, a)
}

// answers begin the subjects of answers.
var answers = regexp.MustCompile(`(?i)^(?:(?:re|fwd?|aw|sv)\s*:\s*)+`)

func bare(subject string) string { return answers.ReplaceAllString(strings.TrimSpace(subject), "") }
