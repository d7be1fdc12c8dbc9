package store

import (
	"context"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"crosswind/core/custody"
	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/core/scope"
)

// Examiner is somebody who can sign in.
type Examiner struct {
	ID           int64
	Login        string
	Name         string
	Role         string
	PasswordHash string    `db:"password_hash"`
	CreatedAt    time.Time `db:"created_at"`
}

// Examiners counts the accounts.
func (s *Store) Examiners(ctx context.Context) (n int, err error) {
	err = s.get(ctx, &n, "counting the examiners", "SELECT count(*) FROM examiner")
	return n, err
}

// ExaminerByLogin finds an account.
func (s *Store) ExaminerByLogin(ctx context.Context, login string) (*Examiner, error) {
	e := &Examiner{}
	return e, s.get(ctx, e, "examiner "+login, "SELECT * FROM examiner WHERE login = $1", login)
}

// AddExaminer makes an account. With first set it is made only if there is none.
func (s *Store) AddExaminer(ctx context.Context, e Examiner, by string, first bool) error {
	return s.Change(ctx, func(t *Tx) error {
		if first {
			var n int
			if err := t.exec("locking the accounts", "LOCK TABLE examiner"); err != nil {
				return err
			}
			if err := t.GetContext(ctx, &n, "SELECT count(*) FROM examiner"); err != nil {
				return err
			}
			if n > 0 {
				return fmt.Errorf("the first examiner %w", ErrTaken)
			}
		}
		if _, err := t.insert("the sign-in "+e.Login, "INSERT INTO examiner(login, name, role, password_hash) VALUES ($1, $2, $3, $4)", e.Login, e.Name, e.Role, e.PasswordHash); err != nil {
			return err
		}
		return t.Log(Act{Bench, by, "examiner.added", e.Login, map[string]string{"name": e.Name, "role": e.Role}})
	})
}

// Case is a case.
type Case struct {
	ID        int64
	Reference string
	Title     string
	Zone      string
	People    string
	Notes     string
	CreatedAt time.Time `db:"created_at"`
	Epoch     int64     `db:"scope_epoch"` // grows with each authority
}

// Book is the name of the case's ledger.
func (c *Case) Book() string { return CaseBook(c.Reference) }

// Location is the case's zone.
func (c *Case) Location() *time.Location {
	if l, err := time.LoadLocation(c.Zone); err == nil {
		return l
	}
	return time.UTC
}

// Authority is what allows the work, and its scope.
type Authority struct {
	ID          int64
	CaseID      int64 `db:"case_id"`
	Kind        string
	IssuedBy    string        `db:"issued_by"`
	Number      string        `db:"number"`
	ValidFrom   time.Time     `db:"valid_from"`
	ValidTo     time.Time     `db:"valid_to"`
	ScopeKinds  Array[string] `db:"scope_kinds"`
	ScopeFrom   *time.Time    `db:"scope_from"`
	ScopeTo     *time.Time    `db:"scope_to"`
	ScopePeople string        `db:"scope_people"`
	Excluded    string
	Covered     Array[string] // handles; none: everybody
	Privileged  Array[string] // handles
	// Its document, by its SHA-256 in the vault; "" if none is attached.
	Document     string
	DocumentName string `db:"document_name"`
	DocumentType string `db:"document_type"`
}

// LastDay is a moment of the last day on which the authority is in force.
func (a *Authority) LastDay() time.Time { return a.ValidTo.Add(-time.Nanosecond) }

// NotInForce says why the authority is not in force at a moment, "" if it is.
func (a *Authority) NotInForce(now time.Time) string {
	switch {
	case now.Before(a.ValidFrom):
		return "not begun"
	case !now.Before(a.ValidTo):
		return "ended"
	}
	return ""
}

// Scope is what the authority covers, as a rule.
func (a *Authority) Scope() scope.Authority {
	s := scope.Authority{ID: a.ID, Number: a.Number, From: a.ValidFrom, To: a.ValidTo, Covered: a.Covered, Privileged: a.Privileged}
	for _, k := range a.ScopeKinds {
		s.Kinds = append(s.Kinds, record.Kind(k))
	}
	if a.ScopeFrom != nil {
		s.Begin = *a.ScopeFrom
	}
	if a.ScopeTo != nil {
		s.End = *a.ScopeTo
	}
	return s
}

