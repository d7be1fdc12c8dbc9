package report

import (
	"bytes"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"crosswind/core/report"
	"crosswind/internal/press"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// editor is what the page's forms need.
type editor struct {
	Base    string
	Version *store.ReportVersion
	May     bool // it can be written
	Finding []findingForm
}

// findingForm is a finding with its records, to be changed.
type findingForm struct {
	N int
	report.Finding
	Cites       []citeForm
	First, Last bool
}

type citeForm struct {
	Key string
	report.Citation
}

// partLine is a part in the list of parts.
type partLine struct {
	Name, Title string
	Must, Out   bool
	First, Last bool
}

// waiting is a marked record that no finding rests on.
type waiting struct {
	N    int
	Key  string
	What string
}

// cite names a marked record for good.
func (m *marked) cite() report.Cite {
	return report.Cite{Exhibit: m.ExhibitRef, Acquisition: m.Acquisition.Number, UID: m.UID, SHA256: m.Whole.Origin().Digest}
}

// partLines lists all parts as they stand, and behind them those that are left out.
func partLines(c *report.Composition) (out []partLine) {
	all, must := partNames()
	stand := c.Arrange(all, must)
	for _, name := range append(slices.Clone(stand), slices.DeleteFunc(slices.Clone(all), func(n string) bool { return slices.Contains(stand, n) })...) {
		p := parts[slices.IndexFunc(parts, func(p part) bool { return p.Name == name })]
		out = append(out, partLine{p.Name, p.Title, p.Must, !slices.Contains(stand, name), name == stand[0], name == stand[len(stand)-1]})
	}
	return out
}

// mostWaiting bounds the records that are offered to be placed at once.
const mostWaiting = 300

// edit readies the forms, and what waits to be placed.
func (r *Report) edit(v *store.ReportVersion, base string, may bool) (e *editor, wait []waiting, further int) {
	e = &editor{Base: base, Version: v, May: may}
	cited := map[string]bool{}
	for i, f := range v.Findings {
		x := findingForm{N: i, Finding: f, First: i == 0, Last: i == len(v.Findings)-1}
		for _, c := range f.Cites {
			cited[c.Key()] = true
			x.Cites = append(x.Cites, citeForm{c.Key(), r.citation(c)})
		}
		e.Finding = append(e.Finding, x)
	}
	for i := range r.Marked {
		m := &r.Marked[i]
		switch key := m.cite().Key(); {
		case cited[key]:
		case len(wait) == mostWaiting:
			further++
		default:
			wait = append(wait, waiting{i + 1, key, short(or(m.Summary, strings.ToLower(m.Kind.Title())))})
		}
	}
	return e, wait, further
}

// forms are the editors that stand within the parts of the report.
func forms(e *editor) (map[string]template.HTML, error) {
	out := map[string]template.HTML{}
	if !e.May {
		return out, nil
	}
	t, err := template.New("forms").Funcs(frame.Funcs).ParseFS(files, "forms.html")
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"summary", "questions", "findings", "qualifications"} {
		var b bytes.Buffer
		if err := t.ExecuteTemplate(&b, "edit "+name, e); err != nil {
			return nil, err
		}
		out[name] = template.HTML(b.String())
	}
	return out, nil
}

