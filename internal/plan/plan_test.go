package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

const head = "name: test\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n"

// compileText compiles a plan whose entities are given; the head takes four lines.
func compileText(entities string, db *schema.Database) (*Compiled, diag.Problems) {
	p, err := Read("plan.yaml", []byte(head+entities))
	if err == nil {
		var c *Compiled
		if c, err = p.Compile(Options{Database: db}); err == nil {
			return c, c.Warnings
		}
	}
	return nil, err.(diag.Problems)
}

func cellOf(source string) string {
	return "  Thing:\n    rows: 20\n    fields:\n      other: {kind: noun}\n      cell: " + source + "\n"
}

// Each wrong plan is told at its place, with what to do. The place is line:column.
func TestProblems(t *testing.T) {
	for _, c := range []struct{ name, entities, place, message, hint string }{
		{"unknown key of an entity", "  Thing:\n    rows: 1\n    tabel: things\n", "7:5", `"tabel" is not a key of ` +
			`an entity`, `did you mean "table"?`},
		{"negative rows", "  Thing:\n    rows: -1\n", "6:11", "rows must be between 0 and 1099511627776, got -1", ""},
		{"rows as text", "  Thing:\n    rows: many\n", "6:11", `rows must be a whole number, got "many"`, ""},
		{"no rows at all", "  Thing:\n    table: things\n", "5:3", "neither rows nor per nor given", ""},
		{"rows and per", "  A:\n    rows: 1\n  B:\n    rows: 1\n    per: {A: 1}\n", "8:11", "B has both rows and " +
			"per", ""},
		{"per an unknown entity", "  Cabin:\n    rows: 1\n  B:\n    per: {Cabn: 1}\n", "8:11", "which is not an " +
			"entity", `did you mean "Cabin"?`},
		{"per with swapped ends", "  A:\n    rows: 1\n  B:\n    per: {A: 3..1}\n", "8:14", "the range is reversed", ""},
		{"a circle of per", "  A:\n    per: {B: 1}\n  B:\n    per: {A: 1}\n", "6:11", "circle: A is per B is per " +
			"A", "give one of them rows: instead of per:"},
		{"a second parent", "  A:\n    rows: 1\n  B:\n    per: {A: 1, C: 2}\n", "8:17", "per must name one " +
			"parent,", ""},
		{"an entity twice", "  A:\n    rows: 1\n  A:\n    rows: 2\n", "7:3", `the key "A" is repeated here`,
			"in line 5"},
		{"a guard that is not known", "  A:\n    rows: 1\n    when: full\n", "7:11", "when must be empty:", ""},
		{"a bad entity name", "  A-B:\n    rows: 1\n", "5:3", "name for an entity", ""},

		{"a list as a field", cellOf("[1, 2]"), "9:13", "is a list", ""},
		{"a source misspelt", cellOf("{patern: x}"), "9:14", `"patern" is not a source`, `did you mean "pattern"?`},
		{"no source", cellOf("{unique: true}"), "9:13", "has no source of values", ""},
		{"two sources", cellOf("{count: 1, share: 5%}"), "9:24", "two sources: count and share", ""},
		{"an option of another source", cellOf("{share: 5%, within: 3d}"), "9:25", `"within" cannot be combined ` +
			`with share`,
			""},
		{"a word for a source as text", cellOf("uuid"), "9:13", "is the name of a source", ""},
		{"odd numbers", cellOf("0123"), "9:13", "can be read in several ways", `"0123"`},
		{"a share beyond all", cellOf("{share: 131%}"), "9:21", "must be between 0% and 100%", ""},
		{"nulls without a share", cellOf("{count: 1, nulls: 5}"), "9:31", "nulls must be between", ""},
		{"swapped ends", cellOf("{between: [9, 3]}"), "9:23", "the range is reversed", ""},
		{"swapped dates", cellOf("{between: [2026-02-01, 2026-01-01]}"), "9:23", "the range is reversed", ""},
		{"ends of two types", cellOf("{between: [1, 2026-01-01]}"), "9:23", "have different types:", ""},
		{"one end", cellOf("{between: 5}"), "9:23", "between must have two ends,", ""},
		{"no such day", cellOf("{between: [2026-02-30, 2026-03-01]}"), "9:24", "not a date", ""},
		{"a step of nothing", cellOf("{between: [1, 9], step: 0}"), "9:37", "step must be a number above 0,", ""},
		{"moments without a span", cellOf("{before: clock}"), "9:22", "within is missing", ""},
		{"a span that is none", cellOf("{before: clock, within: 90}"), "9:37", "is not a span", ""},
		{"a moment after a noun", cellOf("{after: other, within: 3d}"), "9:21", "cannot be computed from type text",
			""},
		{"nothing to choose", cellOf("{choose: []}"), "9:22", "the list of choices is empty", ""},
		{"choices of two types", cellOf("{choose: [1, red]}"), "9:22", "have different types:", ""},
		{"a negative weight", cellOf("{choose: {a: -1}}"), "9:26", "the weight of a", ""},
		{"weights of nothing", cellOf("{choose: {a: 0, b: 0}}"), "9:22", "all weights are 0", ""},
		{"an endless pattern", cellOf(`{pattern: "[A-Z]+"}`), "9:29", "has no upper bound", ""},
		{"a broken pattern", cellOf(`{pattern: "([A-Z]"}`), "9:24", "this ( has no matching )", ""},
		{"an unknown kind", cellOf("{kind: lokality}"), "9:20", "there is no kind lokality", `did you ` +
			`mean "locality"?`},
		{"an unknown parameter", cellOf("{kind: words, word: 3}"), "9:33", "no parameter word", `did you mean ` +
			`"words"?`},
		{"a text without a field", cellOf(`{text: "{nobody}"}`), "9:22", "Thing has no field nobody", ""},
		{"a text without a field, behind wide letters", cellOf(`{text: "äö {nobody}"}`), "9:25", "Thing has no " +
			"field nobody", ""},
		{"an unknown filter", cellOf(`{text: "{other|lowre}"}`), "9:28", `there is no filter "lowre"`, ""},
		{"an open brace", cellOf(`{text: "x{other"}`), "9:22", "this { has no matching }", ""},
		{"same as nothing", cellOf("{same: othr}"), "9:20", "Thing has no field othr", `did you mean "other"?`},
		{"same as itself", cellOf("{same: cell}"), "9:7", "circle: Thing.cell depends on itself", ""},
		{"a path through a noun", cellOf("{same: other.name}"), "9:20", "refers to no other entity", ""},
		{"a pick of nobody", cellOf("{pick: Thingg}"), "9:20", "which is not an entity", `did you mean "Thing"?`},
		{"a distinct pick without a parent", cellOf("{pick: Thing, distinct: true}"), "9:37", "distinct is for " +
			"the rows of one parent", ""},
		{"a sum of strangers", cellOf("{sum: Thing.other}"), "9:19", "is not below Thing", ""},
		{"a sum without a field", cellOf("{sum: Thing}"), "9:19", "sum: Thing", "{sum: Child.field}"},
		{"a UUID of another version", cellOf("{uuid: v5}"), "9:20", "v4 or v7,", ""},
		{"restart without a parent", cellOf("{count: {restart: true}}"), "9:21", "Thing has no parent", ""},
		{"an unknown word in count", cellOf("{count: {form: 3}}"), "9:22", `"form" is not a key of count`, `did you ` +
			`mean "from"?`},
		{"too few values", "  Thing:\n    rows: 101\n    fields:\n      code: {pattern: \"[A-J][0-9]\", unique: " +
			"true}\n", "8:7", "101 rows need different values of code, and only 100", ""},
		{"unique prose", cellOf("{kind: sentence, unique: true}"), "9:7", "cannot be counted", ""},
		{"a group of one", "  Thing:\n    rows: 3\n    unique: [[a]]\n", "7:14", "a list of two or more fields", ""},
		{"a group with a stranger", "  Thing:\n    rows: 3\n    unique: [[a, b]]\n    fields:\n      a: {between: " +
			"1..9}\n      bb: {between: 1..9}\n", "7:14", "Thing has no field b", ""},
		{"a field in two groups", "  Thing:\n    rows: 3\n    unique: [[a, b], [b, c]]\n    fields:\n      a: " +
			"{between: 1..9}\n      b: {between: 1..9}\n      c: {between: 1..9}\n", "7:22", "in another unique " +
			"group; a", ""},
		{"a path that goes astray in another entity", "  Aa:\n    rows: 3\n    fields:\n      place: {between: " +
			"1..9}\n  B:\n    rows: 2\n    fields:\n      to: {pick: Aa}\n      plane: {same: to.plase}\n", "13:21",
			"Aa has no field plase", `did you mean "place"?`},
		{"a path to nothing in another entity", "  Aa:\n    rows: 3\n    fields:\n      place: {between: 1..9}\n  " +
			"B:\n    rows: 2\n    fields:\n      to: {pick: Aa}\n      x: {same: to.Bbbbbb}\n", "13:17",
			"Aa has no field Bbbbbb", "known: id, place"},
		{"five different of three", "  A:\n    rows: 3\n  B:\n    rows: 2\n  C:\n    per: {B: 5}\n    fields:\n    " +
			"  a: {pick: A, distinct: true}\n", "12:7", "and only 3 exist", ""},
		{"a pick from no rows", "  A:\n    rows: 0\n  B:\n    rows: 2\n    fields:\n      a: {pick: A}\n", "10:7",
			"which has " +
				"no rows", ""},
		{"a given row with a stranger", "  A:\n    given:\n      x: {n: 1}\n  B:\n    rows: 2\n    fields:\n      " +
			"a: {pick: A}\n    given:\n      y: {a: A.z}\n", "13:14", `"A.z" is not a named row of A`, ""},
		{"a given child without its parent", "  A:\n    rows: 1\n  B:\n    per: {A: 1}\n    given:\n      y: {n: " +
			"1}\n", "10:7", "does not name its A", ""},
		{"given values of two types", "  A:\n    given:\n      x: {n: 1}\n      y: {n: " +
			"red}\n", "7:11", "have different types:",
			""},
		{"a given value of another type", "  A:\n    rows: 1\n    fields:\n      n: {between: 1..9}\n    given:\n  " +
			"    x: {n: red}\n", "10:14", "is of type integer", ""},
		{"two given rows with one number", "  A:\n    rows: 1\n    fields:\n      id: {count: 1}\n    given:\n     " +
			" x: {id: 7}\n      y: {id: 7}\n", "11:7", "both have the number 7", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, problems := compileText(c.entities, nil)
			require.NotEmpty(t, problems)
			p := problems[0]
			assert.Equal(t, c.place, fmt.Sprintf("%d:%d", p.Line, p.Column), p.String())
			assert.Contains(t, p.Message, c.message)
			assert.Contains(t, p.Hint, c.hint)
			assert.Len(t, problems, 1, problems.Error())
		})
	}
}

