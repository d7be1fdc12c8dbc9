package examine

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"crosswind/core/backup"
	"crosswind/core/record"
	"crosswind/core/sqlitefile"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// origin is a record's trail to its bytes, as the drawer shows it.
type origin struct {
	record.Origin
	Further     []record.Origin // what else of the record was read from where
	Acquisition *store.Acquisition
	File        *store.File
	Encrypted   bool // the acquisition is
	Rows        []frame.HexRow
	Cut         int    // bytes that are not shown
	Now         string // SHA-256 of the bytes as they are in the vault now
	Fault       string // why the bytes cannot be shown, or do not hold
}

// Part says in which of a database's files the bytes lie: 0 itself, 1 its log, 2 its
// journal.
func (o *origin) Part() int {
	for p := sqlitefile.Log; p <= sqlitefile.Journal; p++ {
		if strings.HasSuffix(o.Path, p.Suffix()) {
			return int(p)
		}
	}
	return 0
}

// Database is the path of the database that the bytes belong to.
func (o *origin) Database() string {
	return strings.TrimSuffix(o.Path, sqlitefile.Part(o.Part()).Suffix())
}

// maxShown bounds the bytes drawn of one record.
const maxShown = 4096

// origin reads the bytes of a record from the vault, and hashes them again.
func (a pages) origin(ctx context.Context, k *chosen, acq *store.Acquisition) (*origin, error) {
	o := &origin{Origin: *k.Whole.Origin(), Acquisition: acq}
	open, _, err := a.Evidence.Whole(ctx, k.CaseID, acq, o.SHA256)
	if err != nil {
		return nil, err
	}
	for _, from := range k.Whole.Further() {
		if open == nil { // nothing of a row that is of no record that is covered
			from.Digest = ""
		}
		o.Further = append(o.Further, from)
	}
	if o.File, err = a.Store.FileByPath(ctx, acq.ID, store.Both, o.Stored); err != nil {
		return nil, err
	}
	var l backup.Label
	if err := json.Unmarshal(acq.Facts, &l); err != nil {
		return nil, fmt.Errorf("the label of the acquisition: %w", err)
	}
	o.Encrypted = l.Encrypted
	cell, err := a.Evidence.Cell(ctx, &k.Record)
	if err != nil {
		o.Fault = err.Error()
		return o, nil
	}
	b := cell.Bytes
	if o.Now = cell.Now; o.Now != o.Digest {
		o.Fault = "the bytes in the vault are not those that were read: their SHA-256 is now " + o.Now
	}
	if len(b) > maxShown {
		o.Cut, b = len(b)-maxShown, b[:maxShown]
	}
	o.Rows = frame.HexRows(b, o.Offset, o.Fields, nil)
	return o, nil
}
