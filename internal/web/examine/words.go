package examine

import (
	"context"
	"slices"
	"strings"

	"crosswind/core/record"
	"crosswind/internal/web/frame"
)

// mostWords bounds the lines of a list that is looked for at once.
const mostWords = 100

// words is the view in which a list of words is looked for at once.
type words struct {
	List  string
	Lines []wordLine
	Cut   int // lines that were not looked for
}

type wordLine struct {
	Words    string
	N, Below int
	Kinds    string
	Address  string
}

func (a pages) words(ctx context.Context, p *frame.Page, v *content) (*words, error) {
	w := &words{List: p.Query.Get("list")}
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
		f := v.Filter
		f.Words = strings.TrimSpace(f.Words + " " + l) // beside what is filtered already
		counts, err := a.counts(ctx, v.clocks, f, 1)
		if err != nil {
			return nil, err
		}
		x := wordLine{Words: l, Address: p.Keep("view", "", "list", "", "q", strings.TrimSpace(p.Query.Get("q")+" "+l), "after", "", "r", "", "o", "")}
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
			if n[k] == 1 {
				kinds = append(kinds, "1 "+strings.ToLower(k.Title()))
			} else if n[k] > 1 {
				kinds = append(kinds, frame.Num(n[k])+" "+strings.ToLower(k.Plural()))
			}
		}
		x.Kinds = strings.Join(kinds, ", ")
		w.Lines = append(w.Lines, x)
	}
	return w, nil
}
