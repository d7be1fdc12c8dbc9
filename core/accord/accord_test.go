package accord

import (
	"fmt"
	"testing"
	"time"

	"crosswind/core/geo"
)

var noon = time.Date(2026, 9, 11, 12, 0, 0, 0, time.UTC)

// The calls of two handsets, made up: those between them are found by their own numbers, and by coincidence alone.
func TestCallsOfTwoHandsets(t *testing.T) {
	const ofA, ofB, other = "+447700900100", "+447700900288", "+447700900417"
	var a, b []Call
	for i := range 5 { // five calls that both have, and one of each that the other has not
		at := noon.Add(time.Duration(i) * 3 * time.Hour)
		a = append(a, Call{At: at, Out: i%2 == 0, Handle: ofB, Seconds: 60})
		b = append(b, Call{At: at.Add(time.Duration(i) * 20 * time.Second), Out: i%2 != 0, Handle: ofA, Seconds: 61})
	}
	a = append(a, Call{At: noon.Add(50 * time.Hour), Out: true, Handle: ofB})
	b = append(b, Call{At: noon.Add(60 * time.Hour), Out: true, Handle: ofA},
		Call{At: noon.Add(10 * time.Second), Handle: other},        // somebody else's at the same time
		Call{At: noon.Add(50 * time.Hour), Out: true, Handle: ofA}) // both called, which is not one call
	for _, own := range [][2][]string{{{ofA}, {ofB}}, {nil, nil}, {{ofA}, nil}} {
		both, onlyA, onlyB := Calls(a, b, own[0], own[1])
		if got := fmt.Sprint(both, onlyA, onlyB); got != "[{0 0} {1 1} {2 2} {3 3} {4 4}] [5] [5 7]" {
			t.Errorf("%v: %s", own, got)
		}
	}
	if both, onlyA, onlyB := Calls(a[:2], b[:2], nil, nil); both != nil || onlyA != nil || onlyB != nil {
		t.Errorf("two coincidences are none: %v %v %v", both, onlyA, onlyB)
	}
	if both, _, _ := Calls(a, b, []string{other}, nil); both != nil {
		t.Errorf("against the known numbers: %v", both)
	}
}

func TestVerdicts(t *testing.T) {
	at := func(lat float64, after time.Duration, accuracy float64) geo.Fix {
		return geo.Fix{Point: geo.Point{Latitude: lat, Longitude: -24}, At: noon.Add(after), Accuracy: accuracy}
	}
	for _, x := range []struct { // a minute of latitude is 1,850 m here (WGS 84: 1,849.9 m at 38.5°, PROJ's geod)
		b    geo.Fix
		want Verdict
	}{
		{at(38.5, 0, 10), Agrees},
		{at(38.5+0.1/60, 30*time.Second, 30), Agrees}, // 185 m
		{at(38.5+0.5/60, 30*time.Second, 30), Apart},  // 925 m: 31 m/s
		{at(38.5+0.5/60, -10*time.Minute, 30), Agrees},
		{at(39.5, -time.Minute, 30), Contradicts}, // 111 km
		{at(39.5, time.Hour, 30), Apart},
	} {
		if got, leg := Places(at(38.5, 0, 20), x.b); got != x.want {
			t.Errorf("%+v: %v, %+v", x.b, got, leg)
		}
	}
	if Lengths(60, 64) != Agrees || Lengths(0, 47) != Contradicts || Times(noon, noon.Add(-59*time.Second)) != Agrees || Times(noon, noon.Add(2*time.Minute)) != Apart {
		t.Error("of times and lengths")
	}
}

// What clocks of IANA's time zone database show is taken for that of their offset, and what none shows contradicts.
func TestTakenLocal(t *testing.T) {
	at := time.Date(2026, 7, 8, 15, 13, 23, 0, time.UTC)
	for _, name := range []string{"UTC", "Etc/GMT+12", "Etc/GMT-14", "Asia/Kathmandu", "America/St_Johns", "Pacific/Chatham", "Atlantic/Azores"} {
		zone, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		_, off := at.In(zone).Zone()
		wall := at.Add(time.Duration(off)*time.Second + 20*time.Second)
		for here, want := range map[time.Duration]Verdict{time.Duration(off) * time.Second: Agrees, time.Duration(off)*time.Second + time.Hour: Apart} {
			if v, got := TakenLocal(at, wall, here); v != want || got != time.Duration(off)*time.Second {
				t.Errorf("%s, where it is %v: %v, %v off", name, here, v, got)
			}
		}
	}
	for _, d := range []time.Duration{7 * time.Minute, -6*time.Hour - 3*time.Minute, 14*time.Hour + Quarter, -12*time.Hour - Quarter, 30 * 24 * time.Hour} {
		if v, _ := TakenLocal(at, at.Add(d), 0); v != Contradicts {
			t.Errorf("%v later: %v", d, v)
		}
	}
	if Taken(at, at.Add(2*time.Minute)) != Agrees || Taken(at, at.Add(-3*time.Minute)) != Contradicts || Taken(at, at.Add(-12*time.Hour)) != Contradicts {
		t.Error("two times of a picture")
	}
}
