package casefile

import (
	"bufio"
	"bytes"
	"crypto/sha1"
	"encoding/json"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
)

// GraphWriter writes records in the ontologies of the cyber-investigation community, CASE 1.3 and UCO 1.3, as JSON-LD 1.1: what
// they are, who and where, of which file's bytes each was read, and what was said to mark it. Names of classes and properties
// are from memory. The bytes follow from what it is given alone.
type GraphWriter struct {
	w     *bufio.Writer
	name  string // of the case
	n     int
	there map[string]bool // what was written once for all, by ID
}

type node map[string]any

var prefixes = node{
	"case-investigation": "https://ontology.caseontology.org/case/investigation/",
	"uco-core":           "https://ontology.unifiedcyberontology.org/uco/core/",
	"uco-location":       "https://ontology.unifiedcyberontology.org/uco/location/",
	"uco-observable":     "https://ontology.unifiedcyberontology.org/uco/observable/",
	"uco-tool":           "https://ontology.unifiedcyberontology.org/uco/tool/",
	"uco-types":          "https://ontology.unifiedcyberontology.org/uco/types/",
	"uco-vocabulary":     "https://ontology.unifiedcyberontology.org/uco/vocabulary/",
	"xsd":                "http://www.w3.org/2001/XMLSchema#",
}

// ofGraphs is the name space of the identifiers: the same thing has the same one in every file.
var ofGraphs = nameUUID([16]byte{0x6b, 0xa7, 0xb8, 0x10, 0x9d, 0xad, 0x11, 0xd1, 0x80, 0xb4, 0x00, 0xc0, 0x4f, 0xd4, 0x30, 0xc8}, "crosswind.example") // in that of DNS

// nameUUID is the UUID of a name in a name space (RFC 9562 section 5.5, version 5).
func nameUUID(space [16]byte, name string) (u [16]byte) {
	sum := sha1.Sum(append(space[:], name...))
	copy(u[:], sum[:])
	u[6], u[8] = u[6]&0x0f|0x50, u[8]&0x3f|0x80
	return u
}

func idOf(what string, parts ...string) string {
	u := nameUUID(ofGraphs, what+"\x00"+strings.Join(parts, "\x00"))
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:])
}

func ref(id string) node { return node{"@id": id} }

func typed(kind, value string) node { return node{"@type": kind, "@value": value} }

func instant(t time.Time) node { return typed("xsd:dateTime", t.UTC().Format(time.RFC3339Nano)) }

// NewGraphWriter begins a graph of records of a case, which about describes, by a tool, its name and its version.
func NewGraphWriter(w io.Writer, caseReference, about, tool string) (*GraphWriter, error) {
	g := &GraphWriter{w: bufio.NewWriter(w), name: caseReference, there: map[string]bool{}}
	b, err := json.Marshal(prefixes)
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(g.w, "{\"@context\":%s,\n\"@graph\":[", b)
	name, version, _ := strings.Cut(tool, " ")
	err = g.put(node{"@id": idOf("tool", tool), "@type": "uco-tool:Tool", "uco-core:name": name, "uco-tool:version": version})
	if err == nil {
		err = g.put(node{"@id": idOf("case", caseReference), "@type": "case-investigation:Investigation", "uco-core:name": caseReference, "uco-core:description": about})
	}
	return g, err
}

// Graph is the graph of the records of a package, as [GraphName] has it.
func Graph(caseReference, title, tool string, records []*RecordLine) ([]byte, error) {
	var out bytes.Buffer
	g, err := NewGraphWriter(&out, caseReference, oneLine(title)+": the marked records", oneLine(tool))
	for _, r := range records {
		if err == nil {
			err = g.Write(r)
		}
	}
	if err == nil {
		err = g.Close()
	}
	return out.Bytes(), err
}

func (g *GraphWriter) put(n node) error {
	b, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if g.n++; g.n > 1 {
		g.w.WriteByte(',')
	}
	g.w.WriteByte('\n')
	_, err = g.w.Write(b)
	return err
}

// once writes what several records have in common, the first time.
func (g *GraphWriter) once(id string, n func() node) error {
	if g.there[id] {
		return nil
	}
	g.there[id] = true
	x := n()
	x["@id"] = id
	return g.put(x)
}

// Close ends the graph.
func (g *GraphWriter) Close() error {
	g.w.WriteString("\n]}\n")
	return g.w.Flush()
}

func facet(id, class string, n node) node {
	n["@id"], n["@type"] = idOf("facet", id, class), "uco-observable:"+class+"Facet"
	return n
}