// Scopes gives the authorities as rules.
func Scopes(all []Authority) []scope.Authority {
	out := make([]scope.Authority, len(all))
	for i := range all {
		out[i] = all[i].Scope()
	}
	return out
}

// CaseByReference finds a case.
func (s *Store) CaseByReference(ctx context.Context, ref string) (*Case, error) {
	c := &Case{}
	return c, s.get(ctx, c, "case "+ref, "SELECT * FROM cases WHERE reference = $1", ref)
}

// CaseByID finds a case.
func (s *Store) CaseByID(ctx context.Context, id int64) (*Case, error) {
	c := &Case{}
	return c, s.get(ctx, c, "case", "SELECT * FROM cases WHERE id = $1", id)
}

// CaseRow is a case in the register.
type CaseRow struct {
	Case
	Exhibits int
	LastWhat string     `db:"last_what"`
	LastRef  string     `db:"last_ref"`
	LastAt   *time.Time `db:"last_at"`
}

// Cases lists cases whose reference comes after the given one.
func (s *Store) Cases(ctx context.Context, after string, limit int) (out []CaseRow, err error) {
	err = s.list(ctx, &out, "listing the cases", `
SELECT c.*, (SELECT count(*) FROM exhibit e WHERE e.case_id = c.id) AS exhibits,
       coalesce(l.what, '') AS last_what, coalesce(l.reference, '') AS last_ref, l.at AS last_at
FROM cases c LEFT JOIN LATERAL (
  SELECT k.what, e.reference, k.at FROM custody k JOIN exhibit e ON e.id = k.exhibit_id
  WHERE e.case_id = c.id ORDER BY k.at DESC, k.id DESC LIMIT 1) l ON true
WHERE c.reference > $1 ORDER BY c.reference LIMIT $2`, after, limit)
	return out, err
}

// AddCase opens a case under an authority.
func (s *Store) AddCase(ctx context.Context, c Case, a Authority, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		id, err := t.insert("the case reference "+c.Reference, "INSERT INTO cases(reference, title, zone, people, notes) VALUES ($1, $2, $3, $4, $5)", c.Reference, c.Title, c.Zone, c.People, c.Notes)
		if err != nil {
			return err
		}
		c.ID = id
		d := map[string]string{"title": c.Title, "zone": c.Zone}
		for name, v := range map[string]string{"people": c.People, "notes": c.Notes} {
			if v != "" {
				d[name] = v
			}
		}
		if err := t.Log(Act{c.Book(), by, "case.opened", c.Reference, d}); err != nil {
			return err
		}
		return t.addAuthority(&c, a, by)
	})
}

// NoteCase keeps a case's people and notes, which were those that c has when they were
// last read. What they were before stays in the ledger. What somebody else wrote
// meanwhile is not overwritten: ErrConflict.
func (s *Store) NoteCase(ctx context.Context, c *Case, people, notes, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		res, err := t.ExecContext(ctx, "UPDATE cases SET people = $2, notes = $3 WHERE id = $1 AND people = $4 AND notes = $5", c.ID, people, notes, c.People, c.Notes)
		if err != nil {
			return fmt.Errorf("keeping the notes: %w", err)
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return fmt.Errorf("the case's notes: %w", ErrConflict)
		}
		return t.Log(Act{c.Book(), by, "case.noted", c.Reference, map[string]string{"people": people, "notes": notes}})
	})
}

// AttachDocument attaches its document to an authority, once.
func (s *Store) AttachDocument(ctx context.Context, c *Case, a *Authority, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		res, err := t.ExecContext(ctx, "UPDATE authority SET document = $2, document_name = $3, document_type = $4 WHERE id = $1 AND document = ''", a.ID, a.Document, a.DocumentName, a.DocumentType)
		if err != nil {
			return fmt.Errorf("attaching the document: %w", err)
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return fmt.Errorf("authority %s has its document already", a.Number)
		}
		return t.Log(Act{c.Book(), by, "authority.document", a.Number, map[string]string{"name": a.DocumentName, "type": a.DocumentType, "sha256": a.Document}})
	})
}

// AddAuthority adds a further authority to a case: the only way in which its
// scope grows.
func (s *Store) AddAuthority(ctx context.Context, c *Case, a Authority, by string) error {
	return s.Change(ctx, func(t *Tx) error { return t.addAuthority(c, a, by) })
}

