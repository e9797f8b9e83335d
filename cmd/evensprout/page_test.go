package main

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/page/pagetest"
)

// checkLinks sees that each link of a page leads to a part of it.
func checkLinks(t *testing.T, text string) {
	t.Helper()
	ids := map[string]bool{}
	for _, m := range regexp.MustCompile(` id="([^"]*)"`).FindAllStringSubmatch(text, -1) {
		assert.False(t, ids[m[1]], "%s is there twice", m[1])
		ids[m[1]] = true
	}
	links := regexp.MustCompile(`href="([^"]*)"`).FindAllStringSubmatch(text, -1)
	assert.NotEmpty(t, links)
	for _, m := range links {
		if assert.True(t, strings.HasPrefix(m[1], "#"), m[1]) {
			assert.True(t, ids[m[1][1:]], "%s leads nowhere", m[1])
		}
	}
}

func TestPages(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	f.makeDB("larkwater.db", demo.Schema)
	r := f.run("page", "--out", "plan.html")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.errOut, "note: plan.html shows 11 entities")
	alone := f.read("plan.html")
	checkLinks(t, alone)
	assert.Contains(t, alone, "The plan larkwater fills 11 tables with 31,934 rows.")
	assert.Contains(t, alone, `<a href="#row-Passenger.1">Passenger row 1</a>`)
	assert.NotContains(t, alone, "in the table")
	again := f.run("page", "--out", "again.html")
	require.Zero(t, again.code, again.errOut)
	assert.Equal(t, alone, f.read("again.html"), "the same plan makes the same page")

	r = f.run("load", "--db", "sqlite:larkwater.db", "--page", "load.html")
	require.Zero(t, r.code, r.errOut)
	loaded := f.read("load.html")
	checkLinks(t, loaded)
	assert.Contains(t, loaded, "<h2>Load 1</h2>")
	assert.Contains(t, loaded, "31,934 rows written · one transaction")
	assert.Contains(t, loaded, "<summary>Statements</summary>")
	assert.Contains(t, loaded, "In the table: the same, over all 5,002 rows")

	f.query("larkwater.db", "UPDATE passengers SET status = 'barred' WHERE status = 'dormant'")
	f.query("larkwater.db", "DELETE FROM tickets WHERE id IN (SELECT id FROM tickets LIMIT 3)")
	r = f.run("compare", "--db", "sqlite:larkwater.db", "--page", "compared.html")
	assert.Equal(t, 7, r.code)
	compared := f.read("compared.html")
	checkLinks(t, compared)
	assert.Contains(t, compared, "3 rows missing, 749 changed, 0 extra.")
	assert.Contains(t, compared, "status is barred, loaded as dormant")
	assert.Regexp(t, `In the table: all 5,002 rows</p><div class="chart">\s*<table class="bars">`, compared)

	for _, wrong := range [][]string{
		{"page", "page needs the name of the file to write: add --out page.html"},
		{"page", "--out", "missing/a.html", "no such file or directory"},
		{"load", "--part", "1/2", "--page", "a.html", "--part writes a share of a load"},
		{"compare", "--load", "1", "--page", "a.html", "--page shows a plan, so it cannot be combined with --load"},
	} {
		r := f.run(append(wrong[:len(wrong)-1:len(wrong)-1], "--db", "sqlite:larkwater.db")...)
		assert.NotZero(t, r.code, wrong)
		assert.Contains(t, r.errOut, wrong[len(wrong)-1])
	}
}

// A load that is refused has its page, too: with the row and what to do.
func TestPagesOfRefusals(t *testing.T) {
	const tables = "CREATE TABLE ports (id INTEGER PRIMARY KEY, code VARCHAR(4) NOT NULL UNIQUE, " +
		"size INTEGER CHECK (size < 9))"
	const ports = "name: ports\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n" +
		"    rows: 40\n    fields:\n      code: {pattern: '[A-Z]{4}', unique: true}\n      size: {between: 1..9}\n"
	onTables(t, tables, ports, func(t *testing.T, s *site) {
		r := s.on("load", "--page", "refused.html")
		assert.Equal(t, 5, r.code, r.errOut)
		text := s.folder.read("refused.html")
		checkLinks(t, text)
		assert.Contains(t, text, "Load: refused, and everything that was not committed is rolled back")
		assert.Regexp(t, `<dt>field</dt><dd><bdi>size = 9</bdi></dd>`, text)
		assert.Contains(t, text, "<b>What to do:</b>")

		r = s.on("load", "--on-violation", "check=skip", "--page", "skipped.html")
		assert.Equal(t, 6, r.code, r.errOut)
		text = s.folder.read("skipped.html")
		checkLinks(t, text)
		assert.Regexp(t, `[0-9]+ rows written · [0-9]+ rows left out`, text)
		assert.Contains(t, text, "<h3>Rows that were left out</h3>")
	})
}

