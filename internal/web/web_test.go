package web

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"html"
	"image"
	"image/png"
	"io"
	"io/fs"
	"log/slog"
	"mime/multipart"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/core/scope"
	"crosswind/internal/acquire"
	"crosswind/internal/evidence"
	"crosswind/internal/password"
	"crosswind/internal/run"
	"crosswind/internal/standin/democase"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
	"crosswind/internal/vault"
	"crosswind/internal/web/frame"
)

// site is the application with the demo's case and a second one, and a client
// that is signed in.
type site struct {
	t      *testing.T
	s      *store.Store
	base   string
	client *http.Client
	cs     *store.Case
	acq    *store.Acquisition
	app    *frame.App
	vault  vault.Vault
	run    *store.Run // that the evidence came by
}

func newSite(t *testing.T) *site {
	t.Helper()
	ctx := context.Background()
	s := storetest.Open(t)
	if err := democase.Seed(ctx, s); err != nil {
		t.Fatal(err)
	}
	if err := s.AddCase(ctx, store.Case{Reference: "OTHER-1", Title: "Another", Zone: "UTC"}, store.Authority{Kind: "w", IssuedBy: "x", Number: "1", ScopeKinds: []string{"call"}}, "tester"); err != nil {
		t.Fatal(err)
	}
	v, err := vault.OpenFolder(filepath.Join(t.TempDir(), "vault"))
	if err != nil {
		t.Fatal(err)
	}
	w := &site{t: t, s: s, vault: v}
	w.app = &frame.App{Store: s, Evidence: evidence.New(s, v), Tool: "test", Packages: t.TempDir(), Data: t.TempDir(), Acquirer: &acquire.Acquirer{Store: s, Vault: v, Tool: "test", Keys: &acquire.Keys{}}, Process: run.NewProcess("test"), Log: slog.New(slog.DiscardHandler)}
	h, err := Handler(w.app)
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	jar, _ := cookiejar.New(nil)
	w.base, w.client = srv.URL, &http.Client{Jar: jar}
	if w.cs, err = s.CaseByReference(ctx, democase.Reference); err != nil {
		t.Fatal(err)
	}
	code, _ := w.post("/sign-in", "login", democase.Accounts[0].Login, "password", democase.Accounts[0].Password)
	if code != http.StatusOK {
		t.Fatal("signing in: ", code)
	}
	w.evidence(v)
	return w
}

const hostile = `"><script>alert(1)</script><img src=x onerror=alert(1)>{{.}}'`

// evidence adds an acquisition with one file and one record, hostile in every
// text.
func (w *site) evidence(v vault.Vault) {
	ctx := context.Background()
	must := func(err error) {
		w.t.Helper()
		if err != nil {
			w.t.Fatal(err)
		}
	}
	es, err := w.s.Exhibits(ctx, w.cs.ID)
	must(err)
	_, err = w.s.QueueRun(ctx, w.cs, store.Run{Kind: "k", Subject: []byte("{}"), Title: hostile, By: hostile}, store.Act{Book: w.cs.Book(), By: hostile, What: "q", On: hostile})
	must(err)
	r, err := w.s.TakeRun(ctx, run.NewProcess("test"), run.DefaultLease)
	must(err)
	w.acq, err = w.s.AcquisitionForRun(ctx, w.cs, r, store.Acquisition{ExhibitID: es[0].ID, Method: "m", Source: "/" + hostile, Facts: []byte(`{"device":{"name":"<b>n</b>"}}`), Tool: "test", By: "tester", StartedAt: time.Now()})
	must(err)
	set, err := v.Put(ctx, strings.NewReader("0123456789"), nil)
	must(err)
	md5, sha1, sha256 := set.Hex()
	must(w.s.AddFile(ctx, r, &store.File{AcquisitionID: w.acq.ID, Path: hostile, RealPath: "/" + hostile, Size: 10, MD5: md5, SHA1: sha1, SHA256: sha256, Segments: []byte{0, 0, 0, 0}, CheckedAt: time.Now()}))
	w.run = r
	w.save(sha256)
	now := time.Now()
	w.acq.EndedAt = &now
	must(w.s.EndAcquisition(ctx, r, w.acq, []store.AcquisitionFault{{Path: hostile, Fault: hostile}}, store.Act{Book: w.cs.Book(), By: "tester", What: "acquisition.ended", On: hostile}))
}

