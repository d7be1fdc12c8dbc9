package web

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"html"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"crosswind/core/access"
	"crosswind/core/casefile"
	"crosswind/internal/password"
	"crosswind/internal/recovery"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
	"crosswind/internal/web/static"
)

// address puts values into a route's parameters.
func (w *scene) address(route string) string {
	return strings.NewReplacer(":case", "T-1", ":what", "imei", ":custody", "1", ":algorithm", "sha256", ":wish", "pause", ":id", "1").Replace(route)
}

// as signs in somebody of a role.
func (w *scene) as(role access.Role) *http.Client {
	w.t.Helper()
	login := "x-" + string(role)
	if err := w.s.AddExaminer(context.Background(), store.Examiner{Login: login, Name: login, Role: string(role), PasswordHash: hashed()}, "test", false); err != nil {
		w.t.Fatal(err)
	}
	jar, _ := cookiejar.New(nil)
	c := &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := c.PostForm(w.base+"/sign-in", url.Values{"login": {login}, "password": {"long enough"}})
	if err != nil || res.StatusCode != http.StatusSeeOther {
		w.t.Fatal(res, err)
	}
	res.Body.Close()
	return c
}

func fetch(t *testing.T, c *http.Client, url string) string {
	t.Helper()
	res, err := c.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(url, res.StatusCode, err)
	}
	return string(b)
}

// Every route is walked with every role: what the table does not allow is refused, and
// nothing else is.
func TestRolesOnEveryRoute(t *testing.T) {
	t.Parallel()
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	var custodian *http.Client
	for _, role := range access.Roles {
		c := w.as(role)
		if role == access.Custodian {
			custodian = c
		}
		for _, r := range w.app.Routed() {
			if r.Act == "" || r.Path == "/sign-out" {
				continue
			}
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			req, _ := http.NewRequestWithContext(ctx, r.Method, w.base+w.address(r.Path), strings.NewReader(""))
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			res, err := c.Do(req)
			if err != nil {
				t.Fatal(r, err)
			}
			res.Body.Close()
			cancel()
			if refused := res.StatusCode == http.StatusForbidden; refused == access.May(role, r.Act) {
				t.Errorf("%s of %s by the %s: %d", r.Method, r.Path, role, res.StatusCode)
			}
		}
	}
	// Nobody is led to where they may not go.
	for _, page := range []string{"/", "/ledger", "/case/T-1", "/case/T-1/intake", "/case/T-1/ledger"} {
		for _, m := range regexp.MustCompile(`<a[^>]* href="(/[^"]*)"`).FindAllStringSubmatch(fetch(t, custodian, w.base+page), -1) {
			if res, err := custodian.Get(w.base + html.UnescapeString(m[1])); err != nil || res.StatusCode == http.StatusForbidden {
				t.Errorf("%s leads the custodian to %s", page, m[1])
			} else {
				res.Body.Close()
			}
		}
	}
	stranger := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for _, r := range w.app.Routed() {
		req, _ := http.NewRequest(r.Method, w.base+w.address(r.Path), nil)
		res, err := stranger.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if r.Act != "" && (res.StatusCode != http.StatusSeeOther || !strings.HasPrefix(res.Header.Get("Location"), "/sign-in")) {
			t.Errorf("%s of %s by a stranger: %d", r.Method, r.Path, res.StatusCode)
		}
	}
}

