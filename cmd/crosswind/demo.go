package main

import (
	"fmt"
	"os"
	"path/filepath"

	"crosswind/internal/run"
	"crosswind/internal/standin/authority"
	"crosswind/internal/standin/democase"
	"crosswind/internal/store"

	"github.com/spf13/cobra"
)

func demoCommand() *cobra.Command {
	s := settings{What: "demo", Runs: 2, Lease: run.DefaultLease}
	var dir string
	var recordings int
	c := &cobra.Command{Use: "demo", Short: "The demo: made-up evidence, a case, and the application", Args: args(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			dir, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			fmt.Println("Making the demo's evidence, if it is not there yet")
			opt := democase.Full
			opt.Recordings = recordings
			if err := democase.Make(dir, opt); err != nil {
				return err
			}
			handsets, err := democase.Handsets(dir, opt.Few)
			if err != nil {
				return err
			}
			for _, m := range handsets {
				at, err := startStandin(c.Context(), "handset", m)
				if err != nil {
					return err
				}
				s.Handsets = append(s.Handsets, at)
			}
			account, err := democase.Account(dir, opt.Few)
			if err != nil {
				return err
			}
			if s.Service, err = startStandin(c.Context(), "cloud", account); err != nil {
				return err
			}
			desk := filepath.Join(dir, "authority")
			if s.Stamps, err = startStandin(c.Context(), "authority", authority.Setting{Dir: desk}); err != nil {
				return err
			}
			s.StampsPEM = filepath.Join(desk, authority.RootsName)
			s.Data, s.Backups = filepath.Join(dir, "data"), []string{filepath.Join(dir, "backups")}
			if s.Database, err = store.Prepare(c.Context(), s.Database); err != nil {
				return err
			}
			a, err := start(c.Context(), s)
			if err != nil {
				return err
			}
			defer a.close()
			if err := democase.Seed(c.Context(), a.store); err != nil {
				return fmt.Errorf("opening the demo case: %w", err)
			}
			if err := a.listen(s.Listen); err != nil {
				return err
			}
			fmt.Printf("\nCrosswind's demo is at %s\nSign in as %s with the password %s (or as %s with %s, or %s with %s).\nCtrl-C ends it; what was done stays. make demo-reset starts the story afresh.\nThe encrypted backup of 14 June opens with the password %s.\n",
				a.address(), democase.Accounts[0].Login, democase.Accounts[0].Password, democase.Accounts[1].Login, democase.Accounts[1].Password, democase.Accounts[2].Login, democase.Accounts[2].Password, democase.Password)
			fmt.Printf("\nA cloud account: register %s as an exhibit of the kind account, and an authority that covers it. Its owner's code is shown at\n  %s\n", account.Name, s.Service)
			fmt.Printf("\nA time stamp authority answers. How it fails, if it is to, is set at\n  %s\n", s.Stamps)
			fmt.Println("\nHandsets are connected. Each has a screen of its own, where you do what its owner would:")
			for i, m := range handsets {
				how := "allow the computer, enter the code " + m.Code + ", switch radios off"
				switch {
				case m.Mode == "restarting":
					how = fmt.Sprintf("restarts again and again: hold “%s” for %.0f s for service mode", m.Keys, m.Hold.Seconds())
				case m.Screen == "dead":
					how = fmt.Sprintf("its screen is dead: hold “%s” for %.0f s for service mode", m.Keys, m.Hold.Seconds())
				}
				fmt.Printf("  %-14s %-6s %-12s %s  %s\n", m.Name, m.Mark, m.Serial, s.Handsets[i], how)
			}
			return a.serve(c.Context())
		}}
	f := c.Flags()
	f.StringVar(&s.Database, "database", env("CROSSWIND_DATABASE", ""), "address of the PostgreSQL database as its administrator, postgres://…: the demo makes the application's role in it")
	f.StringVar(&s.Listen, "listen", env("CROSSWIND_LISTEN", "127.0.0.1:8417"), "address and port to listen on")
	s.rate(c)
	s.maps(c)
	f.StringVar(&dir, "dir", ".local/demo", "folder for everything of the demo")
	f.IntVar(&recordings, "recordings", democase.Full.Recordings, "number of 20 MiB sound recordings in the demo's backup")
	return c
}
