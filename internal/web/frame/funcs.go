package frame

import (
	"fmt"
	"html/template"
	"math"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/static"
)

// Funcs are the words that templates have.
var Funcs = template.FuncMap{
	"static": static.Address, "fonts": static.Fonts, "num": Num, "count": Count, "thousands": Thousands, "bytes": Bytes, "group": Eights, "when": When, "iso": func(t time.Time) string { return t.UTC().Format(time.RFC3339) }, "utc": UTC, "minute": Minute, "span": Span, "clock": Clock, "day": Day,
	"wedge": wedge, "about": About, "short": Short, "sentence": Sentence, "words": Words, "capital": Capital, "picture": Picture, "film": Film, "sound": Sound, "add": func(a, b int) int { return a + b }, "div": func(a, b int) int { return a / b }, "sub": sub, "hex": func(n int64) string { return fmt.Sprintf("0x%06X", n) },
	"dict": dict, "lower": strings.ToLower, "deref": func(t *time.Time) time.Time { return *t }, "join": strings.Join,
	"at":         func(i int) float64 { return 10 + 52*float64(i) }, // of a stage on the small course
	"placewords": record.PlaceWords, "add1": func(n int64) int64 { return n + 1 },
	"pct": func(f float64) string { return fmt.Sprintf("%.0f %%", 100*f) },
}

// sub takes b from a, both whole numbers.
func sub(a, b any) int64 { return reflect.ValueOf(a).Int() - reflect.ValueOf(b).Int() }

// Num writes a whole number in groups of three with narrow spaces.
func Num(v any) string {
	s := fmt.Sprint(reflect.Indirect(reflect.ValueOf(v)).Interface())
	neg := strings.TrimLeft(s, "-")
	var b strings.Builder
	b.WriteString(s[:len(s)-len(neg)])
	for i, c := range neg {
		if i > 0 && (len(neg)-i)%3 == 0 {
			b.WriteRune('\u202f')
		}
		b.WriteRune(c)
	}
	return b.String()
}

// Thousands writes a count where there is little room: of ten thousand and more whole thousands (k), then millions (M).
func Thousands(n int) string {
	switch {
	case n < 10_000:
		return strconv.Itoa(n)
	case n < 1_000_000:
		return fmt.Sprintf("%dk", n/1000)
	}
	return fmt.Sprintf("%.4gM", float64(n)/1e6)
}

// Count writes an integer with what it counts, whose plural is another word if one is given, and else has an s.
func Count(v any, one string, many ...string) string {
	n := Num(v)
	if n == "1" {
		return "1 " + one
	}
	return n + " " + append(many, one+"s")[0]
}

// Bytes writes a size in the binary units of IEC 80000-13.
func Bytes(n int64) string {
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	f, unit := float64(n), ""
	for _, unit = range []string{"KiB", "MiB", "GiB", "TiB", "PiB"} {
		if f /= 1024; f < 1024 {
			break
		}
	}
	if f < 10 {
		return fmt.Sprintf("%.1f %s", f, unit)
	}
	return fmt.Sprintf("%.0f %s", f, unit)
}

// Eights splits a digest into groups of eight characters.
func Eights(s string) []string {
	var out []string
	for len(s) > 8 {
		out, s = append(out, s[:8]), s[8:]
	}
	return append(out, s)
}

// Short is the start of a digest, in two groups of four.
func Short(s string) string {
	if len(s) < 8 {
		return s
	}
	return s[:4] + " " + s[4:8]
}

// recordID is how a record's ID is written, by earlier versions in short.
var recordID = regexp.MustCompile(`^([0-9a-f]{16}|[0-9a-f]{64})$`)

// About writes what an entry of the ledger is on: of a record's ID the digits that pages show.
func About(on string) string {
	if recordID.MatchString(on) {
		return "record " + on[:16]
	}
	return on
}

// When writes an instant in a zone, with the zone's offset.
func When(t time.Time, z *time.Location) string { return t.In(z).Format("2 Jan 2006 15:04:05 -07:00") }

// Minute is When without its seconds, for windows.
func Minute(t time.Time, z *time.Location) string { return t.In(z).Format("2 Jan 2006 15:04 -07:00") }

// Span writes a span of time to the minute: the day, the year and the offset once if both ends have the same.
func Span(from, to time.Time, z *time.Location) string {
	from, to = from.In(z), to.In(z)
	begin, end := "2 Jan 2006 15:04 -07:00", "2 Jan 2006 15:04 -07:00"
	switch {
	case from.Format("-07:00") != to.Format("-07:00"): // no hour is said without its offset
	case from.Year() != to.Year():
		begin = "2 Jan 2006 15:04"
	case from.YearDay() != to.YearDay():
		begin = "2 Jan 15:04"
	default:
		begin, end = "2 Jan 2006 15:04", "15:04 -07:00"
	}
	return from.Format(begin) + " to " + to.Format(end)
}

// Clock writes an instant in a zone without its offset, for columns whose head
// names the zone.
func Clock(t time.Time, z *time.Location) string { return t.In(z).Format("02 Jan 2006 15:04:05") }

