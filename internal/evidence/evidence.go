// Package evidence is the door from the vault to pages, exports and packages. What
// leaves by it has passed the gate of package scope, under the authorities as they are
// now; there is no other way for a page to evidence's bytes.
package evidence

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"crosswind/core/digest"
	"crosswind/core/record"
	"crosswind/core/scope"
	"crosswind/core/sqlitefile"
	"crosswind/core/storage"
	"crosswind/core/volume"
	"crosswind/internal/recovery"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Door gives out evidence. The vault behind it is nobody else's to open.
type Door struct {
	store *store.Store
	vault vault.Vault
}

// New makes the door of a vault.
func New(s *store.Store, v vault.Vault) *Door { return &Door{s, v} }

// reader opens the databases of acquisitions.
func (d *Door) reader() *recovery.Recoverer {
	return &recovery.Recoverer{Store: d.store, Vault: d.vault}
}

// Put takes in what somebody brings. That is not a way out.
func (d *Door) Put(ctx context.Context, r io.Reader) (*digest.Set, error) {
	return d.vault.Put(ctx, r, nil)
}

// Attached opens what an examiner attached to the case: a photograph of an exhibit or the
// document of an authority, by the digest that its own row names. It is not evidence
// that was read from a source.
func (d *Door) Attached(sha256 string) (vault.Blob, error) { return d.vault.Open(sha256) }

// maxCell bounds the bytes of one record: a contact's card may hold a picture.
const maxCell = 64 << 20

// Cell is the bytes of a record, and their SHA-256 as they are in the vault now, hex.
type Cell struct {
	Bytes []byte
	Now   string
}

// Cell reads the bytes of a record that the gate admits.
func (d *Door) Cell(ctx context.Context, r *store.Record) (*Cell, error) {
	seen, err := d.store.RecordByID(ctx, r.CaseID, r.ID) // which asks the gate, as it is now
	if err != nil {
		return nil, err
	}
	w, err := seen.Whole()
	if err != nil {
		return nil, err
	}
	o := w.Origin()
	if o.Length < 0 || o.Length > maxCell || o.Offset < 0 {
		return nil, fmt.Errorf("record %d claims %d bytes at offset %d", r.ID, o.Length, o.Offset)
	}
	// The file is one of the acquisition's, whatever the record's row says.
	f, err := d.store.FileByPath(ctx, seen.AcquisitionID, store.Both, o.Stored)
	if err != nil {
		return nil, err
	}
	if f.SHA256 != o.SHA256 {
		return nil, fmt.Errorf("record %d says that it lies in a file with the SHA-256 %s, acquired was %s", r.ID, o.SHA256, f.SHA256)
	}
	if o.Offset > f.Size || int64(o.Length) > f.Size-o.Offset {
		return nil, fmt.Errorf("record %d claims %d bytes from offset %d of a file of %d", r.ID, o.Length, o.Offset, f.Size)
	}
	b, err := d.vault.Open(f.SHA256)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	c := &Cell{Bytes: make([]byte, o.Length)}
	if _, err := b.ReadAt(c.Bytes, o.Offset); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading the bytes of record %d: %w", r.ID, err)
	}
	sum := sha256.Sum256(c.Bytes)
	c.Now = hex.EncodeToString(sum[:])
	return c, nil
}

// Attachment opens the n-th attachment of a record that the gate admits: it is part of what
// the record says. It must be a file of the same acquisition, under the path that the record names.
func (d *Door) Attachment(ctx context.Context, caseID, id int64, n int) (sha256 string, open func() (io.ReadCloser, error), err error) {
	r, err := d.store.RecordByID(ctx, caseID, id) // which asks the gate, as it is now
	if err != nil {
		return "", nil, err
	}
	w, err := r.Whole()
	if err != nil {
		return "", nil, err
	}
	if n < 0 || n >= len(w.Attachments) {
		return "", nil, fmt.Errorf("attachment %d of record %d: %w", n, id, store.ErrNotFound)
	}
	a := w.Attachments[n]
	if len(a.Parts) > 0 {
		return a.SHA256, func() (io.ReadCloser, error) { return d.assembled(ctx, r.AcquisitionID, w, a) }, nil
	}
	files, err := d.store.FilesByRealPath(ctx, r.AcquisitionID, []string{a.Path})
	if err != nil {
		return "", nil, err
	}
	for _, f := range files {
		if f.SHA256 == a.SHA256 {
			return f.SHA256, func() (io.ReadCloser, error) { return d.vault.Open(f.SHA256) }, nil
		}
	}
	return "", nil, fmt.Errorf("the file of attachment %d of record %d: %w", n, id, store.ErrNotFound)
}

