package democase

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image/jpeg"
	"math"
	"math/rand/v2"
	"time"

	"crosswind/core/fieldmap"
)

// Databases of the family Orlop's further apps, whose layouts are those of the field maps
// of their names.
const (
	ternPath    = "/data/tern/tern.db"
	almanacPath = "/data/almanac/almanac.db"
	jotPath     = "/data/jot/jot.db"
	driftPath   = "/data/drift/drift.db"
	wakePath    = "/data/wake/wake.db"
	harkPath    = "/data/hark/hark.db"
	bridgePath  = "/system/bridge.db"
)

var orlopApps = []maker{{ternPath, tern}, {almanacPath, almanac}, {jotPath, jot}, {driftPath, drift}, {wakePath, wake}, {harkPath, hark}, {bridgePath, bridge}, {shelfPath, shelf}, {smallPath, thumbs}, {postPath, post}}

// evening is when the planted lines begin.
var evening = time.Date(2026, 9, 11, 21, 1, 12, 0, time.UTC)

// Varn Skerries lie in open sea. Degrees.
type spot struct{ lat, lon float64 }

var (
	home  = spot{-38.50210, -24.01340}
	quay  = spot{-38.50031, -24.00894}
	stock = spot{-38.49874, -24.00561}
	boat  = spot{-38.49442, -24.01977}
	point = spot{-38.51305, -23.99018}
)

// near is a place some metres off.
func (s spot) near(r *rand.Rand, metres float64) spot {
	const degree = 111_320 // metres of latitude
	return spot{s.lat + r.NormFloat64()*metres/degree, s.lon + r.NormFloat64()*metres/degree/math.Cos(s.lat*math.Pi/180)}
}

func micros(t time.Time) int64 { return t.UnixMicro() }

// since1601 is microseconds since 1601.
func since1601(t time.Time) int64 { return t.UnixMicro() - fieldmap.Ticks1601.Since.UnixMicro() }

// crew are the rooms of the chat app, with who is in each, by their numbers, the owner first.
var crew = []struct {
	title, shelf string
	who          []string
}{
	{"Early shift", "", []string{owner, people[7].number, people[3].number, "+44 7700 900733"}},
	{"Rowing", "", []string{owner, people[3].number, people[7].number}},
	{"Family", "", []string{owner, people[6].number, "+44 7700 900260"}},
	{"Quay, old", "archived", []string{owner, people[2].number, people[7].number, "+44 7700 900377"}},
	{"three cases", "hidden", []string{owner, people[0].number, people[2].number}},
}

// hidden is what was said in the room that is hidden, and what of it was taken back.
var hidden = []struct {
	before time.Duration // the evening
	who    int
	said   string
	taken  bool
}{
	{9 * 24 * time.Hour, 1, "new room, the other one has too many ears", false},
	{9*24*time.Hour - 4*time.Minute, 2, "why three", false},
	{9*24*time.Hour - 6*time.Minute, 1, "two each", false},
	{6 * 24 * time.Hour, 0, "M gives me the tile", false},
	{6*24*time.Hour - time.Minute, 1, "paid?", false},
	{6*24*time.Hour - 3*time.Minute, 0, "half", true},
	{26 * time.Hour, 2, "van is fuelled. I wait past the bend, lights off", false},
	{25 * time.Hour, 1, "after high water nobody walks there", false},
	{-14 * time.Hour, 2, "mine are at the boat", false},
	{-15 * time.Hour, 1, "empty this room", true},
}

