// Package core holds only the check that the computation stands on its own.
package core

import (
	"os/exec"
	"strings"
	"testing"
)

// core never imports the application, the web, a database server's interface
// or templates.
func TestCoreStandsOnItsOwn(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "./...").CombinedOutput()
	if err != nil {
		t.Fatalf("go list: %v\n%s", err, out)
	}
	n := 0
	for p := range strings.FieldsSeq(string(out)) {
		n++
		for _, bad := range []string{"crosswind/internal", "net/http", "database/sql", "html/template", "text/template", "github.com/gin-gonic", "github.com/jackc"} {
			if p == bad || strings.HasPrefix(p, bad+"/") {
				t.Errorf("core depends on %s", p)
			}
		}
	}
	if n < 20 {
		t.Errorf("only %d packages listed", n)
	}
}
