package frame

import (
	"fmt"
	"sort"
	"strings"

	"crosswind/core/record"
)

// HexRow is sixteen bytes.
type HexRow struct {
	Offset int64
	Runs   []HexRun
	Text   string
	Pad    string // that fills a short row up
	Zeros  int    // if not 0, the row stands for so many bytes that are all zero
	Hidden int    // the same of bytes that are hidden
}

// HexRun is bytes of one field, or of none.
type HexRun struct {
	Hex, Role, Name string
	Odd             bool
}

// HexRows lays bytes out in rows of sixteen that begin at multiples of
// sixteen, and marks the fields, which do not overlap. Bytes that are
// hidden show as dashes; hidden may be nil.
func HexRows(b []byte, at int64, fields []record.Field, hidden []bool) []HexRow {
	fields = append([]record.Field(nil), fields...)
	sort.SliceStable(fields, func(i, j int) bool { return fields[i].Offset < fields[j].Offset })
	which := func(off int64) int {
		i := sort.Search(len(fields), func(i int) bool { return fields[i].Offset > off }) - 1
		if i >= 0 && off < fields[i].Offset+int64(fields[i].Length) {
			return i
		}
		return -1
	}
	var rows []HexRow
	for i := 0; i < len(b); {
		n := min(len(b)-i, 16-int((at+int64(i))%16))
		row := HexRow{Offset: at + int64(i)}
		last := -2
		for j := range n {
			k := which(at + int64(i+j))
			if k != last {
				run := HexRun{}
				if k >= 0 {
					run.Role, run.Name, run.Odd = fields[k].Role, fields[k].Name, k%2 == 1
				}
				row.Runs = append(row.Runs, run)
				last = k
			}
			run := &row.Runs[len(row.Runs)-1]
			if run.Hex != "" {
				run.Hex += " "
			}
			c := rune(b[i+j])
			if hidden != nil && hidden[i+j] {
				run.Hex, c = run.Hex+"--", '-'
			} else {
				run.Hex += fmt.Sprintf("%02X", b[i+j])
			}
			if c < 0x20 || c > 0x7e {
				c = '·'
			}
			row.Text += string(c)
		}
		row.Pad = strings.Repeat("   ", 16-n)
		rows = append(rows, row)
		i += n
	}
	return rows
}

// FoldRows puts one row in place of many that hold zeros, or are hidden, and are
// marked alike.
func FoldRows(rows []HexRow) []HexRow {
	const few = 4
	only := func(r HexRow, c string) bool {
		for _, run := range r.Runs {
			if strings.Trim(run.Hex, c+" ") != "" || c == "0" && len(r.Runs) > 1 {
				return false
			}
		}
		return r.Pad == ""
	}
	var out []HexRow
	for i := 0; i < len(rows); {
		j, k := i, i
		for j < len(rows) && only(rows[j], "0") && rows[j].Runs[0].Name == rows[i].Runs[0].Name {
			j++
		}
		for k < len(rows) && only(rows[k], "-") {
			k++
		}
		if max(j, k)-i >= few {
			out = append(out, HexRow{Offset: rows[i].Offset, Zeros: 16 * (j - i), Hidden: 16 * (k - i)})
			i = max(j, k)
			continue
		}
		out = append(out, rows[i])
		i++
	}
	return out
}
