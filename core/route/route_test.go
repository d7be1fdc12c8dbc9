package route

import (
	"strings"
	"testing"
)

func answers(s string) Answers {
	a := Answers{}
	for f := range strings.FieldsSeq(s) {
		k, v, _ := strings.Cut(f, ":")
		a[k] = v
	}
	return a
}

// Situations and the order that common practice gives: the least intrusive route
// that can still reach the goal comes first, and hardware faults are named.
func TestSituations(t *testing.T) {
	const handset = " power:on screen:readable touch:works code:known model:certain card:no"
	for situation, want := range map[string]string{
		"goal:live lost:not backup:before account:none" + handset:                                                                           "backup",
		"goal:live lost:not backup:none account:none" + handset:                                                                             "files",
		"goal:deleted lost:deleted when:longer backup:after account:covered" + handset:                                                      "files",
		"goal:deleted lost:deleted when:days backup:before account:covered" + handset:                                                       "backup",
		"goal:earlier lost:deleted when:longer backup:after account:covered" + handset:                                                      "cloud",
		"goal:deleted lost:reset when:days backup:none account:none" + handset:                                                              "storage",
		"goal:live lost:broken backup:none account:none power:on screen:dead touch:dead code:unknown model:certain card:no":                 "storage",
		"goal:live lost:broken backup:none account:none power:loops model:certain card:no":                                                  "storage",
		"goal:live lost:broken backup:none account:covered power:dead model:certain card:no":                                                "cloud",
		"goal:deleted lost:deleted when:days backup:none account:none power:dead model:certain card:yes":                                    "card",
		"goal:deleted lost:deleted when:days backup:none account:none power:on screen:dead touch:dead code:unknown model:uncertain card:no": "",
		"goal:live lost:not backup:none account:uncovered power:on screen:readable touch:dead code:known model:certain card:no":             "storage",
		"goal:live lost:not backup:none account:none power:on screen:readable touch:works code:unknown model:uncertain card:no":             "",
		"goal:live lost:not backup:none account:none power:dead screen:readable touch:works code:known model:certain card:no":               "",
		"goal:live lost:not": "", // too little is known
	} {
		a := answers(situation)
		if !a.Valid() {
			t.Errorf("%s: an answer is none", situation)
		}
		got := ""
		if p := Proposed(Rank(a)); p != nil {
			got = p.Name
		}
		if got != want {
			t.Errorf("%s: %q, want %q", situation, got, want)
		}
	}
}

func TestVerdictsSayWhy(t *testing.T) {
	vs := Rank(answers("goal:deleted lost:deleted when:days backup:none account:none power:dead model:uncertain card:no"))
	if len(vs) != len(Routes) {
		t.Fatal(len(vs))
	}
	for _, v := range vs {
		if v.Usable() || len(v.Blocks) == 0 || v.Reaches == "" || v.Cannot == "" || v.Risk == "" || v.Time == "" || v.Next == "" {
			t.Errorf("%+v", v)
		}
		if v.Name == "storage" && !strings.Contains(strings.Join(v.Blocks, " "), "fault of the hardware") {
			t.Errorf("%v", v.Blocks)
		}
	}
	if (Answers{"power": "maybe"}).Valid() || (Answers{"colour": "red"}).Valid() {
		t.Error("what is no answer is taken")
	}
	for _, q := range answers("power:dead lost:not").Needed() {
		if q.Name == "touch" || q.Name == "when" {
			t.Errorf("%s is asked", q.Name)
		}
	}
}

// Nothing that is proposed needs more of the exhibit than something that would
// have served as well.
func TestNothingLessIntrusiveIsPassedOver(t *testing.T) {
	var try func(i int, a Answers)
	n := 0
	try = func(i int, a Answers) {
		if i == len(Questions) {
			n++
			vs := Rank(a)
			p := Proposed(vs)
			for _, v := range vs {
				if v.Usable() && v.Serves && (p == nil || v.Intrusion < p.Intrusion) {
					t.Fatalf("%v: %s is passed over", a, v.Name)
				}
			}
			return
		}
		for _, o := range Questions[i].Options {
			a[Questions[i].Name] = o.Value
			try(i+1, a)
		}
	}
	try(0, Answers{})
	t.Logf("%d situations", n)
}
