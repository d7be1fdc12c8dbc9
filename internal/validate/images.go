package validate

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"time"

	"crosswind/core/volume"

	"github.com/diskfs/go-diskfs/backend"
	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem"
	"github.com/diskfs/go-diskfs/filesystem/ext4"
	"github.com/diskfs/go-diskfs/filesystem/fat12"
	"github.com/diskfs/go-diskfs/filesystem/fat16"
	"github.com/diskfs/go-diskfs/filesystem/fat32"
)

// volumeMaker makes volumes of a format, by a library of another origin.
type volumeMaker struct {
	format volume.Format
	size   int64 // bytes
	create func(b backend.Storage, size int64) (filesystem.FileSystem, error)
}

var volumeMakers = []volumeMaker{
	{volume.FAT12, 2 << 20, func(b backend.Storage, n int64) (filesystem.FileSystem, error) {
		return fat12.Create(b, n, 0, 512, "REFERENCE", true)
	}},
	{volume.FAT16, 16 << 20, func(b backend.Storage, n int64) (filesystem.FileSystem, error) {
		return fat16.Create(b, n, 0, 512, "REFERENCE", true)
	}},
	{volume.FAT32, 40 << 20, func(b backend.Storage, n int64) (filesystem.FileSystem, error) {
		return fat32.Create(b, n, 0, 512, "REFERENCE", true)
	}},
	{volume.Ext4, 32 << 20, func(b backend.Storage, n int64) (filesystem.FileSystem, error) {
		return ext4.Create(b, n, 0, 512, nil)
	}},
}

// A volume is filled with so many files; the library takes a fifth of them away, and writes later ones where they lay. Then, of
// FAT, a third of all are deleted.
const (
	volumeFiles = 60
	laterFiles  = 12
)

// images makes volumes with files, and deletes some of them as ECMA-107 has it.
func images(ctx context.Context, s *Set, dir string, seed uint64) error {
	s.Library = library("github.com/diskfs/go-diskfs")
	for i, m := range volumeMakers {
		if err := ctx.Err(); err != nil {
			return err
		}
		v := &madeVolume{r: rand.New(rand.NewPCG(seed, uint64(i))), there: map[string][]byte{}, gone: map[int64][]byte{}}
		if err := v.make(m, filepath.Join(dir, fmt.Sprint(i))); err != nil {
			return fmt.Errorf("making a volume of %s: %w", m.format, err)
		}
		if err := s.readVolume(m.format, v); err != nil {
			return fmt.Errorf("reading a volume of %s: %w", m.format, err)
		}
		s.Made++
	}
	return nil
}

// madeVolume is a volume whose content is known.
type madeVolume struct {
	r     *rand.Rand
	image []byte
	names []string          // in the order in which they were written
	there map[string][]byte // by path
	gone  map[int64][]byte  // what was deleted, by the offset of its directory entry
}

