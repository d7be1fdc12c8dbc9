package salvage

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"testing"

	"crosswind/core/sqlitefile"
)

// kind is a way in which an application uses a database and loses rows of it.
type kind struct {
	name string
	live func(l *life)
}

// words makes a text of n characters and more.
func words(r *rand.Rand, n int) string {
	var b strings.Builder
	for b.Len() < n {
		b.WriteString([]string{"tide", "harbour", "the", "ketch", "at", "seven", "we", "lay", "off", "anchor", "blue", "a", "lamp"}[r.IntN(13)])
		b.WriteByte(' ')
	}
	return strings.TrimSpace(b.String())
}

// add inserts n rows by a statement with the verbs of fmt for id, time and text, a
// transaction for each so many.
func (l *life) add(n, each, long int, insert string) {
	for n > 0 {
		var q strings.Builder
		for range min(n, each) {
			l.ids++
			l.at += int64(1 + l.r.IntN(90_000))
			fmt.Fprintf(&q, insert+";", l.ids, l.at, words(l.r, 1+l.r.IntN(long)))
		}
		l.exec("BEGIN;" + q.String() + "COMMIT")
		l.see()
		n -= each
	}
}

const (
	visits    = "CREATE TABLE visit(id INTEGER PRIMARY KEY, url TEXT NOT NULL, title TEXT, at INTEGER NOT NULL, n INTEGER); CREATE INDEX visit_at ON visit(at); CREATE INDEX visit_url ON visit(url)"
	addVisit  = "INSERT INTO visit VALUES(%[1]d, 'https://harbour.example/%[3]s', '%[3]s', 13300000000000000+%[2]d, %[1]d%%7)"
	messages  = "CREATE TABLE message(id INTEGER PRIMARY KEY AUTOINCREMENT, thread INTEGER, who TEXT, at INTEGER, body TEXT, seen INTEGER)"
	addText   = "INSERT INTO message(thread, who, at, body, seen) VALUES(%[1]d%%5, '+44 7700 900417', 780000000000+%[2]d, '%[3]s', 1)"
	fixes     = "CREATE TABLE fix(at REAL, lat REAL, lon REAL, acc REAL, source INTEGER)"
	addFix    = "INSERT INTO fix VALUES(700000000.5+%[2]d, 56+%[1]d*0.0001, 3-%[1]d*0.0002, 5+%[1]d%%9, %[1]d%%3)"
	contacts  = "CREATE TABLE card(id INTEGER PRIMARY KEY, name TEXT, mail TEXT, added INTEGER); CREATE INDEX card_name ON card(lower(name)); CREATE INDEX card_mail ON card(mail) WHERE mail IS NOT NULL; CREATE INDEX card_len ON card(length(name), added)"
	addCard   = "INSERT INTO card VALUES(%[1]d, '%[3]s', CASE %[1]d%%3 WHEN 0 THEN NULL ELSE 'w%[1]d@harbour.example' END, 1600000000+%[2]d)"
	settings  = "CREATE TABLE setting(name TEXT PRIMARY KEY, value) WITHOUT ROWID; CREATE TABLE seen(token TEXT, at INTEGER); CREATE INDEX seen_token ON seen(token)"
	addSeen   = "INSERT INTO seen VALUES('token %[1]d %[3]s', 1600000000+%[2]d)"
	addOption = "INSERT INTO setting VALUES('option %[1]d', '%[3]s')"
	single    = "CREATE TABLE term(word TEXT); CREATE TABLE moment(at INTEGER); CREATE TABLE serial(n INTEGER PRIMARY KEY, code INTEGER)"
)

// widen adds a column's default to what was written before it was added.
func (l *life) widen(table string, more ...sqlitefile.Value) {
	old := l.h.versions
	l.h = history{map[string]*version{}, map[string][]*version{}}
	for _, v := range old {
		if v.table == table {
			v.values, v.known = append(v.values, more...), ""
		}
		l.h.add(v)
	}
	l.see()
}

