package reading

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"iter"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/record"
)

// Reader reads files that are no SQLite databases.
type Reader interface {
	// ID is its name and version, which records name as what read them.
	ID() string
	// Match reports whether it reads a file, by the path on the handset and the first
	// 512 bytes.
	Match(path string, head []byte) bool
	// Read yields the records of a file's content, in order. Errors are of the content, and do
	// not end the reading.
	Read(content *io.SectionReader, src *Text) iter.Seq2[*record.Record, error]
}

// Readers are those that are built in.
var Readers = []Reader{vcards{}, calendars{}, photographs{}, clips{}, mailboxes{}, documents{}}

// Text is a file that a Reader reads, and what is known of it.
type Text struct {
	Path    string // on the handset
	Stored  string // below the source
	SHA256  string // hex
	Country string // the exhibit's home country
	Made    time.Time
	// As of [File].
	Written      time.Time
	WrittenLocal string
}

// HeadLength is how many of a file's first bytes are enough to say who reads it.
const HeadLength = 512

// ReaderOf is who reads a file, nil if nobody does.
func ReaderOf(path string, head []byte) Reader {
	for _, r := range Readers {
		if r.Match(path, head) {
			return r
		}
	}
	return nil
}

// readerByID finds a reader by its name and version.
func readerByID(id string) Reader {
	for _, r := range Readers {
		if r.ID() == id {
			return r
		}
	}
	return nil
}

// origin is the trail to a component's bytes.
func (t *Text) origin(reader Reader, content []byte, c *component) record.Origin {
	sum := sha256.Sum256(content[c.offset : c.offset+c.length])
	o := record.Origin{Path: t.Path, Stored: t.Stored, SHA256: t.SHA256, Table: c.name, Place: record.PlacePart, Offset: int64(c.offset), Length: c.length,
		Digest: hex.EncodeToString(sum[:]), Confidence: 1, FieldMap: reader.ID()}
	for i := range c.props {
		p := &c.props[i]
		o.Fields = append(o.Fields, record.Field{Name: p.name, Offset: int64(p.offset), Length: p.length, Role: "value"})
	}
	return o
}

// versioned is the name of a file that is one of several versions of the same, as an account
// gives them, with the time of each.
var versioned = regexp.MustCompile(`^(.+) (\d{4}-\d\d-\d\dT\d{6}Z)(\.[a-z]+)$`)

const versionTime = "2006-01-02T150405Z"

// Version says of which file a path names a version, and of when; ok is false if it is no
// version of one.
func Version(p string) (of string, at time.Time, ok bool) {
	m := versioned.FindStringSubmatch(p)
	if m == nil {
		return "", at, false
	}
	at, err := time.Parse(versionTime, m[2])
	return m[1] + m[3], at, err == nil
}

// VersionPath is the path of a version of a file.
func VersionPath(of string, at time.Time) string {
	ext := path.Ext(of)
	return strings.TrimSuffix(of, ext) + " " + at.UTC().Format(versionTime) + ext
}

// Versions brings the versions of each file together; one that is no version has none.
func Versions(files []*File) map[*File][]*File {
	of := map[string][]*File{}
	for _, f := range files {
		if name, _, ok := Version(f.Path); ok {
			of[name] = append(of[name], f)
		}
	}
	out := map[*File][]*File{}
	for _, all := range of {
		for _, f := range all {
			out[f] = all
		}
	}
	return out
}

