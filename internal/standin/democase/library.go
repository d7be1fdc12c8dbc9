package democase

import (
	"bytes"
	_ "embed"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/image/draw"
)

// Databases of the handsets' media libraries, whose layouts are those of the field maps of their names.
const (
	shelfPath = "/data/shelf/shelf.db"
	smallPath = "/data/shelf/small.db"
	keepPath  = "/apps/keep/keep.sqlite"
)

// Sounds that no program of the project can make: two memos, spoken by espeak-ng and coded as AMR by SoX, and a
// tune, plucked by SoX and coded as MP3 by FFmpeg.
var (
	//go:embed sounds/tile.amr
	tileMemo []byte
	//go:embed sounds/locker.amr
	lockerMemo []byte
	//go:embed sounds/slack-water.mp3
	slackWater []byte
)

// piece is a file of a handset's library, as its index has it.
type piece struct {
	n                            int // among all, sort by sort
	sort, file, title, by, album string
	at                           time.Time
	secs                         float64
	where                        *spot
	data                         []byte
}

// What became of a piece on the morning after.
const (
	stays = iota
	binned
	erased
)

// fate is that of a piece at end.
func (p piece) fate(end time.Time) int {
	switch {
	case end.Before(deletions) || !p.at.Before(deletions):
	case p.n%9 == 4:
		return erased
	case p.n%9 == 7:
		return binned
	}
	return stays
}

// store is how a handset's library names what it keeps.
type library struct {
	seed                                      uint64
	device                                    [2]string
	photos, films, memos, long, tunes, papers string // formats of paths
	notes, bin                                string // folders
}

var (
	orlopLibrary = library{26, [2]string{"Orlop", Handset.Mark}, "/media/camera/C%04d.jpg", "/media/camera/F%04d.mov", "/media/memos/memo %02d.amr", "/media/recordings/R%04d.wav", "/media/music/%02d.mp3", "/media/papers/", "/media/notes/", "/media/.rubbish/"}
	tarnLibrary  = library{27, [2]string{"Tarn", Galley.Mark}, "/shots/camera/t-%03d.jpg", "/shots/camera/m-%03d.mov", "/sounds/own/s-%02d.amr", "/sounds/own/long-%02d.wav", "/sounds/music/%02d.mp3", "/papers/", "/papers/notes/", "/bin/"}
)

// longBytes is the size of a long recording.
const longBytes = 2 << 20

// once keeps what is made of a name: all backups and snapshots have the same.
var once sync.Map

func madeOnce(name string, make func() ([]byte, error)) ([]byte, error) {
	f, _ := once.LoadOrStore(name, sync.OnceValues(make))
	return f.(func() ([]byte, error))()
}

