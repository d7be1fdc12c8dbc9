package examine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

const around = 12 // messages before and after the chosen one

// chosen is the record that is being read.
type chosen struct {
	store.Record
	Whole  *record.Record
	Around []store.Record
	Occurs *occurs // of what repeats, as far as it can be worked out
	Below  int     // of those around it
	Origin *origin
	AcqNo  int
	Named  []named
	Clock  clock          // of its exhibit, if it is applied
	Shown  *time.Time     // when it was by its exhibit's own clock, if that is another time
	Now    *store.Record  // the row as it is, of an earlier version
	Others []store.Record // the same record in other acquisitions
	Note   *store.WorkingNote
	Went   *store.Went  // when it was deleted, nil if nothing says that it was
	Told   []told       // of its moment by others
	Before []frame.View // what was deleted within so long before it: words and addresses
	Alone  string       // address of the list of nothing but its conversation, "" if it is of none
}

func (a pages) choose(c *gin.Context, p *frame.Page, v *content, id string, drawer bool) (*chosen, error) {
	ctx := c.Request.Context()
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("record %q: %w", id, store.ErrNotFound)
	}
	r, err := a.Store.RecordByID(ctx, p.Case.ID, n)
	if err != nil {
		return nil, err
	}
	k := &chosen{Record: *r}
	if k.Whole, err = r.Whole(); err != nil {
		return nil, err
	}
	k.Occurs = occurrences(k.Whole)
	if r.Kind.About().InTalk {
		if k.Around, err = a.Store.Around(ctx, r, around); err != nil {
			return nil, err
		}
		for _, m := range k.Around {
			if m.State.Below() {
				k.Below++
			}
		}
	}
	acq, err := a.Store.AcquisitionByID(ctx, r.AcquisitionID)
	if err != nil {
		return nil, err
	}
	k.AcqNo = acq.Number
	present, err := a.Store.Present(ctx, p.Case.ID, *r)
	if err != nil {
		return nil, err
	}
	k.Now, k.Others = present[r.ID].Now, present[r.ID].Elsewhere
	if k.Note, err = a.Store.NoteOf(ctx, r); err != nil {
		return nil, err
	}
	went, err := a.Store.Went(ctx, p.Case.ID, r.ID)
	if err != nil {
		return nil, err
	}
	k.Went = went[r.ID]
	if k.Told, err = a.told(ctx, p, r); err != nil {
		return nil, err
	}
	if r.At != nil {
		for _, span := range []string{"day", "week", "year"} {
			line := lineWith(p, "deleted:"+span+"/"+r.At.UTC().Format(time.RFC3339), "deleted:", "perhaps-deleted:")
			k.Before = append(k.Before, frame.View{Name: span, Path: p.Keep("q", line, "from", "", "to", "", "view", "", "after", "", "o", "")})
		}
	}
	if r.Thread != "" {
		k.Alone = p.Keep("q", lineWith(p, fmt.Sprintf("conversation:%d", r.ID), "conversation:"), "view", "", "after", "", "o", "")
	}
	if err := a.named(ctx, k); err != nil {
		return nil, err
	}
	k.Clock = of(v.clocks, r.ExhibitID)
	if k.Shown = r.At; k.Clock.Off == 0 {
		k.Shown = nil
	}
	k.Clock.right(k.Around)
	one := []store.Record{k.Record}
	k.Clock.right(one)
	k.Record = one[0]
	if drawer {
		k.Origin, err = a.origin(ctx, k, acq)
	}
	return k, err
}

// named is a contact that gives the name of somebody whom a record names.
type named struct {
	record.Party
	Contact *store.Record // nil if it is not there any more
}

// named lists the contacts that give the names of those whom a record names.
func (a pages) named(ctx context.Context, k *chosen) error {
	for _, p := range k.Whole.Parties {
		if p.Card == "" || slices.ContainsFunc(k.Named, func(n named) bool { return n.Card == p.Card && n.Name == p.Name }) {
			continue
		}
		c, err := a.Store.RecordByUID(ctx, k.CaseID, k.AcquisitionID, p.Card)
		if errors.Is(err, store.ErrNotFound) {
			c, err = nil, nil
		}
		if err != nil {
			return err
		}
		k.Named = append(k.Named, named{p, c})
	}
	return nil
}
