package report

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Composition is what an examiner wrote of a report, and how its parts are arranged. The zero one has all parts in their
// usual order, and no words.
type Composition struct {
	Order          []string    `json:"order,omitempty"` // parts by name; those that are not named follow in their usual order
	Out            []string    `json:"out,omitempty"`   // parts that are left out
	Questions      []Question  `json:"questions,omitempty"`
	Summary        string      `json:"summary,omitempty"`
	Findings       []Finding   `json:"findings,omitempty"`
	Qualifications string      `json:"qualifications,omitempty"`
	Declaration    string      `json:"declaration,omitempty"`
	Redactions     []Redaction `json:"redactions,omitempty"`
}

// Question is something that the report is to answer, and who asked it.
type Question struct {
	Text string `json:"text"`
	By   string `json:"by,omitempty"`
}

// Finding is what an examiner found, and the records that it rests on.
type Finding struct {
	Title string `json:"title"`
	Text  string `json:"text,omitempty"`
	Cites []Cite `json:"cites,omitempty"`
}

// Cite names a record for good: by its exhibit's reference, its acquisition's number and its ID, with the SHA-256 of its
// bytes as they were when it was cited.
type Cite struct {
	Exhibit     string `json:"exhibit"`
	Acquisition int    `json:"acquisition"`
	UID         string `json:"uid"`
	SHA256      string `json:"sha256"`
}

// Key names the record that is cited.
func (c Cite) Key() string { return fmt.Sprintf("%s/%d/%s", c.Exhibit, c.Acquisition, c.UID) }

// ParseKey reads what Key writes: a citation without the digest.
func ParseKey(key string) (Cite, error) {
	if p := strings.Split(key, "/"); len(p) == 3 {
		if n, err := strconv.Atoi(p[1]); err == nil {
			return Cite{Exhibit: p[0], Acquisition: n, UID: p[2]}, nil
		}
	}
	return Cite{}, fmt.Errorf("report: %.100q names no record", key)
}

// Bounds of what is written.
const (
	MostText     = 20_000 // characters of a text
	MostTitle    = 200    // of a title, and of who asked
	MostFindings = 200
	MostCites    = 5_000 // of all findings together
)

// ErrEmpty is of a finding or a question that says nothing.
var ErrEmpty = errors.New("it says nothing")

// Check says what of a composition cannot be: parts that there are not, texts that are too long, findings without a title.
func (c *Composition) Check(parts []string) error {
	text := func(what, s string, most int) error {
		switch n := utf8.RuneCountInString(s); {
		case n > most:
			return fmt.Errorf("%s has %d characters, and %d are the most", what, n, most)
		case !utf8.ValidString(s) || strings.ContainsRune(s, 0):
			return fmt.Errorf("%s is not text", what)
		}
		return nil
	}
	var errs []error
	for _, name := range slices.Concat(c.Order, c.Out) {
		if !slices.Contains(parts, name) {
			errs = append(errs, fmt.Errorf("a report has no part %q", name))
		}
	}
	if len(c.Findings) > MostFindings || len(c.Questions) > MostFindings {
		errs = append(errs, fmt.Errorf("%d findings and %d questions, of which %d are the most", len(c.Findings), len(c.Questions), MostFindings))
	}
	errs = append(errs, text("the summary", c.Summary, MostText), text("what the qualifications say", c.Qualifications, MostText), text("the declaration", c.Declaration, MostText))
	for i, q := range c.Questions {
		what := fmt.Sprintf("question %d", i+1)
		if strings.TrimSpace(q.Text) == "" {
			errs = append(errs, fmt.Errorf("%s: %w", what, ErrEmpty))
		}
		errs = append(errs, text(what, q.Text, MostText), text("who asked "+what, q.By, MostTitle))
	}
	if len(c.Redactions) > MostRedactions {
		errs = append(errs, fmt.Errorf("%d redactions, of which %d are the most", len(c.Redactions), MostRedactions))
	}
	for i, x := range c.Redactions {
		what := fmt.Sprintf("redaction %d", i+1)
		switch {
		case !slices.Contains(RedactionKinds, x.Kind):
			errs = append(errs, fmt.Errorf("%s is of no kind %q", what, x.Kind))
		case len(trim(fold(x.Value))) == 0:
			errs = append(errs, fmt.Errorf("%s: %w", what, ErrEmpty))
		case strings.TrimSpace(x.Reason) == "":
			errs = append(errs, fmt.Errorf("the reason of %s: %w", what, ErrEmpty))
		}
		if _, err := ParseRegion(x.Value); x.Kind == OfRegion && err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", what, err))
		}
		errs = append(errs, text("what "+what+" takes out", x.Value, MostText), text("the reason of "+what, x.Reason, MostTitle))
	}
	cites := 0
	for i, f := range c.Findings {
		what := fmt.Sprintf("finding %d", i+1)
		if strings.TrimSpace(f.Title) == "" {
			errs = append(errs, fmt.Errorf("the title of %s: %w", what, ErrEmpty))
		}
		errs = append(errs, text("the title of "+what, f.Title, MostTitle), text(what, f.Text, MostText))
		cites += len(f.Cites)
		seen := map[string]bool{}
		for _, x := range f.Cites {
			if seen[x.Key()] {
				errs = append(errs, fmt.Errorf("%s cites the record %s twice", what, x.UID))
			}
			seen[x.Key()] = true
		}
	}
	if cites > MostCites {
		errs = append(errs, fmt.Errorf("%d records are cited, and %d are the most", cites, MostCites))
	}
	return errors.Join(errs...)
}

