package fieldmap

import (
	"slices"
	"strings"

	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

// joins holds the lookup tables of one database, recovered rows beside live ones, so that a
// row finds its people, its conversation and its attachments even when those were deleted, too.
// Of a key there are all that were found, in the order in which they were, live ones first.
type joins struct {
	values   map[[2]string][]joined // by lookup and key
	attached map[attachedTo][]attached
}

type joined struct {
	value string
	at    spot
}

type attachedTo struct {
	list *Attachments
	key  string
}

type attached struct {
	record.Attachment
	at spot
}

// spot is where a row of a lookup lies.
type spot struct {
	table  string
	rowID  *record.Int
	part   sqlitefile.Part
	page   uint32
	frame  int
	offset int64
	length int
	place  string
	sure   float64
}

func (m *Map) spot(row *salvage.Row) spot {
	s := spot{row.Table.Name, nil, row.Part, row.Page, row.Frame, row.Offset, row.Length, "live", row.Confidence}
	if !row.Live {
		s.place = string(row.Origin)
	}
	if row.HasRowID {
		id := record.Int(row.RowID)
		s.rowID = &id
	}
	return s
}

// looksUp reports whether the map finds other rows' references in rows of a table.
func (m *Map) looksUp(table string) bool {
	return slices.ContainsFunc(m.Lookups, func(l Lookup) bool { return l.Table == table }) ||
		slices.ContainsFunc(m.Readings, func(r Reading) bool {
			return slices.ContainsFunc(r.Attachments, func(a Attachments) bool { return a.Table == table })
		})
}

// handles are the parts of a reading that name people.
func (rd *Reading) handles() (out []*Part) {
	if rd.Handle != nil {
		out = append(out, rd.Handle)
	}
	for i := range rd.Parties {
		out = append(out, &rd.Parties[i].Part)
	}
	return out
}

// join reads the lookup tables, and who is seen in which conversation.
func (m *Map) join(s *salvage.Survey, forms *people.Normals, opt salvage.Options) (*joins, Members) {
	j, seen := &joins{map[[2]string][]joined{}, map[attachedTo][]attached{}}, Members{}
	idle := !slices.ContainsFunc(m.Readings, func(r Reading) bool {
		return r.Conversation != nil || slices.ContainsFunc(r.Attachments, func(a Attachments) bool { return a.Table != "" })
	})
	if len(m.Lookups) == 0 && idle {
		return j, seen
	}
	type reference struct{ thread, lookup, key string }
	var later []reference // handles that are known when all lookups are
	asked := map[reference]bool{}
	for row, err := range s.Rows(opt) {
		if err != nil || row.Table == nil {
			continue // the caller comes upon the damage again
		}
		c := columns{row, s.File().Encoding}
		if m.looksUp(row.Table.Name) {
			j.learn(m, row, c)
		}
		rd := m.reading(row, c.enc)
		if rd == nil || rd.Conversation == nil {
			continue
		}
		k, ok := rd.Conversation.value(c.get, c.enc)
		if !ok {
			continue
		}
		for _, p := range rd.handles() {
			h, ok := p.value(c.get, c.enc)
			switch {
			case !ok:
			case p.Lookup != "":
				if r := (reference{k, p.Lookup, h}); !asked[r] {
					asked[r], later = true, append(later, r)
				}
			default:
				seen.add(k, forms.List(h))
			}
		}
	}
	for _, r := range later {
		h, _ := j.find(r.lookup, r.key)
		seen.add(r.thread, forms.List(h))
	}
	return j, seen
}

// learn keeps what a row says of others.
func (j *joins) learn(m *Map, row *salvage.Row, c columns) {
	at := m.spot(row)
	for _, l := range m.Lookups {
		if l.Table != row.Table.Name {
			continue
		}
		k, ok1 := c.text(l.Key)
		v, ok2 := c.text(l.Value)
		to := [2]string{l.Name, k}
		if ok1 && ok2 && !slices.ContainsFunc(j.values[to], func(o joined) bool { return o.value == v }) {
			j.values[to] = append(j.values[to], joined{v, at})
		}
	}
	for i := range m.Readings {
		for n := range m.Readings[i].Attachments {
			a := &m.Readings[i].Attachments[n]
			if a.Table != row.Table.Name {
				continue
			}
			k, ok := c.text(a.Key)
			f, is := a.read(c.get, c.enc)
			to := attachedTo{a, k}
			if ok && is && !slices.ContainsFunc(j.attached[to], func(o attached) bool { return sameFile(o.Attachment, f) }) {
				j.attached[to] = append(j.attached[to], attached{f, at})
			}
		}
	}
}

// sameFile reports whether two rows say the same of a file: another version of a row does.
func sameFile(a, b record.Attachment) bool {
	size := func(n *record.Int) record.Int {
		if n == nil {
			return -1
		}
		return *n
	}
	return a.Name == b.Name && a.Type == b.Type && a.Path == b.Path && size(a.Size) == size(b.Size)
}

func (m Members) add(thread string, handles []string) {
	for _, h := range handles {
		if !slices.Contains(m[thread], h) {
			m[thread] = append(m[thread], h)
		}
	}
}

// find gives all values that the key has in a lookup, with commas, and where they lie.
func (j *joins) find(lookup, key string) (string, []spot) {
	var values []string
	var at []spot
	for _, v := range j.values[[2]string{lookup, key}] {
		values, at = append(values, v.value), append(at, v.at)
	}
	return strings.Join(values, ", "), at
}

// origin is the trail to a row that gave a part of a record. Of one whose bytes cannot be read
// there is no digest: the reading tells of the damage where it comes upon it.
func (g given) origin(src *Source) record.Origin {
	src = src.of(g.at.part)
	at := g.at
	o := record.Origin{Gives: g.what, Path: src.Path, Stored: src.Stored, SHA256: src.SHA256, Table: at.table, RowID: at.rowID, Place: at.place,
		Page: at.page, Frame: at.frame, Offset: at.offset, Length: at.length, Confidence: at.sure}
	o.Digest, _ = src.digest(at.offset, at.length)
	return o
}
