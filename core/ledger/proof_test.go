package ledger

import (
	"encoding/hex"
	"errors"
	"fmt"
	"testing"

	"golang.org/x/mod/sumdb/tlog"
)

// Proofs of trees of up to 40 leaves, every one: they hold, those with anything changed do not, and an implementation of another
// origin (the checksum database's of golang.org/x/mod) gives and accepts the same.
func TestProofsAgainstAnotherImplementation(t *testing.T) {
	const most = 40
	var leaves Leaves
	var tree Tree
	var stored []tlog.Hash
	reader := tlog.HashReaderFunc(func(at []int64) (out []tlog.Hash, err error) {
		for _, i := range at {
			out = append(out, stored[i])
		}
		return out, nil
	})
	line := func(i int) []byte { return fmt.Appendf(nil, "entry %d", i) }
	var roots []string
	for n := 1; n <= most; n++ {
		leaves.Add(line(n - 1))
		tree.Add(line(n - 1))
		hashes, err := tlog.StoredHashes(int64(n-1), line(n-1), reader)
		if err != nil {
			t.Fatal(err)
		}
		stored = append(stored, hashes...)
		root, err := tlog.TreeHash(int64(n), reader)
		if err != nil || hex.EncodeToString(root[:]) != tree.Root() {
			t.Fatalf("%d leaves: %x, %v", n, root, err)
		}
		roots = append(roots, tree.Root())
		for m := range n {
			proof, err := leaves.Inclusion(m)
			want, err2 := tlog.ProveRecord(int64(n), int64(m), reader)
			if err != nil || err2 != nil || fmt.Sprint(proof) != said(want) {
				t.Fatalf("leaf %d of %d: %v, %v; want %s, %v", m, n, proof, err, said(want), err2)
			}
			if err := CheckInclusion(line(m), int64(m), int64(n), tree.Root(), proof); err != nil {
				t.Errorf("leaf %d of %d: %v", m, n, err)
			}
			for what, err := range map[string]error{
				"another line":    CheckInclusion(line(m+1), int64(m), int64(n), tree.Root(), proof),
				"another leaf":    CheckInclusion(line(m), int64(m)+1, int64(n), tree.Root(), proof),
				"another root":    CheckInclusion(line(m), int64(m), int64(n), hash(leaves[0])[:62]+"zz", proof),
				"a longer proof":  CheckInclusion(line(m), int64(m), int64(n), tree.Root(), append(proof[:len(proof):len(proof)], proof...)),
				"one hash more":   CheckInclusion(line(m), int64(m), int64(n), tree.Root(), append(proof[:len(proof):len(proof)], tree.Root())),
				"no leaf":         CheckInclusion(line(m), -1, int64(n), tree.Root(), proof),
				"what is no hash": CheckInclusion(line(m), int64(m), int64(n), tree.Root(), []string{"00"}),
			} {
				if !errors.Is(err, ErrProof) && !(what == "a longer proof" && len(proof) == 0) {
					t.Errorf("leaf %d of %d with %s: %v", m, n, what, err)
				}
			}
		}
		for m := 1; m <= n; m++ {
			proof, err := leaves.Consistency(m)
			want, err2 := tlog.ProveTree(int64(n), int64(m), reader)
			if err != nil || err2 != nil || fmt.Sprint(proof) != said(want) {
				t.Fatalf("%d of %d: %v, %v; want %s, %v", m, n, proof, err, said(want), err2)
			}
			if err := CheckConsistency(int64(m), int64(n), roots[m-1], tree.Root(), proof); err != nil {
				t.Errorf("%d of %d: %v", m, n, err)
			}
			for what, err := range map[string]error{
				"another first root": CheckConsistency(int64(m), int64(n), hash(leaves[n-1])[:63]+"x", tree.Root(), proof),
				"another root":       CheckConsistency(int64(m), int64(n), roots[m-1], hash(leaves[0])[:63]+"x", proof),
				"one hash more":      CheckConsistency(int64(m), int64(n), roots[m-1], tree.Root(), append(proof[:len(proof):len(proof)], tree.Root())),
			} {
				if !errors.Is(err, ErrProof) {
					t.Errorf("%d of %d with %s: %v", m, n, what, err)
				}
			}
		}
	}
	if _, err := leaves.Inclusion(most); err == nil {
		t.Error("of a leaf that there is not")
	}
	if _, err := leaves.Consistency(most + 1); err == nil {
		t.Error("of more leaves than there are")
	}
}

func said[T ~[]tlog.Hash](p T) string {
	out := []string{}
	for _, h := range p {
		out = append(out, hex.EncodeToString(h[:]))
	}
	return fmt.Sprint(out)
}