func TestFilesThatAreNoPlans(t *testing.T) {
	var bomb strings.Builder
	bomb.WriteString("a0: &a0 [x]\n")
	for i := 1; i < 40_000; i++ {
		fmt.Fprintf(&bomb, "a%d: [*a%d]\n", i, i-1)
	}
	for _, c := range []struct{ name, text, message string }{
		{"empty", "", "the plan is empty"},
		{"comments alone", "# nothing\n\n---\n", "the plan is empty"},
		{"a sentence", "hello world\n", "a plan must be a mapping"},
		{"a list", "- a\n- b\n", "a plan must be a mapping"},
		{"not YAML", "name: [x\n", "this is not YAML"},
		{"bad indent", "name: x\n seed: y\n", "not YAML"},
		{"binary", "\xff\xfe\x00", "not valid UTF-8"},
		{"NUL", "name: \x00\n", "NUL byte"},
		{"two documents", "name: x\n---\nname: y\n", "one YAML document"},
		{"aliases", "a: &x 1\nb: *x\n", "anchors, aliases and merge keys"},
		{"aliases by the megabyte", bomb.String(), "anchors, aliases"},
		{"ten megabytes", strings.Repeat("a: &a [*a, *a]\n", 700_000), "longer than 8 MiB"},
		{"deep lists", "a: " + strings.Repeat("[", 5_000), "nested more than"},
		{"deep mappings", "a: " + strings.Repeat("{a: ", 5_000), "nested more than"},
		{"deeper than the lexer can bear", "a: " + strings.Repeat("{a: ", 100_000), "opens 100000 brackets more"},
		{"deep entries", strings.Repeat("- ", 100_000), "nested more than"},
		{"deep lines", "a:\n" + deepLines(300), "nested more than"},
		// in each of these, the parser needs a time that grows with the square of the size
		{"keys without values", "a:\n" + strings.Repeat("  e:\n", 50_000), "no value"},
		{"entries without values", "a:\n" + strings.Repeat("  -\n", 50_000), "no value"},
		{"flow keys without values", "a: {" + strings.Repeat("a,", 50_000), "no value"},
		{"flow keys with colons", "a: {" + strings.Repeat("a:,", 50_000), "no value"},
		{"keys", keysInLines("", 21_001), "20000 keys in its mappings"},
		{"keys of entries", "a:\n  -\n" + keysInLines("    ", 21_001), "20000 keys in its mappings"},
		{"keys of two mappings", "a:\n" + keysInLines("  ", 12_000) + "b:\n" + keysInLines("  ", 10_001),
			"20000 keys in its mappings"},
		{"question marks", "a:\n" + strings.Repeat("  ? a\n", 50_000), "begin with a question mark"},
		{"colons", "a:\n" + strings.Repeat(": ", 100_000), "not YAML"},
		{"commas", "a: [" + strings.Repeat(",", 100_000) + "]", "not YAML"},
		{"an open list", "a: [" + strings.Repeat("a,", 50_000), "not YAML"},
		{"millions of commas", "a: [" + strings.Repeat("a,", 2_000_000), "marks of YAML"},
		{"a tag", "name: !!binary x\n", "tags and directives"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Read("plan.yaml", []byte(c.text))
			var problems diag.Problems
			require.ErrorAs(t, err, &problems)
			assert.Contains(t, problems[0].Message, c.message)
			assert.LessOrEqual(t, len(problems[0].String()), 1000)
		})
	}
}

