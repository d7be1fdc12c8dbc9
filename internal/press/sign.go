package press

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"crosswind/core/stamp"

	"github.com/digitorus/pkcs7"
)

// Signer signs PDFs, with a certificate that the installation's own key has issued.
type Signer struct {
	cert, root *x509.Certificate
	key        crypto.Signer
	// Stamper gives signatures the time, nil for none.
	Stamper interface {
		Stamp(ctx context.Context, message []byte) (*stamp.Stamp, []byte, error)
	}
}

// Certificate is the certificate of the key that signs.
func (s *Signer) Certificate() *x509.Certificate { return s.cert }

// OpenSigner opens the key that signs PDFs, in a PEM file, and makes it if it is not there yet: ECDSA P-256, since readers of
// PDF know no Ed25519. Its certificate is issued by root, which signs the ledgers.
func OpenSigner(path string, root ed25519.PrivateKey) (*Signer, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		b, err = makeSigner(path, root)
	}
	if err != nil {
		return nil, fmt.Errorf("the key that signs PDFs: %w", err)
	}
	s := &Signer{}
	for block, rest := pem.Decode(b); block != nil && err == nil; block, rest = pem.Decode(rest) {
		if block.Type == "PRIVATE KEY" {
			var k any
			k, err = x509.ParsePKCS8PrivateKey(block.Bytes)
			s.key, _ = k.(*ecdsa.PrivateKey)
			continue
		}
		var c *x509.Certificate
		if c, err = x509.ParseCertificate(block.Bytes); err == nil {
			if c.IsCA {
				s.root = c
			} else {
				s.cert = c
			}
		}
	}
	if err == nil && (s.key == nil || s.cert == nil || s.root == nil) {
		err = errors.New("it is not a key with its certificates")
	}
	if err == nil {
		err = s.cert.CheckSignatureFrom(s.root)
	}
	if err == nil && !root.Public().(ed25519.PublicKey).Equal(s.root.PublicKey) {
		err = errors.New("its certificate was issued by another key than the one that signs the ledgers")
	}
	if err != nil {
		return nil, fmt.Errorf("the key that signs PDFs, %s: %w", path, err)
	}
	return s, nil
}

func makeSigner(path string, root ed25519.PrivateKey) ([]byte, error) {
	serial := func() *big.Int {
		n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
		if err != nil {
			panic(err) // crypto/rand does not fail
		}
		return n
	}
	from := time.Now().Add(-time.Hour).Truncate(time.Second)
	fingerprint := fmt.Sprintf("%x", root.Public().(ed25519.PublicKey))
	ca := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Crosswind, key " + fingerprint}, NotBefore: from, NotAfter: from.AddDate(25, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	leaf := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Crosswind, signing of reports"}, NotBefore: from, NotAfter: from.AddDate(25, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageContentCommitment,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageEmailProtection}} // which readers of PDF ask for
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	rootDER, err := x509.CreateCertificate(rand.Reader, ca, ca, root.Public(), root)
	if err != nil {
		return nil, err
	}
	leafDER, err := x509.CreateCertificate(rand.Reader, leaf, ca, key.Public(), root)
	if err != nil {
		return nil, err
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	var b []byte
	for _, x := range []struct {
		kind string
		der  []byte
	}{{"PRIVATE KEY", keyDER}, {"CERTIFICATE", leafDER}, {"CERTIFICATE", rootDER}} {
		b = append(b, pem.EncodeToMemory(&pem.Block{Type: x.kind, Bytes: x.der})...)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) { // another process was first
		return os.ReadFile(path)
	}
	if err != nil {
		return nil, err
	}
	_, err = f.Write(b)
	return b, errors.Join(err, f.Sync(), f.Close())
}

// room is for the signature, in hexadecimal digits.
const room = 24 << 10

