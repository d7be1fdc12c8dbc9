package volume

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// run runs a program of Debian's packages.
func run(t testing.TB, name string, arg ...string) []byte {
	t.Helper()
	var said bytes.Buffer
	c := exec.Command(name, arg...)
	c.Stderr, c.Env = &said, append(os.Environ(), "MTOOLS_SKIP_CHECK=1", "TZ=UTC", "LC_ALL=C.UTF-8")
	out, err := c.Output()
	if err != nil {
		t.Fatalf("%s %s: %v: %s%s", name, strings.Join(arg, " "), err, out, said.Bytes())
	}
	return out
}

// blank makes an empty image.
func blank(t testing.TB, size int64) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "image")
	if err := os.WriteFile(path, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(path, size); err != nil {
		t.Fatal(err)
	}
	return path
}

// listed are the files of the volume of an image: live and deleted ones, by path.
func listed(t testing.TB, path string, offset int64) (v *Volume, live, deleted map[string]*File) {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	v, err = Open(bytes.NewReader(b), offset, int64(len(b))-offset)
	if err != nil {
		t.Fatal(err)
	}
	live, deleted = map[string]*File{}, map[string]*File{}
	for f, err := range v.Files(true) {
		if err != nil {
			t.Errorf("%v", err)
			continue
		}
		all := live
		if f.Deleted {
			all = deleted
		}
		if all[f.Path] != nil && !f.Deleted {
			t.Errorf("%s is there twice", f.Path)
		}
		all[f.Path] = f
	}
	return v, live, deleted
}

// content reads a file of an image.
func bytesOf(t testing.TB, path string, f *File) []byte {
	t.Helper()
	image, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer image.Close()
	b, err := io.ReadAll(f.Reader(image))
	if err != nil {
		t.Fatalf("%s: %v", f.Path, err)
	}
	return b
}

// tree is what is put into a volume: by path, folders without bytes.
func tree(seed uint64) map[string][]byte {
	r := rand.New(rand.NewPCG(seed, 1))
	out := map[string][]byte{}
	for i, name := range []string{"README.TXT", "a name that is too long for eight and three.jpeg", "Übergröße 航海.png", "empty", "sub/P0001.JPG", "sub/P0002.JPG", "sub/deep/below the bow.txt", "sub/deep/x.bin", "sub/deep/further/last.dat", "gone/one.txt", "gone/two two two.txt", "gone/in/three.bin"} {
		b := make([]byte, []int{17, 5000, 70_001, 0, 40_000, 1, 333, 131_072, 2048, 999, 6000, 20_000}[i])
		for j := range b {
			b[j] = byte(r.Uint32())
		}
		out[name] = b
	}
	return out
}

