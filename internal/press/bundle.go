package press

import (
	"archive/zip"
	"fmt"
	"io"
	"time"
)

// Bundle is one file of all volumes, named after base: the only one, or an archive (ZIP) of them. write writes it, the same
// each time: those of a long report are not held twice.
func Bundle(base string, vs []PDF, at time.Time) (name, media string, write func(io.Writer) error) {
	if len(vs) == 1 {
		return base + ".pdf", "application/pdf", func(w io.Writer) error {
			_, err := w.Write(vs[0].Bytes)
			return err
		}
	}
	return base + ".zip", "application/zip", func(w io.Writer) error {
		z := zip.NewWriter(w)
		for i, v := range vs {
			f, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("%s-volume-%d.pdf", base, i+1), Method: zip.Store, Modified: at.UTC()})
			if err == nil {
				_, err = f.Write(v.Bytes)
			}
			if err != nil {
				return err
			}
		}
		return z.Close()
	}
}
