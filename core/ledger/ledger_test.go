package ledger

import (
	"bytes"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
)

// RFC 8785 section 3.2.2 (the whole example) and 3.2.3 (sorting).
func TestCanonicalRFC8785(t *testing.T) {
	in := `{
  "numbers": [333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001],
  "string": "\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/",
  "literals": [null, true, false]
}`
	want := `{"literals":[null,true,false],"numbers":[333333333.3333333,1e+30,4.5,0.002,1e-27],"string":"€$\u000f\nA'B\"\\\\\"/"}`
	if got, err := Canonical([]byte(in)); err != nil || string(got) != want {
		t.Errorf("got  %s %v\nwant %s", got, err, want)
	}
	in = `{"\u20ac":"Euro Sign","\r":"Carriage Return","\ufb33":"Hebrew Letter Dalet With Dagesh","1":"One","\ud83d\ude00":"Emoji: Grinning Face","\u0080":"Control","\u00f6":"Latin Small Letter O With Diaeresis"}`
	got, err := Canonical([]byte(in))
	if err != nil {
		t.Fatal(err)
	}
	at := 0
	for _, word := range []string{"Carriage Return", "One", "Control", "Latin Small", "Euro Sign", "Emoji", "Hebrew"} {
		i := strings.Index(string(got), word)
		if i < at {
			t.Errorf("%s is out of order in %s", word, got)
		}
		at = i
	}
	for _, bad := range []string{`{"a":1,"a":2}`, `"\ud83d"`, `1e999`, `{} {}`, "\"\xff\"", ``, strings.Repeat("[", 300)} {
		if got, err := Canonical([]byte(bad)); err == nil {
			t.Errorf("%.20q gave %s", bad, got)
		}
	}
}

// RFC 8785 appendix B: IEEE 754 bits and their JSON form.
func TestNumbersRFC8785AppendixB(t *testing.T) {
	for b, want := range map[uint64]string{
		0x0000000000000000: "0", 0x8000000000000000: "0", 0x0000000000000001: "5e-324",
		0x7fefffffffffffff: "1.7976931348623157e+308", 0x4340000000000000: "9007199254740992",
		0x4430000000000000: "295147905179352830000", 0x44b52d02c7e14af5: "9.999999999999997e+22",
		0x44b52d02c7e14af6: "1e+23", 0x444b1ae4d6e2ef4e: "999999999999999700000", 0x444b1ae4d6e2ef50: "1e+21",
		0x3eb0c6f7a0b5ed8c: "9.999999999999997e-7", 0x3eb0c6f7a0b5ed8d: "0.000001",
		0x41b3de4355555554: "333333333.33333325", 0xbecbf647612f3696: "-0.0000033333333333333333",
	} {
		if got := ecmaNumber(math.Float64frombits(b)); got != want {
			t.Errorf("%016x: got %s, want %s", b, got, want)
		}
	}
}

// Known answers for the tree of RFC 6962 section 2.1 over the eight leaves
// that the public log implementations share as their test data: the roots
// after one leaf, two, three and so on (from memory, common practice).
func TestTreeKnownAnswers(t *testing.T) {
	leaves := []string{"", "00", "10", "2021", "3031", "40414243", "5051525354555657", "606162636465666768696a6b6c6d6e6f"}
	roots := []string{
		"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",
		"6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d",
		"fac54203e7cc696cf0dfcb42c92a1d9dbaf70ad9e621f4bd8d98662f00e3c125",
		"aeb6bcfe274b70a14fb067a5e5578264db0fa9b51af5e0ba159158f329e06e77",
		"d37ee418976dd95753c1c73862b9398fa2a2cf9b4ff0fdfe8b30cd95209614b7",
		"4e3bbb1f7b478dcfe71fb631631519a3bca12c9aefca1612bfce4c13a86264d4",
		"76e67dadbcdf1e10e1b74ddc608abd2f98dfb16fbce75277b5232a127f2087ef",
		"ddb89be403809e325750d3d263cd78929c2942b7942a34b77e122c9594a74c8c",
		"5dc9da79a70659a9ad559cb701ded9a2ab9d823aad2f4960cfe370eff4604328",
	}
	var tr Tree
	for i, want := range roots {
		if i > 0 {
			leaf, _ := hex.DecodeString(leaves[i-1])
			tr.Add(leaf)
		}
		if got := tr.Root(); got != want {
			t.Errorf("%d leaves: %s, want %s", i, got, want)
		}
	}
}

