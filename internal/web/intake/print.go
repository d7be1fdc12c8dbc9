package intake

import (
	"encoding/base64"
	"fmt"
	"html/template"
	"time"

	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
	"github.com/skip2/go-qrcode"
)

// label is an exhibit's label, to be printed.
type label struct {
	Exhibit *store.Exhibit
	First   store.Custody // how it came into custody
	Seal    string        // that it is under now
	QR      template.URL  // a picture
	Text    string        // what the code says
}

func (a pages) label(c *gin.Context) error {
	id, err := frame.ID(c, "id")
	if err != nil {
		return err
	}
	p, err := a.Page(c, "Exhibit label", "Intake")
	if err != nil {
		return err
	}
	for i := range p.Exhibits {
		e := &p.Exhibits[i]
		if e.ID != id {
			continue
		}
		v := label{Exhibit: e, Text: fmt.Sprintf("case %s; exhibit %s; %s; serial %s", p.Case.Reference, e.Reference, e.ModelMark, e.Serial)}
		events, err := a.Store.CustodyOf(c.Request.Context(), id)
		if err != nil {
			return err
		}
		chain, _ := store.Follow(events)
		v.First, v.Seal = events[0], chain.Seal // an exhibit is registered with its first event
		png, err := qrcode.Encode(v.Text, qrcode.Medium, 320)
		if err != nil {
			return fmt.Errorf("drawing the code of %s: %w", e.Reference, err)
		}
		v.QR = template.URL("data:image/png;base64," + base64.StdEncoding.EncodeToString(png))
		p.Content = v
		return a.Render(c, files, p, "label.html")
	}
	return fmt.Errorf("exhibit %d: %w", id, store.ErrNotFound)
}

// receipt is the paper on which both sides of a custody event sign.
type receipt struct {
	Exhibit *store.Exhibit
	Event   *store.Custody
	Printed time.Time
}

func (a pages) receipt(c *gin.Context) error {
	id, err := frame.ID(c, "custody")
	if err != nil {
		return err
	}
	p, err := a.Page(c, "Receipt", "Intake")
	if err != nil {
		return err
	}
	for i := range p.Exhibits {
		chain, err := a.Store.CustodyOf(c.Request.Context(), p.Exhibits[i].ID)
		if err != nil {
			return err
		}
		for j := range chain {
			if chain[j].ID == id {
				p.Content = receipt{&p.Exhibits[i], &chain[j], time.Now()}
				return a.Render(c, files, p, "receipt.html")
			}
		}
	}
	return fmt.Errorf("custody event %d: %w", id, store.ErrNotFound)
}
