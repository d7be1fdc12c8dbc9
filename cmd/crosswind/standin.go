package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"crosswind/internal/standin/handset"

	"github.com/spf13/cobra"
)

// standinCommand runs one stand-in, as a process of its own. Its description
// comes in on standard input, and its address goes out.
func standinCommand() *cobra.Command {
	return &cobra.Command{Use: "standin handset", Short: "A stand-in for the demo, on loopback", Args: args(1, 1), Hidden: true,
		RunE: func(c *cobra.Command, a []string) error {
			var m handset.Model
			if err := json.NewDecoder(os.Stdin).Decode(&m); err != nil {
				return fmt.Errorf("the stand-in's description: %w", err)
			}
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return err
			}
			srv := &http.Server{Handler: handset.New(m).Handler(), ReadHeaderTimeout: 10 * time.Second}
			fmt.Println("http://" + l.Addr().String())
			go func() { <-c.Context().Done(); srv.Close() }()
			if err := srv.Serve(l); err != http.ErrServerClosed {
				return err
			}
			return nil
		}}
}

// startStandin starts a stand-in that ends with this process, however that ends,
// and gives its address.
func startStandin(ctx context.Context, m handset.Model) (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	description, err := json.Marshal(m)
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, self, "standin", "handset")
	cmd.Stdin, cmd.Stderr = strings.NewReader(string(description)), os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return "", fmt.Errorf("starting a stand-in: %w", err)
	}
	go cmd.Wait()
	var address string
	if _, err := fmt.Fscanln(out, &address); err != nil {
		return "", fmt.Errorf("a stand-in did not start: %w", err)
	}
	return address, nil
}
