package store

import (
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"sync"
	"time"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

	"crosswind/core/gap"
	"crosswind/core/record"
	"crosswind/core/timeline"
)

// A chart asks the same of a filter again for each window that somebody looks at, and so does every page of Examine. Where
// the database takes long to count, the times of the records are held in memory, of any window, kind, state and exhibit,
// until records of the case change.

// tooLong is how long the database counts at least for the times to be held.
const tooLong = 100 * time.Millisecond

// mostHeld bounds how many bytes of memory what is held takes.
const mostHeld = 160 << 20

// times are when the records of a filter happened, by what a chart tells apart.
type times []moments

type moments struct {
	Kind    record.Kind
	State   record.State
	Exhibit int64
	instants
	ids func() *roaring64.Bitmap // of the records, put together when it is first asked for
}

// instants are when records happened, in order of time and number.
type instants struct {
	at []int64 // microseconds since 1970
	id []int64 // of the record
}

func (x *instants) Len() int           { return len(x.at) }
func (x *instants) Less(i, j int) bool { return x.compare(i, x.at[j], x.id[j]) < 0 }
func (x *instants) Swap(i, j int) {
	x.at[i], x.at[j] = x.at[j], x.at[i]
	x.id[i], x.id[j] = x.id[j], x.id[i]
}

func (x *instants) compare(i int, at, id int64) int {
	if c := cmp.Compare(x.at[i], at); c != 0 {
		return c
	}
	return cmp.Compare(x.id[i], id)
}

// sentInstants reads instants as PostgreSQL sends them: times and numbers.
func sentInstants(at, id []byte) instants {
	x := instants{sentTimes(at), sentNumbers(id)}
	if !sort.IsSorted(&x) {
		sort.Sort(&x)
	}
	return x
}

// bitmap puts together the records of instants.
func (x *instants) bitmap() *roaring64.Bitmap {
	ids := make([]uint64, len(x.id))
	for i, id := range x.id {
		ids[i] = uint64(id)
	}
	slices.Sort(ids)
	out := roaring64.New()
	out.AddMany(ids)
	return out
}

// between gives from where on to before where instants lie in a window; of one whose ends are not known as much as there is.
func (x *instants) between(from, to time.Time) (i, end int) {
	if end = len(x.at); !to.IsZero() {
		end, _ = slices.BinarySearch(x.at, to.UnixMicro())
	}
	if !from.IsZero() {
		i, _ = slices.BinarySearch(x.at, from.UnixMicro())
	}
	return min(i, end), end
}

// memory holds what takes long to find, by a name for it.
type memory struct {
	mu   sync.Mutex
	held map[string]*holding
	used []string        // the longest unused first
	size int             // bytes in all
	due  map[string]bool // what is to be held, since it took long to find

	turns map[string]bool // what waits to be held behind an answer
}

// expect notes that something is to be held; expected reports whether it is.
func (m *memory) expect(key string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.due == nil {
		m.due = map[string]bool{}
	}
	m.due[key] = true
}

// forget takes that back.
func (m *memory) forget(key string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.due, key)
}

func (m *memory) expected(key string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.due[key]
}

type holding struct {
	changes int64 // of what it is of, before it was found
	found   any
	size    int // bytes, about
}

// tooLarge is held in place of what is larger than all that can be held, so that it is not found again behind each answer.
type tooLarge struct{}

func (m *memory) get(key string) *holding {
	m.mu.Lock()
	defer m.mu.Unlock()
	h := m.held[key]
	if h != nil {
		m.used = append(slices.DeleteFunc(m.used, func(k string) bool { return k == key }), key)
	}
	return h
}

func (m *memory) drop(key string) {
	if h := m.held[key]; h != nil {
		delete(m.held, key)
		m.used = slices.DeleteFunc(m.used, func(k string) bool { return k == key })
		m.size -= h.size
	}
}