// Sign adds a signature to a PDF that was set, as an update to it that leaves its bytes as they are (ISO 32000-1, sections
// 7.5.6 and 12.8; CMS, RFC 5652). unstamped says why the signature has no time stamp, nil if it has one.
func (s *Signer) Sign(ctx context.Context, pdf []byte, name, reason string, at time.Time) (signed []byte, unstamped, err error) {
	u, err := update(pdf)
	if err != nil {
		return nil, nil, fmt.Errorf("signing the PDF: %w", err)
	}
	field, value := u.size, u.size+1
	u.put(u.root, strings.Replace(u.object(u.root), "/Type /Catalog", fmt.Sprintf("/Type /Catalog\n  /AcroForm << /Fields [%d 0 R] /SigFlags 3 >>", field), 1))
	page, err := u.firstPage()
	if err != nil {
		return nil, nil, fmt.Errorf("signing the PDF: %w", err)
	}
	body := u.object(page)
	if strings.Contains(body, "/Annots [") {
		body = strings.Replace(body, "/Annots [", fmt.Sprintf("/Annots [%d 0 R ", field), 1)
	} else {
		body = strings.Replace(body, "/Type /Page\n", fmt.Sprintf("/Type /Page\n  /Annots [%d 0 R]\n", field), 1)
	}
	u.put(page, body)
	u.put(field, fmt.Sprintf("<< /Type /Annot /Subtype /Widget /FT /Sig /T (Signature) /V %d 0 R /F 132 /Rect [0 0 0 0] /P %d 0 R >>", value, page))
	const placeholder = "[0 0000000000 0000000000 0000000000]"
	u.put(value, fmt.Sprintf("<< /Type /Sig /Filter /Crosswind /SubFilter /ETSI.CAdES.detached /ByteRange %s /Contents <%s> /M (D:%s) /Name %s /Reason %s >>",
		placeholder, strings.Repeat("0", room), at.UTC().Format("20060102150405Z"), textString(name), textString(reason)))
	out := u.end()
	from := bytes.LastIndex(out, []byte("/Contents <")) + len("/Contents ")
	to := from + room + 2
	ranges := fmt.Sprintf("[0 %010d %010d %010d]", from, to, len(out)-to)
	at0 := bytes.LastIndex(out, []byte(placeholder))
	copy(out[at0:], ranges)
	cms, unstamped, err := s.cms(ctx, append(bytes.Clone(out[:from]), out[to:]...))
	if err == nil && 2*len(cms) > room {
		err = fmt.Errorf("the signature has %d bytes, and there is room for %d", len(cms), room/2)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("signing the PDF: %w", err)
	}
	hex.Encode(out[from+1:], cms)
	return out, unstamped, nil
}

// textString is a text of a PDF (ISO 32000-1, section 7.9.2.2), in UTF-16 as hexadecimal digits.
func textString(s string) string {
	var b strings.Builder
	b.WriteString("<FEFF")
	for _, u := range utf16.Encode([]rune(s)) {
		fmt.Fprintf(&b, "%04X", u)
	}
	return b.String() + ">"
}

// Object identifiers of attributes: signing-certificate-v2 (RFC 5035), time stamp of a signature (RFC 3161, appendix A).
var (
	oidCertificate = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 2, 47}
	oidStamp       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 2, 14}
)

// cms signs what is signed of a PDF, and has the signature stamped.
func (s *Signer) cms(ctx context.Context, content []byte) (signature []byte, unstamped, err error) {
	d, err := pkcs7.NewSignedData(content)
	if err != nil {
		return nil, nil, err
	}
	d.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	sum := sha256.Sum256(s.cert.Raw)
	type certID struct{ Hash []byte } // ESSCertIDv2, whose digest is SHA-256 if none is named
	which := struct{ Certs []certID }{[]certID{{sum[:]}}}
	config := pkcs7.SignerInfoConfig{ExtraSignedAttributes: []pkcs7.Attribute{{Type: oidCertificate, Value: which}}}
	if err := d.AddSignerChain(s.cert, s.key, []*x509.Certificate{s.root}, config); err != nil {
		return nil, nil, err
	}
	d.Detach()
	unstamped = errors.New("no time stamp authority is set up")
	if s.Stamper != nil {
		one := &d.GetSignedData().SignerInfos[0]
		var stamped *stamp.Stamp
		if stamped, _, unstamped = s.Stamper.Stamp(ctx, one.EncryptedDigest); unstamped != nil {
			b, err := d.Finish()
			return b, unstamped, err
		}
		if err := one.SetUnauthenticatedAttributes([]pkcs7.Attribute{{Type: oidStamp, Value: asn1.RawValue{FullBytes: stamped.Token}}}); err != nil {
			return nil, nil, err
		}
	}
	b, err := d.Finish()
	return b, unstamped, err
}

