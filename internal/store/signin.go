package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"
)

// freeAttempts is how many sign-ins of late need no waiting, of one address and for one
// name.
const freeAttempts = 5

// maxWait is how long a sign-in waits for its turn at most; beyond that it is refused
// untried, and counts for nothing.
const maxWait = 15 * time.Second

// SignInTurn reserves a moment for trying a sign-in, after those that are being tried
// from the same address and for the same name: the more of late, the longer they lie
// apart. Nobody is locked out. ok is false if the turn would come too late to wait for.
func (s *Store) SignInTurn(ctx context.Context, address, login string) (wait time.Duration, ok bool, err error) {
	ok = true
	err = s.change(ctx, func(t *Tx) error {
		for _, k := range turns(address, login) {
			var w float64
			err := t.GetContext(ctx, &w, `INSERT INTO refusal(what, who, recent, at, next) VALUES ($1, $2, 1, clock_timestamp(), clock_timestamp())
ON CONFLICT (what, who) DO UPDATE SET
  recent = refusal.recent * power(0.5, extract(epoch FROM clock_timestamp() - refusal.at) / 300) + 1, at = clock_timestamp(),
  next = greatest(refusal.next, clock_timestamp()) + make_interval(secs => CASE WHEN refusal.recent < $3 THEN 0 ELSE least(0.5 * power(2, least(refusal.recent - $3, 10)), $4) END)
RETURNING greatest(0, extract(epoch FROM next - clock_timestamp()))::float8`, k.what, k.who, float64(freeAttempts), k.apart)
			if err != nil {
				return fmt.Errorf("counting sign-ins: %w", err)
			}
			wait = max(wait, time.Duration(w*float64(time.Second)))
		}
		if wait > maxWait {
			ok = false
			return errTooLate
		}
		return t.exec("forgetting old sign-ins", "DELETE FROM refusal WHERE at < now() - interval '30 days'")
	}, false)
	if err == errTooLate {
		err = nil
	}
	return wait, ok, err
}

var errTooLate = fmt.Errorf("the turn comes too late")

// turn is what sign-ins are counted by. For a name they never lie far apart: whoever
// guesses at it from elsewhere must not keep its owner out.
type turn struct {
	what, who string
	apart     float64 // seconds at most
}

func turns(address, login string) []turn {
	sum := sha256.Sum256([]byte(login))
	return []turn{{"address", address, 5}, {"name", hex.EncodeToString(sum[:]), 1}}
}

// SignInTried says how a sign-in ended. One that holds takes back what it counted.
func (s *Store) SignInTried(ctx context.Context, address, login string, held bool) error {
	q := "UPDATE refusal SET times = times + 1 WHERE what = $1 AND who = $2"
	if held {
		q = "UPDATE refusal SET recent = CASE what WHEN 'name' THEN 0 ELSE greatest(0, recent - 1) END WHERE what = $1 AND who = $2"
	}
	return s.change(ctx, func(t *Tx) error {
		for _, k := range turns(address, login) {
			if err := t.exec("counting sign-ins", q, k.what, k.who); err != nil {
				return err
			}
		}
		return nil
	}, false)
}

// Refusals counts the sign-ins that were refused in the last 30 days, and from how many
// addresses.
func (s *Store) Refusals(ctx context.Context) (times, addresses int64, err error) {
	var r struct{ Times, Addresses int64 }
	err = s.get(ctx, &r, "counting refused sign-ins", "SELECT coalesce(sum(times), 0)::bigint AS times, count(*) FILTER (WHERE times > 0) AS addresses FROM refusal WHERE what = 'address'")
	return r.Times, r.Addresses, err
}
