package report

import (
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"crosswind/core/casefile"
	"crosswind/core/custody"
	"crosswind/core/gap"
	"crosswind/core/record"
	"crosswind/core/report"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// part is a part that a report can have.
type part struct {
	Name, Title string
	Must        bool // it cannot be left out: what proves the rest
	write       func(*Report, *report.Composition) []report.Block
}

// parts are all of them, in their usual order.
var parts = []part{
	{"summary", "Summary", false, (*Report).summary},
	{"questions", "Questions asked", false, (*Report).questions},
	{"case", "Authority and scope", true, (*Report).authority},
	{"exhibits", "Exhibits and chain of custody", true, (*Report).exhibits},
	{"acquisitions", "Acquisitions", true, (*Report).acquisitions},
	{"recovered", "What was recovered, and how", true, (*Report).recovered},
	{"findings", "Findings", false, (*Report).findings},
	{"conversations", "Conversations", false, (*Report).conversations},
	{"marked", "Marked records", true, (*Report).records},
	{"absences", "What is absent", false, (*Report).absences},
	{"withheld", "What was withheld", true, (*Report).withheld},
	{"limits", "Limits of the method", true, (*Report).limits},
	{"check", "How to check this report", true, (*Report).check},
	{"qualifications", "Qualifications and declaration", false, (*Report).qualifications},
	{"words", "Definitions", true, (*Report).definitions},
	{"ledger", "Custody ledger", true, (*Report).ledger},
}

// partNames gives the names of all parts, and of those that cannot be left out.
func partNames() (all, must []string) {
	for _, p := range parts {
		if all = append(all, p.Name); p.Must {
			must = append(must, p.Name)
		}
	}
	return all, must
}

// Compose writes the report by what an examiner wrote and arranged of it, and says how far that version has come.
func (r *Report) Compose(v *store.ReportVersion) *report.Report {
	c := &v.Composition
	out := &report.Report{Kind: "Report of a digital forensic examination", Title: r.Case.Reference + ": " + r.Case.Title,
		About: report.Text{report.T("Written "), r.clock().At(r.At), report.T(fmt.Sprintf(" by %s with %s. Times are given in %s, the case's zone, with their offset, and in UTC.", r.By, r.Tool, r.Case.Zone))}}
	out.About = append(append(out.About, report.Br), r.standing(v)...)
	out.Parts = r.parts(c)
	return out
}

// parts writes the parts that a composition has, in its order.
func (r *Report) parts(c *report.Composition) (out []report.Part) {
	for _, name := range c.Arrange(partNames()) {
		p := parts[slices.IndexFunc(parts, func(p part) bool { return p.Name == name })]
		out = append(out, report.Part{Name: p.Name, Title: p.Title, Blocks: p.write(r, c)})
	}
	return out
}

// said is the SHA-256, hex, of all that a composition says over what is recorded now, but for by whom it is written, and how long the
// ledger is: so that what is signed is what was accepted.
func (r *Report) said(c *report.Composition) (string, error) {
	as := *r
	as.By = ""
	parts := slices.DeleteFunc(as.parts(c), func(p report.Part) bool { return p.Name == "ledger" })
	b, err := json.Marshal([]any{r.Case.Title, parts})
	return fmt.Sprintf("%x", sha256.Sum256(b)), err
}

// changed reports whether a version that was accepted says something else now.
func (r *Report) changed(v *store.ReportVersion) bool {
	a := v.Step(store.Accepted)
	if a == nil || v.State() != store.Accepted && v.State() != store.Signed {
		return false
	}
	said, err := r.said(&v.Composition)
	return err != nil || said != a.SHA256
}

// standing says how far a version of the report has come.
func (r *Report) standing(v *store.ReportVersion) report.Text {
	if v.Version == 0 {
		return report.Text{report.T("Draft: no examiner has written of it, and nobody has reviewed it.")}
	}
	name := fmt.Sprintf("Version %d", v.Version)
	say := func(how string, s *store.ReportStep) report.Text {
		return report.Text{report.T(" " + how + " by " + s.By + ", "), r.clock().At(s.At), report.T(".")}
	}
	accepted, signed := v.Step(store.Accepted), v.Step(store.Signed)
	if r.changed(v) {
		return report.Text{report.T(fmt.Sprintf("Draft. Version %d was %s; what is recorded has changed since, and this is not what it said then.", v.Version, v.State()))}
	}
	switch state := v.State(); state {
	case store.Signed:
		out := append(report.Text{report.T(name + ".")}, say("Reviewed and accepted", accepted)...)
		return append(out, say("Signed", signed)...)
	case store.Accepted:
		return append(report.Text{report.T(name + ".")}, append(say("Reviewed and accepted", accepted), report.T(" It is not signed."))...)
	case store.Submitted:
		return report.Text{report.T(name + ", draft: it waits for its review.")}
	case store.Returned:
		return report.Text{report.T(name + ", draft: its reviewer returned it.")}
	}
	return report.Text{report.T(name + ", draft: nobody has reviewed it.")}
}

func (r *Report) clock() report.Clock { return report.Clock{Zone: r.Zone} }

// count writes how many of something there are: "1 record", "2 records".
func count(n int64, one string, many ...string) string {
	if n == 1 {
		return "1 " + one
	}
	return frame.Num(n) + " " + strings.Join(append(many, one+"s")[:1], "")
}

func words(s ...string) report.Paragraph {
	return report.Paragraph{Text: report.Text{report.T(strings.Join(s, " "))}}
}

func (r *Report) summary(c *report.Composition) []report.Block {
	if strings.TrimSpace(c.Summary) == "" && len(c.Findings) == 0 {
		return []report.Block{words("No summary is written.")}
	}
	out := []report.Block{report.Written{Body: c.Summary}}
	if len(c.Findings) > 0 {
		var list report.Facts
		for i, f := range c.Findings {
			list = append(list, report.Fact{Name: fmt.Sprintf("Finding %d", i+1), Value: report.Text{report.E(f.Title)}})
		}
		out = append(out, list)
	}
	return out
}

func (r *Report) questions(c *report.Composition) []report.Block {
	if len(c.Questions) == 0 {
		return []report.Block{words("None is recorded.")}
	}
	var list report.Facts
	for i, q := range c.Questions {
		x := report.Text{report.E(q.Text)}
		if q.By != "" {
			x = append(x, report.T(" Asked by "), report.E(q.By), report.T("."))
		}
		list = append(list, report.Fact{Name: fmt.Sprintf("Question %d", i+1), Value: x})
	}
	return []report.Block{list}
}

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
		if len(e.Photographs) > 0 {
			var x report.Text
			for _, p := range e.Photographs {
				x = append(x, report.E(or(p.Note, "no note")), report.T(fmt.Sprintf(", %s bytes, ", frame.Num(p.Size))), clock.At(p.At), report.T(", SHA-256 "), report.H(p.SHA256), report.Br)
			}
			out = append(out, report.Facts{{Name: "Pictures of it", Value: x}})
		}
		t := report.Table{Head: []string{"When", "What", "From", "To", "Seal", "Place, note"}}
		for _, k := range e.Custody {
			note := k.Place
			for _, s := range []string{k.Note, k.Confirmed} {
				if s != "" {
					note += "; " + s
				}
			}
			t.Rows = append(t.Rows, []report.Text{clock.Stacked(k.At), {report.T(k.What)}, {report.E(k.FromWhom)}, {report.E(k.ToWhom)}, {report.M(k.Seal)}, {report.E(note)}})
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
			{Name: "Tool", Value: report.Text{report.T(a.Tool)}},
			{Name: "Settings", Value: report.Text{report.T(a.Settings)}},
			{Name: "Started", Value: report.Text{clock.At(a.StartedAt)}},
			{Name: "Ended", Value: report.Text{clock.Since(a.EndedAt)}},
			{Name: "By", Value: report.Text{report.T(a.By)}},
			{Name: "Taken", Value: report.Text{report.T(count(a.Files, "file") + ", " + count(a.Bytes, "byte"))}},
			{Name: "Manifest, SHA-256", Value: report.Text{report.H(a.Manifest)}},
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
				checked = append(checked, report.Span{Words: fmt.Sprintf("%s of %s differ", frame.Num(k.Faults), count(k.Files, "file")), Style: report.Failed}, report.Br)
			} else {
				checked = append(checked, report.T(map[bool]string{true: "the one file holds", false: "all " + count(k.Files, "file") + " hold"}[k.Files == 1]), report.Br)
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

func (r *Report) recovered(*report.Composition) (out []report.Block) {
	for i := range r.Acquisitions {
		a := &r.Acquisitions[i]
		if a.Recovery != nil {
			pass := "light"
			if a.Recovery.FullPass {
				pass = "full"
			}
			out = append(out, report.Paragraph{Text: report.Text{report.T(fmt.Sprintf("%s, acquisition %d: %s pass by %s, ended ", a.Reference, a.Number, pass, a.Recovery.Tool)), r.clock().Since(a.Recovery.EndedAt),
				report.T(". The databases were read byte by byte from the vault's copy; no database program opened them.")}})
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

// cited finds the marked record that is cited, and its number in the report: nil if there is none.
func (r *Report) cited(c report.Cite) (m *marked, n int) {
	if r.numbers == nil {
		r.numbers = map[string]int{}
		for i := range r.Marked {
			r.numbers[r.Marked[i].cite().Key()] = i + 1
		}
	}
	if n = r.numbers[c.Key()]; n > 0 {
		m = &r.Marked[n-1]
	}
	return m, n
}

// citation says where a finding rests on a record, or why it does not any more.
func (r *Report) citation(c report.Cite) report.Citation {
	m, n := r.cited(c)
	if m == nil {
		return report.Citation{Words: report.Text{report.T(fmt.Sprintf("A record of %s, acquisition %d, with the ID ", c.Exhibit, c.Acquisition)), report.M(c.UID[:min(len(c.UID), 16)])},
			Fault: "It is not among the marked records any more: its mark was taken back, it is withheld, or the source was read again and gave another."}
	}
	x := report.Citation{N: n}
	if m.At != nil {
		x.Words = append(x.Words, r.clock().At(*m.At), report.T(", "))
	}
	x.Words = append(x.Words, report.T(strings.ToLower(m.Kind.Title())), report.T(", "), report.T(strings.ToLower(m.State.Title())))
	if m.Summary != "" {
		x.Words = append(x.Words, report.T(": "), report.E(short(m.Summary)))
	}
	if m.Whole.Origin().Digest != c.SHA256 {
		x.Fault = "Its bytes are not those that it had when it was cited."
	}
	return x
}

func (r *Report) findings(c *report.Composition) (out []report.Block) {
	for i, f := range c.Findings {
		out = append(out, report.Heading{Text: report.Text{report.T(fmt.Sprintf("Finding %d: ", i+1)), report.E(f.Title)}}, report.Written{Body: f.Text})
		if len(f.Cites) == 0 {
			out = append(out, words("It rests on no record."))
			continue
		}
		var list report.Citations
		for _, x := range f.Cites {
			list = append(list, r.citation(x))
		}
		slices.SortStableFunc(list, func(a, b report.Citation) int { return a.N - b.N })
		out = append(out, list)
	}
	if len(out) == 0 {
		return []report.Block{words("None is written.")}
	}
	return out
}

// conversations sets the marked records of each conversation one below the other, as they were said.
func (r *Report) conversations(*report.Composition) (out []report.Block) {
	type key struct {
		acquisition int64
		db, thread  string
	}
	of := map[key][]int{}
	var order []key
	for i := range r.Marked {
		m := &r.Marked[i]
		if m.Thread == "" || !m.Kind.About().InTalk {
			continue
		}
		k := key{m.AcquisitionID, m.DB, m.Thread}
		if of[k] == nil {
			order = append(order, k)
		}
		of[k] = append(of[k], i)
	}
	for _, k := range order {
		first := &r.Marked[of[k][0]]
		t := report.Table{Head: []string{"Record", "Time", "Who", "What"}}
		for _, i := range of[k] {
			m := &r.Marked[i]
			when := report.Text{report.T("no time")}
			if m.At != nil {
				when = r.clock().Stacked(*m.At)
			}
			who := report.E(or(or(m.Person, m.Handle), "not known"))
			if m.Direction == "out" {
				who = report.T("from the handset")
			}
			what := report.Text{report.E(or(m.Summary, casefile.NoText))}
			if m.State.Below() {
				what = append(what, report.Br, report.Span{Words: m.State.Title() + ", " + record.PlaceWords(m.State, m.Place), Style: report.Quiet})
			}
			if m.Now != nil {
				what = append(what, report.Br, report.T("now: "), report.E(or(m.Now.Summary, "no text")))
			}
			t.Rows = append(t.Rows, []report.Text{{{Words: fmt.Sprint(i + 1), Link: fmt.Sprintf("#record-%d", i+1)}}, when, {who}, what})
		}
		out = append(out, report.Heading{Text: report.Text{report.E(or(or(first.ThreadTitle, first.Person), first.Thread)), report.T(fmt.Sprintf(", as %s acquisition %d has it", first.ExhibitRef, first.Acquisition.Number))}}, t)
	}
	if len(out) == 0 {
		return []report.Block{words("No marked record is of a conversation.")}
	}
	return append([]report.Block{words("Only marked records are set here: what was said between them is not.")}, out...)
}

// shownRuns bounds the runs of missing numbers that are told of a table.
const shownRuns = 3

// absences says which numbers no row has, in the databases that marked records are from.
func (r *Report) absences(*report.Composition) []report.Block {
	var out []report.Block
	for i := range r.Absent {
		g := &r.Absent[i]
		if g.Missing == 0 || g.Sparse || !slices.ContainsFunc(r.Marked, func(m marked) bool { return m.AcquisitionID == g.AcquisitionID && m.DB == g.DB }) {
			continue
		}
		rows := count(g.Live, "live row")
		if g.Recovered > 0 {
			rows += fmt.Sprintf(", %s recovered or held", frame.Num(g.Recovered))
		}
		missing := frame.Num(g.Missing) + fmt.Sprintf(" between %s and %s", frame.Num(g.First), frame.Num(g.Last))
		if g.Unnumbered > 0 {
			missing += fmt.Sprintf("; %s recovered without a number may be among them", count(g.Unnumbered, "row was", "rows were"))
		}
		runs := slices.Clone(g.Numbers.Runs)
		slices.SortStableFunc(runs, func(a, b gap.Run) int { return cmp.Compare(b.N(), a.N()) })
		var said report.Text
		for _, x := range runs[:min(shownRuns, len(runs))] {
			if said = append(said, report.M(fmt.Sprint(x.From))); x.N() > 1 {
				said = append(said, report.M(fmt.Sprintf(" to %d", x.To)), report.T(" ("+frame.Num(x.N())+")"))
			}
			if at, ok := g.Times[x.From-1]; ok {
				said = append(said, report.T(", after a row of "), r.clock().At(at))
			}
			if at, ok := g.Times[x.To+1]; ok {
				said = append(said, report.T(", before a row of "), r.clock().At(at))
			}
			said = append(said, report.Br)
		}
		out = append(out, report.Heading{Text: report.Text{report.T(fmt.Sprintf("%s, acquisition %d: ", g.ExhibitRef, g.AcqNo)), report.M(g.DB + ", " + g.Table)}},
			report.Facts{{Name: "Rows", Value: report.Text{report.T(rows)}}, {Name: "Numbers that no row has", Value: report.Text{report.T(missing)}}, {Name: "Their longest runs", Value: said}})
	}
	if len(out) == 0 {
		return []report.Block{words("Of the databases that marked records are from no row number is missing, or a full pass has not read them.")}
	}
	return append([]report.Block{words("Apps number the rows of a table as they write them. A number that no row has is consistent with a row that was deleted and overwritten; also with one that was never completed, or that an app moved or numbered otherwise. Only databases that marked records are from are listed.")}, out...)
}

func (r *Report) records(*report.Composition) (out []report.Block) {
	is := " records are marked"
	if len(r.Marked) == 1 {
		is = " record is marked"
	}
	head := report.Text{{Words: fmt.Sprint(len(r.Marked)), Figure: "marked"}, report.T(is)}
	sep := ": "
	for _, s := range slices.Sorted(maps.Keys(r.Counts)) {
		head = append(head, report.T(sep), report.Span{Words: fmt.Sprint(r.Counts[s]), Figure: "state " + s}, report.T(" "+strings.ToLower(s)))
		sep = ", "
	}
	out = append(out, report.Paragraph{Text: append(head, report.T("."))})
	for i := range r.Marked {
		out = append(out, r.record(i+1, &r.Marked[i]))
	}
	return out
}

// record writes a marked record.
func (r *Report) record(n int, m *marked) *report.Record {
	x := &report.Record{N: n, UID: m.UID, Below: m.State.Below(), Quote: m.Summary, Title: report.Text{report.T(m.Kind.Title())}}
	if m.ThreadTitle != "" {
		x.Title = append(x.Title, report.T(" in “"), report.E(m.ThreadTitle), report.T("”"))
	}
	x.Title = append(x.Title, report.T(", "+m.State.Title()+" ("+record.PlaceWords(m.State, m.Place)+")"))
	add := func(name string, value ...report.Span) {
		x.Facts = append(x.Facts, report.Fact{Name: name, Value: value})
	}
	r.times(m, add)
	if m.Person != "" || m.Handle != "" {
		who := report.Text{}
		if m.Direction != "" {
			who = append(who, report.T(m.Direction+", "))
		}
		who = append(who, report.E(m.Person), report.T(" "), report.M(m.Handle))
		for _, p := range m.Whole.Parties {
			if p.Card != "" {
				who = append(who, report.T("; "), report.M(p.Handle), report.T(" is named by the record "), report.M(p.ShortCard()), report.T(", "+strings.ToLower(p.CardState.Title())))
			}
		}
		add(m.Kind.About().Party, who...)
	}
	if p := m.Whole.Place; p != nil {
		add("Place", report.M(p.String()), report.T(" (WGS 84, stored as "), report.M(p.Stored), report.T(")"))
	}
	for _, a := range m.Whole.Attachments {
		v := report.Text{report.E(a.Title())}
		if a.Type != "" {
			v = append(v, report.T(", "), report.E(a.Type))
		}
		if a.Size != nil {
			v = append(v, report.T(", "+frame.Num(a.Size)+" bytes"))
		}
		if a.Path != "" {
			v = append(v, report.T(", "), report.M(a.Path))
		}
		if a.SHA256 != "" {
			v = append(v, report.T("; SHA-256 "), report.H(a.SHA256))
		}
		if a.Missing != "" {
			v = append(v, report.T("; "+a.Missing))
		}
		add("Attachment", v...)
	}
	for _, f := range m.Whole.Facts {
		add(f.Name, report.E(f.Words()))
	}
	if m.Now != nil {
		v := report.Text{report.E(or(m.Now.Summary, "no text"))}
		if m.Now.At != nil {
			v = append(v, report.T(" ("), r.clock().At(*m.Now.At), report.T(")"))
		}
		add("The row now", v...)
	}
	if len(m.Elsewhere) > 0 {
		var in []string
		for _, e := range m.Elsewhere {
			s := fmt.Sprintf("acquisition %d", e.AcqNo)
			if e.MarkReason != nil {
				s += " (marked there, too)"
			}
			in = append(in, s)
		}
		add("The same record", report.T("is also in "+strings.Join(in, ", ")+" of "+m.Elsewhere[0].ExhibitRef+": one record, and a further proof of it"))
	}
	r.window(m, add)
	add("Marked because", report.E(deref(m.MarkReason)), report.T(" ("+deref(m.MarkBy)+", "), r.clock().Since(m.MarkAt), report.T(")"))
	r.origin(m, add)
	return x
}

// short is the beginning of a text, in one line.
func short(s string) string {
	const most = 120
	r := []rune(strings.Join(strings.Fields(s), " "))
	if len(r) <= most {
		return string(r)
	}
	return string(r[:most]) + "…"
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// times writes when a record was, as far as it says so.
func (r *Report) times(m *marked, add func(string, ...report.Span)) {
	t := m.Whole.Time()
	name := "Time"
	if t.Role == "written" {
		name = "File written"
	}
	var v report.Text
	switch {
	case m.At != nil:
		v = report.Text{r.clock().At(*m.At)}
	case t.Doubt != "" && t.At != nil:
		v = report.Text{report.M(frame.UTC(*t.At)), report.T(", which cannot be: " + t.Doubt)}
	case t.Local != "":
		v = report.Text{report.M(t.Local), report.T(", a local time whose zone is not known")}
	case m.Whole.Origin().IsPart() || m.Whole.Origin().Place == "live":
		v = report.Text{report.T("none is stored")}
	default:
		v = report.Text{report.T("did not survive")}
	}
	if t.Stored != "" {
		v = append(v, report.T("; stored as "), report.M(t.Stored))
	}
	add(name, v...)
	for _, o := range m.Whole.Others() {
		var v report.Text
		if o.At != nil {
			v = append(v, r.clock().At(*o.At), report.T("; "))
		}
		if o.Doubt != "" {
			v = append(v, report.T("which cannot be: "+o.Doubt+"; "))
		}
		add(frame.Capital(o.Role), append(v, report.T("stored as "), report.M(o.Stored))...)
	}
}

// window says between when what a record tells of was removed, or that it cannot be known.
func (r *Report) window(m *marked, add func(string, ...report.Span)) {
	clock := r.clock()
	w := m.Went
	switch {
	case w == nil:
		if m.State.Below() && m.State != record.Earlier {
			add("Deletion window", report.T("When it was removed cannot be known from these sources."))
		}
		return
	case w.Said:
		add("Deletion window", clock.At(w.Before), report.T(", as its source says."))
		return
	}
	v := report.Text{report.T("After what, nothing says")}
	if w.After != nil {
		v = report.Text{report.T("After "), clock.At(*w.After)}
	}
	switch {
	case w.Last != nil:
		v = append(v, report.T(fmt.Sprintf(" (acquisition %d still has it live)", w.Last.Number)))
	case w.After != nil:
		v = append(v, report.T(" (its own time)"))
	default:
		v = append(v, report.T(" (it has no time)"))
	}
	v = append(v, report.T(", and before "), clock.At(w.Before))
	if w.First != nil {
		v = append(v, report.T(fmt.Sprintf(" (acquisition %d does not have it live)", w.First.Number)))
	}
	add("Deletion window", append(v, report.T(". Who or what removed it, the bytes do not say."))...)
}

// origin writes where a record's bytes lie.
func (r *Report) origin(m *marked, add func(string, ...report.Span)) {
	o := m.Whole.Origin()
	part := o.IsPart()
	var where, by string
	switch {
	case part && o.Table != "":
		where = "component " + o.Table
	case part:
		where = "bytes of the file"
	default:
		row := "id lost"
		if o.RowID != nil {
			row = fmt.Sprint(*o.RowID)
		}
		where = fmt.Sprintf("table %s, row %s, page %d", or(o.Table, "unknown"), row, o.Page)
	}
	if by = "field map " + o.FieldMap; part {
		by = "read as " + o.FieldMap
	}
	if !part && o.Place != "live" {
		by += fmt.Sprintf("; confidence %.2f", o.Confidence)
	}
	add("Origin", report.M(fmt.Sprintf("%s, acquisition %d, %s (stored as %s), %s, offset %d, %d bytes; %s", m.ExhibitRef, m.Acquisition.Number, o.Path, o.Stored, where, o.Offset, o.Length, by)))
	if len(o.Lost) > 0 {
		add("Lost columns", report.M(strings.Join(o.Lost, ", ")))
	}
	for _, f := range m.Whole.Further() {
		at := ""
		if f.Table != "" {
			at = "table " + f.Table + ", "
		}
		if f.RowID != nil {
			at += fmt.Sprintf("row %d, ", *f.RowID)
		}
		add("Also from", report.T(f.Gives+": "), report.M(fmt.Sprintf("%spage %d, offset %d, %d bytes", at, f.Page, f.Offset, f.Length)))
	}
	add("Bytes, SHA-256", report.H(o.Digest))
	if why := r.Gate.Whole(m.Acquisition.LiveOnly); why != "" {
		add("File", report.T("is not handed out: "+why))
		return
	}
	add("File, SHA-256", report.H(o.SHA256))
}

// withheld counts what no page and no file gives, by its reason.
func (r *Report) withheld(*report.Composition) []report.Block {
	t := report.Table{Head: []string{"Source", "Records withheld", "Reason"}}
	for i := range r.Acquisitions {
		a := &r.Acquisitions[i]
		n := map[string]int64{}
		for _, d := range a.Databases {
			for why, k := range d.OutsideScope() {
				n[why] += k
			}
		}
		for _, why := range slices.Sorted(maps.Keys(n)) {
			t.Rows = append(t.Rows, []report.Text{{report.T(fmt.Sprintf("%s, acquisition %d", a.Reference, a.Number))}, {report.T(frame.Num(n[why]))}, {report.T(why)}})
		}
	}
	if len(t.Rows) == 0 {
		return []report.Block{words("No record was withheld.")}
	}
	return []report.Block{words("What lies outside the authorities was read, counted by its reason, and not kept. A record whose party or time did not survive counts as outside where the authorities limit these."), t}
}

func (r *Report) qualifications(c *report.Composition) []report.Block {
	var out []report.Block
	for _, x := range [][2]string{{"Qualifications", c.Qualifications}, {"Declaration", c.Declaration}} {
		if strings.TrimSpace(x[1]) != "" {
			out = append(out, report.Heading{Text: report.Text{report.T(x[0])}}, report.Written{Body: x[1]})
		}
	}
	return append(out, report.Signature{Name: r.By, Place: "Date, signature"})
}

func (r *Report) limits(*report.Composition) []report.Block {
	out := []report.Block{words("A local backup holds what the handset put into it when it was made, and nothing later. Deleting a row marks its space as free; its bytes stay until newer ones take the space, so what is not found may have been overwritten, and its absence proves nothing.",
		"When a row is freed the database overwrites up to its first four bytes, among them often its row id; such a row id is given as lost and is not guessed. A recovered row may be an earlier version of a row that was changed later. That a row is not live does not tell who or what removed it, or when.",
		"A confidence says how often rows that are read in the same way, with the same things odd about them, were right in the databases by which the tool is measured; a reading below 0.98 is not told. Times are those that the handset's clock gave; that clock may have been wrong.")}
	return append(out, r.errorRates()...)
}

// errorRates says what was measured of the build that writes the report.
func (r *Report) errorRates() []report.Block {
	head := report.Heading{Text: report.Text{report.T("Error rates")}}
	m := r.Measured
	if m == nil {
		return []report.Block{head, words("Nothing was measured of the build that writes this report.")}
	}
	t := report.Table{Head: []string{"Where it lay", "Told", "Wrong", "Error rate at most, with a confidence of 95 %"}}
	for _, p := range append(slices.Clone(m.Places), m.Total()) {
		t.Rows = append(t.Rows, []report.Text{{report.T(p.Place)}, {report.T(frame.Num(p.Told))}, {report.T(frame.Num(p.Wrong))}, {report.T(fmt.Sprintf("%.4f", p.Bound()))}})
	}
	return []report.Block{head, report.Paragraph{Text: report.Text{report.T("Measured "), r.clock().At(m.At), report.T(fmt.Sprintf(" of the build that writes this report (SHA-256 of the program %s…), on %s made at that moment by %s with the seed %d: ", m.Build[:min(16, len(m.Build))], count(int64(m.Databases), "database"), m.Library, m.Seed)),
		report.T(fmt.Sprintf("%s of %s live rows were read as SQL gives them; %s of %s old rows whose text is still in the files came back. Of old rows that were told, these were not so:", frame.Num(m.Live.Found), frame.Num(m.Live.Expected), frame.Num(m.Deleted.Found), frame.Num(m.Deleted.Expected)))}}, t,
		words("The bound is that of Clopper and Pearson. The databases are made up, and simpler than those of apps: it is no bound of what is read otherwise, as photographs or deleted files.")}
}

func (r *Report) check(*report.Composition) []report.Block {
	return []report.Block{
		words("This report is handed out within a package: a folder in a ZIP archive, with the records as lines of JSON, the field maps by which they were read, the bytes that they were read from, the manifests of the sources and the ledger. The file VERIFY.txt in it says how to check it with programs of any kind, and no part of Crosswind is needed for that."),
		report.Facts{
			{Name: "Is it unchanged?", Value: report.Text{report.T("The package is in the form of RFC 8493 (BagIt). In its folder: "), report.M("sha256sum -c manifest-sha256.txt")}},
			{Name: "Was it signed?", Value: report.Text{report.T("The ledger's head is signed with the key below. Compare it with the one that the examiner gives you by another way.")}},
			{Name: "Is a record right?", Value: report.Text{report.T("Its bytes lie in the package under their SHA-256, or in the file at the offset that is given. "), report.M("crosswind reproduce PACKAGE SOURCE"), report.T(" reads your own copy of the source again by the same maps, and compares.")}},
			{Name: "Is the source unchanged?", Value: report.Text{report.T("Its manifest lists each file with its SHA-256; the manifest's own SHA-256 is in this report.")}},
		},
	}
}

func (r *Report) definitions(*report.Composition) []report.Block {
	var list report.Facts
	for _, s := range record.States {
		list = append(list, report.Fact{Name: s.State.Title(), Value: report.Text{report.T(s.Meaning)}})
	}
	for _, x := range [][2]string{
		{"Confidence", "How often rows that were read in the same way were right in databases whose content is known, from 0 to 1."},
		{"Deletion window", "The span within which a record was removed from its app's table, by the dates of all sources of its exhibit: after the last that still has it live, or after its own time, and before the first that has its database and does not have it live. Times are as the sources' own clocks had them."},
		{"Field map", "The statement of which column of an app's database means what, and how the app counts time."},
		{"Free page, free block, page gap", "Places of a database file that hold no live row: a whole page given back; a freed run of bytes inside a page in use; the unused space before a page's cells. Format: “Database File Format” of the SQLite project."},
		{"Hash", "A number worked out from every byte of a file, so that a change of any byte changes it. SHA-256 and SHA-1: FIPS 180-4. MD5: RFC 1321. Only SHA-256 is relied upon."},
		{"Ledger", "The list of everything that was done in the case, in which each entry holds the hash of the one before it, so that none can be changed or taken out unseen."},
		{"Manifest", "The list of an acquisition's files with their hashes, as the program sha256sum reads it."},
		{"Record", "One thing that an app or the system kept: a message, a call, a photograph's note of where it was taken."},
		{"Vault", "Where acquired bytes are kept, under their SHA-256, and not changed."},
	} {
		list = append(list, report.Fact{Name: x[0], Value: report.Text{report.T(x[1])}})
	}
	return []report.Block{list}
}

func (r *Report) ledger(*report.Composition) []report.Block {
	return []report.Block{
		words("Every custody event, acquisition, check, recovery, mark and hand-out is an entry of a ledger in which each entry holds the hash of the one before it. At the time of this report:"),
		report.Facts{
			{Name: "Entries", Value: report.Text{report.T(frame.Num(r.Ledger.Size))}},
			{Name: "Last entry's SHA-256", Value: report.Text{report.H(r.Ledger.Hash)}},
			{Name: "Signing key, Ed25519", Value: report.Text{report.H(r.Key)}},
		},
		words("Whoever forges a package can sign it with a key of their own. Compare the signing key above with the one that the examiner gives you by another way: in person, by telephone, or on paper. The package's VERIFY.txt says how to check that everything in it was signed with that key."),
	}
}
