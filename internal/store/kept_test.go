package store_test

import (
	"testing"
	"testing/synctest"

	"golang.org/x/sync/singleflight"

	"crosswind/internal/store"
)

// Who asks while something is being found does not get what was found before that.
func TestOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var asking singleflight.Group
		now := 1
		goOn := make(chan bool)
		go store.Once(&asking, "key", func() (any, error) {
			found := now
			<-goOn
			return found, nil
		})
		synctest.Wait()
		now = 2
		var got any
		go func() {
			got, _ = store.Once(&asking, "key", func() (any, error) { return now, nil })
		}()
		synctest.Wait() // until it asked, and waits
		if got != nil {
			t.Fatal("it did not wait")
		}
		close(goOn)
		synctest.Wait()
		if got != 2 {
			t.Errorf("what was asked for then was found as it had been before: %v", got)
		}
	})
}
