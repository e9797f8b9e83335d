package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"evensprout/internal/diag"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// helpWidth is the width of help texts, in columns.
const helpWidth = 80

// Headings of flags that many commands have.
const (
	optionFlags     = "Options"
	connectionFlags = "Connection"
	outputFlags     = "Output"
)

// commonFlags are the headings of flags by their names. A command may put a flag under a heading of
// its own, by groupFlags.
var commonFlags = map[string]string{
	"db": connectionFlags, "allow-host": connectionFlags, "allow-logins": connectionFlags, "wait": connectionFlags,
	"json": outputFlags, "quiet": outputFlags, "color": outputFlags, "help": outputFlags,
	"verbose": outputFlags, "show-values": outputFlags, "log-format": outputFlags, "version": outputFlags,
}

// flagGroup is the annotation of a flag that names its heading.
const flagGroup = "evensprout group"

// noDatabase is the annotation of a command that does not take --db.
const noDatabase = "evensprout no database"

// groupFlags lists flags of a command under a heading of their own.
func groupFlags(c *cobra.Command, heading string, names ...string) {
	for _, name := range names {
		f := c.Flags().Lookup(name)
		if f == nil {
			panic("no flag " + name) // a mistake of this package
		}
		f.Annotations = map[string][]string{flagGroup: {heading}}
	}
}

// headingOf is the heading that a flag is listed under.
func headingOf(f *pflag.Flag) string {
	if of := f.Annotations[flagGroup]; len(of) > 0 {
		return of[0]
	}
	if of := commonFlags[f.Name]; of != "" {
		return of
	}
	return optionFlags
}

// Headings of commands, in the order in which the program's help lists them.
const (
	startCommands    = "start"
	planCommands     = "plan"
	databaseCommands = "database"
	otherCommands    = "other"
)

// help prints the help of a command: what it does, how it is called, examples, and its flags under
// headings.
func help(w io.Writer, c *cobra.Command) {
	text := c.Long
	if text == "" {
		text = c.Short
	}
	fmt.Fprintf(w, "%s\n\nUsage:\n  %s\n", wrap(text, helpWidth), c.UseLine())
	if c.HasAvailableSubCommands() {
		printSubCommands(w, c)
	}
	if c.HasExample() {
		fmt.Fprintf(w, "\nExamples:\n%s\n", wrapExamples(c.Example, helpWidth))
	}
	printFlags(w, c)
	if !c.HasParent() {
		fmt.Fprintf(w, "\n%s COMMAND --help explains a command.\n", c.Name())
	}
}

// printSubCommands lists the commands of a command, under headings if it has any.
func printSubCommands(w io.Writer, c *cobra.Command) {
	list := func(title, group string) {
		fmt.Fprintf(w, "\n%s\n", title)
		for _, sub := range c.Commands() {
			if sub.GroupID == group && sub.IsAvailableCommand() {
				fmt.Fprintf(w, "  %-12s %s\n", sub.Name(), sub.Short)
			}
		}
	}
	for _, g := range c.Groups() {
		list(g.Title, g.ID)
	}
	if len(c.Groups()) == 0 {
		list("Commands:", "")
	}
}

// printFlags lists the flags of a command under their headings.
func printFlags(w io.Writer, c *cobra.Command) {
	var headings []string
	flags := map[string][]*pflag.Flag{}
	add := func(f *pflag.Flag) {
		if f.Hidden || f.Name == "db" && c.Annotations[noDatabase] != "" {
			return
		}
		of := headingOf(f)
		if flags[of] == nil {
			headings = append(headings, of)
		}
		flags[of] = append(flags[of], f)
	}
	c.InitDefaultHelpFlag()
	c.LocalFlags().VisitAll(add)
	c.InheritedFlags().VisitAll(add)
	last := func(of string) int { return slices.Index([]string{connectionFlags, outputFlags}, of) }
	slices.SortStableFunc(headings, func(a, b string) int { return last(a) - last(b) })
	for _, of := range headings {
		fmt.Fprintf(w, "\n%s:\n", of)
		for _, f := range flags[of] {
			printFlag(w, f)
		}
	}
}

// valueNames name what flags take, by their types. A name in backquotes within the usage comes first.
var valueNames = map[string]string{
	"string": "TEXT", "stringArray": "TEXT", "strings": "NAMES", "int": "N", "int64": "N", "uint": "N",
	"uint64": "N", "duration": "TIME", "when": "WHEN", "format": "FORM",
}

// flagHead is a flag with its short form and the name of its value, and what it does.
func flagHead(f *pflag.Flag) (head, usage string) {
	name, usage := pflag.UnquoteUsage(f)
	if of, ok := valueNames[name]; ok {
		name = of
	}
	head = "--" + f.Name
	if f.Shorthand != "" {
		head = "-" + f.Shorthand + ", " + head
	}
	if name != "" {
		head += " " + name
	}
	plain := slices.Contains([]string{"", "0", "false", "[]", "0s"}, f.DefValue)
	if !plain && !strings.Contains(usage, "default") {
		usage += " (default " + f.DefValue + ")"
	}
	return head, usage
}