// tern writes the chat app's database.
func tern(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE room(key INTEGER PRIMARY KEY, title TEXT NOT NULL, shelf TEXT)")
	db.exec("CREATE TABLE seat(room INTEGER NOT NULL, who TEXT NOT NULL)")
	db.exec("CREATE TABLE word(id INTEGER PRIMARY KEY, room INTEGER NOT NULL, who TEXT NOT NULL, mine INTEGER NOT NULL, at INTEGER NOT NULL, got INTEGER, seen INTEGER, edited INTEGER, taken INTEGER, fades INTEGER, said TEXT)")
	db.exec("CREATE TABLE piece(word INTEGER NOT NULL, sort INTEGER NOT NULL, bytes INTEGER NOT NULL, file TEXT NOT NULL)")
	db.exec("CREATE TABLE sign(word INTEGER NOT NULL, who TEXT NOT NULL, mark TEXT NOT NULL)")
	db.exec("CREATE TABLE late(id INTEGER PRIMARY KEY, room INTEGER NOT NULL, who TEXT NOT NULL, mine INTEGER NOT NULL, at INTEGER NOT NULL, said TEXT, purge INTEGER NOT NULL)")
	var sizes []int
	for i, c := range crew {
		db.exec("INSERT INTO room VALUES (?, ?, nullif(?, ''))", i+1, c.title, c.shelf)
		for _, n := range c.who {
			db.exec("INSERT INTO seat VALUES (?, ?)", i+1, n)
		}
		if c.shelf != "hidden" {
			sizes = append(sizes, len(c.who))
		}
	}
	n := 0
	when := func(at time.Time) any { return db.by(at, micros(at)) }
	var secret []spoken
	for _, h := range hidden {
		secret = append(secret, spoken{4, h.who, evening.Add(-h.before), h.said, h.taken})
	}
	signs := []string{"👍", "❤", "😂", "🌊", "🙏"}
	for _, s := range chatter(r, sizes, 10*time.Hour, secret) {
		var edited, taken, fades any
		switch r.IntN(60) {
		case 0:
			edited = when(s.at.Add(90 * time.Second))
		case 1:
			fades = micros(s.at.AddDate(0, 3, 0))
		}
		if s.taken {
			if taken = when(s.at.Add(7 * time.Minute)); taken != nil {
				s.said = ""
			}
		}
		n++
		got, seen := when(s.at.Add(2*time.Second)), when(s.at.Add(time.Duration(5+r.IntN(4000))*time.Second))
		db.put(s.at, "INSERT INTO word VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", n, s.room+1, crew[s.room].who[s.who], s.who == 0, micros(s.at), got, seen, edited, taken, fades, s.said)
		if r.IntN(14) == 0 {
			db.put(s.at, "INSERT INTO sign VALUES (?, ?, ?)", n, crew[s.room].who[(s.who+1)%len(crew[s.room].who)], signs[r.IntN(len(signs))])
		}
		if n%97 == 50 {
			sort, file := ternPiece(n / 97)
			db.put(s.at, "INSERT INTO piece VALUES (?, ?, ?, ?)", n, sort, 4000+r.IntN(3000), file)
		}
	}
	db.exec("CREATE TABLE ringing(id INTEGER PRIMARY KEY, room INTEGER NOT NULL, who TEXT NOT NULL, mine INTEGER NOT NULL, at INTEGER NOT NULL, ms INTEGER NOT NULL, sort INTEGER NOT NULL, came INTEGER NOT NULL)")
	for at := start.Add(31 * time.Hour); at.Before(last); at = at.Add(time.Duration(20+r.IntN(60)) * time.Hour) {
		room := r.IntN(len(sizes))
		who, came := crew[room].who[r.IntN(sizes[room])], r.IntN(4) > 0
		length := 0
		if came {
			length = 9000 + r.IntN(1_500_000)
		}
		db.put(at, "INSERT INTO ringing(room, who, mine, at, ms, sort, came) VALUES (?, ?, ?, ?, ?, ?, ?)", room+1, who, who == owner, micros(at), length, 1+r.IntN(2), came)
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, ternPath, "word", "late")
	}
	db.remove(t, ternPath, "word", "single rows", "room <> 5 AND id % 83 = 7")
	db.remove(t, ternPath, "sign", "single rows", "word % 83 = 7")
	db.remove(t, ternPath, "ringing", "single rows", "id % 13 = 4")
	held := "room = 4 AND id % 9 = 2 AND at > ?"
	db.exec("INSERT INTO late SELECT id, room, who, mine, at, said, ? FROM word WHERE "+held, micros(time.Date(2026, 10, 20, 8, 0, 0, 0, time.UTC)), micros(evening.AddDate(0, -2, 0)))
	db.remove(t, ternPath, "word", "moved to the holding area", held, micros(evening.AddDate(0, -2, 0)))
	db.remove(t, ternPath, "word", "single rows", "room = 5 AND at > ?", micros(evening.Add(-27*time.Hour)))
	return db.finish(t, ternPath, "word", "late")
}