// save keeps one record, hostile in every text.
func (w *site) save(sha256 string) {
	at := time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)
	rec := &record.Record{
		UID: "u", Parties: []record.Party{{Role: "from", Handle: hostile, Normal: "+447700900417", Name: hostile}}, Kind: record.Message, State: record.Recovered, Text: hostile,
		Times: []record.Time{{Role: "sent", At: &at, Stored: hostile}}, Conversation: &record.Conversation{Key: "1", Title: hostile}, Facts: []record.Fact{{Name: hostile, Value: hostile}},
		Place: &record.Place{Stored: hostile}, Attachments: []record.Attachment{{Name: hostile, Type: hostile, Path: hostile, Missing: hostile}},
		Origins: []record.Origin{{Path: hostile, Stored: hostile, SHA256: sha256, Table: hostile, Place: "freeblock", Page: 1, Offset: 2, Length: 4, Lost: []string{hostile},
			Fields: []record.Field{{Name: hostile, Offset: 2, Length: 2, Role: "value"}}}, {Gives: hostile, Table: hostile, Place: hostile}}}
	if _, err := w.s.SaveDatabase(context.Background(), w.cs, w.run, w.acq, &store.RecoveredDatabase{RecoveryID: w.recovery(w.run), Path: hostile, ByOrigin: []byte("{}"), Withheld: []byte("{}")}, func(yield func(*record.Record, error) bool) { yield(rec, nil) }); err != nil {
		w.t.Fatal(err)
	}
}

func (w *site) recovery(r *store.Run) int64 {
	v, _, err := w.s.RecoveryForRun(context.Background(), w.cs, r, store.Recovery{AcquisitionID: w.acq.ID, StartedAt: time.Now()})
	if err != nil {
		w.t.Fatal(err)
	}
	return v.ID
}

func (w *site) get(path string) (int, string) {
	w.t.Helper()
	res, err := w.client.Get(w.base + path)
	if err != nil {
		w.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return res.StatusCode, string(b)
}

func (w *site) post(path string, pairs ...string) (int, string) {
	w.t.Helper()
	return send(w.t, w.client, w.base+path, pairs)
}

// send sends a form of names and values.
func send(t *testing.T, client *http.Client, address string, pairs []string) (int, string) {
	t.Helper()
	v := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		v.Add(pairs[i], pairs[i+1])
	}
	res, err := client.PostForm(address, v)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(b)
}

func (w *site) record() *store.Record {
	w.t.Helper()
	rs, _, err := w.s.Records(context.Background(), store.Filter{CaseID: w.cs.ID}, store.After{}, 1)
	if err != nil || len(rs) != 1 {
		w.t.Fatal(rs, err)
	}
	return &rs[0]
}

const kase = "/case/" + democase.Reference

// Message text, names, paths and markup of evidence are text on every page.
func TestHostileEvidenceIsText(t *testing.T) {
	w := newSite(t)
	r := w.record()
	if code, _ := w.post(fmt.Sprintf("%s/examine/mark/%d", kase, r.ID), "reason", hostile, "back", "q="+url.QueryEscape(hostile)); code != http.StatusOK {
		t.Fatal(code)
	}
	for _, path := range []string{"", "/intake", "/acquire", "/verify", "/recover", "/report", "/ledger", "/examine",
		fmt.Sprintf("/acquire/tree?acq=%d", w.acq.ID), fmt.Sprintf("/examine?r=%d&o=1", r.ID), "/examine?q=" + url.QueryEscape(hostile), "/examine?from=" + url.QueryEscape(hostile)} {
		code, page := w.get(kase + path)
		if code != http.StatusOK {
			t.Errorf("%s: %d", path, code)
		}
		for _, bad := range []string{"<script>alert", "<img src=x", "<b>n</b>"} {
			if i := strings.Index(page, bad); i >= 0 {
				t.Errorf("%s holds live markup: %s", path, page[max(0, i-120):i+40])
			}
		}
	}
	if _, page := w.get(fmt.Sprintf("%s/examine?r=%d&o=1", kase, r.ID)); !strings.Contains(page, "&lt;script&gt;alert(1)") || !strings.Contains(page, ">32 33<") {
		t.Error("the record's text or bytes are not on its page")
	}
}

