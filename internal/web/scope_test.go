package web

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/digest"
	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/internal/acquire"
	"crosswind/internal/authority"
	"crosswind/internal/evidence"
	"crosswind/internal/export"
	"crosswind/internal/press"
	"crosswind/internal/preview"
	"crosswind/internal/recovery"
	"crosswind/internal/run"
	"crosswind/internal/run/runtest"
	standin "crosswind/internal/standin/authority"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
	"crosswind/internal/vault"
	"crosswind/internal/web/frame"
	"crosswind/internal/web/report"

	"golang.org/x/crypto/argon2"
	_ "modernc.org/sqlite" // the SQLite library that writes the marked evidence
)

// Marks of evidence: what must never be seen, what must not be seen once its person is
// privileged, what must not be seen before the scope is wider, and what may be seen.
const (
	never  = "zqjx"
	later  = "zqjn"
	wider  = "zqjw"
	always = "OKAY"
)

const (
	counsel = "+44 7700 900551"
	ketil   = "+44 7700 900417"
	tor     = "+44 7700 900119"
)

// evidenceBench makes databases, by their paths on the handset.
type evidenceBench struct {
	t   *testing.T
	dir string
	out map[string][]byte
}

func newEvidence(t *testing.T) *evidenceBench {
	return &evidenceBench{t, t.TempDir(), map[string][]byte{}}
}

func (e *evidenceBench) open(name, mode string) (db *sql.DB, exec func(q string, args ...any)) {
	t := e.t
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(e.dir, name))
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { db.Close() })
	exec = func(q string, args ...any) {
		t.Helper()
		if _, err := db.Exec(q, args...); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
	for _, p := range []string{"page_size=1024", "secure_delete=OFF", "journal_mode=" + mode, "wal_autocheckpoint=0"} {
		exec("PRAGMA " + p)
	}
	return db, exec
}

func (e *evidenceBench) keep(name, onHandset string) {
	e.t.Helper()
	b, err := os.ReadFile(filepath.Join(e.dir, name))
	if err != nil {
		e.t.Fatal(err)
	}
	e.out[onHandset] = b
}

// say is a text with a mark.
func say(mark, why string) string { return strings.Repeat(mark+why+" ", 4) }

// marked makes databases in which records with marks lie in every place: live, in free
// blocks, free pages, a dropped table, a rollback journal, a log, and a table that no
// map reads.
func marked(t *testing.T) map[string][]byte {
	t.Helper()
	e := newEvidence(t)
	open, keep, out := e.open, e.keep, e.out
	in, before := int64(8_000_000_00000), int64(100_000) // milliseconds since 2001: within and before the dates covered

	// Messages: the family's first layout, with a rollback journal.
	_, exec := open("talk", "PERSIST")
	exec("CREATE TABLE circle(id INTEGER PRIMARY KEY, title TEXT, opened INTEGER)")
	exec("CREATE TABLE line(id INTEGER PRIMARY KEY AUTOINCREMENT, circle INTEGER, peer TEXT, mine INTEGER, sent INTEGER, body TEXT, seen INTEGER)")
	exec("CREATE TABLE binned(id INTEGER PRIMARY KEY, circle INTEGER, peer TEXT, mine INTEGER, sent INTEGER, body TEXT, seen INTEGER, gone INTEGER, purge INTEGER)")
	exec("CREATE TABLE diary(day INTEGER PRIMARY KEY, page TEXT)") // which no map reads
	exec("INSERT INTO circle VALUES (1, 'One', 0), (2, ?, 0), (3, 'Three', 0), (4, 'Four', 0)", say(never, "title"))
	talk := func(place string) {
		for i, m := range []struct {
			circle any
			peer   any
			sent   any
			mark   string
		}{
			{1, ketil, in, always}, {3, tor, in, later},
			{2, "0044 7700 900551", in, never}, {2, "07700 900551", in, never}, {2, "\u202a+44 7700\u2011900551\u202c", in, never},
			{2, nil, in, never},   // going out, in the conversation with counsel
			{2, ketil, in, never}, // somebody else in it
			{nil, nil, in, never}, // without a party
			{1, ketil, before, never}, {1, ketil, nil, never},
		} {
			exec("INSERT INTO line(circle, peer, mine, sent, body, seen) VALUES (?, ?, 0, ?, ?, 1)", m.circle, m.peer, m.sent, say(m.mark, fmt.Sprintf("%s%d", place, i)))
		}
		exec("INSERT INTO diary(page) VALUES (?)", say(never, place+"diary"))
	}
	talk("live")
	talk("gone")
	exec("DELETE FROM line WHERE body LIKE '%gone%'")
	exec("DELETE FROM diary WHERE page LIKE '%gone%'")
	for range 6 {
		talk("page")
	}
	exec("DELETE FROM line WHERE body LIKE '%page%'")
	exec("CREATE TABLE old(id INTEGER PRIMARY KEY, circle INTEGER, peer TEXT, mine INTEGER, sent INTEGER, body TEXT, seen INTEGER)")
	for i := range 20 {
		exec("INSERT INTO old VALUES (?, 2, ?, 0, ?, ?, 1)", i+1, counsel, in, say(never, "old"))
	}
	exec("DROP TABLE old")
	talk("jour")
	exec("UPDATE line SET body = 'plain', circle = 1, peer = ? WHERE body LIKE '%jour%'", ketil) // the journal keeps what was before
	keep("talk", "/data/talk/talk.db")
	keep("talk-journal", "/data/talk/talk.db-journal")

	// Messages of the other family, with a log that is not checkpointed.
	_, exec = open("wire", "WAL")
	exec("CREATE TABLE thread(key TEXT PRIMARY KEY, title TEXT)")
	exec("CREATE TABLE post(id INTEGER PRIMARY KEY, thread TEXT, party TEXT, way TEXT, at REAL, said TEXT)")
	exec("INSERT INTO post VALUES (1, 'a', ?, 'from', 1770000000.5, ?), (2, 'b', ?, 'from', 1770000000.5, ?)", ketil, say(always, "wire"), counsel, say(never, "wire"))
	exec("UPDATE post SET said = 'plain', party = ?, thread = 'a' WHERE id = 2", ketil)
	exec("INSERT INTO post VALUES (3, 'c', ?, 'to', 1770000000.5, ?)", tor, say(later, "wire"))
	exec("DELETE FROM post WHERE id = 3")
	keep("wire", "/apps/wire/wire.sqlite")
	keep("wire-wal", "/apps/wire/wire.sqlite-wal")

	// Contacts and calls: kinds that are not covered. Names are values of contacts.
	_, exec = open("people", "DELETE")
	exec("CREATE TABLE card(id INTEGER PRIMARY KEY, name TEXT, note TEXT, added INTEGER)")
	exec("CREATE TABLE reach(card INTEGER, how TEXT, value TEXT)")
	exec("INSERT INTO card VALUES (1, ?, ?, 1450000000), (2, ?, '', 1450000000)", say(wider, "name"), say(wider, "note"), say(never, "name"))
	exec("INSERT INTO reach VALUES (1, 'mobile', ?), (2, 'mobile', ?)", ketil, counsel)
	keep("people", "/data/people/people.db")
	_, exec = open("diary", "DELETE")
	exec("CREATE TABLE entry(id INTEGER PRIMARY KEY, text TEXT)")
	for i := range 8 {
		exec("INSERT INTO entry VALUES (?, ?)", i, say(never, "diary"))
	}
	exec("DELETE FROM entry WHERE id > 3")
	keep("diary", "/data/diary/diary.db")
	out["/media/letter.txt"] = []byte(say(never, "file"))

	// Messages with pictures, of a family's second app: what is shown of one is as its message.
	_, exec = open("tern", "DELETE")
	exec("CREATE TABLE room(key INTEGER PRIMARY KEY, title TEXT, shelf TEXT)")
	exec("CREATE TABLE seat(room INTEGER, who TEXT)")
	exec("CREATE TABLE word(id INTEGER PRIMARY KEY, room INTEGER, who TEXT, mine INTEGER, at INTEGER, got INTEGER, seen INTEGER, edited INTEGER, taken INTEGER, fades INTEGER, said TEXT)")
	exec("CREATE TABLE piece(word INTEGER, sort INTEGER, bytes INTEGER, file TEXT)")
	exec("CREATE TABLE sign(word INTEGER, who TEXT, mark TEXT)")
	exec("CREATE TABLE late(id INTEGER PRIMARY KEY, room INTEGER, who TEXT, mine INTEGER, at INTEGER, said TEXT, purge INTEGER)")
	for i, m := range []struct{ who, mark string }{{ketil, always}, {counsel, never}, {tor, later}} {
		exec("INSERT INTO room VALUES (?, ?, NULL)", i, say(m.mark, "room"))
		exec("INSERT INTO seat VALUES (?, ?)", i, m.who)
		exec("INSERT INTO word VALUES (?, ?, ?, 0, ?, NULL, NULL, NULL, NULL, NULL, ?)", i+1, i, m.who, 1770000000_000000+int64(i), say(m.mark, "word"))
		exec("INSERT INTO piece VALUES (?, 1, 9, ?)", i+1, m.mark+".jpg")
		exec("INSERT INTO sign VALUES (?, ?, ?)", i+1, m.who, say(m.mark, "sign"))
		out["/data/tern/kept/"+[]string{"a", "b", "c"}[i]+".jpg"] = []byte("\xff\xd8\xff" + say(m.mark, "picture"))
	}
	exec("UPDATE piece SET file = substr('abc', word, 1) || '.jpg'")
	keep("tern", "/data/tern/tern.db")

	return out
}

