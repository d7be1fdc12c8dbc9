// Package geo measures on the ellipsoid of the World Geodetic System 1984.
package geo

import (
	"math"
	"time"
)

// The ellipsoid: NGA.STND.0036, section 3.4.
const (
	a = 6378137.0
	f = 1 / 298.257223563
	b = a * (1 - f)
)

// Point is a place in degrees; north and east are positive.
type Point struct{ Latitude, Longitude float64 }

// Distance is the length in metres of the shortest line between two points on the ellipsoid, to a millimetre, by T. Vincenty,
// Direct and Inverse Solutions of Geodesics on the Ellipsoid (Survey Review XXIII, 176, 1975). Between points that are nearly
// opposite its iteration does not end; of these the length along a sphere is given, which is right to half a percent.
func Distance(p, q Point) float64 {
	const rad = math.Pi / 180
	l := math.Remainder(q.Longitude-p.Longitude, 360) * rad
	u1, u2 := math.Atan((1-f)*math.Tan(p.Latitude*rad)), math.Atan((1-f)*math.Tan(q.Latitude*rad))
	s1, c1 := math.Sincos(u1)
	s2, c2 := math.Sincos(u2)
	lambda := l
	for range 200 {
		sl, cl := math.Sincos(lambda)
		sinSigma := math.Hypot(c2*sl, c1*s2-s1*c2*cl)
		if sinSigma == 0 {
			return 0
		}
		cosSigma := s1*s2 + c1*c2*cl
		sigma := math.Atan2(sinSigma, cosSigma)
		sinAlpha := c1 * c2 * sl / sinSigma
		cos2Alpha := 1 - sinAlpha*sinAlpha
		cos2m := 0.0 // on the equator
		if cos2Alpha > 1e-15 {
			cos2m = cosSigma - 2*s1*s2/cos2Alpha
		}
		c := f / 16 * cos2Alpha * (4 + f*(4-3*cos2Alpha))
		next := l + (1-c)*f*sinAlpha*(sigma+c*sinSigma*(cos2m+c*cosSigma*(2*cos2m*cos2m-1)))
		if math.Abs(next) > math.Pi {
			break
		}
		if math.Abs(next-lambda) > 1e-12 {
			lambda = next
			continue
		}
		uu := cos2Alpha * (a*a - b*b) / (b * b)
		ca := 1 + uu/16384*(4096+uu*(-768+uu*(320-175*uu)))
		cb := uu / 1024 * (256 + uu*(-128+uu*(74-47*uu)))
		delta := cb * sinSigma * (cos2m + cb/4*(cosSigma*(2*cos2m*cos2m-1)-cb/6*cos2m*(4*sinSigma*sinSigma-3)*(4*cos2m*cos2m-3)))
		return b * ca * (sigma - delta)
	}
	return sphere(p, q)
}

// sphere is the length in metres along a sphere of the ellipsoid's mean radius.
func sphere(p, q Point) float64 {
	const rad = math.Pi / 180
	h := hav((q.Latitude-p.Latitude)*rad) + math.Cos(p.Latitude*rad)*math.Cos(q.Latitude*rad)*hav((q.Longitude-p.Longitude)*rad)
	return 2 * (2*a + b) / 3 * math.Asin(math.Sqrt(min(1, h)))
}

func hav(x float64) float64 { return math.Pow(math.Sin(x/2), 2) }

// Fix is where something was at a time.
type Fix struct {
	Point
	At       time.Time
	Accuracy float64 // metres, 0 if it is not known
}

// Leg is the way between two fixes that follow one another.
type Leg struct {
	Metres  float64
	Lasted  time.Duration
	Speed   float64 // metres a second at least: along the shortest line, less what both accuracies allow; +Inf if no time passed
	TooFast bool    // faster than anything that carries people
}

// Fastest is the speed in metres a second above which a leg is told as impossible: some 1 080 km/h, beyond that of
// airliners, which cruise at 0.85 of the speed of sound (common practice).
const Fastest = 300

// Between is the leg from one fix to a later one.
func Between(p, q Fix) Leg {
	l := Leg{Metres: Distance(p.Point, q.Point), Lasted: q.At.Sub(p.At)}
	least := max(0, l.Metres-p.Accuracy-q.Accuracy)
	switch {
	case least == 0:
	case l.Lasted <= 0:
		l.Speed = math.Inf(1)
	default:
		l.Speed = least / l.Lasted.Seconds()
	}
	// Times are whole seconds as a rule: a step within one of them says nothing.
	l.TooFast = least > 1000 && l.Speed > Fastest
	return l
}
