package web

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/internal/press"
	"crosswind/internal/preview"
	"crosswind/internal/recovery"
	"crosswind/internal/run"
	"crosswind/internal/run/runtest"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
	"crosswind/internal/web/report"
)

// The report holds every marked record: however many have no time, and from the first year
// that a time can name to the last.
func TestTheReportLeavesNothingOut(t *testing.T) {
	t.Parallel()
	w := newSite(t)
	ctx := context.Background()
	if _, err := w.s.DB().Exec("UPDATE authority SET scope_from = NULL, scope_to = NULL"); err != nil {
		t.Fatal(err)
	}
	const untimed = 10_020
	want := untimed
	many := func(yield func(*record.Record, error) bool) {
		say := func(n int, at *time.Time) bool {
			return yield(&record.Record{UID: fmt.Sprint("m", n), Kind: record.Message, State: record.Intact, Times: []record.Time{{Role: "sent", At: at}}, Text: "m", Parties: []record.Party{{Handle: "+447700900417", Normal: "+447700900417"}}}, nil)
		}
		for i := range untimed {
			if !say(i, nil) {
				return
			}
		}
		for _, year := range []int{1, 2, 880, 881, 1600, 1970, 9999} {
			at := time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC)
			want++
			if !say(want, &at) {
				return
			}
		}
	}
	_, err := w.s.QueueRun(ctx, w.cs, store.Run{Kind: "k", Subject: []byte("{}"), Title: "t", By: "E"}, store.Act{Book: w.cs.Book(), By: "E", What: "q", On: "t"})
	if err == nil {
		w.run, err = w.s.TakeRun(ctx, run.NewProcess("test"), run.DefaultLease)
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.s.SaveDatabase(ctx, w.cs, w.run, w.acq, &store.RecoveredDatabase{RecoveryID: w.recovery(w.run), Path: "/many", ByOrigin: []byte("{}"), Withheld: []byte("{}")}, many); err != nil {
		t.Fatal(err)
	}
	if _, err := w.s.DB().Exec("INSERT INTO mark SELECT id, 'E', now(), 'because' FROM record WHERE db = '/many'"); err != nil {
		t.Fatal(err)
	}
	r, err := report.Build(ctx, w.s, w.cs, "test", "E")
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, m := range r.Marked {
		seen[m.UID] = true
	}
	if len(r.Marked) != want || len(seen) != want {
		t.Errorf("%d records are marked, and the report holds %d, %d of them different", want, len(r.Marked), len(seen))
	}
	if b, err := press.HTML(r.Compose(&store.ReportVersion{})); err != nil || !bytes.Contains(b, []byte(".report h1 {")) || !bytes.Contains(b, []byte("0001-01-01 00:00:00")) || !bytes.Contains(b, []byte("9999-01-01 00:00:00")) {
		t.Error("the first and the last year are not in it: ", err)
	}
}

