package sqlitefile_test

import (
	"fmt"

	"crosswind/core/sqlitefile"
)

func ExampleVarint() {
	n, length := sqlitefile.Varint([]byte{0x81, 0x00}) // Database File Format, section 1.6
	fmt.Println(n, length, sqlitefile.VarintLen(n))
	// Output: 128 2 2
}
