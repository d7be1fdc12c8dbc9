// Package authority asks a time stamp authority (RFC 3161) over HTTP.
package authority

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"time"

	"crosswind/core/stamp"
)

// Client asks one authority.
type Client struct {
	URL   string
	PEM   []byte // the certificates that it is trusted by
	roots *x509.CertPool
	http  http.Client
}

// skew is how far an authority's clock may be from ours.
const skew = 10 * time.Minute

// New makes a client of an authority that is trusted by the certificates of a PEM file.
func New(url, roots string) (*Client, error) {
	b, err := os.ReadFile(roots)
	if err != nil {
		return nil, fmt.Errorf("the certificates of the time stamp authority: %w", err)
	}
	c := &Client{URL: url, PEM: b, roots: x509.NewCertPool(), http: http.Client{Timeout: 15 * time.Second}}
	if !c.roots.AppendCertsFromPEM(b) {
		return nil, fmt.Errorf("%s holds no certificate in PEM", roots)
	}
	return c, nil
}

// Stamp asks for a stamp of a message, and gives it with the whole response, after checking it: its signature, that it is of
// the message and of this request, by whom the roots trust, and not of another time.
func (c *Client) Stamp(ctx context.Context, message []byte) (*stamp.Stamp, []byte, error) {
	s, b, err := c.ask(ctx, message)
	if err != nil {
		return nil, nil, fmt.Errorf("the time stamp authority %s: %w", c.URL, err)
	}
	return s, b, nil
}

func (c *Client) ask(ctx context.Context, message []byte) (*stamp.Stamp, []byte, error) {
	q, nonce, err := stamp.Request(message)
	if err != nil {
		return nil, nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.URL, bytes.NewReader(q))
	if err != nil {
		return nil, nil, err
	}
	req.Header.Set("Content-Type", "application/timestamp-query")
	res, err := c.http.Do(req)
	if err != nil {
		return nil, nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, nil, fmt.Errorf("it answers %s", res.Status)
	}
	b, err := io.ReadAll(io.LimitReader(res.Body, stamp.MaxSize+1))
	if err != nil {
		return nil, nil, err
	}
	s, err := stamp.Parse(b)
	if err == nil {
		err = errors.Join(s.Of(message), s.Trust(c.roots))
	}
	switch {
	case err != nil:
		return nil, nil, err
	case s.Nonce == nil || s.Nonce.Cmp(nonce) != 0:
		return nil, nil, errors.New("it answers another request")
	case time.Since(s.At).Abs() > skew:
		return nil, nil, fmt.Errorf("it says that it is %s, more than %v from this machine's clock", s.At.Format(time.RFC3339), skew)
	}
	return s, b, nil
}