// almanac writes the calendar's database.
func almanac(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 2048, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	at := func(t time.Time) float64 { return t.Sub(fieldmap.Millis2001.Since).Seconds() }
	db.exec("CREATE TABLE entry(id INTEGER PRIMARY KEY, title TEXT NOT NULL, starts REAL NOT NULL, ends REAL, place TEXT, again TEXT, notes TEXT)")
	db.exec("CREATE TABLE guest(entry INTEGER NOT NULL, who TEXT NOT NULL)")
	db.exec("CREATE TABLE todo(id INTEGER PRIMARY KEY, title TEXT NOT NULL, due REAL NOT NULL, done INTEGER NOT NULL, made REAL NOT NULL)")
	db.exec("CREATE TABLE tossed(id INTEGER PRIMARY KEY, title TEXT NOT NULL, starts REAL NOT NULL, ends REAL, place TEXT, again TEXT, notes TEXT, purge REAL NOT NULL)")
	what := []struct{ title, place string }{{"dentist", "clinic"}, {"boat survey", "slipway"}, {"choir", "long room"}, {"tax papers with Leif", "office"}, {"tyres", "van yard"}, {"ferry to the mainland", "north quay"},
		{"meet {name}", "{spot}"}, {"{thing} to be fetched", "{spot}"}, {"early boat, {num} cases of fish", "north quay"}, {"call {name}", ""}, {"haircut", "kiosk"}, {"oars, varnish", "{spot}"}, {"Leif's stag night", "net loft"}, {"readings at the {mark}", ""}, {"rowing, long round", "boatyard"}, {"eye test", "clinic"}, {"stock count", "instrument store"}, {"film night", "net loft"}}
	chores := []string{"ring {name} about the {thing}", "{num} metres of rope", "pick up the {thing} at the {spot}", "air the {room}", "grease the {mark} bracket", "bread for {day}", "return the library books", "pay the mooring", "call the dentist", "oil the rowlocks", "new batteries for the lamp", "birthday card for Brit", "descale the kettle", "post the forms", "fix the back step", "sharpen the knives"}
	day := start
	for i := 1; ; i++ {
		if day = day.Add(time.Duration(20+r.IntN(50)) * time.Hour); !day.Before(last) {
			break
		}
		w := what[r.IntN(len(what))]
		begins := time.Date(day.Year(), day.Month(), day.Day(), 8+r.IntN(11), 15*r.IntN(4), 0, 0, time.UTC)
		db.put(day, "INSERT INTO entry VALUES (?, ?, ?, ?, ?, NULL, NULL)", i, fill(r, w.title), at(begins), at(begins.Add(time.Hour)), fill(r, w.place))
		if r.IntN(4) == 0 {
			db.put(day, "INSERT INTO guest VALUES (?, ?)", i, people[1+r.IntN(7)].number)
		}
		due := begins.Add(time.Duration(r.IntN(30)) * time.Hour)
		db.put(day, "INSERT INTO todo VALUES (?, ?, ?, ?, ?)", i, fill(r, chores[r.IntN(len(chores))]), at(due), r.IntN(4) > 0, at(begins.Add(-49*time.Hour)))
	}
	db.put(start, "INSERT INTO entry VALUES (900, 'early shift', ?, ?, 'north quay', 'FREQ=WEEKLY;BYDAY=MO,TU,TH', 'swap with Sunniva if the ferry is late')", at(start), at(start.Add(8*time.Hour)))
	db.put(start, "INSERT INTO entry VALUES (901, 'Brit, birthday', ?, NULL, NULL, 'FREQ=YEARLY', NULL)", at(time.Date(2026, 5, 4, 0, 0, 0, 0, time.UTC)))
	planned := evening.Add(-30 * time.Hour)
	db.put(planned, "INSERT INTO entry VALUES (950, 'K, side gate', ?, ?, 'store, landward side', NULL, 'six, lids off')", at(evening.Add(-time.Minute)), at(evening.Add(time.Hour)))
	db.put(planned, "INSERT INTO entry VALUES (951, 'first ferry, two cases', ?, NULL, 'north quay', NULL, NULL)", at(time.Date(2026, 9, 12, 5, 30, 0, 0, time.UTC)))
	db.put(planned, "INSERT INTO todo VALUES (950, 'put the tile back', ?, 0, ?)", at(evening.Add(50*time.Minute)), at(planned))
	for i := range 14 { // life goes on
		day := deletions.AddDate(0, 0, i).Truncate(24 * time.Hour).Add(time.Duration(9+i%7) * time.Hour)
		made := day.Add(-20 * time.Hour)
		db.put(made, "INSERT INTO entry VALUES (?, ?, ?, ?, ?, NULL, NULL)", 960+i, fill(r, what[i%len(what)].title), at(day), at(day.Add(time.Hour)), fill(r, what[i%len(what)].place))
		db.put(made, "INSERT INTO todo VALUES (?, ?, ?, 0, ?)", 960+i, fill(r, chores[i%len(chores)]), at(day.Add(5*time.Hour)), at(made))
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, almanacPath, "entry", "todo", "tossed")
	}
	db.remove(t, almanacPath, "entry", "single rows", "id % 13 = 4 AND id < 900")
	db.remove(t, almanacPath, "todo", "single rows", "id % 11 = 6")
	held := "id % 17 = 9 AND id < 900 AND starts > ?"
	db.exec("INSERT INTO tossed SELECT *, ? FROM entry WHERE "+held, at(time.Date(2026, 10, 6, 0, 0, 0, 0, time.UTC)), at(evening.AddDate(0, -4, 0)))
	db.remove(t, almanacPath, "entry", "moved to the holding area", held, at(evening.AddDate(0, -4, 0)))
	db.remove(t, almanacPath, "entry", "single rows", "id IN (950, 951)")
	db.remove(t, almanacPath, "todo", "single rows", "id = 950")
	return db.finish(t, almanacPath, "entry", "todo", "tossed")
}

