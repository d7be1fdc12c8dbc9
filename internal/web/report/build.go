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
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/casefile"
	"crosswind/core/digest"
	"crosswind/core/ledger"
	"crosswind/core/record"
	"crosswind/internal/evidence"
	"crosswind/internal/recovery"
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
	Overridden   []store.Overridden
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

// Places are what a recovery gave that is not live, by state and place.
type place struct {
	Words string
	Count int64
}

// places gives the counts of a database that are of a state: recovered, earlier version
// or held. Rows that no map reads are recovered ones.
func places(d *store.RecoveredDatabase, state string) (out []place) {
	for words, n := range d.Origins() {
		if rest, ok := strings.CutPrefix(words, state+", "); ok {
			out = append(out, place{rest, n})
		}
	}
	slices.SortFunc(out, func(a, b place) int { return strings.Compare(a.Words, b.Words) })
	return out
}

// Recovered, Changed and Held are the counts of the database d of the acquisition.
func (a *acquisition) Recovered(d store.RecoveredDatabase) []place { return places(&d, "recovered") }

// Changed counts earlier versions.
func (a *acquisition) Changed(d store.RecoveredDatabase) []place {
	return places(&d, "earlier version")
}

// Held counts rows of the holding area.
func (a *acquisition) Held(d store.RecoveredDatabase) []place { return places(&d, "held") }

type marked struct {
	store.Record
	Whole       *record.Record
	Acquisition *acquisition
	Now         *store.Record  // the present text, of an earlier version
	Elsewhere   []store.Record // the same record in other acquisitions of the exhibit
}

