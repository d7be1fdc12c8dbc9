package democase

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	client "crosswind/internal/cloud"
	"crosswind/internal/standin/cloud"
)

// AccountName is the demo's cloud account: that of the harbour phone's owner.
const AccountName = "harbour@example.org"

// Account makes the demo's cloud account, with its snapshots below dir/cloud.
func Account(dir string, few bool) (cloud.Account, error) {
	a := cloud.Account{Name: AccountName, Password: "kelp-and-candle", Secret: "JBSWY3DPEHPK3PXP"}
	base := filepath.Join(dir, "cloud")
	_, err := os.Stat(filepath.Join(base, "made"))
	made := err == nil
	for _, at := range []time.Time{time.Date(2026, 5, 30, 3, 12, 4, 0, time.UTC), time.Date(2026, 8, 30, 3, 14, 51, 0, time.UTC), time.Date(2026, 9, 21, 3, 11, 38, 0, time.UTC)} {
		id := "s-" + at.Format("20060102")
		s := cloud.Snapshot{Snapshot: client.Snapshot{ID: id, Device: client.Device(Handset), Made: at}, Dir: filepath.Join(base, id)}
		a.Snapshots = append(a.Snapshots, s)
		if made {
			continue
		}
		work, err := os.MkdirTemp(dir, "making-")
		if err != nil {
			return a, err
		}
		files, _, err := handsetFiles(work, at.Add(-7*time.Minute), few)
		if err == nil {
			err = writeTree(s.Dir, files)
		}
		os.RemoveAll(work)
		if err != nil {
			return a, fmt.Errorf("making the account's snapshot %s: %w", id, err)
		}
	}
	if a.Versions, err = versions(); err != nil || made {
		return a, err
	}
	return a, os.WriteFile(filepath.Join(base, "made"), nil, 0o644)
}

// versions are a calendar and contacts as they were before and after the evening:
// two entries were taken out of the calendar, and one person out of the contacts.
func versions() ([]cloud.Version, error) {
	var faces [4][]byte // of the first people
	for i := range faces {
		var err error
		if faces[i], err = face(rand.New(rand.NewPCG(6350, uint64(i)))); err != nil {
			return nil, err
		}
	}
	type entry struct {
		at   time.Time
		what string
	}
	all := []entry{{time.Date(2026, 9, 3, 16, 0, 0, 0, time.UTC), "boat survey"}, {time.Date(2026, 9, 8, 8, 30, 0, 0, time.UTC), "dentist"},
		{time.Date(2026, 9, 11, 20, 30, 0, 0, time.UTC), "K, side gate"}, {time.Date(2026, 9, 12, 5, 30, 0, 0, time.UTC), "first ferry, two cases"}, {time.Date(2026, 9, 18, 17, 0, 0, 0, time.UTC), "Brit"}}
	calendar := func(entries []entry) string {
		var b strings.Builder
		b.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//example.org//calendar//EN\r\n")
		for _, e := range entries {
			fmt.Fprintf(&b, "BEGIN:VEVENT\r\nUID:%s@example.org\r\nDTSTAMP:20260901T080000Z\r\nDTSTART:%s\r\nDURATION:PT1H\r\nSUMMARY:%s\r\nEND:VEVENT\r\n", e.at.Format("02-150405"), e.at.Format("20060102T150405Z"), strings.ReplaceAll(e.what, ",", `\,`))
		}
		return b.String() + "END:VCALENDAR\r\n"
	}
	contacts := func(n int) string {
		var b strings.Builder
		for i, p := range people[:n] {
			fmt.Fprintf(&b, "BEGIN:VCARD\r\nVERSION:4.0\r\nFN:%s\r\nTEL;VALUE=uri:tel:%s\r\n", strings.ReplaceAll(p.name, ",", `\,`), strings.ReplaceAll(p.number, " ", "-"))
			if i < len(faces) {
				b.WriteString(folded("PHOTO:data:image/jpeg;base64,"+base64.StdEncoding.EncodeToString(faces[i]), 74, "\r\n ") + "\r\n")
			}
			b.WriteString("END:VCARD\r\n")
		}
		return b.String()
	}
	v := func(id, kind, name string, at time.Time, items int, content string) cloud.Version {
		return cloud.Version{Version: client.Version{ID: id, Kind: kind, Name: name, At: at, Items: items}, Content: content}
	}
	before, after := time.Date(2026, 9, 10, 21, 4, 0, 0, time.UTC), time.Date(2026, 9, 12, 6, 2, 0, 0, time.UTC)
	return []cloud.Version{v("c1", "calendar", "Own calendar", before, 5, calendar(all)), v("c2", "calendar", "Own calendar", after, 3, calendar([]entry{all[0], all[1], all[4]})),
		v("p1", "contacts", "Contacts", before, len(people), contacts(len(people))), v("p2", "contacts", "Contacts", after, len(people)-1, contacts(len(people)-1))}, nil
}
