package backup_test

import (
	"errors"
	"fmt"
	"testing/fstest"

	"crosswind/core/backup"
)

func ExampleReadLabel() {
	label := `{"layout":"orlop-parcels/1","device":{"name":"Harbour phone"},"made":"2026-09-24T20:40:00Z","finished":true}`
	l, err := backup.ReadLabel(fstest.MapFS{"backup.json": {Data: []byte(label)}}, ".")
	fmt.Println(l.Device.Name, l.Made.Year(), err)
	_, err = backup.ReadLabel(fstest.MapFS{"backup.json": {Data: []byte(`{"layout":"another"}`)}}, ".")
	fmt.Println(errors.Is(err, backup.ErrNotBackup))
	// Output:
	// Harbour phone 2026 <nil>
	// true
}
