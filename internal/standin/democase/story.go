package democase

import (
	"bytes"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crosswind/core/fieldmap"
)

// The demo's story: four people around a store of survey instruments on an
// island that does not exist, over fourteen months. Names are of no one.
var people = []struct{ name, number, note string }{
	{"Ketil", "+44 7700 900417", "harbour, evenings"},
	{"Maren O.", "+44 7700 900288", "store key"},
	{"Tor-Ivar", "+44 7700 900119", "van"},
	{"Sunniva", "+44 7700 900634", ""},
	{"Ferry desk", "+44 1632 960117", "opens 06:30"},
	{"Odda kiosk", "+44 1632 960288", ""},
	{"Aunt Brit", "+44 7700 900802", "birthday 4 May"},
	{"Leif at work", "+44 7700 900345", "shift lead"},
}

// Counsel is a privileged person: in calls and contacts, not in messages.
var Counsel = struct{ Name, Number string }{"T. Lind, counsel", "+44 7700 900551"}

var late = turnsSaid(`where are you
at the desk, why
two people from the mainland were here
I was with Brit until nine
they asked for the van
it stands at the yard
since when
Thursday
they took a picture of the case by the drain
what did they want
the times of the ferry
and did you say anything
that I sleep at night
not this week then
no
is the kettle on
always
bring your own cup, mine is gone
who has it
Leif
of course
rain from noon
I have the oilskin
then come
ten minutes`)

// planted are the lines that the case turns on: sent on the evening of 11
// September 2026 and deleted before the backup.
var planted = []struct {
	minute int
	mine   bool
	body   string
}{
	{0, false, "you are late"},
	{1, true, "traffic. where"},
	{2, false, "the side gate, not the quay. bring the long case"},
	{3, true, "how many fit"},
	{5, false, "six if you take the lids off"},
	{6, true, "and the brass one"},
	{8, false, "leave the brass one. it has a number on it"},
	{41, true, "done. lights off at the store"},
	{43, false, "good. nothing on this phone after tonight"},
}

func stamp(e fieldmap.Epoch, t time.Time) int64 { return int64(t.Sub(e.Since) / e.Unit) }

const (
	talkPath   = "/data/talk/talk.db"
	ringPath   = "/data/ring/ring.db"
	peoplePath = "/data/people/people.db"
	habitsPath = "/data/habits/habits.db" // which no built-in map reads: docs/fieldmaps.md has one
)

// deletions is when the owner deleted things, one after the other.
var deletions = time.Date(2026, 9, 12, 6, 0, 0, 0, time.UTC)

// handsetFiles makes everything on the handset, as it was at a moment, but the
// recordings.
func handsetFiles(work string, end time.Time, few bool) ([]content, *Truth, error) {
	t := &Truth{Live: map[string]int{}}
	var out []content
	from := begin(few)
	makers := []maker{{talkPath, since(from, talk)}, {ringPath, since(from, ring)}, {peoplePath, since(from, cards)}, {habitsPath, since(from, habits)}}
	if !few {
		makers = append(makers, orlopApps...)
	}
	for _, m := range makers {
		b, err := m.make(filepath.Join(work, filepath.Base(m.path)), end, rand.New(rand.NewPCG(26, uint64(len(m.path)))), t)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, content{m.path, b, end})
	}
	if !end.Before(edited) {
		main, log, err := edits(filepath.Join(work, filepath.Base(talkPath)), t)
		if err != nil {
			return nil, nil, err
		}
		out[0].data = main
		out = append(out, content{talkPath + "-wal", log, end})
	}
	if !few {
		more, err1 := orlopFiles(end)
		library, err2 := orlopLibrary.libraryFiles(end)
		if err := errors.Join(err1, err2); err != nil {
			return nil, nil, err
		}
		out = append(append(out, more...), library...)
	}
	r := rand.New(rand.NewPCG(26, 14))
	out = append(out,
		content{"/system/facts.txt", []byte("name=" + Handset.Name + "\nmark=" + Handset.Mark + "\nserial=" + Handset.Serial + "\nimei=" + Handset.IMEI + "\nsystem=" + Handset.System + "\nzone=" + Zone + "\n"), end},
		content{"/system/.radio", []byte("home=off\nlast=2026-09-24T18:55:02Z\n"), end},
	)
	for i := range 24 {
		b, err := picture(r)
		if err != nil {
			return nil, nil, err
		}
		at := lately.AddDate(0, 0, i*8).Add(time.Duration(r.IntN(40000)) * time.Second)
		if at.After(end) {
			break
		}
		out = append(out, content{fmt.Sprintf("/media/pictures/P%04d.png", 101+i), b, at})
	}
	return out, t, nil
}

