package vault

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// openBucket opens a vault in an object store that runs in this process.
func openBucket(t *testing.T) (*Bucket, *s3mem.Backend, string) {
	t.Helper()
	backend := s3mem.New()
	if err := backend.CreateBucket("evidence"); err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(gofakes3.New(backend).Server())
	t.Cleanup(srv.Close)
	t.Setenv("CROSSWIND_S3_KEY", "key")
	t.Setenv("CROSSWIND_S3_SECRET", "secret")
	host := strings.TrimPrefix(srv.URL, "http://")
	v, err := OpenBucket(context.Background(), "s3://"+host+"/evidence", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return v, backend, host
}

// An object store keeps the same bytes under the same names as a folder does.
func TestBucketKeepsWhatAFolderKeeps(t *testing.T) {
	v, backend, host := openBucket(t)
	big := bytes.Repeat([]byte("0123456789abcdef"), 1<<20) // more than one part
	folder, _ := open(t)
	for _, content := range [][]byte{nil, []byte("abc"), big, []byte("abc")} {
		want, err := folder.Put(context.Background(), bytes.NewReader(content), nil)
		if err != nil {
			t.Fatal(err)
		}
		told := 0
		set, err := v.Put(context.Background(), bytes.NewReader(content), func(n int) { told += n })
		if err != nil {
			t.Fatal(err)
		}
		_, _, sum := set.Hex()
		if set.SHA256 != want.SHA256 || told != len(content) || !v.Has(sum, int64(len(content))) || v.Has(sum, int64(len(content))+1) {
			t.Errorf("%d bytes: told %d", len(content), told)
		}
		b, err := v.Open(sum)
		if err != nil {
			t.Fatal(err)
		}
		st, err := b.Stat()
		if err != nil || st.Size() != int64(len(content)) {
			t.Errorf("%v, %v", st, err)
		}
		if len(content) > 2 {
			at := make([]byte, 2)
			if _, err := b.ReadAt(at, int64(len(content))-2); err != nil || !bytes.Equal(at, content[len(content)-2:]) {
				t.Errorf("%q, %v", at, err)
			}
		}
		got, err := io.ReadAll(b)
		if err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes back of %d: %v", len(got), len(content), err)
		}
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	}
	list, err := backend.ListBucket("evidence", nil, gofakes3.ListBucketPage{})
	if err != nil || len(list.Contents) != 3 {
		t.Errorf("%d objects, %v", len(list.Contents), err)
	}
	for _, bad := range []string{"s3://" + host, "s3://" + host + "/none"} {
		if _, err := OpenBucket(context.Background(), bad, t.TempDir()); err == nil {
			t.Errorf("%s was opened", bad)
		}
	}
}

func TestBucketNamesAlteredObjectsAndKeepsNoHalves(t *testing.T) {
	v, backend, _ := openBucket(t)
	if _, err := backend.PutObject("evidence", key(abc), map[string]string{"Last-Modified": "Mon, 02 Jan 2006 15:04:05 GMT"}, strings.NewReader("abd"), 3, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Put(context.Background(), strings.NewReader("abc"), nil); err == nil || !strings.Contains(err.Error(), "altered") {
		t.Error(err)
	}
	broken := io.MultiReader(strings.NewReader("xyz"), iotest.ErrReader(errors.New("cable pulled")))
	if _, err := v.Put(context.Background(), broken, nil); err == nil || !strings.Contains(err.Error(), "after 3 bytes: cable pulled") {
		t.Error(err)
	}
	list, err := backend.ListBucket("evidence", nil, gofakes3.ListBucketPage{})
	if err != nil || len(list.Contents) != 1 {
		t.Errorf("%d objects, %v", len(list.Contents), err)
	}
	if _, err := v.Open("../../etc/passwd"); err == nil {
		t.Error("a path was taken for a digest")
	}
}
