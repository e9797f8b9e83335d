package cli

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
	"evensprout/internal/words"
)

var update = flag.Bool("update", false, "write docs/catalog.md anew")

// cell writes text into a cell of a Markdown table.
func inCell(s string) string {
	if runes := []rune(s); len(runes) > 90 {
		s = string(runes[:90]) + "…"
	}
	return strings.NewReplacer("|", `\|`, "\n", " ", "<", "&lt;", "*", `\*`).Replace(s)
}

// catalogPage is docs/catalog.md.
func catalogPage() string {
	var b strings.Builder
	english := grow.Locales{{Name: words.Default, Weight: 1}}
	kinds := grow.Kinds()
	fmt.Fprintf(&b, `# The catalog

`+"`{kind: NAME}`"+` generates the values of a kind. There are %d kinds. This page is generated from the program, as is
the list that `+"`evensprout catalog`"+` prints; `+"`evensprout catalog person --locale de`"+` shows one kind
in one locale.

A kind with *parts* is declared once under `+"`shared`"+`, and its parts agree: see [plan.md](plan.md#shared-values).
Values that are common in life are common here: names, blood groups, HTTP statuses and sizes have frequencies. A
field with `+"`unique: true`"+` spreads over all values evenly; the parts of a person keep the frequencies of names even
then.

`, len(kinds))
	for _, section := range grow.Sections {
		fmt.Fprintf(&b, "## %s\n\n| kind | what it is | different values | samples |\n|---|---|---|---|\n", section)
		for _, k := range kinds {
			if k.Section != section {
				continue
			}
			name := "`" + k.Name + "`"
			if k.Locales {
				name += " ⚑"
			}
			shown := strings.Join(samples(k, english, "", 3), " · ")
			if parts := k.PartNames(); len(parts) > 0 {
				shown = "parts: " + strings.Join(parts, ", ")
				fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", name, inCell(k.About), space(k), shown)
				continue
			}
			fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", name, inCell(k.About), space(k), inCell(shown))
		}
		b.WriteString("\n")
	}

	b.WriteString(
		"## Locales\n\nKinds marked ⚑ follow the locale: `locale: de` at the plan, an entity or a field, or a " +
			"mixture such as\n`locale: {en-GB: 60, de: 25, ja: 15}`. A person, a place or a company " +
			"stays within one locale. " +
			"The default is `" + words.Default + "`.\n\n| locale | a name | an address | a telephone " +
			"number | a sentence |\n" +
			"|---|---|---|---|---|\n",
	)
	find := func(name string) grow.Kind {
		for _, k := range kinds {
			if k.Name == name {
				return k
			}
		}
		panic("no kind " + name)
	}
	for _, l := range words.Locales() {
		mix := grow.Locales{{Name: l, Weight: 1}}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", l, inCell(samples(find("person"), mix, "name", 1)[0]),
			inCell(samples(find("place"), mix, "address", 1)[0]), inCell(samples(find("tel"), mix, "", 1)[0]),
			inCell(samples(find("sentence"), mix, "", 1)[0]))
	}
	b.WriteString("\nTexts can be about a subject, in English: `{kind: paragraph, about: health}`. Subjects: `" +
		strings.Join(grow.Subjects, "`, `") + "`.\n" + reachesNobody)
	return b.String()
}

// reachesNobody says why nothing here can reach a person.
const reachesNobody = `
## Nothing reaches a real person

Names of people and towns are those of the language. Everything by which somebody could be reached comes from a range
that is reserved, or that cannot be assigned; a test holds every kind to it.

| what | range |
|---|---|
| mail, hosts, web addresses | ` + "`example.com`, `example.net`, `example.org` and `.example`" + ` (RFC 2606) |
| IPv4, IPv6, MAC | those for documentation (RFC 5737, RFC 3849, RFC 7042) |
| telephone, en-US | exchanges that begin with 1, which none does |
| telephone, en-GB | numbers that begin with 04, a range that is not in use |
| telephone, de, nl, pt-BR, ja, ar | local numbers that begin with 0, which none does |
| telephone, fr | numbers that begin with 0 behind +33 |
| telephone, es, it | numbers that begin with 2, which is not in use |
| telephone, pl, tr | area code 11 and area codes that begin with 1, which do not exist |
| postal codes | prefixes that are not assigned, or endings that are never used: see the table below |
| IBAN | bank codes of zeros, or XXXX, with right check digits |
| BIC | codes for tests: the eighth character is 0 (ISO 9362) |
| VAT numbers | German ones that begin with 0 |
| payment cards | eight numbers that are known to be for tests |
| EAN, GTIN | prefix 2, for use inside a company; ISBN: group 979-9 |
| VIN, number plates | maker ZZZ and prefix QX, which do not exist |

| postal codes of | begin with, or end in |
|---|---|
| Germany | 05, 43, 62 |
| France, Italy, Egypt | 96 or 99, 99, 99 |
| Spain, Turkey | 53 to 99, 82 to 99 |
| Poland, Brazil, Japan | 79, 00, 000 |
| United States | single prefixes such as 099, 621 and 771 |
| Britain, Netherlands | endings with C, I, K, M, O or V; SA, SD or SS |
`

// docs/catalog.md is what the program has.
func TestCatalogPage(t *testing.T) {
	const file = "../../docs/catalog.md"
	page := catalogPage()
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(page), 0o644))
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(text), page, "make golden writes docs/catalog.md anew")
}
