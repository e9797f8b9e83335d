package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

// Draft writes a plan for the tables of a database: rows and values to begin with,
// to be made better by hand. name becomes the plan's name.
func Draft(db *schema.Database, name, url string) string {
	d := &drafter{db: db, entity: map[string]string{}, parent: map[string]*schema.Reference{}}
	d.names()
	d.families()
	var b strings.Builder
	b.WriteString("# Drafted from the tables. Make it yours: how many rows, and how each field gets its\n" +
		"# value. evensprout catalog lists the kinds; evensprout check tells what does not fit.\n\n")
	fmt.Fprintf(&b, "name: %s\nedition: 1\nseed: %s-1\nclock: 2026-05-01T08:00:00Z   # what now means: the wall clock is never read\n", quote(name), plainName(name))
	if url != "" {
		fmt.Fprintf(&b, "database: %s\n", quote(url))
	}
	b.WriteString("\nentities:\n")
	for i, t := range db.Tables {
		if i > 0 {
			b.WriteByte('\n')
		}
		d.table(&b, t)
	}
	return b.String()
}

type drafter struct {
	db     *schema.Database
	entity map[string]string            // entity names by table
	parent map[string]*schema.Reference // the reference to the parent, by table
}

func plainName(s string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return '-'
	}, s), "-")
}

// names gives every table an entity name: the singular, in capitals.
func (d *drafter) names() {
	used := map[string]bool{}
	for _, t := range d.db.Tables {
		name := EntityName(t.Name)
		for i := 2; used[name]; i++ {
			name = fmt.Sprintf("%s%d", EntityName(t.Name), i)
		}
		used[name] = true
		d.entity[t.Name] = name
	}
}

