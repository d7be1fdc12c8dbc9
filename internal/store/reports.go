package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"time"

	"crosswind/core/report"
	"crosswind/core/scope"
)

// ReportVersion is what was written and arranged of a case's report at a time.
type ReportVersion struct {
	CaseID  int64 `db:"case_id"`
	Version int64
	Body    string
	By      string
	At      time.Time
	report.Composition
	Steps []ReportStep `db:"-"` // that were taken with it, in their order
}

// ReportStep is something that was done with a version of a report.
type ReportStep struct {
	ID      int64
	Version int64
	What    string // submitted, commented, returned, accepted or signed
	Note    string
	By      string
	At      time.Time
	Epoch   int64  `db:"scope_epoch"`
	SHA256  string `db:"sha256"`     // of the report that was signed, or of what the one that was accepted said, hex
	PDF     string `db:"pdf_sha256"` // SHA-256 of the same as PDF, hex, "" if it was not set
}

// Sheets are a report that is signed: as a page, and as PDF where that could be set.
type Sheets struct{ Page, PDF []byte }

// stepColumns are the columns of a step, without the report itself.
const stepColumns = "id, version, what, note, by, at, scope_epoch, sha256, pdf_sha256"

// The states of a version of a report.
const (
	Draft     = "draft"
	Submitted = "submitted"
	Returned  = "returned"
	Accepted  = "accepted"
	Signed    = "signed"
	Commented = "commented" // a step that changes no state
)

// State is how far a version has come.
func (v *ReportVersion) State() string {
	state := Draft
	for _, s := range v.Steps {
		if s.What != Commented {
			state = s.What
		}
	}
	return state
}

// Step is the last step of a kind, nil if it was not taken.
func (v *ReportVersion) Step(what string) (last *ReportStep) {
	for i := range v.Steps {
		if v.Steps[i].What == what {
			last = &v.Steps[i]
		}
	}
	return last
}

// ReportVersions lists the versions of a case's report, the newest first, so many at most, with what was done with them.
func (s *Store) ReportVersions(ctx context.Context, caseID int64, limit int) (out []ReportVersion, err error) {
	return s.reportVersions(ctx, caseID, "ORDER BY version DESC LIMIT $2", limit)
}

// Redactions counts the redactions of the newest version of a case's report.
func (s *Store) Redactions(ctx context.Context, caseID int64) (n int, err error) {
	err = s.get(ctx, &n, "counting redactions", "SELECT coalesce(max(jsonb_array_length(coalesce(body::jsonb->'redactions', '[]'))), 0) FROM report_version WHERE case_id = $1 AND version = (SELECT max(version) FROM report_version WHERE case_id = $1)", caseID)
	return n, err
}

func (s *Store) reportVersions(ctx context.Context, caseID int64, which string, args ...any) (out []ReportVersion, err error) {
	if err := s.list(ctx, &out, "listing the versions of the report", "SELECT * FROM report_version WHERE case_id = $1 "+which, append([]any{caseID}, args...)...); err != nil {
		return nil, err
	}
	var steps []ReportStep
	if err := s.list(ctx, &steps, "listing what was done with the report", "SELECT "+stepColumns+" FROM report_step WHERE case_id = $1 ORDER BY id", caseID); err != nil {
		return nil, err
	}
	for i := range out {
		v := &out[i]
		c, err := report.Decode([]byte(v.Body))
		if err != nil {
			return nil, fmt.Errorf("version %d of the report: %w", v.Version, err)
		}
		v.Composition = *c
		for _, x := range steps {
			if x.Version == v.Version {
				v.Steps = append(v.Steps, x)
			}
		}
	}
	return out, nil
}

// ReportVersion gives a version of a case's report, the newest for 0; before there is one it is version 0, which says nothing.
func (s *Store) ReportVersion(ctx context.Context, caseID, version int64) (*ReportVersion, error) {
	which, arg := "AND version = $2", version
	if version == 0 {
		which, arg = "ORDER BY version DESC LIMIT $2", 1
	}
	all, err := s.reportVersions(ctx, caseID, which, arg)
	switch {
	case err != nil:
		return nil, err
	case len(all) > 0:
		return &all[0], nil
	case version == 0:
		return &ReportVersion{CaseID: caseID}, nil
	}
	return nil, fmt.Errorf("version %d of the report: %w", version, ErrNotFound)
}

// lastReport locks the report of a case and gives the number of its newest version, 0 if there is none.
func (t *Tx) lastReport(c *Case) (version int64, err error) {
	if err := t.exec("locking the report", "SELECT 1 FROM cases WHERE id = $1 FOR UPDATE", c.ID); err != nil {
		return 0, err
	}
	if err := t.GetContext(t.ctx, &version, "SELECT coalesce(max(version), 0) FROM report_version WHERE case_id = $1", c.ID); err != nil {
		return 0, fmt.Errorf("reading the report: %w", err)
	}
	return version, nil
}

