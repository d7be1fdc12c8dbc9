package main

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"text/tabwriter"

	"crosswind/internal/validate"

	"github.com/spf13/cobra"
)

func validateCommand() *cobra.Command {
	var seed uint64
	var asJSON bool
	c := &cobra.Command{Use: "validate", Short: "Measure how often what is read is right, on this build", Args: args(0, 0),
		Long: "Makes databases whose content is known, by the library that apps write with, reads them by the code that reads evidence, and writes what was expected and what was found, by where it lay, with the versions of what was measured. With --json, it writes the result as the application keeps it. The same seed makes the same databases. The exit status is 1 if a row that was told was never written, or a live one was not read.",
		RunE: func(c *cobra.Command, _ []string) error { return runValidate(c.Context(), seed, asJSON) }}
	c.Flags().Uint64Var(&seed, "seed", 1, "by which the databases are made")
	c.Flags().BoolVar(&asJSON, "json", false, "write JSON")
	return c
}

func runValidate(ctx context.Context, seed uint64, asJSON bool) error {
	r, err := validate.Run(ctx, "Crosswind "+version, seed, func(done, of int) {
		if !asJSON {
			fmt.Fprintf(os.Stderr, "\r%d of %d databases", done, of)
		}
	})
	if err != nil {
		return err
	}
	b, err := r.Encode()
	if err != nil {
		return err
	}
	total := r.Total()
	if asJSON {
		fmt.Println(string(b))
	} else {
		fmt.Fprintln(os.Stderr)
		fmt.Printf("%s, build %s\n%s, databases by %s, seed %d\n\nlive rows  %d of %d\nold rows   %d of %d whose text is still in the files\n\n", r.Tool, r.Build, r.Go, r.Library, r.Seed, r.Live.Found, r.Live.Expected, r.Deleted.Found, r.Deleted.Expected)
		w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
		fmt.Fprintln(w, "where it lay\ttold\twrong\terror rate at most, 95 %")
		for _, p := range append(r.Places, total) {
			fmt.Fprintf(w, "%s\t%d\t%d\t%.4f\n", p.Place, p.Told, p.Wrong, p.Bound())
		}
		if err := w.Flush(); err != nil {
			return err
		}
		for _, x := range r.Wrong {
			fmt.Println("wrong: " + x)
		}
		fmt.Printf("\nSHA-256 of the result as JSON: %x\n", sha256.Sum256(b))
	}
	if total.Wrong > 0 || r.Live.Found < r.Live.Expected {
		return errQuiet
	}
	return nil
}