// laid writes a tree below a folder.
func laid(t testing.TB, all map[string][]byte) string {
	t.Helper()
	dir := t.TempDir()
	at := time.Date(2026, 9, 11, 20, 31, 6, 0, time.UTC)
	for p, b := range all {
		p = filepath.Join(dir, p)
		err := os.MkdirAll(filepath.Dir(p), 0o755)
		if err == nil {
			err = os.WriteFile(p, b, 0o644)
		}
		if err == nil {
			err = os.Chtimes(p, at, at)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// same compares what is listed with what was put there.
func same(t testing.TB, path string, got map[string]*File, want map[string][]byte, gone func(string) bool) {
	t.Helper()
	files := 0
	for p, f := range got {
		if !f.Dir && p != "/lost+found" {
			files++
		}
		if f.Complete != Whole {
			t.Errorf("%s: %s, %s", p, f.Complete, f.Why)
		}
	}
	n := 0
	for p, b := range want {
		if gone != nil && gone(p) {
			continue
		}
		n++
		f := got["/"+p]
		if f == nil {
			t.Errorf("%s is not listed", p)
			continue
		}
		if f.Size != int64(len(b)) || !bytes.Equal(bytesOf(t, path, f), b) {
			t.Errorf("%s: its bytes are not those that were put there (%d, %d)", p, f.Size, len(b))
		}
		if f.Modified.Local != "2026-09-11T20:31:06" && (f.Modified.At == nil || f.Modified.At.Unix() != time.Date(2026, 9, 11, 20, 31, 6, 0, time.UTC).Unix()) {
			t.Errorf("%s was changed %+v", p, f.Modified)
		}
	}
	if files != n {
		t.Errorf("%d files are listed, %d were put there", files, n)
	}
}

// Volumes of all three widths, made by mkfs.fat and filled and emptied by mtools (Debian's dosfstools and mtools):
// what is alive is listed with its bytes, and what was deleted and not overwritten comes back with its name.
func TestFAT(t *testing.T) {
	for _, c := range []struct {
		width   string
		size    int64
		cluster string
		format  Format
	}{{"12", 4 << 20, "4", FAT12}, {"16", 40 << 20, "4", FAT16}, {"32", 48 << 20, "1", FAT32}} {
		path := blank(t, c.size)
		run(t, "mkfs.fat", "-F", c.width, "-s", c.cluster, "-n", "HARBOUR", path)
		all := tree(12)
		dir := laid(t, all)
		for _, top := range []string{"README.TXT", "a name that is too long for eight and three.jpeg", "Übergröße 航海.png", "empty", "sub", "gone"} {
			run(t, "mcopy", "-i", path, "-s", "-m", filepath.Join(dir, top), "::/")
		}
		v, live, deleted := listed(t, path, 0)
		if v.Format != c.format || v.Label != "HARBOUR" || len(deleted) > 0 {
			t.Errorf("%+v, %d deleted", v, len(deleted))
		}
		same(t, path, live, all, nil)
		run(t, "mren", "-i", path, "::/sub/P0001.JPG", "::/sub/renamed to this.jpg")
		run(t, "mdel", "-i", path, "::/README.TXT", "::/Übergröße 航海.png", "::/sub/P0002.JPG")
		run(t, "mdeltree", "-i", path, "::/gone")
		all["sub/renamed to this.jpg"] = all["sub/P0001.JPG"]
		delete(all, "sub/P0001.JPG")
		gone := func(p string) bool {
			return strings.HasPrefix(p, "gone/") || p == "README.TXT" || p == "Übergröße 航海.png" || p == "sub/P0002.JPG"
		}
		_, live, deleted = listed(t, path, 0)
		same(t, path, live, all, gone)
		n := 0
		for p, b := range all {
			if !gone(p) {
				continue
			}
			n++
			parts := strings.Split(p, "/")
			for i, s := range parts { // of a short name that is not alive the first letter is gone
				if len(s) <= 12 && !strings.Contains(s, " ") && s != "sub" {
					parts[i] = "_" + s[1:]
				}
			}
			p = strings.Join(parts, "/")
			f := deleted["/"+p]
			if f == nil {
				t.Errorf("FAT%s: %s does not come back", c.width, p)
				continue
			}
			if f.Complete != Unverified || !bytes.Equal(bytesOf(t, path, f), b) {
				t.Errorf("FAT%s: %s: %s, %s", c.width, p, f.Complete, f.Why)
			}
		}
		files := 0
		for p, f := range deleted {
			if !f.Dir {
				files++
			}
			t.Logf("%s %s: %s", f.Complete, p, f.Why)
		}
		if files != n {
			t.Errorf("FAT%s: %d files come back, %d were deleted", c.width, files, n)
		}
		run(t, "fsck.fat", "-n", path)
		v, _, _ = listed(t, path, 0)

		if c.format == FAT32 { // without its first sector, by the copy of it
			b, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			clear(b[:512])
			if v, err := Open(bytes.NewReader(b), 0, int64(len(b))); err != nil || v.Format != FAT32 {
				t.Errorf("%+v, %v", v, err)
			}
		}

		// All that is free is written over: of what was deleted nothing is left, and it is said where it was.
		var free int64
		for x := range v.Unallocated() {
			free += x.Length
		}
		over := filepath.Join(t.TempDir(), "over it all.bin")
		if err := os.WriteFile(over, bytes.Repeat([]byte{0xee}, int(free)), 0o644); err != nil {
			t.Fatal(err)
		}
		run(t, "mcopy", "-i", path, over, "::/")
		v, _, deleted = listed(t, path, 0)
		for p, f := range deleted {
			var again int64
			for _, e := range f.Reused {
				again += e.Length
			}
			if f.Size > 0 && (f.Complete != Part || again != (f.Size+v.Cluster-1)/v.Cluster*v.Cluster) {
				t.Errorf("FAT%s: %s, %d bytes: %s, %d of them in use again: %s", c.width, p, f.Size, f.Complete, again, f.Why)
			}
		}

		// Formatted anew, which clears the table and the root: what lay in folders comes back, with the folders' places
		// for their names.
		run(t, "mkfs.fat", "-F", c.width, "-s", c.cluster, "-n", "ANEW", path)
		_, live, deleted = listed(t, path, 0)
		if len(live) > 0 {
			t.Errorf("FAT%s: %v is alive in what was formatted", c.width, live)
		}
		back := 0
		for p, b := range all {
			if !strings.HasPrefix(p, "sub/") || gone(p) {
				continue
			}
			for q, f := range deleted {
				if strings.HasSuffix(q, strings.TrimPrefix(p, "sub")) && f.Size == int64(len(b)) && bytes.Equal(bytesOf(t, path, f), b) {
					back++
				}
			}
		}
		if back != 4 {
			t.Errorf("FAT%s: of what lay in folders %d come back: %v", c.width, back, deleted)
		}
	}
}

// Volumes made by mke2fs from a folder (Debian's e2fsprogs), with extents and without, of several sizes of blocks
// and inodes: what is alive is listed with its bytes.
func TestExt(t *testing.T) {
	for _, arg := range []string{"-t ext4", "-t ext4 -b 1024 -O ^64bit,^metadata_csum", "-t ext2 -b 1024", "-t ext3 -b 2048 -I 128", "-t ext4 -b 4096 -O inline_data,bigalloc", "-t ext4 -b 1024 -O meta_bg,^resize_inode", "-t ext4 -b 1024 -g 1024 -O ^flex_bg"} {
		path := blank(t, 24<<20)
		all := tree(4)
		all["sparse"] = append(make([]byte, 300_000), "at the end"...)
		dir := laid(t, all)
		for i := range 300 {
			p := fmt.Sprintf("many/file with a name to fill blocks of the folder %03d", i)
			all[p] = []byte(p)
			if err := os.MkdirAll(filepath.Join(dir, "many"), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, p), all[p], 0o644); err != nil {
				t.Fatal(err)
			}
			at := time.Date(2026, 9, 11, 20, 31, 6, 0, time.UTC)
			if err := os.Chtimes(filepath.Join(dir, p), at, at); err != nil {
				t.Fatal(err)
			}
		}
		run(t, "mke2fs", append(strings.Fields(arg), "-q", "-F", "-L", "harbour", "-d", dir, path)...)
		v, live, _ := listed(t, path, 0)
		if v.Format != Ext4 || v.Label != "harbour" {
			t.Errorf("%s: %+v", arg, v)
		}
		t.Log(arg)
		same(t, path, live, all, nil)
		var free int64
		for x := range v.Unallocated() {
			free += x.Length / v.Cluster
		}
		if strings.Contains(arg, "bigalloc") {
			continue // of which the counts are of clusters
		}
		if said := string(run(t, "dumpe2fs", "-h", path)); !strings.Contains(said, fmt.Sprintf("Free blocks:              %d\n", free)) {
			t.Errorf("%s: %d blocks are free; dumpe2fs says\n%s", arg, free, said)
		}
	}
}

// What the kernel deletes on an ext4 volume comes back by the journal's older copies, with names and times: files that
// were written, closed and removed, and a folder with all in it. Needs a machine that may mount.
func TestExtDeleted(t *testing.T) {
	for _, arg := range []string{"-b 1024", "-b 4096 -O ^metadata_csum", "-b 4096 -O inline_data"} {
		path, at := blank(t, 64<<20), t.TempDir()
		run(t, "mke2fs", append(strings.Fields(arg), "-t", "ext4", "-q", "-F", path)...)
		all := tree(5)
		for i := range 40 {
			all[fmt.Sprintf("many/picture %02d.jpg", i)] = bytes.Repeat([]byte{byte(i + 1)}, 3000+i*701)
		}
		mounted := func(do func()) {
			if out, err := exec.Command("mount", "-o", "loop", path, at).CombinedOutput(); err != nil {
				t.Skipf("this machine does not mount: %v: %s", err, out)
			}
			do()
			run(t, "umount", at)
		}
		mounted(func() { run(t, "cp", "-rp", laid(t, all)+"/.", at) })
		mounted(func() {
			for _, p := range []string{"gone", "README.TXT", "sub/P0001.JPG", "sub/deep/x.bin"} {
				if err := os.RemoveAll(filepath.Join(at, p)); err != nil {
					t.Error(err)
				}
			}
			for i := 0; i < 40; i += 3 {
				if err := os.Remove(filepath.Join(at, fmt.Sprintf("many/picture %02d.jpg", i))); err != nil {
					t.Error(err)
				}
			}
		})
		gone := func(p string) bool {
			var i int
			_, err := fmt.Sscanf(p, "many/picture %d.jpg", &i)
			return strings.HasPrefix(p, "gone/") || p == "README.TXT" || p == "sub/P0001.JPG" || p == "sub/deep/x.bin" || err == nil && i%3 == 0
		}
		_, live, deleted := listed(t, path, 0)
		same(t, path, live, all, gone)
		n := 0
		for p, b := range all {
			if !gone(p) {
				continue
			}
			n++
			if f := deleted["/"+p]; f == nil {
				t.Errorf("%s: %s does not come back", arg, p)
			} else if f.Complete != Unverified || !bytes.Equal(bytesOf(t, path, f), b) {
				t.Errorf("%s: %s: %s, %s", arg, p, f.Complete, f.Why)
			}
		}
		files := 0
		for p, f := range deleted {
			if !f.Dir {
				files++
			}
			if n := len(all[strings.TrimPrefix(p, "/")]); !f.Dir && n == 0 {
				t.Errorf("%s: %s of %d bytes comes back, and never was: %s", arg, p, f.Size, f.Why)
			}
		}
		t.Logf("%s: %d of %d files come back", arg, files, n)
	}
}

// An exFAT volume made by mkfs.exfat (Debian's exfatprogs), filled and emptied through exfat-fuse: what is alive is
// listed with its bytes, what was deleted comes back whole with its name. Needs a machine that may mount.
func TestExFAT(t *testing.T) {
	for _, cluster := range []string{"512", "4K", "32K"} {
		path, at := blank(t, 48<<20), t.TempDir()
		run(t, "mkfs.exfat", "-c", cluster, "-L", "harbour", path)
		all := tree(6)
		mounted := func(do func()) {
			out, err := exec.Command("losetup", "-f", "--show", path).CombinedOutput()
			if err != nil {
				t.Skipf("this machine has no loop devices: %v: %s", err, out)
			}
			device := strings.TrimSpace(string(out))
			defer func() { run(t, "losetup", "-d", device) }()
			if out, err := exec.Command("mount.exfat-fuse", device, at).CombinedOutput(); err != nil {
				t.Skipf("this machine does not mount: %v: %s", err, out)
			}
			do()
			run(t, "umount", at)
		}
		mounted(func() { run(t, "cp", "-rp", laid(t, all)+"/.", at) })
		v, live, deleted := listed(t, path, 0)
		if v.Format != ExFAT || v.Label != "harbour" || len(deleted) > 0 {
			t.Errorf("%+v, %d deleted", v, len(deleted))
		}
		same(t, path, live, all, nil)
		mounted(func() {
			if err := os.Rename(filepath.Join(at, "sub/P0002.JPG"), filepath.Join(at, "sub/another name.jpg")); err != nil {
				t.Error(err)
			}
			for _, p := range []string{"gone", "README.TXT", "sub/P0001.JPG"} {
				if err := os.RemoveAll(filepath.Join(at, p)); err != nil {
					t.Error(err)
				}
			}
		})
		all["sub/another name.jpg"] = all["sub/P0002.JPG"]
		delete(all, "sub/P0002.JPG")
		gone := func(p string) bool {
			return strings.HasPrefix(p, "gone/") || p == "README.TXT" || p == "sub/P0001.JPG"
		}
		_, live, deleted = listed(t, path, 0)
		same(t, path, live, all, gone)
		files, n := 0, 0
		for p, b := range all {
			if !gone(p) {
				continue
			}
			n++
			if f := deleted["/"+p]; f == nil {
				t.Errorf("%s does not come back", p)
			} else if f.Complete != Unverified || !bytes.Equal(bytesOf(t, path, f), b) {
				t.Errorf("%s: %s, %s", p, f.Complete, f.Why)
			}
		}
		for _, f := range deleted {
			if !f.Dir {
				files++
			}
		}
		if files != n {
			t.Errorf("%d files come back, %d were deleted: %v", files, n, deleted)
		}
		run(t, "fsck.exfat", "-n", path)
	}
}

// Partition tables made by sfdisk (Debian's fdisk), with logical partitions and as GPT, are read as it lists
// them; of GPT the backup, too, when the first header is damaged.
func TestPartitions(t *testing.T) {
	for _, script := range []string{"label: dos\n,4M,c\n,8M,83\n,,E\n,2M,7\n,3M,c\n,,83\n", "label: gpt\n,4M,L,\n,8M\nname=card\n", "label: gpt\nsector-size: 512\n,1M\n"} {
		path := blank(t, 40<<20)
		c := exec.Command("sfdisk", "-q", path)
		c.Stdin = strings.NewReader(script)
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("sfdisk: %v: %s", err, out)
		}
		var said struct {
			Table struct {
				Partitions []struct {
					Start, Size int64
					Type, Name  string
				} `json:"partitions"`
			} `json:"partitiontable"`
		}
		if err := json.Unmarshal(run(t, "sfdisk", "-J", path), &said); err != nil {
			t.Fatal(err)
		}
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		check := func(what string) {
			got, notes := Partitions(bytes.NewReader(b), int64(len(b)))
			n := 0
			for _, w := range said.Table.Partitions {
				if w.Type == "f" || w.Type == "5" { // which only holds others
					continue
				}
				if n >= len(got) {
					break
				}
				g := got[n]
				if n++; g.Offset != w.Start*512 || g.Size != w.Size*512 || g.Name != w.Name || g.Table == "GPT" && !strings.EqualFold(g.Type, w.Type) || g.Table == "MBR" && g.Type != fmt.Sprintf("0x%02s", strings.ToLower(w.Type)) {
					t.Errorf("%s: %+v, sfdisk says %+v", what, g, w)
				}
			}
			if n != len(got) || n == 0 {
				t.Errorf("%s: %+v, %v, sfdisk says %+v", what, got, notes, said)
			}
		}
		check(script)
		if strings.Contains(script, "gpt") {
			b[512+40]++
			check("the backup of " + script)
		}
	}
}

// small are small volumes of each format.
func small(t testing.TB) (all [][]byte) {
	for _, c := range [][]string{{"mkfs.fat", "-F", "12"}, {"mkfs.exfat", "-c", "512", "-b", "4K"}, {"mke2fs", "-t", "ext4", "-q", "-F", "-b", "1024", "-N", "32", "-O", "^resize_inode"}} {
		size := int64(300 << 10)
		if c[0] == "mkfs.exfat" {
			size = 2 << 20
		}
		path := blank(t, size)
		run(t, c[0], append(c[1:], path)...)
		if c[0] == "mkfs.fat" {
			run(t, "mcopy", "-i", path, "-s", "-m", filepath.Join(laid(t, tree(1)), "sub/P0002.JPG"), "::/a long name of a file.jpg")
			run(t, "mdel", "-i", path, "::/a long name of a file.jpg")
		}
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, b[:min(len(b), 400<<10)])
	}
	return all
}