// The list of Examine goes on to its end, through records with a time and those without; what
// a script does not ask for is not worked out.
func TestTheListGoesOn(t *testing.T) {
	t.Parallel()
	w := newSite(t)
	const timed, untimed = 160, 170 // of which the first are whole pages
	many := func(yield func(*record.Record, error) bool) {
		for i := range timed + untimed {
			r := &record.Record{UID: fmt.Sprint("m", i), Kind: record.Message, State: record.Intact, Text: fmt.Sprint("line ", i), Parties: []record.Party{{Normal: "x"}}}
			if at := time.Date(2026, 9, 1, 0, i, 0, 0, time.UTC); i < timed {
				r.Times = []record.Time{{Role: "sent", At: &at}}
			} else if i == 170 { // of a clock that was never set
				never := time.Unix(0, 0).UTC()
				r.Times = []record.Time{record.Time{Role: "sent", At: &never, Stored: "0 s"}.Doubted(at)}
			}
			if !yield(r, nil) {
				return
			}
		}
	}
	if _, err := w.s.DB().Exec("UPDATE authority SET scope_from = NULL, scope_to = NULL; DELETE FROM record"); err != nil {
		t.Fatal(err)
	}
	if _, err := w.s.QueueRun(t.Context(), w.cs, store.Run{Kind: "k", Subject: []byte("{}"), Title: "t", By: "E"}); err != nil {
		t.Fatal(err)
	}
	r, err := w.s.TakeRun(t.Context(), run.NewProcess("test"), run.DefaultLease)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.s.SaveDatabase(t.Context(), w.cs, r, w.acq, &store.RecoveredDatabase{RecoveryID: w.recovery(r), Path: "/many", ByOrigin: []byte("{}"), Withheld: []byte("{}")}, many); err != nil {
		t.Fatal(err)
	}
	lines := regexp.MustCompile(`>(line \d+)</td>`)
	var list []string
	next := regexp.MustCompile(`<tr data-more>\s*<td colspan="\d+">\s*<a href="([^"]*)"`)
	for page, n := kase+"/examine", 0; page != ""; n++ {
		req, _ := http.NewRequest("GET", w.base+page, nil)
		if n > 0 {
			req.Header.Set("X-Alpine-Target", "part-list")
		}
		res, err := w.client.Do(req)
		if err != nil || n > 10 {
			t.Fatal(n, err)
		}
		b, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if bytes.Contains(b, []byte(`class="waterline"`)) != (n == 0) {
			t.Errorf("page %d: the chart is there when it is not asked for, or not there", n)
		}
		if got := bytes.Contains(b, []byte("Records that have no time")); got != (len(list) <= timed && bytes.Contains(b, []byte("line 160<"))) {
			t.Errorf("page %d: the head of those without a time", n)
		}
		for _, m := range lines.FindAllSubmatch(b, -1) {
			list = append(list, string(m[1]))
		}
		page = ""
		if m := next.FindSubmatch(b); m != nil {
			page = html.UnescapeString(string(m[1]))
		}
	}
	// A page with a record that is chosen has it in its list, and what is around it, in every order and by right times: by its
	// links the list comes to both of its ends, each record once.
	back := regexp.MustCompile(`data-more="before">\s*<td colspan="\d+"><a href="([^"]+)"`)
	for text, sorted := range map[string]string{"line 100": "", "line 43": "&sort=-time", "line 120": "&sort=kind", "line 60": "&sort=-exhibit", "line 80": "&sort=what",
		"line 160": "", "line 161": "&sort=kind", "line 250": "&sort=-time", "line 329": "&sort=exhibit"} {
		whole := func(link string, way *regexp.Regexp) (list []string) {
			for link != "" && len(list) < 1000 {
				_, page := w.get(html.UnescapeString(link))
				var some []string
				for _, m := range lines.FindAllStringSubmatch(page, -1) {
					some = append(some, m[1])
				}
				if list = append(list, some...); way == back {
					list = append(some, list[:len(list)-len(some)]...)
				}
				if link = ""; way.MatchString(page) {
					link = way.FindStringSubmatch(page)[1]
				}
			}
			return list
		}
		var id string
		if err := w.s.DB().QueryRow("SELECT id FROM record WHERE summary = $1", text).Scan(&id); err != nil {
			t.Fatal(err)
		}
		chosen := kase + "/examine?r=" + id + sorted
		_, page := w.get(chosen)
		here := lines.FindAllStringSubmatch(page, -1)
		if n := len(here); n > 30 || !slices.ContainsFunc(here, func(m []string) bool { return m[1] == text }) || back.FindStringSubmatch(page) == nil {
			t.Errorf("%s is chosen, sorted %q, and the list has %d lines", text, sorted, n)
			continue
		}
		got := append(whole(back.FindStringSubmatch(page)[1], back), whole(chosen, next)...)
		if want := whole(kase+"/examine?"+sorted, next); !slices.Equal(got, want) {
			t.Errorf("%s is chosen, sorted %q: the list is\n%v, want\n%v", text, sorted, got, want)
		}
	}
	var id string // of a message that is of no conversation: its text stands in the reading pane
	if err := w.s.DB().QueryRow("SELECT id FROM record WHERE summary = 'line 170'").Scan(&id); err != nil {
		t.Fatal(err)
	}
	if _, page := w.get(kase + "/examine?r=" + id); !strings.Contains(flat(page), `<dt>Message</dt><dd dir="auto" class="whitespace-pre-wrap">line 170</dd>`) || strings.Contains(page, `class="ruler"`) || !strings.Contains(flat(page), "before 1980: not on the timeline") {
		t.Error("a message of no conversation, whose time cannot be so, is not shown as one")
	}
	if code, _ := w.post(fmt.Sprintf("%s/examine/mark/%s", kase, id), "reason", "because", "back", ""); code != http.StatusOK {
		t.Fatal(code)
	}
	if _, page := w.get(kase + "/report"); !strings.Contains(string(withoutTags([]byte(flat(page)))), "1970-01-01 00:00:00Z, which cannot be: before 1980; stored as 0 s") {
		t.Error("the report does not say why the time cannot be so")
	}
	// All of an hour are marked at once, but what is marked keeps its reason; a list of words is counted at once.
	_, page := w.get(kase + "/examine?from=2026-09-01T01:00:00Z&to=2026-09-01T02:00:00Z")
	form := regexp.MustCompile(`action="([^"]*/mark-all[^"]*)"`).FindStringSubmatch(page)
	if form == nil {
		t.Fatal("what the chart shows cannot be marked")
	}
	hour := html.UnescapeString(form[1])
	marked := func() (n int) {
		if err := w.s.DB().QueryRow("SELECT count(*) FROM mark WHERE reason = 'that hour'").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if _, page := w.post(hour, "reason", " "); !strings.Contains(page, "A mark needs its reason") || marked() != 0 {
		t.Error("records are marked without a reason")
	}
	if _, page := w.post(hour, "reason", "that hour"); !strings.Contains(page, "60 records are marked") || marked() != 60 {
		t.Errorf("%d records are marked", marked())
	}
	if w.post(hour, "reason", "another reason"); marked() != 60 {
		t.Errorf("of marks that were there %d keep their reason", marked())
	}
	// A line asks what the line of words does.
	if _, page := w.get(kase + "/examine?view=words&list=line+kind:message%0Aline+kind:call%0Aline+larger:huge"); !regexp.MustCompile(`line kind:message</a></td><td class="num mono">160</td>.*line kind:call</a></td><td class="num mono">0</td>.*line larger:huge</a></td><td class="num mono">—</td>.*larger:huge: `).MatchString(flat(page)) {
		t.Errorf("%s", flat(page))
	}
	if _, page := w.get(kase + "/examine?view=words&list=line%0Anowhere%0A%22line+7%22"); !strings.Contains(page, `<td class="num mono">160</td>`) || !strings.Contains(page, "nothing") || !strings.Contains(page, `<td class="num mono">1</td>`) {
		t.Error("a list of words is not counted")
	}
	for i := range timed + untimed {
		if i >= len(list) || list[i] != fmt.Sprint("line ", i) {
			t.Fatalf("%d records, want %d; wrong from %d on", len(list), timed+untimed, i)
		}
	}
}

// A record that two acquisitions hold is one with two proofs, and an earlier version
// stands beside the row as it is now: in the report and on Examine.
func TestOneRecordTwoProofs(t *testing.T) {
	t.Parallel()
	w := newScene(t, marked(t))
	w.recover(true)
	if r := w.bench.Do("acquire backup", map[string]any{"path": "/x", "exhibit": w.acq.ExhibitID}); r.State != "done" {
		t.Fatal(r.Error)
	}
	as, err := w.s.Acquisitions(context.Background(), w.cs.ID, 0)
	if err != nil || len(as) != 2 {
		t.Fatal(as, err)
	}
	for _, a := range as {
		w.ended(w.bench.Queue("recover", recovery.Subject{Exhibit: a.ExhibitID, Acquisition: a.ID, Name: fmt.Sprintf("1-A acquisition %d", a.Number), Full: true}), "done")
	}
	record := func(what string) (id string) {
		return w.column("SELECT min(id)::text FROM record WHERE acquisition_id = " + fmt.Sprint(w.acq.ID) + " AND " + what)
	}
	earlier, intact := record("state = 'earlier' AND summary LIKE 'OKAYjour%'"), record("state = 'intact' AND summary LIKE 'OKAYlive%'")
	for _, id := range []string{earlier, intact} {
		if code, page := w.post("/case/T-1/examine/mark/"+id, "reason", "because"); code != http.StatusOK {
			t.Fatal(code, page)
		}
	}
	_, b := w.get("/case/T-1/report")
	page := flat(string(b))
	for _, want := range []string{"is also in acquisition 2 of 1-A: one record, and a further proof of it", `<dt>The row now</dt><dd><bdi>plain`} {
		if n := strings.Count(page, want); n == 0 {
			t.Errorf("the report does not say %q", want)
		}
	}
	if !regexp.MustCompile(`table \w+, row \d+, page \d+, offset \d+`).MatchString(page) || strings.Contains(page, "row 0x") {
		t.Error("the report does not say in which row a record lies")
	}
	_, before := w.get("/case/T-1/examine?o=1&r=" + earlier)
	_, live := w.get("/case/T-1/examine?o=1&r=" + intact)
	if !bytes.Contains(before, []byte("plain")) || !bytes.Contains(live, []byte("acquisition 2")) {
		t.Error("Examine does not show the row as it is now, or the other acquisition")
	}
}

// Clocks that were measured are put right for all at once, or not, and the page says which: the
// list goes by right times over all exhibits, a page of it after another, and the chart counts it.
func TestClocksArePutRight(t *testing.T) {
	w := newSite(t)
	for _, q := range []string{
		"UPDATE exhibit SET clock_offset = '-7200', clock_method = 'measured'",
		"INSERT INTO exhibit OVERRIDING SYSTEM VALUE SELECT (jsonb_populate_record(e, '{\"id\": 900, \"reference\": \"Z\", \"clock_offset\": \"\"}')).* FROM exhibit e",
		"INSERT INTO run OVERRIDING SYSTEM VALUE SELECT (jsonb_populate_record(r, '{\"id\": 900}')).* FROM run r ORDER BY id LIMIT 1",
		"INSERT INTO acquisition OVERRIDING SYSTEM VALUE SELECT (jsonb_populate_record(a, '{\"id\": 900, \"exhibit_id\": 900, \"run_id\": 900}')).* FROM acquisition a",
		"DELETE FROM record",
	} {
		if _, err := w.s.DB().Exec(q); err != nil {
			t.Fatal(q, err)
		}
	}
	begin := time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)
	for i := range 300 { // in turns by their right times, the slow clock two hours behind
		exhibit, acq, at := w.acq.ExhibitID, w.acq.ID, begin.Add(time.Duration(i)*time.Minute)
		if i%2 == 1 {
			exhibit, acq = 900, 900
		} else {
			at = at.Add(-2 * time.Hour)
		}
		if _, err := w.s.DB().Exec(`INSERT INTO record(case_id, exhibit_id, acquisition_id, uid, kind, state, place, at, thread, thread_title, person, handle, parties, direction, summary, db)
VALUES ($1, $2, $3, $4::text, 'message', 'intact', 'live', $5, '', '', '', '+447700900417', '{+447700900417}', '', 'line ' || $4, '/x')`, w.cs.ID, exhibit, acq, fmt.Sprint(i), at); err != nil {
			t.Fatal(err)
		}
	}
	walk := func(query string) (lines []string) {
		for path := "/case/" + w.cs.Reference + "/examine?" + query; path != ""; {
			code, body := w.get(path)
			if code != 200 {
				t.Fatal(code, path)
			}
			for _, m := range regexp.MustCompile(`dir="auto" title="line (\d+)"`).FindAllStringSubmatch(body, -1) {
				lines = append(lines, m[1])
			}
			path = ""
			if m := regexp.MustCompile(`data-more>\s*<td colspan="\d+">\s*<a href="([^"]+)"`).FindStringSubmatch(body); m != nil {
				path = html.UnescapeString(m[1])
			}
		}
		return lines
	}
	right := walk("clocks=1")
	for i, n := range right {
		if n != fmt.Sprint(i) {
			t.Fatalf("line %s stands at place %d", n, i)
		}
	}
	if len(right) != 300 {
		t.Errorf("%d records", len(right))
	}
	if asTheyWere := walk(""); len(asTheyWere) != 300 || asTheyWere[0] != "0" || asTheyWere[1] != "2" {
		t.Errorf("as the clocks had them: %d, %v", len(asTheyWere), asTheyWere[:2])
	}
	_, body := w.get("/case/" + w.cs.Reference + "/examine?clocks=1&from=2026-09-01T12:10:00Z&to=2026-09-01T12:20:00Z")
	body = flat(body)
	if !strings.Contains(body, "10 records") || !strings.Contains(body, "clock offsets applied: ") || !strings.Contains(body, "7200 s slow") {
		t.Error("a window of ten minutes does not have ten records, or does not say how they lie")
	}
	if _, body := w.get("/case/" + w.cs.Reference + "/examine"); !strings.Contains(flat(body), "clock offsets not applied") {
		t.Error("the page does not say that clocks are not put right")
	}
}

