package store

import (
	"context"
	"fmt"

	"crosswind/core/ledger"
)

// LedgerProof proves of a ledger, by its head as it is signed now, that it holds an entry, or that an earlier head is its
// beginning. It is what is handed to who checks it.
type LedgerProof struct {
	Head     *ledger.Head `json:"head"`
	Entry    int64        `json:"entry,omitempty"`   // the number of the entry that is proved, from 1
	Line     string       `json:"line,omitempty"`    // and its line, without the line feed
	Earlier  *ledger.Head `json:"earlier,omitempty"` // the head of which it is proved that it is the beginning
	Proof    []string     `json:"proof"`             // SHA-256, hex
	Standard string       `json:"standard"`          // by which the proof is made
}

// ProveEntry proves that the ledger holds an entry.
func (s *Store) ProveEntry(ctx context.Context, book string, seq int64) (*LedgerProof, error) {
	p, leaves, err := s.leaves(ctx, book, seq)
	if err != nil {
		return nil, err
	}
	if seq < 1 || seq > int64(len(leaves)) {
		return nil, fmt.Errorf("entry %d: %w", seq, ErrNotFound)
	}
	p.Entry, p.Standard = seq, "RFC 6962, section 2.1.1: the entry is leaf entry-1 of a tree of head.size leaves with the root head.root"
	if p.Proof, err = leaves.Inclusion(int(seq - 1)); err != nil {
		return nil, err
	}
	return p, ledger.CheckInclusion([]byte(p.Line), seq-1, p.Head.Size, p.Head.Root, p.Proof)
}

// ProveHead proves that the ledger as it is goes on from an earlier signed head, the last of those of that size.
func (s *Store) ProveHead(ctx context.Context, book string, size int64) (*LedgerProof, error) {
	heads, err := s.Heads(book)
	if err != nil {
		return nil, err
	}
	var earlier *ledger.Head
	for i := range heads {
		if heads[i].Size == size {
			earlier = &heads[i]
		}
	}
	if earlier == nil {
		return nil, fmt.Errorf("a head of %d entries: %w", size, ErrNotFound)
	}
	p, leaves, err := s.leaves(ctx, book, 0)
	if err != nil {
		return nil, err
	}
	p.Earlier, p.Standard = earlier, "RFC 6962, section 2.1.2: the tree of earlier.size leaves with the root earlier.root is the beginning of that of head.size leaves with the root head.root"
	if p.Proof, err = leaves.Consistency(int(size)); err != nil {
		return nil, err
	}
	return p, ledger.CheckConsistency(earlier.Size, p.Head.Size, earlier.Root, p.Head.Root, p.Proof)
}

// leaves reads a ledger as far as its head as it is signed now, and one of its lines.
func (s *Store) leaves(ctx context.Context, book string, seq int64) (*LedgerProof, ledger.Leaves, error) {
	head, err := s.SignedHead(ctx, book)
	if err != nil {
		return nil, nil, err
	}
	p := &LedgerProof{Head: head}
	var leaves ledger.Leaves
	for line, err := range s.Lines(ctx, book) {
		if err != nil {
			return nil, nil, err
		}
		if int64(len(leaves)) == head.Size { // written since
			break
		}
		if leaves.Add(line); int64(len(leaves)) == seq {
			p.Line = string(line)
		}
	}
	return p, leaves, nil
}
