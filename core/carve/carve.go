// Package carve finds files by their structure in bytes to which no file system leads: from their first bytes on,
// as far as what they say of themselves holds. Nothing is taken for a file by its first bytes and its last ones
// alone.
//
// A file that lies in two runs is put together where its own structure proves the order: the codes of a JPEG, the
// checksums of a PNG.
package carve

import (
	"bytes"
	"encoding/binary"
	"io"
	"iter"
	"slices"

	"crosswind/core/volume"
)

// Kind is what a file is.
type Kind string

// The kinds that are known.
const (
	JPEG   Kind = "jpeg"
	PNG    Kind = "png"
	GIF    Kind = "gif"
	WebP   Kind = "webp"
	HEIC   Kind = "heic"
	MP4    Kind = "mp4"
	WAV    Kind = "wav"
	AMR    Kind = "amr"
	MP3    Kind = "mp3"
	Ogg    Kind = "ogg"
	PDF    Kind = "pdf"
	ZIP    Kind = "zip"
	SQLite Kind = "sqlite"
	VCard  Kind = "vcard"
	Text   Kind = "text"
	Other  Kind = "other"
)

// Found is a file that was found.
type Found struct {
	Kind     Kind
	Size     int64
	Extents  []volume.Extent // in the image; a hole stands for what is known to have been before the rest
	Complete volume.Completeness
	Why      string // what shows that it is whole, or why it is not
}

// At is where what is there of it begins in the image.
func (f *Found) At() int64 {
	for _, e := range f.Extents {
		if e.Offset != volume.Hole {
			return e.Offset
		}
	}
	return volume.Hole
}

// Verdict is what a file's structure says of it.
type Verdict struct {
	Size     int64 // bytes that are its own, 0 if it is no file of the kind
	Complete volume.Completeness
	Why      string
}

// form is a kind of file: how it begins, and who follows its structure.
type form struct {
	kind  Kind
	begin string
	back  int64 // how many bytes before those it begins
	read  func(*source, int64) (Kind, Verdict)
}

func only(k Kind, read func(*source, int64) Verdict) func(*source, int64) (Kind, Verdict) {
	return func(s *source, at int64) (Kind, Verdict) { return k, read(s, at) }
}

var forms = []form{
	{JPEG, "\xff\xd8\xff", 0, only(JPEG, readJPEG)},
	{PNG, "\x89PNG\r\n\x1a\n", 0, only(PNG, readPNG)},
	{GIF, "GIF87a", 0, only(GIF, readGIF)}, {GIF, "GIF89a", 0, only(GIF, readGIF)},
	{WAV, "RIFF", 0, readRIFF},
	{MP4, "ftyp", 4, readBoxes}, {MP4, "mdat", 4, readBoxes}, {MP4, "moov", 4, readBoxes}, {MP4, "wide", 4, readBoxes},
	{AMR, "#!AMR\n", 0, only(AMR, readAMR)}, {AMR, "#!AMR-WB\n", 0, only(AMR, readAMR)},
	{MP3, "ID3", 0, only(MP3, readMP3)},
	{MP3, "\xff\xfb", 0, only(MP3, readMP3)}, {MP3, "\xff\xfa", 0, only(MP3, readMP3)}, {MP3, "\xff\xf3", 0, only(MP3, readMP3)}, {MP3, "\xff\xf2", 0, only(MP3, readMP3)},
	{Ogg, "OggS\x00\x02", 0, only(Ogg, readOgg)},
	{PDF, "%PDF-", 0, only(PDF, readPDF)},
	{ZIP, "PK\x03\x04", 0, only(ZIP, readZIP)},
	{SQLite, "SQLite format 3\x00", 0, only(SQLite, readSQLite)},
	{VCard, "BEGIN:VCARD", 0, only(VCard, readVCard)},
}

// Check says of content of size bytes, which is told to be a file, what its structure says: of a kind that is not
// known, and of one that it is not, the Kind is Other.
func Check(r io.ReaderAt, size int64) (Kind, Verdict) {
	s := &source{r: r, size: size, left: maxSearch}
	for _, f := range forms {
		if string(s.get(f.back, len(f.begin))) != f.begin {
			continue
		}
		if k, v := f.read(s, 0); v.Size > 0 {
			return k, v
		}
	}
	return Other, Verdict{}
}

// Options say how bytes are searched.
type Options struct {
	// Unit is the bytes of the volume's unit of allocation, at which a file's runs begin and end; 0 if it is not known,
	// and runs are looked for at every 4096 bytes, and then at every 512.
	Unit int64
	Seen func(int64) bool  // if not nil, told how many bytes were searched; false ends the search
	Skip func(int64) int64 // if not nil, where what is stored of the image goes on from an offset on: holes are not read
}

