package ledger_test

import (
	"bytes"
	"fmt"

	"crosswind/core/ledger"
)

func ExampleChecker() {
	var lines bytes.Buffer
	prev := ledger.Genesis
	for i, what := range []string{"case.opened", "exhibit.registered"} {
		e := ledger.Entry{Book: "case T-1", Seq: int64(i + 1), Prev: prev, At: "2026-09-24T20:00:00.000Z", By: "R. Aske", What: what, On: "T-1"}
		line, err := e.Line()
		if err != nil {
			fmt.Println(err)
			return
		}
		prev = ledger.LineHash(line)
		lines.Write(append(line, '\n'))
	}
	c := ledger.Checker{Book: "case T-1"}
	if err := c.Check(bytes.NewReader(lines.Bytes()), func(e *ledger.Entry) { fmt.Println(e.Seq, e.What) }); err != nil {
		fmt.Println(err)
	}
	fmt.Println(len(c.Faults), "faults")
	// Output:
	// 1 case.opened
	// 2 exhibit.registered
	// 0 faults
}
