package export

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"crosswind/core/record"

	"github.com/emersion/go-message/mail"
)

// mailWriter writes a mailbox: RFC 4155, with lines that would begin a message quoted as that says, messages by RFC 5322.
type mailWriter struct {
	w    *bufio.Writer
	head Head
}

func newMailbox(w io.Writer, head Head) (writer, error) {
	return &mailWriter{bufio.NewWriter(w), head}, nil
}

var (
	// beginsFrom is a line that would begin a message.
	beginsFrom = regexp.MustCompile(`(?m)^>*From `)
	// plainAddress is what a line that begins a message can have as its sender.
	plainAddress = regexp.MustCompile(`^[\x21-\x7e]+@[\x21-\x7e]+$`)
)

func (m *mailWriter) write(l *Line) error {
	var h mail.Header
	of := map[string][]*mail.Address{}
	sender := "MAILER-DAEMON"
	for _, p := range l.Parties {
		field := "To"
		switch {
		case p.Role == "from" || p.Role == "author":
			field = "From"
		case p.Role == "with" && l.Direction != "out":
			field = "From"
		}
		of[field] = append(of[field], &mail.Address{Name: oneLine(p.Name), Address: oneLine(p.Handle)})
		if field == "From" && plainAddress.MatchString(p.Handle) {
			sender = p.Handle
		}
	}
	for field, all := range of {
		h.SetAddressList(field, all)
	}
	at := time.Unix(0, 0).UTC()
	if t := l.At(); t != nil {
		at = t.UTC()
		h.SetDate(at)
	}
	subject := l.Fact(record.Title).Value
	if subject == "" && l.Conversation != nil {
		subject = l.Conversation.Title
	}
	h.SetSubject(oneLine(subject))
	h.SetContentType("text/plain", map[string]string{"charset": "utf-8"})
	for _, x := range [][2]string{{"X-State", stateOf(l)}, {"X-Source", source(l)}, {"X-Case", m.head.Case}, {"X-Attachments", l.Column(record.WithAttachments).Value}} {
		if x[1] != "" && x[1] != l.Summary() {
			h.SetText(x[0], oneLine(x[1]))
		}
	}
	if l.Mark != "" {
		h.SetText("X-Marked-Because", oneLine(l.Mark))
	}
	var b bytes.Buffer
	w, err := mail.CreateSingleInlineWriter(&b, h)
	if err == nil {
		_, err = io.WriteString(w, strings.ReplaceAll(strings.ReplaceAll(l.Text, "\r\n", "\n"), "\n", "\r\n"))
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return err
	}
	body := bytes.ReplaceAll(b.Bytes(), []byte("\r\n"), []byte("\n"))
	fmt.Fprintf(m.w, "From %s %s\n", sender, at.Format(time.ANSIC))
	m.w.Write(beginsFrom.ReplaceAll(body, []byte(">$0")))
	_, err = m.w.WriteString("\n\n")
	return err
}

func (m *mailWriter) close() error { return m.w.Flush() }

// oneLine is a text as a header has it.
func oneLine(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r < 0x20 || r == 0x7f || r == ' ' }), " ")
}