func hash(id, sha256 string) node {
	return node{"@id": idOf("hash", id, sha256), "@type": "uco-types:Hash", "uco-types:hashMethod": typed("uco-vocabulary:HashNameVocab", "SHA256"), "uco-types:hashValue": typed("xsd:hexBinary", sha256)}
}

// party writes somebody whom a record names, and gives their ID.
func (g *GraphWriter) party(l *RecordLine, p record.Party) (string, error) {
	handle := p.Normal
	if handle == "" {
		handle = p.Handle
	}
	if handle == "" {
		return "", nil
	}
	id := idOf("party", g.name, handle)
	return id, g.once(id, func() node {
		x := node{"@type": "uco-observable:DigitalAccount", "uco-core:hasFacet": []node{facet(id, "DigitalAccount", node{"uco-observable:displayName": handle})}}
		switch people.Scheme(p.Normal) {
		case people.Mail:
			x = node{"@type": "uco-observable:EmailAddress", "uco-core:hasFacet": []node{facet(id, "EmailAddress", node{"uco-observable:addressValue": handle})}}
		case people.Telephone:
			x = node{"@type": "uco-observable:PhoneAccount", "uco-core:hasFacet": []node{facet(id, "PhoneAccount", node{"uco-observable:phoneNumber": handle})}}
		}
		if p.Name != "" {
			x["uco-core:name"] = p.Name
		}
		return x
	})
}

// fromRoles are those of parties whom what a record tells comes from.
var fromRoles = map[string]bool{"from": true, "author": true, "organizer": true, "owner": true}

// Write writes a record.
func (g *GraphWriter) Write(l *RecordLine) error {
	class := l.Kind.About().UCO.Class
	id := idOf("record", l.Exhibit, fmt.Sprint(l.Acquisition), l.UID)
	x := node{"@id": id, "@type": "uco-observable:ObservableObject", "uco-core:name": l.Kind.Title(), "uco-core:tag": []string{l.State.Title(), l.PlaceWords()},
		"uco-core:externalReference": node{"@id": idOf("uid", id), "@type": "uco-core:ExternalReference", "uco-core:externalIdentifier": l.UID}}
	if class != "" {
		x["@type"] = "uco-observable:" + class
	}
	if s := l.Summary(); s != "" {
		x["uco-core:description"] = s
	}
	if at := l.At(); at != nil {
		x["uco-core:startTime"] = instant(*at)
	}
	facets, err := g.facets(id, l)
	if err != nil {
		return err
	}
	if l.State.Below() {
		status := "recovered"
		if len(l.Origin().Lost) > 0 {
			status = "partially recovered"
		}
		facets = append(facets, facet(id, "RecoveredObject", node{"uco-observable:contentRecoveredStatus": typed("uco-vocabulary:RecoveredObjectStatusVocab", status)}))
	}
	if len(facets) > 0 {
		x["uco-core:hasFacet"] = facets
	}
	if err := g.put(x); err != nil {
		return err
	}
	if err := g.origins(id, l); err != nil {
		return err
	}
	if l.Place != nil && l.Place.Known() {
		if err := g.place(id, l); err != nil {
			return err
		}
	}
	if l.Mark == "" {
		return nil
	}
	return g.put(node{"@id": idOf("mark", id), "@type": "uco-core:Annotation", "uco-core:object": ref(id), "uco-core:tag": "marked", "uco-core:statement": l.Mark})
}

