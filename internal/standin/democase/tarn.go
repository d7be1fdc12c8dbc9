package democase

import (
	"fmt"
	"math/rand/v2"
	"time"

	"crosswind/core/fieldmap"
)

// Databases of the family Tarn's further apps, whose layouts are those of the field maps of
// their names.
const (
	gullPath  = "/apps/gull/gull.sqlite"
	daysPath  = "/apps/days/days.sqlite"
	skimPath  = "/apps/skim/skim.sqlite"
	tracePath = "/apps/trace/trace.sqlite"
	hornPath  = "/apps/horn/horn.sqlite"
	wardPath  = "/etc/ward.sqlite"
)

var tarnApps = []maker{{gullPath, gull}, {daysPath, days}, {skimPath, skim}, {tracePath, trace}, {hornPath, horn}, {wardPath, ward}, {keepPath, keep}, {letterPath, letter}}

// maren is the number of the galley phone.
const maren = "+44 7700 900288"

// guild are the rooms of the chat app, the owner of the galley phone first.
var guild = []struct {
	title, state string
	who          []string
}{
	{"Store rota", "", []string{maren, met[3].number, "+44 7700 900377"}},
	{"Kitchen", "", []string{maren, met[5].number, "+44 7700 900260", "+44 7700 900119"}},
	{"Old school", "archived", []string{maren, "+44 7700 900634", "+44 7700 900345"}},
	{"K", "hidden", []string{maren, met[1].number}},
}

// aside is what was said in the hidden room before the evening.
var aside = []struct {
	before time.Duration
	who    int
	said   string
}{
	{8 * 24 * time.Hour, 1, "he trusts you. that is all we need"},
	{8*24*time.Hour - 3*time.Minute, 0, "I open nothing. I leave something where it can be found"},
	{8*24*time.Hour - 7*time.Minute, 1, "same money"},
	{30 * time.Hour, 0, "the rota says I am off on Friday. good"},
	{29 * time.Hour, 1, "be seen somewhere"},
	{-20 * time.Hour, 0, "they ask about the tile"},
	{-21 * time.Hour, 1, "you know nothing"},
}

func seconds(t time.Time) float64 { return float64(t.UnixMilli()) / 1000 }

// gullTables makes the tables of the chat app: layout "gull 1".
func gullTables(db *database) {
	db.exec("CREATE TABLE talk(no INTEGER PRIMARY KEY, title TEXT NOT NULL, state TEXT)")
	db.exec("CREATE TABLE within(talk INTEGER NOT NULL, party TEXT NOT NULL)")
	db.exec("CREATE TABLE post(no INTEGER PRIMARY KEY, talk INTEGER NOT NULL, party TEXT NOT NULL, way TEXT NOT NULL, at REAL NOT NULL, arrived REAL, opened REAL, changed REAL, body TEXT)")
	db.exec("CREATE TABLE file(post INTEGER NOT NULL, media TEXT NOT NULL, size INTEGER NOT NULL, name TEXT NOT NULL)")
	db.exec("CREATE TABLE mark(post INTEGER NOT NULL, sign TEXT NOT NULL)")
	db.exec("CREATE TABLE crate(no INTEGER PRIMARY KEY, talk INTEGER NOT NULL, party TEXT NOT NULL, way TEXT NOT NULL, at REAL NOT NULL, body TEXT, purge REAL NOT NULL)")
}

