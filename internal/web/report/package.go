package report

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/digest"
	"crosswind/core/ledger"
	"crosswind/core/report"
	"crosswind/core/scope"
	"crosswind/internal/evidence"
	"crosswind/internal/press"
	"crosswind/internal/preview"
	"crosswind/internal/recovery"
	"crosswind/internal/run"
	"crosswind/internal/store"
	"crosswind/internal/vault"
)

// Maker makes packages.
type Maker struct {
	Store    *store.Store
	Evidence *evidence.Door
	Reader   *recovery.Recoverer
	Tool     string
	Dir      string // where packages are kept
	Key      ed25519.PrivateKey
	Press    *press.Setter // sets the report as PDF, where it can
	Previews *preview.Maker
	Trusted  []byte // PEM: the certificates by which the authority for time stamps is trusted
}

// subject is what a run of kind "package" makes.
type subject struct {
	Redacted bool `json:"redacted,omitempty"` // of the redacted version
}

// Package is the job of runs of kind "package".
func (m *Maker) Package(ctx context.Context, t *run.Task) error {
	var sub subject
	if err := json.Unmarshal(t.Run.Subject, &sub); err != nil {
		return err
	}
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
	stamped, err := m.Store.StampHead(ctx, head)
	if err != nil {
		t.Logf("the head of the ledger has no time stamp: %v", err)
	} else if stamped != nil {
		r.Stamps = []store.HeadStamp{*stamped}
	}
	bag := casefile.Bag{Name: fmt.Sprintf("%s-%s-%d", cs.Reference, r.At.UTC().Format("20060102T150405.000Z"), t.Run.ID), Case: cs.Reference, Title: cs.Title, Tool: m.Tool, By: t.Run.By, At: r.At}
	var parts []casefile.Part
	var bytes int64
	version, err := m.Store.ReportVersion(ctx, cs.ID, 0)
	if err != nil {
		return err
	}
	if sub.Redacted {
		bag.Name += "-redacted"
		parts, err = m.redactedParts(ctx, t, r, version, head, stamped, &bag)
	} else {
		if len(version.Redactions) > 0 {
			bag.Name += "-full"
		}
		parts, bytes, err = m.parts(ctx, t, r, version, head, stamped)
	}
	if err != nil {
		return err
	}
	t.Total(bytes, int64(len(parts)))
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
	var ids []int64
	for i := range r.Marked {
		ids = append(ids, r.Marked[i].ID)
	}
	return m.Store.EndPackage(ctx, t.Run, store.Package{CaseID: cs.ID, Name: name, By: t.Run.By, At: r.At, Size: set.Size, SHA256: sum, Records: ids},
		store.Act{Book: cs.Book(), By: t.Run.By, What: "package.made", On: name, Detail: map[string]string{"sha256": sum, "bytes": fmt.Sprint(set.Size), "records": fmt.Sprint(len(r.Marked)), "ledger_entries": fmt.Sprint(head.Size)}})
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
	res, err := casefile.VerifyPath(ctx, f.Name(), casefile.Options{Key: hex.EncodeToString(m.Key.Public().(ed25519.PublicKey)), Now: time.Now(), Tool: m.Tool})
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

// signed is the report as it was signed, if its newest version was and the package's own says the same: it speaks of no record
// that the package has not.
func (m *Maker) signed(ctx context.Context, t *run.Task, r *Report, version *store.ReportVersion) (parts []casefile.Part, total int64, err error) {
	if version.State() != store.Signed {
		return nil, 0, nil
	}
	if r.changed(version) {
		t.Logf("the signed report is not in it: what is marked or recorded has changed since")
		return nil, 0, nil
	}
	for _, pdf := range []bool{false, true} {
		b, _, err := m.Store.SignedReport(ctx, r.Case, version.Version, pdf)
		switch {
		case errors.Is(err, scope.ErrWithheld): // it may say what is withheld now
			t.Logf("the signed report is not in it: %v", err)
			return nil, 0, nil
		case pdf && errors.Is(err, store.ErrNotFound):
			continue
		case err != nil:
			return nil, 0, err
		}
		parts = append(parts, casefile.Bytes(casefile.SignedPath(fmt.Sprint(version.Version), signedEnding(b, pdf)), b))
		total += int64(len(b))
	}
	return parts, total, nil
}

// signedEnding is what the name of a signed report ends in.
func signedEnding(b []byte, pdf bool) string {
	switch {
	case pdf && bytes.HasPrefix(b, []byte("PK")): // volumes
		return "zip"
	case pdf:
		return "pdf"
	}
	return "html"
}

// attachments are the files that belong to a record, which it names by their SHA-256, but for the file
// that it was read from and what lies in parts of it.
func (m *Maker) attachments(ctx context.Context, caseID int64, k *marked, taken map[string]bool) (parts []casefile.Part, total int64, err error) {
	for n, a := range k.Whole.Attachments {
		if a.SHA256 == "" || a.SHA256 == k.Whole.Origin().SHA256 || len(a.Parts) > 0 || taken[a.SHA256] {
			continue
		}
		sum, open, err := m.Evidence.Attachment(ctx, caseID, k.ID, n)
		if err != nil {
			return nil, 0, fmt.Errorf("the %d. attachment of record %s: %w", n+1, k.UID, err)
		}
		taken[sum] = true
		parts = append(parts, casefile.Part{Path: casefile.FilesDir + sum, Open: open})
		f, err := open()
		if err != nil {
			return nil, 0, err
		}
		if s, ok := f.(interface{ Stat() (fs.FileInfo, error) }); ok {
			if st, err := s.Stat(); err == nil {
				total += st.Size()
			}
		}
		f.Close()
	}
	return parts, total, nil
}

// head is the head of the ledger, and its time stamp, if it has one, with the certificates that it is trusted by.
func (m *Maker) head(h *ledger.Head, stamped *store.HeadStamp) ([]casefile.Part, error) {
	line, err := h.Line()
	parts := []casefile.Part{casefile.Bytes(casefile.HeadName, append(line, '\n'))}
	if stamped != nil {
		parts = append(parts, casefile.Bytes(casefile.StampName, stamped.Response))
		if m.Trusted != nil {
			parts = append(parts, casefile.Bytes(casefile.TrustedName, m.Trusted))
		}
	}
	return parts, err
}

// stamps are the time stamps of the heads that were signed before now, whose stamp that is, with the certificates that they are
// trusted by if now has none.
func (m *Maker) stamps(ctx context.Context, book string, now *store.HeadStamp) (parts []casefile.Part, err error) {
	all, err := m.Store.HeadStamps(ctx, book, mostStamps)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		if now == nil || x.Head != now.Head {
			parts = append(parts, casefile.Bytes(casefile.StampPath([]byte(x.Head+"\n")), x.Response))
		}
	}
	if now == nil && len(parts) > 0 && m.Trusted != nil {
		parts = append(parts, casefile.Bytes(casefile.TrustedName, m.Trusted))
	}
	return parts, nil
}

