package main

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/digest"
	"crosswind/core/reading"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
	"crosswind/internal/vault"

	"github.com/spf13/cobra"
)

func hashCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{Use: "hash PATH…", Short: "Check lines that sha256sum -c reads", Args: args(1, -1),
		Long: "Writes the SHA-256 of each file, and of each file below a folder, as lines that sha256sum -c reads. With --all, PATH.md5 and PATH.sha1 are written beside each PATH, for md5sum -c and sha1sum -c; files of these names that are there already are not written over.",
		RunE: func(c *cobra.Command, paths []string) error {
			out := bufio.NewWriter(os.Stdout)
			failed := false
			for _, p := range paths {
				if err := hashPath(c.Context(), filepath.Clean(p), out, all, &failed); err != nil {
					out.Flush()
					return err
				}
			}
			if err := out.Flush(); err != nil {
				return err
			}
			if failed {
				return errQuiet
			}
			return nil
		}}
	c.Flags().BoolVar(&all, "all", false, "write MD5 and SHA-1 as well, into files beside")
	return c
}

// hashPath hashes a file, or the files below a folder. What cannot be read is
// told, and the rest is hashed.
func hashPath(ctx context.Context, p string, out io.Writer, all bool, failed *bool) error {
	extra := [2]io.Writer{io.Discard, io.Discard}
	if all {
		for i, ext := range []string{".md5", ".sha1"} {
			f, err := os.OpenFile(p+ext, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
			if err != nil {
				return err
			}
			defer f.Close()
			extra[i] = f
		}
	}
	return filepath.WalkDir(p, func(path string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err == nil && !d.IsDir() && (d.Type().IsRegular() || path == p) {
			err = hashFile(ctx, path, out, extra)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			fmt.Fprintf(os.Stderr, "crosswind: %v\n", err)
			*failed = true
		}
		return nil
	})
}

func hashFile(ctx context.Context, path string, out io.Writer, extra [2]io.Writer) error {
	f, err := openRegular(path)
	if err != nil {
		return err
	}
	defer f.Close()
	set, err := digest.Reader(vault.Told(ctx, f, nil))
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	m, s1, s256 := set.Hex()
	_, e1 := fmt.Fprintln(out, digest.Line{Sum: s256, Path: path})
	_, e2 := fmt.Fprintln(extra[0], digest.Line{Sum: m, Path: path})
	_, e3 := fmt.Fprintln(extra[1], digest.Line{Sum: s1, Path: path})
	return errors.Join(e1, e2, e3)
}

// openRegular opens a regular file, and nothing else: who opens a pipe waits for somebody to
// write.
func openRegular(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = fmt.Errorf("%s is not a regular file", path)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func verifyCommand() *cobra.Command {
	var key, trusted string
	c := &cobra.Command{Use: "verify [--key HEX] [--time-stamps-trust FILE] PACKAGE", Short: "Check a case package, with no database and no network", Args: args(1, 1),
		Long: "Checks a case package, a folder or its ZIP archive: every file against the manifests, every record's bytes, the ledger's chain, tree, signature and time stamp, and the seal. Ends with 0 if all holds, and otherwise with 1 and a line for each fault.",
		RunE: func(c *cobra.Command, a []string) error {
			if key != "" {
				if b, err := hex.DecodeString(key); err != nil || len(b) != ed25519.PublicKeySize {
					return fmt.Errorf("%w: --key is %d hexadecimal digits", errUse, 2*ed25519.PublicKeySize)
				}
			}
			o := casefile.Options{Key: key, Now: time.Now(), Tool: "Crosswind " + version}
			if trusted != "" {
				b, err := os.ReadFile(trusted)
				if err != nil {
					return err
				}
				if o.Authorities = x509.NewCertPool(); !o.Authorities.AppendCertsFromPEM(b) {
					return fmt.Errorf("%s holds no certificate in PEM", trusted)
				}
			}
			r, err := casefile.VerifyPath(c.Context(), a[0], o)
			if err != nil {
				return errors.New(casefile.Printable(err.Error()))
			}
			for _, f := range r.Faults {
				fmt.Println(f)
			}
			if len(r.Faults) > 0 {
				fmt.Fprintf(os.Stderr, "crosswind: %s does not verify: %d faults\n", a[0], len(r.Faults))
				return errQuiet
			}
			holds := fmt.Sprintf("%d files, %d records, %d ledger entries", r.Files, r.Records, r.Entries)
			if r.Redacted {
				holds = fmt.Sprintf("a redacted package of %d files, without records and ledger entries, of which there were %d", r.Files, r.Entries)
			}
			fmt.Printf("%s holds: case %s, %s, sealed with the Ed25519 key %s\n", a[0], casefile.Printable(r.Case), holds, r.Key)
			if s := r.Stamp; s != nil {
				fmt.Printf("Its ledger was there, as it is, at %s: time stamp %d by %s, certificate SHA-256 %x\n", s.At.Format(time.RFC3339), s.Serial, casefile.Printable(s.Authority()), sha256.Sum256(s.Certificate.Raw))
			}
			if trusted != "" && r.Stamp == nil {
				fmt.Println("The head of its ledger has no time stamp.")
			}
			if key == "" {
				fmt.Println("Compare this key with the one that the examiner gives you by another way, in person, by telephone or on paper: whoever forges a package can sign it with a key of their own. With --key this is checked.")
			}
			return nil
		}}
	c.Flags().StringVar(&trusted, "time-stamps-trust", "", "PEM file of the certificates by which time stamps are trusted, in place of those that the package brings")
	c.Flags().StringVar(&key, "key", "", "the Ed25519 public key, 64 hexadecimal digits, with which the package must be sealed")
	return c
}

func recoverCommand() *cobra.Command {
	var opt salvage.Options
	var asJSON bool
	c := &cobra.Command{Use: "recover --json DATABASE", Short: "Rows deleted from a SQLite database", Args: args(1, 1),
		Long: "Reads one SQLite database, with its -wal and -journal beside it if they are there, and writes a JSON object a line for each row that is not live any more. Nothing is written to the database or beside it.",
		RunE: func(c *cobra.Command, a []string) error {
			if !asJSON {
				return fmt.Errorf("%w: the only output is JSON so far; say --json", errUse)
			}
			return recoverRows(c.Context(), a[0], opt)
		}}
	c.Flags().BoolVar(&opt.Full, "full", false, "also hunt for pages that nothing refers to")
	c.Flags().BoolVar(&opt.Live, "live", false, "write the live rows, too")
	c.Flags().BoolVar(&asJSON, "json", false, "write JSON lines")
	return c
}

func recoverRows(ctx context.Context, path string, opt salvage.Options) error {
	opt.Seen = func(int64) bool { return ctx.Err() == nil }
	var notes []string
	faults := 0
	note := func(err error) {
		if faults++; len(notes) < 3 {
			notes = append(notes, strings.ReplaceAll(err.Error(), "\n", "; "))
		}
	}
	db, err := openDatabase(path, note)
	if err != nil {
		return err
	}
	defer db.Close()
	f := db.File
	// What is held is bounded, but not how much garbage waits beside it.
	debug.SetMemoryLimit(170 << 20)
	out := bufio.NewWriterSize(os.Stdout, 1<<16)
	var line []byte
	for row, err := range salvage.Rows(f, opt) {
		if err != nil {
			for _, err := range each(err) {
				note(err)
			}
			continue
		}
		line = append(appendRow(line[:0], f, row, filepath.Base(path)), '\n')
		if _, err := out.Write(line); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if n := faults - len(notes); n > 0 {
		notes = append(notes, fmt.Sprintf("and %d more", n))
	}
	if len(notes) > 0 {
		fmt.Fprintf(os.Stderr, "crosswind: %s: %s\n", path, strings.Join(notes, "; "))
	}
	return out.Flush()
}

// openDatabase opens a database, and what lies beside it. note is told what is wrong with it.
func openDatabase(at string, note func(error)) (*reading.Database, error) {
	file := func(at string) (*reading.File, error) {
		f, err := openRegular(at)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		st, err := f.Stat()
		if err != nil {
			return nil, err
		}
		return &reading.File{Stored: at, Size: st.Size(), Open: func() (reading.Bytes, error) { return openRegular(at) }}, nil
	}
	f, err := file(at)
	if err != nil {
		return nil, err
	}
	var wrong []error
	db, err := reading.OpenDatabase(f, func(suffix string) *reading.File {
		f, err := file(at + suffix)
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			wrong = append(wrong, err)
		}
		return f
	}, nil, func(err error) { wrong = append(wrong, err) })
	if err != nil {
		return nil, err
	}
	if db.File == nil {
		db.Close()
		return nil, fmt.Errorf("%s: %w", at, wrong[0])
	}
	for _, err := range wrong {
		note(err)
	}
	return db, nil
}

// each takes apart what errors.Join has joined.
func each(err error) []error {
	if j, ok := err.(interface{ Unwrap() []error }); ok {
		return j.Unwrap()
	}
	return []error{err}
}

// appendRow appends a row by the contract: its values in record order.
func appendRow(b []byte, f *sqlitefile.File, row *salvage.Row, file string) []byte {
	name := func(i int) string { return fmt.Sprintf("c%d", i) }
	table, state, origin := "", "recovered", string(row.Origin)
	if row.Table != nil {
		table = row.Table.Name
		name = func(i int) string { return row.Table.Columns[i].Name }
	}
	if row.Live {
		state, origin = "live", "live"
	}
	b = appendText(append(b, `{"table":`...), table)
	b = append(b, `,"rowid":`...)
	if row.HasRowID {
		b = strconv.AppendInt(b, row.RowID, 10)
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"values":{`...)
	sep := false
	for i, v := range row.Values {
		if row.Lost[i] && len(v.Bytes()) == 0 {
			continue
		}
		if sep {
			b = append(b, ',')
		}
		sep = true
		b = appendValue(append(appendText(b, name(i)), ':'), v, f.Encoding)
	}
	b = append(b, `},"lost":[`...)
	sep = false
	for i, lost := range row.Lost {
		if lost {
			if sep {
				b = append(b, ',')
			}
			sep = true
			b = appendText(b, name(i))
		}
	}
	b = appendText(append(b, `],"state":`...), state)
	b = append(b, ',')
	b = appendPlace(b, row.Place, origin, file)
	b = append(b, `,"confidence":`...)
	b = strconv.AppendFloat(b, row.Confidence, 'f', -1, 64)
	if row.Uncommitted {
		b = append(b, `,"uncommitted":true`...)
	}
	if row.Unproven {
		b = append(b, `,"unproven":true`...)
	}
	for i, c := range row.Candidates {
		b = append(b, map[bool]string{true: `,"candidates":[`, false: ","}[i == 0]...)
		b = appendText(b, c)
	}
	if len(row.Candidates) > 0 {
		b = append(b, ']')
	}
	for i, p := range row.Others {
		b = append(b, map[bool]string{true: `,"others":[{`, false: ",{"}[i == 0]...)
		b = append(appendPlace(b, p, string(p.Origin), file), '}')
	}
	if len(row.Others) > 0 {
		b = append(b, ']')
	}
	return append(b, '}')
}

func appendPlace(b []byte, p salvage.Place, origin, file string) []byte {
	b = appendText(append(b, `"origin":`...), origin)
	b = appendText(append(b, `,"file":`...), file+p.Part.Suffix())
	b = strconv.AppendUint(append(b, `,"page":`...), uint64(p.Page), 10)
	if p.Frame > 0 {
		b = strconv.AppendInt(append(b, `,"frame":`...), int64(p.Frame), 10)
	}
	b = strconv.AppendInt(append(b, `,"offset":`...), p.Offset, 10)
	return strconv.AppendInt(append(b, `,"length":`...), int64(p.Length), 10)
}

// appendText appends a JSON string.
func appendText(b []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < 0x20 || c >= 0x7f || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			quoted, err := json.Marshal(s)
			if err != nil { // not for a string
				quoted = []byte(`""`)
			}
			return append(b, quoted...)
		}
	}
	return append(append(append(b, '"'), s...), '"')
}

func appendValue(b []byte, v sqlitefile.Value, enc sqlitefile.Encoding) []byte {
	switch v.Class() {
	case sqlitefile.Integer:
		return strconv.AppendInt(b, v.Int(), 10)
	case sqlitefile.Real:
		x := v.Float()
		if math.IsInf(x, 0) { // JSON has no infinity; SQLite writes it so, too
			return append(b, map[bool]string{true: "1e999", false: "-1e999"}[x > 0]...)
		}
		format := byte('f')
		if abs := math.Abs(x); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
			format = 'e'
		}
		return strconv.AppendFloat(b, x, format, -1, 64)
	case sqlitefile.Text:
		return appendText(b, v.String(enc))
	case sqlitefile.Blob:
		b = append(b, `{"base64":"`...)
		b = base64.StdEncoding.AppendEncode(b, v.Bytes())
		return append(b, `"}`...)
	}
	return append(b, "null"...)
}
