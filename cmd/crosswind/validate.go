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
		Long: "Makes databases, storage images, backups, photographs, films and sounds whose content is known, by libraries of another origin where there are any, reads them by the code that reads evidence, and writes what was expected and what was found, by where it lay, with the versions of what was measured. With --json, it writes the result as the application keeps it. The same seed makes the same content. The exit status is 1 if something was told that was never there, though something proves it, or something that is there was not read.",
		RunE: func(c *cobra.Command, _ []string) error { return runValidate(c.Context(), seed, asJSON) }}
	c.Flags().Uint64Var(&seed, "seed", 1, "by which the content is made")
	c.Flags().BoolVar(&asJSON, "json", false, "write JSON")
	return c
}

func runValidate(ctx context.Context, seed uint64, asJSON bool) error {
	r, err := validate.Run(ctx, "Crosswind "+version, seed, func(set string) {
		if !asJSON {
			fmt.Fprintf(os.Stderr, "measuring %s\n", set)
		}
	})
	if err != nil {
		return err
	}
	b, err := r.Encode()
	if err != nil {
		return err
	}
	if asJSON {
		fmt.Println(string(b))
	} else {
		fmt.Printf("%s, build %s\n%s, seed %d\n", r.Tool, r.Build, r.Go, r.Seed)
		for i := range r.Sets {
			if err := printSet(&r.Sets[i]); err != nil {
				return err
			}
		}
		fmt.Printf("\nSHA-256 of the result as JSON: %x\n", sha256.Sum256(b))
	}
	if r.Failed() {
		return errQuiet
	}
	return nil
}

// printSet writes what was measured of a set.
func printSet(s *validate.Set) error {
	fmt.Printf("\n%d %s, by %s\n", s.Made, s.Name, s.Library)
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	for _, c := range s.Counts {
		fmt.Fprintf(w, "%s\t%d of %d\n", c.What, c.Found, c.Expected)
	}
	if err := w.Flush(); err != nil || len(s.Places) == 0 {
		return err
	}
	fmt.Fprintln(w, "\nwhere it lay\ttold\twrong\terror rate at most, 95 %")
	for _, p := range s.Places {
		fmt.Fprintf(w, "%s\t%d\t%d\t%.4f\n", p.Place, p.Told, p.Wrong, p.Bound())
	}
	err := w.Flush()
	for _, x := range s.Wrong {
		fmt.Println("wrong: " + x)
	}
	return err
}
