// Package report holds the report as it prints, and the packages that hand it
// out with the records, the files they came from and the ledger.
package report

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"crosswind/core/access"
	"crosswind/core/digest"
	"crosswind/core/report"
	"crosswind/core/scope"
	"crosswind/internal/press"
	"crosswind/internal/store"
	"crosswind/internal/vault"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

//go:embed *.html
var files embed.FS

type pages struct{ *frame.App }

// Routes adds the pages.
func Routes(a *frame.App, inCase frame.Group) {
	p := pages{a}
	inCase.GET("/report", access.SeeEvidence, p.page)
	inCase.GET("/report/report.css", access.SeeEvidence, func(c *gin.Context) error { c.Data(http.StatusOK, "text/css; charset=utf-8", press.CSS()); return nil })
	inCase.POST("/report/compose", access.Compose, p.compose)
	inCase.POST("/report/template", access.Compose, p.keepTemplate)
	inCase.POST("/report/submit", access.Compose, p.step(store.Submitted))
	inCase.POST("/report/comment", access.Comment, p.step(store.Commented))
	inCase.POST("/report/return", access.Review, p.step(store.Returned))
	inCase.POST("/report/accept", access.Review, p.step(store.Accepted))
	inCase.POST("/report/sign", access.Sign, p.step(store.Signed))
	inCase.GET("/report/signed/:version", access.TakeOut, p.signedReport)
	inCase.POST("/report/take", access.TakeOut, p.take)
	inCase.POST("/report/redactions", access.TakeOut, p.redactLog)
	inCase.POST("/report/package", access.Package, p.make)
	inCase.GET("/report/package/:id", access.TakeOut, p.download)
}

type content struct {
	Report    *Report
	Sheet     template.HTML
	NoPDF     error // why none can be set, nil if it can
	Redact    *redactions
	Templates []store.ReportTemplate
	Version   *store.ReportVersion
	Newest    bool // it is the version that can be changed
	Versions  []versionLine
	Parts     []partLine
	Editor    *editor
	Waiting   []waiting
	Further   int // that wait and are not listed
	Unsound   []string
	Changed   bool   // what it says is not what was accepted
	Said      string // SHA-256 of what it says, which is accepted
	Own       bool   // who looks wrote of it, and does not review it
	Runs      []store.Run
	Packages  []store.Package
	Left      []store.LedgerEntry // entries of what has left the case
}

// versionLine is a version in the list of versions, and what it changed.
type versionLine struct {
	store.ReportVersion
	Changed []changeLine
	Chosen  bool
}

// changeLine is a change, and the text that it changed.
type changeLine struct {
	What   string
	Pieces []frame.Piece
}

// shownLeft bounds the entries of what has left that are listed; the ledger has them all.
const shownLeft = 50

// shownVersions bounds the versions that are listed.
const shownVersions = 100

func (a pages) page(c *gin.Context) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Report", "Report")
	if err != nil {
		return err
	}
	v := content{NoPDF: a.Press.Lacks()}
	if v.Report, err = Build(ctx, a.Store, p.Case, a.Tool, frame.By(c)); err != nil {
		return err
	}
	if err := a.written(ctx, p, &v); err != nil {
		return err
	}
	base := "/case/" + p.Case.Reference
	v.Parts = partLines(&v.Version.Composition)
	v.Editor, v.Waiting, v.Further = v.Report.edit(v.Version, base, v.Newest && p.May(access.Compose))
	v.Unsound = v.Report.unsound(&v.Version.Composition)
	v.Changed = v.Newest && v.Version.State() == store.Accepted && v.Report.changed(v.Version)
	if v.Newest && v.Version.State() == store.Submitted && p.May(access.Review) {
		if v.Said, err = v.Report.said(&v.Version.Composition); err != nil {
			return err
		}
	}
	places, err := forms(v.Editor)
	if err != nil {
		return err
	}
	sheet := &press.Sheet{Report: v.Report.Compose(v.Version), Places: places, Origins: func(r *report.Record) string {
		return fmt.Sprintf("%s/examine?r=%d&o=1", base, v.Report.Marked[r.N-1].ID)
	}}
	redacted, log, err := v.Report.redact(ctx, a.Store, sheet.Report, &v.Version.Composition)
	if err != nil {
		return err
	}
	v.Redact = v.Report.redactions(sheet.Report, &v.Version.Composition, log, c.Query("version-of") == "redacted" && len(v.Version.Redactions) > 0)
	if v.Redact.Shown {
		sheet = &press.Sheet{Report: redacted}
	}
	addresses(sheet.Report, base)
	if err := fill(ctx, sheet.Report, p.Case.ID, a.Store, a.Evidence, a.Previews); err != nil {
		return err
	}
	v.Sheet, err = press.Body(sheet)
	if err != nil {
		return err
	}
	if v.Templates, err = a.Store.ReportTemplates(ctx); err != nil {
		return err
	}
	if v.Runs, err = a.Store.Runs(ctx, p.Case.ID, "package", 1); err != nil {
		return err
	}
	if v.Packages, err = a.Store.Packages(ctx, p.Case.ID); err != nil {
		return err
	}
	if v.Left, err = a.Store.Left(ctx, p.Case, shownLeft); err != nil {
		return err
	}
	p.Content = v
	return a.Render(c, files, p, "report.html")
}