// NUL and bytes that are not UTF-8, in every parameter, get 400 and a line that names it;
// and nothing that is asked gets an error of the database's.
func TestUnreadableRequests(t *testing.T) {
	t.Parallel()
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	fields := []string{"exhibit", "acq", "page", "path", "q", "state", "kind", "from", "to", "after", "r", "source", "dir", "v", "next", "before", "part", "frame", "at", "mark", "reference", "reason", "place"}
	for turn, r := range w.app.Routed() {
		if r.Path == "/sign-out" {
			continue
		}
		for _, bad := range []string{"%00", "a%00b", "%ff", "%c3%28", "%ed%a0%80"} {
			for i, f := range fields {
				if i%5 != len(bad)%5 && r.Method == "GET" { // each pair somewhere
					continue
				}
				var res *http.Response
				var err error
				if r.Method == "GET" {
					res, err = w.client.Get(w.base + w.address(r.Path) + "?" + f + "=" + bad)
				} else if i < 3 {
					v, _ := url.QueryUnescape(bad)
					res, err = w.client.PostForm(w.base+w.address(r.Path), url.Values{f: {v}})
				} else {
					continue
				}
				if err != nil {
					t.Fatal(err)
				}
				b := new(bytes.Buffer)
				b.ReadFrom(res.Body)
				res.Body.Close()
				if res.StatusCode != http.StatusBadRequest || !strings.Contains(b.String(), f) {
					t.Errorf("%s %s, %s=%s: %d", r.Method, r.Path, f, bad, res.StatusCode)
				}
			}
		}
		for _, odd := range []string{"9223372036854775808", "-1", "0", "1e9", "'", "%F0%9F%98%80", "..%2f..", strings.Repeat("9", 400), "0001-01-01T00:00:00Z", "%E2%80%AE"} {
			for i, f := range fields {
				if r.Method != "GET" || strings.HasSuffix(r.Path, "/events") || (i+turn+len(odd))%4 > 0 { // each field with each of them at several routes
					continue
				}
				res, err := w.client.Get(w.base + w.address(r.Path) + "?exhibit=1-A&" + f + "=" + odd)
				if err != nil {
					t.Fatal(err)
				}
				b := new(bytes.Buffer)
				b.ReadFrom(res.Body)
				res.Body.Close()
				if res.StatusCode >= 500 || strings.Contains(b.String(), "SQLSTATE") {
					t.Errorf("%s, %s=%s: %d", r.Path, f, odd, res.StatusCode)
				}
			}
		}
	}
	for _, p := range []string{"/case/%00", "/case/%ff/examine", "/case/T-1/examine?q=%zz"} {
		req, _ := http.NewRequest("GET", w.base+p, nil)
		if req == nil {
			continue
		}
		if res, err := w.client.Do(req); err != nil || res.StatusCode != http.StatusBadRequest {
			t.Errorf("%s: %v, %v", p, res, err)
		}
	}
}

// Thousands of requests of which every part is made up get no error of ours, and none of
// the database's.
func TestMadeUpRequests(t *testing.T) {
	t.Parallel()
	w := newScene(t, marked(t))
	w.recover(true)
	w.mark("marked")
	const seed = 20261127
	rnd := rand.New(rand.NewPCG(seed, 0))
	pick := func(of []string) string { return of[rnd.IntN(len(of))] }
	names := strings.Fields("exhibit acq page path q state kind kinds from to after r o source dir v next before part frame at mark marked reference reason place back only zone key valid_from valid_to scope_from scope_to privileged number login password what to_whom when seal title address reach full")
	pieces := []string{"1", "2", "1-A", "T-1", "-", "/", "..", "\\", "\x00", "\xff", "'", "\"", "%", "_", "kind:", "from:", "1970-01-01", "0001-01-01", "9999-12-31T23:59", "+99:99", "9223372036854775807", "9223372036854775808", "1e309", "NaN",
		"\u202e", "\u0000", "🙂", "e\u0301", "\\u0000", "{}", "[", "<b>", "\r\n", " ", ",", "/data/talk/talk.db", "+44 7700 900417", "message", "intact", "below", "recovered", "warrant", strings.Repeat("x", 5000)}
	value := func() (v string) {
		for range 1 + rnd.IntN(3) {
			v += pick(pieces)
		}
		return v
	}
	routes := w.app.Routed()
	for n := range 3000 {
		r := routes[rnd.IntN(len(routes))]
		if r.Path == "/sign-out" || r.Path == "/sign-in" || strings.HasSuffix(r.Path, "/events") {
			continue
		}
		form := url.Values{}
		for range rnd.IntN(5) {
			form.Add(pick(names), value())
		}
		at := regexp.MustCompile(`:[a-z]+`).ReplaceAllStringFunc(r.Path, func(p string) string {
			switch {
			case p == ":case" && rnd.IntN(8) > 0:
				return "T-1"
			case rnd.IntN(3) > 0:
				return pick([]string{"1", "2", "imei", "sha256", "pause", "run"})
			}
			return url.PathEscape(value())
		})
		body, query := "", "?"+form.Encode()
		if r.Method == http.MethodPost && rnd.IntN(4) > 0 {
			body, query = form.Encode(), ""
		}
		req, err := http.NewRequest(r.Method, w.base+at+query, strings.NewReader(body))
		if err != nil {
			continue
		}
		if body != "" {
			req.Header.Set("Content-Type", pick([]string{"application/x-www-form-urlencoded", "application/x-www-form-urlencoded", "multipart/form-data; boundary=x", "text/plain"}))
		}
		res, err := w.client.Do(req)
		if err != nil {
			t.Fatal(r, err)
		}
		b, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode >= 500 || bytes.Contains(b, []byte("SQLSTATE")) {
			t.Errorf("seed %d, request %d: %s %s%s %q: %d", seed, n, r.Method, at, query, body, res.StatusCode)
		}
	}
}