// What is picked, noted and saved is of this case, and is text whatever it says.
func TestPicksNotesAndSearches(t *testing.T) {
	w := newSite(t)
	r := w.record()
	id := fmt.Sprint(r.ID)
	for _, c := range []struct {
		ids, reason string
		code        int
	}{{id, "", 400}, {"", "x", 400}, {"x", "x", 400}, {id + " 99999", "x", 404}, {strings.Repeat(id+" ", 501), "x", 400}, {id + " " + id, hostile, 200}} {
		if code, _ := w.post(kase+"/examine/mark-picked", "ids", c.ids, "reason", c.reason, "back", "r="+id); code != c.code {
			t.Errorf("%.20q because %q: %d", c.ids, c.reason, code)
		}
	}
	if r = w.record(); r.MarkReason == nil || *r.MarkReason != hostile { // and not by one of those that were refused
		t.Error("it is not marked by what was taken")
	}
	if code, _ := w.post("/case/OTHER-1/examine/mark-picked", "ids", id, "reason", "x"); code != http.StatusNotFound {
		t.Errorf("a record of another case is marked: %d", code)
	}
	if code, _ := w.post("/case/OTHER-1/examine/note/"+id, "note", "x"); code != http.StatusNotFound {
		t.Errorf("a record of another case is noted: %d", code)
	}
	for _, c := range [][3]string{{"", hostile, "200"}, {"", "x", "409"}, {hostile, hostile + "\r\nand more", "200"}, {hostile + "\r\nand more", strings.Repeat("x", 30_000), "400"}} {
		if code, _ := w.post(kase+"/examine/note/"+id, "was", c[0], "note", c[1], "back", "r="+id); fmt.Sprint(code) != c[2] {
			t.Errorf("a note of %.20q: %d, not %s", c[1], code, c[2])
		}
	}
	query := url.Values{"q": {hostile}, "view": {"compare"}, "kind": {"message"}}.Encode()
	for _, c := range [][3]string{{hostile, query, "200"}, {hostile, query, "409"}, {"", query, "400"}, {"x", "%zz", "400"}, {strings.Repeat("x", 81), query, "400"}} {
		if code, _ := w.post(kase+"/examine/saved", "name", c[0], "query", c[1]); fmt.Sprint(code) != c[2] {
			t.Errorf("a search %.20q: %d, not %s", c[0], code, c[2])
		}
	}
	all, err := w.s.SavedSearches(context.Background(), w.cs.ID)
	if err != nil || len(all) != 1 || strings.Contains(all[0].Query, "view") || !strings.Contains(all[0].Query, "kind=message") {
		t.Fatal(all, err)
	}
	for _, at := range []string{"/examine?view=words", "/examine?r=" + id, "/examine?q=is:noted"} {
		_, page := w.get(kase + at)
		for _, bad := range []string{"<script>alert", "<img src=x"} {
			if strings.Contains(page, bad) {
				t.Errorf("%s holds live markup", at)
			}
		}
	}
	w.post(kase+"/examine/saved", "name", "what is there", "query", "kind=message&exhibit=none")
	w.post(kase+"/examine/saved", "name", "years ago", "query", "kind=message&from=1999-01-01T00:00:00Z&to=1999-02-01T00:00:00Z")
	if _, page := w.get(kase + "/examine?view=words&q=kind:call&tally=1"); !regexp.MustCompile(`what is there</a></td><td class="num mono">1</td>.*years ago</a></td><td class="num mono">0</td>`).MatchString(flat(page)) {
		t.Errorf("saved searches are not counted each by itself: %s", page[strings.Index(page, "Saved searches"):])
	}
	if _, page := w.get(kase + "/examine?r=" + id); !strings.Contains(page, "and more</textarea>") {
		t.Error("the note is not shown")
	}
	w.post(fmt.Sprintf("/case/OTHER-1/examine/saved/%d/forget", all[0].ID))
	if left, _ := w.s.SavedSearches(context.Background(), w.cs.ID); len(left) != 3 {
		t.Error("another case took a search away")
	}
	w.post(fmt.Sprintf("%s/examine/saved/%d/forget", kase, all[0].ID))
	if left, _ := w.s.SavedSearches(context.Background(), w.cs.ID); len(left) != 2 {
		t.Error("the search is still there")
	}
}

func TestNothingIsShownToStrangers(t *testing.T) {
	w := newSite(t)
	stranger := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for _, path := range []string{"/", "/ledger", "/cases/new", kase, kase + "/examine", kase + "/report", kase + "/events", fmt.Sprintf("%s/verify/%d/manifest/sha256", kase, w.acq.ID), kase + "/report/package/1", "/check/imei?v=1"} {
		res, err := stranger.Get(w.base + path)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != http.StatusSeeOther || !strings.HasPrefix(res.Header.Get("Location"), "/sign-in?next=") || bytes.Contains(b, []byte("instrument store")) {
			t.Errorf("%s: %d %s", path, res.StatusCode, res.Header.Get("Location"))
		}
		if p := res.Header.Get("Content-Security-Policy"); !strings.Contains(p, "script-src 'self';") || strings.Contains(p, "unsafe") {
			t.Errorf("%s: policy %q", path, p)
		}
	}
	if res, err := stranger.PostForm(w.base+kase+"/report/package", nil); err != nil || res.StatusCode != http.StatusSeeOther || res.Header.Get("Location") != "/sign-in?next=%2F" {
		t.Errorf("%v %v", res, err)
	}
}

