package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"crosswind/internal/password"
	"crosswind/internal/store"
	"crosswind/internal/store/storetest"
)

// binary is the command, built once.
var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "crosswind")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "crosswind")
	if out, err := exec.Command("go", "build", "-o", binary, ".").CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func command(t *testing.T, dir string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Dir = dir
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	if _, ok := err.(*exec.ExitError); err != nil && !ok {
		t.Fatal(err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

func TestHash(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"abc": "abc", "sub/odd name": "", "sub/back\\slash": "x"} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	out, _, code := command(t, dir, "hash", "--all", "abc", "sub")
	if code != 0 || !strings.Contains(out, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad  abc\n") { // FIPS 180-4 example
		t.Errorf("%d\n%s", code, out)
	}
	if err := os.WriteFile(filepath.Join(dir, "sums.sha256"), []byte(out), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"abc.md5", "abc.sha1", "sub.md5", "sub.sha1", "sums.sha256"} {
		program := strings.TrimPrefix(filepath.Ext(name), ".") + "sum"
		cmd := exec.Command(program, "-c", "--strict", name)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%s -c %s: %v\n%s", program, name, err, out)
		}
	}
	if _, stderr, code := command(t, dir, "hash", "--all", "abc"); code != 1 || !strings.Contains(stderr, "abc.md5") {
		t.Errorf("a file was written over: %d, %s", code, stderr)
	}
	if _, stderr, code := command(t, dir, "hash", "nothing"); code != 1 || !strings.Contains(stderr, "nothing") {
		t.Errorf("a missing file: %d, %s", code, stderr)
	}
}

// fieldMaps gives the blocks of docs/fieldmaps.md.
func fieldMaps(t *testing.T) []string {
	t.Helper()
	page, err := os.ReadFile("../../docs/fieldmaps.md")
	if err != nil {
		t.Fatal(err)
	}
	return strings.Split(string(page), "```")
}

// habitsMap is the whole map that the page shows.
func habitsMap(t *testing.T) string { return strings.TrimPrefix(fieldMaps(t)[3], "toml\n") }

// What docs/fieldmaps.md says of its map is what the command says.
func TestMapCheck(t *testing.T) {
	blocks := fieldMaps(t)
	dir := t.TempDir()
	cmd := exec.Command("sqlite3", filepath.Join(dir, "habits.db"))
	cmd.Stdin = strings.NewReader(strings.TrimPrefix(blocks[1], "sql"))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if err := os.WriteFile(filepath.Join(dir, "habits.toml"), []byte(habitsMap(t)), 0o644); err != nil {
		t.Fatal(err)
	}
	out, stderr, code := command(t, dir, "map", "check", "habits.toml", "habits.db")
	if _, after, _ := strings.Cut(out, "\n"); code != 0 || stderr != "" || after != blocks[5] {
		t.Errorf("%d %s\n%s", code, stderr, out)
	}
	os.WriteFile(filepath.Join(dir, "other.toml"), []byte(strings.Replace(habitsMap(t), `value = "owner"`, `value = "who"`, 1)), 0o644)
	if _, stderr, code = command(t, dir, "map", "check", "other.toml", "habits.db"); code == 0 || !strings.Contains(stderr, `other.toml, line 19: the table "habit" has no column "who"`) {
		t.Errorf("%d %s", code, stderr)
	}
}

func TestRecover(t *testing.T) {
	dir := t.TempDir()
	cmd := exec.Command("sqlite3", filepath.Join(dir, "msg.db"))
	cmd.Stdin = strings.NewReader("PRAGMA secure_delete=0; CREATE TABLE message(id INTEGER PRIMARY KEY, sent_at REAL, body TEXT, raw BLOB); INSERT INTO message VALUES (1, 1.5, 'kept', x'00ff'), (2, 2.5, 'thrown away', x'01'), (3, 1e400, 'last', NULL); DELETE FROM message WHERE id=2;")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	out, stderr, code := command(t, dir, "recover", "--json", "--live", "msg.db")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	if code != 0 || len(lines) != 3 || stderr != "" {
		t.Fatalf("%d %s\n%s", code, stderr, out)
	}
	for _, l := range lines {
		var row struct {
			Values map[string]json.RawMessage
			State  string
			Origin string
		}
		if err := json.Unmarshal([]byte(l), &row); err != nil {
			t.Errorf("%s: %v", l, err)
		}
	}
	if !regexp.MustCompile(`"rowid":null,"values":\{"sent_at":2.5,"body":"thrown away","raw":\{"base64":"AQ=="\}\},"lost":\["id"\],"state":"recovered","origin":"freeblock","file":"msg.db","page":2`).MatchString(lines[2]) {
		t.Error(lines[2])
	}
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 1 {
		t.Errorf("recover left %d files, %v", len(entries), err)
	}
	if err := os.WriteFile(filepath.Join(dir, "text"), bytes.Repeat([]byte("no database "), 99), 0o644); err != nil {
		t.Fatal(err)
	}
	for args, want := range map[string]int{"recover --json text": 1, "recover --json none": 1, "recover msg.db": 2, "recover --json": 2, "recover --nonsense": 2, "nonsense": 2, "verify text": 1, "--help": 0, "recover --help": 0, "serve": 2} {
		if _, stderr, code := command(t, dir, strings.Fields(args)...); code != want || code != 0 && strings.Count(stderr, "\n") != 1 {
			t.Errorf("crosswind %s: exit %d, want %d; %q", args, code, want, stderr)
		}
	}
}

// What is not to be had is named in one line, and nothing starts.
func TestServeRefusesClearly(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "file")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ database, data, want string }{
		{"postgres://nobody@127.0.0.1:1/none", dir, "cannot be reached"},
		{"postgres://nobody@127.0.0.1:1/none", filepath.Join(file, "x"), "the vault"},
	} {
		_, stderr, code := command(t, dir, "serve", "--database", c.database, "--data", c.data)
		if code != 1 || !strings.Contains(stderr, c.want) {
			t.Errorf("%d %s", code, stderr)
		}
	}
}

