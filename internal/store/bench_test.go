package store_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

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
			for range n / 10 {
				if _, err := s.SaveProgress(ctx, r, store.Progress{Log: slices.Repeat(line, 10)}, time.Minute); err != nil {
					b.Fatal(err)
				}
			}
			for b.Loop() {
				if _, err := s.SaveProgress(ctx, r, store.Progress{Log: line}, time.Minute); err != nil {
					b.Fatal(err)
				}
				if _, err := s.RunByID(ctx, r.ID); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
