package preview

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// The namespaces of OpenDocument 1.2, part 1, section 2.2.
const (
	odfTable = "urn:oasis:names:tc:opendocument:xmlns:table:1.0"
	odfText  = "urn:oasis:names:tc:opendocument:xmlns:text:1.0"
)

// spreadsheet shows the tables of an OpenDocument spreadsheet: OpenDocument 1.2, part 1, section 9.1.
func (c *Content) spreadsheet(b []byte) error {
	if err := c.document("x.ods", b); err != nil {
		return err
	}
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return err
	}
	f, err := z.Open("content.xml")
	if err != nil {
		return err
	}
	defer f.Close()
	c.Kind, c.Text, c.Cut = "table", "", ""
	d := xml.NewDecoder(io.LimitReader(f, MaxInput))
	for n := 0; ; {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		start, is := t.(xml.StartElement)
		if !is || start.Name != (xml.Name{Space: odfTable, Local: "table"}) {
			continue
		}
		if n++; n > mostSheets {
			c.Cut = fmt.Sprintf("the first %d sheets", mostSheets)
			return nil
		}
		rows := odsRows{in: d}
		if err := c.sheet(attr(start, "name"), rows.next); err != nil {
			return err
		}
		if err := rows.skip(); err != nil {
			return err
		}
	}
}

// odsRows reads the rows of one table. Rows and cells that stand for many are many, but empty ones at the end are none.
type odsRows struct {
	in    *xml.Decoder
	empty int      // rows that are due before row
	row   []string // that is due
	times int      // so often
	ended bool
}

func (r *odsRows) next() ([]string, error) {
	for !r.ended && r.times == 0 {
		t, err := r.in.Token()
		if err != nil {
			return nil, cut(err)
		}
		switch t := t.(type) {
		case xml.EndElement:
			r.ended = t.Name == xml.Name{Space: odfTable, Local: "table"}
		case xml.StartElement:
			if t.Name != (xml.Name{Space: odfTable, Local: "table-row"}) {
				continue
			}
			if r.row, err = odsCells(r.in); err != nil {
				return nil, err
			}
			if times := repeated(t, "number-rows-repeated"); len(r.row) == 0 {
				r.empty = min(r.empty+times, mostRows+1)
			} else {
				r.times = times
			}
		}
	}
	switch {
	case r.times == 0:
		return nil, io.EOF
	case r.empty > 0:
		r.empty--
		return nil, nil
	}
	r.times--
	return r.row, nil
}

// skip reads to the end of the table.
func (r *odsRows) skip() error {
	if r.ended {
		return nil
	}
	return r.in.Skip()
}

// odsCells reads the cells of a row to its end.
func odsCells(in *xml.Decoder) (cells []string, err error) {
	empty := 0
	for {
		t, err := in.Token()
		if err != nil {
			return nil, cut(err)
		}
		switch t := t.(type) {
		case xml.EndElement:
			return cells, nil
		case xml.StartElement:
			said, err := odsText(in)
			if err != nil {
				return nil, err
			}
			times := min(repeated(t, "number-columns-repeated"), mostCells+1)
			if said == "" {
				empty = min(empty+times, mostCells+1)
				continue
			}
			for range empty {
				cells = append(cells, "")
			}
			for empty = 0; times > 0 && len(cells) <= mostCells; times-- {
				cells = append(cells, said)
			}
		}
	}
}

// odsText reads what a cell says to its end: its paragraphs, but neither remarks nor what is drawn or set in it.
func odsText(in *xml.Decoder) (string, error) {
	var b strings.Builder
	say := func(s string) {
		if b.Len() <= mostCell { // of which no more is shown
			b.WriteString(s)
		}
	}
	paragraphs := 0
	for depth := 1; depth > 0; {
		t, err := in.Token()
		if err != nil {
			return "", cut(err)
		}
		switch t := t.(type) {
		case xml.CharData:
			if depth > 1 {
				say(string(t))
			}
		case xml.EndElement:
			depth--
		case xml.StartElement:
			if t.Name.Space != odfText {
				if err := in.Skip(); err != nil {
					return "", cut(err)
				}
				continue
			}
			depth++
			switch t.Name.Local {
			case "p":
				if paragraphs++; paragraphs > 1 {
					say("\n")
				}
			case "s":
				say(strings.Repeat(" ", min(repeated(t, "c"), mostCell)))
			case "tab":
				say("\t")
			case "line-break":
				say("\n")
			}
		}
	}
	return b.String(), nil
}

// cut tells what ends within a table from what ends behind all.
func cut(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

func attr(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// repeated is how many an element stands for, 1 if it does not say.
func repeated(e xml.StartElement, name string) int {
	n, err := strconv.Atoi(attr(e, name))
	if err != nil || n < 1 {
		return 1
	}
	return n
}