// A form of another site does nothing (Fetch Metadata, W3C; RFC 6454).
func TestOtherSitesFormsAreRefused(t *testing.T) {
	w := newSite(t)
	for name, value := range map[string]string{"Sec-Fetch-Site": "cross-site", "Origin": "https://other.example"} {
		req, _ := http.NewRequest("POST", w.base+kase+"/report/package", nil)
		req.Header.Set(name, value)
		res, err := w.client.Do(req)
		if err != nil || res.StatusCode != http.StatusForbidden {
			t.Errorf("%s: %v, %v", name, res.Status, err)
		}
	}
	runs, err := w.s.Runs(context.Background(), w.cs.ID, "package", 1)
	if err != nil || len(runs) != 0 {
		t.Errorf("%d runs, %v", len(runs), err)
	}
}

func TestSignIn(t *testing.T) {
	w := newSite(t)
	stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for next, want := range map[string]string{"//evil.example": "/", "https://evil.example": "/", `/\evil.example`: "/", "": "/", kase + "/examine?q=a": kase + "/examine?q=a"} {
		res, err := stay.PostForm(w.base+"/sign-in", url.Values{"login": {"custodian"}, "password": {democase.Accounts[1].Password}, "next": {next}})
		if err != nil || res.Header.Get("Location") != want {
			t.Errorf("next %q leads to %q, %v", next, res.Header.Get("Location"), err)
		}
	}
	if err := password.Check(t.Context(), password.Hash(t.Context(), "a"), "b"); err != password.ErrWrong {
		t.Error(err)
	}
	if a, b := password.Hash(t.Context(), "same"), password.Hash(t.Context(), "same"); a == b || !strings.HasPrefix(a, "$argon2id$v=19$m=65536,t=3,p=4$") { // RFC 9106 section 4
		t.Errorf("%s %s", a, b)
	}
}

// What belongs to one case is not reached through another.
func TestCasesAreApart(t *testing.T) {
	w := newSite(t)
	r := w.record()
	runs, err := w.s.Runs(context.Background(), w.cs.ID, "", 1)
	if err != nil {
		t.Fatal(err)
	}
	if _, page := w.get(fmt.Sprintf("/case/OTHER-1/examine?r=%d&o=1", r.ID)); strings.Contains(page, "alert(1)") {
		t.Error("a record of one case is shown in another")
	}
	for path, pairs := range map[string][]string{
		fmt.Sprintf("/case/OTHER-1/examine/mark/%d", r.ID):   {"reason", "x"},
		fmt.Sprintf("/case/OTHER-1/run/%d/stop", runs[0].ID): nil,
		"/case/OTHER-1/verify":                               {"acq", fmt.Sprint(w.acq.ID)},
		"/case/OTHER-1/recover":                              {"acq", fmt.Sprint(w.acq.ID)},
		"/case/OTHER-1/intake/custody":                       {"exhibit", "014-A"},
		kase + "/examine/mark/99999":                         {"reason", "x"},
		kase + "/run/1/erase":                                nil,
		kase + "/verify":                                     {"acq", "x"},
	} {
		if code, _ := w.post(path, pairs...); code != http.StatusNotFound {
			t.Errorf("POST %s: %d", path, code)
		}
	}
	for _, path := range []string{fmt.Sprintf("/case/OTHER-1/verify/%d/manifest/sha256", w.acq.ID), fmt.Sprintf("/case/OTHER-1/acquire/tree?acq=%d", w.acq.ID), kase + "/acquire/tree?source=/etc", fmt.Sprintf("%s/verify/%d/manifest/rot13", kase, w.acq.ID), "/case/OTHER-1/report/package/1", "/case/none", "/nothing"} {
		if code, page := w.get(path); code != http.StatusNotFound || !strings.Contains(page, "Not found") {
			t.Errorf("GET %s: %d", path, code)
		}
	}
}

// Only what the search found can be acquired, whatever a form says.
func TestAcquireTakesNoPathFromAForm(t *testing.T) {
	w := newSite(t)
	for _, path := range []string{"/etc", os.TempDir(), "../..", ""} {
		if code, page := w.post(kase+"/acquire", "exhibit", "014-A", "path", path); code != http.StatusUnprocessableEntity || !strings.Contains(page, "no backup at") {
			t.Errorf("%q: %d", path, code)
		}
	}
	if code, page := w.post(kase+"/acquire", "path", "/etc"); code != http.StatusUnprocessableEntity || !strings.Contains(page, "choose the exhibit") {
		t.Error(code)
	}
}

