// Package ledger writes and checks custody ledgers: entries in canonical JSON
// (RFC 8785), one a line, each holding the SHA-256 of the line before it, with
// a Merkle tree over the lines (RFC 6962 section 2.1) whose root is signed
// with Ed25519 (RFC 8032).
//
// It has no clock and no storage: times come with the entries, and lines are
// given and returned as bytes.
package ledger

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"time"
)

// Entry is one line of a ledger.
type Entry struct {
	Book   string            `json:"book"`             // which ledger: a case reference, or "bench"
	Seq    int64             `json:"seq"`              // from 1, without a gap
	Prev   string            `json:"prev"`             // SHA-256 of the line before, hex; of nothing for the first: 64 zeros
	At     string            `json:"at"`               // RFC 3339, UTC, milliseconds
	By     string            `json:"by"`               // who did it
	What   string            `json:"what"`             // what was done: a word such as exhibit.registered
	On     string            `json:"on"`               // the thing it was done to
	Detail map[string]string `json:"detail,omitempty"` // what else must not change: digests, counts, reasons
}

// Genesis is the Prev of the first entry.
const Genesis = "0000000000000000000000000000000000000000000000000000000000000000"

// TimeFormat is the form of Entry.At and Head.At.
const TimeFormat = "2006-01-02T15:04:05.000Z"

// Line returns the canonical bytes of e, without a newline.
func (e *Entry) Line() ([]byte, error) {
	b, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	return Canonical(b)
}

// LineHash is the SHA-256 of a line's bytes, without its newline, in
// hexadecimal: the Prev of the entry that follows.
func LineHash(line []byte) string {
	sum := sha256.Sum256(line)
	return hex.EncodeToString(sum[:])
}

// Head says how far a ledger had come at a moment, and is signed.
type Head struct {
	Book string `json:"book"`
	Size int64  `json:"size"` // number of entries
	Last string `json:"last"` // LineHash of the last entry
	Root string `json:"root"` // RFC 6962 Merkle tree hash over all lines, hex
	At   string `json:"at"`
	Key  string `json:"key"` // Ed25519 public key, hex
	Sig  string `json:"sig"` // over the canonical form of this object without sig, hex
}

func (h Head) signed() ([]byte, error) {
	b, err := json.Marshal(map[string]any{
		"book": h.Book, "size": h.Size, "last": h.Last, "root": h.Root, "at": h.At, "key": h.Key,
	})
	if err != nil {
		return nil, err
	}
	return Canonical(b)
}

// Sign fills in h's Key and Sig.
func (h *Head) Sign(key ed25519.PrivateKey) error {
	h.Key = hex.EncodeToString(key.Public().(ed25519.PublicKey))
	msg, err := h.signed()
	if err != nil {
		return err
	}
	h.Sig = hex.EncodeToString(ed25519.Sign(key, msg))
	return nil
}

// VerifySignature checks h.Sig with h.Key.
func (h *Head) VerifySignature() error {
	key, err := hex.DecodeString(h.Key)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return fmt.Errorf("ledger head: public key %q is not %d bytes of hexadecimal", h.Key, ed25519.PublicKeySize)
	}
	sig, err := hex.DecodeString(h.Sig)
	if err != nil {
		return fmt.Errorf("ledger head: signature: %w", err)
	}
	if hex.EncodeToString(key) != h.Key || hex.EncodeToString(sig) != h.Sig {
		return errors.New("ledger head: key and signature are hexadecimal in lower case")
	}
	msg, err := h.signed()
	if err != nil {
		return err
	}
	if !ed25519.Verify(key, msg, sig) {
		return errors.New("ledger head: the Ed25519 signature does not hold")
	}
	return nil
}

// Tree computes a Merkle tree hash (RFC 6962 section 2.1) over leaves as they
// come, in memory that grows with the logarithm of their number.
type Tree struct {
	n     uint64
	stack [][sha256.Size]byte // roots of complete subtrees, largest first
}

