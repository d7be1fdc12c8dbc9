// Package reading reads the records of a source: a backup, a handset's file tree, or a lone
// database. It finds the databases among the files, those of people first, opens each with
// its log and its journal, and reads it by the field map that fits. Files of other forms, cards and
// calendars, are read by a [Reader].
//
// The same files give the same records in the same order. What is admitted and what is
// kept is not its matter.
package reading

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"time"

	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

// File is a file of a source.
type File struct {
	Path   string // on the handset, "" if it is not known
	Stored string // below the source
	Size   int64
	SHA256 string    // hex
	Made   time.Time // when the source that it is of was made, the zero time if that is as Options says
	// Written is when it was last written, as the source lists it; the zero time if it does not.
	Written      time.Time
	WrittenLocal string // ISO 8601 without an offset, where the zone is not stored
	// Gone says of a file that is no live one of its volume how it was found; "" of others.
	Gone string
	Open func() (Bytes, error)
}

// Mark says of a record of f, if that is no live file, that it was recovered, and how the file was found.
func (f *File) Mark(r *record.Record) {
	if f.Gone == "" {
		return
	}
	if r.State == record.Intact || r.State == record.Held {
		r.State = record.Recovered
	}
	r.Facts = append(r.Facts, record.Fact{Name: record.FileFound, Value: f.Gone})
}

// made is when what f is of was made.
func (f *File) made(opt Options) time.Time {
	if f.Made.IsZero() {
		return opt.Made
	}
	return f.Made
}

// Bytes are an open file's.
type Bytes interface {
	io.ReaderAt
	io.Closer
}

// Database is an open database.
type Database struct {
	*sqlitefile.File // nil if it cannot be read
	Source           *fieldmap.Source
	From             *File            // which says, too, by whose tables it is read if it is without its first page
	like             *sqlitefile.File // whose schema it has, if its own is not there
	open             []Bytes
}

// Close closes its files.
func (d *Database) Close() error {
	var all error
	for _, c := range d.open {
		all = errors.Join(all, c.Close())
	}
	return all
}

// OpenDatabase opens a database, with what lies beside it: beside finds that by the suffix
// that its name adds, and gives nil where there is none. Of one that was found without its first page others are
// databases of the same source, among which its schema is looked for. note is told what is wrong with the database; err
// is of the files.
func OpenDatabase(f *File, beside func(suffix string) *File, others []*File, note func(error)) (_ *Database, err error) {
	db := &Database{From: f}
	part := func(f *File) (*fieldmap.Source, error) {
		b, err := f.Open()
		if err != nil {
			return nil, err
		}
		db.open = append(db.open, b)
		return &fieldmap.Source{Path: f.Path, Stored: f.Stored, SHA256: f.SHA256, Bytes: b}, nil
	}
	defer func() {
		if err != nil {
			db.Close()
		}
	}()
	if db.Source, err = part(f); err != nil {
		return nil, err
	}
	if db.File, err = sqlitefile.Open(db.Source.Bytes, f.Size); err != nil {
		why := err
		if db.File, err = sqlitefile.OpenDamaged(db.Source.Bytes, f.Size); err != nil {
			note(why)
			db.File = nil
			return db, nil
		}
		if IsPages(f.Path) {
			return db, db.adopt(others, note)
		}
		note(why)
		note(fmt.Errorf("its pages are read as pages of %d bytes", db.PageSize))
	}
	for i, open := range []func(io.ReaderAt, int64) error{db.OpenLog, db.OpenJournal} {
		b := beside(sqlitefile.Part(i + 1).Suffix())
		if b == nil {
			continue
		}
		p, err := part(b)
		if err != nil {
			return nil, err
		}
		if err := open(p.Bytes, b.Size); err != nil {
			note(err)
		}
		*[]**fieldmap.Source{&db.Source.Log, &db.Source.Journal}[i] = p
	}
	return db, nil
}

