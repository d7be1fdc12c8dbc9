package store

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"crosswind/core/gap"
	"crosswind/core/record"
	"crosswind/core/timeline"
)

// A chart asks the same of a filter again for each window that somebody looks at, and so does every page of Examine. Where
// the database takes long to count, the times of the records are held in memory, of any window, kind, state and exhibit,
// until records of the case change.

// tooLong is how long the database counts at least for the times to be held.
const tooLong = 100 * time.Millisecond

// mostTimes bounds how many times are held: of eight bytes each.
const mostTimes = 6_000_000

// times are when the records of a filter happened, by what a chart tells apart.
type times struct {
	changes int64 // of the case, before they were read
	of      []moments
	n       int
}

type moments struct {
	Kind  record.Kind
	State record.State
	Of    int64   // the exhibit; of what two sources have, the side
	at    []int64 // microseconds since 1970, in order
}

// memory holds times by their filter.
type memory struct {
	mu   sync.Mutex
	held map[string]*times
	used []string // the longest unused first
	n    int      // times in all
}

func (m *memory) get(key string) *times {
	m.mu.Lock()
	defer m.mu.Unlock()
	t := m.held[key]
	if t != nil {
		m.used = append(slices.DeleteFunc(m.used, func(k string) bool { return k == key }), key)
	}
	return t
}

func (m *memory) drop(key string) {
	if t := m.held[key]; t != nil {
		delete(m.held, key)
		m.used = slices.DeleteFunc(m.used, func(k string) bool { return k == key })
		m.n -= t.n
	}
}

func (m *memory) put(key string, t *times) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.drop(key)
	if t.n > mostTimes {
		return
	}
	for m.n+t.n > mostTimes {
		m.drop(m.used[0])
	}
	if m.held == nil {
		m.held = map[string]*times{}
	}
	m.held[key], m.used, m.n = t, append(m.used, key), m.n+t.n
}

// lasting is the filter without what a count of times asks itself, and a name for it, "" if what it finds can change
// without the records.
func (f Filter) lasting() (Filter, string) {
	f.From, f.To, f.Kinds, f.State, f.Exhibit, f.Exhibits = time.Time{}, time.Time{}, nil, "", 0, nil
	if f.Marked || f.Noted || f.Hidden || f.System {
		return f, ""
	}
	b, err := json.Marshal(f)
	if err != nil { // a place that is no number
		return f, ""
	}
	return f, string(b)
}

// heldTimes gives the times of a filter if they are held and no record of the case has changed, else nil.
func (s *Store) heldTimes(ctx context.Context, f Filter) (*times, error) {
	_, key := f.lasting()
	return s.held(ctx, f.CaseID, key)
}

func (s *Store) held(ctx context.Context, caseID int64, key string) (*times, error) {
	t := s.memory.get(key)
	if t == nil {
		return nil, nil
	}
	var n int64
	if err := s.get(ctx, &n, "asking whether records have changed", changes, caseID, []int64(nil)); err != nil || n != t.changes {
		return nil, err
	}
	return t, nil
}

// holdBehind holds times behind an answer, one filter's at a time: connections are for pages. What fails is counted as it was.
func (s *Store) holdBehind(hold func(context.Context) error) {
	if s.holding.TryLock() {
		s.behind.Go(func() {
			defer s.holding.Unlock()
			_ = hold(s.ctx)
		})
	}
}

// hold reads the times of a filter, and holds them.
func (s *Store) hold(ctx context.Context, f Filter) error {
	f, key := f.lasting()
	if key == "" {
		return nil
	}
	return s.holdAs(ctx, key, f.CaseID, func(dst any) error {
		q, args, err := s.where(ctx, &f, false)
		if err != nil {
			return err
		}
		q = "SELECT r.kind, r.state, r.exhibit_id AS of, string_agg(timestamptz_send(r.at), '') AS at" + f.countFrom() + q + " AND r.at IS NOT NULL GROUP BY 1, 2, 3"
		if f.Words != "" {
			return s.byWords(ctx, dst, q, args...)
		}
		return s.list(ctx, dst, "reading the times of records", q, args...)
	})
}

