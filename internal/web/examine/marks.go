package examine

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// mostLabel bounds the label of a mark, in characters.
const mostLabel = 40

// markOf reads the label of a mark, which may be "", and its reason.
func markOf(c *gin.Context) (label, reason string, err error) {
	label = strings.Join(strings.Fields(c.PostForm("label")), " ")
	if utf8.RuneCountInString(label) > mostLabel {
		return "", "", frame.Bad("the label has more than %d characters: what is longer belongs to the reason", mostLabel)
	}
	return label, strings.TrimSpace(c.PostForm("reason")), nil
}

// addressed is the record that an address names.
func (a pages) addressed(c *gin.Context) (*store.Record, error) {
	id, err := frame.ID(c, "id")
	if err != nil {
		return nil, err
	}
	return a.Store.RecordByID(c.Request.Context(), frame.CaseOf(c).ID, id)
}

// mark marks a record with a reason, or takes its mark away.
func (a pages) mark(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	r, err := a.addressed(c)
	if err != nil {
		return err
	}
	label, reason, err := markOf(c)
	if err != nil {
		return err
	}
	if was, given := c.GetPostForm("was"); given { // the reason that the page showed
		if r.MarkReason = &was; was == "" {
			r.MarkReason = nil
		}
		r.MarkLabel = c.PostForm("was-label")
	}
	switch {
	case c.PostForm("unmark") != "":
		err = a.Store.Unmark(ctx, cs, r, frame.By(c))
	case reason == "":
		a.Notice(c, "A mark needs its reason: the report gives it.")
	default:
		err = a.Store.Mark(ctx, cs, r, label, reason, frame.By(c))
	}
	if err != nil {
		return err
	}
	return back(c, cs, r.ID)
}

// mostNoted bounds a working note, in bytes.
const mostNoted = 20_000

// note changes the working note of a record.
func (a pages) note(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	r, err := a.addressed(c)
	if err != nil {
		return err
	}
	body := strings.TrimSpace(strings.ReplaceAll(c.PostForm("note"), "\r\n", "\n"))
	if len(body) > mostNoted {
		return frame.Bad("the note has %d bytes, more than %d", len(body), mostNoted)
	}
	if err := a.Store.SaveNote(ctx, r, strings.ReplaceAll(c.PostForm("was"), "\r\n", "\n"), body, frame.By(c)); err != nil {
		return err
	}
	return back(c, cs, r.ID)
}

// mostMarked bounds the records that are marked at once.
const mostMarked = 500

// markPicked marks the records that were picked, with one reason. Those that are marked keep theirs.
func (a pages) markPicked(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	ids := strings.Fields(c.PostForm("ids"))
	label, reason, err := markOf(c)
	if err != nil {
		return err
	}
	if reason == "" || len(ids) == 0 || len(ids) > mostMarked {
		return frame.Bad("from 1 to %d records are marked at once, and a mark needs its reason: the report gives it", mostMarked)
	}
	var picked []*store.Record // all are there before one is marked
	for _, s := range ids {
		id, err := strconv.ParseInt(s, 10, 64)
		if err != nil {
			return frame.Bad("%q is not a record's number", s)
		}
		r, err := a.Store.RecordByID(ctx, cs.ID, id)
		if err != nil {
			return err
		}
		if r.MarkReason == nil && !slices.ContainsFunc(picked, func(o *store.Record) bool { return o.ID == id }) {
			picked = append(picked, r)
		}
	}
	for _, r := range picked {
		if err := a.Store.Mark(ctx, cs, r, label, reason, frame.By(c)); err != nil {
			return err
		}
	}
	switch n := len(picked); n {
	case 0:
		a.Notice(c, "All of them are marked already, and keep their reasons.")
	case 1:
		a.Notice(c, "One record is marked: %s", reason)
	default:
		a.Notice(c, "%d records are marked: %s", n, reason)
	}
	q, err := url.ParseQuery(c.PostForm("back"))
	if err != nil {
		q = url.Values{}
	}
	c.Redirect(http.StatusSeeOther, frame.Address("/case/"+cs.Reference+"/examine", q))
	return nil
}

// markAll marks all that the address filters, with one reason.
func (a pages) markAll(c *gin.Context) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "Examine", "Examine")
	if err != nil {
		return err
	}
	v, err := a.filtered(c.Request.Context(), p)
	if err != nil {
		return err
	}
	w, _, err := a.window(c.Request.Context(), p, v)
	if err != nil {
		return err
	}
	v.Filter.From, v.Filter.To = w.From, w.To
	label, reason, err := markOf(c)
	if err != nil {
		return err
	}
	if reason == "" {
		a.Notice(c, "A mark needs its reason: the report gives it.")
	}
	n := 0
	for _, k := range v.clocks {
		rs, next, err := a.Store.Records(ctx, k.filter(v.Filter), store.After{}, mostMarked)
		if err != nil {
			return err
		}
		if next != nil {
			a.Notice(c, "At most %d records are marked at once: narrow what is filtered.", mostMarked)
			break
		}
		for i := range rs {
			if rs[i].MarkReason != nil || reason == "" {
				continue // it keeps its own
			}
			if err := a.Store.Mark(ctx, p.Case, &rs[i], label, reason, frame.By(c)); err != nil {
				return err
			}
			n++
		}
	}
	if n > 0 {
		a.Notice(c, "%d records are marked: %s", n, reason)
	}
	c.Redirect(http.StatusSeeOther, frame.Address("/case/"+p.Case.Reference+"/examine", p.Query))
	return nil
}

// back leads from a mark back to the page on which it was made.
func back(c *gin.Context, cs *store.Case, id int64) error {
	q, err := url.ParseQuery(c.PostForm("back"))
	if err != nil {
		q = url.Values{}
	}
	c.Redirect(http.StatusSeeOther, frame.Address("/case/"+cs.Reference+"/examine", q, "r", fmt.Sprint(id)))
	return nil
}
