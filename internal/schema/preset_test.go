package schema

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Defaults that are the same for every row are read, in the ways of each engine; others
// are not.
func TestConstantDefaults(t *testing.T) {
	for preset, want := range map[string]Constant{
		"'open'::character varying":         {Text: "open", Quoted: true},
		"'open'::character varying(20)":     {Text: "open", Quoted: true},
		"'it''s'::text":                     {Text: "it's", Quoted: true},
		"'a::b'::text":                      {Text: "a::b", Quoted: true},
		"'a::b'":                            {Text: "a::b", Quoted: true},
		"''::text":                          {Quoted: true},
		"0":                                 {Text: "0"},
		"(0)::numeric":                      {Text: "0"},
		"'-1'::integer":                     {Text: "-1", Quoted: true},
		"(-1)":                              {Text: "-1"},
		"1.50":                              {Text: "1.50"},
		"true":                              {Text: "true"},
		"FALSE":                             {Text: "false"},
		"'2026-05-01'::date":                {Text: "2026-05-01", Quoted: true},
		"now()":                             {Clock: true},
		"CURRENT_TIMESTAMP":                 {Clock: true},
		"current_timestamp(6)":              {Clock: true},
		"(now())::timestamp with time zone": {Clock: true},
		"_utf8mb4'open'":                    {Text: "open", Quoted: true},
	} {
		c := Column{Preset: preset}
		got, ok := c.Constant()
		assert.True(t, ok, preset)
		assert.Equal(t, want, got, preset)
	}
	for _, preset := range []string{"", "nextval('a_seq'::regclass)", "gen_random_uuid()", "uuid()", "(now() + '1 " +
		"day'::interval)", "random()", "1 + 1", "'a' || 'b'", "lower('X'::text)", `E'a\\n'`, "NULL", "NULL::text"} {
		c := Column{Preset: preset}
		_, ok := c.Constant()
		assert.False(t, ok, preset)
	}
}