// RFC 8032 section 7.1, TEST 3: the key that we sign with behaves as published.
func TestEd25519RFC8032(t *testing.T) {
	seed, _ := hex.DecodeString("c5aa8df43f9f837bedb7442f31dcb7b166d38535076f094b85ce3a2e0b4458f7")
	key := ed25519.NewKeyFromSeed(seed)
	sig := ed25519.Sign(key, []byte{0xaf, 0x82})
	want := "6291d657deec24024827e69c3abe01a30ce548a284743a445e3680d7db5ac3ac18ff9b538d16f290ae67f760984dc6594a7c15e9716ed28dc027beceea1ec40a"
	if hex.EncodeToString(sig) != want {
		t.Errorf("signature %x", sig)
	}
}

func sample(t *testing.T, n int) ([][]byte, Head) {
	t.Helper()
	var lines [][]byte
	prev := Genesis
	var c Checker
	for i := range n {
		e := Entry{Book: "T-1", Seq: int64(i + 1), Prev: prev, At: fmt.Sprintf("2026-01-01T00:00:%02d.000Z", i), By: "a", What: "w", On: "x", Detail: map[string]string{"k": "é"}}
		line, err := e.Line()
		if err != nil {
			t.Fatal(err)
		}
		prev = LineHash(line)
		lines = append(lines, line)
		c.Add(line)
	}
	h := c.Head()
	if err := h.Sign(ed25519.NewKeyFromSeed(make([]byte, 32))); err != nil {
		t.Fatal(err)
	}
	return lines, h
}

func faults(t *testing.T, lines [][]byte, h Head) []Fault {
	t.Helper()
	text := append(bytes.Join(lines, []byte("\n")), '\n')
	c := &Checker{}
	err := c.Check(bytes.NewReader(text), nil)
	if err != nil {
		t.Fatal(err)
	}
	c.Against(&h)
	return c.Faults
}

func TestEveryChangeIsNamed(t *testing.T) {
	lines, head := sample(t, 6)
	if f := faults(t, lines, head); f != nil {
		t.Fatalf("an untouched ledger has faults: %v", f)
	}
	for i := range lines {
		if f := faults(t, slices.Delete(slices.Clone(lines), i, i+1), head); f == nil {
			t.Errorf("line %d removed: nothing found", i+1)
		}
		if i > 0 {
			l := slices.Clone(lines)
			l[i], l[i-1] = l[i-1], l[i]
			if f := faults(t, l, head); f == nil || f[0].Line == 0 {
				t.Errorf("lines %d and %d swapped: %v", i, i+1, f)
			}
		}
		for j := range lines[i] {
			l := slices.Clone(lines)
			l[i] = bytes.Clone(l[i])
			l[i][j] ^= 1
			if f := faults(t, l, head); f == nil {
				t.Fatalf("line %d byte %d changed: nothing found", i+1, j)
			}
		}
	}
	text, _ := json.Marshal(head)
	for j := range text { // no byte of the signed head can change either
		b := bytes.Clone(text)
		b[j] ^= 1
		var h Head
		if json.Unmarshal(b, &h) == nil && h.VerifySignature() == nil && h != head {
			t.Errorf("byte %d of the head changed: the signature still holds", j)
		}
	}
}

func FuzzCanonical(f *testing.F) {
	f.Add([]byte(`{"b":[1,2.5e3,"\u00e9"],"a":null}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		once, err := Canonical(b)
		if err != nil {
			return
		}
		if twice, err := Canonical(once); err != nil || !bytes.Equal(once, twice) {
			t.Errorf("%q: canonical form %q is not its own: %q, %v", b, once, twice, err)
		}
	})
}