// UTC writes an instant in UTC.
func UTC(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05Z") }

// Day writes the date of an instant in a zone.
func Day(t time.Time, z *time.Location) string { return t.In(z).Format("2 Jan 2006") }

// wedge is the path of a pie piece of radius r around x, y: how far a stage
// has come.
func wedge(x, y, r, part float64) string {
	if part >= 1 {
		return fmt.Sprintf("M%g,%g m-%g,0 a%g,%g 0 1 0 %g,0 a%g,%g 0 1 0 -%g,0", x, y, r, r, r, 2*r, r, r, 2*r)
	}
	a := part * 2 * math.Pi
	large := 0
	if a > math.Pi {
		large = 1
	}
	return fmt.Sprintf("M%g,%g L%g,%g A%g,%g 0 %d 1 %.2f,%.2f Z", x, y, x, y-r, r, r, large, x+r*math.Sin(a), y-r*math.Cos(a))
}

// sentences say a ledger entry's What in words.
var sentences = map[string]string{
	"case.opened": "case opened", "authority.recorded": "authority recorded", "exhibit.registered": "registered",
	"acquisition.queued": "acquisition begun", "acquisition.ended": "acquired", "verification.queued": "check begun",
	"acquisition.verified": "checked", "file.verified": "checked", "password.refused": "password refused", "password.accepted": "password accepted", "backup.unlocked": "opened: its content is in the vault",
	"password.list": "list of passwords given", "password.list_refused": "list of passwords refused", "archive.received": "received", "archive.unpacked": "unpacked", "archive.refused": "refused",
	"source.named": "named as a place of sources", "loss.stated": "loss stated", "source.stated": "provenance stated", "route.chosen": "route chosen", "backup.asked_for": "asked to make a backup", "backup.made": "made a backup", "account.signed_in": "signed in to", "account.refused": "sign-in to the account refused", "handset.step": "step seen on the handset", "case.noted": "noted", "authority.document": "document attached", "known_files.received": "list of known files received",
	"known_files.imported": "list of known files imported", "schedule.set": "schedule set", "schedule.ended": "schedule ended", "run.taken_up": "taken up again", "run.interrupted": "interrupted", "photograph.added": "photographed", "integrity.failed": "INTEGRITY FAILED", "recovery.queued": "recovery begun",
	"image.content_read": "read: the files of its volumes are in the vault", "backup.content_read": "never encrypted: its content is in the vault", "rule.overridden": "done against a rule, for a reason", "record.read_again": "marked, and read anew", "exhibit.renamed": "renamed", "source.unnamed": "no place of sources any more",
	"records.recovered": "records recovered", "record.marked": "marked", "record.unmarked": "mark taken away", "map.saved": "field map saved", "records.taken_out": "records taken out",
	"person.together": "handles brought together as one person's", "person.apart": "a handle taken from a contact's person", "person.undone": "a ruling on persons taken back",
	"tool.validated": "measured", "report.saved": "report written", "report.submitted": "report given to be reviewed", "report.commented": "report remarked on", "report.returned": "report returned", "report.accepted": "report accepted", "report.signed": "report signed", "report.downloaded": "signed report taken out", "report.taken_out": "report taken out", "report_template.kept": "template kept",
	"package.queued": "package begun", "package.made": "package made", "package.downloaded": "package downloaded",
	"manifest.downloaded": "manifest downloaded", "signin": "signed in", "signout": "signed out",
	"examiner.added": "examiner added",
	"run.pause":      "pause asked for", "run.stop": "stop asked for", "run.run": "resume asked for",
	"run.paused": "run paused", "run.stopped": "run stopped", "run.failed": "run failed",
}

// Sentence says a ledger entry in a few words.
func Sentence(s *store.LedgerState) string {
	if s == nil || s.Last == nil {
		return "no entry yet"
	}
	return About(s.Last.On) + " " + Words(s.Last.What)
}

// Capital begins a sentence.
func Capital(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

// Words says what an entry of the ledger did.
func Words(what string) string {
	if w, ok := sentences[what]; ok {
		return w
	}
	if w, ok := strings.CutPrefix(what, "custody."); ok {
		return strings.ReplaceAll(w, "_", " ")
	}
	return what
}

func dict(pairs ...any) map[string]any {
	m := map[string]any{}
	for i := 0; i+1 < len(pairs); i += 2 {
		m[fmt.Sprint(pairs[i])] = pairs[i+1]
	}
	return m
}

// Picture reports whether an attachment may be a picture, by its name or the media type that the
// source gives, or, of one without either, for that it lies within a row. What it is, only its bytes say.
func Picture(a record.Attachment) bool {
	return has(a, "image/", ".jpg", ".jpeg", ".png", ".gif", ".webp") || len(a.Parts) > 0 && a.Type == "" && path.Ext(a.Name) == ""
}

// Film and Sound are Picture for a film and a sound.
func Film(a record.Attachment) bool { return has(a, "video/", ".mp4", ".mov", ".3gp", ".m4v") }

func Sound(a record.Attachment) bool {
	return has(a, "audio/", ".wav", ".amr", ".mp3", ".m4a", ".ogg", ".opus", ".oga")
}

func has(a record.Attachment, media string, endings ...string) bool {
	return strings.HasPrefix(a.Type, media) || a.Type == "" && slices.Contains(endings, strings.ToLower(path.Ext(a.Title())))
}
