package page

import (
	"cmp"
	"context"
	"fmt"
	"html/template"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/diagram"
	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/value"
)

// Limits that keep a page small and fast to build.
const (
	sampleRows   = 12  // of an entity, before those that others refer to
	moreRows     = 24  // that are shown because others refer to them
	longestCell  = 80  // characters
	mostCells    = 700 // values of a sample, so that wide tables have fewer rows
	fewCounted   = 2_000
	manyCounted  = 10_000 // rows of an entity whose values are counted
	allCounted   = 75_000 // over all entities
	sampleRun    = 100    // consecutive rows
	mostEntities = 300
	mostPoints   = 800
	drawLooks    = 2_000
)

// OfPlan shows a plan: samples and distributions of its rows, which are grown for it. d is the plan's diagram.
func OfPlan(ctx context.Context, c *plan.Compiled, d *diagram.Diagram) (*Page, error) {
	if len(c.Targets) > mostEntities {
		return nil, diag.Usagef("a page shows at most %d entities, and the plan has %d", mostEntities, len(c.Targets))
	}
	x := &gatherer{plan: c, grower: grow.NewGrower(c.Set), page: &Page{Title: c.Plan.Name, About: aboutPlan(c)},
		shown: map[*grow.Entity]*rowSet{}}
	defer x.grower.Close()
	x.counted = countedOf(c)
	for _, t := range c.Targets {
		x.page.Entities = append(x.page.Entities, &Entity{Name: t.Plan.Name, ID: entityID(t.Plan.Name)})
	}
	x.chooseRows()
	for i, t := range c.Targets {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := x.entity(t, x.page.Entities[i]); err != nil {
			return nil, err
		}
	}
	for _, u := range c.Plan.Units {
		x.page.Units = append(x.page.Units, unitOf(c.Plan, u))
	}
	for _, r := range c.Plan.Always {
		x.page.Rules = append(x.page.Rules, Rule{Name: r.Name, Text: r.Text()})
	}
	if err := x.page.draw(d); err != nil {
		return nil, err
	}
	return x.page, x.grower.Err()
}

// gatherer makes a page of a plan.
type gatherer struct {
	plan    *plan.Compiled
	grower  *grow.Grower
	page    *Page
	shown   map[*grow.Entity]*rowSet
	counted int // rows of an entity whose values are counted
}

// rowSet is rows of an entity in the order in which they are shown.
type rowSet struct {
	rows []grow.Row
	has  map[grow.Row]bool
	own  int // those that are not there because others refer to them
}

func (s *rowSet) add(r grow.Row) {
	if !s.has[r] {
		s.has[r] = true
		s.rows = append(s.rows, r)
	}
}

// countedOf is how many rows of an entity are counted at most, so that large entities share what small ones leave over.
func countedOf(c *plan.Compiled) int {
	most := manyCounted
	for ; most > fewCounted; most -= fewCounted / 4 {
		all := uint64(0)
		for _, t := range c.Targets {
			all += min(t.Grow.Total(), uint64(most))
		}
		if all <= allCounted {
			break
		}
	}
	return most
}

// aboutPlan is the plan in a few sentences.
func aboutPlan(c *plan.Compiled) []string {
	rows, own := uint64(0), 0
	for _, t := range c.Targets {
		if !c.Elsewhere(t) && !t.Plan.Existing {
			rows += t.Grow.Total()
			own++
		}
	}
	p := c.Plan
	out := []string{fmt.Sprintf("The plan %s fills %s with %s.", p.Name, diag.Count(own, "table", "tables"),
		diag.Count(rows, "row", "rows"))}
	out = append(out, fmt.Sprintf("Its seed is %s and its clock stands at %s, so that each load writes the same "+
		"values.", p.Seed, plainMoment(p.Clock.String())))
	if n := len(p.BuildsOn); n > 0 {
		var paths []string
		for _, b := range p.BuildsOn {
			paths = append(paths, b.Path)
		}
		out = append(out, "It builds on "+strings.Join(paths, ", ")+".")
	}
	switch p.Commit {
	case plan.CommitChunk:
		out = append(out, "Rows are committed chunk by chunk.")
	case plan.CommitFamily:
		out = append(out, "Each family of rows is committed on its own.")
	default:
		out = append(out, "All rows are written in one transaction.")
	}
	if n := len(p.Units); n > 0 {
		out = append(out, fmt.Sprintf("After them, %s of dependent writes run.", diag.Count(n, "unit", "units")))
	}
	if n := len(p.Always); n > 0 {
		rules := diag.Count(n, "invariant", "invariants")
		out = append(out, rules+" must hold before anything is committed.")
	}
	return out
}

