package reading

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"crosswind/core/fieldmap"
)

func ExampleRecords() {
	dir, err := os.MkdirTemp("", "reading-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "people.db")
	cmd := exec.Command("sqlite3", path)
	cmd.Stdin = strings.NewReader(`CREATE TABLE card(id INTEGER PRIMARY KEY, name TEXT NOT NULL, note TEXT, added INTEGER NOT NULL);
CREATE TABLE reach(card INTEGER NOT NULL, sort TEXT NOT NULL, value TEXT NOT NULL);
INSERT INTO card VALUES (1, 'H. Vold', NULL, 1000000000); INSERT INTO reach VALUES (1, 'mobile', '07700 900417');`)
	if err := cmd.Run(); err != nil {
		fmt.Println(err)
		return
	}
	b, err := os.ReadFile(path)
	if err != nil {
		fmt.Println(err)
		return
	}
	file := &File{Path: "/data/people/people.db", Stored: "people.db", Size: int64(len(b)), Open: func() (Bytes, error) { return inMemory{bytes.NewReader(b)}, nil }}
	for r, err := range Records([]*File{file}, Options{Maps: fieldmap.Maps, Country: "GB", Note: func(string) {}}) {
		fmt.Println(r.Kind, r.State, r.Text, r.Handles(), r.At().Format("2006-01-02"), err)
	}
	// Output: contact intact H. Vold [+447700900417] 2011-09-09 <nil>
}
