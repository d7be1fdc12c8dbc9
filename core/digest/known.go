package digest

import (
	"bufio"
	"bytes"
	"container/heap"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"math/bits"
	"slices"
)

// A known-file set is the digests of files that somebody has seen before. It is
// built from lists of any length in bounded memory, and looked up on the disk.
//
// Its form: the digests, all of one length, sorted and without repeats; a table
// of 2^bits + 1 numbers of 8 bytes, the index of the first digest whose leading
// bits are at least its own; and a trailer of 24 bytes: the magic, the digests'
// length and bits in 4 bytes each, and their number in 8. Big-endian.
const (
	knownMagic   = "CWKNOWN1"
	knownTrailer = 24
	maxBits      = 22
)

// KnownLine is a line of a list of known files.
type KnownLine struct {
	Number int64  // from 1
	Sum    []byte // the digest that it holds, nil if it holds none; good until the next line
}

// KnownLines reads a list of known files: a digest a line, a manifest, or CSV
// with the digest in any column and other columns beside it. The first line that
// holds a digest settles its kind: the longest of MD5, SHA-1 and SHA-256 in it.
// A line that is longer than 64 KiB is taken for one without a digest.
func KnownLines(r io.Reader) iter.Seq2[KnownLine, error] {
	return func(yield func(KnownLine, error) bool) {
		br := bufio.NewReaderSize(r, maxLine)
		length := 0 // of a digest in hexadecimal, once it is settled
		sum := make([]byte, 32)
		for n := int64(1); ; n++ {
			line, err := br.ReadSlice('\n')
			long := errors.Is(err, bufio.ErrBufferFull)
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = br.ReadSlice('\n')
			}
			if err != nil && err != io.EOF {
				yield(KnownLine{}, fmt.Errorf("line %d: %w", n, err))
				return
			}
			if len(line) == 0 {
				return
			}
			l := KnownLine{Number: n}
			if !long {
				if length == 0 {
					length = longestDigest(line)
				}
				if d := digestIn(line, length); d != nil {
					hex.Decode(sum, d) // digestIn gives hexadecimal digits only
					l.Sum = sum[:length/2]
				}
			}
			if !yield(l, nil) || err == io.EOF {
				return
			}
		}
	}
}

// words are runs of letters and digits; a digest is one of them.
func words(line []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for at := 0; at < len(line); {
			for at < len(line) && !isAlnum[line[at]] {
				at++
			}
			from := at
			for at < len(line) && isAlnum[line[at]] {
				at++
			}
			if at > from && !yield(line[from:at]) {
				return
			}
		}
	}
}

var isAlnum, isHex = classes()

func classes() (alnum, hexa [256]bool) {
	for c := range 256 {
		b := byte(c)
		hexa[c] = b >= '0' && b <= '9' || b >= 'a' && b <= 'f' || b >= 'A' && b <= 'F'
		alnum[c] = hexa[c] || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80
	}
	return alnum, hexa
}

func allHex(b []byte) bool {
	for _, c := range b {
		if !isHex[c] {
			return false
		}
	}
	return true
}

func longestDigest(line []byte) (length int) {
	for w := range words(line) {
		if n := len(w); (n == 32 || n == 40 || n == 64) && n > length && allHex(w) {
			length = n
		}
	}
	return length
}

func digestIn(line []byte, length int) []byte {
	if length == 0 {
		return nil
	}
	for w := range words(line) {
		if len(w) == length && allHex(w) {
			return w
		}
	}
	return nil
}

// runLength is how many digests are sorted at a time: at most 32 MiB.
const runLength = 1 << 20