// everyKind makes databases and files of all kinds but messages, calls and contacts, marked as never to be seen.
func everyKind(t *testing.T) map[string][]byte {
	t.Helper()
	e := newEvidence(t)
	open, keep, out := e.open, e.keep, e.out
	// Every other kind, of every map that there is: live and deleted, with files within rows.
	for _, m := range fieldmap.Maps {
		if slices.ContainsFunc(m.Readings, func(r fieldmap.Reading) bool {
			return r.Kind == record.Message || r.Kind == record.Call || r.Kind == record.Contact
		}) {
			continue
		}
		_, exec := open(m.Name, "DELETE")
		for table, columns := range m.Tables {
			exec("CREATE TABLE " + table + "(" + strings.Join(columns, ", ") + ")")
			for i := range 6 {
				values := make([]any, len(columns))
				for k, name := range columns {
					values[k] = say(never, table+name)
					for _, r := range m.Readings {
						if r.Table == table && r.Where != nil && r.Where.Column == name && i%2 == 0 {
							values[k] = r.Where.Is[0]
						}
						for _, a := range r.Attachments {
							if r.Table == table && a.Data != nil && a.Data.Column == name {
								values[k] = []byte("\xff\xd8\xff" + strings.Repeat(say(never, "blob"), 40))
							}
						}
					}
				}
				exec("INSERT INTO "+table+" VALUES (?"+strings.Repeat(", ?", len(columns)-1)+")", values...)
			}
			exec("DELETE FROM " + table + " WHERE rowid IN (2, 5)")
		}
		keep(m.Name, m.Path)
	}
	// And of every reader.
	out["/media/old.mbox"] = []byte("From a@example.com Fri Nov 21 15:55:06 2025\nFrom: a@example.com\nTo: b@example.com\nSubject: " + say(never, "subject") + "\nDate: Fri, 21 Nov 2025 15:55:06 +0000\n\n" + say(never, "mail") + "\n")
	out["/media/notes/page.html"] = []byte("<title>" + say(never, "title") + "</title><p>" + say(never, "note"))
	out["/media/memo.wav"] = append([]byte("RIFF\x00\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00\x40\x1f\x00\x00\x80\x3e\x00\x00\x02\x00\x10\x00LIST\x4c\x00\x00\x00INFOINAM\x40\x00\x00\x00"), say(never, strings.Repeat("x", 64))[:64]...)
	return out
}