func keysInLines(indent string, n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "%sk%d: 1\n", indent, i)
	}
	return b.String()
}

// A list of many small mappings is not a mapping of many keys.
func TestManyKeysInSmallMappings(t *testing.T) {
	_, err := Read("plan.yaml", []byte("always:\n"+strings.Repeat("  - kind: 1\n    file: 2\n", 12_000)+
		"entities:\n"+keysInLines("  ", 2000)))
	require.NoError(t, err)
}

func deepLines(n int) string {
	var b strings.Builder
	for i := 1; i <= n; i++ {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()
}

func TestHeadIsAskedForAtOnce(t *testing.T) {
	p, err := Read("plan.yaml", []byte("nam: x\nwhen: never\nedition: 7\nclock: noon\n"))
	require.NoError(t, err)
	_, err = p.Compile(Options{})
	for _, want := range []string{`"nam" is not a key of a plan`, `did you mean "name"?`, "has no name",
		"has no seed", "has no " +
			"entities", "does not support edition 7", `"noon" is not a moment`, "when must be empty"} {
		assert.ErrorContains(t, err, want)
	}
}

// A problem of each stage is told in one go.
func TestAllProblemsAtOnce(t *testing.T) {
	_, problems := compileText(`  A:
    rows: x
    fields:
      a: {kind: nonsense}
      b: {patern: x}
      c: {text: "{d}"}
  B:
    per: {C: 1}
`, ferry(t))
	var all []string
	for _, p := range problems {
		all = append(all, p.Message)
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{"rows must be a whole number,", "no kind nonsense", `"patern" is not a source`,
		"A has no " +
			"field d", "B is per C", "names no table"} {
		assert.Contains(t, text, want)
	}
}

func TestExcerptPointsAtThePlace(t *testing.T) {
	_, problems := compileText(cellOf("{kind: lokality}"), nil)
	assert.Equal(t, `plan.yaml:9:20: there is no kind lokality
     9 |       cell: {kind: lokality}
       |                    ^
         did you mean "locality"?`, problems.Error())
}

func TestNearest(t *testing.T) {
	names := []string{"password", "name", "passport"}
	assert.Equal(t, "password", diag.Nearest("pasword", names))
	assert.Equal(t, "password", diag.Nearest("passwrod", names))
	assert.Equal(t, "name", diag.Nearest("nmae", names))
	assert.Empty(t, diag.Nearest("vessel", names))
	assert.Empty(t, diag.Nearest("x", []string{"abc"}))
}

func TestLiterals(t *testing.T) {
	for text, want := range map[string]value.Value{
		"5": value.Int(5), "-5": value.Int(-5), "4.50": {Type: value.Decimal, N: 450, Scale: 2},
		`"5"`: value.String("5"), "true": value.Bool(true),
		"yes": value.String("yes"), "null": {}, "~": {}, "Open deck": value.String("Open deck"),
		"1_000":      value.Int(1000),
		"2026-05-01": {Type: value.Date, N: 20574}, "08:15": {Type: value.Time, N: 29_700_000_000},
		"'2026-05-01'":              value.String("2026-05-01"),
		"2026-05-01T08:00:00+02:00": {Type: value.Timestamp, N: 1777615200000000},
	} {
		c, problems := compileText(cellOf(text), nil)
		require.Empty(t, problems, text)
		var b grow.Batch
		grow.NewGrower(c.Set).Grow(c.Set.Entities[0], grow.Row{}, 1, &b)
		assert.Equal(t, want, b.Row(0)[1], text)
	}
}

func TestTimesOfDayInFlowLists(t *testing.T) {
	c, problems := compileText(cellOf("{between: [06:00, 21:45], step: 15m}"), nil)
	require.Empty(t, problems)
	assert.Equal(t, uint64(64), c.Set.Entities[0].Fields[1].Source.(grow.Countable).Space())
}

// A field's values stay when its name changes and was: says the old one.
func TestWasKeepsTheValues(t *testing.T) {
	before, _ := compileText("  A:\n    rows: 9\n    fields:\n      town: {kind: locality}\n", nil)
	after, _ := compileText("  A:\n    rows: 9\n    fields:\n      place: {kind: locality, was: town}\n", nil)
	other, _ := compileText("  A:\n    rows: 9\n    fields:\n      place: {kind: locality}\n", nil)
	assert.Equal(t, cells(before), cells(after))
	assert.NotEqual(t, cells(before), cells(other))
}

func cells(c *Compiled) []value.Value {
	var b grow.Batch
	grow.NewGrower(c.Set).Grow(c.Set.Entities[0], grow.Row{}, int(c.Set.Entities[0].Rows), &b)
	return b.Values
}

// Keys and columns come from the database, but neither changes a fingerprint.
func TestFingerprintsDoNotDependOnTheDatabase(t *testing.T) {
	entities := `  Pier:
    table: piers
    rows: 5
    fields:
      pierName: {kind: locality}
  Boat:
    table: boats
    per: {Pier: 2}
    fields:
      label: {kind: noun}
`
	with, problems := compileText(entities, ferry(t))
	require.Len(t, problems, 1, "a warning that names may collide")
	without, _ := compileText(entities, nil)
	assert.Equal(t, prints(t, without), prints(t, with))
	assert.Equal(t, "pier_name", with.Targets[0].Columns[0].Name)
	assert.Equal(t, "home_pier", with.Targets[1].Columns[0].Name)
}

// ferry is a small database.
func ferry(*testing.T) *schema.Database {
	return &schema.Database{Tables: []*schema.Table{
		{
			Name: "piers", PrimaryKey: []string{"pier_no"},
			Uniques: []schema.Unique{{Name: "one_name", Columns: []string{"pier_name"}}},
			Columns: []*schema.Column{
				{Name: "pier_no", Kind: schema.Integer, NotNull: true, Default: true},
				{Name: "pier_name", Declared: "VARCHAR(30)", Kind: schema.Text, Length: 30, NotNull: true},
				{Name: "length", Declared: "INTEGER", Kind: schema.Integer, Generated: true},
			},
		},
		{
			Name: "boats", PrimaryKey: []string{"id"},
			Columns: []*schema.Column{
				{Name: "id", Kind: schema.Integer, NotNull: true, Default: true},
				{Name: "label", Declared: "VARCHAR(8)", Kind: schema.Text, Length: 8},
				{Name: "home_pier", Declared: "INTEGER", Kind: schema.Integer, NotNull: true},
			},
			References: []schema.Reference{
				{Columns: []string{"home_pier"}, Table: "piers", Targets: []string{"pier_no"}},
			},
		},
	}}
}

func TestTheDatabaseMustFit(t *testing.T) {
	for _, c := range []struct{ name, entities, message, hint string }{
		{"no such table", "  Pier:\n    table: pires\n    rows: 1\n", "the database has no table pires", `did you ` +
			`mean "piers"?`},
		{"no such column", "  Pier:\n    table: piers\n    rows: 1\n    fields:\n      pier_nam: {kind: locality}\n",
			"no column " +
				"for the field pier_nam", `did you mean "pier_name"?`},
		{"no such column by name", "  Pier:\n    table: piers\n    rows: 1\n    fields:\n      x: {kind: locality, " +
			"column: pier_nam}\n", "has no column pier_nam", `did you mean "pier_name"?`},
		{"no source for a column", "  Pier:\n    table: piers\n    rows: 1\n", "piers.pier_name (VARCHAR(30)) is " +
			"NOT NULL without a default", "pier_name: {kind:"},
		{"nulls where none may be", "  Pier:\n    table: piers\n    rows: 1\n    fields:\n      pier_name: {kind: " +
			"locality, nulls: 3%}\n", "the column pier_name is NOT NULL", ""},
		{"a given row without a value", "  Pier:\n    table: piers\n    given:\n      a: {}\n      b: {pier_name: " +
			"X}\n", "the row a has no pier_name", ""},
		{"another type", "  Pier:\n    table: piers\n    rows: 1\n    fields:\n      pier_name: {kind: locality}\n " +
			"     pier_no: {kind: noun}\n", "generates values of type text", ""},
		{"too long", "  Boat:\n    table: boats\n    rows: 1\n    fields:\n      label: seventeen letters\n      " +
			"home_pier: 1\n", "label can be 17 characters long", "seventeen letters"},
		{"a computed column", "  Pier:\n    table: piers\n    rows: 1\n    fields:\n      pier_name: {kind: " +
			"locality}\n      length: 3\n", "the database computes the column", ""},
		{"one table for two", "  A:\n    table: piers\n    rows: 1\n    fields: {pier_name: {kind: locality}}\n  " +
			"B:\n    table: piers\n    rows: 1\n    fields: {pier_name: {kind: locality}}\n", "both use the table " +
			"piers", ""},
		{"two fields for a column", "  A:\n    table: piers\n    rows: 1\n    fields:\n      pier_name: {kind: " +
			"locality}\n      pierName: {kind: noun}\n", "both map to the column pier_name", ""},
		{"a pick of another table", "  Boat:\n    table: boats\n    rows: 2\n    fields:\n      home_pier: {pick: " +
			"Boat}\n", "refers to the table piers", ""},
		{"no reference to the parent", "  Boat:\n    table: boats\n    rows: 1\n    fields: {home_pier: 1}\n  " +
			"Pier:\n    table: piers\n    per: {Boat: 1}\n    fields: {pier_name: {kind: locality}}\n", "has no " +
			"reference to boats", "via: COLUMN"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, problems := compileText(c.entities, ferry(t))
			require.NotEmpty(t, problems.Errors())
			i := slices.IndexFunc(
				problems,
				func(p *diag.Problem) bool { return strings.Contains(p.Message, c.message) },
			)
			require.GreaterOrEqual(t, i, 0, problems.Error())
			assert.Contains(t, problems[i].Hint, c.hint)
			assert.Positive(t, problems[i].Line)
		})
	}
}

func TestWarningsOfWhatMayCollide(t *testing.T) {
	_, problems := compileText(
		"  Pier:\n    table: piers\n    rows: 9\n    fields:\n      pier_name: {kind: locality}\n",
		ferry(t),
	)
	require.Len(t, problems, 1)
	assert.True(t, problems[0].Warning)
	assert.Contains(t, problems[0].Message, "piers.pier_name must be unique (one_name),")
	_, problems = compileText(
		"  Pier:\n    table: piers\n    rows: 9\n    fields:\n      pier_name: {kind: locality, unique: true}\n",
		ferry(t),
	)
	assert.Empty(t, problems)
	_, problems = compileText(
		"  Boat:\n    table: boats\n    rows: 9\n    fields:\n      home_pier: {between: 1..10}\n",
		ferry(t),
	)
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Message, "which may not contain these values")
}