// Texts yields the records of a file, of which all are the versions, the file among them, or
// nil if there is but one. A record that a later version has with the same content is that
// one's; of another content, or none, it is an earlier version, and says what changed. An error is
// of the files and ends it; note is told what is wrong with the content.
func Texts(reader Reader, f *File, all []*File, opt Options, note func(error)) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		read := func(f *File, note func(error)) (out []*record.Record, err error) {
			b, err := f.Open()
			if err != nil {
				return nil, err
			}
			defer b.Close()
			in := &faulty{ReaderAt: b}
			defer func() {
				if in.fault != nil {
					err = fmt.Errorf("reading %s: %w", f.Stored, in.fault)
				}
			}()
			for r, err := range reader.Read(io.NewSectionReader(in, 0, f.Size), &Text{Path: f.Path, Stored: f.Stored, SHA256: f.SHA256, Country: opt.Country, Made: f.made(opt), Written: f.Written, WrittenLocal: f.WrittenLocal}) {
				if err != nil {
					note(err)
					continue
				}
				out = append(out, r)
			}
			return out, nil
		}
		mine, err := read(f, note)
		if err != nil {
			yield(nil, err)
			return
		}
		_, at, _ := Version(f.Path)
		later := slices.DeleteFunc(slices.Clone(all), func(o *File) bool { _, t, ok := Version(o.Path); return !ok || !t.After(at) })
		slices.SortFunc(later, func(a, b *File) int { return strings.Compare(a.Path, b.Path) }) // which end with their times
		here := map[string]map[string]bool{}                                                    // what items say, by what they are told by
		for _, r := range mine {
			if k := item(r); here[k] == nil {
				here[k] = map[string]bool{}
			}
			here[item(r)][says(r)] = true
		}
		now := map[string]map[string]*record.Record{} // in the next version
		again := map[string]time.Time{}               // when what is not in it is there again
		for i, o := range later {
			rs, err := read(o, func(error) {}) // it says so itself
			if err != nil {
				yield(nil, err)
				return
			}
			_, t, _ := Version(o.Path)
			for _, r := range rs {
				k := item(r)
				if i > 0 {
					if _, known := again[k]; !known && now[k] == nil {
						again[k] = t
					}
					continue
				}
				if now[k] == nil {
					now[k] = map[string]*record.Record{}
				}
				now[k][says(r)] = r
			}
		}
		others := map[string][]*record.Record{} // of the next version, that this one does not have the same
		for k, all := range now {
			for s, r := range all {
				if !here[k][s] {
					others[k] = append(others[k], r)
				}
			}
		}
		for _, r := range mine {
			if len(later) > 0 {
				k := item(r)
				if now[k][says(r)] != nil {
					continue // the later version's
				}
				_, t, _ := Version(later[0].Path)
				said := since(r, others[k], t)
				if t, back := again[k]; back {
					said += "; it is in the one of " + stamp(t) + " again"
				}
				r.State, r.Facts = record.Earlier, append(r.Facts, record.Fact{Name: record.LaterVersion, Value: said})
			}
			if !yield(r, nil) {
				return
			}
		}
	}
}

// faulty remembers that a file could not be read, which is no fault of its content.
type faulty struct {
	io.ReaderAt
	fault error
}

func (f *faulty) ReadAt(b []byte, at int64) (int, error) {
	n, err := f.ReaderAt.ReadAt(b, at)
	if err != nil && err != io.EOF && f.fault == nil {
		f.fault = err
	}
	return n, err
}

// whole reads the whole of a file, of at most so many bytes.
func whole(content *io.SectionReader, most int64) ([]byte, error) {
	if content.Size() > most {
		return nil, fmt.Errorf("it has %d bytes; files of its form are read up to %d", content.Size(), most)
	}
	b := make([]byte, content.Size())
	if n, err := content.ReadAt(b, 0); n < len(b) {
		return nil, err
	}
	return b, nil
}

// whole is the origin of a record of which all of a file is what it was read from.
func (t *Text) whole(reader Reader, content *io.SectionReader) record.Origin {
	return record.Origin{Path: t.Path, Stored: t.Stored, SHA256: t.SHA256, Place: record.PlacePart, Length: int(content.Size()), Digest: t.SHA256, Confidence: 1, FieldMap: reader.ID()}
}

// finish gives r, which is of the whole file, the time at which that was written, and its UID.
func (t *Text) finish(r *record.Record) *record.Record {
	if t.WrittenLocal != "" {
		r.Times = append(r.Times, record.Time{Role: record.Written, Local: t.WrittenLocal, Stored: t.WrittenLocal + ", as the volume lists the file"})
	}
	if !t.Written.IsZero() {
		at := t.Written.UTC()
		r.Times = append(r.Times, record.Time{Role: record.Written, At: &at, Stored: at.Format(time.RFC3339Nano) + ", as the source lists the file"}.Doubted(t.Made))
	}
	r.SetUID()
	return r
}

// itself is the file as an attachment of the record that is read from all of it.
func (t *Text) itself(content *io.SectionReader, media string) record.Attachment {
	size := record.Int(content.Size())
	return record.Attachment{Name: path.Base(cmp.Or(t.Path, t.Stored)), Type: media, Size: &size, Path: t.Path, SHA256: t.SHA256}
}

