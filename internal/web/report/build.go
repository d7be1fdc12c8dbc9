package report

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/casefile"
	"crosswind/core/digest"
	"crosswind/core/ledger"
	"crosswind/core/record"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
	"crosswind/internal/web/frame"
)

// Report is everything that the report says.
type Report struct {
	Case         *store.Case
	Zone         *time.Location
	Authorities  []store.Authority
	Exhibits     []exhibit
	Acquisitions []acquisition
	Marked       []marked
	States       any
	Counts       map[string]int // marked records by state
	Ledger       *store.LedgerState
	Key          string
	Tool         string
	By           string
	At           time.Time
	Base         string // address of the case, "" in a package: there origins are not linked
}

type exhibit struct {
	store.Exhibit
	Custody     []store.Custody
	Photographs []store.Photograph
}

type acquisition struct {
	store.Acquisition
	Reference string
	Label     backup.Label
	Faults    []store.AcquisitionFault
	Checks    []store.Verification
	Faulty    []store.File
	Recovery  *store.Recovery
	Databases []store.RecoveredDatabase
}

// ManifestName is the name of the acquisition's manifest in a package.
func (a *acquisition) ManifestName() string {
	if a.ContentManifest != "" { // records come from what the backup holds
		return fmt.Sprintf("%s-acquisition-%d-content.sha256", a.Reference, a.Number)
	}
	return fmt.Sprintf("%s-acquisition-%d.sha256", a.Reference, a.Number)
}

// withholds reports whether records of a database, or of the database that a
// log belongs to, were withheld.
func (a *acquisition) withholds(path string) bool {
	for i := range a.Databases {
		if d := &a.Databases[i]; d.Path == strings.TrimSuffix(path, "-wal") && len(d.OutsideScope()) > 0 {
			return true
		}
	}
	return false
}

type marked struct {
	store.Record
	Whole       *record.Record
	Acquisition *acquisition
}

// Build reads what the report says from the store.
func Build(ctx context.Context, s *store.Store, cs *store.Case, tool, by string) (*Report, error) {
	r := &Report{Case: cs, Zone: cs.Location(), Tool: tool, By: by, At: time.Now(), States: record.States, Counts: map[string]int{}, Key: hex.EncodeToString(s.Key())}
	var err error
	if r.Authorities, err = s.Authorities(ctx, cs.ID); err != nil {
		return nil, err
	}
	es, err := s.Exhibits(ctx, cs.ID)
	if err != nil {
		return nil, err
	}
	refs := map[int64]string{}
	for _, e := range es {
		refs[e.ID] = e.Reference
		chain, err := s.CustodyOf(ctx, e.ID)
		if err != nil {
			return nil, err
		}
		photos, err := s.Photographs(ctx, e.ID)
		if err != nil {
			return nil, err
		}
		r.Exhibits = append(r.Exhibits, exhibit{e, chain, photos})
	}
	as, err := s.Acquisitions(ctx, cs.ID, 0)
	if err != nil {
		return nil, err
	}
	for _, a := range as {
		x, err := readAcquisition(ctx, s, a, refs[a.ExhibitID])
		if err != nil {
			return nil, err
		}
		r.Acquisitions = append(r.Acquisitions, *x)
	}
	for after := (store.After{At: time.Unix(-1<<35, 0)}); ; {
		page, err := s.Records(ctx, store.Filter{CaseID: cs.ID, Marked: true}, after, 500)
		if err != nil {
			return nil, err
		}
		if err := r.add(page); err != nil {
			return nil, err
		}
		if len(page) < 500 {
			break
		}
		last := page[len(page)-1]
		after = store.After{At: *last.At, ID: last.ID}
	}
	untimed, err := s.Untimed(ctx, store.Filter{CaseID: cs.ID, Marked: true}, 10000)
	if err == nil {
		err = r.add(untimed)
	}
	if err == nil {
		r.Ledger, err = s.LedgerState(ctx, cs.Book())
	}
	return r, err
}

func readAcquisition(ctx context.Context, s *store.Store, a store.Acquisition, ref string) (*acquisition, error) {
	x := &acquisition{Acquisition: a, Reference: ref}
	err := json.Unmarshal(a.Facts, &x.Label)
	if err == nil {
		x.Faults, err = s.AcquisitionFaults(ctx, a.ID)
	}
	if err == nil {
		x.Checks, err = s.Verifications(ctx, a.ID, 100)
	}
	if err == nil {
		x.Faulty, err = s.Files(ctx, store.FileFilter{Acquisition: a.ID, Part: store.Both, Faulty: true}, 1000)
	}
	if err != nil {
		return nil, err
	}
	x.Recovery, err = s.LatestRecovery(ctx, a.ID)
	if errors.Is(err, store.ErrNotFound) {
		x.Recovery = nil
		return x, nil
	}
	if err == nil {
		x.Databases, err = s.RecoveredDatabases(ctx, x.Recovery.ID)
	}
	return x, err
}

