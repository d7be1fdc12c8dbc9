package casefile

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"

	"crosswind/core/fieldmap"
	"crosswind/core/reading"
	"crosswind/core/record"
)

// readRecords checks that each record is in canonical form and gives the ID that its
// place has, that its bytes are in the file it names and give its values again, that the
// file stands in a manifest that the ledger vouches for, and that the ledger marks it.
func (c *checker) readRecords(vouched map[string]bool) {
	f, err := c.open(RecordsName)
	if err != nil {
		c.fault(RecordsName, "cannot be read: "+err.Error(), "", "")
		return
	}
	defer f.Close()
	listed := map[string]map[string]string{} // manifest to path to SHA-256
	in := bufio.NewReaderSize(until{c.ctx, f}, 1<<16)
	for n := 1; ; n++ {
		line, err := readLine(in)
		if err == io.EOF {
			break
		}
		where := fmt.Sprintf("%s line %d", RecordsName, n)
		if err != nil {
			c.fault(where, err.Error(), "", "")
			break
		}
		c.readRecord(where, line, listed, vouched)
	}
	for _, left := range c.marks.Left() {
		c.fault(RecordsName, "lacks a record that the ledger marks: "+left, "", "")
	}
}

// readLine reads a line without its line feed, which every line has.
func readLine(in *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := in.ReadSlice('\n')
		line = append(line, part...)
		switch {
		case err == nil:
			return line[:len(line)-1], nil
		case len(line) > maxTagFile:
			return nil, fmt.Errorf("is longer than %d bytes", maxTagFile)
		case err == bufio.ErrBufferFull:
		case err == io.EOF && len(line) > 0:
			return nil, errors.New("does not end with a line feed")
		default:
			return nil, err
		}
	}
}

func (c *checker) readRecord(where string, line []byte, listed map[string]map[string]string, vouched map[string]bool) {
	r := &RecordLine{}
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	if err := d.Decode(r); err != nil || r.Record == nil {
		c.fault(where, "is not a record", "", "")
		return
	}
	c.r.Records++
	c.records = append(c.records, r)
	name := "record " + r.UID + ": "
	if canon, err := r.Line(); err != nil || !bytes.Equal(canon, line) {
		c.fault(where, name+"is not in canonical form (RFC 8785)", "", "")
	}
	for _, x := range c.records[:len(c.records)-1] {
		if x.UID == r.UID && x.Exhibit == r.Exhibit && x.Acquisition == r.Acquisition {
			c.fault(where, name+"is there twice", "", "")
		}
	}
	again := *r.Record
	if again.SetUID(); again.UID != r.UID {
		c.fault(where, name+"its ID is not that of its place", again.UID, r.UID)
	}
	o := r.Origin()
	if cell, err := c.cell(r); err != nil {
		c.fault(where, name+err.Error(), "", "")
	} else if sum := sha256.Sum256(cell); hex.EncodeToString(sum[:]) != o.Digest {
		c.fault(where, name+"the SHA-256 of its bytes", o.Digest, hex.EncodeToString(sum[:]))
	} else if o.Place == record.PlacePart {
		if again, known := reading.Again(r.Record, cell); !known {
			c.fault(where, name+"no reader "+strconv.Quote(o.FieldMap)+" reads its bytes", "", "")
		} else {
			for _, d := range reading.Differs(r.Record, again) {
				c.fault(where, name+"is not what its bytes say: its "+d, "", "")
			}
		}
	} else if m, err := c.fieldMap(o); err != nil {
		c.fault(where, name+"its field map: "+err.Error(), "", "")
	} else if differs, known := m.Again(r.Record, cell); !known {
		c.fault(where, name+"its field map reads no such row", "", "")
	} else {
		for _, d := range differs {
			c.fault(where, name+"is not what its bytes say: its "+d.Part, strconv.Quote(d.Gives), strconv.Quote(d.Says))
		}
	}
	manifest := ManifestsDir + r.Manifest
	c.used[manifest] = true
	if listed[manifest] == nil {
		listed[manifest] = c.acquired(manifest, vouched)
	}
	if s := listed[manifest][o.Stored]; s != o.SHA256 {
		c.fault(where, name+"the SHA-256 of "+o.Stored+" in "+manifest, o.SHA256, "\""+s+"\"")
	}
	for i := range r.Further() {
		o := &r.Further()[i]
		c.used[FilesDir+o.SHA256] = true
		if s := listed[manifest][o.Stored]; s != o.SHA256 {
			c.fault(where, name+"the SHA-256 of "+o.Stored+" in "+manifest, o.SHA256, "\""+s+"\"")
		} else if b, _, err := c.span(FilesDir+o.SHA256, o.Offset, int64(o.Length)); err != nil {
			c.fault(where, name+"what gives "+o.Gives+": "+err.Error(), "", "")
		} else if sum := sha256.Sum256(b); hex.EncodeToString(sum[:]) != o.Digest {
			c.fault(where, name+"the SHA-256 of the bytes of "+o.Gives, o.Digest, hex.EncodeToString(sum[:]))
		}
	}
	for n, a := range r.Attachments { // told by its number: what a check finds may be kept where nothing of evidence is
		if a.SHA256 == "" || a.SHA256 == o.SHA256 || r.FileWithheld {
			continue
		}
		if len(a.Parts) > 0 {
			if err := c.assembled(r.Record, a, listed[manifest]); err != nil {
				c.fault(where, name+fmt.Sprintf("its attachment %d: %v", n+1, err), "", "")
			}
			continue
		}
		file := FilesDir + a.SHA256
		c.used[file] = true
		if s := c.sums[file]; s == nil {
			c.fault(where, name+fmt.Sprintf("the file of its attachment %d is not in the package", n+1), file, "")
		} else if s["sha256"] != a.SHA256 {
			c.fault(where, name+fmt.Sprintf("the SHA-256 of its attachment %d", n+1), a.SHA256, s["sha256"])
		}
	}
	source := SourceName(r.Exhibit, r.Acquisition)
	if prefix := strings.ReplaceAll(source, " acquisition ", "-acquisition-"); r.Manifest != prefix+".sha256" && r.Manifest != prefix+"-content.sha256" {
		c.fault(where, name+"its manifest is not that of "+source, prefix+".sha256", r.Manifest)
	}
	switch m, ok := c.marks.Take(r.UID, source); {
	case !ok:
		c.fault(where, name+"the ledger does not mark it", "", "")
	case m.Reason != r.Mark || m.By != r.MarkedBy:
		c.fault(where, name+"its mark is not that of the ledger", m.Reason+" ("+m.By+")", r.Mark+" ("+r.MarkedBy+")")
	}
}