// report is a report as a page at name, and as PDF beside it, if it can be set.
func (m *Maker) report(ctx context.Context, t *run.Task, r *Report, sheet *report.Report, name string, pdf func() ([]press.PDF, error)) (parts []casefile.Part, err error) {
	if err := fill(ctx, sheet, r.Case.ID, m.Store, m.Evidence, m.Previews); err != nil {
		return nil, err
	}
	html, err := press.HTML(sheet)
	if err != nil {
		return nil, fmt.Errorf("writing the report: %w", err)
	}
	parts = append(parts, casefile.Bytes(name, html))
	if m.Press.Lacks() != nil {
		return parts, nil
	}
	vs, err := pdf()
	switch {
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case err != nil: // the package has it as a page
		t.Logf("the report is not in it as PDF: %v", err)
	}
	for i, v := range vs {
		parts = append(parts, casefile.Bytes(casefile.PDFName(name, i+1), v.Bytes))
	}
	return parts, nil
}

// redactedParts are the payload of a redacted package: the redacted version of the report, and the head of the ledger. Nothing
// else of the case goes with it, and the bag says nothing of it that is redacted.
func (m *Maker) redactedParts(ctx context.Context, t *run.Task, r *Report, version *store.ReportVersion, head *ledger.Head, stamped *store.HeadStamp, bag *casefile.Bag) ([]casefile.Part, error) {
	if len(version.Redactions) == 0 {
		return nil, errors.New("the report has no redactions any more: there is no redacted version")
	}
	full := r.Compose(version)
	sheet, _, err := r.redact(ctx, m.Store, full, &version.Composition)
	if err != nil {
		return nil, err
	}
	// Whoever made it may be somebody who is redacted, and the title may hold what is.
	bag.By = m.Tool
	for _, s := range []*string{&bag.Title, &bag.Case} {
		named := *full
		named.Title = *s
		out, _, err := r.redact(ctx, m.Store, &named, &version.Composition)
		if err != nil {
			return nil, err
		}
		if s == &bag.Case && out.Title != *s {
			return nil, errors.New("the reference of the case holds what is redacted: a package is named after it, and cannot be without it")
		}
		*s = out.Title
	}
	parts, err := m.report(ctx, t, r, sheet, casefile.RedactedName, func() ([]press.PDF, error) { return m.Press.PDF(ctx, sheet, r.Tool, r.At) })
	if err != nil {
		return nil, err
	}
	proof, err := m.head(head, stamped)
	return append(parts, proof...), err
}

