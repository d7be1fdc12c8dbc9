package examine

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"crosswind/core/record"
	"crosswind/core/search"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// mostWords bounds the lines of a list that is looked for at once.
const mostWords = 100

// words is the view in which a list of words is looked for at once.
type words struct {
	List  string
	Lines []wordLine
	Cut   int // lines that were not looked for
	Saved []savedSearch
	Save  string   // the query that would be saved
	Asks  []string // what is filtered now, in words
	Tally string   // address at which the saved searches are counted, "" if they are
}

type savedSearch struct {
	store.SavedSearch
	Address string
	Fault   string // why it is not counted
	tally
}

// tally is how many records something finds, and of which kinds, in words.
type tally struct {
	N, Below int
	Kinds    string
}

// saves are the parameters of an address that a saved search keeps: what is filtered, and from when to when.
var saves = []string{"q", "kind", "state", "marked", "person", "near", "in", "exhibit", "from", "to"}

// saved lists the saved searches of the case, and says what can be saved now.
func (a pages) saved(ctx context.Context, p *frame.Page, v *content, w *words) error {
	all, err := a.Store.SavedSearches(ctx, p.Case.ID)
	if err != nil {
		return err
	}
	if !p.Query.Has("tally") {
		w.Tally = p.Keep("tally", "1")
	}
	for _, s := range all {
		q, err := url.ParseQuery(s.Query)
		if err != nil {
			return fmt.Errorf("the saved search %s: %w", s.Name, err)
		}
		x := savedSearch{SavedSearch: s, Address: frame.Address(p.Path, q)}
		if w.Tally == "" {
			if err := a.tallySaved(ctx, p.With(q), &x); err != nil {
				return err
			}
		}
		w.Saved = append(w.Saved, x)
	}
	now := url.Values{}
	for _, name := range saves {
		if s := p.Query.Get(name); s != "" {
			now.Set(name, s)
		}
	}
	w.Save = now.Encode()
	for _, x := range v.Words {
		w.Asks = append(w.Asks, x.Words)
	}
	if p.Exhibit != nil {
		w.Asks = append(w.Asks, "of "+p.Exhibit.Reference)
	}
	if now.Has("from") || now.Has("to") {
		w.Asks = append(w.Asks, frame.When(v.Filter.From, p.Zone)+" to "+frame.When(v.Filter.To, p.Zone))
	}
	return nil
}

// tallySaved counts what a saved search finds now, by the page of its address.
func (a pages) tallySaved(ctx context.Context, p *frame.Page, x *savedSearch) error {
	v, err := a.filtered(ctx, p)
	if err != nil {
		return err
	}
	w, _, err := a.window(ctx, p, v)
	if err != nil {
		return err
	}
	v.Filter.From, v.Filter.To = w.From, w.To
	x.tally, err = a.tally(ctx, v.clocks, v.Filter)
	x.Fault = v.Refused
	return err
}

// tally counts the records of a filter.
func (a pages) tally(ctx context.Context, on []clock, f store.Filter) (x tally, err error) {
	counts, err := a.counts(ctx, on, f, 1)
	n := map[record.Kind]int{}
	for _, c := range counts {
		x.N += c.N
		n[c.Kind] += c.N
		if c.State.Below() {
			x.Below += c.N
		}
	}
	var kinds []string
	for _, k := range record.Kinds() {
		if n[k] > 0 {
			kinds = append(kinds, counted(k, n[k]))
		}
	}
	x.Kinds = strings.Join(kinds, ", ")
	return x, err
}

// saveSearch keeps what a page filters under a name.
func (a pages) saveSearch(c *gin.Context) error {
	cs := frame.CaseOf(c)
	name := strings.Join(strings.Fields(c.PostForm("name")), " ")
	asked, err := url.ParseQuery(c.PostForm("query"))
	if err != nil || name == "" || utf8.RuneCountInString(name) > 80 {
		return frame.Bad("a saved search needs a name of up to 80 characters, and what it looks for")
	}
	q := url.Values{}
	for _, s := range saves {
		if asked.Get(s) != "" {
			q.Set(s, asked.Get(s))
		}
	}
	if err := a.Store.SaveSearch(c.Request.Context(), cs, name, q.Encode(), frame.By(c)); err != nil {
		return err
	}
	a.Notice(c, "Saved: %s.", name)
	c.Redirect(http.StatusSeeOther, frame.Address("/case/"+cs.Reference+"/examine", q, "view", "words"))
	return nil
}

// forgetSearch takes a saved search away.
func (a pages) forgetSearch(c *gin.Context) error {
	cs := frame.CaseOf(c)
	id, err := frame.ID(c, "id")
	if err == nil {
		err = a.Store.ForgetSearch(c.Request.Context(), cs, id)
	}
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/examine?view=words")
	return nil
}

type wordLine struct {
	Words, Address string
	Refused        string // why it cannot be read
	tally
}

func (a pages) words(ctx context.Context, p *frame.Page, v *content) (*words, error) {
	w := &words{List: p.Query.Get("list")}
	if err := a.saved(ctx, p, v, w); err != nil {
		return nil, err
	}
	var lines []string
	for l := range strings.Lines(w.List) {
		if l = strings.Join(strings.Fields(l), " "); l != "" && !slices.Contains(lines, l) {
			lines = append(lines, l)
		}
	}
	if len(lines) > mostWords {
		w.Cut, lines = len(lines)-mostWords, lines[:mostWords]
	}
	for _, l := range lines {
		x := wordLine{Words: l, Address: p.Keep("view", "", "list", "", "tally", "", "q", strings.TrimSpace(p.Query.Get("q")+" "+l), "after", "", "r", "", "o", "")}
		// Beside what is filtered already, and read as the line of words is.
		f := v.Filter
		f.Kinds, f.Parties, f.Exhibits = slices.Clone(f.Kinds), slices.Clone(f.Parties), slices.Clone(f.Exhibits)
		for _, word := range search.Fields(l) {
			said, err := a.filterBy(ctx, p, &f, word)
			switch {
			case errors.Is(err, errUnread):
				x.Refused = fmt.Sprintf("%s: %v", word, err)
			case err != nil:
				return nil, err
			case said == "":
				f.Words = strings.TrimSpace(f.Words + " " + word)
			}
		}
		if x.Refused == "" {
			var err error
			if x.tally, err = a.tally(ctx, v.clocks, f); err != nil {
				return nil, err
			}
		}
		w.Lines = append(w.Lines, x)
	}
	return w, nil
}
