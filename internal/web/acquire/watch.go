package acquire

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"sync"
	"time"

	"crosswind/internal/handset"

	"github.com/gin-gonic/gin"
)

// watchEvery is how often connected handsets are asked what they are doing, for all pages
// together.
const watchEvery = time.Second

// watch knows what the connected handsets were last seen to do.
type watch struct {
	mu   sync.Mutex
	at   time.Time
	seen string
}

// look gives a short name of what the handsets are seen to do, which changes when that does.
// Their clocks go on and are no change. What was seen within watchEvery is not asked again.
func (w *watch) look(ctx context.Context, ask func(context.Context) []connected) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if time.Since(w.at) < watchEvery {
		return w.seen
	}
	h := sha256.New()
	for _, c := range ask(context.WithoutCancel(ctx)) { // others wait for the answer, too
		s := handset.State{}
		if !c.Gone {
			s = *c.State
		}
		s.Clock = time.Time{}
		json.NewEncoder(h).Encode([]any{c.Gone, s}) // a hash takes all
	}
	w.at, w.seen = time.Now(), hex.EncodeToString(h.Sum(nil)[:8])
	return w.seen
}

// Seen names what the handsets are seen to do, for a page that waits for a change of it.
func (a pages) seen(c *gin.Context) string {
	return a.watch.look(c.Request.Context(), a.connectedHandsets)
}

// handsetEvents tells what the connected handsets are seen to do, at once and whenever it changes.
func (a pages) handsetEvents(c *gin.Context) error {
	c.Header("Content-Type", "text/event-stream")
	c.Status(http.StatusOK)
	for told := ""; ; {
		if !a.StillSigned(c) { // whoever signs out sees nothing more
			return nil
		}
		if now := a.seen(c); now != told {
			c.SSEvent("handsets", now)
			c.Writer.Flush()
			told = now
		}
		select {
		case <-c.Request.Context().Done():
			return nil
		case <-a.Ending:
			return nil
		case <-time.After(watchEvery):
		}
	}
}
