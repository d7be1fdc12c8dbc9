package main

import (
	"bufio"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"crosswind/internal/preview"
	"crosswind/internal/query"
)

// previewCommand is the process in which hostile pictures and sounds are decoded. The application starts it.
func previewCommand() *cobra.Command {
	limits := false
	c := &cobra.Command{Use: "preview [FORM]", Short: "Makes a preview of standard input on standard output, within limits", Args: args(0, 1),
		Long: "Reads a picture, a film or a sound on standard input and writes a small JPEG or a WAV on standard output, or with FORM \"waveform\" a PNG of a sound; with FORM \"query\" it answers SQL over the rows that it is given. The process first takes from itself what this does not need: files, the network, other programs, memory and time.",
		RunE: func(_ *cobra.Command, form []string) error {
			if limits {
				for _, l := range preview.Confine() {
					fmt.Println(l)
				}
				return nil
			}
			out := bufio.NewWriter(os.Stdout)
			make := preview.Make
			if slices.Equal(form, []string{query.Form}) {
				make = query.Serve
			}
			if err := make(out, os.Stdin, strings.Join(form, "")); err != nil {
				return err
			}
			return out.Flush()
		}}
	c.Flags().BoolVar(&limits, "limits", false, "say which limits the kernel does not keep, a line each, and make nothing")
	return c
}

// containCommand is what the typesetter of reports, which reads text of evidence, is run by.
func containCommand() *cobra.Command {
	var read []string
	var write string
	c := &cobra.Command{Use: "contain --write FOLDER --read FOLDER… -- PROGRAM…", Short: "Runs a program that has some folders and no network", Hidden: true, Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, argv []string) error { return preview.Contain(read, write, argv, os.Environ()) }}
	c.Flags().StringSliceVar(&read, "read", nil, "a folder that it reads")
	c.Flags().StringVar(&write, "write", "", "the folder that it reads and writes")
	return c
}

// previews readies the making of previews, and says in the log which limits the kernel does not keep.
func previews(dir string, log *slog.Logger) (*preview.Maker, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("finding this program for previews: %w", err)
	}
	if out, err := exec.Command(self, "preview", "--limits").Output(); err != nil {
		log.Warn("previews cannot be made", "error", err)
	} else {
		for lack := range strings.Lines(string(out)) {
			log.Warn("previews are made without a limit that this kernel does not keep", "limit", strings.TrimSpace(lack))
		}
	}
	return &preview.Maker{Dir: filepath.Join(dir, "previews"), Command: []string{self, "preview"}, Log: log}, nil
}