// mostStamps bounds the time stamps of a package.
const mostStamps = 1000

// parts are the payload of a package. bytes is about what they hold together.
func (m *Maker) parts(ctx context.Context, t *run.Task, r *Report, version *store.ReportVersion, head *ledger.Head, stamped *store.HeadStamp) (parts []casefile.Part, total int64, err error) {
	sheet := r.Compose(version)
	if parts, err = m.report(ctx, t, r, sheet, casefile.ReportName, func() ([]press.PDF, error) { return r.pdf(ctx, m.Store, m.Press, sheet) }); err != nil {
		return nil, 0, err
	}
	signed, n, err := m.signed(ctx, t, r, version)
	if err != nil {
		return nil, 0, err
	}
	parts, total = append(parts, signed...), n
	var lines bytes.Buffer
	var records []*casefile.RecordLine
	taken := map[string]bool{}
	used := map[*acquisition]bool{}
	// Of many records of a file it is asked once whether all of it may be seen, and what its acquisition has of it.
	type of struct {
		acquisition int64
		name        string
	}
	whole, own := map[of]func() (vault.Blob, error){}, map[of]string{}
	wholeOf := func(a *acquisition, sum string) (open func() (vault.Blob, error), err error) {
		open, asked := whole[of{a.ID, sum}]
		if !asked {
			if open, _, err = m.Evidence.Whole(ctx, r.Case.ID, &a.Acquisition, sum); err == nil {
				whole[of{a.ID, sum}] = open
			}
		}
		return open, err
	}
	ownOf := func(a *acquisition, stored string) (string, error) {
		sum, asked := own[of{a.ID, stored}]
		if !asked {
			f, err := m.Store.FileByPath(ctx, a.ID, store.Source, stored)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return "", err
			}
			if err == nil {
				sum = f.SHA256
			}
			own[of{a.ID, stored}] = sum
		}
		return sum, nil
	}
	for _, k := range r.Marked {
		o := k.Whole.Origin()
		open, err := wholeOf(k.Acquisition, o.SHA256)
		if err != nil {
			return nil, 0, err
		}
		said := *k.Whole
		if open == nil { // what proves it is there, and nothing else of its file
			said.Origins = said.Origins[:min(1, len(said.Origins))]
		}
		sum, err := ownOf(k.Acquisition, o.Stored)
		if err != nil {
			return nil, 0, err
		}
		content := sum != o.SHA256 // of what the acquisition's files hold
		l := &casefile.RecordLine{Record: &said, Exhibit: k.ExhibitRef, Acquisition: k.Acquisition.Number, Manifest: k.Acquisition.manifestName(content),
			FileWithheld: open == nil, Mark: *k.MarkReason, MarkedBy: *k.MarkBy, MarkedAt: k.MarkAt.UTC().Format(time.RFC3339)}
		records = append(records, l)
		used[k.Acquisition] = true
		if sum := o.MapSHA256; sum != "" && !taken["map "+sum] {
			taken["map "+sum] = true
			source, err := m.Store.FieldMap(ctx, sum)
			if err != nil {
				return nil, 0, err
			}
			parts = append(parts, casefile.Bytes(casefile.MapsDir+sum+".toml", []byte(source)))
			total += int64(len(source))
		}
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
			continue
		}
		more, n, err := m.attachments(ctx, r.Case.ID, &k, taken) // which may be any file: a row names it
		if err != nil {
			return nil, 0, err
		}
		parts, total = append(parts, more...), total+n
		for _, o := range said.Origins { // further ones may lie in the log
			if taken[o.SHA256] {
				continue
			}
			taken[o.SHA256] = true
			open, err := wholeOf(k.Acquisition, o.SHA256)
			if err != nil || open == nil {
				return nil, 0, cmp.Or(err, errors.New("a file is withheld since the package was begun"))
			}
			parts = append(parts, casefile.Part{Path: casefile.FilesDir + o.SHA256, Open: func() (io.ReadCloser, error) { return open() }})
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
			b, err := manifest(ctx, m.Store, a.ID, store.Content, func(f *store.File) string { return f.SHA256 })
			if err != nil {
				return nil, 0, err
			}
			parts = append(parts, casefile.Bytes(casefile.ManifestsDir+a.manifestName(true), b))
		}
		for suffix, sum := range map[string]func(*store.File) string{
			"sha256": func(f *store.File) string { return f.SHA256 }, "sha1": func(f *store.File) string { return f.SHA1 }, "md5": func(f *store.File) string { return f.MD5 }} {
			b, err := manifest(ctx, m.Store, a.ID, store.Source, sum)
			if err != nil {
				return nil, 0, err
			}
			parts = append(parts, casefile.Bytes(fmt.Sprintf("%s%s-acquisition-%d.%s", casefile.ManifestsDir, a.Reference, a.Number, suffix), b))
		}
	}
	var book bytes.Buffer
	n = 0
	for line, err := range m.Store.Lines(ctx, r.Case.Book()) {
		if err != nil {
			return nil, 0, err
		}
		if n++; n > head.Size {
			break
		}
		book.Write(append(line, '\n'))
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
	proof, err := m.head(head, stamped)
	if err != nil {
		return nil, 0, err
	}
	stamps, err := m.stamps(ctx, head.Book, stamped)
	if err != nil {
		return nil, 0, err
	}
	parts = append(append(parts, proof...), stamps...)
	for _, p := range []struct {
		path string
		b    []byte
	}{{casefile.ReaderName, casefile.Reader}, {casefile.RecordsName, lines.Bytes()}, {casefile.LedgerName, book.Bytes()}, {casefile.HeadsName, heads.Bytes()}} {
		parts = append(parts, casefile.Bytes(p.path, p.b))
		total += int64(len(p.b))
	}
	graph, err := casefile.Graph(r.Case.Reference, r.Case.Title, m.Tool, records)
	if err != nil {
		return nil, 0, err
	}
	parts = append(parts, casefile.Bytes(casefile.GraphName, graph))
	total += int64(len(graph))
	for path, b := range casefile.Tables(records) {
		parts = append(parts, casefile.Bytes(path, b))
		total += int64(len(b))
	}
	return parts, total, nil
}
