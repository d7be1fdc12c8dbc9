package store

import (
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"time"
)

// Validation is what the tool was measured to do, as JSON.
type Validation struct {
	ID     int64
	Build  string // SHA-256 of the program that was measured, hex
	Body   string
	SHA256 string `db:"sha256"` // of that, hex
	By     string
	At     time.Time
}

// SaveValidation keeps what was measured of a build, as an entry of the bench's ledger, too, which says detail of it.
func (s *Store) SaveValidation(ctx context.Context, tool, build string, body []byte, by string, detail map[string]string) error {
	sum := fmt.Sprintf("%x", sha256.Sum256(body))
	d := map[string]string{"build": build, "sha256": sum}
	maps.Copy(d, detail)
	return s.Change(ctx, func(t *Tx) error {
		at, err := t.log(Act{Bench, by, "tool.validated", tool, d})
		if err != nil {
			return err
		}
		return t.exec("keeping the validation", "INSERT INTO validation(build, body, sha256, by, at) VALUES ($1, $2, $3, $4, $5)", build, string(body), sum, by, at)
	})
}

// Validations lists what was measured, the latest first, of one build if it is not "".
func (s *Store) Validations(ctx context.Context, build string, limit int) (out []Validation, err error) {
	if err := s.list(ctx, &out, "listing validations", "SELECT * FROM validation WHERE $1 = '' OR build = $1 ORDER BY id DESC LIMIT $2", build, limit); err != nil {
		return nil, err
	}
	for i := range out {
		if err := out[i].whole(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// ValidationByID finds what was measured.
func (s *Store) ValidationByID(ctx context.Context, id int64) (*Validation, error) {
	v := &Validation{}
	if err := s.get(ctx, v, fmt.Sprintf("validation %d", id), "SELECT * FROM validation WHERE id = $1", id); err != nil {
		return nil, err
	}
	return v, v.whole()
}

// whole says if a result is not the one that was kept.
func (v *Validation) whole() error {
	if got := fmt.Sprintf("%x", sha256.Sum256([]byte(v.Body))); got != v.SHA256 {
		return fmt.Errorf("integrity has failed: validation %d has the SHA-256 %s, its entry says %s", v.ID, got, v.SHA256)
	}
	return nil
}