func (t *Tx) addAuthority(c *Case, a Authority, by string) error {
	if err := t.exec("beginning a new scope", "UPDATE cases SET scope_epoch = scope_epoch + 1 WHERE id = $1", c.ID); err != nil {
		return err
	}
	err := t.exec("adding the authority", `INSERT INTO authority(case_id, kind, issued_by, number, valid_from, valid_to, scope_kinds, scope_from, scope_to, scope_people, excluded, covered, privileged)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)`, c.ID, a.Kind, a.IssuedBy, a.Number, a.ValidFrom, a.ValidTo, a.ScopeKinds.param(), a.ScopeFrom, a.ScopeTo,
		a.ScopePeople, a.Excluded, a.Covered.param(), a.Privileged.param())
	if err != nil {
		return err
	}
	if err := t.Log(Act{c.Book(), by, "authority.recorded", a.Number, a.detail()}); err != nil {
		return err
	}
	return t.narrow(c, narrowed{}, by)
}

// detail is what the ledger says of the authority.
func (a *Authority) detail() map[string]string {
	d := map[string]string{"kind": a.Kind, "issued_by": a.IssuedBy, "valid_from": a.ValidFrom.UTC().Format(time.RFC3339), "valid_to": a.ValidTo.UTC().Format(time.RFC3339),
		"kinds": strings.Join(a.ScopeKinds, ", ")}
	if a.ScopeFrom != nil {
		d["records_from"] = a.ScopeFrom.UTC().Format(time.RFC3339)
	}
	if a.ScopeTo != nil {
		d["records_to"] = a.ScopeTo.UTC().Format(time.RFC3339)
	}
	if len(a.Covered) > 0 {
		d["covered"] = strings.Join(a.Covered, ", ")
	}
	if len(a.Privileged) > 0 {
		d["privileged"] = strings.Join(a.Privileged, ", ")
	}
	return d
}

// Override keeps that something was done against a rule, and why.
func (t *Tx) Override(c *Case, what, about, reason, by string) error {
	if err := t.exec("keeping the reason", "INSERT INTO overridden(case_id, what, about, reason, by) VALUES ($1, $2, $3, $4, $5)", c.ID, what, about, reason, by); err != nil {
		return err
	}
	return t.Log(Act{c.Book(), by, "rule.overridden", about, map[string]string{"rule": what, "reason": reason}})
}

// Overridden is something that was done against a rule.
type Overridden struct {
	What, About, Reason, By string
	At                      time.Time
}

// Overrides lists what was done against a rule in a case.
func (s *Store) Overrides(ctx context.Context, caseID int64) (out []Overridden, err error) {
	err = s.list(ctx, &out, "listing what was overridden", "SELECT what, about, reason, by, at FROM overridden WHERE case_id = $1 ORDER BY id", caseID)
	return out, err
}

// Authorities lists the authorities of a case.
func (s *Store) Authorities(ctx context.Context, caseID int64) (out []Authority, err error) {
	err = s.list(ctx, &out, "listing the authorities", "SELECT * FROM authority WHERE case_id = $1 ORDER BY id", caseID)
	return out, err
}

// Exhibit is an exhibit.
type Exhibit struct {
	ID          int64
	CaseID      int64 `db:"case_id"`
	Reference   string
	Kind        string
	ModelMark   string `db:"model_mark"`
	Serial      string
	IMEI        string `db:"imei"`
	IMEINote    string `db:"imei_note"`
	Power       string
	Screen      string
	Lock        string
	Damage      string
	ICCID       string `db:"iccid"`
	ICCIDNote   string `db:"iccid_note"`
	Numbers     string // phone numbers, E.164, with commas
	Touch       string
	Radios      string
	SeizedAt    *time.Time `db:"seized_at"`
	SeizedPlace string     `db:"seized_place"`
	SeizedBy    string     `db:"seized_by"`
	ClockOffset string     `db:"clock_offset"` // seconds, its clock less the reference
	ClockMethod string     `db:"clock_method"`
	Packaging   string     // the bag or box that it came in
	LostAt      *time.Time `db:"lost_at"` // when what is looked for is said to have been lost
	LostWhat    string     `db:"lost_what"`
	Country     string     // its home country, ISO 3166-1 alpha-2, "" for that of its numbers
	CreatedAt   time.Time  `db:"created_at"`
}

