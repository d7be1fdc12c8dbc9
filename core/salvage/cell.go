package salvage

import "crosswind/core/sqlitefile"

// Cell opens the cell at offset off of a b-tree page: its fields, with offsets from
// base on, and its values in the order of the record. data is the usable part of
// page n, and t the table whose row it is, nil if that is not known or it is an
// index's entry. Of a cell with overflow pages the local part is read.
func Cell(t *sqlitefile.Table, n uint32, kind sqlitefile.PageKind, data []byte, off int, base int64) ([]Field, []sqlitefile.Value, error) {
	c, err := sqlitefile.ParseCell(n, kind, data, off)
	if err != nil {
		return nil, nil, err
	}
	if kind == sqlitefile.InteriorTable {
		return []Field{{"child page", base + int64(off), 4, "head"}, {"row id", base + int64(off) + 4, c.Length - 4, "value"}},
			[]sqlitefile.Value{sqlitefile.IntValue(int64(c.Left)), sqlitefile.IntValue(c.RowID)}, nil
	}
	types, body, _, ok := recordTypes(c.Local, c.PayloadAt, nil, c.PayloadSize)
	if !ok {
		return nil, nil, &sqlitefile.FormatError{Page: n, Offset: off, What: "the record's header cannot be read"}
	}
	var sh *shape
	if t != nil {
		sh = tableShape(t)
	}
	k := candidate{layout: layout{start: off, header: c.PayloadAt, body: c.PayloadAt + body, end: off + c.Length, types: types}, payload: c.Local}
	var sc scanner
	values, _ := sc.values(&k)
	for i := range values {
		if sh != nil && i < len(sh.columns) && sh.columns[i] >= 0 && sh.rules[i].alias {
			values[i] = sqlitefile.IntValue(c.RowID)
		}
	}
	return k.fields(sh, base), values, nil
}
