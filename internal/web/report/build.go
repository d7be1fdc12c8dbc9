package report

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/record"
	"crosswind/core/scope"
	"crosswind/internal/store"
	"crosswind/internal/validate"
)

// Report is everything that the report says.
type Report struct {
	Case         *store.Case
	Zone         *time.Location
	Authorities  []store.Authority
	Exhibits     []exhibit
	Acquisitions []acquisition
	Marked       []marked
	Gate         *scope.Gate
	Absent       []store.Gaps // numbers that no row has, of all databases
	Compared     []comparison
	Measured     *validate.Result // what was measured last of the build that writes the report, nil if nothing was
	Overridden   []store.Overridden
	Counts       map[string]int // marked records by state
	Ledger       *store.LedgerState
	Stamps       []store.HeadStamp // the last time stamp of the ledger, if there is one
	Key          string
	Tool         string
	By           string
	At           time.Time
	pictured     int            // pictures of records that were set
	numbers      map[string]int // of the marked records, by the keys by which they are cited
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
	Unread    []store.Unread
	Came      *store.Provenance // nil if nothing is known of it
	Checks    []store.Verification
	Faulty    []store.File
	Recovery  *store.Recovery
	Databases []store.RecoveredDatabase
}

// manifestName is the name of the acquisition's manifest in a package: of its own files, or of what they hold.
func (a *acquisition) manifestName(content bool) string {
	if content {
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

type marked struct {
	store.Record
	Whole       *record.Record
	Acquisition *acquisition
	*store.Present
	Went *store.Went // between when it was deleted, nil if nothing says that it was
}

// Build reads what the report says from the store.
func Build(ctx context.Context, s *store.Store, cs *store.Case, tool, by string) (*Report, error) {
	r := &Report{Case: cs, Zone: cs.Location(), Tool: tool, By: by, At: time.Now(), Counts: map[string]int{}, Key: hex.EncodeToString(s.Key())}
	var err error
	if r.Authorities, err = s.Authorities(ctx, cs.ID); err != nil {
		return nil, err
	}
	if r.Gate, err = s.Gate(ctx, cs.ID); err != nil {
		return nil, err
	}
	if r.Measured, err = measured(ctx, s); err != nil {
		return nil, err
	}
	if r.Absent, err = s.Gaps(ctx, cs.ID, 0); err != nil {
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
	came, err := s.Provenances(ctx, cs)
	if err != nil {
		return nil, err
	}
	for _, a := range as {
		x, err := readAcquisition(ctx, s, a, refs[a.ExhibitID])
		if err != nil {
			return nil, err
		}
		x.Came = came.Of(x.Reference, &x.Acquisition)
		r.Acquisitions = append(r.Acquisitions, *x)
	}
	if r.Compared, err = compared(ctx, s, cs.ID); err != nil {
		return nil, err
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
	if err == nil {
		r.Stamps, err = s.HeadStamps(ctx, cs.Book(), 1)
	}
	return r, err
}

// comparison is what two sources of one exhibit have, the later of which is the next after the earlier.
type comparison struct {
	Earlier, Later *store.SourceOf
	Kinds          []store.ComparedKind
}

// mostCompared bounds the comparisons of a report.
const mostCompared = 50

// compared compares the sources of each exhibit in the order of their times.
func compared(ctx context.Context, s *store.Store, caseID int64) (out []comparison, err error) {
	all, err := s.Sources(ctx, caseID, nil)
	if err != nil {
		return nil, err
	}
	for _, two := range store.Successive(all) {
		kinds, err := s.CompareKinds(ctx, &two[0].Acquisition, &two[1].Acquisition)
		if err != nil {
			return nil, err
		}
		if len(kinds) > 0 {
			out = append(out, comparison{two[0], two[1], kinds})
		}
		if len(out) == mostCompared {
			break
		}
	}
	return out, nil
}

// measured gives what was measured last of the build that runs, nil if nothing was.
func measured(ctx context.Context, s *store.Store) (*validate.Result, error) {
	build, err := validate.Build()
	if err != nil {
		return nil, err
	}
	all, err := s.Validations(ctx, build, 1)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return validate.Decode([]byte(all[0].Body))
}

func readAcquisition(ctx context.Context, s *store.Store, a store.Acquisition, ref string) (*acquisition, error) {
	x := &acquisition{Acquisition: a, Reference: ref}
	err := json.Unmarshal(a.Facts, &x.Label)
	if err == nil {
		x.Faults, err = s.AcquisitionFaults(ctx, a.ID)
	}
	if err == nil {
		x.Unread, err = s.Unread(ctx, a.ID, "")
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
	if err == nil {
		x.Databases, err = store.Together(x.Databases)
	}
	return x, err
}

func (r *Report) add(ctx context.Context, s *store.Store, page []store.Record) error {
	var ids []int64
	for _, rec := range page {
		ids = append(ids, rec.ID)
	}
	went, err := s.Went(ctx, r.Case.ID, ids...)
	if err != nil {
		return err
	}
	present, err := s.Present(ctx, r.Case.ID, page...)
	if err != nil {
		return err
	}
	for _, rec := range page {
		m := marked{Record: rec, Went: went[rec.ID], Present: present[rec.ID]}
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
		r.Counts[rec.State.Title()]++
		r.Marked = append(r.Marked, m)
	}
	return nil
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
