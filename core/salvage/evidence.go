package salvage

import "math"

// How a reading is believed.
//
// Bytes can be read as a row in more ways than one, and most of what can be read is no
// row. A reading begins with the odds that readings found as it was found are right: by a
// cell pointer, with its whole head, behind a free block's head (see basis). Each thing
// that is seen in it, a number far from those of live rows, a text that is none, changes
// these odds by a factor: how many times as often it is seen in wrong readings as in right
// ones. Odds multiply; here their natural logarithms are added. What comes of it is the
// score, and how often readings of such a score were right is the confidence.
//
// No kind of evidence decides alone, except what the format rules out. Old time stamps
// lie outside the range of live rows, since that is why they were deleted; nothing but a
// measured factor speaks against them.
//
// docs/recovery.md says how the weights were measured, and against what they were judged.

// kind of evidence.
type evidence uint8

const (
	missingColumn   evidence = iota // a column is not there that came last
	fewerValues                     // a record has fewer values than any live one
	foreignClass                    // a number column holds a text or a blob, or a text column a blob
	realForInteger                  // an integer column holds a real
	unseenNull                      // NULL where no live row has it
	beyond                          // a number outside the range of live rows, but of their magnitude
	far                             // a number far outside
	wild                            // a number of another magnitude
	oddNumber                       // a number that reads as text
	textNumber                      // and it is an integer of eight bytes, all of them characters
	notShortest                     // a number that the library would not have written so
	oddLength                       // a text much shorter or longer than those of live rows
	unseenLength                    // a text of another length than the one that all live rows have
	oddBeginning                    // a text that begins as none in live rows does, where there are many and few beginnings
	unseenBeginning                 // the same, where live rows are fewer or beginnings more
	oddEnding                       // a text at a record's end that ends as none of many in live rows does
	oddText                         // bytes that are not a text
	mixedText                       // a UTF-16 text of mixed scripts
	headInText                      // a text in which the head of another cell stands
	outlived                        // it ends with the head of an older version of the cell behind it
	negativeID                      // a row id below 1 where live rows have none
	otherOwner                      // another table's row than the page's
	noOwner                         // whose the page is is not known
	boundEntry                      // a type of an index entry was worked out, and one value is there to check it by
	shortAlone                      // one value of less than four bytes behind a head that is overwritten
	evidences
)

// weights are how much each kind of evidence speaks against a reading, each time that it is
// seen: the natural logarithm of how many times as often it is seen in wrong readings.
// They began as a regression's, and were rounded; those for which the lives showed few cases
// were then set by hand, by the counts of right and wrong readings (docs/recovery.md). A 6 is
// of what no right reading had.
var weights = [evidences]float64{
	missingColumn:   0.8,
	fewerValues:     1.5,
	foreignClass:    6,
	realForInteger:  0.8,
	unseenNull:      1.5,
	beyond:          0.3, // says nothing against a reading, but something between two tables
	far:             3,
	wild:            5.5,
	oddNumber:       2.5,
	textNumber:      3,
	notShortest:     6,
	oddLength:       2.9,
	unseenLength:    1.5,
	oddBeginning:    3,
	unseenBeginning: 1,
	oddEnding:       2,
	oddText:         6,
	mixedText:       4.2,
	headInText:      4.3,
	outlived:        6,
	negativeID:      3,
	otherOwner:      1,
	noOwner:         1.1,
	boundEntry:      2.5,
	shortAlone:      2,
}

// What a sum of evidence must stay below.
const (
	hopeless  = 9.0  // for a reading to be looked at any further
	unusual   = 2.0  // for one that rests on little else
	aFew      = 3    // live rows that a table must have to say anything of others
	enough    = 8    // live rows that a table must have for its ranges to count
	undecided = 1e-9 // what two sums must differ by
	// The older trees tell whose a page was, but pages move, and may have moved unseen.
	lineageSays = 4.0
	together    = 4 // cells of a page that count as so many that were found apart
)

// weighed is what speaks against a reading.
type weighed struct {
	sum  float64
	seen [evidences]uint8
}

func (w *weighed) add(k evidence, times int) {
	if times > 0 {
		w.seen[k] = uint8(min(255, int(w.seen[k])+times))
		w.sum += weights[k] * float64(times)
	}
}

// prefer compares what speaks against readings as rows of a and of b: more than 0 if a is the
// better one, 0 if neither is. More cells of a tree of many come to lie where trees no
// longer lead than of one of few.
func prefer(a, b *shape, againstA, againstB float64) float64 {
	byCells := a.cells() - b.cells()
	if d := againstB - againstA; math.Abs(d) > undecided || math.Abs(byCells) > 1.5 {
		return d + byCells
	}
	return 0
}

