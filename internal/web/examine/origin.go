package examine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"

	"crosswind/core/backup"
	"crosswind/core/record"
	"crosswind/internal/store"
)

// origin is a record's trail to its bytes, as the drawer shows it.
type origin struct {
	record.Origin
	Acquisition *store.Acquisition
	File        *store.File
	Encrypted   bool // the acquisition is
	Rows        []hexRow
	Cut         int    // bytes that are not shown
	Now         string // SHA-256 of the bytes as they are in the vault now
	Fault       string // why the bytes cannot be shown, or do not hold
}

// hexRow is sixteen bytes.
type hexRow struct {
	Offset int64
	Runs   []hexRun
	Text   string
	Pad    string // that fills a short row up
}

// hexRun is bytes of one field, or of none.
type hexRun struct {
	Hex, Role, Name string
	Odd             bool
}

// maxShown bounds the bytes drawn of one record.
const maxShown = 4096

// origin reads the bytes of a record from the vault, and hashes them again.
func (a pages) origin(ctx context.Context, k *chosen, acq *store.Acquisition) (*origin, error) {
	o := &origin{Origin: k.Whole.Origin, Acquisition: acq}
	var err error
	if o.File, err = a.Store.FileByPath(ctx, acq.ID, store.Both, o.Stored); err != nil {
		return nil, err
	}
	var l backup.Label
	if err := json.Unmarshal(acq.Facts, &l); err != nil {
		return nil, fmt.Errorf("the label of the acquisition: %w", err)
	}
	o.Encrypted = l.Encrypted
	f, err := a.Vault.Open(o.SHA256)
	if err != nil {
		o.Fault = err.Error()
		return o, nil
	}
	defer f.Close()
	if o.Length < 0 || o.Length > 1<<20 {
		return nil, fmt.Errorf("record %d claims %d bytes", k.ID, o.Length)
	}
	b := make([]byte, o.Length)
	if _, err := f.ReadAt(b, o.Offset); err != nil && !errors.Is(err, io.EOF) {
		o.Fault = err.Error()
		return o, nil
	}
	sum := sha256.Sum256(b)
	if o.Now = hex.EncodeToString(sum[:]); o.Now != o.Digest {
		o.Fault = "the bytes in the vault are not those that were read: their SHA-256 is now " + o.Now
	}
	if len(b) > maxShown {
		o.Cut, b = len(b)-maxShown, b[:maxShown]
	}
	o.Rows = hexRows(b, o.Offset, o.Fields)
	return o, nil
}

// hexRows lays bytes out in rows of sixteen that begin at multiples of
// sixteen, and marks the fields.
func hexRows(b []byte, at int64, fields []record.Field) []hexRow {
	fields = append([]record.Field(nil), fields...)
	sort.SliceStable(fields, func(i, j int) bool { return fields[i].Offset < fields[j].Offset })
	which := func(off int64) int {
		i := sort.Search(len(fields), func(i int) bool { return fields[i].Offset > off }) - 1
		if i >= 0 && off < fields[i].Offset+int64(fields[i].Length) {
			return i
		}
		return -1
	}
	var rows []hexRow
	for i := 0; i < len(b); {
		n := min(len(b)-i, 16-int((at+int64(i))%16))
		row := hexRow{Offset: at + int64(i)}
		last := -2
		for j := range n {
			k := which(at + int64(i+j))
			if k != last {
				run := hexRun{}
				if k >= 0 {
					run.Role, run.Name, run.Odd = fields[k].Role, fields[k].Name, k%2 == 1
				}
				row.Runs = append(row.Runs, run)
				last = k
			}
			run := &row.Runs[len(row.Runs)-1]
			if run.Hex != "" {
				run.Hex += " "
			}
			run.Hex += fmt.Sprintf("%02X", b[i+j])
			c := rune(b[i+j])
			if c < 0x20 || c > 0x7e {
				c = '·'
			}
			row.Text += string(c)
		}
		row.Pad = strings.Repeat("   ", 16-n)
		rows = append(rows, row)
		i += n
	}
	return rows
}
