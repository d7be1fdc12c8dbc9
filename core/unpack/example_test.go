package unpack_test

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"

	"crosswind/core/unpack"
)

func ExampleMembers() {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range []string{"data/talk.db", "../../etc/talk.db"} {
		w, _ := z.Create(name)
		io.WriteString(w, "content")
	}
	z.Close()
	for m, err := range unpack.Members(bytes.NewReader(b.Bytes()), int64(b.Len()), unpack.Default) {
		if err != nil {
			fmt.Println(errors.Is(err, unpack.ErrEscape))
			break
		}
		fmt.Println(m.Path)
	}
	// Output:
	// data/talk.db
	// true
}