// The database counts the values of columns, also of keys that number themselves.
func TestSpreadsOfTables(t *testing.T) {
	const tables = "CREATE TABLE ports (id {key}, code VARCHAR(4) NOT NULL UNIQUE, size INTEGER, opened DATE)"
	const ports = "name: ports\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n" +
		"    rows: 400\n    fields:\n      code: {pattern: '[A-Z]{4}', unique: true}\n" +
		"      width: {column: size, choose: {3: 3, 4: 1}, nulls: 50%}\n" +
		"      opened: {between: [2026-01-01, 2026-03-31]}\n"
	onTables(t, tables, ports, func(t *testing.T, s *site) {
		require.Zero(t, s.on("load").code)
		r := s.on("look", "Port", "--spread", "all")
		require.Zero(t, r.code, r.errOut)
		assert.Regexp(t, `id +\S+.* 0.0% +400  1 █+▁ 400`, r.out)
		assert.Regexp(t, `code .* 400  4 characters`, r.out)
		assert.Regexp(t, `size .* 49.5% +2  3 █+.? 74.8%  4 █+.? 25.2%`, r.out)
		assert.Regexp(t, `opened .* 2026-01-01 [▁▂▃▄▅▆▇█]+ 2026-03-31`, r.out)
		r = s.on("look", "evensprout.yaml", "Port", "--spread", "width")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "NULL 198, 2 different values")
		assert.Regexp(t, `3 +151 +74.8% +█{10,}\n +4 +51 +25.2%`, r.out)
		r = s.on("look", "Port", "--spread", "code,opened", "--json")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, `"total": 400`)
		for _, wrong := range [][]string{
			{"look", "Port", "--spread", "codes", "ports has no column codes; did you mean code?"},
			{"look", "--spread", "code", "--spread needs a table"},
			{"look", "Port", "--spread", "code", "--where", "size = 3", "--spread counts all rows of the table"},
			{"look", "Port", "1", "--spread", "code", "one row is shown without"},
		} {
			r := s.on(wrong[:len(wrong)-1]...)
			assert.Equal(t, 2, r.code, wrong)
			assert.Contains(t, r.errOut, wrong[len(wrong)-1])
		}
	})
}

// manyEntities is a plan of entities with a dozen fields each.
func manyEntities(n, rows int) string {
	var b strings.Builder
	b.WriteString("name: many\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n")
	for i := range n {
		fmt.Fprintf(&b, "  Port%d:\n    table: ports%d\n    rows: %d\n    fields:\n", i, i, rows)
		b.WriteString("      code: {pattern: '[A-Z]{8}', unique: true}\n      name: {kind: name}\n" +
			"      town: {kind: locality}\n      email: {kind: email}\n      tel: {kind: tel, nulls: 20%}\n" +
			"      status: {choose: {open: 8, shut: 2}}\n" +
			"      level: {between: 1..1000}\n      price: {between: [1.00, 99.95], step: 0.05}\n" +
			"      opened: {before: clock, within: 400d}\n      day: {between: [2019-01-01, 2025-12-31]}\n" +
			"      note: {kind: sentence}\n")
		if i > 0 {
			fmt.Fprintf(&b, "      next: {pick: Port%d}\n", i-1)
		}
	}
	return b.String()
}

func TestPagesStaySmall(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", manyEntities(30, 33_000))
	r := f.run("page", "--out", "a.html")
	require.Zero(t, r.code, r.errOut)
	info, err := os.Stat(f.file("a.html"))
	require.NoError(t, err)
	assert.Less(t, info.Size(), int64(2_000_000))
	checkLinks(t, f.read("a.html"))
	assert.Contains(t, f.read("a.html"), "2,500 of 33,000 rows, evenly taken")
}