// assembled reads an attachment that lies in parts of files of the same acquisition.
func (d *Door) assembled(ctx context.Context, acquisition int64, w *record.Record, a record.Attachment) (io.ReadCloser, error) {
	var all []byte
	for _, s := range a.Parts {
		stored, sum := s.In(w)
		f, err := d.store.FileByPath(ctx, acquisition, store.Both, stored)
		if err != nil {
			return nil, err
		}
		if f.SHA256 != sum || s.Offset < 0 || s.Length <= 0 || s.Offset > f.Size || int64(s.Length) > f.Size-s.Offset || len(all)+s.Length > maxCell {
			return nil, fmt.Errorf("record %s claims %d bytes from offset %d of %s", w.UID, s.Length, s.Offset, stored)
		}
		b, err := d.vault.Open(sum)
		if err != nil {
			return nil, err
		}
		part := make([]byte, s.Length)
		_, err = b.ReadAt(part, s.Offset)
		b.Close()
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("reading an attachment of record %s: %w", w.UID, err)
		}
		all = append(all, part...)
	}
	all, err := a.Decoded(all)
	if err != nil {
		return nil, fmt.Errorf("an attachment of record %s: %w", w.UID, err)
	}
	if sum := sha256.Sum256(all); hex.EncodeToString(sum[:]) != a.SHA256 {
		return nil, fmt.Errorf("an attachment of record %s has the SHA-256 %x, and was read as %s", w.UID, sum, a.SHA256)
	}
	return io.NopCloser(bytes.NewReader(all)), nil
}

// Volumes are the volumes of a storage image, for what their tables say is in use; nothing of what lies in them. They
// are good until close is called.
func (d *Door) Volumes(image *store.File) (all []*volume.Volume, close func() error, err error) {
	b, err := d.vault.Open(image.SHA256)
	if err != nil {
		return nil, nil, err
	}
	all, _ = storage.Volumes(b, image.Size, func(error) {})
	return all, b.Close, nil
}

// Whole opens a file of an acquisition if every byte of it may be seen; why says why
// not.
func (d *Door) Whole(ctx context.Context, caseID int64, a *store.Acquisition, sha256 string) (open func() (vault.Blob, error), why string, err error) {
	g, err := d.store.Gate(ctx, caseID)
	if err != nil {
		return nil, "", err
	}
	if why := g.Whole(a.LiveOnly); why != "" {
		return nil, why, nil
	}
	return func() (vault.Blob, error) { return d.vault.Open(sha256) }, "", nil
}

// Page is a version of a page of a database, as far as it may be seen: what is withheld
// is zero in Bytes.
type Page struct {
	Place    sqlitefile.Version
	Versions []sqlitefile.Version // the current one first
	Bytes    []byte
	Hidden   []bool // which bytes are withheld, nil for none
	Why      string // why they are
	Usable   int
	Encoding sqlitefile.Encoding
	Regions  []sqlitefile.Region
	Table    func(name string) (*sqlitefile.Table, error)
	Records  []store.Record // whose cells lie in the page
	Fault    error          // why its bytes cannot be read
}

// Choice says which page is asked for, and which version of it: the current one if Part
// and Frame name none.
type Choice struct {
	Number      uint32
	Part, Frame string
	Trunk       bool // it is a trunk of the free list
}

