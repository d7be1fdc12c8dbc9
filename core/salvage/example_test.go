package salvage_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

// A deleted row's bytes lie in a free block of its page, without their first four.
func Example() {
	dir, err := os.MkdirTemp("", "example-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "talk.db")
	if err := exec.Command("sqlite3", path, "PRAGMA secure_delete=0; CREATE TABLE line(id INTEGER PRIMARY KEY, at INTEGER, said TEXT); INSERT INTO line VALUES (1, 810853426, 'traffic. where'), (2, 810853428, 'the side gate, not the quay'), (3, 810853431, 'how many fit'); DELETE FROM line WHERE id = 2").Run(); err != nil {
		fmt.Println(err)
		return
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		fmt.Println(err)
		return
	}
	f, err := sqlitefile.Open(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		fmt.Println(err)
		return
	}
	for row, err := range salvage.Rows(f, salvage.Options{Full: true}) {
		if err != nil {
			fmt.Println(err)
			continue
		}
		fmt.Println(row.Table.Name, row.Origin, row.HasRowID, row.Values[2].String(f.Encoding))
	}
	// Output: line freeblock false the side gate, not the quay
}