// jottings are the owner's notes.
var jottings = []struct{ title, body string }{
	{"Soup", "bones, two onions, carrot\nskim it twice\nno cream, Brit cannot have it"},
	{"Rowing log", "second buoy and back, 41 min\nhands better with tape"},
	{"Presents", "Brit: wool, the grey one\nLeif: nothing, he says\nSunniva: book about knots"},
	{"Words", "Leuchtfeuer, phare, fyr, farol, 灯台"},
	{"{thing}", "lent to {name} on {day}"},
	{"Readings", "{mark}: {num}.4\n{mark}: {num2}.1\nwind from the west"},
	{"Ideas", "hook for the {thing} in the {room}\nask at the {spot}"},
	{"{name}", "size {num}, likes grey, no sugar"},
	{"Debts", "{name} {num}, me {num2}"},
	{"Gate code of the yard", "changes on {day}, ask at the {spot}"},
	{"Song", "two verses missing, {name} knows them"},
	{"Ferry", "the 18:40 does not go on the first Monday of the month"},
	{"Paint", "hull: 2 l red lead, 1 l black\ndeck: ask the yard"},
	{"Book", "\"The keepers of the inner light\", library has it until Friday"},
	{"Shift list", "Mo early, Tu early, Th early, Fr late if Leif is away"},
}

// jot writes the notes' database.
func jot(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE note(id INTEGER PRIMARY KEY, title TEXT NOT NULL, body TEXT, made INTEGER NOT NULL, changed INTEGER NOT NULL, locked INTEGER NOT NULL)")
	db.exec("CREATE TABLE shed(id INTEGER PRIMARY KEY, title TEXT NOT NULL, body TEXT, made INTEGER NOT NULL, changed INTEGER NOT NULL, locked INTEGER NOT NULL, purge INTEGER NOT NULL)")
	add := func(title, body any, at time.Time, locked bool) {
		changed := at.Add(time.Duration(r.IntN(90)) * time.Minute)
		db.put(changed, "INSERT INTO note(title, body, made, changed, locked) VALUES (?, ?, ?, ?, ?)", title, body, at.UnixMilli(), changed.UnixMilli(), locked)
	}
	for i := range 142 {
		j := jottings[i%len(jottings)]
		title := j.title
		if i >= len(jottings) {
			title = fmt.Sprintf("%s, %s", j.title, start.AddDate(0, 0, 3*i).Format("2 January"))
		}
		add(fill(r, title), fill(r, j.body), start.AddDate(0, 0, 3*i).Add(time.Duration(r.IntN(60000))*time.Second), false)
	}
	db.exec("CREATE TABLE clip(note INTEGER NOT NULL, file TEXT NOT NULL)")
	for i := 3; i < 142; i += 10 {
		db.put(start.AddDate(0, 0, 3*i), "INSERT INTO clip VALUES (?, ?)", i, fmt.Sprintf("n%03d.jpg", i))
	}
	secret := make([]byte, 96)
	for i := range secret {
		secret[i] = byte(r.Uint32())
	}
	add("numbers", secret, evening.AddDate(0, -1, 0), true)
	add("who gets what", "K 2, T 2, me 2\nbrass one stays, it has a number\nM: 300 now, 300 after", evening.AddDate(0, 0, -5), false)
	add("tile", "third from the drain. alarm is off from 20", evening.AddDate(0, 0, -1), false)
	for i := range 6 {
		add("to buy, "+deletions.AddDate(0, 0, i).Format("2 January"), "bread, lamp oil, stamps", deletions.AddDate(0, 0, i), false)
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, jotPath, "note", "shed")
	}
	db.remove(t, jotPath, "note", "single rows", "id % 15 = 4")
	held := "id % 15 = 8"
	db.exec("INSERT INTO shed SELECT *, ? FROM note WHERE "+held, time.Date(2026, 10, 2, 0, 0, 0, 0, time.UTC).UnixMilli())
	db.remove(t, jotPath, "note", "moved to the holding area", held)
	db.remove(t, jotPath, "note", "single rows", "title IN ('who gets what', 'tile')")
	return db.finish(t, jotPath, "note", "shed")
}

