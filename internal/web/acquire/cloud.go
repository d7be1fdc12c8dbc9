package acquire

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"crosswind/core/people"
	sources "crosswind/internal/acquire"
	"crosswind/internal/cloud"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

type cloudPage struct {
	Authority *store.Authority // that covers the account, nil if none does
	Signed    bool
	Snapshots []cloud.Snapshot
	Versions  []cloud.Version
	Waiting   []store.Run // that need somebody to sign in again
	Account   string
	Kinds     []kindChoice
}

// cloud leads to the snapshots of a cloud account.
func (a pages) cloud(c *gin.Context, refused error) error {
	ctx := c.Request.Context()
	p, err := a.Page(c, "A cloud account", "Acquire")
	if err != nil {
		return err
	}
	p.Path += "/cloud"
	if p.Exhibit == nil || !p.Exhibit.IsAccount() {
		return fmt.Errorf("exhibit %q of the kind account: %w", c.Query("exhibit"), store.ErrNotFound)
	}
	v := &cloudPage{Account: p.Exhibit.Serial}
	if v.Authority, err = a.covering(c, v.Account); err != nil {
		return err
	}
	if token := a.Acquirer.Keys.Token(p.Exhibit.ID, frame.By(c)); token != "" && v.Authority != nil {
		acc := cloud.Service{Address: a.Acquirer.Service}.Account(token, func(string, ...any) {})
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		v.Snapshots, err = acc.Snapshots(ctx)
		if err == nil {
			v.Versions, err = acc.Versions(ctx)
		}
		if errors.Is(err, cloud.ErrToken) {
			a.Acquirer.Keys.DropToken(p.Exhibit.ID, frame.By(c), token)
		} else if err != nil && refused == nil {
			refused = err
		}
		v.Signed = err == nil
	}
	if v.Kinds, err = a.kinds(c); err != nil {
		return err
	}
	runs, err := a.Store.Runs(ctx, p.Case.ID, "acquire cloud", 12)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if of, err := cloudExhibit(&r); err != nil {
			return err
		} else if of == p.Exhibit.ID && r.State == "failed" && r.By == frame.By(c) {
			v.Waiting = append(v.Waiting, r)
		}
	}
	p.Refuse(refused)
	p.Content = v
	return a.Render(c, templates, p, "cloud.html", "choice.html")
}

func cloudExhibit(r *store.Run) (int64, error) {
	var sub sources.CloudSubject
	err := json.Unmarshal(r.Subject, &sub)
	return sub.Exhibit, err
}

// covering finds the authority of the case that is valid now and covers an
// account; nil if none does.
func (a pages) covering(c *gin.Context, account string) (*store.Authority, error) {
	all, err := a.Store.Authorities(c.Request.Context(), frame.CaseOf(c).ID)
	if err != nil {
		return nil, err
	}
	now, handle := time.Now(), people.Normal(account, "")
	named := func(list []string, one func(a, b string) bool) bool {
		return slices.ContainsFunc(list, func(h string) bool { return one(people.Normal(h, ""), handle) })
	}
	if slices.ContainsFunc(all, func(au store.Authority) bool { return named(au.Privileged, people.MayBe) }) {
		return nil, nil
	}
	for i, au := range all {
		if !now.Before(au.ValidFrom) && now.Before(au.ValidTo) && named(au.Covered, people.Same) {
			return &all[i], nil
		}
	}
	return nil, nil
}