// compose changes what is written and arranged of the report, as a new version.
func (a pages) compose(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	was, err := strconv.ParseInt(c.PostForm("version"), 10, 64)
	if err != nil || was < 0 {
		return frame.Bad("the form names no version of the report")
	}
	v, err := a.Store.ReportVersion(ctx, cs.ID, 0)
	if err != nil {
		return err
	}
	if v.Version != was {
		return fmt.Errorf("the report %w: its version %d is the newest, and the form was of version %d. What you wrote is still in the form, if you go back", store.ErrConflict, v.Version, was)
	}
	next := v.Composition
	next.Findings = slices.Clone(next.Findings)
	at, err := a.change(c, &next)
	if err != nil {
		return err
	}
	all, _ := partNames()
	if err := next.Check(all); err != nil {
		return frame.Bad("%v", err)
	}
	if len(next.Changes(&v.Composition)) > 0 {
		if err := a.Store.SaveReport(ctx, cs, was, &next, frame.By(c)); err != nil {
			return err
		}
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/report#"+at)
	return nil
}

// text is a field of a form, with the line ends that texts have.
func text(c *gin.Context, name string) string {
	return strings.TrimSpace(strings.ReplaceAll(c.PostForm(name), "\r\n", "\n"))
}

// keepTemplate keeps how a version is arranged, for other reports.
func (a pages) keepTemplate(c *gin.Context) error {
	cs := frame.CaseOf(c)
	version, err := strconv.ParseInt(c.PostForm("version"), 10, 64)
	if err != nil || version < 0 {
		return frame.Bad("the form names no version of the report")
	}
	v, err := a.Store.ReportVersion(c.Request.Context(), cs.ID, version)
	if err != nil {
		return err
	}
	name := strings.Join(strings.Fields(c.PostForm("name")), " ")
	if name == "" || len([]rune(name)) > mostName {
		return frame.Bad("a template has a name, of up to %d characters", mostName)
	}
	t := report.Composition{Order: v.Order, Out: v.Out, Questions: v.Questions, Qualifications: v.Qualifications, Declaration: v.Declaration}
	if err := a.Store.SaveReportTemplate(c.Request.Context(), name, &t, frame.By(c)); err != nil {
		return err
	}
	a.Notice(c, "The arrangement of this report is kept as the template %s.", name)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/report")
	return nil
}

// mostName bounds the name of a template, in characters.
const mostName = 80

// change does to a composition what a form asks for, and says at which part the page is to open.
func (a pages) change(c *gin.Context, to *report.Composition) (at string, err error) {
	all, must := partNames()
	do, of := c.PostForm("do"), c.PostForm("part")
	switch do {
	case "up", "down":
		to.Move(of, do == "up", all, must)
		return of, nil
	case "order":
		to.Order = strings.Fields(c.PostForm("order"))
		return "", nil
	case "template":
		t, err := a.Store.ReportTemplate(c.Request.Context(), c.PostForm("template"))
		if err != nil {
			return "", err
		}
		to.Order, to.Out, to.Questions, to.Qualifications, to.Declaration = t.Order, t.Out, t.Questions, t.Qualifications, t.Declaration
		return "", nil
	case "out":
		if slices.Contains(must, of) {
			return "", frame.Bad("the part %q proves the rest, and stands in every report", of)
		}
		if !slices.Contains(to.Out, of) {
			to.Out = append(slices.Clone(to.Out), of)
		}
		return "", nil
	case "in":
		to.Out = slices.DeleteFunc(slices.Clone(to.Out), func(n string) bool { return n == of })
		return of, nil
	case "summary":
		to.Summary = text(c, "summary")
		return "summary", nil
	case "qualifications":
		to.Qualifications, to.Declaration = text(c, "qualifications"), text(c, "declaration")
		return "qualifications", nil
	case "questions":
		by := c.PostFormArray("by")
		to.Questions = nil
		for i, q := range c.PostFormArray("question") {
			if q = strings.TrimSpace(strings.ReplaceAll(q, "\r\n", "\n")); q != "" {
				to.Questions = append(to.Questions, report.Question{Text: q, By: strings.Join(strings.Fields(append(by, make([]string, i+1)...)[i]), " ")})
			}
		}
		return "questions", nil
	case "redact":
		x := report.Redaction{Kind: c.PostForm("kind"), Value: text(c, "value"), Reason: text(c, "reason")}
		if x.Kind == report.OfRegion {
			x.Value = strings.Join([]string{x.Value, c.PostForm("x"), c.PostForm("y"), c.PostForm("width"), c.PostForm("height")}, " ")
		}
		if slices.ContainsFunc(to.Redactions, func(y report.Redaction) bool { return y.Kind == x.Kind && y.Value == x.Value }) {
			return "", frame.Bad("that is redacted already")
		}
		to.Redactions = append(slices.Clone(to.Redactions), x)
		return "part-redactions", nil
	case "show":
		n, err := strconv.Atoi(c.PostForm("redaction"))
		if err != nil || n < 1 || n > len(to.Redactions) {
			return "", frame.Bad("there is no redaction %q", c.PostForm("redaction"))
		}
		to.Redactions = slices.Delete(slices.Clone(to.Redactions), n-1, n)
		return "part-redactions", nil
	case "finding new":
		to.Findings = append(to.Findings, report.Finding{Title: text(c, "title"), Text: text(c, "text")})
		return "findings", nil
	}
	i, err := strconv.Atoi(c.PostForm("finding"))
	if err != nil || i < 0 || i >= len(to.Findings) {
		return "", frame.Bad("there is no finding %q", c.PostForm("finding"))
	}
	f := &to.Findings[i]
	f.Cites = slices.Clone(f.Cites)
	switch do {
	case "finding":
		f.Title, f.Text = text(c, "title"), text(c, "text")
		drop := c.PostFormArray("drop")
		f.Cites = slices.DeleteFunc(f.Cites, func(x report.Cite) bool { return slices.Contains(drop, x.Key()) })
	case "finding away":
		to.Findings = slices.Delete(to.Findings, i, i+1)
	case "finding up", "finding down":
		k := i + 1
		if do == "finding up" {
			k = i - 1
		}
		if k >= 0 && k < len(to.Findings) {
			to.Findings[i], to.Findings[k] = to.Findings[k], to.Findings[i]
		}
	case "place":
		r, err := Build(c.Request.Context(), a.Store, frame.CaseOf(c), a.Tool, frame.By(c))
		if err != nil {
			return "", err
		}
		keys := c.PostFormArray("key")
		for k := range r.Marked {
			x := r.Marked[k].cite()
			there := slices.ContainsFunc(f.Cites, func(y report.Cite) bool { return x.Key() == y.Key() })
			if n := slices.Index(keys, x.Key()); n >= 0 {
				if keys = slices.Delete(keys, n, n+1); !there {
					f.Cites = append(f.Cites, x)
				}
			}
		}
		if len(keys) > 0 {
			return "", frame.Bad("%d of the records are not marked any more: nothing is placed", len(keys))
		}
	default:
		return "", frame.Bad("%q cannot be done with a report", do)
	}
	return "findings", nil
}

// step does something with the newest version: what the address names.
func (a pages) step(what string) func(c *gin.Context) error {
	return func(c *gin.Context) error {
		ctx, cs := c.Request.Context(), frame.CaseOf(c)
		version, err := strconv.ParseInt(c.PostForm("version"), 10, 64)
		if err != nil {
			return frame.Bad("the form names no version of the report")
		}
		note := text(c, "note")
		if n := len([]rune(note)); n > report.MostText {
			return frame.Bad("the words have %d characters, and %d are the most", n, report.MostText)
		}
		if note == "" && (what == store.Commented || what == store.Returned) {
			return frame.Bad("say what is to be changed, or remarked")
		}
		x := store.ReportStep{Version: version, What: what, Note: note, By: frame.By(c)}
		var sheets store.Sheets
		switch what {
		case store.Accepted:
			x.SHA256, err = a.accepted(c, version)
		case store.Signed:
			sheets, err = a.signed(c, version)
		}
		if err == nil {
			err = a.Store.StepReport(ctx, cs, x, sheets)
		}
		if err != nil {
			return err
		}
		if what == store.Signed {
			h, err := a.Store.SignedHead(ctx, cs.Book())
			if err != nil {
				return err
			}
			if _, err := a.Store.StampHead(ctx, h); err != nil {
				a.Notice(c, "The report is signed, and the ledger's head has no time stamp: %v", err)
			}
		}
		c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/report#part-review")
		return nil
	}
}

// current reads a version of the report, and what it is written over.
func (a pages) current(c *gin.Context, version int64) (*store.ReportVersion, *Report, error) {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	v, err := a.Store.ReportVersion(ctx, cs.ID, version)
	if err != nil {
		return nil, nil, err
	}
	r, err := Build(ctx, a.Store, cs, a.Tool, frame.By(c))
	return v, r, err
}

// accepted is the SHA-256 of what the report says that is accepted: it must be what it said when it was read.
func (a pages) accepted(c *gin.Context, version int64) (string, error) {
	v, r, err := a.current(c, version)
	if err != nil {
		return "", err
	}
	said, err := r.said(&v.Composition)
	if err == nil && said != c.PostForm("said") {
		return "", fmt.Errorf("the report %w: it says something else than when you opened it. Read it again", store.ErrConflict)
	}
	return said, err
}

// signed sets the report as it is when it is signed: as a page, and as PDF where that can be set.
func (a pages) signed(c *gin.Context, version int64) (out store.Sheets, err error) {
	v, r, err := a.current(c, version)
	if err != nil {
		return out, err
	}
	if v.State() != store.Accepted {
		return out, fmt.Errorf("%w: version %d is %s, and only what was accepted is signed", store.ErrStep, version, v.State())
	}
	if faults := r.unsound(&v.Composition); len(faults) > 0 {
		return out, fmt.Errorf("%w: %s", store.ErrStep, strings.Join(faults, "; "))
	}
	if r.changed(v) {
		return out, fmt.Errorf("%w: what version %d says has changed since it was accepted, by what was marked, read or recorded; ask for another review", store.ErrStep, version)
	}
	v.Steps = append(v.Steps, store.ReportStep{What: store.Signed, By: frame.By(c), At: r.At})
	sheet := r.Compose(v)
	if err = fill(c.Request.Context(), sheet, r.Case.ID, a.Store, a.Evidence, a.Previews); err != nil {
		return out, err
	}
	if out.Page, err = press.HTML(sheet); err != nil || a.Press.Lacks() != nil {
		return out, err
	}
	vs, err := r.pdf(c.Request.Context(), a.Store, a.Press, sheet)
	if err != nil { // it is signed as a page
		a.Notice(c, "The report is signed as a web page alone: %v", err)
		return out, nil
	}
	for i := range vs {
		if err == nil && a.Signer != nil {
			var unstamped error
			reason := fmt.Sprintf("Report of case %s, version %d", r.Case.Reference, version)
			if vs[i].Bytes, unstamped, err = a.Signer.Sign(c.Request.Context(), vs[i].Bytes, r.By, reason, r.At); err == nil && unstamped != nil {
				a.Notice(c, "The PDF is signed, and its signature has no time stamp: %v", unstamped)
			}
		}
	}
	if err == nil {
		_, _, write := press.Bundle(fmt.Sprintf("%s-report-%d", r.Case.Reference, version), vs, r.At)
		var b bytes.Buffer
		err = write(&b)
		out.PDF = b.Bytes()
	}
	return out, err
}

// unsound names the findings that rest on what is not in the report, or has changed.
func (r *Report) unsound(c *report.Composition) (out []string) {
	for i, f := range c.Findings {
		for _, x := range f.Cites {
			if y := r.citation(x); y.Fault != "" {
				out = append(out, fmt.Sprintf("finding %d cites the record %s: %s", i+1, x.UID[:min(len(x.UID), 16)], y.Fault))
			}
		}
	}
	return out
}

// signedReport hands a signed report out.
func (a pages) signedReport(c *gin.Context) error {
	cs := frame.CaseOf(c)
	version, err := frame.ID(c, "version")
	if err != nil {
		return err
	}
	pdf := c.Query("as") == "pdf"
	page, sum, err := a.Store.SignedReport(c.Request.Context(), cs, version, pdf)
	if err != nil {
		return err
	}
	ending := signedEnding(page, pdf)
	media := map[string]string{"html": "text/html; charset=utf-8", "zip": "application/zip", "pdf": "application/pdf"}[ending]
	name := fmt.Sprintf("%s-report-%d.%s", cs.Reference, version, ending)
	if err := a.Store.Log(c.Request.Context(), store.Act{Book: cs.Book(), By: frame.By(c), What: "report.downloaded", On: name, Detail: map[string]string{"sha256": sum, "version": fmt.Sprint(version)}}); err != nil {
		return err
	}
	c.Header("Content-Disposition", frame.Attachment(name))
	c.Data(http.StatusOK, media, page)
	return nil
}
