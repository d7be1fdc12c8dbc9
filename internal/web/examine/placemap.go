package examine

import (
	"bytes"
	"fmt"
	"math"
	"net/http"

	"crosswind/core/geo"
	"crosswind/internal/graticule"
	"crosswind/internal/store"

	"github.com/gin-gonic/gin"
)

// The measures of the map of a single place, in units of its view box, and what it shows at least and at most, in metres.
const (
	placeWidth, placeHeight = 240, 120
	placeLeast, placeMost   = 2000, 40_000
)

// placeMap draws the surroundings of one place, which the address names, as it is shown within a conversation: the coast, the
// graticule, how accurate it is said to be, and a scale. It is a picture, and leads nowhere.
func (a pages) placeMap(c *gin.Context) error {
	at := readNear(c.Query("at"))
	if at == nil {
		return store.ErrNotFound
	}
	p := geo.Point{Latitude: at.Latitude, Longitude: at.Longitude}
	north := geo.Distance(geo.Point{Latitude: p.Latitude - 0.005}, geo.Point{Latitude: p.Latitude + 0.005}) * 100 // metres a degree
	wide := math.Min(math.Max(at.Metres*4, placeLeast), placeMost)                                                // of the picture
	by := placeWidth * north / wide                                                                               // units a degree of latitude
	m := graticule.Around(p, placeWidth, placeHeight, by)
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%[1]d" height="%d" font-family="sans-serif" font-size="10" fill="none" stroke="#6f7f87">`, placeWidth, placeHeight)
	for _, l := range m.Lines(placeHeight / 2.5) {
		fmt.Fprintf(&b, `<path d="%s" stroke-opacity=".35"/><text x="%.1f" y="%.1f" stroke="none" fill="#6f7f87">%s</text>`, l.D, l.X, l.Y, l.Label)
	}
	fmt.Fprintf(&b, `<path d="%s" stroke-width="1.4"/>`, m.Coast())
	const x, y = placeWidth / 2, placeHeight / 2
	if r := at.Metres / north * by; r > 4 {
		fmt.Fprintf(&b, `<circle cx="%d" cy="%d" r="%.1f" stroke="#1c7f93" fill="#1c7f93" fill-opacity=".12"/>`, x, y, r)
	}
	fmt.Fprintf(&b, `<circle cx="%d" cy="%d" r="4" fill="#1c7f93" stroke="none"/>`, x, y)
	if w, length := m.Scale(30); w > 0 {
		fmt.Fprintf(&b, `<path d="M%.1f 14v4h%.1fv-4" stroke-width="1.4"/><text x="%.1f" y="12" stroke="none" fill="#6f7f87">%s</text>`, placeWidth-8-w, w, placeWidth-8-w, length)
	}
	b.WriteString("</svg>")
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Data(http.StatusOK, "image/svg+xml", b.Bytes())
	return nil
}
