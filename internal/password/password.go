// Package password hashes passwords with argon2id and checks them.
package password

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/crypto/argon2"
)

// Parameters of argon2id: RFC 9106 section 4, the second recommended option.
const (
	argonTime   = 3
	argonMemory = 64 << 10 // KiB
	argonLanes  = 4
	argonKey    = 32
)

// MinLength is the least number of characters of a password (NIST SP
// 800-63B section 5.1.1.2 asks for 8 or more).
const MinLength = 10

// atOnce bounds how many passwords are hashed at a time: each takes 64 MiB.
var atOnce = make(chan struct{}, 2)

// turn waits for a turn to hash.
func turn(ctx context.Context) (done func(), err error) {
	select {
	case atOnce <- struct{}{}:
		return func() { <-atOnce }, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// Hash hashes a password with argon2id and a random salt. It gives "" if ctx ends first.
func Hash(ctx context.Context, password string) string {
	done, err := turn(ctx)
	if err != nil {
		return ""
	}
	defer done()
	salt := make([]byte, 16)
	rand.Read(salt) // never fails
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonLanes, argonKey)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonLanes,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

// none is the hash of a password that nobody has.
var none = sync.OnceValue(func() string { return Hash(context.Background(), rand.Text()) })

// CheckNone takes as long as Check does and says ErrWrong: for names that have no account.
func CheckNone(ctx context.Context, password string) error {
	if err := Check(ctx, none(), password); err != nil {
		return err
	}
	return ErrWrong
}

// Check compares a password with its hash in constant time. ErrWrong says that
// it is another one.
func Check(ctx context.Context, hash, password string) error {
	done, err := turn(ctx)
	if err != nil {
		return err
	}
	defer done()
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return errors.New("the stored password hash is malformed")
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return fmt.Errorf("the stored password hash is malformed: %w", err)
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err := errors.Join(err1, err2); err != nil {
		return fmt.Errorf("the stored password hash is malformed: %w", err)
	}
	got := argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))
	if subtle.ConstantTimeCompare(got, want) != 1 {
		return ErrWrong
	}
	return nil
}

// ErrWrong is the same whether the sign-in or the password is wrong.
var ErrWrong = errors.New("the sign-in or the password is wrong")