// list goes through all that an image says it has; it must come to an end.
func list(t testing.TB, b []byte) {
	parts, _ := Partitions(bytes.NewReader(b), int64(len(b)))
	for _, p := range append(parts, Partition{Size: int64(len(b))}) {
		if p.Offset < 0 || p.Size < 0 || p.Size > int64(len(b))-p.Offset {
			t.Fatalf("%+v", p)
		}
		v, err := Open(bytes.NewReader(b), p.Offset, p.Size)
		if err != nil {
			continue
		}
		n := 0
		for x, err := range v.Files(true) {
			if n++; n > 100_000 {
				t.Fatal("the listing does not end")
			}
			if err != nil {
				continue
			}
			for _, e := range x.Extents {
				if e.Length <= 0 || e.Offset < Hole {
					t.Fatalf("%+v", x)
				}
			}
			if strings.Contains(x.Path, "/../") || !strings.HasPrefix(x.Path, "/") || x.Size < 0 {
				t.Fatalf("%+v", x)
			}
		}
		for e := range v.Unallocated() {
			if e.Offset < 0 || e.Length <= 0 {
				t.Fatalf("%+v", e)
			}
		}
	}
}

// Every field of the heads of the volumes, made as large as it can be, or nothing: what can be read is read, and soon.
func TestAbsurdHeads(t *testing.T) {
	for _, b := range small(t) {
		for at := 0; at < 3072; at += 4 {
			for _, v := range []uint32{0xffffffff, 0x7fffffff, 0, 0x00010001, 0x00870087} {
				was := binary.LittleEndian.Uint32(b[at:])
				binary.LittleEndian.PutUint32(b[at:], v)
				list(t, b)
				binary.LittleEndian.PutUint32(b[at:], was)
			}
		}
		for n := 0; n < len(b); n += 1 + n/3 {
			list(t, b[:n])
		}
	}
}