// pieces are what a handset's library has had up to end, in the order in which they came.
func (l library) pieces(end time.Time) (out []piece, err error) {
	taken := shots()
	if l.seed == tarnLibrary.seed {
		taken = strolls()
	}
	for i, s := range taken {
		b, err := madeOnce(fmt.Sprint("photograph ", l.seed, i), func() ([]byte, error) {
			var b bytes.Buffer
			err := jpeg.Encode(&b, held(scenery(rand.New(rand.NewPCG(l.seed, uint64(100+i))), s.at), s.turned), &jpeg.Options{Quality: 82})
			return s.into(b.Bytes()), err
		})
		if err != nil {
			return nil, err
		}
		out = append(out, piece{sort: "photo", file: fmt.Sprintf(l.photos, i+1), title: s.title, at: s.at, where: s.where, data: b})
	}
	r := rand.New(rand.NewPCG(l.seed, 8))
	for i := range 12 {
		at := start.AddDate(0, 0, 34*i+5).Add(time.Duration(r.IntN(30000)) * time.Second)
		p := where(at).near(r, 20)
		b, err := madeOnce(fmt.Sprint("film ", l.seed, i), func() ([]byte, error) { return moving(l.seed, i, at, p, l.device) })
		if err != nil {
			return nil, err
		}
		out = append(out, piece{sort: "film", file: fmt.Sprintf(l.films, i+1), at: at, secs: filmSeconds, where: &p, data: b})
	}
	for i := range 14 {
		at := start.AddDate(0, 0, 30*i+2).Add(time.Duration(r.IntN(40000)) * time.Second)
		b, secs, title := voice(l.seed*100+uint64(i), 3+i%6), float64(3+i%6), []string{"shopping", "reading of the gauge", "idea", "number of the yard", "song for the choir"}[i%5]
		file := strings.Replace(fmt.Sprintf(l.memos, i+1), ".amr", ".wav", 1)
		if i == 13 {
			at, b, secs, title, file = evening.Add(-2*time.Hour), tileMemo, 8.98, "note", fmt.Sprintf(l.memos, i+1)
			if l.seed == tarnLibrary.seed {
				b, secs = lockerMemo, 7.16
			}
		}
		out = append(out, piece{sort: "memo", file: file, title: title, at: at, secs: secs, data: b})
	}
	for i, t := range []string{"Slack Water", "Second Buoy", "The Keeper", "Low Reel", "Fog Signal", "Six Oars", "Kelp", "North Quay", "Home by Lamp", "Harbour Air", "Gull", "Herring Town"} {
		at := start.AddDate(0, 0, 33*i+9)
		out = append(out, piece{sort: "song", file: fmt.Sprintf(l.tunes, i+1), title: t, by: "The Quay Band", album: "Tides", at: at, secs: 10.08, data: named(slackWater, t)})
	}
	for i, d := range papers {
		at := start.AddDate(0, 0, 36*i+12)
		if d.at != nil {
			at = *d.at
		}
		folder := l.papers
		if strings.HasSuffix(d.name, ".md") {
			folder = l.notes
		}
		if d.only == "" || d.only == l.device[0] {
			out = append(out, piece{sort: "paper", file: folder + d.name, title: d.title, by: d.by, at: at, data: d.bytes(at)})
		}
	}
	for i := range out {
		out[i].n = i
	}
	slices.SortStableFunc(out, func(a, b piece) int { return a.at.Compare(b.at) })
	for i, p := range out {
		if !p.at.Before(end) {
			return out[:i], nil
		}
	}
	return out, nil
}

// strolls are the photographs of the galley phone.
func strolls() (out []shot) {
	r := rand.New(rand.NewPCG(27, 9))
	for i := range 22 {
		at := start.AddDate(0, 0, 19*i+3).Add(time.Duration(8+r.IntN(10)) * time.Hour)
		s := shot{at: at, offset: "+00:00", turned: []uint16{1, 6, 1, 3}[r.IntN(4)], device: [2]string{"Tarn", Galley.Mark}}
		if i%3 != 0 {
			p := stock.near(r, 400)
			s.where = &p
		}
		out = append(out, s)
	}
	return out
}

// files are those of a library that are there at end: what was binned lies in the bin.
func (l library) files(end time.Time) (out []content, err error) {
	all, err := l.pieces(end)
	for _, p := range all {
		switch p.fate(end) {
		case stays:
			out = append(out, content{p.file, p.data, p.at})
		case binned:
			out = append(out, content{l.binnedAs(p.file), p.data, deletions})
		}
	}
	return out, err
}

func (l library) binnedAs(file string) string {
	return l.bin + file[strings.LastIndexByte(file, '/')+1:]
}

// thumbnail is a picture of a photograph or of a film's first frame, of some of its size, nil of others.
func (p piece) thumbnail(part float64) ([]byte, error) {
	if p.sort != "photo" && p.sort != "film" {
		return nil, nil
	}
	return madeOnce(fmt.Sprint("thumbnail ", part, p.file), func() ([]byte, error) {
		from := bytes.Index(p.data, []byte("\xff\xd8\xff"))
		img, err := jpeg.Decode(bytes.NewReader(p.data[from:]))
		if err != nil {
			return nil, err
		}
		size := img.Bounds().Size()
		small := image.NewRGBA(image.Rect(0, 0, int(float64(size.X)*part), int(float64(size.Y)*part)))
		draw.ApproxBiLinear.Scale(small, small.Rect, img, img.Bounds(), draw.Src, nil)
		var b bytes.Buffer
		err = jpeg.Encode(&b, small, &jpeg.Options{Quality: 70})
		return b.Bytes(), err
	})
}

