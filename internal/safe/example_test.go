package safe_test

import (
	"fmt"

	"evensprout/internal/safe"
)

// Characters that act on terminals are shown instead of obeyed.
func ExampleVisible() {
	fmt.Println(safe.Visible("Pier \x1b[31m7"))
	// Output: Pier \x1b[31m7
}
