package reading

import (
	"bytes"
	"crypto/sha256"
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
	err := v.message(r, cell, src)
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

// message reads a message: RFC 5322 and MIME, as the library does.
func (v mailboxes) message(r *record.Record, b []byte, src *Text) error {
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
	html := ""
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
			v.attach(r, kind, "", p.Body)
		case *mail.AttachmentHeader:
			kind, _, _ := ph.ContentType()
			name, _ := ph.Filename()
			v.attach(r, kind, name, p.Body)
		}
	}
	if r.Text == "" {
		r.Text = html
	}
	return nil
}

func (mailboxes) attach(r *record.Record, kind, name string, body io.Reader) {
	n, err := io.Copy(io.Discard, body)
	a := record.Attachment{Name: name, Type: kind, Missing: record.WithinIt}
	if size := record.Int(n); err == nil {
		a.Size = &size
	}
	r.Attachments = append(r.Attachments, a)
}

// answers begin the subjects of answers.
var answers = regexp.MustCompile(`(?i)^(?:(?:re|fwd?|aw|sv)\s*:\s*)+`)

func bare(subject string) string { return answers.ReplaceAllString(strings.TrimSpace(subject), "") }
