package acquire

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/core/route"
	sources "crosswind/internal/acquire"
	"crosswind/internal/handset"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// lowBattery is the charge below which no run begins, in percent.
const lowBattery = 15

// connected is a handset at the end of a cable.
type connected struct {
	Index int // from 1
	State *handset.State
	Gone  bool
	Of    string // the exhibit of the same serial, "" if there is none
}

// step is something to be done, and whether it is seen to be done.
type step struct {
	Name  string
	Done  bool
	Do    string // what is to be done on the handset or the bench
	Seen  string // what is seen
	Warn  string
	Times *store.HandsetStep
}

type handsetPage struct {
	Seen    string // what handsets were seen to do before it was asked
	Link    connected
	Service bool // by way of service mode
	Steps   []step
	Ready   bool
	Offset  time.Duration // of the handset's clock
	Kinds   []kindChoice
	Files   int
	Bytes   int64
	Volumes []handset.Volume
	Model   *route.Model // that is typed
	Typed   string
	Radios  bool
}

type kindChoice struct {
	Kind    record.Kind
	Covered bool
}

// patience is how long a page waits for what a source lists.
const patience = 20 * time.Second

// connectedHandsets asks every link at once.
func (a pages) connectedHandsets(ctx context.Context) []connected {
	out := make([]connected, len(a.Acquirer.Handsets))
	done := make(chan bool)
	for i, at := range a.Acquirer.Handsets {
		go func() {
			s, err := handset.Link{Address: at}.State(ctx)
			out[i] = connected{Index: i + 1, State: s, Gone: err != nil}
			done <- true
		}()
	}
	for range out {
		<-done
	}
	return out
}

// link finds the link that an address names by its number.
func (a pages) link(c *gin.Context) (handset.Link, int, error) {
	i, err := strconv.Atoi(c.Query("at"))
	if err != nil || i < 1 || i > len(a.Acquirer.Handsets) {
		return handset.Link{}, 0, fmt.Errorf("handset %q: %w", c.Query("at"), store.ErrNotFound)
	}
	return handset.Link{Address: a.Acquirer.Handsets[i-1]}, i, nil
}

// handset leads through the steps until a connected handset can be read.
func (a pages) handset(c *gin.Context, refused error) error {
	p, err := a.Page(c, "A connected handset", "Acquire")
	if err != nil {
		return err
	}
	p.Path += "/handset"
	l, i, err := a.link(c)
	if err != nil {
		return err
	}
	if p.Exhibit == nil {
		return fmt.Errorf("exhibit %q: %w", c.Query("exhibit"), store.ErrNotFound)
	}
	seen := a.seen(c)
	s, err := l.State(c.Request.Context())
	v := &handsetPage{Seen: seen, Link: connected{Index: i, State: s, Gone: err != nil}, Service: c.Query("by") == "storage", Typed: strings.TrimSpace(c.Query("mark"))}
	if v.Link.Gone {
		v.Link.State = &handset.State{}
	}
	v.Radios = v.Link.State.Radios
	if v.Service {
		err = a.serviceSteps(c, p, v, l)
	} else {
		err = a.fileSteps(c, p, v, l)
	}
	if err != nil {
		return err
	}
	p.Refuse(refused)
	p.Content = v
	return a.Render(c, templates, p, "handset.html", "choice.html")
}

// note keeps a step that is seen to be done, once.
func (a pages) note(c *gin.Context, p *frame.Page, s *handset.State, steps []step) error {
	for _, k := range steps {
		if !k.Done {
			continue
		}
		if err := a.Store.NoteStep(c.Request.Context(), p.Case, p.Exhibit, p.Exhibit.Serial, k.Name, k.Seen, s.Clock, frame.By(c)); err != nil {
			return err
		}
	}
	seen, err := a.Store.Steps(c.Request.Context(), p.Exhibit.ID, p.Exhibit.Serial)
	for i := range steps {
		for j := range seen {
			if seen[j].Step == steps[i].Name && steps[i].Done {
				steps[i].Times = &seen[j]
			}
		}
	}
	return err
}