// The first examiner is made by a link that works once.
func TestFirstExaminer(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	admin, data := storetest.URL(t), t.TempDir()
	// As the database's owner it does not start, and without a schema neither.
	if _, stderr, code := command(t, data, "serve", "--database", admin, "--data", data); code != 1 || !strings.Contains(stderr, "crosswind migrate") {
		t.Errorf("%d %s", code, stderr)
	}
	app, err := store.Prepare(ctx, admin)
	if err != nil {
		t.Fatal(err)
	}
	if _, stderr, code := command(t, data, "serve", "--database", admin, "--data", data); code != 1 || !strings.Contains(stderr, "could rewrite the ledger") || !strings.Contains(stderr, "--as-owner") {
		t.Errorf("%d %s", code, stderr)
	}
	cmd := exec.CommandContext(ctx, binary, "serve", "--listen", "127.0.0.1:0", "--data", data)
	cmd.Env = append(os.Environ(), "CROSSWIND_DATABASE="+app)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cancel(); cmd.Wait() })
	link := ""
	for sc := bufio.NewScanner(out); link == "" && sc.Scan(); {
		if i := strings.Index(sc.Text(), "http://"); i >= 0 {
			link = sc.Text()[i:]
		}
	}
	u, err := url.Parse(link)
	if err != nil || u.Query().Get("token") == "" {
		t.Fatalf("%q %v", link, err)
	}
	make := func(token, login string) int {
		res, err := http.PostForm("http://"+u.Host+"/first-examiner", url.Values{"token": {token}, "login": {login}, "name": {"N"}, "password": {"long enough"}})
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		return res.StatusCode
	}
	for i, c := range []struct {
		token, login string
		want         int
	}{{"wrong", "a", 422}, {u.Query().Get("token"), "", 422}, {u.Query().Get("token"), "a", 200}, {u.Query().Get("token"), "b", 422}} {
		if got := make(c.token, c.login); got != c.want {
			t.Errorf("try %d: %d, want %d", i+1, got, c.want)
		}
	}
	res, err := http.Get(fmt.Sprintf("http://%s/", u.Host))
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if b, _ := io.ReadAll(res.Body); !strings.Contains(string(b), "Sign in") {
		t.Error("a page was shown to somebody who had not signed in")
	}
}

// Further accounts are made by a command, which refuses what no account can be, and does not show the password.
func TestAccount(t *testing.T) {
	dir := t.TempDir()
	database, err := store.Prepare(t.Context(), storetest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "password")
	for _, x := range []struct {
		secret, role, login string
		code                int
		says                string
	}{
		{"short", "reviewer", "r", 1, "10 characters"}, {"lens-and-lead", "owner", "r", 2, "owner"}, {"lens-and-lead", "reviewer", " ", 2, "sign-in"},
		{"lens-and-lead\nmore", "reviewer", "r", 0, "may sign in as reviewer"}, {"lens-and-lead", "custodian", "r", 1, "in use already"},
	} {
		if err := os.WriteFile(file, []byte(x.secret), 0o600); err != nil {
			t.Fatal(err)
		}
		out, said, code := command(t, dir, "account", "--database", database, "--role", x.role, "--password-file", file, x.login, "B. Lund")
		if code != x.code || !strings.Contains(out+said, x.says) || strings.Contains(out+said, "lens-and-lead") {
			t.Errorf("%+v: %d, %s%s", x, code, out, said)
		}
	}
	s, err := store.Open(t.Context(), database, store.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	e, err := s.ExaminerByLogin(t.Context(), "r")
	if err != nil || e.Role != "reviewer" || password.Check(t.Context(), e.PasswordHash, "lens-and-lead") != nil {
		t.Errorf("%+v, %v", e, err)
	}
}
