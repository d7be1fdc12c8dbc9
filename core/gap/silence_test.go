package gap

import (
	"fmt"
	"testing"
	"time"
)

// A night without the records that every other night has is found, by the wall clock over a change of the zone's offset
// (IANA: Europe/Lisbon went back an hour on 26 October 2025); a night that is always silent is not, nor is one of which
// there were others.
func TestSilences(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	begin := time.Date(2025, 9, 1, 0, 0, 0, 0, lisbon)
	make := func(silent func(local time.Time) bool) (hours []Hour) {
		for at := begin.UTC(); at.Before(begin.AddDate(0, 0, 100)); at = at.Add(time.Hour) {
			l := at.In(lisbon)
			if l.Hour() >= 7 && l.Hour() < 23 && !silent(l) {
				hours = append(hours, Hour{at, 2})
			}
		}
		return hours
	}
	evening := func(d int) func(time.Time) bool {
		return func(l time.Time) bool { return l.YearDay() == d && l.Hour() >= 18 }
	}
	day := time.Date(2025, 11, 14, 0, 0, 0, 0, lisbon).YearDay()
	got := Silences(make(evening(day)), lisbon)
	if len(got) != 1 || got[0].From.In(lisbon).Format("2 Jan 15:04") != "14 Nov 18:00" || got[0].To.In(lisbon).Format("2 Jan 15:04") != "15 Nov 07:00" || got[0].Weeks != 13 || got[0].Usual != 10 || got[0].Hours() != 13 {
		t.Errorf("%+v", got)
	}
	for name, silent := range map[string]func(time.Time) bool{
		"nights alone":         func(time.Time) bool { return false },
		"every Friday evening": func(l time.Time) bool { return l.Weekday() == time.Friday && l.Hour() >= 18 },
		"two such evenings":    func(l time.Time) bool { return evening(day)(l) || evening(day-7)(l) },
		"over the change":      func(l time.Time) bool { return l.Hour() == 7 && l.Day() == 26 && l.Month() == time.October }, // two records
	} {
		if got := Silences(make(silent), lisbon); len(got) > 0 {
			t.Errorf("%s: %+v", name, got)
		}
	}
	if got := Silences(nil, lisbon); got != nil {
		t.Errorf("%+v", got)
	}
}

func ExampleSilences() {
	var hours []Hour
	begin := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	for h := range 70 * 24 {
		if at := begin.Add(time.Duration(h) * time.Hour); at.Hour() >= 8 && at.Hour() < 20 && at.YearDay() != 100 { // nothing was recorded on that day
			hours = append(hours, Hour{at, 2})
		}
	}
	for _, s := range Silences(hours, time.UTC) {
		fmt.Printf("%s, %d hours, usually %.0f records, as in each of %d other weeks\n", s.From.Format("2 Jan 15:04"), s.Hours(), s.Usual, s.Weeks)
	}
	// Output: 9 Apr 20:00, 36 hours, usually 24 records, as in each of 9 other weeks
}
