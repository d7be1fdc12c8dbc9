package casefile

import (
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"time"

	"crosswind/core/ledger"
	"crosswind/core/stamp"
)

// StampPath is the path of the time stamp of a head that was signed before, by its line with its line feed.
func StampPath(line []byte) string { return fmt.Sprintf("%s%x.tsr", StampsDir, sha256.Sum256(line)) }

// stamp checks the time stamp of a head, whose line with its line feed is given, if the package has one.
func (c *checker) stamp(path string, line []byte, h *ledger.Head) *stamp.Stamp {
	if _, there := c.sums[path]; !there {
		return nil
	}
	b, err := c.read(path)
	if err != nil {
		c.fault(path, "cannot be read: "+err.Error(), "", "")
		return nil
	}
	s, err := stamp.Parse(b)
	if err == nil {
		err = s.Of(line)
	}
	if err == nil {
		err = c.trusted(s)
	}
	if err != nil {
		c.fault(path, err.Error(), "", "")
		return nil
	}
	signed, err := time.Parse(ledger.TimeFormat, h.At)
	if err == nil && s.At.Before(signed.Add(-skew)) {
		c.fault(path, "is of a time before the head was signed", "after "+h.At, s.At.Format(time.RFC3339))
	}
	if !c.o.Now.IsZero() && s.At.After(c.o.Now.Add(skew)) {
		c.fault(path, "is of a time that is yet to come", "before "+c.o.Now.UTC().Format(time.RFC3339), s.At.Format(time.RFC3339))
	}
	return s
}

// skew is how far the clocks of the authority and of who signed may be apart.
const skew = 10 * time.Minute

// trusted checks who gave a stamp: by the roots that the checker was given, or those of the package.
func (c *checker) trusted(s *stamp.Stamp) error {
	roots := c.o.Authorities
	if roots == nil {
		if _, there := c.sums[TrustedName]; !there {
			return nil // its certificate is shown, to be compared
		}
		b, err := c.read(TrustedName)
		if err != nil {
			return err
		}
		roots = x509.NewCertPool()
		if !roots.AppendCertsFromPEM(b) {
			return fmt.Errorf("%s holds no certificate", TrustedName)
		}
	}
	return s.Trust(roots)
}
