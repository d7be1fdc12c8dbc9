package route_test

import (
	"fmt"

	"crosswind/core/route"
)

func ExampleRank() {
	for _, v := range route.Rank(route.Answers{"goal": "deleted"})[:2] {
		fmt.Println(v.Title, v.Serves)
	}
	// Output:
	// Local backup true
	// Memory card true
}
