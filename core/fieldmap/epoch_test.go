package fieldmap

import (
	"testing"
	"time"

	"crosswind/core/sqlitefile"
)

// Published instants: 1970, POSIX.1-2017 section 4.16 (1000000000 is
// 2001-09-09T01:46:40Z, common practice); 1601, the offset of 11644473600
// seconds to 1970, common practice; 1980 and 2001 by their distances to 1970
// of 315532800 and 978307200 seconds, common practice.
func TestEpochs(t *testing.T) {
	for _, c := range []struct {
		e    Epoch
		n    int64
		want string
	}{
		{Seconds1970, 1000000000, "2001-09-09T01:46:40Z"},
		{Millis1970, 1000000000123, "2001-09-09T01:46:40.123Z"},
		{Seconds1980, 1000000000 - 315532800, "2001-09-09T01:46:40Z"},
		{Millis2001, (1000000000 - 978307200) * 1000, "2001-09-09T01:46:40Z"},
		{Ticks1601, (1000000000 + 11644473600) * 10000000, "2001-09-09T01:46:40Z"},
		{Millis2001, -1, "2000-12-31T23:59:59.999Z"},
	} {
		got, ok := c.e.Time(sqlitefile.IntValue(c.n))
		if !ok || got.Format(time.RFC3339Nano) != c.want {
			t.Errorf("%d %s: %s, %v; want %s", c.n, c.e, got.Format(time.RFC3339Nano), ok, c.want)
		}
		if c.n > 0 && c.e.Unit >= time.Millisecond { // as a real, too
			got, ok = c.e.Time(sqlitefile.IntValue(c.n).AsReal())
			if !ok || got.Sub(mustParse(t, c.want)).Abs() > time.Microsecond {
				t.Errorf("%d.0 %s: %s", c.n, c.e, got)
			}
		}
	}
	if _, ok := Seconds1970.Time(sqlitefile.IntValue(1 << 62)); ok {
		t.Error("an instant outside the calendar was taken")
	}
}

func mustParse(t *testing.T, s string) time.Time {
	at, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		t.Fatal(err)
	}
	return at
}