// dump writes, for every reading of f that is chosen, what speaks for and against it and
// whether it is right: a line each, for fitting weights.
func (h *history) dump(t testing.TB, kind string, f files) {
	path := os.Getenv("DUMP")
	if path == "" {
		return
	}
	out, err := os.OpenFile(path+"-"+kind, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	s := New(f.open(t))
	var mu sync.Mutex
	s.weighing = func(sc *scanner, c *candidate) {
		mu.Lock()
		defer mu.Unlock()
		row := s.row(sc, c, &Row{}).Clone()
		right := false
		if row.Table == nil {
			for _, v := range h.versions {
				right = right || v.loosely(row)
			}
		} else {
			for _, v := range h.byTable[row.Table.Name] {
				right = right || v.fits(row)
			}
		}
		bytes, values, empty := 0, 0, 0
		live, own, index, unknowns := 0, 0, 0, 0
		if c.shape != nil {
			bytes, values, empty = sc.content(c, c.shape)
			live = c.shape.live
			if c.shape.index != "" {
				index = 1
			}
		}
		for _, x := range c.types {
			if x.t == unknown {
				unknowns++
			}
		}
		if sc.own != nil {
			own = 1
			if sc.sure || sc.known {
				own = 2
			}
		}
		b := func(x bool) int {
			if x {
				return 1
			}
			return 0
		}
		fmt.Fprintln(out, kind, b(right), c.basis(), b(c.broken), b(c.shape == nil), bytes, values, empty, live, own, index, unknowns, b(c.exact), b(c.first), b(c.loose), b(c.gap), b(c.vague), b(c.firm()), b(c.overwritten > 0), b(c.truncated), b(c.shape != nil && c.shape.WithoutRowID), b(c.shape != nil && c.shape.dropped), strings.Trim(fmt.Sprint(c.against.seen), "[]"), fmt.Sprintf("%.2f %.2f", c.score(), c.confidence()))
	}
	for range s.Rows(Options{Full: true}) {
	}
}

// kinds are lives that are not random: as applications live.
var kinds = []kind{
	{"old rows in one statement", func(l *life) {
		l.exec(visits)
		l.add(150+l.r.IntN(900), 50, 60, addVisit)
		l.exec(fmt.Sprintf("DELETE FROM visit WHERE id <= %d", l.ids*(30+l.r.IntN(50))/100))
	}},
	{"old rows of many tables", func(l *life) {
		l.exec(messages + ";" + fixes)
		l.add(100+l.r.IntN(500), 20, 120, addText)
		l.add(100+l.r.IntN(500), 20, 10, addFix)
		l.exec(fmt.Sprintf("DELETE FROM message WHERE at < 780000000000+%d; DELETE FROM fix WHERE at < 700000000.5+%d", l.at*3/10, l.at*7/10))
	}},
	{"pruned by age", func(l *life) {
		l.exec(messages)
		l.add(200, 10, 80, addText)
		for range 6 + l.r.IntN(20) {
			n := 5 + l.r.IntN(40)
			l.add(n, 1+l.r.IntN(5), 80, addText)
			l.exec(fmt.Sprintf("DELETE FROM message WHERE id IN (SELECT id FROM message ORDER BY at LIMIT %d)", n))
			l.see()
		}
	}},
	{"small transactions, scattered", func(l *life) {
		l.exec(messages + ";" + visits)
		l.add(150, 3, 60, addText)
		l.add(150, 3, 60, addVisit)
		for range 30 + l.r.IntN(60) {
			switch l.r.IntN(5) {
			case 0:
				l.add(1, 1, 60, addText)
			case 1:
				l.add(1, 1, 60, addVisit)
			case 2, 3:
				l.exec(fmt.Sprintf("DELETE FROM message WHERE id = %d; DELETE FROM visit WHERE id = %d", 1+l.r.IntN(l.ids), 1+l.r.IntN(l.ids)))
			default:
				l.exec(fmt.Sprintf("UPDATE message SET body = body || '.' WHERE id = %d", 1+l.r.IntN(l.ids)))
			}
			l.see()
		}
	}},
	{"expression and partial indexes", func(l *life) {
		l.exec(contacts + ";" + messages + "; CREATE INDEX message_day ON message(at/86400000); CREATE INDEX message_words ON message(substr(body,1,9)) WHERE thread > 2")
		l.add(200+l.r.IntN(300), 30, 40, addCard)
		l.add(200+l.r.IntN(300), 30, 80, addText)
		l.exec(fmt.Sprintf("DELETE FROM card WHERE id%%%d=1; DELETE FROM message WHERE id%%%d<2", 2+l.r.IntN(4), 3+l.r.IntN(5)))
		l.see()
		l.exec(fmt.Sprintf("DELETE FROM card WHERE id<%d", l.ids/3))
	}},
	{"small tables without row ids", func(l *life) {
		l.exec(settings)
		l.add(5+l.r.IntN(30), 5, 30, addOption)
		l.add(300+l.r.IntN(500), 50, 30, addSeen)
		l.exec(fmt.Sprintf("DELETE FROM seen WHERE at < 1600000000+%d; DELETE FROM setting WHERE length(value)%%3=0", l.at/2))
		l.see()
		l.exec("UPDATE setting SET value = value || ' anew' WHERE length(value)%3=1")
	}},
	{"tables of one column", func(l *life) {
		l.exec(single)
		l.add(100+l.r.IntN(300), 20, 30, "INSERT INTO term VALUES('%[3]s %[1]d')")
		l.add(100+l.r.IntN(300), 20, 30, "INSERT INTO moment VALUES(1600000000+%[2]d)")
		l.add(100+l.r.IntN(300), 20, 30, "INSERT INTO serial VALUES(%[1]d, 4400000+%[2]d)")
		l.exec(fmt.Sprintf("DELETE FROM term WHERE rowid%%%d=1; DELETE FROM moment WHERE rowid < %d; DELETE FROM serial WHERE n%%%d=1", 2+l.r.IntN(4), l.ids/5, 2+l.r.IntN(4)))
	}},
	{"columns added in mid-life", func(l *life) {
		l.exec(messages)
		l.add(100+l.r.IntN(300), 20, 60, addText)
		for _, c := range []string{"edited INTEGER", "note TEXT"} {
			l.exec("ALTER TABLE message ADD COLUMN " + c)
			l.widen("message", sqlitefile.Value{At: -1})
		}
		l.add(100+l.r.IntN(300), 20, 60, "INSERT INTO message(thread, who, at, body, seen, edited, note) VALUES(%[1]d%%5, '+44 7700 900417', 780000000000+%[2]d, '%[3]s', 1, 0, 'n %[1]d')")
		l.exec("ALTER TABLE message ADD COLUMN pinned INTEGER DEFAULT 0")
		l.widen("message", sqlitefile.IntValue(0))
		l.exec(fmt.Sprintf("DELETE FROM message WHERE id%%%d=1", 2+l.r.IntN(5)))
		l.see()
		l.exec(fmt.Sprintf("DELETE FROM message WHERE id<%d", l.ids/4))
	}},
	{"fragments", func(l *life) {
		l.exec(messages)
		l.add(150+l.r.IntN(200), 20, 50, addText)
		for range 4 + l.r.IntN(8) {
			l.exec(fmt.Sprintf("UPDATE message SET body = substr(body, 1, length(body)-%d) WHERE id%%%d=%d AND length(body)>8", 1+l.r.IntN(3), 2+l.r.IntN(4), l.r.IntN(3)))
			l.see()
			l.exec(fmt.Sprintf("DELETE FROM message WHERE id%%%d=%d", 5+l.r.IntN(9), l.r.IntN(5)))
			l.add(l.r.IntN(6), 2, 50, addText)
		}
	}},
	{"flags and short values", func(l *life) {
		l.exec("CREATE TABLE state(id INTEGER PRIMARY KEY, name TEXT, on_ INTEGER, seen INTEGER, pinned INTEGER); CREATE TABLE link(a INTEGER, b INTEGER)")
		l.add(100+l.r.IntN(300), 20, 20, "INSERT INTO state VALUES(%[1]d, '%[3]s', %[1]d%%2, 0, NULL)")
		l.add(100+l.r.IntN(300), 20, 20, "INSERT INTO link VALUES(1000+%[1]d, %[1]d*7)")
		l.exec(fmt.Sprintf("DELETE FROM state WHERE id%%%d=1; DELETE FROM link WHERE a%%%d=1", 2+l.r.IntN(4), 2+l.r.IntN(4)))
	}},
	{"all rows, or all but two", func(l *life) {
		l.exec(messages + ";" + visits)
		l.add(20+l.r.IntN(200), 20, 60, addText)
		l.add(20+l.r.IntN(60), 20, 60, addVisit)
		l.exec([]string{"DELETE FROM message; DELETE FROM visit", "DELETE FROM message WHERE id > 0; DELETE FROM visit WHERE id > 0",
			"DELETE FROM message WHERE id NOT IN (3, 9); DELETE FROM visit WHERE id%20 <> 7"}[l.r.IntN(3)])
	}},
	{"few rows", func(l *life) {
		l.exec(messages + ";" + fixes + ";" + contacts)
		l.add(6, 20, 60, addText)
		l.add(6, 20, 60, addFix)
		l.add(6, 20, 60, addCard)
		l.exec("DELETE FROM message WHERE id IN (2, 3, 5); DELETE FROM fix WHERE rowid%2=0; DELETE FROM card WHERE id%2=0")
	}},
	{"dropped tables", func(l *life) {
		l.exec(messages + ";" + fixes)
		l.add(100, 20, 60, addText)
		l.add(100, 20, 60, addFix)
		l.exec("DROP TABLE message; DELETE FROM fix WHERE rowid%3=1")
	}},
}

// seeds is where the seeds of the lives begin that are judged. The weights were fitted on
// those from 0 on.
var seeds = func() (n uint64) {
	n = 1000
	fmt.Sscan(os.Getenv("SEEDS"), &n)
	return n
}()

// Lives as applications lead them give their rows back, in each kind for itself.
func TestKindsOfLives(t *testing.T) {
	lives := 12
	if s := os.Getenv("LIVES"); s != "" {
		fmt.Sscan(s, &lives)
	}
	var mu sync.Mutex
	var all tally
	t.Cleanup(func() {
		if t.Logf("%d rows, %d of them wrong", all.rows, all.invented); all.invented*20_000 > all.rows {
			t.Error("these are too many")
		}
	})
	for i, k := range kinds {
		t.Run(k.name, func(t *testing.T) {
			t.Parallel()
			var sum tally
			for n := range uint64(lives) {
				seed := (n+seeds)*100 + uint64(i)
				r := rand.New(rand.NewPCG(seed, 3))
				mode := []string{"DELETE", "DELETE", "WAL", "PERSIST"}[r.IntN(4)]
				size, enc, vacuum := 1024<<r.IntN(3), []string{"UTF-8", "UTF-8", "UTF-8", "UTF-16le"}[r.IntN(4)], r.IntN(6)/5
				l := newLife(t, seed, fmt.Sprintf("PRAGMA page_size=%d; PRAGMA encoding='%s'; PRAGMA auto_vacuum=%d; PRAGMA journal_mode=%s", size, enc, vacuum, mode))
				k.live(l)
				l.see()
				f := readFiles(t, l.path)
				l.h.dump(t, strings.ReplaceAll(k.name, " ", "-"), f)
				sum.add(l.h.check(t, fmt.Sprintf("life %d (%d, %s, %s, auto_vacuum %d)", seed, size, enc, mode, vacuum), f, l.h.see(t, f)))
				l.db.Close()
			}
			mu.Lock()
			all.add(sum)
			mu.Unlock()
			sum.judge(t, 995, 980, 1000)
		})
	}
}

// judge says what came back, and fails the test if that is less than so many of a
// thousand whole and headless cells, or more than one row in so many is wrong.
func (a *tally) judge(t *testing.T, whole, headless, wrong int) {
	t.Helper()
	t.Logf("%s: whole %d of %d, without first four bytes %d of %d; %d rows, %d with a wrong value, %d of a wrong table, %d unattributed, %d copies; of %d at least 0.9 sure %d are right", t.Name(),
		a.wholeSeen, a.whole, a.headlessSeen, a.headless, a.rows, a.invented, a.wrongTable, a.unattributed, a.copies, a.sure, a.sureRight)
	if a.wholeSeen*1000 < a.whole*whole || a.headlessSeen*1000 < a.headless*headless || a.invented*wrong > a.rows || a.copies > 0 || a.sureRight*10 < a.sure*9 {
		t.Error("that is less than it must be")
	}
}