func (m *memory) put(key string, h *holding) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.drop(key)
	delete(m.due, key)
	if h.size > mostHeld {
		h.found, h.size = tooLarge{}, 1024
	}
	for m.size+h.size > mostHeld {
		m.drop(m.used[0])
	}
	if m.held == nil {
		m.held = map[string]*holding{}
	}
	m.held[key], m.used, m.size = h, append(m.used, key), m.size+h.size
}

// lasting is the filter without what a count of times asks itself, and a name for it, "" if what it finds can change
// without the records.
func (f Filter) lasting() (Filter, string) {
	f.From, f.To, f.Kinds, f.State, f.Exhibit, f.Exhibits = time.Time{}, time.Time{}, nil, "", 0, nil
	if f.Marked || f.Label != "" || f.Noted || f.Hidden || f.System {
		return f, ""
	}
	b, err := json.Marshal(f)
	if err != nil { // a place that is no number
		return f, ""
	}
	return f, string(b)
}

// held gives what is held under a name if no record of the case, or of some acquisitions of it if there are any in of, has
// changed since it was found.
func held[T any](ctx context.Context, s *Store, caseID int64, of []int64, key string) (out T, ok bool, err error) {
	h := s.memory.get(key)
	if h == nil {
		return out, false, nil
	}
	var n int64
	if err := s.get(ctx, &n, "asking whether records have changed", changes, caseID, of); err != nil || n != h.changes {
		return out, false, err
	}
	out, ok = h.found.(T)
	return out, ok, nil
}

// hold gives what is held under a name as held does, or finds it, and holds it. Who asks while it is being found waits for
// that, and it is found even if nobody waits any more, unless the store is closed.
func hold[T any](ctx context.Context, s *Store, caseID int64, of []int64, key string, find func(context.Context) (found T, size int, err error)) (T, error) {
	if out, ok, err := held[T](ctx, s, caseID, of, key); ok || err != nil {
		return out, err
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	defer context.AfterFunc(s.ctx, stop)()
	found, err := once(&s.asking, "holding "+key, func() (any, error) {
		if out, ok, err := held[T](ctx, s, caseID, of, key); ok || err != nil { // by whom this one waited for
			return out, err
		}
		h := &holding{}
		// Before it is found: what changes meanwhile makes it one to be found anew.
		if err := s.get(ctx, &h.changes, "counting changes", changes, caseID, of); err != nil {
			return nil, err
		}
		found, size, err := find(ctx)
		if err == nil {
			h.found, h.size = found, size+1024 // so that what is small is given up some time, too
			s.memory.put(key, h)
		}
		return found, err
	})
	out, _ := found.(T)
	return out, err
}

// holdBehind has something of a case be held behind an answer, one thing after another: connections are for pages. What
// waits already does not wait twice, and what fails is found as it was.
func (s *Store) holdBehind(caseID int64, key string, hold func(context.Context) error) {
	turn := fmt.Sprint(caseID, key)
	if !s.memory.wait(turn) {
		return
	}
	s.behind.Go(func() {
		s.holding.Lock()
		defer s.holding.Unlock()
		defer s.memory.leave(turn)
		if _, ok, err := held[tooLarge](s.ctx, s, caseID, nil, key); !ok && err == nil {
			_ = hold(s.ctx)
		}
	})
}

// mostTurns bounds how many things wait to be held: what had no turn is asked for again.
const mostTurns = 8

// wait takes a turn for what is to be held, if it has none and there are not too many; leave gives it back.
func (m *memory) wait(turn string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.turns[turn] || len(m.turns) == mostTurns {
		return false
	}
	if m.turns == nil {
		m.turns = map[string]bool{}
	}
	m.turns[turn] = true
	return true
}

func (m *memory) leave(turn string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.turns, turn)
}

// wants reports whether a filter asks for an exhibit, a kind and a state.
func (f *Filter) wants(exhibit int64, kind record.Kind, state record.State) bool {
	return (f.Exhibit == 0 || exhibit == f.Exhibit) && (len(f.Exhibits) == 0 || slices.Contains(f.Exhibits, exhibit)) &&
		(len(f.Kinds) == 0 || slices.Contains(f.Kinds, string(kind))) &&
		(f.State == "" || string(state) == f.State || f.State == "below" && state != record.Intact)
}

