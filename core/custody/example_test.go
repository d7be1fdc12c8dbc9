package custody_test

import (
	"fmt"
	"time"

	"crosswind/core/custody"
)

func ExampleFollow() {
	at := time.Date(2026, 9, 24, 20, 0, 0, 0, time.UTC)
	chain, faults := custody.Follow([]custody.Event{
		{What: custody.Received, At: at, From: "H. Vold", To: "R. Aske", Seal: "S-1"},
		{What: custody.Opened, At: at.Add(time.Hour), From: "R. Aske", To: "R. Aske"},
		{What: custody.HandedOver, At: at.Add(2 * time.Hour), From: "somebody else", To: "B. Lund"},
	})
	fmt.Println(chain.Holder, chain.Open)
	for _, f := range faults {
		if f != nil {
			fmt.Println(f)
		}
	}
	// Output:
	// B. Lund true
	// event 3: somebody else does not hold the exhibit: it is held by R. Aske
}
