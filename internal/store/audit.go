package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/ledger"
)

// Alarm is something that is not as the ledger or the vault says.
type Alarm struct {
	About, What string
	At          time.Time
}

// Alarms lists what was found wrong of a case, and not found right since.
func (s *Store) Alarms(ctx context.Context, caseID int64) (out []Alarm, err error) {
	err = s.list(ctx, &out, "listing the alarms", "SELECT about, what, at FROM alarm WHERE case_id = $1 ORDER BY at, about LIMIT 100", caseID)
	return out, err
}

// SetAlarms keeps what a check of a case found wrong, in place of what the one before
// found. What is new is told in the ledger.
func (s *Store) SetAlarms(ctx context.Context, c *Case, found []Alarm, by string) error {
	return s.change(ctx, func(t *Tx) error {
		var was []Alarm
		if err := t.SelectContext(ctx, &was, "DELETE FROM alarm WHERE case_id = $1 RETURNING about, what, at", c.ID); err != nil {
			return fmt.Errorf("keeping the alarms: %w", err)
		}
		for _, a := range found {
			if err := t.exec("keeping the alarms", "INSERT INTO alarm(case_id, about, what) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", c.ID, a.About, a.What); err != nil {
				return err
			}
			if slices.ContainsFunc(was, func(w Alarm) bool { return w.About == a.About && w.What == a.What }) {
				continue
			}
			if err := t.LogRepeated(Act{c.Book(), by, "integrity.failed", a.About, map[string]string{"fault": a.What}}); err != nil {
				return err
			}
		}
		return nil
	}, false)
}