// drift writes the browser's database.
func drift(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE page(id INTEGER PRIMARY KEY, url TEXT NOT NULL, title TEXT)")
	db.exec("CREATE TABLE seen(id INTEGER PRIMARY KEY, page INTEGER NOT NULL, at INTEGER NOT NULL)")
	db.exec("CREATE TABLE kept(id INTEGER PRIMARY KEY, url TEXT NOT NULL, title TEXT, added INTEGER NOT NULL)")
	db.exec("CREATE TABLE asked(id INTEGER PRIMARY KEY, words TEXT NOT NULL, at INTEGER NOT NULL)")
	db.exec("CREATE TABLE fetched(id INTEGER PRIMARY KEY, url TEXT NOT NULL, file TEXT NOT NULL, bytes INTEGER NOT NULL, at INTEGER NOT NULL, state INTEGER NOT NULL)")
	for i, p := range webPages {
		db.put(start, "INSERT INTO page VALUES (?, ?, ?)", i+1, p.url, p.title)
		if added := start.AddDate(0, 0, 11*i); i%2 == 0 {
			db.put(added, "INSERT INTO kept VALUES (?, ?, ?, ?)", i+1, p.url, p.title, since1601(added))
		}
	}
	for at := start; ; {
		if at = at.Add(time.Duration(r.IntN(240)) * time.Minute); !at.Before(last) {
			break
		}
		db.put(at, "INSERT INTO seen(page, at) VALUES (?, ?)", 1+r.IntN(len(webPages))*r.IntN(len(webPages))/len(webPages), since1601(at))
		if r.IntN(9) == 0 {
			db.put(at, "INSERT INTO asked(words, at) VALUES (?, ?)", fill(r, webSought[r.IntN(len(webSought))]), since1601(at.Add(-20*time.Second)))
		}
		if r.IntN(60) == 0 {
			db.put(at, "INSERT INTO fetched(url, file, bytes, at, state) VALUES (?, ?, ?, ?, ?)", "https://library.example.org/loans/slip.pdf", fmt.Sprintf("slip-%s.pdf", at.Format("0102")), 18_000+r.IntN(9000), since1601(at), r.IntN(5) > 0)
		}
	}
	for i, p := range webDeleted {
		at := evening.AddDate(0, 0, -7+3*i)
		db.put(at, "INSERT INTO page VALUES (?, ?, ?)", 100+i, p.url, p.title)
		db.put(at, "INSERT INTO seen(page, at) VALUES (?, ?)", 100+i, since1601(at))
		db.put(at, "INSERT INTO asked(words, at) VALUES (?, ?)", soughtDeleted[i], since1601(at.Add(-40*time.Second)))
	}
	db.put(evening.AddDate(0, 0, -6), "INSERT INTO kept VALUES (90, ?, ?, ?)", webDeleted[0].url, webDeleted[0].title, since1601(evening.AddDate(0, 0, -6)))
	db.put(evening.Add(-20*time.Hour), "INSERT INTO fetched(url, file, bytes, at, state) VALUES (?, 'offer-4471.pdf', 40211, ?, 1)", webDeleted[2].url, since1601(evening.Add(-20*time.Hour)))
	for i := range 12 { // life goes on
		at := deletions.Add(time.Duration(i) * 19 * time.Hour)
		db.put(at, "INSERT INTO asked(words, at) VALUES (?, ?)", fill(r, webSought[i%len(webSought)]), since1601(at))
		db.put(at, "INSERT INTO fetched(url, file, bytes, at, state) VALUES (?, ?, ?, ?, 1)", "https://ferry.example/times.pdf", fmt.Sprintf("times-%s.pdf", at.Format("0102")), 8100+i, since1601(at))
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, driftPath, "seen", "kept", "asked", "fetched")
	}
	db.remove(t, driftPath, "seen", "single rows", "page >= 100 OR id % 37 = 3")
	db.remove(t, driftPath, "page", "single rows", "id >= 100")
	db.remove(t, driftPath, "asked", "single rows", "words LIKE '%theodolite%' OR words LIKE '%serial%' OR words LIKE '%lockers%'")
	db.remove(t, driftPath, "kept", "single rows", "id = 90")
	db.remove(t, driftPath, "fetched", "single rows", "file = 'offer-4471.pdf'")
	return db.finish(t, driftPath, "seen", "kept", "asked", "fetched")
}

