package fieldmap

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
)

// Backup is how an app encrypts a backup that it makes of itself: by AES in Galois/Counter Mode (NIST SP 800-38D)
// with a tag of 16 bytes at the end, under a key that it keeps on the handset. What comes out is a database, or an
// archive that holds it.
type Backup struct {
	Path  string `toml:"path"`  // of the backup on the handset: a pattern as path.Match takes it
	Key   string `toml:"key"`   // of the file with the key, which has 16, 24 or 32 bytes, or twice as many hexadecimal digits
	Nonce int    `toml:"nonce"` // where its nonce of 12 bytes lies
	Data  int    `toml:"data"`  // where what is encrypted begins
}

const (
	nonceSize = 12
	maxHeader = 4096 // bytes before what is encrypted
)

// ready checks the backups of a map.
func (m *Map) readyBackups() error {
	const section = "[[backup]]"
	for i, b := range m.Backups {
		if _, err := path.Match(b.Path, ""); b.Path == "" || err != nil {
			return m.fault(section, i, b.Path, "the path %q of a backup is not a pattern", b.Path)
		}
		if b.Key == "" {
			return m.fault(section, i, "", "the backup does not say where its key is")
		}
		if b.Nonce < 0 || b.Data < b.Nonce+nonceSize || b.Data > maxHeader {
			return m.fault(section, i, "", "what is encrypted begins behind a nonce of %d bytes, and at most at %d", nonceSize, maxHeader)
		}
	}
	return nil
}

// Open decrypts a backup. key is the content of the file with the key.
func (b *Backup) Open(key, content []byte) ([]byte, error) {
	key = bytes.TrimSpace(key)
	if raw, err := hex.DecodeString(string(key)); err == nil {
		key = raw
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("the key in %s: %w", b.Key, err)
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	if len(content) < b.Data+gcm.Overhead() {
		return nil, fmt.Errorf("it has %d bytes, and what is encrypted begins at %d", len(content), b.Data)
	}
	plain, err := gcm.Open(nil, content[b.Nonce:b.Nonce+nonceSize], content[b.Data:], nil)
	if err != nil {
		return nil, errors.New("it does not open with the key in " + b.Key + ": that is another, or it was changed")
	}
	return plain, nil
}
