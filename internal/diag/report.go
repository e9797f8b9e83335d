package diag

import "errors"

// Kind is the sort of a failure. It decides the exit code.
type Kind int

const (
	Failed      Kind = iota // something around the program: a file, a disk
	Usage                   // the command line makes no sense
	BadPlan                 // the plan
	Database                // the database, or its connection
	Violation               // a rule of the database refuses a row
	Interrupted             // somebody ended the command
)

// Report is how an error is shown to people, and to programs.
type Report struct {
	Kind    Kind
	Message string         // empty: the error's own words
	Layout  any            // what has a form of its own and is shown in place of the message: Problems, a refused row
	Details []string       // lines below the message
	Hint    string         // what to do
	End     string         // a last line, unless an Outcome says more
	Data    bool           // what became of the data belongs to it
	Members map[string]any // of the JSON object
}

// Described is an error that says how it is shown.
type Described interface {
	error
	Report() Report
}

// Outcome is an error that knows what of the work is committed. The error that it wraps says
// why the work ended.
type Outcome interface {
	error
	Outcome() (text string, members map[string]any)
}

// Of returns how an error is shown: as the outermost one says that describes itself.
func Of(err error) Report {
	var described Described
	if errors.As(err, &described) {
		return described.Report()
	}
	return Report{}
}

// Report shows all problems.
func (ps Problems) Report() Report {
	kind := BadPlan
	if ps.Errors().OnlyDatabase() {
		kind = Database
	}
	return Report{Kind: kind, Layout: ps, Members: map[string]any{"problems": ps}}
}
