package acquire

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"
	service "crosswind/internal/cloud"
	"crosswind/internal/run"
	"crosswind/internal/run/runtest"
	"crosswind/internal/standin/cloud"
	"crosswind/internal/standin/democase"
	"crosswind/internal/store"

	"github.com/emersion/go-ical"
	"github.com/emersion/go-vcard"
	"github.com/pquerna/otp/totp"
)

// RFC 6238 appendix B, SHA-1 (values from memory), its secret being "12345678901234567890": the codes
// by which the stand-in knows its owner. The RFC's have 8 digits; its last 6 are
// those of a code of 6.
func TestOneTimeCodes(t *testing.T) {
	const secret = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"
	for at, want := range map[int64]string{59: "94287082", 1111111109: "07081804", 1111111111: "14050471", 1234567890: "89005924", 2000000000: "69279037", 20000000000: "65353130"} {
		got, err := totp.GenerateCode(secret, time.Unix(at, 0))
		if err != nil || got != want[2:] {
			t.Errorf("%d: %s, %v; want %s", at, got, err, want[2:])
		}
	}
}

type cloudBench struct {
	*bench
	a   cloud.Account
	srv *httptest.Server
	log *bytes.Buffer
}

func newCloudBench(t *testing.T) *cloudBench {
	b := &cloudBench{bench: newBench(t), log: &bytes.Buffer{}}
	dir, err := demo()
	if err != nil {
		t.Fatal(err)
	}
	if b.a, err = democase.Account(dir, true); err != nil {
		t.Fatal(err)
	}
	b.srv = httptest.NewServer(cloud.New(b.a).Handler())
	t.Cleanup(b.srv.Close)
	b.q.Service = b.srv.URL
	b.Stop()
	b.Bench = runtest.Start(t, b.s, b.c, map[string]run.Job{"acquire cloud": b.q.Cloud, "verify": b.q.Verify}, b.log)
	return b
}

func (b *cloudBench) fault(what string, n int) {
	b.t.Helper()
	res, err := http.PostForm(b.srv.URL+"/fault/"+what, url.Values{"n": {fmt.Sprint(n)}})
	if err != nil {
		b.t.Fatal(err)
	}
	res.Body.Close()
}

// signIn signs in and gives the code and the token that were used.
func (b *cloudBench) signIn() (code, token string) {
	b.t.Helper()
	code, err := totp.GenerateCode(b.a.Secret, time.Now())
	if err != nil {
		b.t.Fatal(err)
	}
	token, err = service.Service{Address: b.srv.URL}.SignIn(context.Background(), b.a.Name, b.a.Password, code)
	if err != nil {
		b.t.Fatal(err)
	}
	b.q.Keys.HoldToken(b.e.ID, "tester", token)
	return code, token
}

func (b *cloudBench) subject(i int) CloudSubject {
	s := b.a.Snapshots[i].Snapshot
	return CloudSubject{Exhibit: b.e.ID, Reference: b.e.Reference, Service: b.srv.URL, Account: b.a.Name, Snapshot: &s, Choice: Choice{Kinds: record.Kinds(), Others: true}}
}

// Busy, down, dropped lines and corrupted chunks: the snapshot is whole in the
// end, and what was corrupted is told.
func TestSnapshotOverABadLine(t *testing.T) {
	b := newCloudBench(t)
	for _, wrong := range [][3]string{{b.a.Name, b.a.Password, "000000"}, {b.a.Name, "x", ""}, {"other@example.org", b.a.Password, ""}} {
		if _, err := (service.Service{Address: b.srv.URL}).SignIn(context.Background(), wrong[0], wrong[1], wrong[2]); !errors.Is(err, service.ErrSignIn) {
			t.Errorf("%v: %v", wrong, err)
		}
	}
	if r := b.Do("acquire cloud", b.subject(2)); r.State != "failed" || !strings.Contains(r.Error, "sign in again") {
		t.Errorf("without a token: %s: %s", r.State, r.Error)
	}
	b.signIn()
	for what, n := range map[string]int{"busy": 1, "down": 2, "drop": 3, "corrupt": 2} {
		b.fault(what, n)
	}
	began := time.Now()
	r := b.Do("acquire cloud", b.subject(2))
	if r.State != "done" || time.Since(began) < time.Second { // as long as the service said
		t.Fatalf("%s: %s after %v", r.State, r.Error, time.Since(began))
	}
	a := b.newest()
	if want := sums(t, b.a.Snapshots[2].Dir); a.Manifest != want || strings.Count(b.faults(a), "came corrupted") == 0 {
		t.Errorf("%+v, want %s, faults %s", a, want, b.faults(a))
	}
	if b.q.Keys.Token(b.e.ID, "tester") != "" {
		t.Error("the token is kept after the last run")
	}
	check := VerifySubject{Exhibit: b.e.ID, Acquisition: a.ID, Name: "x", Against: "source"}
	if r := b.Do("verify", check); r.State != "failed" || !strings.Contains(r.Error, "is not signed in") {
		t.Errorf("%s: %s", r.State, r.Error)
	}
	b.signIn()
	b.againstSource(a, 0)
	// A sign-in serves who made it.
	if b.q.Keys.Token(b.e.ID, "somebody else") != "" {
		t.Error("a sign-in serves somebody else")
	}
}