// gull writes the chat app's database.
func gull(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	gullTables(db)
	var sizes []int
	for i, g := range guild {
		db.exec("INSERT INTO talk VALUES (?, ?, nullif(?, ''))", i+1, g.title, g.state)
		for _, p := range g.who {
			db.exec("INSERT INTO within VALUES (?, ?)", i+1, p)
		}
		if g.state != "hidden" {
			sizes = append(sizes, len(g.who))
		}
	}
	n := 0
	when := func(at time.Time) any { return db.by(at, seconds(at)) }
	var secret []spoken
	for _, a := range aside {
		secret = append(secret, spoken{3, a.who, evening.Add(-a.before), a.said, false})
	}
	for _, s := range chatter(r, sizes, 10*time.Hour, secret) {
		n++
		way, changed := "from", any(nil)
		if s.who == 0 {
			way = "to"
		}
		if n%71 == 9 {
			changed = when(s.at.Add(2 * time.Minute))
		}
		arrived, opened := when(s.at.Add(time.Second)), when(s.at.Add(time.Duration(9+r.IntN(3000))*time.Second))
		db.put(s.at, "INSERT INTO post VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", n, s.room+1, guild[s.room].who[s.who], way, seconds(s.at), arrived, opened, changed, s.said)
		if n%19 == 3 {
			db.put(s.at, "INSERT INTO mark VALUES (?, ?)", n, []string{"👍", "✨", "😮"}[r.IntN(3)])
		}
		if n%113 == 60 {
			db.put(s.at, "INSERT INTO file VALUES (?, 'image/jpeg', ?, ?)", n, 4000+r.IntN(3000), fmt.Sprintf("g%03d.jpg", n/113))
		}
	}
	db.exec("CREATE TABLE buzz(no INTEGER PRIMARY KEY, talk INTEGER NOT NULL, party TEXT NOT NULL, way TEXT NOT NULL, at REAL NOT NULL, lasted REAL, sort TEXT NOT NULL)")
	for at := start.Add(40 * time.Hour); at.Before(last); at = at.Add(time.Duration(30+r.IntN(90)) * time.Hour) {
		room := r.IntN(len(sizes))
		party, way, lasted := guild[room].who[r.IntN(sizes[room])], "from", any(nil)
		if party == maren {
			way = "to"
		}
		if r.IntN(3) > 0 {
			lasted = float64(8000+r.IntN(900_000)) / 1000
		}
		db.put(at, "INSERT INTO buzz(talk, party, way, at, lasted, sort) VALUES (?, ?, ?, ?, ?, ?)", room+1, party, way, seconds(at), lasted, []string{"voice", "video"}[r.IntN(2)])
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, gullPath, "post", "crate")
	}
	db.remove(t, gullPath, "post", "single rows", "talk = 4 AND at > ? OR talk <> 4 AND no % 59 = 8", seconds(evening.Add(-31*time.Hour)))
	db.remove(t, gullPath, "buzz", "single rows", "no % 17 = 5")
	held := "talk = 3 AND no % 8 = 5 AND at > ?"
	since := seconds(evening.AddDate(0, -3, 0))
	db.exec("INSERT INTO crate SELECT no, talk, party, way, at, body, ? FROM post WHERE "+held, seconds(time.Date(2026, 10, 17, 0, 0, 0, 0, time.UTC)), since)
	db.remove(t, gullPath, "post", "moved to the holding area", held, since)
	return db.finish(t, gullPath, "post", "crate")
}