// some reports whether a filter asks for more than these and a time.
func (f *Filter) some() bool { return f.Words != "" || f.narrow() }

// heldTimes gives the times of a filter if they are held, or can be told from what is, and no record of the case has changed.
func (s *Store) heldTimes(ctx context.Context, f Filter) (times, bool, error) {
	f, key := f.lasting()
	t, ok, err := held[times](ctx, s, f.CaseID, nil, key)
	if ok || err != nil {
		return t, ok, err
	}
	if _, ok, err = s.fromSets(ctx, f); ok {
		t, err = s.holdTimes(ctx, f)
	}
	return t, ok && err == nil, err
}

// soonest has a question of a filter answered by its times if they are held; else find asks the database. If that takes long
// they are held behind it. If they are being held already both go on, and what is there first is the answer.
func (s *Store) soonest(ctx context.Context, f Filter, find func(context.Context) error) (times, bool, error) {
	if t, ok, err := s.heldTimes(ctx, f); ok || err != nil {
		return t, ok, err
	}
	_, key := f.lasting()
	if !s.memory.expected(key) {
		began := time.Now()
		err := find(ctx)
		if err == nil && time.Since(began) > tooLong {
			s.holdTimesBehind(f)
		}
		return nil, false, err
	}
	there, whole := make(chan times, 1), context.WithoutCancel(ctx)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	s.behind.Go(func() {
		if t, err := s.holdTimes(whole, f); err == nil {
			there <- t
		} else {
			s.memory.forget(key)
		}
	})
	found := make(chan error, 1)
	go func() { found <- find(ctx) }()
	select {
	case t := <-there:
		stop()
		<-found // which writes no more
		return t, true, nil
	case err := <-found:
		return nil, false, err
	}
}

// holdTimesBehind holds the times of a filter behind an answer that took long.
func (s *Store) holdTimesBehind(f Filter) {
	if _, key := f.lasting(); key != "" {
		s.holdBehind(f.CaseID, key, func(ctx context.Context) error {
			s.memory.expect(key)
			_, err := s.holdTimes(ctx, f)
			return err
		})
	}
}

// holdTimes reads the times of a filter, and holds them if they last.
func (s *Store) holdTimes(ctx context.Context, f Filter) (times, error) {
	f, key := f.lasting()
	if key == "" {
		t, _, err := s.times(ctx, f)
		return t, err
	}
	return hold(ctx, s, f.CaseID, nil, key, func(ctx context.Context) (times, int, error) { return s.times(ctx, f) })
}

// times reads the times of a filter of any time.
func (s *Store) times(ctx context.Context, f Filter) (out times, size int, err error) {
	if tell, ok, err := s.fromSets(ctx, f); err != nil {
		return nil, 0, err
	} else if ok {
		out = tell()
		return out, out.size(), nil
	}
	q, args, err := s.where(ctx, &f, false)
	if err != nil {
		return nil, 0, err
	}
	var rows []struct {
		Kind      record.Kind
		State     record.State
		ExhibitID int64 `db:"exhibit_id"`
		At, IDs   []byte
	}
	q = "SELECT r.kind, r.state, r.exhibit_id, string_agg(timestamptz_send(r.at), '') AS at, string_agg(int8send(r.id), '') AS ids" + f.countFrom() + q + " AND r.at IS NOT NULL GROUP BY 1, 2, 3"
	if err := s.grouped(ctx, &rows, f.Words != "", q, args...); err != nil {
		return nil, 0, err
	}
	for _, r := range rows {
		m := moments{Kind: r.Kind, State: r.State, Exhibit: r.ExhibitID, instants: sentInstants(r.At, r.IDs)}
		m.ids = sync.OnceValue(m.bitmap)
		out = append(out, m)
	}
	return out, out.size(), nil
}

