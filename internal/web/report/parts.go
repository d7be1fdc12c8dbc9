package report

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

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
	{"timeline", "Timeline of the marked records", false, (*Report).timeline},
	{"places", "Places of the marked records", false, (*Report).places},
	{"conversations", "Conversations", false, (*Report).conversations},
	{"marked", "Marked records", true, (*Report).records},
	{"comparisons", "Sources of one exhibit compared", false, (*Report).comparisons},
	{"absences", "What is absent", false, (*Report).absences},
	{"withheld", "What was withheld", true, (*Report).withheld},
	{"limits", "Limits of the method", true, (*Report).limits},
	{"check", "How to check this report", true, (*Report).check},
	{"qualifications", "Qualifications and declaration", false, (*Report).qualifications},
	{"words", "Definitions", true, (*Report).definitions},
	{"ledger", "Custody ledger", true, (*Report).ledger},
	{"appendices", "Appendices", true, (*Report).appendices},
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
	if len(c.Redactions) > 0 {
		out.Kind += report.FullVersion
	}
	out.Parts = r.parts(c)
	return out
}

// parts writes the parts that a composition has, in its order.
func (r *Report) parts(c *report.Composition) (out []report.Part) {
	r.pictured = 0
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
	all := []any{r.Case.Title, parts}
	if len(c.Redactions) > 0 {
		all = append(all, c.Redactions)
	}
	b, err := json.Marshal(all)
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

// cited finds the marked record that is cited, and its number in the report: nil if there is none.
func (r *Report) cited(c report.Cite) (m *marked, n int) {
	if n = r.numberOf(c.Key()); n > 0 {
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
	out := []report.Block{head, report.Paragraph{Text: report.Text{report.T("Measured "), r.clock().At(m.At), report.T(fmt.Sprintf(" of the build that writes this report (SHA-256 of the program %s…), on what was made at that moment with the seed %d. The bounds are those of Clopper and Pearson.", m.Build[:min(16, len(m.Build))], m.Seed))}}}
	for _, s := range m.Sets {
		var found []string
		for _, c := range s.Counts {
			found = append(found, fmt.Sprintf("%s of %s %s", frame.Num(c.Found), frame.Num(c.Expected), c.What))
		}
		out = append(out, words(fmt.Sprintf("%s %s, made by %s. Found: %s.", frame.Num(s.Made), s.Name, s.Library, strings.Join(found, "; "))))
		if len(s.Places) == 0 {
			continue
		}
		t := report.Table{Head: []string{"Where it lay, or what said it", "Told", "Wrong", "Error rate at most, with a confidence of 95 %"}}
		for _, p := range s.Places {
			t.Rows = append(t.Rows, []report.Text{{report.T(p.Place)}, {report.T(frame.Num(p.Told))}, {report.T(frame.Num(p.Wrong))}, {report.T(fmt.Sprintf("%.4f", p.Bound()))}})
		}
		out = append(out, t)
	}
	return append(out, words("What was made is simpler than what apps and handsets write: it is no bound of what is read otherwise, as the times of calendars or the text of documents."))
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
		{"Acquisition", "What was read from one source at one time, all of it hashed while it was read."},
		{"Build", "The program as it was run, told apart from any other by the SHA-256 of its bytes."},
		{"Confidence", "How often rows that were read in the same way were right in databases whose content is known, from 0 to 1."},
		{"Deletion window", "The span within which a record was removed from its app's table, by the dates of all sources of its exhibit: after the last that still has it live, or after its own time, and before the first that has its database and does not have it live. Times are as the sources' own clocks had them."},
		{"Dropped table, index entry, log frame, lost page, page below the log, rollback journal", "Further places of a database's files that hold rows to which no tree leads: pages of a table that was removed; an index's copy of some columns; a version of a page in the write-ahead log that is not the current one; a page that nothing refers to; a page of the database file that its log replaces; a page as it was before a change. Format: as of free pages."},
		{"Error rate at most", "The bound that the true share of wrong answers lies below with a confidence of 95 %, worked out exactly from how many were told and wrong (Clopper and Pearson, Biometrika 26, 1934)."},
		{"Exhibit", "A thing that was seized or handed in, as a handset or an account, under a reference of its own."},
		{"Field map", "The statement of which column of an app's database means what, and how the app counts time."},
		{"Free page, free block, page gap", "Places of a database file that hold no live row: a whole page given back; a freed run of bytes inside a page in use; the unused space before a page's cells. Format: “Database File Format” of the SQLite project."},
		{"Full pass, light pass", "A full pass searches every byte of the databases' files and of storage images for what is not live. A light pass leaves out what can be found only by searching whole files."},
		{"Hash", "A number worked out from every byte of a file, so that a change of any byte changes it. SHA-256 and SHA-1: FIPS 180-4. MD5: RFC 1321. Only SHA-256 is relied upon."},
		{"Ledger", "The list of everything that was done in the case, in which each entry holds the hash of the one before it, so that none can be changed or taken out unseen."},
		{"Manifest", "The list of an acquisition's files with their hashes, as the program sha256sum reads it."},
		{"Package", "What is handed out: this report with the records, their bytes, the manifests and the ledger, in a form that programs of any kind check (BagIt, RFC 8493)."},
		{"Privileged", "Of a person whose communications the authority excludes, as a lawyer's."},
		{"Record", "One thing that an app or the system kept: a message, a call, a photograph's note of where it was taken."},
		{"Scope", "What the authority covers: kinds, dates and people. What lies outside is counted and not kept."},
		{"Time stamp", "The statement of an authority of its own, with its signature, that something was there at a time (RFC 3161)."},
		{"Unread range", "Bytes of an image that its medium did not give up: zeros stand in their place."},
		{"UTC, and an offset", "Times are given in the case's zone with their distance from Coordinated Universal Time, and in that itself, with a Z."},
		{"Vault", "Where acquired bytes are kept, under their SHA-256, and not changed."},
		{"WGS 84", "The system of coordinates that satellite navigation uses: latitude and longitude in degrees on an ellipsoid."},
		{"Whole, part, unverified", "Of a file that its volume no longer lists: tables or the file's own structure say which bytes are its; some of them are gone; or they were read where they should lie, and nothing proves that they are its."},
	} {
		list = append(list, report.Fact{Name: x[0], Value: report.Text{report.T(x[1])}})
	}
	return []report.Block{list}
}

func (r *Report) ledger(*report.Composition) []report.Block {
	stamped := report.Text{report.T("None of its heads has a time stamp of an authority.")}
	for _, s := range r.Stamps {
		stamped = report.Text{report.T(fmt.Sprintf("As far as entry %s, ", frame.Num(s.Size))), r.clock().At(s.At), report.T(", by " + s.Authority + " (RFC 3161). The package has the stamp.")}
	}
	return []report.Block{
		words("Every custody event, acquisition, check, recovery, mark and hand-out is an entry of a ledger in which each entry holds the hash of the one before it. At the time of this report:"),
		report.Facts{
			{Name: "Entries", Value: report.Text{report.T(frame.Num(r.Ledger.Size))}},
			{Name: "Last entry's SHA-256", Value: report.Text{report.H(r.Ledger.Hash)}},
			{Name: "Signing key, Ed25519", Value: report.Text{report.H(r.Key)}},
			{Name: "Time stamp", Value: stamped},
		},
		words("Whoever forges a package can sign it with a key of their own. Compare the signing key above with the one that the examiner gives you by another way: in person, by telephone, or on paper. The package's VERIFY.txt says how to check that everything in it was signed with that key."),
	}
}

// numberOf is the number of the marked record that a key cites, 0 if it is not marked.
func (r *Report) numberOf(key string) int {
	if r.numbers == nil {
		r.numbers = map[string]int{}
		for i := range r.Marked {
			r.numbers[r.Marked[i].cite().Key()] = i + 1
		}
	}
	return r.numbers[key]
}
