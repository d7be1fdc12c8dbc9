package press

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	_ "image/jpeg" // what pictures were encoded as
	_ "image/png"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"crosswind/core/casefile"
	"crosswind/core/report"

	"golang.org/x/sync/errgroup"
)

// Setter sets reports as PDF/A-3, by a program in a process of its own. One that is nil sets none.
type Setter struct {
	// Within is the command that contains the typesetter's process: it is told --read FOLDER and --write FOLDER, and what to run
	// behind --. Without one it runs as it is.
	Within []string

	node   string // the program that runs it
	engine string // the folder whose node_modules has it
	faces  *faces
	places chan struct{} // of the processes that there are at once
	lacks  error         // what it needs and does not have
}

// Lacks says what is missing to set a PDF, nil if nothing is.
func (s *Setter) Lacks() error {
	if s == nil {
		return errors.New("no typesetter is set up")
	}
	return s.lacks
}

// FindSetter looks for what setting needs: Node.js, fonts, and the typesetter in the node_modules of given folders, beside the
// program or in the folder above it. It does not look where the program is run, which may be where evidence lies.
func FindSetter(folders ...string) *Setter {
	s := &Setter{places: make(chan struct{}, atOnce)}
	s.lacks = s.find(folders)
	return s
}

func (s *Setter) find(folders []string) (err error) {
	if s.node, err = exec.LookPath("node"); err != nil {
		return errors.New("there is no Node.js")
	}
	if exe, err := os.Executable(); err == nil {
		folders = append(folders, filepath.Dir(exe), filepath.Dir(filepath.Dir(exe)))
	}
	at := slices.IndexFunc(folders, func(d string) bool {
		_, err := os.Stat(filepath.Join(d, "node_modules", "@myriaddreamin", "typst-ts-node-compiler", "package.json"))
		return err == nil
	})
	if at < 0 {
		return errors.New("the typesetter is not installed: npm ci beside the program brings it")
	}
	if s.engine, err = filepath.Abs(folders[at]); err != nil {
		return err
	}
	s.faces, err = readFaces(fontFolders)
	return err
}

// PDF is a volume of a report.
type PDF struct {
	Bytes []byte
	Pages int
}

// Attachment is a file that goes with a report, within it.
type Attachment struct {
	Name, Type, About string
	Bytes             []byte
}

// MostPages is how many pages a volume has, as they are estimated before it is set.
const MostPages = 200

// Bounds of setting one volume.
const (
	pageLines  = 46
	mostMemory = 1300 << 20 // bytes that its process may hold
	atOnce     = 2          // processes, of all reports
	patience   = 3 * time.Minute
)

// PDF sets a report at an instant, by somebody: in volumes if it is long. The first holds what is attached.
func (s *Setter) PDF(ctx context.Context, r *report.Report, by string, at time.Time, attached ...Attachment) (out []PDF, err error) {
	if err := s.Lacks(); err != nil {
		return nil, err
	}
	all := s.volumes(r)
	out = make([]PDF, len(all))
	each, ctx := errgroup.WithContext(ctx)
	each.SetLimit(atOnce)
	for i, v := range all {
		v.By, v.Volume, v.Volumes = v.safe(by), i+1, len(all)
		at := at.UTC()
		v.Date = [3]int{at.Year(), int(at.Month()), at.Day()}
		var with []Attachment
		if i == 0 {
			with = attached
		}
		all[i] = nil // what was set is not held any more
		each.Go(func() error {
			p, err := s.set(ctx, v, at, with)
			if err != nil {
				return fmt.Errorf("setting the report: %w", err)
			}
			out[i] = *p
			return nil
		})
	}
	if err := each.Wait(); err != nil {
		return nil, err
	}
	return out, nil
}

// volume is what the typesetter reads.
type volume struct {
	Kind     string     `json:"kind"`
	Title    string     `json:"title"`
	Footer   string     `json:"footer"`
	By       string     `json:"by"`
	About    []span     `json:"about"`
	Date     [3]int     `json:"date"`
	Fonts    []string   `json:"fonts"`
	Volume   int        `json:"volume"`
	Volumes  int        `json:"volumes"`
	Parts    []*part    `json:"parts"`
	Attached []attached `json:"attached"`

	faces *faces
	used  map[string]bool
	lines int
	files map[string][]byte
}

