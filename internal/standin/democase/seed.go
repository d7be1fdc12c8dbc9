package democase

import (
	"context"
	"errors"
	"sync"
	"time"

	handles "crosswind/core/people"
	"crosswind/core/record"
	"crosswind/internal/password"
	"crosswind/internal/store"
)

// Accounts are the demo's accounts. They exist in the demo only.
var Accounts = []struct{ Login, Password, Name, Role string }{
	{"examiner", "salt-and-brass", "R. Aske", "examiner"},
	{"custodian", "rope-and-seal", "H. Vold", "custodian"},
	{"reviewer", "lens-and-lead", "B. Lund", "reviewer"},
}

// hashOf hashes each password once: it is costly on purpose, and tests seed often.
var hashes sync.Map

func hashOf(secret string) string {
	once, _ := hashes.LoadOrStore(secret, sync.OnceValue(func() string { return password.Hash(context.Background(), secret) }))
	return once.(func() string)()
}

// everyKind are all kinds of record: the demo's warrant covers them.
func everyKind() (names []string) {
	for _, k := range record.Kinds() {
		names = append(names, string(k))
	}
	return names
}

// Reference is the demo case's.
const Reference = "SAL-26-014"

// Seed makes the demo's accounts and its case, with the first exhibit as it
// stands after intake. What is there already stays.
func Seed(ctx context.Context, s *store.Store) error {
	if _, err := s.CaseByReference(ctx, Reference); !errors.Is(err, store.ErrNotFound) {
		return err
	}
	for _, a := range Accounts {
		if _, err := s.ExaminerByLogin(ctx, a.Login); errors.Is(err, store.ErrNotFound) {
			if err := s.AddExaminer(ctx, store.Examiner{Login: a.Login, Name: a.Name, Role: a.Role, PasswordHash: hashOf(a.Password)}, "demo", false); err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
	}
	zone, err := time.LoadLocation(Zone)
	if err != nil {
		return err
	}
	at := func(d, h, m int) time.Time { return time.Date(2026, 9, d, h, m, 0, 0, zone) }
	from, to := time.Date(2025, 7, 1, 0, 0, 0, 0, zone), at(25, 0, 0)
	by := Accounts[0].Name + " (" + Accounts[0].Login + ")"
	err = s.AddCase(ctx, store.Case{Reference: Reference, Title: "Theft from an instrument store", Zone: Zone,
		People: "The owner of the harbour phone\nMaren O., storekeeper, has the galley phone\nKetil, with a van",
		Notes:  "The instrument store at Varn Skerries was found open on 12 September 2026; six theodolites are missing."}, store.Authority{
		Kind: "warrant", IssuedBy: "Examining magistrate, Varn Skerries district", Number: "VS 412/26",
		ValidFrom: at(24, 0, 0), ValidTo: time.Date(2099, 3, 25, 0, 0, 0, 0, zone), // the demo is to work for long
		ScopeKinds: everyKind(), ScopeFrom: &from, ScopeTo: &to,
		ScopePeople: "the owner and everyone in contact with the owner", Excluded: Counsel.Name, Privileged: []string{handles.Normal(Counsel.Number, "")}}, by)
	if err != nil {
		return err
	}
	cs, err := s.CaseByReference(ctx, Reference)
	if err != nil {
		return err
	}
	e := store.Exhibit{Reference: "014-A", Kind: "handset", ModelMark: Handset.Mark, Serial: Handset.Serial, IMEI: Handset.IMEI,
		Power: "on", Screen: "whole", Touch: "works", Lock: "code, not known", Radios: "off", Damage: "scratch along the left edge",
		Numbers: "+44 7700 900100", SeizedAt: new(at(24, 19, 55)), SeizedPlace: "Quay 3, Varn Skerries", SeizedBy: "S. Roan, patrol",
		Packaging: "evidence bag 26-0771, shielded", LostAt: new(at(11, 23, 50)), LostWhat: "messages of that evening, said to be deleted",
		ClockOffset: "4.0", ClockMethod: "photographed beside a radio clock, 24 Sep 2026 20:20"}
	if err := s.AddExhibit(ctx, cs, e, store.Custody{What: "received", At: at(24, 20, 15), FromWhom: "S. Roan, patrol", ToWhom: "H. Vold", Seal: "B-220417", Place: "Quay office, Varn Skerries"}, by); err != nil {
		return err
	}
	es, err := s.Exhibits(ctx, cs.ID)
	if err != nil {
		return err
	}
	return s.AddCustody(ctx, cs, &es[0], store.Custody{What: "handed over", At: at(25, 9, 5), FromWhom: "H. Vold", ToWhom: "R. Aske", Seal: "B-220417", Place: "Bench 2, laboratory", Note: "seal whole", Confirmed: "paper receipt 26-1180"}, by)
}
