package storetest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// conditions are computed by the database and by our own evaluator: both must say the
// same of every value. Where letter case alone decides, engines differ by collation: ours
// takes it for a difference.
var conditions = map[string][]string{
	"seats": {
		"seats > 3", "seats BETWEEN 2 AND 5", "seats IN (1, 2, NULL)", "seats NOT IN (1, 2)", "seats IS NULL OR " +
			"seats <> 4", "NOT (seats < 3 AND seats > 1)", "seats % 3 = 1", "seats * 2 - 1 >= 7", "-seats < -3",
		"abs(seats - 5) <= 2", "coalesce(seats, 0) = 0", "nullif(seats, 3) IS NULL", "CASE WHEN seats > 4 THEN " +
			"seats < 8 ELSE seats > 1 END", "CASE seats WHEN 3 THEN 1 ELSE 0 END = 1", "seats = 4 OR seats = 7",
		"seats + 0.5 " +
			"> 4",
	},
	"label": {
		"length(label) > 3", "label LIKE 'Q%'", "label NOT LIKE '%e'", "label LIKE '_i%'", "label = 'Pike' OR " +
			"label = 'Quay'", "upper(label) = 'QUAY'", "label IN ('Pike', 'x')",
		"trim(label) <> ''", "substr(label, 2, 2) = 'ua'", "replace(label, 'a', '') = 'Quy'", "label IS NOT NULL " +
			"AND length(label) = 4", "coalesce(label, 'none') <> 'none'",
	},
	"launched": {
		"launched >= '2026-02-01'",
		"launched BETWEEN '2026-01-01' AND '2026-01-31'",
		"launched IS NULL",
		"launched <> '2026-02-28'",
	},
	"price": {
		"price > 4.5",
		"price * 100 = 450",
		"price - 0.25 < 4.3",
		"round(price, 0) = 5",
		"price IN (4.50, 7.25)",
		"floor(price) = 4",
	},
}

var conditionValues = map[string][]value.Value{
	"seats": {
		{},
		value.Int(0),
		value.Int(1),
		value.Int(2),
		value.Int(3),
		value.Int(4),
		value.Int(5),
		value.Int(7),
		value.Int(10),
	},
	"label": {
		{},
		value.String("Quay"),
		value.String("Pike"),
		value.String("x"),
		value.String("Tide"),
		value.String("ebb"),
	},
	"launched": {
		{},
		{Type: value.Date, N: 20454},
		{Type: value.Date, N: 20484},
		{Type: value.Date, N: 20485},
		{Type: value.Date, N: 20512},
	},
	"price": {
		{},
		{Type: value.Decimal, Scale: 2, N: 450},
		{Type: value.Decimal, Scale: 2, N: 725},
		{Type: value.Decimal, Scale: 2, N: 499},
	},
}

func passes(t *testing.T, f *fixture) {
	ctx, s := t.Context(), f.store
	if f.engine.Plain != nil {
		var err error
		s, err = f.engine.Driver.Open(ctx, f.engine.Plain(t, f.url))
		require.NoError(t, err)
		defer s.Close()
	}

	boats := f.db.Table("boats")
	for column, list := range conditions {
		c := boats.Column(column)
		var rows [][]value.Value
		for _, v := range conditionValues[column] {
			rows = append(rows, []value.Value{v})
		}
		for _, text := range list {
			n, err := predicate.Parse(text)
			require.NoError(t, err, text)
			ours, err := predicate.Compile(n)
			require.NoError(t, err, text)
			theirs, err := s.Passes(ctx, []*schema.Column{c}, text, rows)
			require.NoError(t, err, text)
			written, err := s.Passes(ctx, []*schema.Column{c}, n.String(), rows)
			require.NoError(t, err, n.String())
			for i, v := range conditionValues[column] {
				assert.Equal(t, theirs[i], ours.Holds([]value.Value{v}), "%s over %s", text, v)
				assert.Equal(t, theirs[i], written[i], "%s, written as %s, over %s", text, n, v)
			}
		}
	}

	two, err := s.Passes(
		ctx,
		[]*schema.Column{boats.Column("seats"), boats.Column("label")},
		"seats > length(label)",
		[][]value.Value{
			{value.Int(5), value.String("Quay")},
			{value.Int(4), value.String("Quay")},
			{{}, value.String("x")},
		},
	)
	require.NoError(t, err)
	assert.Equal(t, []bool{true, false, true}, two)
	refused, err := s.Passes(
		ctx,
		[]*schema.Column{boats.Column("seats")},
		"no_such_function(seats) = 1",
		[][]value.Value{{value.Int(1)}},
	)
	require.NoError(t, err)
	assert.Equal(t, []bool{false}, refused, "what cannot be computed does not pass")
}