// scene is the whole application over the marked evidence, with a worker.
type scene struct {
	t      *testing.T
	looks  int // that were had, by which formats take their turns
	s      *store.Store
	app    *frame.App
	desk   *standin.Authority
	bench  *runtest.Bench
	cs     *store.Case
	acq    *store.Acquisition
	client *http.Client
	base   string
	halt   atomic.Bool // the next recovery stands still in its last database until it is stopped
	dir    string
	got    map[string]answer // pages that were fetched already while their addresses were gathered
}

type answer struct {
	code int
	body []byte
}

// newScene makes one; change alters its authority, which covers messages and excludes counsel.
func newScene(t *testing.T, files map[string][]byte, change ...func(*store.Authority)) *scene {
	t.Helper()
	ctx := context.Background()
	w := &scene{t: t, dir: t.TempDir()}
	desk, err := standin.Open(standin.Setting{Dir: filepath.Join(w.dir, "authority")})
	if err != nil {
		t.Fatal(err)
	}
	stamps := httptest.NewServer(desk.Handler())
	t.Cleanup(stamps.Close)
	clerk, err := authority.New(stamps.URL, filepath.Join(w.dir, "authority", standin.RootsName))
	if err != nil {
		t.Fatal(err)
	}
	w.desk, w.s = desk, storetest.Open(t, func(o *store.Options) { o.Stamper = clerk })
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(w.s.AddExaminer(ctx, store.Examiner{Login: "e", Name: "E", Role: "examiner", PasswordHash: hashed()}, "test", false))
	from := time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)
	auth := store.Authority{Kind: "warrant", IssuedBy: "x", Number: "1", ValidFrom: from, ValidTo: from.AddDate(100, 0, 0), ScopeKinds: []string{"message"}, ScopeFrom: &from, Excluded: "counsel", Privileged: []string{counsel}}
	for _, f := range change {
		f(&auth)
	}
	must(w.s.AddCase(ctx, store.Case{Reference: "T-1", Title: "Test", Zone: "UTC"}, auth, "test"))
	w.cs, err = w.s.CaseByReference(ctx, "T-1")
	must(err)
	must(w.s.AddExhibit(ctx, w.cs, store.Exhibit{Reference: "1-A", Kind: "handset", ModelMark: "m", Serial: "s", Numbers: "+44 7700 900100"}, store.Custody{What: "received", At: from, ToWhom: "E", Seal: "1", Place: "p"}, "test"))
	es, err := w.s.Exhibits(ctx, w.cs.ID)
	must(err)
	v, err := vault.OpenFolder(filepath.Join(w.dir, "vault"))
	must(err)
	rec := &recovery.Recoverer{Store: w.s, Vault: v, Tool: "test"}
	door := evidence.New(w.s, v)
	mk := &report.Maker{Store: w.s, Evidence: door, Reader: rec, Tool: "test", Dir: filepath.Join(w.dir, "packages"), Key: storetest.Key, Trusted: clerk.PEM}
	w.bench = runtest.Start(t, w.s, w.cs, map[string]run.Job{"package": mk.Package, "recover": func(ctx context.Context, t *run.Task) error {
		r := *rec
		if w.halt.CompareAndSwap(true, false) {
			r.Vault = &halting{Vault: v, ctx: ctx, blob: fmt.Sprintf("%x", sha256.Sum256(files["/data/talk/talk.db"]))}
		}
		return r.Recover(ctx, t)
	}, "acquire backup": func(ctx context.Context, t *run.Task) error {
		a, err := w.s.AcquisitionForRun(ctx, w.cs, t.Run, store.Acquisition{ExhibitID: es[0].ID, Method: "m", Source: "s", Facts: []byte("{}"), Tool: "test", By: "E", StartedAt: time.Now()})
		if err != nil {
			return err
		}
		for _, p := range slices.Sorted(maps.Keys(files)) {
			set, err := v.Put(ctx, bytes.NewReader(files[p]), nil)
			if err != nil {
				return err
			}
			md5, sha1, sha256 := set.Hex()
			if err := w.s.AddFile(ctx, t.Run, &store.File{AcquisitionID: a.ID, Path: strings.TrimPrefix(p, "/"), RealPath: p, Size: set.Size, MD5: md5, SHA1: sha1, SHA256: sha256, Segments: []byte{0, 0, 0, 0}, CheckedAt: time.Now()}); err != nil {
				return err
			}
		}
		now := time.Now()
		a.EndedAt, a.Manifest = &now, manifestOf(files)
		return w.s.EndAcquisition(ctx, t.Run, a, nil, store.Act{Book: w.cs.Book(), By: "E", What: "acquisition.ended", On: "1-A acquisition 1", Detail: map[string]string{"manifest_sha256": a.Manifest}})
	}}, io.Discard)
	w.bench.Do("acquire backup", map[string]any{"path": "/x", "exhibit": es[0].ID})
	as, err := w.s.Acquisitions(ctx, w.cs.ID, 0)
	must(err)
	w.acq = &as[0]
	w.app = &frame.App{Store: w.s, Evidence: door, Tool: "test", Packages: mk.Dir, Data: w.dir, Previews: &preview.Maker{Dir: filepath.Join(w.dir, "previews"), Command: []string{"/bin/cat"}, Log: slog.New(slog.DiscardHandler)}, Acquirer: &acquire.Acquirer{Store: w.s, Vault: v, Tool: "test", Keys: &acquire.Keys{}}, Process: run.NewProcess("test"), Press: setter(), Log: slog.New(slog.DiscardHandler)}
	h, err := Handler(w.app)
	must(err)
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	jar, _ := cookiejar.New(nil)
	w.base, w.client = srv.URL, &http.Client{Jar: jar}
	w.post("/sign-in", "login", "e", "password", "long enough")
	return w
}

func (w *scene) post(path string, pairs ...string) (int, string) {
	w.t.Helper()
	return send(w.t, w.client, w.base+path, pairs)
}