type part struct {
	Title  string           `json:"title"`
	Blocks []map[string]any `json:"blocks"`
}

type attached struct {
	File  string `json:"file"`
	Type  string `json:"type"`
	About string `json:"about"`
}

type span struct {
	Words    string       `json:"words"`
	Style    report.Style `json:"style"`
	Isolated bool         `json:"isolated"`
}

type line struct {
	Words string `json:"words"`
	RTL   bool   `json:"rtl"`
}

func (s *Setter) newVolume(r *report.Report) *volume {
	v := &volume{faces: s.faces, used: map[string]bool{s.faces.all[0].family: true}, files: map[string][]byte{}, Attached: []attached{}}
	v.Kind, v.Title, v.About = v.safe(r.Kind), v.safe(r.Title), v.text(r.About)
	v.Footer = v.Title
	return v
}

// volumes divides a report, where it must be, between two blocks.
func (s *Setter) volumes(r *report.Report) (out []*volume) {
	v := s.newVolume(r)
	out = append(out, v)
	for i, p := range r.Parts {
		title := fmt.Sprintf("%d. %s", i+1, p.Title)
		v.Parts = append(v.Parts, &part{Title: v.safe(title), Blocks: []map[string]any{}})
		v.lines += 4
		for _, b := range p.Blocks {
			if v.lines > MostPages*pageLines {
				v = s.newVolume(r)
				out = append(out, v)
				v.Parts = append(v.Parts, &part{Title: v.safe(title + ", continued"), Blocks: []map[string]any{}})
			}
			last := v.Parts[len(v.Parts)-1]
			last.Blocks = append(last.Blocks, v.block(b))
		}
	}
	return out
}

func (v *volume) safe(words string) string { return v.faces.safe(words, v.used) }

// text sets spans one after another, and counts their lines.
func (v *volume) text(t report.Text) []span {
	out, n := []span{}, 0
	for _, s := range t {
		words := s.Words
		if s.Style == report.Hash {
			words = strings.Join(s.Groups(), " ")
		}
		if n += utf8.RuneCountInString(words); s.Style == report.Break {
			n += 60
		}
		out = append(out, span{v.safe(strings.Join(strings.Fields(words), " ")), s.Style, s.Bidi})
		if k := len(out) - 1; words != "" { // Fields takes the spaces at the ends, which part spans
			if strings.HasPrefix(words, " ") {
				out[k].Words = " " + out[k].Words
			}
			if strings.HasSuffix(words, " ") {
				out[k].Words += " "
			}
		}
	}
	v.lines += 1 + n/90
	return out
}

// said sets what was said or written, line by line. What is very long is cut, which it then says.
func (v *volume) said(s string) []line {
	s = strings.ReplaceAll(s, "\r\n", "\n")
	n, cut := utf8.RuneCountInString(s), false
	if n > mostSaid {
		end := 0
		for range mostSaid {
			_, size := utf8.DecodeRuneInString(s[end:])
			end += size
		}
		s, cut = s[:end], true
	}
	lines := strings.Split(s, "\n")
	if len(lines) > mostLines {
		lines, cut = lines[:mostLines], true
	}
	out := []line{}
	for _, l := range lines {
		if strings.TrimSpace(l) == "" {
			continue
		}
		out = append(out, line{v.safe(l), rightToLeft(l)})
		v.lines += 1 + utf8.RuneCountInString(l)/80
	}
	if cut {
		out = append(out, line{Words: fmt.Sprintf("[cut here: the text has %d characters, all of which are in the record]", n)})
	}
	return out
}

func (v *volume) facts(fs report.Facts) []map[string]any {
	out := []map[string]any{}
	for _, f := range fs {
		out = append(out, map[string]any{"name": v.safe(f.Name), "bad": f.Bad, "value": v.text(f.Value)})
	}
	return out
}

