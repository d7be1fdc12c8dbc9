package report

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/record"
	"crosswind/internal/run"
	"crosswind/internal/store"
)

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
	parts := record.Differing(read.Members(), k.Whole.Members())
	row := k.Record
	for _, c := range []struct{ name, row, body string }{{"kind", string(row.Kind), string(read.Kind)}, {"state", string(row.State), string(read.State)}, {"text", row.Summary, read.Summary()}, {"handle", row.Handle, read.Handle()},
		{"person", row.Person, read.Person()}, {"thread", row.Thread, read.Thread()}, {"thread_title", row.ThreadTitle, read.ThreadTitle()}, {"direction", row.Direction, read.Direction}, {"place", row.Place, read.Origin().Place},
		{"at", moment(row.At), moment(read.At())}} {
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

func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Truncate(time.Microsecond).Format(time.RFC3339Nano)
}