func (w *scene) get(path string) (int, []byte) {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	req, _ := http.NewRequestWithContext(ctx, "GET", w.base+path, nil)
	res, err := w.client.Do(req)
	if err != nil {
		w.t.Fatal(path, err)
	}
	defer res.Body.Close()
	if strings.HasSuffix(path, "/events") { // which goes on: what comes at once is enough
		time.AfterFunc(200*time.Millisecond, cancel)
	}
	b, _ := io.ReadAll(res.Body)
	return res.StatusCode, b
}

// halting is a vault that stands still when a blob is opened to be read, until its run is
// stopped.
type halting struct {
	vault.Vault
	ctx  context.Context
	blob string
	n    int
}

func (h *halting) Open(sha256 string) (vault.Blob, error) {
	if sha256 == h.blob {
		if h.n++; h.n == 2 { // the first time was to see whether it is a database
			<-h.ctx.Done()
		}
	}
	return h.Vault.Open(sha256)
}

func (w *scene) subject(full bool) recovery.Subject {
	return recovery.Subject{Exhibit: w.acq.ExhibitID, Acquisition: w.acq.ID, Name: "1-A acquisition 1", Full: full}
}

// recover queues a recovery and waits for it.
func (w *scene) recover(full bool) {
	w.t.Helper()
	w.ended(w.bench.Queue("recover", w.subject(full)), "done")
}

func (w *scene) wish(id int64, to string) {
	w.t.Helper()
	r, err := w.s.RunByID(context.Background(), id)
	if err == nil {
		err = w.s.WishRun(context.Background(), w.cs, r, to, "E")
	}
	if err != nil {
		w.t.Fatal(err)
	}
}

// stop begins a full recovery and stops it when it has read all databases but one.
func (w *scene) stop() (id int64) {
	w.t.Helper()
	before := w.column("SELECT count(*) FROM recovered_database")
	w.halt.Store(true)
	id = w.bench.Queue("recover", w.subject(true))
	for end := time.Now().Add(time.Minute); w.column("SELECT count(*) FROM recovered_database") == before; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			w.t.Fatal("the recovery reads nothing")
		}
	}
	w.wish(id, "stop")
	w.ended(id, "stopped")
	return id
}

// ended waits for the end of a run.
func (w *scene) ended(id int64, state string) {
	w.t.Helper()
	if r := w.bench.Wait(id); r.State != state {
		w.t.Fatalf("%s, not %s: %s", r.State, state, r.Error)
	}
}