// Arrange gives the names of the parts that a report has, of all that there can be, in their order. Those that must be there
// are, whatever is left out.
func (c *Composition) Arrange(all, must []string) []string {
	order := slices.Clone(c.Order)
	for i, name := range all {
		if slices.Contains(order, name) {
			continue
		}
		at := 0 // behind the part that it usually follows
		for k := i - 1; k >= 0 && at == 0; k-- {
			at = slices.Index(order, all[k]) + 1
		}
		order = slices.Insert(order, at, name)
	}
	return slices.DeleteFunc(order, func(name string) bool {
		return slices.Contains(c.Out, name) && !slices.Contains(must, name) || !slices.Contains(all, name)
	})
}

// Move moves a part among those that stand, up by one place or down.
func (c *Composition) Move(name string, up bool, all, must []string) {
	order := c.Arrange(all, must)
	i := slices.Index(order, name)
	k := i + 1
	if up {
		k = i - 1
	}
	if i < 0 || k < 0 || k >= len(order) {
		return
	}
	order[i], order[k] = order[k], order[i]
	c.Order = order
}

// Encode writes a composition as it is kept: JSON whose bytes are the same for the same composition.
func (c *Composition) Encode() ([]byte, error) { return json.Marshal(c) }

// Decode reads a composition that was kept.
func Decode(b []byte) (*Composition, error) {
	c := &Composition{}
	if err := json.Unmarshal(b, c); err != nil {
		return nil, fmt.Errorf("report: reading a composition: %w", err)
	}
	return c, nil
}

// Change is something in which a composition differs from an earlier one, in words, and how a text read before and after.
type Change struct{ What, Was, Now string }

// Changes says in what a composition differs from an earlier one.
func (c *Composition) Changes(from *Composition) (out []Change) {
	say := func(differs bool, what, was, now string) {
		if differs {
			out = append(out, Change{what, was, now})
		}
	}
	text := func(what, was, now string) { say(was != now, what, was, now) }
	text("the summary", from.Summary, c.Summary)
	text("the questions", asked(from.Questions), asked(c.Questions))
	text("the qualifications", from.Qualifications, c.Qualifications)
	text("the declaration", from.Declaration, c.Declaration)
	text("the redactions", redacted(from.Redactions), redacted(c.Redactions))
	text("which parts are left out", strings.Join(from.Out, ", "), strings.Join(c.Out, ", "))
	say(!slices.Equal(c.Order, from.Order), "the order of the parts", "", "")
	title := func(all []Finding, t string) int {
		return slices.IndexFunc(all, func(f Finding) bool { return f.Title == t })
	}
	for i, f := range c.Findings {
		k := title(from.Findings, f.Title)
		if k < 0 {
			out = append(out, Change{"new: " + f.Title, "", f.Text})
			continue
		}
		was := from.Findings[k]
		text("the words of: "+f.Title, was.Text, f.Text)
		say(!slices.Equal(f.Cites, was.Cites), fmt.Sprintf("the records of: %s (%d, there were %d)", f.Title, len(f.Cites), len(was.Cites)), "", "")
		say(k != i && len(c.Findings) == len(from.Findings), "moved: "+f.Title, "", "")
	}
	for _, f := range from.Findings {
		say(title(c.Findings, f.Title) < 0, "taken away: "+f.Title, f.Text, "")
	}
	return out
}

// redacted writes redactions as a text.
func redacted(all []Redaction) string {
	var lines []string
	for _, x := range all {
		lines = append(lines, x.Kind+": "+x.Value+" ("+x.Reason+")")
	}
	return strings.Join(lines, "\n")
}

// asked writes questions as a text.
func asked(all []Question) string {
	var lines []string
	for _, q := range all {
		line := q.Text
		if q.By != "" {
			line += " (" + q.By + ")"
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}