// EntityName makes an entity's name of a table's: vessel_amenities to VesselAmenity.
func EntityName(table string) string {
	words := strings.FieldsFunc(table, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	if len(words) == 0 {
		return "Thing"
	}
	last := &words[len(words)-1]
	*last = singular(*last)
	var b strings.Builder
	for _, w := range words {
		r := []rune(w)
		b.WriteString(string(unicode.ToUpper(r[0])) + string(r[1:]))
	}
	if name := b.String(); unicode.IsLetter([]rune(name)[0]) {
		return name
	}
	return "T" + b.String()
}

func singular(w string) string {
	low := strings.ToLower(w)
	switch {
	case strings.HasSuffix(low, "ies") && len(w) > 4:
		return w[:len(w)-3] + "y"
	case strings.HasSuffix(low, "sses"), strings.HasSuffix(low, "xes"), strings.HasSuffix(low, "ches"), strings.HasSuffix(low, "shes"):
		return w[:len(w)-2]
	case strings.HasSuffix(low, "s") && !strings.HasSuffix(low, "ss") && !strings.HasSuffix(low, "us") && len(w) > 3:
		return w[:len(w)-1]
	}
	return w
}

// families finds each table's parent: a reference that the rows cannot do without
// and go with, or the first half of a many-to-many table.
func (d *drafter) families() {
	for _, t := range d.db.Tables {
		for i := range t.References {
			r := &t.References[i]
			if len(r.Columns) != 1 || strings.EqualFold(r.Table, t.Name) || d.db.Table(r.Table) == nil || len(d.db.Table(r.Table).PrimaryKey) != 1 {
				continue
			}
			col := t.Column(r.Columns[0])
			joins := len(t.PrimaryKey) > 1 && slices.Contains(t.PrimaryKey, col.Name)
			if (col.NotNull && r.Cascade || joins) && !d.above(t.Name, r.Table) {
				d.parent[t.Name] = r
				break
			}
		}
	}
}

// above tells whether making up the parent of table would close a circle.
func (d *drafter) above(table, up string) bool {
	for range len(d.db.Tables) + 1 {
		if strings.EqualFold(up, table) {
			return true
		}
		r := d.parent[up]
		if r == nil {
			return false
		}
		up = r.Table
	}
	return true
}

func (d *drafter) table(b *strings.Builder, t *schema.Table) {
	fmt.Fprintf(b, "  %s:\n    table: %s\n", d.entity[t.Name], quote(t.Name))
	up := d.parent[t.Name]
	uniques := d.composite(t)
	switch {
	case up != nil:
		via := ""
		if d.refersTwice(t, up.Table) {
			via = ", via: " + quote(up.Columns[0])
		}
		fmt.Fprintf(b, "    per: {%s: %s%s}\n", d.entity[up.Table], d.children(t), via)
	default:
		fmt.Fprintf(b, "    rows: %d\n", d.rows(t))
	}
	for _, u := range uniques {
		fmt.Fprintf(b, "    unique: [[%s]]\n", strings.Join(u, ", "))
	}
	var lines [][2]string
	var moment string
	for _, c := range t.Columns {
		if c.Generated || up != nil && strings.EqualFold(c.Name, up.Columns[0]) {
			continue
		}
		if len(t.PrimaryKey) == 1 && c.Name == t.PrimaryKey[0] && (c.Kind == schema.Integer || c.Kind == schema.UUID) && t.Reference(c.Name) == nil {
			continue // keys are planned by themselves
		}
		source := d.source(t, c, moment, len(uniques) > 0 && slices.ContainsFunc(uniques, func(u []string) bool { return slices.Contains(u, c.Name) }))
		if (c.Kind == schema.Timestamp || c.Kind == schema.Date) && c.NotNull && !strings.Contains(source, "between") {
			moment = c.Name
		}
		lines = append(lines, [2]string{quote(c.Name) + ":", source})
	}
	if len(lines) > 0 {
		b.WriteString("    fields:\n")
	}
	width := 0
	for _, l := range lines {
		width = max(width, len(l[0]))
	}
	for _, l := range lines {
		fmt.Fprintf(b, "      %-*s %s\n", width, l[0], l[1])
	}
	for _, check := range t.Checks {
		fmt.Fprintf(b, "    # the table wants: %s\n", strings.Join(strings.Fields(plainCheck(check.Expression)), " "))
	}
}

func (d *drafter) refersTwice(t *schema.Table, table string) bool {
	n := 0
	for _, r := range t.References {
		if strings.EqualFold(r.Table, table) && len(r.Columns) == 1 {
			n++
		}
	}
	return n > 1
}

// children is how many rows a parent gets: a few, but not more than its rows can
// differ.
func (d *drafter) children(t *schema.Table) string {
	if len(t.PrimaryKey) > 1 {
		return "2"
	}
	return "1..3"
}

const (
	draftRows      = 100
	draftReference = 12   // rows of a small table that only others refer to
	fewColumns     = 5    // such a table has at most so many columns
	roomy          = 1000 // values enough for a unique field
)

func (d *drafter) rows(t *schema.Table) uint64 {
	rows := uint64(draftRows)
	if len(t.References) == 0 && len(t.Columns) <= fewColumns && slices.ContainsFunc(d.db.Tables, func(o *schema.Table) bool {
		return slices.ContainsFunc(o.References, func(r schema.Reference) bool { return strings.EqualFold(r.Table, t.Name) })
	}) {
		rows = draftReference
	}
	// A unique column with few allowed values bounds the rows.
	for _, c := range t.Columns {
		if t.IsKey(c.Name) {
			if allowed := allowedValues(t, c); allowed != nil {
				rows = min(rows, uint64(len(allowed)))
			}
			if r := t.Reference(c.Name); r != nil {
				if to := d.db.Table(r.Table); to != nil && to != t {
					rows = min(rows, d.rowsOf(to, 0))
				}
			}
		}
	}
	return rows
}

func (d *drafter) rowsOf(t *schema.Table, depth int) uint64 {
	if d.parent[t.Name] != nil || depth > 5 {
		return draftReference
	}
	return d.rows(t)
}

// composite returns the unique keys of several columns that the plan must keep by
// a group of fields.
func (d *drafter) composite(t *schema.Table) [][]string {
	up := d.parent[t.Name]
	used := map[string]bool{}
	var groups [][]string
	for _, key := range t.Keys() {
		if key.Partial || len(key.Columns) < 2 {
			continue
		}
		ok := true
		for _, name := range key.Columns {
			if up != nil && strings.EqualFold(name, up.Columns[0]) || t.IsKey(name) || used[name] {
				ok = false // kept by a restarted number, a distinct pick, or by itself
			}
		}
		if !ok {
			continue
		}
		for _, name := range key.Columns {
			used[name] = true
		}
		groups = append(groups, key.Columns)
	}
	return groups
}

// within tells whether a column is unique only among the rows of one parent.
func (d *drafter) within(t *schema.Table, c *schema.Column) bool {
	up := d.parent[t.Name]
	if up == nil {
		return false
	}
	return slices.ContainsFunc(t.Keys(), func(k schema.Unique) bool {
		return len(k.Columns) > 1 && slices.Contains(k.Columns, up.Columns[0]) && slices.Contains(k.Columns, c.Name)
	})
}

func (d *drafter) source(t *schema.Table, c *schema.Column, moment string, grouped bool) string {
	unique := t.IsKey(c.Name) && !grouped
	nulls := ""
	if !c.NotNull {
		nulls = ", nulls: 10%"
	}
	if r := t.WideReference(c.Name); r != nil && !c.NotNull && t.Reference(c.Name) == nil {
		return fmt.Sprintf("null   # %s together refer to %s", strings.Join(r.Columns, ", "), r.Table)
	}
	if r := t.Reference(c.Name); r != nil {
		if to := d.entity[d.tableName(r.Table)]; to != "" {
			extra := ""
			switch {
			case c.NotNull && strings.EqualFold(r.Table, t.Name):
				return "1   # the first row: some row must refer to itself"
			case unique:
				extra = ", unique: true"
			case d.within(t, c):
				extra = ", distinct: true"
			}
			return fmt.Sprintf("{pick: %s%s%s}", to, extra, nulls)
		}
	}
	if d.within(t, c) && c.Kind == schema.Integer {
		return "{count: {from: 1, restart: true}}"
	}
	var source string
	switch {
	case (c.Kind == schema.Timestamp || c.Kind == schema.Date) && moment != "" && !isBirth(c.Name):
		source = fmt.Sprintf("{after: %s, within: 30d}", quote(moment))
	default:
		source = draftSource(t, c)
	}
	if unique {
		source = uniqueSource(c, source)
	}
	return strings.TrimSuffix(source, "}") + nulls + "}"
}

func (d *drafter) tableName(name string) string {
	if t := d.db.Table(name); t != nil {
		return t.Name
	}
	return ""
}

// uniqueSource takes a source with room for all rows.
func uniqueSource(c *schema.Column, source string) string {
	switch {
	case strings.HasPrefix(source, "{uuid"), strings.HasPrefix(source, "{count"):
		return source
	case strings.HasPrefix(source, "{choose"):
	case c.Kind == schema.Text && !strings.HasPrefix(source, "{pattern") && kindSpace(source) < roomy:
		n := 8
		if c.Length > 0 {
			n = min(n, c.Length)
		}
		source = fmt.Sprintf("{pattern: \"[A-Z]{%d}[0-9]{%d}\"}", (n+1)/2, n-(n+1)/2)
	case c.Kind == schema.Integer:
		return "{count: 1}"
	case c.Kind == schema.Decimal || c.Kind == schema.Real:
		source = fmt.Sprintf("{between: [1, %s]}", strings.Repeat("9", clampDigits(c)))
	}
	return strings.TrimSuffix(source, "}") + ", unique: true}"
}

func isBirth(name string) bool {
	return strings.Contains(schema.Plain(name), "birth") || strings.Contains(schema.Plain(name), "born")
}

// byName are sources that a column's name suggests, tried in order.
var byName = []struct {
	words  string // alternatives, without word signs
	source string
}{
	{"email|mail|emailaddress", "{kind: email}"},
	{"givenname|firstname|forename", "{kind: given-name}"},
	{"familyname|lastname|surname", "{kind: family-name}"},
	{"fullname|personname|contactname|author|owner|customer|guest|traveller|contact|captain", "{kind: name}"},
	{"username|login|nickname", "{kind: username}"},
	{"tel|phone|telephone|mobile|phonenumber", "{kind: tel}"},
	{"street|address|streetaddress|addressline1", "{kind: street-address}"},
	{"town|city|locality|village|place", "{kind: locality}"},
	{"region|county|state|province", "{kind: region}"},
	{"postcode|postalcode|zip|zipcode", "{kind: postal-code}"},
	{"company|org|organisation|organization|companyname", "{kind: org}"},
	{"jobtitle|job|role|position", "{kind: organization-title}"},
	{"url|website|homepage|link", "{kind: url}"},
	{"host|hostname|domain", "{kind: host}"},
	{"ip|ipaddress|ipv4", "{kind: ipv4}"},
	{"mac|macaddress", "{kind: mac}"},
	{"colour|color", "{kind: colour}"},
	{"title|name|label|subject|heading", "{kind: text.title}"},
	{"html|bodyhtml|content|noticehtml", "{kind: text.html}"},
	{"body|description|text|bio|about|notes|note|comment|message|summary", "{kind: text.paragraph}"},
}

// draftSource is a source for a column by its checks, name and type, as a flow
// mapping of YAML.
func draftSource(t *schema.Table, c *schema.Column) string {
	if values := allowedValues(t, c); values != nil {
		return "{choose: [" + strings.Join(values, ", ") + "]}"
	}
	if isIdentity(t, c) {
		return "{uuid: v4}"
	}
	if c.Kind == schema.Text || c.Kind == schema.Any {
		plain := schema.Plain(c.Name)
		for _, n := range byName {
			if slices.Contains(strings.Split(n.words, "|"), plain) && fits(c, n.source) {
				return n.source
			}
		}
		for _, n := range byName {
			for _, w := range strings.Split(n.words, "|") {
				if len(w) > 3 && strings.HasSuffix(plain, w) && fits(c, n.source) {
					return n.source
				}
			}
		}
	}
	switch c.Kind {
	case schema.Integer:
		lo, hi := bounds(t, c, 1, 100)
		return fmt.Sprintf("{between: [%d, %d]}", lo, hi)
	case schema.Decimal, schema.Real:
		scale := 2
		if c.Kind == schema.Decimal && c.Precision > 0 {
			scale = c.Scale
		}
		most := int64(100)
		if n := clampDigits(c); n < 3 {
			most = pow10(n) - 1
		}
		lo, hi := bounds(t, c, 1, most)
		if scale == 0 {
			return fmt.Sprintf("{between: [%d, %d]}", lo, hi)
		}
		zeros := strings.Repeat("0", scale)
		return fmt.Sprintf("{between: [%d.%s, %d.%s]}", lo, zeros, hi, zeros)
	case schema.Boolean:
		return "{share: 50%}"
	case schema.Date:
		if isBirth(c.Name) {
			return "{between: [1950-01-01, 2008-12-31]}"
		}
		return "{between: [2025-01-01, 2026-04-30]}"
	case schema.Time:
		return "{between: [06:00, 21:45], step: 15m}"
	case schema.Timestamp:
		return "{before: clock, within: 400d}"
	case schema.UUID:
		return "{uuid: v4}"
	case schema.JSON:
		return "{value: \"{}\"}"
	case schema.Bytes:
		if c.Length > 0 {
			return fmt.Sprintf("{bytes: %d}", min(c.Length, 16))
		}
		return "{bytes: 16}"
	}
	for _, s := range []string{"{kind: text.title}", "{kind: noun}"} {
		if fits(c, s) {
			return s
		}
	}
	return fmt.Sprintf("{pattern: \"[A-Z]{%d}\"}", c.Length)
}

// kindSpace is how many values a drafted kind has; 0 if they are not counted.
func kindSpace(source string) uint64 {
	if k, ok := draftedKind(source); ok {
		return k.Space()
	}
	return 0
}

func draftedKind(source string) (grow.Kind, bool) {
	name := strings.TrimSuffix(strings.TrimPrefix(source, "{kind: "), "}")
	kinds := grow.Kinds()
	i := slices.IndexFunc(kinds, func(k grow.Kind) bool { return k.Name == name })
	if i < 0 {
		return grow.Kind{}, false
	}
	return kinds[i], true
}

// isIdentity tells whether a text column looks like the place of a UUID.
func isIdentity(t *schema.Table, c *schema.Column) bool {
	const uuidLength = 36
	if c.Kind != schema.Text || c.Length > 0 && c.Length != uuidLength {
		return false
	}
	plain := schema.Plain(c.Name)
	return strings.HasSuffix(plain, "uuid") || strings.HasSuffix(plain, "guid") || plain == "id" && t.IsKey(c.Name)
}

// fits tells whether all texts of a drafted kind fit a column.
func fits(c *schema.Column, source string) bool {
	if c.Length == 0 {
		return true
	}
	k, ok := draftedKind(source)
	if !ok {
		return false
	}
	if k.Space() == 0 {
		return c.Length >= 4000
	}
	src, err := grow.NewKind(k, nil)
	if err != nil {
		return false
	}
	_, n := grow.LongestText(src)
	return n <= c.Length
}

// clampDigits is how many digits a number of the column has before the point.
func clampDigits(c *schema.Column) int {
	if c.Precision > 0 {
		return max(1, min(c.Precision-c.Scale, 9))
	}
	return 9
}

func pow10(n int) int64 {
	p := int64(1)
	for range n {
		p *= 10
	}
	return p
}

var listPattern = regexp.MustCompile(`(?is)^\(*\s*["\x60\[]?(\w+)["\x60\]]?\s+in\s*\(\s*((?:'[^']*'|[-\d.]+)(?:\s*,\s*(?:'[^']*'|[-\d.]+))*)\s*\)\s*\)*$`)

// allowedValues reads a check such as status IN ('a', 'b'), as YAML scalars.
func allowedValues(t *schema.Table, c *schema.Column) []string {
	if c.Values != nil {
		var values []string
		for _, v := range c.Values {
			values = append(values, quote(v))
		}
		return values
	}
	for _, check := range t.Checks {
		m := listPattern.FindStringSubmatch(plainCheck(check.Expression))
		if m == nil || !strings.EqualFold(m[1], c.Name) {
			continue
		}
		var values []string
		for _, v := range regexp.MustCompile(`'[^']*'|[-\d.]+`).FindAllString(m[2], -1) {
			if strings.HasPrefix(v, "'") {
				v = quote(strings.Trim(v, "'"))
			}
			values = append(values, v)
		}
		return values
	}
	return nil
}

var (
	comparePattern = regexp.MustCompile(`(?i)["\x60\[]?(\w+)["\x60\]]?\s*(>=|<=|>|<)\s*(-?\d+)`)
	betweenPattern = regexp.MustCompile(`(?i)["\x60\[]?(\w+)["\x60\]]?\s+between\s+(-?\d+)\s+and\s+(-?\d+)`)
)

var (
	castPattern   = regexp.MustCompile(`::"?[a-z_]+"?(?: varying| precision| with(?:out)? time zone)?(?:\(\d+(?:,\d+)?\))?(?:\[\])?`)
	aloneInParens = regexp.MustCompile(`\(("?[\w.-]+"?|'[^']*'|ARRAY\[[^\]]*\])\)`)
	anyPattern    = regexp.MustCompile(`= ANY \(?ARRAY\[([^\]]*)\]\)?`)
)

// plainCheck takes the casts and parentheses out of a check that a server put in, as far
// as drafting needs: (status)::text = ANY (ARRAY['a'::text]) becomes status IN ('a').
func plainCheck(expression string) string {
	s := castPattern.ReplaceAllString(strings.TrimSpace(expression), "")
	for range 3 { // they are nested
		s = aloneInParens.ReplaceAllString(s, "$1")
	}
	return anyPattern.ReplaceAllString(s, "IN ($1)")
}

// bounds narrows a range by the comparisons with numbers that checks hold.
func bounds(t *schema.Table, c *schema.Column, lo, hi int64) (int64, int64) {
	low, high := false, false
	for _, check := range t.Checks {
		for _, m := range betweenPattern.FindAllStringSubmatch(plainCheck(check.Expression), -1) {
			if strings.EqualFold(m[1], c.Name) {
				lo, _ = strconv.ParseInt(m[2], 10, 64)
				hi, _ = strconv.ParseInt(m[3], 10, 64)
				return lo, hi
			}
		}
		for _, m := range comparePattern.FindAllStringSubmatch(plainCheck(check.Expression), -1) {
			n, err := strconv.ParseInt(m[3], 10, 64)
			if !strings.EqualFold(m[1], c.Name) || err != nil {
				continue
			}
			switch m[2] {
			case ">=":
				lo, low = n, true
			case ">":
				lo, low = n+1, true
			case "<=":
				hi, high = n, true
			case "<":
				hi, high = n-1, true
			}
		}
	}
	switch {
	case low && !high && hi <= lo:
		hi = lo + 99
	case high && !low && hi <= lo:
		lo = hi - 99
	}
	if low && lo == 0 && hi > 1 {
		lo = 1
	}
	return lo, hi
}

var plainScalar = regexp.MustCompile(`^[\pL_][\pL\pN_ ./-]*$`)

// quote writes text as a YAML scalar, in quotes where it could be read otherwise.
func quote(s string) string {
	switch strings.ToLower(s) {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n":
	default:
		if plainScalar.MatchString(s) && strings.TrimSpace(s) == s && !isSource(s) || strings.HasPrefix(s, "sqlite:") && !strings.ContainsAny(s, " #\"'") {
			return s
		}
	}
	return strconv.Quote(s)
}