// pages are the addresses that are looked at, by the route that they are of. A route that
// is not here fails the test: think of what it gives out.
func (w *scene) pages() map[string][]string {
	const c = "/case/T-1"
	out := map[string][]string{
		"/": {"/"}, "/sign-in": {"/sign-in"}, "/first-examiner": {"/first-examiner"}, "/cases/new": {"/cases/new"}, "/ledger": {"/ledger"}, "/check/:what": {"/check/imei?v=1"},
		"/case/:case": {c}, "/case/:case/ledger": {c + "/ledger", c + "/ledger?what=record&on=1&by=x"}, "/case/:case/ledger/proof": {c + "/ledger/proof?entry=2&as=json"}, "/ledger/proof": {"/ledger/proof?entry=1"}, "/ledger/stamp": {"/ledger/stamp?size=1"}, "/case/:case/ledger/stamp": {c + "/ledger/stamp?size=1&as=head"}, "/validation": {"/validation"}, "/validation/:id": {"/validation/1"}, "/case/:case/intake": {c + "/intake"}, "/case/:case/intake/authority": {c + "/intake/authority"},
		"/case/:case/intake/:id/label": {fmt.Sprintf("%s/intake/%d/label", c, w.acq.ExhibitID)}, "/case/:case/intake/receipt/:custody": {c + "/intake/receipt/1"},
		"/case/:case/intake/photograph/:id": {c + "/intake/photograph/1"}, "/case/:case/intake/document/:id": {c + "/intake/document/1"},
		"/case/:case/acquire": {c + "/acquire"}, "/case/:case/acquire/tree": {fmt.Sprintf("%s/acquire/tree?acq=%d", c, w.acq.ID), fmt.Sprintf("%s/acquire/tree?acq=%d&dir=/data/talk", c, w.acq.ID)},
		"/case/:case/acquire/route": {c + "/acquire/route?exhibit=1-A"}, "/case/:case/acquire/handset": {c + "/acquire/handset?at=1&exhibit=1-A"}, "/case/:case/acquire/handset/events": {c + "/acquire/handset/events"}, "/case/:case/acquire/cloud": {c + "/acquire/cloud?exhibit=1-A"},
		"/case/:case/events": {c + "/events"}, "/case/:case/verify": {fmt.Sprintf("%s/verify?acq=%d", c, w.acq.ID)},
		"/case/:case/verify/:id/manifest/:algorithm": {fmt.Sprintf("%s/verify/%d/manifest/sha256", c, w.acq.ID)},
		"/case/:case/recover":                        {c + "/recover"}, "/case/:case/report": {c + "/report", c + "/report?version-of=redacted"}, "/case/:case/report/report.css": {c + "/report/report.css"}, "/case/:case/report/signed/:version": {c + "/report/signed/1"},
		"/case/:case/examine": {c + "/examine", c + "/examine?state=below", c + "/examine?marked=1", c + "/examine?q=kind:contact", c + "/examine?q=" + url.QueryEscape(counsel), c + "/examine?clocks=1", c + "/examine?view=conversation", c + "/examine?view=places", c + "/examine?view=gallery", c + "/examine?view=gaps", c + "/examine?view=people&person=" + url.QueryEscape(ketil), c + "/examine?view=compare", c + "/examine?q=is:hidden&sort=-people&cols=people,what,handle,conversation,file,types,mark", c + "/examine?view=files", c + "/examine?view=databases", c + "/examine?view=databases&db=99:x", c + "/examine?view=files&ending=db&hidden=1&file=1:/data/talk/talk.db",
			c + "/examine?view=words&list=" + url.QueryEscape(never[:3]+"\n"+later[:3]+"\n"+always), c + "/examine?near=38.5,-24,20000000", c + "/examine?person=" + url.QueryEscape(counsel), c + "/examine?person=" + url.QueryEscape(ketil)},
		"/case/:case/examine/place": {c + "/examine/place?at=38.5,-24,100"}, // draws what the address says
		"/case/:case/people":        {c + "/people", c + "/people?of=" + url.QueryEscape(ketil), c + "/people?of=" + url.QueryEscape(counsel)},
	}
	for _, m := range []string{never, later, wider} { // a search finds nothing, and repeats only what was asked
		out["/case/:case/examine"] = append(out["/case/:case/examine"], c+"/examine?q="+m[:3])
	}
	ctx := context.Background()
	var ids []int64
	if err := json.Unmarshal([]byte(w.column("SELECT coalesce(json_agg(id), '[]') FROM record")), &ids); err != nil {
		w.t.Fatal(err)
	}
	const preview = "/case/:case/examine/preview/:id/:n"
	out[preview] = []string{c + "/examine/preview/1/0", c + "/examine/preview/x/-1"}
	var shown []int64
	if err := json.Unmarshal([]byte(w.column(`SELECT coalesce(json_agg(record_id), '[]') FROM record_whole WHERE body LIKE '%"attachments":%'`)), &shown); err != nil {
		w.t.Fatal(err)
	}
	for _, id := range shown {
		out[preview] = append(out[preview], fmt.Sprintf("%s/examine/preview/%d/0", c, id), fmt.Sprintf("%s/examine/preview/%d/1", c, id))
	}
	var paths []string
	if err := json.Unmarshal([]byte(w.column(fmt.Sprintf("SELECT coalesce(json_agg(real_path), '[]') FROM acquired_file WHERE acquisition_id = %d AND real_path ~ '(jpg|txt|html|vcf|json)$'", w.acq.ID))), &paths); err != nil {
		w.t.Fatal(err)
	}
	const file = "/case/:case/examine/file"
	out[file] = []string{c + "/examine/file?file=99:x", c + "/examine/file"}
	for _, p := range paths {
		of := fmt.Sprintf("?view=files&file=%d:%s", w.acq.ID, url.QueryEscape(p))
		out[file], out["/case/:case/examine"] = append(out[file], c+"/examine/file"+of), append(out["/case/:case/examine"], c+"/examine"+of)
	}
	last := int64(0)
	for _, id := range ids { // every record, and one that is none any more
		out["/case/:case/examine"] = append(out["/case/:case/examine"], fmt.Sprintf("%s/examine?r=%d&o=1", c, id))
		last = max(last, id)
	}
	out["/case/:case/examine"] = append(out["/case/:case/examine"], fmt.Sprintf("%s/examine?r=%d&o=1", c, last+1), c+"/examine?r=1&o=1", c+"/examine?view=conversation&r="+w.column("SELECT coalesce(max(id), 0) FROM record WHERE thread <> '' AND at IS NOT NULL"))
	const image = "/case/:case/recover/storage"
	out[image] = []string{c + "/recover/storage?acq=99&image=x", fmt.Sprintf("%s/recover/storage?acq=%d&image=none.img", c, w.acq.ID)}
	for at := 0; at < 3*4096; at += 4096 { // as if a database were an image, whose bytes it would show
		out[image] = append(out[image], fmt.Sprintf("%s/recover/storage?acq=%d&image=%s&at=%d", c, w.acq.ID, url.QueryEscape(w.column("SELECT path FROM acquired_file WHERE real_path = '/data/talk/talk.db'")), at))
	}
	out["/case/:case/examine/cell"] = []string{c + "/examine/cell?db=99:/x&cell=0.0&n=0"}
	out["/case/:case/recover/pages"], out["/case/:case/recover/pages/cells"] = []string{c + "/recover/pages?acq=99"}, []string{c + "/recover/pages/cells?acq=99"}
	if r, err := w.s.LatestRecovery(ctx, w.acq.ID); err == nil {
		paths, err := w.s.PageMaps(ctx, r.ID)
		if err != nil {
			w.t.Fatal(err)
		}
		for _, p := range paths {
			m, err := w.s.PageMapOf(ctx, r.ID, p)
			if err != nil {
				w.t.Fatal(err)
			}
			at := fmt.Sprintf("?acq=%d&path=%s", w.acq.ID, url.QueryEscape(p))
			out["/case/:case/recover/pages/cells"] = append(out["/case/:case/recover/pages/cells"], c+"/recover/pages/cells"+at)
			if p == "/data/talk/talk.db" { // of others the rows are looked at, from which the pages are made
				for _, t := range append(m.Tables, "(not told)") {
					list := fmt.Sprintf("%s/examine?view=databases&db=%d:%s&table=%s", c, w.acq.ID, url.QueryEscape(p), url.QueryEscape(t))
					code, b := w.get(list)
					w.got[list] = answer{code, b}
					out["/case/:case/examine"] = append(out["/case/:case/examine"], list)
					for i, cell := range regexp.MustCompile(`cell=\d\.\d+`).FindAll(b, -1) {
						if i%9 == 0 {
							out["/case/:case/examine"] = append(out["/case/:case/examine"], list+"&"+string(cell))
							out["/case/:case/examine/cell"] = append(out["/case/:case/examine/cell"], fmt.Sprintf("%s&%s&n=%d", strings.Replace(list, "/examine?", "/examine/cell?", 1), cell, i/9%6))
						}
					}
				}
			}
			for n := range m.Pages {
				page := fmt.Sprintf("%s/recover/pages%s&page=%d", c, at, n+1)
				if (int(n)+w.looks)%3 > 0 { // each in its turn
					continue
				}
				out["/case/:case/recover/pages"] = append(out["/case/:case/recover/pages"], page)
				code, b := w.get(page)
				w.got[page] = answer{code, b}
				if bytes.Contains(b, []byte("versions of this page")) {
					for _, v := range regexp.MustCompile(`part=(\d)&amp;path=[^"]*"|frame=(\d+)&amp;[^"]*part=(\d)`).FindAllStringSubmatch(string(b), -1) {
						if v[2] != "" {
							out["/case/:case/recover/pages"] = append(out["/case/:case/recover/pages"], fmt.Sprintf("%s&part=%s&frame=%s", page, v[3], v[2]))
						}
					}
				}
			}
		}
	}
	out["/case/:case/report/package/:id"] = []string{c + "/report/package/99"}
	all, err := w.s.Packages(ctx, w.cs.ID)
	if err != nil {
		w.t.Fatal(err)
	}
	for _, k := range all {
		out["/case/:case/report/package/:id"] = append(out["/case/:case/report/package/:id"], fmt.Sprintf("%s/report/package/%d", c, k.ID))
	}
	return out
}

