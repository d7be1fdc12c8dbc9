// Package route leads from an exhibit's situation to the routes by which its data
// can be reached. Its rules are two tables, Questions and Routes, that an examiner
// can read and challenge; Rank applies them and adds nothing.
//
// The rules come from common practice: take what changes the exhibit least first,
// and what reaches deleted data only when deleted data are looked for.
package route

import (
	"cmp"
	"slices"
)

// Option is an answer to a question.
type Option struct{ Value, Words string }

// Question is a question about the situation.
type Question struct {
	Name    string
	Ask     string
	Options []Option
}

// Questions, in the order in which they are asked.
var Questions = []Question{
	{"goal", "What is looked for?", []Option{{"live", "what is on it now"}, {"deleted", "deleted data too"}, {"earlier", "how it was before a date"}}},
	{"lost", "How was it lost?", []Option{{"not", "nothing was lost"}, {"deleted", "deleted by hand"}, {"reset", "reset or overwritten"}, {"broken", "the handset broke"}, {"unknown", "not known"}}},
	{"when", "When was it lost?", []Option{{"days", "within 30 days"}, {"longer", "longer ago"}, {"unknown", "not known"}}},
	{"backup", "Is there a local backup?", []Option{{"before", "yes, from before the loss"}, {"after", "yes, none from before"}, {"none", "none was found"}}},
	{"account", "Is a cloud account known?", []Option{{"covered", "yes, and the authority covers it"}, {"uncovered", "yes, not covered"}, {"none", "no"}}},
	{"power", "Does the handset power on?", []Option{{"on", "yes"}, {"loops", "it restarts again and again"}, {"dead", "no, not even when charged"}}},
	{"screen", "Can its screen be read?", []Option{{"readable", "yes"}, {"dead", "no"}}},
	{"touch", "Does touch work?", []Option{{"works", "yes"}, {"dead", "no"}}},
	{"code", "Is its code known?", []Option{{"none", "it has none"}, {"known", "yes"}, {"unknown", "no"}}},
	{"model", "Is the exact model mark certain?", []Option{{"certain", "yes"}, {"uncertain", "no"}}},
	{"card", "Is there a memory card in it?", []Option{{"yes", "yes"}, {"no", "no"}}},
}

// Answers are values by the names of their questions. A question that is not
// answered is not there.
type Answers map[string]string

// Need is an answer that a route needs.
type Need struct {
	Question string
	Any      []string // one of these
	Else     string   // what stands in the way otherwise
}

// Reach is what a route can get.
type Reach struct{ Live, Deleted, Earlier bool }

// Route is a way to the data.
type Route struct {
	Name      string
	Title     string
	Intrusion int // on the exhibit: 0 leaves it alone, more changes more
	Reach     Reach
	Reaches   string
	Cannot    string
	Risk      string
	Time      string
	Next      string
	Needs     []Need
}

var unlocked = Need{"code", []string{"none", "known"}, "without its code the handset does not answer"}

// Routes, from the least intrusive.
var Routes = []Route{
	{Name: "backup", Title: "Local backup", Intrusion: 0, Reach: Reach{Live: true, Deleted: true, Earlier: true},
		Reaches: "the handset's files as they were when the backup was made, with rows that were deleted before", Cannot: "what came after the backup; deleted files",
		Risk: "none: the handset is not touched", Time: "a minute for a gigabyte", Next: "acquire the backup below; an encrypted one needs its password",
		Needs: []Need{{"backup", []string{"before", "after"}, "no local backup was found"}}},
	{Name: "cloud", Title: "Cloud account", Intrusion: 1, Reach: Reach{Live: true, Earlier: true},
		Reaches: "snapshots of the account's devices by date; earlier versions of calendars and contacts", Cannot: "what was never synchronised; deleted rows and files",
		Risk: "the owner may see that somebody signed in", Time: "as the line allows", Next: "sign in with account, password and one-time code",
		Needs: []Need{{"account", []string{"covered"}, "no account is known that the authority covers"}}},
	{Name: "card", Title: "Memory card", Intrusion: 1, Reach: Reach{Live: true, Deleted: true},
		Reaches: "all blocks of the card, with deleted files", Cannot: "what lies in the handset's own storage",
		Risk: "small: the card is taken out, and read behind a write blocker", Time: "a minute for a gigabyte", Next: "register the card as an exhibit of its own, and acquire its image",
		Needs: []Need{{"card", []string{"yes"}, "there is no memory card"}}},
	{Name: "files", Title: "Files of the connected handset", Intrusion: 2, Reach: Reach{Live: true, Deleted: true},
		Reaches: "the file tree, with rows deleted from databases", Cannot: "deleted files; what the handset hides from a computer",
		Risk: "the handset is on and goes on changing: radios off first", Time: "three minutes for a gigabyte", Next: "connect it, approve this computer on its screen, enter the code, switch its radios off",
		Needs: []Need{{"power", []string{"on"}, "the handset does not stay on"}, {"screen", []string{"readable"}, "the screen cannot be read to approve this computer"}, {"touch", []string{"works"}, "touch does not work to approve this computer"}, unlocked}},
	{Name: "made", Title: "Backup made by the handset", Intrusion: 3, Reach: Reach{Live: true, Deleted: true},
		Reaches: "what the handset puts into its own backups, with rows deleted from databases", Cannot: "deleted files; what apps keep out of backups",
		Risk: "the handset notes that a backup was made", Time: "five minutes for a gigabyte", Next: "connect it as for its files, and ask for a backup into this machine's folder",
		Needs: []Need{{"power", []string{"on"}, "the handset does not stay on"}, {"screen", []string{"readable"}, "the screen cannot be read to approve this computer"}, {"touch", []string{"works"}, "touch does not work to approve this computer"}, unlocked}},
	{Name: "storage", Title: "Storage in service mode", Intrusion: 4, Reach: Reach{Live: true, Deleted: true},
		Reaches: "every block of each volume, with deleted rows and deleted files", Cannot: "what is encrypted with keys that only the running handset has",
		Risk: "keys held wrongly restart the handset; a wrong model is refused", Time: "four minutes for a gigabyte, used or not", Next: "type the exact model mark, then hold the keys as shown",
		Needs: []Need{{"model", []string{"certain"}, "the exact model mark is not certain: the wrong service mode may harm another model"}, {"power", []string{"on", "loops"}, "it does not power on even when charged: that is a fault of the hardware, for a repair bench"}}},
}

