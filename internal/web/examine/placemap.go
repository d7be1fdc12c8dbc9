package examine

import (
	"bytes"
	"fmt"
	"math"
	"net/http"

	"crosswind/core/geo"
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
	flat := math.Max(0.05, math.Cos(p.Latitude*math.Pi/180))
	by := placeWidth * north / wide // units a degree of latitude
	pr := projection{p.Longitude - placeWidth/2/by/flat, p.Latitude + placeHeight/2/by, by, flat}
	letter := func(f float64, plus, minus rune) rune {
		if f < 0 {
			return minus
		}
		return plus
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%[1]d" height="%d" font-family="sans-serif" font-size="10" fill="none" stroke="#6f7f87">`, placeWidth, placeHeight)
	step := 30.0
	for _, s := range []float64{10, 5, 2, 1, 0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.005, 0.002, 0.001} {
		if s*by < placeHeight/2.5 {
			break
		}
		step = s
	}
	digits := max(0, int(math.Ceil(-math.Log10(step)-1e-9)))
	for lat := math.Ceil((pr.north-placeHeight/by)/step) * step; lat < pr.north; lat += step {
		fmt.Fprintf(&b, `<path d="M0 %.1fH%d" stroke-opacity=".35"/><text x="3" y="%.1f" stroke="none" fill="#6f7f87">%.*f° %c</text>`, pr.y(lat), placeWidth, pr.y(lat)-2, digits, math.Abs(lat), letter(lat, 'N', 'S'))
	}
	for lon := math.Ceil(pr.west/step) * step; lon < pr.west+placeWidth/by/flat; lon += step {
		fmt.Fprintf(&b, `<path d="M%.1f 0V%d" stroke-opacity=".35"/><text x="%.1f" y="%d" stroke="none" fill="#6f7f87">%.*f° %c</text>`, pr.x(lon), placeHeight, pr.x(lon)+2, placeHeight-4, digits, math.Abs(math.Remainder(lon, 360)), letter(math.Remainder(lon, 360), 'E', 'W'))
	}
	fmt.Fprintf(&b, `<path d="%s" stroke-width="1.4"/>`, shore(pr))
	const x, y = placeWidth / 2, placeHeight / 2
	if r := at.Metres / north * by; r > 4 {
		fmt.Fprintf(&b, `<circle cx="%d" cy="%d" r="%.1f" stroke="#1c7f93" fill="#1c7f93" fill-opacity=".12"/>`, x, y, r)
	}
	fmt.Fprintf(&b, `<circle cx="%d" cy="%d" r="4" fill="#1c7f93" stroke="none"/>`, x, y)
	for n := 1.0; n < 1e6; n *= 10 {
		for _, k := range []float64{1, 2, 5} {
			if w := n * k / north * by; w >= 30 && w < 75 {
				fmt.Fprintf(&b, `<path d="M%.1f 14v4h%.1fv-4" stroke-width="1.4"/><text x="%.1f" y="12" stroke="none" fill="#6f7f87">%s</text>`, placeWidth-8-w, w, placeWidth-8-w, Length(n*k))
				n, k = 1e6, 5
			}
		}
	}
	b.WriteString("</svg>")
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Data(http.StatusOK, "image/svg+xml", b.Bytes())
	return nil
}
