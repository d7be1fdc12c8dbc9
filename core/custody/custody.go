// Package custody knows what makes a chain of custody whole: at every moment
// somebody holds the exhibit, hands it over to somebody, and its seal is known
// to be closed or open. It does not know who may do what.
package custody

import (
	"errors"
	"fmt"
	"time"
)

// What happened to an exhibit.
type What string

const (
	Received   What = "received"    // into custody: the chain begins
	Sealed     What = "sealed"      // under a new seal
	Opened     What = "opened"      // the seal was broken
	Moved      What = "moved"       // to another place, by who holds it
	HandedOver What = "handed over" // from who holds it to another
	Examined   What = "examined"
	Returned   What = "returned" // out of custody
	Disposed   What = "disposed" // out of custody, for good
)

// Events lists what can be recorded after an exhibit was received.
var Events = []What{HandedOver, Moved, Sealed, Opened, Examined, Returned, Disposed}

// Event is one link of a chain.
type Event struct {
	What     What
	At       time.Time
	From, To string // who gave and who holds it from now on
	Seal     string
}

// Chain is where an exhibit stands.
type Chain struct {
	Holder  string // "" if nobody holds it
	Seal    string // of the last seal
	Open    bool   // the seal is broken
	Last    time.Time
	Ended   bool // returned or disposed of
	started bool
	gone    bool
}

// Follow goes through the events of an exhibit in order of time, and says of
// each that does not fit why not. All events are followed all the same: what
// happened, happened.
func Follow(events []Event) (Chain, []error) {
	var c Chain
	var faults []error
	for i, e := range events {
		if err := c.Check(e); err != nil {
			faults = append(faults, fmt.Errorf("event %d: %w", i+1, err))
		}
		c.Add(e)
	}
	return c, faults
}

// Check says why e cannot come next, or nil.
func (c *Chain) Check(e Event) error {
	switch {
	case e.At.Before(c.Last):
		return fmt.Errorf("it lies before the last event, at %s", c.Last.UTC().Format(time.RFC3339))
	case c.gone:
		return errors.New("the exhibit was disposed of")
	case e.What == Received && c.Holder != "":
		return fmt.Errorf("the exhibit is held by %s: it is handed over, not received again", c.Holder)
	case e.What == Received && e.To == "":
		return errors.New("somebody must have received the exhibit")
	case e.What == Received:
		return nil
	case !c.started:
		return errors.New("the chain must begin with the exhibit being received")
	case c.Ended:
		return errors.New("the exhibit was returned: nobody is responsible for it until it is received again")
	}
	return c.checkHeld(e)
}

func (c *Chain) checkHeld(e Event) error {
	switch e.What {
	case HandedOver:
		switch {
		case e.From == "" || e.To == "":
			return errors.New("a hand-over names both sides: who gave the exhibit and who received it")
		case e.From == e.To:
			return fmt.Errorf("a hand-over has two sides; both are %s here", e.From)
		case e.From != c.Holder:
			return fmt.Errorf("%s does not hold the exhibit: it is held by %s", e.From, c.Holder)
		case c.Open:
			return fmt.Errorf("seal %s was opened and the exhibit is not sealed again", c.Seal)
		}
	case Sealed:
		switch {
		case !c.Open && c.Seal != "":
			return fmt.Errorf("the exhibit is under seal %s: that is opened first", c.Seal)
		case e.Seal == "":
			return errors.New("the new seal needs its number")
		case e.Seal == c.Seal:
			return fmt.Errorf("seal %s was opened: a new seal has a new number", e.Seal)
		}
	case Opened:
		if c.Open || c.Seal == "" {
			return errors.New("there is no closed seal to open")
		}
		if e.Seal != "" && e.Seal != c.Seal {
			return fmt.Errorf("the exhibit is under seal %s, not %s", c.Seal, e.Seal)
		}
	case Returned, Disposed:
		if c.Open {
			return fmt.Errorf("seal %s was opened and the exhibit is not sealed again", c.Seal)
		}
	case Moved, Examined:
	default:
		return fmt.Errorf("%q is not an event of a chain of custody", e.What)
	}
	return nil
}

// Add takes e as the next event.
func (c *Chain) Add(e Event) {
	c.Last, c.started = e.At, true
	switch e.What {
	case Received:
		c.Holder, c.Ended, c.Open = e.To, false, false
		c.Seal = e.Seal
	case HandedOver:
		c.Holder = e.To
	case Sealed:
		c.Seal, c.Open = e.Seal, false
	case Opened:
		c.Open = true
	case Returned, Disposed:
		c.Holder, c.Ended = "", true
		c.gone = e.What == Disposed
	}
}
