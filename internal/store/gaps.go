package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"crosswind/core/gap"
	"crosswind/core/record"
)

// Gaps is what the numbers of a table's rows say, as the last full pass over an acquisition read it.
type Gaps struct {
	*gap.Numbers
	AcquisitionID int64 `db:"acquisition_id"`
	ExhibitRef    string
	AcqNo         int
	DB            string
	Times         map[int64]time.Time // of rows beside gaps that have a record which may be seen
	Record        map[int64]int64     // and its id
}

// Gaps lists the tables of a case, or of one of its exhibits, whose rows are numbered, if records of them may be seen.
func (s *Store) Gaps(ctx context.Context, caseID, exhibit int64) (out []Gaps, err error) {
	var all []struct {
		AcquisitionID int64  `db:"acquisition_id"`
		ExhibitRef    string `db:"exhibit_ref"`
		AcqNo         int    `db:"acq_no"`
		Path          string
		Gaps          json.RawMessage
	}
	err = s.list(ctx, &all, "listing gaps", `SELECT DISTINCT ON (e.reference, a.number, d.path) a.id AS acquisition_id, e.reference AS exhibit_ref, a.number AS acq_no, d.path, d.gaps
FROM recovered_database d JOIN recovery v ON v.id = d.recovery_id JOIN acquisition a ON a.id = v.acquisition_id JOIN exhibit e ON e.id = a.exhibit_id
WHERE a.case_id = $1 AND ($2 = 0 OR a.exhibit_id = $2) AND d.whole AND d.gaps <> '[]' AND NOT a.live_only ORDER BY e.reference, a.number, d.path, v.id DESC`, caseID, exhibit)
	if err != nil {
		return nil, err
	}
	// What lies beside gaps is asked for of all tables at once: a case can have a hundred.
	var acqs []int64
	var dbs, tabs, ids []string
	for _, x := range all {
		var tables []*gap.Numbers
		if err := json.Unmarshal(x.Gaps, &tables); err != nil {
			return nil, fmt.Errorf("the gaps of %s: %w", x.Path, err)
		}
		for _, t := range tables {
			out = append(out, Gaps{t, x.AcquisitionID, x.ExhibitRef, x.AcqNo, x.Path, map[int64]time.Time{}, map[int64]int64{}})
			for _, r := range t.Runs {
				for _, n := range []int64{r.From - 1, r.To + 1} {
					acqs, dbs, tabs, ids = append(acqs, x.AcquisitionID), append(dbs, x.Path), append(tabs, t.Table), append(ids, strconv.FormatInt(n, 10))
				}
			}
		}
	}
	// Which tables and rows these are changes with what full passes find.
	asked := sha256.New()
	for i := range out {
		fmt.Fprintf(asked, "%d %q %q;", out[i].AcquisitionID, out[i].DB, out[i].Table)
	}
	fmt.Fprintf(asked, "%d %q %q %q", acqs, dbs, tabs, ids)
	key := fmt.Sprintf("what lies beside gaps of case %d: %x", caseID, asked.Sum(nil))
	found, err := hold(ctx, s, caseID, nil, key, func(ctx context.Context) (*beside, int, error) {
		x := &beside{there: map[tableOf]bool{}}
		if err := s.list(ctx, &x.rows, "reading what lies beside gaps", gateSelect+`r.case_id = $1 AND (r.exhibit_id, r.db, r.row_id, r.acquisition_id, r.tab) IN
  (SELECT a.exhibit_id, x.db, x.row_id, a.id, x.tab FROM unnest($2::bigint[], $3::text[], $4::text[], $5::text[]) x(acquisition_id, db, tab, row_id) JOIN acquisition a ON a.id = x.acquisition_id)
  AND r.at IS NOT NULL ORDER BY r.at`, caseID, Array[int64](acqs).param(), Array[string](dbs).param(), Array[string](tabs).param(), Array[string](ids).param()); err != nil {
			return nil, 0, err
		}
		for _, r := range x.rows {
			x.there[tableOf{r.AcquisitionID, r.DB, r.Table}] = true
		}
		for i := range out {
			k := out[i].of()
			there := x.there[k]
			if !there {
				if err := s.get(ctx, &there, "whether there are records of a table", "SELECT EXISTS (SELECT FROM record WHERE case_id = $1 AND acquisition_id = $2 AND db = $3 AND tab = $4)", caseID, k.acquisition, k.db, k.table); err != nil {
					return nil, 0, err
				}
			}
			x.there[k] = there
		}
		return x, 800 * len(x.rows), nil
	})
	if err != nil {
		return nil, err
	}
	rows, err := s.admitted(ctx, caseID, slices.Clone(found.rows))
	if err != nil {
		return nil, err
	}
	of := map[tableOf]*Gaps{}
	for i := range out {
		of[out[i].of()] = &out[i]
	}
	for _, r := range rows {
		g := of[tableOf{r.AcquisitionID, r.DB, r.Table}]
		if g == nil { // whose name the database has in another form
			continue
		}
		if n, err := strconv.ParseInt(*r.RowID, 10, 64); err == nil && g.Times[n].IsZero() {
			g.Times[n], g.Record[n] = *r.At, r.ID
		}
	}
	return slices.DeleteFunc(out, func(g Gaps) bool { return !found.there[g.of()] }), nil
}

// beside is what there is of tables with gaps.
type beside struct {
	rows  []Record // with a time, beside a gap: with what the gate asks of them
	there map[tableOf]bool
}

func (g *Gaps) of() tableOf { return tableOf{g.AcquisitionID, g.DB, g.Table} }

// tableOf is a table of a database of an acquisition.
type tableOf struct {
	acquisition int64
	db, table   string
}

