// Package vault keeps acquired bytes, addressed by their SHA-256, and never
// changes them: in a folder, or in a bucket of an S3-compatible object store.
// Whoever reads a blob checks it; either can be checked with ordinary tools.
package vault

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"syscall"

	"crosswind/core/digest"
)

// Vault keeps blobs.
type Vault interface {
	// Put reads r to its end, hashing it on the way, and keeps it. progress, if
	// not nil, is told of bytes as they come. What the vault cannot write is
	// ErrWrite; then, and when r breaks off, nothing of it is kept.
	Put(ctx context.Context, r io.Reader, progress func(n int)) (*digest.Set, error)
	// Take moves a file that was hashed while it was written into the vault; the
	// file is gone then.
	Take(ctx context.Context, path string, set *digest.Set) error
	// Open opens a blob for reading.
	Open(sha256 string) (Blob, error)
	// Has reports whether a blob is there with the given size.
	Has(sha256 string, size int64) bool
}

// Blob is an open blob.
type Blob interface {
	fs.File
	io.ReaderAt
}

// Open opens the vault at an address: the path of a folder, or
// s3://HOST:PORT/BUCKET, whose keys OpenBucket reads from the environment.
// scratch is a folder for what is on its way to a bucket.
func Open(ctx context.Context, address, scratch string) (Vault, error) {
	if strings.HasPrefix(address, "s3:") || strings.HasPrefix(address, "s3s:") {
		return OpenBucket(ctx, address, scratch)
	}
	return OpenFolder(address)
}

// ErrWrite is wrapped when the vault cannot be written to, and ErrFull when
// that is because there is no space left. What it keeps already stays.
var (
	ErrWrite = errors.New("the vault cannot be written to")
	ErrFull  = errors.New("its disk is full")
)

// Writing says of an error that it is the vault that could not be written to.
func Writing(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("%w: %w: %w", ErrWrite, ErrFull, err)
	}
	return fmt.Errorf("%w: %w", ErrWrite, err)
}

func checkName(sha256 string) error {
	if len(sha256) != 64 || strings.Trim(sha256, "0123456789abcdef") != "" {
		return fmt.Errorf("%q is not a SHA-256", sha256)
	}
	return nil
}

// told passes reads on, tells of them, and ends when the context does.
type told struct {
	ctx      context.Context
	r        io.Reader
	progress func(int)
}

func (t told) Read(p []byte) (int, error) {
	if err := t.ctx.Err(); err != nil {
		return 0, context.Cause(t.ctx)
	}
	n, err := t.r.Read(p)
	if t.progress != nil {
		t.progress(n)
	}
	return n, err
}

// Told returns a reader that ends when ctx does and tells progress of bytes.
func Told(ctx context.Context, r io.Reader, progress func(int)) io.Reader {
	return told{ctx, r, progress}
}
