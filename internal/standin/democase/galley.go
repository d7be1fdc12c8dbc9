package democase

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crosswind/core/backup"
	"crosswind/core/fieldmap"
)

// Galley is the demo's second handset, of the family Tarn: that of Maren O.,
// with whom the owner of the harbour phone talks. What the two said to each
// other is on both.
var Galley = backup.Device{Name: "Galley phone", Mark: "TN-7", Serial: "TEST-0932-C", IMEI: "004999011223343", System: "Tarn 3.4"}

// owner is the number of the harbour phone.
const owner = "+44 7700 900100"

const (
	wirePath = "/apps/wire/wire.sqlite"
	bellPath = "/apps/bell/bell.sqlite"
	folkPath = "/apps/folk/folk.sqlite"
)

// met are those whom Maren knows, with the keys of their threads.
var met = []struct{ name, number, party string }{
	{"Harbour", owner, "home"}, {"Ketil", "+44 7700 900417", ""}, {"Store office", "+44 1632 960140", "work"},
	{"Ida, night desk", "+44 7700 900733", "work"}, {"Dentist", "+44 1632 960171", ""}, {"Mother", "+44 7700 900260", "home"},
}

// gone is what Maren deleted on 12 September.
var gone = []struct {
	minute int
	mine   bool
	body   string
}{
	{-190, false, "you said the key is where"},
	{-187, true, "third tile left of the drain. put it back"},
	{-184, false, "and the alarm"},
	{-181, true, "I leave it off tonight. after that I know nothing"},
	{12, true, "is it done"},
}

func galleyFiles(work string, end time.Time, few bool) ([]content, *Truth, error) {
	t := &Truth{Live: map[string]int{}}
	var out []content
	from := begin(few)
	makers := []maker{{wirePath, since(from, wire)}, {bellPath, since(from, bell)}, {folkPath, since(from, folk)}}
	if !few {
		makers = append(makers, tarnApps...)
	}
	for _, m := range makers {
		b, err := m.make(filepath.Join(work, filepath.Base(m.path)), end, rand.New(rand.NewPCG(27, uint64(len(m.path)))), t)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, content{m.path, b, end})
	}
	if !few {
		more, err1 := tarnFiles(end)
		library, err2 := tarnLibrary.libraryFiles(end)
		if err := errors.Join(err1, err2); err != nil {
			return nil, nil, err
		}
		out = append(append(out, more...), library...)
	}
	out = append(out, content{"/etc/device.ini", []byte("[device]\nname=" + Galley.Name + "\nmark=" + Galley.Mark + "\nserial=" + Galley.Serial + "\n"), end},
		content{"/etc/.cells", []byte("last=2026-09-22T18:55:02Z\n"), end})
	r := rand.New(rand.NewPCG(27, 14))
	for i := range 12 {
		b, err := picture(r)
		if err != nil {
			return nil, nil, err
		}
		if at := lately.AddDate(0, 0, 5+i*16); at.Before(end) {
			out = append(out, content{fmt.Sprintf("/shots/2026/s-%03d.png", i+1), b, at})
		}
	}
	return out, t, nil
}

// wire writes the message app's database: layout "wire 3".
func wire(path string, from, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 2048, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	const columns = "no INTEGER PRIMARY KEY, thread INTEGER NOT NULL, party TEXT NOT NULL, way TEXT NOT NULL, at REAL NOT NULL, said TEXT"
	db.exec("CREATE TABLE thread(key INTEGER PRIMARY KEY, title TEXT NOT NULL)")
	db.exec("CREATE TABLE post(" + columns + ")")
	db.exec("CREATE TABLE drawer(" + columns + ", goes REAL NOT NULL)")
	for i, m := range met {
		db.put(from, "INSERT INTO thread VALUES (?, ?)", 10*(i+1), m.name)
	}
	var all []line
	for _, l := range lines(from) {
		if people[l.who].number == maren {
			all = append(all, line{0, !l.mine, l.at.Add(time.Duration(300+r.IntN(2500)) * time.Millisecond), l.body})
		}
	}
	for at := from.Add(3 * time.Hour); at.Before(last); at = at.Add(time.Duration(140+r.IntN(1100)) * time.Minute) {
		who, mine := 1+r.IntN(len(met)-1), r.IntN(2)
		for _, l := range exchange(r, 2) {
			all = append(all, line{who, (l.who+mine)%2 == 0, at, l.said})
			at = at.Add(time.Duration(15+r.IntN(400)) * time.Second)
		}
	}
	for _, g := range gone {
		all = append(all, line{1, g.mine, evening.Add(time.Duration(g.minute) * time.Minute), g.body})
	}
	for _, l := range all {
		way := "from"
		if l.mine {
			way = "to"
		}
		db.put(l.at, "INSERT INTO post(thread, party, way, at, said) VALUES (?, ?, ?, ?, ?)", 10*(l.who+1), met[l.who].number, way, float64(l.at.UnixMilli())/1000, l.body)
	}
	db.live()
	db.remove(t, wirePath, "post", "single rows", "no % 47 = 5 AND at < 1788000000")
	if end.Before(deletions) {
		return db.finish(t, wirePath, "post", "drawer")
	}
	for _, g := range gone {
		db.remove(t, wirePath, "post", "single rows", "said = ?", g.body)
	}
	db.remove(t, wirePath, "post", "a long run", "no BETWEEN 500 AND 560")
	held := "thread = 40 AND no % 11 = 3 AND at > 1788000000"
	db.exec("INSERT INTO drawer SELECT *, ? FROM post WHERE "+held, float64(time.Date(2026, 10, 18, 9, 0, 0, 0, time.UTC).Unix()))
	db.remove(t, wirePath, "post", "moved to the holding area", held)
	return db.finish(t, wirePath, "post", "drawer")
}