func (r *Report) add(page []store.Record) error {
	for _, rec := range page {
		m := marked{Record: rec}
		var err error
		if m.Whole, err = rec.Whole(); err != nil {
			return err
		}
		for i := range r.Acquisitions {
			if r.Acquisitions[i].ID == rec.AcquisitionID {
				m.Acquisition = &r.Acquisitions[i]
			}
		}
		r.Counts[rec.State.Title()]++
		r.Marked = append(r.Marked, m)
	}
	return nil
}

// HTML writes the report as a page that stands alone.
func (r *Report) HTML() ([]byte, error) {
	t, err := template.New("alone").Funcs(frame.Funcs).ParseFS(files, "body.html", "alone.html")
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	css, err := files.ReadFile("report.css")
	if err != nil {
		return nil, err
	}
	err = t.ExecuteTemplate(&b, "alone", map[string]any{"Report": r, "CSS": template.CSS(css)})
	return b.Bytes(), err
}

// Maker makes packages.
type Maker struct {
	Store *store.Store
	Vault vault.Vault
	Tool  string
	Dir   string // where packages are kept
	Key   ed25519.PrivateKey
}

// Package is the job of runs of kind "package".
func (m *Maker) Package(ctx context.Context, t *run.Task) error {
	cs, err := m.Store.CaseByID(ctx, t.Run.CaseID)
	if err != nil {
		return err
	}
	r, err := Build(ctx, m.Store, cs, m.Tool, t.Run.By)
	if err != nil {
		return err
	}
	if len(r.Marked) == 0 {
		return errors.New("no record is marked: a package holds the marked records, and there is none")
	}
	head, err := m.Store.SignedHead(ctx, cs.Book())
	if err != nil {
		return err
	}
	r.Ledger.Size, r.Ledger.Hash = head.Size, head.Last // the report speaks of the ledger that goes with it
	parts, bytes, err := m.parts(ctx, r, head)
	if err != nil {
		return err
	}
	t.Total(bytes, int64(len(parts)))
	bag := casefile.Bag{Name: fmt.Sprintf("%s-%s", cs.Reference, r.At.UTC().Format("20060102T150405Z")), Case: cs.Reference, Title: cs.Title, Tool: m.Tool, By: t.Run.By, At: r.At}
	for _, p := range parts {
		open := p.Open
		bag.Parts = append(bag.Parts, casefile.Part{Path: p.Path, Open: func() (io.ReadCloser, error) {
			in, err := open()
			if err != nil {
				return nil, err
			}
			t.Done(0, 1)
			return struct {
				io.Reader
				io.Closer
			}{vault.Told(ctx, in, t.Read), in}, nil
		}})
	}
	name := bag.Name + ".zip"
	set, err := m.write(name, bag)
	if err != nil {
		return err
	}
	_, _, sum := set.Hex()
	t.Logf("%s: %d bytes, SHA-256 %s", name, set.Size, sum)
	return m.Store.EndPackage(ctx, t.Run, store.Package{CaseID: cs.ID, Name: name, By: t.Run.By, At: r.At, Size: set.Size, SHA256: sum},
		store.Act{Book: cs.Book(), By: t.Run.By, What: "package.made", On: name, Detail: map[string]string{"sha256": sum, "bytes": fmt.Sprint(set.Size), "records": fmt.Sprint(len(r.Marked)), "ledger_entries": fmt.Sprint(head.Size)}})
}

