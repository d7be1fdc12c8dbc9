// Package access knows who may do what: one table of roles and of what they may do. The
// interface asks it for every route and knows no role by name.
package access

import (
	"fmt"
	"slices"
	"strings"
)

// Role is what somebody is in the laboratory.
type Role string

// The roles. A reader has no account: what leaves Crosswind stands alone.
const (
	Examiner  Role = "examiner"  // does the work
	Custodian Role = "custodian" // receives, seals, stores and hands over exhibits
	Reviewer  Role = "reviewer"  // checks the work before the report is signed
)

// Roles lists all roles.
var Roles = []Role{Examiner, Custodian, Reviewer}

// Act is something that can be done.
type Act string

// The acts.
const (
	Anyone      Act = "be signed in"
	SeeCase     Act = "see a case, its exhibits, their custody and its ledger"
	Custody     Act = "register exhibits and record their custody"
	OpenCase    Act = "open a case"
	Authorise   Act = "record a legal authority"
	Note        Act = "change the notes of a case"
	SeeSources  Act = "see what was acquired"
	Acquire     Act = "acquire"
	Verify      Act = "check what was acquired"
	SeeEvidence Act = "read evidence"
	Recover     Act = "recover"
	Mark        Act = "mark records"
	Compose     Act = "write the report"
	Comment     Act = "remark on the report"
	Review      Act = "accept or return the report"
	Sign        Act = "sign the report"
	Package     Act = "make a package"
	TakeOut     Act = "take out what was made"
	CheckLedger Act = "check the ledger"
	Control     Act = "pause, stop and resume runs"
)

// may is the table.
var may = map[Act][]Role{
	Anyone:      Roles,
	SeeCase:     Roles,
	Custody:     {Examiner, Custodian},
	OpenCase:    {Examiner},
	Authorise:   {Examiner},
	Note:        {Examiner},
	SeeSources:  {Examiner, Reviewer},
	Acquire:     {Examiner},
	Verify:      {Examiner, Reviewer},
	SeeEvidence: {Examiner, Reviewer},
	Recover:     {Examiner},
	Mark:        {Examiner},
	Compose:     {Examiner},
	Comment:     {Examiner, Reviewer},
	Review:      {Reviewer},
	Sign:        {Examiner},
	Package:     {Examiner},
	TakeOut:     {Examiner, Reviewer},
	CheckLedger: Roles,
	Control:     {Examiner},
}

// Acts lists all acts.
func Acts() []Act {
	var out []Act
	for a := range may {
		out = append(out, a)
	}
	slices.Sort(out)
	return out
}

// May says whether a role may do something. A role or an act that is not in the table
// may not.
func May(r Role, a Act) bool { return slices.Contains(may[a], r) }

// Check says why a role may not do something, nil if it may.
func Check(r Role, a Act) error {
	if May(r, a) {
		return nil
	}
	return &Refusal{r, a}
}

// Refusal is why somebody may not do something.
type Refusal struct {
	Role Role
	Act  Act
}

func (r *Refusal) Error() string {
	var who []string
	for _, x := range may[r.Act] {
		who = append(who, string(x))
	}
	return fmt.Sprintf("a %s may not %s: that is for the %s", r.Role, r.Act, strings.Join(who, " or the "))
}
