package export

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/piprate/json-gold/ld"
)

// A JSON-LD processor of another origin (json-gold) takes what is written for triples, in which every record leads to a range of a
// file's bytes with its digest. No property is dropped: each has an absolute IRI.
func TestGraphIsReadByOthers(t *testing.T) {
	b := written(t, "jsonld", 7, 0)
	var doc struct {
		Graph []map[string]any `json:"@graph"`
	}
	if err := json.Unmarshal(b, &doc); err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, n := range doc.Graph {
		id, _ := n["@id"].(string)
		if seen[id] || !strings.HasPrefix(id, "urn:uuid:") {
			t.Errorf("the ID %q comes twice, or is none", id)
		}
		seen[id] = true
	}
	var any any
	if err := json.Unmarshal(b, &any); err != nil {
		t.Fatal(err)
	}
	p, o := ld.NewJsonLdProcessor(), ld.NewJsonLdOptions("")
	o.DocumentLoader = nil // nothing is loaded: the context is in it
	o.SafeMode = true      // what would be dropped is an error
	if _, err := p.Expand(any, o); err != nil {
		t.Fatal(err)
	}
	out, err := p.ToRDF(any, o)
	if err != nil {
		t.Fatal(err)
	}
	const observable = "https://ontology.unifiedcyberontology.org/uco/observable/"
	count := map[string]int{}
	values := map[string]bool{}
	for _, q := range out.(*ld.RDFDataset).GetQuads("@default") {
		count[q.Predicate.GetValue()+" "+q.Object.GetValue()]++
		count[q.Predicate.GetValue()]++
		values[q.Object.GetValue()] = true
	}
	origins := 0
	for l, err := range lines() {
		if err != nil {
			t.Fatal(err)
		}
		origins += len(l.Origins)
		for _, x := range l.Origins {
			if !values[x.Digest] {
				t.Errorf("the digest of the bytes of record %s is not there", l.UID)
			}
		}
		if l.Text != "" && !values[l.Text] && !values[l.Summary()] {
			t.Errorf("the text of record %s is not there", l.UID)
		}
	}
	if n := count["https://ontology.unifiedcyberontology.org/uco/core/kindOfRelationship Contained_Within"]; n != origins || count[observable+"rangeOffset"] != origins || n == 0 {
		t.Errorf("%d ranges of %d origins", n, origins)
	}
	for _, class := range []string{"Message", "Contact", "CalendarEntry"} {
		if count["http://www.w3.org/1999/02/22-rdf-syntax-ns#type "+observable+class] == 0 || count["http://www.w3.org/1999/02/22-rdf-syntax-ns#type "+observable+class+"Facet"] == 0 {
			t.Errorf("no %s", class)
		}
	}
	if again := written(t, "jsonld", 7, 0); !bytes.Equal(again, b) {
		t.Error("another time it is another file")
	}
}
