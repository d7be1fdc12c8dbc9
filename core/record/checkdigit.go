package record

import (
	"errors"
	"fmt"
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

// ErrCheckDigit is wrapped by CheckIMEI for a number whose check digit is not
// the one that its other digits give. Labels are misprinted, so such a number
// may be kept, with a reason.
var ErrCheckDigit = errors.New("wrong check digit")

// CheckIMEI checks an International Mobile Equipment Identity: 15 decimal
// digits, the last a Luhn check digit (3GPP TS 23.003 section 6.2.1).
func CheckIMEI(s string) error {
	if len(s) != 15 {
		return fmt.Errorf("an IMEI has 15 digits, this has %d characters", len(s))
	}
	want, err := Luhn(s[:14])
	if err != nil {
		return fmt.Errorf("an IMEI has digits only: %w", err)
	}
	if s[14] < '0' || s[14] > '9' {
		return fmt.Errorf("an IMEI has digits only: %q is not a digit", s[14])
	}
	if s[14] != want {
		return fmt.Errorf("%w: the other 14 digits give %c, the number ends in %c", ErrCheckDigit, want, s[14])
	}
	return nil
}
