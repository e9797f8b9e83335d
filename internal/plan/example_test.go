package plan_test

import (
	"fmt"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
)

// A plan is read, compiled, and grown: without a database the rows are the same.
func ExampleRead() {
	p, err := plan.Read("boats.yaml", []byte(`name: boats
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Boat:
    table: boats
    rows: 3
    fields:
      id: {count: 1}
      code: {pattern: "B-[0-9]{3}", unique: true}
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	c, err := p.Compile(plan.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer c.Close()
	g := grow.NewGrower(c.Set)
	defer g.Close()
	var b grow.Batch
	g.Grow(c.Targets[0].Grow, grow.Row{}, 3, &b)
	for i := range b.Len {
		fmt.Println(b.Row(i))
	}
	// Output:
	// [1 B-390]
	// [2 B-841]
	// [3 B-238]
}
