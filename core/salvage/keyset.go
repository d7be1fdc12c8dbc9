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

// keySet is a set of keys that takes at most 8/0.8 bytes a key once it is full.
type keySet struct {
	slots []uint64 // 0 is empty; a power of two of them
	n     int
	limit int // keys that it takes; more are not kept
}

func newKeySet(limit int) *keySet { return &keySet{slots: make([]uint64, 1<<10), limit: limit} }

func (s *keySet) add(k uint64) bool {
	if s.n >= s.limit {
		return false
	}
	if s.n*5 >= len(s.slots)*4 {
		old := s.slots
		s.slots = make([]uint64, 2*len(old))
		s.n = 0
		for _, k := range old {
			if k != 0 {
				s.put(k)
			}
		}
	}
	s.put(k)
	return true
}

func (s *keySet) put(k uint64) {
	k = max(k, 1)
	i := k & uint64(len(s.slots)-1)
	for ; s.slots[i] != 0; i = (i + 1) & uint64(len(s.slots)-1) {
		if s.slots[i] == k {
			return
		}
	}
	s.slots[i] = k
	s.n++
}

func (s *keySet) has(k uint64) bool {
	k = max(k, 1)
	for i := k & uint64(len(s.slots)-1); s.slots[i] != 0; i = (i + 1) & uint64(len(s.slots)-1) {
		if s.slots[i] == k {
			return true
		}
	}
	return false
}