// The story begins in start; what tests need of it, and what only fills storage, lately.
var (
	start  = time.Date(2025, 7, 21, 6, 0, 0, 0, time.UTC)
	lately = time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)
)

// since makes a maker of one whose story begins at from.
func since(from time.Time, make func(path string, from, end time.Time, r *rand.Rand, t *Truth) ([]byte, error)) func(string, time.Time, *rand.Rand, *Truth) ([]byte, error) {
	return func(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
		return make(path, from, end, r, t)
	}
}

// last is the last moment that any of the demo's sources is of.
var last = time.Date(2026, 9, 24, 19, 12, 12, 0, time.UTC)

// begin is when the story begins.
func begin(few bool) time.Time {
	if few {
		return lately
	}
	return start
}

// line is a message of the owner of the harbour phone with one of the people.
type line struct {
	who  int
	mine bool
	at   time.Time
	body string
}

// lines are the owner's messages.
func lines(from time.Time) (out []line) {
	r := rand.New(rand.NewPCG(26, uint64(len(talkPath))))
	planted := planted
	end := time.Date(2026, 9, 24, 12, 0, 0, 0, time.UTC)
	for at := from; ; {
		at = at.Add(time.Duration(60+r.IntN(460)) * time.Minute * 5 / 8)
		if h := at.Hour(); h < 5 {
			at = at.Add(time.Duration(5-h) * time.Hour)
		}
		for len(planted) > 0 && !evening.Add(time.Duration(planted[0].minute)*time.Minute).After(at) {
			p := planted[0]
			out = append(out, line{0, p.mine, evening.Add(time.Duration(p.minute)*time.Minute + time.Duration(r.IntN(40))*time.Second), p.body})
			planted = planted[1:]
		}
		if at.After(end) {
			return out
		}
		who, mine := r.IntN(len(people))*r.IntN(len(people))/len(people), r.IntN(2) // a few talk most
		for _, l := range exchange(r, 2) {
			if at.Before(end) {
				out = append(out, line{who, (l.who+mine)%2 == 0, at, l.said})
			}
			at = at.Add(time.Duration(15+r.IntN(400)) * time.Second)
		}
	}
}

// talk writes the message app's database: layout "talk 5".
func talk(path string, from, end time.Time, _ *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE circle(id INTEGER PRIMARY KEY, title TEXT NOT NULL, opened INTEGER NOT NULL)")
	db.exec("CREATE TABLE line(id INTEGER PRIMARY KEY AUTOINCREMENT, circle INTEGER NOT NULL, peer TEXT NOT NULL, mine INTEGER NOT NULL, sent INTEGER NOT NULL, body TEXT, seen INTEGER NOT NULL)")
	db.exec("CREATE TABLE binned(id INTEGER PRIMARY KEY, circle INTEGER NOT NULL, peer TEXT NOT NULL, mine INTEGER NOT NULL, sent INTEGER NOT NULL, body TEXT, seen INTEGER NOT NULL, gone INTEGER NOT NULL, purge INTEGER NOT NULL)")
	db.exec("CREATE INDEX line_by_circle ON line(circle, sent)")
	for i, p := range people {
		db.put(from, "INSERT INTO circle VALUES (?, ?, ?)", i+1, p.name+" and owner", stamp(fieldmap.Millis2001, from))
	}
	say := func(l line) {
		db.put(l.at, "INSERT INTO line(circle, peer, mine, sent, body, seen) VALUES (?, ?, ?, ?, ?, 1)", l.who+1, people[l.who].number, l.mine, stamp(fieldmap.Millis2001, l.at), l.body)
	}
	for _, l := range lines(from) {
		say(l)
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, talkPath, "line", "binned")
	}
	// The owner's deletions, in the order in which they happened.
	db.remove(t, talkPath, "line", "single rows", "id % 61 = 11 AND circle > 1")
	// Some of that space is taken by newer lines.
	for i := range 25 {
		say(line{1 + i%3, i%2 == 0, time.Date(2026, 9, 24, 13, i, 0, 0, time.UTC), late[i]})
	}
	db.live()
	db.remove(t, talkPath, "line", "a long run", "id BETWEEN 2400 AND 2700")
	db.remove(t, talkPath, "line", "a whole conversation", "circle = 7")
	db.remove(t, talkPath, "circle", "a whole conversation", "id = 7")
	for _, p := range [...]string{"the side gate%", "how many fit", "six if you%", "and the brass%", "leave the brass%", "done. lights%", "good. nothing%"} {
		db.remove(t, talkPath, "line", "single rows", "circle = 1 AND body LIKE ?", p)
	}
	// The newest deletions are still in the app's holding area, for 30 days.
	gone := time.Date(2026, 9, 20, 8, 30, 0, 0, time.UTC)
	held := "circle IN (2, 3) AND id % 29 = 4"
	db.exec("INSERT INTO binned SELECT id, circle, peer, mine, sent, body, seen, ?, ? FROM line WHERE "+held,
		stamp(fieldmap.Millis2001, gone), stamp(fieldmap.Millis2001, gone.AddDate(0, 0, 30)))
	db.remove(t, talkPath, "line", "moved to the holding area", held)
	return db.finish(t, talkPath, "line", "binned")
}