// BuildKnown writes the known-file set of the list in r to w. scratch takes what
// is sorted on the way, as many bytes as the digests have. It returns how many
// digests the set has, their length in bytes, and how many lines held none.
func BuildKnown(r io.Reader, w io.Writer, scratch interface {
	io.Writer
	io.ReaderAt
}) (digests int64, length int, skipped int64, err error) {
	var flat []byte
	var ends []int64 // of the sorted runs in scratch
	spill := func() error {
		sortDigests(flat, length)
		if _, err := scratch.Write(flat); err != nil {
			return fmt.Errorf("sorting a list of known files: %w", err)
		}
		from := int64(0)
		if len(ends) > 0 {
			from = ends[len(ends)-1]
		}
		ends = append(ends, from+int64(len(flat)))
		flat = flat[:0]
		return nil
	}
	for l, err := range KnownLines(r) {
		if err != nil {
			return 0, 0, 0, err
		}
		if l.Sum == nil {
			skipped++
			continue
		}
		length = len(l.Sum)
		if flat = append(flat, l.Sum...); len(flat) == runLength*length {
			if err := spill(); err != nil {
				return 0, 0, 0, err
			}
		}
	}
	if length == 0 {
		return 0, 0, skipped, errors.New("no line of the list holds an MD5, SHA-1 or SHA-256 in hexadecimal")
	}
	if err := spill(); err != nil {
		return 0, 0, 0, err
	}
	digests, err = mergeKnown(scratch, ends, length, w)
	return digests, length, skipped, err
}

// sortDigests sorts digests that lie one behind the other.
func sortDigests(flat []byte, length int) {
	n := len(flat) / length
	switch length {
	case 16:
		sortAs[[16]byte](flat, n)
	case 20:
		sortAs[[20]byte](flat, n)
	default:
		sortAs[[32]byte](flat, n)
	}
}

func sortAs[T interface{ [16]byte | [20]byte | [32]byte }](flat []byte, n int) {
	all := make([]T, n)
	for i := range all {
		all[i] = T(flat[i*len(all[i]):])
	}
	slices.SortFunc(all, func(a, b T) int { return bytes.Compare(bytesOf(&a), bytesOf(&b)) })
	for i := range all {
		copy(flat[i*len(all[i]):], bytesOf(&all[i]))
	}
}

func bytesOf[T interface{ [16]byte | [20]byte | [32]byte }](a *T) []byte {
	switch a := any(a).(type) {
	case *[16]byte:
		return a[:]
	case *[20]byte:
		return a[:]
	case *[32]byte:
		return a[:]
	}
	return nil
}

// sortedRun is a run of sorted digests that is being merged.
type sortedRun struct {
	r   *bufio.Reader
	cur []byte
}

type runHeap []*sortedRun

