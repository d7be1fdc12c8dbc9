package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math/bits"
)

// Leaves are the hashes of the lines of a ledger, as its Merkle tree has them, in their order.
type Leaves [][sha256.Size]byte

// Add appends the hash of a line.
func (l *Leaves) Add(line []byte) { *l = append(*l, sha256.Sum256(append([]byte{0}, line...))) }

// root is the tree hash of l, which is not empty.
func (l Leaves) root() [sha256.Size]byte {
	if len(l) == 1 {
		return l[0]
	}
	k := split(len(l))
	return node(l[:k].root(), l[k:].root())
}

// split is the largest power of two below n, which is 2 or more.
func split(n int) int { return 1 << (bits.Len(uint(n-1)) - 1) }

// Inclusion is the proof that the tree of l holds its leaf m, from 0: hashes in hexadecimal (RFC 6962, section 2.1.1).
func (l Leaves) Inclusion(m int) ([]string, error) {
	if m < 0 || m >= len(l) {
		return nil, fmt.Errorf("ledger: there is no leaf %d of %d", m, len(l))
	}
	out := []string{}
	for len(l) > 1 {
		k := split(len(l))
		if m < k {
			out = append(out, hash(l[k:].root()))
			l = l[:k]
		} else {
			out = append(out, hash(l[:k].root()))
			l, m = l[k:], m-k
		}
	}
	for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 { // from the leaf to the root
		out[i], out[j] = out[j], out[i]
	}
	return out, nil
}

// Consistency is the proof that the tree of the first m leaves of l is the beginning of that of all of them (RFC 6962, section
// 2.1.2).
func (l Leaves) Consistency(m int) ([]string, error) {
	if m < 1 || m > len(l) {
		return nil, fmt.Errorf("ledger: there is no tree of %d of %d leaves", m, len(l))
	}
	return l.subproof(m, true), nil
}

func (l Leaves) subproof(m int, whole bool) []string {
	if m == len(l) {
		if whole {
			return []string{}
		}
		return []string{hash(l.root())}
	}
	k := split(len(l))
	if m <= k {
		return append(l[:k].subproof(m, whole), hash(l[k:].root()))
	}
	return append(l[k:].subproof(m-k, false), hash(l[:k].root()))
}

func hash(h [sha256.Size]byte) string { return hex.EncodeToString(h[:]) }

// ErrProof is of a proof that does not hold.
var ErrProof = errors.New("ledger: the proof does not hold")

// CheckInclusion checks by a proof that a line is leaf m, from 0, of the tree of size leaves that has a root (RFC 9162, section
// 2.1.3.2).
func CheckInclusion(line []byte, m, size int64, root string, proof []string) error {
	if m < 0 || m >= size {
		return fmt.Errorf("%w: there is no leaf %d of %d", ErrProof, m, size)
	}
	r := sha256.Sum256(append([]byte{0}, line...))
	fn, sn := m, size-1
	for _, s := range proof {
		p, err := parseHash(s)
		if err != nil {
			return err
		}
		if sn == 0 {
			return fmt.Errorf("%w: it is too long", ErrProof)
		}
		if fn&1 == 1 || fn == sn {
			r = node(p, r)
			for fn&1 == 0 && fn != 0 {
				fn, sn = fn>>1, sn>>1
			}
		} else {
			r = node(r, p)
		}
		fn, sn = fn>>1, sn>>1
	}
	if sn != 0 || hash(r) != root {
		return fmt.Errorf("%w: it leads to %s", ErrProof, hash(r))
	}
	return nil
}

// CheckConsistency checks by a proof that the tree of m leaves with the first root is the beginning of that of n leaves with the
// second (RFC 9162, section 2.1.4.2).
func CheckConsistency(m, n int64, first, second string, proof []string) error {
	switch {
	case m < 1 || m > n:
		return fmt.Errorf("%w: %d leaves are not the beginning of %d", ErrProof, m, n)
	case m == n && len(proof) == 0 && first == second:
		return nil
	case m == n || len(proof) == 0:
		return fmt.Errorf("%w: of trees of the same size the roots are the same, and of others there is something to prove", ErrProof)
	}
	var hashes [][sha256.Size]byte
	if m&(m-1) == 0 {
		h, err := parseHash(first)
		if err != nil {
			return err
		}
		hashes = append(hashes, h)
	}
	for _, s := range proof {
		h, err := parseHash(s)
		if err != nil {
			return err
		}
		hashes = append(hashes, h)
	}
	fn, sn := m-1, n-1
	for fn&1 == 1 {
		fn, sn = fn>>1, sn>>1
	}
	fr, sr := hashes[0], hashes[0]
	for _, c := range hashes[1:] {
		if sn == 0 {
			return fmt.Errorf("%w: it is too long", ErrProof)
		}
		if fn&1 == 1 || fn == sn {
			fr, sr = node(c, fr), node(c, sr)
			for fn&1 == 0 && fn != 0 {
				fn, sn = fn>>1, sn>>1
			}
		} else {
			sr = node(sr, c)
		}
		fn, sn = fn>>1, sn>>1
	}
	if sn != 0 || hash(fr) != first || hash(sr) != second {
		return fmt.Errorf("%w: it leads to %s and %s", ErrProof, hash(fr), hash(sr))
	}
	return nil
}

func parseHash(s string) (h [sha256.Size]byte, err error) {
	b, err := hex.DecodeString(s)
	if err != nil || len(b) != len(h) {
		return h, fmt.Errorf("%w: %q is not a SHA-256", ErrProof, s)
	}
	copy(h[:], b)
	return h, nil
}