// Handles are brought together by contacts, and by rulings that are entries of the ledger; what
// was decided can be taken back, and no entry names a handle.
func TestPeople(t *testing.T) {
	w := newSite(t)
	insert := func(kind, uid, text string, handles ...string) {
		t.Helper()
		if _, err := w.s.DB().Exec(`INSERT INTO record(case_id, exhibit_id, acquisition_id, uid, kind, state, place, at, thread, thread_title, person, handle, parties, direction, summary, db)
VALUES ($1, $2, $3, $4, $5, 'intact', 'live', '2026-09-01Z', '', '', '', '', $6, '', $7, '/x')`, w.cs.ID, w.acq.ExhibitID, w.acq.ID, uid, kind, handles, text); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.s.DB().Exec("DELETE FROM record"); err != nil {
		t.Fatal(err)
	}
	card := strings.Repeat("ab", 32)
	insert("contact", card, "Ketil", "+447700900417", "k@harbour.example")
	insert("message", "m1", "one", "+447700900417")
	insert("message", "m2", "two", "k@harbour.example")
	insert("message", "m3", "three", "+447700900634")
	base := "/case/" + w.cs.Reference
	shown := func(handle string) int {
		t.Helper()
		code, body := w.get(base + "/examine?person=" + url.QueryEscape(handle))
		if code != 200 {
			t.Fatal(code)
		}
		return strings.Count(body, "data-choose")
	}
	ruled := func(want int, pairs ...string) string {
		t.Helper()
		code, body := w.post(base+"/people", pairs...)
		if code != want {
			t.Fatalf("%v: %d", pairs, code)
		}
		return body
	}
	if n := shown("k@harbour.example"); n != 3 {
		t.Errorf("by a contact: %d records", n)
	}
	for _, bad := range [][]string{{"of", "+447700900417", "other", "+447700900634"}, {"of", "+447700900417", "other", "nobody", "reason", "x"}, {"of", "+447700900417", "other", "k@harbour.example", "reason", "x"},
		{"of", "+447700900417", "card", "no", "handle", "+447700900417", "reason", "x"}, {"of", "x", "undo", "77", "reason", "x"}} {
		ruled(422, bad...)
	}
	ruled(200, "of", "+447700900417", "other", "+447700900634", "reason", "both answer to it")
	if n := shown("+447700900634"); n != 4 {
		t.Errorf("brought together: %d records", n)
	}
	ruled(200, "of", "+447700900417", "card", card, "handle", "k@harbour.example", "reason", "another's address")
	if n, m := shown("+447700900417"), shown("k@harbour.example"); n != 3 || m != 2 { // the contact names both
		t.Errorf("taken apart: %d and %d records", n, m)
	}
	for _, id := range []string{"1", "2"} {
		ruled(200, "of", "+447700900417", "undo", id, "reason", "was wrong")
	}
	if n, m := shown("+447700900417"), shown("+447700900634"); n != 3 || m != 1 {
		t.Errorf("taken back: %d and %d records", n, m)
	}
	_, body := w.get(base + "/ledger")
	for _, said := range []string{"person.together", "person.apart", "person.undone"} {
		if !strings.Contains(body, said) {
			t.Errorf("the ledger does not say %q", said)
		}
	}
	var lines string
	if err := w.s.DB().QueryRow("SELECT string_agg(convert_from(line, 'UTF8'), ' ') FROM ledger WHERE convert_from(line, 'UTF8') LIKE '%person.%'").Scan(&lines); err != nil || strings.Contains(lines, "900417") || strings.Contains(lines, "k@harbour") {
		t.Errorf("the ledger names a handle: %s, %v", lines, err)
	}
	if found, err := w.s.Audit(context.Background(), w.cs); err != nil || len(found) != 0 {
		t.Errorf("%v, %v", found, err)
	}
}

// flat is markup as a reader sees it: without the space that its layout has.
func flat(page string) string {
	return strings.ReplaceAll(strings.Join(strings.Fields(page), " "), "> <", "><")
}

// What is taken out is an entry of the ledger with its digest and for whom, before it leaves; without a recipient, in no format
// that there is, or of a filter that cannot be read nothing is.
func TestWhatIsTakenOut(t *testing.T) {
	w := newSite(t)
	for _, form := range [][]string{{"format", "csv"}, {"format", "csv", "recipient", " \t"}, {"format", "exe", "recipient", "somebody"}, {"recipient", "somebody"}, {"format", "csv", "recipient", strings.Repeat("x", 301)}} {
		if code, _ := w.post(kase+"/examine/take", form...); code != http.StatusBadRequest {
			t.Errorf("%q: %d", form, code)
		}
	}
	if code, _ := w.post(kase+"/examine/take?q=larger:huge", "format", "csv", "recipient", "somebody"); code != http.StatusBadRequest {
		t.Errorf("of a filter that cannot be read: %d", code)
	}
	code, body := w.post(kase+"/examine/take", "format", "jsonl", "recipient", "=Counsel  for the\tdefence")
	if code != http.StatusOK || !json.Valid([]byte(strings.SplitN(body, "\n", 2)[0])) {
		t.Fatalf("%d, %.200s", code, body)
	}
	if code, page := w.post(kase+"/examine/take?q=state:held", "format", "csv", "recipient", "nobody"); code != http.StatusOK || !strings.Contains(page, "Nothing is taken out") {
		t.Errorf("of nothing: %d", code)
	}
	left, err := w.s.Left(context.Background(), w.cs, 9)
	if err != nil || len(left) != 1 {
		t.Fatal(left, err)
	}
	want := map[string]string{"format": "JSON Lines", "records": fmt.Sprint(strings.Count(body, "\n")), "bytes": fmt.Sprint(len(body)), "sha256": fmt.Sprintf("%x", sha256.Sum256([]byte(body))), "recipient": "=Counsel for the defence"}
	if got := left[0].Detail; !maps.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	if _, page := w.get(kase + "/report"); !strings.Contains(page, want["sha256"]) || !strings.Contains(page, "=Counsel for the defence") {
		t.Error("the page of the report does not list it")
	}
}

// What is written of a report is kept version by version; somebody else reviews it; what was signed stays, whatever is done
// after; and a finding says when a record that it rests on is not there any more.
func TestTheReportIsWrittenReviewedAndSigned(t *testing.T) {
	w := newSite(t)
	ctx := context.Background()
	r := w.record()
	if code, _ := w.post(fmt.Sprintf("%s/examine/mark/%d", kase, r.ID), "reason", "because", "back", ""); code != http.StatusOK {
		t.Fatal(code)
	}
	version := func() int64 {
		t.Helper()
		v, err := w.s.ReportVersion(ctx, w.cs.ID, 0)
		if err != nil {
			t.Fatal(err)
		}
		return v.Version
	}
	compose := func(want int, pairs ...string) string {
		t.Helper()
		code, page := w.post(kase+"/report/compose", append([]string{"version", fmt.Sprint(version())}, pairs...)...)
		if code != want {
			t.Errorf("%.80q: %d, want %d", pairs, code, want)
		}
		return page
	}
	for _, bad := range [][]string{{"do", "fly"}, {"do", "finding new"}, {"do", "finding", "finding", "0"}, {"do", "finding away", "finding", "-1"}, {"do", "out", "part", "marked"}, {"do", "out", "part", "nothing"},
		{"do", "summary", "summary", strings.Repeat("x", 20_001)}, {"do", "summary", "summary", "a\x00b"}} {
		compose(http.StatusBadRequest, bad...)
	}
	compose(http.StatusOK, "do", "summary", "summary", "") // which changes nothing
	if n := version(); n != 0 {
		t.Errorf("version %d of nothing", n)
	}
	compose(http.StatusOK, "do", "summary", "summary", hostile+"\r\n\r\nand more")
	compose(http.StatusOK, "do", "finding new", "title", hostile, "text", "It was so.")
	compose(http.StatusOK, "do", "questions", "question", "Who?", "by", "Counsel", "question", " ", "by", "nobody")
	compose(http.StatusOK, "do", "up", "part", "ledger")
	compose(http.StatusOK, "do", "out", "part", "questions")
	compose(http.StatusBadRequest, "do", "place", "finding", "0", "key", "1-A/1/none")
	// How it is arranged is kept as a template, and used again; findings stay.
	compose(http.StatusBadRequest, "do", "order", "order", "ledger nothing")
	compose(http.StatusNotFound, "do", "template", "template", "ours")
	if code, _ := w.post(kase+"/report/template", "version", fmt.Sprint(version()), "name", " "); code != http.StatusBadRequest {
		t.Errorf("a template without a name: %d", code)
	}
	if code, page := w.post(kase+"/report/template", "version", fmt.Sprint(version()), "name", "ours  <b>"); code != http.StatusOK || !strings.Contains(page, "ours &lt;b&gt;, ") {
		t.Errorf("a template is kept: %d", code)
	}
	compose(http.StatusOK, "do", "order", "order", "ledger summary marked")
	if page := compose(http.StatusOK, "do", "in", "part", "questions"); strings.Index(page, `id="ledger"`) > strings.Index(page, `id="summary"`) || !strings.Contains(page, `<h2 id="questions"`) {
		t.Error("the parts are not in the order that was asked for")
	}
	if page := compose(http.StatusOK, "do", "template", "template", "ours <b>"); strings.Contains(page, `<h2 id="questions"`) || strings.Index(page, `id="ledger"`) < strings.Index(page, `id="summary"`) || !strings.Contains(page, "It was so.") {
		t.Error("the report is not as the template has it")
	}
	_, page := w.get(kase + "/report")
	key := regexp.MustCompile(`name="key" value="([^"]+)"`).FindStringSubmatch(page)
	if key == nil {
		t.Fatal("no record waits to be placed")
	}
	page = compose(http.StatusOK, "do", "place", "finding", "0", "key", html.UnescapeString(key[1]))
	if flat := flat(page); !strings.Contains(flat, `<a href="#record-1">Record 1</a>`) || !strings.Contains(flat, "Each marked record stands under a finding") || strings.Contains(page, "<script>alert") || strings.Contains(page, `id="questions"`) ||
		strings.Index(flat, `<h2 id="ledger">`) > strings.Index(flat, `<h2 id="words">`) {
		t.Error("the report is not as it was written")
	}
	if code, page := w.post(kase+"/report/compose", "version", "2", "do", "summary", "summary", "x"); code != http.StatusConflict || !strings.Contains(page, "was changed meanwhile") {
		t.Errorf("an old version is overwritten: %d", code)
	}
	if code, _ := w.post("/case/OTHER-1/report/compose", "version", "6", "do", "summary", "summary", "x"); code != http.StatusConflict {
		t.Errorf("by the version of another case: %d", code)
	}
	step := func(what string, want int, pairs ...string) {
		t.Helper()
		if code, page := w.post(kase+"/report/"+what, append([]string{"version", fmt.Sprint(version())}, pairs...)...); code != want {
			t.Errorf("%s: %d, want %d: %s", what, code, want, page[max(0, strings.Index(page, `role="alert"`)):])
		}
	}
	as := func(role string) {
		t.Helper()
		if _, err := w.s.DB().Exec("UPDATE examiner SET role = $1", role); err != nil {
			t.Fatal(err)
		}
	}
	step("sign", http.StatusConflict) // before it is accepted
	step("accept", http.StatusForbidden)
	step("submit", http.StatusOK)
	step("submit", http.StatusConflict)
	as("reviewer")
	compose(http.StatusForbidden, "do", "summary", "summary", "x")
	step("return", http.StatusBadRequest)
	var by string
	if err := w.s.DB().QueryRow("SELECT min(by) FROM report_version").Scan(&by); err != nil {
		t.Fatal(err)
	}
	wrote := func(who string) {
		t.Helper()
		if _, err := w.s.DB().Exec("UPDATE report_version SET by = $1", who); err != nil {
			t.Fatal(err)
		}
	}
	said := func() string {
		t.Helper()
		_, page := w.get(kase + "/report")
		m := regexp.MustCompile(`name="said" value="([0-9a-f]{64})"`).FindStringSubmatch(page)
		if m == nil {
			t.Fatal("the page does not offer that it is accepted")
		}
		return m[1]
	}
	wrote("somebody else")
	read := said()
	wrote(by)
	if code, page := w.post(kase+"/report/accept", "version", fmt.Sprint(version()), "said", read); code != http.StatusConflict || !strings.Contains(page, "nobody reviews their own") {
		t.Errorf("who wrote it accepts it: %d", code)
	}
	wrote("somebody else")
	step("return", http.StatusOK, "note", "say when")
	step("accept", http.StatusConflict, "said", read) // what was returned
	as("examiner")
	step("submit", http.StatusOK)
	as("reviewer")
	step("accept", http.StatusConflict, "said", strings.Repeat("0", 64)) // of what was read before something changed
	step("accept", http.StatusOK, "said", said())
	step("sign", http.StatusForbidden)
	as("examiner")
	if _, err := w.s.DB().Exec("DELETE FROM mark"); err != nil {
		t.Fatal(err)
	}
	if _, page := w.get(kase + "/report"); !strings.Contains(page, "is not among the marked records any more") {
		t.Error("a finding rests on nothing, and the report does not say so")
	}
	step("sign", http.StatusConflict)
	if code, _ := w.post(fmt.Sprintf("%s/examine/mark/%d", kase, r.ID), "reason", "because", "back", ""); code != http.StatusOK {
		t.Fatal(code)
	}
	step("sign", http.StatusConflict) // it is marked at another time: that is not what was accepted
	if _, page := w.get(kase + "/report"); !strings.Contains(page, "has changed since it was accepted") {
		t.Error("the page does not say that what was accepted has changed")
	}
	step("submit", http.StatusOK)
	as("reviewer")
	name, _, _ := strings.Cut(by, " (")
	if _, err := w.s.DB().Exec("UPDATE examiner SET name = 'Another' WHERE name = $1", name); err != nil { // who looks at it is no part of it
		t.Fatal(err)
	}
	step("accept", http.StatusOK, "said", said())
	as("examiner")
	if _, err := w.s.DB().Exec("UPDATE examiner SET name = $1 WHERE name = 'Another'", name); err != nil {
		t.Fatal(err)
	}
	take := func(format, recipient string) (int, string) {
		return w.post(kase+"/report/take", "version", fmt.Sprint(version()), "format", format, "recipient", recipient)
	}
	if code, page := take("pdf", "The Court"); code != http.StatusBadRequest || !strings.Contains(page, "cannot be set as PDF here") {
		t.Errorf("without a typesetter: %d", code)
	}
	w.app.Press = setter()
	signer, err := press.OpenSigner(filepath.Join(t.TempDir(), "pdf.pem"), storetest.Key)
	if err != nil {
		t.Fatal(err)
	}
	w.app.Signer = signer
	step("sign", http.StatusOK)
	if code, b := take("html", "The Court"); code != http.StatusOK || !strings.Contains(b, `<section class="record`) {
		t.Errorf("taken out as a page: %d", code)
	}
	if code, _ := take("html", " "); code != http.StatusBadRequest {
		t.Errorf("taken out for nobody: %d", code)
	}
	signed := fmt.Sprintf("%s/report/signed/%d", kase, version())
	code, was := w.get(signed)
	if code != http.StatusOK || !strings.Contains(was, "Signed by ") || !strings.Contains(was, "Reviewed and accepted by") || strings.Contains(was, "<form") {
		t.Fatalf("the signed report: %d", code)
	}
	if _, page := w.get(kase + "/report"); !strings.Contains(page, "Signed by ") || !strings.Contains(page, "for <bdi>The Court</bdi>") {
		t.Error("the page does not say that it is signed, or who has it")
	}
	// The same as PDF, which a program of others reads.
	code, pdf := w.get(signed + "?as=pdf")
	path := filepath.Join(t.TempDir(), "signed.pdf")
	os.WriteFile(path, []byte(pdf), 0o600)
	sig, _ := exec.Command("pdfsig", path).CombinedOutput()
	if !bytes.Contains(sig, []byte("Signature is Valid")) {
		t.Errorf("its signature: %s", sig)
	}
	text, err := exec.Command("pdftotext", path, "-").CombinedOutput()
	if list, _ := exec.Command("pdfdetach", "-list", path).CombinedOutput(); code != http.StatusOK || err != nil || !bytes.Contains(text, []byte("Signed by ")) || !bytes.Contains(text, []byte("1. Summary")) || !bytes.Contains(list, []byte("-acquisition-1.sha256")) {
		t.Errorf("the signed PDF: %d, %v: %s: %s", code, err, text, list)
	}
	if _, err := w.s.DB().Exec("UPDATE mark SET reason = 'another'"); err != nil {
		t.Fatal(err)
	}
	if _, page := w.get(kase + "/report"); strings.Contains(page, ". Signed by ") || !strings.Contains(page, "this is not what it said then") {
		t.Error("what has changed since is said to be signed")
	}
	compose(http.StatusOK, "do", "summary", "summary", "another")
	if _, again := w.get(signed); again != was {
		t.Error("what was signed is another now")
	}
	if code, _ := w.get(fmt.Sprintf("%s/report/signed/%d", kase, version())); code != http.StatusNotFound {
		t.Errorf("what was not signed is handed out: %d", code)
	}
	// The ledger says what was written, and by whom: it was not somebody else.
	alarms := func() (n int) {
		t.Helper()
		found, err := w.s.Audit(ctx, w.cs)
		for _, a := range found {
			if strings.HasSuffix(a.About, "of the report") {
				n++
			}
		}
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	if n := alarms(); n != int(version())-1 {
		t.Errorf("%d versions are not as the ledger says", n)
	}
	if _, err := w.s.DB().Exec("UPDATE report_version SET by = $1", by); err != nil || alarms() != 0 {
		t.Errorf("%d versions are not as the ledger says, %v", alarms(), err)
	}
	if _, err := w.s.DB().Exec("UPDATE report_step SET page = page || 'x' WHERE what = 'signed'"); err != nil {
		t.Fatal(err)
	}
	if code, _ := w.get(signed); code != http.StatusInternalServerError {
		t.Errorf("a signed report with other bytes is handed out: %d", code)
	}
	if _, err := w.s.DB().Exec("UPDATE report_step SET pdf_sha256 = '' WHERE what = 'signed'"); err != nil || alarms() != 1 {
		t.Errorf("a PDF that is not the ledger's: %d alarms, %v", alarms(), err)
	}
	if _, err := w.s.DB().Exec("UPDATE cases SET scope_epoch = scope_epoch + 1"); err != nil {
		t.Fatal(err)
	}
	if code, _ := w.get(signed); code != http.StatusForbidden {
		t.Errorf("a report that was signed under other authorities is handed out: %d", code)
	}
}

// What is redacted is nowhere in the bytes of the redacted version, as page and as PDF, nor in the ledger; the full one and
// the log have it. qpdf and poppler take the PDF apart.
func TestWhatIsRedactedIsGone(t *testing.T) {
	t.Parallel()
	w := newSite(t)
	w.app.Press = setter()
	const secret = "Zanzibar 441"
	r := w.record()
	if _, err := w.s.DB().Exec("UPDATE record SET summary = $1, person = 'Quillfeather', handle = '+447700900417', thread_title = 'about ZANZIBAR  441' WHERE id = $2", secret+" lies there", r.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := w.s.DB().Exec("UPDATE record_whole SET body = jsonb_set(body::jsonb, '{text}', to_jsonb($1::text))::text WHERE record_id = $2", secret+" lies there", r.ID); err != nil {
		t.Fatal(err)
	}
	if code, _ := w.post(fmt.Sprintf("%s/examine/mark/%d", kase, r.ID), "reason", "of zanzibar 441", "back", ""); code != http.StatusOK {
		t.Fatal(code)
	}
	version := 0
	compose := func(want int, pairs ...string) {
		t.Helper()
		code, page := w.post(kase+"/report/compose", append([]string{"version", fmt.Sprint(version)}, pairs...)...)
		if code != want {
			t.Fatalf("%.80q: %d: %s", pairs, code, page)
		}
		if want == http.StatusOK {
			version++
		}
	}
	compose(http.StatusOK, "do", "summary", "summary", "The key to Zánzibar 441 was found by Quillfeather, 07700 900 417.")
	for _, bad := range [][]string{{"kind", "thing", "value", "x"}, {"kind", "words", "value", " "}, {"kind", "words", "value", "x", "reason", " "}} {
		compose(http.StatusBadRequest, append([]string{"do", "redact"}, bad...)...)
	}
	take := func(format, of string) []byte {
		t.Helper()
		code, b := w.post(kase+"/report/take", "version", fmt.Sprint(version), "format", format, "of", of, "recipient", "The Court")
		if code != http.StatusOK {
			t.Fatalf("%s, %s: %d: %s", format, of, code, b)
		}
		return []byte(b)
	}
	compose(http.StatusOK, "do", "redact", "kind", "words", "value", secret, "reason", "a place of safety")
	compose(http.StatusOK, "do", "redact", "kind", "words", "value", "quillfeather", "reason", "a minor")
	compose(http.StatusOK, "do", "redact", "kind", "words", "value", "+44 7700 900417", "reason", "a minor's number")
	compose(http.StatusBadRequest, "do", "redact", "kind", "words", "value", "quillfeather", "reason", "again")
	if code, _ := w.post(kase+"/report/take", "version", fmt.Sprint(version), "format", "html", "recipient", "The Court"); code != http.StatusBadRequest {
		t.Errorf("neither full nor redacted: %d", code)
	}
	all := func(format string, b []byte) string { return allOf(t, format, b) }
	_, page := w.get(kase + "/report?version-of=redacted")
	page = page[strings.Index(page, `<article class="report`):strings.Index(page, "</article>")]
	for name, said := range map[string]string{"page": strings.ToLower(page), "html": all("html", take("html", "redacted")), "pdf": all("pdf", take("pdf", "redacted"))} {
		for _, gone := range []string{"zanzibar", "zánzibar", "quillfeather", "900417", "900 417", "5a0061006e007a"} {
			if strings.Contains(said, gone) {
				t.Errorf("%s: %q is still there", name, gone)
			}
		}
		for _, there := range []string{"redacted version", "[redacted 1]", "a place of safety", "lies there"} {
			if !strings.Contains(said, there) {
				t.Errorf("%s: %q is not there", name, there)
			}
		}
	}
	for _, format := range []string{"html", "pdf"} {
		if said := all(format, take(format, "full")); !strings.Contains(said, "full version") || !strings.Contains(said, "zanzibar 441") || strings.Contains(said, "[redacted") {
			t.Errorf("%s: the full version is not full", format)
		}
	}
	for _, format := range []string{"jsonl", "pdf"} { // of all records, from Examine
		said := map[string]string{}
		for _, of := range []string{"", "full", "redacted"} {
			code, b := w.post(kase+"/examine/take", "format", format, "of", of, "recipient", "The Court")
			if (code == http.StatusOK) == (of == "") {
				t.Fatalf("%s of the %q version: %d", format, of, code)
			}
			if of != "" {
				said[of] = all(format, []byte(b))
			}
		}
		if full, redacted := said["full"], said["redacted"]; !strings.Contains(full, "zanzibar 441 lies there") || strings.Contains(full, "[redacted") || strings.Contains(redacted, "zanzibar") || strings.Contains(redacted, "900417") || !strings.Contains(redacted, "[redacted 1] lies there") {
			t.Errorf("records as %s: %.2000s", format, redacted)
		}
	}
	code, log := w.post(kase+"/report/redactions", "version", fmt.Sprint(version))
	if code != http.StatusOK || !strings.Contains(log, `"reason":"a place of safety","part":"Marked records","record":1,"words":"Zanzibar 441"`) || !strings.Contains(log, "Zánzibar 441") {
		t.Errorf("the log: %d: %s", code, log)
	}
	var book string
	if err := w.s.DB().QueryRow("SELECT string_agg(convert_from(line, 'UTF8'), ' ') FROM ledger WHERE convert_from(line, 'UTF8') NOT LIKE '%record.marked%'").Scan(&book); err != nil || strings.Contains(strings.ToLower(book), "zanzibar") || strings.Contains(book, "uillfeather") {
		t.Errorf("the ledger has what is redacted, %v", err)
	}
	compose(http.StatusOK, "do", "show", "redaction", "2")
	if said := all("html", take("html", "redacted")); !strings.Contains(said, "quillfeather") || strings.Contains(said, "zanzibar") {
		t.Error("a redaction that was taken back")
	}
}

// allOf is what a file says, and all of its bytes, in lower case, with the streams of a PDF as they are unpacked.
func allOf(t *testing.T, format string, b []byte) string {
	t.Helper()
	if format != "pdf" {
		return strings.ToLower(string(b))
	}
	path := filepath.Join(t.TempDir(), "r.pdf")
	os.WriteFile(path, b, 0o600)
	text, err := exec.Command("pdftotext", path, "-").Output()
	if err != nil {
		t.Fatal(err)
	}
	info, _ := exec.Command("pdfinfo", path).Output()
	out, err := exec.Command("qpdf", "--qdf", path, "-").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.ToLower(strings.Join(strings.Fields(string(text)), " ") + string(info) + string(out))
}

// A record that is redacted leaves Examine from no source: another one of its exhibit that has it would tell it as well.
func TestARedactedRecordLeavesFromNoSource(t *testing.T) {
	t.Parallel()
	w := newSite(t)
	w.evidence(w.vault)
	r := w.record()
	if code, _ := w.post(fmt.Sprintf("%s/examine/mark/%d", kase, r.ID), "reason", "because", "back", ""); code != http.StatusOK {
		t.Fatal(code)
	}
	key := fmt.Sprintf("%s/%d/%s", r.ExhibitRef, r.AcqNo, r.UID)
	if code, page := w.post(kase+"/report/compose", "version", "0", "do", "redact", "kind", "record", "value", key, "reason", "privileged"); code != http.StatusOK {
		t.Fatal(code, page)
	}
	for of, want := range map[string]int{"full": 2, "redacted": 0} {
		if _, b := w.post(kase+"/examine/take", "format", "jsonl", "of", of, "recipient", "The Court"); strings.Count(b, `"kind":"message"`) != want {
			t.Errorf("%s: %.1000s", of, b)
		}
	}
}

// What is redacted is in no file of a redacted package, which holds, and names nobody. It is not handed out when a record that it
// speaks of is withheld by then.
func TestRedactedPackage(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	w := newScene(t, marked(t))
	w.recover(true)
	rs, _, err := w.s.Records(ctx, store.Filter{CaseID: w.cs.ID}, store.After{}, 2)
	if err != nil || len(rs) != 2 {
		t.Fatal(rs, err)
	}
	secret := strings.Fields(rs[0].Summary)[0]
	for _, r := range rs {
		w.post(fmt.Sprintf("/case/T-1/examine/mark/%d", r.ID), "reason", "it speaks of "+secret, "back", "")
	}
	if _, err := w.s.DB().Exec("UPDATE cases SET title = $1", "The "+secret+" inheritance"); err != nil {
		t.Fatal(err)
	}
	mk := &report.Maker{Store: w.s, Evidence: w.app.Evidence, Reader: &recovery.Recoverer{Store: w.s, Vault: w.app.Acquirer.Vault, Tool: "test"}, Tool: "test", Dir: w.app.Packages, Key: storetest.Key, Press: w.app.Press}
	w.bench.Stop()
	w.bench = runtest.Start(t, w.s, w.cs, map[string]run.Job{"package": mk.Package}, io.Discard)
	redact := func(version, words, reason string) {
		t.Helper()
		if code, page := w.post("/case/T-1/report/compose", "version", version, "do", "redact", "kind", "words", "value", words, "reason", reason); code != http.StatusOK {
			t.Fatal(code, page)
		}
	}
	made := func(of string) *store.Run {
		t.Helper()
		w.post("/case/T-1/report/package", "of", of)
		runs, err := w.s.Runs(ctx, w.cs.ID, "package", 1)
		if err != nil || len(runs) != 1 {
			t.Fatal(runs, err)
		}
		return w.bench.Wait(runs[0].ID)
	}
	redact("0", secret, "a place of safety")
	if code, _ := w.post("/case/T-1/report/package"); code != http.StatusBadRequest {
		t.Errorf("a package neither full nor redacted: %d", code)
	}
	for _, of := range []string{"full", "redacted"} {
		if r := made(of); r.State != "done" {
			t.Fatalf("%s: %s", r.State, r.Error)
		}
	}
	packed, err := w.s.Packages(ctx, w.cs.ID)
	if err != nil || len(packed) != 2 || !strings.HasSuffix(packed[0].Name, "-redacted.zip") || !strings.HasSuffix(packed[1].Name, "-full.zip") {
		t.Fatal(packed, err)
	}
	at := fmt.Sprintf("/case/T-1/report/package/%d", packed[0].ID)
	code, b := w.get(at)
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if code != http.StatusOK || err != nil || len(z.File) < 3+8 {
		t.Fatal(code, err, z)
	}
	for _, e := range z.File {
		in, _ := e.Open()
		c, _ := io.ReadAll(in)
		said := allOf(t, strings.TrimPrefix(filepath.Ext(e.Name), "."), c)
		if strings.Contains(said, strings.ToLower(secret)) {
			t.Errorf("%s: %q is still there", e.Name, secret)
		}
		if strings.HasSuffix(e.Name, "bag-info.txt") && (!strings.Contains(said, "external-description: the [redacted 1] inheritance") || !strings.Contains(said, "contact-name: test\n")) {
			t.Errorf("%s", c)
		}
	}
	if _, err := w.s.DB().Exec("UPDATE package SET records = records || 999999::bigint"); err != nil {
		t.Fatal(err)
	}
	if code, _ := w.get(at); code != http.StatusForbidden {
		t.Errorf("a package of a record that is withheld now: %d", code)
	}
	redact("1", "T-1", "another case")
	if r := made("redacted"); r.State != "failed" || !strings.Contains(r.Error, "the reference of the case holds what is redacted") {
		t.Errorf("%s: %s", r.State, r.Error)
	}
}

// A region of a picture is painted over in the bytes that leave; the full version has the picture as it was decoded.
func TestARegionOfAPictureIsGone(t *testing.T) {
	t.Parallel()
	w := newSite(t)
	w.app.Previews = &preview.Maker{Dir: t.TempDir(), Command: []string{"/bin/cat"}, Log: slog.New(slog.DiscardHandler)}
	shot := image.NewRGBA(image.Rect(0, 0, 100, 50))
	draw.Draw(shot, shot.Bounds(), image.NewUniform(color.RGBA{200, 40, 40, 255}), image.Point{}, draw.Src)
	var b bytes.Buffer
	if err := png.Encode(&b, shot); err != nil {
		t.Fatal(err)
	}
	if code, page := w.photograph("014-A", "front.png", b.Bytes()); code != http.StatusOK {
		t.Fatal(code, page)
	}
	sum := fmt.Sprintf("%x", sha256.Sum256(b.Bytes()))
	redact := func(x string) int {
		code, _ := w.post(kase+"/report/compose", "version", "0", "do", "redact", "kind", "region", "value", sum, "x", x, "y", "20", "width", "30", "height", "40", "reason", "a face")
		return code
	}
	for _, bad := range []string{"", "-1", "80", "NaN", "1e99"} {
		if code := redact(bad); code != http.StatusBadRequest {
			t.Errorf("from %q: %d", bad, code)
		}
	}
	if code := redact("10"); code != http.StatusOK {
		t.Fatal(code)
	}
	shown := func(page string) image.Image {
		t.Helper()
		m := regexp.MustCompile(`<img src="data:image/png;base64,([^"]+)"`).FindStringSubmatch(page)
		if m == nil {
			t.Fatal("there is no picture")
		}
		raw, err := base64.StdEncoding.DecodeString(html.UnescapeString(m[1]))
		if err != nil {
			t.Fatal(err)
		}
		out, err := png.Decode(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	take := func(of string) string {
		code, page := w.post(kase+"/report/take", "version", "1", "format", "html", "of", of, "recipient", "The Court")
		if code != http.StatusOK {
			t.Fatal(code, page)
		}
		return page
	}
	_, onPage := w.get(kase + "/report?version-of=redacted")
	for name, x := range map[string]image.Image{"taken out": shown(take("redacted")), "on the page": shown(onPage)} {
		for _, p := range []image.Point{{10, 10}, {39, 29}, {25, 20}} {
			if r, g, bl, _ := x.At(p.X, p.Y).RGBA(); r+g+bl != 0 {
				t.Errorf("%s: the pixel at %v is there", name, p)
			}
		}
		if r, _, _, _ := x.At(50, 40).RGBA(); r>>8 != 200 {
			t.Errorf("%s: what is not redacted is gone", name)
		}
	}
	if r, _, _, _ := shown(take("full")).At(25, 20).RGBA(); r>>8 != 200 {
		t.Error("the full version is not full")
	}
	if page := take("redacted"); !strings.Contains(page, "[redacted 1]") || strings.Contains(page, base64.StdEncoding.EncodeToString(b.Bytes())) ||
		strings.Contains(strings.ReplaceAll(page, " ", ""), sum) || strings.Contains(page, fmt.Sprintf("%d bytes", b.Len())) {
		t.Error("the redacted version has the picture as it was, its digest or its length, or does not say so")
	}
}
