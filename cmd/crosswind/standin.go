package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"syscall"
	"time"

	"crosswind/internal/standin/authority"
	"crosswind/internal/standin/cloud"
	"crosswind/internal/standin/democase"
	"crosswind/internal/standin/handset"

	"github.com/spf13/cobra"
)

// standinCommand runs one stand-in, as a process of its own. Its description
// comes in on standard input, and its address goes out.
func standinCommand() *cobra.Command {
	return &cobra.Command{Use: "standin handset|cloud|authority", Short: "A stand-in for the demo, on loopback", Args: args(1, 1), Hidden: true,
		RunE: func(c *cobra.Command, a []string) error {
			var m handset.Model
			var account cloud.Account
			var desk authority.Setting
			into, handler := any(&m), func() (http.Handler, error) {
				h := handset.New(m)
				h.MakeBackup = democase.MakeBackup
				return h.Handler(), nil
			}
			switch a[0] {
			case "cloud":
				into, handler = &account, func() (http.Handler, error) { return cloud.New(account).Handler(), nil }
			case "authority":
				into, handler = &desk, func() (http.Handler, error) {
					t, err := authority.Open(desk)
					if err != nil {
						return nil, err
					}
					return t.Handler(), nil
				}
			}
			if err := json.NewDecoder(os.Stdin).Decode(into); err != nil {
				return fmt.Errorf("the stand-in's description: %w", err)
			}
			h, err := handler()
			if err != nil {
				return err
			}
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return err
			}
			srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
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
func startStandin(ctx context.Context, what string, description any) (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	said, err := json.Marshal(description)
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, self, "standin", what)
	cmd.Stdin, cmd.Stderr = bytes.NewReader(said), os.Stderr
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