// A form that is sent twice, at once or one after the other, does what it asks for once.
func TestFormsSentTwice(t *testing.T) {
	t.Parallel()
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	ctx := context.Background()
	_, page := w.get("/case/T-1/recover")
	key := regexp.MustCompile(`action="/case/T-1/recover"[^>]*><input type="hidden" name="form" value="([A-Z0-9]+)"`).FindSubmatch(page)
	if key == nil {
		t.Fatal("the form has no key")
	}
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			w.post("/case/T-1/recover", "acq", fmt.Sprint(w.acq.ID), "pass", "light", "form", string(key[1]))
		})
	}
	all.Wait()
	if code, page := w.post("/case/T-1/recover", "acq", fmt.Sprint(w.acq.ID), "pass", "light", "form", string(key[1])); code != http.StatusOK || !strings.Contains(page, "was done once") {
		t.Error(code)
	}
	if runs, err := w.s.Runs(ctx, w.cs.ID, "recover", 10); err != nil || len(runs) != 1 {
		t.Errorf("%d recoveries came of one form, %v", len(runs), err)
	}
	// A form that was refused can be mended and sent again under its new key.
	if code, page := w.post("/case/T-1/intake/exhibit", "reference", "../x", "form", "K1"); code != http.StatusUnprocessableEntity || !strings.Contains(page, `name="form"`) {
		t.Error(code)
	}
	if code, _ := w.post("/case/T-1/intake/exhibit", "reference", "1-B", "kind", "handset", "model_mark", "m", "serial", "s", "seal", "1", "place", "p", "to", "E", "at", "2026-09-26T10:00", "form", "K1"); code != http.StatusOK {
		t.Error(code)
	}
	for _, p := range []string{"/case/T-1/intake", "/case/T-1/acquire", "/case/T-1/verify?acq=1", "/case/T-1/report", "/case/T-1/ledger", "/cases/new"} {
		_, page := w.get(p)
		if forms, keys := bytes.Count(page, []byte(`method="post"`)), bytes.Count(page, []byte(`name="form" value="`)); forms == 0 || forms != keys {
			t.Errorf("%s: %d forms, %d keys", p, forms, keys)
		}
	}
}

// Six hand-overs from one holder at once: one is recorded.
func TestHandOversAtOnce(t *testing.T) {
	t.Parallel()
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	var all sync.WaitGroup
	for i := range 6 {
		all.Go(func() {
			w.post("/case/T-1/intake/custody", "exhibit", "1-A", "what", "handed over", "from", "E", "to", fmt.Sprintf("N%d", i), "at", "2026-09-26T10:00", "place", "p", "receipt", fmt.Sprint(i), "form", fmt.Sprint("h", i))
		})
	}
	all.Wait()
	chain, err := w.s.CustodyOf(context.Background(), w.acq.ExhibitID)
	if err != nil || len(chain) != 2 {
		t.Errorf("%d events, %v", len(chain), err)
	}
	if _, faults := store.Follow(chain); len(faults) > 0 {
		t.Error(faults)
	}
}