// Hours lists in which hours an exhibit recorded how much of what happens of itself: not what was planned, or is known of
// people. Records are those that scope admits; their times are as the exhibit's own clock had them.
func (s *Store) Hours(ctx context.Context, caseID, exhibit int64, from, to time.Time) (out []gap.Hour, err error) {
	if t, ok, err := s.heldTimes(ctx, Filter{CaseID: caseID}); err != nil {
		return nil, err
	} else if ok {
		return t.hours(exhibit, from, to, record.KindsOf(happens)), nil
	}
	err = s.list(ctx, &out, "listing the hours of an exhibit", `SELECT at, sum(n)::bigint AS n FROM record_hour WHERE case_id = $1 AND exhibit_id = $2 AND at >= $3 AND at < $4 AND kind = ANY($5)
GROUP BY at ORDER BY at`, caseID, exhibit, from, to, kindsOf(happens))
	return out, err
}

// happens reports whether a kind is of what happens of itself.
func happens(a record.About) bool { return a.Group != record.Plans && a.Group != record.People }

// Recorded counts the records with a time of a case, or of one of its exhibits.
func (s *Store) Recorded(ctx context.Context, caseID, exhibit int64) (n int64, err error) {
	err = s.get(ctx, &n, "counting records", "SELECT coalesce(sum(timed), 0)::bigint FROM record_sum WHERE case_id = $1 AND ($2 = 0 OR exhibit_id = $2)", caseID, exhibit)
	return n, err
}

// ClockStep is a step back of the times of a table's rows in the order of their numbers, between two records.
type ClockStep struct {
	Before, After Record
	Back          time.Duration
}

// MostSteps bounds the steps of the clock that are kept of a case: those that are told are the largest then.
const MostSteps = 500

// ClockSteps finds where the times of live rows of what happens of itself go back against the order of their numbers, in tables of
// which nineteen in twenty follow time: see [gap.Jumps]. Of more than [MostSteps] these are the largest.
func (s *Store) ClockSteps(ctx context.Context, caseID, exhibit int64) (out []ClockStep, err error) {
	steps, err := s.clockSteps(ctx, caseID)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for _, x := range steps {
		ids = append(ids, x.Before, x.After)
	}
	found, err := s.RecordsByID(ctx, caseID, ids)
	for _, x := range steps {
		if a, b := found[x.Before], found[x.After]; a != nil && b != nil && (exhibit == 0 || a.ExhibitID == exhibit) {
			out = append(out, ClockStep{*a, *b, x.Back})
		}
	}
	return out, err
}

// clockStep is a ClockStep by its records' ids.
type clockStep struct {
	Before, After int64
	Back          time.Duration
}

// clockSteps finds the steps of all exhibits of a case, or gives those that are kept.
func (s *Store) clockSteps(ctx context.Context, caseID int64) ([]clockStep, error) {
	return kept(ctx, s, caseID, clockStepsOf, nil, func(t *Tx) (out []clockStep, err error) {
		var near []struct {
			AcquisitionID int64 `db:"acquisition_id"`
			DB, Tab       string
			I, ID         int64
			At            time.Time
		}
		err = t.SelectContext(t.ctx, &near, `SELECT acquisition_id, db, tab, i, id, at FROM (
  SELECT acquisition_id, db, tab, i, id, at, bool_or(step) OVER (PARTITION BY acquisition_id, db, tab ORDER BY i ROWS BETWEEN 6 PRECEDING AND 6 FOLLOWING) AS near,
    count(*) FILTER (WHERE back) OVER p * 20 <= count(*) OVER p AS follows FROM (
    SELECT acquisition_id, db, tab, id, at, row_number() OVER w AS i, lag(at) OVER w > at AS back, lag(at) OVER w >= at + interval '5 minutes' AS step FROM record r
    WHERE r.case_id = $1 AND r.state = 'intact' AND r.kind = ANY($2) AND r.at IS NOT NULL AND r.row_id ~ '^[0-9]{1,18}$'
    WINDOW w AS (PARTITION BY acquisition_id, db, tab ORDER BY row_id::bigint, id)
  ) t WINDOW p AS (PARTITION BY acquisition_id, db, tab)
) t WHERE near AND follows ORDER BY acquisition_id, db, tab, i LIMIT 100000`, caseID, kindsOf(happens))
		for from := 0; from < len(near); {
			to := from + 1
			for to < len(near) && near[to].I == near[to-1].I+1 && near[to].Tab == near[from].Tab && near[to].DB == near[from].DB && near[to].AcquisitionID == near[from].AcquisitionID {
				to++
			}
			var rows []gap.Row
			for _, x := range near[from:to] {
				rows = append(rows, gap.Row{Number: x.I, At: x.At})
			}
			for _, j := range gap.Jumps(rows) {
				out = append(out, clockStep{near[from+j.Before].ID, near[from+j.After].ID, j.Back})
			}
			from = to
		}
		if len(out) > MostSteps {
			slices.SortStableFunc(out, func(a, b clockStep) int { return cmp.Compare(b.Back, a.Back) })
			out = out[:MostSteps]
		}
		return out, err
	})
}

// ClockStepsKnown reports whether the steps of the clocks of a case were found already: to find them in a large one takes seconds.
func (s *Store) ClockStepsKnown(ctx context.Context, caseID int64) (is bool, err error) {
	err = s.get(ctx, &is, clockStepsOf, "SELECT EXISTS ("+isKept+")", caseID, []int64(nil), clockStepsOf)
	return is, err
}

// clockStepsOf is under which words they are kept.
const clockStepsOf = "steps of the clock"
