package examine

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

const (
	moreRows = 64  // rows of a list that follow as it is scrolled
	reached  = 500 // rows to which a list comes at once, if the chosen one is among them
)

// What a window shows besides a list's rows, in CSS pixels: what is above it, which is the least of that, its head and the
// page's foot.
const (
	underViews = 185 + headAndFoot
	underChart = 370 + headAndFoot
	underMap   = 600 + headAndFoot
	rowTall    = 30

	headAndFoot = 30 + 28
)

// firstRows is how many rows of a list come at once: what the reader's window shows of it besides so much else, and two more.
// One that is swapped may stand scrolled, and comes with what a large screen shows.
func firstRows(p *frame.Page, above int) int {
	if p.Tall == 0 {
		return 24
	}
	return min(max((p.Tall-above)/rowTall, 4), 60) + 2
}

// missingLater finds which records of the list are missing in a later source.
func (a pages) missingLater(ctx context.Context, p *frame.Page, v *content) (err error) {
	var ids []int64
	for _, r := range slices.Concat(v.Records, v.Untimed) {
		if r.State == record.Intact {
			ids = append(ids, r.ID)
		}
	}
	if len(ids) > 0 {
		v.Missing, err = a.Store.Missing(ctx, p.Case.ID, ids)
	}
	return err
}

// list gives a page of the list, from a place in it on, or up to one: records in order of time, and after
// them those without one.
func (a pages) list(ctx context.Context, p *frame.Page, v *content) error {
	from, rows := p.Query.Get("after"), listRows(p)
	if v.GoesOn = from != ""; v.GoesOn {
		rows = moreRows
	}
	if from, back := strings.CutPrefix(from, upTo); back {
		at, untimed, err := readAfter(from, v.Order)
		if err == nil && at.ID == 0 && untimed == 0 {
			err = frame.Bad("after=%q is not a place in the list", upTo+from)
		}
		if err != nil {
			return err
		}
		if untimed > 0 {
			return a.beforeUntimed(ctx, v, untimed, rows)
		}
		return a.before(ctx, v, at, rows)
	}
	after, untimed, err := readAfter(from, v.Order)
	if err != nil {
		return err
	}
	return a.behind(ctx, v, after, untimed, rows)
}

// listRows is how many rows the list of records comes with.
func listRows(p *frame.Page) int {
	if folded(p) {
		return firstRows(p, underViews)
	}
	return firstRows(p, underChart)
}

// behind adds to the list what comes after a place in it: so many rows.
func (a pages) behind(ctx context.Context, v *content, after store.After, untimed int64, rows int) error {
	if v.GoesOff = untimed > 0; !v.GoesOff {
		some, next, err := a.records(ctx, v.clocks, v.Filter, after, rows)
		v.Records = append(v.Records, some...)
		if err != nil {
			return err
		}
		if next != nil {
			v.Next = writeAfter(*next)
			return nil
		}
	}
	some, next, err := a.Store.Untimed(ctx, v.Filter, untimed, rows)
	if v.Untimed = some; next > 0 {
		v.Next = fmt.Sprintf("%s%d", noTime, next)
	}
	return err
}

// before puts into the list what comes before a place in it: so many rows.
func (a pages) before(ctx context.Context, v *content, at store.After, rows int) error {
	at.Down = !at.Down
	some, more, err := a.records(ctx, v.clocks, v.Filter, at, rows)
	if err != nil || len(some) == 0 {
		return err
	}
	slices.Reverse(some)
	v.Records, v.Next = some, writeAfter(some[len(some)-1].After(v.Order))
	if more != nil {
		v.Back = upTo + writeAfter(some[0].After(v.Order))
	}
	return nil
}

// beforeUntimed puts into the list what comes before a record without a time: so many rows of those, or if it is the first of
// them the last of those with one.
func (a pages) beforeUntimed(ctx context.Context, v *content, id int64, rows int) error {
	some, next, err := a.Store.UntimedBefore(ctx, v.Filter, id, rows)
	if err != nil {
		return err
	}
	if len(some) == 0 && next == 0 {
		return a.before(ctx, v, store.After{Order: v.Order}, rows)
	}
	v.Untimed, v.GoesOff, v.Back = some, next > 0, fmt.Sprintf("%s%s%d", upTo, noTime, max(next, 1))
	return nil
}