// assembled checks the bytes of an attachment that lies in parts of files.
func (c *checker) assembled(r *record.Record, a record.Attachment, listed map[string]string) error {
	var all []byte
	for _, s := range a.Parts {
		stored, file := s.In(r)
		if listed[stored] != file {
			return fmt.Errorf("the SHA-256 of the file that it lies in is %s", file)
		}
		c.used[FilesDir+file] = true
		b, _, err := c.span(FilesDir+file, s.Offset, int64(s.Length))
		if err != nil {
			return err
		}
		if all = append(all, b...); len(all) > maxCell {
			return fmt.Errorf("it has more than %d bytes", int64(maxCell))
		}
	}
	own, err := a.Decoded(all)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(own)
	if got := hex.EncodeToString(sum[:]); got != a.SHA256 {
		return fmt.Errorf("its SHA-256 is %s, not %s", got, a.SHA256)
	}
	return nil
}

// fieldMap gives the field map that a record names, which the package carries.
func (c *checker) fieldMap(o *record.Origin) (*fieldmap.Map, error) {
	name := MapsDir + o.MapSHA256 + ".toml"
	if !fs.ValidPath(name) || strings.Contains(o.MapSHA256, "/") {
		return nil, fmt.Errorf("%q is not a SHA-256", o.MapSHA256)
	}
	c.used[name] = true
	m := c.maps[o.MapSHA256]
	if m == nil {
		b, err := c.read(name)
		if err != nil {
			return nil, err
		}
		if m, err = fieldmap.Parse(name, b); err != nil {
			return nil, err
		}
		if m.SHA256 != o.MapSHA256 {
			return nil, fmt.Errorf("%s has the SHA-256 %s", name, m.SHA256)
		}
		c.maps[m.SHA256] = m
	}
	if m.ID() != o.FieldMap {
		return nil, fmt.Errorf("%s is %s, not %s", name, m.ID(), o.FieldMap)
	}
	return m, nil
}

// tables compares the tables of each kind with what the records give.
func (c *checker) tables() {
	for name, want := range Tables(c.records) {
		c.used[name] = true
		b, err := c.read(name)
		if err != nil {
			c.fault(name, "cannot be read: "+err.Error(), "", "")
		} else if !bytes.Equal(b, want) {
			c.fault(name, "is not what "+RecordsName+" gives", "", "")
		}
	}
}
