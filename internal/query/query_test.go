package query

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosswind/internal/preview"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "child" {
		patience = time.Second
		if err := Serve(os.Stdout, os.Stdin, ""); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func ask(t *testing.T, tables []Table, question string) *Answer {
	t.Helper()
	m := &preview.Maker{Dir: t.TempDir(), Command: []string{os.Args[0], "child"}, Log: slog.New(slog.DiscardHandler)}
	a, err := Ask(context.Background(), m, Question{tables, question})
	if err != nil {
		t.Fatalf("%s: %v", question, err)
	}
	return a
}

// Answers are those that the program sqlite3 gives over the same rows.
func TestAnswers(t *testing.T) {
	line := Table{Name: "li ne\"", Columns: []string{"id", "who", "at", "x", "X"}}
	script := `CREATE TABLE "li ne"""(id, who, at, x, "X'");`
	for i := range 900 {
		row := []Value{Int(int64(i)), Text(fmt.Sprintf("kéeper %d", i%7)), {Kind: 2, Float: float64(i) / 8}, {Kind: 4, Bytes: []byte{byte(i), 0}}}
		line.Rows = append(line.Rows, row)
		script += fmt.Sprintf(`INSERT INTO "li ne""" VALUES(%d, 'kéeper %d', %.3f, x'%02x00', NULL);`, i, i%7, float64(i)/8, byte(i))
	}
	for _, question := range []string{
		`SELECT who, count(*), sum(id), max(at) FROM "li ne""" GROUP BY 1 ORDER BY 1`,
		`SELECT id, typeof(who), typeof(at), typeof(x), typeof("X'"), hex(x) FROM "li ne""" WHERE id BETWEEN 250 AND 260`,
		`WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c WHERE n < 9) SELECT n, upper('a') FROM c`,
		`SELECT group_concat(id, ',') FROM "li ne""" WHERE who LIKE '%3' AND id < 60`,
	} {
		c := exec.Command("sqlite3", "-separator", "|", "-nullvalue", "NULL", ":memory:")
		c.Stdin = strings.NewReader(script + question + ";")
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		a := ask(t, []Table{line}, question)
		var got strings.Builder
		for _, row := range a.Rows {
			for i, v := range row {
				if i > 0 {
					got.WriteString("|")
				}
				if s := v.String(); v.Kind == 2 && !strings.Contains(s, ".") {
					got.WriteString(s + ".0") // as the program writes reals
				} else {
					got.WriteString(s)
				}
			}
			got.WriteString("\n")
		}
		if got.String() != string(out) || a.Fault != "" {
			t.Errorf("%s: %s\n%s\nsqlite3 says\n%s", question, a.Fault, got.String(), out)
		}
	}
}

// Whatever is asked, nothing is written, no file is opened, and it ends.
func TestHostileQuestions(t *testing.T) {
	dir := t.TempDir()
	secret := filepath.Join(dir, "other.db")
	if out, err := exec.Command("sqlite3", secret, "CREATE TABLE s(a); INSERT INTO s VALUES('of another case')").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	line := []Table{{Name: "line", Columns: []string{"a"}, Rows: [][]Value{{Int(1)}}}}
	for _, question := range []string{
		"ATTACH '" + secret + "' AS o; SELECT * FROM o.s",
		"ATTACH '" + filepath.Join(dir, "new.db") + "' AS o; CREATE TABLE o.t(a)",
		"VACUUM INTO '" + filepath.Join(dir, "new.db") + "'",
		"DELETE FROM line",
		"PRAGMA query_only=0; DELETE FROM line; SELECT * FROM nothing",
		"SELECT load_extension('/lib/x.so')",
		"SELECT readfile('/etc/passwd')",
		"WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c) SELECT count(*) FROM c",
		"SELECT sum(length(hex(randomblob(900000000)))) FROM line",
		"SELECT", "", "'",
	} {
		a := ask(t, line, question)
		if a.Fault == "" && len(a.Rows) > 0 {
			t.Errorf("%s gives %v", question, a.Rows)
		}
	}
	if a := ask(t, line, "WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c) SELECT n FROM c"); len(a.Rows) != MaxRows || !a.Cut {
		t.Errorf("of endless rows %d are given: %s", len(a.Rows), a.Fault)
	}
	left, err := os.ReadDir(dir)
	if err != nil || len(left) != 1 {
		t.Errorf("%v, %v: something was written", left, err)
	}
}
