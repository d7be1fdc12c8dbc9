package examine

import (
	"slices"

	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// viewNames are the views of what is filtered, with their keys. The list is the first.
var viewNames = [][2]string{{"l", "list"}, {"c", "conversation"}, {"p", "people"}, {"w", "places"}, {"g", "gallery"}, {"f", "files"}, {"d", "databases"}, {"s", "words"}, {"e", "compare"}, {"h", "gaps"}}

// ownParams are parameters of one view each, which others do not keep.
var ownParams = []string{"o", "after", "of", "named", "file", "dir", "acq", "ending", "gone", "hidden", "nosystem", "sort", "skip", "a", "b", "box", "beside", "list", "steps", "tables", "runs", "tally"}

// viewOf is which view the address asks for, "" for the list and what is no view.
func viewOf(p *frame.Page) string {
	s := p.Query.Get("view")
	if s == viewNames[0][1] || !slices.ContainsFunc(viewNames, func(v [2]string) bool { return v[1] == s }) {
		return ""
	}
	return s
}

// views are the views with their addresses, which keep what is filtered and chosen.
func views(p *frame.Page, open string) (out []frame.View) {
	if open == "" {
		open = viewNames[0][1]
	}
	for _, v := range viewNames {
		x := frame.View{Key: v[0], Name: v[1], Open: v[1] == open}
		name := v[1]
		if name == viewNames[0][1] {
			name = ""
		}
		pairs := []string{"view", name}
		for _, s := range slices.Concat(ownParams, databaseParams) {
			pairs = append(pairs, s, "")
		}
		x.Path = frame.Address("/case/"+p.Case.Reference+"/examine", p.Query, pairs...)
		out = append(out, x)
	}
	return out
}

// view readies the view that is shown beside the chart.
func (a pages) view(c *gin.Context, p *frame.Page, v *content) (err error) {
	ctx := c.Request.Context()
	switch v.View {
	case "words":
		v.List, err = a.words(ctx, p, v)
	case "files":
		v.Files, err = a.files(ctx, p, v)
	case "databases":
		v.Databases, err = a.databases(ctx, p, v)
	case "compare":
		v.Compare, err = a.compare(c, p, v)
	case "conversation":
		v.Talk, err = a.conversation(ctx, p, v)
	case "people":
		v.Network, err = a.network(ctx, p, v)
	case "gaps":
		v.Gaps, err = a.gaps(ctx, p, v)
	case "gallery":
		v.Gallery, err = a.gallery(ctx, p, v)
	case "places":
		v.Map, err = a.places(ctx, p, v)
	}
	return err
}