// entityID is the place of an entity on the page.
func entityID(name string) string { return "entity-" + name }

// rowID is the place of a row on the page.
func rowID(e *grow.Entity, r grow.Row) string {
	if r.Side {
		if name := e.Side[r.N].Name; name != "" {
			return "row-" + e.Name + "." + name
		}
		return fmt.Sprintf("row-%s.given.%d", e.Name, r.N)
	}
	return fmt.Sprintf("row-%s.%d", e.Name, r.N)
}

// chooseRows chooses the rows that are shown: the first of each entity, and those that they refer to.
func (x *gatherer) chooseRows() {
	for _, t := range x.plan.Targets {
		s := &rowSet{has: map[grow.Row]bool{}}
		x.shown[t.Grow] = s
		most := uint64(sampleRows)
		if n := len(t.Grow.Fields); n > 0 {
			most = uint64(max(4, min(sampleRows, mostCells/n/2)))
		}
		side := min(uint64(len(t.Grow.Side)), most/2)
		for n := range side {
			s.add(grow.Row{N: n, Side: true})
		}
		for n := range min(t.Grow.Rows, most-side) {
			s.add(grow.Row{N: n})
		}
		s.own = len(s.rows)
	}
	for range 2 { // what is shown so refers to rows, too
		for _, t := range x.plan.Targets {
			for _, r := range slices.Clone(x.shown[t.Grow].rows) {
				for _, f := range t.Grow.Fields {
					x.alsoShow(t.Grow, r, f)
				}
			}
		}
	}
	for _, s := range x.shown {
		slices.SortStableFunc(s.rows[:], func(a, b grow.Row) int {
			if a.Side != b.Side {
				if a.Side {
					return -1
				}
				return 1
			}
			return cmp.Compare(a.N, b.N)
		})
	}
}

// alsoShow shows the row that a cell refers to, if there is room.
func (x *gatherer) alsoShow(e *grow.Entity, r grow.Row, f *grow.Field) {
	if f.Target() == nil || f.Inner {
		return
	}
	to, ok := x.grower.Refers(e, r, f)
	s := x.shown[f.Target()]
	if ok && s != nil && len(s.rows) < s.own+moreRows {
		s.add(to)
	}
}

// entity fills in what is shown of an entity.
func (x *gatherer) entity(t *plan.Target, e *Entity) error {
	e.Rows = diag.Count(t.Grow.Total(), "row", "rows")
	table := "table " + t.Plan.Table
	switch {
	case x.plan.Elsewhere(t):
		table += ", filled by another plan"
	case t.Plan.Existing:
		table += ", whose rows are there already"
	}
	e.About = append(e.About, table, e.Rows)
	if p := t.Plan.Per; p != nil {
		e.About = append(e.About, fmt.Sprintf("%s for each %s", timesOf(t.Least, t.Most), p.Parent))
	}
	if f := t.Plan.RowsFrom; f != nil {
		e.About = append(e.About, "rows from "+f.File)
	}
	if m := t.Write.Mode; m != "" && m != plan.Insert {
		e.About = append(e.About, "written by "+string(m))
	}
	values, refers, of, err := x.count(t)
	if err != nil {
		return err
	}
	says := map[string]string{}
	for _, f := range t.Plan.Fields {
		says[f.Name] = f.Text()
	}
	for i, f := range t.Grow.Fields {
		if !isShown(f) {
			continue
		}
		out := &Field{Name: f.Name, Type: f.Source.Type().String(), Says: says[f.Name]}
		if i < len(t.Columns) && t.Columns[i] != nil {
			out.Type = t.Columns[i].Declared
		}
		if f.Target() != nil {
			out.Type = "reference to " + f.Target().Name
			out.Planned = referenceChart(refers[i], values[i], of, uint64(len(values[i])) == t.Grow.Total())
		} else {
			out.Planned = NewChart(report.SpreadOf(values[i], nil), of)
			addMoments(out.Planned, values[i])
		}
		e.Fields = append(e.Fields, out)
		x.search(e, f)
	}
	e.Places = x.places(t, values)
	x.conditions(e, t.Grow)
	x.below(e, t)
	x.sample(e, t)
	return x.grower.Err()
}

