package salvage

import (
	"hash/maphash"
	"math/bits"
)

// keys makes keys of row versions: numbers that are equal for equal contents, and
// by chance for others about once in 2^64. The seed is new in each run, so that
// evidence cannot be made to collide.
type keys struct{ header, body maphash.Seed }

func newKeys() keys { return keys{maphash.MakeSeed(), maphash.MakeSeed()} }

// record is the key of a record without its table: header holds its serial types,
// as varints. NULLs at its end count for nothing: a record from before a column
// was added has none there.
func (k keys) record(header, body []byte) uint64 {
	for len(header) > 0 && header[len(header)-1] == 0 {
		header = header[:len(header)-1]
	}
	return mix(maphash.Bytes(k.header, header), maphash.Bytes(k.body, body))
}

// mix joins two keys to one.
func mix(a, b uint64) uint64 {
	hi, lo := bits.Mul64(a^0x9e3779b97f4a7c15, b^0xd1b54a32d192ed03)
	return hi ^ lo
}

// keySet is a set of keys of which it keeps half: 5 to 10 bytes a key. That another
// key passes for one of n in the set happens once in some 2^32 times.
type keySet struct {
	parts []keyPart // each twice as large as the one before
	room  int       // keys that it still takes
}

// keyPart is a hash table that does not grow.
type keyPart struct {
	slots []uint32 // 0 is empty
	room  int
}

// newKeySet makes a set that takes most keys, and about n.
func newKeySet(n, most int) *keySet { return &keySet{parts: []keyPart{newKeyPart(n)}, room: most} }

func newKeyPart(n int) keyPart { return keyPart{make([]uint32, n+n/4+8), n} }

// at is where the search for k begins, and what is kept of it.
func (p *keyPart) at(k uint64) (int, uint32) {
	return int((k >> 32) * uint64(len(p.slots)) >> 32), max(uint32(k), 1)
}

// find is where k is kept, or would be.
func (p *keyPart) find(k uint64) (at int, half uint32, has bool) {
	i, half := p.at(k)
	for p.slots[i] != 0 && p.slots[i] != half {
		if i++; i == len(p.slots) {
			i = 0
		}
	}
	return i, half, p.slots[i] == half
}

// add is false if the set is full.
func (s *keySet) add(k uint64) bool {
	if s.room == 0 {
		return false
	}
	p := &s.parts[len(s.parts)-1]
	if p.room == 0 {
		s.parts = append(s.parts, newKeyPart(min(2*len(p.slots), s.room)))
		p = &s.parts[len(s.parts)-1]
	}
	if i, half, has := p.find(k); !has {
		p.slots[i] = half
		p.room--
		s.room--
	}
	return true
}

func (s *keySet) has(k uint64) bool {
	for i := range s.parts {
		if _, _, has := s.parts[i].find(k); has {
			return true
		}
	}
	return false
}