// days writes the database of the calendar, chores and jottings.
func days(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 2048, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	text := func(t time.Time) string { return t.Format("2006-01-02 15:04:05") }
	db.exec("CREATE TABLE day(no INTEGER PRIMARY KEY, what TEXT NOT NULL, begins TEXT NOT NULL, ends TEXT, spot TEXT, rule TEXT)")
	db.exec("CREATE TABLE asked(day INTEGER NOT NULL, party TEXT NOT NULL)")
	db.exec("CREATE TABLE chore(no INTEGER PRIMARY KEY, what TEXT NOT NULL, due TEXT NOT NULL, state TEXT NOT NULL)")
	db.exec("CREATE TABLE jotting(no INTEGER PRIMARY KEY, head TEXT NOT NULL, body TEXT, written TEXT NOT NULL, sealed TEXT NOT NULL)")
	db.exec("CREATE TABLE bin(no INTEGER PRIMARY KEY, sort TEXT NOT NULL, what TEXT NOT NULL, at TEXT NOT NULL, goes TEXT NOT NULL)")
	what := []struct{ what, spot string }{{"inventory", "instrument store"}, {"late desk", "instrument store"}, {"dentist", "clinic"}, {"supper at mother's", ""}, {"language evening", "library"}, {"meet {name}", "{spot}"}, {"{thing} to the {spot}", ""}, {"call about the {thing}", ""}, {"eye test", "clinic"}, {"Friday swim", "slipway"}, {"count {num} tripods", "instrument store"}, {"choir, first", "long room"}, {"stock office call", ""}, {"ferry", "north quay"}}
	chores := []string{"bring the {thing} back", "ask {name} for the list", "pay {num} at the {spot}", "book {day}", "wash the curtains", "mend the {thing}", "write to {name}", "sign the rota", "order labels", "water the plants", "return the spare key", "renew the pass", "clean the lenses"}
	heads := []struct{ head, body string }{{"{day}", "{name} at {hour}, bring the {thing}"}, {"numbers of the {mark}", "{num}, {num2}, {num}"}, {"book", "ask at the {spot} for the one about knots"}, {"for mother", "wool, {num} m of ribbon, the {thing}"}, {"idea", "a lamp in the {room}, not on the ceiling"}, {"list {num}", "levels {num2}, tripods {num}"}, {"codes", "desk printer 4 4 1"}, {"shopping", "rice, lemons, thread"}, {"words of the evening", "saudade, 木漏れ日, hygge"}, {"rota", "Mo Tu We late, Fr off"}, {"labels", "white for tripods, grey for levels"}}
	at := start
	for i := 1; ; i++ {
		if at = at.Add(time.Duration(25+r.IntN(60)) * time.Hour); !at.Before(last) {
			break
		}
		w := what[r.IntN(len(what))]
		db.put(at, "INSERT INTO day VALUES (?, ?, ?, ?, nullif(?, ''), NULL)", i, fill(r, w.what), text(at), text(at.Add(90*time.Minute)), fill(r, w.spot))
		if i%5 == 0 {
			db.put(at, "INSERT INTO asked VALUES (?, ?)", i, met[1+r.IntN(5)].number)
		}
		db.put(at, "INSERT INTO chore VALUES (?, ?, ?, ?)", i, fill(r, chores[r.IntN(len(chores))]), text(at.Add(time.Duration(r.IntN(40))*time.Hour)), []string{"done", "done", "open"}[r.IntN(3)])
		h := heads[r.IntN(len(heads))]
		if i%3 == 0 {
			db.put(at, "INSERT INTO jotting VALUES (?, ?, ?, ?, 'no')", i, fill(r, h.head), fmt.Sprintf("%s (%s)", fill(r, h.body), at.Format("2 January")), text(at))
		}
	}
	db.put(start, "INSERT INTO day VALUES (800, 'late desk', ?, NULL, 'instrument store', 'FREQ=WEEKLY;BYDAY=MO,TU,WE')", text(start))
	db.exec("CREATE TABLE slip(jotting INTEGER NOT NULL, path TEXT NOT NULL)")
	for i := 6; i < 240; i += 24 {
		db.put(start, "INSERT INTO slip VALUES (?, ?)", i, fmt.Sprintf("/apps/days/slips/%d.jpg", i))
	}
	secret := make([]byte, 64)
	for i := range secret {
		secret[i] = byte(r.Uint32())
	}
	db.put(start.AddDate(0, 2, 0), "INSERT INTO jotting VALUES (800, 'mine', ?, ?, 'yes')", secret, text(start.AddDate(0, 2, 0)))
	sums := evening.Add(-90 * time.Hour)
	db.put(sums, "INSERT INTO jotting VALUES (801, 'sums', '300 now, 300 after. nothing on paper', ?, 'no')", text(sums))
	db.put(sums, "INSERT INTO day VALUES (801, 'library, sign the book', ?, NULL, 'library', NULL)", text(evening.Add(-time.Hour)))
	db.put(sums, "INSERT INTO chore VALUES (801, 'tile: third left of the drain', ?, 'done')", text(evening.Add(-20*time.Hour)))
	for i := range 12 { // life goes on
		at := deletions.Add(time.Duration(i) * 17 * time.Hour)
		db.put(at, "INSERT INTO day VALUES (?, ?, ?, NULL, NULL, NULL)", 810+i, fill(r, what[i%len(what)].what), text(at))
		db.put(at, "INSERT INTO chore VALUES (?, ?, ?, 'open')", 810+i, fill(r, chores[i%len(chores)]), text(at))
		db.put(at, "INSERT INTO jotting VALUES (?, ?, ?, ?, 'no')", 810+i, fill(r, heads[i%len(heads)].head), fill(r, heads[i%len(heads)].body), text(at))
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, daysPath, "day", "chore", "jotting", "bin")
	}
	db.remove(t, daysPath, "day", "single rows", "no = 801 OR no % 13 = 5")
	db.remove(t, daysPath, "chore", "single rows", "no = 801 OR no % 11 = 3")
	db.remove(t, daysPath, "jotting", "single rows", "no = 801 OR no % 12 = 6 AND no < 800")
	goes := text(time.Date(2026, 10, 15, 0, 0, 0, 0, time.UTC))
	for i, b := range []struct{ sort, table, what, at, where string }{{"day", "day", "what", "begins", "no % 19 = 7 AND no < 800"}, {"chore", "chore", "what", "due", "no % 17 = 9 AND no < 800"}, {"jotting", "jotting", "body", "written", "no % 21 = 9 AND no < 800"}} {
		db.exec(fmt.Sprintf("INSERT INTO bin SELECT no + %d, '%s', %s, %s, ? FROM %s WHERE %s", 1000*i, b.sort, b.what, b.at, b.table, b.where), goes)
		db.remove(t, daysPath, b.table, "moved to the holding area", b.where)
	}
	return db.finish(t, daysPath, "day", "chore", "jotting", "bin")
}

