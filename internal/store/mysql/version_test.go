package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestVersions(t *testing.T) {
	for version, want := range map[string]struct {
		maria           bool
		message, notice string
	}{
		"8.0.36":                          {},
		"8.4.0-log":                       {},
		"9.1.0":                           {},
		"5.7.44-log":                      {message: "is MySQL 5.7, which is too old"},
		"10.5.1-MariaDB":                  {maria: true},
		"10.11.19-MariaDB-0+deb12u1":      {maria: true},
		"10.4.34-MariaDB-1:10.4.34":       {maria: true, message: "is MariaDB 10.4, which is too old"},
		"11.4.2-MariaDB":                  {maria: true, notice: "the server is MariaDB 11.4, which is newer"},
		"Harbour 3":                       {message: `it calls itself "Harbour 3"`},
		"":                                {message: `it calls itself ""`},
		"one\x1b[31m  two\nthree four   ": {message: `"one` + "\x1b" + `[31m two three four"`},
	} {
		maria, notice, err := checkVersion(version, "127.0.0.1:3306")
		if want.message != "" {
			require.Error(t, err, version)
			assert.Contains(t, err.Error(), "the server at 127.0.0.1:3306 ")
			assert.Contains(t, err.Error(), want.message)
			continue
		}
		require.NoError(t, err, version)
		assert.Equal(t, want.maria, maria, version)
		assert.Contains(t, notice, want.notice)
		assert.Equal(t, want.notice == "", notice == "", version)
	}
}
