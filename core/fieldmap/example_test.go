package fieldmap_test

import (
	"fmt"

	"crosswind/core/fieldmap"
	"crosswind/core/sqlitefile"
)

func ExampleParseEpoch() {
	epoch, _ := fieldmap.ParseEpoch("seconds since 2001")
	zero, _ := sqlitefile.ReadValue(8, nil, 0) // serial type 8 is the integer 0
	at, ok := epoch.Time(zero, sqlitefile.UTF8)
	fmt.Println(at.UTC(), ok)
	// Output: 2001-01-01 00:00:00 +0000 UTC true
}

func ExampleParse() {
	_, err := fieldmap.Parse("own.toml", []byte("name = \"own\"\nversion = 1\npath = \"/data/*\"\n\n[tables]\nentry = [\"at\"]\n\n[[reading]]\ntable = \"entry\"\nkind = \"postcard\"\n"))
	fmt.Println(err)
	// Output:
	// fieldmap: own.toml, line 10: "postcard" is not a kind of record
}
