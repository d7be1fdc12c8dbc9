package examine

import (
	"context"
	"errors"
	"slices"

	"crosswind/core/report"
	"crosswind/internal/export"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// redactor gives what takes out of records what the redactions of the newest version of the case's report name, and that
// version.
func (a pages) redactor(ctx context.Context, cs *store.Case) (*report.Redactor, int64, error) {
	v, err := a.Store.ReportVersion(ctx, cs.ID, 0)
	if err != nil {
		return nil, 0, err
	}
	rules := slices.Clone(v.Redactions)
	persons, records := map[string][]string{}, map[string]report.KnownRecord{}
	for _, x := range v.Redactions {
		switch x.Kind {
		case report.OfPerson:
			all, err := a.Store.People(ctx, cs.ID)
			if err != nil {
				return nil, 0, err
			}
			handles, names := []string{x.Value}, []string(nil)
			if p := all.Of(x.Value); p != nil {
				handles, names = append(handles, p.Handles...), p.Names
			}
			known, err := a.Store.NamesOf(ctx, cs.ID, handles)
			if err != nil {
				return nil, 0, err
			}
			persons[x.Value] = append(report.NameWords(append(known, names...)...), handles...)
		case report.OfRecord:
			cite, err := report.ParseKey(x.Value)
			if err != nil {
				return nil, 0, err
			}
			r, err := a.Store.RecordOfExhibit(ctx, cs.ID, cite.Exhibit, cite.Acquisition, cite.UID)
			if errors.Is(err, store.ErrNotFound) { // it is withheld, or read no more: nor does it leave
				continue
			}
			if err != nil {
				return nil, 0, err
			}
			w, err := r.Whole()
			if err != nil {
				return nil, 0, err
			}
			records[x.Value] = report.KnownRecord{Text: r.Summary, Files: w.Files()}
			// It is as well in whatever other source of its exhibit has it.
			seen, err := a.Store.SeenIn(ctx, cs.ID, []int64{r.ID})
			if err != nil {
				return nil, 0, err
			}
			var ids []int64
			for _, y := range seen {
				if y.Same {
					ids = append(ids, y.ID)
				}
			}
			same, err := a.Store.RecordsByID(ctx, cs.ID, ids)
			if err != nil {
				return nil, 0, err
			}
			for _, y := range same {
				rules = append(rules, report.Redaction{Kind: report.OfRecord, Value: report.Cite{Exhibit: y.ExhibitRef, Acquisition: y.AcqNo, UID: y.UID}.Key(), Reason: x.Reason})
			}
		}
	}
	return report.NewRedactor(rules, report.Known{Person: func(handle string) []string { return persons[handle] },
		Record: func(key string) report.KnownRecord { return records[key] }}), v.Version, nil
}

// redacted reports whether the redacted version of what is filtered is to leave. Where there are redactions the form says which.
func (a pages) redacted(c *gin.Context, cs *store.Case) (bool, error) {
	n, err := a.Store.Redactions(c.Request.Context(), cs.ID)
	if err != nil || n == 0 {
		return false, err
	}
	switch of := c.PostForm("of"); of {
	case "redacted", "full":
		return of == "redacted", nil
	}
	return false, frame.Bad("the report has redactions: is it to be the full version of the records, or the redacted one?")
}

// redact has the head of what is written say nothing that x takes out. No files go with it: what is redacted cannot be looked
// for in those.
func redact(head *export.Head, x *report.Redactor) error {
	if x.String(head.Case) != head.Case {
		return frame.Bad("the reference of the case holds what is redacted: what leaves is named after it, and cannot be without it")
	}
	head.Title, head.By = x.String(head.Title), x.String(head.By)
	head.What = "Redacted version, without files. " + x.String(head.What)
	head.Open = nil
	return nil
}
