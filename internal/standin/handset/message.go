package handset

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"time"

	_ "modernc.org/sqlite" // the SQLite library that a handset writes with
)

// message has a message arrive, as it does while radios are on: a row in the
// message app's database, and the file is another than before.
func (h *Handset) message() error {
	if !h.m.Radios {
		return fmt.Errorf("its radios are off: no message arrives")
	}
	var at, q string
	var args []any
	switch h.m.Family {
	case "Orlop":
		at, q = "data/talk/talk.db", "INSERT INTO line(circle, peer, mine, sent, body, seen) VALUES (1, '+44 7700 900417', 0, ?, 'are you there', 0)"
		args = append(args, time.Since(time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)).Milliseconds())
	default:
		at, q = "apps/wire/wire.sqlite", "INSERT INTO post(thread, party, way, at, said) VALUES (10, '+44 7700 900100', 'from', ?, 'are you there')"
		args = append(args, float64(time.Now().UnixMilli())/1000)
	}
	db, err := sql.Open("sqlite", filepath.Join(h.m.Tree, at))
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec(q, args...)
	return err
}
