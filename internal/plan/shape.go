package plan

import (
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/value"
)

var (
	weekdayNames = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}
	monthNames   = []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}
)

// calendar reads which moments of a field are frequent; nil if nothing is said.
func (c *compiler) calendar(f *field) (*grow.Calendar, bool) {
	var out grow.Calendar
	said, good := false, true
	for _, x := range []struct {
		word string
		read func(*node, *grow.Calendar) bool
	}{{"hours", c.hours}, {"weekdays", c.weekdays}, {"rush", c.rush}, {"season", c.season}, {"growth", c.growth}} {
		if n := f.decl.args[x.word]; n != nil {
			said = true
			good = x.read(n, &out) && good
		}
	}
	if !said || !good {
		return nil, good
	}
	if f.decl.args["weekdays"] != nil && out.Weekdays == [7]uint64{} {
		c.add(f.decl.args["weekdays"].place, "every day of the week has the weight 0")
		return nil, false
	}
	by, err := grow.NewCalendar(out)
	if err != nil {
		c.add(f.decl.place, "%s", err)
		return nil, false
	}
	return by, true
}

// weightOfHour is that of an hour without rush.
const weightOfHour = 10

// hours reads the hours that moments lie in: 9-17 is from 9:00 to before 17:00.
func (c *compiler) hours(n *node, out *grow.Calendar) bool {
	lo, hi, ok := strings.Cut(n.text, "-")
	a, err1 := strconv.Atoi(strings.TrimSpace(lo))
	b, err2 := strconv.Atoi(strings.TrimSpace(hi))
	if !ok || err1 != nil || err2 != nil || a < 0 || a > 23 || b < 0 || b > 24 || a == b {
		c.add(n.place, "hours must be two hours of a day, got %s", n.what()).Advise("hours: 9-17, or hours: 22-6")
		return false
	}
	for h := a; h != b%24; h = (h + 1) % 24 {
		out.Hours[h] = weightOfHour
	}
	return true
}

// weekdays reads days of the week: mon-fri, [sat, sun], or weights: {fri: 3, sat: 2}.
func (c *compiler) weekdays(n *node, out *grow.Calendar) bool {
	day := func(at *node, name string) (int, bool) {
		i := slices.Index(weekdayNames, strings.ToLower(strings.TrimSpace(name)))
		if i < 0 {
			c.add(at.place, "%q is not a day of the week", name).Nearest(name, weekdayNames)
		}
		return i, i >= 0
	}
	switch {
	case n.mapping:
		for i := range out.Weekdays {
			out.Weekdays[i] = weightOfHour
		}
		for _, x := range n.pairs {
			i, ok := day(x.key, x.key.text)
			w, fine := c.tenths(x.value, "the weight of "+x.key.text)
			if !ok || !fine {
				return false
			}
			out.Weekdays[i] = w
		}
		return true
	case n.list:
		for _, x := range n.items {
			i, ok := day(x, x.text)
			if !ok {
				return false
			}
			out.Weekdays[i] = weightOfHour
		}
		return true
	}
	lo, hi, two := strings.Cut(n.text, "-")
	if !two {
		hi = lo
	}
	a, ok1 := day(n, lo)
	b, ok2 := day(n, hi)
	if !ok1 || !ok2 {
		return false
	}
	for i := a; ; i = (i + 1) % 7 {
		if out.Weekdays[i] = weightOfHour; i == b {
			return true
		}
	}
}

// tenths reads a weight with at most one decimal, in tenths.
func (c *compiler) tenths(n *node, of string) (uint64, bool) {
	v, ok := c.plan.literal(n)
	r, fits := v.Rescale(1)
	if !ok || !value.IsNumber(v.Type) || !fits || r.N < 0 || r.N > 1000 {
		c.add(n.place, "%s must be between 0 and 100, with at most one decimal, got %s", of, n.what())
		return 0, false
	}
	return uint64(r.N), true
}

