package frame

import (
	"time"

	"github.com/sergi/go-diff/diffmatchpatch"
)

// Piece is a piece of a text that became another, or in which something was found: As is "del" if it went, "ins" if it came,
// "mark" if it was found, else "".
type Piece struct{ Text, As string }

// maxDiffered bounds the texts of which the difference is worked out.
const maxDiffered = 20_000

// Differs says how a text became another.
func Differs(old, now string) (out []Piece) {
	if len(old)+len(now) > maxDiffered {
		return []Piece{{old, "del"}, {now, "ins"}}
	}
	d := diffmatchpatch.New()
	d.DiffTimeout = 50 * time.Millisecond
	for _, x := range d.DiffCleanupSemantic(d.DiffMain(old, now, false)) {
		as := map[diffmatchpatch.Operation]string{diffmatchpatch.DiffDelete: "del", diffmatchpatch.DiffInsert: "ins"}[x.Type]
		out = append(out, Piece{x.Text, as})
	}
	return out
}