// isShown reports whether a field is shown: not a key that the plan leaves unsaid, nor what is not stored.
func isShown(f *grow.Field) bool { return !f.Hidden && !f.Inner }

func timesOf(least, most uint64) string {
	if least == most {
		return strconv.FormatUint(least, 10)
	}
	return fmt.Sprintf("%d to %d", least, most)
}

// count grows rows of an entity, all of them or runs that are evenly spread: values by field, and the rows that
// references point to.
func (x *gatherer) count(t *plan.Target) (values [][]value.Value, refers [][]grow.Row, of string, err error) {
	e := t.Grow
	values, refers = make([][]value.Value, len(e.Fields)), make([][]grow.Row, len(e.Fields))
	var b grow.Batch
	add := func(first grow.Row, n int) {
		x.grower.Grow(e, first, n, &b)
		for i := range b.Len {
			for j, f := range e.Fields {
				if !isShown(f) {
					continue
				}
				values[j] = append(values[j], b.Row(i)[j])
				if f.Target() != nil {
					if to, ok := x.grower.Refers(e, b.At(i), f); ok {
						refers[j] = append(refers[j], to)
					}
				}
			}
		}
	}
	add(grow.Row{Side: true}, min(len(e.Side), x.counted/2))
	all := e.Total() <= uint64(x.counted)
	step, runs := uint64(sampleRun), (e.Rows+sampleRun-1)/sampleRun
	if !all {
		runs = uint64(x.counted / sampleRun)
		step = e.Rows / runs
	}
	for i := range runs {
		if i*step < e.Rows {
			add(grow.Row{N: i * step}, int(min(sampleRun, e.Rows-i*step)))
		}
	}
	of = "all " + diag.Count(e.Total(), "row", "rows")
	if !all {
		of = fmt.Sprintf("%s of %s, evenly taken", diag.Number(countedRows(values)),
			diag.Count(e.Total(), "row", "rows"))
	}
	if e.Total() == 1 {
		of = "the only row"
	}
	return values, refers, of, x.grower.Err()
}

// countedRows is how many rows were counted.
func countedRows(values [][]value.Value) (n int) {
	for _, v := range values {
		n = max(n, len(v))
	}
	return n
}

// referenceChart shows how often rows are referred to; only if all rows are counted: of some, it would be too seldom.
func referenceChart(refers []grow.Row, values []value.Value, of string, all bool) *Chart {
	times := map[grow.Row]int{}
	for _, r := range refers {
		times[r]++
	}
	s := report.Spread{Rows: len(values), Nulls: len(values) - len(refers), Distinct: len(times)}
	c := &Chart{Of: of, Facts: []string{"NULL " + report.Percent(s.Nulls, s.Rows)}}
	if !all {
		c.Facts = append(c.Facts, "how often a row is referred to is left out")
		return c
	}
	c.Facts = append(c.Facts, "refers to "+diag.Count(len(times), "row", "rows"))
	if len(times) == 0 {
		return c
	}
	byTimes := map[int]int{}
	for _, n := range times {
		byTimes[n]++
	}
	countChart(c, byTimes, "times referred to", len(times))
	return c
}

