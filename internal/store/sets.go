package store

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

	"crosswind/core/search"
)

// sets are the records of a large case by what filters ask of them, so that those of a filter that many records meet are
// told from the times of all, and are not read: that takes the database a second for each million.
type sets struct {
	words    map[string]*roaring64.Bitmap // that have a word which many have
	begins   map[string]*roaring64.Bitmap // that have a word which begins so, as many have
	files    map[string]*roaring64.Bitmap // that lie in a file, by its path; nil if there are too many
	sources  map[int64]*roaring64.Bitmap  // of an acquisition
	attached *roaring64.Bitmap
	placed   *roaring64.Bitmap
}

const (
	manyRecords = 40_000 // that have a word, for a set of them: of fewer the database tells in no time
	mostWords   = 400    // of which there are sets, and of beginnings as many
	mostFiles   = 20_000 // of which there are sets
	leastBegin  = 3      // letters of a beginning of which there are sets, as in what is typed
	mostBegin   = 24     // and at most
	mostCounted = 200_000
)

func setsKey(caseID int64) string { return fmt.Sprintf("the sets of case %d", caseID) }

// holdSets finds the sets of a case, with words that about so many records have, or more, and holds them.
func (s *Store) holdSets(ctx context.Context, caseID int64, many int) (*sets, error) {
	return hold(ctx, s, caseID, nil, setsKey(caseID), func(ctx context.Context) (*sets, int, error) {
		x := &sets{files: map[string]*roaring64.Bitmap{}, sources: map[int64]*roaring64.Bitmap{}, attached: roaring64.New(), placed: roaring64.New()}
		if err := s.common(ctx, caseID, many, x); err != nil {
			return nil, 0, err
		}
		var db, words sql.RawBytes
		var id, source int64
		var attached, placed bool
		to := []any{&id, &source, &db, &words, &attached, &placed}
		err := s.each(ctx, "reading which records have what", to, func() {
			in(x.sources, source).Add(uint64(id))
			if x.files != nil {
				in(x.files, string(db)).Add(uint64(id))
				if len(x.files) > mostFiles {
					x.files = nil
				}
			}
			if attached {
				x.attached.Add(uint64(id))
			}
			if placed {
				x.placed.Add(uint64(id))
			}
			for word := range wordsOf(words) {
				if b := x.words[string(word)]; b != nil {
					b.Add(uint64(id))
				}
				for begin := range beginnings(word) {
					if b := x.begins[string(begin)]; b != nil {
						b.Add(uint64(id))
					}
				}
			}
		}, "SELECT id, acquisition_id, db, words, attached, latitude IS NOT NULL FROM record WHERE case_id = $1", caseID)
		return x, x.share(), err
	})
}

// each reads rows one after another, each into the same places.
func (s *Store) each(ctx context.Context, what string, to []any, row func(), q string, args ...any) error {
	rows, err := s.db.QueryContext(ctx, q, args...)
	if err == nil {
		defer rows.Close()
		for err == nil && rows.Next() {
			if err = rows.Scan(to...); err == nil {
				row()
			}
		}
		err = cmp.Or(err, rows.Err())
	}
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// common makes sets, empty as yet, of the words that many records have, and of what many words begin with, as a part of the
// table tells.
func (s *Store) common(ctx context.Context, caseID int64, many int, x *sets) error {
	n, err := s.Recorded(ctx, caseID, 0)
	if err != nil {
		return err
	}
	percent := min(100, 2e6/float64(n+1)) // 20,000 records, or all
	full, begun := map[string]int{}, map[string]int{}
	var words sql.RawBytes
	err = s.each(ctx, "reading which words are common", []any{&words}, func() {
		for word := range wordsOf(words) {
			count(full, word)
			for begin := range beginnings(word) {
				count(begun, begin)
			}
		}
	}, fmt.Sprintf("SELECT words FROM record TABLESAMPLE SYSTEM (%f) REPEATABLE (1) WHERE case_id = $1", percent), caseID)
	most := func(count map[string]int) map[string]*roaring64.Bitmap {
		enough := float64(many) * percent / 100 / 2 // the sample is of whole pages, and may have half of its share
		keys := slices.SortedFunc(maps.Keys(count), func(a, b string) int { return cmp.Or(cmp.Compare(count[b], count[a]), strings.Compare(a, b)) })
		out := map[string]*roaring64.Bitmap{}
		for _, k := range keys[:min(len(keys), mostWords)] {
			if float64(count[k]) >= enough {
				out[k] = roaring64.New()
			}
		}
		return out
	}
	x.words, x.begins = most(full), most(begun)
	return err
}

// count counts a word, unless too many others are counted already.
func count(in map[string]int, word []byte) {
	if n := in[string(word)]; n > 0 || len(in) < mostCounted {
		in[string(word)] = n + 1
	}
}

// share has sets that are the same be one, and tells how many bytes all of them take.
func (x *sets) share() (size int) {
	for _, begin := range slices.SortedFunc(maps.Keys(x.begins), func(a, b string) int { return cmp.Compare(len(a), len(b)) }) {
		_, last := utf8.DecodeLastRuneInString(begin)
		// What has fewer letters has all records of what has more.
		if shorter := x.begins[begin[:len(begin)-last]]; shorter != nil && shorter.GetCardinality() == x.begins[begin].GetCardinality() {
			x.begins[begin] = shorter
		}
	}
	for word, b := range x.words {
		if begins := x.begins[word]; begins != nil && begins.GetCardinality() == b.GetCardinality() {
			x.words[word] = begins
		}
	}
	seen := map[*roaring64.Bitmap]bool{}
	for _, b := range slices.Concat(slices.Collect(maps.Values(x.words)), slices.Collect(maps.Values(x.begins)), slices.Collect(maps.Values(x.files)), slices.Collect(maps.Values(x.sources)), []*roaring64.Bitmap{x.attached, x.placed}) {
		if !seen[b] {
			seen[b] = true
			size += int(b.GetSizeInBytes()) + 200
		}
	}
	return size
}

func in[K comparable](sets map[K]*roaring64.Bitmap, key K) *roaring64.Bitmap {
	b := sets[key]
	if b == nil {
		b = roaring64.New()
		sets[key] = b
	}
	return b
}

// wordsOf yields the words of a record as the function lexemes of the database divides them.
func wordsOf(words []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for word := range bytes.SplitSeq(words, []byte{' '}) {
			if len(word) > 0 && string(word) != "|" && !yield(word) {
				return
			}
		}
	}
}

