package recovery

import (
	"context"
	"errors"
	"iter"
	"slices"

	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/internal/store"
)

// Reread reads databases of an acquisition again as a recovery read them, and yields the
// records that it admitted, as they are kept. Coverage is that of the recovery's time,
// privilege that of now.
func (q *Recoverer) Reread(ctx context.Context, c *store.Case, a *store.Acquisition, rec *store.Recovery, paths []string) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		p, err := q.pass(ctx, c, a, rec)
		if err == nil {
			err = p.asRead(ctx)
		}
		if err != nil {
			yield(nil, err)
			return
		}
		for _, d := range p.all() {
			wanted := slices.Contains(paths, d.RealPath)
			if !wanted && !p.named(d) {
				continue
			}
			for r, err := range p.again(ctx, d) {
				if err == nil && !wanted {
					continue
				}
				if !yield(r, err) || err != nil {
					return
				}
			}
		}
	}
}

// asRead has databases read by the maps that the recovery read them by, whatever maps were saved since.
func (p *pass) asRead(ctx context.Context) error {
	gave, err := p.Store.RecoveredDatabases(ctx, p.recovery)
	if err != nil {
		return err
	}
	p.earlier = map[string]*fieldmap.Map{}
	for _, d := range gave {
		if d.MapSHA256 == "" {
			continue
		}
		source, err := p.Store.FieldMap(ctx, d.MapSHA256)
		if err != nil {
			return err
		}
		if p.earlier[d.Path], err = fieldmap.Parse(d.FieldMap, []byte(source)); err != nil {
			return err
		}
	}
	return nil
}

// again yields the records of a database as they are kept.
func (p *pass) again(ctx context.Context, d *store.File) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		res := &store.RecoveredDatabase{Path: d.RealPath}
		if why, err := p.altered(ctx, d, func(int64) {}); err != nil || why != nil {
			yield(nil, errors.Join(err, why))
			return
		}
		if p.readers[d] != nil {
			for r, err := range p.text(ctx, d, res, func(error) {}) {
				if err == nil {
					r.Keep()
				}
				if !yield(r, err) || err != nil {
					return
				}
			}
			return
		}
		db, err := p.openDatabase(d, p.beside, p.vaultFiles(d), func(error) {})
		if err != nil {
			yield(nil, err)
			return
		}
		defer db.Close()
		if db.File == nil {
			return
		}
		for r, err := range p.records(ctx, db.From, db, p.mapOf(db), res, func(error) {}, func(int64) {}) {
			if err == nil {
				r.Keep()
			}
			if !yield(r, err) || err != nil {
				return
			}
		}
	}
}
