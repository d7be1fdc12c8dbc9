// Command crosswind is the application and its tools: flags and wiring.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"
	_ "time/tzdata" // zones also where the system has none

	"github.com/spf13/cobra"
)

// version of this build, with the revision that it was built from.
var version = func() string {
	v := "0.1"
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) >= 12 {
				v += " (" + s.Value[:12] + ")"
			}
		}
	}
	return v
}()

// errUse is wrapped when a command was used wrongly: exit status 2.
var errUse = errors.New("wrong use")

// errQuiet ends with exit status 1 when all has been said already.
var errQuiet = errors.New("")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{Use: "crosswind", Short: "Digital forensics of phones: acquire, verify, recover, examine, report", Version: version,
		SilenceErrors: true, SilenceUsage: true, CompletionOptions: cobra.CompletionOptions{DisableDefaultCmd: true}}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return fmt.Errorf("%w: %w", errUse, err) })
	root.AddCommand(serveCommand(), workCommand(), migrateCommand(), accountCommand(), demoCommand(), standinCommand(), hashCommand(), recoverCommand(), carveCommand(), readCommand(), mapCommand(), verifyCommand(), reproduceCommand(), validateCommand(), previewCommand(), containCommand())
	err := root.ExecuteContext(ctx)
	switch {
	case err == nil:
	case errors.Is(err, errQuiet):
		os.Exit(1)
	case errors.Is(err, errUse) || strings.HasPrefix(err.Error(), "unknown command"):
		fmt.Fprintf(os.Stderr, "crosswind: %v (crosswind --help shows the use)\n", err)
		os.Exit(2)
	default:
		fmt.Fprintf(os.Stderr, "crosswind: %v\n", err)
		os.Exit(1)
	}
}

// args refuses a wrong number of arguments as wrong use.
func args(least, most int) cobra.PositionalArgs {
	return func(c *cobra.Command, a []string) error {
		if len(a) < least || most >= 0 && len(a) > most {
			return fmt.Errorf("%w: %s", errUse, c.UseLine())
		}
		return nil
	}
}
