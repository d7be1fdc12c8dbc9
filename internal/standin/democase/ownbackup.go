package democase

import (
	"archive/zip"
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/sha256"
	"encoding/hex"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"time"
)

// ownBackup is a file that a chat app made of itself: an archive with its database as it was then, encrypted
// if the app keeps a key.
type ownBackup struct {
	family, path, keyAt, key string
	at                       time.Time
	of                       maker
}

var ownBackups = []ownBackup{
	{"Orlop", "/media/tern/tern-2026-05-31.zip", "", "", time.Date(2026, 5, 31, 2, 0, 0, 0, time.UTC), maker{ternPath, tern}},
	{"Orlop", "/media/tern/tern-2026-09-06.sealed", "/data/tern/backup.key", "8f0d5c6a1b3e4d2790c1f5a6b7e8d90314253647586970818293a4b5c6d7e8f9", time.Date(2026, 9, 6, 2, 0, 0, 0, time.UTC), maker{ternPath, tern}},
	{"Tarn", "/shots/gull/gull 2026-09-05.sealed", "/apps/gull/own.key", "0b1c2d3e4f5061728394a5b6c7d8e9fa", time.Date(2026, 9, 5, 3, 0, 0, 0, time.UTC), maker{gullPath, gull}},
}

// database is that of the app as it was then.
func (b ownBackup) database() ([]byte, error) {
	work, err := os.MkdirTemp("", "own-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(work)
	seed := orlopLibrary.seed
	if b.family == tarnLibrary.device[0] {
		seed = tarnLibrary.seed
	}
	return b.of.make(filepath.Join(work, "db"), b.at, rand.New(rand.NewPCG(seed, uint64(len(b.of.path)))), &Truth{Live: map[string]int{}})
}

// make gives the file.
func (b ownBackup) make() ([]byte, error) {
	db, err := b.database()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	w, err := z.CreateHeader(&zip.FileHeader{Name: path.Base(b.of.path), Method: zip.Deflate, Modified: b.at})
	if err == nil {
		_, err = w.Write(db)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil || b.key == "" {
		return out.Bytes(), err
	}
	key, err := hex.DecodeString(b.key)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	nonce := sha256.Sum256([]byte(b.path)) // the same whenever the demo is made
	head := append([]byte("SEALED1\n"), nonce[:gcm.NonceSize()]...)
	return gcm.Seal(head, nonce[:gcm.NonceSize()], out.Bytes(), nil), nil
}
