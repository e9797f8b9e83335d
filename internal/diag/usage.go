package diag

import (
	"fmt"
	"strings"
)

// UsageError is a command line that makes no sense.
type UsageError struct {
	Err     error
	Command string // such as "evensprout load"; empty if it is not known
}

// Usagef is a command line that makes no sense, for a reason.
func Usagef(format string, args ...any) error { return &UsageError{Err: fmt.Errorf(format, args...)} }

func (e *UsageError) Error() string { return e.Err.Error() }

func (e *UsageError) Unwrap() error { return e.Err }

// Report says where the right words stand.
func (e *UsageError) Report() Report {
	r := Report{Kind: Usage, Message: strings.TrimSpace(e.Error()), Hint: "evensprout --help lists the commands"}
	if e.Command != "" {
		r.Hint = "see " + e.Command + " --help"
	}
	return r
}