func (a pages) fileSteps(c *gin.Context, p *frame.Page, v *handsetPage, l handset.Link) error {
	s, e := v.Link.State, p.Exhibit
	same := s.Mark == e.ModelMark && s.Serial == e.Serial
	cable := step{Name: "cable in", Done: !v.Link.Gone && s.Mode == "running", Do: "Connect the handset by a data cable, and switch it on.", Seen: "the handset answers"}
	if s.Mode == "running" && s.Screen != "works" {
		cable.Warn = "Its screen is dead: this computer cannot be approved on it. Take the route by its storage."
	}
	model := step{Name: "model is the exhibit's", Done: cable.Done && same, Do: "The handset must be the exhibit.", Seen: s.Mark + ", serial " + s.Serial}
	if cable.Done && !same {
		model.Warn = fmt.Sprintf("It says that it is %s, serial %s; exhibit %s is %s, serial %s. Connect the right handset, or choose its exhibit.", s.Mark, s.Serial, e.Reference, e.ModelMark, e.Serial)
	}
	battery := step{Name: "charged", Done: cable.Done && s.Battery >= lowBattery, Do: fmt.Sprintf("Charge it to %d %% at least: a run must not end with its battery.", lowBattery), Seen: fmt.Sprintf("%d %%", s.Battery)}
	if cable.Done && !battery.Done {
		battery.Warn = fmt.Sprintf("Its battery has %d %% left.", s.Battery)
	}
	approve := step{Name: "computer approved", Done: cable.Done && s.Approved, Do: "On its screen, allow this computer.", Seen: "approved on the handset"}
	if s.Asked {
		approve.Warn = "The handset is asking now."
	}
	unlock := step{Name: "unlocked", Done: cable.Done && s.Unlocked, Do: "Enter its code on the handset. It is not typed here.", Seen: "unlocked on the handset"}
	v.Steps = []step{cable, model, battery, approve, unlock}
	if cable.Done {
		v.Offset = time.Until(s.Clock)
		v.Steps = append(v.Steps, step{Name: "clock read", Done: true, Seen: fmt.Sprintf("%+.1f s against this machine's clock", v.Offset.Seconds())})
	}
	v.Steps = append(v.Steps, step{Name: "radios off", Done: cable.Done && !s.Radios, Do: "Switch all radios off on the handset, or shield it: what arrives changes what is read.", Seen: "off"})
	v.Ready = true
	for _, k := range v.Steps {
		v.Ready = v.Ready && (k.Done || k.Name == "radios off")
	}
	if v.Ready {
		var err error
		if v.Kinds, err = a.kinds(c); err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(c.Request.Context(), patience)
		defer cancel()
		for e, err := range l.Tree(ctx) {
			v.Ready = v.Ready && err == nil // the cable may be pulled just now
			if v.Files == sources.MaxEntries {
				p.Refuse(fmt.Errorf("the handset lists more than %d files: its list is not read on", sources.MaxEntries))
				v.Ready = false
				break
			}
			v.Files++
			v.Bytes += e.Size
		}
	}
	return a.note(c, p, s, v.Steps)
}

// Minutes is about how long a reading takes: three minutes for a gigabyte by its
// files, four by its storage.
func (v *handsetPage) Minutes() string {
	per := 3.0
	if v.Service {
		per = 4
	}
	if m := per * float64(v.Bytes) / (1 << 30); m >= 1 {
		return fmt.Sprintf("about %.0f minutes", m)
	}
	return "less than a minute"
}

// kinds says which kinds the scope covers: they are chosen at first, and no other
// can be.
func (a pages) kinds(c *gin.Context) (out []kindChoice, err error) {
	auth, err := a.Store.Authorities(c.Request.Context(), frame.CaseOf(c).ID)
	for _, k := range record.Kinds() {
		covered := slices.ContainsFunc(auth, func(a store.Authority) bool { return slices.Contains(a.ScopeKinds, string(k)) })
		out = append(out, kindChoice{k, covered})
	}
	return out, err
}