const (
	blockSize = 1 << 18
	longest   = 16      // of what a form begins with
	maxSearch = 1 << 30 // about as many bytes are looked at, at once, for the second runs of files, and in what unfolds
)

// firsts tells by a byte, and pairs by two, whether a form may begin with them.
var (
	firsts [1 << 8]bool
	pairs  [1 << 16]bool
)

func init() {
	for _, f := range forms {
		firsts[f.begin[0]], pairs[binary.LittleEndian.Uint16([]byte(f.begin))] = true, true
	}
}

// candidate is where from i on, before to, a form may begin; to if nowhere.
func candidate(b []byte, i, to int) int {
	for j, c := range b[i:to] {
		if firsts[c] && i+j+1 < len(b) && pairs[uint16(c)|uint16(b[i+j+1])<<8] {
			return i + j
		}
	}
	return to
}

// KindOf is what a file of size bytes is by how it begins.
func KindOf(r io.ReaderAt, size int64) Kind {
	s := &source{r: r, size: size}
	for _, f := range forms {
		if string(s.get(f.back, len(f.begin))) != f.begin {
			continue
		}
		switch f.kind {
		case WAV:
			if string(s.get(8, 4)) == "WEBP" {
				return WebP
			}
			if string(s.get(8, 4)) != "WAVE" {
				continue
			}
		case MP4:
			switch string(s.get(8, 4)) {
			case "heic", "heix", "mif1", "msf1", "avif":
				return HEIC
			}
		}
		return f.kind
	}
	if b := s.get(0, 4096); len(b) > 0 && text(b) {
		return Text
	}
	return Other
}

// Search is a search of runs of an image in order, as if they lay one behind the other: a file that was written
// around what others use lies so.
type Search struct {
	*space
	opt Options
}

// New prepares the search of runs of an image.
func New(image io.ReaderAt, where []volume.Extent, opt Options) *Search {
	return &Search{newSpace(image, where), opt}
}

func (x *Search) source() *source {
	units := []int64{x.opt.Unit}
	if x.opt.Unit == 0 {
		units = []int64{4096, 512}
	}
	return &source{r: x.space, size: x.size, unit: units[len(units)-1], units: units, space: x.space, left: min(maxSearch, 256*x.size)}
}

// At is the file that begins at a place of the image, nil if none does.
func (x *Search) At(offset int64) *Found {
	for i, r := range x.space.runs {
		if offset < r.Offset || offset >= r.Offset+r.Length {
			continue
		}
		s := x.source()
		at := x.at[i] + offset - r.Offset
		for k := range forms {
			f := &forms[k]
			if string(s.get(at+f.back, len(f.begin))) != f.begin {
				continue
			}
			if kind, v := f.read(s, at); v.Size > 0 {
				return &Found{Kind: kind, Size: v.Size, Complete: v.Complete, Why: v.Why, Extents: s.extents(at, v.Size)}
			}
		}
	}
	return nil
}

