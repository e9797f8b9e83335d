package grow

import (
	"errors"
	"math/bits"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Calendar says which moments are frequent: by the hour of the day, the day of the week, the month, and
// by growth. Hours and days are those of UTC.
type Calendar struct {
	Hours    [24]uint64 // weights; all 0 means that all are as frequent
	Weekdays [7]uint64  // from Monday on; all 0 means that all are as frequent
	Months   [12]uint64 // in thousandths; 0 means 1000
	Growth   uint64     // of a month, in millionths: 30,000 are 3%; 0: none

	most   uint64         // the largest weight of hour, day and month together
	shrink [maxAge]uint64 // weight of a moment so many months before the latest, in units of 2^-32
}

const (
	maxWeightOfCalendar = 1000 // of an hour or a day
	maxGrowth           = 1_000_000
	maxMonthWeight      = 100_000
	maxAge              = 240 // months: older moments are as rare as that
	monthDays           = 30
)

// NewCalendar checks a calendar and readies it.
func NewCalendar(c Calendar) (*Calendar, error) {
	even := func(weights []uint64, all uint64) (most uint64, ok bool) {
		for _, w := range weights {
			if w > all {
				return 0, false
			}
			most = max(most, w)
		}
		if most == 0 {
			for i := range weights {
				weights[i] = 1
			}
			most = 1
		}
		return most, true
	}
	hour, ok1 := even(c.Hours[:], maxWeightOfCalendar)
	day, ok2 := even(c.Weekdays[:], maxWeightOfCalendar)
	month := uint64(0)
	for i, w := range c.Months {
		if w == 0 {
			c.Months[i] = 1000
		}
		if w == NoMonth {
			c.Months[i] = 0
		}
		month = max(month, c.Months[i])
	}
	if month == 0 {
		return nil, errors.New("every month has the weight 0")
	}
	if !ok1 || !ok2 || month > maxMonthWeight {
		return nil, errors.New("a weight is too large")
	}
	if c.Growth > maxGrowth {
		return nil, errors.New("growth is more than 100% a month")
	}
	c.most = hour * day * month
	weight := uint64(1 << 32)
	for i := range c.shrink {
		c.shrink[i] = weight
		weight = weight * maxGrowth / (maxGrowth + c.Growth)
	}
	return &c, nil
}

// NoMonth is the weight of a month without moments: 0 means that nothing is said of it.
const NoMonth = ^uint64(0)

// weight is the weight of a moment, of at most most * 2^32, where latest is the last one that there can be.
func (c *Calendar) weight(us, latest int64) (hi, lo uint64) {
	day := value.FloorDiv(us, value.Day)
	_, month, _ := value.Civil(day)
	hour := (us - day*value.Day) / (value.Day / 24)
	weekday := floorMod(day+3, 7) // 1970-01-01 was a Thursday
	w := c.Hours[hour] * c.Weekdays[weekday] * c.Months[month-1]
	age := min(max(0, latest-us)/(monthDays*value.Day), maxAge-1)
	return bits.Mul64(w, c.shrink[age])
}

// choose draws one of n moments from lo on, a unit apart: rejection sampling (von Neumann 1951), which
// needs no table of the moments. The first try is even over the rows; where none of many tries is taken,
// the next moment with a weight is.
func (c *Calendar) choose(of cell, lo int64, n uint64, unit int64) int64 {
	const tries = 200
	latest := lo + int64(n-1)*unit
	draws := of.stream()
	u := of.fraction(drawValue)
	topHi, topLo := bits.Mul64(c.most, 1<<32)
	for range tries {
		us := lo + int64(rng.Below(u, n))*unit
		hi, low := c.weight(us, latest)
		// Taken with the probability weight / top: a number below top is below weight.
		if below128(draws.word(), topHi, topLo, hi, low) {
			return us
		}
		u = draws.word()
	}
	start := lo + int64(rng.Below(u, n))*unit
	for i := range uint64(24 * 366) {
		us := start + int64(i)*(value.Day/24)
		us -= floorMod(us-lo, unit)
		if us > latest {
			break
		}
		if hi, low := c.weight(us, latest); us >= lo && (hi > 0 || low > 0) {
			return us
		}
	}
	return start
}

// below128 reports whether a random part u of top is below a weight; both have 128 bits.
func below128(u, topHi, topLo, hi, lo uint64) bool {
	// u/2^64 * top, its upper 128 bits: the lowest 64 decide nothing that matters.
	h1, l1 := bits.Mul64(u, topHi)
	h2, _ := bits.Mul64(u, topLo)
	l, carry := bits.Add64(l1, h2, 0)
	h := h1 + carry
	return h < hi || h == hi && l < lo
}

// scheduled are moments by a calendar between two fixed ends.
type scheduled struct {
	typ   value.Type
	scale uint8
	lo    int64 // in microseconds
	n     uint64
	unit  int64
	by    *Calendar
}

func (s *scheduled) Type() value.Type { return s.typ }
func (s *scheduled) Scale() uint8     { return s.scale }
func (s *scheduled) grow(c cell, v *value.Value) {
	us := s.by.choose(c, s.lo, s.n, s.unit)
	if v.Type, v.Scale, v.N = s.typ, s.scale, us; s.typ == value.Date {
		v.N = value.FloorDiv(us, value.Day)
	}
}

// Schedule makes the moments of a range follow a calendar.
func Schedule(s Source, by *Calendar) (Source, error) {
	r, ok := s.(*ranged)
	if !ok || r.typ != value.Timestamp && r.typ != value.Date {
		return nil, errors.New("hours, weekdays, rush, season and growth are for moments and dates")
	}
	unit := int64(1)
	if r.typ == value.Date {
		unit = value.Day
	}
	return &scheduled{r.typ, r.scale, r.lo * unit, r.n, r.step * unit, by}, nil
}