// updated is a PDF with one table of references, as the typesetter writes it, to which objects are added.
type updated struct {
	out     bytes.Buffer
	was     []byte
	offsets []int // by object, 0 if it is free
	size    int   // the number of the next object
	root    int
	last    int // where the table was
	trailer string
	added   map[int]int // offsets of what was put
	order   []int
}

var (
	startXref = regexp.MustCompile(`startxref\s+(\d+)\s+%%EOF\s*$`)
	rootRef   = regexp.MustCompile(`/Root (\d+) 0 R`)
	sizeOf    = regexp.MustCompile(`/Size (\d+)`)
	kidRef    = regexp.MustCompile(`/Kids \[\s*(\d+) 0 R`)
	pagesRef  = regexp.MustCompile(`/Pages (\d+) 0 R`)
	isPage    = regexp.MustCompile(`/Type /Page\s`)
)

// errShape is of a PDF that is not as the typesetter writes them.
var errShape = errors.New("its table of references is not as it is expected")

func update(pdf []byte) (*updated, error) {
	u := &updated{was: pdf, added: map[int]int{}}
	m := startXref.FindSubmatch(pdf[max(0, len(pdf)-64):])
	if m == nil {
		return nil, errShape
	}
	u.last, _ = strconv.Atoi(string(m[1]))
	if u.last >= len(pdf) || !bytes.HasPrefix(pdf[u.last:], []byte("xref\n0 ")) {
		return nil, errShape
	}
	table, trailer, ok := strings.Cut(string(pdf[u.last:]), "trailer")
	if !ok {
		return nil, errShape
	}
	u.trailer, _, _ = strings.Cut(trailer, "startxref")
	for _, l := range strings.Split(table, "\n")[2:] {
		f := strings.Fields(l)
		if len(f) != 3 {
			continue
		}
		n, err := strconv.Atoi(f[0])
		if err != nil || n < 0 || n >= len(pdf) {
			return nil, errShape
		}
		if f[2] != "n" {
			n = 0
		}
		u.offsets = append(u.offsets, n)
	}
	root, size := rootRef.FindStringSubmatch(u.trailer), sizeOf.FindStringSubmatch(u.trailer)
	if root == nil || size == nil {
		return nil, errShape
	}
	u.root, _ = strconv.Atoi(root[1])
	u.size, _ = strconv.Atoi(size[1])
	if u.size != len(u.offsets) || !strings.Contains(u.object(u.root), "/Type /Catalog") {
		return nil, errShape
	}
	u.out.Write(pdf)
	if !bytes.HasSuffix(pdf, []byte("\n")) {
		u.out.WriteByte('\n')
	}
	return u, nil
}

// object is the value of an object, as it was.
func (u *updated) object(n int) string {
	if n <= 0 || n >= len(u.offsets) {
		return ""
	}
	b := u.was[u.offsets[n]:]
	head := []byte(fmt.Sprintf("%d 0 obj\n", n))
	end := bytes.Index(b, []byte("\nendobj"))
	if !bytes.HasPrefix(b, head) || end < len(head) {
		return ""
	}
	return string(b[len(head):end])
}

// firstPage is the number of the object of the first page.
func (u *updated) firstPage() (int, error) {
	m := pagesRef.FindStringSubmatch(u.object(u.root))
	for range 32 { // levels of the tree of pages
		if m == nil {
			break
		}
		n, _ := strconv.Atoi(m[1])
		o := u.object(n)
		if isPage.MatchString(o) {
			return n, nil
		}
		m = kidRef.FindStringSubmatch(o)
	}
	return 0, errShape
}

// put writes an object anew.
func (u *updated) put(n int, value string) {
	u.added[n] = u.out.Len()
	u.order = append(u.order, n)
	fmt.Fprintf(&u.out, "%d 0 obj\n%s\nendobj\n", n, value)
}

// end writes the table of what was put, and the trailer.
func (u *updated) end() []byte {
	at := u.out.Len()
	u.out.WriteString("xref\n")
	for _, n := range u.order {
		fmt.Fprintf(&u.out, "%d 1\n%010d 00000 n \n", n, u.added[n])
	}
	size := u.size
	for _, n := range u.order {
		size = max(size, n+1)
	}
	trailer := sizeOf.ReplaceAllString(strings.TrimSpace(u.trailer), fmt.Sprintf("/Size %d\n  /Prev %d", size, u.last))
	fmt.Fprintf(&u.out, "trailer\n%s\nstartxref\n%d\n%%%%EOF\n", trailer, at)
	return u.out.Bytes()
}
