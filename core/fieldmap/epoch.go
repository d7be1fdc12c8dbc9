package fieldmap

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/sqlitefile"
)

// Epoch is how an app counts time: units since an instant, or a text in UTC.
type Epoch struct {
	Since time.Time
	Unit  time.Duration
	text  bool
}

// Epochs in use. The instants are those of 1 January, 00:00 UTC, of their years.
var (
	Seconds1970 = Epoch{Since: since(1970), Unit: time.Second}
	Millis1970  = Epoch{Since: since(1970), Unit: time.Millisecond}
	Seconds1980 = Epoch{Since: since(1980), Unit: time.Second}
	Millis2001  = Epoch{Since: since(2001), Unit: time.Millisecond}
	Ticks1601   = Epoch{Since: since(1601), Unit: 100 * time.Nanosecond}
)

func since(year int) time.Time { return time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC) }

// units are those in which lengths of time are counted, and times since an instant.
var units = map[string]time.Duration{
	"days": 24 * time.Hour, "hours": time.Hour, "minutes": time.Minute, "seconds": time.Second, "milliseconds": time.Millisecond,
	"microseconds": time.Microsecond, "100 ns ticks": 100 * time.Nanosecond, "nanoseconds": time.Nanosecond,
}

// Years from whose beginning apps count.
var years = []int{1601, 1904, 1970, 1980, 2001}

// inText is the name of the epoch of times that are texts.
const inText = "text in UTC"

// layouts are the forms of such texts: RFC 3339 with its offset, and others, which are in UTC.
var layouts = []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05.999999999", "2006-01-02"}

// Epochs lists every epoch that a map can name: coarser units first, and by year; last the text in UTC.
func Epochs() (all []Epoch) {
	for _, unit := range []string{"days", "seconds", "milliseconds", "microseconds", "100 ns ticks", "nanoseconds"} {
		for _, y := range years {
			if unit == "nanoseconds" && y < 1904 {
				continue // of which 64 bits hold less than three centuries
			}
			all = append(all, Epoch{Since: since(y), Unit: units[unit]})
		}
	}
	return append(all, Epoch{text: true})
}

// Name is how a map's file names e.
func (e Epoch) Name() string { return strings.TrimSuffix(e.String(), "-01-01") }

// ParseEpoch reads the name of an epoch: "UNIT since YEAR", such as "seconds since 1970",
// or "text in UTC".
func ParseEpoch(name string) (Epoch, bool) {
	if name == inText {
		return Epoch{text: true}, true
	}
	unit, year, ok := strings.Cut(name, " since ")
	n, err := strconv.Atoi(year)
	if !ok || err != nil || units[unit] == 0 || !slices.Contains(years, n) {
		return Epoch{}, false
	}
	return Epoch{Since: since(n), Unit: units[unit]}, true
}

// String names e as a unit and a year.
func (e Epoch) String() string {
	if e.text {
		return inText
	}
	for name, unit := range units {
		if unit == e.Unit {
			return fmt.Sprintf("%s since %d-01-01", name, e.Since.Year())
		}
	}
	return fmt.Sprintf("%v since %d-01-01", e.Unit, e.Since.Year())
}

// Time turns v into an instant in UTC, to the nanosecond. It is false for what is of
// another class and for instants outside the years 1 to 9999.
func (e Epoch) Time(v sqlitefile.Value, enc sqlitefile.Encoding) (time.Time, bool) {
	if e.text {
		if v.Class() != sqlitefile.Text {
			return time.Time{}, false
		}
		for _, layout := range layouts {
			if t, err := time.Parse(layout, v.String(enc)); err == nil {
				return t.UTC(), t.UTC().Year() >= 1 && t.UTC().Year() <= 9999
			}
		}
		return time.Time{}, false
	}
	switch v.Class() {
	case sqlitefile.Integer:
		n := v.Int()
		if e.Unit >= time.Second {
			per := int64(e.Unit / time.Second)
			if n > farthest/per || n < -farthest/per {
				return time.Time{}, false
			}
			return instant(e.Since, n*per, 0)
		}
		per := int64(time.Second / e.Unit)
		return instant(e.Since, n/per, n%per*int64(e.Unit))
	case sqlitefile.Real:
		whole, part := math.Modf(v.Float() * e.Unit.Seconds())
		if math.IsNaN(whole) || math.Abs(whole) > farthest {
			return time.Time{}, false
		}
		return instant(e.Since, int64(whole), int64(math.Round(part*1e6))*1000)
	}
	return time.Time{}, false
}

// farthest is more seconds than lie between any two instants of the calendar.
const farthest = 1 << 40

func instant(since time.Time, secs, nanos int64) (time.Time, bool) {
	if secs > farthest || secs < -farthest {
		return time.Time{}, false
	}
	t := time.Unix(since.Unix()+secs, nanos).UTC()
	return t, t.Year() >= 1 && t.Year() <= 9999
}

// original writes v as it is stored, with the epoch it counts from.
func (e Epoch) original(v sqlitefile.Value, enc sqlitefile.Encoding) string {
	switch v.Class() {
	case sqlitefile.Real:
		return strconv.FormatFloat(v.Float(), 'f', -1, 64) + " " + e.String()
	case sqlitefile.Text:
		return v.String(enc) + ", " + e.String()
	}
	return strconv.FormatInt(v.Int(), 10) + " " + e.String()
}