// beginnings yields what a word begins with, by letters, and the whole of it if it is not too long.
func beginnings(word []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for n, end := 1, 0; end < len(word) && n <= mostBegin; n++ {
			_, size := utf8.DecodeRune(word[end:])
			if end += size; n >= leastBegin && !yield(word[:end]) {
				return
			}
		}
	}
}

// meet finds the records that meet a filter of any time, kind, state and exhibit, if the sets tell.
func (s *Store) meet(ctx context.Context, f Filter, x *sets) (*roaring64.Bitmap, bool, error) {
	var all []*roaring64.Bitmap
	terms := search.Parse(f.Words)
	for _, t := range terms {
		if t.Number != "" || len(t.Words) != 1 {
			return nil, false, nil
		}
		of := x.words
		if t.Begins {
			of = x.begins
		}
		all = append(all, of[t.Words[0]])
	}
	if len(terms) == 0 && f.Words != "" {
		return nil, false, nil
	}
	if f.App != "" {
		var paths []string
		if err := s.list(ctx, &paths, "finding the files of an app", "SELECT p FROM unnest($1::text[]) p WHERE strpos(lower(p), lower($2)) > 0", Array[string](slices.Collect(maps.Keys(x.files))).param(), f.App); err != nil || x.files == nil {
			return nil, false, err
		}
		var of []*roaring64.Bitmap
		for _, p := range paths {
			of = append(of, x.files[p])
		}
		all = append(all, roaring64.FastOr(of...))
	}
	if f.Source != 0 {
		var ids []int64
		if err := s.list(ctx, &ids, "finding the acquisitions of a number", "SELECT id FROM acquisition WHERE case_id = $1 AND number = $2", f.CaseID, f.Source); err != nil {
			return nil, false, err
		}
		of := roaring64.New()
		for _, id := range ids {
			if b := x.sources[id]; b != nil {
				of.Or(b)
			}
		}
		all = append(all, of)
	}
	if f.Attached {
		all = append(all, x.attached)
	}
	if f.Placed {
		all = append(all, x.placed)
	}
	f.Words, f.App, f.Source, f.Attached, f.Placed = "", "", 0, false, false
	if f.some() || len(all) == 0 || slices.Contains(all, nil) {
		return nil, false, nil // something else is asked for
	}
	return roaring64.FastAnd(all...), true, nil
}

// fromSets tells the times of a filter from those of all records, if they and the sets are held and suffice.
func (s *Store) fromSets(ctx context.Context, f Filter) (tell func() times, ok bool, err error) {
	f, key := f.lasting()
	if key == "" || !f.some() {
		return nil, false, nil
	}
	x, ok, err := held[*sets](ctx, s, f.CaseID, nil, setsKey(f.CaseID))
	if !ok || err != nil {
		return nil, false, err
	}
	all, ok, err := s.heldTimes(ctx, Filter{CaseID: f.CaseID})
	if !ok || err != nil {
		return nil, false, err
	}
	of, ok, err := s.meet(ctx, f, x)
	return func() (out times) {
		for _, m := range all {
			part := moments{Kind: m.Kind, State: m.State, Exhibit: m.Exhibit}
			for i, id := range m.id {
				if of.Contains(uint64(id)) {
					part.at, part.id = append(part.at, m.at[i]), append(part.id, id)
				}
			}
			part.ids = sync.OnceValue(part.bitmap)
			out = append(out, part)
		}
		return out
	}, ok, err
}