// block writes a block for the typesetter.
func (v *volume) block(b report.Block) map[string]any {
	out := map[string]any{"kind": kind(b)}
	switch b := b.(type) {
	case report.Paragraph:
		out["text"] = v.text(b.Text)
	case report.Heading:
		out["text"] = v.text(b.Text)
		v.lines++
	case report.Written:
		out["said"] = v.said(b.Body)
	case report.Facts:
		out["facts"] = v.facts(b)
	case report.Table:
		v.table(b, out)
	case report.Citations:
		list := [][]span{}
		for _, c := range b {
			t := slices.Clone(c.Words)
			if c.N > 0 {
				t = append(report.Text{report.T(fmt.Sprintf("Record %d: ", c.N))}, t...)
			}
			if c.Fault != "" {
				t = append(t, report.T(" "), report.Span{Words: c.Fault, Style: report.Failed})
			}
			list = append(list, v.text(t))
		}
		out["citations"] = list
	case *report.Record:
		before := v.lines
		out["title"] = v.text(append(report.Text{report.T(fmt.Sprintf("%d. ", b.N))}, b.Title...))
		out["said"], out["below"] = v.said(cmp.Or(b.Quote, casefile.NoText)), b.Below
		out["facts"] = v.facts(b.Facts)
		pictures := []map[string]any{}
		for _, p := range b.Pictures {
			pictures = append(pictures, v.picture(p))
		}
		out["pictures"] = pictures
		v.lines += 3
		out["long"] = v.lines-before > pageLines/2
	case *report.Picture:
		out["picture"] = v.picture(b)
	case *report.Timeline:
		name := fmt.Sprintf("timeline-%d.svg", len(v.files))
		v.files[name] = []byte(timeline(b))
		out["file"], out["alt"] = name, timelineAlt(b)
		v.lines += 14
	case *report.Map:
		name := fmt.Sprintf("map-%d.svg", len(v.files))
		v.files[name] = []byte(chart(b))
		out["file"], out["alt"] = name, chartAlt(b)
		v.lines += 22
	case report.Signature:
		out["name"], out["place"] = v.safe(b.Name), v.safe(b.Place)
		v.lines += 4
	default:
		panic(fmt.Sprintf("press: no way to set a %T", b)) // a block that this writer was not taught
	}
	return out
}

// side is how large a picture is set at most, in millimetres.
const side = 90

// picture sets a picture, if its bytes are those of one.
func (v *volume) picture(p *report.Picture) map[string]any {
	out := map[string]any{"text": v.text(p.Caption), "alt": v.safe(cmp.Or(strings.TrimSpace(p.Alt), "a picture"))}
	ending := map[string]string{"image/png": "png", "image/jpeg": "jpg"}[p.Type]
	c, _, err := image.DecodeConfig(bytes.NewReader(p.Bytes))
	if p.Fault != "" || ending == "" || err != nil || c.Width <= 0 || c.Height <= 0 {
		out["fault"] = v.safe("The picture cannot be shown: " + cmp.Or(p.Fault, "it was not decoded") + ".")
		v.lines += 2
		return out
	}
	name := fmt.Sprintf("picture-%d.%s", len(v.files), ending)
	v.files[name] = p.Bytes
	width := float64(side)
	if c.Height > c.Width {
		width = side * float64(c.Width) / float64(c.Height)
	}
	out["file"], out["width"] = name, width
	v.lines += 3 + int(width*float64(c.Height)/float64(c.Width)/5)
	return out
}

// rowWidth is about how many characters a row of a table has room for.
const rowWidth = 112

// table gives each column room for its longest word, and a share of what is left by how much stands in it.
func (v *volume) table(b report.Table, out map[string]any) {
	word, whole := make([]int, len(b.Head)), make([]int, len(b.Head))
	measure := func(i int, s string) {
		for l := range strings.SplitSeq(s, "\n") {
			whole[i] = max(whole[i], min(utf8.RuneCountInString(l), 60))
		}
		for f := range strings.FieldsSeq(s) {
			word[i] = max(word[i], min(utf8.RuneCountInString(f), 24)+2)
		}
	}
	for i, h := range b.Head {
		measure(i, h)
	}
	rows := [][][]span{}
	for _, r := range b.Rows {
		cells, before, most := make([][]span, len(b.Head)), v.lines, 0
		for i := range cells {
			cells[i] = []span{}
			if i < len(r) {
				v.lines = 0
				cells[i] = v.text(r[i])
				most = max(most, v.lines*len(b.Head)/2)
				measure(i, r[i].String())
			}
		}
		v.lines = before + max(most, 1)
		rows = append(rows, cells)
	}
	left, wanted := rowWidth, 0
	for i := range word {
		left -= word[i]
		wanted += max(0, whole[i]-word[i])
	}
	widths := make([]float64, len(b.Head))
	for i := range widths {
		widths[i] = float64(word[i])
		if left > 0 && wanted > 0 {
			widths[i] += float64(left) * float64(max(0, whole[i]-word[i])) / float64(wanted)
		}
	}
	out["head"], out["rows"], out["widths"] = v.each(b.Head), rows, widths
}