func (h runHeap) Len() int           { return len(h) }
func (h runHeap) Less(i, j int) bool { return bytes.Compare(h[i].cur, h[j].cur) < 0 }
func (h runHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *runHeap) Push(x any)        { *h = append(*h, x.(*sortedRun)) }
func (h *runHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

func mergeKnown(scratch io.ReaderAt, ends []int64, length int, w io.Writer) (n int64, err error) {
	var h runHeap
	from, all := int64(0), int64(0)
	for _, end := range ends {
		s := &sortedRun{bufio.NewReaderSize(io.NewSectionReader(scratch, from, end-from), 64<<10), make([]byte, length)}
		if _, err := io.ReadFull(s.r, s.cur); err == nil {
			h = append(h, s)
		}
		from, all = end, end/int64(length)
	}
	heap.Init(&h)
	nbits := min(maxBits, max(8, bits.Len64(uint64(all))-3))
	table := make([]byte, 0, 8<<nbits+8)
	out := bufio.NewWriterSize(w, 256<<10)
	last := []byte(nil)
	for len(h) > 0 {
		s := h[0]
		if !bytes.Equal(s.cur, last) {
			for p := prefix(s.cur, nbits); uint64(len(table)/8) <= p; {
				table = binary.BigEndian.AppendUint64(table, uint64(n))
			}
			if _, err := out.Write(s.cur); err != nil {
				return 0, fmt.Errorf("writing a known-file set: %w", err)
			}
			last = append(last[:0], s.cur...)
			n++
		}
		if _, err := io.ReadFull(s.r, s.cur); err == io.EOF {
			heap.Pop(&h)
		} else if err != nil {
			return 0, fmt.Errorf("sorting a list of known files: %w", err)
		} else {
			heap.Fix(&h, 0)
		}
	}
	for len(table) < 8<<nbits+8 {
		table = binary.BigEndian.AppendUint64(table, uint64(n))
	}
	table = append(table, knownMagic...)
	table = binary.BigEndian.AppendUint32(table, uint32(length))
	table = binary.BigEndian.AppendUint32(table, uint32(nbits))
	table = binary.BigEndian.AppendUint64(table, uint64(n))
	out.Write(table)
	if err := out.Flush(); err != nil {
		return 0, fmt.Errorf("writing a known-file set: %w", err)
	}
	return n, nil
}

// prefix is the number that the leading bits of a digest make.
func prefix(sum []byte, nbits int) uint64 { return binary.BigEndian.Uint64(sum) >> (64 - nbits) }

// Known is an open known-file set. It may be used from many goroutines.
type Known struct {
	r      io.ReaderAt
	memory []byte // all digests, after Load
	table  []uint64
	length int
	nbits  int
	n      int64
}

// OpenKnown opens a known-file set of size bytes.
func OpenKnown(r io.ReaderAt, size int64) (*Known, error) {
	t := make([]byte, knownTrailer)
	if _, err := r.ReadAt(t, size-knownTrailer); size < knownTrailer || err != nil && err != io.EOF {
		return nil, fmt.Errorf("opening a known-file set: it is too short, or cannot be read: %w", err)
	}
	k := &Known{r: r, length: int(binary.BigEndian.Uint32(t[8:])), nbits: int(binary.BigEndian.Uint32(t[12:])), n: int64(binary.BigEndian.Uint64(t[16:]))}
	ok := string(t[:8]) == knownMagic && (k.length == 16 || k.length == 20 || k.length == 32) && k.nbits >= 1 && k.nbits <= maxBits && k.n >= 0 && k.n <= size
	if !ok || k.n*int64(k.length)+8<<k.nbits+8+knownTrailer != size {
		return nil, errors.New("opening a known-file set: it is none, or was cut off")
	}
	raw := make([]byte, 8<<k.nbits+8)
	if _, err := r.ReadAt(raw, k.n*int64(k.length)); err != nil && err != io.EOF {
		return nil, fmt.Errorf("opening a known-file set: %w", err)
	}
	k.table = make([]uint64, len(raw)/8)
	for i := range k.table {
		k.table[i] = binary.BigEndian.Uint64(raw[8*i:])
		if k.table[i] > uint64(k.n) || i > 0 && k.table[i] < k.table[i-1] {
			return nil, errors.New("opening a known-file set: its table is damaged")
		}
	}
	return k, nil
}

// Load reads the digests into memory, Len times Length bytes, for many look-ups.
func (k *Known) Load() error {
	all := make([]byte, k.n*int64(k.length))
	if _, err := k.r.ReadAt(all, 0); err != nil && err != io.EOF {
		return fmt.Errorf("reading a known-file set: %w", err)
	}
	k.r, k.memory = nil, all
	return nil
}

// Len is the number of digests in the set.
func (k *Known) Len() int64 { return k.n }

// Length is the length of its digests in bytes: 16, 20 or 32.
func (k *Known) Length() int { return k.length }

// window is how many digests are read at once.
const window = 64

// Has reports whether the set holds a digest of its kind.
func (k *Known) Has(sum []byte) (bool, error) {
	if len(sum) != k.length {
		return false, fmt.Errorf("a digest of %d bytes is not of this set's kind, which has %d", len(sum), k.length)
	}
	p := prefix(sum, k.nbits)
	lo, hi := int64(k.table[p]), int64(k.table[p+1])
	if k.memory != nil {
		return holds(k.memory[lo*int64(k.length):hi*int64(k.length)], sum), nil
	}
	room := make([]byte, window*k.length)
	for hi-lo > window { // many share the leading bits
		mid := (lo + hi) / 2
		b := room[:k.length]
		if _, err := k.r.ReadAt(b, mid*int64(k.length)); err != nil {
			return false, fmt.Errorf("reading a known-file set: %w", err)
		}
		if bytes.Compare(b, sum) <= 0 {
			lo = mid
		} else {
			hi = mid
		}
	}
	if lo == hi {
		return false, nil
	}
	b := room[:(hi-lo)*int64(k.length)]
	if _, err := k.r.ReadAt(b, lo*int64(k.length)); err != nil {
		return false, fmt.Errorf("reading a known-file set: %w", err)
	}
	return holds(b, sum), nil
}

// holds looks for a digest among sorted ones.
func holds(sorted, sum []byte) bool {
	n := len(sum)
	lo, hi := 0, len(sorted)/n
	for lo < hi {
		mid := (lo + hi) / 2
		switch bytes.Compare(sorted[mid*n:mid*n+n], sum) {
		case 0:
			return true
		case -1:
			lo = mid + 1
		default:
			hi = mid
		}
	}
	return false
}