// Who made a source, on what, and how it came is asked, and told as it was stated or seen; which programs acquired it, too.
func TestWhereASourceCameFrom(t *testing.T) {
	t.Parallel()
	w := newSite(t)
	ctx := context.Background()
	if _, err := w.s.DB().Exec("UPDATE acquisition SET method = $1", acquire.MethodFolder); err != nil {
		t.Fatal(err)
	}
	see := func(what string, words ...string) {
		t.Helper()
		for _, at := range []string{"/acquire", "/report"} {
			_, page := w.get(kase + at)
			page = flat(page)
			if strings.Contains(page, "<img src=x") {
				t.Error(what, ": markup of a statement is on ", at)
			}
			for _, x := range words {
				if !strings.Contains(html.UnescapeString(page), x) {
					t.Errorf("%s: %s does not say %q", what, at, x)
				}
			}
		}
	}

	see("at first", "it was acquired")
	for _, f := range [][]string{{"acq", "0", "came", "x"}, {"acq", fmt.Sprint(w.acq.ID)}, {"acq", fmt.Sprint(w.acq.ID), "came", strings.Repeat("å", 1001)}} {
		if code, _ := w.post(kase+"/acquire/stated", f...); code != http.StatusUnprocessableEntity {
			t.Error(f[:2], code)
		}
	}
	if code, _ := w.post("/case/OTHER-1/acquire/stated", "acq", fmt.Sprint(w.acq.ID), "came", "x"); code != http.StatusUnprocessableEntity {
		t.Error("of another case: ", code)
	}
	for _, by := range []string{"her son", hostile} {
		w.post(kase+"/acquire/stated", "acq", fmt.Sprint(w.acq.ID), "made_by", by, "came", "on a stick")
		see(by, by, "on a stick", "not stated")
	}
	es, err := w.s.Exhibits(ctx, w.cs.ID)
	if err == nil {
		err = w.s.RenameExhibit(ctx, w.cs, &es[0], "014-B", "E")
	}
	if err != nil {
		t.Fatal(err)
	}
	see("renamed", hostile, "on a stick")
	other, err := w.s.CaseByReference(ctx, "OTHER-1")
	if err != nil {
		t.Fatal(err)
	}
	same := strings.Repeat("1c", 32)
	if _, err := w.s.DB().Exec("UPDATE acquisition SET manifest = $1", same); err != nil {
		t.Fatal(err)
	}
	for manifest, words := range map[string]string{"": "was not measured", same: "is what had been received", strings.Repeat("5a", 32): "is not what had been received"} {
		err := w.s.Log(ctx, store.Act{Book: w.cs.Book(), By: "E", What: "backup.made", On: "014-B", Detail: map[string]string{"by": "XQ-1 0001", "at": w.acq.Source, "manifest_sha256": manifest}})
		if err != nil {
			t.Fatal(err)
		}
		see("made here", "the handset XQ-1 0001 itself, asked for it here", words)
	}
	if code, _ := w.post(kase+"/acquire/stated", "acq", fmt.Sprint(w.acq.ID), "came", "x"); code != http.StatusUnprocessableEntity {
		t.Error("of what a handset was asked for here: ", code)
	}
	if p, err := w.s.Provenances(ctx, other); err != nil || p.Of("014-B", w.acq) != nil {
		t.Error("another case knows of it: ", err)
	}
	if _, err := w.s.DB().Exec("UPDATE run SET state = 'running'"); err != nil {
		t.Fatal(err)
	}
	sum := strings.Repeat("0a", 32)
	for _, tool := range []string{"test", "T 2, build " + sum, "T 2, build " + sum} {
		if w.acq, err = w.s.AcquisitionForRun(ctx, w.cs, w.run, store.Acquisition{ExhibitID: es[0].ID, Facts: []byte("{}"), Tool: tool, StartedAt: time.Now()}); err != nil {
			t.Fatal(err)
		}
	}
	see("gone on with", "test; gone on with by T 2, build ")
	// What goes with the report is listed in its appendices.
	if _, err := w.s.DB().Exec("UPDATE recovered_database SET field_map = 'ours 7', map_sha256 = $1; ", sum); err != nil {
		t.Fatal(err)
	}
	if _, err := w.s.DB().Exec("UPDATE recovery SET ended_at = now()"); err != nil {
		t.Fatal(err)
	}
	_, page := w.get(kase + "/report")
	if _, last, is := strings.Cut(flat(page), ">Appendices<"); !is || !strings.Contains(last, "ours 7") || !strings.Contains(last, "014-B-acquisition-1.sha256") {
		t.Error("the appendices do not list the field maps and the manifests")
	}
	if strings.Count(w.acq.Tool, "T 2") != 1 {
		t.Error(w.acq.Tool)
	}
}