// wake writes where the handset was.
func wake(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	e7 := func(f float64) int64 { return int64(math.Round(f * 1e7)) }
	db.exec("CREATE TABLE fix(id INTEGER PRIMARY KEY, at INTEGER NOT NULL, lat INTEGER NOT NULL, lon INTEGER NOT NULL, near REAL)")
	db.exec("CREATE TABLE pin(id INTEGER PRIMARY KEY, name TEXT NOT NULL, lat INTEGER NOT NULL, lon INTEGER NOT NULL, added INTEGER NOT NULL)")
	for at := start; at.Before(last); {
		s := where(at).near(r, 9)
		db.put(at, "INSERT INTO fix(at, lat, lon, near) VALUES (?, ?, ?, ?)", stamp(fieldmap.Seconds1980, at), e7(s.lat), e7(s.lon), float64(4+r.IntN(30)))
		step := 105 * time.Minute
		if !at.Before(evening.Add(-2*time.Hour)) && at.Before(evening.Add(3*time.Hour)) {
			step = 6 * time.Minute
		} else if h := at.Hour(); h < 6 || h > 20 {
			step = 3 * time.Hour
		}
		at = at.Add(step + time.Duration(r.IntN(240))*time.Second)
	}
	for i, p := range []struct {
		name string
		at   spot
	}{{"home", home}, {"north quay", quay}, {"boat", boat}, {"seals", point}, {"gate", spot{stock.lat + 0.0004, stock.lon - 0.0002}}} {
		added := start.AddDate(0, 0, 40*i)
		db.put(added, "INSERT INTO pin(name, lat, lon, added) VALUES (?, ?, ?, ?)", p.name, e7(p.at.lat), e7(p.at.lon), stamp(fieldmap.Seconds1980, added))
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, wakePath, "fix", "pin")
	}
	db.remove(t, wakePath, "fix", "a long run", "at BETWEEN ? AND ?", stamp(fieldmap.Seconds1980, evening.Add(-30*time.Minute)), stamp(fieldmap.Seconds1980, evening.Add(70*time.Minute)))
	db.remove(t, wakePath, "pin", "single rows", "name = 'gate'")
	return db.finish(t, wakePath, "fix", "pin")
}

// where the owner of the harbour phone was.
func where(at time.Time) spot {
	switch since := at.Sub(evening); {
	case since > -25*time.Minute && since < 55*time.Minute:
		return stock
	case since >= 55*time.Minute && since < 2*time.Hour:
		return boat
	}
	switch h := at.Hour(); {
	case h < 6 || h >= 21:
		return home
	case at.Weekday() == time.Sunday && h > 9 && h < 16:
		return point
	case h < 15:
		return quay
	}
	return boat
}

// hark writes the voicemail's database. The files of the sound are by themselves.
func hark(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE left(id INTEGER PRIMARY KEY, number TEXT NOT NULL, at INTEGER NOT NULL, secs INTEGER NOT NULL, heard INTEGER NOT NULL, file TEXT NOT NULL)")
	db.exec("CREATE TABLE shelf(id INTEGER PRIMARY KEY, number TEXT NOT NULL, at INTEGER NOT NULL, secs INTEGER NOT NULL, heard INTEGER NOT NULL, file TEXT NOT NULL, purge INTEGER NOT NULL)")
	for i, at := range voices() {
		number := people[i*5%len(people)].number
		if i%7 == 6 {
			number = Counsel.Number
		}
		db.put(at, "INSERT INTO left VALUES (?, ?, ?, ?, ?, ?)", i+1, number, at.Unix(), 2+i%5, i%4 > 0, fmt.Sprintf("v%03d.wav", i+1))
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, harkPath, "left", "shelf")
	}
	db.remove(t, harkPath, "left", "single rows", "id % 9 = 5 OR at > ?", evening.Add(-3*time.Hour).Unix())
	held := "id % 9 = 2"
	db.exec("INSERT INTO shelf SELECT *, ? FROM left WHERE "+held, time.Date(2026, 10, 9, 0, 0, 0, 0, time.UTC).Unix())
	db.remove(t, harkPath, "left", "moved to the holding area", held)
	return db.finish(t, harkPath, "left", "shelf")
}