// What somebody else has written meanwhile is not overwritten, and both are shown.
func TestWhatChangedMeanwhile(t *testing.T) {
	t.Parallel()
	w := newScene(t, marked(t))
	ctx := context.Background()
	if code, _ := w.post("/case/T-1/intake/notes", "people", "theirs", "notes", "theirs too", "was_people", "", "was_notes", ""); code != http.StatusOK {
		t.Fatal(code)
	}
	code, page := w.post("/case/T-1/intake/notes", "people", "mine", "notes", "mine too", "was_people", "", "was_notes", "")
	if code != http.StatusUnprocessableEntity || !strings.Contains(page, ">mine too</p>") || !strings.Contains(page, ">theirs too</textarea>") {
		t.Error(code)
	}
	if c, err := w.s.CaseByReference(ctx, "T-1"); err != nil || c.Notes != "theirs too" {
		t.Error(c.Notes, err)
	}
	w.recover(false)
	rs, _, err := w.s.Records(ctx, store.Filter{CaseID: w.cs.ID}, store.After{}, 1)
	if err != nil || len(rs) != 1 {
		t.Fatal(rs, err)
	}
	at := fmt.Sprintf("/case/T-1/examine/mark/%d", rs[0].ID)
	if code, _ := w.post(at, "reason", "first", "was", ""); code != http.StatusOK {
		t.Fatal(code)
	}
	if code, page := w.post(at, "reason", "second", "was", ""); code != http.StatusConflict || !strings.Contains(page, "changed meanwhile") {
		t.Error(code)
	}
	if code, _ := w.post(at, "unmark", "1", "was", "another"); code != http.StatusConflict {
		t.Error(code)
	}
	if r, err := w.s.RecordByID(ctx, w.cs.ID, rs[0].ID); err != nil || *r.MarkReason != "first" {
		t.Error(r, err)
	}
	if code, page := w.post("/case/T-1/acquire/loss", "exhibit", "1-A", "lost_at", "2026-09-26T10:00", "lost_what", "mine", "was", "another's"); code != http.StatusUnprocessableEntity || !strings.Contains(page, "changed meanwhile") {
		t.Error(code)
	}
}

