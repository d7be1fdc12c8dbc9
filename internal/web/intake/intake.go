// Package intake holds the pages on which exhibits are registered and their
// custody is recorded.
package intake

import (
	"embed"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"crosswind/core/access"
	"crosswind/core/custody"
	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

//go:embed *.html
var files embed.FS

type pages struct{ *frame.App }

// Routes adds the pages.
func Routes(a *frame.App, signed, inCase frame.Group) {
	p := pages{a}
	signed.GET("/check/:what", access.Anyone, check)
	inCase.GET("/intake/:id/label", access.SeeCase, p.label)
	inCase.GET("/intake/receipt/:custody", access.SeeCase, p.receipt)
	inCase.POST("/intake/photograph", access.Custody, p.addPhotograph)
	inCase.GET("/intake/photograph/:id", access.SeeCase, p.photograph)
	inCase.POST("/intake/document", access.Authorise, p.addDocument)
	inCase.GET("/intake/document/:id", access.SeeCase, p.document)
	inCase.POST("/intake/notes", access.Note, p.notes)
	inCase.GET("/intake", access.SeeCase, func(c *gin.Context) error { return p.page(c, exhibitForm{}, custodyForm{}, nil) })
	inCase.GET("/intake/authority", access.Authorise, func(c *gin.Context) error { return p.authority(c, frame.AuthorityForm{}, nil) })
	inCase.POST("/intake/authority", access.Authorise, p.addAuthority)
	inCase.POST("/intake/exhibit", access.Custody, p.addExhibit)
	inCase.POST("/intake/custody", access.Custody, p.addCustody)
	inCase.POST("/intake/rename", access.Custody, p.rename)
}

// check says whether a number holds, while it is typed.
func check(c *gin.Context) error {
	v := strings.TrimSpace(c.Query("v"))
	said, err := "the check digit is right", error(nil)
	switch c.Param("what") {
	case "imei":
		err = record.CheckIMEI(v)
	case "iccid":
		err = record.CheckICCID(v)
	default:
		return fmt.Errorf("check of %q: %w", c.Param("what"), store.ErrNotFound)
	}
	if err != nil {
		said = err.Error()
	}
	c.JSON(http.StatusOK, gin.H{"ok": err == nil, "said": said, "wrongDigit": errors.Is(err, record.ErrCheckDigit)})
	return nil
}

type exhibitForm struct {
	Reference, Kind, ModelMark, Serial, IMEI, IMEINote, Power, Screen, Lock, Damage string
	ICCID, ICCIDNote, Numbers, Touch, Radios                                        string
	SeizedAt, SeizedPlace, SeizedBy, ClockOffset, ClockMethod                       string
	Packaging, LostAt, LostWhat, Country                                            string
	Seal, Place, At, From, To                                                       string
	Open                                                                            bool
}

type custodyForm struct{ Exhibit, What, At, From, To, Seal, Place, Note, Receipt, Login string }

type card struct {
	store.Exhibit
	Custody             []store.Custody
	Photographs         []store.Photograph
	Steps               []store.HandsetStep // seen while it was connected
	Chain               custody.Chain
	Faults              []error
	IMEISays, ICCIDSays string
	Form                custodyForm
	BadReference        string // why its reference cannot be used in a package
}

// holds says what a check of a number found.
func holds(err error) string {
	if err != nil {
		return err.Error()
	}
	return "check digit right"
}

func (a pages) page(c *gin.Context, ef exhibitForm, cf custodyForm, fault error) error {
	p, err := a.Page(c, "Intake", "Intake")
	if err != nil {
		return err
	}
	auth, err := a.Store.Authorities(c.Request.Context(), p.Case.ID)
	if err != nil {
		return err
	}
	var cards []card
	for _, e := range p.Exhibits {
		if p.Exhibit != nil && p.Exhibit.ID != e.ID {
			continue
		}
		k := card{Exhibit: e}
		if k.Custody, err = a.Store.CustodyOf(c.Request.Context(), e.ID); err != nil {
			return err
		}
		if k.Photographs, err = a.Store.Photographs(c.Request.Context(), e.ID); err != nil {
			return err
		}
		if k.Steps, err = a.Store.Steps(c.Request.Context(), e.ID, e.Serial); err != nil {
			return err
		}
		k.Chain, k.Faults = store.Follow(k.Custody)
		k.IMEISays, k.ICCIDSays = holds(record.CheckIMEI(e.IMEI)), holds(record.CheckICCID(e.ICCID))
		if err := store.CheckReference(e.Reference); err != nil {
			k.BadReference = err.Error()
		}
		for _, o := range p.Exhibits {
			if o.ID < e.ID && strings.EqualFold(o.Reference, e.Reference) {
				k.BadReference = fmt.Sprintf("the reference %q is that of %s but for the case of its letters", e.Reference, o.Reference)
			}
		}
		if cf.Exhibit == e.Reference {
			k.Form = cf
		} else {
			k.Form = custodyForm{From: k.Chain.Holder}
		}
		cards = append(cards, k)
	}
	if ef.Reference == "" && !ef.Open {
		ef.Reference = fmt.Sprintf("%s-%c", tail(p.Case.Reference), 'A'+rune(len(p.Exhibits)%26))
		ef.Open = len(p.Exhibits) == 0
	}
	p.Refuse(fault)
	var yours *noteConflict
	if n := (noteConflict{}); errors.As(fault, &n) {
		yours = &n
	}
	overridden, err := a.Store.Overrides(c.Request.Context(), p.Case.ID)
	if err != nil {
		return err
	}
	p.Content = struct {
		Authorities []store.Authority
		Cards       []card
		New         exhibitForm
		Now         string
		Kinds       []string
		Events      []custody.What
		Rule        string        // for references
		Yours       *noteConflict // what was written of the case and is not kept
		Overridden  []store.Overridden
	}{auth, cards, ef, time.Now().In(p.Zone).Format("2006-01-02T15:04"), []string{"handset", "memory card", "computer medium", "account"}, custody.Events, store.ReferenceRule, yours, overridden}
	return a.Render(c, files, p, "intake.html")
}

func (a pages) authority(c *gin.Context, f frame.AuthorityForm, refused error) error {
	p, err := a.Page(c, "Add an authority", "Intake")
	if err != nil {
		return err
	}
	p.Content = f
	p.Refuse(refused)
	return a.Render(c, files, p, "authority.html")
}

func (a pages) addAuthority(c *gin.Context) error {
	f, cs := frame.ReadAuthorityForm(c), frame.CaseOf(c)
	au, err := f.Authority(cs.Location())
	if err == nil {
		err = a.Store.AddAuthority(c.Request.Context(), cs, au, frame.By(c))
	}
	if err != nil {
		return a.authority(c, f, err)
	}
	a.Notice(c, "%s %s is added. Recover again to see what it newly covers.", au.Kind, au.Number)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake")
	return nil
}

// tail is the last part of a case reference, with which its exhibits begin.
func tail(ref string) string {
	return ref[strings.LastIndexAny(ref, "-._")+1:]
}

// moment reads a date and time as a form gives it, in the case's zone.
func moment(cs *store.Case, s string) (time.Time, error) {
	t, err := time.ParseInLocation("2006-01-02T15:04", s, cs.Location())
	if err != nil {
		return t, fmt.Errorf("the time %q is not one such as 2026-09-24T20:15", s)
	}
	if t.After(time.Now().Add(time.Minute)) {
		return t, fmt.Errorf("the time %s lies in the future", s)
	}
	return t, nil
}

func (a pages) addExhibit(c *gin.Context) error {
	post := func(name string) string { return strings.TrimSpace(c.PostForm(name)) }
	f := exhibitForm{post("reference"), post("kind"), post("model_mark"), post("serial"), post("imei"), post("imei_note"), post("power"), post("screen"), post("lock"), post("damage"),
		post("iccid"), post("iccid_note"), post("numbers"), post("touch"), post("radios"), post("seized_at"), post("seized_place"), post("seized_by"), post("clock_offset"), post("clock_method"),
		post("packaging"), post("lost_at"), post("lost_what"), strings.ToUpper(post("country")), post("seal"), post("place"), post("at"), post("from"), post("to"), true}
	cs := frame.CaseOf(c)
	e, first, err := f.read(cs)
	if err == nil {
		err = a.Store.AddExhibit(c.Request.Context(), cs, e, first, frame.By(c))
	}
	if err != nil {
		return a.page(c, f, custodyForm{}, err)
	}
	a.Notice(c, "Exhibit %s is registered; its custody begins with %s.", f.Reference, f.To)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake?exhibit="+f.Reference)
	return nil
}

// rename gives an exhibit a reference by the rule.
func (a pages) rename(c *gin.Context) error {
	cs, to := frame.CaseOf(c), strings.TrimSpace(c.PostForm("to"))
	e, err := a.ExhibitByReference(c, c.PostForm("exhibit"))
	if err != nil {
		return err
	}
	if err := a.Store.RenameExhibit(c.Request.Context(), cs, e, to, frame.By(c)); err != nil {
		return a.page(c, exhibitForm{}, custodyForm{}, err)
	}
	a.Notice(c, "%s is %s from now on; the ledger says what it was.", e.Reference, to)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake?exhibit="+url.QueryEscape(to))
	return nil
}

// number checks a number that may bear a wrong check digit, if it is said why
// it is kept.
func number(what, v, note string, check func(string) error) (kept string, err error) {
	if v == "" {
		return "", nil
	}
	err = check(v)
	if errors.Is(err, record.ErrCheckDigit) {
		if note == "" {
			return "", fmt.Errorf("the %s %s has a %w. Correct it, or keep it and say why", what, v, err)
		}
		return note, nil
	}
	return "", err
}

func (f exhibitForm) read(cs *store.Case) (e store.Exhibit, first store.Custody, err error) {
	if err := store.CheckReference(f.Reference); err != nil {
		return e, first, err
	}
	e = store.Exhibit{Reference: f.Reference, Kind: f.Kind, ModelMark: f.ModelMark, Serial: f.Serial, IMEI: f.IMEI, Power: f.Power, Screen: f.Screen, Lock: f.Lock, Damage: f.Damage,
		ICCID: f.ICCID, Numbers: f.Numbers, Touch: f.Touch, Radios: f.Radios, SeizedPlace: f.SeizedPlace, SeizedBy: f.SeizedBy, ClockOffset: f.ClockOffset, ClockMethod: f.ClockMethod,
		Packaging: f.Packaging, LostWhat: f.LostWhat, Country: f.Country}
	first = store.Custody{What: string(custody.Received), FromWhom: f.From, ToWhom: f.To, Seal: f.Seal, Place: f.Place}
	switch {
	case f.Country != "" && !people.IsCountry(f.Country):
		return e, first, fmt.Errorf("%q is not a country by its code of two letters, such as NO", f.Country)
	case f.ModelMark == "" || f.Serial == "":
		return e, first, errors.New("the exhibit needs its model mark and its serial number; write \"none seen\" if it bears none")
	case f.To == "" || f.Place == "" || f.Seal == "":
		return e, first, errors.New("the first custody event needs the seal number, the place, and who received the exhibit")
	case (f.LostAt == "") != (f.LostWhat == ""):
		return e, first, errors.New("what was lost comes with when, and the other way round")
	case (f.ClockOffset == "") != (f.ClockMethod == ""):
		return e, first, errors.New("the clock's offset comes with how it was measured, and the other way round")
	}
	if f.ClockOffset != "" {
		if s, err := strconv.ParseFloat(f.ClockOffset, 64); err != nil || !(math.Abs(s) <= 1e9) {
			return e, first, fmt.Errorf("the clock's offset %q is not a number of seconds, such as -12.5", f.ClockOffset)
		}
	}
	for n := range strings.SplitSeq(f.Numbers, ",") {
		if n = strings.TrimSpace(n); n != "" {
			if err := record.CheckE164(n); err != nil {
				return e, first, err
			}
		}
	}
	if e.IMEINote, err = number("IMEI", f.IMEI, f.IMEINote, record.CheckIMEI); err != nil {
		return e, first, err
	}
	if e.ICCIDNote, err = number("ICCID", f.ICCID, f.ICCIDNote, record.CheckICCID); err != nil {
		return e, first, err
	}
	if f.SeizedAt != "" {
		t, err := moment(cs, f.SeizedAt)
		if err != nil {
			return e, first, err
		}
		e.SeizedAt = &t
	}
	if f.LostAt != "" {
		t, err := moment(cs, f.LostAt)
		if err != nil {
			return e, first, err
		}
		e.LostAt = &t
	}
	if first.At, err = moment(cs, f.At); err == nil && e.SeizedAt != nil && first.At.Before(*e.SeizedAt) {
		err = errors.New("the exhibit was received before it was seized")
	}
	return e, first, err
}

func (a pages) addCustody(c *gin.Context) error {
	post := func(name string) string { return strings.TrimSpace(c.PostForm(name)) }
	f := custodyForm{post("exhibit"), post("what"), post("at"), post("from"), post("to"), post("seal"), post("place"), post("note"), post("receipt"), post("login")}
	cs := frame.CaseOf(c)
	e, err := a.ExhibitByReference(c, f.Exhibit)
	if err != nil {
		return err
	}
	past, err := a.Store.CustodyOf(c.Request.Context(), e.ID)
	if err != nil {
		return err
	}
	chain, _ := store.Follow(past)
	k := store.Custody{What: f.What, FromWhom: f.From, ToWhom: f.To, Seal: f.Seal, Place: f.Place, Note: f.Note}
	switch custody.What(k.What) {
	case custody.HandedOver, custody.Received, custody.Returned, custody.Disposed:
	default:
		k.FromWhom, k.ToWhom = "", chain.Holder // these do not change who holds it
	}
	k.At, err = moment(cs, f.At)
	if err == nil {
		err = chain.Check(k.Event())
	}
	if err == nil && f.Place == "" {
		err = errors.New("the event needs its place")
	}
	if err == nil && k.What == string(custody.HandedOver) {
		k.Confirmed, err = a.confirm(c, f)
	}
	if err == nil {
		err = a.Store.AddCustody(c.Request.Context(), cs, e, k, frame.By(c))
	}
	if err != nil {
		return a.page(c, exhibitForm{}, f, err)
	}
	a.Notice(c, "%s: %s, recorded in the ledger.", e.Reference, f.What)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake?exhibit="+e.Reference)
	return nil
}

// confirm has both sides of a hand-over confirm it: the giver by being signed
// in, the receiver by signing in here; or a paper receipt stands for both.
func (a pages) confirm(c *gin.Context, f custodyForm) (string, error) {
	if f.Receipt != "" {
		return "paper receipt " + f.Receipt, nil
	}
	giver := frame.Who(c)
	switch {
	case f.Login == "":
		return "", errors.New("a hand-over is confirmed by both sides: the receiver signs in here, or the number of the paper receipt is given")
	case giver.Name != f.From:
		return "", fmt.Errorf("%s is signed in, %s gives the exhibit: the number of the paper receipt is needed", giver.Name, f.From)
	}
	receiver, err := a.Authenticate(c, f.Login, c.PostForm("password"))
	if err != nil {
		return "", fmt.Errorf("the receiver: %w", err)
	}
	if receiver.Name != f.To {
		return "", fmt.Errorf("the sign-in %s is that of %s, not of %s", f.Login, receiver.Name, f.To)
	}
	return fmt.Sprintf("signed in: %s and %s", frame.By(c), receiver.Name+" ("+receiver.Login+")"), nil
}