// Scan yields what is found; errors are of the image, and end it.
func (x *Search) Scan() iter.Seq2[*Found, error] {
	opt := x.opt
	return func(yield func(*Found, error) bool) {
		space := x.space
		s := x.source()
		buf := make([]byte, blockSize+longest)
		next := int64(0) // before which all is of files that were found
		for at := int64(0); at < space.size; {
			if opt.Skip != nil {
				if from := space.stored(at, opt.Skip); from > at {
					at = from / blockSize * blockSize
					if at >= space.size || from >= space.size {
						break
					}
				}
			}
			n, err := space.ReadAt(buf, at)
			if err != nil && err != io.EOF {
				yield(nil, err)
				return
			}
			b := buf[:n]
			end := min(n, blockSize)
			took := func(kind Kind, from int64, v Verdict) bool {
				f := &Found{Kind: kind, Size: s.before + v.Size, Complete: v.Complete, Why: v.Why, Extents: s.extents(from, v.Size)}
				if s.before > 0 {
					f.Extents = slices.Insert(f.Extents, 0, volume.Extent{Offset: volume.Hole, Length: s.before})
				}
				next = from + v.Size
				if s.runs != nil { // what lies between its two runs is searched
					next = s.runs[0].to
				}
				return yield(f, nil)
			}
			for i := int(max(0, next-at)); i < end; {
				p := at + int64(i)
				if p%s.unit == 0 {
					s.split, s.before, s.runs, s.window, s.from = 0, 0, nil, b, at
					kind, v := Text, readText(s, p, b, i)
					if v.Size == 0 {
						kind, v = SQLite, readPages(s, p)
					}
					if v.Size > 0 {
						if !took(kind, p, v) {
							return
						}
						i = int(min(int64(end), next-at))
						continue
					}
				}
			unit:
				for to := int(min(int64(end), int64(i)+s.unit-p%s.unit)); i < to; i++ {
					if i = candidate(b, i, to); i == to {
						break
					}
					for k := range forms {
						f := &forms[k]
						if len(b)-i < len(f.begin) || string(b[i:i+len(f.begin)]) != f.begin || at+int64(i)-f.back < next {
							continue
						}
						from := at + int64(i) - f.back
						s.split, s.before, s.runs, s.window, s.from = 0, 0, nil, b, at
						kind, v := f.read(s, from)
						if v.Size == 0 {
							continue
						}
						if v.Complete == volume.Part && s.runs == nil {
							v.Size = s.another(from, v.Size)
						}
						if !took(kind, from, v) {
							return
						}
						i = int(min(int64(end), next-at))
						break unit
					}
				}
			}
			s.left = min(maxSearch, max(s.left, 0)+16*blockSize)
			at += blockSize
			if next > at+blockSize {
				at = next / blockSize * blockSize
			}
			if opt.Seen != nil && !opt.Seen(min(at, space.size)) {
				return
			}
		}
	}
}

// another gives the size of a file that breaks off without what begins as another at a border of units, and is not
// merely the beginning of one: codes can go on for long through what is not their own.
func (s *source) another(from, size int64) int64 {
	unit := s.unit
	s.unit = 0 // no second runs are looked for
	defer func() { s.unit, s.runs, s.before = unit, nil, 0 }()
	for at := (from/unit + 1) * unit; at < from+size && s.left > 0; at += unit {
		for k := range forms {
			f := &forms[k]
			// Of archives and documents marks are looked for, which is done in order.
			if f.back != 0 || f.kind == ZIP || f.kind == PDF || string(s.get(at, len(f.begin))) != f.begin {
				continue
			}
			_, v := f.read(s, at)
			if s.left -= v.Size + 1<<11; v.Size > 0 && v.Complete != volume.Part {
				return at - from
			}
		}
	}
	return size
}

// space are runs of an image, one behind the other.
type space struct {
	image io.ReaderAt
	runs  []volume.Extent
	at    []int64 // where each begins in the space
	size  int64
	last  int // the run that was read last
}

func newSpace(image io.ReaderAt, where []volume.Extent) *space {
	s := &space{image: image}
	for _, e := range where {
		if e.Offset >= 0 && e.Length > 0 {
			s.runs, s.at = append(s.runs, e), append(s.at, s.size)
			s.size += e.Length
		}
	}
	return s
}

// run is the run that a place of the space lies in.
func (s *space) run(at int64) int {
	i := s.last
	if i >= len(s.runs) || s.at[i] > at {
		i = 0
		for lo, hi := 0, len(s.runs); lo < hi; { // the last that begins at or before it
			if m := (lo + hi) / 2; s.at[m] <= at {
				i, lo = m, m+1
			} else {
				hi = m
			}
		}
	}
	for i+1 < len(s.runs) && s.at[i+1] <= at {
		i++
	}
	s.last = i
	return i
}