func TestEntityNames(t *testing.T) {
	for table, want := range map[string]string{
		"vessel_amenities": "VesselAmenity", "piers": "Pier", "fare_classes": "FareClass", "crew": "Crew",
		"bus": "Bus", "boxes": "Box",
		"status": "Status", "2fa_codes": "T2faCode", "addresses": "Address", "---": "Thing",
	} {
		assert.Equal(t, want, EntityName(table))
	}
}

// A plan of 300 entities and 5,000 fields is read in no time that anybody notices.
func BenchmarkLargePlan(b *testing.B) {
	var text strings.Builder
	text.WriteString(head)
	for i := range 300 {
		fmt.Fprintf(&text, "  E%d:\n    rows: 5\n    fields:\n", i)
		for j := range 17 {
			fmt.Fprintf(&text, "      f%d: {kind: name}\n", j)
		}
	}
	for b.Loop() {
		p, err := Read("plan.yaml", []byte(text.String()))
		require.NoError(b, err)
		_, err = p.Compile(Options{})
		require.NoError(b, err)
	}
}

// Whatever is in the file: no panic, no endless work, and problems have a place.
func FuzzRead(f *testing.F) {
	f.Add(head + "  A:\n    rows: 5\n    fields:\n      a: {kind: noun, unique: true}\n")
	f.Add(
		head + "  A:\n    rows: 5\n  B:\n    per: {A: 0..3}\n    fields:\n      p: {pattern: \"[A-Z]{2}|x\"}\n     " +
			" t: {text: \"{p|lower}-{A.id}\"}\n      s: {after: clock, within: 3d}\n",
	)
	f.Add(
		head + "  A:\n    unique: [[a, b]]\n    rows: 3\n    fields:\n      a: {between: [06:00, 21:45], step: " +
			"15m}\n      b: {choose: {x: 1, y: 2}}\n    given:\n      g: {a: 07:00}\n",
	)
	f.Add("name: x\n? [a]\n: b\n- c\n")
	f.Add(head + `  A:
    rows: 5
    locale: {de: 3, ja: 1}
    fields:
      p: {between: [1.00, 90.00], shape: {lognormal: {median: 5, p95: 20}}}
      q: {between: [0, 9], shape: normal}
      t: {before: clock, within: 20m..90d, hours: 22-6, weekdays: {fri: 2.5}, rush: [8], step: 15m}
      u: {before: clock, within: 90d, season: {dec: 3, jul: 0}, growth: 3% a month}
`)
	f.Add(head + `  A:
    rows: 5
    fields:
      s: {choose: [a, b]}
      c: {case: {"s = 'a'": {kind: name, locale: fr}}, else: {kind: paragraph, about: food}}
      l: {lookup: {s: {a: 1, b: 0.5}}, else: null}
  B:
    per: {A: {0: 50, 1..3: 5}}
`)
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Read("plan.yaml", []byte(text))
		if err == nil {
			var c *Compiled
			if c, err = p.Compile(Options{}); err == nil {
				g := grow.NewGrower(c.Set)
				for _, e := range c.Set.Entities {
					var b grow.Batch
					g.Grow(e, grow.Row{}, int(min(e.Rows, 3)), &b)
					g.Grow(e, grow.Row{Side: true}, min(len(e.Side), 3), &b)
				}
			}
		}
		if err != nil {
			var problems diag.Problems
			require.ErrorAs(t, err, &problems)
			_ = problems.Error()
		}
	})
}

// A unique group whose parts are wrong is reported, whatever is left of it.
func TestUniqueGroupsThatAreWrong(t *testing.T) {
	for group, says := range map[string]string{
		"[[House, {}]]":           "a field's name must be a text, got a mapping",
		"[[{}, House]]":           "a field's name must be a text, got a mapping",
		"[[House, House]]":        "House is named twice in a unique group",
		"[[label, House, label]]": "label is named twice in a unique group",
	} {
		p, err := Read("plan.yaml", []byte(head+"  House:\n    rows: 3\n    fields: {label: {kind: locality}}\n"+
			"  Pole:\n    per: {House: 2}\n    unique: "+group+"\n    fields: {label: {kind: locality}}\n"))
		if err == nil {
			_, err = p.Compile(Options{})
		}
		assert.ErrorContains(t, err, says, group)
	}
}