// Whatever an image holds, what is listed of it lies in it, and the listing ends.
func FuzzOpen(f *testing.F) {
	for _, b := range small(f) {
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) { list(t, b) })
}

// Of two deleted files that were written at one time the one of which an entry states that it begins in a cluster has it, and the
// other, which is taken to have gone on there, is not whole. Common practice.
func TestClaimsOfOneTime(t *testing.T) {
	const unit = 512
	files := []found{
		{&File{Path: "/assumed", Size: 3 * unit, Complete: Unverified, Extents: []Extent{{5 * unit, 2 * unit}, {10 * unit, unit}}}, 5, "2026-06-01T10:00:00"},
		{&File{Path: "/stated", Size: 2 * unit, Complete: Unverified, Extents: []Extent{{10 * unit, 2 * unit}}}, 10, "2026-06-01T10:00:00"},
	}
	out := settle(files, 0, unit, 100)
	if len(out) != 2 || out[0].Complete != Part || out[1].Complete != Unverified {
		t.Errorf("%+v, %+v", *out[0], *out[1])
	}
	files[0].at, files[0].Complete, files[1].Complete = "2026-06-01T10:00:02", Unverified, Unverified // written later, it has the cluster
	if out = settle(files, 0, unit, 100); out[0].Complete != Unverified || out[1].Complete != Part {
		t.Errorf("%+v, %+v", *out[0], *out[1])
	}
}
