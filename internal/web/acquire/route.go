package acquire

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"crosswind/core/route"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// asked is a question with what was answered.
type asked struct {
	route.Question
	Answer  string
	Words   string // of the answer
	Current bool   // the next one to be answered
}

// Key is the key that answers the current question with its option i.
func (a asked) Key(i int) string { return string(rune('a' + i)) }

type situation struct {
	Questions []asked
	Routes    []route.Verdict
	Proposed  *route.Verdict
	Chosen    *store.RouteChoice
	Title     string // of the chosen route
	Loss      string
	Reason    string // that was typed
}

// answersIn reads the answers in an address or a form.
func answersIn(v url.Values) (route.Answers, error) {
	a := route.Answers{}
	for _, q := range route.Questions {
		if s := v.Get(q.Name); s != "" {
			a[q.Name] = s
		}
	}
	if !a.Valid() {
		return nil, errors.New("an answer is none of those that its question has")
	}
	return a, nil
}

// situation leads from answers to routes. The answers are in the address.
func (a pages) situation(c *gin.Context, answers route.Answers, refused error) error {
	p, err := a.Page(c, "From the situation to a route", "Acquire")
	if err != nil {
		return err
	}
	p.Path += "/route"
	if p.Exhibit == nil && len(p.Exhibits) > 0 {
		c.Redirect(http.StatusSeeOther, p.Path+"?exhibit="+url.QueryEscape(p.Exhibits[0].Reference))
		return nil
	}
	if answers == nil {
		if answers, err = answersIn(p.Query); err != nil {
			return fmt.Errorf("%w: %w", err, store.ErrNotFound)
		}
	}
	v := &situation{Routes: route.Rank(answers), Reason: c.PostForm("reason")}
	v.Proposed = route.Proposed(v.Routes)
	current := true
	for _, q := range answers.Needed() {
		k := asked{Question: q, Answer: answers[q.Name]}
		for _, o := range q.Options {
			if o.Value == k.Answer {
				k.Words = o.Words
			}
		}
		k.Current = current && k.Answer == ""
		current = current && !k.Current
		v.Questions = append(v.Questions, k)
	}
	if p.Exhibit != nil {
		if v.Chosen, err = a.Store.ChosenRoute(c.Request.Context(), p.Exhibit.ID); err != nil {
			return err
		}
		if v.Chosen != nil {
			v.Title = title(v.Chosen.Route)
		}
	}
	p.Refuse(refused)
	p.Content = v
	return a.Render(c, templates, p, "route.html")
}

// title is a route's title by its name.
func title(name string) string {
	for _, r := range route.Routes {
		if r.Name == name {
			return r.Title
		}
	}
	return name
}

// choose keeps the route that the examiner takes. Another than the proposed one
// needs a reason.
func (a pages) choose(c *gin.Context) error {
	cs := frame.CaseOf(c)
	e, err := a.ExhibitByReference(c, c.Query("exhibit"))
	if err != nil {
		return err
	}
	answers, err := answersIn(c.Request.URL.Query())
	if err != nil {
		return fmt.Errorf("%w: %w", err, store.ErrNotFound)
	}
	verdicts := route.Rank(answers)
	choice := store.RouteChoice{Route: c.PostForm("route"), Reason: strings.TrimSpace(c.PostForm("reason")), By: frame.By(c)}
	if p := route.Proposed(verdicts); p != nil {
		choice.Proposed = p.Name
	}
	if title(choice.Route) == choice.Route {
		return a.situation(c, answers, errors.New("choose a route"))
	}
	if choice.Route == choice.Proposed {
		choice.Reason = ""
	} else if choice.Reason == "" {
		return a.situation(c, answers, fmt.Errorf("%s is not what the rules propose: write why it is taken", title(choice.Route)))
	}
	if choice.Answers, err = json.Marshal(answers); err != nil {
		return err
	}
	if err := a.Store.ChooseRoute(c.Request.Context(), cs, e, choice); err != nil {
		return err
	}
	a.Notice(c, "The route for %s is recorded: %s.", e.Reference, title(choice.Route))
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire?exhibit="+url.QueryEscape(e.Reference))
	return nil
}
