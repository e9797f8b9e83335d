package value

// day is the microseconds of a day.
const day = 24 * 60 * 60 * 1_000_000

// widths of steps of time, in microseconds: those that clocks and calendars have.
var times = []uint64{
	1, 10, 100, 1000, 10_000, 100_000, 1_000_000, 5_000_000, 15_000_000, 60_000_000, 5 * 60_000_000, 15 * 60_000_000,
	60 * 60_000_000, 3 * 60 * 60_000_000, 6 * 60 * 60_000_000, 12 * 60 * 60_000_000, day, 2 * day, 7 * day, 14 * day,
	28 * day, 91 * day, 182 * day, 365 * day, 2 * 365 * day, 5 * 365 * day, 10 * 365 * day, 25 * 365 * day,
	100 * 365 * day, 1000 * 365 * day,
}

// Steps cuts the range from least to most into at most so many equal steps, and returns where each begins. Steps are
// as wide as people count: 1, 2 or 5 times a power of ten, for moments such as an hour or a week; the first begins at
// a multiple of that, at least or before it. They are nil where there is nothing to cut.
func Steps(least, most Value, atMost int) []Value {
	if IsNumber(least.Type) && IsNumber(most.Type) && (least.Type != most.Type || least.Scale != most.Scale) {
		scale := max(least.Scale, most.Scale)
		var exact, exactly bool
		least, exact = least.Rescale(scale)
		most, exactly = most.Rescale(scale)
		if !exact || !exactly {
			return nil
		}
	}
	if least.IsNull() || least.Type != most.Type || most.N <= least.N {
		return nil
	}
	width := stepWidth(least.Type, uint64(most.N)-uint64(least.N), uint64(atMost))
	if width == 0 {
		return nil
	}
	first := least.N - int64(modulo(least.N, width))
	if first > least.N { // it would be less than what a number can be
		first = least.N
	}
	var out []Value
	for at := first; ; at += int64(width) {
		v := least
		v.N = at
		out = append(out, v)
		if uint64(most.N)-uint64(at) < width {
			return out
		}
	}
}

// modulo is how far a number is above a multiple of width.
func modulo(n int64, width uint64) uint64 {
	if n >= 0 {
		return uint64(n) % width
	}
	below := (-uint64(n)) % width
	if below == 0 {
		return 0
	}
	return width - below
}

// stepWidth is the width of steps; 0 if there is none. One step more than the range needs may be there, since the
// first begins before least.
func stepWidth(t Type, span, atMost uint64) uint64 {
	fits := func(width uint64) bool { return span/width <= max(atMost, 3)-2 }
	if t == Timestamp || t == Time {
		for _, width := range times {
			if fits(width) {
				return width
			}
		}
		return 0
	}
	if t == Date {
		for _, width := range []uint64{1, 2, 7, 14, 28, 91, 182, 365} {
			if fits(width) {
				return width
			}
		}
	}
	for power := uint64(1); power <= 1_000_000_000_000_000_000; power *= 10 {
		for _, m := range []uint64{1, 2, 5} {
			if fits(m * power) {
				return m * power
			}
		}
	}
	return 0
}

// StepOf is the step in which a value is, of steps that Steps returned for a range that holds it.
func StepOf(starts []Value, v Value) int {
	if len(starts) < 2 {
		return 0
	}
	if v.Type != starts[0].Type || v.Scale != starts[0].Scale {
		var ok bool
		if v, ok = v.Rescale(starts[0].Scale); !ok {
			return 0
		}
	}
	width := uint64(starts[1].N) - uint64(starts[0].N)
	return int(min((uint64(v.N)-uint64(starts[0].N))/width, uint64(len(starts)-1)))
}