// written chooses the version that the address names, or the newest, and lists all.
func (a pages) written(ctx context.Context, p *frame.Page, v *content) error {
	all, err := a.Store.ReportVersions(ctx, p.Case.ID, shownVersions+1)
	if err != nil {
		return err
	}
	v.Version, v.Newest = &store.ReportVersion{CaseID: p.Case.ID}, true
	for i := range all[:min(len(all), shownVersions)] {
		x := versionLine{ReportVersion: all[i], Chosen: i == 0}
		was := &report.Composition{}
		if i+1 < len(all) {
			was = &all[i+1].Composition
		}
		for _, k := range all[i].Changes(was) {
			line := changeLine{What: k.What}
			if k.Was != k.Now {
				line.Pieces = frame.Differs(k.Was, k.Now)
			}
			x.Changed = append(x.Changed, line)
		}
		if asked := p.Query.Get("version"); asked != "" {
			x.Chosen = asked == fmt.Sprint(all[i].Version)
		}
		if x.Chosen {
			v.Version, v.Newest = &all[i], i == 0
		}
		v.Own = v.Own || all[i].By == p.Who.Name+" ("+p.Who.Login+")"
		v.Versions = append(v.Versions, x)
	}
	return nil
}

func (a pages) make(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	v, err := a.Store.ReportVersion(ctx, cs.ID, 0)
	if err != nil {
		return err
	}
	sub, title, detail := subject{}, "Making a package of "+cs.Reference, map[string]string(nil)
	switch of := c.PostForm("of"); {
	case len(v.Redactions) == 0:
	case of == "redacted":
		sub.Redacted, title, detail = true, "Making a redacted package of "+cs.Reference, map[string]string{"version": "redacted"}
	case of != "full":
		return frame.Bad("the report has redactions: is it to be the full package, or the redacted one?")
	}
	body, err := json.Marshal(sub)
	if err != nil {
		return err
	}
	if _, err := a.Store.QueueRun(ctx, cs, store.Run{Kind: "package", Subject: body, By: frame.By(c), Title: title},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "package.queued", On: cs.Reference, Detail: detail}); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/report")
	return nil
}

func (a pages) download(c *gin.Context) error {
	cs := frame.CaseOf(c)
	id, err := frame.ID(c, "id")
	if err != nil {
		return err
	}
	k, err := a.Store.PackageByID(c.Request.Context(), cs.ID, id)
	if err != nil {
		return err
	}
	f, err := os.Open(filepath.Join(a.Packages, filepath.Base(k.Name)))
	if err != nil {
		return fmt.Errorf("the package %s is not in its folder any more: %w", k.Name, store.ErrNotFound)
	}
	defer f.Close()
	set, err := digest.Reader(vault.Told(c.Request.Context(), f, nil))
	if err != nil {
		return fmt.Errorf("reading the package %s: %w", k.Name, err)
	}
	if _, _, sum := set.Hex(); sum != k.SHA256 || set.Size != k.Size {
		what := fmt.Sprintf("its file has the SHA-256 %s, its entry says %s; it is not handed out", sum, k.SHA256)
		all, err := a.Store.Alarms(c.Request.Context(), cs.ID)
		if err == nil {
			err = a.Store.SetAlarms(c.Request.Context(), cs, append(all, store.Alarm{About: "package " + k.Name, What: what}), frame.By(c))
		}
		return errors.Join(fmt.Errorf("integrity has failed: the package %s: %s", k.Name, what), err)
	}
	if why, err := a.Evidence.Package(c.Request.Context(), cs, f, k); err != nil {
		return err
	} else if why != "" {
		return fmt.Errorf("%w: the package %s was made before, under other authorities: %s. Make it anew", scope.ErrWithheld, k.Name, why)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return fmt.Errorf("reading the package %s: %w", k.Name, err)
	}
	if err := a.Store.Log(c.Request.Context(), store.Act{Book: cs.Book(), By: frame.By(c), What: "package.downloaded", On: k.Name, Detail: map[string]string{"sha256": k.SHA256}}); err != nil {
		return err
	}
	c.Header("Content-Disposition", frame.Attachment(k.Name))
	c.DataFromReader(http.StatusOK, k.Size, "application/zip", f, nil)
	return nil
}
