package report

import (
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"

	"crosswind/core/custody"
	"crosswind/core/report"
	"crosswind/internal/acquire"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

func (r *Report) authority(*report.Composition) (out []report.Block) {
	clock := r.clock()
	for _, a := range r.Authorities {
		span := report.Text{report.T("of any date")}
		if a.ScopeFrom != nil || a.ScopeTo != nil {
			span = nil
			if a.ScopeFrom != nil {
				span = append(span, report.T("from "), clock.At(*a.ScopeFrom), report.T(" "))
			}
			if a.ScopeTo != nil {
				span = append(span, report.T("to "), clock.At(*a.ScopeTo))
			}
		}
		facts := report.Facts{
			{Name: "Authority", Value: report.Text{report.E(a.Kind + " " + a.Number), report.T(", issued by "), report.E(a.IssuedBy)}},
			{Name: "Valid", Value: report.Text{clock.At(a.ValidFrom), report.T(" to "), clock.At(a.ValidTo)}},
			{Name: "Scope: kinds", Value: report.Text{report.T(strings.Join(a.ScopeKinds, ", "))}},
			{Name: "Scope: records", Value: span},
			{Name: "Scope: people", Value: report.Text{report.E(or(a.ScopePeople, "all"))}},
		}
		if len(a.Covered) > 0 {
			facts = append(facts, report.Fact{Name: "Scope: handles", Value: report.Text{report.M(strings.Join(a.Covered, ", "))}})
		}
		out = append(out, append(facts, report.Fact{Name: "Privileged", Value: report.Text{report.E(or(a.Excluded, "none")), report.T(" "), report.M(strings.Join(a.Privileged, ", "))}}))
	}
	if len(r.Overridden) > 0 {
		var facts report.Facts
		for _, o := range r.Overridden {
			facts = append(facts, report.Fact{Name: o.About, Value: report.Text{report.E(o.What), report.T(". Reason: "), report.E(o.Reason), report.T(" (" + o.By + ", "), clock.At(o.At), report.T(")")}})
		}
		out = append(out, report.Heading{Text: report.Text{report.T("What was done against a rule, and why")}}, facts)
	}
	return out
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// shortSeal is how many bytes the number of a seal has at most that is set in one line.
const shortSeal = 16

// number writes a number of a device, and what its check digit says.
func number(n, note string) report.Text {
	if note != "" {
		return report.Text{report.M(n), report.T("; its check digit is wrong, kept because: "), report.E(note)}
	}
	return report.Text{report.M(n), report.T("; its check digit is right")}
}

func (r *Report) exhibits(*report.Composition) (out []report.Block) {
	clock := r.clock()
	for i := range r.Exhibits {
		e := &r.Exhibits[i]
		facts := report.Facts{{Name: "Serial", Value: report.Text{report.M(e.Serial)}}}
		if e.IMEI != "" {
			facts = append(facts, report.Fact{Name: "IMEI", Value: number(e.IMEI, e.IMEINote)})
		}
		if e.ICCID != "" {
			facts = append(facts, report.Fact{Name: "ICCID", Value: number(e.ICCID, e.ICCIDNote)})
		}
		if e.Numbers != "" {
			facts = append(facts, report.Fact{Name: "Phone numbers", Value: report.Text{report.M(e.Numbers)}})
		}
		facts = append(facts, report.Fact{Name: "Condition", Value: report.Text{report.E(fmt.Sprintf("power %s; screen %s; touch %s; lock %s; radios %s; damage %s",
			or(e.Power, "not noted"), or(e.Screen, "not noted"), or(e.Touch, "not noted"), or(e.Lock, "not noted"), or(e.Radios, "not noted"), or(e.Damage, "none noted")))}})
		if e.LostWhat != "" || e.LostAt != nil {
			x := report.Text{report.E(or(e.LostWhat, "what is looked for"))}
			if e.LostAt != nil {
				x = append(x, report.T(", about "), clock.At(*e.LostAt))
			}
			facts = append(facts, report.Fact{Name: "Said to be lost", Value: append(x, report.T("; that is as it was told, and was not measured"))})
		}
		if e.SeizedAt != nil {
			x := report.Text{clock.At(*e.SeizedAt)}
			if e.SeizedPlace != "" {
				x = append(x, report.T(", "), report.E(e.SeizedPlace))
			}
			if e.SeizedBy != "" {
				x = append(x, report.T(", by "), report.E(e.SeizedBy))
			}
			facts = append(facts, report.Fact{Name: "Seized", Value: x})
		}
		facts = append(facts, r.clockOf(e))
		out = append(out, report.Heading{Text: report.Text{report.T(e.Reference + ": " + e.Kind + ", model mark "), report.E(e.ModelMark)}}, facts)
		out = append(out, r.photographs(e)...)
		t := report.Table{Head: []string{"When", "What", "From", "To", "Seal", "Place, note"}}
		for _, k := range e.Custody {
			note := k.Place
			for _, s := range []string{k.Note, k.Confirmed} {
				if s != "" {
					note += "; " + s
				}
			}
			seal := report.M(k.Seal)
			if len(k.Seal) <= shortSeal {
				seal.Style = report.When
			}
			t.Rows = append(t.Rows, []report.Text{clock.Stacked(k.At), {report.T(k.What)}, {report.E(k.FromWhom)}, {report.E(k.ToWhom)}, {seal}, {report.E(note)}})
		}
		out = append(out, t)
		out = append(out, r.contradictions(e)...)
	}
	if len(out) == 0 {
		return []report.Block{words("None is registered.")}
	}
	return out
}

// clockOf says how far an exhibit's clock was off, which way, and that its times are not put right.
func (r *Report) clockOf(e *exhibit) report.Fact {
	off, ok := e.Clock()
	switch {
	case e.ClockOffset == "" || !ok:
		return report.Fact{Name: "Its clock", Value: report.Text{report.T("how far it was off was not measured; times are given as it had them")}}
	case off == 0:
		return report.Fact{Name: "Its clock", Value: report.Text{report.T("showed the time of the reference, "), report.E(e.ClockMethod)}}
	}
	way, right := "fast", "earlier"
	if off < 0 {
		way, right = "slow", "later"
	}
	return report.Fact{Name: "Its clock", Value: report.Text{report.M(frame.Num(int64(math.Abs(off.Seconds())))), report.T(" s " + way + " against the reference, "), report.E(e.ClockMethod),
		report.T("; times in this report are as this clock had them, and are not put right: if it was off by as much at the time, something happened that much " + right + " than is given")}}
}

// contradictions names what is known to have been done with an exhibit when its chain of custody says otherwise.
func (r *Report) contradictions(e *exhibit) (out []report.Block) {
	var chain []custody.Event
	for i := range e.Custody {
		chain = append(chain, e.Custody[i].Event())
	}
	var uses []custody.Use
	for _, p := range e.Photographs {
		uses = append(uses, custody.Use{What: "photographed (" + or(p.Note, "no note") + ")", At: p.At})
	}
	for i := range r.Acquisitions {
		a := &r.Acquisitions[i]
		if made := a.Label.Made; a.ExhibitID == e.ID && !made.IsZero() && len(chain) > 0 && made.After(chain[0].At) {
			uses = append(uses, custody.Use{What: fmt.Sprintf("backed up, by the label of the source of acquisition %d", a.Number), At: made})
		}
	}
	_, faults := custody.Follow(chain)
	var t report.Table
	clock := r.clock()
	for _, f := range faults {
		t.Rows = append(t.Rows, []report.Text{{report.T("The chain itself")}, {report.T(f.Error())}})
	}
	for _, x := range custody.Contradictions(chain, uses) {
		what := report.Text{report.E(x.What), report.T(", "), clock.At(x.At)}
		why := report.Text{report.T("then nobody had it in custody")}
		if x.Seal != "" {
			why = report.Text{report.T("then it was under seal "), report.M(x.Seal)}
		}
		if x.Since != nil {
			why = append(why, report.T(", since "), clock.At(*x.Since))
		}
		if x.Until != nil {
			why = append(why, report.T(", until "), clock.At(*x.Until))
		}
		t.Rows = append(t.Rows, []report.Text{what, why})
	}
	if len(t.Rows) == 0 {
		return nil
	}
	t.Head = []string{"What was done", "What the chain of custody says"}
	return []report.Block{report.Heading{Text: report.Text{report.T("What contradicts the chain of custody of " + e.Reference)}}, t,
		words("Each has an explanation that is to be given: a clock that was off, an entry that was not made or was made with a wrong time, or something that could be done through the wrapping, as photographing it.")}
}

func (r *Report) acquisitions(*report.Composition) (out []report.Block) {
	clock := r.clock()
	for i := range r.Acquisitions {
		a := &r.Acquisitions[i]
		says := report.Text{report.E(fmt.Sprintf("%s, %s, serial %s, %s", a.Label.Device.Name, a.Label.Device.Mark, a.Label.Device.Serial, a.Label.Device.System))}
		if !a.Label.Made.IsZero() {
			says = append(says, report.T(", made "), clock.At(a.Label.Made), report.T(" by its own clock"))
		}
		facts := report.Facts{
			{Name: "Method", Value: report.Text{report.T(a.Method + "; the source was opened for reading only")}},
			{Name: "Source", Value: report.Text{report.M(a.Source)}},
			{Name: "The source says", Value: says},
			{Name: "Where it came from", Value: r.provenance(a)},
			{Name: "Tool", Value: tool(a.Tool)},
			{Name: "Settings", Value: report.Text{report.T(a.Settings)}},
			{Name: "Started", Value: report.Text{clock.At(a.StartedAt)}},
			{Name: "Ended", Value: report.Text{clock.Since(a.EndedAt)}},
			{Name: "By", Value: report.Text{report.T(a.By)}},
			{Name: "Taken", Value: report.Text{report.T(frame.Count(a.Files, "file") + ", " + frame.Count(a.Bytes, "byte"))}},
			{Name: "Manifest, SHA-256", Value: report.Text{report.H(a.Manifest)}},
		}
		if a.Method == acquire.MethodStorage || a.Method == acquire.MethodImage {
			facts = append(facts, report.Fact{Name: "Unread ranges", Value: unread(a.Unread)})
		}
		switch {
		case a.ContentManifest != "" && a.Encrypted():
			x := report.Text{report.T("with its password")}
			if a.UnlockedAt != nil {
				x = append(x, report.T(", "), clock.At(*a.UnlockedAt))
			}
			facts = append(facts, report.Fact{Name: "Unlocked", Value: append(x, report.T("; the manifest of the decrypted content has the SHA-256 "), report.H(a.ContentManifest))})
		case a.ContentManifest != "":
			facts = append(facts, report.Fact{Name: "Content", Value: report.Text{report.T("it was not encrypted; the manifest of what it holds has the SHA-256 "), report.H(a.ContentManifest)}})
		}
		checked := report.Text{}
		for _, k := range a.Checks {
			checked = append(checked, clock.At(k.At), report.T(" against the "+k.Against+": "))
			if k.Faults > 0 {
				checked = append(checked, report.Span{Words: fmt.Sprintf("%s of %s differ", frame.Num(k.Faults), frame.Count(k.Files, "file")), Style: report.Failed}, report.Br)
			} else {
				checked = append(checked, report.T(map[bool]string{true: "the one file holds", false: "all " + frame.Count(k.Files, "file") + " hold"}[k.Files == 1]), report.Br)
			}
		}
		if len(checked) == 0 {
			checked = report.Text{report.T("not yet")}
		}
		facts = append(facts, report.Fact{Name: "Checked again", Value: checked})
		if len(a.Faulty) > 0 {
			var x report.Text
			for _, f := range a.Faulty {
				x = append(x, report.Span{Words: f.Path + ": " + f.Fault, Style: report.Failed}, report.Br)
			}
			facts = append(facts, report.Fact{Name: "Integrity failed", Value: x, Bad: true})
		}
		if len(a.Faults) > 0 {
			var x report.Text
			for _, f := range a.Faults {
				x = append(x, report.M(f.Path), report.E(": "+f.Fault), report.Br)
			}
			facts = append(facts, report.Fact{Name: "Not as the source says", Value: x})
		}
		out = append(out, report.Heading{Text: report.Text{report.T(fmt.Sprintf("%s, acquisition %d", a.Reference, a.Number))}}, facts)
	}
	if len(out) == 0 {
		return []report.Block{words("None.")}
	}
	return out
}

// provenance says who made what was acquired, on what, and how it came to where it was acquired, and who says so.
func (r *Report) provenance(a *acquisition) report.Text {
	p := a.Came
	switch {
	case p == nil && acquire.OfCopy(a.Method):
		return report.Text{report.T("who made it, on what, and how it came to where it was acquired was not stated")}
	case p == nil:
		return report.Text{report.T("it was read from the source itself, and not from a copy that somebody brought")}
	}
	var out report.Text
	for _, x := range [][2]string{{"Made by ", p.MadeBy}, {"Made on ", p.MadeOn}, {"How it came: ", p.Came}} {
		out = append(out, report.T(x[0]), report.E(or(x[1], "not stated")), report.Br)
	}
	if p.Seen {
		return append(out, report.T("Asked for by "), report.E(p.By), report.T(", "), r.clock().At(p.At), report.T("; "+p.Since(&a.Acquisition)))
	}
	return append(out, report.T("As "), report.E(p.By), report.T(" stated "), r.clock().At(p.At), report.T("; it was not measured"))
}

// sha256s are SHA-256 in words.
var sha256s = regexp.MustCompile(`\b[0-9a-f]{64}\b`)

// tool names the program, its version and its build, which is the SHA-256 of its bytes.
func tool(s string) (out report.Text) {
	at := 0
	for _, m := range sha256s.FindAllStringIndex(s, -1) {
		out = append(out, report.T(s[at:m[0]]), report.H(s[m[0]:m[1]]))
		at = m[1]
	}
	if out == nil {
		return report.Text{report.T(s + "; its build was not kept")}
	}
	return append(out, report.T(s[at:]+" (the SHA-256 of the program)"))
}

// unread counts what of an image could not be read; each range is among the faults.
func unread(all []store.Unread) report.Text {
	if len(all) == 0 {
		return report.Text{report.T("none: all bytes were read")}
	}
	var n int64
	for _, u := range all {
		n += u.To - u.From
	}
	return report.Text{report.T(fmt.Sprintf("%s in %s; zeros stand in their place. Each is named below, and in the package's list of what could not be read", frame.Count(n, "byte"), frame.Count(int64(len(all)), "range")))}
}

func (r *Report) recovered(*report.Composition) (out []report.Block) {
	for i := range r.Acquisitions {
		a := &r.Acquisitions[i]
		if a.Recovery != nil {
			pass := "light"
			if a.Recovery.FullPass {
				pass = "full"
			}
			x := append(report.Text{report.T(fmt.Sprintf("%s, acquisition %d: %s pass, ended ", a.Reference, a.Number, pass)), r.clock().Since(a.Recovery.EndedAt), report.T(", by ")}, tool(a.Recovery.Tool)...)
			out = append(out, report.Paragraph{Text: append(x, report.T(". The databases were read byte by byte from the vault's copy; no database program opened them."))})
		}
		if len(a.Databases) == 0 {
			continue
		}
		t := report.Table{Head: []string{"File", "Read by", "Live records", "Recovered, by place of origin", "Earlier versions of live rows", "Held", "Outside scope, withheld", "Seen and not read"}}
		for _, d := range a.Databases {
			list := func(of []place) (x report.Text) {
				for _, p := range of {
					x = append(x, report.T(p.Words+": "+frame.Num(p.Count)), report.Br)
				}
				return none(x)
			}
			var withheld, notes report.Text
			outside := d.OutsideScope()
			for _, why := range slices.Sorted(maps.Keys(outside)) {
				withheld = append(withheld, report.T(frame.Num(outside[why])+" "+why), report.Br)
			}
			for _, n := range d.Notes {
				notes = append(notes, report.E(n), report.Br)
			}
			t.Rows = append(t.Rows, []report.Text{{report.M(d.Path)}, {report.T(or(d.FieldMap, "none"))}, {report.T(frame.Num(d.Live))}, list(places(&d, "recovered")), list(places(&d, "earlier version")), list(places(&d, "held")), none(withheld), none(notes)})
		}
		out = append(out, t)
	}
	if len(out) == 0 {
		return []report.Block{words("Nothing.")}
	}
	return out
}

func none(x report.Text) report.Text {
	if len(x) == 0 {
		return report.Text{report.T("none")}
	}
	return x
}

// appendices lists what goes with the report: the field maps by which records were read, and the manifests of the sources.
func (r *Report) appendices(*report.Composition) []report.Block {
	fieldMaps := report.Table{Head: []string{"Field map", "SHA-256", "Databases that were read by it"}}
	manifests := report.Table{Head: []string{"Source", "Name of the manifest", "Its SHA-256"}}
	type fieldMap struct{ name, sum string }
	read := map[fieldMap]report.Text{}
	for i := range r.Acquisitions {
		a := &r.Acquisitions[i]
		source := report.T(fmt.Sprintf("%s, acquisition %d", a.Reference, a.Number))
		manifests.Rows = append(manifests.Rows, []report.Text{{source}, {report.M(a.manifestName(false))}, {report.H(a.Manifest)}})
		if a.ContentManifest != "" {
			manifests.Rows = append(manifests.Rows, []report.Text{{source, report.T(", its content")}, {report.M(a.manifestName(true))}, {report.H(a.ContentManifest)}})
		}
		for _, d := range a.Databases {
			if m := (fieldMap{d.FieldMap, d.MapSHA256}); m.sum != "" {
				read[m] = append(read[m], source, report.T(": "), report.M(d.Path), report.Br)
			}
		}
	}
	for _, m := range slices.SortedFunc(maps.Keys(read), func(a, b fieldMap) int { return strings.Compare(a.name+a.sum, b.name+b.sum) }) {
		fieldMaps.Rows = append(fieldMaps.Rows, []report.Text{{report.E(m.name)}, {report.H(m.sum)}, read[m]})
	}
	out := []report.Block{report.Heading{Text: report.Text{report.T("Field maps")}}}
	if len(fieldMaps.Rows) > 0 {
		out = append(out, words("By which the databases were read. Those of the marked records are files of the full package, named by their SHA-256."), fieldMaps)
	} else {
		out = append(out, words("None was used."))
	}
	out = append(out, report.Heading{Text: report.Text{report.T("Manifests")}})
	if len(manifests.Rows) == 0 {
		return append(out, words("None."))
	}
	return append(out, words("Each lists the files of a source with their SHA-256. Those of the sources of marked records are files of the full package, and the first of them are attached to the full report where that is a PDF."), manifests)
}