// Build reads what the report says from the store.
func Build(ctx context.Context, s *store.Store, cs *store.Case, tool, by string) (*Report, error) {
	r := &Report{Case: cs, Zone: cs.Location(), Tool: tool, By: by, At: time.Now(), States: record.States, Counts: map[string]int{}, Key: hex.EncodeToString(s.Key())}
	var err error
	if r.Authorities, err = s.Authorities(ctx, cs.ID); err != nil {
		return nil, err
	}
	if r.Overridden, err = s.Overrides(ctx, cs.ID); err != nil {
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
	all := store.Filter{CaseID: cs.ID, Marked: true}
	for after := (store.After{}); ; {
		page, next, err := s.Records(ctx, all, after, 500)
		if err == nil {
			err = r.add(ctx, s, page)
		}
		if err != nil {
			return nil, err
		}
		if next == nil {
			break
		}
		after = *next
	}
	for after := int64(0); ; {
		page, next, err := s.Untimed(ctx, all, after, 500)
		if err == nil {
			err = r.add(ctx, s, page)
		}
		if err != nil {
			return nil, err
		}
		if next == 0 {
			break
		}
		after = next
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

func (r *Report) add(ctx context.Context, s *store.Store, page []store.Record) error {
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
		if m.Acquisition == nil {
			return fmt.Errorf("record %s is of acquisition %d, which has not ended", rec.UID, rec.AcquisitionID)
		}
		if m.Now, m.Elsewhere, err = s.Present(ctx, &m.Record); err != nil {
			return err
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
	Store    *store.Store
	Evidence *evidence.Door
	Reader   *recovery.Recoverer
	Tool     string
	Dir      string // where packages are kept
	Key      ed25519.PrivateKey
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
	for _, e := range r.Exhibits {
		if err := store.CheckReference(e.Reference); err != nil {
			return fmt.Errorf("%w. Give the exhibit one by the rule, on Intake", err)
		}
	}
	if err := m.holds(ctx, t, cs, r); err != nil {
		return err
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
	bag := casefile.Bag{Name: fmt.Sprintf("%s-%s-%d", cs.Reference, r.At.UTC().Format("20060102T150405.000Z"), t.Run.ID), Case: cs.Reference, Title: cs.Title, Tool: m.Tool, By: t.Run.By, At: r.At}
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
	set, err := m.write(ctx, name, bag)
	if err != nil {
		return err
	}
	_, _, sum := set.Hex()
	t.Logf("%s: %d bytes, SHA-256 %s", name, set.Size, sum)
	return m.Store.EndPackage(ctx, t.Run, store.Package{CaseID: cs.ID, Name: name, By: t.Run.By, At: r.At, Size: set.Size, SHA256: sum},
		store.Act{Book: cs.Book(), By: t.Run.By, What: "package.made", On: name, Detail: map[string]string{"sha256": sum, "bytes": fmt.Sprint(set.Size), "records": fmt.Sprint(len(r.Marked)), "ledger_entries": fmt.Sprint(head.Size)}})
}

// holds compares what is to be sealed with what proves it: the marked records with what
// their field maps read again from the vault's bytes, and custody, marks, authorities,
// exhibits and acquisitions with their entries in the ledger. What differs is an
// integrity alarm, and nothing is sealed.
func (m *Maker) holds(ctx context.Context, t *run.Task, cs *store.Case, r *Report) error {
	found, err := m.Store.Audit(ctx, cs)
	if err != nil {
		return err
	}
	records, err := m.readAgain(ctx, t, cs, r)
	if err != nil {
		return err
	}
	found = append(found, records...)
	if err := m.Store.SetAlarms(ctx, cs, found, t.Run.By); err != nil {
		return err
	}
	if len(found) == 0 {
		return nil
	}
	for _, a := range found {
		t.Logf("%s: %s", a.About, a.What)
	}
	return fmt.Errorf("integrity has failed, and nothing is sealed: %s: %s%s", found[0].About, found[0].What, map[bool]string{true: fmt.Sprintf(" (and %d more, in the log)", len(found)-1)}[len(found) > 1])
}

// readAgain reads the marked records again from the vault, as the recovery read them that
// said them last.
func (m *Maker) readAgain(ctx context.Context, t *run.Task, cs *store.Case, r *Report) (out []store.Alarm, err error) {
	type reading struct{ acquisition, recovery int64 }
	wanted := map[reading]map[string]*marked{}
	for i := range r.Marked {
		k := &r.Marked[i]
		if k.RecoveryID == nil {
			out = append(out, store.Alarm{About: "record " + k.UID, What: "no recovery says that it read it: recover again"})
			continue
		}
		at := reading{k.AcquisitionID, *k.RecoveryID}
		if wanted[at] == nil {
			wanted[at] = map[string]*marked{}
		}
		wanted[at][k.UID] = k
	}
	for at, records := range wanted {
		rec, err := m.Store.RecoveryByID(ctx, at.recovery)
		if err != nil {
			return nil, err
		}
		a, err := m.Store.AcquisitionByID(ctx, at.acquisition)
		if err != nil {
			return nil, err
		}
		if rec.Epoch == 0 {
			return nil, fmt.Errorf("%s was recovered by an earlier version of Crosswind, which kept less of each record than is compared now: recover it again", casefile.SourceName(r.reference(a), a.Number))
		}
		var paths []string
		for _, k := range records {
			if !slices.Contains(paths, k.DB) {
				paths = append(paths, k.DB)
			}
		}
		t.Logf("reading %d marked records again from %d databases of %s", len(records), len(paths), casefile.SourceName(r.reference(a), a.Number))
		for x, err := range m.Reader.Reread(ctx, cs, a, rec, paths) {
			if err != nil {
				return nil, fmt.Errorf("reading records again: %w", err)
			}
			k := records[x.UID]
			if k == nil {
				continue
			}
			delete(records, x.UID)
			if what := differs(x, k); what != "" {
				out = append(out, store.Alarm{About: "record " + k.UID, What: what})
			}
		}
		for _, k := range records {
			out = append(out, store.Alarm{About: "record " + k.UID, What: "its source, read again, does not give it"})
		}
	}
	slices.SortFunc(out, func(a, b store.Alarm) int { return strings.Compare(a.About, b.About) })
	return out, nil
}

// differs names the parts of a record that, as it is kept, are not what its source gives.
// It gives no values: what it says goes into the ledger, and the record may be withheld
// later.
func differs(read *record.Record, k *marked) string {
	var parts []string
	if want, have := members(read), members(k.Whole); !maps.Equal(want, have) {
		for m := range maps.Keys(want) {
			if have[m] != want[m] {
				parts = append(parts, m)
			}
		}
		for m := range maps.Keys(have) {
			if _, ok := want[m]; !ok {
				parts = append(parts, m)
			}
		}
	}
	row := k.Record
	for _, c := range []struct{ name, row, body string }{{"kind", string(row.Kind), string(read.Kind)}, {"state", string(row.State), string(read.State)}, {"text", row.Summary, read.Text}, {"handle", row.Handle, read.Handle},
		{"person", row.Person, read.Person}, {"thread", row.Thread, read.Thread}, {"thread_title", row.ThreadTitle, read.ThreadTitle}, {"direction", row.Direction, read.Direction}, {"place", row.Place, read.Origin.Place},
		{"at", moment(row.At), moment(read.At)}} {
		if c.row != c.body && !slices.Contains(parts, c.name) {
			parts = append(parts, c.name+" (as pages show it)")
		}
	}
	if len(parts) == 0 {
		return ""
	}
	slices.Sort(parts)
	return "it is not what its source gives, read again, in " + strings.Join(parts, ", ") + ". Recover again to read it anew; who could write to the database can have changed it"
}

// members gives the members of a record as JSON.
func members(r *record.Record) map[string]string {
	out := map[string]string{}
	var m map[string]json.RawMessage
	b, err := json.Marshal(r)
	if err == nil {
		err = json.Unmarshal(b, &m)
	}
	if err != nil {
		return map[string]string{"JSON": err.Error()}
	}
	for k, v := range m {
		out[k] = string(v)
	}
	return out
}

func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Truncate(time.Microsecond).Format(time.RFC3339Nano)
}

// reference is the reference of an acquisition's exhibit.
func (r *Report) reference(a *store.Acquisition) string {
	for _, e := range r.Exhibits {
		if e.ID == a.ExhibitID {
			return e.Reference
		}
	}
	return ""
}

// write writes the archive under a temporary name, checks it as its reader
// will, and gives it its name, which nothing has yet. The file is locked while it is
// written, so that a sweep knows that somebody owns it.
func (m *Maker) write(ctx context.Context, name string, bag casefile.Bag) (*digest.Set, error) {
	if err := os.MkdirAll(m.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("the packages' folder: %w", err)
	}
	f, err := vault.CreateOwned(m.Dir, "making-*.zip")
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
	if err := errors.Join(f.Sync(), f.Chmod(0o400)); err != nil {
		return nil, fmt.Errorf("writing the package: %w", err)
	}
	res, err := casefile.VerifyPath(ctx, f.Name(), casefile.Options{Key: hex.EncodeToString(m.Key.Public().(ed25519.PublicKey)), Now: time.Now()})
	if err != nil {
		return nil, err
	}
	if len(res.Faults) > 0 {
		return nil, fmt.Errorf("the package does not verify and is not kept: %s: %s", res.Faults[0].Where, res.Faults[0].What) // no values: the ledger keeps it
	}
	if err := os.Link(f.Name(), filepath.Join(m.Dir, name)); err != nil { // which replaces nothing
		return nil, fmt.Errorf("keeping the package: %w", err)
	}
	return set, nil
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
		o := k.Whole.Origin
		open, _, err := m.Evidence.Whole(ctx, r.Case.ID, &k.Acquisition.Acquisition, o.SHA256)
		if err != nil {
			return nil, 0, err
		}
		l := &casefile.RecordLine{Record: k.Whole, Exhibit: k.ExhibitRef, Acquisition: k.Acquisition.Number, Manifest: k.Acquisition.ManifestName(),
			FileWithheld: open == nil, Mark: *k.MarkReason, MarkedBy: *k.MarkBy, MarkedAt: k.MarkAt.UTC().Format(time.RFC3339)}
		records = append(records, l)
		used[k.Acquisition] = true
		line, err := l.Line()
		if err != nil {
			return nil, 0, err
		}
		lines.Write(append(line, '\n'))
		if l.FileWithheld {
			if taken[o.Digest] {
				continue
			}
			taken[o.Digest] = true
			c, err := m.Evidence.Cell(ctx, &k.Record)
			if err != nil {
				return nil, 0, err
			}
			if c.Now != o.Digest {
				return nil, 0, fmt.Errorf("the bytes of record %s are not those that were read: their SHA-256 is now %s", k.UID, c.Now)
			}
			parts = append(parts, casefile.Bytes(casefile.CellsDir+o.Digest, c.Bytes))
			total += int64(len(c.Bytes))
		} else if sum := o.SHA256; !taken[sum] {
			taken[sum] = true
			parts = append(parts, casefile.Part{Path: casefile.FilesDir + sum, Open: func() (io.ReadCloser, error) { return open() }})
			if f, err := open(); err == nil {
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
	h, err := head.Line()
	if err != nil {
		return nil, 0, err
	}
	earlier, err := m.Store.Heads(r.Case.Book())
	if err != nil {
		return nil, 0, err
	}
	var heads bytes.Buffer
	for i := range earlier {
		if earlier[i].Size > head.Size {
			break
		}
		line, err := earlier[i].Line()
		if err != nil {
			return nil, 0, err
		}
		heads.Write(append(line, '\n'))
	}
	for _, p := range []struct {
		path string
		b    []byte
	}{{casefile.ReportName, html}, {casefile.RecordsName, lines.Bytes()}, {casefile.CSVName, casefile.CSV(records)}, {casefile.LedgerName, book.Bytes()}, {casefile.HeadName, append(h, '\n')}, {casefile.HeadsName, heads.Bytes()}} {
		parts = append(parts, casefile.Bytes(p.path, p.b))
		total += int64(len(p.b))
	}
	return parts, total, nil
}