func (w *scene) column(q string) (v string) {
	w.t.Helper()
	if err := w.s.DB().QueryRow(q).Scan(&v); err != nil {
		w.t.Fatal(q, err)
	}
	return v
}

// withoutTags is what a page says, its tags left out.
func withoutTags(b []byte) []byte {
	out := make([]byte, 0, len(b))
	for len(b) > 0 {
		open := bytes.IndexByte(b, '<')
		end := bytes.IndexByte(b[max(open, 0):], '>')
		if open < 0 || end < 0 {
			break
		}
		out, b = append(out, b[:open]...), b[open+end+1:]
	}
	return append(out, b...)
}

// look opens everything and finds none of the marks.
func (w *scene) look(when string, marks ...string) {
	w.t.Helper()
	w.got = map[string]answer{}
	pages := w.pages()
	for _, r := range w.app.Routed() {
		if r.Method == "GET" && pages[r.Path] == nil {
			w.t.Errorf("the route %s is not looked at: say here what it gives out", r.Path)
		}
	}
	for _, list := range pages {
		for _, p := range list {
			a, there := w.got[p]
			if !there {
				a.code, a.body = w.get(p)
			}
			code, b := a.code, a.body
			if code >= 500 {
				w.t.Errorf("%s: GET %s: %d", when, p, code)
			}
			w.search(when+": GET "+p, b, marks)
			if bytes.HasPrefix(b, []byte("PK")) {
				w.unpack(when, b, marks)
			}
		}
	}
	// What is taken out, whatever is filtered: another format each time.
	f := export.Formats[w.looks%len(export.Formats)]
	w.looks++
	code, b := w.post("/case/T-1/examine/take?q=", "format", f.Name, "recipient", "somebody")
	if code != http.StatusOK {
		w.t.Errorf("%s: taking out %s: %d %s", when, f.Name, code, b)
	}
	w.search(when+": taken out as "+f.Name, []byte(b), marks)
	if strings.HasPrefix(b, "PK") {
		w.unpack(when, []byte(b), marks)
	}
	if f.Name == "pdf" {
		cmd := exec.Command("pdftotext", "-", "-")
		cmd.Stdin = strings.NewReader(b)
		out, err := cmd.Output()
		if err != nil {
			w.t.Errorf("%s: the PDF: %v", when, err)
		}
		w.search(when+": the PDF", out, marks)
	}
	if r, err := w.s.LatestRecovery(context.Background(), w.acq.ID); err == nil {
		paths, err := w.s.PageMaps(context.Background(), r.ID)
		if err != nil {
			w.t.Fatal(err)
		}
		for _, p := range paths {
			rows, err := w.app.Evidence.Rows(context.Background(), w.cs.ID, w.acq, p)
			if err != nil {
				w.t.Fatal(err)
			}
			var b bytes.Buffer
			for _, t := range rows.Tables {
				for _, row := range t.Rows {
					for _, v := range row.Values {
						b.WriteString(v.String(rows.Encoding) + " ")
					}
				}
			}
			w.search(when+": the rows of "+p, b.Bytes(), marks)
		}
	}
	for _, q := range []string{"SELECT coalesce(string_agg(line, ' '), '') FROM run_log", "SELECT coalesce(string_agg(convert_from(line, 'UTF8'), ' '), '') FROM ledger", "SELECT coalesce(string_agg(r::text, ' '), '') FROM record r", "SELECT coalesce(string_agg(r::text, ' '), '') FROM record_whole r",
		"SELECT coalesce(string_agg(f::text, ' '), '') FROM found_row f", "SELECT coalesce(string_agg(d::text, ' '), '') FROM recovered_database d"} {
		w.search(when+": "+q, []byte(w.column(q)), marks)
	}
}

// unpack searches what a package holds.
func (w *scene) unpack(when string, b []byte, marks []string) {
	w.t.Helper()
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		w.t.Fatal(err)
	}
	for _, e := range z.File {
		in, _ := e.Open()
		c, _ := io.ReadAll(in)
		w.search(when+": "+e.Name+" of the package", c, marks)
	}
}

// member is a file of a package, nil if it has none of that name.
func (w *scene) member(b []byte, name string) []byte {
	w.t.Helper()
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		w.t.Fatal(err)
	}
	for _, e := range z.File {
		if strings.HasSuffix(e.Name, "/"+name) {
			in, _ := e.Open()
			c, _ := io.ReadAll(in)
			return c
		}
	}
	return nil
}

// search looks for marks as text, in UTF-16, and as hexadecimal digits with anything of a
// page between them.
func (w *scene) search(where string, b []byte, marks []string) {
	w.t.Helper()
	plain := withoutTags(b)
	dense := bytes.ToUpper(bytes.ReplaceAll(plain, []byte(" "), nil))
	for _, m := range marks {
		wide := []byte(strings.Join(strings.Split(m, ""), "\x00"))
		if bytes.Contains(b, []byte(m)) || bytes.Contains(plain, []byte(m)) || bytes.Contains(b, wide) || bytes.Contains(dense, fmt.Appendf(nil, "%X", m)) {
			i := max(bytes.Index(plain, []byte(m)), 0)
			w.t.Errorf("%s gives out %s: …%s…", where, m, plain[max(0, i-60):min(len(plain), i+60)])
		}
	}
}