func TestPagesInABrowser(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	f.makeDB("larkwater.db", demo.Schema)
	require.Zero(t, f.run("load", "--db", "sqlite:larkwater.db", "--page", "a.html").code)
	tab := pagetest.Open(t, f.file("a.html"), "")
	assert.Equal(t, "larkwater", pagetest.Is[string](tab, "document.title"))

	// A reference leads to its row, which is then in view, and marked.
	link := `#entity-Booking a[href="#row-Passenger.1"]`
	tab.Do(chromedp.Click(link))
	assert.Equal(t, "#row-Passenger.1", pagetest.Is[string](tab, "location.hash"))
	assert.True(t, pagetest.Is[bool](tab, `(() => {
		const r = document.getElementById("row-Passenger.1").getBoundingClientRect();
		return r.top >= 0 && r.bottom <= innerHeight
	})()`))
	assert.True(t, pagetest.Is[bool](tab, `document.getElementById("row-Passenger.1").matches(":target")`))

	// The diagram leads to entities.
	tab.Do(chromedp.Click(`.diagram a[href="#entity-Sailing"]`))
	assert.Equal(t, "#entity-Sailing", pagetest.Is[string](tab, "location.hash"))

	// A heading sorts, by number and by text, down at the second click; the keyboard does, too.
	column := func(entity string, n int) []string {
		return pagetest.Is[[]string](tab, fmt.Sprintf(
			`[...document.querySelectorAll("#entity-%s .rows tbody tr")].filter(r => !r.classList.contains("hidden"))
			.map(r => r.cells[%d].textContent)`, entity, n))
	}
	total := `#entity-Booking .rows thead th:nth-child(7) button`
	tab.Do(chromedp.Click(total))
	assert.IsIncreasing(t, numbers(t, column("Booking", 6)))
	assert.Equal(t, "ascending", pagetest.Is[string](tab,
		`document.querySelector("#entity-Booking .rows thead th:nth-child(7)").getAttribute("aria-sort")`))
	tab.Do(chromedp.Focus(total), chromedp.KeyEvent("\r"))
	assert.IsDecreasing(t, numbers(t, column("Booking", 6)))

	// A text filters rows, and a link to a hidden row shows it again.
	all := len(column("Passenger", 1))
	tab.Do(chromedp.SendKeys(`#entity-Passenger input[type=search]`, "Quill"))
	assert.Equal(t, []string{"Ada"}, column("Passenger", 1))
	assert.Equal(t, fmt.Sprintf("1 of %d rows", all), pagetest.Is[string](tab,
		`document.querySelector("#entity-Passenger .tools small").textContent`))
	tab.Do(chromedp.Click(link))
	assert.Len(t, column("Passenger", 1), 2)

	// What a screen reader needs: names of pictures, headings in order, labels.
	assert.Zero(t, pagetest.Is[int](tab, `document.querySelectorAll("svg[role=img]:not([aria-label])").length`))
	assert.Equal(t, 1, pagetest.Is[int](tab, `document.querySelectorAll("h1").length`))
	assert.Zero(t, pagetest.Is[int](tab, `document.querySelectorAll("input:not([aria-label])").length`))
	assert.Equal(t, "en", pagetest.Is[string](tab, "document.documentElement.lang"))

	// Nothing is wider than a small screen, dark colours are taken, and it prints.
	tab.Do(chromedp.EmulateViewport(400, 800))
	assert.LessOrEqual(t, pagetest.Is[int](tab, "document.documentElement.scrollWidth"), 400)
	light := pagetest.Is[string](tab, "getComputedStyle(document.body).backgroundColor")
	tab.Dark()
	assert.NotEqual(t, light, pagetest.Is[string](tab, "getComputedStyle(document.body).backgroundColor"))
	assert.Equal(t, "%PDF", string(tab.Print()[:4]))
	assert.Empty(t, tab.Wrong())
	assert.Equal(t, 1, len(tab.Requests()), tab.Requests())
}

func numbers(t *testing.T, texts []string) []float64 {
	t.Helper()
	var out []float64
	for _, s := range texts {
		var n float64
		_, err := fmt.Sscanf(strings.ReplaceAll(s, ",", ""), "%f", &n)
		require.NoError(t, err, s)
		if len(out) == 0 || out[len(out)-1] != n {
			out = append(out, n)
		}
	}
	return out
}

// Names and values full of markup are shown as they are; none of them runs, or loads anything.
func TestPagesRunNothingOfTheData(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", `CREATE TABLE "<img src=x onerror=hacked()>" (
		id INTEGER PRIMARY KEY, "</td><script>hacked()</script>" TEXT NOT NULL,
		link TEXT CHECK (link <> 'javascript:hacked()'));
		CREATE TABLE "</svg><script>hacked()</script>" (
			id INTEGER PRIMARY KEY, "<a href='http://example.com/x'>" TEXT);`)
	f.write("evensprout.yaml", `
name: "<script>hacked()</script>"
seed: "\"><svg onload=hacked()>"
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: "<img src=x onerror=hacked()>"
    rows: 40
    fields:
      name:
        column: "</td><script>hacked()</script>"
        choose:
          - "</script><script>hacked()</script>"
          - "<img src=http://example.com/a.png onerror=hacked()>"
          - "\u202Eslipper\u202C"
          - "{{.Script}}"
          - "&lt;b&gt;"
      link:
        choose: ["javascript:hacked()", "data:text/html,<script>hacked()</script>", "#row-Port.1", "';hacked();//"]
always:
  "<script>hacked()</script>": every Port has id > 1000
`)
	r := f.run("load", "--db", "sqlite:a.db", "--on-violation", "check=skip", "--without-units", "--page", "a.html")
	assert.Contains(t, []int{5, 6}, r.code, r.errOut)
	r = f.run("page", "--db", "sqlite:a.db", "--out", "b.html")
	require.Zero(t, r.code, r.errOut)
	for _, name := range []string{"a.html", "b.html"} {
		text := f.read(name)
		assert.NotContains(t, text, "\u202e", "it is written out")
		assert.Equal(t, 1, strings.Count(text, "<script"), name)
		tab := pagetest.Open(t, f.file(name), "")
		assert.Equal(t, "<script>hacked()</script>", pagetest.Is[string](tab, "document.title"))
		for _, none := range []string{
			`document.querySelectorAll("img, iframe, object, embed, link, form").length`,
			`[...document.querySelectorAll("a")].filter(a => !a.getAttribute("href").startsWith("#")).length`,
		} {
			assert.Zero(t, pagetest.Is[int](tab, none))
		}
		assert.Empty(t, tab.Wrong())
		assert.Equal(t, 1, len(tab.Requests()), tab.Requests())
	}
}
