package backup

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/pbkdf2"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"
)

// Lock is how an encrypted backup is locked: its key, 32 random bytes, is
// wrapped (AES key wrap, RFC 3394) under a key that PBKDF2 with HMAC-SHA-256
// (RFC 8018 section 5.2) derives from the password.
type Lock struct {
	Salt    []byte `json:"salt"`
	Rounds  int    `json:"rounds"`
	Wrapped []byte `json:"wrapped"` // 40 bytes
}

// Key opens an encrypted backup. It is to be kept in memory only.
type Key struct{ aead cipher.AEAD }

// ErrPassword is returned for a password that does not open the backup.
var ErrPassword = errors.New("the password does not open this backup")

// maxRounds bounds the work that a label can ask for.
const maxRounds = 10_000_000

// Unlock tries a password.
func (l *Lock) Unlock(password string) (*Key, error) {
	if l == nil {
		return nil, errors.New("the backup's label says that it is encrypted, and not how")
	}
	if l.Rounds < 1 || l.Rounds > maxRounds {
		return nil, fmt.Errorf("the backup's label asks for %d rounds of key derivation", l.Rounds)
	}
	kek, err := pbkdf2.Key(sha256.New, password, l.Salt, l.Rounds, 32)
	if err != nil {
		return nil, fmt.Errorf("deriving the backup's key: %w", err)
	}
	key, err := Unwrap(kek, l.Wrapped)
	if err != nil {
		return nil, err
	}
	return NewKey(key)
}

// NewKey makes a Key of 32 bytes.
func NewKey(key []byte) (*Key, error) {
	b, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(b)
	return &Key{aead}, err
}

// defaultIV is the initial value of RFC 3394 section 2.2.3.1.
var defaultIV = [8]byte{0xa6, 0xa6, 0xa6, 0xa6, 0xa6, 0xa6, 0xa6, 0xa6}

// Unwrap unwraps a key (RFC 3394 section 2.2.2). It fails with ErrPassword if
// the integrity check does.
func Unwrap(kek, wrapped []byte) ([]byte, error) {
	if len(wrapped) < 24 || len(wrapped)%8 != 0 {
		return nil, fmt.Errorf("a wrapped key has a multiple of 8 bytes, 24 at least, this has %d", len(wrapped))
	}
	b, err := aes.NewCipher(kek)
	if err != nil {
		return nil, err
	}
	n := len(wrapped)/8 - 1
	r := bytes.Clone(wrapped)
	var block [16]byte
	copy(block[:8], r[:8])
	for j := 5; j >= 0; j-- {
		for i := n; i >= 1; i-- {
			t := binary.BigEndian.Uint64(block[:8]) ^ uint64(n*j+i)
			binary.BigEndian.PutUint64(block[:8], t)
			copy(block[8:], r[8*i:])
			b.Decrypt(block[:], block[:])
			copy(r[8*i:], block[8:])
		}
	}
	if subtle.ConstantTimeCompare(block[:8], defaultIV[:]) != 1 {
		return nil, ErrPassword
	}
	return r[8:], nil
}

// Wrap wraps a key (RFC 3394 section 2.2.1).
func Wrap(kek, key []byte) ([]byte, error) {
	if len(key) < 16 || len(key)%8 != 0 {
		return nil, fmt.Errorf("a key to wrap has a multiple of 8 bytes, 16 at least, this has %d", len(key))
	}
	b, err := aes.NewCipher(kek)
	if err != nil {
		return nil, err
	}
	n := len(key) / 8
	r := append(bytes.Clone(defaultIV[:]), key...)
	var block [16]byte
	copy(block[:8], r[:8])
	for j := range 6 {
		for i := 1; i <= n; i++ {
			copy(block[8:], r[8*i:])
			b.Encrypt(block[:], block[:])
			t := binary.BigEndian.Uint64(block[:8]) ^ uint64(n*j+i)
			binary.BigEndian.PutUint64(block[:8], t)
			copy(r[8*i:], block[8:])
		}
	}
	copy(r, block[:8])
	return r, nil
}

// Encrypted files are a nonce of 7 random bytes, then the content in chunks,
// each sealed with AES-256-GCM (NIST SP 800-38D) under the nonce, the chunk's
// number in 4 bytes, and a byte that is 1 for the last chunk; so a file that
// was cut off or put together from others does not open.
const (
	plainChunk  = 64 << 10
	sealedChunk = plainChunk + 16
	noncePrefix = 7
)

func nonce(prefix []byte, n uint32, last bool) []byte {
	out := binary.BigEndian.AppendUint32(bytes.Clone(prefix), n)
	if last {
		return append(out, 1)
	}
	return append(out, 0)
}

// Seal encrypts content; nonce is 7 bytes that are used once with a key.
func (k *Key) Seal(w io.Writer, content, once []byte) error {
	if len(once) != noncePrefix {
		return fmt.Errorf("a nonce of %d bytes", len(once))
	}
	if _, err := w.Write(once); err != nil {
		return err
	}
	for n := uint32(0); ; n++ {
		c := content[:min(plainChunk, len(content))]
		content = content[len(c):]
		if _, err := w.Write(k.aead.Seal(nil, nonce(once, n, len(content) == 0), c, nil)); err != nil {
			return err
		}
		if len(content) == 0 {
			return nil
		}
	}
}