// adopt looks among others for the database whose tables most of the pages of d fit, and gives d its schema. Of two that
// fit as well it is the one that is alive, or else the first by its path.
func (d *Database) adopt(others []*File, note func(error)) error {
	others = slices.Clone(others)
	slices.SortStableFunc(others, func(a, b *File) int {
		return cmp.Or(cmp.Compare(min(1, len(a.Gone)), min(1, len(b.Gone))), cmp.Compare(a.Path, b.Path), cmp.Compare(a.Stored, b.Stored))
	})
	var best *sqlitefile.File
	var file *File
	most := 0.5 // of the pages, at least
	for _, f := range others {
		if IsPages(f.Path) {
			continue
		}
		b, err := f.Open()
		if err != nil {
			return err
		}
		other, err := sqlitefile.Open(b, f.Size)
		if err == nil {
			if l := salvage.Likeness(d.File, other); l > most {
				best, file, most = other, f, l
				d.open = append(d.open, b)
				continue
			}
		}
		if err := b.Close(); err != nil {
			return err
		}
	}
	if best == nil {
		note(errors.New("its first page is not there, and no other database has tables that its rows fit"))
		return nil
	}
	note(fmt.Errorf("its first page is not there: its tables are taken to be those of %s, which %.0f%% of its pages of rows fit", cmp.Or(file.Path, file.Stored), 100*most))
	d.like = best
	d.From.Gone += "; its tables are taken to be those of " + cmp.Or(file.Path, file.Stored)
	return d.Adopt(best)
}

// Survey surveys the database.
func (d *Database) Survey() *salvage.Survey {
	if d.like == nil {
		return salvage.New(d.File)
	}
	return salvage.NewLike(d.File, salvage.New(d.like))
}

// FieldMap chooses the map for the database, nil if none fits. One that lies elsewhere than its app
// keeps it, as in a backup, is told by its tables.
func (d *Database) FieldMap(maps []*fieldmap.Map) *fieldmap.Map {
	tables, _ := d.Tables() // of damage the reading tells
	if m := fieldmap.Choose(maps, d.Source.Path, tables); m != nil {
		return m
	}
	return fieldmap.ByTables(maps, tables)
}

// IsPages reports whether a file holds pages of a database that were found without its first one.
func IsPages(path string) bool { return strings.HasSuffix(path, sqlitefile.PagesEnding) }

// Begins reports whether a file that begins with head is a SQLite database, or pages of one.
func Begins(path string, head []byte) bool {
	return IsPages(path) || string(head[:min(len(head), len(sqlitefile.Magic))]) == sqlitefile.Magic
}

// Order compares two databases by their paths on the handset, for sorting: those whose
// records others need, as names do, come first, and those that no map reads last.
func Order(maps []*fieldmap.Map, a, b string) int {
	rank := func(path string) int {
		if i := slices.Index(maps, fieldmap.Choose(maps, path, nil)); i >= 0 {
			return i
		}
		return len(maps)
	}
	return rank(a) - rank(b)
}

// Options say how a source is read.
type Options struct {
	Maps    []*fieldmap.Map
	Full    bool         // also hunt for pages that nothing refers to
	Country string       // the exhibit's home country, ISO 3166-1 alpha-2, "" if not known
	Made    time.Time    // when the source was made, the zero time if it does not say
	Note    func(string) // what is wrong with a file, or why it is not read
	Go      func() bool  // if not nil, asked now and then; false ends the reading
}

// Records yields every record of a source. An error is of the files and ends it.
func Records(files []*File, opt Options) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		files, err := opened(files, opt)
		if err != nil {
			yield(nil, err)
			return
		}
		byStored := map[string]*File{}
		var dbs, texts []*File
		readers := map[*File]Reader{}
		for _, f := range files {
			byStored[f.Stored] = f
			head, err := f.head()
			if err != nil {
				yield(nil, err)
				return
			}
			if Begins(f.Path, head) {
				dbs = append(dbs, f)
			} else if r := ReaderOf(f.Path, head); r != nil {
				texts, readers[f] = append(texts, f), r
			}
		}
		slices.SortStableFunc(texts, func(a, b *File) int { return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.Stored, b.Stored)) })
		slices.SortStableFunc(dbs, func(a, b *File) int {
			return cmp.Or(Order(opt.Maps, a.Path, b.Path), cmp.Compare(a.Path, b.Path), cmp.Compare(a.Stored, b.Stored))
		})
		names := fieldmap.Names{}
		byPath := map[string]*File{}
		for _, f := range files {
			if f.Path != "" {
				byPath[f.Path] = f
			}
		}
		for _, f := range dbs {
			beside := func(suffix string) *File {
				if f.Path != "" {
					return byPath[f.Path+suffix]
				}
				return byStored[f.Stored+suffix]
			}
			if !database(f, beside, dbs, byPath, names, opt, yield) {
				return
			}
		}
		versions := Versions(texts)
		for _, f := range texts {
			note := func(err error) { opt.Note(fmt.Sprintf("%s: %v", cmp.Or(f.Path, f.Stored), err)) }
			for r, err := range Texts(readers[f], f, versions[f], opt, note) {
				if err == nil {
					if opt.Go != nil && !opt.Go() {
						return
					}
					f.Mark(r)
					r.Keep()
				}
				if !yield(r, err) || err != nil {
					return
				}
			}
		}
	}
}

