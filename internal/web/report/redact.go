package report

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"crosswind/core/report"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// redact takes out of a report what its composition says, and tells what that was.
func (r *Report) redact(ctx context.Context, s *store.Store, sheet *report.Report, c *report.Composition) (*report.Report, []report.Removed, error) {
	if len(c.Redactions) == 0 { // there is no redacted version
		return sheet, nil, nil
	}
	known := report.Known{Record: func(key string) (k report.KnownRecord) {
		if k.N = r.numberOf(key); k.N > 0 {
			m := &r.Marked[k.N-1]
			k.Text, k.Files = m.Summary, m.Whole.Files()
		}
		return k
	}}
	if slices.ContainsFunc(c.Redactions, func(x report.Redaction) bool { return x.Kind == report.OfPerson }) {
		all, err := s.People(ctx, r.Case.ID)
		if err != nil {
			return nil, nil, err
		}
		known.Person = func(handle string) []string { return r.namesOf(all, handle) }
	}
	out, log := report.Redact(sheet, c.Redactions, known)
	return out, log, nil
}

// namesOf are the handles and names of a person, as contacts and records have them, and each word of the names.
func (r *Report) namesOf(all *store.People, handle string) (out []string) {
	handles := []string{handle}
	if p := all.Of(handle); p != nil {
		handles = append(handles, p.Handles...)
		out = append(out, p.Names...)
	}
	for i := range r.Marked {
		for _, p := range r.Marked[i].Whole.Parties {
			if slices.Contains(handles, p.Normal) || slices.Contains(handles, p.Handle) {
				out = append(out, p.Handle, p.Name)
			}
		}
	}
	return append(report.NameWords(out...), handles...)
}

// choice is something that can be chosen in a form.
type choice struct{ Value, Words string }

// redactionLine is a redaction in the list of them.
type redactionLine struct {
	N int
	report.Redaction
	Words  string // what it takes out, in words
	Places int
}

// redactions are what the panel of redactions shows and offers.
type redactions struct {
	Lines    []redactionLine
	People   []choice
	Records  []choice
	Pictures []choice
	Shown    bool // the page shows the redacted version
}

// mostChoices bounds the records and the persons that are offered.
const mostChoices = 500

// redactions readies the panel.
func (r *Report) redactions(sheet *report.Report, c *report.Composition, log []report.Removed, shown bool) *redactions {
	out := &redactions{Shown: shown}
	words := map[string]string{}
	for i := range r.Marked {
		m := &r.Marked[i]
		x := choice{m.cite().Key(), fmt.Sprintf("%d: %s", i+1, short(or(m.Summary, strings.ToLower(m.Kind.Title()))))}
		words[x.Value] = "record " + x.Words
		if out.Records = append(out.Records, x); len(out.Records) > mostChoices {
			out.Records = out.Records[:mostChoices]
		}
		for _, p := range m.Whole.Parties {
			h := or(p.Normal, p.Handle)
			if h == "" || len(out.People) == mostChoices || slices.ContainsFunc(out.People, func(y choice) bool { return y.Value == h }) {
				continue
			}
			out.People = append(out.People, choice{h, strings.TrimSpace(p.Name + " " + h)})
		}
	}
	for p := range sheet.Pictures() {
		if len(out.Pictures) < mostChoices && !slices.ContainsFunc(out.Pictures, func(x choice) bool { return x.Value == p.SHA256 }) {
			out.Pictures = append(out.Pictures, choice{p.SHA256, p.Alt})
			words[p.SHA256] = p.Alt
		}
	}
	for i, x := range c.Redactions {
		if g, err := report.ParseRegion(x.Value); x.Kind == report.OfRegion && err == nil {
			words[x.Value] = fmt.Sprintf("region of the picture %s, %.0f %% from the left, %.0f %% from above, %.0f by %.0f %%", or(words[g.SHA256], g.SHA256[:8]), g.X, g.Y, g.Width, g.Height)
		}
		l := redactionLine{N: i + 1, Redaction: x, Words: or(words[x.Value], x.Value)}
		for _, y := range log {
			if y.Redaction == i+1 {
				l.Places++
			}
		}
		out.Lines = append(out.Lines, l)
	}
	return out
}

// redactLog hands out what the redactions of a version take out, a JSON object a line: it is kept apart from the report.
func (a pages) redactLog(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	version, err := strconv.ParseInt(c.PostForm("version"), 10, 64)
	if err != nil || version < 0 {
		return frame.Bad("the form names no version of the report")
	}
	v, r, err := a.current(c, version)
	if err != nil {
		return err
	}
	_, log, err := r.redact(ctx, a.Store, r.Compose(v), &v.Composition)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	for _, x := range log {
		rule := v.Redactions[x.Redaction-1]
		if err := e.Encode(struct {
			Redaction int    `json:"redaction"`
			Kind      string `json:"kind"`
			Reason    string `json:"reason"`
			Part      string `json:"part"`
			Record    int    `json:"record,omitempty"`
			Words     string `json:"words"`
		}{x.Redaction, rule.Kind, rule.Reason, x.Part, x.Record, x.Words}); err != nil {
			return err
		}
	}
	name := fmt.Sprintf("%s-report-%d-%s-redactions.jsonl", cs.Reference, v.Version, r.At.UTC().Format("20060102-150405"))
	if err := a.Store.Log(ctx, store.Act{Book: cs.Book(), By: r.By, What: "report.taken_out", On: name, Detail: map[string]string{"version": fmt.Sprint(v.Version), "places": fmt.Sprint(len(log)), "bytes": fmt.Sprint(b.Len()), "sha256": fmt.Sprintf("%x", sha256.Sum256(b.Bytes())), "recipient": r.By}}); err != nil {
		return err
	}
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Content-Disposition", frame.Attachment(name))
	c.Data(http.StatusOK, "application/jsonl", b.Bytes())
	return nil
}
