package casefile_test

import (
	"context"
	"fmt"
	"testing/fstest"

	"crosswind/core/casefile"
)

func ExampleVerify() {
	res, err := casefile.Verify(context.Background(), fstest.MapFS{"bagit.txt": {Data: []byte("BagIt-Version: 1.0\n")}}, casefile.Options{})
	fmt.Println(err, len(res.Faults) > 0)
	// Output: <nil> true
}