// maxOpened bounds what is held in memory of a database within an archive.
const maxOpened = 64 << 20

// opened gives the files of a source, and behind them the databases that lie in some of them.
func opened(files []*File, opt Options) ([]*File, error) {
	out := slices.Clone(files)
	byPath := map[string]*File{}
	for _, f := range files {
		byPath[f.Path] = f
	}
	for _, f := range files {
		head, err := f.head()
		if err != nil {
			return nil, err
		}
		err = Within(f, head, func(path string) *File { return byPath[path] }, opt.Maps, func(path string, r io.Reader) error {
			b, err := io.ReadAll(io.LimitReader(r, maxOpened+1))
			if err != nil || len(b) > maxOpened {
				return &ContentError{cmp.Or(err, fmt.Errorf("%s has more than %d bytes", path, maxOpened))}
			}
			sum := sha256.Sum256(b)
			out = append(out, &File{Path: f.Path + Inside + path, Stored: f.Stored + Inside + path, Size: int64(len(b)), SHA256: hex.EncodeToString(sum[:]), Made: f.Made, Gone: f.Gone,
				Open: func() (Bytes, error) { return inMemory{bytes.NewReader(b)}, nil }})
			return nil
		})
		if why := (*ContentError)(nil); errors.As(err, &why) {
			opt.Note(fmt.Sprintf("%s: %v", cmp.Or(f.Path, f.Stored), why))
		} else if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// inMemory is a file whose bytes are at hand.
type inMemory struct{ *bytes.Reader }

func (inMemory) Close() error { return nil }

// head reads the first bytes of a file.
func (f *File) head() ([]byte, error) {
	b, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer b.Close()
	head := make([]byte, HeadLength)
	n, err := b.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, err
	}
	return head[:n], nil
}

// database yields the records of one database.
func database(f *File, beside func(string) *File, others []*File, byPath map[string]*File, names fieldmap.Names, opt Options, yield func(*record.Record, error) bool) bool {
	note := func(err error) { opt.Note(fmt.Sprintf("%s: %v", cmp.Or(f.Path, f.Stored), err)) }
	db, err := OpenDatabase(f, beside, others, note)
	if err != nil {
		return yield(nil, err)
	}
	defer db.Close()
	if db.File == nil {
		return true
	}
	m := db.FieldMap(opt.Maps)
	if m == nil {
		note(errors.New("no field map is known for it"))
		return true
	}
	db.Source.Country, db.Source.Made = opt.Country, f.made(opt)
	db.Source.File = func(path string) (string, bool) {
		f := byPath[path]
		if f == nil {
			return "", false
		}
		return f.SHA256, true
	}
	going := salvage.Options{Full: opt.Full, Seen: func(int64) bool { return opt.Go == nil || opt.Go() }}
	read := m.Records(db.Survey(), db.Source, names, going, func(fieldmap.Members) {}, func(*salvage.Row) {})
	for r, err := range fieldmap.Merge(func(yield func(*record.Record, error) bool) {
		for r, err := range read {
			if err != nil {
				note(err)
			} else if !yield(r, nil) {
				return
			}
		}
	}) {
		if err != nil {
			return yield(nil, err)
		}
		if r.Kind.Card() {
			names.Learn(r)
		}
		f.Mark(r)
		if r.Keep(); !yield(r, nil) {
			return false
		}
	}
	return true
}