// shelf writes the index of the harbour phone's library.
func shelf(path string, end time.Time, _ *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	const columns = "id INTEGER PRIMARY KEY, sort TEXT NOT NULL, file TEXT NOT NULL, made INTEGER NOT NULL, title TEXT, secs INTEGER, lat REAL, lon REAL, author TEXT, album TEXT"
	db.exec("CREATE TABLE item(" + columns + ")")
	db.exec("CREATE TABLE rubbish(" + columns + ", purge INTEGER NOT NULL)")
	all, err := orlopLibrary.pieces(end)
	if err != nil {
		return nil, err
	}
	for i, p := range all {
		lat, lon := p.coordinates()
		db.put(p.at, "INSERT INTO item VALUES (?, ?, ?, ?, nullif(?, ''), nullif(?, 0), ?, ?, nullif(?, ''), nullif(?, ''))", i+1, p.sort, p.file, p.at.UnixMilli(), p.title, int(p.secs), lat, lon, p.by, p.album)
	}
	db.live()
	for i, p := range all {
		switch p.fate(end) {
		case erased:
			db.remove(t, shelfPath, "item", "single rows", "id = ?", i+1)
		case binned:
			db.exec("INSERT INTO rubbish SELECT id, sort, ?, made, title, secs, lat, lon, author, album, ? FROM item WHERE id = ?", orlopLibrary.binnedAs(p.file), deletions.AddDate(0, 0, 30).UnixMilli(), i+1)
			db.remove(t, shelfPath, "item", "moved to the holding area", "id = ?", i+1)
		}
	}
	return db.finish(t, shelfPath, "item", "rubbish")
}

func (p piece) coordinates() (lat, lon any) {
	if p.where == nil {
		return nil, nil
	}
	return p.where.lat, p.where.lon
}

// thumbs writes the harbour phone's cache of thumbnails, which outlive their photographs.
func thumbs(path string, end time.Time, _ *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE small(id INTEGER PRIMARY KEY, of TEXT NOT NULL, made INTEGER NOT NULL, jpeg BLOB)")
	all, err := orlopLibrary.pieces(end)
	if err != nil {
		return nil, err
	}
	for i, p := range all {
		b, err := p.thumbnail(0.2)
		if err != nil {
			return nil, err
		}
		if b != nil {
			db.put(p.at, "INSERT INTO small VALUES (?, ?, ?, ?)", i+1, p.file, p.at.UnixMilli(), b)
		}
	}
	db.live()
	if !end.Before(deletions) {
		db.remove(t, smallPath, "small", "single rows", "id % 9 = 5")
	}
	return db.finish(t, smallPath, "small")
}

// keep writes the galley phone's library, thumbnails and all.
func keep(path string, end time.Time, _ *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE thing(no INTEGER PRIMARY KEY, shelf TEXT NOT NULL, path TEXT NOT NULL, at REAL NOT NULL, name TEXT, runs REAL, place TEXT, by TEXT, goes REAL)")
	db.exec("CREATE TABLE mini(thing INTEGER PRIMARY KEY, path TEXT NOT NULL, at REAL NOT NULL, picture BLOB)")
	since2001 := func(t time.Time) float64 { return seconds(t) - 978307200 }
	all, err := tarnLibrary.pieces(end)
	if err != nil {
		return nil, err
	}
	for i, p := range all {
		place := any(nil)
		if p.where != nil {
			place = fmt.Sprintf(`{"lat":%.6f,"lon":%.6f}`, p.where.lat, p.where.lon)
		}
		db.put(p.at, "INSERT INTO thing VALUES (?, ?, ?, ?, nullif(?, ''), nullif(?, 0), ?, nullif(?, ''), NULL)", i+1, p.sort, p.file, since2001(p.at), p.title, p.secs, place, p.by)
		b, err := p.thumbnail(0.25)
		if err != nil {
			return nil, err
		}
		if b != nil {
			db.put(p.at, "INSERT INTO mini VALUES (?, ?, ?, ?)", i+1, p.file, since2001(p.at), b)
		}
	}
	db.live()
	for i, p := range all {
		switch p.fate(end) {
		case erased:
			db.remove(t, keepPath, "thing", "single rows", "no = ?", i+1)
		case binned:
			if d := db.note(t, keepPath, "thing", "moved to the holding area", "no = ?", i+1); d != nil {
				return nil, d
			}
			db.exec("UPDATE thing SET shelf = 'bin ' || shelf, path = ?, goes = ? WHERE no = ?", tarnLibrary.binnedAs(p.file), since2001(deletions.AddDate(0, 0, 40)), i+1)
		}
	}
	if !end.Before(deletions) {
		db.remove(t, keepPath, "mini", "single rows", "thing % 11 = 6")
	}
	return db.finish(t, keepPath, "thing", "mini")
}