// orders are orders of what is done to a case: so few that any three of it come in every
// order that they can have, or, with CROSSWIND_EVERY_ORDER set, all 360 (which takes
// a quarter of an hour).
func orders() (out [][]string) {
	var all [][]string
	var permute func(done, left []string)
	permute = func(done, left []string) {
		if len(left) == 0 {
			all = append(all, slices.Clone(done))
		}
		for i, o := range left {
			if o != "resumed" || slices.Contains(done, "stopped") {
				permute(append(done, o), slices.Delete(slices.Clone(left), i, i+1))
			}
		}
	}
	permute(nil, []string{"light", "full", "stopped", "resumed", "narrowed", "widened"})
	if os.Getenv("CROSSWIND_EVERY_ORDER") != "" {
		return all
	}
	seen := map[[3]string]bool{}
	fresh := func(o []string) (list [][3]string) {
		for i := range o {
			for j := range i {
				for k := range j {
					if three := [3]string{o[k], o[j], o[i]}; !seen[three] {
						list = append(list, three)
					}
				}
			}
		}
		return list
	}
	for {
		best := slices.MaxFunc(all, func(a, b []string) int { return len(fresh(a)) - len(fresh(b)) })
		list := fresh(best)
		if len(list) == 0 {
			return out
		}
		for _, three := range list {
			seen[three] = true
		}
		out = append(out, best)
	}
}

// Nothing outside scope is seen on any page, event, search, page map, download or in any
// package, in whatever order it was recovered, stopped, resumed, narrowed and widened.
func TestNothingOutsideScopeIsSeen(t *testing.T) {
	few := marked(t)
	all := maps.Clone(few)
	maps.Copy(all, everyKind(t))
	var looked sync.Map // what was done, of cases with the same files
	for i, order := range orders() {
		t.Run(strings.Join(order, " "), func(t *testing.T) {
			t.Parallel()
			files := few
			if i == 0 { // what every kind's maps read takes long, and is withheld by its kind alone
				files = all
			}
			w := newScene(t, files)
			w.looks = 4 * i
			hidden := []string{never, wider}
			var stopped int64
			for i, op := range order {
				switch op {
				case "light", "full":
					w.recover(op == "full")
				case "stopped":
					stopped = w.stop()
				case "resumed":
					w.wish(stopped, "run")
					w.ended(stopped, "done")
				case "narrowed":
					hidden = append(hidden, later)
					w.authority("2", []string{"message"}, tor)
				case "widened": // contacts and calls too; what is not read again stays unseen
					w.authority("3", []string{"message", "contact", "call"}, "")
				}
				if k := slices.Index(hidden, wider); k >= 0 && slices.Contains(order[:i], "widened") && op != "narrowed" {
					hidden = slices.Delete(hidden, k, k+1) // read again
				}
				when := strings.Join(order[:i+1], " ")
				w.mark(when, hidden...)
				if _, again := looked.LoadOrStore(fmt.Sprint(len(files), when), true); !again {
					w.look(when, hidden...)
				}
			}
			w.recover(true)
			if _, b := w.get("/case/T-1/examine?q=OKAY"); !bytes.Contains(b, []byte("OKAYlive")) {
				t.Error("what is within scope is not seen")
			}
			id := w.column("SELECT id FROM record WHERE summary LIKE 'OKAYword%'")
			if code, b := w.get("/case/T-1/examine/preview/" + id + "/0"); code != http.StatusOK || !bytes.Contains(b, []byte("OKAYpicture")) {
				t.Errorf("a picture within scope is not seen: %d %s", code, b)
			}
		})
	}
}

