package examine

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"crosswind/core/record"
	"crosswind/internal/store"
)

// What was found is shown where it stands: in the text from a little before it on, else in another field, which is named.
func TestMatch(t *testing.T) {
	body, err := json.Marshal(&record.Record{Kind: record.Message, State: record.Intact, Text: "a short text that is cut", Parties: []record.Party{{Role: "from", Name: "Ketil"}},
		Attachments: []record.Attachment{{Path: "/media/lamp/C0053.jpg"}}, Facts: []record.Fact{{Name: "Note", Value: strings.Repeat("x ", 300) + "the <b>Lamp</b>"}}})
	if err != nil {
		t.Fatal(err)
	}
	for asked, want := range map[string]string{
		"":         "-",
		"short":    ": a [short]",
		"cut":      ": …t that is [cut]",
		"ketil":    "From: [Ketil]",
		"c0053":    "Attachment: [C0053].jpg",
		"lamp":     "Note: … x the <b>[Lamp]</b>",
		"harbour":  "-",
		`"ketil "`: "From: [Ketil]",
	} {
		v := &content{Filter: store.Filter{Words: asked}}
		m, err := v.Match(store.Record{Summary: "a short", Body: string(body)})
		got := "-"
		if m != nil {
			got = m.Field + ": "
			for _, p := range m.Pieces {
				if p.As == "mark" {
					p.Text = "[" + p.Text + "]"
				}
				got += p.Text
			}
		}
		if err != nil || got != want {
			t.Errorf("%s: %q, %v; want %q", asked, got, err, want)
		}
	}
}

// Another conversation stands beside the first by its times: what one has and the other has not is not missing.
func TestAnotherConversationBeside(t *testing.T) {
	noon := time.Date(2026, 9, 11, 12, 0, 0, 0, time.UTC)
	said := func(minutes ...int) (out []store.Record) {
		for _, m := range minutes {
			at := noon.Add(time.Duration(m) * time.Minute)
			out = append(out, store.Record{Summary: fmt.Sprint(m), At: &at, State: record.Intact})
		}
		return out
	}
	for apart, want := range map[bool]string{
		true:  "0: 1 - -; 1: - 1 -; 1: - - 1; 5: 5 - -; ",
		false: "0: 1 gone -; 1: gone 1 -; 1: - - 1; 5: 5 gone -; ",
	} {
		k := &conversation{Columns: []column{{all: said(0, 5)}, {all: said(1, 90), Apart: apart, device: "x"}, {all: said(1), Apart: true}}}
		k.align(time.UTC, noon, noon.Add(time.Hour))
		got := ""
		for _, l := range k.Lines {
			got += fmt.Sprint(int(l.At.Sub(noon).Minutes()), ":")
			for _, c := range l.Cells {
				switch {
				case c.Record != nil:
					got += " " + c.Summary
				case c.Missing != "":
					got += " gone"
				default:
					got += " -"
				}
			}
			got += "; "
		}
		if want = strings.Replace(want, "0: 1", "0: 0", 1); got != want {
			t.Errorf("apart %t: %s, want %s", apart, got, want)
		}
	}
}