// Page reads a page of a database of an acquisition.
func (d *Door) Page(ctx context.Context, caseID int64, a *store.Acquisition, path string, k Choice) (*Page, error) {
	db, err := d.reader().OpenDatabase(ctx, a.ID, path)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	cur := db.Current(k.Number)
	p := &Page{Place: cur, Versions: []sqlitefile.Version{cur}, Bytes: make([]byte, db.PageSize), Usable: db.Usable(), Encoding: db.Encoding, Table: tables(db)}
	for _, v := range db.Versions() {
		if v.Page == k.Number {
			p.Versions = append(p.Versions, v)
		}
	}
	for _, v := range p.Versions {
		if k.Part != "" && fmt.Sprint(int(v.Part)) == k.Part && fmt.Sprint(v.Frame) == k.Frame {
			p.Place = v
		}
	}
	if p.Fault = db.ReadVersion(p.Place.Place, p.Bytes); p.Fault != nil {
		clear(p.Bytes)
		return p, nil
	}
	p.Regions = sqlitefile.Anatomy(k.Number, p.Bytes, db.Usable())
	if k.Trunk && p.Place.Place == cur.Place {
		p.Regions = sqlitefile.AnatomyOfTrunk(p.Bytes, db.Usable())
	}
	if p.Records, err = d.store.RecordsOfPage(ctx, caseID, a.ID, path, int64(k.Number)); err != nil {
		return nil, err
	}
	return p, d.mask(ctx, caseID, a, path, p)
}

// tables finds tables by their names: once, since the database is closed then.
func tables(db *recovery.Database) func(string) (*sqlitefile.Table, error) {
	all, err := db.Tables()
	return func(name string) (*sqlitefile.Table, error) {
		for _, t := range all {
			if t.Name == name {
				return t, nil
			}
		}
		return nil, errors.Join(fmt.Errorf("table %q: %w", name, store.ErrNotFound), err)
	}
}

// mask withholds what the gate does not let through: all but the page's structure and the
// cells of the records that it admits.
func (d *Door) mask(ctx context.Context, caseID int64, a *store.Acquisition, path string, p *Page) error {
	g, err := d.store.Gate(ctx, caseID)
	if err != nil {
		return err
	}
	full, err := d.store.ReadFully(ctx, a.ID, path)
	if err != nil {
		return err
	}
	var open, structure []scope.Range
	for _, r := range p.Regions {
		if r.Role == "header" || r.Role == "pointers" {
			structure = append(structure, scope.Range{From: p.Place.Offset + int64(r.From), To: p.Place.Offset + int64(r.To)})
		}
	}
	of := path + p.Place.Part.Suffix()
	for i := range p.Records {
		w, err := p.Records[i].Whole()
		if err == nil && w.Origin().Path == of {
			open = append(open, scope.Range{From: w.Origin().Offset, To: w.Origin().Offset + int64(w.Origin().Length)})
		}
	}
	v := g.View(scope.Reading{Full: full, LiveOnly: a.LiveOnly}, append(open, structure...))
	if !v.Whole() && !full {
		v = g.View(scope.Reading{Full: true, LiveOnly: a.LiveOnly}, structure)
		p.Why = g.View(scope.Reading{LiveOnly: a.LiveOnly}, nil).Why()
	} else {
		p.Why = v.Why()
	}
	p.Hidden = v.Hidden(p.Bytes, p.Place.Offset)
	return nil
}

// Withholds reports whether anything of a page's run of bytes is hidden.
func (p *Page) Withholds(from, to int) bool {
	if p.Hidden == nil {
		return false
	}
	for i := max(0, from); i < min(to, len(p.Hidden)); i++ {
		if p.Hidden[i] {
			return true
		}
	}
	return false
}

// Words says which version of a page it is.
func Words(v sqlitefile.Version, current bool) string {
	w := "database file"
	switch v.Part {
	case sqlitefile.Log:
		w = fmt.Sprintf("frame %d of the log", v.Frame)
	case sqlitefile.Journal:
		w = fmt.Sprintf("record %d of the journal", v.Frame)
	}
	switch {
	case current:
		w += ", current"
	case v.State == sqlitefile.Unfinished:
		w += ", never committed"
	case v.State == sqlitefile.Unproven:
		w += ", its sum does not hold"
	}
	return strings.TrimSpace(w)
}