// Where nothing is limited a package has the attachments of its records, and it is handed out.
func TestAttachmentsArePackaged(t *testing.T) {
	files := marked(t)
	maps.DeleteFunc(files, func(path string, _ []byte) bool { return !strings.HasPrefix(path, "/data/tern/") })
	files["/data/shelf/small.db"] = everyKind(t)["/data/shelf/small.db"]
	w := newScene(t, files, func(a *store.Authority) {
		a.ScopeKinds, a.ScopeFrom, a.Excluded, a.Privileged = nil, nil, "", nil
		for _, k := range record.Kinds() {
			a.ScopeKinds = append(a.ScopeKinds, string(k))
		}
	})
	w.recover(true)
	id := w.column("SELECT id FROM record WHERE summary LIKE 'OKAYword%'")
	if code, said := w.post("/case/T-1/examine/mark/"+id, "reason", "its picture", "back", ""); code != http.StatusOK {
		t.Fatal(code, said)
	}
	// A picture that lies within its row, and goes on in other pages.
	small := w.column("SELECT id FROM record WHERE kind = 'thumbnail' AND state = 'intact' ORDER BY id LIMIT 1")
	if code, said := w.post("/case/T-1/examine/mark/"+small, "reason", "a small picture", "back", ""); code != http.StatusOK {
		t.Fatal(code, said)
	}
	if code, b := w.get("/case/T-1/examine/preview/" + small + "/0"); code != http.StatusOK || !bytes.HasPrefix(b, []byte("\xff\xd8\xff"+never)) || len(b) <= 1024 {
		t.Errorf("a picture within a row: %d, %d bytes", code, len(b))
	}
	// The same in the view of databases, where its cell is opened.
	_, page := w.get("/case/T-1/examine?view=databases&table=small&db=" + fmt.Sprint(w.acq.ID) + ":/data/shelf/small.db")
	cell, shown := regexp.MustCompile(`cell=0\.\d+`).FindString(string(page)), 0
	for n := range 12 {
		if code, b := w.get(fmt.Sprintf("/case/T-1/examine/cell?table=small&db=%d:/data/shelf/small.db&%s&n=%d", w.acq.ID, cell, n)); code == http.StatusOK && bytes.HasPrefix(b, []byte("\xff\xd8\xff")) {
			shown++
		}
	}
	if shown != 1 {
		t.Errorf("%d cells of a row are shown as a picture", shown)
	}
	if r := w.bench.Do("package", map[string]any{}); r.State != "done" {
		t.Fatal(r.Error)
	}
	all, err := w.s.Packages(t.Context(), w.cs.ID)
	if err != nil {
		t.Fatal(err)
	}
	code, b := w.get(fmt.Sprintf("/case/T-1/report/package/%d", all[0].ID))
	res, err := casefile.VerifyZIP(t.Context(), bytes.NewReader(b), int64(len(b)), casefile.Options{Now: time.Now()})
	if code != http.StatusOK || err != nil || len(res.Faults) > 0 || !bytes.Contains(b, []byte("OKAYpicture")) || !bytes.Contains(b, fmt.Appendf(nil, "data/files/%x", sha256.Sum256(files["/data/tern/kept/a.jpg"]))) {
		t.Errorf("%d, %+v, %v", code, res, err)
	}
	// Its ledger's head has a time stamp, which OpenSSL verifies (RFC 3161).
	dir := t.TempDir()
	for name, to := range map[string]string{casefile.HeadName: "head", casefile.StampName: "stamp", casefile.TrustedName: "trusted"} {
		os.WriteFile(filepath.Join(dir, to), w.member(b, name), 0o600)
	}
	out, err := exec.Command("openssl", "ts", "-verify", "-data", filepath.Join(dir, "head"), "-in", filepath.Join(dir, "stamp"), "-CAfile", filepath.Join(dir, "trusted")).CombinedOutput()
	if err != nil || res.Stamp == nil || !bytes.Contains(out, []byte("Verification: OK")) {
		t.Errorf("the time stamp: %v, %s", res.Stamp, out)
	}
	others := x509.NewCertPool()
	if res, err := casefile.VerifyZIP(t.Context(), bytes.NewReader(b), int64(len(b)), casefile.Options{Authorities: others}); err != nil || len(res.Faults) != 1 || res.Faults[0].Where != casefile.StampName {
		t.Errorf("an authority that is not trusted: %+v, %v", res, err)
	}
	// Without the authority a package has the stamps of before.
	w.desk.Fail(standin.Down)
	if r := w.bench.Do("package", map[string]any{}); r.State != "done" {
		t.Fatal(r.Error)
	}
	if all, err = w.s.Packages(t.Context(), w.cs.ID); err != nil {
		t.Fatal(err)
	}
	_, later := w.get(fmt.Sprintf("%s/report/package/%d", "/case/T-1", all[0].ID))
	head := w.member(b, casefile.HeadName)
	if res, err := casefile.VerifyZIP(t.Context(), bytes.NewReader(later), int64(len(later)), casefile.Options{Now: time.Now()}); err != nil || len(res.Faults) > 0 || res.Stamp != nil || w.member(later, casefile.StampPath(head)) == nil {
		t.Errorf("without an authority: %+v, %v", res, err)
	}
	if n := bytes.Count(b, []byte(`"parts":[{`)); n != 1 {
		t.Errorf("%d records of the package have a picture in parts", n)
	}
	if bytes.Contains(b, []byte(never+"picture")) {
		t.Error("a picture of a record that is not marked is in the package")
	}
}

// authority adds an authority by its form.
func (w *scene) authority(number string, kinds []string, privileged string) {
	w.t.Helper()
	pairs := []string{"kind", "order", "issued_by", "x", "number", number, "valid_from", "2020-01-01", "valid_to", "2100-01-01", "scope_from", "2020-01-01", "privileged", privileged}
	for _, k := range kinds {
		pairs = append(pairs, "kinds", k)
	}
	if code, page := w.post("/case/T-1/intake/authority", pairs...); code != http.StatusOK {
		w.t.Fatal(code, page)
	}
}

// mark marks some records and makes a package of them, in which no marks are, whoever
// would have it.
func (w *scene) mark(when string, marks ...string) {
	w.t.Helper()
	ctx := context.Background()
	rs, _, err := w.s.Records(ctx, store.Filter{CaseID: w.cs.ID}, store.After{}, 500)
	if err != nil {
		w.t.Fatal(err)
	}
	for i := range rs {
		chosen := i%(1+len(rs)/6) == 0 || strings.Contains(rs[i].Summary, later) // which a package made before it is narrowed has
		if chosen && rs[i].MarkReason == nil {
			if err := w.s.Mark(ctx, w.cs, &rs[i], "", "because", "E (e)"); err != nil {
				w.t.Fatal(err)
			}
		}
	}
	if len(rs) == 0 {
		return
	}
	if r := w.bench.Do("package", map[string]any{}); r.State != "done" {
		w.t.Errorf("the package: %s: %s\n%s", r.State, r.Error, strings.Join(r.Log, "\n"))
		return
	}
	all, err := w.s.Packages(ctx, w.cs.ID)
	var b []byte
	if err == nil {
		b, err = os.ReadFile(filepath.Join(w.app.Packages, all[0].Name))
	}
	if err != nil {
		w.t.Fatal(err)
	}
	w.unpack(when+", as it was made", b, marks)
}

// setter sets PDFs for all tests.
var setter = sync.OnceValue(func() *press.Setter { return press.FindSetter("../..") })

// hashed is the hash of the password of tests, of the least cost that argon2id knows: they sign in often.
var hashed = sync.OnceValue(func() string {
	salt := make([]byte, 16)
	key := argon2.IDKey([]byte("long enough"), salt, 1, 8, 1, 32)
	return fmt.Sprintf("$argon2id$v=19$m=8,t=1,p=1$%s$%s", base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
})

// manifestOf is the SHA-256 of the manifest of files.
func manifestOf(files map[string][]byte) string {
	h := sha256.New()
	for _, p := range slices.Sorted(maps.Keys(files)) {
		fmt.Fprintln(h, digest.Line{Sum: fmt.Sprintf("%x", sha256.Sum256(files[p])), Path: strings.TrimPrefix(p, "/")})
	}
	return hex.EncodeToString(h.Sum(nil))
}