// rush reads the hours at which moments crowd.
func (c *compiler) rush(n *node, out *grow.Calendar) bool {
	list := n.items
	if n.scalar() {
		list = []*node{n}
	}
	if len(list) == 0 {
		c.add(n.place, "rush must be an hour or a list of hours, got %s", n.what()).Advise("rush: [8, 17]")
		return false
	}
	if out.Hours == [24]uint64{} {
		for h := range out.Hours {
			out.Hours[h] = weightOfHour
		}
	}
	for _, x := range list {
		h, ok := c.plan.number(x, "an hour of rush", 0, 23)
		if !ok {
			return false
		}
		for d, times := range []uint64{2, 4, 2} { // the hour before, this one, the next
			at := (h + 23 + uint64(d)) % 24
			out.Hours[at] = min(out.Hours[at]*times, 100*weightOfHour)
		}
	}
	return true
}

// season reads how frequent moments of a month are: {dec: 3, jul: 0.5}. Other months have 1.
func (c *compiler) season(n *node, out *grow.Calendar) bool {
	if !n.mapping {
		c.add(n.place, "season must be a mapping of months to weights, got %s", n.what()).
			Advise("season: {dec: 3, jul: 0.5}")
		return false
	}
	for _, x := range n.pairs {
		i := slices.Index(monthNames, strings.ToLower(x.key.text))
		if i < 0 {
			c.add(x.key.place, "%q is not a month", x.key.text).Nearest(x.key.text, monthNames)
			return false
		}
		w, ok := c.tenths(x.value, "the weight of "+x.key.text)
		if !ok {
			return false
		}
		if out.Months[i] = w * 100; w == 0 {
			out.Months[i] = grow.NoMonth
		}
	}
	return true
}

// growth reads by how much moments become more frequent: 3% a month.
func (c *compiler) growth(n *node, out *grow.Calendar) bool {
	text, monthly := strings.CutSuffix(n.text, " a month")
	number, percent := strings.CutSuffix(text, "%")
	v, err := value.ParseDecimal(number)
	r, fits := v.Rescale(4)
	if !monthly || !percent || err != nil || !fits || r.N < 0 || r.N > 100*10_000 {
		c.add(n.place, "growth must be between 0%% and 100%% a month, got %s", n.what()).Advise("growth: 3%% a month")
		return false
	}
	out.Growth = uint64(r.N)
	return true
}

// numberParameter reads a parameter of the shape of numbers.
func (p *Plan) numberParameter(n *node) (value.Value, bool) {
	x, ok := p.literal(n)
	if !ok || !value.IsNumber(x.Type) {
		p.add(n.place, "the parameters of a shape must be numbers, got %s", n.what())
		return x, false
	}
	return x, true
}

// spanParameter reads a parameter of the shape of distances in time, in microseconds.
func (p *Plan) spanParameter(n *node) (value.Value, bool) {
	span, err := value.ParseSpan(n.text)
	if err != nil {
		p.add(n.place, "the parameters of a shape of moments must be spans, such as 90m, got %s", n.what())
		return value.Value{}, false
	}
	return value.Int(span.After(0, 1)), true
}

// shape reads how numbers are distributed: normal, or {normal: {mean: 100, spread: 15}}.
func (p *Plan) shape(n *node, parameter func(*node) (value.Value, bool)) (grow.Shape, bool) {
	var out grow.Shape
	name, args := n, (*node)(nil)
	if n.mapping && len(n.pairs) == 1 {
		name, args = n.pairs[0].key, n.pairs[0].value
	}
	kinds := grow.ShapeNames()
	if !name.scalar() || !slices.Contains(kinds, name.text) {
		p.add(n.place, "shape must be one of %s, got %s", strings.Join(kinds, ", "), n.what()).
			Advise("shape: normal, or shape: {lognormal: {median: 40, p95: 200}}")
		return out, false
	}
	out.Name = name.text
	if args == nil {
		return out, true
	}
	good := true
	read := func(to **value.Value) func(_, v *node) {
		return func(_, v *node) {
			x, ok := parameter(v)
			good = good && ok
			*to = &x
		}
	}
	known := map[string]**value.Value{"mean": &out.Mean, "spread": &out.Spread, "median": &out.Median, "p95": &out.P95}
	s := shape{}
	for _, word := range grow.ShapeParams(out.Name) {
		s[word] = read(known[word])
	}
	p.each(args, "the shape "+out.Name, s)
	return out, good
}