// holdAs holds what read reads: rows of sent.
func (s *Store) holdAs(ctx context.Context, key string, caseID int64, read func(dst any) error) error {
	_, err, _ := s.asking.Do("times "+key, func() (any, error) {
		t := &times{}
		// Before they are read: what changes meanwhile makes them ones to be read anew.
		if err := s.get(ctx, &t.changes, "counting changes", changes, caseID, []int64(nil)); err != nil {
			return nil, err
		}
		var rows []sent
		if err := read(&rows); err != nil {
			return nil, err
		}
		for _, r := range rows {
			m, err := r.moments()
			if err != nil {
				return nil, err
			}
			t.of, t.n = append(t.of, m), t.n+len(m.at)
		}
		s.memory.put(key, t)
		return nil, nil
	})
	return err
}

// sent are moments as PostgreSQL sends their times: microseconds since 2000, 8 bytes big-endian each, one behind another.
type sent struct {
	Kind  record.Kind
	State record.State
	Of    int64
	At    []byte
}

func (r *sent) moments() (moments, error) {
	m := moments{Kind: r.Kind, State: r.State, Of: r.Of, at: make([]int64, len(r.At)/8)}
	if len(r.At)%8 != 0 {
		return m, fmt.Errorf("%d bytes are not times of 8 bytes each", len(r.At))
	}
	epoch := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()
	for i := range m.at {
		m.at[i] = int64(binary.BigEndian.Uint64(r.At[8*i:])) + epoch
	}
	if !slices.IsSorted(m.at) {
		slices.Sort(m.at)
	}
	return m, nil
}

// each calls f for each bin of stride microseconds from a time on in which some of the moments are, with how many.
func (m *moments) each(from, to time.Time, stride int64, f func(bin, n int)) {
	begin := from.UnixMicro()
	i, _ := slices.BinarySearch(m.at, begin)
	end, _ := slices.BinarySearch(m.at, to.UnixMicro())
	for i < end {
		bin := (m.at[i] - begin) / stride
		n, _ := slices.BinarySearch(m.at[i:end], begin+(bin+1)*stride)
		f(int(bin), n)
		i += n
	}
}

// hours is what [Store.Hours] says: of hours that begin in the window.
func (t *times) hours(exhibit int64, from, to time.Time, kinds []string) (out []gap.Hour) {
	up := func(t time.Time) time.Time { return t.Add(time.Hour - time.Nanosecond).Truncate(time.Hour) }
	from, to = up(from), up(to)
	n := map[int]int64{}
	for _, m := range t.of {
		if m.Of == exhibit && slices.Contains(kinds, string(m.Kind)) {
			m.each(from, to, time.Hour.Microseconds(), func(bin, k int) { n[bin] += int64(k) })
		}
	}
	for _, bin := range slices.Sorted(maps.Keys(n)) {
		out = append(out, gap.Hour{At: time.UnixMicro(from.UnixMicro() + int64(bin)*time.Hour.Microseconds()), N: n[bin]})
	}
	return out
}

// counts is what [Store.Counts] says, from times that are held.
func (t *times) counts(f *Filter, stride int64) (out []timeline.Count) {
	for _, m := range t.of {
		if (f.Exhibit == 0 || m.Of == f.Exhibit) && (len(f.Exhibits) == 0 || slices.Contains(f.Exhibits, m.Of)) && (len(f.Kinds) == 0 || slices.Contains(f.Kinds, string(m.Kind))) &&
			(f.State == "" || string(m.State) == f.State || f.State == "below" && m.State != record.Intact) {
			m.each(f.From, f.To, stride, func(bin, n int) { out = append(out, timeline.Count{Bin: bin, Kind: m.Kind, State: m.State, N: n}) })
		}
	}
	return out
}
