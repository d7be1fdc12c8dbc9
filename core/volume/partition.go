package volume

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"unicode/utf16"
)

// Partition is a part of an image that a partition table names.
type Partition struct {
	Number int    // from 1, in the order of the table
	Table  string // MBR or GPT
	Type   string // of MBR the type byte as 0x0c, of GPT the type's GUID
	Name   string // which GPT has
	Offset int64  // bytes from the start of the image
	Size   int64  // bytes, and no more than the image has
}

const sectorSize = 512 // of tables of partitions; GPT is also looked for in sectors of 4096 bytes

// What bounds tables of partitions.
const (
	maxLogical = 256
	maxEntries = 1024
)

// Partitions reads the partition table of an image of size bytes. An image without one has none. What is
// wrong with a table comes as notes.
func Partitions(image io.ReaderAt, size int64) (out []Partition, notes []error) {
	w := &window{image: image, length: size}
	first := w.read(0, sectorSize)
	if len(first) < sectorSize || first[510] != 0x55 || first[511] != 0xaa {
		return gpt(w, false)
	}
	if bootSector(first) { // of a volume, which has the same mark
		return nil, nil
	}
	for i := range 4 {
		if first[446+16*i+4] == 0xee { // UEFI 2.10 section 5.2.3
			if out, notes = gpt(w, true); len(out) > 0 {
				return out, notes
			}
		}
	}
	return mbr(w, first, notes)
}

// bootSector reports whether a sector is a volume's own first, and no table's.
func bootSector(b []byte) bool {
	if string(b[3:11]) == "EXFAT   " {
		return true
	}
	n := int(binary.LittleEndian.Uint16(b[11:]))
	return (b[0] == 0xeb || b[0] == 0xe9) && n >= 512 && n <= 4096 && n&(n-1) == 0 && b[13] != 0 && b[13]&(b[13]-1) == 0 && b[16] >= 1 && b[16] <= 2 && b[21] >= 0xf0
}

// mbr reads the four entries of a master boot record and the chain of extended ones.
func mbr(w *window, first []byte, notes []error) (out []Partition, _ []error) {
	le := binary.LittleEndian
	add := func(kind byte, from, n uint32, base int64) {
		p := Partition{Number: len(out) + 1, Table: "MBR", Type: fmt.Sprintf("0x%02x", kind), Offset: (base + int64(from)) * sectorSize, Size: int64(n) * sectorSize}
		if p.Offset >= w.length {
			notes = append(notes, &Error{base * sectorSize, fmt.Sprintf("partition %d begins at %d, behind the image's end", p.Number, p.Offset)})
			return
		}
		if p.Size > w.length-p.Offset {
			notes = append(notes, &Error{base * sectorSize, fmt.Sprintf("of partition %d %d of %d bytes are there", p.Number, w.length-p.Offset, p.Size)})
			p.Size = w.length - p.Offset
		}
		out = append(out, p)
	}
	extended := func(kind byte) bool { return kind == 0x05 || kind == 0x0f || kind == 0x85 }
	var chains []uint32
	for i := range 4 {
		switch e := first[446+16*i:]; {
		case e[4] == 0 || le.Uint32(e[12:]) == 0 || e[0]&0x7f != 0:
		case extended(e[4]):
			chains = append(chains, le.Uint32(e[8:]))
		default:
			add(e[4], le.Uint32(e[8:]), le.Uint32(e[12:]), 0)
		}
	}
	for _, base := range chains {
		seen := map[int64]bool{}
		for at := int64(base); !seen[at]; {
			seen[at] = true
			b := w.read(at*sectorSize, sectorSize)
			if len(b) < sectorSize || b[510] != 0x55 || b[511] != 0xaa || len(seen) > maxLogical {
				notes = append(notes, &Error{at * sectorSize, "the chain of extended partitions is broken here"})
				break
			}
			if e := b[446:]; e[4] != 0 && le.Uint32(e[12:]) != 0 {
				add(e[4], le.Uint32(e[8:]), le.Uint32(e[12:]), at)
			}
			e := b[462:]
			if !extended(e[4]) {
				break
			}
			at = int64(base) + int64(le.Uint32(e[8:]))
		}
	}
	return out, notes
}

// gpt reads a GUID partition table (UEFI 2.10 section 5.3): the first header if its checksums hold, else the
// backup. Only then is something said, unless it has been promised.
func gpt(w *window, promised bool) (out []Partition, notes []error) {
	for _, sector := range []int64{512, 4096} {
		for _, at := range []int64{sector, w.length/sector*sector - sector} {
			out, err := gptAt(w, at, sector)
			if err == nil {
				return out, notes
			}
			if err != ErrFormat {
				notes = append(notes, err)
			}
		}
	}
	if promised {
		return nil, append(notes, &Error{sectorSize, "there is no GUID partition table whose checksums hold"})
	}
	return nil, nil
}

func gptAt(w *window, at, sector int64) (out []Partition, err error) {
	le := binary.LittleEndian
	h := w.read(at, int(sector))
	if len(h) < 92 || string(h[:8]) != "EFI PART" {
		return nil, ErrFormat
	}
	n := int(le.Uint32(h[12:]))
	if n < 92 || n > len(h) {
		return nil, &Error{at, fmt.Sprintf("the header of the GUID partition table claims %d bytes", n)}
	}
	head := slices.Clone(h[:n])
	clear(head[16:20])
	if crc32.ChecksumIEEE(head) != le.Uint32(h[16:]) {
		return nil, &Error{at, "the checksum of the header of the GUID partition table does not hold"}
	}
	count, each := int(le.Uint32(h[80:])), int(le.Uint32(h[84:]))
	if count > maxEntries || each < 128 || each > 4096 {
		return nil, &Error{at, fmt.Sprintf("the GUID partition table claims %d entries of %d bytes", count, each)}
	}
	b := w.read(int64(le.Uint64(h[72:]))*sector, count*each)
	if len(b) < count*each || crc32.ChecksumIEEE(b) != le.Uint32(h[88:]) {
		return nil, &Error{at, "the checksum of the entries of the GUID partition table does not hold"}
	}
	for i := range count {
		e := b[i*each:][:each]
		if bytes.Equal(e[:16], make([]byte, 16)) {
			continue
		}
		first, last := le.Uint64(e[32:]), le.Uint64(e[40:])
		if first > last || first >= uint64(w.length/sector) {
			continue
		}
		var units []uint16
		for j := 56; j+1 < 128; j += 2 {
			if c := le.Uint16(e[j:]); c != 0 {
				units = append(units, c)
			} else {
				break
			}
		}
		from := int64(first) * sector
		out = append(out, Partition{Number: i + 1, Table: "GPT", Type: guid(e[:16]), Name: string(utf16.Decode(units)), Offset: from,
			Size: min(int64(min(last-first, uint64(w.length/sector)))*sector+sector, w.length-from)})
	}
	return out, nil
}

// guid writes a GUID as it is stored (RFC 4122 section 4.1.2, the first three parts in little-endian order).
func guid(b []byte) string {
	le := binary.LittleEndian
	return fmt.Sprintf("%08x-%04x-%04x-%x-%x", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:16])
}