// Text that is changed in the database goes into no package: the record is named, it is an
// integrity alarm, and the package is made when it is put right.
func TestSealingReadsAgain(t *testing.T) {
	t.Parallel()
	w := newScene(t, marked(t))
	w.recover(true)
	w.mark("marked")
	made := func() (ok bool, said string) {
		r := w.bench.Do("package", map[string]any{})
		return r.State == "done", r.Error
	}
	row := "(SELECT record_id FROM mark ORDER BY 1 LIMIT 1)"
	for name, c := range map[string][3]string{
		"text in the body":    {"UPDATE record_whole SET body = jsonb_set(body::jsonb, '{text}', '\"he did it\"') WHERE record_id = " + row, "UPDATE record_whole SET body = jsonb_set(body::jsonb, '{text}', to_jsonb(summary)) FROM record WHERE id = record_id AND id = " + row, "is not what its source gives, read again, in "},
		"text of the list":    {"UPDATE record SET summary = summary || '!' WHERE id = " + row, "UPDATE record SET summary = body::json->>'text' FROM record_whole WHERE id = record_id AND id = " + row, "in text (as pages show it)"},
		"time of the list":    {"UPDATE record SET at = at + interval '1 day' WHERE id = " + row, "UPDATE record SET at = at - interval '1 day' WHERE id = " + row, "in at (as pages show it)"},
		"state":               {"UPDATE record_whole SET body = jsonb_set(body::jsonb, '{state}', '\"held\"') WHERE record_id = " + row, "UPDATE record_whole SET body = jsonb_set(body::jsonb, '{state}', to_jsonb(state)) FROM record WHERE id = record_id AND id = " + row, "is not what its source gives, read again, in "},
		"reason of a mark":    {"UPDATE mark SET reason = 'x' WHERE record_id = " + row, "UPDATE mark SET reason = 'because' WHERE record_id = " + row, "the mark of record"},
		"a mark by nobody":    {"INSERT INTO mark SELECT id, 'E', now(), 'x' FROM record WHERE id NOT IN (SELECT record_id FROM mark) ORDER BY id LIMIT 1", "DELETE FROM mark WHERE reason = 'x'", "is not an entry of the ledger"},
		"custody":             {"UPDATE custody SET to_whom = 'X'", "UPDATE custody SET to_whom = 'E'", "custody event 1 of 1-A"},
		"an authority":        {"UPDATE authority SET scope_from = NULL", "UPDATE authority SET scope_from = '2020-01-01Z'", "authority 1"},
		"a serial":            {"UPDATE exhibit SET serial = 'X'", "UPDATE exhibit SET serial = 's'", "exhibit 1-A"},
		"a manifest's digest": {"UPDATE acquisition SET manifest = repeat('0', 64)", "UPDATE acquisition SET manifest = '" + w.acq.Manifest + "'", "no entry of the ledger names"},
	} {
		if _, err := w.s.DB().Exec(c[0]); err != nil {
			t.Fatal(name, err)
		}
		ok, said := made()
		if ok || !strings.Contains(said, c[2]) || strings.Contains(said, "he did it") { // the ledger keeps it, whatever is withheld later
			t.Errorf("%s: sealed %v: %s", name, ok, said)
		}
		if _, page := w.get("/case/T-1/report"); !bytes.Contains(page, []byte("Integrity has failed")) || !bytes.Contains(page, []byte(`class="mark alarm"`)) {
			t.Errorf("%s: no alarm is shown", name)
		}
		if _, err := w.s.DB().Exec(c[1]); err != nil {
			t.Fatal(name, err)
		}
		if ok, said := made(); !ok {
			t.Errorf("%s, put right: %s", name, said)
		}
	}
	// A package whose file is changed is not handed out; two of one second do not meet.
	all, err := w.s.Packages(context.Background(), w.cs.ID)
	if err != nil || len(all) < 2 || all[0].Name == all[1].Name {
		t.Fatal(len(all), err)
	}
	at := fmt.Sprintf("/case/T-1/report/package/%d", all[0].ID)
	code, b := w.get(at)
	if res, err := casefile.VerifyZIP(context.Background(), bytes.NewReader(b), int64(len(b)), casefile.Options{Now: time.Now()}); code != http.StatusOK || err != nil || len(res.Faults) > 0 {
		t.Error(code, res, err)
	}
	path := filepath.Join(w.app.Packages, all[0].Name)
	b[len(b)/2] ^= 1
	if err := os.Chmod(path, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
	if code, page := w.get(at); code == http.StatusOK || !bytes.Contains(page, []byte("integrity has failed")) {
		t.Error("a changed package is handed out")
	}
}

// Under no authority in force nothing new is read, unless a reason is given: it is kept in
// the ledger and in the report.
func TestNoAuthorityInForce(t *testing.T) {
	t.Parallel()
	w := newScene(t, marked(t))
	ctx := context.Background()
	for what, span := range map[string]string{"ended on": "valid_from = '2020-01-01Z', valid_to = now() - interval '1 day'", "begins on": "valid_from = now() + interval '1 day', valid_to = now() + interval '9 days'"} {
		if _, err := w.s.DB().Exec("UPDATE authority SET " + span); err != nil {
			t.Fatal(err)
		}
		for _, form := range [][]string{{"/recover", "acq", fmt.Sprint(w.acq.ID), "pass", "light"}} {
			code, page := w.post("/case/T-1"+form[0], form[1:]...)
			if code != http.StatusUnprocessableEntity || !strings.Contains(page, what) || !strings.Contains(page, `name="override_reason"`) || !strings.Contains(page, `name="pass" value="light"`) {
				t.Errorf("%s: %d", what, code)
			}
		}
		if _, page := w.get("/case/T-1/recover"); !bytes.Contains(page, []byte(what)) {
			t.Errorf("the page does not say that the authority %s", what)
		}
	}
	// What was queued in time does not begin when it has ended, either.
	if r := w.bench.Wait(func() int64 {
		if _, err := w.s.DB().Exec("UPDATE authority SET valid_from = '2020-01-01Z', valid_to = now() + interval '1 hour'"); err != nil {
			t.Fatal(err)
		}
		w.bench.Stop()
		id := w.bench.Queue("recover", recovery.Subject{Exhibit: w.acq.ExhibitID, Acquisition: w.acq.ID, Name: "x"})
		if _, err := w.s.DB().Exec("UPDATE authority SET valid_to = now() - interval '1 hour'"); err != nil {
			t.Fatal(err)
		}
		w.bench.Restart()
		return id
	}()); r.State != "failed" || !strings.Contains(r.Error, "no authority is in force") {
		t.Error(r.State, r.Error)
	}
	if code, _ := w.post("/case/T-1/recover", "acq", fmt.Sprint(w.acq.ID), "pass", "light", "override_reason", "continues by its section 4"); code != http.StatusOK {
		t.Error(code)
	}
	runs, err := w.s.Runs(ctx, w.cs.ID, "recover", 1)
	if err != nil || len(runs) != 1 || w.bench.Wait(runs[0].ID).State != "done" {
		t.Fatal(runs, err)
	}
	if _, page := w.get("/case/T-1/report"); !bytes.Contains(page, []byte("continues by its section 4")) {
		t.Error("the report does not say why")
	}
	if entries, err := w.s.LedgerPage(ctx, w.cs.Book(), store.LedgerFilter{}, 1<<40, 20); err != nil || !strings.Contains(fmt.Sprint(entries), "rule.overridden") {
		t.Error("the ledger does not say why", err)
	}
}

// References that cannot be names of files are refused, and those that are there already
// are shown with what to do.
func TestReferences(t *testing.T) {
	t.Parallel()
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	for _, ref := range []string{"../x", `a\b`, "1-a", "1-A", "", "a b", "-a", ".a", "ä", "a\u202eb", strings.Repeat("x", 41)} {
		code, page := w.post("/case/T-1/intake/exhibit", "reference", ref, "kind", "handset", "model_mark", "m", "serial", "s", "seal", "1", "place", "p", "to", "E", "at", "2026-09-26T10:00")
		if code != http.StatusUnprocessableEntity || !strings.Contains(page, "reference") {
			t.Errorf("%q: %d", ref, code)
		}
	}
	if _, err := w.s.DB().Exec("UPDATE exhibit SET reference = '../x'"); err != nil {
		t.Fatal(err)
	}
	if _, page := w.get("/case/T-1/intake"); !bytes.Contains(page, []byte("No package can be made of the case with it")) {
		t.Error("nothing is said of a reference that breaks the rule")
	}
	if code, _ := w.post("/case/T-1/intake/rename", "exhibit", "../x", "to", "1-C"); code != http.StatusOK {
		t.Error(code)
	}
	if es, err := w.s.Exhibits(context.Background(), w.cs.ID); err != nil || es[0].Reference != "1-C" {
		t.Error(es, err)
	}
}

// Sign-ins are slowed down, and nobody is locked out: not by wrong guesses, not by many at
// once, not by invented names; and what is refused fills no ledger.
func TestGuessing(t *testing.T) {
	t.Parallel()
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	ctx := context.Background()
	stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	try := func(login, password string) (in bool) {
		res, err := stay.PostForm(w.base+"/sign-in", url.Values{"login": {login}, "password": {password}})
		if err != nil {
			t.Error(err)
			return false
		}
		defer res.Body.Close()
		return res.StatusCode == http.StatusSeeOther
	}
	before, err := w.s.LedgerState(ctx, store.Bench)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 7 { // more than are free
		if try("e", fmt.Sprint("wrong", i)) {
			t.Fatal("signed in with a wrong password")
		}
	}
	if !try("e", "long enough") {
		t.Error("wrong guesses lock the user out")
	}
	// Many at once, with invented names: only a few are tried.
	if _, err := w.s.DB().Exec("TRUNCATE refusal"); err == nil {
		t.Error("the application's role may truncate")
	}
	var all sync.WaitGroup
	tried := 0
	var mu sync.Mutex
	for i := range 120 {
		all.Go(func() {
			wait, ok, err := w.s.SignInTurn(ctx, "192.0.2.1", fmt.Sprint("invented", i))
			if err != nil {
				t.Error(err)
			}
			if ok && wait <= 15*time.Second {
				mu.Lock()
				tried++
				mu.Unlock()
			}
		})
	}
	all.Wait()
	if tried > 12 {
		t.Errorf("%d of 120 guesses at once are tried within a quarter of a minute", tried)
	}
	if _, ok, err := w.s.SignInTurn(ctx, "192.0.2.2", "e"); !ok || err != nil {
		t.Error("guessing from one address locks out another", err)
	}
	after, err := w.s.LedgerState(ctx, store.Bench)
	if err != nil || after.Size != before.Size+1 { // the one that held
		t.Errorf("the ledger grew by %d entries, %v", after.Size-before.Size, err)
	}
	if times, from, err := w.s.Refusals(ctx); err != nil || times != 7 || from != 1 {
		t.Errorf("%d refusals from %d addresses, %v", times, from, err)
	}
}

// A name that nobody has costs what a known one costs: its password is hashed, too. Time
// is not measured; the memory that a hash takes is.
func TestUnknownNamesCostAsMuch(t *testing.T) {
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	if err := w.s.AddExaminer(t.Context(), store.Examiner{Login: "known", Name: "K", Role: "examiner", PasswordHash: password.Hash(t.Context(), "long enough")}, "test", false); err != nil {
		t.Fatal(err)
	}
	var before, after runtime.MemStats
	for _, login := range []string{"known", "nobody"} {
		runtime.ReadMemStats(&before)
		if code, _ := w.post("/sign-in", "login", login, "password", "wrong"); code != http.StatusUnprocessableEntity {
			t.Error(login, code)
		}
		runtime.ReadMemStats(&after)
		if mib := (after.TotalAlloc - before.TotalAlloc) >> 20; mib < 60 {
			t.Errorf("%s: refused after %d MiB, which is no hash", login, mib)
		}
	}
}

// Events end when who sees them signs out; sessions lie in the database as digests.
func TestSessions(t *testing.T) {
	t.Parallel()
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	if _, err := w.s.QueueRun(context.Background(), w.cs, store.Run{Kind: "none yet", Subject: []byte("{}"), Title: "t", By: "E", Holder: ""}); err != nil {
		t.Fatal(err)
	}
	w.bench.Stop()
	if _, err := w.s.DB().Exec("UPDATE run SET state = 'queued' WHERE kind = 'none yet'"); err != nil {
		t.Fatal(err)
	}
	u, _ := url.Parse(w.base)
	token := w.client.Jar.Cookies(u)[0].Value
	if n := w.column("SELECT count(*)::text FROM sessions WHERE token = '" + token + "'"); n != "0" {
		t.Error("the session's token lies in the database")
	}
	res, err := w.client.Get(w.base + "/case/T-1/events")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	lines := bufio.NewReader(res.Body)
	if l, err := lines.ReadString('\n'); err != nil {
		t.Fatal(l, err)
	}
	w.post("/sign-out")
	ended := make(chan bool)
	go func() {
		for {
			if _, err := lines.ReadString('\n'); err != nil {
				close(ended)
				return
			}
		}
	}()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("events go on after the sign-out")
	}
}