// The scope grows only by a further authority.
func TestAuthorities(t *testing.T) {
	w := newSite(t)
	good := map[string]string{"kind": "order", "issued_by": "x", "number": "N 2", "valid_from": "2026-09-01", "valid_to": "2026-10-01", "kinds": "call", "scope_from": "2026-09-01", "scope_to": "2026-09-02", "privileged": "+44 (7700) 900-551, A@Example.org"}
	for _, c := range [][3]string{{"number", "", "its number"}, {"kinds", "secrets", "is not a kind of record"}, {"kinds", "", "is not a kind of record"}, {"valid_to", "soon", "is not a date"},
		{"valid_to", "2026-08-01", "ends before it begins"}, {"scope_to", "2026-08-01", "end before they begin"}, {"excluded", "counsel", "name the numbers"}, {"", "", ""}} {
		var pairs []string
		for k, v := range good {
			if k == c[0] || c[0] == "excluded" && k == "privileged" {
				continue
			}
			pairs = append(pairs, k, v)
		}
		code, page := w.post(kase+"/intake/authority", append(pairs, c[0], c[1])...)
		if want := map[bool]int{true: 200, false: 422}[c[0] == ""]; code != want || !strings.Contains(page, c[2]) {
			t.Errorf("%s=%q: %d, no %q", c[0], c[1], code, c[2])
		}
	}
	all, err := w.s.Authorities(context.Background(), w.cs.ID)
	if err != nil || len(all) != 2 {
		t.Fatal(len(all), err)
	}
	g := scope.New(store.Scopes(all[1:]), all[1].ValidFrom)
	at := time.Date(2026, 9, 2, 22, 59, 59, 0, time.UTC) // 23:59:59 in Lisbon: that day is included
	if why := g.Record(scope.Subject{Kind: record.Call, At: &at, Parties: []string{"+447700900417"}}); why != scope.Admitted {
		t.Error(why)
	}
	if why := g.Record(scope.Subject{Kind: record.Call, At: &at, Parties: []string{"a@example.org"}}); why != scope.PrivilegedWith {
		t.Error(why)
	}
}

func TestIntakeRefusals(t *testing.T) {
	w := newSite(t)
	good := map[string]string{"iccid": "", "numbers": "", "clock_offset": "", "seized_at": "", "reference": "014-B", "kind": "handset", "model_mark": "m", "serial": "s", "imei": "260531793113837", "seal": "1", "place": "p", "to": "H. Vold", "at": "2026-09-26T10:00"}
	try := func(name, value string) (int, string) {
		var pairs []string
		for k, v := range good {
			if k == name {
				v = value
			}
			pairs = append(pairs, k, v)
		}
		return w.post(kase+"/intake/exhibit", pairs...)
	}
	for _, c := range [][3]string{{"serial", "", "serial number"}, {"imei", "260531793113836", "wrong check digit"}, {"imei", "26", "15 digits"}, {"seal", "", "seal number"},
		{"at", "yesterday", "is not one such as"}, {"at", "2999-01-01T00:00", "in the future"}, {"reference", "014-A", "in use already"}, {"iccid", "12", "19 or 20 digits"}, {"numbers", "+44 7700 900417, 0123", "is not a phone number"}, {"clock_offset", "-3", "how it was measured"}, {"seized_at", "2026-09-27T10:00", "before it was seized"}} {
		code, page := try(c[0], c[1])
		if code != http.StatusUnprocessableEntity || !strings.Contains(page, c[2]) || !strings.Contains(page, `value="H. Vold"`) {
			t.Errorf("%s=%q: %d, no %q or the form is lost", c[0], c[1], code, c[2])
		}
	}
	if code, page := try("", ""); code != http.StatusOK || !strings.Contains(page, "Exhibit 014-B is registered") {
		t.Error(code)
	}
	for _, c := range [][]string{
		{"names both sides", "what", "handed over", "from", "R. Aske", "at", "2026-09-27T10:00", "place", "p"},
		{"lies before the last event", "what", "examined", "at", "2026-09-01T10:00", "place", "p"},
		{"needs its place", "what", "examined", "at", "2026-09-27T10:00"},
		{"under seal B-220417", "what", "sealed", "seal", "9", "at", "2026-09-27T10:00", "place", "p"},
		{"confirmed by both sides", "what", "handed over", "from", "R. Aske", "to", "H. Vold", "at", "2026-09-27T10:00", "place", "p"},
		{"is that of R. Aske, not of H. Vold", "what", "handed over", "from", "R. Aske", "to", "H. Vold", "at", "2026-09-27T10:00", "place", "p", "login", "examiner", "password", democase.Accounts[0].Password},
		{"the password is wrong", "what", "handed over", "from", "R. Aske", "to", "H. Vold", "at", "2026-09-27T10:00", "place", "p", "login", "custodian", "password", "guess"},
		{"both are R. Aske", "what", "handed over", "from", "R. Aske", "to", "R. Aske", "at", "2026-09-27T10:00", "place", "p"},
	} {
		if code, page := w.post(kase+"/intake/custody", append([]string{"exhibit", "014-A"}, c[1:]...)...); code != http.StatusUnprocessableEntity || !strings.Contains(page, c[0]) {
			t.Errorf("%v: %d", c, code)
		}
	}
}