// named is a tune under another title of the same length in bytes or shorter (ID3v2.4.0 section 4.2).
func named(tune []byte, title string) []byte {
	b := bytes.Clone(tune)
	at := bytes.Index(b, []byte("TIT2"))
	n := int(b[at+7]) // of less than 128 bytes
	copy(b[at+11:at+10+n], append([]byte(title), make([]byte, n)...))
	return b
}

const (
	filmFrames  = 8
	filmSeconds = 4
)

// moving is a short film of the sea: pictures coded one by one, with their index behind them (ISO/IEC 14496-12; the
// coding "jpeg" of the older form).
func moving(seed uint64, n int, at time.Time, p spot, device [2]string) ([]byte, error) {
	be := binary.BigEndian
	box := func(name string, parts ...[]byte) []byte {
		b := bytes.Join(parts, nil)
		return append(append(be.AppendUint32(nil, uint32(8+len(b))), name...), b...)
	}
	words := func(v ...uint32) (b []byte) {
		for _, n := range v {
			b = be.AppendUint32(b, n)
		}
		return b
	}
	var data, sizes, offsets []byte
	head := box("ftyp", []byte("qt  \x00\x00\x02\x00qt  "))
	for i := range filmFrames {
		var b bytes.Buffer
		img := scenery(rand.New(rand.NewPCG(seed, uint64(5000+n))), at) // the same place
		shifted := image.NewRGBA(image.Rect(0, 0, 400, 300))
		draw.Draw(shifted, shifted.Rect, img, image.Pt(8*i, 3*i), draw.Src) // along which the camera goes
		if err := jpeg.Encode(&b, shifted, &jpeg.Options{Quality: 60}); err != nil {
			return nil, err
		}
		offsets = be.AppendUint32(offsets, uint32(len(head)+8+len(data)))
		sizes = be.AppendUint32(sizes, uint32(b.Len()))
		data = append(data, b.Bytes()...)
	}
	const scale, each = 600, 600 * filmSeconds / filmFrames
	since1904 := uint32(at.Unix() + 2082844800)
	matrix := words(0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)
	entry := append(words(0, 0, 0, 0)[:6], 0, 1)                                      // reserved, reference
	entry = append(entry, make([]byte, 16)...)                                        // version, vendor, qualities
	entry = append(entry, 0x01, 0x90, 0x01, 0x2c)                                     // 400 by 300
	entry = append(entry, words(0x480000, 0x480000, 0)...)                            // 72 dots an inch
	entry = append(append(entry, 0, 1), append(make([]byte, 32), 0, 24, 255, 255)...) // frames a sample, name, depth
	index := box("moov",
		box("mvhd", words(0, since1904, since1904, scale, scale*filmSeconds, 0x10000, 0x01000000, 0, 0), matrix, words(0, 0, 0, 0, 0, 0, 2)),
		box("trak",
			box("tkhd", words(7, since1904, since1904, 1, 0, scale*filmSeconds, 0, 0, 0, 0), matrix, words(400<<16, 300<<16)),
			box("mdia",
				box("mdhd", words(0, since1904, since1904, scale, scale*filmSeconds, 0)),
				box("hdlr", words(0), []byte("mhlrvide"), words(0, 0, 0), []byte{0}),
				box("minf",
					box("vmhd", words(1, 0, 0)),
					box("dinf", box("dref", words(0, 1), box("url ", words(1)))),
					box("stbl", box("stsd", words(0, 1), box("jpeg", entry)), box("stts", words(0, 1, filmFrames, each)), box("stsc", words(0, 1, 1, 1, 1)),
						box("stsz", words(0, 0, filmFrames), sizes), box("stco", words(0, filmFrames), offsets))))),
		box("udta", userText("\xa9xyz", fmt.Sprintf("%+08.4f%+09.4f/", p.lat, p.lon), box), userText("\xa9mak", device[0], box), userText("\xa9mod", device[1], box)))
	return bytes.Join([][]byte{head, box("mdat", data), index}, nil), nil
}