// skim writes the browser's database.
func skim(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE went(no INTEGER PRIMARY KEY, url TEXT NOT NULL, title TEXT, at INTEGER NOT NULL)")
	db.exec("CREATE TABLE star(no INTEGER PRIMARY KEY, url TEXT NOT NULL, title TEXT, at INTEGER NOT NULL)")
	db.exec("CREATE TABLE find(no INTEGER PRIMARY KEY, text TEXT NOT NULL, at INTEGER NOT NULL)")
	db.exec("CREATE TABLE got(no INTEGER PRIMARY KEY, url TEXT NOT NULL, path TEXT NOT NULL, size INTEGER NOT NULL, at INTEGER NOT NULL, how TEXT NOT NULL)")
	sought := []string{"ferry {hour} {day}", "how to clean a {thing}", "{num} knots in km/h", "is the {spot} open on {day}", "what bird is grey with a red eye", "knitting pattern {num} stitches", "weather {day}", "why does the {thing} smell", "flat to rent mainland", "train from the ferry {hour2}", "recipe for {num} people", "lamp without wires", "how long does paint take to dry", "jobs instrument maker", "used bicycle", "song about the {mark}", "vinegar on tiles", "dentist {spot}", "headache after {hour2}", "{name} name day", "night school languages", "lemon cake", "sore back desk", "bus to the north quay", "curtains made to measure", "old school photograph 2009"}
	for at := start; ; {
		if at = at.Add(time.Duration(r.IntN(420)) * time.Minute); !at.Before(last) {
			break
		}
		p := webPages[r.IntN(len(webPages))]
		db.put(at, "INSERT INTO went(url, title, at) VALUES (?, ?, ?)", p.url, p.title, at.UnixMilli())
		switch r.IntN(40) {
		case 0:
			db.put(at, "INSERT INTO star(url, title, at) VALUES (?, ?, ?)", p.url, p.title, at.UnixMilli())
		case 1, 2, 3:
			db.put(at, "INSERT INTO find(text, at) VALUES (?, ?)", fill(r, sought[r.IntN(len(sought))]), at.UnixMilli())
		case 4:
			db.put(at, "INSERT INTO got(url, path, size, at, how) VALUES (?, ?, ?, ?, ?)", "https://radio.example.com/programme.pdf", fmt.Sprintf("/apps/skim/got/programme-%d.pdf", at.YearDay()), 9000+r.IntN(5000), at.UnixMilli(), []string{"all", "part"}[r.IntN(5)/4])
		}
	}
	asked := evening.Add(-40 * time.Hour)
	for _, l := range []struct {
		after time.Duration
		q     string
	}{
		{-time.Minute, "INSERT INTO find(text, at) VALUES ('is it a crime to leave a key out', ?)"},
		{0, "INSERT INTO went(url, title, at) VALUES ('https://law.example.org/helping-a-theft', 'Is leaving a key out helping a theft? – Law for everybody', ?)"},
		{3 * time.Minute, "INSERT INTO star(url, title, at) VALUES ('https://law.example.org/silence', 'The right to say nothing', ?)"},
		{4 * time.Minute, "INSERT INTO got(url, path, size, at, how) VALUES ('https://law.example.org/leaflet.pdf', '/apps/skim/got/leaflet.pdf', 22107, ?, 'all')"},
	} {
		db.put(asked.Add(l.after), l.q, asked.Add(l.after).UnixMilli())
	}
	for at := deletions; at.Before(last); at = at.Add(5 * time.Hour) {
		db.put(at, "INSERT INTO find(text, at) VALUES (?, ?)", fill(r, sought[at.YearDay()%len(sought)]), at.UnixMilli())
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, skimPath, "went", "star", "find", "got")
	}
	db.remove(t, skimPath, "went", "single rows", "url LIKE '%law.example%' OR no % 41 = 6")
	db.remove(t, skimPath, "star", "single rows", "url LIKE '%law.example%'")
	db.remove(t, skimPath, "find", "single rows", "text LIKE '%crime%'")
	db.remove(t, skimPath, "got", "single rows", "url LIKE '%law.example%'")
	return db.finish(t, skimPath, "went", "star", "find", "got")
}