// The line drops at ten random bytes, and the snapshot is whole all the same.
func TestLineOfCloudDroppedAnywhere(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	b := newCloudBench(t)
	want, size := sums(t, b.a.Snapshots[0].Dir), treeSize(t, b.a.Snapshots[0].Dir)
	for range 10 {
		b.signIn()
		b.fault("cut", 1+int(r.Int64N(size)))
		run := b.Do("acquire cloud", b.subject(0))
		if run.State != "done" || b.newest().Manifest != want || !strings.Contains(strings.Join(run.Log, " "), "asked again") {
			t.Fatalf("seed %d: %s: %s\n%s", seed, run.State, run.Error, strings.Join(run.Log, "\n"))
		}
	}
}

// A token that expires on the way: after signing in again the run goes on, and
// ends the same.
func TestTokenThatExpires(t *testing.T) {
	b := newCloudBench(t)
	for _, after := range []int{0, 1, 3, 9, 20} {
		b.signIn()
		b.fault("expire", after)
		r := b.Do("acquire cloud", b.subject(1))
		if r.State != "failed" || b.q.Keys.Token(b.e.ID, "tester") != "" {
			t.Fatalf("%d: %s: %s", after, r.State, r.Error)
		}
		b.signIn()
		if r = b.resume(r); r.State != "done" || b.newest().Manifest != sums(t, b.a.Snapshots[1].Dir) {
			t.Errorf("%d: %s: %s", after, r.State, r.Error)
		}
	}
}

// The version from before the evening has what the later one lacks, as readers of
// iCalendar and vCard see them; and no secret is left anywhere.
func TestEarlierVersionsAndSecrets(t *testing.T) {
	b := newCloudBench(t)
	code, token := b.signIn()
	sub := b.subject(0)
	sub.Snapshot = nil
	for _, v := range b.a.Versions {
		sub.Versions = append(sub.Versions, v.Version)
	}
	if r := b.Do("acquire cloud", sub); r.State != "done" {
		t.Fatalf("%s: %s", r.State, r.Error)
	}
	a := b.newest()
	entries := map[string]int{}
	for f, err := range b.s.AllFiles(context.Background(), a.ID, store.Source) {
		if err != nil {
			t.Fatal(err)
		}
		blob, err := b.q.Vault.Open(f.SHA256)
		if err != nil {
			t.Fatal(err)
		}
		defer blob.Close()
		if strings.HasSuffix(f.Path, ".ics") {
			cal, err := ical.NewDecoder(blob).Decode()
			if err != nil {
				t.Fatal(err)
			}
			entries[f.Path] = len(cal.Events())
			continue
		}
		for d := vcard.NewDecoder(blob); ; entries[f.Path]++ {
			if _, err := d.Decode(); err != nil {
				break
			}
		}
	}
	want := map[string]int{"calendar/Own calendar 2026-09-10T210400Z.ics": 5, "calendar/Own calendar 2026-09-12T060200Z.ics": 3, "contacts/Contacts 2026-09-10T210400Z.vcf": 8, "contacts/Contacts 2026-09-12T060200Z.vcf": 7}
	if fmt.Sprint(entries) != fmt.Sprint(want) {
		t.Errorf("%v", entries)
	}

	var name string
	if err := b.s.DB().QueryRow("SELECT current_database()").Scan(&name); err != nil {
		t.Fatal(err)
	}
	admin := os.Getenv("CROSSWIND_TEST_DATABASE")
	dump, err := exec.Command("pg_dump", "--inserts", admin[:strings.LastIndex(admin, "/")+1]+name).Output()
	if err != nil || len(dump) < 10000 {
		t.Fatal(err)
	}
	args, err := exec.Command("ps", "-eo", "args").Output()
	if err != nil {
		t.Fatal(err)
	}
	places := map[string][]byte{"the database": dump, "the log": b.log.Bytes(), "process arguments": args}
	err = filepath.WalkDir(filepath.Join(b.dir, "vault"), func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			places[p], err = os.ReadFile(p)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for what, secret := range map[string]string{"password": b.a.Password, "token": token, "code": "\"" + code + "\""} {
		for where, in := range places {
			if bytes.Contains(in, []byte(secret)) {
				t.Errorf("%s holds the %s", where, what)
			}
		}
	}
}