// write writes the archive under a temporary name, checks it as its reader
// will, and gives it its name.
func (m *Maker) write(name string, bag casefile.Bag) (*digest.Set, error) {
	if err := os.MkdirAll(m.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("the packages' folder: %w", err)
	}
	f, err := os.CreateTemp(m.Dir, "making-*.zip")
	if err != nil {
		return nil, fmt.Errorf("the packages' folder: %w", err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	w := digest.NewWriter()
	err = casefile.Write(io.MultiWriter(f, w), bag, m.Key)
	set := w.Sum()
	if err != nil {
		return nil, err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return nil, fmt.Errorf("writing the package: %w", err)
	}
	res, err := casefile.VerifyPath(f.Name())
	if err != nil {
		return nil, err
	}
	if len(res.Faults) > 0 {
		return nil, fmt.Errorf("the package does not verify and is not kept: %s", res.Faults[0])
	}
	return set, os.Rename(f.Name(), filepath.Join(m.Dir, name))
}

// cell reads the bytes of a record from the vault.
func (m *Maker) cell(o *record.Origin) ([]byte, error) {
	f, err := m.Vault.Open(o.SHA256)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, o.Length)
	if _, err := f.ReadAt(b, o.Offset); err != nil {
		return nil, fmt.Errorf("reading a record's bytes from %s: %w", o.Path, err)
	}
	return b, nil
}

// parts are the payload of a package. bytes is about what they hold together.
func (m *Maker) parts(ctx context.Context, r *Report, head *ledger.Head) (parts []casefile.Part, total int64, err error) {
	html, err := r.HTML()
	if err != nil {
		return nil, 0, fmt.Errorf("writing the report: %w", err)
	}
	var lines bytes.Buffer
	var records []*casefile.RecordLine
	taken := map[string]bool{}
	used := map[*acquisition]bool{}
	for _, k := range r.Marked {
		l := &casefile.RecordLine{Record: k.Whole, Exhibit: k.ExhibitRef, Acquisition: k.Acquisition.Number, Manifest: k.Acquisition.ManifestName(),
			FileWithheld: k.Acquisition.withholds(k.Whole.Origin.Path), Mark: *k.MarkReason, MarkedBy: *k.MarkBy, MarkedAt: k.MarkAt.UTC().Format(time.RFC3339)}
		records = append(records, l)
		used[k.Acquisition] = true
		line, err := l.Line()
		if err != nil {
			return nil, 0, err
		}
		lines.Write(append(line, '\n'))
		o := k.Whole.Origin
		if l.FileWithheld {
			if taken[o.Digest] {
				continue
			}
			taken[o.Digest] = true
			b, err := m.cell(&o)
			if err != nil {
				return nil, 0, err
			}
			parts = append(parts, casefile.Bytes(casefile.CellsDir+o.Digest, b))
			total += int64(len(b))
		} else if sum := o.SHA256; !taken[sum] {
			taken[sum] = true
			parts = append(parts, casefile.Part{Path: casefile.FilesDir + sum, Open: func() (io.ReadCloser, error) { return m.Vault.Open(sum) }})
			if f, err := m.Vault.Open(sum); err == nil {
				if st, err := f.Stat(); err == nil {
					total += st.Size()
				}
				f.Close()
			}
		}
	}
	for a := range used {
		unread, err := m.Store.Unread(ctx, a.ID, "")
		if err != nil {
			return nil, 0, err
		}
		if len(unread) > 0 {
			var b bytes.Buffer
			for _, u := range unread {
				fmt.Fprintln(&b, u)
			}
			parts = append(parts, casefile.Bytes(fmt.Sprintf("%s%s-acquisition-%d.unread", casefile.ManifestsDir, a.Reference, a.Number), b.Bytes()))
		}
		if a.ContentManifest != "" {
			var b bytes.Buffer
			for f, err := range m.Store.AllFiles(ctx, a.ID, store.Content) {
				if err != nil {
					return nil, 0, err
				}
				fmt.Fprintln(&b, digest.Line{Sum: f.SHA256, Path: f.Path})
			}
			parts = append(parts, casefile.Bytes(casefile.ManifestsDir+a.ManifestName(), b.Bytes()))
		}
		for suffix, sum := range map[string]func(*store.File) string{
			"sha256": func(f *store.File) string { return f.SHA256 }, "sha1": func(f *store.File) string { return f.SHA1 }, "md5": func(f *store.File) string { return f.MD5 }} {
			var b bytes.Buffer
			for f, err := range m.Store.AllFiles(ctx, a.ID, store.Source) {
				if err != nil {
					return nil, 0, err
				}
				fmt.Fprintln(&b, digest.Line{Sum: sum(f), Path: f.Path})
			}
			parts = append(parts, casefile.Bytes(fmt.Sprintf("%s%s-acquisition-%d.%s", casefile.ManifestsDir, a.Reference, a.Number, suffix), b.Bytes()))
		}
	}
	var book bytes.Buffer
	n := int64(0)
	for line, err := range m.Store.Lines(ctx, r.Case.Book()) {
		if err != nil {
			return nil, 0, err
		}
		if n++; n > head.Size {
			break
		}
		book.Write(append(line, '\n'))
	}
	h, err := json.Marshal(head)
	if err != nil {
		return nil, 0, err
	}
	for _, p := range []struct {
		path string
		b    []byte
	}{{casefile.ReportName, html}, {casefile.RecordsName, lines.Bytes()}, {casefile.CSVName, casefile.CSV(records)}, {casefile.LedgerName, book.Bytes()}, {casefile.HeadName, append(h, '\n')}} {
		parts = append(parts, casefile.Bytes(p.path, p.b))
		total += int64(len(p.b))
	}
	return parts, total, nil
}