// Add appends one leaf.
func (t *Tree) Add(leaf []byte) {
	h := sha256.Sum256(append([]byte{0}, leaf...))
	for range bits.TrailingZeros64(^t.n) { // one merge for each trailing 1
		h = node(t.stack[len(t.stack)-1], h)
		t.stack = t.stack[:len(t.stack)-1]
	}
	t.stack = append(t.stack, h)
	t.n++
}

// Root returns the tree hash of the leaves so far, in hexadecimal.
func (t *Tree) Root() string {
	if t.n == 0 {
		sum := sha256.Sum256(nil)
		return hex.EncodeToString(sum[:])
	}
	h := t.stack[len(t.stack)-1]
	for i := len(t.stack) - 2; i >= 0; i-- {
		h = node(t.stack[i], h)
	}
	return hex.EncodeToString(h[:])
}

func node(l, r [sha256.Size]byte) [sha256.Size]byte {
	var b [1 + 2*sha256.Size]byte
	b[0] = 1
	copy(b[1:], l[:])
	copy(b[1+sha256.Size:], r[:])
	return sha256.Sum256(b[:])
}

// Fault is one thing found wrong with a ledger.
type Fault struct {
	Line            int64 // from 1; 0 for the whole
	What            string
	Expected, Found string
}

func (f Fault) Error() string {
	s := "ledger: " + f.What
	if f.Line > 0 {
		s = fmt.Sprintf("ledger line %d: %s", f.Line, f.What)
	}
	if f.Expected != "" || f.Found != "" {
		s += fmt.Sprintf(": expected %s, found %s", f.Expected, f.Found)
	}
	return s
}

// Checker follows a ledger line by line and collects its faults.
type Checker struct {
	Book    string    // whose ledger it must be, "" for that of its first entry
	Now     time.Time // no entry may claim a time more than a minute later; zero: not checked
	Heads   []Head    // that were signed before, by size: the ledger must extend each
	Entries int64
	Last    string // LineHash of the last line
	Faults  []Fault
	tree    Tree
	book    string
	at      string
}

// maxFaults is how many faults are kept; one cut line makes all after it wrong.
const maxFaults = 20

// ahead is how far a clock may be behind that of who wrote an entry.
const ahead = time.Minute

func (c *Checker) fault(what, expected, found string) {
	if len(c.Faults) < maxFaults {
		c.Faults = append(c.Faults, Fault{c.Entries, what, expected, found})
	}
}

// Add checks the next line (without its newline) and returns its entry.
func (c *Checker) Add(line []byte) *Entry {
	if c.Entries == 0 {
		c.Last, c.book = Genesis, c.Book
	}
	c.Entries++
	c.tree.Add(line)
	want := c.Last
	c.Last = LineHash(line)
	defer c.extends()
	var e Entry
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	if err := d.Decode(&e); err != nil {
		c.fault("is not a ledger entry: "+err.Error(), "", "")
		return nil
	}
	if canon, err := Canonical(line); err != nil || !bytes.Equal(canon, line) {
		c.fault("is not in canonical form (RFC 8785)", "", "")
	}
	if e.Seq != c.Entries {
		c.fault("sequence number", fmt.Sprint(c.Entries), fmt.Sprint(e.Seq))
	}
	if e.Prev != want {
		c.fault("digest of the line before", want, e.Prev)
	}
	if c.book == "" {
		c.book = e.Book
	} else if e.Book != c.book {
		c.fault("book", c.book, e.Book)
	}
	switch at, err := time.Parse(TimeFormat, e.At); {
	case err != nil || at.Format(TimeFormat) != e.At:
		c.fault("time is not RFC 3339 in UTC with milliseconds", TimeFormat, e.At)
	case e.At < c.at:
		c.fault("time runs backwards", "not before "+c.at, e.At)
	case !c.Now.IsZero() && at.After(c.Now.Add(ahead)):
		c.fault("time lies ahead of the clock", "not after "+c.Now.UTC().Format(TimeFormat), e.At)
		c.at = e.At
	default:
		c.at = e.At
	}
	return &e
}