// IsAccount reports whether the exhibit is an account with a service.
func (e *Exhibit) IsAccount() bool { return e.Kind == "account" }

// Home is the country by which national numbers are read.
func (e *Exhibit) Home() string {
	if e.Country != "" {
		return e.Country
	}
	for n := range strings.SplitSeq(e.Numbers, ",") {
		if c := people.CountryOf(strings.TrimSpace(n)); c != "" {
			return c
		}
	}
	return ""
}

// Clock is by how much the exhibit's own clock was measured to be fast, false if it was not measured.
func (e *Exhibit) Clock() (time.Duration, bool) {
	s, err := strconv.ParseFloat(e.ClockOffset, 64)
	if err != nil || math.Abs(s) > 1e9 {
		return 0, false
	}
	return time.Duration(s * float64(time.Second)).Round(time.Microsecond), true
}

// Custody is an event in an exhibit's chain of custody.
type Custody struct {
	ID        int64
	ExhibitID int64 `db:"exhibit_id"`
	What      string
	At        time.Time
	FromWhom  string `db:"from_whom"`
	ToWhom    string `db:"to_whom"`
	Seal      string
	Place     string
	Note      string
	Confirmed string // of a hand-over: by which sign-ins, or which paper receipt
}

// Event is the link of the chain.
func (k *Custody) Event() custody.Event {
	return custody.Event{What: custody.What(k.What), At: k.At, From: k.FromWhom, To: k.ToWhom, Seal: k.Seal}
}

// Follow goes through an exhibit's chain of custody.
func Follow(ks []Custody) (custody.Chain, []error) {
	es := make([]custody.Event, len(ks))
	for i := range ks {
		es[i] = ks[i].Event()
	}
	return custody.Follow(es)
}

// Exhibits lists the exhibits of a case by reference.
func (s *Store) Exhibits(ctx context.Context, caseID int64) (out []Exhibit, err error) {
	err = s.list(ctx, &out, "listing the exhibits", "SELECT * FROM exhibit WHERE case_id = $1 ORDER BY reference", caseID)
	return out, err
}

// ExhibitByID finds an exhibit.
func (s *Store) ExhibitByID(ctx context.Context, id int64) (*Exhibit, error) {
	e := &Exhibit{}
	return e, s.get(ctx, e, fmt.Sprintf("exhibit %d", id), "SELECT * FROM exhibit WHERE id = $1", id)
}

// CustodyOf lists an exhibit's chain of custody in order of time.
func (s *Store) CustodyOf(ctx context.Context, exhibitID int64) (out []Custody, err error) {
	err = s.list(ctx, &out, "listing the custody", custodyOf, exhibitID)
	return out, err
}

const custodyOf = "SELECT * FROM custody WHERE exhibit_id = $1 ORDER BY at, id"

// AddExhibit registers an exhibit together with its first custody event.
func (s *Store) AddExhibit(ctx context.Context, c *Case, e Exhibit, first Custody, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.freeReference(c, e.Reference); err != nil {
			return err
		}
		id, err := t.insert("the exhibit reference "+e.Reference, `INSERT INTO exhibit(case_id, reference, kind, model_mark, serial, imei, imei_note, power, screen, lock, damage,
  iccid, iccid_note, numbers, touch, radios, seized_at, seized_place, seized_by, clock_offset, clock_method, packaging, lost_at, lost_what, country)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21, $22, $23, $24, $25)`, c.ID, e.Reference, e.Kind, e.ModelMark, e.Serial, e.IMEI, e.IMEINote, e.Power, e.Screen, e.Lock, e.Damage,
			e.ICCID, e.ICCIDNote, e.Numbers, e.Touch, e.Radios, e.SeizedAt, e.SeizedPlace, e.SeizedBy, e.ClockOffset, e.ClockMethod, e.Packaging, e.LostAt, e.LostWhat, e.Country)
		if err != nil {
			return err
		}
		e.ID = id
		d := map[string]string{"kind": e.Kind, "model_mark": e.ModelMark, "serial": e.Serial, "imei": e.IMEI,
			"power": e.Power, "screen": e.Screen, "lock": e.Lock, "damage": e.Damage}
		for name, v := range map[string]string{"imei_kept_because": e.IMEINote, "iccid": e.ICCID, "iccid_kept_because": e.ICCIDNote, "numbers": e.Numbers, "touch": e.Touch,
			"radios": e.Radios, "seized_place": e.SeizedPlace, "seized_by": e.SeizedBy, "clock_offset_seconds": e.ClockOffset, "clock_method": e.ClockMethod, "packaging": e.Packaging, "lost": e.LostWhat, "country": e.Country} {
			if v != "" {
				d[name] = v
			}
		}
		if e.SeizedAt != nil {
			d["seized_at"] = e.SeizedAt.UTC().Format(time.RFC3339)
		}
		if e.LostAt != nil {
			d["lost_at"] = e.LostAt.UTC().Format(time.RFC3339)
		}
		if err := t.Log(Act{c.Book(), by, "exhibit.registered", e.Reference, d}); err != nil {
			return err
		}
		return t.addCustody(c, &e, first, by)
	})
}

