package record

import (
	"errors"
	"fmt"
	"strings"
)

// Luhn gives the check digit (ISO/IEC 7812-1, annex B) that belongs after the
// decimal digits of s.
func Luhn(s string) (byte, error) {
	sum := 0
	for i := range len(s) {
		c := s[len(s)-1-i]
		if c < '0' || c > '9' {
			return 0, fmt.Errorf("%q is not a digit", c)
		}
		d := int(c - '0')
		if i%2 == 0 { // every second digit, from the one before the check digit
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
	}
	return '0' + byte((10-sum%10)%10), nil
}

// ErrCheckDigit is wrapped by CheckIMEI and CheckICCID for a number whose check digit is not
// the one that its other digits give. Labels are misprinted, so such a number
// may be kept, with a reason.
var ErrCheckDigit = errors.New("wrong check digit")

// CheckICCID checks the number of a SIM card: 19 or 20 decimal digits that begin
// with 89, the last a Luhn check digit (ITU-T E.118 section 2.1; some issuers
// print one without it, of 18 or 19 digits, which cannot be checked).
func CheckICCID(s string) error {
	if len(s) < 19 || len(s) > 20 {
		return fmt.Errorf("an ICCID with its check digit has 19 or 20 digits, this has %d characters", len(s))
	}
	if s[:2] != "89" {
		return fmt.Errorf("an ICCID begins with 89, this with %q", s[:2])
	}
	return checkLuhn("an ICCID", s)
}

// CheckE164 checks a phone number in international form: a plus sign, then at
// most 15 digits of which the first is not 0 (ITU-T E.164 section 6).
func CheckE164(s string) error {
	digits, ok := strings.CutPrefix(strings.NewReplacer(" ", "", "(", "", ")", "", "-", "", ".", "", "/", "").Replace(s), "+") // E.123 section 6
	if !ok || len(digits) < 3 || len(digits) > 15 || digits[0] == '0' || strings.Trim(digits, "0123456789") != "" {
		return fmt.Errorf("%q is not a phone number in international form, such as +44 7700 900417", s)
	}
	return nil
}

// checkLuhn checks that s is all digits and ends in its Luhn check digit.
func checkLuhn(what, s string) error {
	n := len(s) - 1
	want, err := Luhn(s[:n])
	if err != nil {
		return fmt.Errorf("%s has digits only: %w", what, err)
	}
	if s[n] < '0' || s[n] > '9' {
		return fmt.Errorf("%s has digits only: %q is not a digit", what, s[n])
	}
	if s[n] != want {
		return fmt.Errorf("%w: the other %d digits give %c, the number ends in %c", ErrCheckDigit, n, want, s[n])
	}
	return nil
}

// CheckIMEI checks an International Mobile Equipment Identity: 15 decimal
// digits, the last a Luhn check digit (3GPP TS 23.003 section 6.2.1).
func CheckIMEI(s string) error {
	if len(s) != 15 {
		return fmt.Errorf("an IMEI has 15 digits, this has %d characters", len(s))
	}
	return checkLuhn("an IMEI", s)
}
