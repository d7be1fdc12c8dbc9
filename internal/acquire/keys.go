package acquire

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"

	"crosswind/core/backup"
	"crosswind/internal/run"
	"crosswind/internal/store"
)

// Keys holds, in the memory of this process and nowhere else, the keys of
// encrypted acquisitions that a password opened, until the run that needs them
// ends, the lists of passwords that are still to be tried, and the tokens of cloud
// accounts.
type Keys struct {
	mu         sync.Mutex
	keys       map[int64]*backup.Key // by acquisition
	candidates map[int64][]string
	tokens     map[signedIn]string // of cloud accounts
	passwords  map[int64]string    // for backups that handsets are to make, by exhibit
}

// HoldPassword keeps the password that a handset is to encrypt a backup with.
func (k *Keys) HoldPassword(exhibit int64, password string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.passwords == nil {
		k.passwords = map[int64]string{}
	}
	k.passwords[exhibit] = password
}

// password gives that password and whether it is there.
func (k *Keys) password(exhibit int64) (string, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	p, ok := k.passwords[exhibit]
	return p, ok
}

func (k *Keys) dropPassword(exhibit int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.passwords, exhibit)
}

// signedIn is who signed in to the account of an exhibit. A sign-in serves who made it,
// and nobody else.
type signedIn struct {
	exhibit int64
	by      string
}

// HoldToken keeps the token of an account that somebody signed in to.
func (k *Keys) HoldToken(exhibit int64, by, token string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.tokens == nil {
		k.tokens = map[signedIn]string{}
	}
	k.tokens[signedIn{exhibit, by}] = token
}

// Token is somebody's token of an account, "" if they are not signed in to it.
func (k *Keys) Token(exhibit int64, by string) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.tokens[signedIn{exhibit, by}]
}

// DropToken forgets a token, unless its owner has signed in since and it is another one.
func (k *Keys) DropToken(exhibit int64, by, token string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if at := (signedIn{exhibit, by}); k.tokens[at] == token {
		delete(k.tokens, at)
	}
}

// Try tries a password on an acquisition and, if it opens it, keeps the key. A
// wrong one is backup.ErrPassword.
func (k *Keys) Try(a *store.Acquisition, password string) error {
	var l backup.Label
	if err := json.Unmarshal(a.Facts, &l); err != nil {
		return fmt.Errorf("the label of the acquisition: %w", err)
	}
	if !l.Encrypted {
		return errors.New("this acquisition is not encrypted")
	}
	key, err := l.Lock.Unlock(password)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.keys == nil {
		k.keys = map[int64]*backup.Key{}
	}
	k.keys[a.ID] = key
	return nil
}

// Hold keeps passwords to be tried on an acquisition.
func (k *Keys) Hold(acquisition int64, passwords []string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.candidates == nil {
		k.candidates = map[int64][]string{}
	}
	k.candidates[acquisition] = passwords
}

func (k *Keys) held(acquisition int64) []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.candidates[acquisition]
}

func (k *Keys) key(acquisition int64) *backup.Key {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.keys[acquisition]
}

func (k *Keys) forget(acquisition int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.keys, acquisition)
	delete(k.candidates, acquisition)
}

// TryPasswords tries the passwords that were given for an acquisition one after
// the other, and unlocks it with the first that opens it. The ledger is told how
// many were tried, and which of the list opened it by its number.
func (q *Acquirer) TryPasswords(ctx context.Context, t *run.Task) error {
	var sub UnlockSubject
	if err := t.Subject(&sub); err != nil {
		return err
	}
	c, a, err := q.Store.AcquisitionOfRun(ctx, t.Run, sub.Acquisition)
	if err != nil {
		return err
	}
	list := q.Keys.held(a.ID)
	if list == nil {
		return errors.New("the list of passwords is not in memory: it is forgotten when the application ends. Give it again in Recover")
	}
	t.Total(0, int64(len(list)))
	act := store.Act{Book: c.Book(), By: t.Run.By, What: "password.list_refused", On: sub.Name, Detail: map[string]string{"tried": fmt.Sprint(len(list))}}
	for i, p := range list {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		err := q.Keys.Try(a, p)
		t.Done(0, 1)
		if errors.Is(err, backup.ErrPassword) {
			t.Found("refused", 1)
			continue
		}
		if err != nil {
			return err
		}
		t.Logf("number %d of the list opens the backup", i+1)
		act.What, act.Detail = "password.accepted", map[string]string{"tried": fmt.Sprint(i + 1), "of": fmt.Sprint(len(list))}
		// The next run first: a page that sees no open run looks for nothing more.
		if err := q.QueueUnlock(ctx, c, t.Run.By, t.Run.Holder, sub); err != nil {
			return err
		}
		return q.Store.EndRun(ctx, t.Run, "done", "", act)
	}
	q.Keys.forget(a.ID)
	t.Logf("none of the %d passwords opens the backup", len(list))
	return q.Store.EndRun(ctx, t.Run, "failed", fmt.Sprintf("None of the %d passwords opens the backup. The list is forgotten.", len(list)), act)
}

// QueueUnlock queues the unlocking of an acquisition whose key this process, the
// holder, has in memory.
func (q *Acquirer) QueueUnlock(ctx context.Context, c *store.Case, by, holder string, sub UnlockSubject, acts ...store.Act) error {
	b, err := json.Marshal(sub)
	if err != nil {
		return err
	}
	_, err = q.Store.QueueRun(ctx, c, store.Run{Kind: "unlock", Subject: b, By: by, Title: "Unlocking " + sub.Name, Holder: holder}, acts...)
	return err
}
