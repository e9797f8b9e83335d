package diag_test

import (
	"fmt"

	"evensprout/internal/diag"
)

// A problem says where it is, what it is, and what to do.
func ExampleProblem() {
	p := &diag.Problem{File: "evensprout.yaml", Line: 7, Column: 5, Message: "there is no field labl"}
	p.Nearest("labl", []string{"label", "number"})
	fmt.Println(p)
	// Output:
	// evensprout.yaml:7:5: there is no field labl
	//          did you mean "label"?
}
