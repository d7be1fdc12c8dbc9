package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/gap"
	"crosswind/core/record"
	"crosswind/core/report"
	"crosswind/internal/web/frame"
)

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
			t.Rows = append(t.Rows, []report.Text{{link(i + 1)}, when, {who}, what})
		}
		out = append(out, report.Heading{Text: report.Text{report.E(or(or(first.ThreadTitle, first.Person), first.Thread)), report.T(fmt.Sprintf(", as %s acquisition %d has it", first.ExhibitRef, first.Acquisition.Number))}}, t)
	}
	if len(out) == 0 {
		return []report.Block{words("No marked record is of a conversation.")}
	}
	return append([]report.Block{words("Only marked records are set here: what was said between them is not.")}, out...)
}

// How a timeline is divided, and how many instants are named below it.
const (
	timelineParts = 120
	timelineTicks = 5
)

// timeline draws when the marked records were.
func (r *Report) timeline(*report.Composition) []report.Block {
	var at []time.Time
	var below []bool
	for i := range r.Marked {
		if m := &r.Marked[i]; m.At != nil {
			at, below = append(at, *m.At), append(below, m.State.Below())
		}
	}
	t := report.NewTimeline(r.clock(), timelineParts, timelineTicks, at, below)
	if t == nil {
		return []report.Block{words("No marked record has a time.")}
	}
	said := "Live records stand above the line; recovered, held and earlier ones hang hatched below it."
	if n := len(r.Marked) - len(at); n > 0 {
		said += fmt.Sprintf(" %s not in it.", frame.Count(int64(n), "record has no time and is", "records have no time and are"))
	}
	return []report.Block{words(said), t}
}

// link is the number of a record, which leads to it.
func link(n int) report.Span {
	return report.Span{Words: fmt.Sprint(n), Link: fmt.Sprintf("#record-%d", n)}
}

// places draws where the marked records say that something was, and lists it.
func (r *Report) places(*report.Composition) []report.Block {
	m, clock := &report.Map{}, r.clock()
	t := report.Table{Head: []string{"Record", "Time", "Latitude, longitude", "Accurate to", "What it is"}}
	for i := range r.Marked {
		k := &r.Marked[i]
		if k.Latitude == nil || k.Longitude == nil {
			continue
		}
		p := report.Place{Record: i + 1, Latitude: *k.Latitude, Longitude: *k.Longitude, Below: k.State.Below()}
		at, accurate := report.Text{report.T("none")}, "it does not say"
		if k.At != nil {
			at = clock.Stacked(*k.At)
		}
		if k.Accuracy != nil {
			p.Accuracy = *k.Accuracy
			accurate = fmt.Sprintf("%.0f m", p.Accuracy)
		}
		m.Places = append(m.Places, p)
		t.Rows = append(t.Rows, []report.Text{{link(i + 1)}, at, {report.M(p.Coordinates())}, {report.T(accurate)},
			{report.T(k.Kind.Title() + ", " + strings.ToLower(k.State.Title()))}})
	}
	if len(m.Places) == 0 {
		return []report.Block{words("No marked record has a place.")}
	}
	return []report.Block{words("Numbers are those of the records; places of recovered, held and earlier ones are hatched, and a dashed circle is how accurate a place is said to be. Coordinates are of WGS 84, as the record has them. A place is where the record says that something was: what took it there, the handset's own fix, a photograph or somebody's words, is said with the record."), m, t}
}

// comparisons says what two sources of one exhibit that follow each other in time have in common.
func (r *Report) comparisons(*report.Composition) (out []report.Block) {
	clock := r.clock()
	for _, c := range r.Compared {
		t := report.Table{Head: []string{"Kind", "In both", "In the earlier only", "In the later only"}}
		for _, k := range c.Kinds {
			t.Rows = append(t.Rows, []report.Text{{report.T(k.Kind.Title())}, {report.M(fmt.Sprint(k.Both))}, {report.M(fmt.Sprint(k.A))}, {report.M(fmt.Sprint(k.B))}})
		}
		out = append(out, report.Heading{Text: report.Text{report.E(fmt.Sprintf("%s: acquisition %d and acquisition %d", c.Earlier.ExhibitRef, c.Earlier.Number, c.Later.Number))}},
			report.Paragraph{Text: report.Text{report.T(fmt.Sprintf("Acquisition %d is of ", c.Earlier.Number)), clock.At(c.Earlier.Made()), report.T(fmt.Sprintf(", acquisition %d of ", c.Later.Number)), clock.At(c.Later.Made()),
				report.T(". What is in the earlier only was deleted, changed or moved between these times, or was not read from the later; which of these it was the numbers do not tell.")}}, t)
	}
	if len(out) == 0 {
		return []report.Block{words("No exhibit has two sources that have records of the same kind.")}
	}
	return append([]report.Block{words("Live records that have a time are compared, of the kinds that both sources have, as far as the scope admits them: by kind, time, conversation, handle and text.")}, out...)
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
		rows := frame.Count(g.Live, "live row")
		if g.Recovered > 0 {
			rows += fmt.Sprintf(", %s recovered or held", frame.Num(g.Recovered))
		}
		missing := frame.Num(g.Missing) + fmt.Sprintf(" between %s and %s", frame.Num(g.First), frame.Num(g.Last))
		if g.Unnumbered > 0 {
			missing += fmt.Sprintf("; %s recovered without a number may be among them", frame.Count(g.Unnumbered, "row was", "rows were"))
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
	x.Pictures = r.pictures(m)
	r.times(m, add)
	if m.Person != "" || m.Handle != "" {
		who := report.Text{}
		if m.Direction != "" {
			who = append(who, report.T(m.Direction+", "))
		}
		who = append(who, report.E(m.Person), report.T(" "), report.M(m.Handle))
		for _, p := range m.Whole.Parties {
			if p.Card != "" {
				who = append(who, report.T("; "), report.M(p.Handle), report.T(" is named by the record "), report.H(p.ShortCard()), report.T(", "+strings.ToLower(p.CardState.Title())))
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
			v = append(v, report.T(", "), report.B(frame.Num(a.Size)))
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
	if m.MarkLabel != "" {
		add("Marked", report.E(m.MarkLabel))
	}
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
	add("Origin", report.M(fmt.Sprintf("%s, acquisition %d, %s (stored as %s), %s, offset %d, ", m.ExhibitRef, m.Acquisition.Number, o.Path, o.Stored, where, o.Offset)),
		report.B(fmt.Sprint(o.Length)), report.M("; "+by))
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
		add("Also from", report.T(f.Gives+": "), report.M(fmt.Sprintf("%spage %d, offset %d, ", at, f.Page, f.Offset)), report.B(fmt.Sprint(f.Length)))
	}
	add("Bytes, SHA-256", report.H(o.Digest))
	if why := r.Gate.Whole(m.Acquisition.LiveOnly); why != "" {
		add("File", report.T("is not handed out: "+why))
		return
	}
	add("File, SHA-256", report.H(o.SHA256))
}
