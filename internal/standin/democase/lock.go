package democase

import (
	"bytes"
	"crypto/pbkdf2"
	"crypto/sha256"
	"os"

	"crosswind/core/backup"
)

// Password is that of the demo's encrypted backup.
const Password = "cormorant-47"

// rounds of key derivation; few enough for a demo to wait for.
const rounds = 20_000

// lock makes a label's lock, and gives what encrypts a file. Key, salt and
// nonces follow from names, so that the demo is the same bytes each time; a
// handset takes them at random.
func lock(l *backup.Label, password string) (seal func(name string, b []byte) ([]byte, error), err error) {
	made := func(what string) []byte { s := sha256.Sum256([]byte(what + l.Made.String())); return s[:] }
	l.Encrypted = true
	l.Lock = &backup.Lock{Salt: made("salt")[:16], Rounds: rounds}
	kek, err := pbkdf2.Key(sha256.New, password, l.Lock.Salt, rounds, 32)
	if err != nil {
		return nil, err
	}
	if l.Lock.Wrapped, err = backup.Wrap(kek, made("key")); err != nil {
		return nil, err
	}
	k, err := backup.NewKey(made("key"))
	if err != nil {
		return nil, err
	}
	return func(name string, b []byte) ([]byte, error) {
		var out bytes.Buffer
		err := k.Seal(&out, b, made("nonce" + name)[:7])
		return out.Bytes(), err
	}, nil
}

// sealCatalogue encrypts the catalogue once it is written.
func sealCatalogue(db *database, path string, seal func(string, []byte) ([]byte, error)) error {
	if err := db.Close(); err != nil {
		return err
	}
	plain, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	sealed, err := seal(backup.CatalogueName, plain)
	if err != nil {
		return err
	}
	return os.WriteFile(path, sealed, 0o644)
}
