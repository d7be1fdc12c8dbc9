package timeline

import (
	"strings"
	"testing"
	"time"
)

// The examples of RFC 5545 section 3.8.5.3, with the times that it gives: all begin on 2 September 1997 at nine
// in New York where nothing else is said. A last "..." says that it goes on.
func TestRepeatsOfTheStandardsExamples(t *testing.T) {
	zone, err := time.LoadLocation("America/New_York")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ start, rule, not, want string }{
		{"19970902", "FREQ=DAILY;COUNT=10", "", "Sep 2 3 4 5 6 7 8 9 10 11"},
		{"19970902", "FREQ=DAILY;INTERVAL=2", "", "Sep 2 4 6 8 10 12 14 16 18 20 ..."},
		{"19970902", "FREQ=DAILY;INTERVAL=10;COUNT=5", "", "Sep 2 12 22 Oct 2 12"},
		{"19970902", "FREQ=WEEKLY;COUNT=10", "", "Sep 2 9 16 23 30 Oct 7 14 21 28 Nov 4"},
		{"19970902", "FREQ=WEEKLY;INTERVAL=2;WKST=SU", "", "Sep 2 16 30 Oct 14 28 Nov 11 25 Dec 9 23 Jan 6 ..."},
		{"19970902", "FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH", "", "Sep 2 4 9 11 16 18 23 25 30 Oct 2"},
		{"19970901", "FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR", "", "Sep 1 3 5 15 17 19 29 Oct 1 3 13 ..."},
		{"19970905", "FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "", "Sep 5 Oct 3 Nov 7 Dec 5 Jan 2 Feb 6 Mar 6 Apr 3 May 1 Jun 5"},
		{"19970922", "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "", "Sep 22 Oct 20 Nov 17 Dec 22 Jan 19 Feb 16"},
		{"19970928", "FREQ=MONTHLY;BYMONTHDAY=-3", "", "Sep 28 Oct 29 Nov 28 Dec 29 Jan 29 Feb 26 ..."},
		{"19970902", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15", "", "Sep 2 15 Oct 2 15 Nov 2 15 Dec 2 15 Jan 2 15"},
		{"19970610", "FREQ=YEARLY;COUNT=10;BYMONTH=6,7", "", "Jun 10 Jul 10 Jun 10 Jul 10 Jun 10 Jul 10 Jun 10 Jul 10 Jun 10 Jul 10"},
		{"19970902", "FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "19970902", "Feb 13 Mar 13 Nov 13 Aug 13 Oct 13 ..."},
		{"19961105", "FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "", "Nov 5 7 2 ..."},
		{"19970904", "FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "", "Sep 4 Oct 7 Nov 6"},
		{"19970805", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "", "Aug 5 10 19 24"},
		{"19970805", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "", "Aug 5 17 19 31"},
		{"20070115", "FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "", "Jan 15 30 Feb 15 Mar 15 30"},
	} {
		day := func(s string) time.Time {
			at, err := time.ParseInLocation("20060102T150405", s+"T090000", zone)
			if err != nil {
				t.Fatal(err)
			}
			return at
		}
		var not []time.Time
		if c.not != "" {
			not = append(not, day(c.not))
		}
		goesOn := strings.HasSuffix(c.want, " ...")
		n := 0
		for _, f := range strings.Fields(c.want) {
			if f[0] >= '0' && f[0] <= '9' {
				n++
			}
		}
		got, more, err := Repeats(c.rule, day(c.start), nil, not, n)
		said, month := "", ""
		for _, at := range got {
			if m := at.Format("Jan"); m != month || strings.HasPrefix(c.rule, "FREQ=YEARLY;COUNT") {
				if month = m; !strings.HasPrefix(c.rule, "FREQ=YEARLY;INTERVAL") || said == "" {
					said += m + " "
				}
			}
			said += at.Format("2 ")
			if at.Hour() != 9 || at.Location() != zone {
				t.Errorf("%s: %v", c.rule, at)
			}
		}
		if goesOn {
			said += "... "
		}
		if err != nil || more != goesOn || strings.TrimSpace(said) != c.want {
			t.Errorf("%s: %s (more %t, %v), the standard says %s", c.rule, said, more, err, c.want)
		}
	}
}

// Rules that are none, never end or never begin are refused or end soon.
func TestRepeatsOfHostileRules(t *testing.T) {
	start := time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)
	for _, rule := range []string{"", "daily", "FREQ=SECONDLY", "FREQ=DAILY;BYSECOND=1", "FREQ=DAILY;INTERVAL=-1", strings.Repeat("FREQ=DAILY;", 40)} {
		if at, _, err := Repeats(rule, start, nil, nil, 5); err == nil {
			t.Errorf("%q gives %v", rule, at)
		}
	}
	for _, rule := range []string{"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "FREQ=DAILY;BYMONTH=2;BYMONTHDAY=31"} {
		if at, more, err := Repeats(rule, start, nil, nil, 5); err != nil || len(at) > 0 || more {
			t.Errorf("%q gives %v, %v", rule, at, err)
		}
	}
}
