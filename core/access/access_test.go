package access

import (
	"fmt"
	"testing"
)

// Who does what is said in the trade's words (common practice: who keeps exhibits does
// not examine them, and who reviews does not change what is reviewed).
func TestTable(t *testing.T) {
	changes := []Act{Custody, OpenCase, Authorise, Note, Acquire, Recover, Mark, Compose, Sign, Package, Control}
	for _, a := range changes {
		if !May(Examiner, a) || May(Reviewer, a) || May(Custodian, a) != (a == Custody) {
			t.Error(a)
		}
	}
	for _, a := range []Act{SeeEvidence, SeeSources, TakeOut} {
		if May(Custodian, a) || !May(Reviewer, a) {
			t.Error(a)
		}
	}
	if May(Examiner, Review) || May(Custodian, Review) || !May(Reviewer, Review) {
		t.Error("another than a reviewer reviews")
	}
	for _, a := range Acts() {
		if May("", a) || May("owner", a) {
			t.Errorf("an unknown role may %s", a)
		}
	}
	if May(Examiner, "fly") {
		t.Error("an unknown act is allowed")
	}
}

func ExampleCheck() {
	fmt.Println(Check(Custodian, Acquire))
	// Output: a custodian may not acquire: that is for the examiner
}