// edited is when the messages were changed last.
var edited = time.Date(2026, 9, 24, 14, 2, 0, 0, time.UTC)

// edits is what happened to the messages last, and lies in the database's log: three
// of them were changed, one twice, and one was sent and withdrawn again.
func edits(path string, t *Truth) (main, log []byte, err error) {
	db, err := sql.Open("sqlite", path)
	if err != nil {
		return nil, nil, err
	}
	db.SetMaxOpenConns(1)
	d := &database{DB: db, path: path}
	defer d.Close()
	for _, q := range []string{"secure_delete=OFF", "journal_mode=WAL", "wal_autocheckpoint=0"} {
		d.exec("PRAGMA " + q)
	}
	change := func(like, body string) {
		if d.err == nil {
			d.err = d.note(t, talkPath, "line", "changed afterwards", "body LIKE ?", like)
		}
		d.exec("UPDATE line SET body = ? WHERE body LIKE ?", body, like)
	}
	change(late[3], "I was at home all evening, ask anybody")
	change(late[8], "the case? no idea which one you mean")
	change("the case? no idea%", "no idea what you mean")
	change(late[13], "not this week")
	d.exec("INSERT INTO line(circle, peer, mine, sent, body, seen) VALUES (3, ?, 1, ?, 'the case is under the third boat, come after ten', 0)",
		people[2].number, stamp(fieldmap.Millis2001, edited))
	d.remove(t, talkPath, "line", "withdrawn", "body LIKE 'the case is under%'")
	if d.err != nil {
		return nil, nil, d.err
	}
	if main, err = os.ReadFile(path); err == nil {
		log, err = os.ReadFile(path + "-wal")
	}
	if err == nil {
		err = sameLog(log)
	}
	return main, log, err
}

// unanswered is when Maren called on the evening, by the owner's handset in vain.
var unanswered = time.Date(2026, 9, 11, 22, 10, 5, 0, time.UTC)

// between are the calls between the owner and Maren: each handset keeps them as its own network told it. One of them the two
// tell otherwise: on the owner's it was not answered, on hers an answering service was talked to.
func between(from time.Time) (out []call) {
	r := rand.New(rand.NewPCG(26, uint64(len(ringPath))))
	for at := from.Add(31 * time.Hour); at.Before(last); at = at.Add(time.Duration(2000+r.IntN(9000)) * time.Minute) {
		c := call{at: at, mine: r.IntN(2) == 0, took: r.IntN(6) > 0}
		if c.took {
			c.secs = 8 + r.IntN(700)
		}
		out = append(out, c)
	}
	return append(out, call{at: unanswered, spoken: 47})
}

// call is one between the owner and Maren. spoken is how long hers lasted, in seconds, if that is something else.
type call struct {
	at           time.Time
	mine, took   bool
	secs, spoken int
}

