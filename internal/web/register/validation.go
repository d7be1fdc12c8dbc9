package register

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"strconv"
	"sync"

	"crosswind/internal/store"
	"crosswind/internal/validate"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// shownValidations bounds those that are listed; the ledger has all.
const shownValidations = 20

type validation struct {
	Build  string
	Lines  []validationLine
	Chosen *validationLine
	Stale  bool // nothing was measured of the build that runs
}

type validationLine struct {
	store.Validation
	*validate.Result
	This bool // it is of the build that runs
}

// validation shows what the tool was measured to do.
func (a pages) validation(c *gin.Context) error {
	p, err := a.Page(c, "Tool validation", "")
	if err != nil {
		return err
	}
	v := validation{Stale: true}
	if v.Build, err = validate.Build(); err != nil {
		return err
	}
	all, err := a.Store.Validations(c.Request.Context(), "", shownValidations)
	if err != nil {
		return err
	}
	for _, x := range all {
		r, err := validate.Decode([]byte(x.Body))
		if err != nil {
			return err
		}
		v.Lines = append(v.Lines, validationLine{x, r, x.Build == v.Build})
		v.Stale = v.Stale && x.Build != v.Build
	}
	for i := range v.Lines {
		if x := &v.Lines[i]; v.Chosen == nil || c.Query("of") == strconv.FormatInt(x.ID, 10) {
			v.Chosen = x
		}
	}
	p.Content = v
	return a.Render(c, files, p, "validation.html")
}

// measuring lets one validation run at a time.
var measuring sync.Mutex

// validate measures, and keeps what it measured.
func (a pages) validate(c *gin.Context) error {
	if c.PostForm("do") != "measure" {
		return frame.Bad("the form does not say what is to be done")
	}
	seed := uint64(rand.Uint32())
	if s := c.PostForm("seed"); s != "" {
		var err error
		if seed, err = strconv.ParseUint(s, 10, 32); err != nil {
			return frame.Bad("the seed %q is not a whole number below 4 294 967 296", s)
		}
	}
	if !measuring.TryLock() {
		return fmt.Errorf("%w: the tool is being measured already", store.ErrStep)
	}
	defer measuring.Unlock()
	r, err := validate.Run(c.Request.Context(), a.Tool, seed, nil)
	if err != nil {
		return err
	}
	b, err := r.Encode()
	if err != nil {
		return err
	}
	total := r.Total()
	if err := a.Store.SaveValidation(c.Request.Context(), r.Tool, r.Build, b, frame.By(c), map[string]string{"told": strconv.Itoa(total.Told), "wrong": strconv.Itoa(total.Wrong), "seed": strconv.FormatUint(seed, 10)}); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/validation")
	return nil
}

// validationFile hands out what was measured.
func (a pages) validationFile(c *gin.Context) error {
	id, err := frame.ID(c, "id")
	if err != nil {
		return err
	}
	v, err := a.Store.ValidationByID(c.Request.Context(), id)
	if err != nil {
		return err
	}
	c.Header("Content-Disposition", frame.Attachment("validation-"+strconv.FormatInt(id, 10)+".json"))
	c.Data(http.StatusOK, "application/json", []byte(v.Body))
	return nil
}
