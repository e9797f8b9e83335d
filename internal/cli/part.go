package cli

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/order"
)

// partFlag lets a command take a share of the rows.
func partFlag(c *cobra.Command, into *string) {
	c.Flags().StringVar(into, "part", "", "a share of the rows, whole families: its number and how many there are, such as 3/16; env/16 takes the number from the environment of an indexed job")
}

// indexVariables are where schedulers tell a task of an indexed job its number.
var indexVariables = []struct {
	name  string
	first string // the variable with the least number; empty: that is 0
}{
	{"JOB_COMPLETION_INDEX", ""}, {"AWS_BATCH_JOB_ARRAY_INDEX", ""}, {"BATCH_TASK_INDEX", ""}, {"CLOUD_RUN_TASK_INDEX", ""}, {"SLURM_ARRAY_TASK_ID", "SLURM_ARRAY_TASK_MIN"}, {"PBS_ARRAY_INDEX", ""},
}

// parsePart reads a part, its number from the environment if that is asked for.
func parsePart(text string) (order.Part, error) {
	if text == "" {
		return order.Part{}, nil
	}
	if of, ok := strings.CutPrefix(text, "env/"); ok {
		var names []string
		number := ""
		for _, v := range indexVariables {
			names = append(names, v.name)
			at := os.Getenv(v.name)
			if at == "" {
				continue
			}
			n, err := strconv.ParseInt(at, 10, 32)
			first := int64(0)
			if err == nil && v.first != "" {
				first, err = strconv.ParseInt(os.Getenv(v.first), 10, 32)
			}
			if err != nil {
				return order.Part{}, usageError{fmt.Errorf("--part: %s holds %q, which is no number of a task", v.name, at)}
			}
			number = strconv.FormatInt(n-first+1, 10)
			break
		}
		if number == "" {
			return order.Part{}, usageError{fmt.Errorf("--part env/%s takes the number from the environment, and none of %s is set", of, strings.Join(names, ", "))}
		}
		text = number + "/" + of
	}
	p, err := order.ParsePart(text)
	if err != nil {
		return p, usageError{fmt.Errorf("--part: %w", err)}
	}
	return p, nil
}