// voices are when voicemails were left.
func voices() (out []time.Time) {
	for i := range 80 {
		at := start.Add(time.Duration(i)*116*time.Hour + time.Duration(i*i%97)*17*time.Minute)
		if i == 79 {
			at = evening.Add(-65 * time.Minute)
		}
		out = append(out, at)
	}
	return out
}

// bridge writes what the handset itself keeps.
func bridge(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE account(id INTEGER PRIMARY KEY, service TEXT NOT NULL, name TEXT NOT NULL, added INTEGER NOT NULL)")
	db.exec("CREATE TABLE power(id INTEGER PRIMARY KEY, at INTEGER NOT NULL, what INTEGER NOT NULL)")
	db.exec("CREATE TABLE card(id INTEGER PRIMARY KEY, at INTEGER NOT NULL, iccid TEXT NOT NULL, number TEXT, carrier TEXT NOT NULL)")
	db.exec("CREATE TABLE zone(id INTEGER PRIMARY KEY, at INTEGER NOT NULL, name TEXT NOT NULL)")
	db.exec("CREATE TABLE air(id INTEGER PRIMARY KEY, at INTEGER NOT NULL, name TEXT NOT NULL, hardware TEXT NOT NULL)")
	db.exec("CREATE TABLE pack(id INTEGER PRIMARY KEY, at INTEGER NOT NULL, name TEXT NOT NULL, what INTEGER NOT NULL)")
	for i, a := range []struct{ service, name string }{{"cloud account", AccountName}, {"mail", "varn.rower@example.com"}, {"island savings", "4471-220"}, {"market", "brassfan@example.net"}} {
		at := start.AddDate(0, 0, 30*i)
		db.put(at, "INSERT INTO account VALUES (?, ?, ?, ?)", i+1, a.service, a.name, at.Unix())
	}
	for at := start; at.Before(last); at = at.Add(time.Duration(60+r.IntN(200)) * time.Hour) {
		up := at.Add(70 * time.Second)
		db.put(at, "INSERT INTO power(at, what) VALUES (?, 0)", at.Unix())
		db.put(up, "INSERT INTO power(at, what) VALUES (?, ?)", up.Unix(), 1+r.IntN(9)/8)
	}
	home := "8999044000000000018"
	for i, c := range []struct {
		days           int
		iccid, number  string
		carrier, place string
	}{{0, home, owner, "Skerries Mobile", "Atlantic/Azores"}, {271, "8999044000000004711", "", "Mainland Cell", "Europe/Lisbon"}, {274, home, owner, "Skerries Mobile", "Atlantic/Azores"}, {413, "8999044000000009999", "+44 7700 900666", "Prepaid One", "Atlantic/Azores"}} {
		at := start.AddDate(0, 0, c.days)
		db.put(at, "INSERT INTO card VALUES (?, ?, ?, nullif(?, ''), ?)", i+1, at.Unix(), c.iccid, c.number, c.carrier)
		db.put(at.Add(time.Minute), "INSERT INTO zone VALUES (?, ?, ?)", i+1, at.Add(time.Minute).Unix(), c.place)
	}
	nets := []struct{ name, hardware string }{{"skerries-home", "02:00:5e:10:00:01"}, {"north quay guests", "02:00:5e:10:00:02"}, {"instrument store office", "02:00:5e:10:00:03"}, {"ferry free", "02:00:5e:10:00:04"}}
	for at := start; at.Before(last); at = at.Add(time.Duration(5+r.IntN(20)) * time.Hour) {
		n := nets[r.IntN(4)*r.IntN(4)/4]
		db.put(at, "INSERT INTO air(at, name, hardware) VALUES (?, ?, ?)", at.Unix(), n.name, n.hardware)
	}
	db.put(evening.Add(4*time.Minute), "INSERT INTO air(at, name, hardware) VALUES (?, ?, ?)", evening.Add(4*time.Minute).Unix(), nets[2].name, nets[2].hardware)
	for i, p := range []string{"talk", "ring", "people", "tern", "almanac", "jot", "drift", "wake", "hark", "habits", "market", "tides"} {
		at := start.AddDate(0, 0, 9*i)
		db.put(at, "INSERT INTO pack(at, name, what) VALUES (?, ?, 1)", at.Unix(), p)
	}
	db.put(deletions.Add(20*time.Minute), "INSERT INTO pack(at, name, what) VALUES (?, 'market', 3)", deletions.Add(20*time.Minute).Unix())
	db.live()
	if end.Before(deletions) {
		return db.finish(t, bridgePath, "account", "power", "card", "zone", "air", "pack")
	}
	db.remove(t, bridgePath, "account", "single rows", "service = 'market'")
	db.remove(t, bridgePath, "power", "single rows", "id % 12 = 6")
	db.remove(t, bridgePath, "card", "single rows", "carrier = 'Prepaid One'")
	db.remove(t, bridgePath, "zone", "single rows", "id = 4")
	db.remove(t, bridgePath, "air", "single rows", "name = 'instrument store office' AND at > ?", evening.Add(-time.Hour).Unix())
	db.remove(t, bridgePath, "pack", "single rows", "name = 'market' AND what = 1")
	return db.finish(t, bridgePath, "account", "power", "card", "zone", "air", "pack")
}

