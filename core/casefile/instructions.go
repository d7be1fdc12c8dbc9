package casefile

import (
	"strings"
	"time"

	_ "embed"
)

//go:embed VERIFY.txt
var instructions string

// verifyText is the package's VERIFY.txt.
func verifyText(b Bag, key string) string {
	return strings.NewReplacer("{CASE}", b.Case, "{TITLE}", oneLine(b.Title), "{AT}", b.At.UTC().Format(time.RFC3339), "{BY}", oneLine(b.By), "{TOOL}", b.Tool, "{BAG}", b.Name, "{KEY}", key).Replace(instructions)
}
