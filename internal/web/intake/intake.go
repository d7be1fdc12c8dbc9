// Package intake holds the pages on which exhibits are registered and their
// custody is recorded.
package intake

import (
	"embed"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

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
	signed.GET("/check/imei", checkIMEI)
	inCase.GET("/intake", func(c *gin.Context) error { return p.page(c, exhibitForm{}, custodyForm{}, nil) })
	inCase.GET("/intake/authority", func(c *gin.Context) error { return p.authority(c, frame.AuthorityForm{}, nil) })
	inCase.POST("/intake/authority", p.addAuthority)
	inCase.POST("/intake/exhibit", p.addExhibit)
	inCase.POST("/intake/custody", p.addCustody)
}

// checkIMEI says whether an IMEI holds, while it is typed.
func checkIMEI(c *gin.Context) error {
	err := record.CheckIMEI(strings.TrimSpace(c.Query("v")))
	said := "the check digit is right"
	if err != nil {
		said = err.Error()
	}
	c.JSON(http.StatusOK, gin.H{"ok": err == nil, "said": said, "wrongDigit": errors.Is(err, record.ErrCheckDigit)})
	return nil
}

type exhibitForm struct {
	Reference, Kind, ModelMark, Serial, IMEI, IMEINote, Power, Screen, Lock, Damage string
	Seal, Place, At, From, To                                                       string
	Open                                                                            bool
}

type custodyForm struct{ Exhibit, What, At, From, To, Seal, Place, Note string }

type card struct {
	store.Exhibit
	Custody  []store.Custody
	IMEISays string
	Form     custodyForm
}

// Holder is who holds the exhibit now.
func (k card) Holder() string {
	if len(k.Custody) == 0 {
		return ""
	}
	return k.Custody[len(k.Custody)-1].ToWhom
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
		if e.IMEI != "" {
			k.IMEISays = "check digit right"
			if err := record.CheckIMEI(e.IMEI); err != nil {
				k.IMEISays = err.Error()
			}
		}
		if cf.Exhibit == e.Reference {
			k.Form = cf
		} else {
			k.Form = custodyForm{From: k.Holder()}
		}
		cards = append(cards, k)
	}
	if ef.Reference == "" && !ef.Open {
		ef.Reference = fmt.Sprintf("%s-%c", tail(p.Case.Reference), 'A'+rune(len(p.Exhibits)%26))
		ef.Open = len(p.Exhibits) == 0
	}
	p.Refuse(fault)
	p.Content = struct {
		Authorities []store.Authority
		Cards       []card
		New         exhibitForm
		Now         string
		Kinds       []string
		Events      []string
	}{auth, cards, ef, time.Now().In(p.Zone).Format("2006-01-02T15:04"), []string{"handset", "memory card", "computer medium", "account"},
		[]string{"handed over", "sealed", "opened", "examined", "returned"}}
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
		post("seal"), post("place"), post("at"), post("from"), post("to"), true}
	cs := frame.CaseOf(c)
	at, err := moment(cs, f.At)
	imei := error(nil)
	if f.IMEI != "" {
		imei = record.CheckIMEI(f.IMEI)
	}
	switch {
	case f.Reference == "" || len(f.Reference) > 40:
		err = errors.New("the exhibit needs a reference of 40 characters at most")
	case f.ModelMark == "" || f.Serial == "":
		err = errors.New("the exhibit needs its model mark and its serial number; write \"none seen\" if it bears none")
	case imei != nil && !errors.Is(imei, record.ErrCheckDigit):
		err = imei
	case imei != nil && f.IMEINote == "":
		err = fmt.Errorf("the IMEI %s has a %w. Correct it, or keep it and say why", f.IMEI, imei)
	case f.To == "" || f.Place == "" || f.Seal == "":
		err = errors.New("the first custody event needs the seal number, the place, and who received the exhibit")
	case err == nil:
		e := store.Exhibit{Reference: f.Reference, Kind: f.Kind, ModelMark: f.ModelMark, Serial: f.Serial, IMEI: f.IMEI, Power: f.Power, Screen: f.Screen, Lock: f.Lock, Damage: f.Damage}
		if imei != nil {
			e.IMEINote = f.IMEINote
		}
		err = a.Store.AddExhibit(c.Request.Context(), cs, e, store.Custody{What: "received", At: at, FromWhom: f.From, ToWhom: f.To, Seal: f.Seal, Place: f.Place}, frame.By(c))
	}
	if err != nil {
		return a.page(c, f, custodyForm{}, err)
	}
	a.Notice(c, "Exhibit %s is registered; its custody begins with %s.", f.Reference, f.To)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake?exhibit="+f.Reference)
	return nil
}

func (a pages) addCustody(c *gin.Context) error {
	post := func(name string) string { return strings.TrimSpace(c.PostForm(name)) }
	f := custodyForm{post("exhibit"), post("what"), post("at"), post("from"), post("to"), post("seal"), post("place"), post("note")}
	cs := frame.CaseOf(c)
	e, err := a.ExhibitByReference(c, f.Exhibit)
	if err != nil {
		return err
	}
	chain, err := a.Store.CustodyOf(c.Request.Context(), e.ID)
	if err != nil {
		return err
	}
	at, err := moment(cs, f.At)
	holder, last := "", time.Time{}
	if n := len(chain); n > 0 {
		holder, last = chain[n-1].ToWhom, chain[n-1].At
	}
	if f.What != "handed over" && f.To == "" {
		f.To = holder // the others do not change who holds it
	}
	switch {
	case err != nil:
	case f.What == "handed over" && (f.From == "" || f.To == ""):
		err = errors.New("a hand-over names both sides: who gave the exhibit and who received it")
	case f.What == "handed over" && f.From == f.To:
		err = fmt.Errorf("a hand-over has two sides; both are %s here", f.From)
	case f.What == "handed over" && f.From != holder:
		err = fmt.Errorf("%s does not hold %s: it is held by %s", f.From, e.Reference, holder)
	case at.Before(last):
		err = fmt.Errorf("the event lies before the last one of %s, at %s", e.Reference, frame.When(last, cs.Location()))
	case f.Place == "":
		err = errors.New("the event needs its place")
	default:
		err = a.Store.AddCustody(c.Request.Context(), cs, e, store.Custody{What: f.What, At: at, FromWhom: f.From, ToWhom: f.To, Seal: f.Seal, Place: f.Place, Note: f.Note}, frame.By(c))
	}
	if err != nil {
		return a.page(c, exhibitForm{}, f, err)
	}
	a.Notice(c, "%s: %s, recorded in the ledger.", e.Reference, f.What)
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/intake?exhibit="+e.Reference)
	return nil
}
