package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
)

// A row is shown with what it refers to and what refers to it, on each engine.
func TestRowsAreShownAsTrees(t *testing.T) {
	onTables(
		t,
		demo.Schema,
		strings.ReplaceAll(demo.Entities, "rows: 5000", "rows: 50"),
		func(t *testing.T, s *site) {
			require.Zero(t, s.on("load").code)
			r := s.on("look", "Booking", "NJ600469")
			require.Zero(t, r.code, r.errOut)
			for _, want := range []string{
				"bookings 1 NJ600469\n", "├─ status open\n",
				"├─ passenger_id: passengers 2 Bo Tern  email bo@example.com",
				"│  └─ vessel_id: vessels ", "└─ tickets by booking_id: ", "fare_class_code ",
			} {
				assert.Contains(t, r.out, want)
			}
			r = s.on("look", "Booking", "1", "--json")
			assert.Contains(t, r.out, `"reference": "NJ600469"`)
			assert.Contains(t, r.out, `"referred_by": [`)
			for label, key := range map[string]string{"Ada Quill": "1", "Ada Quil": "", "bo@example.com": "2"} {
				r := s.on("look", "Passenger", label)
				if key == "" {
					assert.Contains(t, r.errOut, "passengers has no row Ada Quil; did you mean Ada Quill?")
					continue
				}
				assert.Contains(t, r.out, "passengers "+key+" ")
			}
			s.write("labelled.yaml", strings.Replace(s.read("evensprout.yaml"), "    table: piers\n",
				"    table: piers\n    label: \"{name} ({code})\"\n", 1))
			r = s.on("look", "labelled.yaml", "Vessel", "--limit", "1")
			assert.Regexp(t, `\d [A-Z][a-z]+.* \([A-Z]{3}\)`, r.out)
			require.Zero(t, s.on("load", "labelled.yaml").code, "a label is no change of the plan")
			r = s.on("look", "passengers", "--counts")
			require.Zero(t, r.code, r.errOut)
			assert.Regexp(t, `status +active +\d+ `, r.out)
			assert.NotContains(t, r.out, "@example", "columns with many values are not counted")
			require.Zero(t, s.on("look", "passengers", "--counts", "--json").code)

			for args, want := range map[string]string{
				"Booking none":                  "bookings has no row none",
				"Booking NJ600469 x":            "look shows one row, got NJ600469 and x",
				"Booking NJ600469 --where id=1": "one row is shown without --where, --counts and --spread",
			} {
				r := s.on(append([]string{"look"}, strings.Fields(args)...)...)
				assert.Equal(t, 2, r.code, args)
				assert.Contains(t, r.errOut, want, args)
			}
		},
	)
}
