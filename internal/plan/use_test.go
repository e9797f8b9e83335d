package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const usable = `name: harbour
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Pier: {rows: 9, fields: {code: {pattern: "[A-Z]{3}"}}}
  Crew: {rows: 3, fields: {job: {choose: [Cook, Mate]}}}
  Boat: {rows: 40, fields: {pier: {pick: Pier}, name: {text: "boat of {pier.code}"}}}
  Seat: {per: {Boat: 2}, fields: {n: {derive: "Boat.name"}}}
variants:
  ci: {scale: 10%, only: Seat}
  demo: {clock: today, seed: d, locale: de, entities: {Crew: {rows: 7, fields: {job: {value: Cook}}}}}

`

// used is the plan in another size.
func used(t *testing.T, u Use) *Plan {
	t.Helper()
	p, err := Read("p.yaml", []byte(usable))
	require.NoError(t, err)
	p, err = p.WithUse(u)
	require.NoError(t, err)
	require.Empty(t, p.malformed)
	return p
}

// sizesOf are the planned rows by entity.
func sizesOf(p *Plan) map[string]uint64 {
	out := map[string]uint64{}
	for _, e := range p.Entities {
		out[e.Name] = e.Rows
	}
	return out
}

func TestPlansAreUsedInOtherSizes(t *testing.T) {
	assert.Equal(t, map[string]uint64{"Pier": 1, "Boat": 4, "Seat": 0}, sizesOf(used(t, Use{Variant: "ci"})))
	assert.Equal(
		t,
		map[string]uint64{"Pier": 90, "Crew": 30, "Boat": 400, "Seat": 0},
		sizesOf(used(t, Use{Scale: "10"})),
	)
	assert.Equal(
		t,
		map[string]uint64{"Pier": 1, "Crew": 1, "Boat": 1, "Seat": 0},
		sizesOf(used(t, Use{Scale: "0.1%"})),
	)
	assert.Equal(t, uint64(77), sizesOf(used(t, Use{Rows: map[string]uint64{"Boat": 77}}))["Boat"])
	assert.Equal(t, map[string]uint64{"Pier": 9, "Boat": 40}, sizesOf(used(t, Use{Only: []string{"Boat"}})))

	p := used(t, Use{Variant: "demo", Today: "2026-06-02", Seed: "other"})
	assert.Equal(t, "other", p.Seed, "the command line comes after the variant")
	assert.Equal(t, "2026-06-02T00:00:00Z", p.Clock.String())
	assert.Equal(t, uint64(7), sizesOf(p)["Crew"])
	assert.Contains(t, p.Changes, Change{"Crew.rows", "3", "7"})
	again, err := Read("p.yaml", p.Source())
	require.NoError(t, err)
	assert.Equal(t, p.Clock, again.Clock, "the source says it all")
	assert.Equal(t, sizesOf(p), sizesOf(again))
	assert.Equal(t, "variant demo, seed other", again.Used())
	assert.Equal(t, "only Pier Crew", used(t, Use{Only: []string{"Pier", "Crew"}}).Used())
	plain, err := Read("p.yaml", []byte(usable))
	require.NoError(t, err)
	assert.Empty(t, used(t, Use{Scale: "3"}).Differences(plain), "a size is no change of the plan")
	assert.Empty(t, used(t, Use{Only: []string{"Pier"}}).Differences(plain))
	assert.NotEmpty(t, used(t, Use{Seed: "x"}).Differences(plain))
}

func TestUsesThatAreRefused(t *testing.T) {
	p, err := Read("p.yaml", []byte(usable))
	require.NoError(t, err)
	for want, u := range map[string]Use{
		"no variant dmo":                   {Variant: "dmo"},
		"scale must be a factor above 0":   {Scale: "0"},
		"such as 10, 0.5 or 5%, got -2":    {Scale: "-2"},
		"up to 1000000":                    {Scale: "1e99"},
		"got 1/0":                          {Scale: "1/0"},
		"the plan has no entity Pire":      {Rows: map[string]uint64{"Pire": 3}},
		"Seat is planned per row":          {Rows: map[string]uint64{"Seat": 3}},
		"the plan has no entity Nothing":   {Only: []string{"Nothing"}},
		`the plan has no variant x", a: [`: {Variant: `x", a: [`},
	} {
		_, err := p.WithUse(u)
		assert.ErrorContains(t, err, want)
	}
	p, err = Read("p.yaml", []byte(usable+"use: {scale: 2}\n"))
	require.NoError(t, err)
	assert.Equal(t, uint64(18), sizesOf(p)["Pier"], "a plan may say it itself")
	_, err = p.WithUse(Use{Scale: "3"})
	assert.ErrorContains(t, err, "the plan has use: already")
	for text, want := range map[string]string{
		"variants: [a]":            "variants must be a mapping",
		"variants: {a: {}}":        "the variant a changes nothing",
		"variants: {a: {rows: 3}}": `"rows" is not a key of a variant`,
		"variants: {a: {entities: {X: {rows: 3}}}}\nuse: {variant: a}": "the variant changes X, which is no entity",
	} {
		head, _, _ := strings.Cut(usable, "variants:")
		p, err := Read("p.yaml", []byte(head+text+"\n"))
		require.NoError(t, err)
		_, err = p.Compile(Options{})
		assert.ErrorContains(t, err, want)
	}
}
