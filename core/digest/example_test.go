package digest_test

import (
	"fmt"
	"strings"

	"crosswind/core/digest"
)

func ExampleReader() {
	set, err := digest.Reader(strings.NewReader("abc")) // FIPS 180-4, its first example
	if err != nil {
		fmt.Println(err)
		return
	}
	_, _, sha256 := set.Hex()
	fmt.Println(set.Size, sha256)
	// Output: 3 ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad
}