// countChart draws how many things have a count.
func countChart(c *Chart, by map[int]int, what string, whole int) {
	var list []value.Value
	for n, times := range by {
		for range times {
			list = append(list, value.Int(int64(n)))
		}
	}
	s := report.SpreadOf(list, nil)
	if len(s.Choices) > 0 {
		slices.SortFunc(s.Choices, func(a, b report.Choice) int {
			x, _ := strconv.Atoi(a.Value)
			y, _ := strconv.Atoi(b.Value)
			return cmp.Compare(x, y)
		})
		c.Bars, c.Heading, c.Open = barsOf(s.Choices, whole), what, true
		return
	}
	c.Picture = histogram(s.Counts, what)
	c.Caption = what + ": " + captionOf(s.Counts, s.Starts, false)
	c.Bars, c.Heading = barsOf(report.Gather(s.Starts, s.Counts), whole), what+", from"
}

// addMoments shows moments in a calendar and by the hour, in place of a histogram.
func addMoments(c *Chart, values []value.Value) {
	if picture, caption, ok := calendar(values); ok && !c.Open {
		c.Picture, c.Caption = picture, caption
	}
	if picture, caption, ok := hours(values); ok && !c.Open {
		c.Picture += picture
		c.Caption = strings.TrimPrefix(c.Caption+"; "+caption, "; ")
	}
}

// search says how a reference finds rows under a condition.
func (x *gatherer) search(e *Entity, f *grow.Field) {
	s, ok := x.grower.Searched(f, drawLooks)
	switch {
	case !ok:
	case s.Found:
		e.Draws = append(e.Draws, fmt.Sprintf("%s: %s of %s meet the condition; they are found once, so each row "+
			"needs one draw", f.Name, diag.Number(s.Right), diag.Count(s.Looked, "row", "rows")))
	case s.Right == 0:
		e.Draws = append(e.Draws, fmt.Sprintf("%s: none of %s looks found a row that meets the condition", f.Name,
			diag.Number(s.Looked)))
	default:
		e.Draws = append(e.Draws, fmt.Sprintf("%s: about %.1f draws a row until the condition is met", f.Name,
			float64(s.Looked)/float64(s.Right)))
	}
}

// conditions says how often rows are drawn until they meet the conditions of their entity.
func (x *gatherer) conditions(e *Entity, of *grow.Entity) {
	const rows = 500
	texts, draws := x.grower.Redraws(of, rows)
	for i, d := range draws {
		e.Draws = append(e.Draws, fmt.Sprintf("%s: %.2f draws a row", texts[i],
			float64(d.Looked)/float64(max(1, d.Right))))
	}
}

// below shows how many children each row has.
func (x *gatherer) below(e *Entity, t *plan.Target) {
	for _, child := range t.Grow.Children() {
		n := min(t.Grow.Rows, uint64(x.counted))
		by := map[int]int{}
		for i := range n {
			from, to := x.grower.Below(child, grow.Row{N: i * (t.Grow.Rows / n)})
			by[int(to-from)]++
		}
		c := &Chart{Of: "all " + diag.Count(t.Grow.Rows, "row", "rows")}
		if n < t.Grow.Rows {
			c.Of = fmt.Sprintf("%s of %s, evenly taken", diag.Number(n), diag.Count(t.Grow.Rows, "row", "rows"))
		}
		if len(by) > 0 {
			countChart(c, by, child.Name+" rows", int(n))
			e.Below = append(e.Below, Children{Title: fmt.Sprintf("%s for each %s", child.Name, t.Plan.Name), Chart: c})
		}
	}
}