func stamp(t time.Time) string { return t.UTC().Format("2 Jan 2006 15:04:05 UTC") }

// Differs names what a record says otherwise than again, which its own bytes give. What takes
// more than these is left out: what a later version has, and zones that a calendar defines.
func Differs(r, again *record.Record) []string {
	own := func(r *record.Record) *record.Record {
		x := *r
		x.Facts = slices.DeleteFunc(slices.Clone(r.Facts), func(f record.Fact) bool {
			return f.Name == record.LaterVersion || f.Name == record.KeptAs || f.Name == record.FileFound
		})
		return &x
	}
	kept := *again
	kept.Times, kept.Parties, kept.Facts, kept.Attachments = slices.Clone(again.Times), slices.Clone(again.Parties), slices.Clone(again.Facts), slices.Clone(again.Attachments)
	if again.Place != nil {
		at := *again.Place
		kept.Place = &at
	}
	kept.Keep()
	a, b := own(r), own(&kept)
	names := changed(a, b)
	for i := range a.Times {
		if i < len(b.Times) && b.Times[i].At != nil && (a.Times[i].At == nil || !a.Times[i].At.Equal(*b.Times[i].At)) {
			names = append(names, a.Times[i].Role)
		}
	}
	return names
}

// item is what a record of a version is told by in another: its own identifier, or its text.
func item(r *record.Record) string {
	for _, f := range r.Facts {
		if f.Name == record.Identifier {
			return f.Value
		}
	}
	return r.Text
}

// content lists what a record says, by names; when it was made or changed is not part of it.
func content(r *record.Record) map[string]string {
	out := map[string]string{"text": r.Text}
	add := func(name, value string) {
		if out[name] != "" {
			value = out[name] + ", " + value
		}
		out[name] = value
	}
	for _, t := range r.Times {
		if t.Role != "made" && t.Role != "changed" && t.Role != record.Written {
			add(t.Role, t.Stored)
		}
	}
	for _, p := range r.Parties {
		add(p.Role, strings.TrimSpace(p.Name+" "+p.Handle))
	}
	if r.Place != nil {
		add("place", r.Place.Stored)
	}
	for _, a := range r.Attachments {
		add("attachment", a.Title()+" "+a.Path+" "+a.Type)
		if a.Size != nil {
			add("attachment", strconv.FormatInt(int64(*a.Size), 10))
		}
	}
	for _, f := range r.Facts {
		add(f.Name, f.Value)
	}
	return out
}

// changed names what two versions of an item say otherwise.
func changed(was, is *record.Record) (names []string) {
	return record.Differing(content(was), content(is))
}

// says is what a record says as one text: that of another is equal if nothing is changed.
func says(r *record.Record) string {
	c := content(r)
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(c)) {
		fmt.Fprintf(&b, "%q%q", name, c[name])
	}
	return b.String()
}

// since says in words what a later version has of an item: those that are told by the same. It
// names what is otherwise and gives no value of it: the later version's record may be withheld where
// this one is not.
func since(was *record.Record, is []*record.Record, at time.Time) string {
	switch len(is) {
	case 0:
		return "not in the version of " + stamp(at)
	case 1:
		return "otherwise in the version of " + stamp(at) + ": " + strings.Join(changed(was, is[0]), ", ")
	}
	return fmt.Sprintf("not as it is here in the version of %s, which has %d that it may be", stamp(at), len(is))
}

// Again reads a record's own bytes again by the reader that it names, and gives what it
// makes of them; known is false if there is no such reader, or it reads no such record.
func Again(r *record.Record, cell []byte) (again *record.Record, known bool) {
	reader := readerByID(r.Origin().FieldMap)
	if reader == nil {
		return nil, false
	}
	for x, err := range reader.Read(io.NewSectionReader(bytes.NewReader(cell), 0, int64(len(cell))), &Text{Path: r.Origin().Path, Stored: r.Origin().Stored}) {
		if err == nil && x.Kind == r.Kind && x.Origin().Table == r.Origin().Table && x.Origin().Offset == 0 {
			return x, true
		}
	}
	return nil, false
}
