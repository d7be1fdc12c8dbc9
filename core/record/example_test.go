package record_test

import (
	"fmt"
	"time"

	"crosswind/core/record"
)

func ExampleTime_Doubted() {
	at := time.Date(1970, 1, 1, 0, 0, 12, 0, time.UTC)
	t := record.Time{Role: "sent", At: &at, Stored: "12 seconds since 1970"}.Doubted(time.Time{})
	fmt.Println(t.Doubt)
	// Output: before 1980
}

func ExampleCheckIMEI() {
	fmt.Println(record.CheckIMEI("490154203237518")) // the worked example of 3GPP TS 23.003 (from memory)
	fmt.Println(record.CheckIMEI("490154203237519") != nil)
	// Output:
	// <nil>
	// true
}
