package fieldmap

import (
	"fmt"

	"crosswind/core/record"
)

// Merge leaves out recovered records that say what a record in the holding
// area says: an app that moves a row there deletes it from its own table, and
// the deleted row's bytes are the same item, not another one. Where they lie
// is kept as a detail of the held record. left, if not nil, is called with
// each record that is left out.
func Merge(rs []*record.Record, left func(*record.Record)) []*record.Record {
	type content struct {
		kind                          record.Kind
		at, thread, handle, dir, text string
	}
	key := func(r *record.Record) content {
		at := ""
		if r.At != nil {
			at = r.At.String()
		}
		return content{r.Kind, at, r.Thread, r.Handle, r.Direction, r.Text}
	}
	held := map[content]*record.Record{}
	for _, r := range rs {
		if r.State == record.Held && r.At != nil {
			held[key(r)] = r
		}
	}
	out := rs[:0]
	for _, r := range rs {
		if h := held[key(r)]; h != nil && r.State == record.Recovered {
			h.Details = append(h.Details, record.Detail{Label: "Also at", Value: fmt.Sprintf("%s, page %d, offset %d, %d bytes", r.PlaceWords(), r.Origin.Page, r.Origin.Offset, r.Origin.Length)})
			if left != nil {
				left(r)
			}
			continue
		}
		out = append(out, r)
	}
	return out
}
