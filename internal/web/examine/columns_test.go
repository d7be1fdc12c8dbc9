package examine

import (
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
)

// The style sheet has the widths that are named here, and in no template.
func TestWidthsOfColumns(t *testing.T) {
	sheet, err := os.ReadFile("../static/chart-room.css")
	if err != nil {
		t.Fatal(err)
	}
	for _, width := range append(slices.Collect(maps.Values(columnWidths)), ownWidth) {
		if class := "." + strings.NewReplacer("[", `\[`, "]", `\]`).Replace(width); !strings.Contains(string(sheet), class+"{") {
			t.Errorf("there is no %s", class)
		}
	}
}