// skipped reads which rows come of a list that is counted and stands below so much of the page: how many stand before them,
// and how many come at once.
func skipped(p *frame.Page, above int) (skip, rows int) {
	skip, err := strconv.Atoi(p.Query.Get("skip"))
	if err != nil || skip <= 0 {
		return 0, firstRows(p, above)
	}
	return skip, moreRows
}

// part gives those rows of a list that the address asks for, and the address at which it goes on, "" at its end. It
// comes at once to the chosen row, by its number from 1 on, if that is not far; there is none for 0.
func part[R any](p *frame.Page, all []R, chosen, above int) (some []R, next string) {
	skip, n := skipped(p, above)
	all = all[min(skip, len(all)):]
	if skip == 0 && chosen <= reached {
		n = max(n, chosen)
	}
	if n >= len(all) {
		return all, ""
	}
	return all[:n], p.Keep("skip", fmt.Sprint(skip+n), "cell", "", "o", "")
}

// reach has a list that is at its beginning begin a little before the record that is chosen, if that lies farther down.
func (a pages) reach(ctx context.Context, p *frame.Page, v *content) error {
	f := v.Filter
	f.ID, _ = strconv.ParseInt(p.Query.Get("r"), 10, 64)
	if f.ID == 0 || v.GoesOn || v.Next == "" || slices.ContainsFunc(slices.Concat(v.Records, v.Untimed), func(r store.Record) bool { return r.ID == f.ID }) {
		return nil
	}
	rows := listRows(p)
	it, _, err := a.records(ctx, v.clocks, f, store.After{Order: v.Order}, 1)
	if err != nil {
		return err
	}
	if len(it) == 0 {
		return a.reachUntimed(ctx, v, f, rows)
	}
	at := it[0].After(v.Order)
	if err := a.before(ctx, v, at, rows/2); err != nil {
		return err
	}
	v.Records, v.Next = append(v.Records, it[0]), ""
	return a.behind(ctx, v, at, 0, rows/2)
}

// reachUntimed is reach, of a record without a time.
func (a pages) reachUntimed(ctx context.Context, v *content, f store.Filter, rows int) error {
	it, _, err := a.Store.Untimed(ctx, f, 0, 1)
	if err != nil || len(it) == 0 { // it is not in the list
		return err
	}
	v.Records, v.Untimed = nil, nil
	if err := a.beforeUntimed(ctx, v, f.ID, rows/2); err != nil {
		return err
	}
	some, next, err := a.Store.Untimed(ctx, v.Filter, f.ID, rows/2)
	v.Untimed = slices.Concat(v.Untimed, it, some)
	if v.Next = ""; next > 0 {
		v.Next = fmt.Sprintf("%s%d", noTime, next)
	}
	return err
}

// The places in a list after a record with a time are written as its time in microseconds and its id, and its key in lists
// by another order; those after one without a time as noTime and its id. What comes before a place is written as upTo and that.
const (
	noTime = "none."
	upTo   = "to."
)

func writeAfter(a store.After) string {
	s := fmt.Sprintf("%d.%d", a.At.UnixMicro(), a.ID)
	if a.By != "" {
		s += "." + base64.RawURLEncoding.EncodeToString([]byte(a.Key))
	}
	return s
}

// readAfter reads a place in a list: after a record with a time, or after one without,
// whose id is untimed.
func readAfter(s string, order store.Order) (after store.After, untimed int64, err error) {
	after.Order = order
	if s == "" {
		return after, 0, nil
	}
	bad := frame.Bad("after=%q is not a place in the list", s)
	if id, ok := strings.CutPrefix(s, noTime); ok {
		if untimed, err = strconv.ParseInt(id, 10, 64); err != nil || untimed <= 0 {
			return after, 0, bad
		}
		return after, untimed, nil
	}
	parts := strings.Split(s, ".")
	if len(parts) < 2 || len(parts) > 3 || (len(parts) == 3) != (order.By != "") {
		return after, 0, bad
	}
	us, err1 := strconv.ParseInt(parts[0], 10, 64)
	n, err2 := strconv.ParseInt(parts[1], 10, 64)
	key, err3 := base64.RawURLEncoding.DecodeString(strings.Join(parts[2:], ""))
	t := time.UnixMicro(us)
	if y := t.UTC().Year(); cmp.Or(err1, err2, err3) != nil || y < 1 || y > 9999 || n <= 0 || record.Clean(string(key)) != string(key) {
		return after, 0, bad
	}
	after.At, after.ID, after.Key = t, n, string(key)
	return after, 0, nil
}
