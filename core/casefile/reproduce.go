package casefile

import (
	"fmt"
	"io"
	"io/fs"
	"iter"
	"slices"
	"strings"

	"crosswind/core/fieldmap"
	"crosswind/core/record"
)

// Outcome is what became of a record of a package that somebody else's copy of its source was read for.
type Outcome string

// The outcomes.
const (
	Same      Outcome = "the same"              // it is read again, all of it the same
	Differs   Outcome = "differs"               // it is read again, with other content
	NotThere  Outcome = "not there"             // its file is the same, byte for byte, and does not give it
	OtherFile Outcome = "its file is another"   // a file of that path is there, with other content
	NoFile    Outcome = "its file is not there" // as of a record of another source
)

// Reproduced is a record of a package with what became of it.
type Reproduced struct {
	*RecordLine
	Outcome Outcome
	What    string // of one that differs, in which parts; of another file, its SHA-256
}

// place is where a record's bytes are, whatever the source's files are called where they are stored.
type place struct {
	kind   record.Kind
	sha256 string
	offset int64
	length int
	table  string
}

func placeOf(r *record.Record) place {
	o := r.Origin()
	return place{r.Kind, o.SHA256, o.Offset, o.Length, o.Table}
}

// Reproduce compares the records of a package with those that were read from a copy of a source: by the bytes that they were
// read from. files are the source's, by their path on the handset, with their SHA-256. Names that contacts give are not
// compared: scope may have withheld the contact, and nothing is withheld from who reads their own copy.
func Reproduce(records []*RecordLine, read iter.Seq2[*record.Record, error], files map[string]string) ([]Reproduced, error) {
	out := make([]Reproduced, len(records))
	wanted := map[place][]int{}
	for i, r := range records {
		out[i] = Reproduced{RecordLine: r, Outcome: NotThere}
		if len(r.Origins) == 0 {
			return nil, fmt.Errorf("record %s has no origin", r.UID)
		}
		switch sum, there := files[r.Origin().Path]; {
		case !there:
			out[i].Outcome = NoFile
		case sum != r.Origin().SHA256:
			out[i].Outcome, out[i].What = OtherFile, sum
		}
		p := placeOf(r.Record)
		wanted[p] = append(wanted[p], i)
	}
	for x, err := range read {
		if err != nil {
			return nil, err
		}
		for _, i := range wanted[placeOf(x)] {
			x.Keep()
			if parts := differs(records[i], x); len(parts) == 0 {
				out[i].Outcome, out[i].What = Same, ""
			} else if out[i].Outcome != Same {
				out[i].Outcome, out[i].What = Differs, strings.Join(parts, ", ")
			}
		}
	}
	return out, nil
}

// differs names the members in which two records of the same bytes differ, but for what they are called where they are stored,
// and the names that contacts give. Of a record whose file the package does not have, that has its first origin alone.
func differs(a *RecordLine, b *record.Record) (parts []string) {
	origins := len(b.Origins)
	if a.FileWithheld {
		origins = min(origins, 1)
	}
	return record.Differing(compared(a.Record, len(a.Origins)), compared(b, origins))
}

// compared are the members of a record with so many origins that are compared.
func compared(r *record.Record, origins int) map[string]string {
	c := *r
	c.UID = ""
	c.Parties = slices.Clone(r.Parties)
	for i := range c.Parties {
		if p := &c.Parties[i]; !c.Origin().IsPart() || p.Card != "" {
			p.Name, p.Card, p.CardState = "", "", ""
		}
	}
	c.Origins = slices.Clone(r.Origins[:origins])
	for i := range c.Origins {
		c.Origins[i].Stored = ""
	}
	return c.Members()
}

// FieldMaps reads the field maps of a package, whose files fsys has below its folder.
func FieldMaps(fsys fs.FS) (out []*fieldmap.Map, err error) {
	names, err := fs.Glob(fsys, MapsDir+"*")
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		f, err := fsys.Open(name)
		if err != nil {
			return nil, err
		}
		b, err := io.ReadAll(io.LimitReader(f, maxTagFile))
		f.Close()
		if err != nil {
			return nil, err
		}
		m, err := fieldmap.Parse(name, b)
		if err != nil {
			return nil, fmt.Errorf("the package's field map %s: %w", name, err)
		}
		out = append(out, m)
	}
	return out, nil
}