func (v *volume) each(words []string) []string {
	out := []string{}
	for _, w := range words {
		out = append(out, v.safe(w))
	}
	return out
}

// noFonts is a configuration that knows none, so that the typesetter has only those that it is given.
const noFonts = `<?xml version="1.0"?><!DOCTYPE fontconfig SYSTEM "fonts.dtd"><fontconfig></fontconfig>`

// set sets one volume in a fresh folder, which is all that its process is told of.
func (s *Setter) set(ctx context.Context, v *volume, at time.Time, with []Attachment) (*PDF, error) {
	dir, err := os.MkdirTemp("", "crosswind-set-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return nil, err
	}
	for _, f := range s.faces.all {
		if v.used[f.family] {
			v.Fonts = append(v.Fonts, f.family)
		}
	}
	for _, a := range with {
		name := v.safe(filepath.Base(a.Name))
		v.files[name] = a.Bytes
		v.Attached = append(v.Attached, attached{name, a.Type, a.About})
	}
	if v.files["report.json"], err = json.Marshal(v); err != nil {
		return nil, err
	}
	v.files["fonts.conf"] = []byte(noFonts)
	for _, name := range []string{"report.typ", "set.mjs"} {
		if v.files[name], err = files.ReadFile(name); err != nil {
			return nil, err
		}
	}
	for name, b := range v.files {
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o600); err != nil {
			return nil, err
		}
	}
	select {
	case s.places <- struct{}{}:
		defer func() { <-s.places }()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, patience, fmt.Errorf("it was not done within %v", patience))
	defer cancel()
	argv := append([]string{s.node, "--max-old-space-size=256", "set.mjs", dir, s.engine, strconv.FormatInt(at.Unix(), 10)}, fontFolders...)
	if len(s.Within) > 0 {
		argv = append(append(slices.Clone(s.Within), "--write", dir, "--read", strings.Join(append([]string{filepath.Join(s.engine, "node_modules")}, fontFolders...), ",")), append([]string{"--"}, argv...)...)
	}
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Dir, cmd.Env = dir, []string{"PATH=/usr/bin:/bin", "HOME=" + dir, "FONTCONFIG_FILE=" + filepath.Join(dir, "fonts.conf"), "OPENSSL_CONF=/dev/null"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var said, wrong bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &wrong
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	grown := watch(cmd.Process)
	err = cmd.Wait()
	switch {
	case grown():
		return nil, fmt.Errorf("its process came to hold more than %d MB", mostMemory>>20)
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case err != nil:
		return nil, fmt.Errorf("%w: %s", err, strings.ToValidUTF8(tail(wrong.String(), 400), "?"))
	}
	p := &PDF{}
	if p.Pages, err = strconv.Atoi(strings.TrimSpace(said.String())); err != nil {
		return nil, err
	}
	p.Bytes, err = os.ReadFile(filepath.Join(dir, "report.pdf"))
	return p, err
}

// watch ends a process that comes to hold too much, and says in the end whether it did.
func watch(p *os.Process) (grown func() bool) {
	over, ended, done := false, make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-ended:
				return
			case <-time.After(100 * time.Millisecond):
				b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", p.Pid))
				if f := strings.Fields(string(b)); err == nil && len(f) > 1 {
					if n, _ := strconv.ParseInt(f[1], 10, 64); n*int64(os.Getpagesize()) > mostMemory {
						over = true
						p.Kill()
						return
					}
				}
			}
		}
	}()
	return func() bool { close(ended); <-done; return over }
}

func tail(s string, n int) string { return strings.TrimSpace(s[max(0, len(s)-n):]) }