// userText is a text of user data: its length, its language, and itself.
func userText(name, s string, box func(string, ...[]byte) []byte) []byte {
	return box(name, []byte{byte(len(s) >> 8), byte(len(s)), 0x55, 0xc4}, []byte(s))
}

// libraryFiles are all that lies about in a handset's folders: its library, and mail that was put away.
func (l library) libraryFiles(end time.Time) ([]content, error) {
	out, err1 := l.files(end)
	at := start.AddDate(0, 8, 0)
	if at.Before(end) {
		mail, err := putAway(l.seed)
		out, err1 = append(out, content{l.papers + "old mail.mbox", mail, at}), errors.Join(err1, err)
	}
	for _, r := range recordings(l.long, 2, longBytes) {
		if r.changed.Before(end) {
			out = append(out, r)
		}
	}
	faces, notes, count, first, step := "/data/people/faces/f%02d.jpg", "/data/jot/clips/n%03d.jpg", 6, 3, 10
	if l.seed == tarnLibrary.seed {
		faces, notes, count, first, step = "/apps/folk/likeness/%d.jpg", "/apps/days/slips/%d.jpg", 4, 6, 24
	}
	var err2, err3, err4 error
	for i, b := range ownBackups {
		if b.family != l.device[0] || !b.at.Before(end) {
			continue
		}
		file, err := madeOnce(fmt.Sprint("own backup ", i), b.make)
		out, err4 = append(out, content{b.path, file, b.at}), errors.Join(err4, err)
		if b.keyAt != "" {
			out = append(out, content{b.keyAt, []byte(b.key + "\n"), start})
		}
	}
	for i := range count {
		b, err := madeOnce(fmt.Sprint("face ", l.seed, i), func() ([]byte, error) { return face(rand.New(rand.NewPCG(l.seed, uint64(700+i)))) })
		out, err2 = append(out, content{fmt.Sprintf(faces, i+1), b, start}), errors.Join(err2, err)
	}
	for i, n := first, 0; n < 8; i, n = i+step, n+1 {
		if at := start.AddDate(0, 0, 3*i); at.Before(end) && n%4 != 2 { // some are gone
			b, err := madeOnce(fmt.Sprint("clipped ", l.seed, i), func() ([]byte, error) { return snapshot(rand.New(rand.NewPCG(l.seed, uint64(800+i)))) })
			out, err3 = append(out, content{fmt.Sprintf(notes, i), b, at}), errors.Join(err3, err)
		}
	}
	return out, errors.Join(err1, err2, err3, err4)
}

// face is a picture of somebody who does not exist: a head and shoulders before a wall.
func face(r *rand.Rand) ([]byte, error) {
	img := image.NewRGBA(image.Rect(0, 0, 160, 160))
	tone := func(from, width int) color.RGBA {
		return color.RGBA{uint8(from + r.IntN(width)), uint8(from + r.IntN(width)), uint8(from + r.IntN(width)), 255}
	}
	wall, coat := tone(150, 80), tone(30, 110)
	hair := []color.RGBA{{40, 30, 26, 255}, {96, 62, 34, 255}, {176, 132, 72, 255}, {150, 148, 146, 255}}[r.IntN(4)]
	skin := []color.RGBA{{236, 196, 160, 255}, {198, 140, 98, 255}, {120, 78, 52, 255}}[r.IntN(3)]
	for y := range 160 {
		for x := range 160 {
			dx, head, shoulders := x-80, y-66, y-170
			c := wall
			switch {
			case dx*dx*10/14+head*head*10/18 < 1000 && head > -14+dx*dx/90:
				c = skin
			case dx*dx*10/17+(head+4)*(head+4)*10/20 < 1000:
				c = hair
			case dx*dx*10/36+shoulders*shoulders*10/26 < 1900:
				c = coat
			}
			img.SetRGBA(x, y, c)
		}
	}
	var b bytes.Buffer
	err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 85})
	return b.Bytes(), err
}
