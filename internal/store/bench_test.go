package store_test

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
)

// BenchmarkKeepRecords keeps the records of a database, and reads them again: no slower a
// record for many than for few.
func BenchmarkKeepRecords(b *testing.B) {
	for _, n := range []int{1000, 20000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s := storetest.Open(b)
			c, e := newCase(b, s)
			_, keep := reading(b, s, c, e)
			for b.Loop() {
				for range 2 {
					if err := keep(n); err != nil {
						b.Fatal(err)
					}
				}
			}
			b.ReportMetric(float64(2*n*b.N)/b.Elapsed().Seconds(), "records/s")
		})
	}
}

// BenchmarkRunLog adds a line to a run's log and reads the run, as its worker and a page do
// four times a second: no slower after 85,000 lines than after 100.
func BenchmarkRunLog(b *testing.B) {
	for _, n := range []int{100, 85_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s := storetest.Open(b)
			ctx := context.Background()
			c, e := newCase(b, s)
			r, _ := reading(b, s, c, e)
			line := []string{"/data/talk/talk.db: 100 records, and what else a line says"}
			lines := int64(0)
			for range n / 10 {
				_, err := s.SaveProgress(ctx, r, store.Progress{Log: slices.Repeat(line, 10), Before: lines}, time.Minute)
				if lines += 10; err != nil {
					b.Fatal(err)
				}
			}
			for b.Loop() {
				_, err := s.SaveProgress(ctx, r, store.Progress{Log: line, Before: lines}, time.Minute)
				if lines++; err != nil {
					b.Fatal(err)
				}
				if _, err := s.RunByID(ctx, r.ID); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// BenchmarkExamine asks what a page of Examine does, at the server, of cases of 100,000 and
// of 1,000,000 records of every kind over 14 months: the longest of 19 of 20 requests with windows of an
// evening, a month and the whole span. Target: 150 ms for the chart's counts, 80 for a page
// of the list.
func BenchmarkExamine(b *testing.B) {
	for _, n := range []int{100_000, 1_000_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s, owner := storetest.OpenWithOwner(b)
			ctx := context.Background()
			c, e := newCase(b, s)
			reading(b, s, c, e)
			var acq int64
			if err := owner.QueryRowContext(ctx, "SELECT id FROM acquisition WHERE exhibit_id = $1", e.ID).Scan(&acq); err != nil {
				b.Fatal(err)
			}
			var kinds string // as SQL writes an array of them
			for _, k := range record.Kinds() {
				kinds += ",'" + string(k) + "'"
			}
			kinds = "ARRAY[" + kinds[1:] + "]"
			for _, q := range []string{
				fmt.Sprintf(`INSERT INTO record(case_id, exhibit_id, acquisition_id, uid, kind, state, place, at, thread, thread_title, person, handle, parties, direction, summary, words, db)
SELECT %d, %d, %d, i::text, CASE WHEN i%%5 < 2 THEN 'message' ELSE (%[5]s)[1+i%%%[6]d] END, CASE WHEN i%%13=0 THEN 'recovered' ELSE 'intact' END, 'live row', '2025-08-01Z'::timestamptz + interval '425 days' * (i*7919 %% %[4]d) / %[4]d,
 (i%%50)::text, '', 'One', '+44 7700 900' || lpad((i%%1000)::text, 3, '0'), ARRAY['+447700900' || lpad((i%%1000)::text, 3, '0')], 'in', 'the tide at ' || i || ' and the lamp', 'the tide at ' || i || CASE WHEN i%%5=0 THEN ' and the common lamp' ELSE ' or' END || CASE WHEN i%%5003=0 THEN ' rare' ELSE ' of' END || ' glass w' || i*7%%997 || ' x' || i%%4999, '/x' FROM generate_series(1, %[4]d::bigint) i`, c.ID, e.ID, acq, n, kinds, len(record.Kinds())),
				"UPDATE record SET latitude = 38 + id % 1000 * 1e-4, longitude = -24 WHERE id % 6 = 0",
				"VACUUM ANALYZE record", "VACUUM ANALYZE record_hour", // as the database does by itself
			} {
				if _, err := owner.ExecContext(ctx, q); err != nil {
					b.Fatal(err)
				}
			}
			begin := time.Date(2025, 8, 1, 0, 0, 0, 0, time.UTC)
			b.Run("200 requests with filters", func(b *testing.B) {
				var counts, list []time.Duration
				for b.Loop() {
					r := rand.New(rand.NewPCG(1, 1))
					for range 200 {
						span := time.Duration(float64(time.Hour) * math.Pow(426*24, r.Float64()))
						f := store.Filter{CaseID: c.ID, From: begin.Add(time.Duration(r.Float64() * float64(426*24*time.Hour-span)))}
						f.To = f.From.Add(span)
						f.State = []string{"", "", "below", "recovered"}[r.IntN(4)]
						f.Kinds = [][]string{nil, nil, {"call"}, {"message", "contact"}}[r.IntN(4)]
						f.Words = []string{"", "", "", "", "lamp", "rare", "w7", `"common lamp"`}[r.IntN(8)]
						f.Marked = r.IntN(20) == 0
						if r.IntN(4) == 0 {
							f.Exhibit = e.ID
						}
						began := time.Now()
						if _, err := s.Counts(ctx, f, 240); err != nil {
							b.Fatal(err)
						}
						counts = append(counts, time.Since(began))
						began = time.Now()
						if _, _, err := s.Records(ctx, f, store.After{}, 80); err != nil {
							b.Fatal(err)
						}
						list = append(list, time.Since(began))
					}
				}
				for what, d := range map[string][]time.Duration{"counts": counts, "list": list} {
					slices.Sort(d)
					b.ReportMetric(float64(d[len(d)/2].Microseconds())/1000, "ms-"+what+"-p50")
					b.ReportMetric(float64(d[len(d)*19/20].Microseconds())/1000, "ms-"+what+"-p95")
					b.ReportMetric(float64(d[len(d)-1].Microseconds())/1000, "ms-"+what+"-most")
				}
			})
			// As at the end of a reading, or behind the first page. What is asked first is told by itself.
			if err := s.Prepare(ctx, c.ID); err != nil {
				b.Fatal(err)
			}
			for name, f := range map[string]store.Filter{"word rare": {Words: "rare"}, "word common": {Words: "lamp"}, "word all": {Words: "tide"}, "phrase": {Words: `"common lamp"`}, "begin": {Words: "commo"},
				"number": {Words: "900417"}, "two words": {Words: "rare lamp"}, "app": {App: "X"}, "source": {Source: 1}, "with a place": {Placed: true}} {
				b.Run("filter "+name, func(b *testing.B) {
					f.CaseID, f.From, f.To = c.ID, begin, begin.AddDate(0, 15, 0)
					var counts, list []time.Duration
					for b.Loop() {
						began := time.Now()
						if _, err := s.Counts(ctx, f, 240); err != nil {
							b.Fatal(err)
						}
						counts = append(counts, time.Since(began))
						began = time.Now()
						if _, _, err := s.Records(ctx, f, store.After{}, 80); err != nil {
							b.Fatal(err)
						}
						list = append(list, time.Since(began))
					}
					for what, d := range map[string][]time.Duration{"counts": counts, "list": list} {
						b.ReportMetric(float64(d[0].Microseconds())/1000, "ms-first-"+what)
						slices.Sort(d)
						b.ReportMetric(float64(d[len(d)/2].Microseconds())/1000, "ms-"+what)
					}
				})
			}
			for name, view := range map[string]func(store.Filter) error{
				"conversations": func(f store.Filter) error { _, err := s.Talks(ctx, f, 80); return err },
				"people":        func(f store.Filter) error { _, err := s.Contacts(ctx, f); return err },
				"hours": func(f store.Filter) error {
					f.Parties = [][]string{{"+447700900417"}}
					_, err := s.Habits(ctx, f, time.UTC)
					return err
				},
				"places": func(f store.Filter) error { _, err := s.Placed(ctx, f, 30_000); return err },
			} {
				for _, span := range []int{1, 30, 426} {
					b.Run(fmt.Sprintf("view %s of %d days", name, span), func(b *testing.B) {
						f := store.Filter{CaseID: c.ID, From: begin, To: begin.AddDate(0, 0, span)}
						for b.Loop() {
							if err := view(f); err != nil {
								b.Fatal(err)
							}
						}
					})
				}
			}
			// A second source of the exhibit with a tenth of the records, and those of the last weeks missing.
			older, err := secondSource(s, owner, acq, n/10)
			if err != nil {
				b.Fatal(err)
			}
			for name, view := range map[string]func(store.Filter) error{
				"compare": func(f store.Filter) error {
					_, err := s.Compare(ctx, f, older, &store.Acquisition{ID: acq, ExhibitID: e.ID}, 200, [2]int64{})
					return err
				},
				"clock steps": func(f store.Filter) error { _, err := s.ClockSteps(ctx, c.ID, 0); return err },
				"silences":    func(f store.Filter) error { _, err := s.Hours(ctx, c.ID, e.ID, f.From, f.To); return err },
				"gaps":        func(f store.Filter) error { _, err := s.Gaps(ctx, c.ID, 0); return err },
				"deleted": func(f store.Filter) error {
					f.Gone = &store.Gone{From: begin.AddDate(0, 13, 0), To: begin.AddDate(0, 15, 0)}
					_, err := s.Counts(ctx, f, 240)
					return err
				},
				"missing later":         func(f store.Filter) error { return missingLater(ctx, s, f) },
				"missing later, a word": func(f store.Filter) error { f.Words = "lamp"; return missingLater(ctx, s, f) },
				"larger":                func(f store.Filter) error { f.Larger = 1; _, err := s.Counts(ctx, f, 240); return err },
				"by what": func(f store.Filter) error {
					_, _, err := s.Records(ctx, f, store.After{Order: store.Order{By: "what"}}, 80)
					return err
				},
				"latest": func(f store.Filter) error {
					_, _, err := s.Records(ctx, f, store.After{Order: store.Order{Down: true}}, 80)
					return err
				},
			} {
				for _, span := range []int{30, 426} {
					b.Run(fmt.Sprintf("view %s of %d days", name, span), func(b *testing.B) {
						f := store.Filter{CaseID: c.ID, From: begin.AddDate(0, 0, 426-span), To: begin.AddDate(0, 0, 426)}
						for b.Loop() {
							if err := view(f); err != nil {
								b.Fatal(err)
							}
						}
					})
				}
			}
			for name, span := range map[string]time.Duration{"evening": 6 * time.Hour, "month": 30 * 24 * time.Hour, "whole": 426 * 24 * time.Hour} {
				b.Run(name, func(b *testing.B) {
					var counts, list []time.Duration
					for b.Loop() {
						for i := range 20 {
							f := store.Filter{CaseID: c.ID, From: begin.Add(time.Duration(i) * 19 * 24 * time.Hour)}
							if name == "whole" {
								f.From = begin
							}
							f.To = f.From.Add(span)
							began := time.Now()
							if _, err := s.Counts(ctx, f, 240); err != nil {
								b.Fatal(err)
							}
							counts = append(counts, time.Since(began))
							began = time.Now()
							if _, _, err := s.Records(ctx, f, store.After{}, 80); err != nil {
								b.Fatal(err)
							}
							list = append(list, time.Since(began))
						}
					}
					p95 := func(d []time.Duration) float64 {
						slices.Sort(d)
						return float64(d[len(d)*19/20].Microseconds()) / 1000
					}
					b.ReportMetric(p95(counts), "ms-counts")
					b.ReportMetric(p95(list), "ms-list")
				})
			}
		})
	}
}

// missingLater counts what is missing later, once that has been worked out.
func missingLater(ctx context.Context, s *store.Store, f store.Filter) error {
	for {
		if _, known, err := s.MissingCounts(ctx, f, 240); known || err != nil {
			return err
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// secondSource makes an older source of an exhibit that has n of the records of another.
func secondSource(s *store.Store, owner *sql.DB, of int64, n int) (*store.Acquisition, error) {
	id := of + 1_000_000
	var err error
	for _, q := range []string{
		fmt.Sprintf("INSERT INTO run OVERRIDING SYSTEM VALUE SELECT (jsonb_populate_record(r, jsonb_build_object('id', %d))).* FROM run r LIMIT 1", id),
		fmt.Sprintf("INSERT INTO acquisition OVERRIDING SYSTEM VALUE SELECT (jsonb_populate_record(a, jsonb_build_object('id', %[1]d, 'run_id', %[1]d, 'number', 2))).* FROM acquisition a WHERE id = %[2]d", id, of),
		fmt.Sprintf(`UPDATE acquisition SET facts = CASE id WHEN %d THEN '{"made":"2026-10-01T00:00:00Z"}'::jsonb ELSE '{"made":"2026-09-10T00:00:00Z"}' END`, of),
		"UPDATE record SET tab = 't', row_id = uid",
		fmt.Sprintf(`INSERT INTO record(case_id, exhibit_id, acquisition_id, uid, kind, state, place, at, thread, thread_title, person, handle, parties, direction, summary, words, db, tab, row_id)
SELECT case_id, exhibit_id, %d, uid, kind, 'intact', place, at, thread, thread_title, person, handle, parties, direction, summary, words, db, tab, row_id FROM record WHERE acquisition_id = %d ORDER BY id LIMIT %d`, id, of, n),
		fmt.Sprintf("DELETE FROM record WHERE acquisition_id = %d AND id %% 50 = 0", of),
		"VACUUM ANALYZE record", "VACUUM ANALYZE record_hour",
	} {
		if err == nil {
			_, err = owner.Exec(q)
		}
	}
	if err != nil {
		return nil, err
	}
	return s.AcquisitionByID(context.Background(), id)
}