// choice reads what of a source is wanted. A kind that no authority covers is
// refused, whatever the page offered.
func (a pages) choice(c *gin.Context) (out sources.Choice, err error) {
	kinds, err := a.kinds(c)
	if err != nil {
		return out, err
	}
	for _, k := range c.PostFormArray("kinds") {
		if !slices.Contains(kinds, kindChoice{record.Kind(k), true}) {
			return out, fmt.Errorf("%q is not a kind of record that an authority of the case covers", k)
		}
		out.Kinds = append(out.Kinds, record.Kind(k))
	}
	out.Others, out.LiveOnly = c.PostForm("others") != "", c.PostForm("states") == "live"
	return out, nil
}

func (a pages) serviceSteps(c *gin.Context, p *frame.Page, v *handsetPage, l handset.Link) error {
	s, e := v.Link.State, p.Exhibit
	v.Model = route.ModelByMark(v.Typed)
	typed := step{Name: "exact model mark", Done: v.Typed != "" && v.Typed == e.ModelMark && v.Model != nil && v.Model.Keys != "", Do: "Type the mark exactly as it is printed on the exhibit.", Seen: v.Typed}
	switch {
	case v.Typed == "":
	case v.Typed != e.ModelMark:
		typed.Warn = fmt.Sprintf("%s is not the mark of exhibit %s. Nothing was sent to the handset.", v.Typed, e.Reference)
	case v.Model == nil:
		typed.Warn = v.Typed + " is not among the models whose service mode is known."
	case v.Model.Keys == "":
		typed.Warn = v.Typed + " has no service mode: take the route by its files."
	}
	cable := step{Name: "cable in", Done: !v.Link.Gone, Do: "Connect the handset by a data cable.", Seen: "something answers"}
	held := step{Name: "keys held", Done: typed.Done && (s.Mode == "held" || s.Mode == "service"), Seen: "the handset shows that its keys were held"}
	if v.Model != nil && v.Model.Keys != "" && typed.Done {
		held.Do = fmt.Sprintf("Hold %s on the handset for %.0f seconds, also if its screen is dead or it restarts, and let go when this step is done.", v.Model.Keys, v.Model.Hold.Seconds())
	}
	service := step{Name: "service mode, read-only", Done: typed.Done && s.Mode == "service", Do: "Crosswind asks for service mode of exactly this model.", Seen: "of model " + s.Mark}
	v.Steps = []step{cable, typed, held, service}
	if cable.Done && typed.Done && s.Mode == "held" {
		if err := l.Enter(c.Request.Context(), v.Typed); err != nil {
			v.Steps[3].Warn = err.Error()
		}
	}
	if cable.Done && s.Mode == "running" && typed.Done {
		v.Steps[2].Warn = "It is running. Held keys restart it; what is in its memory only is lost."
	}
	if service.Done {
		var err error
		if v.Volumes, err = l.Volumes(c.Request.Context()); err == nil {
			v.Ready = true
			for _, x := range v.Volumes {
				v.Bytes += x.Size
			}
		}
	}
	return a.note(c, p, s, v.Steps)
}

// ask has the handset ask whether this computer is approved.
func (a pages) ask(c *gin.Context) error {
	l, _, err := a.link(c)
	if err != nil {
		return err
	}
	if err := l.Ask(c.Request.Context()); err != nil {
		a.Notice(c, "%v.", err)
	}
	c.Redirect(http.StatusSeeOther, "/case/"+frame.CaseOf(c).Reference+"/acquire/handset?"+c.Request.URL.RawQuery)
	return nil
}

