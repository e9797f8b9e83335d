package cli

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"time"

	"evensprout/internal/app"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// ManPages writes the manual pages of all commands, one for each, in roff with the man macros; when is
// their date.
func ManPages(when time.Time, write func(file string, page []byte) error) error {
	a := &program{ws: &app.Workspace{In: strings.NewReader(""), Drivers: drivers(nil)}, color: newColorFlag(),
		logFormat: newLogFlag()}
	root := a.root()
	commands := []*cobra.Command{root}
	for _, c := range root.Commands() {
		if c.IsAvailableCommand() && c.Name() != "help" {
			commands = append(commands, c)
		}
	}
	for _, c := range commands {
		name := strings.ReplaceAll(c.CommandPath(), " ", "-")
		var b bytes.Buffer
		manPage(&b, c, name, when, commands)
		if err := write(name+".1", b.Bytes()); err != nil {
			return err
		}
	}
	return nil
}

// roff escapes a text: a backslash, a hyphen that must stay one, and a dot or quote at the start of a
// line, which would be a request.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}

// manPage writes the page of one command.
func manPage(w io.Writer, c *cobra.Command, name string, when time.Time, all []*cobra.Command) {
	fmt.Fprintf(w, ".TH %q 1 %q %q\n", strings.ToUpper(name), when.UTC().Format(time.DateOnly), "Even Sprout "+number)
	fmt.Fprintf(w, ".SH NAME\n%s \\- %s\n", roff(name), roff(c.Short))
	fmt.Fprintf(w, ".SH SYNOPSIS\n.B %s\n.SH DESCRIPTION\n", roff(c.UseLine()))
	for i, paragraph := range strings.Split(c.Long, "\n\n") {
		if i > 0 {
			fmt.Fprintln(w, ".PP")
		}
		if strings.HasPrefix(paragraph, " ") {
			fmt.Fprintf(w, ".nf\n%s\n.fi\n", roff(paragraph))
			continue
		}
		fmt.Fprintln(w, roff(paragraph))
	}
	fmt.Fprintln(w, ".SH OPTIONS")
	c.InitDefaultHelpFlag()
	option := func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		head, usage := flagHead(f)
		fmt.Fprintf(w, ".TP\n.B %s\n%s\n", roff(head), roff(usage))
	}
	c.LocalFlags().VisitAll(option)
	c.InheritedFlags().VisitAll(option)
	if c.HasExample() {
		fmt.Fprintf(w, ".SH EXAMPLES\n.nf\n%s\n.fi\n", roff(c.Example))
	}
	var others []string
	for _, o := range all {
		if o != c {
			others = append(others, ".BR "+roff(strings.ReplaceAll(o.CommandPath(), " ", "-"))+" (1)")
		}
	}
	fmt.Fprintf(w, ".SH SEE ALSO\n%s\n", strings.Join(others, ",\n"))
}
