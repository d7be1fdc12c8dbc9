package main

import (
	"archive/zip"
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"crosswind/core/casefile"
	"crosswind/core/fieldmap"
	"crosswind/core/reading"
)

func reproduceCommand() *cobra.Command {
	var password, home, key string
	var all bool
	c := &cobra.Command{Use: "reproduce PACKAGE SOURCE…", Short: "Read sources again and compare them with a package's records", Args: args(2, -1),
		Long: "Reads each SOURCE, somebody else's copy of what a package's records were read from (as crosswind read does, full pass, no scope), with the field maps that are in the package, and says of every record of the package whether the same bytes give the same record. The package is verified first. The exit status is 0 if all of them do; name all sources of the package's records for that.",
		RunE: func(c *cobra.Command, a []string) error {
			return reproduce(c.Context(), a[0], a[1:], password, home, key, all)
		}}
	c.Flags().StringVar(&password, "password-file", "", "a file whose first line is the backup's password")
	c.Flags().StringVar(&home, "home", "", "the handset's home country, two letters, for national numbers")
	c.Flags().StringVar(&key, "key", "", "the key by which the package must be signed, hexadecimal")
	c.Flags().BoolVar(&all, "all", false, "list the records that are the same, too")
	return c
}

func reproduce(ctx context.Context, pack string, sources []string, password, home, key string, all bool) error {
	checked, err := casefile.VerifyPath(ctx, pack, casefile.Options{Key: key, Tool: "Crosswind " + version})
	if err != nil {
		return err
	}
	if n := len(checked.Faults); n > 0 {
		return fmt.Errorf("the package does not hold, and is not compared: %s (%d faults in all; crosswind verify lists them)", checked.Faults[0], n)
	}
	if checked.Redacted {
		return errors.New("the package is a redacted one: it holds no records that could be compared")
	}
	bag, closing, err := openBag(pack)
	if err != nil {
		return err
	}
	defer closing()
	records, err := bagRecords(bag)
	if err != nil {
		return err
	}
	own, err := casefile.FieldMaps(bag)
	if err != nil {
		return err
	}
	fieldmap.Add(own...)
	var got []casefile.Reproduced
	for _, at := range sources {
		again, err := readAgain(ctx, at, password, home, records)
		if err != nil {
			return err
		}
		for i := range got {
			if outcomes.of(got[i].Outcome) < outcomes.of(again[i].Outcome) {
				again[i] = got[i]
			}
		}
		got = again
	}
	out := bufio.NewWriter(os.Stdout)
	n := map[casefile.Outcome]int{}
	for _, r := range got {
		if n[r.Outcome]++; r.Outcome == casefile.Same && !all {
			continue
		}
		what := string(r.Outcome)
		if r.What != "" {
			what += ": " + r.What
		}
		fmt.Fprintf(out, "%s  %s, %s acquisition %d, %s\n", casefile.Printable(r.UID), casefile.Printable(what), casefile.Printable(r.Exhibit), r.Acquisition, casefile.Printable(r.Origin().Path))
	}
	var said []string
	for _, o := range outcomes {
		if n[o] > 0 {
			said = append(said, fmt.Sprintf("%d %s", n[o], o))
		}
	}
	fmt.Fprintf(out, "of %d records of the package: %s\n", len(got), strings.Join(said, ", "))
	if err := out.Flush(); err != nil {
		return err
	}
	if n[casefile.Same] < len(got) {
		return errQuiet
	}
	return nil
}

// ranked are outcomes, the best first.
type ranked []casefile.Outcome

func (r ranked) of(o casefile.Outcome) int { return slices.Index(r, o) }

var outcomes = ranked{casefile.Same, casefile.Differs, casefile.NotThere, casefile.OtherFile, casefile.NoFile}

// readAgain reads a source for the records of a package.
func readAgain(ctx context.Context, at, password, home string, records []*casefile.RecordLine) ([]casefile.Reproduced, error) {
	s := &source{ctx: ctx, full: true}
	defer s.close()
	files, err := s.files(at, password)
	if err != nil {
		return nil, err
	}
	sums := map[string]string{}
	for _, f := range files {
		sums[f.Path] = f.SHA256
	}
	opt := reading.Options{Maps: fieldmap.Maps, Country: home, Full: true, Go: func() bool { return ctx.Err() == nil }, Note: func(string) {}}
	got, err := casefile.Reproduce(records, reading.Records(files, opt), sums)
	if err == nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return got, err
}

// openBag opens the files of a package, a folder or a ZIP archive of one.
func openBag(at string) (fs.FS, func(), error) {
	if st, err := os.Stat(at); err != nil || st.IsDir() {
		root, err := os.OpenRoot(at)
		if err != nil {
			return nil, nil, err
		}
		return root.FS(), func() { root.Close() }, nil
	}
	z, err := zip.OpenReader(at)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", at, err)
	}
	i := slices.IndexFunc(z.File, func(f *zip.File) bool { return strings.Contains(f.Name, "/") })
	if i < 0 {
		z.Close()
		return nil, nil, fmt.Errorf("%s has no folder", at)
	}
	folder, _, _ := strings.Cut(z.File[i].Name, "/")
	bag, err := fs.Sub(z, folder)
	return bag, func() { z.Close() }, err
}

// bagRecords reads the records of a package that was verified.
func bagRecords(bag fs.FS) (out []*casefile.RecordLine, err error) {
	f, err := bag.Open(casefile.RecordsName)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for d := json.NewDecoder(f); ; {
		r := &casefile.RecordLine{}
		if err := d.Decode(r); errors.Is(err, io.EOF) {
			return out, nil
		} else if err != nil {
			return nil, fmt.Errorf("%s: %w", casefile.RecordsName, err)
		}
		out = append(out, r)
	}
}