// orlopFiles are the files that rows of those apps name. Some are gone.
func orlopFiles(end time.Time) (out []content, err error) {
	for i, at := range voices() {
		if i%11 != 4 && at.Before(end) {
			out = append(out, content{fmt.Sprintf("/data/hark/sound/v%03d.wav", i+1), voice(uint64(i), 2+i%5), at})
		}
	}
	r := rand.New(rand.NewPCG(26, 77))
	for i := range 61 {
		b, err := snapshot(r)
		if err != nil {
			return nil, err
		}
		if at := start.AddDate(0, 0, 7*i); i%6 != 3 && at.Before(end) {
			sort, file := ternPiece(i)
			if sort == 2 {
				b = voice(uint64(700+i), 2+i%4)
			}
			out = append(out, content{"/data/tern/kept/" + file, b, at})
		}
	}
	return out, nil
}

// ternPiece gives the sort and the file of what was sent with a word: most are pictures, some were spoken.
func ternPiece(i int) (sort int, file string) {
	if i%6 == 4 {
		return 2, fmt.Sprintf("t%04d.wav", i)
	}
	return 1, fmt.Sprintf("t%04d.jpg", i)
}

// snapshot is a small picture of the sea, as a photograph that was sent.
func snapshot(r *rand.Rand) ([]byte, error) {
	var b bytes.Buffer
	err := jpeg.Encode(&b, chart(r), &jpeg.Options{Quality: 80})
	return b.Bytes(), err
}

// voice is a voice of so many seconds as a sound file: WAV, 8000 samples of 16 bits a second.
func voice(seed uint64, seconds int) []byte {
	const rate = 8000
	r := rand.New(rand.NewPCG(seed, 5))
	n := seconds * rate
	b := make([]byte, 0, 2*n+44)
	b = append(b, "RIFF"...)
	b = binary.LittleEndian.AppendUint32(b, uint32(2*n+36))
	b = append(b, "WAVEfmt "...)
	b = binary.LittleEndian.AppendUint32(b, 16)
	for _, v := range []uint16{1, 1} { // PCM, one channel
		b = binary.LittleEndian.AppendUint16(b, v)
	}
	b = binary.LittleEndian.AppendUint32(b, rate)
	b = binary.LittleEndian.AppendUint32(b, 2*rate)
	b = binary.LittleEndian.AppendUint16(b, 2)
	b = binary.LittleEndian.AppendUint16(b, 16)
	b = append(b, "data"...)
	b = binary.LittleEndian.AppendUint32(b, uint32(2*n))
	pitch, left := 110+float64(r.IntN(90)), 0
	var formant, loud float64
	for i := range n { // syllables of a fifth of a second
		if left--; left < 0 {
			left, formant, loud = rate/6+r.IntN(rate/8), 400+float64(r.IntN(1400)), 0.2+0.8*r.Float64()
			if r.IntN(5) == 0 {
				loud = 0
			}
		}
		at := float64(i) / rate
		v := loud * (math.Sin(2*math.Pi*pitch*at) + 0.5*math.Sin(2*math.Pi*formant*at)) * math.Sin(math.Pi*float64(left)/(rate/4))
		b = binary.LittleEndian.AppendUint16(b, uint16(int16(6000*v)))
	}
	return b
}
