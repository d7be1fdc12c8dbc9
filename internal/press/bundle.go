package press

import (
	"archive/zip"
	"bytes"
	"fmt"
	"time"
)

// Bundle is one file of all volumes, named after base: the only one, or an archive (ZIP) of them.
func Bundle(base string, vs []PDF, at time.Time) (name, media string, b []byte, err error) {
	if len(vs) == 1 {
		return base + ".pdf", "application/pdf", vs[0].Bytes, nil
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i, v := range vs {
		w, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("%s-volume-%d.pdf", base, i+1), Method: zip.Store, Modified: at.UTC()})
		if err == nil {
			_, err = w.Write(v.Bytes)
		}
		if err != nil {
			return "", "", nil, err
		}
	}
	err = z.Close()
	return base + ".zip", "application/zip", out.Bytes(), err
}