// ring writes the call app's database: layout "ring 1".
func ring(path string, from, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE ring(id INTEGER PRIMARY KEY, number TEXT NOT NULL, way INTEGER NOT NULL, began INTEGER NOT NULL, secs INTEGER NOT NULL, took INTEGER NOT NULL)")
	type row struct {
		number string
		call
	}
	ketil := call{at: time.Date(2026, 9, 11, 20, 58, 12, 0, time.UTC), mine: true, secs: 250, took: true}
	all := []row{{people[0].number, ketil}}
	for _, c := range between(from) {
		all = append(all, row{maren, c})
	}
	at := from
	for n := range 890 {
		if at = at.Add(time.Duration(90+r.IntN(740)) * time.Minute); at.After(last) {
			break
		}
		c := row{call: call{at: at, took: r.IntN(5) > 0}}
		if c.took {
			c.secs = 8 + r.IntN(900)
		}
		who := r.IntN(len(people))
		if people[who].number == maren { // whose calls are told above
			who++
		}
		switch {
		case n%41 == 40:
			c.number, c.mine = Counsel.Number, n%2 == 1
		case n%53 == 52: // a number that is in no contact
			c.number = fmt.Sprintf("+44 7700 900%03d", 900+r.IntN(90))
		default:
			c.number, c.mine = people[who].number, r.IntN(2) == 1
		}
		all = append(all, c)
	}
	slices.SortStableFunc(all, func(a, b row) int { return a.at.Compare(b.at) })
	for i, c := range all {
		db.put(c.at, "INSERT INTO ring VALUES (?, ?, ?, ?, ?, ?)", i+1, c.number, map[bool]int{false: 1, true: 2}[c.mine], stamp(fieldmap.Seconds1970, c.at), c.secs, c.took)
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, ringPath, "ring")
	}
	db.remove(t, ringPath, "ring", "single rows", fmt.Sprintf("id %% 19 = 7 OR began IN (%d, %d)", ketil.at.Unix(), unanswered.Unix()))
	db.remove(t, ringPath, "ring", "a long run", "id BETWEEN 300 AND 330")
	return db.finish(t, ringPath, "ring")
}

// cards writes the contacts app's database: layout "people 2".
func cards(path string, from, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE card(id INTEGER PRIMARY KEY, name TEXT NOT NULL, note TEXT, added INTEGER NOT NULL)")
	db.exec("CREATE TABLE reach(card INTEGER NOT NULL, sort TEXT NOT NULL, value TEXT NOT NULL)")
	for i, p := range people {
		added := from.AddDate(0, 0, i)
		db.put(added, "INSERT INTO card VALUES (?, ?, nullif(?, ''), ?)", i+1, p.name, p.note, stamp(fieldmap.Seconds1980, added))
		db.put(added, "INSERT INTO reach VALUES (?, 'mobile', ?)", i+1, p.number)
	}
	if from == start { // those with a picture
		db.exec("CREATE TABLE face(card INTEGER NOT NULL, file TEXT NOT NULL)")
		for i := range people[:6] {
			db.put(from.AddDate(0, 0, i), "INSERT INTO face VALUES (?, ?)", i+1, fmt.Sprintf("f%02d.jpg", i+1))
		}
	}
	db.put(from.AddDate(0, 4, 0), "INSERT INTO card VALUES (50, ?, NULL, ?)", Counsel.Name, stamp(fieldmap.Seconds1980, from.AddDate(0, 4, 0)))
	db.put(from.AddDate(0, 4, 0), "INSERT INTO reach VALUES (50, 'work', ?)", Counsel.Number)
	trades := strings.Fields("boatyard bakery tyres chandlery clinic ferry laundry locksmith net-loft post radio rope school slipway smithy store survey tide tower weather")
	every := 29 * time.Hour
	if from == start {
		every = 63 * time.Hour
	}
	for i := range 160 {
		added := from.Add(time.Duration(i) * every)
		if added.After(last) {
			break
		}
		name := fmt.Sprintf("%s %s", trades[r.IntN(len(trades))], string(rune('A'+r.IntN(26))))
		db.put(added, "INSERT INTO card VALUES (?, ?, ?, ?)", 100+i, name, fmt.Sprintf("berth %d", r.IntN(90)), stamp(fieldmap.Seconds1980, added))
		db.put(added, "INSERT INTO reach VALUES (?, 'work', ?)", 100+i, fmt.Sprintf("+44 1632 960%03d", 300+i))
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, peoplePath, "card", "reach")
	}
	db.remove(t, peoplePath, "card", "single rows", "id % 8 = 3 AND id > 99")
	db.remove(t, peoplePath, "reach", "single rows", "card % 8 = 3 AND card > 99")
	return db.finish(t, peoplePath, "card", "reach")
}