// bell writes the call app's database: layout "bell 2".
func bell(path string, from, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 4096, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE bell(no INTEGER PRIMARY KEY, party TEXT NOT NULL, sort TEXT NOT NULL, at INTEGER NOT NULL, lasted INTEGER NOT NULL)")
	type row struct {
		at          time.Time
		party, sort string
		lasted      int
	}
	var all []row
	for at, n := from, 0; n < 800; n++ {
		if at = at.Add(time.Duration(200+r.IntN(1500)) * time.Minute); at.After(last) {
			break
		}
		c := row{at: at, sort: []string{"got", "made", "made", "missed"}[r.IntN(4)], party: met[1+r.IntN(len(met)-1)].number}
		if c.sort != "missed" {
			c.lasted = 9000 + r.IntN(600_000)
		}
		all = append(all, c)
	}
	for _, c := range between(from) {
		x := row{c.at.Add(time.Duration(200+r.IntN(1700)) * time.Millisecond), owner, "got", 1000*c.secs + r.IntN(900)}
		switch {
		case c.spoken > 0:
			x.sort, x.lasted = "made", 1000*c.spoken
		case !c.mine:
			x.sort = "made"
		case !c.took:
			x.sort, x.lasted = "missed", 0
		}
		all = append(all, x)
	}
	slices.SortStableFunc(all, func(a, b row) int { return a.at.Compare(b.at) })
	for _, c := range all {
		db.put(c.at, "INSERT INTO bell(party, sort, at, lasted) VALUES (?, ?, ?, ?)", c.party, c.sort, c.at.UnixMilli(), c.lasted)
	}
	db.live()
	db.remove(t, bellPath, "bell", "single rows", "no % 17 = 4")
	return db.finish(t, bellPath, "bell")
}

// folk writes the contacts app's database: layout "folk 1".
func folk(path string, from, end time.Time, r *rand.Rand, t *Truth) ([]byte, error) {
	db, err := openDB(path, 1024, end)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.exec("CREATE TABLE who(no INTEGER PRIMARY KEY, called TEXT NOT NULL, party TEXT, noted INTEGER NOT NULL)")
	db.exec("CREATE TABLE digits(who INTEGER NOT NULL, number TEXT NOT NULL)")
	for i, m := range met {
		noted := from.AddDate(0, 0, -i)
		db.put(noted, "INSERT INTO who VALUES (?, ?, nullif(?, ''), ?)", i+1, m.name, m.party, (noted.Unix()-fieldmap.Ticks1601.Since.Unix())*10_000_000)
		db.put(noted, "INSERT INTO digits VALUES (?, ?)", i+1, m.number)
	}
	if from == start {
		db.exec("CREATE TABLE likeness(who INTEGER NOT NULL, path TEXT NOT NULL)")
		for i := range met[:4] {
			db.put(from, "INSERT INTO likeness VALUES (?, ?)", i+1, fmt.Sprintf("/apps/folk/likeness/%d.jpg", i+1))
		}
	}
	houses := strings.Fields("museum school glazier printer lens-grinder insurer cleaner carrier brass-works survey chapel night-watch")
	for i := range 60 {
		noted := from.Add(time.Duration(i) * 167 * time.Hour)
		if !noted.Before(last) {
			break
		}
		db.put(noted, "INSERT INTO who VALUES (?, ?, 'work', ?)", 100+i, fmt.Sprintf("%s %c", houses[r.IntN(len(houses))], 'a'+rune(r.IntN(26))), (noted.Unix()-fieldmap.Ticks1601.Since.Unix())*10_000_000)
		db.put(noted, "INSERT INTO digits VALUES (?, ?)", 100+i, fmt.Sprintf("+44 1632 960%03d", 600+i))
	}
	db.live()
	db.remove(t, folkPath, "who", "single rows", "no % 8 = 6 AND no > 99")
	db.remove(t, folkPath, "digits", "single rows", "who % 8 = 6 AND who > 99")
	return db.finish(t, folkPath, "who", "digits")
}
