// Package core holds only the check that the computation stands on its own.
package core

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// core never imports the application, the web, a database server's interface
// or templates.
func TestCoreStandsOnItsOwn(t *testing.T) {
	// What go list reads is not seen to have changed: it is read here, too, so that no old result is taken for this one.
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".go") {
			_, err = os.ReadFile(path)
		}
		return err
	})
	if _, err2 := os.ReadFile("../go.mod"); err != nil || err2 != nil {
		t.Fatal(err, err2)
	}
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
