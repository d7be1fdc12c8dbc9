// Package digest hashes a stream once and remembers enough to find a change
// later: MD5, SHA-1 and SHA-256 of the whole, and a check value of each segment.
//
// It knows nothing of where bytes come from or are kept. MD5 (RFC 1321) and
// SHA-1 (FIPS 180-4) are there because reports and older tools ask for them;
// only SHA-256 (FIPS 180-4) is relied upon.
package digest

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"hash/crc32"
	"io"
	"sync"
	"sync/atomic"
)

// SegmentSize is the length in bytes of every segment but the last.
const SegmentSize = 1 << 20

// Set holds the digests of one stream.
type Set struct {
	Size   int64
	MD5    [md5.Size]byte
	SHA1   [sha1.Size]byte
	SHA256 [sha256.Size]byte
	// Segments holds the CRC-32C (Castagnoli, RFC 3720 section 12.1) of
	// each SegmentSize bytes, in order; empty for an empty stream. They tell
	// where a stream has changed. That it has changed, SHA-256 tells.
	Segments []uint32
}

// Hex returns MD5, SHA-1 and SHA-256 in lower-case hexadecimal.
func (s *Set) Hex() (md5, sha1, sha256 string) {
	return hex.EncodeToString(s.MD5[:]), hex.EncodeToString(s.SHA1[:]), hex.EncodeToString(s.SHA256[:])
}

// DifferingSegments returns the indices of segments that differ between s and
// t, counting a segment that only one of them has as differing.
func (s *Set) DifferingSegments(t *Set) []int {
	var out []int
	for i := range max(len(s.Segments), len(t.Segments)) {
		if i >= len(s.Segments) || i >= len(t.Segments) || s.Segments[i] != t.Segments[i] {
			out = append(out, i)
		}
	}
	return out
}

// chunk is the unit handed to the hashing goroutines; a Writer holds a few,
// so its memory is a few MiB whatever passes through it.
const (
	chunk  = 256 << 10
	chunks = 8
)

// Writer hashes what is written to it. Each digest has a goroutine of its own,
// so that the scheduler can spread them over the cores whichever of them this
// processor is slowest at. Sum must be called to release them.
type Writer struct {
	set    Set
	md5    hash.Hash
	sha1   hash.Hash
	sha256 hash.Hash
	seg    segmenter
	lanes  [4]chan *block
	free   chan *block
	cur    *block
	done   sync.WaitGroup
	closed bool
}

type block struct {
	buf  []byte
	left atomic.Int32 // lanes that still need it
}

// NewWriter returns a Writer ready for use.
func NewWriter() *Writer {
	w := &Writer{md5: md5.New(), sha1: sha1.New(), sha256: sha256.New(), free: make(chan *block, chunks)}
	w.seg = segmenter{out: &w.set.Segments}
	for i, h := range [...]io.Writer{w.md5, w.sha1, w.sha256, &w.seg} {
		w.lanes[i] = make(chan *block, chunks)
		w.done.Go(func() {
			for b := range w.lanes[i] {
				h.Write(b.buf)
				if b.left.Add(-1) == 0 {
					b.buf = b.buf[:0]
					w.free <- b
				}
			}
		})
	}
	for range chunks {
		w.free <- &block{}
	}
	return w
}

// segmenter appends the check value of each SegmentSize bytes to out.
type segmenter struct {
	crc uint32
	n   int
	out *[]uint32
}

func (s *segmenter) Write(p []byte) (int, error) {
	all := len(p)
	for len(p) > 0 {
		k := min(len(p), SegmentSize-s.n)
		s.crc = crc32.Update(s.crc, castagnoli, p[:k])
		p, s.n = p[k:], s.n+k
		if s.n == SegmentSize {
			s.end()
		}
	}
	return all, nil
}

func (s *segmenter) end() {
	if s.n > 0 {
		*s.out = append(*s.out, s.crc)
		s.crc, s.n = 0, 0
	}
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Write adds p to the stream. It never fails.
func (w *Writer) Write(p []byte) (int, error) {
	n := len(p)
	w.set.Size += int64(n)
	for len(p) > 0 {
		if w.cur == nil {
			w.cur = <-w.free
			if w.cur.buf == nil { // a short stream needs one block, not all
				w.cur.buf = make([]byte, 0, chunk)
			}
		}
		k := min(len(p), chunk-len(w.cur.buf))
		w.cur.buf = append(w.cur.buf, p[:k]...)
		p = p[k:]
		if len(w.cur.buf) == chunk {
			w.flush()
		}
	}
	return n, nil
}

func (w *Writer) flush() {
	w.cur.left.Store(int32(len(w.lanes)))
	for _, lane := range w.lanes {
		lane <- w.cur
	}
	w.cur = nil
}

// Sum ends the stream and returns its digests. The Writer must not be written
// to afterwards; calling Sum again returns the same Set.
func (w *Writer) Sum() *Set {
	if !w.closed {
		w.closed = true
		if w.cur != nil {
			w.flush()
		}
		for _, lane := range w.lanes {
			close(lane)
		}
		w.done.Wait()
		w.seg.end()
		w.md5.Sum(w.set.MD5[:0])
		w.sha1.Sum(w.set.SHA1[:0])
		w.sha256.Sum(w.set.SHA256[:0])
	}
	return &w.set
}

// Of hashes what is in memory.
func Of(b []byte) *Set {
	s := &Set{Size: int64(len(b)), MD5: md5.Sum(b), SHA1: sha1.Sum(b), SHA256: sha256.Sum256(b)}
	seg := segmenter{out: &s.Segments}
	seg.Write(b)
	seg.end()
	return s
}

// Reader hashes r to its end. On a read error the digests of what was read
// are returned with it.
func Reader(r io.Reader) (*Set, error) {
	w := NewWriter()
	_, err := io.Copy(struct{ io.Writer }{w}, r)
	return w.Sum(), err
}