// facets are what a record says in the terms of its class, and the contents of files that it names.
func (g *GraphWriter) facets(id string, l *RecordLine) (out []node, err error) {
	own := node{}
	set := func(name string, v any) {
		if name != "" {
			own["uco-observable:"+name] = v
		}
	}
	p := l.Kind.About().UCO
	if l.Text != "" {
		set(p.Text, l.Text)
	}
	if at := l.At(); at != nil {
		set(p.Began, instant(*at))
	}
	for _, t := range l.Others() {
		if t.Role == "ended" && t.At != nil {
			set(p.Ended, instant(*t.At))
		}
	}
	if s, err := strconv.ParseFloat(l.Fact(record.Duration).Value, 64); err == nil && l.Kind.About().Rung {
		set("duration", typed("xsd:integer", fmt.Sprintf("%.0f", s)))
	}
	var from, to []node
	for _, party := range l.Parties {
		who, err := g.party(l, party)
		if err != nil {
			return nil, err
		}
		switch {
		case who == "":
		case fromRoles[party.Role]:
			from = append(from, ref(who))
		default:
			to = append(to, ref(who))
		}
	}
	if len(from) > 0 {
		set(p.From, from)
	}
	if len(to) > 0 {
		set(p.To, to)
	}
	if len(own) > 0 {
		out = append(out, facet(id, p.Class, own))
	}
	for i, a := range l.Attachments {
		file := idOf("attachment", id, fmt.Sprint(i))
		n := node{"@type": "uco-observable:File"}
		f := node{}
		if name := a.Title(); name != "" {
			f["uco-observable:fileName"] = path.Base(name)
		}
		if a.Path != "" {
			f["uco-observable:filePath"] = a.Path
		}
		fs := []node{facet(file, "File", f)}
		if a.SHA256 != "" {
			fs = append(fs, facet(file, "ContentData", node{"uco-observable:hash": hash(file, a.SHA256)}))
		}
		n["uco-core:hasFacet"] = fs
		if err := g.once(file, func() node { return n }); err != nil {
			return nil, err
		}
		if err := g.relation(file, id, "Attachment_Of", nil); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (g *GraphWriter) relation(from, to, kind string, facets []node) error {
	x := node{"@id": idOf("relation", from, to, kind), "@type": "uco-observable:ObservableRelationship", "uco-core:source": ref(from), "uco-core:target": ref(to),
		"uco-core:kindOfRelationship": typed("uco-vocabulary:ObservableObjectRelationshipVocab", kind), "uco-core:isDirectional": true}
	if len(facets) > 0 {
		x["uco-core:hasFacet"] = facets
	}
	return g.put(x)
}

// origins lead to the bytes: each to its file, with the range in it and the digest of that.
func (g *GraphWriter) origins(id string, l *RecordLine) error {
	for i := range l.Origins {
		o := &l.Origins[i]
		file := idOf("file", l.Exhibit, fmt.Sprint(l.Acquisition), o.Stored, o.SHA256)
		err := g.once(file, func() node {
			fs := []node{facet(file, "File", node{"uco-observable:fileName": path.Base(o.Path), "uco-observable:filePath": o.Path})}
			if !l.FileWithheld && o.SHA256 != "" {
				fs = append(fs, facet(file, "ContentData", node{"uco-observable:hash": hash(file, o.SHA256)}))
			}
			return node{"@type": "uco-observable:File", "uco-core:description": fmt.Sprintf("%s, acquisition %d", l.Exhibit, l.Acquisition), "uco-core:hasFacet": fs}
		})
		if err != nil {
			return err
		}
		part := idOf("range", id, fmt.Sprint(i))
		span := node{"uco-observable:rangeOffset": typed("xsd:integer", fmt.Sprint(o.Offset))}
		facets := []node{facet(part, "DataRange", span)}
		if o.Digest != "" { // else it is redacted, with how many bytes they are
			span["uco-observable:rangeSize"] = typed("xsd:integer", fmt.Sprint(o.Length))
			facets = append(facets, facet(part, "ContentData", node{"uco-observable:hash": hash(part, o.Digest)}))
		}
		x := node{"@id": part, "@type": "uco-observable:ObservableRelationship", "uco-core:source": ref(id), "uco-core:target": ref(file), "uco-core:hasFacet": facets, "uco-core:isDirectional": true,
			"uco-core:kindOfRelationship": typed("uco-vocabulary:ObservableObjectRelationshipVocab", "Contained_Within")}
		if o.Gives != "" {
			x["uco-core:description"] = o.Gives
		}
		if err := g.put(x); err != nil {
			return err
		}
	}
	return nil
}

func (g *GraphWriter) place(id string, l *RecordLine) error {
	at := idOf("place", id)
	degrees := func(f float64) node { return typed("xsd:decimal", strconv.FormatFloat(f, 'f', 7, 64)) }
	if err := g.put(node{"@id": at, "@type": "uco-location:Location", "uco-core:hasFacet": []node{{"@id": idOf("facet", at), "@type": "uco-location:LatLongCoordinatesFacet",
		"uco-location:latitude": degrees(l.Place.Latitude), "uco-location:longitude": degrees(l.Place.Longitude)}}}); err != nil {
		return err
	}
	return g.put(node{"@id": idOf("relation", id, at), "@type": "uco-core:Relationship", "uco-core:source": ref(id), "uco-core:target": ref(at), "uco-core:kindOfRelationship": "Located_At", "uco-core:isDirectional": true})
}