func (s *space) ReadAt(b []byte, at int64) (n int, err error) {
	for n < len(b) && at >= 0 && at < s.size {
		i := s.run(at)
		r, from := s.runs[i], at-s.at[i]
		part := b[n : n+int(min(int64(len(b)-n), r.Length-from))]
		got, err := s.image.ReadAt(part, r.Offset+from)
		n, at = n+got, at+int64(got)
		if got < len(part) {
			return n, err
		}
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

// stored is where from a place on something is stored.
func (s *space) stored(at int64, skip func(int64) int64) int64 {
	for at < s.size {
		i := s.run(at)
		r, from := s.runs[i], at-s.at[i]
		if to := skip(r.Offset+from) - r.Offset; to < r.Length {
			return s.at[i] + max(from, to)
		}
		at = s.at[i] + r.Length
	}
	return s.size
}

// extents is where a part of the space lies in the image.
func (s *space) extents(at, n int64) (out []volume.Extent) {
	for n > 0 && at < s.size {
		i := s.run(at)
		r, from := s.runs[i], at-s.at[i]
		e := volume.Extent{Offset: r.Offset + from, Length: min(n, r.Length-from)}
		if k := len(out); k > 0 && out[k-1].Offset+out[k-1].Length == e.Offset {
			out[k-1].Length += e.Length
		} else {
			out = append(out, e)
		}
		at, n = at+e.Length, n-e.Length
	}
	return out
}

// source is what a form's structure is followed in. It may be split: what would lie at split lies shift bytes
// further.
type source struct {
	r      io.ReaderAt
	size   int64
	unit   int64   // the smallest of units; 0 if no second run is looked for
	units  []int64 // at which runs may begin and end
	space  *space
	split  int64
	shift  int64
	runs   []span // of the file that was read last, if they are two
	before int64  // bytes of it that are not there, before what is

	small  bool  // little is read at once: a second run is looked for
	left   int64 // what may yet be spent on that
	texts  int64 // to where the last text went on
	pages  int64 // and the last pages of a database
	eocds  marks
	eofs   marks
	begins marks
	own    []byte // what is read into
	window []byte // of what was read last
	from   int64
}

type span struct{ from, to int64 }

// extents is where a file lies in the image.
func (s *source) extents(at, n int64) []volume.Extent {
	if s.runs == nil {
		return s.space.extents(at, n)
	}
	var out []volume.Extent
	for _, r := range s.runs {
		out = append(out, s.space.extents(r.from, r.to-r.from)...)
	}
	return out
}

// marks are where a mark stands in a source, as far as it was searched.
type marks struct {
	at       []int64
	from, to int64
}

// behind are the places of a mark from a place on, up to one that no mark is looked for behind.
func (m *marks) behind(s *source, mark string, from, end int64) []int64 {
	end = min(end, s.size)
	if from < m.from || from > m.to { // which a search in order does not do
		*m = marks{from: from, to: from}
	}
	for m.to < end && len(m.at) < maxMarks {
		b := s.get(m.to, windowSize/2)
		if len(b) < len(mark) {
			break
		}
		for i := 0; ; {
			k := bytes.Index(b[i:], []byte(mark))
			if k < 0 {
				break
			}
			m.at, i = append(m.at, m.to+int64(i+k)), i+k+1
		}
		m.to += int64(len(b) - len(mark) + 1)
	}
	i, _ := slices.BinarySearch(m.at, from)
	j, _ := slices.BinarySearch(m.at, end)
	if m.at = m.at[i:]; m.from < from {
		m.from = from
	}
	return m.at[:j-i]
}

const maxMarks = 1 << 20

const windowSize = 1 << 16

// get gives n bytes from a place on, fewer where the source ends. They are good until the next call.
func (s *source) get(at int64, n int) []byte {
	if at < 0 || n <= 0 || at >= s.size {
		return nil
	}
	if at >= s.from && at+int64(n) <= s.from+int64(len(s.window)) {
		return s.window[at-s.from:][:n]
	}
	if len(s.own) < max(n, windowSize) {
		s.own = make([]byte, max(n, windowSize))
	}
	length := int64(len(s.own))
	if s.small {
		length = max(4096, int64(n))
	}
	w := s.own[:min(length, s.size-at)]
	got := 0
	if s.split == 0 || at+int64(len(w)) <= s.split {
		got, _ = s.r.ReadAt(w, at)
	} else {
		if at < s.split {
			got, _ = s.r.ReadAt(w[:s.split-at], at)
		}
		if int64(got) == max(0, s.split-at) {
			more, _ := s.r.ReadAt(w[got:], at+int64(got)+s.shift)
			got += more
		}
	}
	s.window, s.from = w[:got], at
	return s.window[:min(n, got)]
}

// cut joins from split on what lies shift bytes further.
func (s *source) cut(split, shift int64) {
	s.split, s.shift, s.window = split, shift, nil
}

func (s *source) u16(at int64) int {
	if b := s.get(at, 2); len(b) == 2 {
		return int(binary.BigEndian.Uint16(b))
	}
	return -1
}

func (s *source) u32(at int64) int64 {
	if b := s.get(at, 4); len(b) == 4 {
		return int64(binary.BigEndian.Uint32(b))
	}
	return -1
}

// What is said of files.
const (
	byCodes     = "every code of its pictures holds to the last"
	byChecksums = "its checksums hold"
	byChain     = "its parts follow one another to the last"
	bySizes     = "its sizes agree; its content has nothing to be checked by"
	ends        = "it breaks off: what follows is not its own"
)

// limits of files that are followed.
const maxFile = 8 << 30