// extends compares what has been added with the heads of its size: two trees of which
// one is the other's beginning have the same root there (RFC 6962 section 2.1.2).
func (c *Checker) extends() {
	for len(c.Heads) > 0 && c.Heads[0].Size <= c.Entries {
		h := c.Heads[0]
		c.Heads = c.Heads[1:]
		if h.Size != c.Entries {
			c.fault("a signed head lies out of order", "", fmt.Sprint(h.Size))
			continue
		}
		if root := c.tree.Root(); root != h.Root || c.Last != h.Last {
			c.fault("the ledger does not extend the head that was signed on "+h.At, h.Root, root)
		}
	}
}

// End says which of the heads lie beyond the ledger's end: it was cut.
func (c *Checker) End() {
	for _, h := range c.Heads {
		c.fault("the ledger ends before the head that was signed on "+h.At, fmt.Sprint(h.Size)+" entries", fmt.Sprint(c.Entries))
	}
	c.Heads = nil
}

// Head returns the unsigned head of what has been added.
func (c *Checker) Head() Head {
	return Head{Book: c.book, Size: c.Entries, Last: c.Last, Root: c.tree.Root(), At: c.at}
}

// Against compares what has been added with a signed head.
func (c *Checker) Against(h *Head) {
	got := c.Head()
	c.Entries = 0 // what follows concerns the whole
	for _, p := range [][3]string{
		{"book in the signed head", h.Book, got.Book},
		{"entries in the signed head", fmt.Sprint(h.Size), fmt.Sprint(got.Size)},
		{"last digest in the signed head", h.Last, got.Last},
		{"tree root in the signed head", h.Root, got.Root},
	} {
		if p[1] != p[2] {
			c.fault(p[0], p[1], p[2])
		}
	}
	if err := h.VerifySignature(); err != nil {
		c.fault(err.Error(), "", "")
	}
	c.Entries = got.Size
}

// maxLine bounds the length of one entry.
const maxLine = 1 << 20

// Check reads a whole ledger, one entry a line, each ended by a line feed, and
// calls visit, if not nil, with each entry that could be read.
func (c *Checker) Check(r io.Reader, visit func(*Entry)) error {
	sc := bufio.NewScanner(r)
	sc.Buffer(nil, maxLine)
	ended := true
	sc.Split(func(data []byte, atEOF bool) (int, []byte, error) {
		if i := bytes.IndexByte(data, '\n'); i >= 0 {
			return i + 1, data[:i], nil
		}
		if atEOF && len(data) > 0 {
			ended = false
			return len(data), data, nil
		}
		return 0, nil, nil
	})
	for sc.Scan() {
		if e := c.Add(sc.Bytes()); e != nil && visit != nil {
			visit(e)
		}
	}
	if !ended {
		c.fault("does not end with a line feed", "", "")
	}
	if err := sc.Err(); err != nil {
		return fmt.Errorf("reading ledger line %d: %w", c.Entries+1, err)
	}
	c.End()
	return nil
}

// Line returns the canonical bytes of h, without a newline.
func (h *Head) Line() ([]byte, error) {
	b, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	return Canonical(b)
}

// ParseHead reads the canonical line of a signed head, without its newline, and
// checks its signature by the key that it names.
func ParseHead(line []byte) (*Head, error) {
	h := &Head{}
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	if err := d.Decode(h); err != nil {
		return nil, fmt.Errorf("ledger head: %w", err)
	}
	if canon, err := Canonical(line); err != nil || !bytes.Equal(canon, line) {
		return nil, errors.New("ledger head: is not in canonical form (RFC 8785)")
	}
	return h, h.VerifySignature()
}