// printFlag prints a flag and, beside it, what it does.
func printFlag(w io.Writer, f *pflag.Flag) {
	const column = 26 // in which the usage begins
	head, usage := flagHead(f)
	if f.Shorthand == "" {
		head = "    " + head
	}
	lines := strings.Split(wrap(usage, helpWidth-column), "\n")
	if len(head)+2 >= column {
		fmt.Fprintf(w, "  %s\n", head)
		head = ""
	}
	for _, l := range lines {
		fmt.Fprintf(w, "  %-*s%s\n", column-2, head, l)
		head = ""
	}
}

// wrap breaks the lines of paragraphs anew. Lines that begin with a blank stay as they are.
func wrap(text string, width int) string {
	var out []string
	for i, paragraph := range strings.Split(text, "\n\n") {
		if i > 0 {
			out = append(out, "")
		}
		line := ""
		flush := func() {
			if line != "" {
				out = append(out, line)
			}
			line = ""
		}
		for _, l := range strings.Split(paragraph, "\n") {
			if strings.HasPrefix(l, " ") {
				flush()
				out = append(out, l)
				continue
			}
			for _, word := range strings.Fields(l) {
				if line != "" && len(line)+1+len(word) > width {
					flush()
				}
				if line != "" {
					line += " "
				}
				line += word
			}
		}
		flush()
	}
	return strings.Join(out, "\n")
}

// wrapExamples breaks command lines that are too long before a flag, as a shell reads them on.
func wrapExamples(text string, width int) string {
	var out []string
	for _, line := range strings.Split(text, "\n") {
		for len(line) > width && !strings.Contains(line, "  #") {
			at := strings.LastIndex(line[:width-2], " --")
			if at <= 6 {
				break
			}
			out = append(out, line[:at]+` \`)
			line = "     " + line[at:]
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

// unknownCommand is the error of a first argument that is no command.
func unknownCommand(root *cobra.Command, args []string, err error) error {
	if !strings.HasPrefix(err.Error(), "unknown command") {
		return &diag.UsageError{Err: err}
	}
	name := ""
	for _, arg := range args {
		if !strings.HasPrefix(arg, "-") {
			name = arg
			break
		}
	}
	var names []string
	for _, c := range root.Commands() {
		names = append(names, c.Name())
	}
	if near := diag.Nearest(name, names); near != "" {
		return diag.Usagef("there is no command %s; did you mean %s?", name, near)
	}
	return diag.Usagef("there is no command %s", name)
}

// wrongArguments says what is wrong with the arguments of a command, if anything is. Texts of the
// library about their number are replaced.
func wrongArguments(c *cobra.Command, args []string, err error) error {
	switch {
	case err == nil:
		return nil
	case strings.HasPrefix(err.Error(), "accepts "):
		return diag.Usagef("too many arguments: %s\nusage: %s", strings.Join(args, " "),
			strings.TrimSuffix(c.UseLine(), " [flags]"))
	case strings.HasPrefix(err.Error(), "unknown command "):
		return diag.Usagef("%s takes no arguments, got %s", c.Name(), strings.Join(args, " "))
	}
	return &diag.UsageError{Err: err}
}

// helpCommand makes the command help.
func helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:     "help [COMMAND]",
		Short:   "Explain a command",
		GroupID: otherCommands,
		RunE: func(_ *cobra.Command, args []string) error {
			c, _, err := root.Find(args)
			if err != nil || c == nil {
				return unknownCommand(root, args, fmt.Errorf("unknown command"))
			}
			help(root.OutOrStdout(), c)
			return nil
		},
	}
}

// completionHelp explains the command completion, which the library makes, and refuses shells that
// it does not know.
func completionHelp(c *cobra.Command) {
	c.Short = "Print a script that completes commands in your shell"
	c.Long = `completion prints a script that lets your shell complete commands, flags and their values. Load it
in the start-up file of the shell, for example in ~/.bashrc:

  source <(evensprout completion bash)`
	c.Use = "completion SHELL"
	var shells []string
	c.Flags().BoolP("help", "h", false, "print this help")
	for _, sub := range c.Commands() {
		sub.Flags().BoolP("help", "h", false, "print this help")
		shells = append(shells, sub.Name())
		sub.Short = "Print the script for " + sub.Name()
	}
	c.Args = cobra.ArbitraryArgs
	c.RunE = func(_ *cobra.Command, args []string) error {
		return diag.Usagef("completion needs one of %s, got %s", strings.Join(shells, ", "),
			cmp.Or(strings.Join(args, " "), "nothing"))
	}
}
