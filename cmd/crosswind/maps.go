package main

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"crosswind/core/casefile"
	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/salvage"
)

func mapCommand() *cobra.Command {
	c := &cobra.Command{Use: "map", Short: "Field maps, which say what an app's tables mean"}
	c.AddCommand(&cobra.Command{Use: "check FILE DATABASE", Short: "What a field map reads of a database, and what it leaves", Args: args(2, 2),
		Long: "Reads a field map's file, compares it with a database's tables and reads the database with it, deleted rows too. Says what comes of it by table, and what is left. Nothing is written to the database or beside it.",
		RunE: func(c *cobra.Command, a []string) error { return checkMap(c.OutOrStdout(), a[0], a[1]) }})
	return c
}

// mostMap is more than the file of any map holds.
const mostMap = 1 << 20

func loadMap(path string) (*fieldmap.Map, error) {
	f, err := openRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, mostMap+1))
	if err != nil {
		return nil, err
	}
	if len(b) > mostMap {
		return nil, fmt.Errorf("%s is larger than %d bytes, which no field map is", path, mostMap)
	}
	return fieldmap.Parse(filepath.Base(path), b)
}

// ownMaps reads a field map, or all *.toml of a folder; none if at is "".
func ownMaps(at string) (maps []*fieldmap.Map, err error) {
	if at == "" {
		return nil, nil
	}
	paths := []string{at}
	if st, err := os.Stat(at); err != nil {
		return nil, err
	} else if st.IsDir() {
		if paths, err = filepath.Glob(filepath.Join(at, "*.toml")); err != nil {
			return nil, err
		}
	}
	for _, p := range paths {
		m, err := loadMap(p)
		if err != nil {
			return nil, err
		}
		maps = append(maps, m)
	}
	return maps, nil
}

// parts are those of a record that a map may give, with whether it is there.
var parts = []struct {
	name  string
	there func(*record.Record) bool
}{
	{"time", func(r *record.Record) bool { return r.At() != nil }},
	{"conversation", func(r *record.Record) bool { return r.Thread() != "" }},
	{"handle", func(r *record.Record) bool { return r.Handle() != "" }},
	{"direction", func(r *record.Record) bool { return r.Direction != "" }},
	{"text", func(r *record.Record) bool { return r.Text != "" }},
	{"place", func(r *record.Record) bool { return r.Place != nil }},
	{"attachments", func(r *record.Record) bool { return len(r.Attachments) > 0 }},
	{"facts", func(r *record.Record) bool { return len(r.Facts) > 0 }},
}

func checkMap(w io.Writer, file, path string) error {
	m, err := loadMap(file)
	if err != nil {
		return err
	}
	note := func(err error) { fmt.Fprintf(os.Stderr, "crosswind: %s: %v\n", path, err) }
	db, err := openDatabase(path, note)
	if err != nil {
		return err
	}
	defer db.Close()
	tables, err := db.Tables()
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if err := m.Check(tables); err != nil {
		return err
	}
	type key struct {
		table, kind, state string
	}
	read, left := map[key][]int{}, map[key]int{}
	for r, err := range m.Records(db.Survey(), db.Source, fieldmap.Names{}, salvage.Options{Full: true}, func(fieldmap.Members) {}, func(row *salvage.Row) {
		k := key{table: "(a table that cannot be told)", state: "recovered"}
		if row.Live {
			k.state = "live"
		}
		if row.Table != nil {
			k.table = row.Table.Name
		}
		left[k]++
	}) {
		if err != nil {
			note(err)
			continue
		}
		k := key{r.Origin().Table, string(r.Kind), string(r.State)}
		if read[k] == nil {
			read[k] = make([]int, 1+len(parts))
		}
		read[k][0]++
		for i, p := range parts {
			if p.there(r) {
				read[k][i+1]++
			}
		}
	}
	order := func(a, b key) int {
		return cmp.Or(strings.Compare(a.table, b.table), strings.Compare(a.kind, b.kind), strings.Compare(a.state, b.state))
	}
	fmt.Fprintf(w, "%s, SHA-256 %s\n\n", m.ID(), m.SHA256)
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprint(t, "table\tkind\tstate\trecords")
	for _, p := range parts {
		fmt.Fprint(t, "\twith ", p.name)
	}
	fmt.Fprintln(t)
	for _, k := range slices.SortedFunc(maps.Keys(read), order) {
		fmt.Fprintf(t, "%s\t%s\t%s", casefile.Printable(k.table), k.kind, k.state)
		for _, n := range read[k] {
			fmt.Fprintf(t, "\t%d", n)
		}
		fmt.Fprintln(t)
	}
	if len(left) > 0 {
		fmt.Fprint(t, "\nleft\tstate\trows\n")
	}
	for _, k := range slices.SortedFunc(maps.Keys(left), order) {
		fmt.Fprintf(t, "%s\t%s\t%d\n", casefile.Printable(k.table), k.state, left[k])
	}
	return t.Flush()
}
