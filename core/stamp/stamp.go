// Package stamp reads time stamps by RFC 3161: an authority's signed word that something was there at an instant.
package stamp

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/digitorus/pkcs7"
	"github.com/digitorus/timestamp"
)

// MaxSize bounds a response, in bytes.
const MaxSize = 32 << 10

// Errors of what is no time stamp, or is of something else.
var (
	ErrFormat    = errors.New("stamp: not a time stamp")
	ErrOther     = errors.New("stamp: the time stamp is of something else")
	ErrAuthority = errors.New("stamp: not by an authority for time stamps")
)

// Stamp is what an authority says: that it saw the digest of something at an instant.
type Stamp struct {
	At          time.Time
	Digest      []byte            // SHA-256 of what it is of
	Serial      *big.Int          // by which the authority knows it
	Nonce       *big.Int          // of the request, nil if it had none
	Certificate *x509.Certificate // of the key that signed it
	Token       []byte            // the CMS structure (RFC 5652) of it, DER
	others      []*x509.Certificate
}

// Request asks for a time stamp of a message, with the certificate of who gives it: a TimeStampReq, DER (section 2.4.1).
func Request(message []byte) (request []byte, nonce *big.Int, err error) {
	if nonce, err = rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 63)); err != nil {
		return nil, nil, err
	}
	request, err = timestamp.CreateRequest(bytes.NewReader(message), &timestamp.RequestOptions{Hash: crypto.SHA256, Certificates: true, Nonce: nonce})
	return request, nonce, err
}

// Parse reads a TimeStampResp, DER (section 2.4.2), and checks its signature by the certificate that it carries, which must be
// for time stamps alone (section 2.3). Whether that certificate is trusted is for [Stamp.Trust].
func Parse(response []byte) (*Stamp, error) {
	if len(response) > MaxSize {
		return nil, fmt.Errorf("%w: %d bytes, and %d are the most", ErrFormat, len(response), MaxSize)
	}
	if rest, ok := der(response, maxDepth); !ok || len(rest) > 0 {
		return nil, fmt.Errorf("%w: not in DER", ErrFormat)
	}
	t, err := timestamp.ParseResponse(response)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	p, err := pkcs7.Parse(t.RawToken)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	c := p.GetOnlySigner() // of a structure without a certificate nothing was checked
	if c == nil || !slices.Equal(c.ExtKeyUsage, []x509.ExtKeyUsage{x509.ExtKeyUsageTimeStamping}) || len(c.UnknownExtKeyUsage) > 0 {
		return nil, ErrAuthority
	}
	if t.HashAlgorithm != crypto.SHA256 {
		return nil, fmt.Errorf("%w: its digest is not SHA-256", ErrFormat)
	}
	return &Stamp{At: t.Time.UTC(), Digest: t.HashedMessage, Serial: t.SerialNumber, Nonce: t.Nonce, Certificate: c, Token: t.RawToken, others: t.Certificates}, nil
}

// maxDepth bounds how deep values lie within others.
const maxDepth = 32

// der reports whether b begins with a value in DER (X.690), whose length and those of the values within it are what is there,
// and gives what follows. The reader of the signed structure takes lengths at their word.
func der(b []byte, depth int) (rest []byte, ok bool) {
	if depth == 0 || len(b) < 2 || b[0]&0x1f == 0x1f {
		return nil, false
	}
	constructed, n, head := b[0]&0x20 != 0, int(b[1]), 2
	if n >= 0x80 {
		k := n - 0x80
		if k < 1 || k > 3 || len(b) < 2+k || b[2] == 0 {
			return nil, false
		}
		n, head = 0, 2+k
		for _, x := range b[2:head] {
			n = n<<8 | int(x)
		}
		if n < 0x80 {
			return nil, false
		}
	}
	if n > len(b)-head {
		return nil, false
	}
	within, rest := b[head:head+n], b[head+n:]
	for constructed && len(within) > 0 {
		if within, ok = der(within, depth-1); !ok {
			return nil, false
		}
	}
	return rest, true
}

// Of reports whether it is a stamp of a message: [ErrOther] if not.
func (s *Stamp) Of(message []byte) error {
	if sum := sha256.Sum256(message); !bytes.Equal(sum[:], s.Digest) {
		return fmt.Errorf("%w: its SHA-256 is %x, and the message's is %x", ErrOther, s.Digest, sum)
	}
	return nil
}

// Trust reports whether the certificate leads to one of the roots, and was valid at the instant of the stamp: [ErrAuthority]
// if not.
func (s *Stamp) Trust(roots *x509.CertPool) error {
	between := x509.NewCertPool()
	for _, c := range s.others {
		between.AddCert(c)
	}
	_, err := s.Certificate.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, CurrentTime: s.At, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageTimeStamping}})
	if err != nil {
		return fmt.Errorf("%w that is trusted: %v", ErrAuthority, err)
	}
	return nil
}

// Authority names who gave it.
func (s *Stamp) Authority() string {
	n := s.Certificate.Subject
	return strings.Join(append(slices.DeleteFunc([]string{n.CommonName}, func(s string) bool { return s == "" }), n.Organization...), ", ")
}
