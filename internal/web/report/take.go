package report

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"crosswind/core/digest"
	"crosswind/core/report"
	"crosswind/internal/press"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// mostAttached bounds what is attached to a PDF, in bytes.
const mostAttached = 16 << 20

// manifest is the manifest of a part of an acquisition, a line for a file.
func manifest(ctx context.Context, s *store.Store, acquisition int64, part store.Part, sum func(*store.File) string) ([]byte, error) {
	var b bytes.Buffer
	for f, err := range s.AllFiles(ctx, acquisition, part) {
		if err != nil {
			return nil, err
		}
		fmt.Fprintln(&b, digest.Line{Sum: sum(f), Path: f.Path})
	}
	return b.Bytes(), nil
}

// pdf sets a report of the case as PDF, to which the manifests of the acquisitions that its records are of are attached.
func (r *Report) pdf(ctx context.Context, s *store.Store, setter *press.Setter, sheet *report.Report) ([]press.PDF, error) {
	var with []press.Attachment
	used, size := map[int64]bool{}, 0
	for _, k := range r.Marked {
		a := k.Acquisition
		if used[a.ID] {
			continue
		}
		used[a.ID] = true
		b, err := manifest(ctx, s, a.ID, store.Source, func(f *store.File) string { return f.SHA256 })
		if err != nil {
			return nil, err
		}
		if size += len(b); size > mostAttached {
			break // they are in the package, too
		}
		with = append(with, press.Attachment{Name: a.manifestName(false), Type: "text/plain",
			About: fmt.Sprintf("SHA-256 of every file of exhibit %s, acquisition %d", a.Reference, a.Number), Bytes: b})
	}
	return setter.PDF(ctx, sheet, r.By, r.At, with...)
}

// take hands a version of the report out as it is now: as a page, or as PDF.
func (a pages) take(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	version, err := strconv.ParseInt(c.PostForm("version"), 10, 64)
	if err != nil || version < 0 {
		return frame.Bad("the form names no version of the report")
	}
	recipient, err := frame.Recipient(c, "report")
	if err != nil {
		return err
	}
	v, r, err := a.current(c, version)
	if err != nil {
		return err
	}
	sheet, which := r.Compose(v), ""
	switch of := c.PostForm("of"); {
	case len(v.Redactions) == 0:
	case of == "redacted":
		which = "-redacted"
		if sheet, _, err = r.redact(ctx, a.Store, sheet, &v.Composition); err != nil {
			return err
		}
	case of == "full":
		which = "-full"
	default:
		return frame.Bad("the report has redactions: is it to be the full version, or the redacted one?")
	}
	if err := fill(ctx, sheet, cs.ID, a.Store, a.Evidence, a.Previews); err != nil {
		return err
	}
	at, marked := r.At, len(r.Marked) // what the report was made from is not held until it has been sent
	base := fmt.Sprintf("%s-report-%d%s-%s", cs.Reference, v.Version, which, at.UTC().Format("20060102-150405"))
	name, media := base+".html", "text/html; charset=utf-8"
	var write func(io.Writer) error
	switch format := c.PostForm("format"); format {
	case "html":
		var b []byte
		b, err = press.HTML(sheet)
		write = func(w io.Writer) error {
			_, err := w.Write(b)
			return err
		}
	case "pdf":
		var vs []press.PDF
		if why := a.Press.Lacks(); why != nil {
			return frame.Bad("the report cannot be set as PDF here: %v", why)
		}
		if which == "-redacted" { // the manifests hold names of files; who wrote it may be somebody who is redacted
			vs, err = a.Press.PDF(ctx, sheet, a.Tool, at)
		} else {
			vs, err = r.pdf(ctx, a.Store, a.Press, sheet)
		}
		if err == nil {
			name, media, write = press.Bundle(base, vs, at)
		}
	default:
		return frame.Bad("%q is no format of a report: html or pdf", format)
	}
	var size counter
	sum := sha256.New()
	if err == nil {
		err = write(io.MultiWriter(sum, &size))
	}
	if err != nil {
		return err
	}
	if err := a.Store.Log(ctx, store.Act{Book: cs.Book(), By: frame.By(c), What: "report.taken_out", On: name, Detail: map[string]string{"version": fmt.Sprint(v.Version) + which, "state": v.State(), "records": fmt.Sprint(marked), "bytes": fmt.Sprint(size), "sha256": fmt.Sprintf("%x", sum.Sum(nil)), "recipient": recipient}}); err != nil {
		return err
	}
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Content-Disposition", frame.Attachment(name))
	c.Header("Content-Type", media)
	c.Header("Content-Length", fmt.Sprint(size))
	c.Status(http.StatusOK)
	return write(c.Writer)
}

// counter counts the bytes that are written to it.
type counter int64

func (n *counter) Write(p []byte) (int, error) {
	*n += counter(len(p))
	return len(p), nil
}
