// Package storage says what a storage image holds: the files of its volumes, those that were deleted, and those that
// are recognised where no file system leads.
package storage

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"

	"crosswind/core/carve"
	"crosswind/core/sqlitefile"
	"crosswind/core/volume"
)

// State says how a file was found.
type State string

// The states of files.
const (
	Live    State = "live"
	Deleted State = "deleted"
	Carved  State = "carved"
)

// File is a file of an image.
type File struct {
	volume.File            // of one that was carved, its size, its extents and how complete it is
	Volume      int        // the number of its volume in the image, from 1; 0 of what lies in none
	State       State      //
	Kind        carve.Kind // by its content
}

// Options say how an image is read.
type Options struct {
	Full bool              // carve, too, and look for folders that nothing leads to
	Note func(error)       // told what is wrong with the image
	Size func(int64)       // if not nil, told at first how many bytes will be searched in the full pass
	Seen func(int64) bool  // if not nil, told how many bytes were searched in the full pass; false ends it
	Skip func(int64) int64 // as of carve.Options
}

// Volumes are the volumes of an image of size bytes, and the runs of bytes that are of none.
func Volumes(image io.ReaderAt, size int64, note func(error)) (all []*volume.Volume, rest []volume.Extent) {
	parts, notes := volume.Partitions(image, size)
	for _, err := range notes {
		note(err)
	}
	if len(parts) == 0 {
		parts = []volume.Partition{{Number: 1, Size: size}}
	}
	slices.SortFunc(parts, func(a, b volume.Partition) int { return cmp.Compare(a.Offset, b.Offset) })
	at := int64(0)
	gap := func(to int64) {
		if to > at {
			rest = append(rest, volume.Extent{Offset: at, Length: to - at})
		}
	}
	for _, p := range parts {
		v, err := volume.Open(image, p.Offset, p.Size)
		if v == nil || err != nil || p.Offset < at { // one that lies in another is read as that
			if err != nil && !errors.Is(err, volume.ErrFormat) {
				note(err)
			}
			continue
		}
		gap(p.Offset)
		all, at = append(all, v), p.Offset+max(v.Size, 0)
	}
	gap(size)
	return all, rest
}

// Files yields the files of an image of size bytes: of each volume those that are alive and the deleted ones, then, in
// the full pass, those that are carved. Folders are not yielded. An error is of the image and ends it.
func Files(image io.ReaderAt, size int64, opt Options) iter.Seq2[*File, error] {
	note := opt.Note
	if note == nil {
		note = func(error) {}
	}
	return func(yield func(*File, error) bool) {
		volumes, rest := Volumes(image, size, note)
		var searched, size int64
		free := make([][]volume.Extent, len(volumes))
		for i, v := range volumes {
			free[i] = slices.Collect(v.Unallocated())
		}
		for _, e := range slices.Concat(append(free, rest)...) {
			size += e.Length
		}
		if opt.Full && opt.Size != nil {
			opt.Size(size)
		}
		for i, v := range volumes {
			find := carve.New(image, free[i], carve.Options{Unit: v.Cluster, Skip: opt.Skip, Seen: seen(opt.Seen, &searched)})
			begun := map[int64]int64{} // where deleted files begin, and their sizes
			for f, err := range v.Files(opt.Full) {
				if err != nil {
					note(err)
					continue
				}
				if f.Dir {
					continue
				}
				x := &File{File: *f, Volume: i + 1, State: Live}
				if f.Deleted {
					x.State = Deleted
				}
				x.judge(image, find)
				if f.Deleted && len(x.Extents) > 0 && x.Complete != volume.Part {
					begun[x.Extents[0].Offset] = x.Size
				}
				if !yield(x, nil) {
					return
				}
			}
			if opt.Full && !carved(find, i+1, begun, yield) {
				return
			}
		}
		if opt.Full {
			find := carve.New(image, rest, carve.Options{Skip: opt.Skip, Seen: seen(opt.Seen, &searched)})
			carved(find, 0, nil, yield)
		}
	}
}

// seen adds what one search after another has gone through.
func seen(tell func(int64) bool, before *int64) func(int64) bool {
	if tell == nil {
		return nil
	}
	from := *before
	return func(n int64) bool {
		*before = from + n
		return tell(from + n)
	}
}

func carved(find *carve.Search, number int, begun map[int64]int64, yield func(*File, error) bool) bool {
	n := 0
	for c, err := range find.Scan() {
		if err != nil {
			yield(nil, err)
			return false
		}
		if has, known := begun[c.At()]; known && c.Size <= has {
			continue // of a deleted file, whose name is known
		}
		n++
		f := &File{Volume: number, State: Carved, Kind: c.Kind}
		f.Path = fmt.Sprintf("/%s at %d", c.Kind, c.At())
		switch { // by which it is read
		case c.Kind == carve.Text:
			f.Path += ".txt"
		case c.Kind == carve.SQLite && c.Extents[0].Offset == volume.Hole:
			f.Path += sqlitefile.PagesEnding
		}
		f.Size, f.Extents, f.Complete, f.Why, f.Deleted = c.Size, c.Extents, c.Complete, c.Why, true
		if !yield(f, nil) {
			return false
		}
	}
	return true
}

// judge says by a file's content of what kind it is and, of a deleted one, whether its structure shows that its bytes
// are whole and in order: if they are not where they were taken to be, they may be in two runs.
func (f *File) judge(image io.ReaderAt, find *carve.Search) {
	f.Kind = carve.Other
	if f.Size == 0 || len(f.Extents) == 0 {
		return
	}
	r := f.Reader(image)
	if f.State == Live {
		f.Kind = carve.KindOf(r, f.Size)
		return
	}
	k, v := carve.Check(r, f.Size)
	if k == carve.Other {
		f.Kind = carve.KindOf(r, f.Size)
		return
	}
	switch f.Kind = k; {
	case v.Complete == volume.Whole && v.Size == f.Size: // also of one whose clusters another claims
		f.Complete, f.Why = volume.Whole, f.Why+"; "+v.Why
	case v.Complete == volume.Part && f.Complete != volume.Part:
		if x := find.At(f.Extents[0].Offset); x != nil && x.Kind == k && x.Complete == volume.Whole && x.Size == f.Size {
			f.Extents, f.Complete, f.Why = x.Extents, volume.Whole, f.Why+"; not so, but "+x.Why
			return
		}
		f.Complete, f.Why = volume.Part, f.Why+"; "+v.Why
	}
}