// read queues the acquisition of a connected handset.
func (a pages) read(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	l, _, err := a.link(c)
	if err != nil {
		return err
	}
	e, err := a.ExhibitByReference(c, c.Query("exhibit"))
	if err != nil {
		return err
	}
	s, err := l.State(ctx)
	if err != nil {
		return a.handset(c, err)
	}
	sub := sources.HandsetSubject{Exhibit: e.ID, Reference: e.Reference, Address: l.Address}
	kind, what := "acquire handset", "files"
	if c.Query("by") == "storage" {
		kind, what = "acquire storage", "raw storage"
		switch {
		case s.Mode != "service":
			return a.handset(c, errors.New("the handset is not in service mode"))
		case s.Mark != e.ModelMark:
			return a.handset(c, fmt.Errorf("what is in service mode is %s, and exhibit %s is %s", s.Mark, e.Reference, e.ModelMark))
		}
	} else if err := a.readyForFiles(c, e, s, &sub); err != nil {
		return a.handset(c, err)
	}
	raw, err := json.Marshal(sub)
	if err != nil {
		return err
	}
	detail := map[string]string{"route": what, "mark": e.ModelMark, "serial": e.Serial, "handset_clock": s.Clock.Format(time.RFC3339Nano)}
	if sub.Radios != "" {
		detail["radios_on_because"] = sub.Radios
	}
	_, err = a.Store.QueueRun(ctx, cs, store.Run{Kind: kind, Subject: raw, By: frame.By(c), Title: "Acquiring the " + what + " of " + e.Reference + ", " + e.ModelMark},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "acquisition.queued", On: e.Reference, Detail: detail})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire?exhibit="+url.QueryEscape(e.Reference))
	return nil
}

// make has the handset make a local backup of itself.
func (a pages) make(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	l, _, err := a.link(c)
	if err != nil {
		return err
	}
	e, err := a.ExhibitByReference(c, c.Query("exhibit"))
	if err != nil {
		return err
	}
	s, err := l.State(ctx)
	radios := strings.TrimSpace(c.PostForm("radios"))
	switch {
	case err != nil:
	case c.PostForm("password") != c.PostForm("again"):
		err = errors.New("the two passwords differ")
	default:
		err = ready(e, s, radios)
	}
	if err != nil {
		return a.handset(c, err)
	}
	raw, err := json.Marshal(sources.HandsetSubject{Exhibit: e.ID, Reference: e.Reference, Address: l.Address})
	if err != nil {
		return err
	}
	detail := map[string]string{"mark": e.ModelMark, "serial": e.Serial}
	if s.Radios {
		detail["radios_on_because"] = radios
	}
	a.Acquirer.Keys.HoldPassword(e.ID, c.PostForm("password"))
	_, err = a.Store.QueueRun(ctx, cs, store.Run{Kind: "make backup", Subject: raw, By: frame.By(c), Holder: a.Process.ID, Title: "Having " + e.Reference + " make a backup of itself"},
		store.Act{Book: cs.Book(), By: frame.By(c), What: "backup.asked_for", On: e.Reference, Detail: detail})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire?exhibit="+url.QueryEscape(e.Reference))
	return nil
}

// readyForFiles refuses a run that should not begin, and reads what was chosen.
func (a pages) readyForFiles(c *gin.Context, e *store.Exhibit, s *handset.State, sub *sources.HandsetSubject) error {
	var err error
	if sub.Choice, err = a.choice(c); err != nil {
		return err
	}
	sub.Radios = strings.TrimSpace(c.PostForm("radios"))
	if len(sub.Kinds) == 0 && !sub.Others {
		return errors.New("choose what is read")
	}
	if err := ready(e, s, sub.Radios); err != nil {
		return err
	}
	if !s.Radios {
		sub.Radios = ""
	}
	return nil
}

// ready says why a running handset should not be read now. radios is why it is read
// with its radios on.
func ready(e *store.Exhibit, s *handset.State, radios string) error {
	switch {
	case s.Mark != e.ModelMark || s.Serial != e.Serial:
		return fmt.Errorf("the handset is %s, serial %s, and not exhibit %s", s.Mark, s.Serial, e.Reference)
	case !s.Ready():
		return errors.New("the handset is not ready: see what is still to be done")
	case s.Battery < lowBattery:
		return fmt.Errorf("its battery has %d %% left: charge it first", s.Battery)
	case s.Radios && radios == "":
		return errors.New("its radios are on: switch them off, or write why it is read all the same")
	}
	return nil
}