// places draws the rows as points, if two fields are a latitude and a longitude.
func (x *gatherer) places(t *plan.Target, values [][]value.Value) template.HTML {
	var latitude, longitude []value.Value
	for i, f := range t.Grow.Fields {
		name := strings.ToLower(f.Name)
		switch {
		case !isShown(f) || !value.IsNumber(f.Source.Type()):
		case strings.Contains(name, "latitude") || name == "lat":
			latitude = values[i]
		case strings.Contains(name, "longitude") || name == "lon" || name == "lng":
			longitude = values[i]
		}
	}
	var north, east []float64
	for i := range min(len(latitude), len(longitude), mostPoints) {
		if latitude[i].IsNull() || longitude[i].IsNull() {
			continue
		}
		a, errA := strconv.ParseFloat(latitude[i].String(), 64)
		b, errB := strconv.ParseFloat(longitude[i].String(), 64)
		if errA == nil && errB == nil {
			north, east = append(north, a), append(east, b)
		}
	}
	return places(north, east)
}

// sample shows the chosen rows of an entity.
func (x *gatherer) sample(e *Entity, t *plan.Target) {
	s := &e.Sample
	for _, f := range t.Grow.Fields {
		if isShown(f) {
			number := f.Target() == nil && value.IsNumber(f.Source.Type())
			s.Columns = append(s.Columns, report.Column{Name: f.Name, Number: number})
		}
	}
	var b grow.Batch
	for _, r := range x.shown[t.Grow].rows {
		x.grower.Grow(t.Grow, r, 1, &b)
		if b.Len == 0 {
			return // the error is the grower's
		}
		row := SampleRow{ID: rowID(t.Grow, r), Label: labelOf(t.Grow, r)}
		for i, f := range t.Grow.Fields {
			if !isShown(f) {
				continue
			}
			to, ok := x.grower.Refers(t.Grow, r, f)
			switch v := b.Row(0)[i]; {
			case ok:
				c := Cell{Text: f.Target().Label(to)}
				if x.shown[f.Target()] != nil && x.shown[f.Target()].has[to] {
					c.Link = rowID(f.Target(), to)
				}
				row.Cells = append(row.Cells, c)
			case v.IsNull():
				row.Cells = append(row.Cells, Cell{Text: "NULL", Null: true})
			default:
				row.Cells = append(row.Cells, Cell{Text: short(safe.Visible(report.Cell(v)), longestCell),
					Number: value.IsNumber(v.Type)})
			}
		}
		s.Rows = append(s.Rows, row)
	}
	if n := t.Grow.Total(); n > uint64(len(s.Rows)) {
		s.More = fmt.Sprintf("%s of %s: the first ones, and those that rows on this page refer to",
			diag.Number(len(s.Rows)), diag.Count(n, "row", "rows"))
	}
}

// labelOf is what a row is called within its entity.
func labelOf(e *grow.Entity, r grow.Row) string {
	return strings.Trim(strings.TrimPrefix(e.Label(r), e.Name), ". ")
}

// unitOf is a unit with its steps.
func unitOf(p *plan.Plan, u *plan.Unit) Unit {
	out := Unit{Name: u.Name}
	if file := u.File(p); file != "" {
		out.From = file
	}
	for _, s := range u.AllSteps() {
		step := s.Label()
		if s.Because != "" {
			step += ", or it is refused: " + s.Because
		}
		out.Steps = append(out.Steps, step)
	}
	return out
}

// draw puts the diagram on the page. Boxes lead to their entities.
func (p *Page) draw(d *diagram.Diagram) error {
	if d == nil || len(d.Boxes) == 0 {
		return nil
	}
	const few = 12
	if len(d.Boxes) > few {
		d = d.KeysOnly()
	}
	for i := range d.Boxes {
		if p.Entity(d.Boxes[i].Name) != nil {
			d.Boxes[i].Link = "#" + entityID(d.Boxes[i].Name)
		}
	}
	layout, err := diagram.NewLayout(d)
	if err != nil {
		return err
	}
	picture, err := layout.Draw("svg")
	if err != nil {
		return err
	}
	p.Diagram = template.HTML(picture) // its texts are escaped
	return nil
}

// Entity is an entity of the page by its name; nil if there is none.
func (p *Page) Entity(name string) *Entity {
	for _, e := range p.Entities {
		if e.Name == name {
			return e
		}
	}
	return nil
}
