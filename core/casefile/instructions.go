package casefile

import (
	"strings"
	"time"

	_ "embed"
)

// Reader is a page that a package can have, at [ReaderName]: it shows the package's records and their bytes in a browser, and
// works the digests out again. It loads nothing.
//
//go:embed reader.html
var Reader []byte

//go:embed VERIFY.txt
var instructions string

// verifyText is the package's VERIFY.txt: of instructions the lines for a package of its sort, behind {FULL} or {REDACTED}, and
// those of all.
func verifyText(b Bag, key string) string {
	var out strings.Builder
	sort := "{FULL}"
	if b.redacted() {
		sort = "{REDACTED}"
	}
	now := "{ALL}"
	for line := range strings.Lines(instructions) {
		switch l := strings.TrimSuffix(line, "\n"); l {
		case "{ALL}", "{FULL}", "{REDACTED}":
			now = l
		default:
			if now == "{ALL}" || now == sort {
				out.WriteString(line)
			}
		}
	}
	return strings.NewReplacer("{CASE}", b.Case, "{TITLE}", oneLine(b.Title), "{AT}", b.At.UTC().Format(time.RFC3339), "{BY}", oneLine(b.By), "{TOOL}", b.Tool, "{BAG}", b.Name, "{KEY}", key).Replace(out.String())
}