// trace writes where the galley phone was.
func trace(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE point(no INTEGER PRIMARY KEY, at INTEGER NOT NULL, la REAL NOT NULL, lo REAL NOT NULL, err REAL)")
	db.exec("CREATE TABLE mark(no INTEGER PRIMARY KEY, called TEXT NOT NULL, la REAL NOT NULL, lo REAL NOT NULL, at INTEGER NOT NULL)")
	flat, library := spot{-38.50402, -24.01011}, spot{-38.50120, -24.01215}
	for at := start; at.Before(last); at = at.Add(3*time.Hour + time.Duration(r.IntN(1800))*time.Second) {
		s := flat
		switch h := at.Hour(); {
		case at.After(evening.Add(-2*time.Hour)) && at.Before(evening.Add(time.Hour)):
			s = library
		case h > 11 && h < 20 && at.Weekday() > time.Sunday && at.Weekday() < time.Thursday:
			s = stock
		}
		s = s.near(r, 12)
		db.put(at, "INSERT INTO point(at, la, lo, err) VALUES (?, ?, ?, ?)", stamp(fieldmap.Millis2001, at), s.lat, s.lon, float64(5+r.IntN(40)))
	}
	for i, p := range []struct {
		called string
		at     spot
	}{{"flat", flat}, {"library", library}, {"store, back", stock}, {"mother", home}} {
		at := start.AddDate(0, 0, 20*i)
		db.put(at, "INSERT INTO mark(called, la, lo, at) VALUES (?, ?, ?, ?)", p.called, p.at.lat, p.at.lon, stamp(fieldmap.Millis2001, at))
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, tracePath, "point", "mark")
	}
	db.remove(t, tracePath, "point", "a long run", "at BETWEEN ? AND ?", stamp(fieldmap.Millis2001, evening.AddDate(0, 0, -2)), stamp(fieldmap.Millis2001, evening.AddDate(0, 0, -1)))
	db.remove(t, tracePath, "mark", "single rows", "called = 'store, back'")
	return db.finish(t, tracePath, "point", "mark")
}

// horn writes the voicemail's database.
func horn(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	ticks := func(t time.Time) int64 { return since1601(t) * 10 }
	db.exec("CREATE TABLE tape(no INTEGER PRIMARY KEY, party TEXT NOT NULL, at INTEGER NOT NULL, ms INTEGER NOT NULL, state TEXT NOT NULL, name TEXT NOT NULL)")
	db.exec("CREATE TABLE crate(no INTEGER PRIMARY KEY, party TEXT NOT NULL, at INTEGER NOT NULL, ms INTEGER NOT NULL, state TEXT NOT NULL, name TEXT NOT NULL, purge INTEGER NOT NULL)")
	for i, at := range voices() {
		at = at.Add(5 * time.Hour)
		db.put(at, "INSERT INTO tape VALUES (?, ?, ?, ?, ?, ?)", i+1, met[(i*3+1)%len(met)].number, ticks(at), 1000*(2+i%5), []string{"old", "old", "new"}[r.IntN(3)], fmt.Sprintf("w%03d.wav", i+1))
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, hornPath, "tape", "crate")
	}
	db.remove(t, hornPath, "tape", "single rows", "no % 8 = 3")
	db.exec("INSERT INTO crate SELECT *, ? FROM tape WHERE no % 8 = 6", ticks(time.Date(2026, 10, 12, 0, 0, 0, 0, time.UTC)))
	db.remove(t, hornPath, "tape", "moved to the holding area", "no % 8 = 6")
	return db.finish(t, hornPath, "tape", "crate")
}