// Audit compares what the database says of a case with what its ledger says: custody,
// marks, authorities, exhibits and acquisitions. It says of each that differs how.
func (s *Store) Audit(ctx context.Context, c *Case) (out []Alarm, err error) {
	var marks casefile.Marks
	b := book{custody: map[string][]ledger.Entry{}, authorities: map[string]ledger.Entry{}, acquisitions: map[string][]string{}, exhibits: map[string]ledger.Entry{}, reports: map[string]string{}}
	for line, err := range s.Lines(ctx, c.Book()) {
		if err != nil {
			return nil, err
		}
		var e ledger.Entry
		if err := json.Unmarshal(line, &e); err != nil {
			out = append(out, Alarm{About: "the ledger", What: "one of its lines is not an entry"})
			continue
		}
		marks.Add(&e)
		b.add(e)
	}
	for _, check := range []func(context.Context, *Case, *book) ([]Alarm, error){s.auditExhibits, s.auditAuthorities, s.auditAcquisitions, s.auditReports} {
		found, err := check(ctx, c, &b)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	found, err := s.auditMarks(ctx, c, &marks)
	return append(out, found...), err
}

// book is what a ledger says, by what it says it of.
type book struct {
	custody      map[string][]ledger.Entry // by exhibit
	exhibits     map[string]ledger.Entry
	authorities  map[string]ledger.Entry
	acquisitions map[string][]string // SHA-256 of manifests
	reports      map[string]string   // what was written and done of each version of the report, with its SHA-256
}

func (b *book) add(e ledger.Entry) {
	switch what := e.What; {
	case strings.HasPrefix(what, "custody."):
		b.custody[e.On] = append(b.custody[e.On], e)
	case what == "exhibit.registered":
		b.exhibits[e.On] = e
	case what == "exhibit.renamed":
		was := e.Detail["was"]
		b.custody[e.On], b.exhibits[e.On] = b.custody[was], b.exhibits[was]
		delete(b.custody, was)
		delete(b.exhibits, was)
	case what == "authority.recorded":
		b.authorities[e.On] = e
	case strings.HasPrefix(what, "report.") && what != "report.downloaded" && what != "report.taken_out":
		version := e.Detail["version"]
		b.reports[version] += fmt.Sprintf("%s %s %s%s; ", strings.TrimPrefix(what, "report."), e.By, e.Detail["sha256"], e.Detail["pdf_sha256"])
	case what == "acquisition.ended", what == "backup.unlocked", what == "backup.content_read", what == "image.content_read":
		b.acquisitions[e.On] = append(b.acquisitions[e.On], e.Detail["manifest_sha256"])
	}
}

// auditReports compares the versions of the report, who wrote them and what was done with them.
func (s *Store) auditReports(ctx context.Context, c *Case, b *book) (out []Alarm, err error) {
	all, err := s.reportVersions(ctx, c.ID, "ORDER BY version")
	if err != nil {
		return nil, err
	}
	there := map[string]string{}
	for _, v := range all {
		now := fmt.Sprintf("saved %s %x; ", v.By, sha256.Sum256([]byte(v.Body)))
		for _, x := range v.Steps {
			now += fmt.Sprintf("%s %s %s%s; ", x.What, x.By, x.SHA256, x.PDF)
		}
		there[fmt.Sprint(v.Version)] = now
	}
	for _, version := range slices.Sorted(maps.Keys(b.reports)) {
		if there[version] != b.reports[version] {
			out = append(out, Alarm{About: "version " + version + " of the report", What: "what was written of it, or done with it, is not what the ledger says"})
		}
		delete(there, version)
	}
	for _, version := range slices.Sorted(maps.Keys(there)) {
		out = append(out, Alarm{About: "version " + version + " of the report", What: "the ledger does not say that it was written"})
	}
	return out, nil
}

func (s *Store) auditExhibits(ctx context.Context, c *Case, b *book) (out []Alarm, err error) {
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	for _, e := range es {
		said, ok := b.exhibits[e.Reference]
		for what, now := range map[string]string{"model_mark": e.ModelMark, "serial": e.Serial, "imei": e.IMEI} {
			if !ok || said.Detail[what] != now {
				out = append(out, Alarm{About: "exhibit " + e.Reference, What: fmt.Sprintf("its %s is %q, the ledger says %q", what, now, said.Detail[what])})
			}
		}
		rows, err := s.CustodyOf(ctx, e.ID)
		if err != nil {
			return nil, err
		}
		slices.SortFunc(rows, func(x, y Custody) int { return int(x.ID - y.ID) }) // as they were recorded
		told := b.custody[e.Reference]
		for i := range max(len(rows), len(told)) {
			about := fmt.Sprintf("custody event %d of %s", i+1, e.Reference)
			switch {
			case i >= len(rows):
				out = append(out, Alarm{About: about, What: "it is in the ledger and not among the events"})
			case i >= len(told):
				out = append(out, Alarm{About: about, What: "it is not an entry of the ledger"})
			case rows[i].entry() != told[i].What || !maps.Equal(rows[i].detail(), told[i].Detail):
				out = append(out, Alarm{About: about, What: fmt.Sprintf("it says %s %v, the ledger %s %v", rows[i].entry(), rows[i].detail(), told[i].What, told[i].Detail)})
			}
		}
		delete(b.custody, e.Reference)
	}
	for ref := range b.custody {
		out = append(out, Alarm{About: "exhibit " + ref, What: "the ledger tells of its custody, and it is not there"})
	}
	return out, nil
}

func (s *Store) auditAuthorities(ctx context.Context, c *Case, b *book) (out []Alarm, err error) {
	all, err := s.Authorities(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	for i := range all {
		a := &all[i]
		said := b.authorities[a.Number].Detail
		if !maps.Equal(a.detail(), said) {
			out = append(out, Alarm{About: "authority " + a.Number, What: fmt.Sprintf("it says %v, the ledger %v", a.detail(), said)})
		}
		delete(b.authorities, a.Number)
	}
	for n := range b.authorities {
		out = append(out, Alarm{About: "authority " + n, What: "it is in the ledger and not among the authorities"})
	}
	return out, nil
}

func (s *Store) auditAcquisitions(ctx context.Context, c *Case, b *book) (out []Alarm, err error) {
	all, err := s.Acquisitions(ctx, c.ID, 0)
	if err != nil {
		return nil, err
	}
	es, err := s.Exhibits(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	refs := map[int64]string{}
	for _, e := range es {
		refs[e.ID] = e.Reference
	}
	told := map[string]bool{}
	for _, sums := range b.acquisitions {
		for _, s := range sums {
			told[s] = true
		}
	}
	for i := range all {
		a := &all[i]
		for _, sum := range []string{a.Manifest, a.ContentManifest} {
			if sum != "" && !told[sum] {
				out = append(out, Alarm{About: casefile.SourceName(refs[a.ExhibitID], a.Number), What: fmt.Sprintf("its manifest has the SHA-256 %s, which no entry of the ledger names", sum)})
			}
		}
	}
	return out, nil
}

func (s *Store) auditMarks(ctx context.Context, c *Case, marks *casefile.Marks) (out []Alarm, err error) {
	var rows []struct {
		UID    string
		Ref    string
		Number int
		Reason string
		Label  string
		By     string
	}
	if err := s.list(ctx, &rows, "listing the marks", `SELECT r.uid, e.reference AS ref, a.number, m.reason, m.label, m.by FROM mark m JOIN record r ON r.id = m.record_id JOIN acquisition a ON a.id = r.acquisition_id
JOIN exhibit e ON e.id = r.exhibit_id WHERE r.case_id = $1 ORDER BY r.id`, c.ID); err != nil {
		return nil, err
	}
	for _, r := range rows {
		about := "the mark of record " + r.UID
		switch m, ok := marks.Take(r.UID, casefile.SourceName(r.Ref, r.Number)); {
		case !ok:
			out = append(out, Alarm{About: about, What: "it is not an entry of the ledger"})
		case m.Label != r.Label:
			out = append(out, Alarm{About: about, What: fmt.Sprintf("its label is %q, in the ledger %q", r.Label, m.Label)})
		case m.Reason != r.Reason || m.By != r.By:
			out = append(out, Alarm{About: about, What: fmt.Sprintf("it says %q (%s), the ledger %q (%s)", r.Reason, r.By, m.Reason, m.By)})
		}
	}
	for _, left := range marks.Left() {
		out = append(out, Alarm{About: "the mark of record " + left, What: "it is in the ledger and not among the marks"})
	}
	return out, nil
}