// references is the rule for the references of exhibits: they become names of files.
var references = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,39}$`)

// ReferenceRule is the rule in words.
const ReferenceRule = "letters of the Latin alphabet, digits, dots, dashes and underscores, 40 at most, beginning with a letter or a digit; 014-a and 014-A are one"

// CheckReference says why a reference breaks the rule.
func CheckReference(ref string) error {
	if !references.MatchString(ref) {
		return fmt.Errorf("the reference %q is not one: %s", ref, ReferenceRule)
	}
	return nil
}

// freeReference says why a case's exhibit cannot have a reference. Exhibits of a case
// are registered one after the other.
func (t *Tx) freeReference(c *Case, ref string) error {
	if err := CheckReference(ref); err != nil {
		return err
	}
	if err := t.exec("locking the case", "SELECT 1 FROM cases WHERE id = $1 FOR UPDATE", c.ID); err != nil {
		return err
	}
	var n int
	if err := t.GetContext(t.ctx, &n, "SELECT count(*) FROM exhibit WHERE case_id = $1 AND lower(reference) = lower($2)", c.ID, ref); err != nil {
		return fmt.Errorf("the exhibit reference %s: %w", ref, err)
	}
	if n > 0 {
		return fmt.Errorf("the exhibit reference %s %w", ref, ErrTaken)
	}
	return nil
}

// RenameExhibit gives an exhibit a reference by the rule, if its own breaks it or is
// that of another but for the case of its letters.
func (s *Store) RenameExhibit(ctx context.Context, c *Case, e *Exhibit, to, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.freeReference(c, to); err != nil {
			return err
		}
		if err := t.exec("renaming the exhibit", "UPDATE exhibit SET reference = $2 WHERE id = $1", e.ID, to); err != nil {
			return err
		}
		return t.Log(Act{c.Book(), by, "exhibit.renamed", to, map[string]string{"was": e.Reference}})
	})
}

// StateLoss records what is said to have been lost from an exhibit, and when; e says
// what was recorded before. What somebody else recorded meanwhile is not overwritten:
// ErrConflict.
func (s *Store) StateLoss(ctx context.Context, c *Case, e *Exhibit, at time.Time, what, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		res, err := t.ExecContext(ctx, "UPDATE exhibit SET lost_at = $2, lost_what = $3 WHERE id = $1 AND lost_what = $4", e.ID, at, what, e.LostWhat)
		if err != nil {
			return fmt.Errorf("recording the loss: %w", err)
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return fmt.Errorf("what was lost from %s: %w", e.Reference, ErrConflict)
		}
		return t.Log(Act{c.Book(), by, "loss.stated", e.Reference, map[string]string{"at": at.UTC().Format(time.RFC3339), "what": what}})
	})
}

// AddCustody adds a custody event of an exhibit, if it fits the chain as it is then:
// who comes second sees what the first has done.
func (s *Store) AddCustody(ctx context.Context, c *Case, e *Exhibit, k Custody, by string) error {
	return s.Change(ctx, func(t *Tx) error { return t.addCustody(c, e, k, by) })
}

func (t *Tx) addCustody(c *Case, e *Exhibit, k Custody, by string) error {
	if err := t.exec("locking the exhibit", "SELECT 1 FROM exhibit WHERE id = $1 FOR UPDATE", e.ID); err != nil {
		return err
	}
	var past []Custody
	if err := t.SelectContext(t.ctx, &past, custodyOf, e.ID); err != nil {
		return fmt.Errorf("listing the custody: %w", err)
	}
	chain, _ := Follow(past)
	switch custody.What(k.What) {
	case custody.HandedOver, custody.Received, custody.Returned, custody.Disposed:
	default:
		k.FromWhom, k.ToWhom = "", chain.Holder // these do not change who holds it
	}
	if err := chain.Check(k.Event()); err != nil {
		return err
	}
	err := t.exec("adding the custody event", "INSERT INTO custody(exhibit_id, what, at, from_whom, to_whom, seal, place, note, confirmed) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
		e.ID, k.What, k.At, k.FromWhom, k.ToWhom, k.Seal, k.Place, k.Note, k.Confirmed)
	if err != nil {
		return err
	}
	return t.Log(Act{c.Book(), by, k.entry(), e.Reference, k.detail()})
}

// entry is what the ledger calls the event.
func (k *Custody) entry() string { return "custody." + strings.ReplaceAll(k.What, " ", "_") }

// detail is what the ledger says of it.
func (k *Custody) detail() map[string]string {
	d := map[string]string{"at": k.At.UTC().Format(time.RFC3339), "to": k.ToWhom, "place": k.Place}
	for name, v := range map[string]string{"from": k.FromWhom, "seal": k.Seal, "note": k.Note, "confirmed": k.Confirmed} {
		if v != "" {
			d[name] = v
		}
	}
	return d
}

// BoardRow is what the case board says of an exhibit.
type BoardRow struct {
	ExhibitID    int64 `db:"exhibit_id"`
	Acquisitions int
	Bytes        int64
	Method       string
	Running      int // runs that are queued or going
	Files        int64
	Faulty       int64 // files whose last check failed
	Checked      *time.Time
	Records      int64
	Below        int64
	Marked       int64
	Recovered    int // recoveries that ended
	Packaged     int
}

// Board gives the figures of every exhibit of a case.
func (s *Store) Board(ctx context.Context, caseID int64) (out []BoardRow, err error) {
	err = s.list(ctx, &out, "reading the case board", `
