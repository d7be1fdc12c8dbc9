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
		got, ok := c.e.Time(sqlitefile.IntValue(c.n), sqlitefile.UTF8)
		if !ok || got.Format(time.RFC3339Nano) != c.want {
			t.Errorf("%d %s: %s, %v; want %s", c.n, c.e, got.Format(time.RFC3339Nano), ok, c.want)
		}
		if c.n > 0 && c.e.Unit >= time.Millisecond { // as a real, too
			got, ok = c.e.Time(sqlitefile.IntValue(c.n).AsReal(), sqlitefile.UTF8)
			if !ok || got.Sub(mustParse(t, c.want)).Abs() > time.Microsecond {
				t.Errorf("%d.0 %s: %s", c.n, c.e, got)
			}
		}
	}
	for _, c := range []struct {
		name string
		v    sqlitefile.Value
		want string
	}{
		{"seconds since 1904", sqlitefile.IntValue(1000000000 + 2082844800), "2001-09-09T01:46:40Z"}, // the offset to 1970, common practice
		{"microseconds since 1601", sqlitefile.IntValue((1000000000 + 11644473600) * 1000000), "2001-09-09T01:46:40Z"},
		{"nanoseconds since 2001", sqlitefile.IntValue((1000000000 - 978307200) * 1000000000), "2001-09-09T01:46:40Z"},
		{"days since 1970", sqlitefile.IntValue(11574), "2001-09-09T00:00:00Z"},
		{"text in UTC", sqlitefile.PartialText(13, []byte("1996-12-19T16:39:57-08:00"), 0), "1996-12-20T00:39:57Z"}, // RFC 3339 section 5.8
		{"text in UTC", sqlitefile.PartialText(13, []byte("1985-04-12T23:20:50.52Z"), 0), "1985-04-12T23:20:50.52Z"},
		{"text in UTC", sqlitefile.PartialText(13, []byte("2001-09-09 01:46:40"), 0), "2001-09-09T01:46:40Z"},
	} {
		e, known := ParseEpoch(c.name)
		got, ok := e.Time(c.v, sqlitefile.UTF8)
		if !known || !ok || got.Format(time.RFC3339Nano) != c.want {
			t.Errorf("%s: %s, %v; want %s", c.name, got.Format(time.RFC3339Nano), ok, c.want)
		}
	}
	for _, name := range []string{"seconds since 1999", "weeks since 1970", "seconds", "", "seconds since 1970-01-01"} {
		if _, known := ParseEpoch(name); known {
			t.Errorf("%q is taken for an epoch", name)
		}
	}
	if _, ok := Seconds1970.Time(sqlitefile.IntValue(1<<62), sqlitefile.UTF8); ok {
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
