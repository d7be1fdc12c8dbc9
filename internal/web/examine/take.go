package examine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"maps"
	"net/http"
	"os"
	"slices"
	"time"

	"crosswind/core/report"
	"crosswind/core/scope"
	"crosswind/internal/export"
	"crosswind/internal/press"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// formats are the forms in which records are taken out here: PDF only where one can be set.
func formats(setter *press.Setter) []export.Format {
	return slices.DeleteFunc(slices.Clone(export.Formats), func(f export.Format) bool { return f.Name == "pdf" && setter.Lacks() != nil })
}

// takeOut writes what is filtered in an open format, for somebody: an entry of the ledger says what left, with its digest, and
// for whom, before a byte of it does.
func (a pages) takeOut(c *gin.Context) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Examine", "Examine")
	if err != nil {
		return err
	}
	f, err := export.FormatOf(c.PostForm("format"))
	if err != nil {
		return frame.Bad("%v", err)
	}
	recipient, err := frame.Recipient(c, f.Title)
	if err != nil {
		return err
	}
	v, err := a.filtered(c.Request.Context(), p)
	if err != nil {
		return err
	}
	if v.Refused != "" {
		return frame.Bad("%s", v.Refused)
	}
	redacted, err := a.redacted(c, p.Case)
	if err != nil {
		return err
	}
	w, _, err := a.window(c.Request.Context(), p, v)
	if err != nil {
		return err
	}
	v.Filter.From, v.Filter.To = w.From, w.To
	of := map[*export.Line]int64{} // the record of the line that is being written
	head := export.Head{Open: func(l *export.Line, n int) (io.ReadCloser, error) { return a.attached(ctx, p.Case.ID, of[l], n) },
		Case: p.Case.Reference, Title: p.Case.Title, What: v.said(p), Zone: p.Zone, At: time.Now().UTC(), By: frame.By(c), Tool: a.Tool}
	base := fmt.Sprintf("%s-%s", p.Case.Reference, head.At.Format("20060102-150405"))
	lines := a.lines(c, v, of)
	detail := map[string]string{}
	gone, texts := 0, 0
	if redacted {
		x, version, err := a.redactor(ctx, p.Case)
		if err == nil {
			err = redact(&head, x)
		}
		if err != nil {
			return err
		}
		base += "-redacted"
		detail["version"] = fmt.Sprintf("redacted as version %d of the report says", version)
		lines = export.Redacted(lines, x, func(n int) {
			if n < 0 {
				gone++
			} else {
				texts += n
			}
		})
	}
	name, media := base+"."+f.Ending(), f.Media
	if a.Press.Lacks() == nil {
		head.Set = func(w io.Writer, r *report.Report) error {
			vs, err := a.Press.PDF(ctx, r, head.By, head.At)
			if err != nil {
				return err
			}
			var write func(io.Writer) error
			name, media, write = press.Bundle(base, vs, head.At)
			return write(w)
		}
	}
	file, err := os.CreateTemp("", "taken-out-*")
	if err != nil {
		return fmt.Errorf("making room for what is taken out: %w", err)
	}
	defer file.Close()
	if err := os.Remove(file.Name()); err != nil { // it lives while it is open
		return fmt.Errorf("making room for what is taken out: %w", err)
	}
	sum := sha256.New()
	n, left, err := f.Write(io.MultiWriter(file, sum), head, lines)
	if errors.Is(err, export.ErrPaper) {
		return frame.Bad("%v", err)
	}
	if err != nil {
		return err
	}
	if n == 0 {
		what := f.Holds
		if what == "" {
			what = "records"
		}
		a.Notice(c, "Nothing is taken out: of what is filtered there are no %s.", what)
		c.Redirect(http.StatusSeeOther, frame.Address("/case/"+p.Case.Reference+"/examine", p.Query))
		return nil
	}
	size, err := file.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return fmt.Errorf("reading what is taken out: %w", err)
	}
	digest := hex.EncodeToString(sum.Sum(nil))
	maps.Copy(detail, map[string]string{"format": f.Title, "records": fmt.Sprint(n), "bytes": fmt.Sprint(size), "sha256": digest, "recipient": recipient})
	if left > 0 {
		detail["of_other_kinds"] = fmt.Sprint(left)
	}
	if redacted {
		detail["redacted_records"], detail["redacted_texts"] = fmt.Sprint(gone), fmt.Sprint(texts)
	}
	if err := a.Store.Log(ctx, store.Act{Book: p.Case.Book(), By: frame.By(c), What: "records.taken_out", On: name, Detail: detail}); err != nil {
		return err
	}
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Content-Disposition", frame.Attachment(name))
	c.DataFromReader(http.StatusOK, size, media, file, nil)
	return nil
}

// attached opens the nth attachment of a record.
func (a pages) attached(ctx context.Context, caseID, id int64, n int) (io.ReadCloser, error) {
	_, open, err := a.Evidence.Attachment(ctx, caseID, id, n)
	if errors.Is(err, scope.ErrWithheld) || errors.Is(err, store.ErrNotFound) {
		return nil, export.ErrWithheld
	}
	if err != nil {
		return nil, err
	}
	return open()
}

// lines reads what is filtered as it is in packages: in order of time, and those without one behind. of has the record of the
// line that was given last.
func (a pages) lines(c *gin.Context, v *content, of map[*export.Line]int64) iter.Seq2[*export.Line, error] {
	ctx := c.Request.Context()
	return func(yield func(*export.Line, error) bool) {
		each := func(rs []store.Record) bool {
			for i := range rs {
				r := &rs[i]
				w, err := r.Whole()
				l := &export.Line{Record: w, Exhibit: r.ExhibitRef, Acquisition: r.AcqNo}
				if r.MarkReason != nil {
					l.Mark = labelled(r.MarkLabel, *r.MarkReason)
				}
				clear(of)
				of[l] = r.ID
				if !yield(l, err) || err != nil {
					return false
				}
			}
			return true
		}
		for after := (&store.After{}); after != nil; {
			rs, next, err := a.records(ctx, v.clocks, v.Filter, *after, takenAtOnce)
			if err != nil {
				yield(nil, err)
				return
			}
			if !each(rs) {
				return
			}
			after = next
		}
		for after := int64(0); ; {
			rs, next, err := a.Store.Untimed(ctx, v.Filter, after, takenAtOnce)
			if err != nil {
				yield(nil, err)
				return
			}
			if !each(rs) || next == 0 {
				return
			}
			after = next
		}
	}
}

// said says in words what is filtered.
func (v *content) said(p *frame.Page) string {
	said := "Records"
	if p.Exhibit != nil {
		said += " of " + p.Exhibit.Reference
	}
	for _, w := range v.Words {
		said += ", " + w.Words
	}
	return fmt.Sprintf("%s, from %s to %s, and those without a time; times as the exhibits' own clocks had them", said, frame.When(v.Filter.From, p.Zone), frame.When(v.Filter.To, p.Zone))
}