// cells is what the number of live cells says for a tree, in logarithms of odds and no
// more than 2; of a dropped one it is not known.
func (s *shape) cells() float64 {
	if s.dropped {
		return 1
	}
	return min(2, math.Log1p(float64(s.live))/3)
}

// basis is how a reading was found: what it rests on before its values are looked at.
type basis uint8

const (
	byPointer     basis = iota // a cell pointer of a whole page leads to it
	wholeHead                  // its head is whole, and it ends where the space does or the next cell begins
	wholeFree                  // its head is whole, in a free block or page, and nothing is known of its end
	wholeLoose                 // its head is whole, in the gap, and nothing is known of its end
	headlessExact              // its head is overwritten, and it ends where it must
	headlessNear               // and up to three bytes before, or where the rest of another cell begins
	headlessBound              // and a type was worked out from where it ends
	headlessLoose              // and nothing is known of its end
	headlessGap                // nor does a free block begin with it
	cutOff                     // its tail is overwritten
	cutHeadless                // and its head
	cutGap                     // its tail is overwritten, in the gap
	bases
)

// prior is the logarithm of the odds that a reading on such a basis is right, by how many
// numbers and texts it has: none, one, two, more.
var prior = [bases][4]float64{
	byPointer:     {6, 8, 9, 10},
	wholeHead:     {4.8, 6, 6.5, 7.8},
	wholeFree:     {2, 3.6, 5.2, 6.5},
	wholeLoose:    {1.5, 1.5, 2.5, 4.6},
	headlessExact: {3, 6, 6.5, 8},
	headlessNear:  {0, 2, 4.5, 6},
	headlessBound: {3, 5.9, 6, 7},
	headlessLoose: {-1, 0, 1, 4.3},
	headlessGap:   {-3, -2, -2, 0.5},
	cutOff:        {1, 2, 3.3, 2.8},
	cutHeadless:   {0, 1, 2.5, 2.9},
	cutGap:        {0, 1.5, 2.9, 3.8},
}

// aConstant is what a NULL or a constant, which takes no bytes, speaks for a reading,
// up to three of them.
const aConstant = 0.8

// basis says how c was found.
func (c *candidate) basis() basis {
	switch {
	case c.truncated && c.overwritten > 0:
		return cutHeadless
	case c.truncated && c.gap:
		return cutGap
	case c.truncated:
		return cutOff
	case c.pointed:
		return byPointer
	case c.overwritten == 0 && c.exact:
		return wholeHead
	case c.overwritten == 0 && !c.gap:
		return wholeFree
	case c.overwritten == 0:
		return wholeLoose
	case c.solved:
		return headlessBound
	case c.exact:
		return headlessExact
	case c.near:
		return headlessNear
	case c.gap:
		return headlessGap
	}
	return headlessLoose
}

// score is the logarithm of the odds that c is right.
func (c *candidate) score() float64 {
	b := c.basis()
	p := prior[b][min(c.values, 3)] - c.against.sum
	if b == wholeHead { // hardly a reading of something else: one search among hundreds may begin as no other does
		p += (weights[oddBeginning] - weights[unseenBeginning]) * float64(c.against.seen[oddBeginning])
	}
	if c.shape == nil || c.shape.live >= enough || c.overwritten == 0 { // else what is a constant cannot be told from what is not
		p += aConstant * float64(min(c.empty, 3))
	}
	if c.broken {
		p--
	}
	if c.shape == nil {
		p--
	}
	return p
}

// measured is how often readings of a score were right. Evidence is not independent, so a
// sum of it says too much in its middle: what is said is what was seen (docs/recovery.md).
var measured = []struct{ score, right float64 }{
	{-3, 0}, {-1, 0.06}, {0.25, 0.16}, {1.5, 0.16}, {2, 0.85}, {2.5, 0.93}, {3, 0.944}, {3.5, 0.961}, {4.25, 0.9875}, {5, 0.999}, {6, 0.9999},
}

// confidence is how often such readings are right, between 0 and 1, in hundredths.
func (c *candidate) confidence() float64 {
	score := c.score()
	i := 0
	for i < len(measured) && measured[i].score < score {
		i++
	}
	right := measured[min(i, len(measured)-1)].right
	if i > 0 && i < len(measured) {
		a, b := measured[i-1], measured[i]
		right = a.right + (b.right-a.right)*(score-a.score)/(b.score-a.score)
	}
	return math.Floor(100*right) / 100
}

// believed is the score from which on a reading is told.
const believed = 4.5

// firm reports whether the reading is believed enough to be told.
func (c *candidate) firm() bool { return !c.vague && c.score() >= believed }
