package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"crosswind/core/ledger"
	"crosswind/core/stamp"
)

// Stamper asks an authority for time stamps, and gives each with the response that holds it.
type Stamper interface {
	Stamp(ctx context.Context, message []byte) (*stamp.Stamp, []byte, error)
}

// HeadStamp is the time stamp of a signed head.
type HeadStamp struct {
	Book      string
	Size      int64 // entries of the head
	Head      string
	At        time.Time
	Authority string
	Response  []byte // RFC 3161, DER: of the head's line and its line feed
}

// Stamps reports whether there is an authority that stamps heads.
func (s *Store) Stamps() bool { return s.stamper != nil }

// StampHead gives the time stamp of a signed head, and asks the authority for it if there is none yet. It is nil if there is
// no authority.
func (s *Store) StampHead(ctx context.Context, h *ledger.Head) (*HeadStamp, error) {
	if s.stamper == nil {
		return nil, nil
	}
	line, err := h.Line()
	if err != nil {
		return nil, err
	}
	x := &HeadStamp{}
	err = s.get(ctx, x, "a time stamp", "SELECT * FROM head_stamp WHERE book = $1 AND size = $2 AND head = $3", h.Book, h.Size, string(line))
	if !errors.Is(err, ErrNotFound) {
		return x, err
	}
	got, response, err := s.stamper.Stamp(ctx, append(line, '\n'))
	if err != nil {
		return nil, err
	}
	x = &HeadStamp{h.Book, h.Size, string(line), got.At, got.Authority(), response}
	if _, err := s.db.ExecContext(ctx, "INSERT INTO head_stamp(book, size, head, at, authority, response) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING",
		x.Book, x.Size, x.Head, x.At, x.Authority, x.Response); err != nil {
		return nil, fmt.Errorf("keeping a time stamp: %w", err)
	}
	return x, nil
}

// HeadStamps lists the time stamps of a ledger's heads, the newest first, so many at most.
func (s *Store) HeadStamps(ctx context.Context, book string, limit int) (out []HeadStamp, err error) {
	err = s.list(ctx, &out, "listing the time stamps", "SELECT * FROM head_stamp WHERE book = $1 ORDER BY size DESC, at DESC LIMIT $2", book, limit)
	return out, err
}

// HeadStampOf gives the newest time stamp of a ledger's head of so many entries.
func (s *Store) HeadStampOf(ctx context.Context, book string, size int64) (*HeadStamp, error) {
	x := &HeadStamp{}
	err := s.get(ctx, x, fmt.Sprintf("a time stamp of the head of %d entries", size), "SELECT * FROM head_stamp WHERE book = $1 AND size = $2 ORDER BY at DESC LIMIT 1", book, size)
	return x, err
}

// StampHeads has the last head of every ledger stamped that has grown since its last stamp.
func (s *Store) StampHeads(ctx context.Context) error {
	if s.stamper == nil {
		return nil
	}
	for _, book := range s.heads.books() {
		h, err := s.heads.Last(book)
		if err != nil {
			return err
		}
		last, err := s.HeadStamps(ctx, book, 1)
		if err != nil {
			return err
		}
		if h == nil || len(last) > 0 && last[0].Size >= h.Size {
			continue
		}
		if _, err := s.StampHead(ctx, h); err != nil {
			return err
		}
	}
	return nil
}
