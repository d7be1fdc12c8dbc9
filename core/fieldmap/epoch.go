package fieldmap

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"crosswind/core/sqlitefile"
)

// Epoch is how an app counts time: units since an instant.
type Epoch struct {
	Since time.Time
	Unit  time.Duration
}

// Epochs in use. The instants are those of 1 January, 00:00 UTC, of their years.
var (
	Seconds1970 = Epoch{time.Unix(0, 0).UTC(), time.Second}
	Millis1970  = Epoch{time.Unix(0, 0).UTC(), time.Millisecond}
	Seconds1980 = Epoch{time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC), time.Second}
	Millis2001  = Epoch{time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC), time.Millisecond}
	Ticks1601   = Epoch{time.Date(1601, 1, 1, 0, 0, 0, 0, time.UTC), 100 * time.Nanosecond}
)

// String names e as a unit and a year.
func (e Epoch) String() string {
	unit := map[time.Duration]string{time.Second: "seconds", time.Millisecond: "milliseconds", 100 * time.Nanosecond: "100 ns ticks"}[e.Unit]
	return fmt.Sprintf("%s since %d-01-01", unit, e.Since.Year())
}

// Time turns v into an instant in UTC, to the nanosecond. It is false for
// what is no number and for instants outside the years 1 to 9999.
func (e Epoch) Time(v sqlitefile.Value) (time.Time, bool) {
	switch v.Class() {
	case sqlitefile.Integer:
		per := int64(time.Second / e.Unit)
		n := v.Int()
		return within(e.Since, n/per, n%per*int64(e.Unit))
	case sqlitefile.Real:
		whole, part := math.Modf(v.Float() * e.Unit.Seconds())
		if math.IsNaN(whole) || math.Abs(whole) > 1<<40 {
			return time.Time{}, false
		}
		return within(e.Since, int64(whole), int64(math.Round(part*1e6))*1000)
	}
	return time.Time{}, false
}

func within(since time.Time, secs, nanos int64) (time.Time, bool) {
	if secs > 1<<40 || secs < -1<<40 {
		return time.Time{}, false
	}
	t := time.Unix(since.Unix()+secs, nanos).UTC()
	return t, t.Year() >= 1 && t.Year() <= 9999
}

// original writes v as it is stored, with the epoch it counts from.
func (e Epoch) original(v sqlitefile.Value) string {
	if v.Class() == sqlitefile.Real {
		return strconv.FormatFloat(v.Float(), 'f', -1, 64) + " " + e.String()
	}
	return strconv.FormatInt(v.Int(), 10) + " " + e.String()
}