// ward writes what the handset itself keeps.
func ward(path string, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE happening(no INTEGER PRIMARY KEY, at INTEGER NOT NULL, sort TEXT NOT NULL, what TEXT, more TEXT)")
	db.exec("CREATE TABLE login(no INTEGER PRIMARY KEY, service TEXT NOT NULL, name TEXT NOT NULL, since INTEGER NOT NULL)")
	happen := func(at time.Time, sort, what, more string) {
		db.put(at, "INSERT INTO happening(at, sort, what, more) VALUES (?, ?, nullif(?, ''), nullif(?, ''))", at.UnixMilli(), sort, what, more)
	}
	for at := start; at.Before(last); at = at.Add(time.Duration(90+r.IntN(150)) * time.Hour) {
		happen(at, "down", "", "")
		happen(at.Add(55*time.Second), "up", "", "")
		happen(at.Add(2*time.Minute), "air", []string{"flat-4", "store-desk", "library"}[r.IntN(3)], `{"hardware": "02:00:5e:20:00:0`+fmt.Sprint(1+r.IntN(3))+`"}`)
	}
	happen(start.Add(time.Minute), "card", "Skerries Mobile", `{"iccid": "8999044000000002222", "number": "`+maren+`"}`)
	happen(start.Add(2*time.Minute), "zone", "Atlantic/Azores", "")
	happen(start.AddDate(0, 0, 100), "zone", "Europe/Lisbon", "")
	happen(start.AddDate(0, 0, 103), "zone", "Atlantic/Azores", "")
	happen(evening.AddDate(0, 0, -8), "card", "Prepaid One", `{"iccid": "8999044000000008888", "number": "+44 7700 900677"}`)
	for i, a := range []string{"wire", "bell", "folk", "gull", "days", "skim", "trace", "horn", "parcel tracker"} {
		happen(start.AddDate(0, 0, 7*i), "app", a, `{"how": "installed"}`)
	}
	happen(evening.Add(15*time.Hour), "app", "parcel tracker", `{"how": "removed"}`)
	for i := range 40 { // life goes on
		happen(deletions.Add(time.Duration(i)*6*time.Hour), "air", []string{"flat-4", "store-desk", "library"}[i%3], `{"hardware": "02:00:5e:20:00:0`+fmt.Sprint(1+i%3)+`"}`)
	}
	for i, l := range []struct{ service, name string }{{"mail", "maren@example.org"}, {"library", "M-2210"}, {"parcels", "galley7@example.net"}} {
		at := start.AddDate(0, 0, 25*i)
		db.put(at, "INSERT INTO login VALUES (?, ?, ?, ?)", i+1, l.service, l.name, at.UnixMilli())
	}
	db.live()
	if end.Before(deletions) {
		return db.finish(t, wardPath, "happening", "login")
	}
	db.remove(t, wardPath, "happening", "single rows", "sort IN ('air', 'up') AND no % 9 IN (5, 6)")
	db.remove(t, wardPath, "happening", "single rows", "what IN ('Prepaid One', 'parcel tracker') OR sort = 'zone' AND what LIKE 'Europe%'")
	db.remove(t, wardPath, "login", "single rows", "service = 'parcels'")
	return db.finish(t, wardPath, "happening", "login")
}

// tarnFiles are the files that rows of those apps name. Some are gone.
func tarnFiles(end time.Time) (out []content, err error) {
	for i, at := range voices() {
		if at = at.Add(5 * time.Hour); i%13 != 7 && at.Before(end) {
			out = append(out, content{fmt.Sprintf("/apps/horn/tapes/w%03d.wav", i+1), voice(uint64(500+i), 2+i%5), at})
		}
	}
	r := rand.New(rand.NewPCG(27, 77))
	for i := range 26 {
		b, err := snapshot(r)
		if err != nil {
			return nil, err
		}
		if at := start.AddDate(0, 0, 16*i); i%5 != 2 && at.Before(end) {
			out = append(out, content{fmt.Sprintf("/apps/gull/files/g%03d.jpg", i), b, at})
		}
	}
	return out, nil
}
