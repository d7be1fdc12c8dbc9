package fieldmap

import (
	"iter"

	"crosswind/core/record"
)

// maxHeld bounds the records of a holding area that are held back.
const maxHeld = 100_000

// Merge leaves out recovered records that say what a record in the holding
// area says: an app that moves a row there deletes it from its own table, and
// the deleted row's bytes are the same item, not another one. Where they lie
// is kept as a further origin of the held record. Held records, which are alive and so
// come before recovered ones, are yielded last.
func Merge(rs iter.Seq2[*record.Record, error]) iter.Seq2[*record.Record, error] {
	type content struct {
		kind                          record.Kind
		at, thread, handle, dir, text string
	}
	key := func(r *record.Record) content {
		return content{r.Kind, r.At().String(), r.Thread(), r.Handle(), r.Direction, r.Summary()}
	}
	return func(yield func(*record.Record, error) bool) {
		var held []*record.Record
		of := map[content]*record.Record{}
		for r, err := range rs {
			if err == nil && r.At() != nil && r.State == record.Held && len(held) < maxHeld {
				held, of[key(r)] = append(held, r), r
				continue
			}
			if err == nil && r.At() != nil && r.State == record.Recovered {
				if h := of[key(r)]; h != nil {
					o := *r.Origin()
					o.Gives, o.Fields, o.FieldMap, o.MapSHA256 = "the same, from before it was moved", nil, "", ""
					h.Origins = append(h.Origins, o)
					continue
				}
			}
			if !yield(r, err) {
				return
			}
		}
		for _, r := range held {
			if !yield(r, nil) {
				return
			}
		}
	}
}
