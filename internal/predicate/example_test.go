package predicate_test

import (
	"fmt"

	"evensprout/internal/predicate"
	"evensprout/internal/value"
)

// A condition in SQL is computed over values. As in SQL it holds unless it is false, so
// NULL lets a row pass.
func ExampleCompile() {
	n, err := predicate.Parse("seats BETWEEN 2 AND 9 AND name NOT LIKE '%test%'")
	if err != nil {
		fmt.Println(err)
		return
	}
	c, err := predicate.Compile(n)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(c.Columns)
	fmt.Println(c.Holds([]value.Value{value.Int(4), value.String("Heron")}))
	fmt.Println(c.Holds([]value.Value{value.Int(12), value.String("Heron")}))
	fmt.Println(c.Holds([]value.Value{{}, {}}))
	// Output:
	// [seats name]
	// true
	// false
	// true
}
