package store

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/ledger"
)

// Provenance is where the source of an acquisition came from before it was acquired: as somebody stated it, or, of a
// backup that a handset was asked for here, as the ledger tells.
type Provenance struct {
	MadeBy string // who made it
	MadeOn string // on which machine, with which program
	Came   string // how it came from there to where it was acquired
	By     string // who stated it, or who asked the handset for it
	At     time.Time
	Seen   bool // it is not a statement: the handset was asked for it here

	manifest string // the SHA-256 of what was received, "" if it was not kept
}

// Since says whether what a handset was asked for here was changed between its receipt and its acquisition; "" of what was stated.
func (p *Provenance) Since(a *Acquisition) string {
	switch {
	case !p.Seen:
		return ""
	case p.manifest == "":
		return "whether what lay there was changed before it was acquired was not measured"
	case a.Manifest == "":
		return "whether what lies there is what was received is not known before its acquisition has ended"
	case a.Manifest == p.manifest:
		return "what was acquired is what had been received: the manifests of both have the same SHA-256"
	}
	return "what was acquired is not what had been received: of that, the manifest had the SHA-256 " + p.manifest
}

// stated is the entry of a statement, which is kept nowhere else: what a page or a report says of it cannot differ from
// the ledger.
const stated = "source.stated"

// StateProvenance keeps what is stated of the source of an acquisition; what was stated before stays in the ledger.
func (s *Store) StateProvenance(ctx context.Context, c *Case, e *Exhibit, a *Acquisition, p Provenance) error {
	d := map[string]string{"source": a.Source, "made_by": p.MadeBy, "made_on": p.MadeOn, "came": p.Came}
	maps.DeleteFunc(d, func(_, v string) bool { return v == "" })
	return s.Change(ctx, func(t *Tx) error {
		return t.Log(Act{c.Book(), p.By, stated, casefile.SourceName(e.Reference, a.Number), d})
	})
}

// Provenances is what a case's ledger tells of where its sources came from.
type Provenances struct {
	stated map[string]*Provenance // by the acquisition's name in the ledger
	made   map[string]*Provenance // by the path of a backup that a handset made
}

// Of is what was seen of an acquisition of the exhibit with that reference, else what was stated last; nil for neither.
func (p *Provenances) Of(reference string, a *Acquisition) *Provenance {
	if x := p.made[a.Source]; x != nil {
		return x
	}
	return p.stated[casefile.SourceName(reference, a.Number)]
}

// Provenances reads a case's ledger.
func (s *Store) Provenances(ctx context.Context, c *Case) (*Provenances, error) {
	all, err := s.entries(ctx, "book = $1 AND convert_from(line, 'UTF8')::jsonb->>'what' = ANY($2) ORDER BY seq", c.Book(), Array[string]{stated, "backup.made", "exhibit.renamed"}.param())
	if err != nil {
		return nil, err
	}
	out := &Provenances{map[string]*Provenance{}, map[string]*Provenance{}}
	for i := range all {
		e, d := &all[i], all[i].Detail
		at, err := time.Parse(ledger.TimeFormat, e.At)
		if err != nil {
			return nil, fmt.Errorf("entry %d of the ledger: %w", e.Seq, err)
		}
		switch e.What {
		case stated:
			out.stated[e.On] = &Provenance{MadeBy: d["made_by"], MadeOn: d["made_on"], Came: d["came"], By: e.By, At: at}
		case "backup.made":
			out.made[d["at"]] = &Provenance{MadeBy: "the handset " + d["by"] + " itself, asked for it here", MadeOn: "the handset",
				Came: "received over its cable, and put where it was acquired", By: e.By, At: at, Seen: true, manifest: d["manifest_sha256"]}
		case "exhibit.renamed":
			for name, p := range out.stated {
				if n, ok := strings.CutPrefix(name, d["was"]+" acquisition "); ok {
					delete(out.stated, name)
					out.stated[e.On+" acquisition "+n] = p
				}
			}
		}
	}
	return out, nil
}