// SaveReport keeps a version of a report that follows the version was: ErrConflict if somebody else saved one meanwhile. What
// was signed stays as it is: the next version is a new one.
func (s *Store) SaveReport(ctx context.Context, c *Case, was int64, body *report.Composition, by string) error {
	b, err := body.Encode()
	if err != nil {
		return err
	}
	return s.Change(ctx, func(t *Tx) error {
		last, err := t.lastReport(c)
		if err != nil {
			return err
		}
		if last != was {
			return fmt.Errorf("the report %w: its version %d is the newest, and this was written from version %d", ErrConflict, last, was)
		}
		at, err := t.log(Act{c.Book(), by, "report.saved", c.Reference, map[string]string{"version": fmt.Sprint(was + 1), "sha256": fmt.Sprintf("%x", sha256.Sum256(b)), "findings": fmt.Sprint(len(body.Findings))}})
		if err != nil {
			return err
		}
		return t.exec("keeping the report", "INSERT INTO report_version(case_id, version, body, by, at) VALUES ($1, $2, $3, $4, $5)", c.ID, was+1, string(b), by, at)
	})
}

// before is the state that a step needs.
var before = map[string][]string{Submitted: {Draft, Returned, Accepted}, Returned: {Submitted}, Accepted: {Submitted}, Signed: {Accepted}, Commented: {Draft, Submitted, Returned, Accepted, Signed}}

// ErrStep is wrapped when a step cannot be taken with a version of a report.
var ErrStep = errors.New("cannot be done")

// StepReport does something with the newest version of a report: x says what, by whom, and, of what is accepted, the SHA-256
// of what it says. Nobody accepts or returns what they wrote themselves, in this version or an earlier one. Sheets are of
// what is signed.
func (s *Store) StepReport(ctx context.Context, c *Case, x ReportStep, sheets Sheets) error {
	version, what, note, by := x.Version, x.What, x.Note, x.By
	if what == Signed {
		x.SHA256 = fmt.Sprintf("%x", sha256.Sum256(sheets.Page))
		if sheets.PDF != nil {
			x.PDF = fmt.Sprintf("%x", sha256.Sum256(sheets.PDF))
		}
	}
	return s.Change(ctx, func(t *Tx) error {
		last, err := t.lastReport(c)
		if err != nil {
			return err
		}
		if last != version || version == 0 {
			return fmt.Errorf("the report %w: its version %d is the newest", ErrConflict, last)
		}
		v := ReportVersion{}
		if err := t.SelectContext(t.ctx, &v.Steps, "SELECT "+stepColumns+" FROM report_step WHERE case_id = $1 AND version = $2 ORDER BY id", c.ID, version); err != nil {
			return fmt.Errorf("reading what was done with the report: %w", err)
		}
		if state := v.State(); !slices.Contains(before[what], state) {
			return fmt.Errorf("%w: version %d is %s, and cannot be %s", ErrStep, version, state, what)
		}
		if what == Accepted || what == Returned {
			var own bool
			if err := t.GetContext(t.ctx, &own, "SELECT EXISTS (SELECT FROM report_version WHERE case_id = $1 AND by = $2)", c.ID, by); err != nil {
				return fmt.Errorf("reading who wrote the report: %w", err)
			}
			if own {
				return fmt.Errorf("%w: %s wrote of this report, and nobody reviews their own", ErrStep, by)
			}
		}
		d := map[string]string{"version": fmt.Sprint(version)}
		if x.SHA256 != "" {
			d["sha256"] = x.SHA256
		}
		if x.PDF != "" {
			d["pdf_sha256"] = x.PDF
		}
		if note != "" { // the words stay here: they may be of evidence
			d["note_sha256"] = fmt.Sprintf("%x", sha256.Sum256([]byte(note)))
		}
		at, err := t.log(Act{c.Book(), by, "report." + what, c.Reference, d})
		if err != nil {
			return err
		}
		return t.exec("keeping what was done with the report", "INSERT INTO report_step(case_id, version, what, note, by, at, scope_epoch, page, sha256, pdf, pdf_sha256) SELECT $1, $2, $3, $4, $5, $6, scope_epoch, $7, $8, $9, $10 FROM cases WHERE id = $1",
			c.ID, version, what, note, by, at, sheets.Page, x.SHA256, sheets.PDF, x.PDF)
	})
}

// SignedReport gives a report that was signed, as it was then, with its SHA-256, hex: the page, or the PDF, which may be
// ErrNotFound. One that was signed under other authorities may hold what is withheld now: that is ErrWithheld.
func (s *Store) SignedReport(ctx context.Context, c *Case, version int64, pdf bool) (page []byte, sum string, err error) {
	var x struct {
		Page   []byte
		SHA256 string `db:"sha256"`
		Same   bool
	}
	columns := "r.page, r.sha256"
	if pdf {
		columns = "r.pdf AS page, r.pdf_sha256 AS sha256"
	}
	if err := s.get(ctx, &x, fmt.Sprintf("a signed version %d of the report", version), "SELECT "+columns+", r.scope_epoch = c.scope_epoch AS same FROM report_step r JOIN cases c ON c.id = r.case_id WHERE r.case_id = $1 AND r.version = $2 AND r.what = 'signed'", c.ID, version); err != nil {
		return nil, "", err
	}
	if !x.Same {
		return nil, "", fmt.Errorf("%w: version %d of the report was signed under other authorities; sign a new version", scope.ErrWithheld, version)
	}
	if x.SHA256 == "" {
		return nil, "", fmt.Errorf("a PDF of version %d of the report: %w", version, ErrNotFound)
	}
	if got := fmt.Sprintf("%x", sha256.Sum256(x.Page)); got != x.SHA256 {
		return nil, "", fmt.Errorf("integrity has failed: the signed version %d of the report has the SHA-256 %s, its entry says %s; it is not handed out", version, got, x.SHA256)
	}
	return x.Page, x.SHA256, nil
}
