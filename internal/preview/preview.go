package preview

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/bits"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Version of what is made: another one makes previews anew.
const Version = "2"

// Maker makes previews in child processes, and keeps them.
type Maker struct {
	Dir     string   // of previews that are kept, which can be thrown away
	Command []string // that runs the child: it confines itself, and calls Make
	Log     *slog.Logger
	// Patience is how long one child may take, 20 s if it is 0.
	Patience time.Duration

	said sync.Once
	busy chan struct{}
	once sync.Once
}

// most is how many children run at once.
const most = 2

// Fault is why there is no preview: what the child said, or how it ended.
type Fault struct{ Why string }

func (f *Fault) Error() string { return f.Why }

// Preview gives the preview of content, in a form, under its SHA-256, hex, and its media type. A *Fault
// is of the content.
func (m *Maker) Preview(ctx context.Context, form, sha256 string, content func() (io.ReadCloser, error)) ([]byte, string, error) {
	if len(sha256) != 64 || strings.Trim(sha256, "0123456789abcdef") != "" {
		return nil, "", fmt.Errorf("preview: %q is not a SHA-256", sha256)
	}
	if form != Shown && form != Waveform && form != Alike && form != Holds {
		return nil, "", fmt.Errorf("preview: there is no form %q", form)
	}
	kept := filepath.Join(m.Dir, Version, form, sha256[:2], sha256)
	if b, err := os.ReadFile(kept); err == nil {
		return b, typeOf(b), nil
	}
	in, err := content()
	if err != nil {
		return nil, "", err
	}
	defer in.Close()
	b, err := m.Ask(ctx, form, in)
	if err != nil {
		return nil, "", err
	}
	if typeOf(b) == "" {
		return nil, "", &Fault{"the confined process gave what is neither a picture nor a sound"}
	}
	if err := keep(kept, b); err != nil {
		m.Log.Warn("a preview is not kept", "error", err)
	}
	return b, typeOf(b), nil
}

// typeOf says what a preview is: the child's word is not asked.
func typeOf(b []byte) string {
	switch {
	case bytes.HasPrefix(b, []byte("\xff\xd8\xff")):
		return "image/jpeg"
	case bytes.HasPrefix(b, []byte("\x89PNG\r\n\x1a\n")):
		return "image/png"
	case len(b) > 12 && string(b[:4]) == "RIFF" && string(b[8:12]) == "WAVE":
		return "audio/wav"
	case len(b) == 16 && bytes.Trim(b, "0123456789abcdef") == nil:
		return "text/plain"
	case bytes.HasPrefix(b, []byte(`{"kind":"`)):
		return "application/json"
	}
	return ""
}

// Apart is in how many of 64 places the digests of two pictures differ, which brighter neighbours of each place of a small
// picture make (the difference hash of goimagehash). [Near] or fewer are of pictures that look alike, as common practice has it.
func Apart(a, b uint64) int { return bits.OnesCount64(a ^ b) }

// Near is how far the digests of pictures that look alike are apart at most.
const Near = 5

// Digest is the digest of what a picture looks like.
func (m *Maker) Digest(ctx context.Context, sha256 string, content func() (io.ReadCloser, error)) (uint64, error) {
	b, _, err := m.Preview(ctx, Alike, sha256, content)
	if err != nil {
		return 0, err
	}
	d, err := strconv.ParseUint(string(b), 16, 64)
	if err != nil {
		return 0, &Fault{"the confined process gave no digest"}
	}
	return d, nil
}

// Content says what a document, a table or an archive holds.
func (m *Maker) Content(ctx context.Context, sha256 string, content func() (io.ReadCloser, error)) (*Content, error) {
	b, _, err := m.Preview(ctx, Holds, sha256, content)
	if err != nil {
		return nil, err
	}
	c := &Content{}
	if err := json.Unmarshal(b, c); err != nil {
		return nil, &Fault{"the confined process gave what cannot be read"}
	}
	return c, nil
}

func keep(path string, b []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), "making-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

func (m *Maker) patience() time.Duration { return cmp.Or(m.Patience, 20*time.Second) }

// Ask gives what a child makes of its input in a form, once no more than so many others run. A *Fault is of the input.
func (m *Maker) Ask(ctx context.Context, form string, in io.Reader) ([]byte, error) {
	m.once.Do(func() { m.busy = make(chan struct{}, most) })
	select {
	case m.busy <- struct{}{}:
		defer func() { <-m.busy }()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	return m.run(ctx, form, in)
}

// run starts a child with nothing of the application's: no environment, no folder of its own,
// and where the kernel lets it a network of its own, which leads nowhere.
func (m *Maker) run(ctx context.Context, form string, in io.Reader) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, m.patience())
	defer cancel()
	out, err := m.start(ctx, form, in, syscall.CLONE_NEWUSER|syscall.CLONE_NEWNET)
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EINVAL) {
		m.said.Do(func() { m.Log.Warn("previews run without a network namespace of their own", "error", err) })
		out, err = m.start(ctx, form, in, 0)
	}
	return out, err
}

func (m *Maker) start(ctx context.Context, form string, in io.Reader, apart uintptr) ([]byte, error) {
	arg := slices.Clone(m.Command[1:])
	if form != Shown {
		arg = append(arg, form)
	}
	c := exec.CommandContext(ctx, m.Command[0], arg...)
	c.Env, c.Dir = []string{"GOMAXPROCS=2"}, "/"
	c.Stdin = in
	out, said := &bounded{most: MaxOutput}, &bounded{most: 4 << 10}
	c.Stdout, c.Stderr = out, said
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: apart, Setpgid: true}
	c.WaitDelay = time.Second
	if err := c.Start(); err != nil {
		return nil, fmt.Errorf("preview: starting the confined process: %w", err)
	}
	err := c.Wait()
	why, _, _ := strings.Cut(strings.TrimSpace(string(said.kept)), "\n")
	switch {
	case out.over:
		return nil, &Fault{"the confined process gave more than it may"}
	case err == nil:
		return out.kept, nil
	case errors.Is(context.Cause(ctx), context.Canceled): // nobody waits for it any more
		return nil, context.Cause(ctx)
	case context.Cause(ctx) != nil:
		return nil, &Fault{fmt.Sprintf("the confined process took longer than %s and was ended", m.patience())}
	case c.ProcessState != nil && !c.ProcessState.Exited():
		return nil, &Fault{fmt.Sprintf("the confined process was ended by the system (%s)", c.ProcessState)}
	case strings.Contains(why, "out of memory") || strings.Contains(why, "cannot allocate"):
		return nil, &Fault{"the confined process used more memory than it may, and ended"}
	case why == "":
		return nil, &Fault{fmt.Sprintf("the confined process ended without a word (%s)", c.ProcessState)}
	}
	return nil, &Fault{strings.TrimPrefix(strings.TrimPrefix(why, "crosswind: "), "preview: ")}
}

// bounded keeps so many bytes, and takes no more. It is no [bytes.Buffer]: that would be read into
// without bounds.
type bounded struct {
	kept []byte
	most int
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	n := min(len(p), b.most-len(b.kept))
	b.kept = append(b.kept, p[:n]...)
	if n < len(p) {
		b.over = true
		return n, errors.New("preview: more than is taken")
	}
	return n, nil
}