// habits writes the database of an app for habits, whose layout is that of docs/fieldmaps.md.
func habits(path string, from, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE habit(id INTEGER PRIMARY KEY, title TEXT NOT NULL, owner TEXT)")
	db.exec("CREATE TABLE entry(id INTEGER PRIMARY KEY, habit INTEGER NOT NULL, sort INTEGER NOT NULL, at REAL NOT NULL, mood TEXT, extra TEXT)")
	db.exec("INSERT INTO habit VALUES (1, 'Row before breakfast', ?), (2, 'No sugar', NULL), (3, 'In bed by eleven', NULL)", owner)
	rowed := []string{"fog, 4 km", "out to the second buoy", "flat calm", "turned back, swell", "with Leif", "arms like lead"}
	slept := []string{"read too long", "asleep at once", "the neighbours again", "late shift"}
	n := 0
	add := func(habit, sort int, at time.Time, mood, note, tag string) {
		n++
		extra := any(nil)
		if note != "" {
			extra = fmt.Sprintf(`{"note": %q, "tags": [%q]}`, note, tag)
		}
		db.put(at, "INSERT INTO entry VALUES (?, ?, ?, ?, nullif(?, ''), ?)", n, habit, sort, at.Sub(fieldmap.Millis2001.Since).Seconds(), mood, extra)
	}
	moods := []string{"good", "good", "bad"}
	for at := from; at.Before(last); at = at.AddDate(0, 0, 1) {
		add(1+r.IntN(3), 9, at.Add(-time.Hour), "", "", "") // the app's own reminder
		if r.IntN(3) > 0 {
			add(1, 0, at.Add(time.Duration(r.IntN(5400))*time.Second), moods[r.IntN(3)], rowed[r.IntN(len(rowed))], "boat")
		}
		if r.IntN(4) == 0 {
			add(2, 0, at.Add(14*time.Hour), moods[r.IntN(3)], "", "")
		}
		switch night := at.Add(17 * time.Hour); {
		case at.Month() == time.September && at.Day() == 11:
			add(3, 0, night.Add(4*time.Hour+37*time.Minute), "bad", "not home before one, nobody asks", "night")
		case r.IntN(2) == 0:
			add(3, 0, night, moods[r.IntN(3)], slept[r.IntN(len(slept))], "night")
		}
	}
	db.live()
	if !end.Before(deletions) {
		db.remove(t, habitsPath, "entry", "single rows", "extra LIKE '%nobody asks%' OR id % 31 = 5")
	}
	return db.finish(t, habitsPath, "habit", "entry")
}

// picture is a small chart of invented soundings.
func picture(r *rand.Rand) ([]byte, error) {
	var b bytes.Buffer
	err := png.Encode(&b, chart(r))
	return b.Bytes(), err
}

func chart(r *rand.Rand) image.Image {
	img := image.NewPaletted(image.Rect(0, 0, 320, 240), color.Palette{color.RGBA{0xdc, 0xeb, 0xea, 255}, color.RGBA{0x0e, 0x5a, 0x6b, 255}, color.RGBA{0xf7, 0xf5, 0xef, 255}})
	level := 120
	for x := range 320 {
		level = min(220, max(20, level+r.IntN(9)-4))
		for y := range 240 {
			switch {
			case y == level:
				img.SetColorIndex(x, y, 1)
			case y < level:
				img.SetColorIndex(x, y, 2)
			}
		}
	}
	return img
}

// recordings are sound recordings in WAV, at paths of a form: a slow swell with noise on it.
func recordings(form string, count, size int) []content {
	r := rand.New(rand.NewPCG(26, 4))
	var out []content
	for i := range count {
		n := (size - 44) / 2 * 2
		b := make([]byte, 0, n+44)
		b = append(b, "RIFF"...)
		b = binary.LittleEndian.AppendUint32(b, uint32(n+36))
		b = append(b, "WAVEfmt "...)
		b = binary.LittleEndian.AppendUint32(b, 16)
		for _, v := range []uint16{1, 1} { // PCM, one channel
			b = binary.LittleEndian.AppendUint16(b, v)
		}
		b = binary.LittleEndian.AppendUint32(b, 44100)
		b = binary.LittleEndian.AppendUint32(b, 88200)
		b = binary.LittleEndian.AppendUint16(b, 2)
		b = binary.LittleEndian.AppendUint16(b, 16)
		b = append(b, "data"...)
		b = binary.LittleEndian.AppendUint32(b, uint32(n))
		noise, swell := r.Uint64(), 0
		for range n / 2 {
			noise = noise*6364136223846793005 + 1442695040888963407
			if swell++; swell == 88200 {
				swell = 0
			}
			b = binary.LittleEndian.AppendUint16(b, uint16(int16(noise>>52)*int16(swell/8820)/4))
		}
		at := lately.AddDate(0, 0, 10*i).Add(time.Duration(r.IntN(50000)) * time.Second)
		out = append(out, content{fmt.Sprintf(form, 1+i), b, at})
	}
	return out
}
