package backup

import (
	"bytes"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"hash"
	"io"
	"os/exec"
	"strings"
	"testing"
)

func unhex(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// RFC 3394 sections 4.1, 4.3, 4.5 and 4.6.
func TestKeyWrapVectors(t *testing.T) {
	for _, v := range [][3]string{
		{"000102030405060708090A0B0C0D0E0F", "00112233445566778899AABBCCDDEEFF", "1FA68B0A8112B447 AEF34BD8FB5A7B82 9D3E862371D2CFE5"},
		{"000102030405060708090A0B0C0D0E0F101112131415161718191A1B1C1D1E1F", "00112233445566778899AABBCCDDEEFF", "64E8C3F9CE0F5BA2 63E9777905818A2A 93C8191E7D6E8AE7"},
		{"000102030405060708090A0B0C0D0E0F101112131415161718191A1B1C1D1E1F", "00112233445566778899AABBCCDDEEFF0001020304050607", "A8F9BC1612C68B3F F6E6F4FBE30E71E4 769C8B80A32CB895 8CD5D17D6B254DA1"},
		{"000102030405060708090A0B0C0D0E0F101112131415161718191A1B1C1D1E1F", "00112233445566778899AABBCCDDEEFF000102030405060708090A0B0C0D0E0F", "28C9F404C4B810F4 CBCCB35CFB87F826 3F5786E2D80ED326 CBC7F0E71A99F43B FB988B9B7A02DD21"},
	} {
		kek, key, want := unhex(t, v[0]), unhex(t, v[1]), unhex(t, v[2])
		got, err := Wrap(kek, key)
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("wrap: %x, %v; want %x", got, err, want)
		}
		back, err := Unwrap(kek, want)
		if err != nil || !bytes.Equal(back, key) {
			t.Errorf("unwrap: %x, %v", back, err)
		}
		want[9] ^= 1
		if _, err := Unwrap(kek, want); !errors.Is(err, ErrPassword) {
			t.Errorf("a changed byte: %v", err)
		}
	}
}

// RFC 6070 section 2 (HMAC-SHA-1) and RFC 7914 section 11 (HMAC-SHA-256), values
// from memory, on the derivation that Unlock uses; and openssl on the same bytes.
func TestKeyDerivationVectors(t *testing.T) {
	for _, v := range []struct {
		h              func() hash.Hash
		password, salt string
		rounds, length int
		want           string
	}{
		{sha1.New, "password", "salt", 4096, 20, "4b007901b765489abead49d926f721d065a429c1"},
		{sha256.New, "passwd", "salt", 1, 64, "55ac046e56e3089fec1691c22544b605f94185216dde0465e68b9d57c20dacbc49ca9cccf179b645991664b39d77ef317c71b845b1e30bd509112041d3a19783"},
	} {
		got, err := pbkdf2.Key(v.h, v.password, []byte(v.salt), v.rounds, v.length)
		if err != nil || hex.EncodeToString(got) != v.want {
			t.Errorf("%s: %x, %v", v.password, got, err)
		}
	}
	out, err := exec.Command("openssl", "kdf", "-keylen", "32", "-kdfopt", "digest:SHA256", "-kdfopt", "pass:anchor", "-kdfopt", "hexsalt:00010203", "-kdfopt", "iter:1000", "-binary", "PBKDF2").Output()
	if err != nil {
		t.Fatal(err)
	}
	wrapped, err := Wrap(out, bytes.Repeat([]byte{9}, 32))
	if err != nil {
		t.Fatal(err)
	}
	l := &Lock{Salt: []byte{0, 1, 2, 3}, Rounds: 1000, Wrapped: wrapped}
	if _, err := l.Unlock("anchor"); err != nil {
		t.Error(err)
	}
	if _, err := l.Unlock("Anchor"); !errors.Is(err, ErrPassword) {
		t.Error(err)
	}
	for _, bad := range []*Lock{nil, {Rounds: 0, Wrapped: wrapped}, {Rounds: 1 << 40, Wrapped: wrapped}, {Rounds: 1, Wrapped: wrapped[:7]}} {
		if _, err := bad.Unlock("anchor"); err == nil || errors.Is(err, ErrPassword) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}

func TestSealedFiles(t *testing.T) {
	k, err := NewKey(bytes.Repeat([]byte{9}, 32))
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range []int{0, 1, plainChunk - 1, plainChunk, plainChunk + 1, 3*plainChunk + 77} {
		content := bytes.Repeat([]byte("0123456789"), n/10+1)[:n]
		var b bytes.Buffer
		if err := k.Seal(&b, content, []byte("seven b")); err != nil {
			t.Fatal(err)
		}
		sealed := b.Bytes()
		got, err := io.ReadAll(k.Decrypt(bytes.NewReader(sealed)))
		if err != nil || !bytes.Equal(got, content) || plainSize(int64(len(sealed))) != int64(n) {
			t.Errorf("%d bytes: %d back, %v, size %d", n, len(got), err, plainSize(int64(len(sealed))))
		}
		for name, broken := range map[string][]byte{"cut": sealed[:len(sealed)-1], "longer": append(bytes.Clone(sealed), 0), "changed": func() []byte { c := bytes.Clone(sealed); c[len(c)-1] ^= 1; return c }(), "no nonce": sealed[:3],
			"chunk dropped": append(bytes.Clone(sealed[:noncePrefix]), sealed[min(len(sealed), noncePrefix+sealedChunk):]...)} {
			if len(broken) == len(sealed) && name != "changed" || name == "chunk dropped" && n <= plainChunk {
				continue
			}
			if got, err := io.ReadAll(k.Decrypt(bytes.NewReader(broken))); err == nil {
				t.Errorf("%d bytes, %s: %d bytes came out", n, name, len(got))
			}
		}
	}
}

func TestEncryptedBackup(t *testing.T) {
	k, _ := NewKey(bytes.Repeat([]byte{9}, 32))
	f := folder(catalogue(t, good))
	var l Label
	if err := json.Unmarshal([]byte(label), &l); err != nil {
		t.Fatal(err)
	}
	l.Encrypted = true
	f[LabelName].Data, _ = json.Marshal(l)
	for name, file := range f {
		if name != LabelName {
			var b bytes.Buffer
			if err := k.Seal(&b, file.Data, []byte(name + "-------")[:7]); err != nil {
				t.Fatal(err)
			}
			file.Data = b.Bytes()
		}
	}
	b, err := Open(f, ".", k)
	if err != nil || !b.Whole() || len(b.Files) != 3 || b.Files[0].Size != 3 {
		t.Errorf("%+v, %v", b, err)
	}
	other, _ := NewKey(bytes.Repeat([]byte{8}, 32))
	if _, err := Open(f, ".", other); err == nil || !strings.Contains(err.Error(), "does not open") {
		t.Error(err)
	}
	if _, err := Open(f, ".", nil); !errors.Is(err, ErrEncrypted) {
		t.Error(err)
	}
	if _, err := Open(folder(catalogue(t, good)), ".", k); err == nil {
		t.Error("a plain backup was opened with a key")
	}
}
