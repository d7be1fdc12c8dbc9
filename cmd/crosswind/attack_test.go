package main

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/ledger"
	"crosswind/internal/store"
)

// Several first starts at once use one key, and it is the one that lies on the disk.
func TestFirstStartsAtOnce(t *testing.T) {
	for range 40 {
		path := filepath.Join(t.TempDir(), "key.pem")
		keys := make([]ed25519.PrivateKey, 8)
		var all sync.WaitGroup
		for i := range keys {
			all.Go(func() {
				k, err := signingKey(path)
				if err != nil {
					t.Error(err)
				}
				keys[i] = k
			})
		}
		all.Wait()
		kept, err := signingKey(path)
		if err != nil {
			t.Fatal(err)
		}
		for _, k := range keys {
			if !bytes.Equal(k, kept) {
				t.Fatal("a start uses a key that is on no disk")
			}
		}
		if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o600 {
			t.Error(st.Mode(), err)
		}
		if left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), "*.new")); len(left) > 0 {
			t.Error("left behind: ", left)
		}
	}
}

// Heads that several processes keep in two places; a torn line is not a head; a head by
// another key is somebody else's.
func TestHeadsInTwoPlaces(t *testing.T) {
	dir := t.TempDir()
	_, key, _ := ed25519.GenerateKey(nil)
	pub := key.Public().(ed25519.PublicKey)
	paths := []string{filepath.Join(dir, "a"), filepath.Join(dir, "b")}
	open := func() *store.Heads {
		t.Helper()
		h, err := store.OpenHeads(pub, paths...)
		if err != nil {
			t.Fatal(err)
		}
		return h
	}
	head := func(size int64) *ledger.Head {
		h := &ledger.Head{Book: "b", Size: size, Last: strings.Repeat("0", 64), Root: strings.Repeat("0", 64), At: "2026-01-01T00:00:00.000Z"}
		if err := h.Sign(key); err != nil {
			t.Fatal(err)
		}
		return h
	}
	one, two := open(), open()
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			if err := map[bool]*store.Heads{true: one, false: two}[i%2 == 0].Keep(head(int64(i + 1))); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	f, err := os.OpenFile(paths[0], os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	io.WriteString(f, `{"at":"20`) // a process died here
	f.Close()
	if err := one.Keep(head(50)); err != nil {
		t.Fatal(err)
	}
	for _, h := range []*store.Heads{two, open()} {
		if last, err := h.Last("b"); err != nil || last.Size != 50 {
			t.Errorf("%+v, %v", last, err)
		}
	}
	os.Remove(paths[0]) // the one beside the key is lost: the other still shows how far it was
	if last, err := open().Last("b"); err != nil || last == nil || last.Size != 50 {
		t.Errorf("%+v, %v", last, err)
	}
	other, _, _ := ed25519.GenerateKey(nil)
	if _, err := store.OpenHeads(other, paths[1]); err == nil || !strings.Contains(err.Error(), "was signed by the key") {
		t.Error(err)
	}
}

// hash, verify and recover end on SIGTERM, and open no pipes.
func TestToolsEnd(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"hash", pipe}, {"verify", pipe}, {"recover", "--json", pipe}, {"carve", "--json", "--out", filepath.Join(dir, "out"), pipe}} {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		out, err := exec.CommandContext(ctx, binary, args...).CombinedOutput()
		if ctx.Err() != nil || err == nil {
			t.Errorf("%v: %v, %s", args, err, out)
		}
		cancel()
	}
	large := filepath.Join(dir, "large")
	if err := errors.Join(os.WriteFile(large, []byte("SQLite format 3\x00"), 0o644), os.Truncate(large, 1<<40)); err != nil {
		t.Fatal(err)
	}
	bag := filepath.Join(dir, "bag")
	if err := os.MkdirAll(filepath.Join(bag, "data"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.WriteFile(filepath.Join(bag, casefile.BagItName), nil, 0o644), os.Link(large, filepath.Join(bag, "data", "large"))); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"hash", large}, {"verify", bag}} {
		cmd := exec.Command(binary, args...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(500 * time.Millisecond)
		cmd.Process.Signal(syscall.SIGTERM)
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case err := <-ended:
			if err == nil {
				t.Errorf("%v ends well", args)
			}
		case <-time.After(30 * time.Second):
			cmd.Process.Kill()
			t.Errorf("%v does not end", args)
		}
	}
	if _, stderr, code := command(t, dir, "verify", "--key", "abc", bag); code != 2 || !strings.Contains(stderr, "64 hexadecimal digits") {
		t.Errorf("%d %s", code, stderr)
	}
}

// Workers that are held up beyond their lease, and go on when others have their run:
// nothing is written twice, and nothing of theirs is kept.
func TestWorkersHeldUp(t *testing.T) {
	b := newFaultBench(t, manyFiles)
	workers := []*exec.Cmd{b.start("work", "--runs", "1"), b.start("work", "--runs", "1")}
	for range 4 {
		at := b.atRandom(workers...)
		workers[at].Process.Signal(syscall.SIGSTOP)
		for end := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) { // until the other has it, or it is over
			var mine bool
			runs, err := b.s.Runs(context.Background(), b.c.ID, "", 1)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range runs {
				mine = r.State == "running" && strings.Contains(r.Worker, " "+strconv.Itoa(workers[at].Process.Pid)+" on ")
			}
			if !mine {
				break
			}
			if time.Now().After(end) {
				t.Fatal("nobody takes the run of a worker that is held up")
			}
		}
		workers[at].Process.Signal(syscall.SIGCONT)
	}
	b.finish(1)
}