// The label's code is read back by a general-purpose reader, zbarimg.
func TestLabelAndReceipt(t *testing.T) {
	w := newSite(t)
	es, err := w.s.Exhibits(context.Background(), w.cs.ID)
	if err != nil {
		t.Fatal(err)
	}
	code, page := w.get(fmt.Sprintf("%s/intake/%d/label", kase, es[0].ID))
	_, rest, ok := strings.Cut(page, "data:image/png;base64,")
	if code != http.StatusOK || !ok {
		t.Fatal(code)
	}
	text, _, _ := strings.Cut(rest, `"`)
	picture, err := base64.StdEncoding.DecodeString(html.UnescapeString(text))
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "label.png")
	if err := os.WriteFile(path, picture, 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("zbarimg", "--quiet", "--raw", path).Output()
	if want := "case SAL-26-014; exhibit 014-A; OL-220; serial TEST-0417-A\n"; err != nil || string(out) != want {
		t.Errorf("the code says %q, %v", out, err)
	}
	chain, err := w.s.CustodyOf(context.Background(), es[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	if code, page := w.get(fmt.Sprintf("%s/intake/receipt/%d", kase, chain[1].ID)); code != http.StatusOK || !strings.Contains(page, "Given by H. Vold") || !strings.Contains(page, "paper receipt 26-1180") {
		t.Error(code)
	}
	for _, path := range []string{fmt.Sprintf("/case/OTHER-1/intake/%d/label", es[0].ID), fmt.Sprintf("/case/OTHER-1/intake/receipt/%d", chain[0].ID)} {
		if code, _ := w.get(path); code != http.StatusNotFound {
			t.Errorf("%s: %d", path, code)
		}
	}
	// A hand-over that both sides confirm by signing in.
	code, page = w.post(kase+"/intake/custody", "exhibit", "014-A", "what", "handed over", "from", "R. Aske", "to", "H. Vold", "at", "2026-09-27T10:00", "place", "p", "login", "custodian", "password", democase.Accounts[1].Password)
	if code != http.StatusOK || !strings.Contains(page, "signed in: R. Aske (examiner) and H. Vold (custodian)") || !strings.Contains(page, "held by H. Vold") {
		t.Error(code)
	}
}

// photograph puts a picture of an exhibit in by its form.
func (w *site) photograph(exhibit, name string, data []byte) (int, string) {
	w.t.Helper()
	w.t.Helper()
	var b bytes.Buffer
	m := multipart.NewWriter(&b)
	m.WriteField("exhibit", exhibit)
	m.WriteField("note", hostile)
	f, _ := m.CreateFormFile("photograph", name)
	f.Write(data)
	m.Close()
	res, err := w.client.Post(w.base+kase+"/intake/photograph", m.FormDataContentType(), &b)
	if err != nil {
		w.t.Fatal(err)
	}
	defer res.Body.Close()
	page, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(page)
}

// A photograph's type is told by its content, and it is served in a sandbox.
func TestPhotographs(t *testing.T) {
	w := newSite(t)
	var picture bytes.Buffer
	if err := png.Encode(&picture, image.NewGray(image.Rect(0, 0, 8, 8))); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		exhibit, name string
		data          []byte
		code          int
		said          string
	}{
		{"014-A", "front.png", []byte("<svg onload=alert(1)>"), 422, "no JPEG, PNG, WebP or GIF"},
		{"014-A", "front.png", nil, 422, "choose a file"},
		{"014-Z", "front.png", picture.Bytes(), 404, "Not found"},
		{"014-A", "../../evil.html", picture.Bytes(), 200, "is in the vault"},
		{"014-A", "again.png", picture.Bytes(), 422, "in use already"},
	} {
		code, page := w.photograph(c.exhibit, c.name, c.data)
		if code != c.code || !strings.Contains(page, c.said) || strings.Contains(page, "<script>alert") {
			t.Errorf("%s for %s: %d, no %q", c.name, c.exhibit, code, c.said)
		}
	}
	res, err := w.client.Get(w.base + kase + "/intake/photograph/1")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	got, _ := io.ReadAll(res.Body)
	if !bytes.Equal(got, picture.Bytes()) || res.Header.Get("Content-Type") != "image/png" || !strings.Contains(res.Header.Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("%d bytes, %v", len(got), res.Header)
	}
	if code, _ := w.get("/case/OTHER-1/intake/photograph/1"); code != http.StatusNotFound {
		t.Error(code)
	}
	if _, page := w.get(kase + "/report"); !strings.Contains(string(withoutTags([]byte(page))), "bytes, scaled down; SHA-256 of the file") {
		t.Error("the report does not name it")
	}
}

// Every entry of the ledger that the formats name is said in words on pages.
func TestEntriesInWords(t *testing.T) {
	doc, err := os.ReadFile("../../docs/formats.md")
	if err != nil {
		t.Fatal(err)
	}
	_, list, _ := strings.Cut(string(doc), "`what` is one of:")
	list, _, _ = strings.Cut(list, "the book `bench`")
	words := regexp.MustCompile(`[a-z_]+\.[a-z_]+`).FindAllString(list, -1)
	for _, w := range words {
		if frame.Words(w) == w {
			t.Errorf("%s has no words", w)
		}
	}
	if len(words) < 40 {
		t.Errorf("%d entries", len(words))
	}
}

// No sentence that the application can print says of what was found who did it, that an
// app showed it, or what was meant: bytes do not show that. Read are all templates and
// all texts in the code but the questions from a situation to a route, which the examiner
// answers.
func TestNoSentenceClaimsMoreThanBytesShow(t *testing.T) {
	claims := regexp.MustCompile(`(?i)\b(by the (user|owner)|(deleted|erased|hidden|removed|wiped) by|(was|were) (shown|visible) (in|to)|apps? (showed|shows|would have|displayed)|would have (shown|seen)|on purpose|deliberate(ly)?|intended to|tried to|in order to hide)\b`)
	read := 0
	check := func(where, text string) {
		read++
		text = strings.ReplaceAll(text, "Whether the app showed it, the row does not say", "")
		if m := claims.FindString(text); m != "" {
			t.Errorf("%s: %q in %q", where, m, text[:min(len(text), 200)])
		}
	}
	for _, root := range []string{"../../core", "../../internal", "../../cmd"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "core/route") || strings.Contains(path, "standin"):
				return err
			case strings.HasSuffix(path, ".html"):
				b, err := os.ReadFile(path)
				check(path, string(b))
				return err
			case !strings.HasSuffix(path, ".go"):
				return nil
			}
			f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
					check(path, l.Value)
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if read < 1000 {
		t.Errorf("%d texts", read)
	}
}