SELECT e.id AS exhibit_id, q.*, k.*,
  (SELECT count(*) FROM run r WHERE r.case_id = e.case_id AND r.state IN ('queued', 'running') AND (r.subject->>'exhibit')::bigint = e.id) AS running,
  (SELECT max(v.at) FROM verification v JOIN acquisition a ON a.id = v.acquisition_id WHERE a.exhibit_id = e.id AND v.against = 'vault') AS checked,
  coalesce((SELECT n FROM mark_sum m WHERE m.exhibit_id = e.id), 0) AS marked,
  (SELECT count(*) FROM recovery v JOIN acquisition a ON a.id = v.acquisition_id WHERE a.exhibit_id = e.id AND v.ended_at IS NOT NULL) AS recovered,
  (SELECT count(*) FROM package p WHERE p.case_id = e.case_id) AS packaged
FROM exhibit e,
LATERAL (SELECT count(*) FILTER (WHERE a.ended_at IS NOT NULL) AS acquisitions, coalesce(sum(a.bytes) FILTER (WHERE a.ended_at IS NOT NULL), 0)::bigint AS bytes,
  coalesce((array_agg(a.method ORDER BY a.id DESC))[1], '') AS method, coalesce(sum(f.files) FILTER (WHERE a.ended_at IS NOT NULL), 0)::bigint AS files, coalesce(sum(f.faulty), 0)::bigint AS faulty
  FROM acquisition a LEFT JOIN acquired_count f ON f.acquisition_id = a.id WHERE a.exhibit_id = e.id) q,
LATERAL (SELECT coalesce(sum(n), 0)::bigint AS records, coalesce(sum(n) FILTER (WHERE h.state <> 'intact'), 0)::bigint AS below FROM record_sum h WHERE h.case_id = e.case_id AND h.exhibit_id = e.id) k
WHERE e.case_id = $1 ORDER BY e.reference`, caseID)
	return out, err
}

// ExhibitReferences gives the references of a case's exhibits by their ids.
func (t *Tx) ExhibitReferences(caseID int64) (map[int64]string, error) {
	var all []struct {
		ID        int64
		Reference string
	}
	if err := t.SelectContext(t.ctx, &all, "SELECT id, reference FROM exhibit WHERE case_id = $1", caseID); err != nil {
		return nil, fmt.Errorf("listing the exhibits: %w", err)
	}
	out := map[int64]string{}
	for _, e := range all {
		out[e.ID] = e.Reference
	}
	return out, nil
}