// What the answers say to browsers and proxies, and what is answered at all.
func TestAnswers(t *testing.T) {
	t.Parallel()
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	for _, p := range []string{"/", "/case/T-1/examine", "/case/T-1/report", "/case/T-1/verify/1/manifest/sha256", "/sign-in"} {
		res, err := w.client.Get(w.base + p)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s: %q", p, res.Header.Get("Cache-Control"))
		}
	}
	for _, p := range []string{"/static/", "/static", "/static/fonts/", "/static/fonts", "/static/../web.go"} {
		if code, b := w.get(p); code != http.StatusNotFound || bytes.Contains(b, []byte("LICENSE")) {
			t.Errorf("%s: %d", p, code)
		}
	}
	if code, _ := w.get("/static/chart-room.css"); code != http.StatusOK {
		t.Error(code)
	}
	_, css := w.get(static.Address("chart-room.css"))
	for _, name := range static.Fonts() { // loaded once, under the address by which the styles name it
		if _, b := w.get("/sign-in"); !bytes.Contains(b, []byte(`href="`+static.Address(name)+`" as="font"`)) || !bytes.Contains(css, []byte("url("+strings.TrimPrefix(static.Address(name), "/static/")+")")) {
			t.Errorf("%s is not loaded before the styles ask for it", name)
		}
	}
	for at, want := range map[string]string{static.Address("chart-room.css"): "public, max-age=31536000, immutable", "/static/chart-room.css?v=another": "no-cache"} {
		if res, err := w.client.Get(w.base + at); err != nil || res.StatusCode != http.StatusOK || res.Header.Get("Cache-Control") != want || res.Header.Get("ETag") == "" {
			t.Errorf("%s: %+v, %v", at, res, err)
		}
	}
	for host, want := range map[string]int{"evil.example": http.StatusMisdirectedRequest, "127.0.0.1.evil.example": http.StatusMisdirectedRequest, "localhost": 200, "[::1]:80": 200, "127.0.0.1": 200} {
		req, _ := http.NewRequest("GET", w.base+"/sign-in", nil)
		req.Host = host
		if res, err := w.client.Do(req); err != nil || res.StatusCode != want {
			t.Errorf("Host %q: %v, %v", host, res, err)
		}
	}
	for next, want := range map[string]string{"//evil.example": "/", "/\\evil.example": "/", "/\t/evil.example": "/", "/%09/evil.example": "/%09/evil.example", "https:evil.example": "/", "/%2f/evil": "/", "/%5cevil.example": "/", "javascript:alert(1)": "/", "/case/T-1": "/case/T-1"} {
		stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		res, err := stay.PostForm(w.base+"/sign-in", url.Values{"login": {"e"}, "password": {"long enough"}, "next": {next}})
		if err != nil {
			t.Fatal(err)
		}
		if at := res.Header.Get("Location"); at != want {
			t.Errorf("next=%q leads to %q", next, at)
		}
	}
	for _, q := range []string{"from=0001-01-01T00:00:00Z&to=9999-12-31T23:59:59Z", "from=9999-12-31T23:59:59%2B14:00", "to=0001-01-01T00:00:00-14:00", "after=9223372036854775807.1", "after=-9223372036854775808.1", "after=to.", "after=to.none.1", "after=to.1.0", "after=to.0.1", "sort=what&after=to.0.1.",
		"view=places&box=-90,-540,90,-180", "view=places&box=NaN,1,2,Inf", "view=places&near=90,180,1e7", "near=NaN,1,1", "near=-91,0,5", "view=%3Cscript%3E", "view=conversation&beside=-1,x,9", "view=gallery&after=none.1", "view=gaps&chart=x", "view=places&kind=none"} {
		if code, _ := w.get("/case/T-1/examine?" + q); code >= 500 {
			t.Errorf("%s: %d", q, code)
		}
	}
}

// An answer that took longer to be found than one may be taken by nobody is given all the same, though it be a redirect alone.
func TestAnswersThatTookLong(t *testing.T) {
	t.Parallel()
	srv := httptest.NewServer(bounded(&frame.App{}, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := http.NewResponseController(w).SetWriteDeadline(time.Now().Add(-time.Second)); err != nil {
			t.Error(err)
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})))
	defer srv.Close()
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if res, err := client.Post(srv.URL, "", nil); err != nil || res.StatusCode != http.StatusSeeOther {
		t.Error(res, err)
	}
}

// A body that does not come does not keep its connection open.
func TestBodiesThatDoNotCome(t *testing.T) {
	w := newScene(t, map[string][]byte{"/a": []byte("a")})
	was := quiet
	quiet = 300 * time.Millisecond
	t.Cleanup(func() { quiet = was })
	c, err := net.Dial("tcp", strings.TrimPrefix(w.base, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "POST /sign-in HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: 100\r\n\r\nlogin=")
	c.SetReadDeadline(time.Now().Add(20 * time.Second))
	if _, err := bufio.NewReader(c).ReadString('\n'); err != nil && strings.Contains(err.Error(), "timeout") {
		t.Error("the connection stays open")
	}
}
