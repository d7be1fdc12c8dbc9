// Package report holds the report as it prints, and the packages that hand it
// out with the records, the files they came from and the ledger.
package report

import (
	"embed"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"crosswind/core/access"
	"crosswind/core/digest"
	"crosswind/core/scope"
	"crosswind/internal/store"
	"crosswind/internal/vault"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

//go:embed *.html report.css
var files embed.FS

type pages struct{ *frame.App }

// Routes adds the pages.
func Routes(a *frame.App, inCase frame.Group) {
	p := pages{a}
	inCase.GET("/report", access.SeeEvidence, p.page)
	inCase.GET("/report/report.css", access.SeeEvidence, func(c *gin.Context) error { c.FileFromFS("report.css", http.FS(files)); return nil })
	inCase.POST("/report/package", access.Package, p.make)
	inCase.GET("/report/package/:id", access.TakeOut, p.download)
}

type content struct {
	Report   *Report
	Runs     []store.Run
	Packages []store.Package
	Left     []store.LedgerEntry // entries of what has left the case
}

// shownLeft bounds the entries of what has left that are listed; the ledger has them all.
const shownLeft = 50

func (a pages) page(c *gin.Context) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Report", "Report")
	if err != nil {
		return err
	}
	v := content{}
	if v.Report, err = Build(ctx, a.Store, p.Case, a.Tool, frame.By(c)); err != nil {
		return err
	}
	v.Report.Base = "/case/" + p.Case.Reference
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
	return a.Render(c, files, p, "report.html", "body.html")
}

func (a pages) make(c *gin.Context) error {
	cs := frame.CaseOf(c)
	_, err := a.Store.QueueRun(c.Request.Context(), cs, store.Run{Kind: "package", Subject: []byte("{}"), By: frame.By(c), Title: "Making a package of " + cs.Reference},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "package.queued", On: cs.Reference})
	if err != nil {
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
	if why, err := a.Evidence.Package(c.Request.Context(), cs, f, k.Size); err != nil {
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
