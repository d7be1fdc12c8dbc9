package timeline

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

const (
	maxRule  = 200 // characters; rules in use have some sixty
	maxYears = 60  // after the first time that are looked through
)

// Repeats gives the first n times of what began at start and repeats by a rule (RFC 5545 section 3.3.10), in the
// zone of start, which is the first of them where the rule says so; more says that others follow. Those of also are
// times, too, and those of not are none (RDATE and EXDATE, sections 3.8.5.2 and 3.8.5.1). A rule that repeats
// within a day is not worked out.
func Repeats(rule string, start time.Time, also, not []time.Time, n int) (at []time.Time, more bool, err error) {
	if len(rule) > maxRule {
		return nil, false, fmt.Errorf("timeline: a rule has more than %d characters", maxRule)
	}
	opt, err := rrule.StrToROptionInLocation(strings.TrimPrefix(strings.TrimSpace(rule), "RRULE:"), start.Location())
	if err != nil {
		return nil, false, fmt.Errorf("timeline: %q is not a rule: %w", rule, err)
	}
	if opt.Freq > rrule.DAILY || len(opt.Byhour)+len(opt.Byminute)+len(opt.Bysecond) > 0 {
		return nil, false, errors.New("timeline: what repeats within a day is not worked out")
	}
	if opt.Dtstart = start; start.Year() < 1000 || start.Year() > 9000 || opt.Interval < 0 || opt.Interval > 10_000 {
		return nil, false, fmt.Errorf("timeline: the rule %q has no times of use", rule)
	}
	if last := start.AddDate(maxYears, 0, 0); opt.Until.IsZero() || opt.Until.After(last) {
		opt.Until = last
	}
	r, err := rrule.NewRRule(*opt)
	if err != nil {
		return nil, false, fmt.Errorf("timeline: %q is not a rule: %w", rule, err)
	}
	set := rrule.Set{}
	set.RRule(r)
	for _, t := range also {
		set.RDate(t)
	}
	for _, t := range not {
		set.ExDate(t)
	}
	for next := set.Iterator(); ; {
		t, ok := next()
		if !ok {
			return at, false, nil
		}
		if len(at) == n {
			return at, true, nil
		}
		at = append(at, t)
	}
}