// Decrypt returns a reader of the content of the encrypted file r, in memory
// of two chunks. What does not open is an error, and nothing of it is given.
func (k *Key) Decrypt(r io.Reader) io.Reader {
	return &decrypter{k: k, r: r}
}

type decrypter struct {
	k      *Key
	r      io.Reader
	prefix []byte
	ahead  []byte // the next sealed chunk
	plain  []byte // not yet given
	n      uint32
	err    error
}

func (d *decrypter) Read(p []byte) (int, error) {
	for len(d.plain) == 0 && d.err == nil {
		d.err = d.next()
	}
	n := copy(p, d.plain)
	d.plain = d.plain[n:]
	if n > 0 || len(p) == 0 {
		return n, nil
	}
	return 0, d.err
}

func (d *decrypter) next() error {
	if d.prefix == nil {
		d.prefix = make([]byte, noncePrefix)
		if _, err := io.ReadFull(d.r, d.prefix); err != nil {
			return fmt.Errorf("an encrypted file begins with %d bytes of nonce: %w", noncePrefix, err)
		}
		if err := d.fill(); err != nil {
			return err
		}
	}
	if d.ahead == nil {
		return io.EOF
	}
	sealed := d.ahead
	if err := d.fill(); err != nil {
		return err
	}
	plain, err := d.k.aead.Open(nil, nonce(d.prefix, d.n, d.ahead == nil), sealed, nil)
	if err != nil {
		return errChunk(int64(d.n))
	}
	d.plain = plain
	d.n++
	return nil
}

// fill reads the next sealed chunk ahead; nil if there is none.
func (d *decrypter) fill() error {
	b := make([]byte, sealedChunk)
	n, err := io.ReadFull(d.r, b)
	d.ahead = b[:n]
	if n == 0 {
		d.ahead = nil
	}
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		return nil
	}
	return err
}

// ReaderAt returns a reader at any place of the content of the encrypted file
// of size bytes in r, and the content's size. It opens a chunk at a time. A file
// that was cut off is not whole, and gives what lies before the cut.
func (k *Key) ReaderAt(r io.ReaderAt, size int64) (content io.ReaderAt, length int64, whole bool, err error) {
	d := &decrypterAt{k: k, r: r, size: size, prefix: make([]byte, noncePrefix), chunk: -1}
	if _, err := r.ReadAt(d.prefix, 0); err != nil {
		return nil, 0, false, fmt.Errorf("an encrypted file begins with %d bytes of nonce: %w", noncePrefix, err)
	}
	d.last = max(0, (size-noncePrefix+sealedChunk-1)/sealedChunk-1)
	if d.open(d.last) == nil { // it says of itself that it is the last
		return d, max(0, plainSize(size)), true, nil
	}
	return d, d.last * plainChunk, false, d.open(0)
}

type decrypterAt struct {
	k           *Key
	r           io.ReaderAt
	size        int64
	prefix      []byte
	last        int64 // number of the last chunk
	mu          sync.Mutex
	chunk       int64  // which is open
	plain, room []byte // its content
}

// open opens a chunk, if it is not the one that is open.
func (d *decrypterAt) open(n int64) error {
	if n == d.chunk {
		return nil
	}
	from := noncePrefix + n*sealedChunk
	if d.room == nil {
		d.room = make([]byte, sealedChunk)
	}
	sealed := d.room[:max(0, min(sealedChunk, d.size-from))]
	d.chunk = -1
	if _, err := d.r.ReadAt(sealed, from); err != nil && err != io.EOF {
		return err
	}
	plain, err := d.k.aead.Open(d.plain[:0], nonce(d.prefix, uint32(n), n == d.last), sealed, nil)
	if err != nil {
		return errChunk(n)
	}
	d.plain, d.chunk = plain, n
	return nil
}

func errChunk(n int64) error {
	return fmt.Errorf("chunk %d of the encrypted file does not open: it was changed, cut off, or belongs to another backup", n+1)
}

// ReadAt reads at an offset of the content.
func (d *decrypterAt) ReadAt(p []byte, off int64) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	done := 0
	for done < len(p) {
		n, within := (off+int64(done))/plainChunk, (off+int64(done))%plainChunk
		if n > d.last {
			return done, io.EOF
		}
		if err := d.open(n); err != nil {
			return done, err
		}
		if within >= int64(len(d.plain)) {
			return done, io.EOF
		}
		done += copy(p[done:], d.plain[within:])
	}
	return done, nil
}

// plainSize is the size of the content of an encrypted file of the given size.
func plainSize(sealed int64) int64 {
	sealed -= noncePrefix
	return sealed - 16*((sealed+sealedChunk-1)/sealedChunk)
}
