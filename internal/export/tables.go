package export

import (
	"encoding/csv"
	"fmt"
	"io"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
)

// csvWriter writes a table by RFC 4180.
type csvWriter struct {
	w    *csv.Writer
	head Head
}

func newCSV(w io.Writer, head Head) (writer, error) {
	c := &csvWriter{csv.NewWriter(w), head}
	c.w.UseCRLF = true
	return c, c.w.Write(columns)
}

func (c *csvWriter) write(l *Line) error {
	row := cells(l, c.head.Zone)
	for i := range row {
		row[i] = safe(row[i])
	}
	return c.w.Write(row)
}

func (c *csvWriter) close() error {
	c.w.Flush()
	return c.w.Error()
}

// sheet writes an Office Open XML workbook (ISO/IEC 29500) with two sheets: the records, all cells texts, and what they are.
type sheet struct {
	file *excelize.File
	rows *excelize.StreamWriter
	to   io.Writer
	head Head
	n    int // rows that are written
	cut  int // cells
}

// What a sheet can hold: ISO/IEC 29500-1, section 18.3.1.73 for rows; of characters of a cell, what spreadsheet programs read
// (common practice).
const (
	mostRows  = 1 << 20
	mostChars = 32_767
)

func newSheet(w io.Writer, head Head) (writer, error) {
	s := &sheet{file: excelize.NewFile(), to: w, head: head}
	const name = "Records"
	err := s.file.SetSheetName("Sheet1", name)
	if err == nil {
		s.rows, err = s.file.NewStreamWriter(name)
	}
	if err == nil {
		err = s.rows.SetColWidth(1, len(columns), 22)
	}
	if err == nil {
		err = s.rows.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"})
	}
	if err != nil {
		return nil, err
	}
	return s, s.row(columns)
}

func (s *sheet) row(texts []string) error {
	if s.n++; s.n > mostRows {
		return fmt.Errorf("a spreadsheet has %d rows at most: narrow what is taken out, or take CSV", mostRows)
	}
	row := make([]any, len(texts))
	for i, t := range texts {
		if t = safe(t); utf8.RuneCountInString(t) > mostChars {
			t = string([]rune(t)[:mostChars-1]) + "…"
			s.cut++
		}
		row[i] = t
	}
	return s.rows.SetRow(fmt.Sprintf("A%d", s.n), row)
}

func (s *sheet) write(l *Line) error { return s.row(cells(l, s.head.Zone)) }

func (s *sheet) close() error {
	if err := s.rows.Flush(); err != nil {
		return err
	}
	const about = "About"
	if _, err := s.file.NewSheet(about); err != nil {
		return err
	}
	for i, x := range [][2]string{{"Case", s.head.Case + ", " + s.head.Title}, {"Records", fmt.Sprint(s.n - 1)}, {"What", s.head.What}, {"Taken out", s.head.At.UTC().Format("2006-01-02 15:04:05Z")}, {"By", s.head.By},
		{"With", s.head.Tool}, {"Local times in", s.head.Zone.String()}, {"Cells cut", fmt.Sprintf("%d, at %d characters", s.cut, mostChars)}} {
		for k, t := range x {
			at, err := excelize.CoordinatesToCellName(k+1, i+1)
			if err == nil {
				err = s.file.SetCellStr(about, at, safe(t))
			}
			if err != nil {
				return err
			}
		}
	}
	if err := s.file.SetColWidth(about, "A", "B", 30); err != nil {
		return err
	}
	if _, err := s.file.WriteTo(s.to); err != nil {
		return err
	}
	return s.file.Close()
}

// lineWriter writes records as packages have them: JSON Lines, each in canonical form.
type lineWriter struct{ w io.Writer }

func newLines(w io.Writer, _ Head) (writer, error) { return &lineWriter{w}, nil }

func (j *lineWriter) write(l *Line) error {
	b, err := l.Line()
	if err == nil {
		_, err = j.w.Write(append(b, '\n'))
	}
	return err
}

func (j *lineWriter) close() error { return nil }
