package export

import (
	"io"

	"crosswind/core/casefile"
)

// graph writes records as packages have them, in the ontologies CASE and UCO.
type graph struct{ *casefile.GraphWriter }

func newGraph(w io.Writer, head Head) (writer, error) {
	g, err := casefile.NewGraphWriter(w, head.Case, head.Title+": "+head.What, head.Tool)
	return graph{g}, err
}

func (g graph) write(l *Line) error { return g.Write(l) }
func (g graph) close() error        { return g.Close() }
