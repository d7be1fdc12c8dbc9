package record

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"
)

// ISO/IEC 7812-1 annex B works out the check digit of 7992739871 as 3 (value
// from memory); 3GPP TS 23.003 section B.3 (annex B, worked example) gives the
// IMEI 26053179311383, check digit 7 (value from memory).
func TestLuhn(t *testing.T) {
	for in, want := range map[string]byte{"7992739871": '3', "26053179311383": '7', "": '0'} {
		if got, err := Luhn(in); err != nil || got != want {
			t.Errorf("%s: %c, %v; want %c", in, got, err, want)
		}
	}
	if _, err := Luhn("12a"); err == nil {
		t.Error("a letter was taken for a digit")
	}
}

// ITU-T E.118: 89, country, issuer, account, check digit by ISO/IEC 7812-1.
func TestCheckICCID(t *testing.T) {
	body := "899900000000000001"
	d, err := Luhn(body)
	if err != nil || CheckICCID(body+string(d)) != nil || !errors.Is(CheckICCID(body+string('0'+(d-'0'+1)%10)), ErrCheckDigit) {
		t.Errorf("%c, %v", d, err)
	}
	for _, bad := range []string{"", "8999", "1234567890123456789", "89990000000000000x1"} {
		if err := CheckICCID(bad); err == nil || errors.Is(err, ErrCheckDigit) {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

// ITU-T E.164 section 6: at most 15 digits after the plus sign.
func TestCheckE164(t *testing.T) {
	for s, ok := range map[string]bool{"+44 7700 900417": true, "+447700900417": true, "+123456789012345": true, "+1234567890123456": false, "07700 900417": false, "+0 123": false, "+44 77OO": false, "": false} {
		if err := CheckE164(s); (err == nil) != ok {
			t.Errorf("%q: %v", s, err)
		}
	}
}

func TestCheckIMEI(t *testing.T) {
	if err := CheckIMEI("260531793113837"); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{"", "26053179311383", "26053179311383x", "2605317931138370", "٢60531793113837"} {
		if err := CheckIMEI(bad); err == nil || errors.Is(err, ErrCheckDigit) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	// Any single wrong digit, and any swap of neighbours but 09 and 90, shows (ISO/IEC 7812-1).
	good := []byte("260531793113837")
	for i := range good {
		for d := byte('0'); d <= '9'; d++ {
			b := append([]byte(nil), good...)
			if b[i] = d; d != good[i] && !errors.Is(CheckIMEI(string(b)), ErrCheckDigit) {
				t.Errorf("%s passed", b)
			}
		}
	}
}

// Integers that doubles do not hold are strings (RFC 8259 section 6 names the range in
// which implementations agree), and come back as they were.
func TestIntegersBeyondDoubles(t *testing.T) {
	for n, want := range map[Int]string{1: "1", 1<<53 - 1: "9007199254740991", 1 << 53: `"9007199254740992"`, 1234567890123456789: `"1234567890123456789"`, -1 << 63: `"-9223372036854775808"`} {
		b, err := json.Marshal(n)
		var back Int
		if err == nil {
			err = json.Unmarshal(b, &back)
		}
		if err != nil || string(b) != want || back != n {
			t.Errorf("%d: %s, %d, %v", n, b, back, err)
		}
	}
	var i Int
	if json.Unmarshal([]byte(`"9223372036854775808"`), &i) == nil || json.Unmarshal([]byte(`1.5`), &i) == nil {
		t.Error("what is no integer of 64 bits is taken")
	}
}

// Every sentence that the application prints about a state has its ground in what was
// seen of the row: no word of it names somebody who did something, an intent, or a moment
// at which it happened.
func TestStatesSayWhatWasSeen(t *testing.T) {
	grounds := map[State]string{Intact: "the table's tree leads", Held: "the table in which the app keeps items until a purge date", Recovered: "no tree of the database leads", Earlier: "whose id a row of the table's tree has"}
	for _, s := range States {
		if !strings.Contains(s.Meaning, grounds[s.State]) || grounds[s.State] == "" {
			t.Errorf("%s has no ground: %s", s.State, s.Meaning)
		}
		for _, claim := range []string{"by the user", "the user", "was shown", "would have", "deleted by", "on purpose", "tried to", "after the", "destroyed", "hid"} {
			if strings.Contains(s.Meaning, claim) {
				t.Errorf("%s claims what bytes cannot show: %s", s.State, s.Meaning)
			}
		}
		if s.Below() && !strings.Contains(s.Meaning, "consistent with") {
			t.Errorf("%s does not say what it is consistent with: %s", s.State, s.Meaning)
		}
	}
}

// A time that cannot be so is told apart: it is neither where the handset's clock began to
// count, nor in the future of what it was read from (common practice).
func TestImpossibleTimes(t *testing.T) {
	made := time.Date(2026, 9, 24, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		at   time.Time
		made time.Time
		want string
	}{
		{time.Unix(0, 0).UTC(), made, TooEarly},
		{time.Date(1979, 12, 31, 23, 59, 59, 0, time.UTC), time.Time{}, TooEarly},
		{time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC), made, ""},
		{made.Add(14 * time.Hour), made, ""}, // a local time of the zone that is farthest east
		{made.Add(24*time.Hour + 1), made, TooLate},
		{made.AddDate(70, 0, 0), time.Time{}, ""},
	} {
		r := &Record{Kind: Message, Times: []Time{{Role: "read", At: &made}, Time{Role: "sent", At: &c.at}.Doubted(c.made)}}
		if got := r.Time().Doubt; got != c.want || (r.At() == nil) != (c.want != "") || len(r.Others()) != 1 {
			t.Errorf("%v, made %v: %q, %v", c.at, c.made, got, r.At())
		}
	}
	if r := (&Record{Kind: "never heard of"}); r.At() != nil || !strings.Contains(r.Kind.Title(), "Unknown kind") || r.Kind.UnmarshalText([]byte("x")) == nil {
		t.Error("an unknown kind is taken for another")
	}
}