// size is how many bytes times take, about: a bitmap has two for a record, and what it begins with.
func (t times) size() (n int) {
	for _, m := range t {
		n += 18*len(m.at) + 200
	}
	return n
}

// sentNumbers reads numbers as PostgreSQL sends them: 8 bytes big-endian each, one behind another.
func sentNumbers(b []byte) []int64 {
	out := make([]int64, len(b)/8)
	for i := range out {
		out[i] = int64(binary.BigEndian.Uint64(b[8*i:]))
	}
	return out
}

// sentTimes reads times as PostgreSQL sends them, microseconds since 2000, as such since 1970.
func sentTimes(b []byte) []int64 {
	epoch := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()
	out := sentNumbers(b)
	for i := range out {
		out[i] += epoch
	}
	return out
}

// each calls f for each bin of stride microseconds from a time on in which some moments are, with how many.
func (x *instants) each(from, to time.Time, stride int64, f func(bin, n int)) {
	begin := from.UnixMicro()
	i, end := x.between(from, to)
	at := x.at
	for i < end {
		bin := (at[i] - begin) / stride
		n, _ := slices.BinarySearch(at[i:end], begin+(bin+1)*stride)
		f(int(bin), n)
		i += n
	}
}

// hours is what [Store.Hours] says: of hours that begin in the window.
func (t times) hours(exhibit int64, from, to time.Time, kinds []string) (out []gap.Hour) {
	up := func(t time.Time) time.Time { return t.Add(time.Hour - time.Nanosecond).Truncate(time.Hour) }
	from, to = up(from), up(to)
	n := map[int]int64{}
	for _, m := range t {
		if m.Exhibit == exhibit && slices.Contains(kinds, string(m.Kind)) {
			m.each(from, to, time.Hour.Microseconds(), func(bin, k int) { n[bin] += int64(k) })
		}
	}
	for _, bin := range slices.Sorted(maps.Keys(n)) {
		out = append(out, gap.Hour{At: time.UnixMicro(from.UnixMicro() + int64(bin)*time.Hour.Microseconds()), N: n[bin]})
	}
	return out
}

// ids are all records of the times.
func (t times) ids() *roaring64.Bitmap {
	out := roaring64.New()
	for _, m := range t {
		out.Or(m.ids())
	}
	return out
}

// page gives the records of a page of [Store.Records] in order of time, and after which the next one begins, nil if this is the last.
func (t times) page(f *Filter, after After, limit int) (ids []int64, next *After) {
	var all instants
	for _, m := range t {
		if !f.wants(m.Exhibit, m.Kind, m.State) {
			continue
		}
		i, end := m.between(f.From, f.To)
		if at := after.At.UnixMicro(); after.ID == 0 {
		} else if after.Down {
			end = min(end, sort.Search(len(m.at), func(k int) bool { return m.compare(k, at, after.ID) >= 0 }))
		} else {
			i = max(i, sort.Search(len(m.at), func(k int) bool { return m.compare(k, at, after.ID) > 0 }))
		}
		if i >= end {
			continue
		}
		if after.Down {
			i = max(i, end-limit)
		} else {
			end = min(end, i+limit)
		}
		all.at, all.id = append(all.at, m.at[i:end]...), append(all.id, m.id[i:end]...)
	}
	if sort.Sort(&all); after.Down {
		slices.Reverse(all.at)
		slices.Reverse(all.id)
	}
	if len(all.id) >= limit {
		all.id = all.id[:limit]
		next = &After{Order: after.Order, At: time.UnixMicro(all.at[limit-1]), ID: all.id[limit-1]}
	}
	return all.id, next
}

// counts is what [Store.Counts] says, from times that are held.
func (t times) counts(f *Filter, stride int64) (out []timeline.Count) {
	for _, m := range t {
		if f.wants(m.Exhibit, m.Kind, m.State) {
			m.each(f.From, f.To, stride, func(bin, n int) { out = append(out, timeline.Count{Bin: bin, Kind: m.Kind, State: m.State, N: n}) })
		}
	}
	return out
}
