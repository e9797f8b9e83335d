package cli

import (
	"fmt"
	"os"
	"os/user"
	"strconv"
	"strings"

	"evensprout/internal/diag"
)

// actor says who works on the database, for others.
func actor() string {
	name := "somebody"
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	if host, err := os.Hostname(); err == nil {
		name += "@" + host
	}
	return fmt.Sprintf("%s, process %d", name, os.Getpid())
}

// loadNumber reads the number of a load, and the plan, from arguments.
func loadNumber(args []string) (int64, []string, error) {
	number := int64(0)
	var planArgs []string
	for _, arg := range args {
		if n, err := strconv.ParseInt(arg, 10, 64); err == nil && n > 0 && number == 0 {
			number = n
			continue
		}
		if isPlanName(arg) && planArgs == nil {
			planArgs = []string{arg}
			continue
		}
		return 0, nil, diag.Usagef("%q is neither a load number nor a plan (.yaml)", arg)
	}
	return number, planArgs, nil
}

// printLost tells once which columns of past loads are gone.
func (a *program) printLost(lost []string) {
	if len(lost) > 0 && !a.json {
		fmt.Fprintf(
			a.err,
			"note: the columns of these fields no longer exist, so they are left out: %s\n",
			strings.Join(lost, ", "),
		)
	}
}