// The tool is measured on the build that runs, and reports say what came of it, or that nothing was measured.
func TestTheToolIsMeasured(t *testing.T) {
	t.Parallel()
	w := newSite(t)
	if _, page := w.get(kase + "/report"); !strings.Contains(page, "Nothing was measured of the build") {
		t.Error("a report does not say that nothing was measured")
	}
	for _, bad := range [][]string{{}, {"do", "measure", "seed", "-1"}, {"do", "measure", "seed", "x"}} {
		if code, _ := w.post("/validation", bad...); code != http.StatusBadRequest {
			t.Errorf("%q: %d", bad, code)
		}
	}
	if code, page := w.post("/validation", "do", "measure", "seed", "3"); code != http.StatusOK || !strings.Contains(flat(page), "<td>free block</td>") {
		t.Fatalf("%d: %s", code, page)
	}
	_, page := w.get(kase + "/report")
	if said := string(withoutTags([]byte(flat(page)))); !strings.Contains(said, "with the seed 3") || !strings.Contains(said, "24 databases") || strings.Contains(said, "Nothing was measured") {
		t.Error("a report does not say what was measured")
	}
	if code, body := w.get("/validation/1"); code != http.StatusOK || !json.Valid([]byte(body)) {
		t.Errorf("the result: %d", code)
	}
	if _, err := w.s.DB().Exec("UPDATE validation SET build = 'another'"); err != nil {
		t.Fatal(err)
	}
	if _, page := w.get(kase + "/report"); !strings.Contains(page, "Nothing was measured of the build") {
		t.Error("what was measured of another build stands in a report")
	}
	if _, err := w.s.DB().Exec("UPDATE validation SET body = replace(body, '\"wrong\": 0', '\"wrong\": 1')"); err != nil {
		t.Fatal(err)
	}
	if code, _ := w.get("/validation"); code != http.StatusInternalServerError {
		t.Errorf("a result that was changed is shown: %d", code)
	}
}
