package examine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/timeline"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// clock is the exhibits whose clocks were off by the same: what they recorded as At was at
// At less Off.
type clock struct {
	Exhibits []int64 // all, if there are none
	Off      time.Duration
	Said     string // in words, of an exhibit whose offset was measured
}

// clocks gives the clocks of those exhibits that a page shows: one, or all for 0. measured lists what is known of
// them, in words. Where they are not applied there is one, that is right.
func clocks(p *frame.Page, exhibit int64) (all []clock, measured []string) {
	right := clock{}
	for i := range p.Exhibits {
		e := &p.Exhibits[i]
		if exhibit != 0 && exhibit != e.ID {
			continue
		}
		off, _ := e.Clock()
		if off == 0 {
			right.Exhibits = append(right.Exhibits, e.ID)
			continue
		}
		word := "fast"
		if off < 0 {
			word = "slow"
		}
		said := fmt.Sprintf("%s %s s %s", e.Reference, strings.TrimLeft(e.ClockOffset, "+-"), word)
		measured = append(measured, said)
		all = append(all, clock{[]int64{e.ID}, off, said})
	}
	if len(all) == 0 || p.Query.Get("clocks") == "" {
		return []clock{{}}, measured
	}
	if len(right.Exhibits) > 0 {
		all = append(all, right)
	}
	return all, measured
}

// of is the clock of an exhibit.
func of(all []clock, exhibit int64) clock {
	for _, k := range all {
		if slices.Contains(k.Exhibits, exhibit) {
			return k
		}
	}
	return clock{}
}

// filter is a filter of times that are right as one of times that the clock showed.
func (k clock) filter(f store.Filter) store.Filter {
	f.Exhibits = k.Exhibits
	if !f.From.IsZero() {
		f.From = f.From.Add(k.Off)
	}
	if !f.To.IsZero() {
		f.To = f.To.Add(k.Off)
	}
	return f
}

// right puts the times of records right.
func (k clock) right(rs []store.Record) {
	for i := range rs {
		if rs[i].At != nil && k.Off != 0 {
			at := rs[i].At.Add(-k.Off)
			rs[i].At = &at
		}
	}
}

// records lists n records by their right times, or more: as far as each clock's page of n goes.
func (a pages) records(ctx context.Context, all []clock, f store.Filter, after store.After, n int) (out []store.Record, next *store.After, err error) {
	for _, k := range all {
		from := after
		from.At = from.At.Add(k.Off)
		rs, more, err := a.Store.Records(ctx, k.filter(f), from, n)
		if err != nil {
			return nil, nil, err
		}
		k.right(rs)
		out = append(out, rs...)
		if more != nil {
			more.At = more.At.Add(-k.Off)
			if next == nil || more.Compare(*next) < 0 {
				next = more
			}
		}
	}
	slices.SortStableFunc(out, func(x, y store.Record) int { return x.After(after.Order).Compare(y.After(after.Order)) })
	if next != nil {
		out = slices.DeleteFunc(out, func(r store.Record) bool { return r.After(after.Order).Compare(*next) > 0 })
	}
	return out, next, nil
}

// counts counts records by their right times.
func (a pages) counts(ctx context.Context, all []clock, f store.Filter, bins int) (out []timeline.Count, err error) {
	for _, k := range all {
		some, err := a.Store.Counts(ctx, k.filter(f), bins)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// missing counts by their right times what is live in an older source and missing in a later one. known is false while that
// is worked out.
func (a pages) missing(ctx context.Context, all []clock, f store.Filter, bins int) (out []timeline.Count, known bool, err error) {
	known = true
	for _, k := range all {
		some, is, err := a.Store.MissingCounts(ctx, k.filter(f), bins)
		if err != nil {
			return nil, false, err
		}
		out, known = append(out, some...), known && is
	}
	return out, known, nil
}

// months lists the months in which there are records by their right times.
func (a pages) months(ctx context.Context, all []clock, f store.Filter) (out []timeline.Month, err error) {
	n := map[time.Time]int64{}
	for _, k := range all {
		some, err := a.Store.Months(ctx, k.filter(f))
		if err != nil {
			return nil, err
		}
		for _, m := range some {
			first, last := m.At.Add(-k.Off).UTC(), m.At.AddDate(0, 1, 0).Add(-k.Off-time.Microsecond).UTC()
			n[time.Date(first.Year(), first.Month(), 1, 0, 0, 0, 0, time.UTC)] += m.N
			n[time.Date(last.Year(), last.Month(), 1, 0, 0, 0, 0, time.UTC)] += 0 // which the month reaches into
		}
	}
	for at, k := range n {
		out = append(out, timeline.Month{At: at, N: k})
	}
	slices.SortFunc(out, func(x, y timeline.Month) int { return x.At.Compare(y.At) })
	return out, nil
}

// extent gives the right times of the first and the last record.
func (a pages) extent(ctx context.Context, all []clock, f store.Filter) (first, last *time.Time, err error) {
	for _, k := range all {
		from, to, err := a.Store.Extent(ctx, k.filter(f))
		if err != nil {
			return nil, nil, err
		}
		if from == nil {
			continue
		}
		x, y := from.Add(-k.Off), to.Add(-k.Off)
		if first == nil || x.Before(*first) {
			first = &x
		}
		if last == nil || y.After(*last) {
			last = &y
		}
	}
	return first, last, nil
}
