// Package line keeps whoever reads from outside from waiting for ever: a line that
// brings nothing for a while is given up.
package line

import (
	"context"
	"errors"
	"io"
	"net/http"
	"time"
)

// ErrQuiet is wrapped when a line brought nothing for too long.
var ErrQuiet = errors.New("nothing came for too long")

// Transport gives answers whose bodies end with ErrQuiet when nothing of them comes for a
// time.
type Transport struct {
	http.RoundTripper
	Quiet time.Duration
}

// RoundTrip sends a request.
func (t Transport) RoundTrip(req *http.Request) (*http.Response, error) {
	ctx, cancel := context.WithCancelCause(req.Context())
	res, err := t.RoundTripper.RoundTrip(req.WithContext(ctx))
	if err != nil {
		cancel(nil)
		return nil, err
	}
	res.Body = &body{res.Body, ctx, cancel, t.Quiet}
	return res, nil
}

type body struct {
	io.ReadCloser
	ctx    context.Context
	cancel context.CancelCauseFunc
	quiet  time.Duration
}

func (b *body) Read(p []byte) (int, error) {
	alarm := time.AfterFunc(b.quiet, func() { b.cancel(ErrQuiet) })
	n, err := b.ReadCloser.Read(p)
	alarm.Stop()
	if err != nil && errors.Is(context.Cause(b.ctx), ErrQuiet) {
		err = ErrQuiet
	}
	return n, err
}

func (b *body) Close() error {
	defer b.cancel(nil)
	return b.ReadCloser.Close()
}

// Time is a time as somebody outside tells it: one that cannot be read is the zero time, so
// that it costs a thing its time, and not the list that it stands in.
type Time struct{ time.Time }

// UnmarshalJSON reads a time by RFC 3339.
func (t *Time) UnmarshalJSON(b []byte) error {
	if t.Time.UnmarshalJSON(b) != nil {
		t.Time = time.Time{}
	}
	return nil
}
