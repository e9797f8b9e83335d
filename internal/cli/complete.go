package cli

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/journal"
	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/words"

	"github.com/spf13/cobra"
)

// completer returns words that may follow on a command line, after the arguments so far.
type completer func(c *cobra.Command, args []string) []string

// flagValues are the values of flags that shells complete, by command and flag. A flag without a
// command is completed wherever it is.
func (a *program) flagValues() map[string]completer {
	words := func(list ...string) completer {
		return func(*cobra.Command, []string) []string { return list }
	}
	return map[string]completer{
		"color":           words(a.color.words...),
		"locale":          words(localeNames()...),
		"log-format":      words(a.logFormat.words...),
		"commit":          words(plan.CommitWords()...),
		"withdraw commit": words(string(plan.CommitLoad), string(plan.CommitChunk)),
		"on-violation":    words(plan.PolicyWords()...),
		"also":            words("changed", "referring"),
		"format":          words(append(files.Formats(), formatSQL)...),
		"dialect":         words("sqlite", "postgres", "mysql"),
		"references":      words("keys", "rows", "names"),
		"export names":    words("fields", "columns"),
		"survey names":    words(lexicon.Namings...),
		"entity":          a.entitiesOfPlan,
		"unit":            a.unitsOfPlan,
		"load":            a.loadsOfJournal,
	}
}

// argumentValues are the words that shells complete as arguments, by command. Names of plans are
// completed as files with all others that take one.
func (a *program) argumentValues() map[string]completer {
	return map[string]completer{
		"catalog": func(*cobra.Command, []string) []string {
			var out []string
			for _, k := range grow.Kinds() {
				out = append(out, k.Name)
			}
			return out
		},
		"look":     a.entitiesOfPlan,
		"withdraw": a.loadsOfJournal,
		"history":  a.loadsOfJournal,
	}
}

// complete lets shells complete values of flags and arguments of a command.
func (a *program) complete(c *cobra.Command) {
	flags := a.flagValues()
	for name, values := range flags {
		flag := name
		if of, own, ok := strings.Cut(name, " "); ok {
			if of != c.Name() {
				continue
			}
			flag = own
		} else if flags[c.Name()+" "+name] != nil {
			continue
		}
		if c.Flag(flag) == nil {
			continue
		}
		// It fails only for a flag of all commands, whose values are registered already.
		c.RegisterFlagCompletionFunc(flag, func(c *cobra.Command, args []string, _ string) ([]string,
			cobra.ShellCompDirective) {
			return harmless(values(c, args)), cobra.ShellCompDirectiveNoFileComp
		})
	}
	values := a.argumentValues()[c.Name()]
	if strings.Contains(c.Use, "[PLAN]") || values != nil {
		c.ValidArgsFunction = func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			if values == nil || strings.Contains(typed, "/") {
				return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
			}
			return harmless(values(c, args)), cobra.ShellCompDirectiveDefault
		}
	}
}

// harmless leaves out words that mean something to a shell, such as $(rm x): names in plans, tables and journals may be
// anything, and a shell evaluates what it is offered. In descriptions, behind a tab, such characters become a question
// mark.
func harmless(words []string) []string {
	plain := func(r rune) bool {
		return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("_-.,:=+@%/", r)
	}
	var out []string
	for _, w := range words {
		word, description, described := strings.Cut(w, "\t")
		if strings.ContainsFunc(word, func(r rune) bool { return !plain(r) }) || strings.HasPrefix(word, "-") {
			continue
		}
		if described {
			word += "\t" + strings.Map(func(r rune) rune {
				if plain(r) || r == ' ' {
					return r
				}
				return '?'
			}, description)
		}
		out = append(out, word)
	}
	return out
}

// isPlanName reports whether an argument is the name of a plan, by its ending.
func isPlanName(arg string) bool {
	return strings.HasSuffix(arg, ".yaml") || strings.HasSuffix(arg, ".yml")
}

// planForCompletion is the plan that a command line names, or the default; nil if it cannot be read.
func (a *program) planForCompletion(args []string) *plan.Plan {
	args = slices.DeleteFunc(slices.Clone(args), func(arg string) bool { return !isPlanName(arg) })
	p, err := a.ws.ReadPlan(args)
	if err != nil {
		return nil
	}
	return p
}

// entitiesOfPlan are the names of the plan's entities.
func (a *program) entitiesOfPlan(_ *cobra.Command, args []string) []string {
	var out []string
	if p := a.planForCompletion(args); p != nil {
		for _, e := range p.Entities {
			out = append(out, e.Name)
		}
	}
	return out
}

// unitsOfPlan are the names of the plan's units.
func (a *program) unitsOfPlan(_ *cobra.Command, args []string) []string {
	var out []string
	if p := a.planForCompletion(args); p != nil {
		for _, u := range p.Units {
			out = append(out, u.Name)
		}
	}
	return out
}

// completionTime is how long a shell waits at most for a database.
const completionTime = 2 * time.Second

// loadsOfJournal are the numbers of loads, the last first, with their plans. It only reads.
func (a *program) loadsOfJournal(c *cobra.Command, args []string) []string {
	ctx, stop := context.WithTimeout(c.Context(), completionTime)
	defer stop()
	s, _, err := a.ws.Open(ctx, a.planForCompletion(args), nil)
	if err != nil || s == nil {
		return nil
	}
	defer s.Close()
	entries, err := journal.Unlocked(s).Entries(ctx, "")
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range slices.Backward(entries) {
		out = append(out, strconv.FormatInt(e.Number, 10)+"\t"+planName(e))
	}
	return out
}

// localeNames are the locales of the catalogue.
func localeNames() []string { return words.Locales() }