func (v *madeVolume) make(m volumeMaker, path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Truncate(m.size); err != nil {
		return err
	}
	fs, err := m.create(file.New(f, false), m.size)
	if err == nil {
		err = fs.Mkdir("FOLDER")
	}
	if err == nil {
		err = v.write(fs, volumeFiles)
	}
	fat := m.format != volume.Ext4 // of which nothing is deleted: the library frees the next file's blocks then, as e2fsck says
	for i := 0; fat && i < volumeFiles && err == nil; i += 5 {
		delete(v.there, "/"+v.names[i])
		err = fs.Remove(v.names[i])
	}
	if fat && err == nil {
		err = v.write(fs, laterFiles)
	}
	if err == nil {
		err = fs.Close()
	}
	if err == nil {
		v.image, err = os.ReadFile(path)
	}
	if err != nil || !fat {
		return err
	}
	for i, name := range slices.Sorted(maps.Keys(v.there)) {
		if i%3 == 0 {
			if err := v.delete(name, m.format, i%5 == 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// write writes n files of random bytes.
func (v *madeVolume) write(fs filesystem.FileSystem, n int) error {
	for range n {
		name := fmt.Sprintf("F%07d.BIN", len(v.names))
		if v.r.IntN(2) == 0 {
			name = "FOLDER/" + name
		}
		b := noise(v.r, 1+v.r.IntN(24_000))
		w, err := fs.OpenFile(name, os.O_CREATE|os.O_RDWR)
		if err == nil {
			_, err = w.Write(b)
		}
		if err == nil {
			err = w.Close()
		}
		if err == nil { // the same, whenever it is made
			at := time.Date(2026, 6, 1, 8, len(v.names), 0, 0, time.UTC)
			err = fs.Chtimes(name, at, at, at)
		}
		if err != nil {
			return fmt.Errorf("writing %s: %w", name, err)
		}
		v.names = append(v.names, name)
		v.there["/"+name] = b
	}
	return nil
}

// delete deletes a file, whose name is short, as ECMA-107 has it: the first byte of its directory entry is E5 (11.1.1), and its clusters are free
// in the allocation tables (10.2). Its bytes, and the rest of its entry, stay. If reused, its last cluster is another file's by now.
func (v *madeVolume) delete(name string, format volume.Format, reused bool) error {
	base := filepath.Base(name)
	short := []byte(base[:8] + base[9:])
	at := bytes.Index(v.image, short)
	if at < 0 || bytes.Contains(v.image[at+1:], short) {
		return fmt.Errorf("the directory entry of %s is not found", name)
	}
	le := binary.LittleEndian
	reserved, copies, perTable := int(le.Uint16(v.image[14:])), int(v.image[16]), int(le.Uint16(v.image[22:])) // 9.2
	cluster := int(le.Uint16(v.image[at+26:]))
	if format == volume.FAT32 {
		perTable = int(le.Uint32(v.image[36:]))
		cluster |= int(le.Uint16(v.image[at+20:])) << 16
	}
	end := map[volume.Format]int{volume.FAT12: 0xff8, volume.FAT16: 0xfff8, volume.FAT32: 0xffffff8}[format]
	var last int
	for table := range copies {
		t := v.image[(reserved+table*perTable)*512:][:perTable*512]
		for c, next := cluster, 0; c >= 2 && c < end; c = next {
			if next = entry(t, format, c); next < end || !reused {
				setFree(t, format, c)
			}
			last = c
		}
	}
	if reused {
		size := int(v.image[13]) * 512
		roots := int(le.Uint16(v.image[17:])) * 32
		copy(v.image[(reserved+copies*perTable)*512+roots+(last-2)*size:], noise(v.r, size))
	}
	v.image[at] = 0xe5
	v.gone[int64(at)] = v.there[name]
	delete(v.there, name)
	return nil
}

// entry is that of a cluster in an allocation table.
func entry(t []byte, format volume.Format, c int) int {
	le := binary.LittleEndian
	switch format {
	case volume.FAT12: // two in three bytes
		return int(le.Uint16(t[c*3/2:])) >> (c % 2 * 4) & 0xfff
	case volume.FAT16:
		return int(le.Uint16(t[c*2:]))
	}
	return int(le.Uint32(t[c*4:]) & 0xfffffff)
}

func setFree(t []byte, format volume.Format, c int) {
	le := binary.LittleEndian
	switch format {
	case volume.FAT12:
		pair := t[c*3/2:]
		le.PutUint16(pair, le.Uint16(pair)&^(0xfff<<(c%2*4)))
	case volume.FAT16:
		le.PutUint16(t[c*2:], 0)
	default:
		le.PutUint32(t[c*4:], 0)
	}
}

// readVolume reads a volume by the code that reads evidence, and compares with what was written.
func (s *Set) readVolume(format volume.Format, x *madeVolume) error {
	image := bytes.NewReader(x.image)
	v, err := volume.Open(image, 0, image.Size())
	if err != nil {
		return err
	}
	there, back := map[string]bool{}, map[int64]bool{}
	for f, err := range v.Files(true) {
		if err != nil {
			return err
		}
		if f.Dir {
			continue
		}
		b, err := io.ReadAll(f.Reader(image))
		if err != nil {
			return err
		}
		if !f.Deleted {
			want, ok := x.there[f.Path]
			if there[f.Path] = ok && bytes.Equal(b, want); !there[f.Path] {
				s.wrong(fmt.Sprintf("%s: %s is there and not as it was written", format, f.Path))
			}
			continue
		}
		at := f.Entry.Offset
		for i := range f.Entry.Length / 32 { // with those of a long name before it
			if x.gone[at+i*32] != nil {
				at += i * 32
				break
			}
		}
		want, ok := x.gone[at]
		same := ok && bytes.Equal(b, want)
		back[at] = same
		// Of one of which something is gone it is right to say so.
		s.tell("deleted file of "+string(format), f.Complete, ok && same == (f.Complete != volume.Part), fmt.Sprintf("%s, its entry at offset %d", f.Path, f.Entry.Offset))
	}
	for p := range x.there {
		s.count("files that are there, with every byte", true, there[p])
	}
	for at, b := range x.gone {
		if holdsClusters(x.image, b, int(v.Cluster)) {
			s.count("deleted files whose bytes are still in the image", false, back[at])
		}
	}
	return nil
}

// holdsClusters reports whether each cluster of a file's bytes lies somewhere in an image.
func holdsClusters(image, b []byte, cluster int) bool {
	for part := range slices.Chunk(b, max(512, cluster)) {
		if !bytes.Contains(image, part) {
			return false
		}
	}
	return true
}

// noise is n random bytes.
func noise(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}