// Verdict is what the rules say of a route in a situation.
type Verdict struct {
	Route
	Blocks []string   // what stands in the way
	Open   []Question // what is not answered yet and would decide it
	Serves bool       // it can reach what is looked for
	Why    string     // why it does not
}

// Usable reports whether nothing stands in the way and nothing is open.
func (v *Verdict) Usable() bool { return len(v.Blocks) == 0 && len(v.Open) == 0 }

// group orders verdicts: what can be used and serves, what only lacks answers,
// what can be used and does not serve, what is blocked.
func (v *Verdict) group() int {
	switch {
	case len(v.Blocks) > 0:
		return 3
	case !v.Serves:
		return 2
	case len(v.Open) > 0:
		return 1
	}
	return 0
}

// Rank gives the verdict on each route, the one to be proposed first.
func Rank(a Answers) []Verdict {
	out := make([]Verdict, len(Routes))
	for i, r := range Routes {
		v := Verdict{Route: r}
		for _, n := range r.Needs {
			switch got := a[n.Question]; {
			case got == "":
				v.Open = append(v.Open, question(n.Question))
			case !slices.Contains(n.Any, got):
				v.Blocks = append(v.Blocks, n.Else)
			}
		}
		v.Serves, v.Why = serves(&r, a)
		out[i] = v
	}
	slices.SortStableFunc(out, func(x, y Verdict) int {
		return cmp.Or(cmp.Compare(x.group(), y.group()), cmp.Compare(x.Intrusion, y.Intrusion))
	})
	return out
}

func question(name string) Question {
	return Questions[slices.IndexFunc(Questions, func(q Question) bool { return q.Name == name })]
}

// serves tells whether a route can reach what is looked for.
func serves(r *Route, a Answers) (ok bool, why string) {
	switch {
	case a["goal"] == "deleted" && !r.Reach.Deleted:
		return false, "it does not reach deleted data"
	case a["goal"] == "earlier" && !r.Reach.Earlier:
		return false, "it shows only how things are now"
	case r.Name == "backup" && a["backup"] == "after" && (a["goal"] == "earlier" || a["goal"] == "deleted" && a["when"] == "longer"):
		return false, "no backup is from before the loss"
	case a["lost"] == "reset" && a["goal"] == "deleted" && !r.Reach.Earlier && r.Name != "storage":
		return false, "what was there before the reset is not in its files any more"
	}
	return true, ""
}

// Proposed is the route that the rules propose, nil if none can be yet.
func Proposed(vs []Verdict) *Verdict {
	if len(vs) > 0 && vs[0].Usable() && vs[0].Serves {
		return &vs[0]
	}
	return nil
}

// Valid reports whether every answer is one of its question's.
func (a Answers) Valid() bool {
	for name, value := range a {
		i := slices.IndexFunc(Questions, func(q Question) bool { return q.Name == name })
		if i < 0 || !slices.ContainsFunc(Questions[i].Options, func(o Option) bool { return o.Value == value }) {
			return false
		}
	}
	return true
}

// Needed are the questions that the answers so far leave worth asking: not when
// something was lost if nothing was, and nothing of a handset's screen if it does
// not power on.
func (a Answers) Needed() (out []Question) {
	for _, q := range Questions {
		switch {
		case q.Name == "when" && a["lost"] == "not":
		case (q.Name == "screen" || q.Name == "touch" || q.Name == "code") && (a["power"] == "dead" || a["power"] == "loops"):
		case q.Name == "touch" && a["screen"] == "dead":
		default:
			out = append(out, q)
		}
	}
	return out
}
