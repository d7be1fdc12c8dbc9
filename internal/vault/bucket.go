package vault

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"crosswind/core/digest"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Bucket is a vault in a bucket of an S3-compatible object store. The blob with
// the SHA-256 abcd… is the object sha256/ab/abcd….
type Bucket struct {
	client  *minio.Client
	bucket  string
	scratch string
}

// OpenBucket opens the vault in the bucket at s3://HOST:PORT/BUCKET, or s3s:// for
// a store that is reached by TLS. Its keys are in CROSSWIND_S3_KEY and
// CROSSWIND_S3_SECRET.
func OpenBucket(ctx context.Context, address, scratch string) (*Bucket, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || strings.Trim(u.Path, "/") == "" {
		return nil, fmt.Errorf("the vault's address %q is not like s3://HOST:PORT/BUCKET", address)
	}
	c, err := minio.New(u.Host, &minio.Options{Secure: u.Scheme == "s3s", Creds: credentials.NewStaticV4(os.Getenv("CROSSWIND_S3_KEY"), os.Getenv("CROSSWIND_S3_SECRET"), "")})
	if err != nil {
		return nil, fmt.Errorf("the vault at %s: %w", address, err)
	}
	b := &Bucket{c, strings.Trim(u.Path, "/"), scratch}
	there, err := c.BucketExists(ctx, b.bucket)
	if err != nil {
		return nil, fmt.Errorf("the vault at %s: %w", address, err)
	}
	if !there {
		return nil, fmt.Errorf("the vault at %s: there is no such bucket", address)
	}
	return b, os.MkdirAll(scratch, 0o700)
}

func key(sha256 string) string { return "sha256/" + sha256[:2] + "/" + sha256 }

// Put keeps what r holds. An object appears whole or not at all; it is read
// back and hashed again after it was sent.
func (v *Bucket) Put(ctx context.Context, r io.Reader, progress func(n int)) (*digest.Set, error) {
	tmp, err := CreateOwned(v.scratch, "incoming-*")
	if err != nil {
		return nil, Writing(err)
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	w, to := digest.NewWriter(), into{tmp, new(int64)}
	n, err := io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(to, w)}, told{ctx, r, progress}, make([]byte, 256<<10))
	set := w.Sum()
	if err == nil {
		err = to.end(n)
	}
	if err != nil {
		return set, fmt.Errorf("after %d bytes: %w", n, err)
	}
	_, _, sum := set.Hex()
	_, err = v.client.StatObject(ctx, v.bucket, key(sum), minio.StatObjectOptions{})
	if err != nil && minio.ToErrorResponse(err).Code != minio.NoSuchKey {
		return set, fmt.Errorf("the vault: %s: %w", sum, err)
	}
	if err != nil { // it is not there yet; what is there is never written over
		if _, err := tmp.Seek(0, io.SeekStart); err != nil {
			return set, Writing(err)
		}
		// The digest is checked below, so the chunks need none of their own.
		_, err = v.client.PutObject(ctx, v.bucket, key(sum), tmp, set.Size, minio.PutObjectOptions{DisableContentSha256: true})
		if err != nil {
			return set, Writing(err)
		}
	}
	kept, err := v.client.GetObject(ctx, v.bucket, key(sum), minio.GetObjectOptions{})
	if err != nil {
		return set, Writing(err)
	}
	defer kept.Close()
	again, err := digest.Reader(told{ctx, kept, nil})
	if err != nil {
		return set, fmt.Errorf("reading back from the vault: %w", err)
	}
	if again.SHA256 != set.SHA256 {
		return set, fmt.Errorf("the vault's copy of %s has been altered; it is left as it is", sum)
	}
	return set, nil
}

// Take sends a file to the bucket.
func (v *Bucket) Take(ctx context.Context, path string, set *digest.Set) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("the vault: %w", err)
	}
	defer f.Close()
	again, err := v.Put(ctx, f, nil)
	if err == nil && again.SHA256 != set.SHA256 {
		err = fmt.Errorf("%s changed while it was taken into the vault", path)
	}
	if err != nil {
		return err
	}
	return os.Remove(path)
}

// Has reports whether an object is there with the given size.
func (v *Bucket) Has(sha256 string, size int64) bool {
	if checkName(sha256) != nil {
		return false
	}
	st, err := v.client.StatObject(context.Background(), v.bucket, key(sha256), minio.StatObjectOptions{})
	return err == nil && st.Size == size
}

// Open opens an object. Read in order it streams; the first ReadAt fetches all
// of it into a scratch file, since a database is read at thousands of places.
func (v *Bucket) Open(sha256 string) (Blob, error) {
	if err := checkName(sha256); err != nil {
		return nil, err
	}
	st, err := v.client.StatObject(context.Background(), v.bucket, key(sha256), minio.StatObjectOptions{})
	if err != nil {
		return nil, fmt.Errorf("the vault: %s: %w", sha256, err)
	}
	o, err := v.client.GetObject(context.Background(), v.bucket, key(sha256), minio.GetObjectOptions{})
	if err != nil {
		return nil, fmt.Errorf("the vault: %s: %w", sha256, err)
	}
	return &object{Object: o, v: v, info: objectInfo{sha256, st.Size, st.LastModified}}, nil
}

type object struct {
	*minio.Object
	v     *Bucket
	info  objectInfo
	once  sync.Once
	whole *os.File
	err   error
}

func (o *object) Stat() (fs.FileInfo, error) { return o.info, nil }

func (o *object) fetch() {
	o.whole, o.err = os.CreateTemp(o.v.scratch, "blob-")
	if o.err != nil {
		return
	}
	o.err = os.Remove(o.whole.Name()) // it goes with the last who has it open
	r, err := o.v.client.GetObject(context.Background(), o.v.bucket, key(o.info.sha256), minio.GetObjectOptions{})
	if err == nil {
		_, err = io.Copy(o.whole, r)
		r.Close()
	}
	o.err = errors.Join(o.err, err)
}

// ReadAt reads at an offset.
func (o *object) ReadAt(p []byte, off int64) (int, error) {
	o.once.Do(o.fetch)
	if o.err != nil {
		return 0, fmt.Errorf("the vault: %s: %w", o.info.sha256, o.err)
	}
	return o.whole.ReadAt(p, off)
}

// Close closes the object and drops what was fetched of it.
func (o *object) Close() error {
	err := o.Object.Close()
	if o.whole != nil {
		err = errors.Join(err, o.whole.Close())
	}
	return err
}

type objectInfo struct {
	sha256  string
	size    int64
	changed time.Time
}

func (i objectInfo) Name() string       { return i.sha256 }
func (i objectInfo) Size() int64        { return i.size }
func (i objectInfo) Mode() fs.FileMode  { return 0o400 }
func (i objectInfo) ModTime() time.Time { return i.changed }
func (i objectInfo) IsDir() bool        { return false }
func (i objectInfo) Sys() any           { return nil }