// signIn signs in to the account, under the authority that covers it. What is
// typed is used once and kept nowhere; runs that waited for it go on.
func (a pages) signIn(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	e, err := a.ExhibitByReference(c, c.Query("exhibit"))
	if err != nil {
		return err
	}
	au, err := a.covering(c, e.Serial)
	if err != nil {
		return err
	}
	if au == nil {
		return a.cloud(c, fmt.Errorf("no valid authority of the case names the account %s among those that it covers", e.Serial))
	}
	act := store.Act{Book: cs.Book(), By: frame.By(c), What: "account.signed_in", On: e.Reference, Detail: map[string]string{"account": e.Serial, "authority": au.Number}}
	token, err := cloud.Service{Address: a.Acquirer.Service}.SignIn(ctx, e.Serial, c.PostForm("password"), c.PostForm("code"))
	if err != nil {
		act.What = "account.refused"
		return a.cloud(c, errors.Join(err, a.Store.Log(ctx, act)))
	}
	a.Acquirer.Keys.HoldToken(e.ID, frame.By(c), token)
	if err := a.Store.Log(ctx, act); err != nil {
		return err
	}
	runs, err := a.Store.Runs(ctx, cs.ID, "acquire cloud", 12)
	if err != nil {
		return err
	}
	at := "/case/" + cs.Reference + "/acquire/cloud?exhibit=" + url.QueryEscape(e.Reference)
	for i := range runs {
		if of, err := cloudExhibit(&runs[i]); err != nil {
			return err
		} else if of == e.ID && runs[i].State == "failed" && runs[i].By == frame.By(c) { // a sign-in serves who made it
			if err := a.Store.WishRun(ctx, cs, &runs[i], "run", frame.By(c)); err != nil {
				return err
			}
			at = "/case/" + cs.Reference + "/acquire?exhibit=" + url.QueryEscape(e.Reference)
		}
	}
	c.Redirect(http.StatusSeeOther, at)
	return nil
}

// download queues a run for each snapshot that was chosen, and one for the
// earlier versions.
func (a pages) download(c *gin.Context) error {
	ctx, cs := c.Request.Context(), frame.CaseOf(c)
	e, err := a.ExhibitByReference(c, c.Query("exhibit"))
	if err != nil {
		return err
	}
	au, err := a.covering(c, e.Serial)
	token := a.Acquirer.Keys.Token(e.ID, frame.By(c))
	if err != nil || au == nil || token == "" {
		return a.cloud(c, errors.Join(err, errors.New("sign in first")))
	}
	acc := cloud.Service{Address: a.Acquirer.Service}.Account(token, func(string, ...any) {})
	snapshots, err1 := acc.Snapshots(ctx)
	versions, err2 := acc.Versions(ctx)
	if err := errors.Join(err1, err2); err != nil {
		return a.cloud(c, err)
	}
	var subs []sources.CloudSubject
	base := sources.CloudSubject{Exhibit: e.ID, Reference: e.Reference, Service: a.Acquirer.Service, Account: e.Serial}
	if base.Choice, err = a.choice(c); err != nil {
		return a.cloud(c, err)
	}
	for i, s := range snapshots {
		if slices.Contains(c.PostFormArray("snapshots"), s.ID) {
			sub := base
			sub.Snapshot = &snapshots[i]
			subs = append(subs, sub)
		}
	}
	sub := base
	for _, v := range versions {
		if slices.Contains(c.PostFormArray("versions"), v.ID) {
			sub.Versions = append(sub.Versions, v)
		}
	}
	if len(sub.Versions) > 0 {
		subs = append(subs, sub)
	}
	if len(subs) == 0 || subs[0].Snapshot != nil && len(base.Kinds) == 0 && !base.Others {
		return a.cloud(c, errors.New("choose what is read, and of snapshots which kinds"))
	}
	for _, sub := range subs {
		raw, err := json.Marshal(sub)
		if err != nil {
			return err
		}
		what := fmt.Sprintf("%d earlier versions", len(sub.Versions))
		if sub.Snapshot != nil {
			what = "the snapshot of " + sub.Snapshot.Made.In(cs.Location()).Format("2 Jan 2006")
		}
		_, err = a.Store.QueueRun(ctx, cs, store.Run{Kind: "acquire cloud", Subject: raw, By: frame.By(c), Holder: a.Process.ID, Title: "Acquiring " + what + " from " + e.Serial},
			store.Act{Book: cs.Book(), By: frame.By(c), What: "acquisition.queued", On: e.Reference, Detail: map[string]string{"account": e.Serial, "what": what, "authority": au.Number}})
		if err != nil {
			return err
		}
	}
	c.Redirect(http.StatusSeeOther, "/case/"+cs.Reference+"/acquire?exhibit="+url.QueryEscape(e.Reference))
	return nil
}
